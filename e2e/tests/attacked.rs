//! Requests that are made to do harm: none takes the service down, none is
//! taken for whole where it is not, and what they cost has an end.

use crate::BINARY;
use std::io::{Read as _, Write as _};
use std::net::TcpStream;
use std::time::{Duration, Instant};

use dispatcher_e2e::{Demo, Service, files_below, gannet_sheet, header, slow_engine};
use reqwest::header::CONTENT_TYPE;
use serde_json::{Value, json};

/// Memory that any one request may take, in KiB. The build under test keeps
/// more than one for use.
pub(crate) const MOST: u64 = 128 << 10;

/// Sends bytes as they are, ends the sending side where asked, and gives what comes back.
fn raw(url: &str, bytes: &[u8], ends: bool) -> String {
    let mut stream = TcpStream::connect(url.trim_start_matches("http://")).unwrap();
    stream.set_read_timeout(Some(Duration::from_secs(20))).unwrap();
    let _ = stream.write_all(bytes);
    if ends {
        stream.shutdown(std::net::Shutdown::Write).unwrap();
    }
    let mut answer = Vec::new();
    let _ = stream.read_to_end(&mut answer);
    String::from_utf8_lossy(&answer).into_owned()
}

pub(crate) fn head(method: &str, path: &str, key: &str, rest: &str) -> String {
    format!("{method} {path} HTTP/1.1\r\nHost: 127.0.0.1\r\nAuthorization: Bearer {key}\r\n{rest}\r\n")
}

#[tokio::test]
async fn a_body_that_breaks_off_is_never_taken_for_whole() {
    let demo = Demo::start(BINARY).await;
    let text = "Content-Type: text/plain\r\nConnection: close\r\n";
    for rest in ["abc", "", "The ferry", "The ferry to Gullsay is late by twenty minutes."] {
        let announced = head("POST", "/api/v1/utterances", &demo.app, &format!("{text}Content-Length: 1000000\r\n"));
        raw(&demo.url, format!("{announced}{rest}").as_bytes(), true);
    }
    for chunks in [
        "3\r\nabc\r\nZZ\r\n",
        "3\r\nabc\r\n",
        "3\r\nabcd\r\n0\r\n\r\n",
        "1F\r\nThe ferry to Gullsay is late no\r\nxx\r\n",
    ] {
        let chunked = head("POST", "/api/v1/utterances", &demo.app, &format!("{text}Transfer-Encoding: chunked\r\n"));
        let answer = raw(&demo.url, format!("{chunked}{chunks}").as_bytes(), true);
        assert!(!answer.starts_with("HTTP/1.1 200"), "{chunks:?} was spoken: {answer}");
    }
    tokio::time::sleep(Duration::from_millis(500)).await;
    assert_eq!(demo.get("/api/v1/dispatches").await["items"], json!([]), "nothing was spoken or charged");

    let begun: Value =
        demo.post("/api/v1/uploads").header("Upload-Complete", "?0").send().await.unwrap().json().await.unwrap();
    let place = begun["url"].as_str().unwrap().to_owned();
    for part in ["abc", "", "a little more than fourteen bytes"] {
        let offset = header(
            &demo.http.head(format!("{}{place}", demo.url)).bearer_auth(&demo.app).send().await.unwrap(),
            "upload-offset",
        );
        let rest = format!("Upload-Offset: {offset}\r\nUpload-Complete: ?1\r\nContent-Length: 1000\r\n");
        raw(&demo.url, format!("{}{part}", head("PATCH", &place, &demo.app, &rest)).as_bytes(), true);
        tokio::time::sleep(Duration::from_millis(200)).await;
        let state = demo.http.head(format!("{}{place}", demo.url)).bearer_auth(&demo.app).send().await.unwrap();
        assert_eq!(header(&state, "upload-complete"), "?0", "after {part:?}");
    }
    let job = demo.post(&format!("/api/v1/jobs?upload={}&voice=heron/pellin", begun["id"].as_str().unwrap()));
    assert_eq!(job.send().await.unwrap().status(), 409, "what is not complete is no document");
}

