//! An answer of sound, read to its end.

use dispatcher_engines::{AudioStream, EngineError};
use futures::StreamExt as _;

/// All of an engine's audio, or why it broke off.
pub async fn collect(mut stream: AudioStream) -> Result<Vec<u8>, EngineError> {
    let mut audio = Vec::new();
    while let Some(chunk) = stream.next().await {
        audio.extend_from_slice(&chunk?);
    }
    Ok(audio)
}
