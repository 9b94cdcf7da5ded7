//! Turnstone: recognition. Bearer token; the audio as a raw body with a
//! metadata header, or as a form.
//!
//! `POST /hear` with the header `Turnstone-Slate: {"tongue": …, "wander": …,
//! "earlier": …}` (JSON in ASCII), or a form with the parts `sound` and
//! `slate`. At most 18 MB. The answer is `{"heard": {"line", "tongue",
//! "parts": [{"w", "from", "to", "sure"}]}, "span"}`, times in milliseconds.
//! Errors are `{"trouble": {"kind", "say"}}`.

use std::sync::Arc;
use std::time::Duration;

use hyper::body::Incoming;
use hyper::header::{AUTHORIZATION, CONTENT_TYPE, HeaderValue, RETRY_AFTER};
use hyper::{Method, Request, StatusCode};
use serde::Deserialize;
use serde_json::json;

use crate::listen::{Listened, line, listen};
use crate::serve::{Answer, Service, StandIn, after, collect, full, header, json, serve};
use crate::trouble::Trouble;
use crate::weather::{Forecast, Sky, Weather};

const MAX_BYTES: usize = 18_000_000;

struct Turnstone {
    token: String,
    sky: Arc<Sky>,
}

/// Starts turnstone on a port of loopback (0: a free one); it takes this token.
///
/// # Errors
/// When the port cannot be had.
pub async fn start(port: u16, token: &str) -> std::io::Result<StandIn> {
    serve(Turnstone { token: token.into(), sky: Arc::default() }, port).await
}

#[derive(Default, Deserialize)]
#[serde(deny_unknown_fields)]
struct Slate {
    #[serde(default)]
    tongue: Option<String>,
    /// 0 to 1: how far it may wander from the likeliest words.
    #[serde(default)]
    wander: Option<f64>,
    /// Lines that came before.
    #[serde(default, rename = "earlier")]
    _earlier: Option<String>,
}

fn trouble(status: StatusCode, kind: &str, say: &str) -> Answer {
    json(status, &json!({"trouble": {"kind": kind, "say": say}}))
}

impl Service for Turnstone {
    fn sky(&self) -> &Arc<Sky> {
        &self.sky
    }

    fn tell(&self, _: Trouble, _: &str) -> Answer {
        trouble(StatusCode::TOO_MANY_REQUESTS, "flock", "the beach is full")
    }

    async fn call(self: Arc<Self>, request: Request<Incoming>) -> Answer {
        if request.uri().path() != "/hear" || request.method() != Method::POST {
            return trouble(StatusCode::NOT_FOUND, "lost", "turnstone answers POST /hear");
        }
        let given =
            request.headers().get(AUTHORIZATION).and_then(|value| value.to_str().ok()).unwrap_or_default().to_owned();
        let forecast = self.sky.next();
        if let Some(answer) = foul(forecast.as_ref(), &given).await {
            self.sky.count(|delivered| delivered.refused += 1);
            return after(request, answer).await;
        }
        if given != format!("Bearer {}", self.token) {
            self.sky.count(|delivered| delivered.refused += 1);
            let answer = trouble(StatusCode::UNAUTHORIZED, "unringed", "this token carries no ring of ours");
            return after(request, answer).await;
        }
        self.sky.count(|delivered| delivered.calls += 1);
        let answer = self.hear(request).await?;
        self.sky.count(
            |delivered| if answer.status().is_success() { delivered.whole += 1 } else { delivered.refused += 1 },
        );
        Ok(answer)
    }
}

