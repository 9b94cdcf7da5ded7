//! Sanderling: synthesis of long texts, in no hurry. A key in a header; a job
//! is made, looked at until it is done, and its audio downloaded.
//!
//! `POST /runs` with `{"say", "who", "as": "mp3"|"flac"}` answers 202 and
//! `{"run": id}`; `GET /runs/{id}` answers `{"run", "stage": "waiting" |
//! "running" | "done" | "lost", "washed_up"?}`, the last being an address that
//! asks for no key. Header `Sanderling-Key`. Errors are `{"slip": [code, text]}`.

use std::collections::HashMap;
use std::sync::Arc;
use std::time::{Duration, Instant};

use dispatcher_audio::{Codec, Format, encode_all};
use hyper::body::Incoming;
use hyper::header::{CONTENT_TYPE, HeaderValue, RETRY_AFTER};
use hyper::{Method, Request, Response, StatusCode};
use parking_lot::Mutex;
use serde::Deserialize;
use serde_json::json;

use crate::pour::send;
use crate::serve::{Answer, Service, StandIn, admit, collect, full, header, json as in_json, serve};
use crate::tone::{Manner, speak};
use crate::trouble::Trouble;
use crate::weather::{Phase, Sky, Weather};

const VOICES: [(&str, f64); 3] = [("sand", 0.98), ("maré", 1.07), ("nagisa", 0.92)];
const RATE: u32 = 24_000;
const MAX_CHARACTERS: usize = 90_000;
/// How long a run waits, and how long it takes then.
const WAITING: Duration = Duration::from_millis(120);
const RUNNING: Duration = Duration::from_millis(200);

struct Sanderling {
    key: String,
    runs: Mutex<HashMap<String, (Order, Instant)>>,
    sky: Arc<Sky>,
}

/// Starts sanderling on a port of loopback (0: a free one); it takes this key.
///
/// # Errors
/// When the port cannot be had.
pub async fn start(port: u16, key: &str) -> std::io::Result<StandIn> {
    serve(Sanderling { key: key.into(), runs: Mutex::default(), sky: Arc::default() }, port).await
}

#[derive(Clone, Deserialize)]
#[serde(deny_unknown_fields)]
struct Order {
    say: String,
    who: String,
    #[serde(rename = "as")]
    form: String,
}

fn slip(status: StatusCode, code: &str, text: &str) -> Answer {
    in_json(status, &json!({"slip": [code, text]}))
}

impl Service for Sanderling {
    fn sky(&self) -> &Arc<Sky> {
        &self.sky
    }

    fn counts(&self, method: &Method, _: &str) -> bool {
        method == Method::POST
    }

    fn tell(&self, trouble: Trouble, given: &str) -> Answer {
        let (code, text) = match trouble {
            Trouble::Crowded => ("crowd", "too many runs at once".to_owned()),
            Trouble::Away => ("ebb", "the beach is bare".to_owned()),
            Trouble::Expired => ("key", "this key opens nothing".to_owned()),
            Trouble::NotActiveYet => ("soon", "this key is not live yet".to_owned()),
            Trouble::WrongRegion => ("beach", "this key belongs to another beach".to_owned()),
            Trouble::MissingRole => ("role", "this key may not run".to_owned()),
            Trouble::Unpaid => ("unpaid", "the account has no balance".to_owned()),
            Trouble::Echo => ("echo", format!("you came with {given}")),
        };
        let mut answer = slip(trouble.status(), code, &text)?;
        if trouble == Trouble::Crowded {
            answer.headers_mut().insert(RETRY_AFTER, HeaderValue::from_static("1"));
        }
        Ok(answer)
    }

    async fn call(self: Arc<Self>, request: Request<Incoming>) -> Answer {
        let (method, path) = (request.method().clone(), request.uri().path().to_owned());
        let given = header(&request, "sanderling-key");
        let known = given == self.key;
        match (&method, path.split('/').collect::<Vec<_>>().as_slice()) {
            (&Method::POST, ["", "runs"]) => match admit(&*self, Phase::Call, known, &given).await {
                Err(answer) => answer,
                Ok(_) => self.begin(&collect(request.into_body(), 4 << 20).await?),
            },
            (&Method::GET, ["", "runs", id]) => match admit(&*self, Phase::Poll, known, &given).await {
                Err(answer) => answer,
                Ok(forecast) => self.look(id, forecast.map(|forecast| forecast.weather)),
            },
            (&Method::GET, ["", "tideline", id]) => match admit(&*self, Phase::Link, true, &given).await {
                Err(answer) => answer,
                Ok(_) if !given.is_empty() => {
                    slip(StatusCode::BAD_REQUEST, "key", "keys do not belong on the tideline")
                }
                Ok(forecast) => self.hand_over(id, forecast),
            },
            _ => slip(StatusCode::NOT_FOUND, "lost", "sanderling answers POST /runs and GET /runs/{id}"),
        }
    }
}

