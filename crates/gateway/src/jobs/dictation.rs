//! Long recordings: cut where it is quiet, heard part by part, and put
//! together again.

use std::path::PathBuf;

use dispatcher_audio::{Codec, Format, Levels, Span};
use dispatcher_core::{Gap, HeardPart, HearingWish, Revised, Transcript, stitch};
use dispatcher_store::StoredJobPiece;
use serde::{Deserialize, Serialize};

use super::run::{JobRun, JobStop};
use super::samples::{cut_out, lasting, lay_out};
use super::{JobChange, piece_store};
use crate::dispatch::dispatch_record::to_i64;
use crate::dispatch::hear::SILENT;
use crate::intake::recording::AudioInfo;
use crate::library::transcripts::NewTranscript;
use crate::planning::hearers::{HearerWish, Over};
use crate::{GatewayError, GivenAudio, PlannedCall, Recognised, RecognitionRequest, Unsupported, now_micros};

/// A recording of more seconds is cut even where an engine takes it whole: its
/// progress moves, and what a kill loses is one part.
const LONG: f64 = 600.0;
/// The most seconds of a part.
const PART: f64 = 300.0;
/// Seconds that parts share on either side of a cut within speech.
const OVERLAP: f64 = 5.0;
/// Audio between the words of two parts that neither of them has made out,
/// in seconds, from which on the seam is heard again.
const UNHEARD: f64 = 0.7;
/// A seam is heard again with so much on either side, in seconds.
const WIDER: [f64; 2] = [10.0, 25.0];
/// Failed attempts at a seam, restarts included, after which it stays open.
const MOST_SEAM_FAILURES: u32 = 3;
/// What a part may be of an engine's size limit: its head counts too.
const FILL: f64 = 0.98;
/// Characters of what was said before, for engines that take it.
const CONTEXT: usize = 400;
/// Recordings are cut at this rate, where theirs is higher: what recognisers use.
const RATE: u32 = 16_000;
/// Numbers of parts that are heard again, beyond those of all others.
const AGAIN: usize = 100_000;

/// A recording to be heard, beside its audio.
#[derive(Debug, Clone, Serialize, Deserialize)]
pub struct Dictation {
    /// What its sender said the audio is.
    pub told: Option<Format>,
    #[serde(flatten)]
    pub hearer: HearerWish,
    pub wish: HearingWish,
    pub unsupported: Unsupported,
    /// Milliseconds until the transcript of a part, in place of each
    /// candidate's own.
    #[serde(default)]
    pub deadline: Option<u64>,
    #[serde(default)]
    pub credential: Option<String>,
}

/// What was heard in a part, as it is kept.
#[derive(Debug, Clone, Serialize, Deserialize)]
struct Note {
    engine: String,
    dispatch: String,
    transcript: Transcript,
}

/// Where what is heard in a part is kept, before it is paid for.
#[derive(Debug, Clone)]
pub(crate) struct PartNote {
    pub(crate) job: String,
    folder: PathBuf,
    name: String,
}

impl PartNote {
    /// Keeps it: from now on it outlives the machine.
    pub(crate) async fn commit(
        &self,
        engine: &str,
        dispatch: &str,
        transcript: &Transcript,
    ) -> Result<(), GatewayError> {
        let (engine, dispatch) = (engine.to_owned(), dispatch.to_owned());
        let note = serde_json::to_vec(&Note { engine, dispatch, transcript: transcript.clone() });
        let note = note.map_err(GatewayError::document("a transcript"))?;
        let kept = piece_store::put_aside(self.folder.clone(), self.name.clone(), note).await;
        kept.map_err(GatewayError::files("the transcript"))
    }

    async fn read(&self) -> Option<Note> {
        let note = tokio::fs::read(self.folder.join(&self.name)).await.ok()?;
        serde_json::from_slice(&note).ok()
    }
}

/// A recording that is cut.
#[derive(Debug, Serialize, Deserialize)]
struct Cuts {
    rate: u32,
    spans: Vec<(f64, f64)>,
    /// The longest part, in seconds.
    most: f64,
}

