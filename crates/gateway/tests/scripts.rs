//! Scripts that are performed in parts: what is heard, by number.

use crate::support::{HERON, TestGateway, delivered, listen, load, script, texts, weather};
use dispatcher_audio::decode_all;
use dispatcher_core::Cause;
use dispatcher_gateway::{GatewayError, SynthesisRequest, Unsupported};
use dispatcher_markup::Outcome;
use dispatcher_standins::tone::{Heard, hear};

/// heron without what it takes beside its text: all of it is made good.
fn bare_heron() -> String {
    let from = HERON.find("[synthesis.controls]").unwrap();
    let to = HERON.find("[synthesis.formats]").unwrap();
    format!("{}{}", &HERON[..from], &HERON[to..]).replacen("name     = \"heron\"", "name     = \"plain\"", 1)
}

async fn fixture() -> TestGateway {
    TestGateway::open_with(|registry, heron| registry.add(load(&bare_heron(), "plain.toml", Some(heron)))).await
}

/// Milliseconds of each silence longer than what lies between two words.
fn silences(samples: &[f32]) -> Vec<f64> {
    let mut found = Vec::new();
    let mut run = 0usize;
    for sample in samples.iter().chain([&1.0]) {
        if sample.abs() < 5e-4 {
            run += 1;
        } else {
            if run > 3_600 {
                found.push(run as f64 / 24.0);
            }
            run = 0;
        }
    }
    found
}

/// Root mean square of what sounds between two times, silence left out.
fn level(samples: &[f32], from: f64, to: f64) -> f64 {
    let span = &samples[(from * 24_000.0) as usize..((to * 24_000.0) as usize).min(samples.len())];
    let loud: Vec<f64> = span.iter().map(|s| f64::from(*s)).filter(|s| s.abs() > 1e-3).collect();
    (loud.iter().map(|s| s * s).sum::<f64>() / loud.len() as f64).sqrt()
}

#[tokio::test]
async fn breaks_are_right_to_five_milliseconds() {
    let fixture = fixture().await;
    let request = script(
        "One.<break time=\"400ms\"/> Two.<break time=\"1.25s\"/>Three.<break strength=\"strong\"/>",
        "plain/pellin",
    );
    let utterance = fixture.speak(request).await;
    assert_eq!(utterance.worst, Outcome::Emulated);
    let (samples, heard) = listen(utterance).await;
    assert_eq!(texts(&heard), ["One.", "Two.", "Three."]);
    let silences = silences(&samples);
    for (found, asked) in silences.iter().zip([400.0, 1_250.0, 700.0]) {
        assert!((found - asked).abs() < 5.0, "{silences:?}");
    }
    assert_eq!(silences.len(), 3, "{silences:?}");
}

#[tokio::test]
async fn pitch_speed_level_and_voice_are_as_asked_in_each_span() {
    let fixture = fixture().await;
    let body = "Plainer words here. <prosody pitch=\"+2st\">Highest words here.</prosody> \
                <prosody rate=\"85%\">Slowest words here.</prosody> <prosody volume=\"-6dB\">Softest words here.</prosody> \
                <voice name=\"Tarrick\">Other words here.</voice> Plain words here.";
    for engine in ["plain", "heron"] {
        let utterance = fixture.speak(script(body, &format!("{engine}/pellin"))).await;
        let report: Vec<(String, Outcome)> =
            utterance.fidelity.iter().map(|f| (f.element().to_owned(), f.outcome)).collect();
        let ours = if engine == "plain" { Outcome::Emulated } else { Outcome::Rewritten };
        assert_eq!(
            report[1..3],
            [("prosody".into(), ours), ("prosody".into(), ours)],
            "heron changes pitch and rate itself"
        );
        assert_eq!(report[3..], [("prosody".into(), Outcome::Emulated), ("voice".into(), Outcome::Emulated)]);
        let (samples, heard) = listen(utterance).await;
        assert_eq!(
            texts(&heard),
            [
                "Plainer words here.",
                "Highest words here.",
                "Slowest words here.",
                "Softest words here.",
                "Other words here.",
                "Plain words here."
            ]
        );
        let (plain, higher, slower, softer, other) = (&heard[0], &heard[1], &heard[2], &heard[3], &heard[4]);
        let near = |found: f64, asked: f64, share: f64| (found / asked - 1.0).abs() < share;
        assert!(
            near(higher.pitch / plain.pitch, 2f64.powf(2.0 / 12.0), 0.01),
            "{engine}: {}",
            higher.pitch / plain.pitch
        );
        // Speed by what the letters take, since all spans are built alike.
        let pace = |one: &Heard| one.text.len() as f64 / (one.words.last().unwrap().end - one.words[0].start);
        assert!(near(pace(higher), pace(plain), 0.03), "{engine}: {} for {}", pace(higher), pace(plain));
        assert!(near(slower.pitch, plain.pitch, 0.01), "{engine}: {}", slower.pitch / plain.pitch);
        assert!(near(pace(slower) / pace(plain), 0.85, 0.03), "{engine}: {}", pace(slower) / pace(plain));
        let of = |one: &Heard| level(&samples, one.words[0].start, one.words.last().unwrap().end);
        let decibels = 20.0 * (of(softer) / of(plain)).log10();
        assert!((decibels + 6.0).abs() < 0.5, "{engine}: {decibels} dB");
        let matched = 20.0 * (of(other) / of(plain)).log10();
        assert!(matched.abs() < 0.5, "{engine}: the other voice is {matched} dB off");
        assert!(!near(other.pitch, plain.pitch, 0.02), "another voice speaks there");
        assert_eq!(heard[5].pitch.total_cmp(&0.0), std::cmp::Ordering::Greater);
        let step = |samples: &[f32]| samples.windows(2).map(|w| (w[1] - w[0]).abs()).fold(0.0f32, f32::max);
        let own =
            step(&listen(fixture.speak(script("Plain words here. Higher words here.", "plain/pellin")).await).await.0);
        assert!(step(&samples) <= own * 1.2, "{engine}: a step of {} where speech has {own}", step(&samples));
    }
}

