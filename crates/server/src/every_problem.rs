//! Every kind of problem, met by a request that has it: what a caller reads of
//! it. Kinds that take an engine or a slow line are made of their errors.

use std::collections::HashSet;
use std::time::Duration;

use dispatcher_core::Cause;
use dispatcher_gateway::{FailedAttempt, GatewayError};
use dispatcher_store::StoreError;
use rocket::http::{Cookie, Header, Method};
use rocket::local::asynchronous::LocalRequest;
use serde_json::Value;

use crate::Config;
use crate::access::COOKIE;
use crate::drain::Drain;
use crate::matrix::{HOST, TestService, Who};
use crate::problem::Problem;
use crate::problem_kind::ProblemKind;

/// The kinds that were met so far.
#[derive(Default)]
struct Met(HashSet<&'static str>);

impl Met {
    /// Checks what a caller reads of a problem against the facts of its kind.
    async fn read(&mut self, kind: ProblemKind, request: LocalRequest<'_>) {
        let facts = kind.facts();
        let response = request.dispatch().await;
        let status = response.status().code;
        assert_eq!(response.content_type().expect("a type").to_string(), "application/problem+json", "{}", facts.slug);
        let told: Value = response.into_json().await.expect("JSON");
        assert_eq!(status, facts.status, "{told}");
        assert_eq!(told["status"], facts.status, "{told}");
        assert!(told["type"].as_str().is_some_and(|uri| uri.ends_with(&format!("/problems/{}", facts.slug))), "{told}");
        assert_eq!(told["title"], facts.title);
        assert_eq!(told["help"], facts.help);
        assert!(told["detail"].as_str().is_some_and(|detail| !detail.is_empty()), "{told}");
        self.0.insert(facts.slug);
    }

    /// The same of an error that no request in here can have.
    fn made(&mut self, kind: ProblemKind, error: impl Into<Problem>) -> Problem {
        let problem = error.into();
        assert_eq!((problem.kind.as_str(), problem.status), (kind.facts().slug, kind.facts().status));
        self.0.insert(kind.facts().slug);
        problem
    }
}

impl TestService {
    fn call(&self, method: Method, path: &str, who: Who) -> LocalRequest<'_> {
        let request = self.client.req(method, path.to_owned()).header(Header::new("Host", HOST));
        match self.keys.get(&who) {
            Some(key) => request.header(Header::new("Authorization", format!("Bearer {key}"))),
            None => request,
        }
    }

    fn send(&self, method: Method, path: &str, kind: &'static str, body: impl AsRef<[u8]>) -> LocalRequest<'_> {
        self.call(method, path, Who::Operator).header(Header::new("Content-Type", kind)).body(body)
    }

    fn speak(&self, body: &str) -> LocalRequest<'_> {
        self.send(Method::Post, "/api/v1/utterances", "application/json", body)
    }
}