/// A recording laid out for cutting.
struct Laid {
    path: PathBuf,
    cuts: Cuts,
    levels: Levels,
}

impl JobRun<'_> {
    pub(super) async fn dictation(&self, dictation: &Dictation) -> Result<(), JobStop> {
        let dictation = &Dictation { hearer: dictation.hearer.stated(&self.caller), ..dictation.clone() };
        let audio = GivenAudio { source: lasting(self.folder.join("source"))?, told: dictation.told };
        let (audio, probed) = audio.take(self.gateway, crate::Unsupported::Adapt).await?;
        let (_, plan) = self.gateway.hearing_candidates(&self.caller, &dictation.hearer, &probed)?;
        // Speakers are labelled for the whole recording only.
        let keep_whole = dictation.wish.speakers || probed.length.seconds() <= LONG;
        let whole = keep_whole && plan.iter().any(|(_, over)| over.is_none());
        let head = plan.iter().find(|(_, over)| over.is_none()).or(plan.first());
        let Some((head, _)) = head else { return Err(JobStop::Failed("no engine recognises it".into())) };
        let transcript = match whole {
            true => {
                let request = self.request(dictation, audio.clone(), None);
                self.part("0.json", 0, probed.length.milliseconds(), request).await?
            }
            false => self.in_parts(dictation, head, &audio, &probed).await?,
        };
        let engine = head.engine_name().to_owned();
        self.finish_transcript(transcript, &engine, probed.length.seconds()).await
    }

    /// The rules of the app on the whole; then it is written, and kept where
    /// the app wants that.
    async fn finish_transcript(&self, transcript: Transcript, engine: &str, length: f64) -> Result<(), JobStop> {
        let app = &self.caller.app;
        let revised = self.gateway.revise(&app.name, transcript).await?;
        self.write_transcript(&revised, length).await?;
        let end_user = self.caller.end_user();
        let new = NewTranscript { id: &self.row.id, title: &self.row.title, engine, length, end_user };
        self.gateway.keep_transcript(app, new, &revised).await?;
        Ok(())
    }

    async fn in_parts(
        &self,
        dictation: &Dictation,
        head: &PlannedCall,
        audio: &GivenAudio,
        probed: &AudioInfo,
    ) -> Result<Transcript, JobStop> {
        let laid = self.lay_out(head, audio, probed).await?;
        let spans = &laid.cuts.spans;
        let planned = JobChange { pieces: Some(to_i64(spans.len() as u64)), ..JobChange::default() };
        self.gateway.inner.store.change_job(self.row.id.clone(), planned).await.map_err(GatewayError::from)?;
        let takes_context =
            head.candidate.sheet.recognition.as_ref().and_then(|recognition| recognition.controls.context.as_ref());
        let room =
            takes_context.map_or(0, |control| usize::try_from(control.characters).unwrap_or(CONTEXT).min(CONTEXT));
        let mut parts: Vec<HeardPart> = Vec::new();
        let mut gaps = Vec::new();
        let mut lost = 0;
        for (index, (from, to)) in spans.iter().enumerate() {
            let context = tail(&parts, room);
            let note = format!("{index}.json");
            let part = match self.hear_span(dictation, &laid, &note, index, (*from, *to), context).await {
                Ok(part) => part,
                // The others are paid for and are not given up for one.
                Err(JobStop::Unusable(why)) => {
                    lost += 1;
                    if lost == spans.len() {
                        return Err(JobStop::Unusable(why));
                    }
                    let gap = Gap { start: *from, end: *to };
                    self.warn(format!("nothing was recognised {}: {why}", place(gap))).await?;
                    gaps.push(gap);
                    HeardPart { from: *from, to: *to, transcript: Transcript::default() }
                }
                Err(stop) => return Err(stop),
            };
            if let Some(before) = parts.last().cloned() {
                let seam = self.seam(dictation, &laid, index, &before, &part).await?;
                parts.extend(seam.bridge);
                gaps.extend(seam.gaps);
            }
            parts.push(part);
        }
        Ok(stitch(&parts).with_unrecognised(gaps))
    }

    /// What neither of two parts has made out is heard again in one piece. A
    /// seam that stays open costs a warning and a mark, not the transcript.
    async fn seam(
        &self,
        dictation: &Dictation,
        laid: &Laid,
        index: usize,
        before: &HeardPart,
        after: &HeardPart,
    ) -> Result<Seam, JobStop> {
        let Some(gap) = gap_between(&laid.levels, before, after) else { return Ok(Seam::default()) };
        let cut = f64::midpoint(before.to, after.from);
        let mut seam = Seam { bridge: None, gaps: vec![gap] };
        let mut why = None;
        let mut attempts = 0;
        for (again, around) in WIDER.into_iter().enumerate() {
            let around = around.min(laid.cuts.most / 2.0);
            let span = ((cut - around).max(0.0), (cut + around).min(laid.levels.length()));
            let number = AGAIN + index * WIDER.len() + again;
            let failures = self.seam_failures(index).await;
            if failures >= MOST_SEAM_FAILURES {
                attempts += failures;
                break;
            }
            match self.hear_span(dictation, laid, &format!("{number}.json"), number, span, None).await {
                Ok(bridge) => {
                    attempts += 1;
                    let sides = [gap_between(&laid.levels, before, &bridge), gap_between(&laid.levels, &bridge, after)];
                    seam = Seam { bridge: Some(bridge), gaps: sides.into_iter().flatten().collect() };
                }
                Err(JobStop::Wait(wait)) if wait.access => return Err(JobStop::Wait(wait)),
                Err(JobStop::Wait(wait)) => {
                    self.note_seam_failure(index, failures + 1).await?;
                    if failures + 1 < MOST_SEAM_FAILURES {
                        return Err(JobStop::Wait(wait));
                    }
                    (attempts, why) = (attempts + failures + 1, Some(wait.why));
                    break;
                }
                Err(JobStop::Unusable(reason) | JobStop::Failed(reason)) => {
                    self.note_seam_failure(index, failures + 1).await?;
                    (attempts, why) = (attempts + 1, Some(reason));
                }
                Err(stop) => return Err(stop),
            }
            if seam.gaps.is_empty() || around >= laid.cuts.most / 2.0 {
                break;
            }
        }
        for gap in &seam.gaps {
            let why = why.as_ref().map(|why| format!(": {why}")).unwrap_or_default();
            let attempts = if attempts == 1 { "1 attempt".to_owned() } else { format!("{attempts} attempts") };
            self.warn(format!("nothing was recognised {} after {attempts}{why}", place(*gap))).await?;
        }
        Ok(seam)
    }

    /// Failed attempts at a seam so far.
    async fn seam_failures(&self, index: usize) -> u32 {
        let noted = tokio::fs::read_to_string(self.folder.join("pieces").join(seam_note(index))).await;
        noted.ok().and_then(|count| count.parse().ok()).unwrap_or(0)
    }

    async fn note_seam_failure(&self, index: usize, count: u32) -> Result<(), JobStop> {
        let folder = self.folder.join("pieces");
        Ok(piece_store::put_aside(folder, seam_note(index), count.to_string().into_bytes()).await?)
    }

    async fn hear_span(
        &self,
        dictation: &Dictation,
        laid: &Laid,
        note: &str,
        piece: usize,
        (from, to): (f64, f64),
        context: Option<String>,
    ) -> Result<HeardPart, JobStop> {
        // Silence says nothing, and engines differ in what they make of it.
        if laid.levels.sounding(from, to) < SILENT {
            return Ok(HeardPart { from, to, transcript: Transcript::default() });
        }
        let (path, rate) = (laid.path.clone(), laid.cuts.rate);
        let cut = tokio::task::spawn_blocking(move || cut_out(&path, rate, from, to)).await;
        let source = cut.map_err(std::io::Error::other)??;
        let request = self.request(dictation, GivenAudio { source, told: None }, context);
        let milliseconds = ((to - from) * 1_000.0) as u64;
        let transcript = self.part(note, piece, milliseconds, request).await?;
        Ok(HeardPart { from, to, transcript })
    }

    #[expect(clippy::unused_self, reason = "a request of this job")]
    fn request(&self, dictation: &Dictation, audio: GivenAudio, context: Option<String>) -> RecognitionRequest {
        let context = context.or_else(|| dictation.wish.context.clone());
        RecognitionRequest {
            audio,
            hearer: dictation.hearer.clone(),
            languages: Vec::new(),
            channels: false,
            wish: HearingWish { context, ..dictation.wish.clone() },
            unsupported: dictation.unsupported,
            deadline: dictation.deadline,
            credential: dictation.credential.clone(),
            trace: None,
        }
    }

    /// One part: as it was heard before, or heard now. Silence says nothing.
    async fn part(
        &self,
        name: &str,
        piece: usize,
        milliseconds: u64,
        request: RecognitionRequest,
    ) -> Result<Transcript, JobStop> {
        let folder = self.folder.join("pieces");
        tokio::fs::create_dir_all(&folder).await?;
        let note = PartNote { job: self.row.id.clone(), folder, name: name.to_owned() };
        let heard = match note.read().await {
            Some(heard) => heard,
            None if self.gateway.inner.jobs.pause.is_cancelled() => return Err(JobStop::Paused),
            None => {
                let heard = tokio::select! {
                    heard = self.gateway.recognise_for(&self.caller, request, Some(note)) => heard,
                    () = self.cancel.cancelled() => return Err(JobStop::Cancelled),
                };
                let Recognised { engine, dispatch, revised, .. } = heard.map_err(JobStop::from)?;
                Note { engine, dispatch, transcript: revised.transcript }
            }
        };
        let row = StoredJobPiece {
            job: self.row.id.clone(),
            track: 0,
            piece: to_i64(piece as u64),
            fingerprint: name.to_owned(),
            engine: heard.engine,
            dispatch: heard.dispatch,
            audio_ms: to_i64(milliseconds),
            made_at: now_micros(),
        };
        self.gateway.inner.store.end_piece(None, row).await.map_err(GatewayError::from)?;
        self.gateway.inner.jobs.announce(&self.row.id);
        Ok(heard.transcript)
    }

    /// The recording as plain samples in a file, with where it is to be cut.
    /// Cuts stay as they were once decided.
    async fn lay_out(&self, head: &PlannedCall, audio: &GivenAudio, probed: &AudioInfo) -> Result<Laid, JobStop> {
        let rate = probed.length.rate.min(RATE);
        let cut = Format::new(Codec::Wav, rate);
        let sent = head.engine.hearing_format(cut).map_or(cut, |format| format.format);
        let Over { seconds, megabytes } = Over::of(&head.candidate);
        let a_second = sent.effective_bitrate().map_or(f64::from(sent.rate) * 2.0, |bits| f64::from(bits) / 8.0);
        let by_size = megabytes.map(|megabytes| megabytes as f64 * 1e6 * FILL / a_second);
        let by_time = seconds.map(|seconds| seconds as f64 * FILL);
        let most = by_size.into_iter().chain(by_time).fold(PART, f64::min).max(1.0);
        let path = self.folder.join("samples");
        let (source, format, place) = (audio.source.clone(), probed.format, path.clone());
        let codecs = self.gateway.inner.codecs.clone();
        let permit = codecs.acquire_owned().await.map_err(|error| JobStop::Failed(error.to_string()))?;
        let lay = move || {
            let _permit = permit;
            lay_out(&source, format, rate, &place)
        };
        let levels = tokio::task::spawn_blocking(lay).await.map_err(std::io::Error::other)?.map_err(JobStop::Failed)?;
        let kept = tokio::fs::read(self.folder.join("cuts.json")).await.ok();
        let kept = kept.and_then(|cuts| serde_json::from_slice::<Cuts>(&cuts).ok());
        if let Some(cuts) = kept.filter(|cuts| cuts.rate == rate) {
            return Ok(Laid { path, cuts, levels });
        }
        let spans = levels.spans(most, OVERLAP);
        let spans = spans.into_iter().map(|Span { from, to }| (from, to)).collect();
        let cuts = Cuts { rate, spans, most };
        let text = serde_json::to_vec(&cuts).map_err(|error| JobStop::Failed(error.to_string()))?;
        piece_store::put_aside(self.folder.clone(), "cuts.json".into(), text).await?;
        Ok(Laid { path, cuts, levels })
    }

    async fn write_transcript(&self, revised: &Revised, length: f64) -> Result<(), JobStop> {
        let transcript = &revised.transcript;
        let json = serde_json::to_string_pretty(revised).map_err(|error| JobStop::Failed(error.to_string()))?;
        let stem = super::work::slug(&self.row.title);
        let stem = if stem.is_empty() { "recording" } else { &stem };
        let files = [
            ("txt", "text/plain; charset=utf-8", format!("{}\n", transcript.text)),
            ("vtt", "text/vtt; charset=utf-8", transcript.to_vtt(length)),
            ("srt", "application/x-subrip", transcript.to_srt(length)),
            ("json", "application/json", json),
            ("csv", "text/csv; charset=utf-8", transcript.to_csv(length)),
            ("ctm", "text/x-ctm; charset=utf-8", transcript.to_ctm(length)),
            ("rttm", "text/x-rttm; charset=utf-8", transcript.to_rttm(length)),
        ];
        let milliseconds = (length * 1_000.0) as u64;
        for (number, (extension, media_type, text)) in files.into_iter().enumerate() {
            let name = format!("{stem}.{extension}");
            let bytes = text.len() as u64;
            piece_store::put_aside(self.folder.join("files"), name.clone(), text.into_bytes()).await?;
            self.list(number, &name, &self.row.title, media_type, bytes, milliseconds).await?;
        }
        // It is large, and not needed any more.
        let _ = tokio::fs::remove_file(self.folder.join("samples")).await;
        Ok(())
    }
}

