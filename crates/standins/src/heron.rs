//! Heron: synthesis. Bearer token; JSON in, audio streamed out.
//!
//! `POST /talk/{voice}` with `{"say", "grade", "as", "pace"?, "lean"?, "manner"?}`.
//! Grades quick, fine, bright and directed; at most 3,600 characters; `as` is
//! `mp3` (24 kHz, 64 kbit/s) or `pcm` (24 kHz, 16 bits, little-endian).
//! Errors are `{"fault": code, "reason": text}`.
//!
//! `PUT /tokens` takes the list of tokens that are known from then on.
//!
//! Told to (`PUT /broken`), it breaks what its sheet claims: `mp3` (comes at
//! 16 kHz), `fine` (the grade is refused), `pace` (has no effect), `manner`
//! (refused), `limit` (half of it), `door` (a strange token breaks it), `swallow`
//! (the last word is not spoken).

use std::sync::Arc;
use std::time::Duration;

use bytes::Bytes;
use dispatcher_audio::{Codec, Format, Transcoder};
use futures::SinkExt as _;
use hyper::body::{Frame, Incoming};
use hyper::header::{AUTHORIZATION, CONTENT_TYPE, HeaderValue, RETRY_AFTER};
use hyper::{Method, Request, Response, StatusCode};
use parking_lot::{Mutex, MutexGuard};
use serde::Deserialize;
use serde_json::json;

use crate::serve::{Answer, Body, Service, StandIn, admit, collect, json, serve, streamed};
use crate::tone::{Manner, Speaker, pcm_bytes};
use crate::trouble::Trouble;
use crate::weather::{Forecast, Phase, Sky, Weather};

/// Voices: id and pitch factor, 3 % apart.
pub const VOICES: [(&str, f64); 9] = [
    ("pellin", 1.00),
    ("isolde", 1.03),
    ("tarrick", 0.85),
    ("beatriz", 1.06),
    ("davi", 0.88),
    ("armand", 0.91),
    ("sabeen", 1.09),
    ("haru", 0.94),
    ("wade", 0.97),
];

const RATE: u32 = 24_000;
const MAX_CHARACTERS: usize = 3_600;
/// How long the engine thinks before its first audio.
const THINKING: Duration = Duration::from_millis(20);

struct Heron {
    /// More than one is known while one takes the place of another.
    tokens: Mutex<Vec<String>>,
    sky: Arc<Sky>,
}

