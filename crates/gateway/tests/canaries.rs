//! Canaries: a voice that sounds otherwise than before is noticed by what has
//! changed, and by nothing else.

use crate::support::{TEXT, TestGateway, weather};
use dispatcher_audio::{Codec, Format, encode_all};
use dispatcher_core::Canary;
use dispatcher_gateway::{CanaryView, GatewayError};

fn canary(voice: &str, text: &str, ear: Option<&str>) -> Canary {
    Canary {
        name: "pier".into(),
        voice: voice.into(),
        text: text.into(),
        app: "quay".into(),
        language: None,
        ear: ear.map(str::to_owned),
        every: 60,
    }
}

/// What the last run says, in words.
fn told(view: &CanaryView) -> Vec<String> {
    let latest = view.latest.as_ref().unwrap();
    assert_eq!(latest.fault, None);
    view.departures(latest).iter().map(ToString::to_string).collect()
}

/// Puts a voice on the tape: a buzz at a pitch, for some seconds.
fn record(fixture: &TestGateway, hertz: f64, amplitude: f64, seconds: f64) {
    let sample = |at: u32| {
        let turn = f64::from(at) / 16_000.0 * hertz * std::f64::consts::TAU;
        ((1..=20).map(|n| (turn * f64::from(n)).sin() / f64::from(n)).sum::<f64>() * amplitude) as f32
    };
    let samples: Vec<f32> = (0..(seconds * 16_000.0) as u32).map(sample).collect();
    let wav = encode_all(&samples, Format::new(Codec::Wav, 16_000)).unwrap();
    std::fs::write(fixture.folder.path().join("tape.wav"), wav).unwrap();
}

#[tokio::test]
async fn each_way_in_which_a_voice_can_change_is_told_with_its_amount() {
    let fixture = TestGateway::open().await;
    record(&fixture, 110.0, 0.1, 2.0);
    let set = fixture.gateway.put_canary(canary("tape/reel", "Ahoy.", None), "ada").await.unwrap();
    assert_eq!((set.version, set.latest.is_none(), set.next_at()), (1, true, None), "it is due at once");
    let first = fixture.gateway.run_canary("pier", "ada").await.unwrap();
    assert_eq!((told(&first), first.reference.as_ref()), (vec![], first.latest.as_ref()), "it is held against itself");
    assert_eq!(first.latest.as_ref().unwrap().audio_ms, 2_000);
    for (hertz, amplitude, seconds, change) in [
        (112.0, 0.11, 2.1, None),
        (110.0, 0.1, 2.5, Some("25 % longer (2.50 s, was 2.00 s)")),
        (110.0, 0.05, 2.0, Some("6.0 LU quieter (")),
        (165.0, 0.1, 2.0, Some("7.0 semitones higher (165 Hz, was 110 Hz)")),
        (110.0, 0.1, 2.0, None),
    ] {
        record(&fixture, hertz, amplitude, seconds);
        let told = told(&fixture.gateway.run_canary("pier", "ada").await.unwrap());
        match change {
            Some(change) => assert!(told.len() == 1 && told[0].starts_with(change), "{change}: {told:?}"),
            None => assert_eq!(told, Vec::<String>::new(), "{hertz} Hz, {amplitude}, {seconds} s"),
        }
    }
    let runs = fixture.gateway.canary_runs("pier", 100).await.unwrap();
    assert_eq!((runs.len(), runs.iter().filter(|run| run.is_reference).count()), (6, 1));
}

