//! What the http driver puts on the wire, and what it makes of answers.

use std::collections::BTreeMap;
use std::io::Write as _;
use std::sync::Arc;
use std::time::Duration;

use crate::collect::collect;
use crate::listener::{Listener, answer};
use bytes::Bytes;
use dispatcher_audio::{Codec, Format};
use dispatcher_core::Cause;
use dispatcher_engines::{AudioSource, Engine, EngineError, Fetcher, Hear, Speak};
use dispatcher_vault::Parts;

const ODD: &str = "50 % \"off\" & <more>\n日本/é?";
const SECRET: &str = "s3cret+/=&value";

fn parts(names: &[&str]) -> Parts {
    names.iter().map(|name| ((*name).to_owned(), format!("{SECRET}-{name}").into())).collect()
}

/// A sheet whose access, call and body are given.
fn speaking(access: &str, synthesis: &str) -> String {
    format!(
        "sheet = 1\nname = \"probe\"\nsite = \"cloud\"\nnetwork = \"private\"\nendpoint = \"http://127.0.0.1:1\"\n\
         {access}\n[synthesis]\n{synthesis}\nanswer = \"audio\"\nmodels = [{{ name = \"plain\" }}]\n[synthesis.formats]\n\
         pcm = {{ type = \"audio/pcm\", sample_rates = [16000], tag = \"lin16\" }}\n\
         [[synthesis.voices]]\nid = \"old harbour/1\"\nname = \"Old\"\nlanguages = [\"en-GB\"]\n\
         [[errors]]\ncontains = \"no-credit\"\nmeans = \"unpaid\"\n[[errors]]\nstatus = 418\nmeans = \"quota\"\n"
    )
}

fn listening(recognition: &str) -> String {
    format!(
        "sheet = 1\nname = \"probe\"\nsite = \"cloud\"\nnetwork = \"private\"\nendpoint = \"http://127.0.0.1:1\"\n\
         [recognition]\n{recognition}\n[recognition.formats]\nwav = {{ type = \"audio/wav\", sample_rates = [16000] }}\n\
         [recognition.transcript]\ntext = \"$.out[0].line\"\nwords = \"$.out[0].w[*]\"\nword = \"$.t\"\nstart = \"$.s\"\n\
         confidence = \"$.c\"\npercent = true\n"
    )
}

fn engine(sheet: &str, url: &str) -> Engine {
    Engine::load(sheet, "probe.toml", Some(url), &Fetcher::new().unwrap()).unwrap_or_else(|error| panic!("{error}"))
}

async fn speak(engine: &Engine, credential: &Parts) -> Result<Vec<u8>, EngineError> {
    let call = Speak {
        text: ODD.into(),
        markup: None,
        voice: engine.sheet().synthesis.as_ref().unwrap().voices[0].clone(),
        model: Some("plain".into()),
        language: None,
        format: engine.speaking_format(Format::default()).unwrap(),
        shaped: Default::default(),
    };
    collect(engine.speak(call, credential).await?.audio).await
}

async fn hear(engine: &Engine, audio: AudioSource) -> Result<dispatcher_core::Transcript, EngineError> {
    let format = engine.hearing_format(Format::new(Codec::Wav, 16_000)).unwrap();
    let call = Hear { language: Some("pt-PT".into()), ..Hear::new(audio, format) };
    engine.hear(call, &Parts::new()).await
}

fn sound() -> Vec<u8> {
    answer("200 OK", "content-type: audio/pcm\r\ncontent-length: 4\r\n", b"\x01\x02\x03\x04")
}