#[tokio::test]
async fn silence_is_limited_and_made_as_it_is_taken() {
    let demo = Demo::start(BINARY).await;
    let speak = async |body: &str| {
        let document = format!(
            "<speak version=\"1.1\" xmlns=\"http://www.w3.org/2001/10/synthesis\" xml:lang=\"en\">{body}</speak>"
        );
        demo.speak(json!({"ssml": document, "voice": "heron/pellin", "audio": {"type": "audio/wav", "sample_rate": 48000, "channels": 2}}), "*/*").await
    };
    let refused = speak("Ahoy <break time=\"999999999s\"/> there").await;
    assert_eq!(refused.status(), 422);
    let problem: Value = refused.json().await.unwrap();
    assert_eq!(problem["errors"][0]["detail"], "a break lasts 600 s at most", "{problem}");
    let lines = json!({"lines": [{"text": "Ahoy"}, {"text": "there", "gap": "999999999s"}], "voice": "heron/pellin"});
    assert_eq!(demo.speak(lines, "*/*").await.status(), 422);
    let before = demo.memory();
    let mut hour = speak(&format!("Ahoy {} there", "<break time=\"600s\"/>".repeat(6))).await;
    assert_eq!(hour.status(), 200);
    let mut taken = 0;
    while taken < 20 << 20 {
        taken += hour.chunk().await.unwrap().expect("an hour of silence is 690 MB").len();
    }
    let grown = demo.peak_memory() - before;
    assert!(grown < MOST, "{grown} KiB for a stream that is taken slowly");
    let id = header(&hour, "dispatch-id");
    drop(hour);
    assert_eq!(demo.settled(&id).await["state"], "abandoned", "and it ends with its caller");
}

#[tokio::test]
async fn a_rehearsal_of_a_long_text_is_streamed() {
    let demo = Demo::start(BINARY).await;
    assert!(demo.client(&["app", "add", "tryout", "--rehearsal"]).status.success());
    let key = String::from_utf8(demo.client(&["app", "key", "add", "tryout"]).stdout).unwrap().trim().to_owned();
    let before = demo.memory();
    let text = "All aboard now. ".repeat(60_000);
    let request = demo.http.post(format!("{}/api/v1/utterances?voice=heron/pellin", demo.url)).bearer_auth(&key);
    let mut response = request.header(CONTENT_TYPE, "text/plain").body(text).send().await.unwrap();
    assert_eq!(response.status(), 200);
    for _ in 0..100 {
        response.chunk().await.unwrap().expect("17 hours of tones");
    }
    let grown = demo.peak_memory() - before;
    assert!(grown < MOST, "{grown} KiB");
}

#[tokio::test]
async fn a_crowd_that_signs_in_is_slowed_down_and_locks_nobody_out() {
    let demo = Demo::start(BINARY).await;
    let sign_in = async |body: Value| {
        let request = demo.http.post(format!("{}/api/v1/session", demo.url)).json(&body);
        request.send().await.unwrap().status().as_u16()
    };
    let set = demo.http.put(format!("{}/api/v1/people/ada", demo.url)).bearer_auth(&demo.operator);
    assert_eq!(set.json(&json!({"password": "slack water at noon"})).send().await.unwrap().status(), 204);
    assert_eq!(sign_in(json!({"person": "ada", "password": "slack water at noon"})).await, 200);
    let before = demo.memory();
    let begun = Instant::now();
    let crowd = (0..200).map(|n| sign_in(json!({"person": format!("name {n}"), "password": "wrong wrong wrong"})));
    let statuses = futures::future::join_all(crowd).await;
    let slowed = statuses.iter().filter(|status| **status == 429).count();
    assert!(slowed >= 150 && statuses.iter().all(|status| matches!(status, 401 | 429)), "{statuses:?}");
    assert!(begun.elapsed() < Duration::from_secs(30), "{:?}", begun.elapsed());
    // Two hash at once, of 64 MiB each.
    let grown = demo.peak_memory() - before;
    assert!(grown < 160 << 10, "{grown} KiB");
    assert_eq!(sign_in(json!({"key": demo.operator})).await, 200, "with a key nobody waits");
    assert_eq!(sign_in(json!({"person": "ada", "password": "slack water at noon"})).await, 200, "she was here before");
}

