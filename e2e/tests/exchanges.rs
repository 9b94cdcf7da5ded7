//! Exchanges: what is said, the reply of the hook, and its voice, in one call
//! and live; what becomes of a hook that fails, and what stays on the machine.

use std::time::Duration;

use base64::Engine as _;
use base64::engine::general_purpose::STANDARD;
use dispatcher_audio::{Codec, Format};
use dispatcher_e2e::{Demo, check_signature, take_requests, words_of};
use futures::SinkExt as _;
use reqwest::multipart::{Form, Part};
use serde_json::{Value, json};
use tokio_tungstenite::tungstenite::Message;

use crate::BINARY;
use crate::live::{Socket, connect_to, spoken};
use crate::narration::Told;
use crate::tokens::token_of;

const QUESTION: &str = "When is the next ferry to Gullsay?";
const REPLY: &str =
    "The next ferry to Gullsay leaves at quarter past six from quay 2. After that there is one at five past eight.";
const APOLOGY: &str = "I am sorry, the timetable desk does not answer. Please ask at the quay.";
const FLAG: &[u8] = include_bytes!("../../demo/pictures/flag.png");

async fn post(demo: &Demo, key: &str, body: &Value) -> (u16, Value) {
    let request = demo.http.post(format!("{}/api/v1/exchanges", demo.url)).bearer_auth(key).json(body);
    let response = request.send().await.unwrap();
    (response.status().as_u16(), response.json().await.unwrap())
}

/// Text in, spoken by heron at twice its pace.
async fn ask(demo: &Demo, text: &str, members: Value) -> Value {
    let mut body = json!({"text": text, "voice": voice()});
    body.as_object_mut().unwrap().extend(members.as_object().unwrap().clone());
    let (status, answer) = post(demo, &demo.app, &body).await;
    assert_eq!(status, 200, "{answer}");
    answer
}

fn voice() -> Value {
    json!({"voice": "heron/pellin", "prosody": {"rate": "200%"}})
}

fn audio_of(answer: &Value) -> Vec<u8> {
    let base64 = answer["audio"]["base64"].as_str().unwrap();
    let kind = answer["audio"]["type"].as_str().unwrap();
    assert_eq!(answer["audio"]["data_uri"], format!("data:{kind};base64,{base64}"));
    STANDARD.decode(base64).unwrap()
}

/// Dispatches that cost something, as text with the digits that the API tells.
fn nanos(amount: &Value) -> i64 {
    let (whole, fraction) =
        amount["amount"].as_str().unwrap().split_once('.').unwrap_or((amount["amount"].as_str().unwrap(), ""));
    format!("{whole}{fraction:0<9}").parse().unwrap()
}

#[tokio::test]
async fn one_call_hears_asks_and_speaks_and_is_on_record() {
    let demo = Demo::start(BINARY).await;
    let question = spoken(&[QUESTION], 0.2);
    let request = json!({"ear": {"engine": "turnstone"}, "voice": {"audio": {"type": "mp3"}, "voice": "heron/pellin"}});
    let form = || {
        let audio = Part::bytes(question.clone()).file_name("question").mime_str("audio/pcm;rate=16000").unwrap();
        Form::new().part("audio", audio).text("request", request.to_string())
    };
    let send = || {
        let request = demo.http.post(format!("{}/api/v1/exchanges", demo.url)).bearer_auth(&demo.app);
        request.header("Idempotency-Key", "the-first-question").multipart(form()).send()
    };
    let response = send().await.unwrap();
    assert_eq!(response.status(), 200);
    assert_eq!(response.headers()["dispatch-synthetic"], "?1");
    let timing = response.headers()["server-timing"].to_str().unwrap().to_owned();
    assert!(["ear;dur=", "reply;dur=", "voice;dur="].iter().all(|stage| timing.contains(stage)), "{timing}");
    let answer: Value = response.json().await.unwrap();
    assert_eq!((&answer["state"], &answer["transcript"]["text"]), (&json!("answered"), &json!(QUESTION)));
    assert_eq!(answer["transcript"]["engine"], "turnstone");
    assert_eq!((&answer["reply"]["text"], &answer["reply"]["spoken"]), (&json!(REPLY), &json!(REPLY)));
    assert_eq!(answer["audio"]["type"], "audio/mpeg");
    assert_eq!(words_of(&audio_of(&answer), Format::new(Codec::Mp3, 24_000)), REPLY);
    let stage = |name: &str, member: &str| answer["stages"][name][member].as_f64().unwrap();
    assert!(stage("ear", "first") <= stage("reply", "first") && stage("reply", "first") < stage("voice", "first"));
    assert!(stage("voice", "first") < stage("voice", "end"), "{answer}");
    // The costs are those of the dispatches that the stages name.
    let mut spent = 0;
    for name in ["ear", "voice"] {
        for id in answer["stages"][name]["dispatches"].as_array().unwrap() {
            let dispatch = demo.get(&format!("/api/v1/dispatches/{}", id.as_str().unwrap())).await;
            assert_eq!(dispatch["state"], "done");
            spent += nanos(&dispatch["cost"]);
        }
    }
    let costs: i64 = answer["costs"].as_array().unwrap().iter().map(nanos).sum();
    assert!(spent > 0 && costs == spent, "{costs} {spent}");
    // The same again with the same key is not asked again.
    let again: Value = send().await.unwrap().json().await.unwrap();
    assert_eq!(again["id"], answer["id"]);
    let list = demo.get("/api/v1/exchanges").await;
    assert_eq!(list["items"].as_array().unwrap().len(), 1);
    let line = &list["items"][0];
    assert_eq!(
        (&line["id"], &line["app"], &line["state"]),
        (&answer["id"], &json!("quay-announcer"), &json!("answered"))
    );
    assert_eq!((&line["stages"], &line["fault"]), (&answer["stages"], &Value::Null));
    assert!(!list.to_string().contains("Gullsay"), "what was said is not on record");
}

