//! What audio can say of itself once it is complete, and a stream could not
//! know at its beginning: its length, and a signature.

use std::io::{self, Cursor, Read, Seek, SeekFrom, Write};
use std::sync::{Arc, OnceLock};

use bytes::Bytes;
use dispatcher_audio::{WAV_START, mend_wav_lengths};
use dispatcher_vault::SigningKey;

use crate::provenance;

/// Completes the audio of one request.
#[derive(Clone, Default)]
pub struct Completion {
    /// The first bytes as they would have been, had the length been known.
    start: Arc<OnceLock<Bytes>>,
    signer: Option<Arc<SigningKey>>,
}

impl Completion {
    pub(crate) fn new(signer: Option<Arc<SigningKey>>) -> Completion {
        Completion { start: Arc::default(), signer }
    }

    /// Says how the audio begins, now that its length is known.
    pub(crate) fn set_start(&self, start: Bytes) {
        // Audio ends once.
        let _ = self.start.set(start);
    }

    /// Completes the whole audio in a file: its length, and its signature.
    ///
    /// # Errors
    /// When the file cannot be read or written.
    pub fn complete(&self, file: &mut (impl Read + Write + Seek)) -> io::Result<()> {
        let length = file.seek(SeekFrom::End(0))?;
        file.rewind()?;
        match self.start.get().filter(|start| start.len() as u64 <= length) {
            Some(start) => file.write_all(start)?,
            None => {
                let mut head = Vec::new();
                Read::by_ref(file).take(WAV_START as u64).read_to_end(&mut head)?;
                if mend_wav_lengths(&mut head, length) {
                    file.rewind()?;
                    file.write_all(&head)?;
                }
            }
        }
        match &self.signer {
            Some(key) => provenance::sign(key, file),
            None => Ok(()),
        }
    }

    /// The same, of audio in memory.
    pub fn complete_bytes(&self, audio: &mut Vec<u8>) {
        // Memory can be read and written.
        let _ = self.complete(&mut Cursor::new(audio));
    }
}
