//! What each access scheme shows of a credential, and to whom.

use std::sync::Arc;
use std::sync::atomic::{AtomicUsize, Ordering};
use std::time::Duration;

use crate::listener::{Listener, Seen, answer};
use crate::probe::{sound, speak};
use aws_lc_rs::encoding::AsDer as _;
use aws_lc_rs::signature::{
    ECDSA_P256_SHA256_FIXED, ECDSA_P256_SHA256_FIXED_SIGNING, ED25519, EcdsaKeyPair, Ed25519KeyPair, KeyPair as _,
    RSA_PKCS1_2048_8192_SHA256, RSA_PSS_2048_8192_SHA512, UnparsedPublicKey, VerificationAlgorithm,
};
use base64::Engine as _;
use base64::engine::general_purpose::{STANDARD, URL_SAFE_NO_PAD};
use dispatcher_core::Cause;
use dispatcher_engines::{Engine, Fetcher};
use dispatcher_vault::Parts;
use serde_json::{Value, json};

fn sheet(access: &str, call: &str) -> String {
    format!(
        "sheet = 1\nname = \"probe\"\nsite = \"cloud\"\nnetwork = \"private\"\nendpoint = \"http://127.0.0.1:1\"\n\
         {access}\n[synthesis]\ncall = \"{call}\"\ntext = \"{{{{ text }}}}\"\nanswer = \"audio\"\n[synthesis.formats]\n\
         pcm = {{ type = \"audio/pcm\", sample_rates = [16000] }}\n\
         [[synthesis.voices]]\nid = \"old\"\nname = \"Old\"\nlanguages = [\"en-GB\"]\n"
    )
}

fn engine(access: &str, url: &str) -> Engine {
    let sheet = sheet(access, "POST /speak?loud=1");
    Engine::load(&sheet, "probe.toml", Some(url), &Fetcher::new().unwrap()).unwrap_or_else(|error| panic!("{error}"))
}

fn parts(parts: &[(&str, &str)]) -> Parts {
    parts.iter().map(|(name, value)| ((*name).to_owned(), (*value).to_owned().into())).collect()
}

fn in_json(status: &str, value: &Value) -> Vec<u8> {
    let body = value.to_string();
    answer(status, &format!("content-type: application/json\r\ncontent-length: {}\r\n", body.len()), body.as_bytes())
}

fn fields(seen: &Seen) -> Vec<(String, String)> {
    let url = reqwest::Url::parse(&format!("http://x/?{}", seen.text())).unwrap();
    url.query_pairs().map(|(name, value)| (name.into_owned(), value.into_owned())).collect()
}

fn pem(label: &str, der: &[u8]) -> String {
    pem::encode(&pem::Pem::new(label, der))
}

#[tokio::test]
async fn basic_access_joins_name_and_password() {
    let listener = Listener::answering(sound()).await;
    let basic = engine("[access]\nscheme = \"basic\"\nparts = [\"user\", \"password\"]", &listener.url);
    speak(&basic, &parts(&[("user", "pier"), ("password", "öl:und=salz")])).await.unwrap();
    let wanted = format!("Basic {}", STANDARD.encode("pier:öl:und=salz"));
    assert_eq!(listener.last().header("authorization"), Some(wanted.as_str()));
    let error = speak(&basic, &parts(&[("user", "p:er"), ("password", "x")])).await.unwrap_err();
    assert!(error.cause == Cause::Unauthorized && error.detail.contains("colon"), "{error:?}");
    let error = speak(&basic, &parts(&[("user", "pier")])).await.unwrap_err();
    assert!(error.detail.contains("no part 'password'"), "{error:?}");
}