#[tokio::test]
async fn a_picture_goes_to_the_hook_and_plain_text_is_spoken_as_well() {
    let demo = Demo::start(BINARY).await;
    let flag = json!({"attachment": {"type": "image/png", "base64": STANDARD.encode(FLAG)}});
    let answer = ask(&demo, "What does this flag mean?", flag).await;
    assert_eq!(answer["reply"]["text"], "This is the flag L. It means: stop your ship at once.");
    assert_eq!(
        words_of(&audio_of(&answer), Format::new(Codec::Wav, 24_000)),
        answer["reply"]["spoken"].as_str().unwrap()
    );
    assert!(answer["stages"]["ear"].is_null());
    let app = demo.get("/api/v1/apps/quay-announcer").await;
    let hook = format!("{}?form=text", app["reply_hook"].as_str().unwrap());
    let changed = demo.client(&["app", "change", "quay-announcer", "--reply-hook", &hook]);
    assert!(changed.status.success(), "{}", String::from_utf8_lossy(&changed.stderr));
    assert_eq!(ask(&demo, QUESTION, json!({})).await["reply"]["spoken"], REPLY);
}

#[tokio::test]
async fn a_hook_that_fails_stalls_or_rambles_ends_in_the_apology_and_a_record() {
    let demo = Demo::start(BINARY).await;
    let wish = json!({"reply": {"within": 1.0, "characters": 100}});
    for (weather, fault) in [
        (json!({"weather": "down"}), "the reply hook failed: it answered 503"),
        (json!({"weather": "reset"}), "the reply hook failed: "),
        (json!({"weather": "becalmed"}), "the reply hook stalled: no text for 1 s"),
        (json!({"weather": "garbage"}), "the reply hook failed: its answer is not UTF-8"),
        (json!({"weather": "wrong-type"}), "it answered with 'text/html'"),
    ] {
        demo.weather_of("timetable", weather.clone()).await;
        let answer = ask(&demo, QUESTION, wish.clone()).await;
        assert_eq!((&answer["state"], &answer["reply"]["text"]), (&json!("apologised"), &json!("")), "{weather}");
        assert!(answer["reply"]["fault"].as_str().unwrap().contains(fault), "{weather}: {answer}");
        assert_eq!(answer["reply"]["spoken"], APOLOGY);
        assert_eq!(words_of(&audio_of(&answer), Format::new(Codec::Wav, 24_000)), APOLOGY);
    }
    // What was a whole sentence is spoken, and what was none is not.
    demo.weather_of("timetable", json!({"weather": "half", "share": 0.8})).await;
    let answer = ask(&demo, QUESTION, json!({})).await;
    assert!(answer["reply"]["text"].as_str().unwrap().contains("After that"), "{answer}");
    let whole = format!("The next ferry to Gullsay leaves at quarter past six from quay 2. {APOLOGY}");
    assert_eq!(answer["reply"]["spoken"], whole);
    demo.weather_of("timetable", Value::Null).await;
    let answer = ask(&demo, "Tell me everything.", wish).await;
    assert_eq!(answer["reply"]["text"].as_str().unwrap().chars().count(), 100);
    let sentence = "The ferry leaves, and the ferry comes back.";
    assert_eq!(answer["reply"]["spoken"], format!("{sentence} {sentence} {APOLOGY}"));
    let fault = "the reply hook failed: its answer has more than 100 characters";
    assert_eq!(answer["reply"]["fault"], fault);
    let list = demo.get("/api/v1/exchanges?limit=1").await;
    assert_eq!((&list["items"][0]["state"], &list["items"][0]["fault"]), (&json!("apologised"), &json!(fault)));
    assert_eq!(demo.get("/api/v1/exchanges").await["items"].as_array().unwrap().len(), 7);
}