#[tokio::test]
async fn half_open_connections_are_closed_and_health_answers_beside_them() {
    let demo = Demo::start(BINARY).await;
    let address = demo.url.trim_start_matches("http://").to_owned();
    let open = |bytes: &[u8]| {
        let mut stream = TcpStream::connect(&address).unwrap();
        stream.write_all(bytes).unwrap();
        stream.set_read_timeout(Some(Duration::from_secs(25))).unwrap();
        stream
    };
    let half = "POST /api/v1/utterances HTTP/1.1\r\nHost: 127.0.0.1\r\n";
    let waiting = format!("{half}Content-Length: 100\r\n\r\n");
    let mut streams: Vec<TcpStream> = Vec::new();
    for _ in 0..100 {
        streams.extend([open(b""), open(half.as_bytes()), open(waiting.as_bytes())]);
    }
    let begun = Instant::now();
    let health = demo.http.get(format!("{}/health", demo.url)).send().await.unwrap();
    assert!(health.status().is_success() && begun.elapsed() < Duration::from_secs(1), "{:?}", begun.elapsed());
    let ended = tokio::task::spawn_blocking(move || {
        streams.iter_mut().map(|stream| stream.read(&mut [0; 64])).filter(Result::is_ok).count()
    });
    assert_eq!(ended.await.unwrap(), 300, "each is closed");
    assert!(begun.elapsed() > Duration::from_secs(10), "and not before its time");
    assert!(begun.elapsed() < Duration::from_secs(24), "{:?}", begun.elapsed());
}

#[tokio::test]
async fn calls_that_would_wait_in_vain_are_refused_at_once() {
    let url = slow_engine(Duration::from_millis(300)).await;
    let service = Service::start(BINARY, &[("gannet", gannet_sheet(&url, 1))]).await;
    let begun = Instant::now();
    let call = async || {
        let response = service.speak(json!({"text": "Ahoy", "voice": "gannet/ada"}), "audio/wav").await;
        let (status, again) = (response.status().as_u16(), header(&response, "retry-after"));
        let _ = response.bytes().await;
        (status, again, begun.elapsed())
    };
    let outcomes = futures::future::join_all((0..120).map(|_| call())).await;
    let refused: Vec<_> = outcomes.iter().filter(|outcome| outcome.0 == 429).collect();
    assert!(refused.len() >= 20, "{} of 120 were refused", refused.len());
    for (_, again, after) in refused {
        assert!(again.parse::<u64>().is_ok_and(|seconds| (1..=60).contains(&seconds)), "Retry-After: {again}");
        assert!(*after < Duration::from_secs(5), "at once, and not after {after:?}");
    }
    let served = outcomes.iter().filter(|outcome| outcome.0 == 200).count();
    assert_eq!(
        served + outcomes.iter().filter(|outcome| outcome.0 == 429).count(),
        120,
        "and none timed out: {outcomes:?}"
    );
}

#[tokio::test]
async fn a_disk_that_is_nearly_full_is_said_and_nothing_more_is_kept() {
    let settings = [("DISPATCHER_RESERVE_MEGABYTES", "1000000000")];
    let service = Service::start_with(BINARY, &[], &settings).await;
    let health = service.http.get(format!("{}/health", service.url)).send().await.unwrap();
    assert_eq!(health.status(), 503);
    let problem: Value = health.json().await.unwrap();
    assert!(problem["detail"].as_str().unwrap().contains("bytes are free"), "{problem}");
    let send = async |path: &str, body: Vec<u8>| {
        let request = service.http.post(format!("{}{path}", service.url)).bearer_auth(&service.key);
        request.header(CONTENT_TYPE, "text/plain").body(body).send().await.unwrap().status().as_u16()
    };
    assert_eq!(send("/api/v1/uploads", b"abc".to_vec()).await, 507);
    assert_eq!(send("/api/v1/jobs?voice=espeak-ng/en-gb", b"All aboard.".to_vec()).await, 507);
    assert_eq!(send("/api/v1/jobs?voice=espeak-ng/en-gb", vec![b'a'; 1 << 20]).await, 507, "a body that is spooled");
}

