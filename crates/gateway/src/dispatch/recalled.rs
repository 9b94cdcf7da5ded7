//! Recall: kept audio of utterances, in files named by their content and found
//! again by fingerprint. Equal requests at one time become one: the first of
//! them has the audio made, and the others wait for it.

use std::collections::HashMap;
use std::path::PathBuf;
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};
use std::time::Duration;

use bytes::Bytes;
use dispatcher_core::{Money, Work};
use dispatcher_engines::Words;
use dispatcher_store::{RecallPolicy, StoredRecall};
use parking_lot::Mutex;
use serde::{Deserialize, Serialize};
use tokio::sync::{mpsc, watch};

use crate::dispatch::deliver::{AudioBody, Start};
use crate::dispatch::dispatch_record::{AttemptFacts, DispatchOutcome, DispatchRecord, LastAttempt, NewDispatch};
use crate::dispatch::fingerprint;
use crate::dispatch::utterance::{Cues, Marks, Utterance};
use crate::{Caller, Gateway, GatewayError, PlannedCall, SynthesisRequest, now_micros};

/// All kept audio together.
const BUDGET: i64 = 512 << 20;
/// Longer audio is not kept.
const LONGEST: usize = 8 << 20;
/// Pieces that may be ahead of a caller while audio is kept, so that others do
/// not wait for one who reads slowly.
const AHEAD: usize = 512;
/// Who waits for equal audio waits no longer than this.
const PATIENCE: Duration = Duration::from_secs(30);

/// Audio that was kept.
#[derive(Debug, Clone)]
pub struct RecalledAudio {
    pub media_type: String,
    pub audio: Bytes,
    /// Milliseconds; 0 where it was not counted.
    pub audio_ms: i64,
    /// The engine and `engine/voice` that spoke it.
    pub engine: String,
    pub voice: String,
}

/// What a request says about kept audio (RFC 9111, section 5.2.1).
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum CacheWish {
    /// It may be answered with kept audio.
    #[default]
    Use,
    /// It is made anew, and kept in place of what was there: `no-cache`.
    Renew,
    /// It is neither answered with kept audio nor kept: `no-store`.
    Off,
}

/// What was done about kept audio, for `Cache-Status` (RFC 9211).
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum CacheOutcome {
    /// The audio was kept.
    Hit,
    /// It was not, and is kept once it is whole.
    Stored,
    /// The request or its app keeps nothing.
    Bypassed,
}

/// Where audio is kept: for one app, or for all that share theirs.
#[derive(Debug, Clone, PartialEq, Eq, Hash)]
pub(crate) struct RecallKey {
    pub(crate) fingerprint: String,
    /// Empty for all.
    pub(crate) owner: String,
}

/// Audio that is being made to be kept.
pub(crate) struct Flight {
    gateway: Gateway,
    key: RecallKey,
    /// Fingerprint of what is made.
    made: String,
    landed: watch::Sender<()>,
}

/// Flights under way.
#[derive(Default)]
pub(crate) struct Flights(Mutex<HashMap<RecallKey, watch::Receiver<()>>>);

/// What comes of looking for kept audio.
pub(crate) enum Recall {
    Kept(RecalledAudio),
    /// Nobody has it: it is to be made and kept.
    ToMake(Flight),
    /// It is to be made, and not kept.
    Aside,
}

impl Flight {
    /// Whether others wait for it.
    fn is_awaited(&self) -> bool {
        // One receiver is for those to come.
        self.landed.receiver_count() > 1
    }
}

impl Drop for Flight {
    fn drop(&mut self) {
        self.gateway.inner.flights.0.lock().remove(&self.key);
    }
}

/// Writes a file of a folder: aside and then renamed, so that no half file
/// has the name.
pub(crate) async fn write_named(folder: PathBuf, name: String, bytes: Bytes) -> Result<(), GatewayError> {
    let write = move || -> std::io::Result<()> {
        use std::io::Write as _;
        std::fs::create_dir_all(&folder)?;
        let mut file = tempfile::NamedTempFile::new_in(&folder)?;
        file.write_all(&bytes)?;
        file.persist(folder.join(name)).map_err(|error| error.error)?;
        Ok(())
    };
    tokio::task::spawn_blocking(write).await?.map_err(GatewayError::files("stored audio"))
}

