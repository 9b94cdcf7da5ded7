//! The calls of one piece of work, in their order: those before, the audio in
//! parts, the main one, the looks at whether it is done, the last one.

use std::collections::{BTreeMap, HashMap};
use std::time::{Duration, Instant};

use bytes::Bytes;
use dispatcher_core::{Answer, Cause, Pieces, Poll, Remember, Request, Scalar, SheetError, Step, Templates};
use dispatcher_vault::{Parts, Redactor};
use minijinja::context;
use minijinja::value::Value;
use parking_lot::Mutex;
use reqwest::Response;
use reqwest::header::HeaderMap;
use serde_json_path::JsonPath;

use crate::EngineError;
use crate::access::mark;
use crate::answer_place::AnswerPlace;
use crate::request::{Call, SheetSource, read_up_to};
use crate::sound::RequestAudio;
use crate::wire::{LinkCredential, Wire, retry_after};

/// An answer between calls is read so far.
const MAX_BETWEEN: usize = 1 << 20;
/// The answer that holds the result is read so far, where it is no stream.
pub(crate) const MAX_RESULT: usize = 32 << 20;
/// Maximum number of remembered values; beyond it all are fetched again.
const MOST_REMEMBERED: usize = 20_000;

/// Position of a kept value.
type Keep = Vec<(String, AnswerPlace)>;
type KeptValues = BTreeMap<String, Value>;

struct CompiledStep {
    call: Call,
    keep: Keep,
    remember: Remember,
}

struct CompiledPoll {
    call: Call,
    keep: Keep,
    state: Option<JsonPath>,
    spec: Poll,
}

/// The parts of a sheet that make a flow.
pub(crate) struct FlowParts<'a> {
    pub(crate) section: &'static str,
    pub(crate) main: &'a dyn Request,
    pub(crate) before: &'a [Step],
    pub(crate) keep: &'a Templates,
    pub(crate) pieces: Option<&'a Pieces>,
    pub(crate) poll: Option<&'a Poll>,
    pub(crate) fetch: Option<&'a Step>,
    pub(crate) answer: Option<&'a Answer>,
}

/// The calls of one kind of work, compiled.
pub(crate) struct Flow {
    before: Vec<CompiledStep>,
    pieces: Option<(Call, u64)>,
    main: Call,
    keep: Keep,
    poll: Option<CompiledPoll>,
    fetch: Option<Call>,
    link: Option<(JsonPath, LinkCredential)>,
    remembered: Mutex<HashMap<String, KeptValues>>,
}

/// What the last call answered.
pub(crate) enum Last {
    Response(Response),
    Read(Bytes),
}

/// What the calls came to.
pub(crate) struct FlowOutcome {
    pub(crate) last: Last,
    /// The answer of JSON before the last call, where there was one.
    pub(crate) before: Option<Bytes>,
    pub(crate) redactor: Redactor,
}

/// One piece of work on its way through the calls.
pub(crate) struct Job<'a> {
    pub(crate) context: Value,
    pub(crate) sound: Option<&'a RequestAudio>,
    pub(crate) credential: &'a Parts,
    /// Whom values that are remembered by voice are for.
    pub(crate) voice: &'a str,
}

impl Job<'_> {
    fn with(&self, kept: &KeptValues, piece: Option<u64>) -> Value {
        let base = context! { kept => kept, ..self.context.clone() };
        match piece {
            Some(number) => context! { piece => context! { number => number }, ..base },
            None => base,
        }
    }
}

fn compile_keep(keep: &Templates, sheet: SheetSource<'_>, key: &[&str]) -> Result<Keep, SheetError> {
    let compile =
        |(name, place): (&String, &String)| Ok((name.clone(), AnswerPlace::compile(place, name, sheet, key)?));
    keep.iter().map(compile).collect()
}

fn compile_path(path: &str, sheet: SheetSource<'_>, key: &[&str]) -> Result<JsonPath, SheetError> {
    JsonPath::parse(path).map_err(|error| SheetError::at_key(sheet.0, sheet.1, key, format!("not a JSONPath: {error}")))
}

