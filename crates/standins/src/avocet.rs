//! Avocet: synthesis and recognition. A signed statement is exchanged for a
//! token (RFC 7523); forms in, base64 inside JSON out; it reports its roles.
//!
//! `POST /gate` with an assertion (ES256: `iss` and `sub` the account, `aud`
//! `avocet/gate`, at most five minutes long) answers a token for a minute.
//! `POST /lagoon/say`, a form of `words`, `voice` and `kind` (`mp3`, `ulaw`),
//! answers `{"wave": base64}`. `POST /lagoon/hear`, a form of `wave` and
//! `tongue`, answers `{"line", "beats": [{"w", "from", "to"}], "tongue"}` in
//! seconds as text (`"1.250"`). `GET /lagoon/roles` answers `{"roles": […]}`.
//! Errors are `{"halt": {"why", "detail"}}`.

use std::collections::HashMap;
use std::sync::Arc;
use std::time::{Duration, Instant, SystemTime, UNIX_EPOCH};

use aws_lc_rs::signature::{ECDSA_P256_SHA256_FIXED, UnparsedPublicKey};
use base64::Engine as _;
use base64::engine::general_purpose::{STANDARD, URL_SAFE_NO_PAD};
use bytes::Bytes;
use dispatcher_audio::{Codec, Format, encode_all};
use hyper::body::Incoming;
use hyper::header::{AUTHORIZATION, CONTENT_TYPE, HeaderValue, RETRY_AFTER};
use hyper::{Method, Request, Response, StatusCode};
use parking_lot::Mutex;
use serde_json::{Value, json};

use crate::listen::{Listened, line, listen};
use crate::pour::send;
use crate::serve::{Answer, Service, StandIn, admit, after, collect, full, header, json as in_json, serve};
use crate::tone::{Manner, speak};
use crate::trouble::Trouble;
use crate::weather::{Forecast, Phase, Sky, Weather};

const VOICES: [(&str, f64); 3] = [("lagoon", 1.01), ("salvane", 1.12), ("minago", 0.89)];
const LIFE: Duration = Duration::from_secs(60);
const MAX_BYTES: usize = 7_000_000;
const MAX_TEXT: usize = 6_400;

struct Avocet {
    account: String,
    public: Vec<u8>,
    tokens: Mutex<HashMap<String, Instant>>,
    sky: Arc<Sky>,
}

/// Starts avocet on a port of loopback (0: a free one); it knows this account
/// by its public key (an uncompressed point of P-256).
///
/// # Errors
/// When the port cannot be had.
pub async fn start(port: u16, account: &str, public: &[u8]) -> std::io::Result<StandIn> {
    let public = public.to_vec();
    serve(Avocet { account: account.into(), public, tokens: Mutex::default(), sky: Arc::default() }, port).await
}

fn halt(status: StatusCode, why: &str, detail: &str) -> Answer {
    in_json(status, &json!({"halt": {"why": why, "detail": detail}}))
}

impl Service for Avocet {
    fn sky(&self) -> &Arc<Sky> {
        &self.sky
    }

    fn counts(&self, method: &Method, path: &str) -> bool {
        method == Method::POST && path != "/gate"
    }

    fn tell(&self, trouble: Trouble, given: &str) -> Answer {
        let (why, detail) = match trouble {
            Trouble::Crowded => ("crowded", "the lagoon is full".to_owned()),
            Trouble::Away => ("dry", "the lagoon has dried up".to_owned()),
            Trouble::Expired => ("token", "this token is worth nothing".to_owned()),
            Trouble::NotActiveYet => ("young", "this account is not live yet".to_owned()),
            Trouble::WrongRegion => ("lagoon", "this account belongs to another lagoon".to_owned()),
            Trouble::MissingRole => ("role", "this account may not do that".to_owned()),
            Trouble::Unpaid => ("unpaid", "the account has no balance".to_owned()),
            Trouble::Echo => ("echo", format!("you came with {given}")),
        };
        let mut answer = halt(trouble.status(), why, &detail)?;
        if trouble == Trouble::Crowded {
            answer.headers_mut().insert(RETRY_AFTER, HeaderValue::from_static("1"));
        }
        Ok(answer)
    }