#[tokio::test]
async fn open_parts_stand_in_the_address_and_are_no_secret() {
    let refusal = answer("403 Forbidden", "content-length: 35\r\n", b"north does not know key k-secret-11");
    let listener = Listener::answering(refusal).await;
    let sheet = sheet(
        "[access]\nscheme = \"headers\"\nparts = [\"key\", \"region\"]\npublic = [\"region\"]\nheaders = { X-Key = \"{{ credential.key }}\" }",
        "POST /{{ access.region }}/speak",
    );
    let engine = Engine::load(&sheet, "probe.toml", Some(&listener.url), &Fetcher::new().unwrap()).unwrap();
    let error = speak(&engine, &parts(&[("key", "k-secret-11"), ("region", "north")])).await.unwrap_err();
    assert_eq!(listener.last().line, "POST /north/speak");
    assert!(error.detail.contains("north does not know key [redacted]"), "{error:?}");
    // A secret part cannot be named by a call.
    let leak = sheet.replace("access.region }}/speak", "credential.key }}/speak");
    assert!(Engine::load(&leak, "probe.toml", None, &Fetcher::new().unwrap()).is_err());
}

/// A token endpoint that gives token-1, token-2 …, and an engine that takes
/// those that `takes` likes.
async fn with_tokens(
    lifetime: Option<u64>,
    takes: impl Fn(usize) -> bool + Send + 'static,
) -> (Listener, Arc<AtomicUsize>) {
    let given = Arc::new(AtomicUsize::new(0));
    let count = given.clone();
    let listener = Listener::with(move |seen| {
        if seen.line.starts_with("POST /token") {
            let number = count.fetch_add(1, Ordering::SeqCst) + 1;
            let mut answer = json!({"access_token": format!("token-{number}-secret"), "token_type": "Bearer"});
            if let Some(seconds) = lifetime {
                answer["expires_in"] = json!(seconds);
            }
            return in_json("200 OK", &answer);
        }
        let bearer = seen.header("authorization").unwrap_or_default();
        let number = bearer.strip_prefix("Bearer token-").and_then(|rest| rest.split('-').next()?.parse().ok());
        match number {
            Some(number) if takes(number) => sound(),
            _ => in_json("401 Unauthorized", &json!({"fault": format!("{bearer} has sunk")})),
        }
    })
    .await;
    (listener, given)
}

const CLIENT: &str =
    "[access]\nscheme = \"client-credentials\"\nparts = [\"id\", \"secret\"]\n[access.token]\ncall = \"POST /token\"\n";

#[tokio::test]
async fn a_token_is_asked_for_once_and_kept() {
    let (listener, given) = with_tokens(Some(3_600), |_| true).await;
    let more = format!("{CLIENT}scope = \"speak listen\"\nform = {{ audience = \"quay of {{{{ credential.id }}}}\" }}");
    let engine = Arc::new(engine(&more, &listener.url));
    let credential = parts(&[("id", "ferry app:1"), ("secret", "s&lt =ü")]);
    let calls = (0..20).map(|_| {
        let (engine, credential) = (engine.clone(), credential.clone());
        tokio::spawn(async move { speak(&engine, &credential).await })
    });
    for call in calls.collect::<Vec<_>>() {
        assert_eq!(call.await.unwrap().unwrap(), [1, 2, 3, 4]);
    }
    assert_eq!(given.load(Ordering::SeqCst), 1, "one token for twenty calls at once");
    let asked = &listener.all("POST /token")[0];
    // RFC 6749, section 2.3.1: both are form-encoded before they are joined.
    let wanted = format!("Basic {}", STANDARD.encode("ferry+app%3A1:s%26lt+%3D%C3%BC"));
    assert_eq!(asked.header("authorization"), Some(wanted.as_str()));
    let told = fields(asked);
    let field = |name: &str| told.iter().find(|(has, _)| has == name).map(|(_, value)| value.as_str());
    assert_eq!(field("grant_type"), Some("client_credentials"));
    assert_eq!(field("scope"), Some("speak listen"));
    assert_eq!(field("audience"), Some("quay of ferry app:1"));
    assert!(
        listener.all("POST /speak").iter().all(|seen| !seen.text().contains("s&lt")),
        "the secret stays with the token endpoint"
    );
    // Another credential has a token of its own.
    speak(&engine, &parts(&[("id", "other"), ("secret", "else")])).await.unwrap();
    assert_eq!(given.load(Ordering::SeqCst), 2);
}

