//! Tokens: what they allow, that nothing goes beyond, and what becomes of them
//! in addresses, logs and restarts.

use crate::BINARY;
use crate::live::{connect_to, converse, opening, spoken};
use dispatcher_audio::{Codec, Format};
use dispatcher_e2e::{Demo, header, words_of};
use reqwest::Method;
use serde_json::{Value, json};

/// Makes a token of the announcer; gives its id and the token.
pub(crate) async fn token_of(demo: &Demo, terms: Value) -> (String, String) {
    let request = demo.http.post(format!("{}/api/v1/tokens", demo.url)).bearer_auth(&demo.app).json(&terms);
    let response = request.send().await.unwrap();
    let (status, answer) = (response.status(), response.json::<Value>().await.unwrap());
    assert_eq!(status, 201, "{answer}");
    (answer["id"].as_str().unwrap().into(), answer["token"].as_str().unwrap().into())
}

/// Adds an origin to the announcer.
pub(crate) async fn allow_origin(demo: &Demo, origin: &str) {
    let changed = demo.client(&["app", "change", "quay-announcer", "--origins", origin]);
    assert!(changed.status.success(), "{}", String::from_utf8_lossy(&changed.stderr));
}

async fn say(demo: &Demo, token: &str, body: Value) -> (u16, Value) {
    let request = demo.http.post(format!("{}/api/v1/utterances", demo.url)).bearer_auth(token).json(&body);
    told(request).await
}

/// The status, and the problem where there is one.
async fn told(request: reqwest::RequestBuilder) -> (u16, Value) {
    let response = request.send().await.unwrap();
    let status = response.status().as_u16();
    let body = response.bytes().await.unwrap();
    (status, serde_json::from_slice(&body).unwrap_or(Value::Null))
}

async fn used(demo: &Demo, id: &str) -> Value {
    let list = demo.get("/api/v1/tokens?app=quay-announcer").await;
    list["items"].as_array().unwrap().iter().find(|token| token["id"] == id).unwrap()["used"].clone()
}

const TEXT: &str = "The ramp is closing.";

#[tokio::test]
async fn a_token_speaks_up_to_its_last_character_even_after_a_restart_and_does_nothing_else() {
    let demo = Demo::start(BINARY).await;
    let (id, token) = token_of(&demo, json!({"calls": ["speak"], "characters": 50, "label": "page"})).await;
    let voice = "heron/pellin";
    assert_eq!(say(&demo, &token, json!({"text": TEXT, "voice": voice})).await.0, 200);
    let (status, problem) = say(&demo, &token, json!({"text": "x".repeat(31), "voice": voice})).await;
    assert_eq!(
        (status, problem["detail"].as_str()),
        (403, Some("the token has 30 characters left, and the request needs 31"))
    );
    // What fails is given back.
    demo.weather(json!({"weather": "down"})).await;
    assert_eq!(say(&demo, &token, json!({"text": "y".repeat(30), "voice": voice})).await.0, 503);
    demo.weather(Value::Null).await;
    demo.reset("heron");
    assert_eq!(say(&demo, &token, json!({"text": "y".repeat(10), "voice": voice})).await.0, 200);
    let known = used(&demo, &id).await;
    assert_eq!((&known["characters"], &known["costs"][0]["amount"]), (&json!(30), &json!("0.000480")), "{known}");
    for (method, path) in [
        (Method::GET, "/api/v1/voices"),
        (Method::GET, "/api/v1/dispatches"),
        (Method::GET, "/api/v1/tokens"),
        (Method::POST, "/api/v1/tokens"),
        (Method::POST, "/api/v1/transcripts"),
        (Method::GET, "/api/v1/apps"),
    ] {
        let request = demo.http.request(method, format!("{}{path}", demo.url)).bearer_auth(&token);
        assert_eq!(told(request).await.0, 403, "{path}");
    }
    let (_, folder) = demo.terminate().await;
    let demo = Demo::start_in(BINARY, folder).await;
    assert_eq!(say(&demo, &token, json!({"text": "z".repeat(21), "voice": voice})).await.0, 403, "21 of 20 are left");
    assert_eq!(say(&demo, &token, json!({"text": "z".repeat(20), "voice": voice})).await.0, 200);
    let listed = String::from_utf8(demo.client(&["app", "token", "list", "quay-announcer"]).stdout).unwrap();
    assert!(listed.contains("page") && listed.contains("50 of 50"), "{listed}");
    assert!(demo.client(&["app", "token", "revoke", "quay-announcer", &id[..6]]).status.success());
    let (status, problem) = say(&demo, &token, json!({"text": "z", "voice": voice})).await;
    assert_eq!((status, problem["title"].as_str()), (401, Some("The token is not valid")));
}

