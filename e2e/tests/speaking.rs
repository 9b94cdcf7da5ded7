//! Synthesis through the network interface: formats, streaming, fallback,
//! broken transfers, callers who leave, money.

use crate::BINARY;
use std::io::{Read as _, Write as _};
use std::time::{Duration, Instant};

use dispatcher_audio::{Codec, Format, measure};
use dispatcher_e2e::{Demo, header, words_of};
use futures::StreamExt as _;
use serde_json::{Value, json};

const TEXT: &str = "The 06:15 to Gullsay is delayed by twenty minutes.";

#[tokio::test]
async fn every_engine_speaks_in_every_format() {
    let demo = Demo::start(BINARY).await;
    for voice in ["heron/pellin", "espeak-ng/en-gb", "flite/slt"] {
        for (accept, format) in [
            ("audio/mpeg", Format::new(Codec::Mp3, 24_000)),
            ("audio/wav", Format::new(Codec::Wav, 24_000)),
            ("audio/ogg;codecs=opus", Format::new(Codec::OggOpus, 24_000)),
            ("audio/basic", Format::new(Codec::Mulaw, 8_000)),
            ("audio/L16;rate=16000;channels=1", Format::new(Codec::L16, 16_000)),
        ] {
            let response = demo.speak(json!({"text": TEXT, "voice": voice}), accept).await;
            assert_eq!(response.status(), 200, "{voice} {accept}");
            assert_eq!(header(&response, "content-type"), accept);
            assert_eq!(header(&response, "dispatch-voice"), voice);
            assert_eq!(header(&response, "dispatch-synthetic"), "?1");
            let name = header(&response, "content-disposition");
            assert!(
                name.starts_with("inline; filename=\"the-06-15-to-gullsay")
                    && name.ends_with(&format!(".{}\"", format.codec.extension())),
                "{name}"
            );
            assert!(header(&response, "server-timing").starts_with("first-audio;dur="));
            let audio = response.bytes().await.unwrap();
            let (_, length) = measure(&audio, Some(format)).unwrap();
            assert!((1_500..8_000).contains(&length.milliseconds()), "{voice} {accept}: {} ms", length.milliseconds());
            if voice == "heron/pellin" {
                assert_eq!(words_of(&audio, format), TEXT, "{accept}");
            }
        }
    }
}

#[tokio::test]
async fn what_is_asked_decides_the_format_before_what_is_accepted() {
    let demo = Demo::start(BINARY).await;
    let kind = async |body: Value, accept: &str| header(&demo.speak(body, accept).await, "content-type");
    assert_eq!(kind(json!({"text": "a"}), "*/*").await, "audio/wav", "a bare call");
    assert_eq!(kind(json!({"text": "a", "audio": {"type": "opus"}}), "audio/wav").await, "audio/ogg;codecs=opus");
    assert_eq!(kind(json!({"text": "a"}), "audio/wav;q=0.2, audio/mpeg").await, "audio/mpeg");
    let wav =
        demo.speak(json!({"text": "a", "audio": {"sample_rate": 8000}}), "audio/wav").await.bytes().await.unwrap();
    assert_eq!(measure(&wav, None).unwrap().1.rate, 8_000);
    let plain = demo
        .post("/api/v1/utterances?voice=heron/tarrick&type=mp3&model=fine")
        .header("Content-Type", "text/plain")
        .body("Ahoy");
    let plain = plain.send().await.unwrap();
    assert_eq!(
        (header(&plain, "content-type"), header(&plain, "dispatch-model")),
        ("audio/mpeg".into(), "fine".into())
    );
    let criteria = demo
        .speak(json!({"text": "a", "voice": {"languages": "pt", "gender": "female", "name": "Beatriz"}}), "*/*")
        .await;
    assert_eq!(header(&criteria, "dispatch-voice"), "heron/beatriz");
    let ssml = demo.post("/api/v1/utterances?voice=heron/pellin").header("Content-Type", "application/ssml+xml");
    let ssml = ssml
        .body("<speak version=\"1.1\">The <sub alias=\"Saltmarsh Ferries\">SF</sub> <emphasis>pier</emphasis></speak>")
        .send()
        .await
        .unwrap();
    assert_eq!(header(&ssml, "dispatch-fidelity"), "plain");
    assert_eq!(words_of(&ssml.bytes().await.unwrap(), Format::default()), "The Saltmarsh Ferries pier");
}