#[tokio::test]
async fn a_token_that_ends_is_renewed_and_one_that_is_refused_replaced_once() {
    let (listener, given) = with_tokens(Some(1), |_| true).await;
    let short = engine(&format!("{CLIENT}client = \"form\""), &listener.url);
    let credential = parts(&[("id", "app"), ("secret", "sesame-open")]);
    speak(&short, &credential).await.unwrap();
    assert_eq!(
        fields(&listener.all("POST /token")[0])[1..],
        [("client_id".into(), "app".into()), ("client_secret".into(), "sesame-open".to_owned())]
    );
    tokio::time::sleep(Duration::from_millis(600)).await;
    speak(&short, &credential).await.unwrap();
    assert_eq!(given.load(Ordering::SeqCst), 2, "renewed before it ends");

    let (listener, given) = with_tokens(None, |number| number != 1).await;
    let revoked = engine(CLIENT, &listener.url);
    speak(&revoked, &credential).await.unwrap();
    assert_eq!(
        (given.load(Ordering::SeqCst), listener.all("POST /speak").len()),
        (2, 2),
        "once more, with a fresh one"
    );

    let (listener, given) = with_tokens(None, |_| false).await;
    let never = engine(CLIENT, &listener.url);
    let error = speak(&never, &credential).await.unwrap_err();
    assert_eq!(error.cause, Cause::Unauthorized);
    assert_eq!((given.load(Ordering::SeqCst), listener.all("POST /speak").len()), (2, 2), "and not again");
    assert!(error.detail.contains("Bearer [redacted] has sunk"), "a token is a secret too: {error:?}");
}

#[tokio::test]
async fn a_token_endpoint_that_refuses_or_errs_says_why_without_secrets() {
    let credential = parts(&[("id", "app-17"), ("secret", "sesame-open")]);
    for (answered, cause, said) in [
        (
            in_json("400 Bad Request", &json!({"error": "invalid_client", "hint": "not sesame-open"})),
            Cause::Unauthorized,
            "not [redacted]",
        ),
        (in_json("503 Service Unavailable", &json!({})), Cause::Unavailable, "503"),
        (in_json("200 OK", &json!({"token": "elsewhere"})), Cause::Unauthorized, "no token at the sheet's path"),
        (answer("200 OK", "content-length: 5\r\n", b"<html"), Cause::Broken, "is not JSON"),
    ] {
        let listener = Listener::answering(answered).await;
        let error = speak(&engine(CLIENT, &listener.url), &credential).await.unwrap_err();
        assert!(error.cause == cause && error.detail.contains(said), "{error:?}");
        assert!(!error.detail.contains("sesame"), "{error:?}");
        assert!(listener.all("POST /speak").is_empty(), "the engine is not called without a token");
    }
}

/// Header and claims of a token, and whether its signature is right.
fn read_token(token: &str, algorithm: &'static dyn VerificationAlgorithm, public: &[u8]) -> (Value, Value, bool) {
    let pieces: Vec<&str> = token.split('.').collect();
    let decode = |piece: &str| URL_SAFE_NO_PAD.decode(piece).unwrap();
    let signed = format!("{}.{}", pieces[0], pieces[1]);
    let good = UnparsedPublicKey::new(algorithm, public).verify(signed.as_bytes(), &decode(pieces[2])).is_ok();
    let read = |piece: &str| serde_json::from_slice(&decode(piece)).unwrap();
    (read(pieces[0]), read(pieces[1]), good)
}

