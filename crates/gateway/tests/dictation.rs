//! Long recordings: cut, heard part by part, and put together word for word.

use std::time::Duration;

use crate::support::{TestGateway, delivered, load, weather};
use dispatcher_core::Transcript;
use dispatcher_gateway::JobView;
use dispatcher_standins::tone;

const TURNSTONE: &str = include_str!("../../../demo/sheets/turnstone.toml");
const RATE: u32 = 16_000;

/// Turnstone that takes less at once.
fn small_turnstone(megabytes: u32) -> String {
    assert!(TURNSTONE.contains("megabytes = 18"));
    TURNSTONE.replace("megabytes = 18", &format!("megabytes = {megabytes}")).replacen("\"turnstone\"", "\"small\"", 1)
}

/// A recording of sentences with so many seconds of silence between them, and
/// the second at which each sentence begins.
fn recording(sentences: &[String], gap: impl Fn(usize) -> f64) -> (Vec<f32>, Vec<f64>) {
    let mut samples = Vec::new();
    let mut starts = Vec::new();
    for (number, sentence) in sentences.iter().enumerate() {
        starts.push(samples.len() as f64 / f64::from(RATE));
        samples.extend(tone::speak(sentence, tone::Manner { pitch: 1.0, rate: 1.5 }, RATE));
        samples.resize(samples.len() + (gap(number) * f64::from(RATE)) as usize, 0.0);
    }
    (samples, starts)
}

fn sentences(count: usize) -> Vec<String> {
    let said = |n: usize| {
        format!(
            "Round {n}: the mate counts {} life jackets at door {} and signs for them.",
            n * 7 % 40 + 10,
            n % 12 + 1
        )
    };
    (1..=count).map(said).collect()
}

async fn dictate(fixture: &TestGateway, samples: &[f32], engine: &str) -> (JobView, Transcript) {
    let id = fixture.begin_dictation("Rounds", samples, engine).await;
    let view = until_over(fixture, &id).await;
    assert_eq!(view.row.state.name(), "done", "{:?}", view.row.reason);
    let path = fixture.folder.path().join("jobs").join(&id).join("files/rounds.json");
    (view, serde_json::from_slice(&std::fs::read(path).unwrap()).unwrap())
}

async fn until_over(fixture: &TestGateway, id: &str) -> JobView {
    for _ in 0..6_000 {
        let view = fixture.gateway.job(id).await.unwrap();
        if view.is_over() {
            return view;
        }
        tokio::time::sleep(Duration::from_millis(20)).await;
    }
    panic!("the job stays {:?}", fixture.gateway.job(id).await.unwrap());
}

/// The text is exact, and each sentence begins where it was said.
fn check(transcript: &Transcript, sentences: &[String], starts: &[f64]) {
    assert_eq!(transcript.text, sentences.join(" "));
    let times: Vec<f64> = transcript.words.iter().map(|word| word.start.unwrap()).collect();
    assert!(times.is_sorted(), "times go on");
    let mut at = 0;
    for (sentence, start) in sentences.iter().zip(starts) {
        // The preamble of tone speech comes before the first word.
        let off = times[at] - start;
        assert!((0.1..0.4).contains(&off), "'{sentence}' at {start} begins at {}", times[at]);
        at += sentence.split_whitespace().count();
    }
    assert_eq!(times.len(), at);
}

async fn fixture(megabytes: u32) -> TestGateway {
    TestGateway::open_with(|registry, _| {
        let turnstone = registry.engines().find(|engine| engine.sheet().name == "turnstone").unwrap();
        let endpoint = turnstone.sheet().endpoint.clone();
        registry.add(load(&small_turnstone(megabytes), "small.toml", endpoint.as_deref()));
    })
    .await
}

#[tokio::test]
async fn speech_without_a_pause_is_cut_and_loses_no_word() {
    let fixture = fixture(1).await;
    let said = sentences(60);
    let (samples, starts) = recording(&said, |_| 0.0);
    let (view, transcript) = dictate(&fixture, &samples, "small").await;
    check(&transcript, &said, &starts);
    assert!(view.progress.pieces >= 5, "{} pieces", view.progress.pieces);
    let names: Vec<&str> = view.files.iter().map(|file| file.name.as_str()).collect();
    assert_eq!(
        names,
        ["txt", "vtt", "srt", "json", "csv", "ctm", "rttm"].map(|extension| format!("rounds.{extension}"))
    );
}

