//! Curlew: synthesis. Two headers of its own; a voice needs a handle first.
//!
//! `GET /moors/{voice}` answers `{"perch": handle}`; `POST /cries/{handle}`
//! takes `{"cry": text, "mood"?: {"name", "step"}, "reel": "mp3"|"wav"}` and
//! streams the audio. Moods calm, brisk and grave, in steps 1 to 5. Headers
//! `Curlew-Colony` and `Curlew-Call`. Errors are `{"alas": {"code", "told"}}`.

use std::sync::Arc;

use dispatcher_audio::{Codec, Format, Layout, encode_all, wav_header};
use hyper::body::Incoming;
use hyper::header::{CONTENT_TYPE, HeaderValue, RETRY_AFTER};
use hyper::{Method, Request, Response, StatusCode};
use serde::Deserialize;
use serde_json::json;

use crate::pour::{pour, send};
use crate::serve::{Answer, Service, StandIn, admit, collect, full, header, json as in_json, serve};
use crate::tone::{Manner, speak};
use crate::trouble::Trouble;
use crate::weather::{Forecast, Phase, Sky, Weather};

const VOICES: [(&str, f64); 4] = [("moor", 1.02), ("fell", 0.87), ("serrane", 1.05), ("nagi", 0.95)];
const MOODS: [&str; 3] = ["calm", "brisk", "grave"];
const RATE: u32 = 22_050;
const MAX_CHARACTERS: usize = 1_800;

struct Curlew {
    colony: String,
    call: String,
    sky: Arc<Sky>,
}

