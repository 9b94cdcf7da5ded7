//! Dotterel: synthesis over a WebSocket that is opened by a signed request
//! (RFC 9421, HMAC), with word marks beside the audio.
//!
//! `GET /trip` with the header `Dotterel-Fell: 1`, signed over `@method`,
//! `@path` and `dotterel-fell`. Messages in: `{"bird": voice, "cloth": "s16"}`,
//! then `{"words": text}` and `{"rest": true}`. Messages out: `{"ready": true}`,
//! `{"step": {"w", "at"}}` in milliseconds, binary samples (16 bits,
//! little-endian, 24 kHz), `{"home": {"samples"}}`. Errors before it is open
//! are `{"stumble": {"on", "say"}}`; after, a close with 4000 and more.

use std::sync::Arc;
use std::time::{SystemTime, UNIX_EPOCH};

use aws_lc_rs::hmac;
use base64::Engine as _;
use base64::engine::general_purpose::STANDARD;
use futures::{SinkExt as _, StreamExt as _};
use hyper::body::Incoming;
use hyper::header::{HeaderValue, RETRY_AFTER};
use hyper::{Method, Request, StatusCode};
use serde_json::{Value, json};
use tokio_tungstenite::tungstenite::Message;
use tokio_tungstenite::tungstenite::protocol::CloseFrame;

use crate::serve::{Answer, Service, StandIn, admit, header, json as in_json, serve};
use crate::socket::{Socket, open};
use crate::tone::{Manner, Speaker, hear, pcm_bytes, speak};
use crate::trouble::Trouble;
use crate::weather::{Forecast, Phase, Sky, Weather};

const VOICES: [(&str, f64); 3] = [("cairn", 1.04), ("penedo", 0.9), ("mine", 1.1)];
const RATE: u32 = 24_000;
const MAX_CHARACTERS: usize = 2_700;
/// A signature is taken so long.
const FRESH: u64 = 300;

struct Dotterel {
    name: String,
    key: Vec<u8>,
    sky: Arc<Sky>,
}

/// Starts dotterel on a port of loopback (0: a free one); it knows this key
/// (bytes) by its name.
///
/// # Errors
/// When the port cannot be had.
pub async fn start(port: u16, name: &str, key: &[u8]) -> std::io::Result<StandIn> {
    serve(Dotterel { name: name.into(), key: key.to_vec(), sky: Arc::default() }, port).await
}

impl Service for Dotterel {
    fn sky(&self) -> &Arc<Sky> {
        &self.sky
    }

    fn tell(&self, trouble: Trouble, given: &str) -> Answer {
        let (on, say) = match trouble {
            Trouble::Crowded => ("trip", "the trip is full".to_owned()),
            Trouble::Away => ("snow", "the fell is under snow".to_owned()),
            Trouble::Expired => ("seal", "this seal is not good".to_owned()),
            Trouble::NotActiveYet => ("egg", "this key is not live yet".to_owned()),
            Trouble::WrongRegion => ("fell", "this key belongs to another fell".to_owned()),
            Trouble::MissingRole => ("role", "this key may not speak".to_owned()),
            Trouble::Unpaid => ("toll", "the toll is not paid".to_owned()),
            Trouble::Echo => ("echo", format!("you came with {given}")),
        };
        let mut answer = in_json(trouble.status(), &json!({"stumble": {"on": on, "say": say}}))?;
        if trouble == Trouble::Crowded {
            answer.headers_mut().insert(RETRY_AFTER, HeaderValue::from_static("1"));
        }
        Ok(answer)
    }

    async fn call(self: Arc<Self>, request: Request<Incoming>) -> Answer {
        if (request.method(), request.uri().path()) != (&Method::GET, "/trip") {
            let told = json!({"stumble": {"on": "path", "say": "dotterel answers GET /trip"}});
            return in_json(StatusCode::NOT_FOUND, &told);
        }
        let given = header(&request, "signature");
        let forecast = match admit(&*self, Phase::Call, self.signed(&request).is_some(), &given).await {
            Ok(forecast) => forecast,
            Err(answer) => return answer,
        };
        let no_socket = json!({"stumble": {"on": "socket", "say": "dotterel only speaks over a WebSocket"}});
        let sky = self.sky.clone();
        open(request, move |socket| trip(socket, sky, forecast))
            .unwrap_or_else(|| in_json(StatusCode::UPGRADE_REQUIRED, &no_socket))
    }
}