    async fn call(self: Arc<Self>, request: Request<Incoming>) -> Answer {
        let (method, path) = (request.method().clone(), request.uri().path().to_owned());
        let given = header(&request, AUTHORIZATION.as_str());
        if (&method, path.as_str()) == (&Method::POST, "/gate") {
            let body = collect(request.into_body(), 64 << 10).await?;
            let form = String::from_utf8_lossy(&body).into_owned();
            return match admit(&*self, Phase::Token, true, &form).await {
                Err(answer) => answer,
                Ok(_) => self.gate(&form),
            };
        }
        let known = self.knows(&given);
        if (&method, path.as_str()) == (&Method::GET, "/lagoon/roles") {
            return match admit(&*self, Phase::Catalogue, known, &given).await {
                Err(answer) => answer,
                Ok(_) => in_json(StatusCode::OK, &json!({"account": self.account, "roles": ["say", "hear", "manage"]})),
            };
        }
        let (&Method::POST, "/lagoon/say" | "/lagoon/hear") = (&method, path.as_str()) else {
            return halt(StatusCode::NOT_FOUND, "lost", "avocet answers POST /lagoon/say and POST /lagoon/hear");
        };
        let forecast = match admit(&*self, Phase::Call, known, &given).await {
            Ok(forecast) => forecast,
            Err(answer) => return after(request, answer).await,
        };
        let kind = header(&request, CONTENT_TYPE.as_str());
        let Ok(body) = collect(request.into_body(), MAX_BYTES).await else {
            return halt(StatusCode::PAYLOAD_TOO_LARGE, "size", "more than 7 MB");
        };
        if matches!(forecast, Some(Forecast { weather: Weather::WrongType, .. })) {
            return Ok(Response::new(full("<p>Avocet is asleep.</p>")));
        }
        let form = match fields(&kind, body).await {
            Ok(form) => form,
            Err(detail) => return halt(StatusCode::BAD_REQUEST, "form", &detail),
        };
        if path == "/lagoon/say" { self.say(&form, forecast) } else { self.hear(form).await }
    }
}

/// The parts of a form.
async fn fields(kind: &str, body: Bytes) -> Result<HashMap<String, Bytes>, String> {
    let boundary = multer::parse_boundary(kind).map_err(|error| error.to_string())?;
    let whole = futures::stream::once(async move { Ok::<_, std::io::Error>(body) });
    let mut parts = multer::Multipart::new(whole, boundary);
    let mut found = HashMap::new();
    while let Some(part) = parts.next_field().await.map_err(|error| error.to_string())? {
        let name = part.name().unwrap_or_default().to_owned();
        found.insert(name, part.bytes().await.map_err(|error| error.to_string())?);
    }
    Ok(found)
}

fn text(form: &HashMap<String, Bytes>, name: &str) -> String {
    form.get(name).map(|bytes| String::from_utf8_lossy(bytes).into_owned()).unwrap_or_default()
}

impl Avocet {
    fn knows(&self, given: &str) -> bool {
        // Foul weather over the token's house makes every token void.
        if self.sky.forecast().is_some_and(|forecast| forecast.phase == Phase::Token) {
            return false;
        }
        let token = given.strip_prefix("Bearer ").unwrap_or_default();
        let tokens = self.tokens.lock();
        tokens.get(token).is_some_and(|until| *until > Instant::now())
    }

    /// A token for a good assertion (RFC 7523, section 2.1).
    fn gate(&self, form: &str) -> Answer {
        let refuse = |error: &str| in_json(StatusCode::BAD_REQUEST, &json!({"error": error}));
        let field = |name: &str| {
            let value = form.split('&').find_map(|pair| pair.strip_prefix(name)?.strip_prefix('='));
            percent_encoding::percent_decode_str(value.unwrap_or_default()).decode_utf8_lossy().into_owned()
        };
        if field("grant_type") != "urn:ietf:params:oauth:grant-type:jwt-bearer" {
            return refuse("unsupported_grant_type");
        }
        if self.claims(&field("assertion")).is_none() {
            return refuse("invalid_grant");
        }
        let mut tokens = self.tokens.lock();
        tokens.retain(|_, until| *until > Instant::now());
        let nanos = SystemTime::now().duration_since(UNIX_EPOCH).unwrap_or_default().as_nanos();
        let token = format!("avo-{}-{nanos:x}", tokens.len());
        tokens.insert(token.clone(), Instant::now() + LIFE);
        let answer = json!({"access_token": token, "token_type": "Bearer", "expires_in": LIFE.as_secs()});
        in_json(StatusCode::OK, &answer)
    }

