//! Recall: kept audio of utterances, in files named by their content and found
//! again by fingerprint. Equal requests at one time become one: the first of
//! them has the audio made, and the others wait for it.

use std::collections::HashMap;
use std::path::PathBuf;
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, AtomicUsize, Ordering};
use std::time::Duration;

use bytes::Bytes;
use dispatcher_core::{Cause, Money, RequestShare, Work};
use dispatcher_engines::Words;
use dispatcher_store::{RecallPolicy, StoredRecall};
use futures::StreamExt as _;
use parking_lot::Mutex;
use serde::{Deserialize, Serialize};
use tokio::io::AsyncReadExt as _;
use tokio::sync::{mpsc, watch};
use tokio_util::io::ReaderStream;

use crate::dispatch::completion::Completion;
use crate::dispatch::deliver::{AudioBody, BodyError, WAITING};
use crate::dispatch::dispatch_record::{AttemptFacts, DispatchOutcome, DispatchRecord, LastAttempt, NewDispatch};
use crate::dispatch::fingerprint;
use crate::dispatch::utterance::{Cues, Marks, Utterance};
use crate::{Caller, FailedAttempt, Gateway, GatewayError, PlannedCall, SynthesisRequest, now_micros};

/// All kept audio together.
const BUDGET: i64 = 512 << 20;
/// Longer audio is not kept.
const LONGEST: usize = 8 << 20;
/// Audio on its way into files, of all requests together: what goes beyond is
/// not kept.
const MOST_IN_MEMORY: usize = 128 << 20;
/// Pieces that may be ahead of a caller while others wait for the same audio,
/// so that they do not wait for one who reads slowly.
const AHEAD: usize = 512;
/// Interval between checks whether others are waiting.
const LOOK: Duration = Duration::from_millis(100);
/// Bytes of a file that are read at once.
const PIECE: usize = 64 << 10;
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
    /// For whom it is made.
    end_user: Option<String>,
    landed: watch::Sender<()>,
}

/// Flights under way.
#[derive(Default)]
pub(crate) struct Flights {
    under_way: Mutex<HashMap<RecallKey, watch::Receiver<()>>>,
    /// Bytes of what they have made so far.
    in_memory: AtomicUsize,
}

/// Kept audio, its file opened: it can be read even if it is removed meanwhile.
pub(crate) struct KeptFile {
    row: StoredRecall,
    file: std::fs::File,
}

/// What comes of looking for kept audio.
pub(crate) enum Recall {
    Kept(KeptFile),
    /// Nobody has it: it is to be made and kept.
    ToMake(Flight),
    /// It is to be made, and not kept.
    NotKept,
}

/// Audio as far as it has passed by, counted with that of all flights.
struct PassedAudio {
    gateway: Gateway,
    audio: Vec<u8>,
    counted: usize,
}

impl PassedAudio {
    /// With a further piece; `None` if it exceeds what is kept.
    fn with(mut self, piece: &[u8]) -> Option<PassedAudio> {
        let all = self.gateway.inner.flights.in_memory.fetch_add(piece.len(), Ordering::AcqRel) + piece.len();
        self.counted += piece.len();
        if self.counted > LONGEST || all > MOST_IN_MEMORY {
            return None;
        }
        self.audio.extend_from_slice(piece);
        Some(self)
    }
}

impl Drop for PassedAudio {
    fn drop(&mut self) {
        self.gateway.inner.flights.in_memory.fetch_sub(self.counted, Ordering::AcqRel);
    }
}

impl RecallKey {
    /// Of audio that is for all.
    fn of_all(fingerprint: &str) -> RecallKey {
        RecallKey { fingerprint: fingerprint.to_owned(), owner: String::new() }
    }
}

impl Flight {
    pub(crate) fn of_end_user(mut self, end_user: Option<String>) -> Flight {
        self.end_user = end_user;
        self
    }

