//! Every route by every kind of caller: who is let in, and who is not.

use std::collections::BTreeMap;

use dispatcher_core::{TokenCall, TokenTerms};
use dispatcher_gateway::{Page, now_micros};
use dispatcher_store::{AccessKey, App, PersonChange, PersonRole, Session};
use dispatcher_vault::{KeyKind, hash_key, new_key};
use rocket::http::{Cookie, Header, Method};
use rocket::local::asynchronous::Client;
use secrecy::ExposeSecret as _;

use crate::Config;
use crate::access::{COOKIE, Need};
use crate::drain::Drain;
use crate::launch::Service;
use crate::routes;

/// Somebody who calls.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub(crate) enum Who {
    Nobody,
    /// A key that is mistyped.
    Mistyped,
    App,
    RevokedApp,
    Operator,
    RevokedOperator,
    /// A token for speaking.
    Token,
    RevokedToken,
    /// The same from a page that it is not for.
    TokenOfOtherPage,
    /// A session of a person, from the console's own page.
    Session,
    /// The same from a page of another site.
    OtherPage,
    /// The same, reached by a name that is not the service's own.
    OtherHost,
    SessionOfRevokedKey,
    SessionOfOldPassword,
    SessionOfRemovedPerson,
    SessionThatIsOver,
    /// A session of an app owner.
    AppOwner,
    /// A session of an auditor.
    Auditor,
}

/// The status of a call that must be refused; `None` where it is let in.
fn refusal(need: Need, method: Method, who: Who) -> Option<u16> {
    let reads = matches!(method, Method::Get | Method::Head);
    match (need, who) {
        (Need::Nothing, _) | (_, Who::Operator | Who::Session) => None,
        (Need::Operator | Need::Owner | Need::Person, Who::App) => Some(403),
        // Neither changes another person.
        (Need::Person, Who::AppOwner | Who::Auditor) if method == Method::Put => Some(403),
        (Need::Operator, Who::AppOwner) => Some(403),
        (Need::Person, Who::Auditor) | (_, Who::AppOwner) => None,
        (Need::Operator | Need::Owner | Need::Key | Need::Link | Need::Job, Who::Auditor) if reads => None,
        (_, Who::Auditor) => Some(403),
        (_, Who::App) | (Need::Speak, Who::Token) => None,
        (Need::Speak | Need::Transcribe | Need::Caption | Need::Exchange, Who::RevokedToken) => Some(401),
        (_, Who::Token | Who::RevokedToken | Who::TokenOfOtherPage | Who::OtherPage) => Some(403),
        (_, Who::OtherHost) => Some(421),
        _ => Some(401),
    }
}

fn person(role: Option<(PersonRole, Vec<String>)>) -> PersonChange {
    PersonChange { password_hash: Some("hash".into()), role }
}

pub(crate) struct TestService {
    pub(crate) client: Client,
    pub(crate) keys: BTreeMap<Who, String>,
}

pub(crate) const HOST: &str = "127.0.0.1:7420";

impl TestService {
    async fn new(folder: &std::path::Path) -> TestService {
        TestService::with(Config { data: folder.into(), port: 0, ..Config::default() }).await
    }

