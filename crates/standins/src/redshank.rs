//! Redshank: recognition of long recordings. A job is opened, the audio put in
//! numbered parts, the job closed, and looked at until it is done.
//!
//! `POST /flights` with `{"kind": "wav"|"flac", "rate", "tongue"?, "who"?,
//! "others"?}` answers `{"flight": id}`; `PUT /flights/{id}/legs/{n}` takes at
//! most 512 KiB; `POST /flights/{id}/land` closes; `GET /flights/{id}` answers
//! 202 until it has landed, then `{"tongue", "calls": [{"bird", "said",
//! "notes": [{"w", "at", "for", "sure"}]}], "others": [{"said", "sure"}]}`,
//! times in units of 100 ns, sureness in percent. The declared rate must be
//! that of the audio. Header `Redshank-Pass`. Errors are plain text:
//! `CODE: text`.

use std::collections::{BTreeMap, HashMap};
use std::sync::Arc;
use std::time::{Duration, Instant};

use bytes::Bytes;
use hyper::body::Incoming;
use hyper::header::{CONTENT_TYPE, HeaderValue, RETRY_AFTER};
use hyper::{Method, Request, Response, StatusCode};
use parking_lot::Mutex;
use serde::Deserialize;
use serde_json::{Value, json};

use crate::listen::{Listened, line, listen};
use crate::serve::{Answer, Service, StandIn, admit, after, collect, full, header, json as in_json, serve};
use crate::trouble::Trouble;
use crate::weather::{Phase, Sky, Weather};

const MAX_LEG: usize = 512 << 10;
const LANDING: Duration = Duration::from_millis(150);

struct Redshank {
    pass: String,
    flights: Mutex<HashMap<String, Flight>>,
    sky: Arc<Sky>,
}

/// Starts redshank on a port of loopback (0: a free one); it takes this pass.
///
/// # Errors
/// When the port cannot be had.
pub async fn start(port: u16, pass: &str) -> std::io::Result<StandIn> {
    serve(Redshank { pass: pass.into(), flights: Mutex::default(), sky: Arc::default() }, port).await
}

#[derive(Clone, Deserialize)]
#[serde(deny_unknown_fields)]
struct Plan {
    kind: String,
    rate: u32,
    #[serde(default)]
    tongue: Option<String>,
    #[serde(default)]
    who: bool,
    #[serde(default)]
    others: Option<u32>,
}

struct Flight {
    plan: Plan,
    legs: BTreeMap<u32, Bytes>,
    landed: Option<(Instant, Result<Value, String>)>,
}

fn told(status: StatusCode, code: &str, text: &str) -> Answer {
    let mut response = Response::new(full(format!("{code}: {text}")));
    *response.status_mut() = status;
    response.headers_mut().insert(CONTENT_TYPE, HeaderValue::from_static("text/plain"));
    Ok(response)
}

impl Service for Redshank {
    fn sky(&self) -> &Arc<Sky> {
        &self.sky
    }

    fn counts(&self, method: &Method, path: &str) -> bool {
        method == Method::POST && path == "/flights"
    }

    fn tell(&self, trouble: Trouble, given: &str) -> Answer {
        let (code, text) = match trouble {
            Trouble::Crowded => ("FULL", "the sky is full".to_owned()),
            Trouble::Away => ("GROUNDED", "redshank does not fly today".to_owned()),
            Trouble::Expired => ("PASS", "this pass has run out".to_owned()),
            Trouble::NotActiveYet => ("UNFLEDGED", "this pass is not live yet".to_owned()),
            Trouble::WrongRegion => ("FLYWAY", "this pass is for another flyway".to_owned()),
            Trouble::MissingRole => ("ROLE", "this pass does not let one listen".to_owned()),
            Trouble::Unpaid => ("FARE", "the fare is not paid".to_owned()),
            Trouble::Echo => ("ECHO", format!("you came with {given}")),
        };
        let mut answer = told(trouble.status(), code, &text)?;
        if trouble == Trouble::Crowded {
            answer.headers_mut().insert(RETRY_AFTER, HeaderValue::from_static("1"));
        }
        Ok(answer)
    }

    async fn call(self: Arc<Self>, request: Request<Incoming>) -> Answer {
        let (method, path) = (request.method().clone(), request.uri().path().to_owned());
        let given = header(&request, "redshank-pass");
        let known = given == self.pass;
        let parts: Vec<&str> = path.split('/').skip(1).collect();
        let phase = match (&method, parts.as_slice()) {
            (&Method::POST, ["flights"]) => Phase::Call,
            (&Method::GET, ["flights", _]) => Phase::Poll,
            _ => Phase::Link,
        };
        let forecast = match admit(&*self, phase, known, &given).await {
            Ok(forecast) => forecast,
            Err(answer) => return after(request, answer).await,
        };
        let weather = forecast.map(|forecast| forecast.weather);
        if matches!(weather, Some(Weather::Garbage | Weather::WrongType)) {
            return after(request, Ok(Response::new(full("<p>Redshank is on the mud.</p>")))).await;
        }
        match (&method, parts.as_slice()) {
            (&Method::POST, ["flights"]) => self.open(&collect(request.into_body(), 64 << 10).await?),
            (&Method::PUT, ["flights", id, "legs", number]) => {
                let Ok(body) = collect(request.into_body(), MAX_LEG).await else {
                    return told(StatusCode::PAYLOAD_TOO_LARGE, "HEAVY", "a leg has at most 512 KiB");
                };
                self.leg(id, number, body)
            }
            (&Method::POST, ["flights", id, "land"]) => self.land(id).await,
            (&Method::GET, ["flights", id]) => self.look(id, weather),
            _ => told(StatusCode::NOT_FOUND, "LOST", "redshank answers below /flights"),
        }
    }
}