#[tokio::test]
async fn a_refused_job_leaves_its_upload_and_two_apps_keep_the_same_clip() {
    let demo = Demo::start(BINARY).await;
    let upload = demo.post("/api/v1/uploads").header(CONTENT_TYPE, "text/plain").body("All aboard.");
    let begun: Value = upload.send().await.unwrap().json().await.unwrap();
    let job = async |rest: &str| {
        let path = format!("/api/v1/jobs?upload={}&voice=heron/pellin{rest}", begun["id"].as_str().unwrap());
        demo.post(&path).send().await.unwrap().status().as_u16()
    };
    assert_eq!(job("&split=nonsense").await, 422);
    assert_eq!(job("&type=audio/nonsense").await, 406);
    assert_eq!(job("").await, 202, "the upload is still there");
    assert_eq!(job("").await, 404, "and now it is used up");

    let other = String::from_utf8(demo.client(&["app", "key", "add", "helpline"]).stdout).unwrap().trim().to_owned();
    let ahoy = demo.speak(json!({"text": "Ahoy", "voice": "heron/pellin"}), "audio/wav").await.bytes().await.unwrap();
    let keep = async |key: &str, title: &str| {
        let request = demo.http.post(format!("{}/api/v1/clips?title={title}", demo.url)).bearer_auth(key);
        request
            .header(CONTENT_TYPE, "audio/wav")
            .body(ahoy.clone())
            .send()
            .await
            .unwrap()
            .json::<Value>()
            .await
            .unwrap()
    };
    let (first, second) = (keep(&demo.app, "gong").await, keep(&other, "bell").await);
    assert_eq!(first["id"], second["id"], "the same bytes");
    assert_eq!((second["app"].as_str(), second["title"].as_str()), (Some("helpline"), Some("bell")), "{second}");
    let place = format!("{}/api/v1/clips/{}", demo.url, first["id"].as_str().unwrap());
    assert_eq!(demo.http.delete(&place).bearer_auth(&demo.app).send().await.unwrap().status(), 204);
    assert_eq!(demo.http.get(&place).bearer_auth(&demo.app).send().await.unwrap().status(), 404);
    let kept = demo.http.get(&place).bearer_auth(&other).send().await.unwrap();
    let kept = kept.bytes().await.unwrap();
    // A kept clip has its length in its head, which a stream does not know.
    assert!(kept.len() == ahoy.len() && kept[500..] == ahoy[500..], "the other app still has it");
}

#[tokio::test]
async fn everything_that_is_kept_is_its_owners_alone() {
    use std::os::unix::fs::PermissionsExt as _;
    let demo = Demo::start(BINARY).await;
    std::fs::set_permissions(demo.data(), std::fs::Permissions::from_mode(0o755)).unwrap();
    let upload = demo.post("/api/v1/uploads").header("Upload-Complete", "?0").body("All aboard.");
    assert_eq!(upload.send().await.unwrap().status(), 201);
    demo.speak(json!({"text": "Ahoy", "voice": "heron/pellin"}), "audio/wav").await.bytes().await.unwrap();
    for file in files_below(&demo.data()) {
        let mode = std::fs::metadata(&file).unwrap().permissions().mode() & 0o777;
        assert_eq!(mode & 0o077, 0, "{} is {mode:o}", file.display());
    }
}

#[tokio::test]
async fn a_lost_root_key_is_not_replaced_in_silence() {
    let demo = Demo::start(BINARY).await;
    let folder = demo.kill();
    let data = folder.path().join("data");
    let serve = |rest: &[&str]| {
        let mut command = std::process::Command::new(BINARY);
        command.args(["serve", "--port", "0", "--data"]).arg(&data).args(rest).current_dir(folder.path());
        command.stdin(std::process::Stdio::null()).output().unwrap()
    };
    std::fs::rename(data.join("root.key"), data.join("root.key.away")).unwrap();
    let refused = serve(&[]);
    let told = String::from_utf8_lossy(&refused.stderr).into_owned();
    assert!(!refused.status.success() && told.contains("root.key") && told.contains("--forget-credentials"), "{told}");
    assert!(!data.join("root.key").exists(), "no new key was made");
    // Another key is no better than none.
    std::fs::write(data.join("root.key"), "AAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAA=\n").unwrap();
    std::os::unix::fs::chown(data.join("root.key"), None, None).unwrap();
    std::fs::set_permissions(data.join("root.key"), std::os::unix::fs::PermissionsExt::from_mode(0o600)).unwrap();
    let wrong = serve(&[]);
    let told = String::from_utf8_lossy(&wrong.stderr).into_owned();
    assert!(!wrong.status.success() && told.contains("opens none"), "{told}");
    std::fs::rename(data.join("root.key.away"), data.join("root.key")).unwrap();
    let again = Demo::start_in(BINARY, folder).await;
    let spoken = again.speak(json!({"text": "Ahoy", "voice": "heron/pellin"}), "*/*").await;
    assert_eq!(spoken.status(), 200, "with the right one all is as it was");
}