    pub(crate) async fn with(config: Config) -> TestService {
        let service = Service::new(&config).await.expect("a service");
        let store = service.store.clone();
        store.add_app(App::new("quay", "Quay", 1), "test".into()).await.expect("an app");
        let mut keys = BTreeMap::from([(Who::Mistyped, "nonsense".to_owned())]);
        for (who, app, kind) in [
            (Who::App, "quay", KeyKind::App),
            (Who::RevokedApp, "quay", KeyKind::App),
            (Who::Operator, "console", KeyKind::Operator),
            (Who::RevokedOperator, "console", KeyKind::Operator),
        ] {
            let made = new_key(kind, &mut rand::rng());
            let row = AccessKey {
                id: format!("{who:?}"),
                app: app.into(),
                operator: app == "console",
                hash: made.hash,
                hint: made.hint,
                label: String::new(),
                created_at: 1,
                last_used_at: None,
                revoked_at: None,
                per_minute: None,
                at_once: None,
                expires_at: None,
                calls: None,
                routes: None,
                engines: None,
                voices: None,
                networks: None,
            };
            store.add_key(row, "test".into()).await.expect("a key");
            keys.insert(who, made.secret.expose_secret().to_owned());
        }
        for name in ["ada", "ben", "cy"] {
            store.put_person(name.into(), person(None), None, "test".into(), 1).await.expect("a person");
        }
        for (name, role, apps) in
            [("olga", PersonRole::AppOwner, vec!["quay".to_owned()]), ("axel", PersonRole::Auditor, Vec::new())]
        {
            store.put_person(name.into(), person(Some((role, apps))), None, "test".into(), 1).await.expect("a person");
        }
        let later = now_micros() + 3_600_000_000;
        for (who, person, key, expires_at) in [
            (Who::Session, "ada", None, later),
            (Who::OtherPage, "ada", None, later),
            (Who::OtherHost, "ada", None, later),
            (Who::SessionOfRevokedKey, "key RevokedOperator", Some("RevokedOperator"), later),
            (Who::SessionOfOldPassword, "ben", None, later),
            (Who::SessionOfRemovedPerson, "cy", None, later),
            (Who::SessionThatIsOver, "ada", None, 2),
            (Who::AppOwner, "olga", None, later),
            (Who::Auditor, "axel", None, later),
        ] {
            let token = format!("token of {who:?}");
            let (hash, key) = (hash_key(&token), key.map(str::to_owned));
            let session = Session { hash, person: person.into(), created_at: 1, expires_at, key };
            store.add_session(session).await.expect("a session");
            keys.insert(who, token);
        }
        // Each was good, and was looked up, before it was taken away.
        for who in [Who::RevokedApp, Who::RevokedOperator] {
            service.gateway().admit(&keys[&who], None).await.expect("good so far");
        }
        for (app, id) in [("quay", "RevokedApp"), ("console", "RevokedOperator")] {
            service.gateway().revoke_app_key(app, id, "test").await.expect("revoked");
        }
        store.put_person("ben".into(), person(None), None, "test".into(), 2).await.expect("changed");
        store.remove_person("cy".into(), "test".into(), 2).await.expect("removed");
        let quay = service.gateway().app("quay").await.expect("an app");
        let terms = TokenTerms { calls: vec![TokenCall::Speak], ..TokenTerms::default() };
        for who in [Who::Token, Who::RevokedToken, Who::TokenOfOtherPage] {
            let made = service.gateway().add_token(&quay, ("", terms.clone(), later), "test").await.expect("a token");
            let token = made.1.expose_secret().to_owned();
            service.gateway().admit_token(&token, TokenCall::Speak, Page::None).await.expect("good so far");
            if who == Who::RevokedToken {
                service.gateway().revoke_token("quay", &made.0.token.id, "test").await.expect("revoked");
            }
            keys.insert(who, token);
        }
        TestService { client: Client::untracked(service.into_rocket()).await.expect("a client"), keys }
    }

    async fn status(&self, method: Method, path: &str, who: Who) -> u16 {
        let host = if who == Who::OtherHost { "evil.example" } else { HOST };
        let mut request = self.client.req(method, path).header(Header::new("Host", host));
        if !matches!(method, Method::Get | Method::Head) {
            request = request.body("{}").header(Header::new("Content-Type", "application/json"));
        }
        let key = self.keys.get(&who);
        request = match who {
            Who::Nobody => request,
            Who::Mistyped
            | Who::App
            | Who::RevokedApp
            | Who::Operator
            | Who::RevokedOperator
            | Who::Token
            | Who::RevokedToken => {
                request.header(Header::new("Authorization", format!("Bearer {}", key.expect("a key"))))
            }
            Who::TokenOfOtherPage => {
                let bearer = format!("Bearer {}", key.expect("a token"));
                request
                    .header(Header::new("Authorization", bearer))
                    .header(Header::new("Origin", "http://evil.example"))
            }
            _ => {
                let page = if who == Who::OtherPage { "http://evil.example".into() } else { format!("http://{host}") };
                let cookie = Cookie::new(COOKIE, key.expect("a token").clone());
                request.cookie(cookie).header(Header::new("Origin", page))
            }
        };
        request.dispatch().await.status().code
    }
}