impl Flow {
    pub(crate) fn compile(parts: &FlowParts<'_>, probe: &Value, sheet: SheetSource<'_>) -> Result<Flow, SheetError> {
        let section = parts.section;
        let mut names: KeptValues = KeptValues::new();
        let with = |names: &KeptValues| {
            let piece = context! { number => 1 };
            context! { kept => names, piece => piece, ..probe.clone() }
        };
        let learn = |names: &mut KeptValues, keep: &Templates| {
            names.extend(keep.keys().map(|name| (name.clone(), Value::from("probe"))));
        };
        let mut before = Vec::new();
        for step in parts.before {
            let call = Call::compile(step, &with(&names), sheet, &[section, "before"])?;
            let keep = compile_keep(&step.keep, sheet, &[section, "before"])?;
            learn(&mut names, &step.keep);
            before.push(CompiledStep { call, keep, remember: step.remember });
        }
        let pieces = match parts.pieces {
            Some(pieces) => Some((Call::compile(pieces, &with(&names), sheet, &[section, "pieces"])?, pieces.bytes)),
            None => None,
        };
        let main = Call::compile(parts.main, &with(&names), sheet, &[section])?;
        learn(&mut names, parts.keep);
        let poll = match parts.poll {
            None => None,
            Some(spec) => {
                let key = [section, "poll"];
                let call = Call::compile(spec, &with(&names), sheet, &key)?;
                learn(&mut names, &spec.keep);
                let state = spec.state.as_deref().map(|path| compile_path(path, sheet, &key)).transpose()?;
                Some(CompiledPoll { call, keep: compile_keep(&spec.keep, sheet, &key)?, state, spec: spec.clone() })
            }
        };
        let fetch =
            parts.fetch.map(|step| Call::compile(step, &with(&names), sheet, &[section, "fetch"])).transpose()?;
        let link = match parts.answer {
            Some(Answer::Link { link, access }) => {
                let shown = if *access { LinkCredential::AtEndpoint } else { LinkCredential::Never };
                Some((compile_path(link, sheet, &[section, "answer"])?, shown))
            }
            _ => None,
        };
        let keep = compile_keep(parts.keep, sheet, &[section, "keep"])?;
        Ok(Flow { before, pieces, main, keep, poll, fetch, link, remembered: Mutex::default() })
    }

    /// The main call as text, without its access.
    pub(crate) fn preview(&self, context: &Value) -> String {
        self.main.preview(&self.imagined(context))
    }

    /// The body of the main call as text.
    pub(crate) fn document(&self, context: &Value) -> String {
        self.main.document(&self.imagined(context))
    }

    /// A context with the names of values that earlier calls would have kept.
    fn imagined(&self, context: &Value) -> Value {
        let steps = self.before.iter().flat_map(|step| &step.keep);
        let kept: KeptValues = steps.map(|(name, _)| (name.clone(), Value::from(format!("[{name}]")))).collect();
        context! { access => context! {}, kept => kept, ..context.clone() }
    }

    /// The main call alone, for a WebSocket: what was kept before it is in
    /// the context that comes back.
    pub(crate) async fn opened(&self, wire: &Wire, job: &Job<'_>) -> Result<(&Call, Value), EngineError> {
        let mut kept = KeptValues::new();
        self.prepare(wire, job, &mut kept).await?;
        Ok((&self.main, job.with(&kept, None)))
    }

    /// Makes the calls. Where a remembered value has gone stale, they are
    /// made once more with a fresh one.
    pub(crate) async fn run(&self, wire: &Wire, job: &Job<'_>) -> Result<FlowOutcome, EngineError> {
        let mut kept = KeptValues::new();
        let recalled = self.prepare(wire, job, &mut kept).await?;
        let stale = |error: &EngineError| matches!(error.cause, Cause::Malformed | Cause::Unsupported | Cause::Refused);
        match self.work(wire, job, kept).await {
            Err(error) if recalled && stale(&error) => {
                self.forget(job);
                let mut kept = KeptValues::new();
                self.prepare(wire, job, &mut kept).await?;
                self.work(wire, job, kept).await
            }
            outcome => outcome,
        }
    }

    fn key(&self, index: usize, remember: Remember, job: &Job<'_>) -> Option<String> {
        match remember {
            Remember::Call => None,
            Remember::Voice => Some(format!("{index} {} {}", mark(job.credential), job.voice)),
            Remember::Engine => Some(format!("{index} {}", mark(job.credential))),
        }
    }

