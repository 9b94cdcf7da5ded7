//! Live recognition over the network: messages in their order, what does not
//! keep to it, an engine whose calls last 200 s, and the client.

use std::time::Duration;

use crate::BINARY;
use dispatcher_audio::{Codec, Format, encode_all};
use dispatcher_e2e::Demo;
use dispatcher_standins::tone::{Manner, speak};
use futures::{SinkExt as _, StreamExt as _};
use reqwest::header::{CONNECTION, SEC_WEBSOCKET_KEY, SEC_WEBSOCKET_VERSION, UPGRADE};
use serde_json::{Value, json};
use tokio_tungstenite::WebSocketStream;
use tokio_tungstenite::tungstenite::Message;
use tokio_tungstenite::tungstenite::protocol::Role;

const RATE: u32 = 16_000;
const SAID: [&str; 3] = ["The ramp is closing now.", "Stand clear of the doors.", "Have a calm crossing."];

pub(crate) type Socket = WebSocketStream<reqwest::Upgraded>;

pub(crate) async fn connect(demo: &Demo, key: &str) -> Socket {
    connect_to(demo, &format!("{}/api/v1/transcripts/live", demo.url), Some(key)).await
}

/// Opens a socket at an address, with a key unless that has a token.
pub(crate) async fn connect_to(demo: &Demo, address: &str, key: Option<&str>) -> Socket {
    let request = demo.http.get(address);
    let request = match key {
        Some(key) => request.bearer_auth(key),
        None => request,
    };
    let request = request.header(CONNECTION, "Upgrade").header(UPGRADE, "websocket");
    let request = request.header(SEC_WEBSOCKET_VERSION, "13").header(SEC_WEBSOCKET_KEY, "dGhlIHNhbXBsZSBub25jZQ==");
    let response = request.send().await.unwrap();
    assert_eq!(response.status(), 101);
    WebSocketStream::from_raw_socket(response.upgrade().await.unwrap(), Role::Client, None).await
}

pub(crate) fn opening(members: Value) -> Message {
    let mut open = json!({"type": "open", "format": "audio/pcm;rate=16000", "language": "en-GB"});
    open.as_object_mut().unwrap().extend(members.as_object().unwrap().clone());
    Message::text(open.to_string())
}

/// Sentences with a pause before each.
pub(crate) fn spoken(sentences: &[&str], pause: f64) -> Vec<u8> {
    let silence = vec![0.0; (pause * f64::from(RATE)) as usize];
    let mut samples = silence.clone();
    for sentence in sentences {
        samples.extend(speak(sentence, Manner { pitch: 1.0, rate: 1.5 }, RATE));
        samples.extend_from_slice(&silence);
    }
    encode_all(&samples, Format::new(Codec::Pcm, RATE)).unwrap()
}

/// All messages until the connection is closed, and the code that it is closed with.
async fn rest(socket: &mut Socket) -> (Vec<Value>, Option<u16>) {
    let mut messages = Vec::new();
    loop {
        match tokio::time::timeout(Duration::from_secs(60), socket.next()).await.expect("a message in time") {
            Some(Ok(Message::Text(text))) => messages.push(serde_json::from_str(&text).unwrap()),
            Some(Ok(Message::Close(frame))) => return (messages, frame.map(|frame| frame.code.into())),
            Some(Ok(_)) => {}
            Some(Err(_)) | None => return (messages, None),
        }
    }
}

