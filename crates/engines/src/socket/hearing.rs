//! Recognition over a socket: audio goes one way while transcripts come the other.

use std::collections::VecDeque;
use std::time::Duration;

use bytes::Bytes;
use dispatcher_core::{Cause, HearingSocket, SheetError, Sign, Transcript};
use futures::{SinkExt as _, Stream, StreamExt as _};
use minijinja::context;
use minijinja::value::Value;
use serde_json_path::JsonPath;
use tokio_tungstenite::tungstenite::Message;

use super::{Answers, Common, Heard, Questions, Seen, SocketCall, messages};
use crate::EngineError;
use crate::flow::{Flow, Job};
use crate::request::{SheetSource, render};
use crate::sound::RequestAudio;
use crate::template::{OutputPlace, Template};
use crate::transcript::Paths;
use crate::wire::Wire;

/// `[recognition.socket]`, compiled.
pub(crate) struct HearingLine {
    spec: HearingSocket,
    common: Common,
    piece: Option<Template>,
    close: Vec<Template>,
    result: Seen,
    settled: Option<Seen>,
    line: Option<JsonPath>,
}

/// What has been heard so far: one entry for each stretch of speech.
#[derive(Default)]
struct Results(VecDeque<(Option<serde_json::Value>, Transcript, bool)>);

impl Results {
    fn put(&mut self, line: Option<serde_json::Value>, transcript: Transcript, settled: bool) {
        let same = |entry: &&mut (Option<serde_json::Value>, Transcript, bool)| match &line {
            Some(_) => entry.0 == line,
            // Without a name, an open result is the one that changes.
            None => !entry.2,
        };
        match self.0.iter_mut().rev().find(same) {
            // What is settled does not change again.
            Some(entry) if entry.2 && !settled => {}
            Some(entry) => *entry = (line, transcript, settled),
            None => self.0.push_back((line, transcript, settled)),
        }
    }

    fn finish(self) -> Transcript {
        let mut whole = Transcript::default();
        let texts: Vec<String> = self.0.iter().map(|(_, transcript, _)| transcript.text.clone()).collect();
        whole.text = texts.iter().filter(|text| !text.is_empty()).map(String::as_str).collect::<Vec<_>>().join(" ");
        for (_, transcript, _) in self.0 {
            whole.language = whole.language.or(transcript.language);
            whole.words.extend(transcript.words);
            if texts.len() == 1 {
                whole.alternatives = transcript.alternatives;
            }
        }
        whole
    }
}

/// A result while audio is still sent.
#[derive(Debug, Clone, PartialEq)]
pub struct LiveResult {
    /// What the engine calls this stretch of speech: a later result of the
    /// same name takes its place. Without a name, the one that is open does.
    pub key: Option<serde_json::Value>,
    /// Times from the first byte of the call's audio.
    pub transcript: Transcript,
    /// It does not change again.
    pub settled: bool,
}

/// Sends and listens at once: the engine may end, or refuse, before everything
/// was sent.
async fn sent_and_heard<T>(
    send: impl Future<Output = Result<(), EngineError>>,
    listen: impl Future<Output = Result<T, EngineError>>,
) -> Result<T, EngineError> {
    tokio::pin!(send, listen);
    tokio::select! {
        outcome = &mut listen => outcome,
        sent = &mut send => match sent {
            Ok(()) => listen.await,
            // What it closed with says more than that it takes no more.
            Err(error) => match tokio::time::timeout(Duration::from_secs(1), listen).await {
                Ok(Err(told)) if told.cause != Cause::Broken => Err(told),
                _ => Err(error),
            },
        },
    }
}

/// Closes politely; what was needed is here, and the engine may be gone.
async fn end(questions: &mut Questions) {
    let _ = tokio::time::timeout(Duration::from_secs(1), questions.close()).await;
}

impl HearingLine {
    pub(crate) fn compile(spec: &HearingSocket, probe: &Value, sheet: SheetSource<'_>) -> Result<Self, SheetError> {
        let key = ["recognition", "socket"];
        let sign = |sign: &Option<Sign>| sign.as_ref().map(|sign| Seen::compile(sign, sheet, &key)).transpose();
        let piece = spec.piece.as_deref().map(|text| Template::checked(text, OutputPlace::Json, probe, sheet, &key));
        let line = spec.line.as_deref().map(JsonPath::parse).transpose();
        Ok(HearingLine {
            common: Common {
                protocol: spec.protocol.clone(),
                open: messages(&spec.opening, probe, sheet, &key)?,
                ready: sign(&spec.ready)?,
                done: sign(&spec.done)?,
            },
            piece: piece.transpose()?,
            close: messages(&spec.close, probe, sheet, &key)?,
            result: Seen::compile(&spec.result, sheet, &key)?,
            settled: sign(&spec.settled)?,
            line: line.map_err(|error| {
                SheetError::at_key(sheet.0, sheet.1, &key, format!("line: not a JSONPath: {error}"))
            })?,
            spec: spec.clone(),
        })
    }