impl Redshank {
    fn flights(&self) -> parking_lot::MutexGuard<'_, HashMap<String, Flight>> {
        self.flights.lock()
    }

    fn open(&self, body: &[u8]) -> Answer {
        let plan: Plan = match serde_json::from_slice(body) {
            Ok(plan) => plan,
            Err(error) => return told(StatusCode::BAD_REQUEST, "PLAN", &error.to_string()),
        };
        if !["wav", "flac"].contains(&plan.kind.as_str()) {
            return told(StatusCode::BAD_REQUEST, "PLAN", "kind is wav or flac");
        }
        let mut flights = self.flights();
        let id = format!("f{}", flights.len() + 1);
        flights.insert(id.clone(), Flight { plan, legs: BTreeMap::new(), landed: None });
        in_json(StatusCode::CREATED, &json!({"flight": id}))
    }

    fn leg(&self, id: &str, number: &str, body: Bytes) -> Answer {
        let mut flights = self.flights();
        let Some(flight) = flights.get_mut(id) else { return told(StatusCode::NOT_FOUND, "LOST", "no such flight") };
        let Ok(number @ 1..) = number.parse::<u32>() else {
            return told(StatusCode::BAD_REQUEST, "LEG", "legs are counted from 1");
        };
        if flight.landed.is_some() {
            return told(StatusCode::CONFLICT, "LANDED", "this flight has landed");
        }
        self.sky.count(|delivered| delivered.audio_bytes += body.len() as u64);
        flight.legs.insert(number, body);
        in_json(StatusCode::OK, &json!({"leg": number}))
    }

    async fn land(&self, id: &str) -> Answer {
        let taken = self.flights().get(id).map(|flight| {
            let whole: Vec<u8> = flight.legs.values().flat_map(|leg| leg.iter().copied()).collect();
            let gap = flight.legs.keys().zip(1..).any(|(leg, at)| *leg != at);
            (flight.plan.clone(), whole, gap)
        });
        let Some((plan, sound, gap)) = taken else { return told(StatusCode::NOT_FOUND, "LOST", "no such flight") };
        if gap || sound.is_empty() {
            return told(StatusCode::CONFLICT, "LEG", "a leg is missing");
        }
        let heard = tokio::task::spawn_blocking(move || heard(&plan, &sound)).await?;
        if let Some(flight) = self.flights().get_mut(id) {
            flight.landed = Some((Instant::now(), heard));
        }
        in_json(StatusCode::ACCEPTED, &json!({"flight": id, "landing": true}))
    }

    fn look(&self, id: &str, weather: Option<Weather>) -> Answer {
        let flights = self.flights();
        match flights.get(id).map(|flight| &flight.landed) {
            None => told(StatusCode::NOT_FOUND, "LOST", "no such flight"),
            Some(Some((since, heard))) if since.elapsed() >= LANDING => match heard {
                Err(text) => told(StatusCode::UNPROCESSABLE_ENTITY, "NOISE", text),
                Ok(answer) if weather == Some(Weather::Half) => {
                    let text = answer.to_string();
                    let body = crate::pour::send(text.into_bytes(), 0, 0, Some(half()), self.sky.clone());
                    Ok(Response::new(body))
                }
                Ok(answer) => {
                    self.sky.count(|delivered| delivered.whole += 1);
                    in_json(StatusCode::OK, answer)
                }
            },
            Some(_) => in_json(StatusCode::ACCEPTED, &json!({"flight": id})),
        }
    }
}

fn half() -> crate::weather::Forecast {
    crate::weather::Forecast {
        weather: Weather::Half,
        phase: Phase::Poll,
        skip: 0,
        calls: None,
        share: 0.5,
        pause: None,
    }
}

/// What is heard in a recording.
fn heard(plan: &Plan, sound: &[u8]) -> Result<Value, String> {
    let Listened { utterances, rate, .. } = listen(sound, None).map_err(|error| error.to_string())?;
    if rate != plan.rate {
        return Err(format!("declared were {} Hz, and it has {rate}", plan.rate));
    }
    if utterances.is_empty() {
        return Err("there is nothing in it that redshank understands".into());
    }
    let units = |seconds: f64| (seconds * 1e7).round() as i64;
    // Voices are 3 % apart: a pitch tells who speaks.
    let mut pitches: Vec<f64> = Vec::new();
    let mut calls = Vec::new();
    for utterance in &utterances {
        let known = pitches.iter().position(|pitch| (pitch / utterance.pitch - 1.0).abs() < 0.012);
        let bird = known.unwrap_or(pitches.len());
        if known.is_none() {
            pitches.push(utterance.pitch);
        }
        let note = |word: &crate::tone::HeardWord| json!({"w": word.text, "at": units(word.start), "for": units(word.end - word.start), "sure": word.confidence * 100.0});
        let notes: Vec<Value> = utterance.words.iter().map(note).collect();
        let mut call = json!({"said": utterance.text, "notes": notes});
        if plan.who {
            call["bird"] = json!(format!("ring-{}", 40 + bird));
        }
        calls.push(call);
    }
    let whole = line(&utterances);
    let other = |at: u32| match at {
        0 => json!({"said": whole.to_lowercase(), "sure": 61.5}),
        _ => json!({"said": whole.to_uppercase(), "sure": 12.0}),
    };
    let others: Vec<Value> = (0..plan.others.unwrap_or(0).min(2)).map(other).collect();
    Ok(json!({"tongue": plan.tongue, "calls": calls, "others": others}))
}
