//! `/exchanges`: what is said, the reply of the app's hook and its voice, in
//! one call.

use std::io::{self, Read as _, Seek as _, Write as _};
use std::sync::Arc;

use bytes::Bytes;
use dispatcher_audio::{Format, Transcoder, mend_wav_lengths};
use dispatcher_engines::AudioSource;
use dispatcher_gateway::{Caller, ExchangeEnd, ExchangeEvent, ExchangeSession, Gateway, GatewayError, NarrationEvent};
use rocket::serde::json::Json;
use rocket::{State, get, post};

use super::exchange_request::{self, ReadExchange};
use super::json_audio::{self, JsonFile, MOST_AUDIO};
use super::links::Outlet;
use super::utterances::SpokenAnswer;
use crate::access::Allowed;
use crate::body::RequestBody;
use crate::drain::Drain;
use crate::headers::{Meta, ToldHeader};
use crate::idempotency::{Idempotency, LARGEST_KEPT, Replay, StoredAnswer};
use crate::parameters::Parameters;
use crate::problem::Problem;
use crate::spool::{Sink, Spool};
use crate::wire::{
    ExchangeAnswer, ExchangeLine, ExchangeWish, List, ReplyAnswer, SaidAnswer, SpokenWord, StagesAnswer, thousandths,
};

/// Default and maximum number of exchanges in a list.
const LISTED: u32 = 50;
const MOST_LISTED: u32 = 500;

/// Run an exchange
///
/// One call for a whole exchange: audio or text is sent, recognised (`ear`), answered by the reply
/// hook of the app (`reply`), and the reply is spoken (`voice`). As JSON, or as a form with the
/// parts `audio` and `attachment` (files) and `request` (the rest, as JSON). If the hook fails, stalls or goes on for
/// too long, the apology of the app is spoken, and the answer says why.
#[utoipa::path(
    operation_id = "exchange",
    context_path = "/api/v1", tag = "exchanges",
    request_body(content((ExchangeWish = "application/json"), (ExchangeWish = "multipart/form-data"))),
    params(
        ("Idempotency-Key" = Option<String>, Header, description = "Requests with the same key are carried out once"),
        ("End-User" = Option<String>, Header, description = "For whom it is, in the words of the app; see eraseApp"),
    ),
    responses(
        (status = 200, description = "The exchange", body = ExchangeAnswer, headers(
            ("Dispatch-Exchange" = String, description = "Id of the exchange"),
            ("Dispatch-Synthetic" = String, description = "?1"),
            ("Server-Timing" = String, description = "Of each stage, until its first result"),
        )),
        (status = "4XX", description = "Fault in the request", body = Problem, content_type = "application/problem+json"),
        (status = "5XX", description = "All engines failed", body = Problem, content_type = "application/problem+json"),
    ),
    security(("key" = []))
)]
#[post("/exchanges", data = "<data>")]
pub(crate) async fn exchange(
    allowed: Allowed,
    meta: Meta,
    data: RequestBody<'_>,
    gateway: &State<Gateway>,
    idempotency: &State<Idempotency>,
    outlet: Outlet<'_>,
    drain: &State<Drain>,
) -> Result<SpokenAnswer, Problem> {
    let (_leaving, spool) = (drain.enter(), outlet.spool);
    let read = tokio::select! {
        read = exchange_request::read(&meta, data, spool, (gateway, &allowed.0)) => read?,
        () = meta.connection.gone() => return Err(GatewayError::Abandoned.into()),
    };
    let ReadExchange { request, format, link_until, body } = read;
    let told: [&[u8]; 2] = [b"exchanges", &body];
    let claim = match idempotency.begin(allowed.0.replay_scope(), meta.idempotency_key.as_deref(), &told)? {
        Replay::Answer(kept) => return Ok(SpokenAnswer::StoredAnswer(kept)),
        Replay::Do(claim) => claim,
    };
    let session = gateway.exchange(&allowed.0, request).await?;
    let collected = tokio::select! {
        collected = collect(session, spool) => collected?,
        () = meta.connection.gone() => return Err(GatewayError::Abandoned.into()),
    };
    let mut headers = headers_of(&collected.end);
    headers.extend(super::utterances::synthetic(&allowed.0));
    let file = tokio::select! {
        file = written((gateway, &outlet), collected, format, (&allowed.0, link_until)) => file?,
        () = meta.connection.gone() => return Err(GatewayError::Abandoned.into()),
    };
    let content_type = "application/json".to_owned();
    let kept = StoredAnswer { status: 200, headers, content_type, body: Arc::new(file.path), bytes: file.bytes };
    if let Some(claim) = claim.filter(|_| kept.bytes <= LARGEST_KEPT) {
        claim.finish(kept.clone());
    }
    Ok(SpokenAnswer::StoredAnswer(kept))
}

/// All events of an exchange.
struct Collected {
    said: SaidAnswer,
    reply: ReplyAnswer,
    words: Vec<SpokenWord>,
    /// Raw samples.
    audio: AudioSource,
    raw: Format,
    end: ExchangeEnd,
}

