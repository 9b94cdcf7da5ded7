//! Text that is spoken while it is written: exact, sentence by sentence,
//! stopped at once, and told how far it was heard.

use std::time::{Duration, Instant};

use crate::BINARY;
use crate::live::{Socket, connect_to};
use crate::tokens::token_of;
use dispatcher_audio::{Codec, Format};
use dispatcher_e2e::{Demo, words_of};
use futures::{SinkExt as _, StreamExt as _};
use serde_json::{Value, json};
use tokio_tungstenite::tungstenite::Message;

fn pcm() -> Format {
    Format::new(Codec::Pcm, 24_000)
}

async fn connect(demo: &Demo, key: &str) -> Socket {
    connect_to(demo, &format!("{}/api/v1/utterances/live", demo.url), Some(key)).await
}

fn message(value: &Value) -> Message {
    Message::text(value.to_string())
}

fn opening() -> Value {
    json!({"type": "open", "voice": "heron/pellin", "prosody": {"rate": "200%"}})
}

/// What is told until the connection is closed: messages, audio, the code.
#[derive(Default)]
pub(crate) struct Told {
    pub(crate) messages: Vec<Value>,
    pub(crate) audio: Vec<u8>,
    pub(crate) code: Option<u16>,
}

impl Told {
    fn seconds(&self) -> f64 {
        self.audio.len() as f64 / 48_000.0
    }

    fn of(&self, kind: &str) -> Vec<&Value> {
        self.messages.iter().filter(|message| message["type"] == kind).collect()
    }

    pub(crate) fn kinds(&self) -> Vec<&str> {
        self.messages.iter().map(|message| message["type"].as_str().unwrap()).collect()
    }

    /// Takes one message; whether there was one.
    pub(crate) async fn take(
        &mut self,
        from: &mut (impl futures::Stream<Item = Result<Message, tokio_tungstenite::tungstenite::Error>> + Unpin),
    ) -> bool {
        match tokio::time::timeout(Duration::from_secs(60), from.next()).await.expect("a message in time") {
            Some(Ok(Message::Text(text))) => self.messages.push(serde_json::from_str(&text).unwrap()),
            Some(Ok(Message::Binary(bytes))) => self.audio.extend_from_slice(&bytes),
            Some(Ok(Message::Close(frame))) => {
                self.code = frame.map(|frame| frame.code.into());
                return false;
            }
            Some(Ok(_)) => {}
            Some(Err(_)) | None => return false,
        }
        true
    }

    pub(crate) async fn until(&mut self, socket: &mut Socket, kind: &str) -> Value {
        let before = self.messages.len();
        loop {
            if let Some(found) = self.messages[before..].iter().find(|message| message["type"] == kind) {
                return found.clone();
            }
            assert!(self.take(socket).await, "it ends before {kind}: {:?}", self.messages);
        }
    }
}

/// Fragments as a model writes them.
fn fragments(text: &str) -> Vec<String> {
    let letters: Vec<char> = text.chars().collect();
    let mut at = 0;
    let mut found = Vec::new();
    for size in [1_usize, 7, 3, 12, 2, 5].iter().cycle() {
        if at >= letters.len() {
            return found;
        }
        found.push(letters[at..letters.len().min(at + size)].iter().collect());
        at += size;
    }
    found
}

/// Writes a text in fragments, and takes all that is told.
async fn narrated(demo: &Demo, opening: Value, text: &str) -> Told {
    narrated_after(demo, opening, None, text).await
}