    /// Whether others wait for it.
    fn is_awaited(&self) -> bool {
        // One receiver is for those to come.
        self.landed.receiver_count() > 1
    }

    /// Ends once others wait for it.
    async fn awaited(&self) {
        while !self.is_awaited() {
            tokio::time::sleep(LOOK).await;
        }
    }
}

impl Drop for Flight {
    fn drop(&mut self) {
        self.gateway.inner.flights.under_way.lock().remove(&self.key);
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
    /// Who keeps the audio of its requests; `None` if nobody does. What is said to
    /// an end user stays with the app, so that it can be erased.
    pub(crate) fn recall_owner(&self) -> Option<String> {
        match self.app.recall {
            _ if self.app.rehearsal => None,
            RecallPolicy::Off => None,
            RecallPolicy::Shared if self.end_user.is_some() => Some(self.app.name.clone()),
            RecallPolicy::Private => Some(self.app.name.clone()),
            RecallPolicy::Shared => Some(String::new()),
        }
    }
}

impl Gateway {
    /// Kept auditions, which are for all.
    pub async fn recall_audio(&self, fingerprint: &str) -> Option<RecalledAudio> {
        let KeptFile { row, file } = self.kept_file(&RecallKey::of_all(fingerprint)).await?;
        let mut audio = Vec::new();
        tokio::fs::File::from_std(file).read_to_end(&mut audio).await.ok()?;
        Some(RecalledAudio {
            media_type: row.media_type,
            audio: audio.into(),
            audio_ms: row.audio_ms,
            engine: row.engine,
            voice: row.voice,
        })
    }

    /// Keeps an audition.
    ///
    /// # Errors
    /// When it cannot be written.
    pub async fn keep_audio(&self, fingerprint: &str, kept: &RecalledAudio) -> Result<(), GatewayError> {
        self.put_audio(RecallKey::of_all(fingerprint), kept, None).await
    }

    async fn kept_file(&self, key: &RecallKey) -> Option<KeptFile> {
        let folder = self.inner.host.clips.as_ref()?;
        let row = self.inner.store.recalled(key.fingerprint.clone(), key.owner.clone(), now_micros()).await.ok()??;
        let path = folder.join(&row.content);
        let open = move || -> std::io::Result<(String, std::fs::File)> {
            Ok((crate::content_hash_of_file(&path)?, std::fs::File::open(&path)?))
        };
        let (content, file) = tokio::task::spawn_blocking(open).await.ok()?.ok()?;
        // A file that was damaged is made anew rather than played.
        (content == row.content).then_some(KeptFile { row, file })
    }

    async fn put_audio(
        &self,
        key: RecallKey,
        kept: &RecalledAudio,
        end_user: Option<String>,
    ) -> Result<(), GatewayError> {
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
            end_user,
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
            return Recall::NotKept;
        }
        if wish == CacheWish::Use
            && let Some(kept) = self.kept_file(&key).await
        {
            return Recall::Kept(kept);
        }
        let mut under_way = {
            let mut flights = self.inner.flights.under_way.lock();
            match flights.get(&key) {
                Some(landed) => landed.clone(),
                None => {
                    let (landed, waiting) = watch::channel(());
                    flights.insert(key.clone(), waiting);
                    let (gateway, made) = (self.clone(), key.fingerprint.clone());
                    return Recall::ToMake(Flight { gateway, key, made, end_user: None, landed });
                }
            }
        };
        if wish == CacheWish::Renew {
            return Recall::NotKept;
        }
        // It lands when its sender is dropped; nothing is ever sent.
        let _ = tokio::time::timeout(PATIENCE, under_way.changed()).await;
        // Where it came to nothing, each makes its own.
        self.kept_file(&key).await.map_or(Recall::NotKept, Recall::Kept)
    }

