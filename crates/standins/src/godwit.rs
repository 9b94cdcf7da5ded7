//! Godwit: synthesis. Client credentials (RFC 6749, section 4.4); a little
//! SSML in, raw PCM at 24 kHz out.
//!
//! `POST /burrow` gives a token that lives a minute. `POST /probe/{voice}`
//! takes `application/ssml+xml` of `speak`, `p`, `s` and `break`, and streams
//! 16 bits, little-endian. Errors are lines of `key: value`.

use std::collections::HashMap;
use std::sync::Arc;
use std::time::{Duration, Instant};

use base64::Engine as _;
use base64::engine::general_purpose::STANDARD;
use hyper::body::Incoming;
use hyper::header::{AUTHORIZATION, CONTENT_TYPE, HeaderValue, RETRY_AFTER};
use hyper::{Method, Request, Response, StatusCode};
use parking_lot::Mutex;
use serde_json::json;

use crate::pour::pour_stretches;
use crate::serve::{Answer, Service, StandIn, admit, collect, full, json as in_json, serve};
use crate::spoken::{Stretch, spoken, text_of};
use crate::tone::Manner;
use crate::trouble::Trouble;
use crate::weather::{Forecast, Phase, Sky, Weather};

/// Voices: id and pitch factor.
const VOICES: [(&str, f64); 4] = [("maren", 1.02), ("telmo", 0.87), ("ondina", 1.07), ("shio", 0.96)];
const RATE: u32 = 24_000;
const ELEMENTS: [&str; 4] = ["speak", "p", "s", "break"];
const MAX_CHARACTERS: usize = 4_400;
/// A token lives so long.
const LIFE: Duration = Duration::from_secs(60);

struct Godwit {
    id: String,
    secret: String,
    sky: Arc<Sky>,
    tokens: Mutex<HashMap<String, Instant>>,
}

/// Starts godwit on a port of loopback (0: a free one); it knows this client.
///
/// # Errors
/// When the port cannot be had.
pub async fn start(port: u16, id: &str, secret: &str) -> std::io::Result<StandIn> {
    let godwit = Godwit { id: id.into(), secret: secret.into(), sky: Arc::default(), tokens: Mutex::default() };
    serve(godwit, port).await
}

fn fault(status: StatusCode, kind: &str, said: &str) -> Answer {
    let mut response = Response::new(full(format!("kind: {kind}\nsaid: {said}\n")));
    *response.status_mut() = status;
    response.headers_mut().insert(CONTENT_TYPE, HeaderValue::from_static("text/plain; charset=utf-8"));
    if status == StatusCode::TOO_MANY_REQUESTS {
        response.headers_mut().insert(RETRY_AFTER, HeaderValue::from_static("1"));
    }
    Ok(response)
}

fn tell(trouble: Trouble, given: &str) -> Answer {
    let (kind, said) = match trouble {
        Trouble::Crowded => ("crowded", "the mud is full of birds".to_owned()),
        Trouble::Away => ("away", "godwit has flown".to_owned()),
        Trouble::Expired => ("stale", "this token has sunk".to_owned()),
        Trouble::NotActiveYet => ("unhatched", "this client is not live yet".to_owned()),
        Trouble::WrongRegion => ("elsewhere", "this client belongs to another flat".to_owned()),
        Trouble::MissingRole => ("role", "this client may not probe".to_owned()),
        Trouble::Unpaid => ("unpaid", "the account has no balance".to_owned()),
        Trouble::Echo => ("echo", format!("you came with {given}")),
    };
    fault(trouble.status(), kind, &said)
}

impl Service for Godwit {
    fn sky(&self) -> &Arc<Sky> {
        &self.sky
    }

    fn tell(&self, trouble: Trouble, given: &str) -> Answer {
        tell(trouble, given)
    }

    fn counts(&self, _: &Method, path: &str) -> bool {
        path != "/burrow"
    }