#[tokio::test]
async fn requests_at_once_take_no_more_than_there_is() {
    let demo = Demo::start(BINARY).await;
    // Fifty texts by their characters, eleven by their money: the smaller decides.
    let cost = json!({"amount": "0.0036", "currency": "EUR"});
    let (id, token) = token_of(&demo, json!({"calls": ["speak"], "characters": 1_000, "cost": cost})).await;
    let text = "n".repeat(20);
    let requests = (0..60).map(|_| say(&demo, &token, json!({"text": text, "voice": "heron/pellin"})));
    let statuses: Vec<u16> = futures::future::join_all(requests).await.into_iter().map(|(status, _)| status).collect();
    let served = statuses.iter().filter(|status| **status == 200).count();
    // 20 characters cost 0.000320 EUR.
    assert_eq!((served, statuses.iter().filter(|status| **status == 403).count()), (11, 49), "{statuses:?}");
    assert_eq!(used(&demo, &id).await["costs"][0]["amount"], "0.003520");
}

#[tokio::test]
async fn a_token_keeps_to_its_routes_whatever_the_script_says() {
    let demo = Demo::start(BINARY).await;
    demo.put_route("gangway", json!([{"engine": "heron", "voice": "pellin"}])).await;
    let (_, token) = token_of(&demo, json!({"calls": ["speak"], "routes": ["gangway"]})).await;
    assert_eq!(say(&demo, &token, json!({"text": TEXT, "voice": "gangway"})).await.0, 200);
    let other = "<speak version=\"1.1\" xmlns=\"http://www.w3.org/2001/10/synthesis\" xml:lang=\"en-GB\">Ahoy. \
                 <voice name=\"heron/isolde\">Ahoy.</voice></speak>";
    for (body, why) in [
        (json!({"text": TEXT, "voice": "heron/pellin"}), "name one of them"),
        (json!({"text": TEXT}), "name one of them"),
        (json!({"ssml": other, "voice": "gangway"}), "names other voices"),
        (json!({"text": TEXT, "voice": "gangway", "credential": "spare"}), "does not choose the credential"),
    ] {
        let (status, problem) = say(&demo, &token, body.clone()).await;
        assert_eq!(status, 403, "{body}: {problem}");
        assert!(problem["detail"].as_str().unwrap().contains(why), "{body}: {problem}");
    }
    let job = demo.http.post(format!("{}/api/v1/utterances", demo.url)).bearer_auth(&token);
    let job = job.header("Prefer", "respond-async").json(&json!({"text": TEXT, "voice": "gangway"}));
    let (status, problem) = told(job).await;
    assert_eq!((status, &problem["title"]), (403, &json!("The token does not allow this")), "{problem}");
    let unknown = demo.http.post(format!("{}/api/v1/tokens", demo.url)).bearer_auth(&demo.app);
    let (status, problem) = told(unknown.json(&json!({"calls": ["speak"], "routes": ["gangplank"]}))).await;
    assert_eq!((status, problem["detail"].as_str()), (404, Some("there is no route 'gangplank'")));
}

#[tokio::test]
async fn an_address_is_enough_and_its_token_is_written_nowhere() {
    let demo = Demo::start(BINARY).await;
    let (_, token) = token_of(&demo, json!({"calls": ["speak", "caption"]})).await;
    let address = |token: &str| {
        format!(
            "{}/api/v1/utterances?text=The+ramp+is+closing.&voice=heron/pellin&type=wav&access_token={token}",
            demo.url
        )
    };
    let head = demo.http.head(address(&token)).send().await.unwrap();
    assert_eq!((head.status().as_u16(), header(&head, "content-type").as_str()), (200, "audio/wav"));
    let dispatches = demo.get("/api/v1/dispatches").await;
    assert_eq!(dispatches["items"], json!([]), "a question costs nothing");
    let response = demo.http.get(address(&token)).send().await.unwrap();
    assert_eq!(response.status(), 200);
    let length: usize = header(&response, "content-length").parse().unwrap();
    let audio = response.bytes().await.unwrap();
    assert_eq!(audio.len(), length, "a player knows how long it is");
    assert_eq!(words_of(&audio, Format::new(Codec::Wav, 24_000)), TEXT);
    // A key does not belong there, and neither does a second token.
    let (status, problem) = told(demo.http.get(address(&demo.app))).await;
    assert_eq!(status, 401);
    assert!(problem["detail"].as_str().unwrap().contains("must not stand in an address"), "{problem}");
    assert_eq!(told(demo.http.get(address(&token)).bearer_auth(&token)).await.0, 400);
    assert_eq!(told(demo.http.get(address("dispatch_token_x"))).await.0, 401);
    // Where it opens a socket.
    let live = format!("{}/api/v1/transcripts/live?access_token={token}", demo.url);
    let mut socket = connect_to(&demo, &live, None).await;
    futures::SinkExt::send(&mut socket, opening(json!({"engine": "whimbrel"}))).await.unwrap();
    let (messages, _) = converse(socket, spoken(&[TEXT], 0.5), 8_000).await;
    assert_eq!(messages.last().unwrap()["text"], TEXT);
    let records = dispatcher_e2e::files_below(&demo.data());
    for file in records.into_iter().chain([demo.folder.path().join("log")]) {
        let bytes = std::fs::read(&file).unwrap_or_default();
        let found = bytes.windows(token.len()).any(|window| window == token.as_bytes());
        assert!(!found, "the token is in {}", file.display());
    }
}

