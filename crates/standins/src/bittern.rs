//! Bittern: synthesis. Basic access; SSML in, base64 inside JSON out.
//!
//! `POST /{shore}/boom?bird={voice}&reel={mp3|wav}`, the shore being `north`
//! or `south`, takes a document of at most 7,200 bytes, tags included, and
//! answers `{"boom": {"sound": …, "bytes": …}}`. `GET /{shore}/birds?from={mark}`
//! lists its voices, two a page: `{"birds": [{"ring", "called", "tongues": [{"code"}],
//! "kind": "hen"|"cock", "years", "moods", "jobs"}], "more": mark or null}`.
//! Errors are `{"wrong": {"number": …, "because": …}}`.

use std::sync::Arc;

use base64::Engine as _;
use base64::engine::general_purpose::STANDARD;
use dispatcher_audio::{Codec, Format, encode_all};
use hyper::body::Incoming;
use hyper::header::{AUTHORIZATION, CONTENT_TYPE, HeaderValue, RETRY_AFTER};
use hyper::{Method, Request, Response, StatusCode};
use serde_json::json;

use crate::pour::send;
use crate::serve::{Answer, Body, Service, StandIn, admit, collect, full, header, json as in_json, serve};
use crate::spoken::{Stretch, spoken, text_of};
use crate::tone::{Manner, speak};
use crate::trouble::Trouble;
use crate::weather::{Forecast, Phase, Sky, Weather};

/// Voices: id and pitch factor.
const VOICES: [(&str, f64); 5] =
    [("rushes", 0.90), ("tussock", 1.04), ("estuario", 0.93), ("ashibe", 1.08), ("sedge", 1.11)];
const RATE: u32 = 24_000;
const MAX_BYTES: usize = 7_200;
const ELEMENTS: [&str; 8] = ["speak", "p", "s", "break", "prosody", "emphasis", "sub", "lang"];

struct Bittern {
    user: String,
    password: String,
    shore: String,
    sky: Arc<Sky>,
}

/// Starts bittern on a port of loopback (0: a free one); it knows this user,
/// at one of its shores or at `both`.
///
/// # Errors
/// When the port cannot be had.
pub async fn start(port: u16, user: &str, password: &str, shore: &str) -> std::io::Result<StandIn> {
    let bittern = Bittern { user: user.into(), password: password.into(), shore: shore.into(), sky: Arc::default() };
    serve(bittern, port).await
}

fn fault(status: StatusCode, number: u16, because: &str) -> Answer {
    let mut answer = in_json(status, &json!({"wrong": {"number": number, "because": because}}))?;
    if status == StatusCode::TOO_MANY_REQUESTS {
        answer.headers_mut().insert(RETRY_AFTER, HeaderValue::from_static("1"));
    }
    Ok(answer)
}

fn tell(trouble: Trouble, given: &str) -> Answer {
    let (number, because) = match trouble {
        Trouble::Crowded => (21, "the reeds are full".to_owned()),
        Trouble::Away => (22, "bittern is on the nest".to_owned()),
        Trouble::Expired => (31, "the password has lapsed".to_owned()),
        Trouble::NotActiveYet => (32, "this bird is not fledged yet".to_owned()),
        Trouble::WrongRegion => (33, "this bird belongs to the other shore".to_owned()),
        Trouble::MissingRole => (34, "this bird may not boom".to_owned()),
        Trouble::Unpaid => (35, "the account has no balance".to_owned()),
        Trouble::Echo => (41, format!("you came with {given}")),
    };
    fault(trouble.status(), number, &because)
}

/// One parameter of the address.
fn parameter(query: &str, name: &str) -> Option<String> {
    let found = query.split('&').find_map(|pair| pair.strip_prefix(name)?.strip_prefix('='));
    found.map(str::to_owned)
}

impl Service for Bittern {
    fn sky(&self) -> &Arc<Sky> {
        &self.sky
    }

    fn tell(&self, trouble: Trouble, given: &str) -> Answer {
        tell(trouble, given)
    }

    fn counts(&self, method: &Method, _: &str) -> bool {
        method == Method::POST
    }

    async fn call(self: Arc<Self>, request: Request<Incoming>) -> Answer {
        let path = request.uri().path().to_owned();
        let query = request.uri().query().unwrap_or_default().to_owned();
        let (phase, shore) = match (request.method(), path[1..].split_once('/')) {
            (&Method::POST, Some((shore @ ("north" | "south"), "boom"))) => (Phase::Call, shore),
            (&Method::GET, Some((shore @ ("north" | "south"), "birds"))) => (Phase::Catalogue, shore),
            _ => {
                let because = "bittern answers POST /{shore}/boom and GET /{shore}/birds at the shores north and south";
                return fault(StatusCode::NOT_FOUND, 11, because);
            }
        };
        let given = header(&request, AUTHORIZATION.as_str());
        let known = format!("Basic {}", STANDARD.encode(format!("{}:{}", self.user, self.password)));
        let forecast = match admit(&*self, phase, given == known, &given).await {
            Ok(forecast) => forecast,
            Err(answer) => return answer,
        };
        if ![shore, "both"].contains(&self.shore.as_str()) {
            self.sky.count(|delivered| delivered.refused += 1);
            return tell(Trouble::WrongRegion, "");
        }
        if phase == Phase::Catalogue {
            let from = parameter(&query, "from").and_then(|from| from.parse().ok()).unwrap_or(0);
            return birds(from, forecast.map(|forecast| forecast.weather));
        }
        let body = collect(request.into_body(), 1 << 20).await?;
        match check(&query, &body) {
            Ok((text, pitch, codec)) => self.boom(&text, pitch, codec, forecast),
            Err((number, because)) => {
                self.sky.count(|delivered| delivered.refused += 1);
                let status = if number == 52 { StatusCode::PAYLOAD_TOO_LARGE } else { StatusCode::BAD_REQUEST };
                fault(status, number, &because)
            }
        }
    }
}