/// A seam that was heard again: the bridge over it, and what is still open.
#[derive(Debug, Default)]
struct Seam {
    bridge: Option<HeardPart>,
    gaps: Vec<Gap>,
}

/// Audio between the words of two parts.
fn gap_between(levels: &Levels, before: &HeardPart, after: &HeardPart) -> Option<Gap> {
    let start = before.transcript.words.last().and_then(|word| word.end).map(|end| before.from + end)?;
    let end = after.transcript.words.first().and_then(|word| word.start).map(|start| after.from + start)?;
    (levels.sounding(start, end) > UNHEARD).then_some(Gap { start, end })
}

/// The name of the file that counts failed attempts at a seam.
fn seam_note(index: usize) -> String {
    format!("seam-{index}.failures")
}

/// A gap in the words of a warning.
fn place(gap: Gap) -> String {
    format!("from {:.1} s to {:.1} s", gap.start, gap.end)
}

/// The end of what was heard so far, from the beginning of a word on.
fn tail(parts: &[HeardPart], room: usize) -> Option<String> {
    let text = parts.last()?.transcript.text.as_str();
    let skip = text.chars().count().saturating_sub(room);
    let cut: String = text.chars().skip(skip).collect();
    let cut = if skip > 0 { cut.split_once(' ').map_or(cut.as_str(), |(_, rest)| rest) } else { &cut };
    Some(cut.trim().to_owned()).filter(|text| room > 0 && !text.is_empty())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn context_is_the_end_of_what_was_said_and_begins_with_a_word() {
        let transcript = Transcript { text: "Mind the step at the last door.".into(), ..Transcript::default() };
        let parts = [HeardPart { from: 0.0, to: 5.0, transcript }];
        assert_eq!(tail(&parts, 12).as_deref(), Some("last door."));
        assert_eq!(tail(&parts, 100).as_deref(), Some("Mind the step at the last door."));
        assert_eq!(tail(&parts, 0), None);
        assert_eq!(tail(&[], 100), None);
    }
}