#[tokio::test]
async fn assertions_are_signed_and_sent_or_exchanged() {
    let random = aws_lc_rs::rand::SystemRandom::new();
    let document = EcdsaKeyPair::generate_pkcs8(&ECDSA_P256_SHA256_FIXED_SIGNING, &random).unwrap();
    let pair = EcdsaKeyPair::from_pkcs8(&ECDSA_P256_SHA256_FIXED_SIGNING, document.as_ref()).unwrap();
    let credential =
        parts(&[("issuer", "ferry@quay"), ("key", &pem("PRIVATE KEY", document.as_ref())), ("kid", "k-7")]);
    let access = "[access]\nscheme = \"assertion\"\nparts = [\"issuer\", \"key\", \"kid\"]\n[access.assertion]\nalgorithm = \"ES256\"\nkey = \"key\"\nkey_id = \"kid\"\n\
         claims = '{\"iss\": {{ credential.issuer|json }}, \"aud\": \"avocet\"}'\nseconds = 120\n";
    let listener = Listener::answering(sound()).await;
    let bearer = engine(&format!("{access}use = \"bearer\""), &listener.url);
    speak(&bearer, &credential).await.unwrap();
    let seen = listener.last();
    let token = seen.header("authorization").unwrap().strip_prefix("Bearer ").unwrap();
    let (header, claims, good) = read_token(token, &ECDSA_P256_SHA256_FIXED, pair.public_key().as_ref());
    assert!(good, "the signature is that of the key");
    assert_eq!(header, json!({"typ": "JWT", "alg": "ES256", "kid": "k-7"}));
    assert_eq!((claims["iss"].as_str(), claims["aud"].as_str()), (Some("ferry@quay"), Some("avocet")));
    let (from, to) = (claims["iat"].as_u64().unwrap(), claims["exp"].as_u64().unwrap());
    let now = std::time::SystemTime::now().duration_since(std::time::UNIX_EPOCH).unwrap().as_secs();
    assert!(from <= now && (now + 110..=now + 121).contains(&to), "{claims}");

    // By RSA, exchanged for a token (RFC 7523).
    let rsa = aws_lc_rs::rsa::KeyPair::generate(aws_lc_rs::rsa::KeySize::Rsa2048).unwrap();
    let der: aws_lc_rs::encoding::Pkcs8V1Der = rsa.as_der().unwrap();
    let credential = parts(&[("issuer", "ferry@quay"), ("key", &pem("PRIVATE KEY", der.as_ref())), ("kid", "k-8")]);
    let (listener, given) = with_tokens(Some(600), |_| true).await;
    let exchanged = access.replace("ES256", "RS256") + "[access.token]\ncall = \"POST /token\"\n";
    let exchange = engine(&exchanged, &listener.url);
    speak(&exchange, &credential).await.unwrap();
    speak(&exchange, &credential).await.unwrap();
    assert_eq!(given.load(Ordering::SeqCst), 1);
    let told = fields(&listener.all("POST /token")[0]);
    assert_eq!(told[0], ("grant_type".into(), "urn:ietf:params:oauth:grant-type:jwt-bearer".into()));
    let (header, _, good) = read_token(&told[1].1, &RSA_PKCS1_2048_8192_SHA256, rsa.public_key().as_ref());
    assert!(good && header["alg"] == "RS256" && header["kid"] == "k-8", "{header}");
    assert_eq!(listener.last().header("authorization"), Some("Bearer token-1-secret"));

    let wrong = parts(&[("issuer", "x"), ("key", "-----BEGIN NOTHING-----"), ("kid", "k")]);
    let error = speak(&exchange, &wrong).await.unwrap_err();
    assert!(
        error.cause == Cause::Unauthorized && error.detail.contains("the part 'key' is not a private key"),
        "{error:?}"
    );
}

/// What a verifier would rebuild of a request (RFC 9421, section 2.5).
fn base_of(seen: &Seen, url: &str, covers: &[&str]) -> (String, Vec<u8>) {
    let (method, target) = seen.line.split_once(' ').unwrap();
    let input = seen.header("signature-input").unwrap().strip_prefix("sig1=").unwrap();
    let mut base = String::new();
    for name in covers {
        let value = match *name {
            "@method" => method.to_owned(),
            "@target-uri" => format!("{url}{target}"),
            "@path" => target.split('?').next().unwrap().to_owned(),
            "@query" => format!("?{}", target.split_once('?').unwrap().1),
            "@authority" => url.strip_prefix("http://").unwrap().to_owned(),
            field => seen.header(field).unwrap().to_owned(),
        };
        base.push_str(&format!("\"{name}\": {value}\n"));
    }
    base.push_str(&format!("\"@signature-params\": {input}"));
    let signature = seen.header("signature").unwrap().strip_prefix("sig1=:").unwrap().strip_suffix(':').unwrap();
    (base, STANDARD.decode(signature).unwrap())
}