#[tokio::test]
async fn a_length_that_is_asked_for_is_kept() {
    let fixture = fixture().await;
    let whole = listen(fixture.speak(script("The ramp is closing, please.", "plain/pellin")).await).await.0.len()
        as f64
        / 24_000.0;
    let asked = whole * 1.2;
    let body = format!("<prosody duration=\"{:.0}ms\">The ramp is closing, please.</prosody>", asked * 1_000.0);
    let (samples, heard) = listen(fixture.speak(script(&body, "plain/pellin")).await).await;
    assert_eq!(texts(&heard), ["The ramp is closing, please."]);
    let found = samples.len() as f64 / 24_000.0;
    assert!((found / asked - 1.0).abs() < 0.03, "{found} s for {asked} s");
}

#[tokio::test]
async fn marks_tell_when_they_come() {
    let fixture = fixture().await;
    let request = script("One.<mark name=\"middle\"/><break time=\"500ms\"/>Two.<mark name=\"end\"/>", "plain/pellin");
    let mut utterance = fixture.speak(request).await;
    let mut audio = Vec::new();
    while let Some(chunk) = utterance.body.next().await {
        audio.extend_from_slice(&chunk.unwrap());
    }
    let marks = utterance.marks();
    let (samples, layout) = decode_all(&audio, utterance.format).unwrap();
    let heard = hear(&samples, layout.rate);
    let names: Vec<&str> = marks.iter().map(|(name, _)| name.as_str()).collect();
    assert_eq!(names, ["middle", "end"]);
    let two = heard[1].words[0].start;
    assert!(marks[0].1 > heard[0].words[0].end && marks[0].1 < two - 0.5, "{marks:?}, Two at {two}");
    assert!((marks[1].1 - samples.len() as f64 / 24_000.0).abs() < 0.05, "{marks:?}");
}

#[tokio::test]
async fn what_may_not_be_lost_is_refused_before_anything_is_sent() {
    let fixture = fixture().await;
    let request = |body: &str| SynthesisRequest { unsupported: Unsupported::Refuse, ..script(body, "plain/pellin") };
    match fixture.gateway.speak(&fixture.caller, request("One.<break/> <emphasis>Two.</emphasis>")).await.err().unwrap()
    {
        GatewayError::Unsupported(lost) => {
            let names: Vec<&str> = lost.iter().map(|item| item.element()).collect();
            assert_eq!(names, ["break", "emphasis"]);
        }
        other => panic!("{other}"),
    }
    assert_eq!(delivered(&fixture.heron).await["calls"], 0);
    let omitted =
        SynthesisRequest { unsupported: Unsupported::Omit, ..script("One.<break time=\"2s\"/> Two.", "plain/pellin") };
    let (samples, heard) = listen(fixture.speak(omitted).await).await;
    assert_eq!(texts(&heard), ["One. Two."], "one call, and nothing made good");
    assert!(silences(&samples).is_empty());
}

