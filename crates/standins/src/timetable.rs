//! The timetable desk of the ferry line: a reply hook, which answers what is
//! said in an exchange. It is no engine, and knows the ferries of one day.
//!
//! `POST /answer` takes the JSON of an exchange and answers in server-sent
//! events, a few words each; `POST /answer?form=text` in plain text. With a
//! picture of a signal flag (PNG), it says what the flag means (International
//! Code of Signals). Asked to call somebody, it calls that name; asked for
//! everything, it does not stop.

mod flags;

use std::sync::Arc;
use std::time::Duration;

use base64::Engine as _;
use base64::engine::general_purpose::STANDARD;
use futures::SinkExt as _;
use hyper::body::{Frame, Incoming};
use hyper::header::{CONTENT_TYPE, HeaderValue};
use hyper::{Method, Request, Response, StatusCode};
use serde::Deserialize;
use serde_json::json;

use crate::serve::{Answer, Body, Service, StandIn, admit, collect, full, json as in_json, serve, streamed};
use crate::trouble::Trouble;
use crate::weather::{Forecast, Phase, Sky, Weather};

/// Ferries from Saltmarsh: place, times, quay.
const FERRIES: [(&str, [&str; 3], u8); 4] = [
    ("Gullsay", ["quarter past six", "five past eight", "ten to ten"], 2),
    ("Little Skerry", ["ten past seven", "nine o'clock", "twenty to eleven"], 1),
    ("Northstrand", ["ten to eight", "half past nine", "noon"], 3),
    ("Eelpool", ["twenty past six", "twenty to nine", "quarter past eleven"], 4),
];
/// Bytes of a question, with a picture.
const MAX_QUESTION: usize = 16 << 20;
/// A person reads out the timetable a little faster than that.
const BETWEEN_WORDS: Duration = Duration::from_millis(5);

#[derive(Deserialize)]
struct Question {
    text: String,
    #[serde(default)]
    attachment: Option<Picture>,
}

#[derive(Deserialize)]
struct Picture {
    base64: String,
}

struct Timetable {
    sky: Arc<Sky>,
}

/// Starts the timetable desk on a port of loopback (0: a free one).
///
/// # Errors
/// When the port cannot be had.
pub async fn start(port: u16) -> std::io::Result<StandIn> {
    serve(Timetable { sky: Arc::default() }, port).await
}

impl Service for Timetable {
    fn sky(&self) -> &Arc<Sky> {
        &self.sky
    }

    fn tell(&self, trouble: Trouble, _given: &str) -> Answer {
        in_json(trouble.status(), &json!({"desk": "closed"}))
    }

    async fn call(self: Arc<Self>, request: Request<Incoming>) -> Answer {
        if (request.method(), request.uri().path()) != (&Method::POST, "/answer") {
            return in_json(StatusCode::NOT_FOUND, &json!({"desk": "the timetable desk answers POST /answer"}));
        }
        let plain = request.uri().query() == Some("form=text");
        let forecast = match admit(&*self, Phase::Call, true, "").await {
            Ok(forecast) => forecast,
            Err(answer) => return answer,
        };
        let body = collect(request.into_body(), MAX_QUESTION).await?;
        let Ok(question) = serde_json::from_slice::<Question>(&body) else {
            return in_json(StatusCode::BAD_REQUEST, &json!({"desk": "the question cannot be read"}));
        };
        let body = match forecast.map(|forecast| forecast.weather) {
            Some(Weather::Garbage) => full(b"\xff\xfe tide".to_vec()),
            _ => self.recite(answer_to(&question), plain, forecast),
        };
        let kind = match forecast.map(|forecast| forecast.weather) {
            Some(Weather::WrongType) => "text/html",
            _ if plain => "text/plain; charset=utf-8",
            _ => "text/event-stream",
        };
        let mut response = Response::new(body);
        response.headers_mut().insert(CONTENT_TYPE, HeaderValue::from_static(kind));
        Ok(response)
    }
}

/// What is said: once, or again and again.
struct Recital {
    text: String,
    endless: bool,
}

fn answer_to(question: &Question) -> Recital {
    if let Some(picture) = &question.attachment {
        let named = STANDARD.decode(&picture.base64).ok().and_then(|png| flags::meaning_of(&png));
        let text = match named {
            Some((name, meaning)) => format!("This is the flag {name}. It means: {meaning}."),
            None => "I see no signal flag on this picture.".to_owned(),
        };
        return Recital { text, endless: false };
    }
    let asked = question.text.to_lowercase();
    if asked.contains("everything") {
        return Recital { text: "The ferry leaves, and the ferry comes back. ".into(), endless: true };
    }
    let called = question.text.get(..5).filter(|start| start.eq_ignore_ascii_case("call ")).map(str::len);
    if let Some(name) = called.and_then(|at| question.text.get(at..)) {
        return Recital { text: format!("{}, please come to the desk.", name.trim_end_matches('.')), endless: false };
    }
    let text = match FERRIES.iter().find(|(place, ..)| asked.contains(&place.to_lowercase())) {
        Some((place, [.., last], quay)) if asked.contains("last") => {
            format!("The last ferry to {place} leaves at {last} from quay {quay}.")
        }
        Some((place, [first, second, _], quay)) => {
            format!(
                "The next ferry to {place} leaves at {first} from quay {quay}. After that there is one at {second}."
            )
        }
        None => "I know the ferries to Gullsay, Little Skerry, Northstrand and Eelpool. Which one do you mean?".into(),
    };
    Recital { text, endless: false }
}

impl Timetable {
    /// A body that says it a few words at a time.
    fn recite(&self, recital: Recital, plain: bool, forecast: Option<Forecast>) -> Body {
        let (mut sender, body) = streamed();
        let sky = self.sky.clone();
        tokio::spawn(async move {
            let cut = forecast.and_then(|forecast| forecast.cut(recital.text.len()));
            let mut said = 0;
            loop {
                for piece in recital.text.split_inclusive(' ') {
                    if cut.is_some_and(|cut| said >= cut) {
                        let _ = sender.send(Err("half".into())).await;
                        return;
                    }
                    match forecast {
                        Some(forecast) => forecast.rest().await,
                        None => tokio::time::sleep(BETWEEN_WORDS).await,
                    }
                    said += piece.len();
                    let bytes = if plain { piece.to_owned() } else { format!("data: {piece}\n\n") };
                    if sender.send(Ok(Frame::data(bytes.into()))).await.is_err() {
                        return sky.count(|delivered| delivered.left += 1);
                    }
                }
                if !recital.endless {
                    break;
                }
            }
            if !plain {
                let _ = sender.send(Ok(Frame::data("event: end\n\n".into()))).await;
            }
            sky.count(|delivered| {
                delivered.whole += 1;
                delivered.characters += said as u64;
            });
        });
        body
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn answer(text: &str) -> String {
        answer_to(&Question { text: text.into(), attachment: None }).text
    }

    #[test]
    fn the_ferries_of_a_place_are_known() {
        assert_eq!(
            answer("When is the next ferry to gullsay?"),
            "The next ferry to Gullsay leaves at quarter past six from quay 2. After that there is one at five past eight."
        );
        assert_eq!(
            answer("the last one to Eelpool"),
            "The last ferry to Eelpool leaves at quarter past eleven from quay 4."
        );
        assert!(answer("Ahoy").contains("Which one do you mean?"));
        assert_eq!(answer("Call Tarrick 17."), "Tarrick 17, please come to the desk.");
    }
}