    pub(crate) async fn hear(
        &self,
        flow: &Flow,
        wire: &Wire,
        job: &Job<'_>,
        sound: &RequestAudio,
        seconds: f64,
        paths: &Paths,
    ) -> Result<Transcript, EngineError> {
        let (line, mut questions, mut answers, context) = self.common.open(flow, wire, job).await?;
        let outcome = sent_and_heard(
            self.send(&line, &mut questions, &context, sound, seconds),
            self.listen(&line, &mut answers, paths),
        );
        let outcome = outcome.await;
        end(&mut questions).await;
        outcome
    }

    /// Sends audio and returns each result as it comes.
    pub(crate) async fn hear_live(
        &self,
        flow: &Flow,
        wire: &Wire,
        job: &Job<'_>,
        audio: impl Stream<Item = Bytes> + Send,
        paths: &Paths,
        mut told: impl FnMut(LiveResult) + Send,
    ) -> Result<(), EngineError> {
        let (line, mut questions, mut answers, context) = self.common.open(flow, wire, job).await?;
        let mut all_sent = false;
        let send = async {
            self.send_live(&line, &mut questions, &context, job, audio).await?;
            all_sent = true;
            Ok(())
        };
        let outcome = sent_and_heard(send, self.each_result(&line, &mut answers, paths, &mut told)).await;
        end(&mut questions).await;
        match outcome {
            // What was not sent was not heard.
            Ok(()) if !all_sent => Err(line.broken("the engine ended before the audio did")),
            outcome => outcome,
        }
    }

    async fn send_live(
        &self,
        line: &SocketCall<'_>,
        questions: &mut Questions,
        context: &Value,
        job: &Job<'_>,
        audio: impl Stream<Item = Bytes> + Send,
    ) -> Result<(), EngineError> {
        let mut audio = std::pin::pin!(audio);
        let mut number = 0u64;
        while let Some(block) = audio.next().await {
            number += 1;
            let message = match (&self.piece, job.sound) {
                (Some(template), Some(sound)) => {
                    let piece = context! { piece => context! { number => number }, ..context.clone() };
                    Message::text(sound.message(&render(template, &piece)?, &block))
                }
                _ => Message::binary(block),
            };
            line.say(questions, message).await?;
        }
        line.say_all(questions, &self.close, context).await
    }

    async fn send(
        &self,
        line: &SocketCall<'_>,
        questions: &mut Questions,
        context: &Value,
        sound: &RequestAudio,
        seconds: f64,
    ) -> Result<(), EngineError> {
        let size = usize::try_from(self.spec.bytes).unwrap_or(4 << 10).clamp(64, 1 << 20);
        #[expect(clippy::cast_precision_loss, reason = "a share of the audio, to a hair")]
        let pause = self.spec.realtime_factor.map(|factor| {
            let share = (size as f64 / sound.length().max(1) as f64).min(1.0);
            Duration::from_secs_f64((seconds * share / factor.max(0.1)).clamp(0.0, 60.0))
        });
        let mut blocks = std::pin::pin!(sound.blocks(size).await?);
        let mut next = tokio::time::Instant::now();
        let mut number = 0u64;
        while let Some(block) = blocks.next().await {
            let block = block.map_err(|error| EngineError::new(Cause::Unavailable, error.to_string()))?;
            number += 1;
            let message = match &self.piece {
                None => Message::binary(block),
                Some(template) => {
                    let piece = context! { piece => context! { number => number }, ..context.clone() };
                    Message::text(sound.message(&render(template, &piece)?, &block))
                }
            };
            if let Some(pause) = pause {
                tokio::time::sleep_until(next).await;
                next += pause;
            }
            line.say(questions, message).await?;
        }
        line.say_all(questions, &self.close, context).await
    }

    async fn listen(
        &self,
        line: &SocketCall<'_>,
        answers: &mut Answers,
        paths: &Paths,
    ) -> Result<Transcript, EngineError> {
        let mut results = Results::default();
        let mut take = |LiveResult { key, transcript, settled }| results.put(key, transcript, settled);
        self.each_result(line, answers, paths, &mut take).await?;
        Ok(results.finish())
    }

    /// Tells each result, until the engine says that it is done.
    async fn each_result(
        &self,
        line: &SocketCall<'_>,
        answers: &mut Answers,
        paths: &Paths,
        told: &mut (impl FnMut(LiveResult) + Send),
    ) -> Result<(), EngineError> {
        loop {
            match line.next(answers).await? {
                Heard::Binary(_) => {}
                Heard::Json(message) => {
                    if self.result.in_message(&message) {
                        let settled = self.settled.as_ref().is_none_or(|settled| settled.in_message(&message));
                        let key = self.line.as_ref().and_then(|path| path.query(&message).first().cloned());
                        told(LiveResult { key, transcript: paths.read(&message)?, settled });
                    }
                    if self.common.done.as_ref().is_some_and(|done| done.in_message(&message)) {
                        return Ok(());
                    }
                }
                Heard::Closed if self.common.done.is_none() => return Ok(()),
                Heard::Closed => return Err(line.broken("the engine closed the connection before the end")),
            }
        }
    }
}