async fn collect(mut session: ExchangeSession, spool: &Spool) -> Result<Collected, Problem> {
    let mut said = SaidAnswer::of(String::new(), None);
    let (mut reply, mut words) = (ReplyAnswer::default(), Vec::new());
    let mut sink = Sink::new(Spool { limit: MOST_AUDIO, ..spool.clone() });
    while let Some(event) = session.events.recv().await {
        match event? {
            ExchangeEvent::Said { text, recognised, .. } => said = SaidAnswer::of(text, recognised.map(|it| *it)),
            ExchangeEvent::Reply(text) => reply.text.push_str(&text),
            ExchangeEvent::Fault(fault) => reply.fault = Some(fault),
            ExchangeEvent::Voice(NarrationEvent::Audio(bytes)) => sink.push(&bytes).await?,
            ExchangeEvent::Voice(NarrationEvent::Sentence { text, .. }) => {
                if !reply.spoken.is_empty() {
                    reply.spoken.push(' ');
                }
                reply.spoken.push_str(text.trim());
            }
            ExchangeEvent::Voice(NarrationEvent::Word { text, start, end }) => {
                words.push(SpokenWord { text, start: thousandths(start), end: end.map(thousandths) });
            }
            ExchangeEvent::Voice(_) => {}
            ExchangeEvent::Ended(end) => {
                let audio = sink.finish().await?;
                return Ok(Collected { said, reply, words, audio, raw: session.format, end: *end });
            }
        }
    }
    Err(GatewayError::Abandoned.into())
}

/// The latency of each stage, as Server-Timing has it.
fn headers_of(end: &ExchangeEnd) -> Vec<ToldHeader> {
    let StagesAnswer { ear, reply, voice } = StagesAnswer::from(&end.record);
    let stages = [("ear", ear.and_then(|ear| ear.first)), ("reply", reply.first), ("voice", voice.first)];
    let timing = stages.iter().filter_map(|(name, first)| Some(format!("{name};dur={:.0}", (*first)? * 1_000.0)));
    vec![("Dispatch-Exchange", end.record.id.clone()), ("Server-Timing", timing.collect::<Vec<_>>().join(", "))]
}

async fn written(
    (gateway, outlet): (&Gateway, &Outlet<'_>),
    collected: Collected,
    format: Format,
    (caller, link_until): (&Caller, Option<i64>),
) -> Result<JsonFile, Problem> {
    let Collected { said, reply, words, audio, raw, end } = collected;
    let folder = outlet.spool.folder.clone();
    let seconds = end.record.audio_ms as f64 / 1_000.0;
    let failed = |error: io::Error| crate::spool::storage_problem(&error, "the answer");
    let encoding = gateway.in_turn(move || {
        let (mut file, path) = tempfile::NamedTempFile::new_in(&folder)?.into_parts();
        encoded(audio, raw, format, &mut file)?;
        let bytes = file.metadata()?.len();
        Ok((file, folder, JsonFile { path, bytes }))
    });
    let (mut file, folder, kept) = encoding.await?.map_err(failed)?;
    let Some(expires) = link_until else {
        let (audio, mark) = json_audio::marked(format, seconds);
        let answer = ExchangeAnswer::of(end, said, reply, audio, words);
        return json_audio::in_file(move || json_audio::write(&mut file, &folder, (answer, mark))).await;
    };
    let name = format!("reply-{}", &end.record.id);
    let audio = outlet.link_to(kept, (format, seconds), (caller, name, expires)).await?;
    json_audio::written(&ExchangeAnswer::of(end, said, reply, audio, words), outlet.spool).await
}

/// Writes raw samples in the format of the answer, with its true length.
fn encoded(audio: AudioSource, raw: Format, format: Format, out: &mut std::fs::File) -> io::Result<()> {
    let mut source: Box<dyn io::Read> = match audio {
        AudioSource::Memory(bytes) => Box::new(io::Cursor::new(bytes)),
        AudioSource::File(path) => Box::new(std::fs::File::open(&**path)?),
    };
    let mut transcoder = Transcoder::new(raw, format).map_err(io::Error::other)?;
    let mut chunk = vec![0; 64 << 10];
    loop {
        let count = source.read(&mut chunk)?;
        if count == 0 {
            break;
        }
        let made = transcoder.push(&Bytes::copy_from_slice(&chunk[..count])).map_err(io::Error::other)?;
        out.write_all(&made)?;
    }
    out.write_all(&transcoder.finish().map_err(io::Error::other)?)?;
    let total = out.stream_position()?;
    let mut head = vec![0; usize::try_from(total.min(4_096)).unwrap_or(0)];
    out.rewind()?;
    out.read_exact(&mut head)?;
    match transcoder.start().filter(|start| start.len() <= head.len()) {
        Some(start) => head[..start.len()].copy_from_slice(&start),
        None => drop(mend_wav_lengths(&mut head, total)),
    }
    out.rewind()?;
    out.write_all(&head)
}

/// List exchanges
///
/// Exchanges that are over, one-call and live, without what was said in them.
#[utoipa::path(
    operation_id = "listExchanges",
    context_path = "/api/v1", tag = "exchanges",
    params(
        ("app" = Option<String>, Query, description = "For operators: exchanges of one app"),
        ("limit" = Option<u32>, Query, description = "1 to 500 (default: 50)"),
        ("cursor" = Option<String>, Query, description = "`next` of the page before"),
    ),
    responses((status = 200, description = "The newest first", body = List<ExchangeLine>), (status = "4XX", body = Problem, content_type = "application/problem+json")),
    security(("key" = []))
)]
#[get("/exchanges")]
pub(crate) async fn list(
    allowed: Allowed,
    meta: Meta,
    gateway: &State<Gateway>,
) -> Result<Json<List<ExchangeLine>>, Problem> {
    let mut given = Parameters::of_query(&meta.query)?;
    let (app, limit, cursor) = (given.text("app"), given.limit(LISTED, MOST_LISTED)?, given.text("cursor"));
    given.finish()?;
    let mut rows = gateway.exchanges(&allowed.0, app, cursor, i64::from(limit) + 1).await?;
    let more = rows.len() > limit as usize;
    rows.truncate(limit as usize);
    let next = rows.last().filter(|_| more).map(|row| row.id.clone());
    Ok(Json(List { items: rows.into_iter().map(ExchangeLine::from).collect(), next }))
}