    /// The claims of an assertion that is rightly signed, for here and now.
    fn claims(&self, assertion: &str) -> Option<Value> {
        let (signed, signature) = assertion.rsplit_once('.')?;
        let (head, body) = signed.split_once('.')?;
        let head: Value = serde_json::from_slice(&URL_SAFE_NO_PAD.decode(head).ok()?).ok()?;
        let signature = URL_SAFE_NO_PAD.decode(signature).ok()?;
        let key = UnparsedPublicKey::new(&ECDSA_P256_SHA256_FIXED, &self.public);
        key.verify(signed.as_bytes(), &signature).ok()?;
        let claims: Value = serde_json::from_slice(&URL_SAFE_NO_PAD.decode(body).ok()?).ok()?;
        let now = SystemTime::now().duration_since(UNIX_EPOCH).ok()?.as_secs();
        let (issued, ends) = (claims["iat"].as_u64()?, claims["exp"].as_u64()?);
        let good = head["alg"] == "ES256"
            && claims["iss"] == self.account.as_str()
            && claims["sub"] == self.account.as_str()
            && claims["aud"] == "avocet/gate"
            && issued <= now + 5
            && ends > now
            && ends <= issued + 300;
        good.then_some(claims)
    }

    fn say(&self, form: &HashMap<String, Bytes>, forecast: Option<Forecast>) -> Answer {
        let (words, voice, kind) = (text(form, "words"), text(form, "voice"), text(form, "kind"));
        let refuse = |status, why: &str, detail: &str| {
            self.sky.count(|delivered| delivered.refused += 1);
            halt(status, why, detail)
        };
        let Some((_, pitch)) = VOICES.iter().find(|(id, _)| *id == voice) else {
            return refuse(StatusCode::BAD_REQUEST, "voice", "nobody of this name is on the lagoon");
        };
        let format = match kind.as_str() {
            "mp3" => Format { bitrate: Some(64_000), ..Format::new(Codec::Mp3, 32_000) },
            "ulaw" => Format::new(Codec::Mulaw, 8_000),
            _ => return refuse(StatusCode::BAD_REQUEST, "kind", "kind is mp3 or ulaw"),
        };
        if form.len() != 3 || words.trim().is_empty() {
            return refuse(StatusCode::BAD_REQUEST, "form", "a form has words, voice and kind, and nothing else");
        }
        if words.len() > MAX_TEXT {
            return refuse(StatusCode::PAYLOAD_TOO_LARGE, "size", "more than 6,400 bytes of words");
        }
        let audio = match forecast.map(|forecast| forecast.weather) {
            Some(Weather::Garbage) => (0..20_000u32).map(|n| (n.wrapping_mul(2_654_435_761) >> 13) as u8).collect(),
            _ => encode_all(&speak(&words, Manner { pitch: *pitch, rate: 1.5 }, format.rate), format)?,
        };
        let mut wave = STANDARD.encode(&audio);
        if matches!(forecast, Some(Forecast { weather: Weather::BadBase64, .. })) {
            wave.insert(wave.len() / 2, '!');
        }
        let answer = json!({"roles": ["say", "hear", "manage"], "wave": wave}).to_string();
        let body = send(answer.into_bytes(), audio.len(), words.chars().count(), forecast, self.sky.clone());
        let mut response = Response::new(body);
        response.headers_mut().insert(CONTENT_TYPE, HeaderValue::from_static("application/json"));
        Ok(response)
    }

    async fn hear(&self, mut form: HashMap<String, Bytes>) -> Answer {
        let tongue = text(&form, "tongue");
        let Some(wave) = form.remove("wave") else {
            return halt(StatusCode::BAD_REQUEST, "form", "there is no wave in the form");
        };
        self.sky.count(|delivered| delivered.audio_bytes += wave.len() as u64);
        let heard = tokio::task::spawn_blocking(move || listen(&wave, None)).await?;
        match heard {
            Err(error) => halt(StatusCode::UNSUPPORTED_MEDIA_TYPE, "wave", &error.to_string()),
            Ok(Listened { utterances, .. }) if utterances.is_empty() => {
                halt(StatusCode::UNPROCESSABLE_ENTITY, "silence", "there is nothing in it that avocet understands")
            }
            Ok(Listened { utterances, .. }) => {
                let beat = |word: &crate::tone::HeardWord| json!({"w": word.text, "from": format!("{:.3}", word.start), "to": format!("{:.3}", word.end)});
                let beats: Vec<Value> = utterances.iter().flat_map(|heard| &heard.words).map(beat).collect();
                let whole = line(&utterances);
                self.sky.count(|delivered| {
                    delivered.whole += 1;
                    delivered.characters += whole.chars().count() as u64;
                });
                in_json(StatusCode::OK, &json!({"line": whole, "beats": beats, "tongue": tongue}))
            }
        }
    }
}