#[tokio::test]
async fn sessions_are_taken_at_our_own_name_and_from_our_own_page() {
    let free = std::net::TcpListener::bind("127.0.0.1:0").unwrap().local_addr().unwrap().port().to_string();
    let settings = [("DISPATCHER_PUBLIC_URL", "https://speech.saltmarsh.example"), ("DISPATCHER_PORT", free.as_str())];
    let service = Service::start_with(BINARY, &[], &settings).await;
    let sign_in = async |host: &str, origin: Option<&str>| {
        let mut request = service.http.post(format!("{}/api/v1/session", service.url)).header("Host", host);
        if let Some(origin) = origin {
            request = request.header("Origin", origin);
        }
        request.json(&json!({"key": service.key})).send().await.unwrap()
    };
    let own = "speech.saltmarsh.example";
    assert_eq!(sign_in("evil.example", Some("http://evil.example")).await.status(), 421);
    assert_eq!(sign_in(own, Some("https://evil.example")).await.status(), 403);
    assert_eq!(sign_in(own, Some("https://speech.saltmarsh.example.evil.example")).await.status(), 403);
    let signed = sign_in(own, Some("https://speech.saltmarsh.example")).await;
    let cookie = header(&signed, "set-cookie");
    assert!(signed.status().is_success() && cookie.contains("Secure"), "{cookie}");
    let token = cookie.split(';').next().unwrap().to_owned();
    let sample = async |name: &str, value: &str| {
        let path = format!("{}/api/v1/voices/espeak-ng/en-gb/sample", service.url);
        let request = service.http.get(path).header("Host", own).header("Cookie", &token).header(name, value);
        request.send().await.unwrap().status().as_u16()
    };
    assert_eq!(sample("Origin", "https://evil.example").await, 403, "a sample costs something");
    assert_eq!(sample("Sec-Fetch-Site", "cross-site").await, 403);
    assert_eq!(sample("Sec-Fetch-Site", "same-origin").await, 200);
    for _ in 0..5 {
        let refused = service.http.get(format!("{}/api/v1/apps", service.url)).send().await.unwrap();
        assert_eq!(refused.status(), 401);
    }
    let log = std::fs::read_to_string(service.folder.path().join("log")).unwrap();
    assert!(!log.to_lowercase().contains("guard"), "a refused call is no event for the log: {log}");
}

#[tokio::test]
async fn a_repeated_recording_is_compared_by_its_audio() {
    let demo = Demo::start(BINARY).await;
    let say = async |text: &str| {
        demo.speak(json!({"text": text, "voice": "heron/pellin"}), "audio/wav").await.bytes().await.unwrap().to_vec()
    };
    let (one, two) = (say("Ahoy").await, say("All aboard").await);
    let hear = async |audio: &[u8]| {
        let request = demo.post("/api/v1/transcripts?engine=turnstone").header("Idempotency-Key", "watch");
        let response = request.header(CONTENT_TYPE, "audio/wav").body(audio.to_vec()).send().await.unwrap();
        (response.status().as_u16(), header(&response, "dispatch-id"), response.json::<Value>().await.unwrap())
    };
    let first = hear(&one).await;
    assert_eq!((first.0, first.2["text"].as_str()), (200, Some("Ahoy")), "{}", first.2);
    assert_eq!(hear(&one).await, first, "the same recording is heard once");
    assert_eq!(hear(&two).await.0, 422, "another one under the same key is not taken for it");
}