#[tokio::test]
async fn a_part_that_fails_falls_back_alone() {
    let fixture = fixture().await;
    let request = script("One two three.<break time=\"300ms\"/>Four.<break time=\"300ms\"/>Five.", "pier");
    // The second call is made while the first still speaks, and is one too many.
    weather(&fixture.heron, "{\"weather\": \"drip\", \"pause\": 20, \"calls\": 1}").await;
    let limits = reqwest::Client::new().put(format!("{}/limits", fixture.heron.url())).body("{\"at_once\": 1}");
    assert!(limits.send().await.unwrap().status().is_success());
    let utterance = fixture.speak(request.clone()).await;
    let id = utterance.dispatch.clone();
    let (_, heard) = listen(utterance).await;
    assert_eq!(texts(&heard), ["One two three.", crate::support::ON_TAPE, "Five."]);
    let (row, attempts, _) = fixture.dispatch(&id).await;
    assert_eq!(row.state.name(), "done");
    let ends: Vec<(&str, &str)> = attempts.iter().map(|a| (a.engine.as_str(), a.state.name())).collect();
    assert_eq!(ends.iter().filter(|end| **end == ("heron", "done")).count(), 2, "{ends:?}");
    assert_eq!(ends.iter().filter(|end| **end == ("heron", "failed")).count(), 1, "{ends:?}");
    assert_eq!(ends.iter().filter(|end| **end == ("tape", "done")).count(), 1, "{ends:?}");
    let free = reqwest::Client::new().put(format!("{}/limits", fixture.heron.url())).body("{}");
    assert!(free.send().await.unwrap().status().is_success());
    weather(&fixture.heron, "{\"weather\": \"down\", \"calls\": 1}").await;
    let utterance = fixture.speak(request.clone()).await;
    assert_eq!(
        (utterance.engine.as_str(), utterance.fallbacks.len()),
        ("tape", 1),
        "before any sound the next leg takes it all"
    );
    let id = utterance.dispatch.clone();
    listen(utterance).await;
    let (row, attempts, ledger) = fixture.dispatch(&id).await;
    assert_eq!(row.state.name(), "done");
    assert_eq!(attempts[0].cause.as_deref(), Some(Cause::Unavailable.name()));
    assert!(attempts.iter().all(|attempt| attempt.state.name() != "running"), "{attempts:?}");
    let (held, released): (i64, i64) = ledger.iter().fold((0, 0), |(held, released), line| match line.kind.name() {
        "hold" => (held + line.nanos, released),
        "release" => (held, released - line.nanos),
        _ => (held, released),
    });
    assert_eq!(held, released, "every hold is released: {ledger:?}");
}

#[tokio::test]
async fn a_caller_who_leaves_ends_the_calls_and_every_attempt_is_closed() {
    let fixture = fixture().await;
    weather(&fixture.heron, "{\"weather\": \"drip\", \"pause\": 20, \"calls\": 10}").await;
    let request = script(
        "One two three four five six seven.<break time=\"300ms\"/>Eight nine ten.<break/>Eleven.",
        "plain/pellin",
    );
    let mut utterance = fixture.speak(request).await;
    let id = utterance.dispatch.clone();
    utterance.body.next().await.unwrap().unwrap();
    drop(utterance);
    let (row, attempts, ledger) = fixture.settled(&id).await;
    assert_eq!(row.state.name(), "abandoned");
    assert!(attempts.len() <= 2, "the third part was never called: {attempts:?}");
    assert!(attempts.iter().all(|attempt| attempt.state.name() == "abandoned"), "{attempts:?}");
    assert_eq!(ledger.iter().filter(|line| line.kind.name() == "release").count(), attempts.len());
}

#[tokio::test]
async fn the_next_part_is_asked_for_only_once_something_sounds() {
    let fixture = fixture().await;
    weather(&fixture.heron, "{\"weather\": \"drip\", \"pause\": 500, \"calls\": 1}").await;
    let calls = async || delivered(&fixture.heron).await["calls"].as_u64().unwrap();
    // The first piece of sound is half a second away once the call is there.
    let before_it_sounds = async {
        while calls().await == 0 {
            tokio::time::sleep(std::time::Duration::from_millis(5)).await;
        }
        tokio::time::sleep(std::time::Duration::from_millis(150)).await;
        calls().await
    };
    let request = script("One.<break time=\"300ms\"/>Two.", "plain/pellin");
    let (utterance, early) = tokio::join!(fixture.speak(request), before_it_sounds);
    assert_eq!(early, 1, "the second part was asked for while the first was silent");
    let (_, heard) = listen(utterance).await;
    assert_eq!(texts(&heard).join(" "), "One. Two.");
    assert_eq!(calls().await, 2);
}