#[tokio::test]
async fn pauses_are_cut_in_and_nothing_is_heard_twice() {
    let fixture = fixture(1).await;
    let said = sentences(40);
    let (samples, starts) = recording(&said, |n| if n % 3 == 0 { 1.2 } else { 0.1 });
    let (view, transcript) = dictate(&fixture, &samples, "small").await;
    check(&transcript, &said, &starts);
    let seconds = samples.len() as f64 / f64::from(RATE);
    assert!((view.progress.audio_ms as f64 / 1_000.0) < seconds * 1.1, "{} of {seconds} s", view.progress.audio_ms);
    // 0.0004 a second.
    assert!((view.progress.costs[0].nanos as f64 / 1e9 - seconds * 0.0004).abs() < 0.0004 * seconds * 0.1);
}

#[tokio::test]
async fn a_pause_within_an_utterance_that_only_its_beginning_explains_is_heard_again() {
    let fixture = fixture(1).await;
    let said = sentences(12);
    // Long utterances with silence in their midst: who begins there hears nothing.
    let mut samples = Vec::new();
    let mut starts = Vec::new();
    for pair in said.chunks(2) {
        starts.push(samples.len() as f64 / f64::from(RATE));
        let whole = tone::speak(&pair.join(" "), tone::Manner { pitch: 1.0, rate: 1.5 }, RATE);
        let half = whole.len() / 2;
        samples.extend_from_slice(&whole[..half]);
        samples.resize(samples.len() + RATE as usize, 0.0);
        samples.extend_from_slice(&whole[half..]);
    }
    let (view, transcript) = dictate(&fixture, &samples, "small").await;
    assert_eq!(transcript.text, said.join(" "));
    let pieces = fixture.store.job_pieces(view.row.id.clone()).await.unwrap();
    assert!(pieces.iter().any(|piece| piece.piece >= 100_000), "a seam was heard again: {pieces:?}");
}

#[tokio::test]
async fn what_fits_is_one_call_and_a_part_that_fails_falls_back_or_waits() {
    let fixture = fixture(1).await;
    let said = sentences(3);
    let (samples, starts) = recording(&said, |_| 0.3);
    weather(&fixture.turnstone, "{\"weather\": \"down\", \"calls\": 1}").await;
    let (view, transcript) = dictate(&fixture, &samples, "small").await;
    check(&transcript, &said, &starts);
    assert_eq!((view.progress.pieces, delivered(&fixture.turnstone).await["whole"].as_u64()), (1, Some(1)));
}

#[tokio::test]
async fn what_nobody_makes_out_is_a_gap_and_costs_no_other_word() {
    let fixture = fixture(1).await;
    let said = sentences(8);
    let (mut samples, _) = recording(&said[..4], |_| 0.3);
    let from = samples.len() as f64 / f64::from(RATE);
    let engine = |n: u32| 0.3 * (n as f32 * std::f32::consts::TAU * 170.0 / RATE as f32).sin();
    samples.extend((0..90 * RATE).map(engine));
    let to = samples.len() as f64 / f64::from(RATE);
    samples.resize(samples.len() + RATE as usize / 2, 0.0);
    samples.extend(recording(&said[4..], |_| 0.3).0);
    let (view, transcript) = dictate(&fixture, &samples, "small").await;
    let expected = format!("{} […] {}", said[..4].join(" "), said[4..].join(" "));
    assert_eq!(transcript.text.replace("[…] […]", "[…]").replace("[…] […]", "[…]"), expected);
    assert!(!transcript.unrecognised.is_empty());
    for gap in &transcript.unrecognised {
        assert!(gap.start > from - 2.0 && gap.end < to + 2.0, "{gap:?} is not within {from} to {to}");
    }
    assert!(view.row.warnings.contains("nothing was recognised from"), "{:?}", view.row.warnings);
}

#[tokio::test]
async fn a_long_recording_moves_on_in_parts_though_an_engine_takes_it_whole() {
    let fixture = fixture(100).await;
    let said = sentences(12);
    let (samples, starts) = recording(&said, |_| 55.0);
    assert!(samples.len() > 640 * RATE as usize);
    let (view, transcript) = dictate(&fixture, &samples, "small").await;
    check(&transcript, &said, &starts);
    assert!(view.progress.pieces >= 3, "{} pieces", view.progress.pieces);
}