#[tokio::test]
async fn each_body_carries_any_text_unharmed() {
    let listener = Listener::answering(sound()).await;
    let json = engine(
        &speaking(
            "",
            "call = \"POST /v/{{ voice.id }}\"\njson = '{\"t\": {{ text|json }}, \"f\": {{ format.tag|json }}, \"r\": {{ format.sample_rate }}}'",
        ),
        &listener.url,
    );
    assert_eq!(speak(&json, &Parts::new()).await.unwrap(), [1, 2, 3, 4]);
    let seen = listener.last();
    assert_eq!(seen.line, "POST /v/old%20harbour%2F1", "a voice cannot leave its place in the path");
    assert_eq!(seen.header("content-type"), Some("application/json"));
    let body: serde_json::Value = serde_json::from_slice(&seen.body).unwrap();
    assert_eq!(body, serde_json::json!({"t": ODD, "f": "lin16", "r": 16_000}));

    let form = engine(
        &speaking("", "call = \"POST /v\"\nform = { say = \"{{ text }}\", lang = \"{{ language }}\" }"),
        &listener.url,
    );
    speak(&form, &Parts::new()).await.unwrap();
    let seen = listener.last();
    assert_eq!(seen.header("content-type"), Some("application/x-www-form-urlencoded"));
    let fields: Vec<(String, String)> = reqwest::Url::parse(&format!("http://x/?{}", seen.text()))
        .unwrap()
        .query_pairs()
        .map(|(name, value)| (name.into_owned(), value.into_owned()))
        .collect();
    assert_eq!(fields, [("say".into(), ODD.to_owned()), ("lang".into(), "en-GB".into())], "in the order of the sheet");

    let text = engine(&speaking("", "call = \"PUT /v\"\ntext = \"{{ text }}\""), &listener.url);
    speak(&text, &Parts::new()).await.unwrap();
    assert_eq!((listener.last().line.as_str(), listener.last().text().as_str()), ("PUT /v", ODD));

    let query = engine(
        &speaking(
            "",
            "call = \"GET /v\"\nquery = { q = \"{{ text }}\", m = \"{{ model }}\" }\nheaders = { X-Rate = \"{{ format.sample_rate }}\" }",
        ),
        &listener.url,
    );
    speak(&query, &Parts::new()).await.unwrap();
    let seen = listener.last();
    let url = reqwest::Url::parse(&format!("http://x{}", seen.line.strip_prefix("GET ").unwrap())).unwrap();
    let pairs: BTreeMap<String, String> =
        url.query_pairs().map(|(name, value)| (name.into_owned(), value.into_owned())).collect();
    assert_eq!((pairs["q"].as_str(), pairs["m"].as_str()), (ODD, "plain"));
    assert_eq!((seen.header("x-rate"), seen.body.len()), (Some("16000"), 0));
}

#[tokio::test]
async fn each_access_scheme_puts_the_secret_in_its_place_alone() {
    let listener = Listener::answering(sound()).await;
    let call = "call = \"POST /v\"\ntext = \"x\"";
    let bearer = engine(&speaking("[access]\nscheme = \"bearer\"\nparts = [\"token\"]", call), &listener.url);
    speak(&bearer, &parts(&["token"])).await.unwrap();
    assert_eq!(listener.last().header("authorization"), Some(format!("Bearer {SECRET}-token").as_str()));

    let headers = "[access]\nscheme = \"headers\"\nparts = [\"id\", \"key\"]\n[access.headers]\n\
                   X-Id = \"{{ credential.id }}\"\nX-Key = \"k {{ credential.key }}\"";
    let headers = engine(&speaking(headers, call), &listener.url);
    speak(&headers, &parts(&["id", "key"])).await.unwrap();
    let seen = listener.last();
    assert_eq!(seen.header("x-id"), Some(format!("{SECRET}-id").as_str()));
    assert_eq!(seen.header("x-key"), Some(format!("k {SECRET}-key").as_str()));
    assert_eq!(seen.header("authorization"), None);

    let query = "[access]\nscheme = \"query\"\nparts = [\"key\"]\n[access.query]\nkey = \"{{ credential.key }}\"";
    let query = engine(&speaking(query, call), &listener.url);
    speak(&query, &parts(&["key"])).await.unwrap();
    let url = reqwest::Url::parse(&format!("http://x{}", listener.last().line.strip_prefix("POST ").unwrap())).unwrap();
    assert_eq!(url.query_pairs().next().unwrap().1, format!("{SECRET}-key"));

    let count = listener.count();
    let error = speak(&headers, &parts(&["id"])).await.unwrap_err();
    assert_eq!((error.cause, error.detail.as_str()), (Cause::Unauthorized, "the credential has no part 'key'"));
    let mut torn = parts(&["id"]);
    torn.insert("key".into(), "two\r\nlines".to_owned().into());
    let error = speak(&headers, &torn).await.unwrap_err();
    assert!(error.cause == Cause::Unauthorized && !error.detail.contains("lines"), "{error}");
    assert_eq!(listener.count(), count, "nothing was sent");
}

#[tokio::test]
async fn a_secret_in_the_address_is_in_no_error() {
    let query = "[access]\nscheme = \"query\"\nparts = [\"key\"]\n[access.query]\nkey = \"{{ credential.key }}\"";
    let sheet = speaking(query, "call = \"POST /v\"\ntext = \"x\"");
    // Nobody listens; then one that answers with the address it was called at.
    let silent = engine(&sheet, "http://127.0.0.1:9");
    let error = speak(&silent, &parts(&["key"])).await.unwrap_err();
    assert_eq!(error.cause, Cause::Unavailable);
    assert!(!format!("{error} {error:?}").contains("s3cret"), "{error:?}");
    let told = format!(
        "you called /v?key={}",
        reqwest::Url::parse_with_params("http://x", [("k", format!("{SECRET}-key"))]).unwrap()
    );
    let listener = Listener::answering(answer("400 Bad Request", "", told.as_bytes())).await;
    let error = speak(&engine(&sheet, &listener.url), &parts(&["key"])).await.unwrap_err();
    assert!(!format!("{error} {error:?}").contains("s3cret"), "{error:?}");
}