/// Starts curlew on a port of loopback (0: a free one); it knows this colony
/// and its call.
///
/// # Errors
/// When the port cannot be had.
pub async fn start(port: u16, colony: &str, call: &str) -> std::io::Result<StandIn> {
    serve(Curlew { colony: colony.into(), call: call.into(), sky: Arc::default() }, port).await
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
struct Cry {
    cry: String,
    #[serde(default)]
    mood: Option<Mood>,
    reel: String,
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
struct Mood {
    name: String,
    step: u8,
}

fn alas(status: StatusCode, code: &str, told: &str) -> Answer {
    in_json(status, &json!({"alas": {"code": code, "told": told}}))
}

impl Service for Curlew {
    fn sky(&self) -> &Arc<Sky> {
        &self.sky
    }

    fn counts(&self, method: &Method, _: &str) -> bool {
        method == Method::POST
    }

    fn tell(&self, trouble: Trouble, given: &str) -> Answer {
        let (code, told) = match trouble {
            Trouble::Crowded => ("flocking", "the moor is full".to_owned()),
            Trouble::Away => ("migrating", "curlew is on the coast".to_owned()),
            Trouble::Expired => ("unknown-call", "nobody here has this call".to_owned()),
            Trouble::NotActiveYet => ("chick", "this colony is not live yet".to_owned()),
            Trouble::WrongRegion => ("other-moor", "this colony nests on another moor".to_owned()),
            Trouble::MissingRole => ("mute", "this colony may not cry".to_owned()),
            Trouble::Unpaid => ("starved", "the account has no balance".to_owned()),
            Trouble::Echo => ("echo", format!("you came with {given}")),
        };
        let mut answer = alas(trouble.status(), code, &told)?;
        if trouble == Trouble::Crowded {
            answer.headers_mut().insert(RETRY_AFTER, HeaderValue::from_static("1"));
        }
        Ok(answer)
    }

    async fn call(self: Arc<Self>, request: Request<Incoming>) -> Answer {
        let (method, path) = (request.method().clone(), request.uri().path().to_owned());
        let given = (header(&request, "curlew-colony"), header(&request, "curlew-call"));
        let known = given == (self.colony.clone(), self.call.clone());
        let given = format!("{} {}", given.0, given.1);
        if let (&Method::GET, Some(voice)) = (&method, path.strip_prefix("/moors/")) {
            if let Err(answer) = admit(&*self, Phase::Catalogue, known, &given).await {
                return answer;
            }
            return match VOICES.iter().position(|(id, _)| *id == voice) {
                Some(at) => in_json(StatusCode::OK, &json!({"perch": format!("p{}{at}", self.colony.len())})),
                None => alas(StatusCode::NOT_FOUND, "no-bird", &format!("'{voice}' is not on this moor")),
            };
        }
        let (&Method::POST, Some(perch)) = (&method, path.strip_prefix("/cries/")) else {
            return alas(StatusCode::NOT_FOUND, "lost", "curlew answers GET /moors/{voice} and POST /cries/{perch}");
        };
        let forecast = match admit(&*self, Phase::Call, known, &given).await {
            Ok(forecast) => forecast,
            Err(answer) => return answer,
        };
        let handle = perch.strip_prefix(&format!("p{}", self.colony.len())).and_then(|at| at.parse::<usize>().ok());
        let voice = handle.and_then(|at| VOICES.get(at)).map(|(_, pitch)| *pitch);
        let body = collect(request.into_body(), 1 << 20).await?;
        match check(voice, &body) {
            Ok((cry, pitch)) => self.cry(cry, pitch, forecast),
            Err((code, told)) => {
                self.sky.count(|delivered| delivered.refused += 1);
                let status = if code == "no-perch" { StatusCode::NOT_FOUND } else { StatusCode::UNPROCESSABLE_ENTITY };
                alas(status, code, &told)
            }
        }
    }
}

fn check(voice: Option<f64>, body: &[u8]) -> Result<(Cry, f64), (&'static str, String)> {
    let pitch = voice.ok_or_else(|| ("no-perch", "this perch is empty; ask for another".to_owned()))?;
    let cry: Cry = serde_json::from_slice(body).map_err(|error| ("garbled", error.to_string()))?;
    let odd = |mood: &&Mood| !MOODS.contains(&mood.name.as_str()) || !(1..=5).contains(&mood.step);
    if cry.mood.as_ref().filter(odd).is_some() {
        return Err(("mood", format!("moods are {} in steps 1 to 5", MOODS.join(", "))));
    }
    if !["mp3", "wav"].contains(&cry.reel.as_str()) {
        return Err(("garbled", "reel is mp3 or wav".into()));
    }
    match cry.cry.chars().count() {
        0 => Err(("garbled", "there is nothing to cry".into())),
        count if count > MAX_CHARACTERS => Err(("too-long", format!("{count} characters, {MAX_CHARACTERS} at most"))),
        _ => Ok((cry, pitch)),
    }
}

impl Curlew {
    fn cry(&self, cry: Cry, pitch: f64, forecast: Option<Forecast>) -> Answer {
        // A mood is heard as tempo: brisk is quicker by a tenth at its fullest.
        let mood = cry.mood.as_ref().map_or(0.0, |mood| match mood.name.as_str() {
            "brisk" => 0.02 * f64::from(mood.step),
            "grave" => -0.02 * f64::from(mood.step),
            _ => 0.0,
        });
        let manner = Manner { pitch, rate: 1.5 * (1.0 + mood) };
        let weather = forecast.map(|forecast| forecast.weather);
        let (kind, body) = if matches!(weather, Some(Weather::WrongType | Weather::Garbage)) {
            ("text/html", full("<p>Curlew is moulting.</p>"))
        } else if cry.reel == "wav" {
            let head = wav_header(Layout { rate: RATE, channels: 1 }, None);
            ("audio/wav", pour(cry.cry, manner, RATE, head, forecast, self.sky.clone()))
        } else {
            let format = Format { bitrate: Some(40_000), ..Format::new(Codec::Mp3, RATE) };
            let audio = encode_all(&speak(&cry.cry, manner, RATE), format)?;
            let (bytes, characters) = (audio.len(), cry.cry.chars().count());
            ("audio/mpeg", send(audio, bytes, characters, forecast, self.sky.clone()))
        };
        let mut response = Response::new(body);
        response.headers_mut().insert(CONTENT_TYPE, HeaderValue::from_static(kind));
        Ok(response)
    }
}