/// A secret as an engine may repeat it.
fn encodings(secret: &str) -> Vec<String> {
    use base64::Engine as _;
    let standard = base64::engine::general_purpose::STANDARD;
    let url = base64::engine::general_purpose::URL_SAFE_NO_PAD;
    let percent = |upper: bool| -> String {
        let byte = |byte: u8| if upper { format!("%{byte:02X}") } else { format!("%{byte:02x}") };
        secret.bytes().map(byte).collect()
    };
    vec![
        secret.to_owned(),
        secret.replace('/', "\\/"),
        secret.replace('&', "\\u0026"),
        secret.replace('&', "&amp;"),
        secret.chars().map(|c| format!("&#{};", u32::from(c))).collect(),
        percent(true),
        percent(false),
        secret.replace('/', "%2f"),
        percent(false).replace('%', "%25"),
        secret.to_uppercase(),
        secret.to_lowercase(),
        format!("{}\r\n{}", &secret[..9], &secret[9..]),
        standard.encode(secret),
        url.encode(secret),
        secret.bytes().map(|byte| format!("{byte:02x}")).collect(),
        secret.bytes().map(|byte| format!("{byte:02X}")).collect::<Vec<_>>().join(":"),
    ]
}

#[tokio::test]
async fn a_secret_that_an_engine_repeats_in_any_encoding_reaches_nobody() {
    const SECRET: &str = "Kx9/canary&tide+4711~Zq";
    let listener = tokio::net::TcpListener::bind("127.0.0.1:0").await.unwrap();
    let url = format!("http://{}", listener.local_addr().unwrap());
    let count = encodings(SECRET).len();
    tokio::spawn(async move {
        use tokio::io::{AsyncReadExt as _, AsyncWriteExt as _};
        let mut said = encodings(SECRET).into_iter().cycle();
        while let Ok((mut stream, _)) = listener.accept().await {
            let _ = stream.read(&mut [0; 4_096]).await;
            let body = format!("{{\"wrong\": \"you came with {} and that is odd\"}}", said.next().unwrap());
            let head = "HTTP/1.1 400 Bad Request\r\ncontent-type: application/json\r\nconnection: close\r\n";
            let _ = stream.write_all(format!("{head}content-length: {}\r\n\r\n{body}", body.len()).as_bytes()).await;
        }
    });
    let bearer = gannet_sheet(&url, 1)
        .replace("scheme = \"none\"", "scheme = \"bearer\"\nparts = [\"token\"]")
        .replace("[pace]\nat_once = 1\n", "");
    let service = Service::start(BINARY, &[("gannet", bearer)]).await;
    let bound = json!({"engine": "gannet", "parts": {"token": SECRET}});
    assert_eq!(service.send(reqwest::Method::POST, "/api/v1/credentials", bound).await.0, 201);
    assert_eq!(service.send(reqwest::Method::POST, "/api/v1/apps", json!({"name": "quay"})).await.0, 201);
    let (_, key) = service.send(reqwest::Method::POST, "/api/v1/apps/quay/keys", json!({})).await;
    let mut shown = Vec::new();
    for who in [service.key.as_str(), key["key"].as_str().unwrap()] {
        for _ in 0..count {
            let request = service.http.post(format!("{}/api/v1/utterances", service.url)).bearer_auth(who);
            let response = request.json(&json!({"text": "Ahoy", "voice": "gannet/ada"})).send().await.unwrap();
            assert!(!response.status().is_success());
            shown.extend(format!("{:?}", response.headers()).into_bytes());
            let body = response.text().await.unwrap();
            assert_eq!(
                body.contains("that is odd"),
                who == service.key,
                "what an engine said is for operators: {body}"
            );
            shown.extend(body.into_bytes());
        }
        let request = |path: &str| service.http.get(format!("{}{path}", service.url)).bearer_auth(who).send();
        let list: Value = request("/api/v1/dispatches?limit=100").await.unwrap().json().await.unwrap();
        for item in list["items"].as_array().unwrap() {
            let one = request(&format!("/api/v1/dispatches/{}", item["id"].as_str().unwrap())).await.unwrap();
            shown.extend(one.bytes().await.unwrap());
        }
        shown.extend(request("/metrics").await.unwrap().bytes().await.unwrap());
    }
    assert!(String::from_utf8_lossy(&shown).matches("[redacted]").count() >= count, "each was repeated, and seen");
    shown.extend(std::fs::read(service.folder.path().join("log")).unwrap());
    for file in files_below(&service.folder.path().join("data")) {
        shown.extend(std::fs::read(file).unwrap());
    }
    for form in encodings(SECRET) {
        // JSON of ours escapes what it quotes.
        for form in [serde_json::to_string(&form).unwrap().trim_matches('"').to_owned(), form] {
            assert!(!shown.windows(form.len()).any(|bytes| bytes == form.as_bytes()), "the secret as {form:?}");
        }
    }
}