impl Dotterel {
    /// Whether the request is signed as it must be (RFC 9421, section 3.2).
    fn signed(&self, request: &Request<Incoming>) -> Option<()> {
        let (input, signature) = (header(request, "signature-input"), header(request, "signature"));
        let (label, params) = input.split_once('=')?;
        let signature = signature.strip_prefix(label)?.strip_prefix("=:")?.strip_suffix(':')?;
        let covered = params.strip_prefix('(')?.split_once(')')?.0;
        let mut base = String::new();
        let mut names = Vec::new();
        for name in covered.split(' ').map(|name| name.trim_matches('"')) {
            let value = match name {
                "@method" => request.method().to_string(),
                "@path" => request.uri().path().to_owned(),
                "@authority" => header(request, "host"),
                name if !name.starts_with('@') => header(request, name),
                _ => return None,
            };
            base.push_str(&format!("\"{name}\": {value}\n"));
            names.push(name);
        }
        base.push_str(&format!("\"@signature-params\": {params}"));
        let parameter = |name: &str| params.split(';').find_map(|part| part.strip_prefix(name)?.strip_prefix('='));
        let created: u64 = parameter("created")?.parse().ok()?;
        let now = SystemTime::now().duration_since(UNIX_EPOCH).ok()?.as_secs();
        let fresh = created <= now + 5 && created + FRESH > now;
        let named = parameter("keyid")?.trim_matches('"') == self.name;
        let whole = ["@method", "@path", "dotterel-fell"].iter().all(|name| names.contains(name));
        if !fresh || !named || !whole || header(request, "dotterel-fell").is_empty() {
            return None;
        }
        let key = hmac::Key::new(hmac::HMAC_SHA256, &self.key);
        hmac::verify(&key, base.as_bytes(), &STANDARD.decode(signature).ok()?).ok()
    }
}

async fn close(socket: &mut Socket, code: u16, reason: &str) {
    let _ = socket.close(Some(CloseFrame { code: code.into(), reason: reason.to_owned().into() })).await;
}

/// The next message as JSON.
async fn told(socket: &mut Socket) -> Option<Value> {
    while let Some(Ok(message)) = socket.next().await {
        match message {
            Message::Text(text) => return serde_json::from_str(&text).ok(),
            Message::Close(_) => return None,
            _ => {}
        }
    }
    None
}

async fn trip(mut socket: Socket, sky: Arc<Sky>, forecast: Option<Forecast>) {
    let refuse = |sky: &Sky| sky.count(|delivered| delivered.refused += 1);
    let Some(first) = told(&mut socket).await else { return };
    let pitch = VOICES.iter().find(|(id, _)| first["bird"] == *id).map(|(_, pitch)| *pitch);
    let Some(pitch) = pitch.filter(|_| first["cloth"] == "s16") else {
        refuse(&sky);
        return close(&mut socket, 4_004, "no such bird, or another cloth than s16").await;
    };
    let _ = socket.send(Message::text(json!({"ready": true}).to_string())).await;
    let mut text = String::new();
    loop {
        let Some(message) = told(&mut socket).await else { return };
        if let Some(words) = message["words"].as_str() {
            text.push_str(words);
        }
        if message["rest"] == true {
            break;
        }
    }
    match text.chars().count() {
        0 => {
            refuse(&sky);
            return close(&mut socket, 4_005, "nothing to say").await;
        }
        count if count > MAX_CHARACTERS => {
            refuse(&sky);
            return close(&mut socket, 4_013, "more than 2,700 characters").await;
        }
        _ => {}
    }
    say(socket, &text, pitch, sky, forecast).await;
}

async fn say(mut socket: Socket, text: &str, pitch: f64, sky: Arc<Sky>, forecast: Option<Forecast>) {
    let manner = Manner { pitch, rate: 1.5 };
    let weather = forecast.map(|forecast| forecast.weather);
    match weather {
        Some(Weather::WrongType) => return drop(socket.send(Message::text("<p>snow</p>")).await),
        Some(Weather::Garbage) => return drop(socket.send(Message::text("{\"ready\": tru")).await),
        _ => {}
    }
    // It knows when its words are spoken by listening to itself.
    let whole = speak(text, manner, RATE);
    let words: Vec<_> = hear(&whole, RATE).into_iter().flat_map(|heard| heard.words).collect();
    let mut words = words.into_iter().peekable();
    let (mut samples, mut pieces) = (0usize, 0usize);
    let cut = forecast.and_then(|forecast| forecast.cut(text.len() + 4));
    for (number, piece) in Speaker::new(text, manner, RATE).enumerate() {
        if cut.is_some_and(|cut| number > cut) {
            // Dropped without a word of farewell.
            return;
        }
        if let Some(forecast) = forecast {
            forecast.rest().await;
        }
        #[expect(clippy::cast_precision_loss, reason = "a time, to the millisecond")]
        let now = samples as f64 / f64::from(RATE);
        while let Some(word) = words.next_if(|word| word.start <= now) {
            let step = json!({"step": {"w": word.text, "at": (word.start * 1_000.0).round()}});
            let _ = socket.send(Message::text(step.to_string())).await;
        }
        samples += piece.len();
        let bytes = pcm_bytes(&piece);
        pieces += bytes.len();
        if socket.send(Message::binary(bytes)).await.is_err() {
            return sky.count(|delivered| delivered.left += 1);
        }
        tokio::task::yield_now().await;
    }
    for word in words {
        let step = json!({"step": {"w": word.text, "at": (word.start * 1_000.0).round()}});
        let _ = socket.send(Message::text(step.to_string())).await;
    }
    let _ = socket.send(Message::text(json!({"home": {"samples": samples}}).to_string())).await;
    sky.count(|delivered| {
        delivered.whole += 1;
        delivered.characters += text.chars().count() as u64;
        delivered.audio_bytes += pieces as u64;
    });
    close(&mut socket, 1_000, "").await;
}