#[tokio::test]
async fn the_json_answer_has_its_documented_shape() {
    use base64::Engine as _;
    let demo = Demo::start(BINARY).await;
    let body = json!({"text": TEXT, "voice": "heron/pellin", "model": "fine", "audio": {"type": "audio/mpeg"}});
    let answer: Value = demo.speak(body, "application/json").await.json().await.unwrap();
    let audio = base64::engine::general_purpose::STANDARD.decode(answer["audio"]["base64"].as_str().unwrap()).unwrap();
    assert_eq!(words_of(&audio, Format::new(Codec::Mp3, 24_000)), TEXT);
    assert_eq!(answer["audio"]["type"], "audio/mpeg");
    assert!(answer["audio"]["data_uri"].as_str().unwrap().starts_with("data:audio/mpeg;base64,"));
    let length = measure(&audio, None).unwrap().1.seconds();
    assert!((answer["audio"]["duration"].as_f64().unwrap() - length).abs() < 0.001);
    // 50 characters at 0.000016, times 1.7.
    assert_eq!(answer["cost"], json!({"amount": "0.001360", "currency": "EUR"}));
    for member in ["words", "marks", "fidelity", "warnings"] {
        assert!(answer[member].is_array(), "{member}");
    }
    assert_eq!((answer["engine"].as_str(), answer["voice"].as_str()), (Some("heron"), Some("heron/pellin")));
    assert_eq!(
        demo.get(&format!("/api/v1/dispatches/{}", answer["dispatch"].as_str().unwrap())).await["state"],
        "done"
    );
}

#[tokio::test]
async fn models_differ_in_price_and_estimates_are_met() {
    let demo = Demo::start(BINARY).await;
    for (model, cost) in [("quick", "0.000800"), ("fine", "0.001360"), ("bright", "0.000960"), ("directed", "0.001600")]
    {
        let body = json!({"text": TEXT, "voice": "heron/pellin", "model": model});
        let before = demo.delivered().await["calls"].clone();
        let estimate: Value = demo.post("/api/v1/estimates").json(&body).send().await.unwrap().json().await.unwrap();
        assert_eq!(
            (estimate["cost"]["amount"].as_str(), estimate["exact"].as_bool()),
            (Some(cost), Some(true)),
            "{model}"
        );
        assert_eq!(demo.delivered().await["calls"], before, "an estimate calls nobody");
        let response = demo.speak(body, "*/*").await;
        assert_eq!(header(&response, "dispatch-fingerprint"), estimate["fingerprint"]);
        let id = header(&response, "dispatch-id");
        response.bytes().await.unwrap();
        let dispatch = demo.settled(&id).await;
        assert_eq!(dispatch["cost"]["amount"], cost, "{model}");
        let kinds: Vec<&str> =
            dispatch["ledger"].as_array().unwrap().iter().map(|line| line["kind"].as_str().unwrap()).collect();
        assert_eq!(kinds, ["hold", "release", "settle"]);
    }
    let usage = demo.get("/api/v1/usage?by=app,engine").await;
    assert_eq!(usage["total"], json!([{"amount": "0.004720", "currency": "EUR"}]));
    assert_eq!(usage["items"][0]["characters"], 200);
    let days = demo.get("/api/v1/usage?by=day").await;
    assert_eq!(days["items"][0]["cost"]["amount"], "0.004720");
}

#[tokio::test]
async fn the_next_leg_answers_for_every_way_in_which_the_first_can_fail() {
    let demo = Demo::start(BINARY).await;
    demo.put_route(
        "hurry",
        json!([{"engine": "heron", "voice": "pellin", "deadline": 400}, {"engine": "espeak-ng", "voice": "en-gb"}]),
    )
    .await;
    for (weather, cause) in [
        ("throttled", "throttled"),
        ("down", "unavailable"),
        ("reset", "unavailable"),
        ("garbage", "broken"),
        ("wrong-type", "broken"),
        ("expired", "unauthorized"),
        ("becalmed", "timed-out"),
    ] {
        demo.weather(json!({"weather": weather})).await;
        let response = demo.speak(json!({"text": TEXT, "voice": "hurry"}), "audio/mpeg").await;
        assert_eq!(
            (response.status().as_u16(), header(&response, "content-type").as_str()),
            (200, "audio/mpeg"),
            "{weather}"
        );
        assert_eq!(header(&response, "dispatch-engine"), "espeak-ng", "{weather}");
        let id = header(&response, "dispatch-id");
        assert!(measure(&response.bytes().await.unwrap(), None).unwrap().1.milliseconds() > 1_500);
        let dispatch = demo.settled(&id).await;
        let attempts = dispatch["attempts"].as_array().unwrap();
        let told: Vec<_> =
            attempts.iter().map(|a| (a["engine"].as_str().unwrap(), a["state"].as_str().unwrap())).collect();
        assert_eq!(told, [("heron", "failed"), ("espeak-ng", "done")], "{weather}");
        assert_eq!(attempts[0]["cause"], cause, "{weather}: {}", attempts[0]);
        assert!(!attempts[0]["detail"].as_str().unwrap().is_empty());
        assert_eq!(dispatch["cost"]["amount"], "0.000000", "{weather}: a leg that gave nothing costs nothing");
        demo.reset("heron");
    }
}

