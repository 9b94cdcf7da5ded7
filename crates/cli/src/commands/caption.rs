//! `dispatcher caption`: what is said, while it is said.

use std::io::IsTerminal as _;

use serde_json::{Value, json};
use tokio_tungstenite::tungstenite::Message;

use super::live_audio::{self, Listener, PIECE_LASTS, RAW, Source, say};
use crate::args::CaptionArgs;
use crate::client::Client;
use crate::error::CliError;
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
    live_audio::run(&mut socket, &mut source, pause, &mut captions).await
}

/// What is shown.
struct Captions {
    form: OutputForm,
    /// An interim caption is on the terminal.
    shown: bool,
    times: bool,
}

impl Listener for Captions {
    async fn message(&mut self, message: &Value) -> Result<bool, CliError> {
        let kind = message["type"].as_str().unwrap_or_default();
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
}

impl Captions {
    fn wipe(&mut self) {
        if std::mem::take(&mut self.shown) {
            eprint!("\r\x1b[K");
        }
    }
}