/// The same, where a notice is spoken before it.
async fn narrated_after(demo: &Demo, opening: Value, notice: Option<&str>, text: &str) -> Told {
    let (mut to, mut from) = connect(demo, &demo.app).await.split();
    let pieces = fragments(text);
    let send = tokio::spawn(async move {
        to.send(message(&opening)).await.unwrap();
        for piece in pieces {
            to.send(message(&json!({"type": "text", "text": piece}))).await.unwrap();
        }
        to.send(message(&json!({"type": "end-of-text"}))).await.unwrap();
        to
    });
    let mut told = Told::default();
    while told.take(&mut from).await {}
    drop(send.await.unwrap());
    assert_eq!(told.code, Some(1000), "{:?}", told.messages.last());
    let sentences = told.of("sentence");
    let written: String = sentences.iter().map(|sentence| sentence["text"].as_str().unwrap()).collect();
    let whole = format!("{}{text}", notice.unwrap_or_default());
    assert_eq!(written, whole, "not a letter is lost or told twice");
    let words: Vec<&str> = notice.into_iter().chain([text]).flat_map(str::split_whitespace).collect();
    assert_eq!(words_of(&told.audio, pcm()), words.join(" "));
    let froms: Vec<f64> = sentences.iter().map(|sentence| sentence["from"].as_f64().unwrap()).collect();
    assert!(froms.is_sorted() && froms.first().is_none_or(|from| *from == 0.0), "{froms:?}");
    let end = told.of("end-of-audio")[0];
    assert!((end["duration"].as_f64().unwrap() - told.seconds()).abs() < 0.001, "{end}");
    assert_eq!(end["dispatches"], sentences.len());
    told
}

#[tokio::test]
async fn fragments_are_spoken_exactly_and_charged_as_they_are_spoken() {
    let demo = Demo::start(BINARY).await;
    let text = "Dr. Tussock sails at 6.15 p.m. today. The ramp is closing! Please wait behind the line, \
                and have your ticket ready: No. 5 boards first. The fare is 3.50. Is the deck wet? \
                Thank you for sailing with us. "
        .repeat(6);
    let told = narrated(&demo, opening(), &text).await;
    assert_eq!(told.of("open")[0]["audio"], "audio/pcm;rate=24000;channels=1;bits=16");
    assert_eq!(told.of("sentence")[0]["text"], "Dr. Tussock sails at 6.15 p.m. today. ");
    let spoken: usize =
        told.of("sentence").iter().map(|one| one["text"].as_str().unwrap().trim().chars().count()).sum();
    // Heron takes 16 EUR for a million characters.
    let cost = format!("{:.6}", spoken as f64 * 0.000_016);
    assert_eq!(told.of("end-of-audio")[0]["costs"], json!([{"amount": cost, "currency": "EUR"}]));
}

#[tokio::test(flavor = "multi_thread")]
async fn the_notice_of_an_app_is_spoken_once_and_with_the_first_text() {
    let demo = Demo::start(BINARY).await;
    demo.client(&["app", "change", "quay-announcer", "--notice", "This is a computer."]);
    let notice = Some("This is a computer.");
    let told = narrated_after(&demo, opening(), notice, "The ramp is open. Mind the gap.").await;
    assert_eq!(told.of("sentence").len(), 3);
    let told = narrated(&demo, opening(), "").await;
    assert_eq!(told.seconds(), 0.0, "nothing was said, and nothing is announced");
}

#[tokio::test]
async fn words_are_told_at_their_second_of_the_whole_session() {
    let demo = Demo::start(BINARY).await;
    let text = "The ramp is closing. Please stand clear of the doors. Have a calm crossing.";
    let told = narrated(&demo, json!({"type": "open", "voice": "dotterel/cairn"}), text).await;
    let words: Vec<&str> = told.of("word").iter().map(|word| word["text"].as_str().unwrap()).collect();
    assert_eq!(words.join(" "), text);
    let heard = dispatcher_standins::tone::hear(&samples_of(&told.audio), 24_000);
    let heard: Vec<_> = heard.into_iter().flat_map(|one| one.words).collect();
    for (word, heard) in told.of("word").iter().zip(&heard) {
        let start = word["start"].as_f64().unwrap();
        assert!((start - heard.start).abs() < 0.05, "{word} is heard at {}", heard.start);
    }
    assert_eq!(heard.len(), words.len());
}

fn samples_of(pcm: &[u8]) -> Vec<f32> {
    pcm.as_chunks::<2>().0.iter().map(|pair| f32::from(i16::from_le_bytes(*pair)) / 32_768.0).collect()
}

