//! `dispatcher caption`: what is said, while it is said.

use std::io::IsTerminal as _;
use std::process::Stdio;
use std::time::Duration;

use futures::{SinkExt as _, StreamExt as _};
use serde_json::{Value, json};
use tokio::io::{AsyncRead, AsyncReadExt as _};
use tokio_tungstenite::tungstenite::Message;

use crate::args::CaptionArgs;
use crate::client::{Client, LiveSocket};
use crate::error::{CliError, Problem};
use crate::output::{self, OutputForm};

/// Bytes that are sent at once: a tenth of a second of raw samples.
const PIECE: usize = 3_200;
/// What a microphone gives: 16 kHz, mono, 16 bits.
const RAW: &str = "audio/pcm;rate=16000";
const RAW_BYTES_A_SECOND: f64 = 32_000.0;

pub(crate) async fn run(client: &Client, args: CaptionArgs, form: OutputForm) -> Result<(), CliError> {
    let mut source = Source::open(&args).await?;
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
    let pause = args.real_time.then(|| Duration::from_secs_f64(PIECE as f64 / RAW_BYTES_A_SECOND));
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

async fn say(socket: &mut LiveSocket, message: Message) -> Result<(), CliError> {
    socket.send(message).await.map_err(|error| CliError::Failed(format!("the connection was lost: {error}")))
}

/// Where the audio comes from.
struct Source {
    reader: Box<dyn AsyncRead + Send + Unpin>,
    /// A microphone's program; it ends with this.
    _microphone: Option<tokio::process::Child>,
    next: tokio::time::Instant,
}

impl Source {
    async fn open(args: &CaptionArgs) -> Result<Source, CliError> {
        let mut microphone = None;
        let reader: Box<dyn AsyncRead + Send + Unpin> = match &args.audio {
            _ if args.microphone => {
                let mut recorder = tokio::process::Command::new("arecord");
                recorder.args(["-q", "-t", "raw", "-f", "S16_LE", "-r", "16000", "-c", "1"]);
                recorder.stdin(Stdio::null()).stdout(Stdio::piped()).kill_on_drop(true);
                let missing =
                    |error| CliError::Failed(format!("arecord cannot be run (Debian package alsa-utils): {error}"));
                let mut child = recorder.spawn().map_err(missing)?;
                let output = child.stdout.take();
                microphone = Some(child);
                Box::new(output.ok_or_else(|| CliError::Failed("arecord gives no audio".into()))?)
            }
            Some(path) if path.as_os_str() != "-" => {
                let failed = |source| CliError::File { path: path.clone(), source };
                Box::new(tokio::fs::File::open(path).await.map_err(failed)?)
            }
            Some(_) => Box::new(tokio::io::stdin()),
            None => return Err(CliError::Usage("name an audio file, - for standard input, or --microphone".into())),
        };
        Ok(Source { reader, _microphone: microphone, next: tokio::time::Instant::now() })
    }

    /// The next piece of audio; nothing at its end. With a pause, pieces come
    /// no faster than they are spoken.
    async fn next(&mut self, pause: Option<Duration>) -> Result<Option<Vec<u8>>, CliError> {
        if pause.is_some() {
            tokio::time::sleep_until(self.next).await;
        }
        let mut piece = vec![0; PIECE];
        let count = self.reader.read(&mut piece).await?;
        // Not before it was read: a wait that is given up moves nothing on.
        self.next += pause.unwrap_or_default();
        piece.truncate(count);
        Ok((count > 0).then_some(piece))
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