#[tokio::test]
async fn errors_become_causes_by_rule_and_otherwise_by_status() {
    let sheet = speaking("", "call = \"POST /v\"\ntext = \"x\"");
    for (status, headers, body, cause, retry) in [
        ("418 Odd", "", "", Cause::Quota, None),
        ("500 Down", "", "{\"code\":\"no-credit\"}", Cause::Unpaid, None),
        ("400 Bad", "", "what?", Cause::Malformed, None),
        ("401 No", "", "", Cause::Unauthorized, None),
        ("403 No", "", "", Cause::Refused, None),
        ("429 Slow", "retry-after: 7\r\n", "", Cause::Throttled, Some(7)),
        ("429 Slow", "retry-after: soon\r\n", "", Cause::Throttled, None),
        ("503 Down", "retry-after: 99999\r\n", "", Cause::Unavailable, Some(3_600)),
        ("302 Found", "location: http://127.0.0.1:9/\r\n", "", Cause::Refused, None),
        ("200 OK", "content-type: text/plain\r\n", "no-credit left", Cause::Unpaid, None),
        ("200 OK", "content-type: text/html\r\n", "<p>hello</p>", Cause::Broken, None),
        ("200 OK", "content-type: application/json\r\n", "{}", Cause::Broken, None),
    ] {
        let listener = Listener::answering(answer(status, headers, body.as_bytes())).await;
        let error = speak(&engine(&sheet, &listener.url), &Parts::new()).await.unwrap_err();
        assert_eq!(error.cause, cause, "{status} {body}: {error}");
        assert_eq!(error.retry_after, retry.map(Duration::from_secs), "{status}");
        assert_eq!(listener.count(), 1, "{status}: nothing is sent twice or followed");
    }
}

#[tokio::test]
async fn an_answer_shorter_than_declared_is_broken() {
    let sheet = speaking("", "call = \"POST /v\"\ntext = \"x\"");
    let short = answer("200 OK", "content-type: audio/pcm\r\ncontent-length: 9\r\n", b"\x01\x02\x03\x04");
    let chunked =
        answer("200 OK", "content-type: audio/pcm\r\ntransfer-encoding: chunked\r\n", b"4\r\n\x01\x02\x03\x04\r\n");
    for torn in [short, chunked] {
        let listener = Listener::answering(torn).await;
        let error = speak(&engine(&sheet, &listener.url), &Parts::new()).await.unwrap_err();
        assert_eq!(error.cause, Cause::Broken, "{error}");
    }
}

#[tokio::test]
async fn a_long_error_is_cut_and_its_white_space_folded() {
    let sheet = speaking("", "call = \"POST /v\"\ntext = \"x\"");
    let body = "a  lot\n of ☂ ".repeat(20_000);
    let listener = Listener::answering(answer("400 Bad", "", body.as_bytes())).await;
    let error = speak(&engine(&sheet, &listener.url), &Parts::new()).await.unwrap_err();
    assert_eq!(error.detail.chars().count(), 301);
    assert!(
        error.detail.starts_with("status 400: a lot of ☂ a lot") && error.detail.ends_with('…'),
        "{}",
        error.detail
    );
}

#[tokio::test]
async fn a_private_address_is_called_only_where_the_sheet_says_so() {
    let listener = Listener::answering(sound()).await;
    let sheet = speaking("", "call = \"POST /v\"\ntext = \"x\"").replace("network = \"private\"\n", "");
    for url in [listener.url.clone(), listener.url.replace("127.0.0.1", "localhost")] {
        let error = speak(&engine(&sheet, &url), &Parts::new()).await.unwrap_err();
        assert!(matches!(error.cause, Cause::Refused | Cause::Unavailable), "{url}: {error}");
    }
    assert_eq!(listener.count(), 0);
}