#[tokio::test]
async fn messages_are_signed_so_that_anyone_with_the_key_can_tell() {
    let random = aws_lc_rs::rand::SystemRandom::new();
    let ed = Ed25519KeyPair::generate_pkcs8(&random).unwrap();
    let ed_pair = Ed25519KeyPair::from_pkcs8(ed.as_ref()).unwrap();
    let ec = EcdsaKeyPair::generate_pkcs8(&ECDSA_P256_SHA256_FIXED_SIGNING, &random).unwrap();
    let ec_pair = EcdsaKeyPair::from_pkcs8(&ECDSA_P256_SHA256_FIXED_SIGNING, ec.as_ref()).unwrap();
    let rsa = aws_lc_rs::rsa::KeyPair::generate(aws_lc_rs::rsa::KeySize::Rsa2048).unwrap();
    let rsa_der: aws_lc_rs::encoding::Pkcs8V1Der = rsa.as_der().unwrap();
    let covers = ["@method", "@path", "@query", "@authority", "content-type", "content-length", "content-digest"];
    let listed = covers.map(|name| format!("\"{name}\"")).join(", ");
    for (algorithm, der, public, verifier) in [
        ("ed25519", ed.as_ref(), ed_pair.public_key().as_ref(), &ED25519 as &'static dyn VerificationAlgorithm),
        ("ecdsa-p256-sha256", ec.as_ref(), ec_pair.public_key().as_ref(), &ECDSA_P256_SHA256_FIXED),
        ("rsa-v1_5-sha256", rsa_der.as_ref(), rsa.public_key().as_ref(), &RSA_PKCS1_2048_8192_SHA256),
        ("rsa-pss-sha512", rsa_der.as_ref(), rsa.public_key().as_ref(), &RSA_PSS_2048_8192_SHA512),
    ] {
        let listener = Listener::answering(sound()).await;
        let access = format!(
            "[access]\nscheme = \"signature\"\nparts = [\"name\", \"key\"]\n[access.signature]\nalgorithm = \"{algorithm}\"\n\
             key = \"key\"\nkey_id = \"name\"\ncovers = [{listed}]\nname_algorithm = true\n"
        );
        let engine = engine(&access, &listener.url);
        speak(&engine, &parts(&[("name", "quay \"7\""), ("key", &pem("PRIVATE KEY", der))])).await.unwrap();
        let seen = listener.last();
        let (base, signature) = base_of(&seen, &listener.url, &covers);
        assert!(base.contains("keyid=\"quay \\\"7\\\"\"") && base.contains(&format!("alg=\"{algorithm}\"")), "{base}");
        UnparsedPublicKey::new(verifier, public)
            .verify(base.as_bytes(), &signature)
            .unwrap_or_else(|_| panic!("{algorithm}: {base}"));
        let digest = aws_lc_rs::digest::digest(&aws_lc_rs::digest::SHA256, b"The ramp is closing");
        assert_eq!(seen.header("content-digest"), Some(format!("sha-256=:{}:", STANDARD.encode(digest)).as_str()));
        let error = speak(&engine, &parts(&[("name", "q"), ("key", "no key at all")])).await.unwrap_err();
        assert!(error.cause == Cause::Unauthorized && error.detail.contains(algorithm), "{error:?}");
    }
    // By a shared secret, over what is usual.
    let listener = Listener::answering(sound()).await;
    let access = "[access]\nscheme = \"signature\"\nparts = [\"name\", \"key\"]\n[access.signature]\nalgorithm = \"hmac-sha256\"\nkey = \"key\"\nkey_id = \"name\"\n";
    speak(
        &engine(access, &listener.url),
        &parts(&[("name", "q"), ("key", &STANDARD.encode("thirty-two bytes of shared salt!"))]),
    )
    .await
    .unwrap();
    let (base, signature) = base_of(&listener.last(), &listener.url, &["@method", "@target-uri", "content-digest"]);
    let key = aws_lc_rs::hmac::Key::new(aws_lc_rs::hmac::HMAC_SHA256, b"thirty-two bytes of shared salt!");
    aws_lc_rs::hmac::verify(&key, base.as_bytes(), &signature).unwrap();
}