#[tokio::test]
async fn audio_beyond_the_seconds_of_a_token_is_not_recognised() {
    let demo = Demo::start(BINARY).await;
    let (id, token) = token_of(&demo, json!({"calls": ["transcribe", "caption"], "seconds": 4.0})).await;
    let audio = spoken(&[TEXT], 0.3);
    let length = audio.len() as f64 / 32_000.0;
    let send = || {
        let place = format!("{}/api/v1/transcripts?engine=turnstone", demo.url);
        demo.http.post(place).bearer_auth(&token).header("Content-Type", "audio/pcm;rate=16000").body(audio.clone())
    };
    let (status, heard) = told(send()).await;
    assert_eq!((status, &heard["text"]), (200, &json!(TEXT)), "{heard}");
    let seconds = used(&demo, &id).await["seconds"].as_f64().unwrap();
    assert!((seconds - length).abs() < 0.002 && length > 1.5 && length < 3.5, "{seconds} of {length}");
    let live = format!("{}/api/v1/transcripts/live", demo.url);
    let mut socket = connect_to(&demo, &live, Some(&token)).await;
    futures::SinkExt::send(&mut socket, opening(json!({"engine": "whimbrel"}))).await.unwrap();
    let (messages, code) = converse(socket, spoken(&[TEXT; 3], 0.3), 8_000).await;
    let last = messages.last().unwrap();
    assert_eq!((&last["type"], code), (&json!("problem"), Some(1008)), "{messages:?}");
    assert!(last["problem"]["detail"].as_str().unwrap().starts_with("the token has 0.0 s of audio left"), "{last}");
}

#[tokio::test]
async fn only_pages_of_an_app_s_origins_may_call_and_read() {
    let demo = Demo::start(BINARY).await;
    let (home, other) = ("https://timetable.saltmarsh.example", "https://elsewhere.example");
    let refused = demo.http.post(format!("{}/api/v1/tokens", demo.url)).bearer_auth(&demo.app);
    let (status, problem) = told(refused.json(&json!({"calls": ["speak"], "origin": home}))).await;
    assert_eq!(status, 422);
    assert!(problem["detail"].as_str().unwrap().contains("--origins https://timetable.saltmarsh.example"), "{problem}");
    allow_origin(&demo, home).await;
    let (_, bound) = token_of(&demo, json!({"calls": ["speak"], "origin": home})).await;
    let (_, free) = token_of(&demo, json!({"calls": ["speak"]})).await;
    let place = format!("{}/api/v1/utterances", demo.url);
    let preflight = async |origin: &str| {
        let asked = demo.http.request(Method::OPTIONS, &place).header("Origin", origin);
        let asked = asked.header("Access-Control-Request-Method", "POST");
        asked.header("Access-Control-Request-Headers", "authorization,content-type").send().await.unwrap()
    };
    let allowed = preflight(home).await;
    assert_eq!((allowed.status().as_u16(), header(&allowed, "access-control-allow-origin").as_str()), (204, home));
    assert!(header(&allowed, "access-control-allow-headers").contains("Authorization"));
    assert!(allowed.headers().get("access-control-allow-credentials").is_none(), "cookies are never sent along");
    assert!(preflight(other).await.headers().get("access-control-allow-origin").is_none());
    let speak = async |token: &str, origin: Option<&str>| {
        let request = demo.http.post(&place).bearer_auth(token).json(&json!({"text": TEXT, "voice": "heron/pellin"}));
        let request = match origin {
            Some(origin) => request.header("Origin", origin),
            None => request,
        };
        request.send().await.unwrap()
    };
    let spoken = speak(&bound, Some(home)).await;
    assert_eq!((spoken.status().as_u16(), header(&spoken, "access-control-allow-origin").as_str()), (200, home));
    let exposed = header(&spoken, "access-control-expose-headers");
    assert!(["Dispatch-Id", "Dispatch-Cost", "Retry-After"].iter().all(|name| exposed.contains(name)), "{exposed}");
    assert!(spoken.headers().get_all("vary").iter().any(|value| value == "Origin"));
    for (token, origin) in [(&bound, Some(other)), (&bound, None), (&free, Some(other))] {
        let refused = speak(token, origin).await;
        assert_eq!(refused.status(), 403, "{origin:?}");
        assert!(refused.headers().get("access-control-allow-origin").is_none() || origin == Some(home));
    }
    for origin in [Some(home), None] {
        assert_eq!(speak(&free, origin).await.status(), 200, "{origin:?}");
    }
    // A page may read why it was refused.
    let problem = speak("dispatch_token_nonsense", Some(home)).await;
    assert_eq!((problem.status().as_u16(), header(&problem, "access-control-allow-origin").as_str()), (401, home));
    // An origin that is taken away is refused at once.
    allow_origin(&demo, "none").await;
    assert_eq!(speak(&free, Some(home)).await.status(), 403);
    assert!(preflight(home).await.headers().get("access-control-allow-origin").is_none());
}