#[tokio::test]
async fn the_hook_is_told_all_it_needs_and_who_asks_is_proven() {
    let (host, mut heard) = take_requests(&[200]).await;
    let demo = Demo::start_with_settings(BINARY, &format!("webhook_hosts = [\"{host}\"]\n")).await;
    let address = format!("http://{host}/answer?desk=1");
    let changed = demo.client(&["app", "change", "quay-announcer", "--reply-hook", &address, "--apology", "none"]);
    assert!(changed.status.success(), "{}", String::from_utf8_lossy(&changed.stderr));
    let members = json!({"reply": {"context": {"visitor": 7}}, "ear": {"language": "en-GB"},
        "attachment": {"type": "image/png", "base64": STANDARD.encode(FLAG)}});
    let answer = ask(&demo, QUESTION, members).await;
    assert_eq!(
        answer["reply"]["spoken"], "I am sorry, I cannot answer that at the moment.",
        "an app without an apology"
    );
    let (head, body) = tokio::time::timeout(Duration::from_secs(20), heard.recv()).await.unwrap().unwrap();
    check_signature(&demo.get("/api/v1/webhook-key").await, &head, &body, &address);
    assert!(head.to_lowercase().contains("accept: text/event-stream, text/plain"), "{head}");
    let told: Value = serde_json::from_slice(&body).unwrap();
    let expected = json!({
        "event": "exchange", "exchange": answer["id"], "app": "quay-announcer", "text": QUESTION, "language": "en-GB",
        "context": {"visitor": 7}, "attachment": {"type": "image/png", "base64": STANDARD.encode(FLAG)},
    });
    assert_eq!(told, expected);
}

#[tokio::test]
async fn what_cannot_be_an_exchange_is_refused_before_anything_is_called() {
    let demo = Demo::start(BINARY).await;
    let calls = || async { demo.delivered_by("timetable").await["calls"].as_u64().unwrap() };
    let text = |members: Value| {
        let mut body = json!({"text": QUESTION, "voice": voice()});
        body.as_object_mut().unwrap().extend(members.as_object().unwrap().clone());
        body
    };
    for (body, pointer, says) in [
        (json!({"voice": voice()}), "/audio", "send audio or text"),
        (text(json!({"reply": {"within": 0.1}})), "/reply/within", "0.5 to 60"),
        (text(json!({"reply": {"characters": 0}})), "/reply/characters", "1 to 20000"),
        (text(json!({"attachment": {"type": "flag", "base64": ""}})), "/attachment/type", "no media type"),
        (text(json!({"attachment": {"type": "image/png", "base64": "?"}})), "/attachment/base64", "base64"),
        (text(json!({"ear": {"speakers": true}})), "/ear/speakers", "not available in an exchange"),
        (text(json!({"voice": {"text": "Ahoy"}})), "/voice/text", "not available"),
        (text(json!({"voice": {"deadline": 9999}})), "/voice/deadline", "a deadline is"),
        (text(json!({"site": "moon"})), "/site", "local"),
    ] {
        let (status, problem) = post(&demo, &demo.app, &body).await;
        assert_eq!((status, problem["errors"][0]["pointer"].as_str()), (422, Some(pointer)), "{body}: {problem}");
        assert!(problem["detail"].as_str().unwrap().contains(says), "{problem}");
    }
    // Heron is no engine of this machine.
    let (status, problem) = post(&demo, &demo.app, &text(json!({"site": "local"}))).await;
    assert!(status == 422 && problem["detail"].as_str().unwrap().contains("the site, the region"), "{problem}");
    let silence = json!({"audio": {"type": "audio/pcm;rate=16000", "base64": STANDARD.encode(vec![0; 32_000])}, "voice": voice()});
    let (status, problem) = post(&demo, &demo.app, &silence).await;
    assert_eq!((status, problem["detail"].as_str()), (422, Some("no speech was recognised")), "{problem}");
    // Another host, and an app without a hook.
    let refused = demo.client(&["app", "change", "helpline", "--reply-hook", "http://elsewhere.example/answer"]);
    assert!(String::from_utf8_lossy(&refused.stderr).contains("webhook_hosts"), "{refused:?}");
    assert!(demo.client(&["app", "change", "quay-announcer", "--reply-hook", "none"]).status.success());
    let (status, problem) = post(&demo, &demo.app, &text(json!({}))).await;
    assert!(status == 422 && problem["detail"].as_str().unwrap().contains("--reply-hook"), "{problem}");
    assert_eq!(calls().await, 0);
    let (_, token) = token_of(&demo, json!({"calls": ["speak"]})).await;
    assert_eq!(post(&demo, &token, &text(json!({}))).await.0, 403, "a token for another call");
}