impl Caller {
    /// Who keeps the audio of its requests; nothing where nobody does.
    pub(crate) fn recall_owner(&self) -> Option<String> {
        match self.app.recall {
            _ if self.app.rehearsal => None,
            RecallPolicy::Off => None,
            RecallPolicy::Private => Some(self.app.name.clone()),
            RecallPolicy::Shared => Some(String::new()),
        }
    }
}

impl Gateway {
    /// Kept auditions, which are for all.
    pub async fn recall_audio(&self, fingerprint: &str) -> Option<RecalledAudio> {
        self.kept_audio(&RecallKey { fingerprint: fingerprint.to_owned(), owner: String::new() }).await
    }

    /// Keeps an audition.
    ///
    /// # Errors
    /// When it cannot be written.
    pub async fn keep_audio(&self, fingerprint: &str, kept: &RecalledAudio) -> Result<(), GatewayError> {
        self.put_audio(RecallKey { fingerprint: fingerprint.to_owned(), owner: String::new() }, kept).await
    }

    async fn kept_audio(&self, key: &RecallKey) -> Option<RecalledAudio> {
        let folder = self.inner.host.clips.as_ref()?;
        let row = self.inner.store.recalled(key.fingerprint.clone(), key.owner.clone(), now_micros()).await.ok()??;
        let audio = tokio::fs::read(folder.join(&row.content)).await.ok()?;
        // A file that was damaged is made anew rather than played.
        (crate::content_hash(&audio) == row.content).then_some(RecalledAudio {
            media_type: row.media_type,
            audio: audio.into(),
            audio_ms: row.audio_ms,
            engine: row.engine,
            voice: row.voice,
        })
    }

    async fn put_audio(&self, key: RecallKey, kept: &RecalledAudio) -> Result<(), GatewayError> {
        let Some(folder) = self.inner.host.clips.clone() else { return Ok(()) };
        if kept.audio.len() > LONGEST || self.check_room().is_err() {
            return Ok(());
        }
        let content = crate::content_hash(&kept.audio);
        write_named(folder.clone(), content.clone(), kept.audio.clone()).await?;
        let now = now_micros();
        let row = StoredRecall {
            fingerprint: key.fingerprint,
            app: key.owner,
            content,
            media_type: kept.media_type.clone(),
            bytes: i64::try_from(kept.audio.len()).unwrap_or(i64::MAX),
            audio_ms: kept.audio_ms,
            engine: kept.engine.clone(),
            voice: kept.voice.clone(),
            made_at: now,
            used_at: now,
        };
        for gone in self.inner.store.put_recalled(row, BUDGET).await? {
            // A file that stays is counted and removed the next time.
            let _ = tokio::fs::remove_file(folder.join(gone)).await;
        }
        Ok(())
    }

    /// Looks for kept audio. Where an equal request is having it made, waits
    /// for that.
    pub(crate) async fn recall(&self, key: RecallKey, wish: CacheWish) -> Recall {
        if wish == CacheWish::Off || self.inner.host.clips.is_none() {
            return Recall::Aside;
        }
        if wish == CacheWish::Use
            && let Some(kept) = self.kept_audio(&key).await
        {
            return Recall::Kept(kept);
        }
        let mut under_way = {
            let mut flights = self.inner.flights.0.lock();
            match flights.get(&key) {
                Some(landed) => landed.clone(),
                None => {
                    let (landed, waiting) = watch::channel(());
                    flights.insert(key.clone(), waiting);
                    let (gateway, made) = (self.clone(), key.fingerprint.clone());
                    return Recall::ToMake(Flight { gateway, key, made, landed });
                }
            }
        };
        if wish == CacheWish::Renew {
            return Recall::Aside;
        }
        // It lands when its sender is dropped; nothing is ever sent.
        let _ = tokio::time::timeout(PATIENCE, under_way.changed()).await;
        // Where it came to nothing, each makes its own.
        self.kept_audio(&key).await.map_or(Recall::Aside, Recall::Kept)
    }

