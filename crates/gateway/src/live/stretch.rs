//! A stretch of a live recognition: the audio of one call, in a file, so that
//! it can be sent as it comes, sent again to another engine, and takes no memory.

use std::fs::File;
use std::os::unix::fs::FileExt as _;
use std::sync::Arc;

use bytes::Bytes;
use dispatcher_audio::{Codec, Format};
use dispatcher_engines::AudioSource;
use futures::Stream;
use tokio::sync::watch;

/// Hertz of all audio in stretches: mono, 16 bits, little-endian.
pub(super) const RATE: u32 = 16_000;
const BYTES_A_SECOND: f64 = 2.0 * RATE as f64;
/// Bytes that are sent at once: a quarter of a second.
const BLOCK: usize = 8_000;

pub(super) fn samples_format() -> Format {
    Format::new(Codec::Pcm, RATE)
}

/// How much of it there is, and whether that is all.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
struct Written {
    bytes: u64,
    ended: bool,
}

pub(super) struct Stretch {
    /// Seconds from the start of the session at which it begins.
    pub(super) from: f64,
    /// It begins with the end of the stretch before.
    pub(super) overlaps: bool,
    file: File,
    path: Arc<tempfile::TempPath>,
    written: watch::Sender<Written>,
}

impl Stretch {
    /// Begins at a time of the session.
    ///
    /// # Errors
    /// When there is no room for its file.
    pub(super) fn begin(from: f64, overlaps: bool) -> std::io::Result<Stretch> {
        let (file, path) = tempfile::Builder::new().suffix(".pcm").tempfile()?.into_parts();
        let written = watch::Sender::new(Written { bytes: 0, ended: false });
        Ok(Stretch { from, overlaps, file, path: Arc::new(path), written })
    }

    /// Seconds of it so far.
    pub(super) fn seconds(&self) -> f64 {
        self.written.borrow().bytes as f64 / BYTES_A_SECOND
    }

    /// # Errors
    /// When its file cannot be written.
    pub(super) fn append(&self, samples: &[u8]) -> std::io::Result<()> {
        let at = self.written.borrow().bytes;
        self.file.write_all_at(samples, at)?;
        self.written.send_modify(|written| written.bytes += samples.len() as u64);
        Ok(())
    }

    /// No more comes.
    pub(super) fn end(&self) {
        self.written.send_modify(|written| written.ended = true);
    }

    /// Waits until all of it is there.
    pub(super) async fn ended(&self) {
        let mut written = self.written.subscribe();
        // The sender lives as long as this.
        let _ = written.wait_for(|written| written.ended).await;
    }

    /// Its audio from a second of it on, as it comes, to its end.
    pub(super) fn tail(self: &Arc<Self>, from: f64) -> impl Stream<Item = std::io::Result<Bytes>> + Send + use<> {
        let at = ((from * f64::from(RATE)).round() as u64).saturating_mul(2);
        let (stretch, written) = (self.clone(), self.written.subscribe());
        futures::stream::unfold((stretch, written, at), |(stretch, mut written, at)| async move {
            let more = written.wait_for(|written| written.ended || written.bytes > at).await;
            let bytes = more.map_or(0, |written| written.bytes);
            let length = usize::try_from(bytes.saturating_sub(at)).unwrap_or(BLOCK).min(BLOCK);
            if length == 0 {
                return None;
            }
            let mut block = vec![0; length];
            let read = stretch.file.read_exact_at(&mut block, at).map(|()| Bytes::from(block));
            Some((read, (stretch, written, at + length as u64)))
        })
    }

    /// What there is from a second of it on.
    ///
    /// # Errors
    /// When its file cannot be read.
    pub(super) fn read_from(&self, from: f64) -> std::io::Result<Vec<u8>> {
        let at = ((from.max(0.0) * f64::from(RATE)).round() as u64).saturating_mul(2);
        let length = self.written.borrow().bytes.saturating_sub(at);
        let mut bytes = vec![0; usize::try_from(length).unwrap_or(0)];
        self.file.read_exact_at(&mut bytes, at)?;
        Ok(bytes)
    }

    /// All of it, once it has ended.
    pub(super) fn source(&self) -> AudioSource {
        AudioSource::File(self.path.clone())
    }
}

#[cfg(test)]
mod tests {
    use futures::StreamExt as _;

    use super::*;

    #[tokio::test]
    async fn what_is_written_is_read_as_it_comes_and_again_from_any_second() {
        let stretch = Arc::new(Stretch::begin(5.0, false).expect("a file"));
        let second: Vec<u8> = (0..32_000_u32).map(|at| (at % 251) as u8).collect();
        let mut tail = Box::pin(stretch.tail(0.0));
        stretch.append(&second).expect("written");
        let mut read = Vec::new();
        for _ in 0..4 {
            read.extend_from_slice(&tail.next().await.expect("a block").expect("read"));
        }
        assert_eq!(read, second);
        assert!(futures::poll!(tail.next()).is_pending(), "more may come");
        stretch.append(&second[..100]).expect("written");
        stretch.end();
        stretch.ended().await;
        let rest: Vec<_> = tail.collect().await;
        assert_eq!(rest.len(), 1);
        let again: Vec<Bytes> = stretch.tail(0.5).map(|block| block.expect("read")).collect().await;
        assert_eq!(again.concat(), [&second[16_000..], &second[..100]].concat());
        assert!((stretch.seconds() - 1.003).abs() < 0.001);
    }
}
