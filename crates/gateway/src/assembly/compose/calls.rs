//! Calls of a performance: made ahead of their turn, and their audio taken in.

use std::time::Duration;

use bytes::Bytes;
use dispatcher_engines::{AudioStream, EngineError, Words};
use futures::StreamExt as _;
use futures::future::FutureExt as _;
use tokio::time::Instant;

use super::{Calling, MOST_HELD, Performance, PerformanceStop, SegmentSource};
use crate::dispatch::attempt::{Called, broken};
use crate::dispatch::fingerprint;
use crate::dispatch::speak::left;
use crate::jobs::{PieceStore, StoredPiece};
use crate::planning::render_plan::Segment;
use crate::{GatewayError, PlannedCall};

/// Audio is held so long at least, to see whether it comes whole.
const HELD_AT_LEAST: Duration = Duration::from_millis(150);
/// What the listener still has to hear when held audio is let go.
const IN_HAND: Duration = Duration::from_secs(1);

impl<'r> Performance<'r> {
    /// Has the next segment's call ready. The present one is under way meanwhile:
    /// its audio does not wait for what the records take.
    pub(super) async fn look_ahead(&mut self, index: usize) -> Result<(), PerformanceStop> {
        let mut calling = self.calling.take();
        let ahead = {
            let mut ahead = std::pin::pin!(self.call(index));
            loop {
                tokio::select! {
                    ahead = &mut ahead => break ahead,
                    () = next_call(&mut calling) => {}
                }
            }
        };
        self.calling = calling;
        self.ahead = ahead?;
        Ok(())
    }

