//! `dispatcher caption`: what is said, while it is said.

use std::io::IsTerminal as _;

use futures::StreamExt as _;
use serde_json::{Value, json};
use tokio_tungstenite::tungstenite::Message;

use super::live_audio::{PIECE_LASTS, RAW, Source, say};
use crate::args::CaptionArgs;
use crate::client::Client;
use crate::error::{CliError, Problem};
use crate::output::{self, OutputForm};

pub(crate) async fn run(client: &Client, args: CaptionArgs, form: OutputForm) -> Result<(), CliError> {
    let mut source = Source::open(args.audio.as_deref(), args.microphone).await?;
    let mut socket = client.live("/api/v1/transcripts/live").await?;
    let format = if args.microphone { Some(RAW) } else { args.hearer.kind.as_deref() };
    let mut open = json!({"type": "open"});
    for (name, value) in args.hearer.parameters().into_iter().chain([("format", format)]) {
        if let Some(value) = value {
            open[name] = value.into();
        }
    }
    if let Some(hints) = &args.hearer.hints {
        open["hints"] = hints.split(',').map(str::trim).collect();
    }
    say(&mut socket, Message::text(open.to_string())).await?;
    let pause = args.real_time.then_some(PIECE_LASTS);
    let mut captions = Captions { form, shown: false, times: args.times };
    let mut more = true;
    loop {
        tokio::select! {
            message = socket.next() => match message {
                Some(Ok(Message::Text(text))) => {
                    let message: Value = serde_json::from_str(&text).unwrap_or_default();
                    if captions.take(&message)? {
                        return Ok(());
                    }
                }
                Some(Ok(Message::Close(frame))) => {
                    let why = frame.map(|frame| frame.reason.to_string()).unwrap_or_default();
                    return Err(CliError::Failed(format!("the service closed the session {why}").trim_end().to_owned()));
                }
                Some(Ok(_)) => {}
                Some(Err(error)) => return Err(CliError::Failed(format!("the connection was lost: {error}"))),
                None => return Err(CliError::Failed("the connection was lost".into())),
            },
            piece = source.next(pause), if more => match piece? {
                Some(bytes) => say(&mut socket, Message::binary(bytes)).await?,
                None => {
                    more = false;
                    say(&mut socket, Message::text(r#"{"type":"end-of-input"}"#)).await?;
                }
            },
            interrupted = tokio::signal::ctrl_c(), if more => {
                interrupted?;
                more = false;
                say(&mut socket, Message::text(r#"{"type":"end-of-input"}"#)).await?;
            }
        }
    }
}

/// What is shown.
struct Captions {
    form: OutputForm,
    /// An interim caption stands on the terminal.
    shown: bool,
    times: bool,
}

impl Captions {
    /// Shows a message. Gives whether it was the last one.
    fn take(&mut self, message: &Value) -> Result<bool, CliError> {
        let kind = message["type"].as_str().unwrap_or_default();
        if kind == "problem" {
            let problem: Problem = serde_json::from_value(message["problem"].clone()).unwrap_or_default();
            return Err(CliError::Problem(Box::new(problem)));
        }
        if self.form.is_json() {
            output::print(&message.to_string())?;
            return Ok(kind == "end-of-input");
        }
        match kind {
            "interim" if std::io::stderr().is_terminal() => {
                eprint!("\r\x1b[K… {}", output::text(message, "text"));
                self.shown = true;
            }
            "final" => {
                self.wipe();
                let text = output::text(message, "text");
                match message["start"].as_f64().filter(|_| self.times) {
                    Some(start) => output::print(&format!("{start:8.2}  {text}"))?,
                    None => output::print(&text)?,
                }
            }
            "renewed" => {
                self.wipe();
                eprintln!("{} goes on", output::text(message, "engine"));
            }
            "end-of-input" => {
                self.wipe();
                let length = output::seconds(&message["duration"]);
                eprintln!(
                    "{length}  {}  dispatch {}",
                    output::money(&message["cost"]),
                    output::text(message, "dispatch")
                );
                return Ok(true);
            }
            _ => {}
        }
        Ok(false)
    }

    fn wipe(&mut self) {
        if std::mem::take(&mut self.shown) {
            eprint!("\r\x1b[K");
        }
    }
}