#[tokio::test]
async fn with_no_leg_left_the_problem_names_each_attempt() {
    let demo = Demo::start(BINARY).await;
    demo.weather(json!({"weather": "throttled"})).await;
    let response = demo.speak(json!({"text": TEXT, "voice": "heron/pellin"}), "audio/mpeg").await;
    assert_eq!((response.status().as_u16(), header(&response, "retry-after").as_str()), (503, "1"));
    assert_eq!(header(&response, "content-type"), "application/problem+json");
    let problem: Value = response.json().await.unwrap();
    assert_eq!(problem["errors"][0]["cause"], "throttled");
    let dispatch = demo.settled(problem["dispatch"].as_str().unwrap()).await;
    // It is called again, since nobody else is left and it asks for a second.
    let problems = ["heron: throttled"; 3].join("; ");
    assert_eq!((dispatch["state"].as_str(), dispatch["problem"].as_str()), (Some("failed"), Some(&*problems)));
    let kind = problem["type"].as_str().unwrap();
    let page = demo.http.get(kind).send().await.unwrap();
    assert_eq!(page.status(), 200, "the type is a page: {kind}");
}

#[tokio::test]
async fn the_first_sound_arrives_while_the_engine_still_speaks() {
    let demo = Demo::start(BINARY).await;
    for (accept, header_bytes) in
        [("audio/mpeg", 0), ("audio/wav", 44), ("audio/ogg;codecs=opus", 200), ("audio/basic", 0)]
    {
        demo.weather(json!({"weather": "drip", "pause": 50})).await;
        let response = demo.speak(json!({"text": TEXT, "voice": "heron/pellin"}), accept).await;
        let mut stream = response.bytes_stream();
        let mut got = 0;
        while got <= header_bytes {
            got += stream.next().await.unwrap().unwrap().len();
        }
        let delivered = demo.delivered().await;
        assert_eq!(
            delivered["whole"].as_u64().unwrap() + delivered["left"].as_u64().unwrap(),
            done_before(&demo, accept),
            "{accept}: heron had finished"
        );
        while let Some(piece) = stream.next().await {
            got += piece.unwrap().len();
        }
        assert!(got > 5_000, "{accept}: {got} bytes");
    }
}

/// Calls that heron had ended before this format was asked for.
fn done_before(_: &Demo, accept: &str) -> u64 {
    ["audio/mpeg", "audio/wav", "audio/ogg;codecs=opus", "audio/basic"]
        .iter()
        .position(|known| *known == accept)
        .unwrap() as u64
}

/// A plain HTTP client of its own: whether the transfer was whole.
fn plain_transfer(demo: &Demo, body: &Value, accept: &str) -> (String, bool) {
    let address = demo.url.trim_start_matches("http://").to_owned();
    let mut stream = std::net::TcpStream::connect(&address).unwrap();
    let body = body.to_string();
    let request = format!(
        "POST /api/v1/utterances HTTP/1.1\r\nHost: {address}\r\nAuthorization: Bearer {}\r\nAccept: {accept}\r\n\
         Content-Type: application/json\r\nContent-Length: {}\r\n\r\n{body}",
        demo.app,
        body.len()
    );
    stream.write_all(request.as_bytes()).unwrap();
    stream.set_read_timeout(Some(Duration::from_secs(20))).unwrap();
    let mut all = Vec::new();
    let mut chunk = [0; 4_096];
    loop {
        match stream.read(&mut chunk) {
            Ok(0) | Err(_) => break,
            Ok(count) => all.extend_from_slice(&chunk[..count]),
        }
        if all.ends_with(b"0\r\n\r\n") {
            break;
        }
    }
    let head = String::from_utf8_lossy(&all[..all.len().min(800)]).into_owned();
    (head, all.ends_with(b"0\r\n\r\n"))
}

