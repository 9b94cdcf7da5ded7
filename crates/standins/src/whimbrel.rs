//! Whimbrel: recognition over a WebSocket, with guesses that change.
//!
//! `GET /whistle?tongue=…` with a bearer token. Messages in: `{"begin":
//! {"rate", "likely": […]}}`, binary samples (16 bits, little-endian, mono),
//! `{"over": true}`. Messages out: `{"begun": true}`, `{"guess": {"no", "firm",
//! "words": [{"w", "from", "to", "sure"}], "said"}}` in milliseconds, where a
//! guess of a number that has been takes its place and may revise and reorder
//! its words, `{"done": true}`. At most 200 seconds of audio (close 4200).
//! Errors before it is open are `{"amiss": code, "because": text}`.

use std::sync::Arc;

use dispatcher_audio::{Codec, Format};
use futures::{SinkExt as _, StreamExt as _};
use hyper::body::Incoming;
use hyper::header::{AUTHORIZATION, HeaderValue, RETRY_AFTER};
use hyper::{Method, Request, StatusCode};
use serde::Deserialize;
use serde_json::{Value, json};
use tokio_tungstenite::tungstenite::Message;
use tokio_tungstenite::tungstenite::protocol::CloseFrame;

use crate::listen::listen;
use crate::serve::{Answer, Service, StandIn, admit, header, json as in_json, serve};
use crate::socket::{Socket, open};
use crate::tone::Heard;
use crate::trouble::Trouble;
use crate::weather::{Forecast, Phase, Sky, Weather};

const MAX_SECONDS: usize = 200;
const MOST_LIKELY: usize = 50;

struct Whimbrel {
    token: String,
    sky: Arc<Sky>,
}

/// Starts whimbrel on a port of loopback (0: a free one); it takes this token.
///
/// # Errors
/// When the port cannot be had.
pub async fn start(port: u16, token: &str) -> std::io::Result<StandIn> {
    serve(Whimbrel { token: token.into(), sky: Arc::default() }, port).await
}

fn amiss(status: StatusCode, code: &str, because: &str) -> Answer {
    in_json(status, &json!({"amiss": code, "because": because}))
}

impl Service for Whimbrel {
    fn sky(&self) -> &Arc<Sky> {
        &self.sky
    }

    fn tell(&self, trouble: Trouble, given: &str) -> Answer {
        let (code, because) = match trouble {
            Trouble::Crowded => ("flock", "too many whistles at once".to_owned()),
            Trouble::Away => ("gone", "whimbrel is on passage".to_owned()),
            Trouble::Expired => ("token", "this token is no good".to_owned()),
            Trouble::NotActiveYet => ("young", "this token is not live yet".to_owned()),
            Trouble::WrongRegion => ("shore", "this token belongs to another shore".to_owned()),
            Trouble::MissingRole => ("role", "this token may not listen".to_owned()),
            Trouble::Unpaid => ("unpaid", "the account has no balance".to_owned()),
            Trouble::Echo => ("echo", format!("you came with {given}")),
        };
        let mut answer = amiss(trouble.status(), code, &because)?;
        if trouble == Trouble::Crowded {
            answer.headers_mut().insert(RETRY_AFTER, HeaderValue::from_static("1"));
        }
        Ok(answer)
    }