impl Sanderling {
    fn begin(&self, body: &[u8]) -> Answer {
        let refuse = |status, code: &str, text: &str| {
            self.sky.count(|delivered| delivered.refused += 1);
            slip(status, code, text)
        };
        let order: Order = match serde_json::from_slice(body) {
            Ok(order) => order,
            Err(error) => return refuse(StatusCode::BAD_REQUEST, "form", &error.to_string()),
        };
        if !VOICES.iter().any(|(id, _)| *id == order.who) {
            return refuse(StatusCode::BAD_REQUEST, "who", "nobody of this name runs here");
        }
        if !["mp3", "flac"].contains(&order.form.as_str()) || order.say.trim().is_empty() {
            return refuse(StatusCode::BAD_REQUEST, "form", "as is mp3 or flac, and there is something to say");
        }
        if order.say.chars().count() > MAX_CHARACTERS {
            return refuse(StatusCode::PAYLOAD_TOO_LARGE, "long", "more than 90,000 characters");
        }
        let mut runs = self.runs.lock();
        let id = format!("r{}", runs.len() + 1);
        runs.insert(id.clone(), (order, Instant::now()));
        in_json(StatusCode::ACCEPTED, &json!({"run": id}))
    }

    fn find(&self, id: &str) -> Option<(Order, Instant)> {
        self.runs.lock().get(id).cloned()
    }

    fn look(&self, id: &str, weather: Option<Weather>) -> Answer {
        let Some((_, begun)) = self.find(id) else {
            return slip(StatusCode::NOT_FOUND, "lost", "no such run");
        };
        if weather == Some(Weather::Half) {
            return in_json(StatusCode::OK, &json!({"run": id, "stage": "lost", "slip": ["wave", "a wave took it"]}));
        }
        if matches!(weather, Some(Weather::Garbage | Weather::WrongType)) {
            return Ok(Response::new(full("<p>Sanderling has run away.</p>")));
        }
        let age = begun.elapsed();
        match age {
            _ if age < WAITING => in_json(StatusCode::OK, &json!({"run": id, "stage": "waiting"})),
            _ if age < WAITING + RUNNING => in_json(StatusCode::OK, &json!({"run": id, "stage": "running"})),
            _ => in_json(StatusCode::OK, &json!({"run": id, "stage": "done", "washed_up": format!("/tideline/{id}")})),
        }
    }

    fn hand_over(&self, id: &str, forecast: Option<crate::weather::Forecast>) -> Answer {
        let Some((order, _)) = self.find(id) else {
            return slip(StatusCode::NOT_FOUND, "lost", "the tide has taken it");
        };
        let pitch = VOICES.iter().find(|(name, _)| *name == order.who).map_or(1.0, |(_, pitch)| *pitch);
        let codec = if order.form == "mp3" { Codec::Mp3 } else { Codec::Flac };
        let format = Format { bitrate: (codec == Codec::Mp3).then_some(40_000), ..Format::new(codec, RATE) };
        let weather = forecast.map(|forecast| forecast.weather);
        let audio = match weather {
            Some(Weather::Garbage) => (0..20_000u32).map(|n| (n.wrapping_mul(2_654_435_761) >> 13) as u8).collect(),
            _ => encode_all(&speak(&order.say, Manner { pitch, rate: 1.5 }, RATE), format)?,
        };
        let kind = match (weather, codec) {
            (Some(Weather::WrongType), _) => "text/html",
            (_, Codec::Mp3) => "audio/mpeg",
            _ => "audio/flac",
        };
        let bytes = audio.len();
        let body = send(audio, bytes, order.say.chars().count(), forecast, self.sky.clone());
        let mut response = Response::new(body);
        response.headers_mut().insert(CONTENT_TYPE, HeaderValue::from_static(kind));
        Ok(response)
    }
}