#[tokio::test(flavor = "multi_thread")]
async fn a_half_answer_is_a_broken_transfer_in_every_format() {
    let demo = Demo::start(BINARY).await;
    let body = json!({"text": TEXT, "voice": "heron/pellin"});
    for accept in ["audio/mpeg", "audio/wav", "audio/ogg;codecs=opus", "audio/basic", "audio/L16;rate=16000"] {
        demo.weather(json!({"weather": "half"})).await;
        let (head, whole) = tokio::task::block_in_place(|| plain_transfer(&demo, &body, accept));
        assert!(head.starts_with("HTTP/1.1 200"), "{accept}: {head}");
        assert!(!whole, "{accept}: the half was given out as whole");
        demo.weather(Value::Null).await;
        let (_, whole) = tokio::task::block_in_place(|| plain_transfer(&demo, &body, accept));
        assert!(whole, "{accept}: a good answer must end well");
    }
    demo.weather(json!({"weather": "half"})).await;
    let response = demo.speak(body, "application/json").await;
    assert_eq!(response.status(), 502, "JSON cannot be half: it is an error");
    let problem: Value = response.json().await.unwrap();
    let dispatch = demo.settled(problem["dispatch"].as_str().unwrap()).await;
    assert_eq!((dispatch["state"].as_str(), dispatch["cost"]["amount"].as_str()), (Some("failed"), Some("0.000000")));
    let kinds: Vec<&str> =
        dispatch["ledger"].as_array().unwrap().iter().map(|line| line["kind"].as_str().unwrap()).collect();
    assert_eq!(kinds, ["hold", "release"], "nothing is settled for a half");
}

#[tokio::test]
async fn a_caller_that_leaves_ends_the_engines_call() {
    let demo = Demo::start(BINARY).await;
    let long = "The tide tables of Saltmarsh are read aloud at noon. ".repeat(12);
    for (round, weather) in
        [json!({"weather": "drip", "pause": 200}), json!({"weather": "drip", "pause": 5000})].into_iter().enumerate()
    {
        demo.weather(weather).await;
        let call = demo.speak(json!({"text": long, "voice": "heron/pellin"}), "audio/mpeg");
        if round == 0 {
            // Leaves in the middle of the audio.
            let mut stream = call.await.bytes_stream();
            stream.next().await.unwrap().unwrap();
        } else {
            // Leaves before there is any.
            assert!(tokio::time::timeout(Duration::from_millis(700), call).await.is_err());
        }
        let begun = Instant::now();
        while demo.delivered().await["left"] != round + 1 {
            assert!(
                begun.elapsed() < Duration::from_secs(8),
                "round {round}: heron speaks on to nobody: {}",
                demo.delivered().await
            );
            tokio::time::sleep(Duration::from_millis(50)).await;
        }
        let list = demo.get("/api/v1/dispatches?limit=1").await;
        let dispatch = demo.settled(list["items"][0]["id"].as_str().unwrap()).await;
        assert_eq!(dispatch["state"], "abandoned", "round {round}: {dispatch}");
        let characters = long.trim_end_matches('\n').chars().count() as u64;
        let cost = format!("0.{:06}", characters * 16);
        assert!(
            dispatch["cost"]["amount"].as_str().unwrap().starts_with(&cost),
            "{} for {characters} characters",
            dispatch["cost"]
        );
    }
}