/// A page of the list of voices.
fn birds(from: usize, weather: Option<Weather>) -> Answer {
    let mut birds = vec![
        json!({"ring": "rushes", "called": "Rushes", "tongues": [{"code": "en_GB"}], "kind": "cock", "years": 51,
            "moods": [], "jobs": ["announcements"]}),
        json!({"ring": "tussock", "called": "Tussock", "tongues": [{"code": "en_GB"}, {"code": "en_US"}], "kind": "hen",
            "years": 34, "moods": ["hushed"], "jobs": ["telephone", "reading"]}),
        json!({"ring": "estuario", "called": "Estuário", "tongues": [{"code": "pt_PT"}], "kind": "cock", "years": 40,
            "moods": [], "jobs": []}),
        json!({"ring": "ashibe", "called": "Ashibe", "tongues": [{"code": "ja_JP"}], "kind": "hen", "years": 29,
            "moods": [], "jobs": []}),
    ];
    match weather {
        Some(Weather::NewCatalogue) => {
            birds.remove(3);
            birds[0]["jobs"] = json!(["announcements", "fog"]);
            birds.push(json!({"ring": "sedge", "called": "Sedge", "tongues": [{"code": "fr_FR"}], "kind": "hen",
                "years": 25, "moods": [], "jobs": []}));
        }
        Some(Weather::WrongType | Weather::Garbage) => {
            let mut response = Response::new(full("<p>The reeds are closed.</p>"));
            response.headers_mut().insert(CONTENT_TYPE, HeaderValue::from_static("text/html"));
            return Ok(response);
        }
        _ => {}
    }
    let more = if from + 2 < birds.len() { json!((from + 2).to_string()) } else { json!(null) };
    let page: Vec<_> = birds.into_iter().skip(from).take(2).collect();
    in_json(StatusCode::OK, &json!({"birds": page, "more": more}))
}

/// Text, pitch and coding of a good request; else the number of the fault.
fn check(query: &str, body: &[u8]) -> Result<(Vec<Stretch>, f64, Codec), (u16, String)> {
    let bird = parameter(query, "bird").unwrap_or_default();
    let pitch = VOICES.iter().find(|(id, _)| *id == bird).map(|(_, pitch)| *pitch);
    let pitch = pitch.ok_or_else(|| (51, format!("no bird '{bird}' in these reeds")))?;
    let codec = match parameter(query, "reel").as_deref() {
        Some("mp3") => Codec::Mp3,
        Some("wav") => Codec::Wav,
        other => return Err((53, format!("reel is mp3 or wav, not {other:?}"))),
    };
    if body.len() > MAX_BYTES {
        return Err((52, format!("{} bytes, {MAX_BYTES} at most, tags included", body.len())));
    }
    let document = std::str::from_utf8(body).map_err(|_| (54, "the document is not UTF-8".to_owned()))?;
    let text = spoken(document, &ELEMENTS).map_err(|because| (54, because))?;
    if text.is_empty() { Err((55, "there is nothing to boom".into())) } else { Ok((text, pitch, codec)) }
}

impl Bittern {
    fn boom(&self, text: &[Stretch], pitch: f64, codec: Codec, forecast: Option<Forecast>) -> Answer {
        let weather = forecast.map(|forecast| forecast.weather);
        let samples: Vec<f32> = text
            .iter()
            .flat_map(|stretch| {
                let manner = Manner { pitch: pitch * stretch.pitch, rate: 1.5 * stretch.rate };
                let silence = (stretch.silence * f64::from(RATE) / 1_000.0).round() as usize;
                std::iter::repeat_n(0.0, silence).chain(speak(&stretch.text, manner, RATE))
            })
            .collect();
        let audio = match weather {
            Some(Weather::Garbage) => (0..20_000u32).map(|n| (n.wrapping_mul(2_654_435_761) >> 13) as u8).collect(),
            _ => encode_all(&samples, Format::new(codec, RATE))?,
        };
        let mut sound = STANDARD.encode(&audio);
        if weather == Some(Weather::BadBase64) {
            sound.insert(sound.len() / 2, '!');
        }
        let answer = json!({"boom": {"bytes": audio.len(), "sound": sound}}).to_string();
        let body = send(answer.into_bytes(), audio.len(), text_of(text).chars().count(), forecast, self.sky.clone());
        Ok(page(body, weather == Some(Weather::WrongType)))
    }
}

fn page(body: Body, wrong: bool) -> Response<Body> {
    let mut response = Response::new(body);
    let kind = if wrong { "text/html" } else { "application/json" };
    response.headers_mut().insert(CONTENT_TYPE, HeaderValue::from_static(kind));
    response
}