    async fn call(self: Arc<Self>, request: Request<Incoming>) -> Answer {
        let path = request.uri().path().to_owned();
        let given = request.headers().get(AUTHORIZATION).and_then(|value| value.to_str().ok());
        let given = given.unwrap_or_default().to_owned();
        if (request.method(), path.as_str()) == (&Method::POST, "/burrow") {
            if let Err(answer) = admit(&*self, Phase::Token, true, &given).await {
                return answer;
            }
            let body = collect(request.into_body(), 8_192).await?;
            return self.token(&given, &String::from_utf8_lossy(&body));
        }
        let (Some(voice), &Method::POST) = (path.strip_prefix("/probe/"), request.method()) else {
            return fault(StatusCode::NOT_FOUND, "nowhere", "godwit answers POST /burrow and POST /probe/{voice}");
        };
        let forecast = match admit(&*self, Phase::Call, self.knows(&given), &given).await {
            Ok(forecast) => forecast,
            Err(answer) => return answer,
        };
        let kind = request.headers().get(CONTENT_TYPE).cloned();
        let body = collect(request.into_body(), 1 << 20).await?;
        let checked = check(voice, kind.as_ref(), &body);
        match checked {
            Ok((text, pitch)) => Ok(self.probe(text, pitch, forecast)),
            Err((kind, said)) => {
                self.sky.count(|delivered| delivered.refused += 1);
                fault(StatusCode::UNPROCESSABLE_ENTITY, kind, &said)
            }
        }
    }
}

/// The text and the pitch of a good request; else the kind of fault.
fn check(voice: &str, kind: Option<&HeaderValue>, body: &[u8]) -> Result<(Vec<Stretch>, f64), (&'static str, String)> {
    let pitch = VOICES.iter().find(|(id, _)| *id == voice).map(|(_, pitch)| *pitch);
    let pitch = pitch.ok_or_else(|| ("no-voice", format!("'{voice}' does not wade here")))?;
    let kind = kind.and_then(|kind| kind.to_str().ok()).unwrap_or_default();
    if !kind.starts_with("application/ssml+xml") {
        return Err(("form", format!("'{kind}' is not application/ssml+xml")));
    }
    let document = std::str::from_utf8(body).map_err(|_| ("form", "the document is not UTF-8".to_owned()))?;
    let text = spoken(document, &ELEMENTS).map_err(|said| ("markup", said))?;
    match text_of(&text).chars().count() {
        0 => Err(("form", "there is nothing to say".into())),
        count if count > MAX_CHARACTERS => Err(("too-long", format!("{count} characters, {MAX_CHARACTERS} at most"))),
        _ => Ok((text, pitch)),
    }
}

impl Godwit {
    /// A token for a client that shows itself by Basic (RFC 6749, section
    /// 2.3.1), in the form of section 5.1.
    fn token(&self, given: &str, form: &str) -> Answer {
        let refuse = |error: &str| in_json(StatusCode::UNAUTHORIZED, &json!({"error": error}));
        let shown = given.strip_prefix("Basic ").and_then(|text| STANDARD.decode(text).ok());
        let wanted = format!("{}:{}", self.id, self.secret);
        if shown.as_deref() != Some(wanted.as_bytes()) {
            return refuse("invalid_client");
        }
        let fields: Vec<&str> = form.split('&').collect();
        if !fields.contains(&"grant_type=client_credentials") {
            return in_json(StatusCode::BAD_REQUEST, &json!({"error": "unsupported_grant_type"}));
        }
        if !fields.contains(&"scope=probe") {
            return in_json(StatusCode::BAD_REQUEST, &json!({"error": "invalid_scope"}));
        }
        let mut tokens = self.tokens.lock();
        tokens.retain(|_, until| *until > Instant::now());
        let number = tokens.len() as u64 + u64::from(std::process::id());
        let since = std::time::SystemTime::now().duration_since(std::time::UNIX_EPOCH).unwrap_or_default();
        let token = format!("wader-{number:x}-{:x}", since.as_nanos());
        tokens.insert(token.clone(), Instant::now() + LIFE);
        let answer = json!({"access_token": token, "token_type": "Bearer", "expires_in": LIFE.as_secs()});
        in_json(StatusCode::OK, &answer)
    }

    fn knows(&self, given: &str) -> bool {
        // Foul weather over the token's house makes every token void.
        if self.sky.forecast().is_some_and(|forecast| forecast.phase == Phase::Token) {
            return false;
        }
        let tokens = self.tokens.lock();
        given.strip_prefix("Bearer ").and_then(|token| tokens.get(token)).is_some_and(|until| *until > Instant::now())
    }

    fn probe(&self, text: Vec<Stretch>, pitch: f64, forecast: Option<Forecast>) -> Response<crate::serve::Body> {
        let weather = forecast.map(|forecast| forecast.weather);
        let kind = if weather == Some(Weather::WrongType) { "text/html" } else { "audio/x-godwit-raw" };
        let body = pour_stretches(text, Manner { pitch, rate: 1.5 }, RATE, Vec::new(), forecast, self.sky.clone());
        let mut response = Response::new(body);
        response.headers_mut().insert(CONTENT_TYPE, HeaderValue::from_static(kind));
        response
    }
}
