//! Audio that is sent while it is recorded.

use std::path::Path;
use std::process::Stdio;
use std::time::Duration;

use futures::SinkExt as _;
use tokio::io::{AsyncRead, AsyncReadExt as _};
use tokio_tungstenite::tungstenite::Message;

use crate::client::LiveSocket;
use crate::error::CliError;

/// Bytes that are sent at once, and how long they last as raw samples.
const PIECE: usize = 3_200;
pub(super) const PIECE_LASTS: Duration = Duration::from_millis(100);
/// What a microphone gives: 16 kHz, mono, 16 bits.
pub(super) const RAW: &str = "audio/pcm;rate=16000";

pub(super) async fn say(socket: &mut LiveSocket, message: Message) -> Result<(), CliError> {
    socket.send(message).await.map_err(|error| CliError::Failed(format!("the connection was lost: {error}")))
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
