//! Engines that are lost in the middle of an utterance: another goes on at the
//! sentence that was not wholly heard.

use dispatcher_audio::{Codec, Format, decode_all};
use dispatcher_core::Work;
use dispatcher_gateway::SynthesisRequest;
use dispatcher_standins::tone;

use crate::support::*;

const SENTENCES: [&str; 4] = [
    "The ramp is closing now.",
    "Stand clear of the doors.",
    "Lifejackets are under the seats.",
    "Have a calm crossing.",
];

fn telling(route: &str) -> SynthesisRequest {
    SynthesisRequest { format: Format::new(Codec::Wav, 24_000), ..say(&SENTENCES.join(" "), route) }
}

#[tokio::test]
async fn each_sentence_is_heard_once_wherever_the_engine_is_lost() {
    let fixture = TestGateway::open().await;
    for (skip, share) in [(0, 0.3), (1, 0.0), (1, 0.5), (2, 0.7), (3, 0.6)] {
        weather(&fixture.heron, &format!(r#"{{"weather":"half","skip":{skip},"share":{share}}}"#)).await;
        let utterance = fixture.speak(telling("pier")).await;
        let id = utterance.dispatch.clone();
        let audio = collect(utterance.body).await.unwrap();
        let (samples, layout) = decode_all(&audio, Format::new(Codec::Wav, 24_000)).unwrap();
        let heard: Vec<String> = tone::hear(&samples, layout.rate).into_iter().map(|one| one.text).collect();
        // The tape says the same whatever it is asked for.
        let wanted: Vec<&str> =
            (0..SENTENCES.len()).map(|at| if at < skip { SENTENCES[at] } else { ON_TAPE }).collect();
        assert_eq!(heard, wanted, "lost in sentence {skip} behind {share} of it");
        let (row, attempts, ledger) = fixture.dispatch(&id).await;
        assert_eq!((row.state.name(), row.engine.as_deref()), ("done", Some("tape")));
        let ends: Vec<_> = attempts.iter().map(|one| (one.engine.as_str(), one.state.name())).collect();
        let by_heron = ends.iter().filter(|end| **end == ("heron", "done")).count();
        let by_tape = ends.iter().filter(|end| **end == ("tape", "done")).count();
        assert_eq!((by_heron, by_tape), (skip, SENTENCES.len() - skip), "{ends:?}");
        let held: i64 = ledger.iter().filter(|line| line.kind.name() != "settle").map(|line| line.nanos).sum();
        assert_eq!(held, 0, "no hold is left behind");
        fixture.gateway.reset_breakers("heron", "test").await.unwrap();
    }
}

#[tokio::test]
async fn an_engine_that_is_slow_and_lost_repeats_no_more_than_its_sentence() {
    let fixture = TestGateway::open().await;
    // Slower than it is heard: its audio cannot be held until it is whole.
    weather(&fixture.heron, r#"{"weather":"half","skip":1,"share":0.7,"pause":90}"#).await;
    let utterance = fixture.speak(telling("pier")).await;
    let audio = collect(utterance.body).await.unwrap();
    let (samples, layout) = decode_all(&audio, Format::new(Codec::Wav, 24_000)).unwrap();
    let heard: Vec<String> = tone::hear(&samples, layout.rate).into_iter().map(|one| one.text).collect();
    assert_eq!((heard.len(), heard[0].as_str()), (5, SENTENCES[0]), "{heard:?}");
    // The beginning of the sentence that was lost, and then all of it.
    assert!(SENTENCES[1].starts_with(&heard[1]) && heard[1].len() < SENTENCES[1].len(), "{heard:?}");
    assert_eq!(&heard[2..], [ON_TAPE; 3]);
}

#[tokio::test]
async fn a_voice_without_another_behind_it_is_called_once() {
    let fixture = TestGateway::open().await;
    let before = delivered(&fixture.heron).await["calls"].as_u64().unwrap();
    let utterance = fixture.speak(telling("heron/pellin")).await;
    collect(utterance.body).await.unwrap();
    assert_eq!(delivered(&fixture.heron).await["calls"].as_u64(), Some(before + 1));
    weather(&fixture.heron, r#"{"weather":"half"}"#).await;
    let utterance = fixture.speak(telling("heron/pellin")).await;
    assert!(collect(utterance.body).await.is_err(), "half an answer is never called whole");
}

#[tokio::test]
async fn who_goes_on_is_as_loud_as_who_was_lost() {
    let folder = tempfile::tempdir().unwrap();
    let quiet: Vec<f32> = tone::speak(ON_TAPE, tone::Manner { pitch: 1.0, rate: 1.5 }, 16_000)
        .into_iter()
        .map(|sample| sample * 0.5)
        .collect();
    let file = folder.path().join("quiet.wav");
    let wav = dispatcher_audio::encode_all(&quiet, Format::new(Codec::Wav, 16_000)).unwrap();
    std::fs::write(&file, wav).unwrap();
    let sheet = tape(&file).replace("\"tape\"", "\"whisper\"").replace("Reel", "Hush").replace("reel", "hush");
    let fixture = TestGateway::open_with(|registry, _| registry.add(load(&sheet, "whisper.toml", None))).await;
    let legs = vec![leg("heron", Some("pellin")), leg("whisper", None)];
    fixture.gateway.put_route(route("quiet", Work::Synthesis, legs), "test").await.unwrap();
    weather(&fixture.heron, r#"{"weather":"half","skip":2}"#).await;
    let utterance = fixture.speak(telling("quiet")).await;
    let audio = collect(utterance.body).await.unwrap();
    let (samples, layout) = decode_all(&audio, Format::new(Codec::Wav, 24_000)).unwrap();
    let heard = tone::hear(&samples, layout.rate);
    assert_eq!(heard.iter().map(|one| one.text.as_str()).collect::<Vec<_>>()[1..3], [SENTENCES[1], ON_TAPE]);
    let level = |one: &tone::Heard| -> f64 {
        let (from, to) = (one.words[0].start, one.words[one.words.len() - 1].end);
        let part = &samples[(from * 24_000.0) as usize..(to * 24_000.0) as usize];
        let loud: Vec<f64> = part.iter().map(|s| f64::from(*s)).filter(|s| s.abs() > 1e-3).collect();
        20.0 * (loud.iter().map(|s| s * s).sum::<f64>() / loud.len() as f64).sqrt().log10()
    };
    let apart = level(&heard[1]) - level(&heard[2]);
    assert!(apart.abs() <= 1.0, "it was 6 dB too quiet, and is {apart} dB off");
}