/// A path with something in the place of each parameter.
fn filled(pattern: &str) -> String {
    let path = pattern.split('?').next().unwrap_or_default().replace("/<path..>", "/page");
    let parts = path.split('/').map(|part| if part.starts_with('<') { "nothing" } else { part });
    parts.collect::<Vec<_>>().join("/")
}

#[tokio::test(flavor = "multi_thread")]
async fn every_route_lets_in_whom_its_row_names_and_nobody_else() {
    let folder = tempfile::tempdir().expect("a folder");
    let fixture = TestService::new(folder.path()).await;
    let everybody = [
        Who::Nobody,
        Who::Mistyped,
        Who::App,
        Who::RevokedApp,
        Who::Operator,
        Who::RevokedOperator,
        Who::Token,
        Who::RevokedToken,
        Who::TokenOfOtherPage,
        Who::Session,
        Who::OtherPage,
        Who::OtherHost,
        Who::SessionOfRevokedKey,
        Who::SessionOfOldPassword,
        Who::SessionOfRemovedPerson,
        Who::SessionThatIsOver,
        Who::AppOwner,
        Who::Auditor,
    ];
    let mut wrong = Vec::new();
    let mut calls = 0;
    for (method, pattern, need) in routes::all() {
        // Ends the session that the others are compared with.
        if (method, pattern.as_str()) == (Method::Delete, "/api/v1/session") {
            continue;
        }
        for who in everybody {
            let status = fixture.status(method, &filled(&pattern), who).await;
            calls += 1;
            let refused = matches!(status, 401 | 403 | 421);
            let fits = match refusal(need, method, who) {
                Some(wanted) => status == wanted,
                // What else becomes of it is another test's: a sign-in is
                // refused where its body is, and not by the guard.
                None => {
                    !refused
                        || (need == Need::Nothing && matches!(pattern.as_str(), "/api/v1/session" | "/sign-in/<token>"))
                }
            };
            if !fits {
                wrong.push(format!("{method} {pattern} by {who:?}: {status}"));
            }
        }
    }
    assert!(wrong.is_empty(), "{}", wrong.join("\n"));
    assert!(calls > 1_000, "{calls} calls: every row by every caller");
}

/// A tone of this many samples, as a WAV file.
fn recording(samples: usize) -> Vec<u8> {
    let sound: Vec<f32> = (0..samples).map(|n| (n as f32 * 0.1).sin() * 0.3).collect();
    dispatcher_audio::encode_all(&sound, dispatcher_audio::Format::new(dispatcher_audio::Codec::Wav, 16_000))
        .expect("audio")
}

#[tokio::test(flavor = "multi_thread")]
async fn a_recording_under_a_used_key_is_compared_by_its_audio() {
    let folder = tempfile::tempdir().expect("a folder");
    let fixture = TestService::new(folder.path()).await;
    // In rehearsal nobody is called, and the same is checked.
    let rehearsal = App { rehearsal: true, ..App::new("quay", "Quay", 1) };
    let gateway = fixture.client.rocket().state::<dispatcher_gateway::Gateway>().expect("managed");
    gateway.change_app(rehearsal, "test").await.expect("changed");
    let hear = async |audio: Vec<u8>| {
        let request = fixture.client.post("/api/v1/transcripts?engine=pocketsphinx").body(audio);
        let key = format!("Bearer {}", fixture.keys[&Who::App]);
        let request = request.header(Header::new("Authorization", key)).header(Header::new("Idempotency-Key", "watch"));
        let response = request.header(Header::new("Content-Type", "audio/wav")).dispatch().await;
        (response.status().code, response.headers().get_one("Dispatch-Id").map(str::to_owned))
    };
    let first = hear(recording(16_000)).await;
    assert_eq!(first.0, 200);
    assert_eq!(hear(recording(16_000)).await, first, "the same recording is answered as before");
    assert_eq!(hear(recording(16_001)).await.0, 422, "another one is not");
}