    fn memory(&self) -> parking_lot::MutexGuard<'_, HashMap<String, KeptValues>> {
        self.remembered.lock()
    }

    fn forget(&self, job: &Job<'_>) {
        for (index, step) in self.before.iter().enumerate() {
            if let Some(key) = self.key(index, step.remember, job) {
                self.memory().remove(&key);
            }
        }
    }

    /// The calls before; answers whether something remembered was used.
    async fn prepare(&self, wire: &Wire, job: &Job<'_>, kept: &mut KeptValues) -> Result<bool, EngineError> {
        let mut recalled = false;
        for (index, step) in self.before.iter().enumerate() {
            let key = self.key(index, step.remember, job);
            if let Some(known) = key.as_ref().and_then(|key| self.memory().get(key).cloned()) {
                kept.extend(known);
                recalled = true;
                continue;
            }
            let (response, redactor) = wire.send(&step.call, &job.with(kept, None), job.sound, job.credential).await?;
            let (_, found) = between(wire, response, &step.keep, &redactor).await?;
            if let Some(key) = key {
                let mut memory = self.memory();
                if memory.len() >= MOST_REMEMBERED {
                    memory.clear();
                }
                memory.insert(key, found.clone());
            }
            kept.extend(found);
        }
        Ok(recalled)
    }

    async fn work(&self, wire: &Wire, job: &Job<'_>, mut kept: KeptValues) -> Result<FlowOutcome, EngineError> {
        if let (Some((call, bytes)), Some(sound)) = (&self.pieces, job.sound) {
            for (number, part) in sound.parts(*bytes) {
                let context = context! { audio => part.context(), ..job.with(&kept, Some(number)) };
                let (response, redactor) = wire.send(call, &context, Some(&part), job.credential).await?;
                between(wire, response, &Keep::new(), &redactor).await?;
            }
        }
        let (response, redactor) = wire.send(&self.main, &job.with(&kept, None), job.sound, job.credential).await?;
        let only = self.keep.is_empty() && self.poll.is_none() && self.fetch.is_none();
        let (mut last, redactor) = match only {
            true => (Last::Response(response), redactor),
            false => {
                let (body, found) = between(wire, response, &self.keep, &redactor).await?;
                kept.extend(found);
                (Last::Read(body), redactor)
            }
        };
        if let Some(poll) = &self.poll {
            last = Last::Read(self.wait(poll, wire, job, &mut kept).await?);
        }
        let mut before = None;
        let (last, redactor) = match &self.fetch {
            Some(fetch) => {
                if let Last::Read(body) = last {
                    before = Some(body);
                }
                let (response, redactor) = wire.send(fetch, &job.with(&kept, None), None, job.credential).await?;
                (Last::Response(response), redactor)
            }
            None => (last, redactor),
        };
        match &self.link {
            None => Ok(FlowOutcome { last, before, redactor }),
            Some((path, shown)) => {
                let body = last.read(wire, &redactor).await?;
                let answer = parse(&body, &redactor)?;
                let link = path.query(&answer).first().and_then(|link| link.as_str().map(str::to_owned));
                let link =
                    link.ok_or_else(|| EngineError::new(Cause::Broken, "the answer has no link at the sheet's path"))?;
                let response = wire.download(&link, *shown, job.credential, &redactor).await?;
                Ok(FlowOutcome { last: Last::Response(response), before: Some(body), redactor })
            }
        }
    }

    /// Looks again and again, each time after half as long again.
    async fn wait(
        &self,
        poll: &CompiledPoll,
        wire: &Wire,
        job: &Job<'_>,
        kept: &mut KeptValues,
    ) -> Result<Bytes, EngineError> {
        let until = Instant::now() + Duration::from_secs(poll.spec.seconds);
        let mut pause = poll.spec.first;
        loop {
            tokio::time::sleep(Duration::from_secs_f64(pause)).await;
            let (response, redactor) = wire.send(&poll.call, &job.with(kept, None), None, job.credential).await?;
            let (status, asked) = (response.status().as_u16(), retry_after(&response));
            let (body, found) = read_answer(wire, response, &poll.keep, &redactor, Awaited::Perhaps).await?;
            let state = match &poll.state {
                Some(path) => path.query(&parse(&body, &redactor)?).first().cloned(),
                None => None,
            };
            let is = |wanted: &[Scalar]| state.as_ref().is_some_and(|state| wanted.iter().any(|w| w.is(state)));
            if is(&poll.spec.failed) {
                let text = String::from_utf8_lossy(&body);
                let cause = wire.errors.named(status, &text).unwrap_or(Cause::Broken);
                return Err(EngineError::new(cause, redactor.redact(&format!("the work failed: {text}"))));
            }
            if is(&poll.spec.done) || (poll.state.is_none() && status != 202) {
                // Work that has ended may still have ended badly.
                refuse(wire, status, &body, &redactor)?;
                kept.extend(found);
                return Ok(body);
            }
            if let Some(cause) = wire.errors.named(status, &String::from_utf8_lossy(&body)) {
                return Err(EngineError::new(cause, redactor.redact(&String::from_utf8_lossy(&body))));
            }
            if Instant::now() > until {
                let detail = format!("not finished after {} seconds", poll.spec.seconds);
                return Err(EngineError::new(Cause::TimedOut, detail));
            }
            let next = (pause * 1.5).min(poll.spec.longest);
            pause = asked.map_or(next, |asked| asked.as_secs_f64().clamp(0.01, 60.0).max(next));
        }
    }
}