    /// An utterance whose audio is kept once it is whole, while it passes by.
    /// `mixed`: it is by several engines, which no fingerprint shows.
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
        let (first, completion) = (body.first.take(), body.completion());
        let gateway = self.clone();
        let passed = PassedAudio { gateway: self.clone(), audio: Vec::new(), counted: 0 };
        let mut passed = passed.with(first.as_deref().unwrap_or_default());
        self.inner.running.spawn(async move {
            loop {
                let piece = tokio::select! {
                    piece = body.receiver.recv() => piece,
                    // Who asked for it has left, and nobody else waits.
                    () = sender.closed(), if !flight.is_awaited() => return,
                };
                let Some(piece) = piece else { break };
                passed = passed.zip(piece.as_ref().ok()).and_then(|(passed, bytes)| passed.with(bytes));
                let hurry =
                    async { if passed.is_some() { flight.awaited().await } else { std::future::pending().await } };
                tokio::select! {
                    // As where nothing is kept: no more waits than a caller can take.
                    room = sender.reserve_many(AHEAD - WAITING + 1) => drop(room),
                    () = hurry => {}
                }
                let left = sender.send(piece).await.is_err();
                if left && (passed.is_none() || !flight.is_awaited()) {
                    return;
                }
            }
            if let Some(mut passed) = passed.filter(|_| !mixed.load(Ordering::Relaxed)) {
                let (mut audio, completion) = (std::mem::take(&mut passed.audio), body.completion());
                let finished = move || {
                    completion.complete_bytes(&mut audio);
                    let length = dispatcher_audio::measure(&audio, Some(format));
                    (Bytes::from(audio), length.map_or(0, |(_, length)| length.milliseconds()))
                };
                let (audio, audio_ms) = match gateway.in_turn(finished).await {
                    Ok(finished) => finished,
                    Err(error) => return tracing::warn!(%error, "the audio of an utterance was not kept"),
                };
                let audio_ms = i64::try_from(audio_ms).unwrap_or_default();
                let whole = RecalledAudio { audio, audio_ms, ..told };
                let made = RecallKey { fingerprint: flight.made.clone(), owner: flight.key.owner.clone() };
                if let Err(error) = gateway.put_audio(made, &whole, flight.end_user.clone()).await {
                    tracing::warn!(%error, "the audio of an utterance was not kept");
                }
            }
        });
        let body = AudioBody { receiver, first, completion };
        Utterance { body, cache: CacheOutcome::Stored, ..utterance }
    }

    /// An answer with kept audio: recorded, and not charged.
    pub(crate) async fn answer_recalled(
        &self,
        caller: &Caller,
        request: &SynthesisRequest,
        (planned, requested, language): (&PlannedCall, &str, Option<&str>),
        KeptFile { row: kept, file }: KeptFile,
    ) -> Result<Utterance, GatewayError> {
        let free = RequestShare::of_text(planned.usage, Money::zero(planned.estimate.currency));
        let new = NewDispatch {
            hold: self.hold_spending(caller, free)?,
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
            body: self.body_of_file(file),
            cache: CacheOutcome::Hit,
            tempo: 1.0,
            marks: Marks::default(),
            cues: Cues::default(),
            words: Words::default(),
        })
    }

    /// Audio out of a file, piece by piece.
    fn body_of_file(&self, file: std::fs::File) -> AudioBody {
        let (sender, receiver) = mpsc::channel(WAITING);
        self.inner.running.spawn(async move {
            let mut pieces = ReaderStream::with_capacity(tokio::fs::File::from_std(file), PIECE);
            while let Some(piece) = pieces.next().await {
                let torn = piece.is_err();
                let piece = piece.map_err(|error| {
                    let (engine, detail) = ("kept audio".to_owned(), error.to_string());
                    BodyError(FailedAttempt { engine, cause: Cause::Internal, detail, retry_after: None })
                });
                if sender.send(piece).await.is_err() || torn {
                    return;
                }
            }
        });
        AudioBody { receiver, first: None, completion: Completion::default() }
    }
}