#[tokio::test]
async fn a_word_that_is_not_spoken_is_heard_to_be_missing_until_the_run_is_accepted() {
    let fixture = TestGateway::open().await;
    fixture.gateway.put_canary(canary("heron/pellin", TEXT, Some("turnstone")), "ada").await.unwrap();
    let first = fixture.gateway.run_canary("pier", "ada").await.unwrap();
    let run = first.latest.as_ref().unwrap();
    assert_eq!((run.heard.as_deref(), run.word_errors), (Some(TEXT), Some(0.0)));
    // Both calls are the app's, with their cost.
    let (dispatch, ..) = fixture.dispatch(run.dispatch.as_ref().unwrap()).await;
    assert_eq!((dispatch.app.as_str(), dispatch.cost_nanos > 0), ("quay", true));

    let broken = reqwest::Client::new().put(format!("{}/broken", fixture.heron.url()));
    assert!(broken.body("[\"swallow\"]").send().await.unwrap().status().is_success());
    let second = fixture.gateway.run_canary("pier", "ada").await.unwrap();
    let run = second.latest.as_ref().unwrap();
    assert_eq!(run.heard.as_deref(), Some("The 06:15 to Gullsay is delayed by twenty"));
    assert_eq!(told(&second).last().unwrap(), "11 % of the words misheard or missing, were 0 %");

    fixture.gateway.put_canary(canary("heron/pellin", "Cast off now.", Some("ear")), "ada").await.unwrap();
    let third = fixture.gateway.run_canary("pier", "ada").await.unwrap();
    assert_eq!(third.latest.as_ref().unwrap().word_errors.map(|rate| (rate * 3.0).round()), Some(1.0));
    assert_eq!(told(&third), Vec::<String>::new(), "a new text begins with a new reference");
    let mended = reqwest::Client::new().put(format!("{}/broken", fixture.heron.url()));
    assert!(mended.body("[]").send().await.unwrap().status().is_success());
    let fourth = fixture.gateway.run_canary("pier", "ada").await.unwrap();
    assert!(told(&fourth)[0].contains("longer"), "{:?}", told(&fourth));
    let accepted = fixture.gateway.accept_canary("pier", "ada").await.unwrap();
    assert_eq!((told(&accepted), accepted.reference.unwrap().id), (vec![], fourth.latest.unwrap().id));
}

#[tokio::test]
async fn a_run_that_fails_says_why_and_is_no_reference() {
    let fixture = TestGateway::open().await;
    fixture.gateway.put_canary(canary("heron/pellin", TEXT, Some("turnstone")), "ada").await.unwrap();
    weather(&fixture.heron, "{\"weather\": \"down\"}").await;
    let failed = fixture.gateway.run_canary("pier", "ada").await.unwrap();
    let fault = failed.trouble().unwrap();
    assert!(fault.starts_with("the canary pier of heron/pellin failed: heron: unavailable"), "{fault}");
    assert_eq!((failed.reference.is_none(), failed.next_at().is_some()), (true, true));
    let accepted = fixture.gateway.accept_canary("pier", "ada").await;
    assert!(matches!(accepted, Err(GatewayError::NothingToAccept)), "{accepted:?}");
    weather(&fixture.heron, "").await;
    weather(&fixture.turnstone, "{\"weather\": \"down\"}").await;
    fixture.gateway.reset_breakers("heron", "ada").await.unwrap();
    let unheard = fixture.gateway.run_canary("pier", "ada").await.unwrap();
    assert!(unheard.trouble().unwrap().contains("it was spoken, but not heard"), "{:?}", unheard.trouble());
    assert!(unheard.reference.is_none());
}

#[tokio::test]
async fn what_could_never_run_is_refused() {
    let fixture = TestGateway::open().await;
    let put = async |canary| fixture.gateway.put_canary(canary, "ada").await.map(|_| ()).map_err(|e| e.to_string());
    assert!(put(canary("heron/nobody", "Ahoy.", None)).await.is_err_and(|error| error.contains("nobody")));
    assert!(put(canary("pier", "Ahoy.", None)).await.is_err_and(|error| error.contains("one voice")));
    assert!(put(canary("heron/pellin", "Ahoy.", Some("owl"))).await.is_err_and(|error| error.contains("owl")));
    assert!(put(canary("heron/pellin", "Ahoy.", Some("pier"))).await.is_err_and(|error| error.contains("recognition")));
    let elsewhere = Canary { app: "nowhere".into(), ..canary("heron/pellin", "Ahoy.", None) };
    assert!(put(elsewhere).await.is_err_and(|error| error.contains("nowhere")));
    assert!(fixture.gateway.canaries().await.unwrap().is_empty());
    assert!(fixture.gateway.retire_canary("pier", "ada").await.is_err());
}