impl Last {
    /// The whole answer, refused where it tells of an error.
    pub(crate) async fn read(self, wire: &Wire, redactor: &Redactor) -> Result<Bytes, EngineError> {
        match self {
            Last::Read(body) => Ok(body),
            Last::Response(response) => {
                let status = response.status().as_u16();
                let body = Bytes::from(read_up_to(response, MAX_RESULT, redactor).await?);
                refuse(wire, status, &body, redactor)?;
                Ok(body)
            }
        }
    }
}

pub(crate) fn parse(body: &[u8], redactor: &Redactor) -> Result<serde_json::Value, EngineError> {
    serde_json::from_slice(body).map_err(|_| {
        let start = String::from_utf8_lossy(&body[..body.len().min(200)]).into_owned();
        EngineError::new(Cause::Broken, redactor.redact(&format!("the answer is not JSON: {start}")))
    })
}

/// An answer whose status says that all is well and whose text does not.
fn refuse(wire: &Wire, status: u16, body: &[u8], redactor: &Redactor) -> Result<(), EngineError> {
    let text = String::from_utf8_lossy(body);
    match wire.errors.named(status, &text) {
        Some(cause) => Err(EngineError::new(cause, redactor.redact(&format!("status {status}: {text}")))),
        None => Ok(()),
    }
}

/// A text, a number or a truth value; nothing else can be named later.
fn kept_value(value: &serde_json::Value) -> Option<Value> {
    match value {
        serde_json::Value::String(text) => Some(Value::from(text.as_str())),
        serde_json::Value::Bool(truth) => Some(Value::from(*truth)),
        serde_json::Value::Number(number) => {
            number.as_i64().map(Value::from).or_else(|| number.as_f64().map(Value::from))
        }
        _ => None,
    }
}

async fn between(
    wire: &Wire,
    response: Response,
    keep: &Keep,
    redactor: &Redactor,
) -> Result<(Bytes, KeptValues), EngineError> {
    let status = response.status().as_u16();
    let (body, kept) = read_answer(wire, response, keep, redactor, Awaited::Now).await?;
    refuse(wire, status, &body, redactor)?;
    Ok((body, kept))
}

/// Whether an answer holds all that is kept of it.
#[derive(Clone, Copy, PartialEq, Eq)]
enum Awaited {
    /// It does: what is missing is an error.
    Now,
    /// A later one may: the work goes on.
    Perhaps,
}

/// Reads an answer and what is kept of it.
async fn read_answer(
    wire: &Wire,
    response: Response,
    keep: &Keep,
    redactor: &Redactor,
    awaited: Awaited,
) -> Result<(Bytes, KeptValues), EngineError> {
    let (headers, status): (HeaderMap, u16) = (response.headers().clone(), response.status().as_u16());
    let limit = if awaited == Awaited::Now { MAX_BETWEEN } else { MAX_RESULT };
    let body = Bytes::from(read_up_to(response, limit, redactor).await?);
    let mut kept = KeptValues::new();
    let paths = keep.iter().any(|(_, place)| matches!(place, AnswerPlace::Path(_)));
    if paths && awaited == Awaited::Now {
        refuse(wire, status, &body, redactor)?;
    }
    let answer = if paths { Some(parse(&body, redactor)?) } else { None };
    for (name, place) in keep {
        let value = match (place, &answer) {
            (AnswerPlace::Path(path), Some(answer)) => path.query(answer).first().and_then(kept_value),
            (AnswerPlace::Header(header), _) => {
                headers.get(header).and_then(|value| value.to_str().ok()).map(Value::from)
            }
            _ => None,
        };
        match value {
            Some(value) => drop(kept.insert(name.clone(), value)),
            None if awaited == Awaited::Now => {
                return Err(EngineError::new(Cause::Broken, format!("'{name}' is not in the engine's answer")));
            }
            None => {}
        }
    }
    Ok((body, kept))
}
