//! Answers that look good and are not: an error in the last look of a poll or
//! around the audio, and audio that is less than its answer states.

use crate::listener::{Listener, answer};
use crate::probe::{LISTENS, VOICE, engine, hear, in_file, json_answer, sound, speak, wave};
use base64::Engine as _;
use base64::engine::general_purpose::{STANDARD, URL_SAFE_NO_PAD};
use dispatcher_core::Cause;
use dispatcher_vault::Parts;
use serde_json::{Value, json};

/// What is wrong by these rules, whatever the status says.
const RULES: &str = "\n[[errors]]\nat = \"$.complete\"\nequals = false\nmeans = \"broken\"\n\
    [[errors]]\nat = \"$.fault.code\"\nequals = 71\nmeans = \"quota\"\n";

/// Speaks by a job whose look answers as given.
async fn polled(look: Value) -> Result<Vec<u8>, Cause> {
    let listener = Listener::with(move |seen| match seen.line.as_str() {
        "POST /jobs" => json_answer("200 OK", "", &json!({"id": "a7"})),
        "GET /jobs/a7" => json_answer("200 OK", "", &look),
        "GET /files/a7" => sound(),
        other => panic!("{other}"),
    })
    .await;
    let sheet = format!(
        "[synthesis]\ncall = \"POST /jobs\"\ntext = \"{{{{ text }}}}\"\nkeep = {{ id = \"$.id\" }}\nanswer = \"audio\"\n\
         [synthesis.poll]\ncall = \"GET /jobs/{{{{ kept.id }}}}\"\nstate = \"$.state\"\ndone = [\"ready\"]\nfailed = [\"lost\"]\n\
         first = 0.01\nlongest = 0.02\n[synthesis.fetch]\ncall = \"GET /files/{{{{ kept.id }}}}\"\n{VOICE}{RULES}"
    );
    speak(&engine(&sheet, &listener.url), &Parts::new()).await.map_err(|error| error.cause)
}

#[tokio::test]
async fn the_last_look_of_a_poll_is_held_against_the_rules() {
    assert_eq!(polled(json!({"state": "ready", "complete": true})).await, Ok(vec![1, 2, 3, 4]));
    assert_eq!(polled(json!({"state": "ready"})).await, Ok(vec![1, 2, 3, 4]));
    assert_eq!(polled(json!({"state": "ready", "complete": false})).await, Err(Cause::Broken));
    assert_eq!(polled(json!({"state": "ready", "fault": {"code": 71}})).await, Err(Cause::Quota));
    assert_eq!(polled(json!({"state": "lost", "fault": {"code": 71}})).await, Err(Cause::Quota));
    assert_eq!(polled(json!({"state": "lost"})).await, Err(Cause::Broken), "a bad end without a rule");
}

/// Speaks by one call that answers in JSON, with `more` in its sheet.
async fn in_json(body: Value, more: &str) -> Result<Vec<u8>, Cause> {
    let listener = Listener::answering(json_answer("200 OK", "", &body)).await;
    let sheet = format!(
        "[synthesis]\ncall = \"POST /say\"\ntext = \"{{{{ text }}}}\"\nanswer = {{ base64 = \"$.data\" }}\n{more}{VOICE}{RULES}"
    );
    speak(&engine(&sheet, &listener.url), &Parts::new()).await.map_err(|error| error.cause)
}

#[tokio::test]
async fn what_stands_around_base64_is_held_against_the_rules() {
    let audio: Vec<u8> = (0..9_000u32).map(|n| (n % 253) as u8).collect();
    // Without padding, in the alphabet for addresses, as some engines write.
    for data in [STANDARD.encode(&audio), URL_SAFE_NO_PAD.encode(&audio)] {
        assert_eq!(in_json(json!({"complete": true, "data": data}), "").await.as_ref(), Ok(&audio));
        // Before and behind the audio, whose members come in their own order.
        assert_eq!(in_json(json!({"complete": false, "data": data}), "").await, Err(Cause::Broken));
        assert_eq!(in_json(json!({"data": data, "fault": {"code": 71}}), "").await, Err(Cause::Quota));
    }
    assert_eq!(in_json(json!({"fault": {"code": 71}}), "").await, Err(Cause::Quota), "no audio, but a reason");
}

#[tokio::test]
async fn audio_shorter_than_its_answer_states_is_broken_over_the_wire() {
    let audio = vec![0; 32_000];
    let data = STANDARD.encode(&audio);
    for (claim, stated, fits) in [
        ("bytes = \"$.n\"", json!(32_000), true),
        ("bytes = \"$.n\"", json!(48_000), false),
        ("seconds = \"$.n\"", json!(1.0), true),
        ("milliseconds = \"$.n\"", json!("1500"), false),
        ("samples = \"$.n\"", json!(24_000), false),
        ("sha256 = \"$.n\"", json!("00".repeat(32)), false),
    ] {
        let spoken = in_json(json!({"data": data, "n": stated}), &format!("[synthesis.claims]\n{claim}\n")).await;
        let expected = if fits { Ok(audio.clone()) } else { Err(Cause::Broken) };
        assert_eq!(spoken, expected, "{claim} {stated}");
    }
    let sheet = format!(
        "[synthesis]\ncall = \"POST /say\"\ntext = \"{{{{ text }}}}\"\nanswer = \"audio\"\n\
         [synthesis.claims]\nsamples = \"header:Sample-Count\"\n{VOICE}"
    );
    for (stated, fits) in [(16_000, true), (20_000, false)] {
        let headers = format!("content-type: audio/pcm\r\ncontent-length: 32000\r\nsample-count: {stated}\r\n");
        let listener = Listener::answering(answer("200 OK", &headers, &audio)).await;
        let spoken = speak(&engine(&sheet, &listener.url), &Parts::new()).await;
        match fits {
            true => assert_eq!(spoken.unwrap(), audio),
            false => assert_eq!(
                spoken.unwrap_err().detail,
                "the answer states 1.250 s of audio, but 1.000 s were received",
                "a clean end of the stream is no proof"
            ),
        }
    }
}

#[tokio::test]
async fn a_transcript_with_an_error_around_it_is_no_transcript() {
    let sheet = format!("[recognition]\ncall = \"POST /hear\"\nraw = true\n{LISTENS}{RULES}");
    for (body, expected) in [
        (json!({"text": "half of", "complete": false}), Err(Cause::Broken)),
        (json!({"text": "all of it", "complete": true}), Ok("all of it".to_owned())),
        (json!({"text": "", "fault": {"code": 71}}), Err(Cause::Quota)),
    ] {
        let listener = Listener::answering(json_answer("200 OK", "", &body)).await;
        let heard = hear(&engine(&sheet, &listener.url), in_file(&wave(4_000))).await;
        assert_eq!(heard.map(|transcript| transcript.text).map_err(|error| error.cause), expected, "{body}");
    }
}