#[tokio::test]
async fn audio_goes_out_raw_or_as_a_part_with_its_length_and_words_come_back() {
    let told =
        br#"{"out":[{"line":"bom dia","w":[{"t":"bom","s":0.25,"c":90},{"t":"dia","s":"0.5","c":120},{"x":1}]}]}"#;
    let listener = Listener::answering(answer("200 OK", "content-type: application/json\r\n", told)).await;
    let audio: Vec<u8> = (0..200_000u32).map(|n| (n % 251) as u8).collect();
    let mut file = tempfile::NamedTempFile::new().unwrap();
    file.write_all(&audio).unwrap();
    let in_file = AudioSource::File(Arc::new(file.into_temp_path()));
    for source in [AudioSource::Memory(Bytes::from(audio.clone())), in_file] {
        let raw =
            engine(&listening("call = \"POST /h\"\nraw = true\nquery = { l = \"{{ language }}\" }"), &listener.url);
        let transcript = hear(&raw, source.clone()).await.unwrap();
        let seen = listener.last();
        assert_eq!((seen.line.as_str(), seen.header("content-type")), ("POST /h?l=pt-PT", Some("audio/wav")));
        assert_eq!((seen.header("content-length"), seen.header("transfer-encoding")), (Some("200000"), None));
        assert!(seen.body == audio, "not a byte is changed");
        assert_eq!(transcript.text, "bom dia");
        let words: Vec<_> = transcript.words.iter().map(|w| (w.text.as_str(), w.start, w.end, w.confidence)).collect();
        assert_eq!(words, [("bom", Some(0.25), None, Some(0.9)), ("dia", Some(0.5), None, Some(1.0))]);

        let form = engine(
            &listening("call = \"POST /h\"\nmultipart = { lang = \"{{ language }}\" }\naudio = \"sound\""),
            &listener.url,
        );
        hear(&form, source).await.unwrap();
        let seen = listener.last();
        let kind = seen.header("content-type").unwrap();
        let boundary = kind.strip_prefix("multipart/form-data; boundary=").unwrap().to_owned();
        assert!(seen.header("content-length").is_some() && seen.header("transfer-encoding").is_none());
        let body = String::from_utf8_lossy(&seen.body).into_owned();
        assert!(body.contains("name=\"lang\"\r\n\r\npt-PT\r\n"), "{}", &body[..300]);
        assert!(
            body.contains("name=\"sound\"; filename=\"audio.wav\"\r\nContent-Type: audio/wav\r\n"),
            "{}",
            &body[..300]
        );
        assert!(body.trim_end().ends_with(&format!("--{boundary}--")));
        assert!(seen.body.windows(audio.len()).any(|window| window == audio), "the part is the audio");
    }
}

#[tokio::test]
async fn a_transcript_that_is_not_where_the_sheet_says_is_an_error() {
    for (body, said) in [
        ("{\"out\":[]}", "the answer has no text at $.out[0].line"),
        ("<html>", "the answer is not JSON"),
        ("{\"out\":[{\"line\":7}]}", "the answer has no text"),
    ] {
        let listener = Listener::answering(answer("200 OK", "", body.as_bytes())).await;
        let engine = engine(&listening("call = \"POST /h\"\nraw = true"), &listener.url);
        let error = hear(&engine, AudioSource::Memory(Bytes::from_static(b"RIFF"))).await.unwrap_err();
        assert_eq!(error.cause, Cause::Broken);
        assert!(error.detail.contains(said), "{body}: {error}");
    }
}

#[test]
fn formats_are_chosen_for_least_work_and_least_loss() {
    let sheet = "sheet = 1\nname = \"probe\"\nsite = \"cloud\"\nendpoint = \"http://x.example\"\n[synthesis]\n\
        call = \"POST /v\"\nanswer = \"audio\"\n[synthesis.formats]\n\
        mp3 = { type = \"audio/mpeg\", sample_rates = [24000] }\npcm = { type = \"audio/pcm\", sample_rates = [8000, 24000] }\n\
        phone = { type = \"audio/basic\", sample_rates = [8000] }\n\
        [[synthesis.voices]]\nid = \"v\"\nname = \"V\"\nlanguages = [\"en\"]\n[recognition]\ncall = \"POST /h\"\nraw = true\n\
        [recognition.formats]\nwav = { type = \"audio/wav\", sample_rates = [16000, 48000] }\nopus = { type = \"audio/ogg;codecs=opus\", sample_rates = [48000] }\n\
        [recognition.transcript]\ntext = \"$.t\"\n";
    let engine = engine(sheet, "http://x.example");
    for (wanted, key, rate) in [
        (Format::new(Codec::Mp3, 24_000), "mp3", 24_000),
        (Format::new(Codec::Mulaw, 8_000), "phone", 8_000),
        (Format::new(Codec::Wav, 8_000), "pcm", 8_000),
        (Format::new(Codec::Wav, 16_000), "pcm", 24_000),
        (Format::new(Codec::OggOpus, 48_000), "pcm", 24_000),
    ] {
        let chosen = engine.speaking_format(wanted).unwrap();
        assert_eq!((chosen.key.as_str(), chosen.format.rate), (key, rate), "{wanted:?}");
    }
    for (given, key, rate) in [
        (Format::new(Codec::OggOpus, 48_000), "opus", 48_000),
        (Format::new(Codec::Wav, 16_000), "wav", 16_000),
        (Format::new(Codec::Mp3, 44_100), "wav", 48_000),
        (Format::new(Codec::Mulaw, 8_000), "wav", 16_000),
    ] {
        let chosen = engine.hearing_format(given).unwrap();
        assert_eq!((chosen.key.as_str(), chosen.format.rate), (key, rate), "{given:?}");
    }
}
