//! Phalarope: synthesis. `GET /spin?key=…&who={voice}&words=…` gives WAV at
//! 24 kHz, with the length that every WAV of a stream claims.
//!
//! At most 1,500 characters. Whatever is wrong is told with status 200, as
//! one line of text: `ERR number words`.

use std::collections::HashMap;
use std::sync::Arc;

use dispatcher_audio::{Layout, wav_header};
use hyper::body::Incoming;
use hyper::header::{CONTENT_TYPE, HeaderValue};
use hyper::{Method, Request, Response, StatusCode};
use percent_encoding::percent_decode_str;

use crate::pour::pour;
use crate::serve::{Answer, Body, Service, StandIn, full, serve};
use crate::tone::Manner;
use crate::trouble::{Trouble, foul};
use crate::weather::{Forecast, Sky, Weather};

/// Voices: id and pitch factor.
const VOICES: [(&str, f64); 3] = [("grey", 0.98), ("rosa", 1.05), ("kaze", 0.89)];
const RATE: u32 = 24_000;
const MAX_CHARACTERS: usize = 1_500;

struct Phalarope {
    key: String,
    sky: Arc<Sky>,
}

/// Starts phalarope on a port of loopback (0: a free one); it takes this key.
///
/// # Errors
/// When the port cannot be had.
pub async fn start(port: u16, key: &str) -> std::io::Result<StandIn> {
    serve(Phalarope { key: key.into(), sky: Arc::default() }, port).await
}

fn err(number: u16, words: &str) -> Answer {
    let mut response = Response::new(full(format!("ERR {number} {words}\n")));
    response.headers_mut().insert(CONTENT_TYPE, HeaderValue::from_static("text/plain"));
    Ok(response)
}

fn tell(trouble: Trouble, given: &str) -> Answer {
    match trouble {
        Trouble::Crowded => err(29, "too many floats"),
        Trouble::Away => err(50, "phalarope is at sea"),
        Trouble::Expired => err(41, "the key has run out"),
        Trouble::NotActiveYet => err(42, "the key is not live yet"),
        Trouble::WrongRegion => err(43, "the key belongs to another sea"),
        Trouble::MissingRole => err(44, "the key may not spin"),
        Trouble::Unpaid => err(45, "the account has no balance"),
        Trouble::Echo => err(40, &format!("you came with {given}")),
    }
}

/// The parameters of the address.
fn parameters(query: &str) -> HashMap<String, String> {
    let decode = |text: &str| percent_decode_str(&text.replace('+', " ")).decode_utf8_lossy().into_owned();
    query.split('&').filter_map(|pair| pair.split_once('=')).map(|(name, value)| (name.into(), decode(value))).collect()
}

impl Service for Phalarope {
    fn sky(&self) -> &Arc<Sky> {
        &self.sky
    }

    fn tell(&self, trouble: Trouble, given: &str) -> Answer {
        tell(trouble, given)
    }

    async fn call(self: Arc<Self>, request: Request<Incoming>) -> Answer {
        if (request.method(), request.uri().path()) != (&Method::GET, "/spin") {
            let mut answer = err(1, "phalarope answers GET /spin")?;
            *answer.status_mut() = StatusCode::NOT_FOUND;
            return Ok(answer);
        }
        let given = parameters(request.uri().query().unwrap_or_default());
        let told = |name: &str| given.get(name).map(String::as_str).unwrap_or_default();
        let forecast = self.sky.next();
        let refused = |answer: Answer| {
            self.sky.count(|delivered| delivered.refused += 1);
            answer
        };
        if let Some(answer) = foul(forecast.as_ref(), |trouble| tell(trouble, told("key"))).await {
            return refused(answer);
        }
        if told("key") != self.key {
            return refused(err(46, "the key is not known"));
        }
        self.sky.count(|delivered| delivered.calls += 1);
        let Some((_, pitch)) = VOICES.iter().find(|(id, _)| *id == told("who")) else {
            return refused(err(11, "nobody of that name floats here"));
        };
        match told("words").chars().count() {
            0 => refused(err(12, "no words")),
            count if count > MAX_CHARACTERS => {
                refused(err(13, &format!("{count} characters, {MAX_CHARACTERS} at most")))
            }
            _ => self.spin(told("words").to_owned(), *pitch, forecast),
        }
    }
}

impl Phalarope {
    fn spin(&self, text: String, pitch: f64, forecast: Option<Forecast>) -> Answer {
        let weather = forecast.map(|forecast| forecast.weather);
        if weather == Some(Weather::WrongType) {
            return page(full("<p>Phalarope is moulting.</p>"), "text/html");
        }
        let header = wav_header(Layout { rate: RATE, channels: 1 }, None);
        let body = pour(text, Manner { pitch, rate: 1.5 }, RATE, header, forecast, self.sky.clone());
        page(body, "audio/wav")
    }
}

fn page(body: Body, kind: &'static str) -> Answer {
    let mut response = Response::new(body);
    response.headers_mut().insert(CONTENT_TYPE, HeaderValue::from_static(kind));
    Ok(response)
}