#[tokio::test]
async fn faults_of_a_request_are_told_before_anything_is_called() {
    let demo = Demo::start(BINARY).await;
    for (body, status, kind, says) in [
        (json!({"text": "a", "voise": "b"}), 400, "unknown-member", "voise"),
        (json!({"text": "a", "voice": "heron/pellinn"}), 404, "no-such-voice", "heron/pellin"),
        (json!({"text": "a", "voice": {"langauges": "pt"}}), 422, "invalid", "langauges"),
        (json!({"text": "a", "voice": "heron/pellin", "model": "grand"}), 422, "invalid", "quick"),
        (json!({"text": "a", "language": "en_GB"}), 422, "invalid", "en_GB"),
        (json!({"text": " "}), 422, "markup", "no text"),
        (json!({}), 422, "invalid", "no text"),
        (json!({"ssml": "<speak version='1.1'><p>x</speak>"}), 422, "markup", "line 1"),
        (
            json!({"text": "a", "audio": {"type": "audio/mpeg", "sample_rate": 12345}}),
            406,
            "not-acceptable",
            "12345 Hz",
        ),
        (
            json!({"text": "a", "unsupported": "refuse", "voice": "phalarope/grey", "prosody": {"rate": "90%"}}),
            422,
            "unsupported",
            "prosody",
        ),
    ] {
        let response = demo.speak(body.clone(), "*/*").await;
        let found = response.status().as_u16();
        let problem: Value = response.json().await.unwrap();
        assert_eq!(found, status, "{body}: {problem}");
        assert!(problem["type"].as_str().unwrap().ends_with(&format!("/problems/{kind}")), "{problem}");
        assert!(problem.to_string().contains(says), "{says} in {problem}");
    }
    let nearest: Value = demo.speak(json!({"text": "a", "voice": "heron/pellinn"}), "*/*").await.json().await.unwrap();
    let similar = nearest["nearest"].as_array().unwrap();
    assert!(similar[0] == "heron/pellin" && similar.len() <= 3, "{nearest}");
    assert_eq!(demo.delivered().await["calls"], 0);
    assert_eq!(demo.get("/api/v1/dispatches").await["items"], json!([]));
}

#[tokio::test]
async fn the_same_idempotency_key_is_carried_out_once() {
    let demo = Demo::start(BINARY).await;
    let send = async |key: &str, text: &str| {
        let request = demo
            .post("/api/v1/utterances")
            .header("Idempotency-Key", key)
            .json(&json!({"text": text, "voice": "heron/pellin"}));
        let response = request.send().await.unwrap();
        let (status, id) = (response.status().as_u16(), header(&response, "dispatch-id"));
        (status, id, response.bytes().await.unwrap())
    };
    let first = send("a", TEXT).await;
    let again = send("a", TEXT).await;
    assert_eq!(first, again);
    assert_eq!(demo.delivered().await["calls"], 1);
    assert_eq!(send("a", "Another text.").await.0, 422);
    demo.weather(json!({"weather": "drip", "pause": 60})).await;
    let (slow, early) = tokio::join!(send("b", TEXT), async {
        tokio::time::sleep(Duration::from_millis(300)).await;
        send("b", TEXT).await.0
    });
    assert_eq!((slow.0, early), (200, 409), "the first was still running");
    demo.weather(json!({"weather": "down", "calls": 3})).await;
    assert_eq!(send("c", TEXT).await.0, 503);
    assert_eq!(send("c", TEXT).await.0, 200, "a request that failed may be sent again");
}

#[tokio::test]
async fn a_rehearsal_calls_nobody_and_charges_nothing() {
    let demo = Demo::start(BINARY).await;
    let output = demo.client(&["app", "add", "toy", "--rehearsal", "--default-voice", "quayside"]);
    assert!(output.status.success(), "{output:?}");
    let key = String::from_utf8(demo.client(&["app", "key", "add", "toy"]).stdout).unwrap().trim().to_owned();
    let request =
        demo.http.post(format!("{}/api/v1/utterances", demo.url)).bearer_auth(&key).json(&json!({"text": TEXT}));
    let response = request.send().await.unwrap();
    assert_eq!(response.status(), 200);
    assert!(header(&response, "dispatch-warning").contains("rehearsal"));
    assert!(header(&response, "dispatch-cost").starts_with("0.000000"));
    let length = measure(&response.bytes().await.unwrap(), None).unwrap().1.milliseconds();
    assert!((2_000..6_000).contains(&length), "about as long as the voice would need: {length} ms");
    let bad = demo
        .http
        .post(format!("{}/api/v1/utterances", demo.url))
        .bearer_auth(&key)
        .json(&json!({"text": TEXT, "voice": "nobody/x"}));
    assert_eq!(bad.send().await.unwrap().status(), 404, "the same checks");
    assert_eq!(demo.delivered().await["calls"], 0);
    assert_eq!(demo.get("/api/v1/usage").await["items"], json!([]));
}

#[tokio::test]
async fn a_trace_is_taken_in_and_kept() {
    let demo = Demo::start(BINARY).await;
    let trace = "00-0af7651916cd43dd8448eb211c80319c-b7ad6b7169203331-01";
    let request = demo.post("/api/v1/utterances").header("traceparent", trace).json(&json!({"text": "a"}));
    let id = header(&request.send().await.unwrap(), "dispatch-id");
    assert_eq!(demo.settled(&id).await["trace"], trace);
}