/// Starts heron on a port of loopback (0: a free one); it takes this token.
///
/// # Errors
/// When the port cannot be had.
pub async fn start(port: u16, token: &str) -> std::io::Result<StandIn> {
    serve(Heron { tokens: Mutex::new(vec![token.into()]), sky: Arc::default() }, port).await
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
struct Talk {
    say: String,
    grade: String,
    #[serde(rename = "as")]
    form: String,
    /// Factor on the rate, 0.5 to 2.
    #[serde(default)]
    pace: Option<f64>,
    /// Semitones up or down, -3 to 3.
    #[serde(default)]
    lean: Option<f64>,
    /// Only the grade directed takes one.
    #[serde(default)]
    manner: Option<String>,
}

fn fault(status: StatusCode, code: &str, reason: &str) -> Answer {
    json(status, &json!({"fault": code, "reason": reason}))
}

impl Service for Heron {
    fn sky(&self) -> &Arc<Sky> {
        &self.sky
    }

    fn tell(&self, trouble: Trouble, given: &str) -> Answer {
        match trouble {
            Trouble::Crowded => {
                let mut answer = fault(StatusCode::TOO_MANY_REQUESTS, "crowded", "too many birds on this post")?;
                answer.headers_mut().insert(RETRY_AFTER, HeaderValue::from_static("1"));
                Ok(answer)
            }
            Trouble::Away => fault(StatusCode::SERVICE_UNAVAILABLE, "away", "heron is out fishing"),
            Trouble::Expired => fault(StatusCode::UNAUTHORIZED, "stale", "this token has expired"),
            Trouble::NotActiveYet => fault(StatusCode::FORBIDDEN, "unhatched", "this token is not live yet"),
            Trouble::WrongRegion => fault(StatusCode::FORBIDDEN, "elsewhere", "this token belongs to another shore"),
            Trouble::MissingRole => fault(StatusCode::FORBIDDEN, "not-allowed", "this token may not speak"),
            Trouble::Unpaid => fault(StatusCode::PAYMENT_REQUIRED, "unpaid", "the account has no balance"),
            Trouble::Echo => fault(StatusCode::BAD_REQUEST, "echo", &format!("you came with {given} and that is odd")),
        }
    }

    async fn call(self: Arc<Self>, request: Request<Incoming>) -> Answer {
        if request.uri().path() == "/tokens" && request.method() == Method::PUT {
            let body = collect(request.into_body(), 8_192).await?;
            *self.tokens() = serde_json::from_slice(&body)?;
            return json(StatusCode::OK, &self.tokens().len());
        }
        let voice = request.uri().path().strip_prefix("/talk/").map(str::to_owned);
        let (Some(voice), &Method::POST) = (voice, request.method()) else {
            return fault(StatusCode::NOT_FOUND, "no-such-place", "heron answers POST /talk/{voice}");
        };
        let given =
            request.headers().get(AUTHORIZATION).and_then(|value| value.to_str().ok()).unwrap_or_default().to_owned();
        let known = given.strip_prefix("Bearer ").is_some_and(|token| self.tokens().iter().any(|known| known == token));
        if !known && self.sky.breaks("door") {
            return fault(StatusCode::INTERNAL_SERVER_ERROR, "stuck", "the door is stuck");
        }
        let forecast = match admit(&*self, Phase::Call, known, &given).await {
            Ok(forecast) => forecast,
            Err(answer) => return answer,
        };
        let body = collect(request.into_body(), 1 << 20).await?;
        match check(&voice, &body, &self.sky) {
            Ok((talk, pitch)) => self.talk(talk, pitch, forecast).await,
            Err((status, code, reason)) => {
                self.sky.count(|delivered| delivered.refused += 1);
                fault(status, code, &reason)
            }
        }
    }
}

type Refusal = (StatusCode, &'static str, String);

fn check(voice: &str, body: &[u8], sky: &Sky) -> Result<(Talk, f64), Refusal> {
    let Some((_, pitch)) = VOICES.iter().find(|(id, _)| *id == voice) else {
        return Err((StatusCode::NOT_FOUND, "no-such-voice", format!("no voice '{voice}' nests here")));
    };
    let talk: Talk =
        serde_json::from_slice(body).map_err(|error| (StatusCode::BAD_REQUEST, "unreadable", error.to_string()))?;
    let malformed = |reason: &str| Err((StatusCode::BAD_REQUEST, "unreadable", reason.to_owned()));
    if !["quick", "fine", "bright", "directed"].contains(&talk.grade.as_str()) {
        return malformed("grade is quick, fine, bright or directed");
    }
    if talk.grade == "fine" && sky.breaks("fine") {
        return malformed("fine is no grade");
    }
    if talk.manner.is_some() && sky.breaks("manner") {
        return malformed("what is a manner?");
    }
    if talk.manner.is_some() && talk.grade != "directed" {
        return malformed("only the grade directed takes a manner");
    }
    if !["mp3", "pcm"].contains(&talk.form.as_str()) {
        return malformed("as is mp3 or pcm");
    }
    if talk.pace.is_some_and(|pace| !(0.5..=2.0).contains(&pace)) {
        return malformed("pace lies between 0.5 and 2");
    }
    if talk.say.trim().is_empty() {
        return malformed("there is nothing to say");
    }
    if talk.lean.is_some_and(|lean| !(-3.0..=3.0).contains(&lean)) {
        return malformed("lean lies between -3 and 3");
    }
    let most = if sky.breaks("limit") { MAX_CHARACTERS / 2 } else { MAX_CHARACTERS };
    if talk.say.chars().count() > most {
        return Err((StatusCode::PAYLOAD_TOO_LARGE, "too-long", format!("more than {most} characters")));
    }
    Ok((talk, *pitch))
}

/// Counts how a call ended, also where its caller leaves.
struct Tally {
    sky: Arc<Sky>,
    characters: u64,
    whole: bool,
}

impl Drop for Tally {
    fn drop(&mut self) {
        self.sky.count(|delivered| {
            if self.whole {
                delivered.whole += 1;
                delivered.characters += self.characters;
            } else {
                delivered.left += 1;
            }
        });
    }
}

impl Heron {
    fn tokens(&self) -> MutexGuard<'_, Vec<String>> {
        self.tokens.lock()
    }

    async fn talk(&self, talk: Talk, pitch: f64, forecast: Option<Forecast>) -> Answer {
        tokio::time::sleep(THINKING).await;
        let (codec, media_type) =
            if talk.form == "mp3" { (Codec::Mp3, "audio/mpeg") } else { (Codec::Pcm, "audio/x-heron-pcm") };
        let weather = forecast.map(|forecast| forecast.weather);
        if weather == Some(Weather::WrongType) {
            return page(
                "text/html",
                crate::serve::full("<html><p>Heron is moulting. Please come back later.</p></html>"),
            );
        }
        if weather == Some(Weather::Garbage) {
            let noise: Vec<u8> = (0..20_000u32).map(|n| (n.wrapping_mul(2_654_435_761) >> 13) as u8).collect();
            return page(media_type, crate::serve::full(noise));
        }
        let (sender, body) = streamed();
        let tally = Tally { sky: self.sky.clone(), characters: talk.say.chars().count() as u64, whole: false };
        let pace = talk.pace.filter(|_| !self.sky.breaks("pace")).unwrap_or(1.0);
        let pitch = pitch * (talk.lean.unwrap_or(0.0) / 12.0).exp2();
        let manner = Manner { pitch, rate: 1.5 * pace };
        let rate = if codec == Codec::Mp3 && self.sky.breaks("mp3") { 16_000 } else { RATE };
        let made = Format { bitrate: (codec == Codec::Mp3).then_some(64_000), ..Format::new(codec, rate) };
        let said =
            if self.sky.breaks("swallow") { talk.say.rsplit_once(' ').map(|(said, _)| said.to_owned()) } else { None };
        tokio::spawn(send(sender, said.unwrap_or(talk.say), manner, made, forecast, tally));
        page(media_type, body)
    }
}

fn page(media_type: &'static str, body: Body) -> Answer {
    let mut response = Response::new(body);
    response.headers_mut().insert(CONTENT_TYPE, HeaderValue::from_static(media_type));
    Ok(response)
}

async fn send(
    mut sender: futures::channel::mpsc::Sender<Result<Frame<Bytes>, Box<dyn std::error::Error + Send + Sync>>>,
    text: String,
    manner: Manner,
    made: Format,
    forecast: Option<Forecast>,
    mut tally: Tally,
) {
    let Ok(mut coder) = Transcoder::new(Format::new(Codec::Pcm, RATE), made) else { return };
    let speaker = Speaker::new(&text, manner, RATE);
    let cut = forecast.and_then(|forecast| forecast.cut(text.len() + 4));
    for (number, samples) in speaker.enumerate() {
        if cut.is_some_and(|cut| number > cut) {
            let _ = sender.send(Err("half".into())).await;
            return;
        }
        if let Some(forecast) = forecast {
            forecast.rest().await;
        }
        let pcm = pcm_bytes(&samples);
        let Ok(coded) = coder.push(&pcm.into()) else { return };
        if coded.is_empty() {
            continue;
        }
        tally.sky.count(|delivered| delivered.audio_bytes += coded.len() as u64);
        if sender.send(Ok(Frame::data(coded))).await.is_err() {
            return;
        }
        // Speaking is quick work here; others must get their turn.
        tokio::task::yield_now().await;
    }
    if let Ok(rest) = coder.finish()
        && sender.send(Ok(Frame::data(rest))).await.is_ok()
    {
        tally.whole = true;
    }
}