async fn foul(forecast: Option<&Forecast>, given: &str) -> Option<Answer> {
    Some(match forecast?.weather {
        Weather::Throttled => trouble(StatusCode::TOO_MANY_REQUESTS, "flock", "the beach is full").map(|mut answer| {
            answer.headers_mut().insert(RETRY_AFTER, HeaderValue::from_static("1"));
            answer
        }),
        Weather::Down => trouble(StatusCode::BAD_GATEWAY, "tide", "the beach is under water"),
        Weather::Reset => Err("reset".into()),
        Weather::Becalmed => {
            tokio::time::sleep(Duration::from_secs(120)).await;
            Err("becalmed".into())
        }
        Weather::Expired => trouble(StatusCode::UNAUTHORIZED, "moulted", "this token has expired"),
        Weather::NotActiveYet => trouble(StatusCode::FORBIDDEN, "egg", "this token is not live yet"),
        Weather::WrongRegion => trouble(StatusCode::FORBIDDEN, "flyway", "this token belongs to another flyway"),
        Weather::MissingRole => trouble(StatusCode::FORBIDDEN, "role", "this token may not listen"),
        Weather::Unpaid => trouble(StatusCode::PAYMENT_REQUIRED, "empty", "the account has no balance"),
        Weather::Echo => trouble(StatusCode::BAD_REQUEST, "echo", &format!("you came with {given}")),
        Weather::Garbage | Weather::WrongType => Ok(hyper::Response::new(full("<html>Turnstone is roosting.</html>"))),
        _ => return None,
    })
}

impl Turnstone {
    async fn hear(&self, request: Request<Incoming>) -> Answer {
        let too_large = || trouble(StatusCode::PAYLOAD_TOO_LARGE, "heavy", "more than 18 MB");
        let content_type = header(&request, CONTENT_TYPE.as_str());
        let slate = header(&request, "turnstone-slate");
        let Ok(body) = collect(request.into_body(), MAX_BYTES).await else { return too_large() };
        let (sound, slate) = match multer::parse_boundary(&content_type) {
            Err(_) => (body, slate),
            Ok(boundary) => match form(body, boundary).await {
                Ok(parts) => parts,
                Err(error) => return trouble(StatusCode::BAD_REQUEST, "form", &error.to_string()),
            },
        };
        let slate: Slate = match serde_json::from_str(if slate.is_empty() { "{}" } else { &slate }) {
            Ok(slate) => slate,
            Err(error) => return trouble(StatusCode::BAD_REQUEST, "slate", &error.to_string()),
        };
        if slate.wander.is_some_and(|wander| !(0.0..=1.0).contains(&wander)) {
            return trouble(StatusCode::BAD_REQUEST, "slate", "wander lies between 0 and 1");
        }
        self.sky.count(|delivered| delivered.audio_bytes += sound.len() as u64);
        let heard = tokio::task::spawn_blocking(move || listen(&sound, None)).await?;
        match heard {
            Err(error) => trouble(StatusCode::UNSUPPORTED_MEDIA_TYPE, "sound", &error.to_string()),
            Ok(Listened { utterances, .. }) if utterances.is_empty() => {
                trouble(StatusCode::UNPROCESSABLE_ENTITY, "mute", "there is nothing in it that turnstone understands")
            }
            Ok(Listened { utterances, seconds, .. }) => {
                let line = line(&utterances);
                let parts: Vec<_> = utterances
                    .iter()
                    .flat_map(|heard| &heard.words)
                    .map(|word| {
                        let ms = |seconds: f64| (seconds * 1_000.0).round();
                        json!({"w": word.text, "from": ms(word.start), "to": ms(word.end), "sure": word.confidence})
                    })
                    .collect();
                let tongue = slate.tongue.unwrap_or_else(|| "und".into());
                self.sky.count(|delivered| delivered.characters += line.chars().count() as u64);
                let heard = json!({"line": line, "tongue": tongue, "parts": parts});
                json(StatusCode::OK, &json!({"heard": heard, "span": (seconds * 1_000.0).round()}))
            }
        }
    }
}

async fn form(body: bytes::Bytes, boundary: String) -> Result<(bytes::Bytes, String), multer::Error> {
    let whole = futures::stream::once(async move { Ok::<_, std::io::Error>(body) });
    let mut parts = multer::Multipart::new(whole, boundary);
    let (mut sound, mut slate) = (bytes::Bytes::new(), String::new());
    while let Some(part) = parts.next_field().await? {
        match part.name() {
            Some("sound") => sound = part.bytes().await?,
            Some("slate") => slate = part.text().await?,
            other => return Err(multer::Error::UnknownField { field_name: other.map(str::to_owned) }),
        }
    }
    Ok((sound, slate))
}