/// What is refused before any engine is asked.
async fn of_callers(met: &mut Met, fixture: &TestService) {
    met.read(ProblemKind::NoKey, fixture.call(Method::Get, "/api/v1/voices", Who::Nobody)).await;
    met.read(ProblemKind::BadKey, fixture.call(Method::Get, "/api/v1/voices", Who::Mistyped)).await;
    let speak = |who| fixture.call(Method::Get, "/api/v1/utterances?text=Ahoy.", who);
    met.read(ProblemKind::BadToken, speak(Who::RevokedToken)).await;
    let of_other_page = speak(Who::Token).header(Header::new("Origin", "http://evil.example"));
    met.read(ProblemKind::TokenTerms, of_other_page).await;
    let forged = "/api/v1/answers/7?app=quay&until=9999999999&proof=AAAA";
    met.read(ProblemKind::BadLink, fixture.call(Method::Get, forged, Who::Nobody)).await;
    met.read(ProblemKind::NotAllowed, fixture.call(Method::Get, "/api/v1/apps", Who::App)).await;
    let session = |origin: &'static str, host: &'static str| {
        let cookie = Cookie::new(COOKIE, fixture.keys[&Who::Session].clone());
        let request = fixture.client.post("/api/v1/apps").cookie(cookie).body("{}");
        request.header(Header::new("Origin", origin)).header(Header::new("Host", host))
    };
    met.read(ProblemKind::WrongOrigin, session("http://evil.example", HOST)).await;
    met.read(ProblemKind::WrongHost, session("http://evil.example", "evil.example")).await;
    let sign_in = || {
        let request = fixture.client.post("/api/v1/session").header(Header::new("Host", HOST));
        request.body(r#"{"person": "nobody", "password": "wrong wrong wrong"}"#)
    };
    met.read(ProblemKind::SignedOut, sign_in()).await;
    for _ in 0..20 {
        sign_in().dispatch().await;
    }
    met.read(ProblemKind::TooManyAttempts, sign_in()).await;
    met.read(ProblemKind::NotFound, fixture.call(Method::Get, "/api/v1/nothing", Who::App)).await;
    let key = fixture.speak(r#"{"text": "Ahoy"}"#).header(Header::new("Idempotency-Key", "k".repeat(300)));
    met.read(ProblemKind::BadRequest, key).await;
    met.read(ProblemKind::UnknownMember, fixture.speak(r#"{"text": "Ahoy", "txet": "Ahoy"}"#)).await;
    let app = |body: Vec<u8>| fixture.send(Method::Post, "/api/v1/apps", "application/json", body);
    met.read(ProblemKind::TooLarge, app(vec![b' '; 8 << 20])).await;
    met.read(ProblemKind::Taken, app(br#"{"name": "quay"}"#.to_vec())).await;
}

/// What the work itself is refused for.
async fn of_work(met: &mut Met, fixture: &TestService) {
    met.read(ProblemKind::Invalid, fixture.speak("{}")).await;
    met.read(ProblemKind::Markup, fixture.speak(r#"{"ssml": "<speak version='1.1'><p>x</speak>"}"#)).await;
    met.read(ProblemKind::NoSuchVoice, fixture.speak(r#"{"text": "Ahoy", "voice": "flite/nobody"}"#)).await;
    let odd = r#"{"text": "Ahoy", "voice": "flite/slt", "audio": {"type": "audio/mpeg", "sample_rate": 12345}}"#;
    met.read(ProblemKind::NotAcceptable, fixture.speak(odd)).await;
    let strict = r#"{"text": "Ahoy", "voice": "flite/slt", "unsupported": "refuse", "prosody": {"pitch": "+3st"}}"#;
    met.read(ProblemKind::Unsupported, fixture.speak(strict)).await;
    met.read(ProblemKind::NoSuchEngine, fixture.call(Method::Get, "/api/v1/engines/nobody", Who::Operator)).await;
    met.read(ProblemKind::NoSuchRecord, fixture.call(Method::Get, "/api/v1/dispatches/nothing", Who::Operator)).await;
    let sheet = fixture.send(Method::Put, "/api/v1/engines/flite/sheet", "application/toml", "sheet = 1\nnaem = 2\n");
    met.read(ProblemKind::Sheet, sheet).await;
    let hear = fixture.send(Method::Post, "/api/v1/transcripts?engine=pocketsphinx", "audio/wav", "no sound");
    met.read(ProblemKind::NotAudio, hear).await;
    let read = fixture.send(Method::Post, "/api/v1/jobs?voice=flite/slt", "image/png", "a picture");
    met.read(ProblemKind::NotADocument, read).await;
    let upload =
        fixture.call(Method::Post, "/api/v1/uploads", Who::Operator).header(Header::new("Upload-Complete", "?0"));
    let upload: Value = upload.dispatch().await.into_json().await.expect("an upload");
    let job = format!("/api/v1/jobs?voice=flite/slt&upload={}", upload["id"].as_str().expect("an id"));
    met.read(ProblemKind::NotReady, fixture.call(Method::Post, &job, Who::Operator)).await;
}

/// What takes a slow line, an engine or a fault of the gateway's own.
fn of_errors(met: &mut Met) {
    let slow = std::io::Error::new(std::io::ErrorKind::TimedOut, "nothing came for 30 s");
    met.made(ProblemKind::TooSlow, crate::body::unread(&slow));
    let idempotency = crate::idempotency::Idempotency::default();
    let scope = dispatcher_gateway::ReplayScope { app: "quay".into(), token: None, end_user: None };
    let claim = idempotency.begin(scope.clone(), Some("k"), &[b"Ahoy"]).expect("the first");
    let again = idempotency.begin(scope, Some("k"), &[b"Ahoy"]).err().expect("while it runs");
    met.made(ProblemKind::InProgress, again);
    drop(claim);
    let crowded =
        GatewayError::Crowded { what: "600 calls wait for gannet".into(), retry_after: Duration::from_secs(7) };
    assert_eq!(met.made(ProblemKind::Crowded, crowded).retry_after, Some(7));
    let detail = "allowance of the app quay: the limit is 50 requests per day".to_owned();
    let used = GatewayError::Allowance { detail, retry_after: Some(Duration::from_secs(3_600)) };
    assert_eq!(met.made(ProblemKind::AllowanceUsed, used).retry_after, Some(3_600));
    let long = |unit| GatewayError::TooLong { engine: "gannet".into(), given: 9, limit: 8, unit };
    met.made(ProblemKind::TextTooLong, long("characters"));
    met.made(ProblemKind::TextTooLong, long("bytes"));
    met.made(ProblemKind::AudioTooLong, long("seconds"));
    let used = GatewayError::InUse { what: "engine", name: "gannet".into(), by: "the route desk".into() };
    met.made(ProblemKind::InUse, used);
    let changed = StoreError::Changed { what: "transcript", name: "01".into(), version: 4 };
    assert!(met.made(ProblemKind::Changed, changed).detail.ends_with("its newest version is 4"));
    let failed = |cause| {
        let attempt = FailedAttempt {
            engine: "gannet".into(),
            cause,
            detail: "the reeds are quiet".into(),
            retry_after: Some(Duration::from_secs(5)),
        };
        GatewayError::AllFailed { dispatch: "01".into(), attempts: vec![attempt] }
    };
    let told = met.made(ProblemKind::EnginesFailed, failed(Cause::Broken));
    assert_eq!(told.dispatch.as_deref(), Some("01"));
    let busy = Problem::from(failed(Cause::Throttled));
    assert_eq!((busy.status, busy.retry_after), (503, Some(5)), "others may be tried again");
    let inner = met.made(ProblemKind::Internal, GatewayError::Contradiction("an empty plan"));
    assert!(!inner.detail.contains("plan"), "what is wrong in here is for the log alone");
}

#[tokio::test(flavor = "multi_thread")]
async fn every_kind_of_problem_is_met() {
    let mut met = Met::default();
    let folder = tempfile::tempdir().expect("a folder");
    let config = |name: &str| Config { data: folder.path().join(name), port: 0, ..Config::default() };
    let fixture = TestService::with(config("usual")).await;
    of_callers(&mut met, &fixture).await;
    of_work(&mut met, &fixture).await;
    of_errors(&mut met);

    let full = TestService::with(Config { reserve_megabytes: 1_000_000_000, ..config("full") }).await;
    met.read(ProblemKind::NoRoom, full.send(Method::Post, "/api/v1/uploads", "text/plain", "abc")).await;
    let small = TestService::with(Config { app_megabytes: 1, ..config("small") }).await;
    met.read(ProblemKind::Quota, small.send(Method::Post, "/api/v1/uploads", "text/plain", vec![b'a'; 2 << 20])).await;

    fixture.client.rocket().state::<Drain>().expect("managed").begin();
    met.read(ProblemKind::Stopping, fixture.call(Method::Get, "/api/v1/voices", Who::App)).await;

    let missing: Vec<&str> =
        ProblemKind::ALL.iter().map(|kind| kind.facts().slug).filter(|slug| !met.0.contains(slug)).collect();
    assert!(missing.is_empty(), "no request has these: {missing:?}");
}