/// Sends audio while what comes back is taken.
pub(crate) async fn converse(socket: Socket, audio: Vec<u8>, piece: usize) -> (Vec<Value>, Option<u16>) {
    let (mut to, from) = socket.split();
    let send = tokio::spawn(async move {
        for piece in audio.chunks(piece) {
            if to.send(Message::binary(piece.to_vec())).await.is_err() {
                return to;
            }
        }
        let _ = to.send(Message::text(r#"{"type":"end-of-input"}"#)).await;
        to
    });
    let mut messages = Vec::new();
    let mut from = from;
    let code = loop {
        match tokio::time::timeout(Duration::from_secs(120), from.next()).await.expect("a message in time") {
            Some(Ok(Message::Text(text))) => messages.push(serde_json::from_str(&text).unwrap()),
            Some(Ok(Message::Close(frame))) => break frame.map(|frame| frame.code.into()),
            Some(Ok(_)) => {}
            Some(Err(_)) | None => break None,
        }
    };
    drop(send.await.unwrap());
    (messages, code)
}

fn kinds(messages: &[Value]) -> Vec<&str> {
    messages.iter().map(|message| message["type"].as_str().unwrap()).collect()
}

#[tokio::test]
async fn captions_come_while_somebody_speaks_and_the_dispatch_shows_the_calls() {
    let demo = Demo::start(BINARY).await;
    let mut socket = connect(&demo, &demo.app).await;
    socket.send(opening(json!({"engine": "whimbrel"}))).await.unwrap();
    let (messages, code) = converse(socket, spoken(&SAID, 1.3), 3_200).await;
    assert_eq!(code, Some(1000));
    assert_eq!((messages[0]["type"].as_str(), messages[0]["engine"].as_str()), (Some("open"), Some("whimbrel")));
    let finals: Vec<_> = messages.iter().filter(|message| message["type"] == "final").collect();
    let texts: Vec<_> = finals.iter().map(|message| message["text"].as_str().unwrap()).collect();
    assert_eq!(texts, SAID);
    for message in &finals {
        let interim = |other: &&Value| other["type"] == "interim" && other["segment"] == message["segment"];
        let words = |message: &Value| message["words"].as_array().unwrap().len();
        // Its guesses have the words in another order.
        let guess = messages.iter().find(interim).expect("an interim caption");
        assert!(guess["text"] != message["text"] && words(guess) == words(message), "{guess}");
        assert!(message["start"].as_f64().unwrap() < message["end"].as_f64().unwrap());
    }
    let last = messages.last().unwrap();
    assert_eq!((last["type"].as_str(), last["text"].as_str()), (Some("end-of-input"), Some(SAID.join(" ").as_str())));
    let dispatch = demo.get(&format!("/api/v1/dispatches/{}", last["dispatch"].as_str().unwrap())).await;
    assert_eq!((dispatch["state"].as_str(), dispatch["work"].as_str()), (Some("done"), Some("recognition")));
    assert_eq!(dispatch["attempts"].as_array().unwrap().len(), 3);
    assert_eq!(dispatch["cost"], last["cost"]);
    // Without interim captions, and by an engine that hears whole recordings.
    let mut socket = connect(&demo, &demo.app).await;
    socket.send(opening(json!({"engine": "turnstone", "interim": false}))).await.unwrap();
    let (messages, _) = converse(socket, spoken(&SAID, 1.0), 16_000).await;
    assert!(!kinds(&messages).contains(&"interim"));
    assert_eq!(messages.last().unwrap()["text"], SAID.join(" "));
}

#[tokio::test]
async fn what_does_not_keep_to_the_messages_is_told_why_and_harms_nobody_else() {
    let demo = Demo::start(BINARY).await;
    let mut other = connect(&demo, &demo.app).await;
    other.send(opening(json!({"engine": "whimbrel"}))).await.unwrap();
    let large = Message::binary(vec![0; (1 << 20) + 1]);
    let wrong = [
        (vec![Message::text("{")], "bad-request", 1008),
        (vec![Message::text("[1]")], "bad-request", 1008),
        (vec![Message::binary(vec![0; 100])], "bad-request", 1008),
        (vec![Message::text(r#"{"type":"end-of-input"}"#)], "bad-request", 1008),
        (vec![opening(json!({"engin": "whimbrel"}))], "bad-request", 1008),
        (vec![opening(json!({"engine": "whimbrell"}))], "no-such-engine", 1008),
        (vec![opening(json!({"engine": "whimbrel", "language": "en_GB!"}))], "invalid", 1008),
        (vec![opening(json!({"engine": "whimbrel", "format": "tide/pool"}))], "invalid", 1008),
        (vec![opening(json!({"engine": "whimbrel", "speakers": true}))], "invalid", 1008),
        (vec![opening(json!({"engine": "whimbrel"})), opening(json!({}))], "bad-request", 1008),
        (vec![opening(json!({"engine": "whimbrel"})), Message::text(r#"{"type":"tide"}"#)], "bad-request", 1008),
        (
            vec![opening(json!({"engine": "whimbrel", "format": null})), Message::binary(vec![b'?'; 20_000])],
            "not-audio",
            1008,
        ),
        (vec![large], "too-large", 1009),
    ];
    for (messages, kind, code) in wrong {
        let mut socket = connect(&demo, &demo.app).await;
        let shown = format!("{:.120}", format!("{messages:?}"));
        for message in messages {
            // It may be closed before the last of them.
            let _ = socket.send(message).await;
        }
        let (told, closed) = rest(&mut socket).await;
        let problem = &told.last().unwrap_or_else(|| panic!("nothing is told of {shown}"))["problem"];
        assert!(problem["type"].as_str().unwrap().ends_with(&format!("/problems/{kind}")), "{shown}: {problem}");
        assert_eq!(closed, Some(code), "{shown}");
    }
    let refused = demo.http.get(format!("{}/api/v1/transcripts/live", demo.url)).send().await.unwrap();
    assert_eq!(refused.status(), 401);
    let (messages, code) = converse(other, spoken(&SAID[..1], 1.3), 8_000).await;
    assert_eq!((messages.last().unwrap()["text"].as_str(), code), (Some(SAID[0]), Some(1000)));
}

#[tokio::test]
async fn an_engine_whose_calls_are_short_is_renewed_and_one_that_is_lost_is_replaced() {
    let demo = Demo::start(BINARY).await;
    // Five minutes, where whimbrel takes 200 s at the most; short pauses between sentences.
    let sentences: Vec<&str> = SAID.iter().copied().cycle().take(175).collect();
    let audio = spoken(&sentences, 0.5);
    assert!(audio.len() > 290 * 32_000, "{} s", audio.len() / 32_000);
    let body = json!({"work": "recognition", "legs": [{"engine": "whimbrel"}, {"engine": "turnstone"}]});
    let put = demo.http.put(format!("{}/api/v1/routes/deck", demo.url)).bearer_auth(&demo.operator).json(&body);
    assert!(put.send().await.unwrap().status().is_success());
    demo.weather_of("whimbrel", json!({"weather": "half", "skip": 1, "calls": 1})).await;
    let mut socket = connect(&demo, &demo.app).await;
    socket.send(opening(json!({"route": "deck", "interim": false}))).await.unwrap();
    let (messages, code) = converse(socket, audio, 32_000).await;
    let last = messages.last().unwrap();
    assert_eq!((code, last["text"].as_str()), (Some(1000), Some(sentences.join(" ").as_str())));
    assert!(kinds(&messages).contains(&"renewed"));
    let starts: Vec<f64> =
        messages.iter().filter(|it| it["type"] == "final").map(|it| it["start"].as_f64().unwrap()).collect();
    assert!(starts.windows(2).all(|pair| pair[0] < pair[1]), "in the order in which they were said: {starts:?}");
    let dispatch = demo.get(&format!("/api/v1/dispatches/{}", last["dispatch"].as_str().unwrap())).await;
    let failed = dispatch["attempts"].as_array().unwrap().iter().filter(|one| one["state"] == "failed").count();
    assert_eq!(failed, 1, "{dispatch}");
}

#[tokio::test]
async fn the_client_captions_a_file_and_standard_input() {
    let demo = Demo::start(BINARY).await;
    let samples = spoken(&SAID, 1.3);
    let path = demo.folder.path().join("drill.pcm");
    std::fs::write(&path, &samples).unwrap();
    let file = path.to_str().unwrap();
    let kind = ["--type", "audio/pcm;rate=16000"];
    let output = demo.client(&[&["caption", file, "--engine", "whimbrel", "--times"][..], &kind[..]].concat());
    let (told, noted) = (String::from_utf8(output.stdout).unwrap(), String::from_utf8(output.stderr).unwrap());
    assert!(output.status.success(), "{noted}");
    let lines: Vec<&str> = told.lines().collect();
    assert_eq!(lines.len(), 3, "{told}");
    assert!(lines[0].trim().ends_with(SAID[0]) && lines[0].trim().starts_with("1."), "{told}");
    assert!(noted.contains("dispatch "), "{noted}");
    let mut child =
        demo.client_command(&[&["caption", "-", "--engine", "turnstone", "--json"][..], &kind[..]].concat());
    let child = child.stdin(std::process::Stdio::piped()).stdout(std::process::Stdio::piped());
    let mut child = child.spawn().unwrap();
    std::io::Write::write_all(&mut child.stdin.take().unwrap(), &samples).unwrap();
    let output = child.wait_with_output().unwrap();
    let last: Value = serde_json::from_str(String::from_utf8_lossy(&output.stdout).lines().last().unwrap()).unwrap();
    assert_eq!(last["text"], SAID.join(" "));
    let missing = demo.client(&["caption", file, "--engine", "nobody", "--type", "audio/pcm;rate=16000"]);
    assert!(String::from_utf8_lossy(&missing.stderr).contains("nobody"), "{missing:?}");
    assert_eq!(missing.status.code(), Some(1));
}