    /// An utterance whose audio is kept once it is whole, while it passes by.
    /// `mixed` says whether it is by several engines, which no fingerprint tells.
    pub(crate) fn keep_passing(&self, utterance: Utterance, mut flight: Flight, mixed: Arc<AtomicBool>) -> Utterance {
        // It may be another than the one that was looked for.
        flight.made = utterance.fingerprint.clone();
        let format = utterance.format;
        let told = RecalledAudio {
            media_type: format.media_type(),
            audio: Bytes::new(),
            audio_ms: 0,
            engine: utterance.engine.clone(),
            voice: utterance.voice.clone(),
        };
        let mut body = utterance.body;
        let (sender, receiver) = mpsc::channel(AHEAD);
        let (first, start) = (body.first.take(), body.start.clone());
        let gateway = self.clone();
        let mut kept = Some(first.as_deref().map(<[u8]>::to_vec).unwrap_or_default());
        self.inner.running.spawn(async move {
            loop {
                let piece = tokio::select! {
                    piece = body.receiver.recv() => piece,
                    // Who asked for it has left, and nobody else waits.
                    () = sender.closed(), if !flight.is_awaited() => return,
                };
                let Some(piece) = piece else { break };
                kept = match (&piece, kept) {
                    (Ok(bytes), Some(mut kept)) if kept.len() + bytes.len() <= LONGEST => {
                        kept.extend_from_slice(bytes);
                        Some(kept)
                    }
                    _ => None,
                };
                let left = sender.send(piece).await.is_err();
                if left && (kept.is_none() || !flight.is_awaited()) {
                    return;
                }
            }
            if let Some(mut audio) = kept.filter(|_| !mixed.load(Ordering::Relaxed)) {
                body.mend(&mut audio);
                let audio = Bytes::from(audio);
                let measured = audio.clone();
                let length = gateway.codec_work(move || dispatcher_audio::measure(&measured, Some(format))).await;
                let audio_ms = length.ok().and_then(Result::ok).map_or(0, |(_, length)| length.milliseconds());
                let audio_ms = i64::try_from(audio_ms).unwrap_or_default();
                let whole = RecalledAudio { audio, audio_ms, ..told };
                let made = RecallKey { fingerprint: flight.made.clone(), owner: flight.key.owner.clone() };
                if let Err(error) = gateway.put_audio(made, &whole).await {
                    tracing::warn!(%error, "the audio of an utterance was not kept");
                }
            }
        });
        let body = AudioBody { receiver, first, start };
        Utterance { body, cache: CacheOutcome::Stored, ..utterance }
    }

    /// An answer with kept audio: recorded, and not charged.
    pub(crate) async fn answer_recalled(
        &self,
        caller: &Caller,
        request: &SynthesisRequest,
        (planned, requested, language): (&PlannedCall, &str, Option<&str>),
        kept: RecalledAudio,
    ) -> Result<Utterance, GatewayError> {
        let new = NewDispatch {
            requested,
            media_type: kept.media_type.clone(),
            language: language.map(str::to_owned),
            characters: planned.usage.characters,
            audio_ms: 0,
            trace: request.trace.clone(),
            rehearsal: false,
            job: None,
        };
        let record = DispatchRecord::open(self, caller, Work::Synthesis, new);
        let dispatch = record.id().to_owned();
        let first_at = record.elapsed();
        let audio_ms = u64::try_from(kept.audio_ms).unwrap_or_default();
        let outcome = DispatchOutcome::recalled(audio_ms, first_at, planned.estimate);
        record.settle(LastAttempt::Written(AttemptFacts::of_kept(planned)), outcome).await?;
        self.inner.metrics.recalled();
        let (_, receiver) = mpsc::channel(1);
        Ok(Utterance {
            dispatch,
            engine: kept.engine,
            voice: kept.voice,
            model: planned.candidate.model.clone(),
            format: request.format,
            estimate: Money::zero(planned.estimate.currency),
            fidelity: planned.fidelity(),
            worst: planned.worst(),
            fingerprint: fingerprint::of_request(planned, request.text.source(), language, request.format),
            warnings: request.notes.clone(),
            rehearsal: false,
            first_us: first_at.micros(),
            fallbacks: Vec::new(),
            body: AudioBody { receiver, first: Some(kept.audio), start: Start::default() },
            cache: CacheOutcome::Hit,
            tempo: 1.0,
            marks: Marks::default(),
            cues: Cues::default(),
            words: Words::default(),
        })
    }
}