#[tokio::test(flavor = "multi_thread")]
async fn a_form_has_one_recording_few_parts_and_no_query() {
    let folder = tempfile::tempdir().expect("a folder");
    let fixture = TestService::new(folder.path()).await;
    let part = |name: &str, body: &[u8]| {
        let head = format!("--tide\r\nContent-Disposition: form-data; name=\"{name}\"\r\n\r\n");
        [head.as_bytes(), body, b"\r\n"].concat()
    };
    let send = async |path: &str, parts: Vec<Vec<u8>>| {
        let body = [parts.concat(), b"--tide--\r\n".to_vec()].concat();
        let key = format!("Bearer {}", fixture.keys[&Who::App]);
        let request = fixture.client.post(path.to_owned()).body(body).header(Header::new("Authorization", key));
        let kind = Header::new("Content-Type", "multipart/form-data; boundary=tide");
        let response = request.header(kind).dispatch().await;
        let told: serde_json::Value = response.into_json().await.expect("a problem");
        (told["status"].as_u64(), told["detail"].as_str().unwrap_or_default().to_owned())
    };
    let audio = || part("audio", &recording(1_600));
    let (status, detail) = send("/api/v1/transcripts", vec![audio(), audio()]).await;
    assert_eq!((status, detail.contains("two parts 'audio'")), (Some(422), true), "{detail}");
    let many = (0..2_000).map(|n| part(&format!("x{n}"), b"1")).collect();
    let (status, detail) = send("/api/v1/transcripts", many).await;
    assert_eq!((status, detail.contains("more than 40 parts")), (Some(413), true), "{detail}");
    let (status, detail) = send("/api/v1/transcripts?language=en", vec![audio()]).await;
    assert_eq!((status, detail.contains("no query parameters")), (Some(400), true), "{detail}");
    let twice = vec![audio(), part("language", b"en"), part("language", b"fr")];
    let (status, detail) = send("/api/v1/transcripts", twice).await;
    assert_eq!((status, detail.contains("'language' is given twice")), (Some(422), true), "{detail}");
}

#[tokio::test]
async fn a_service_that_stops_is_not_ready_and_takes_no_work() {
    let folder = tempfile::tempdir().expect("a folder");
    let fixture = TestService::new(folder.path()).await;
    assert_eq!(fixture.status(Method::Get, "/health", Who::Nobody).await, 200);
    fixture.client.rocket().state::<Drain>().expect("managed").begin();
    for (path, who) in [("/health", Who::Nobody), ("/api/v1/voices", Who::App), ("/api/v1/apps", Who::Session)] {
        assert_eq!(fixture.status(Method::Get, path, who).await, 503, "{path}");
    }
}

#[tokio::test]
async fn what_a_session_answers_is_kept_by_nobody() {
    let folder = tempfile::tempdir().expect("a folder");
    let fixture = TestService::new(folder.path()).await;
    for path in ["/api/v1/apps/console/keys", "/api/v1/credentials", "/api/v1/audit", "/api/v1/session", "/health"] {
        let request = fixture.client.get(path).header(Header::new("Host", HOST));
        let key = format!("Bearer {}", fixture.keys[&Who::Operator]);
        let response = request.header(Header::new("Authorization", key)).dispatch().await;
        assert_eq!(response.headers().get_one("Cache-Control"), Some("no-store"), "{path}");
    }
}