#[tokio::test]
async fn a_listener_who_breaks_in_hears_nothing_more_and_the_model_learns_what_was_heard() {
    let demo = Demo::start(BINARY).await;
    demo.weather_of("dotterel", json!({"weather": "drip"})).await;
    let mut socket = connect(&demo, &demo.app).await;
    let mut told = Told::default();
    socket.send(message(&json!({"type": "open", "voice": "dotterel/cairn"}))).await.unwrap();
    let text = "The ramp is closing. Please wait behind the line. The crossing takes two hours. ".repeat(3);
    socket.send(message(&json!({"type": "text", "text": text}))).await.unwrap();
    // In the middle of the second sentence.
    while told.of("sentence").len() < 2 || told.of("word").len() < 7 {
        assert!(told.take(&mut socket).await, "{:?}", told.messages);
    }
    let heard = told.of("word")[5]["start"].as_f64().unwrap() + 0.01;
    socket.send(message(&json!({"type": "heard", "position": heard}))).await.unwrap();
    let confirmed = told.until(&mut socket, "heard").await;
    assert_eq!(confirmed["text"], "The ramp is closing. Please wait", "{confirmed}");
    let begun = Instant::now();
    socket.send(message(&json!({"type": "stop", "position": heard}))).await.unwrap();
    let stopped = told.until(&mut socket, "stopped").await;
    // A busy machine is no fault; the rest of the text would take far longer.
    assert!(begun.elapsed() < Duration::from_secs(2), "{:?}", begun.elapsed());
    assert_eq!(stopped["text"], "The ramp is closing. Please wait");
    let bytes = told.audio.len();
    demo.weather_of("dotterel", Value::Null).await;
    // It goes on with what the model says next.
    socket.send(message(&json!({"type": "text", "text": "Of course"}))).await.unwrap();
    socket.send(message(&json!({"type": "speak-now"}))).await.unwrap();
    assert_eq!(told.until(&mut socket, "sentence").await["text"], "Of course");
    socket.send(message(&json!({"type": "end-of-text"}))).await.unwrap();
    while told.take(&mut socket).await {}
    assert_eq!(words_of(&told.audio[bytes..], pcm()), "Of course", "nothing of the old text is heard after it");
    let last = told.of("sentence").last().unwrap()["from"].as_f64().unwrap();
    assert!((last - heard).abs() < 0.002, "{last} and {heard}");
    let rows = demo.get("/api/v1/dispatches").await;
    let states: Vec<&str> =
        rows["items"].as_array().unwrap().iter().map(|row| row["state"].as_str().unwrap()).collect();
    assert_eq!(states.iter().filter(|state| **state == "done").count(), 2, "{states:?}");
    assert!(states.contains(&"abandoned") && states.len() <= 5, "what was not called for costs nothing: {states:?}");
}

#[tokio::test]
async fn what_does_not_keep_to_the_messages_or_the_amounts_is_told_why() {
    let demo = Demo::start(BINARY).await;
    let end = async |key: &str, messages: &[Value]| {
        let mut socket = connect(&demo, key).await;
        for one in messages {
            socket.send(message(one)).await.unwrap();
        }
        let mut told = Told::default();
        while told.take(&mut socket).await {}
        let problem = told.of("problem").first().map(|one| one["problem"]["detail"].as_str().unwrap().to_owned());
        (told.code.unwrap(), problem.unwrap_or_default())
    };
    let text = |text: &str| json!({"type": "text", "text": text});
    let app = demo.app.clone();
    for (messages, why) in [
        (vec![text("Ahoy.")], "the first message must have the type open"),
        (vec![json!({"type": "open", "voice": "heron/nobody"})], "heron/nobody"),
        (
            vec![json!({"type": "open", "voice": "heron/pellin", "text": "Ahoy."})],
            "text is not available in a live session",
        ),
        (
            vec![json!({"type": "open", "voice": "heron/pellin", "audio": {"type": "audio/mpeg"}})],
            "cannot be sent sentence by sentence",
        ),
        (vec![opening(), opening()], "the session is open already"),
        (vec![opening(), json!({"type": "end-of-text"}), text("x")], "text was sent after end-of-text"),
        (vec![opening(), text(&"word ".repeat(30_000)), text(&"word ".repeat(30_000))], "bytes of text are waiting"),
    ] {
        let (code, told) = end(&app, &messages).await;
        assert!(code == 1008 && told.contains(why), "{why}: {code} {told}");
    }
    let (_, token) = token_of(&demo, json!({"calls": ["speak"], "characters": 30})).await;
    let all = [opening(), text("The ramp is closing. Please wait behind the line."), json!({"type": "end-of-text"})];
    let (code, told) = end(&token, &all).await;
    assert_eq!((code, told.as_str()), (1008, "the token has 10 characters left, and the request needs 28"));
}
