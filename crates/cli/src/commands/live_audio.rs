//! Audio that is sent while it is recorded.

use std::path::Path;
use std::process::Stdio;
use std::time::Duration;

use futures::{SinkExt as _, StreamExt as _};
use serde_json::Value;
use tokio::io::{AsyncRead, AsyncReadExt as _};
use tokio_tungstenite::tungstenite::Message;
use tokio_tungstenite::tungstenite::protocol::frame::coding::CloseCode;

use crate::client::LiveSocket;
use crate::error::{CliError, Problem};

/// Bytes that are sent at once, and how long they last as raw samples.
const PIECE: usize = 3_200;
pub(super) const PIECE_LASTS: Duration = Duration::from_millis(100);
/// What a microphone gives: 16 kHz, mono, 16 bits.
pub(super) const RAW: &str = "audio/pcm;rate=16000";

pub(super) async fn say(socket: &mut LiveSocket, message: Message) -> Result<(), CliError> {
    socket.send(message).await.map_err(|error| CliError::Failed(format!("the connection was lost: {error}")))
}

/// What a command does with the messages of a session.
pub(super) trait Listener {
    /// Handles a message; whether it was the last one.
    async fn message(&mut self, message: &Value) -> Result<bool, CliError>;

    /// Handles a piece of audio.
    async fn audio(&mut self, _audio: &[u8]) -> Result<(), CliError> {
        Ok(())
    }

    /// Whether the session ends with its close, and not with a last message.
    fn ends_with_close(&self) -> bool {
        false
    }
}

/// Sends audio until it ends or Ctrl-C is pressed, then waits for the last
/// message. With a pause, pieces are sent in real time.
pub(super) async fn run(
    socket: &mut LiveSocket,
    source: &mut Source,
    pause: Option<Duration>,
    listener: &mut impl Listener,
) -> Result<(), CliError> {
    let mut more = true;
    loop {
        tokio::select! {
            message = socket.next() => match message {
                Some(Ok(Message::Text(text))) => {
                    let message: Value = serde_json::from_str(&text).unwrap_or_default();
                    if message["type"] == "problem" {
                        let problem: Problem = serde_json::from_value(message["problem"].clone()).unwrap_or_default();
                        return Err(CliError::Problem(Box::new(problem)));
                    }
                    if listener.message(&message).await? {
                        return Ok(());
                    }
                }
                Some(Ok(Message::Binary(audio))) => listener.audio(&audio).await?,
                Some(Ok(Message::Close(frame))) => {
                    let normal = frame.as_ref().is_some_and(|frame| frame.code == CloseCode::Normal);
                    if normal && !more && listener.ends_with_close() {
                        return Ok(());
                    }
                    let why = frame.map(|frame| frame.reason.to_string()).unwrap_or_default();
                    return Err(CliError::Failed(format!("the service closed the session {why}").trim_end().to_owned()));
                }
                Some(Ok(_)) => {}
                Some(Err(error)) => return Err(CliError::Failed(format!("the connection was lost: {error}"))),
                None => return Err(CliError::Failed("the connection was lost".into())),
            },
            piece = source.next(pause), if more => match piece? {
                Some(bytes) => say(socket, Message::binary(bytes)).await?,
                None => {
                    more = false;
                    say(socket, Message::text(r#"{"type":"end-of-input"}"#)).await?;
                }
            },
            interrupted = tokio::signal::ctrl_c(), if more => {
                interrupted?;
                more = false;
                say(socket, Message::text(r#"{"type":"end-of-input"}"#)).await?;
            }
        }
    }
}

/// Where the audio comes from.
pub(super) struct Source {
    reader: Box<dyn AsyncRead + Send + Unpin>,
    /// A microphone's program; it ends with this.
    _microphone: Option<tokio::process::Child>,
    next: tokio::time::Instant,
}

impl Source {
    pub(super) async fn open(audio: Option<&Path>, microphone: bool) -> Result<Source, CliError> {
        let mut recording = None;
        let reader: Box<dyn AsyncRead + Send + Unpin> = match audio {
            _ if microphone => {
                let mut recorder = tokio::process::Command::new("arecord");
                recorder.args(["-q", "-t", "raw", "-f", "S16_LE", "-r", "16000", "-c", "1"]);
                recorder.stdin(Stdio::null()).stdout(Stdio::piped()).kill_on_drop(true);
                let missing =
                    |error| CliError::Failed(format!("arecord cannot be run (Debian package alsa-utils): {error}"));
                let mut child = recorder.spawn().map_err(missing)?;
                let output = child.stdout.take();
                recording = Some(child);
                Box::new(output.ok_or_else(|| CliError::Failed("arecord gives no audio".into()))?)
            }
            Some(path) if path.as_os_str() != "-" => {
                let failed = |source| CliError::File { path: path.into(), source };
                Box::new(tokio::fs::File::open(path).await.map_err(failed)?)
            }
            Some(_) => Box::new(tokio::io::stdin()),
            None => return Err(CliError::Usage("name an audio file, - for standard input, or --microphone".into())),
        };
        Ok(Source { reader, _microphone: recording, next: tokio::time::Instant::now() })
    }

    /// The next piece of audio; nothing at its end. With a pause, pieces come
    /// no faster than they are spoken.
    pub(super) async fn next(&mut self, pause: Option<Duration>) -> Result<Option<Vec<u8>>, CliError> {
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