#[tokio::test]
async fn a_local_exchange_stays_on_the_machine() {
    let demo = Demo::start(BINARY).await;
    let cloud = |name: &'static str| async { demo.delivered_by(name).await["calls"].as_u64().unwrap() };
    let question = demo.client(&[
        "speak",
        "Please go to the place where the people are.",
        "--voice",
        "flite/slt",
        "-o",
        "question.wav",
    ]);
    assert!(question.status.success(), "{}", String::from_utf8_lossy(&question.stderr));
    let output = demo.client(&[
        "exchange",
        "question.wav",
        "--site",
        "local",
        "--engine",
        "pocketsphinx",
        "--language",
        "en-US",
        "--voice",
        "flite/slt",
        "-o",
        "reply.wav",
    ]);
    let (told, beside) = (String::from_utf8_lossy(&output.stdout), String::from_utf8_lossy(&output.stderr));
    assert!(output.status.success(), "{beside}");
    assert!(told.contains("Reply  I know the ferries to Gullsay"), "{told}");
    assert!(beside.contains("ear ") && beside.contains("voice ") && beside.contains("reply.wav"), "{beside}");
    let reply = std::fs::read(demo.folder.path().join("reply.wav")).unwrap();
    assert!(dispatcher_audio::measure(&reply, None).unwrap().1.seconds() > 3.0);
    for name in ["heron", "turnstone", "whimbrel", "godwit", "avocet"] {
        assert_eq!(cloud(name).await, 0, "{name}");
    }
    let listed = demo.client(&["exchange", "--list"]);
    assert!(String::from_utf8_lossy(&listed.stdout).contains("answered"), "{listed:?}");
}

async fn open(demo: &Demo, key: &str, members: Value) -> Socket {
    let mut socket = connect_to(demo, &format!("{}/api/v1/exchanges/live", demo.url), Some(key)).await;
    let mut open = json!({"type": "open", "ear": {"engine": "whimbrel", "language": "en-GB"}, "voice": voice()});
    open.as_object_mut().unwrap().extend(members.as_object().unwrap().clone());
    socket.send(Message::text(open.to_string())).await.unwrap();
    socket
}

async fn say(socket: &mut Socket, audio: &[u8]) {
    for piece in audio.chunks(3_200) {
        socket.send(Message::binary(piece.to_vec())).await.unwrap();
    }
}