    async fn call(self: Arc<Self>, request: Request<Incoming>) -> Answer {
        if (request.method(), request.uri().path()) != (&Method::GET, "/whistle") {
            return amiss(StatusCode::NOT_FOUND, "lost", "whimbrel answers GET /whistle");
        }
        let given = header(&request, AUTHORIZATION.as_str());
        let known = given == format!("Bearer {}", self.token);
        let forecast = match admit(&*self, Phase::Call, known, &given).await {
            Ok(forecast) => forecast,
            Err(answer) => return answer,
        };
        let sky = self.sky.clone();
        open(request, move |socket| whistle(socket, sky, forecast))
            .unwrap_or_else(|| amiss(StatusCode::UPGRADE_REQUIRED, "socket", "whimbrel listens over a WebSocket"))
    }
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
struct Opening {
    begin: Begin,
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
struct Begin {
    rate: u32,
    #[serde(default)]
    likely: Vec<String>,
}

async fn close(socket: &mut Socket, code: u16, reason: &str) {
    let _ = socket.close(Some(CloseFrame { code: code.into(), reason: reason.to_owned().into() })).await;
}

async fn send(socket: &mut Socket, message: &Value) {
    let _ = socket.send(Message::text(message.to_string())).await;
}

async fn whistle(mut socket: Socket, sky: Arc<Sky>, forecast: Option<Forecast>) {
    let weather = forecast.map(|forecast| forecast.weather);
    let opening = match socket.next().await {
        Some(Ok(Message::Text(text))) => serde_json::from_str::<Opening>(&text).map_err(|error| error.to_string()),
        _ => Err("a whistle begins with begin".into()),
    };
    let begin = match opening.map(|opening| opening.begin) {
        Ok(begin) if (8_000..=48_000).contains(&begin.rate) && begin.likely.len() <= MOST_LIKELY => begin,
        _ => {
            sky.count(|delivered| delivered.refused += 1);
            return close(&mut socket, 4_000, "begin with a rate of 8000 to 48000 and at most 50 likely words").await;
        }
    };
    send(&mut socket, &json!({"begun": true})).await;
    let mut sound: Vec<u8> = Vec::new();
    let most = MAX_SECONDS * begin.rate as usize * 2;
    // It guesses when it has heard twice as much as the last time.
    let mut next_guess = begin.rate as usize * 4;
    loop {
        match socket.next().await {
            Some(Ok(Message::Binary(bytes))) => sound.extend_from_slice(&bytes),
            Some(Ok(Message::Text(text))) if text.contains("\"over\"") => break,
            Some(Ok(Message::Ping(_) | Message::Pong(_))) => {}
            _ => return sky.count(|delivered| delivered.left += 1),
        }
        if sound.len() > most {
            sky.count(|delivered| delivered.refused += 1);
            return close(&mut socket, 4_200, "more than 200 seconds").await;
        }
        if sound.len() > next_guess {
            next_guess = sound.len() * 2;
            for (no, heard) in hear(sound.clone(), begin.rate).await.iter().enumerate() {
                send(&mut socket, &guess(no, heard, false)).await;
            }
        }
    }
    sky.count(|delivered| delivered.audio_bytes += sound.len() as u64);
    if let Some(Weather::WrongType | Weather::Garbage) = weather {
        return drop(socket.send(Message::text("<p>tide</p>")).await);
    }
    if let Some(forecast) = forecast {
        forecast.rest().await;
    }
    let heard = hear(sound, begin.rate).await;
    if heard.is_empty() {
        sky.count(|delivered| delivered.refused += 1);
        return close(&mut socket, 4_022, "there is nothing in it that whimbrel understands").await;
    }
    for (no, heard) in heard.iter().enumerate() {
        // One guess more that is wrong, and then the firm one.
        send(&mut socket, &guess(no, heard, false)).await;
        if weather == Some(Weather::Half) {
            return;
        }
        send(&mut socket, &guess(no, heard, true)).await;
    }
    send(&mut socket, &json!({"done": true})).await;
    sky.count(|delivered| {
        delivered.whole += 1;
        delivered.characters += heard.iter().map(|heard| heard.text.chars().count() as u64).sum::<u64>();
    });
    close(&mut socket, 1_000, "").await;
}

async fn hear(sound: Vec<u8>, rate: u32) -> Vec<Heard> {
    let format = Format::new(Codec::Pcm, rate);
    let work = tokio::task::spawn_blocking(move || listen(&sound, Some(format)).map(|heard| heard.utterances));
    work.await.ok().and_then(Result::ok).unwrap_or_default()
}

/// A guess at an utterance. What is not firm has its words in another order,
/// and the last of them wrong.
fn guess(no: usize, heard: &Heard, firm: bool) -> Value {
    let ms = |seconds: f64| (seconds * 1_000.0).round();
    let mut words: Vec<Value> = heard
        .words
        .iter()
        .map(|word| json!({"w": word.text, "from": ms(word.start), "to": ms(word.end), "sure": word.confidence}))
        .collect();
    let mut said = heard.text.clone();
    if !firm {
        words.reverse();
        if let Some(first) = words.first_mut() {
            first["w"] = json!("…");
        }
        let reversed: Vec<&str> = heard.text.split(' ').rev().collect();
        said = reversed.join(" ");
    }
    json!({"guess": {"no": no, "firm": firm, "words": words, "said": said}})
}