    /// Begins the call of a segment; its intent is written first.
    pub(super) async fn call(&mut self, index: usize) -> Result<Option<SegmentSource<'r>>, PerformanceStop> {
        let Some(segment) = self.segments().get(index) else { return Ok(None) };
        if segment.sound.is_some() {
            return Ok(Some(SegmentSource::Given));
        }
        if let Some(piece_store) = &self.run.piece_store {
            if let Some(stored) = piece_store.stored(index, &fingerprint::of_segment(self.planned, segment)) {
                return Ok(Some(SegmentSource::StoredPiece(stored.clone())));
            }
            if piece_store.pause.is_cancelled() {
                return Ok(None);
            }
        }
        let speaker = self.speaker_of(segment);
        let own = std::ptr::eq(speaker, segment.speaker(self.planned));
        let call = if own { segment.call.clone() } else { segment.call_of(speaker) };
        Ok(Some(SegmentSource::Call(self.call_with(speaker, segment, call).await?)))
    }

    pub(super) async fn call_with(
        &mut self,
        speaker: &'r PlannedCall,
        segment: &Segment,
        call: dispatcher_engines::Speak,
    ) -> Result<Box<Calling<'r>>, PerformanceStop> {
        let record = &self.run.record;
        let attempt = record.begin(speaker, segment.usage).await.map_err(PerformanceStop::Records)?;
        let emulated = call.shaped.emulated;
        let call = record.gateway().open_call(speaker, record, call).boxed();
        Ok(Box::new(Calling { emulated, attempt, call, called: None }))
    }

    /// A piece of a job, written to its file whole; gives what is in the file.
    /// The inner error is the engine's.
    pub(super) async fn commit(
        &mut self,
        piece_store: &'r PieceStore,
        meta: StoredPiece,
        stream: &mut AudioStream,
        words: &Words,
    ) -> Result<AudioStream, Result<PerformanceStop, EngineError>> {
        let records = |error: std::io::Error| Ok(PerformanceStop::Records(piece_store.failed(error)));
        let mut file = piece_store.begin().await.map_err(records)?;
        while let Some(chunk) = self.chunk(stream).await.map_err(Ok)? {
            file.write(&chunk.map_err(Err)?).await.map_err(records)?;
        }
        let words = words.lock().clone();
        let stored = file.commit(meta.with(words)).await.map_err(records)?;
        Ok(stored.open(piece_store).await.map_err(records)?.stream)
    }

    /// What the call at hand answers. The next one is made later: calls keep
    /// their order, and nothing delays the first audio.
    pub(super) async fn called(&mut self) -> Result<Result<Called, EngineError>, PerformanceStop> {
        let calling = match (self.calling.as_mut(), &self.run.piece_store) {
            (Some(SegmentSource::Call(calling)), _) => calling,
            (Some(SegmentSource::StoredPiece(stored)), Some(piece_store)) => {
                return stored
                    .open(piece_store)
                    .await
                    .map(Ok)
                    .map_err(|error| PerformanceStop::Records(piece_store.failed(error)));
            }
            _ => return Err(PerformanceStop::Records(GatewayError::Contradiction("a segment without a call"))),
        };
        if let Some(called) = calling.called.take() {
            return Ok(called);
        }
        tokio::select! {
            called = &mut calling.call => Ok(called),
            () = left(&self.run.audio, self.responder) => Err(PerformanceStop::Left),
        }
    }

    pub(super) async fn chunk(
        &mut self,
        stream: &mut AudioStream,
    ) -> Result<Option<Result<Bytes, EngineError>>, PerformanceStop> {
        loop {
            tokio::select! {
                chunk = stream.next() => return Ok(chunk),
                // Until something sounds, nothing else is asked for.
                () = next_call(&mut self.ahead), if self.responder.is_none() => {}
                () = left(&self.run.audio, self.responder) => return Err(PerformanceStop::Left),
            }
        }
    }

    /// A segment's audio once it is whole, so that another engine can begin it
    /// anew where this one breaks it off; the inner error is the engine's. It is
    /// not held for longer than the listener can do without it.
    pub(super) async fn held_until_whole(
        &mut self,
        mut stream: AudioStream,
    ) -> Result<AudioStream, Result<PerformanceStop, EngineError>> {
        let (mut held, mut bytes): (Vec<Bytes>, usize) = (Vec::new(), 0);
        let mut until = None;
        loop {
            let due = *until.get_or_insert_with(|| self.due());
            let chunk = tokio::select! {
                biased;
                chunk = self.chunk(&mut stream) => chunk.map_err(Ok)?,
                // The first of it is waited for in any case.
                () = tokio::time::sleep_until(due), if !held.is_empty() => break,
            };
            let Some(chunk) = chunk else {
                stream = Box::pin(futures::stream::empty());
                break;
            };
            if held.is_empty() {
                until = None;
            }
            let chunk = chunk.map_err(Err)?;
            bytes += chunk.len();
            held.push(chunk);
            if bytes > MOST_HELD {
                break;
            }
        }
        Ok(Box::pin(futures::stream::iter(held.into_iter().map(Ok)).chain(stream)))
    }

    /// Until when audio that arrives now can be held: a moment, and as long as
    /// the listener still has something to hear.
    fn due(&self) -> Instant {
        let soon = Instant::now() + HELD_AT_LEAST;
        let heard = self.sounding_since.map(|since| since + Duration::from_secs_f64(self.seconds()));
        let ends = heard.and_then(|end| end.checked_sub(IN_HAND));
        ends.map_or(soon, |ends| ends.max(soon))
    }

    /// All of a segment's bytes; the inner error is the engine's.
    pub(super) async fn hold(
        &mut self,
        stream: &mut AudioStream,
    ) -> Result<Bytes, Result<PerformanceStop, EngineError>> {
        let mut held = Vec::new();
        while let Some(chunk) = self.chunk(stream).await.map_err(Ok)? {
            held.extend_from_slice(&chunk.map_err(Err)?);
            if held.len() > MOST_HELD {
                return Err(Err(broken(&"a part too long to be fitted to a length")));
            }
        }
        Ok(held.into())
    }
}

/// Drives a call; rests where there is none, or it has answered.
async fn next_call(source: &mut Option<SegmentSource<'_>>) {
    match source {
        Some(SegmentSource::Call(calling)) if calling.called.is_none() => {
            calling.called = Some((&mut calling.call).await)
        }
        _ => std::future::pending().await,
    }
}