#[tokio::test]
async fn turns_are_parted_by_silence_and_each_is_answered() {
    let demo = Demo::start(BINARY).await;
    let (_, token) = token_of(&demo, json!({"calls": ["exchange"]})).await;
    let mut socket = open(&demo, &token, json!({"silence": 0.5})).await;
    let mut told = Told::default();
    assert_eq!(told.until(&mut socket, "open").await["audio"], "audio/pcm;rate=24000;channels=1;bits=16");
    for (question, reply) in [
        (QUESTION, REPLY),
        ("And the last one to Eelpool?", "The last ferry to Eelpool leaves at quarter past eleven from quay 4."),
    ] {
        told = Told::default();
        say(&mut socket, &spoken(&[question], 0.6)).await;
        let end = told.until(&mut socket, "end-of-turn").await;
        let kinds = told.kinds();
        let at = |kind: &str| kinds.iter().position(|one| *one == kind).unwrap_or_else(|| panic!("{kind}: {kinds:?}"));
        assert!(at("start-of-input") < at("final") && at("final") < at("said"), "{kinds:?}");
        assert!(at("said") < at("reply") && at("reply") < at("sentence"), "{kinds:?}");
        assert_eq!(told.messages[at("said")]["text"], question);
        assert_eq!(words_of(&told.audio, Format::new(Codec::Pcm, 24_000)), reply);
        assert_eq!((&end["state"], &end["fault"]), (&json!("answered"), &Value::Null));
        assert_eq!(end["stages"]["ear"]["dispatches"].as_array().unwrap().len(), 1, "{end}");
    }
    socket.send(Message::text(r#"{"type":"end-of-input"}"#)).await.unwrap();
    while told.take(&mut socket).await {}
    assert_eq!(told.code, Some(1000));
    assert_eq!(demo.get("/api/v1/exchanges").await["items"].as_array().unwrap().len(), 2);
}

#[tokio::test]
async fn whoever_speaks_into_a_reply_ends_it_and_is_answered_next() {
    let demo = Demo::start(BINARY).await;
    let mut socket = open(&demo, &demo.app, json!({"silence": 0.5, "reply": {"characters": 20_000}})).await;
    let mut told = Told::default();
    say(&mut socket, &spoken(&["Tell me everything."], 0.6)).await;
    told.until(&mut socket, "sentence").await;
    socket.send(Message::text(r#"{"type":"heard","position":0.5}"#)).await.unwrap();
    told.until(&mut socket, "heard").await;
    say(&mut socket, &spoken(&[QUESTION], 0.6)).await;
    let stopped = told.until(&mut socket, "stopped").await;
    assert_eq!((&stopped["position"], &stopped["text"]), (&json!(0.5), &stopped["text"]));
    assert!("The ferry leaves, and the ferry comes back. ".starts_with(stopped["text"].as_str().unwrap()), "{stopped}");
    assert_eq!(told.until(&mut socket, "end-of-turn").await["state"], "stopped");
    let mut next = Told::default();
    let end = next.until(&mut socket, "end-of-turn").await;
    assert_eq!(end["state"], "answered");
    assert_eq!(words_of(&next.audio, Format::new(Codec::Pcm, 24_000)), REPLY, "nothing of the reply before");
    // The hook was let go of.
    for _ in 0..100 {
        if demo.delivered_by("timetable").await["left"] == 1 {
            return;
        }
        tokio::time::sleep(Duration::from_millis(50)).await;
    }
    panic!("the hook is still asked");
}

/// Exchanges at once: some in `make test`, 500 in `make soak`.
fn at_once() -> usize {
    std::env::var("EXCHANGES").ok().and_then(|text| text.parse().ok()).unwrap_or(40)
}

#[tokio::test]
async fn the_client_converses_through_a_microphone_and_a_loudspeaker() {
    use std::os::unix::fs::PermissionsExt as _;
    let demo = Demo::start(BINARY).await;
    let folder = demo.folder.path();
    // Half a second of silence, the question, silence until it is answered.
    let question = [vec![0; 16_000], spoken(&[QUESTION], 0.0), vec![0; 64_000]].concat();
    std::fs::write(folder.join("question.raw"), question).unwrap();
    let programs = folder.join("programs");
    std::fs::create_dir(&programs).unwrap();
    for (name, script) in [("arecord", "cat question.raw; sleep 3"), ("aplay", "cat > played.raw")] {
        let path = programs.join(name);
        std::fs::write(&path, format!("#!/bin/sh\n{script}\n")).unwrap();
        std::fs::set_permissions(&path, std::fs::Permissions::from_mode(0o700)).unwrap();
    }
    let path = format!("{}:{}", programs.display(), std::env::var("PATH").unwrap());
    let options = ["exchange", "--microphone", "--engine", "whimbrel", "--voice", "heron/pellin"];
    let mut command = demo.client_command(&options);
    let output = tokio::task::spawn_blocking(move || command.env("PATH", path).output().unwrap()).await.unwrap();
    let (told, beside) = (String::from_utf8_lossy(&output.stdout), String::from_utf8_lossy(&output.stderr));
    assert!(output.status.success(), "{beside}");
    assert_eq!(told, format!("You    {QUESTION}\nReply  {REPLY}\n"));
    assert!(["ear ", "reply ", "voice ", " EUR"].iter().all(|part| beside.contains(part)), "{beside}");
    let played = std::fs::read(folder.join("played.raw")).unwrap();
    assert_eq!(words_of(&played, Format::new(Codec::Pcm, 24_000)), REPLY);
}

/// An answer, after as many tries as it takes: where there is too much to do,
/// some are told to come later.
async fn answered(request: reqwest::RequestBuilder) -> (u32, Value) {
    for tries in 1..=120 {
        let answer: Value = request.try_clone().unwrap().send().await.unwrap().json().await.unwrap();
        if !answer["state"].is_null() {
            return (tries, answer);
        }
        assert!([429, 503].contains(&answer["status"].as_u64().unwrap()), "{answer}");
        tokio::time::sleep(Duration::from_secs(1)).await;
    }
    panic!("it is never answered");
}

#[tokio::test(flavor = "multi_thread")]
async fn nobody_hears_the_reply_to_another() {
    let demo = Demo::start(BINARY).await;
    let url = format!("{}/api/v1/exchanges", demo.url);
    let begun = std::time::Instant::now();
    let calls = (0..at_once()).map(|number| {
        let body = json!({
            "audio": {"type": "audio/pcm;rate=16000", "base64": STANDARD.encode(spoken(&[&format!("Call Tarrick {number}.")], 0.1))},
            "ear": {"engine": "turnstone"}, "voice": {"voice": "heron/pellin", "prosody": {"rate": "200%"}},
        });
        let request = demo.http.post(&url).bearer_auth(&demo.app).json(&body);
        async move { (number, answered(request).await) }
    });
    let answers = futures::future::join_all(calls).await;
    let elapsed = begun.elapsed();
    let (mut tries, mut voices) = (0, Vec::new());
    for (number, (tried, answer)) in &answers {
        let reply = format!("Tarrick {number}, please come to the desk.");
        assert_eq!((&answer["state"], answer["reply"]["spoken"].as_str()), (&json!("answered"), Some(reply.as_str())));
        assert_eq!(words_of(&audio_of(answer), Format::new(Codec::Wav, 24_000)), reply);
        let first = |stage: &str| answer["stages"][stage]["first"].as_f64().unwrap();
        voices.push(first("voice") - first("reply"));
        tries += tried;
    }
    voices.sort_by(f64::total_cmp);
    let median = voices[voices.len() / 2];
    eprintln!("{} answered in {elapsed:?} with {tries} tries; text to audio: median {median:.3} s", answers.len());
    // Page by page: those that were refused are on record too.
    let (mut done, mut cursor) = (0, String::new());
    loop {
        let list = demo.get(&format!("/api/v1/exchanges?limit=100{cursor}")).await;
        done += list["items"].as_array().unwrap().iter().filter(|one| one["state"] == "answered").count();
        let Some(next) = list["next"].as_str() else { break };
        cursor = format!("&cursor={next}");
    }
    assert_eq!(done, at_once());
}

#[tokio::test]
async fn push_to_talk_ends_a_turn_at_once_and_typed_turns_and_pictures_are_answered() {
    let demo = Demo::start(BINARY).await;
    let members = json!({"turns": "push", "format": "audio/pcm;rate=16000", "interim": false});
    let mut socket = open(&demo, &demo.app, members).await;
    let mut told = Told::default();
    // A pause within a turn does not end it.
    say(&mut socket, &spoken(&["When is the next ferry", "to Gullsay?"], 1.2)).await;
    socket.send(Message::text(r#"{"type":"end-of-turn"}"#)).await.unwrap();
    let said = told.until(&mut socket, "said").await;
    assert_eq!(said["text"], QUESTION);
    told.until(&mut socket, "end-of-turn").await;
    assert!(!told.kinds().contains(&"interim"), "{:?}", told.kinds());
    let flag = json!({"type": "attachment", "media_type": "image/png", "base64": STANDARD.encode(FLAG)});
    socket.send(Message::text(flag.to_string())).await.unwrap();
    socket.send(Message::text(r#"{"type":"text","text":"What does this flag mean?"}"#)).await.unwrap();
    told = Told::default();
    told.until(&mut socket, "end-of-turn").await;
    let spoken = words_of(&told.audio, Format::new(Codec::Pcm, 24_000));
    assert_eq!(spoken, "This is the flag L. It means: stop your ship at once.");
    // A press without a word.
    say(&mut socket, &vec![0; 32_000]).await;
    socket.send(Message::text(r#"{"type":"end-of-turn"}"#)).await.unwrap();
    told.until(&mut socket, "nothing-said").await;
    socket.send(Message::text(r#"{"type":"tide"}"#)).await.unwrap();
    let problem = told.until(&mut socket, "problem").await;
    assert!(problem["problem"]["detail"].as_str().unwrap().contains("tide"), "{problem}");
}
