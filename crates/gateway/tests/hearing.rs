//! One recognition through the stages, against the stand-ins.

use std::io::Write as _;
use std::sync::Arc;
use std::time::Duration;

use crate::support::{TEXT, TestGateway, delivered, leg, lines, route, weather, words};
use bytes::Bytes;
use dispatcher_audio::{Codec, Format, encode_all};
use dispatcher_core::{Cause, HearingWish, Work};
use dispatcher_engines::AudioSource;
use dispatcher_gateway::{GatewayError, GivenAudio, HearerWish, RecognitionRequest, Unsupported};
use dispatcher_standins::tone::{Manner, speak};

/// turnstone's price of a second, in 10⁻⁹ EUR.
const SECOND: i64 = 400_000;

/// The text as audio of a format, and what its sender says it is.
fn spoken(text: &str, format: Format, told: bool) -> GivenAudio {
    let mono = speak(text, Manner { pitch: 1.0, rate: 1.5 }, format.rate);
    let samples = match format.channels {
        1 => mono,
        _ => mono.iter().flat_map(|sample| [*sample, *sample]).collect(),
    };
    let audio = encode_all(&samples, format).unwrap();
    GivenAudio { source: AudioSource::Memory(audio.into()), told: told.then_some(format) }
}

fn in_file(audio: &GivenAudio) -> GivenAudio {
    let AudioSource::Memory(bytes) = &audio.source else { panic!("it is in a file already") };
    let mut file = tempfile::NamedTempFile::new().unwrap();
    file.write_all(bytes).unwrap();
    GivenAudio { source: AudioSource::File(Arc::new(file.into_temp_path())), told: audio.told }
}

fn hearer(wanted: Option<&str>) -> HearerWish {
    HearerWish { wanted: wanted.map(str::to_owned), ..HearerWish::default() }
}

fn hear(audio: GivenAudio, wanted: &str) -> RecognitionRequest {
    RecognitionRequest {
        audio,
        hearer: HearerWish { language: Some("en-GB".into()), ..hearer(Some(wanted)) },
        languages: Vec::new(),
        channels: false,
        wish: HearingWish::default(),
        unsupported: Unsupported::Adapt,
        deadline: None,
        credential: None,
        trace: None,
    }
}

#[tokio::test]
async fn every_format_is_heard_exactly_from_memory_and_from_a_file() {
    let fixture = TestGateway::open().await;
    for (format, told) in [
        (Format::new(Codec::Wav, 24_000), false),
        (Format { channels: 2, ..Format::new(Codec::Wav, 44_100) }, false),
        (Format::new(Codec::Mp3, 24_000), false),
        (Format::new(Codec::OggOpus, 48_000), false),
        (Format::new(Codec::WebmOpus, 48_000), false),
        (Format::new(Codec::Flac, 22_050), false),
        (Format::new(Codec::WavAlaw, 8_000), false),
        (Format::new(Codec::Alaw, 8_000), true),
        (Format::new(Codec::Mulaw, 8_000), true),
        (Format::new(Codec::Pcm, 22_050), true),
        (Format::new(Codec::L16, 16_000), true),
    ] {
        let audio = spoken(TEXT, format, told);
        for audio in [in_file(&audio), audio] {
            let heard = fixture.gateway.recognise(&fixture.caller, hear(audio, "turnstone")).await;
            let heard = heard.unwrap_or_else(|error| panic!("{format:?}: {error}"));
            assert_eq!(heard.revised.transcript.text, TEXT, "{format:?}");
            assert!(
                heard.revised.transcript.words.iter().all(|word| word.end.unwrap() <= heard.length + 0.1),
                "{format:?}"
            );
        }
    }
}

/// A WAV of one channel at 16 kHz, whose samples are stored as the caller says.
fn stored(samples: &[f32], tag: u16, bits: u16, write: impl Fn(f32) -> Vec<u8>) -> Vec<u8> {
    let data: Vec<u8> = samples.iter().flat_map(|sample| write(*sample)).collect();
    let width = u32::from(bits / 8);
    let mut wav = Vec::from(*b"RIFF");
    wav.extend(((36 + data.len()) as u32).to_le_bytes());
    wav.extend(*b"WAVEfmt \x10\0\0\0");
    wav.extend([tag.to_le_bytes(), 1u16.to_le_bytes()].concat());
    wav.extend([16_000u32.to_le_bytes(), (16_000 * width).to_le_bytes()].concat());
    wav.extend([(width as u16).to_le_bytes(), bits.to_le_bytes()].concat());
    wav.extend(*b"data");
    wav.extend((data.len() as u32).to_le_bytes());
    wav.extend(data);
    wav
}

#[tokio::test]
async fn samples_of_other_depths_reach_a_recogniser_as_it_takes_them() {
    // A recogniser that keeps a copy of what it was given.
    let folder = tempfile::tempdir().unwrap();
    let copy = folder.path().join("given.wav");
    let sheet = format!(
        "sheet = 1\nname = \"copier\"\nsite = \"local\"\ndriver = \"process\"\n[process]\nprogram = \"cp\"\n\
         [recognition]\narguments = [\"{{{{ file }}}}\", \"{}\"]\ninput = \"file\"\n[recognition.formats]\n\
         wav = {{ type = \"audio/wav\", sample_rates = [16000] }}\n[recognition.lines]\n",
        copy.display()
    );
    let fixture =
        TestGateway::open_with(|registry, _| registry.add(crate::support::load(&sheet, "copier.toml", None))).await;
    let samples = speak(TEXT, Manner { pitch: 1.0, rate: 1.5 }, 16_000);
    let whole = |sample: f32, scale: f64| (f64::from(sample) * scale) as i32;
    let stereo = Format { channels: 2, ..Format::new(Codec::Wav, 16_000) };
    for (name, wav) in [
        ("8 bits", stored(&samples, 1, 8, |s| vec![(whole(s, 127.0) + 128) as u8])),
        ("16 bits", stored(&samples, 1, 16, |s| (whole(s, 32_767.0) as i16).to_le_bytes().to_vec())),
        ("24 bits", stored(&samples, 1, 24, |s| whole(s, 8_388_607.0).to_le_bytes()[..3].to_vec())),
        ("32 bits", stored(&samples, 1, 32, |s| whole(s, 2_147_483_000.0).to_le_bytes().to_vec())),
        ("floating point", stored(&samples, 3, 32, |s| s.to_le_bytes().to_vec())),
        ("floating point of 64 bits", stored(&samples, 3, 64, |s| f64::from(s).to_le_bytes().to_vec())),
        ("µ-law", encode_all(&samples, Format::new(Codec::WavMulaw, 16_000)).unwrap()),
        ("two channels", encode_all(&samples.iter().flat_map(|s| [*s, *s]).collect::<Vec<_>>(), stereo).unwrap()),
    ] {
        let audio = GivenAudio { source: AudioSource::Memory(wav.into()), told: None };
        fixture
            .gateway
            .recognise(&fixture.caller, hear(audio, "copier"))
            .await
            .unwrap_or_else(|e| panic!("{name}: {e}"));
        let given = std::fs::read(&copy).unwrap();
        assert_eq!(given[20..24], [1, 0, 1, 0], "{name}: PCM of one channel");
        assert_eq!(given[34..36], [16, 0], "{name}: of 16 bits");
        assert_eq!(words(&given, Format::new(Codec::Wav, 16_000)), TEXT, "{name}");
    }
}

#[tokio::test]
async fn what_the_audio_is_counts_before_what_it_is_said_to_be() {
    let fixture = TestGateway::open().await;
    let audio = spoken(TEXT, Format::new(Codec::Flac, 24_000), false);
    let lying = GivenAudio { told: Some(Format::new(Codec::Mp3, 24_000)), ..audio };
    let heard = fixture.gateway.recognise(&fixture.caller, hear(lying, "turnstone")).await.unwrap();
    assert_eq!(heard.revised.transcript.text, TEXT);
    assert_eq!(heard.warnings, ["the audio was declared as MP3, but is FLAC"]);
}

#[tokio::test]
async fn audio_is_charged_by_the_started_second_as_estimated() {
    let fixture = TestGateway::open().await;
    let audio = spoken(TEXT, Format::new(Codec::Wav, 24_000), false);
    let estimate = fixture.gateway.estimate_hearing(&fixture.caller, &audio, &hearer(Some("turnstone"))).await.unwrap();
    assert_eq!(delivered(&fixture.turnstone).await["calls"], 0, "an estimate sends nothing");
    let heard = fixture.gateway.recognise(&fixture.caller, hear(audio, "turnstone")).await.unwrap();
    let cost = heard.length.ceil() as i64 * SECOND;
    assert!(heard.length > 2.0 && estimate.exact);
    assert_eq!((heard.cost.nanos, estimate.cost.nanos, estimate.length), (cost, cost, Some(heard.length)));
    let (row, _, ledger) = fixture.dispatch(&heard.dispatch).await;
    assert_eq!((row.work.name(), row.state.name(), row.cost_nanos), ("recognition", "done", cost));
    assert_eq!(row.audio_ms, (heard.length * 1_000.0).ceil() as i64, "milliseconds that have begun");
    assert_eq!(lines(&ledger), [("hold".into(), cost), ("release".into(), -cost), ("settle".into(), cost)]);
}

#[tokio::test]
async fn the_next_leg_hears_where_the_first_fails() {
    let fixture = TestGateway::open().await;
    for (weather_name, cause) in [
        ("down", Cause::Unavailable),
        ("throttled", Cause::Throttled),
        ("reset", Cause::Unavailable),
        ("garbage", Cause::Broken),
    ] {
        weather(&fixture.turnstone, &format!(r#"{{"weather":"{weather_name}","calls":1}}"#)).await;
        let audio = spoken(TEXT, Format::new(Codec::Mp3, 24_000), false);
        let heard = fixture.gateway.recognise(&fixture.caller, hear(audio, "ear")).await.unwrap();
        assert_eq!(
            (heard.engine.as_str(), heard.revised.transcript.text.as_str()),
            ("scribe", "the ramp is closing"),
            "{weather_name}"
        );
        assert!(heard.warnings[0].starts_with("turnstone was skipped"), "{:?}", heard.warnings);
        let (row, attempts, _) = fixture.dispatch(&heard.dispatch).await;
        let seen: Vec<_> = attempts.iter().map(|a| (a.engine.as_str(), a.cause.as_deref())).collect();
        assert_eq!(seen, [("turnstone", Some(cause.name())), ("scribe", None)], "{weather_name}");
        assert_eq!(row.cost_nanos, 0);
    }
}

#[tokio::test]
async fn a_recogniser_slow_past_its_deadline_gives_way() {
    let fixture = TestGateway::open().await;
    let mut slow = leg("turnstone", None);
    slow.deadline = Some(300);
    fixture
        .gateway
        .put_route(route("hasty", Work::Recognition, vec![slow, leg("scribe", None)]), "test")
        .await
        .unwrap();
    weather(&fixture.turnstone, r#"{"weather":"becalmed"}"#).await;
    let audio = spoken(TEXT, Format::new(Codec::Wav, 16_000), false);
    let heard =
        tokio::time::timeout(Duration::from_secs(5), fixture.gateway.recognise(&fixture.caller, hear(audio, "hasty")));
    let heard = heard.await.expect("the deadline holds").unwrap();
    let (_, attempts, _) = fixture.dispatch(&heard.dispatch).await;
    assert_eq!(attempts[0].cause.as_deref(), Some("timed-out"));
}

#[tokio::test]
async fn what_is_too_long_for_one_goes_to_another_and_for_all_is_refused() {
    let fixture = TestGateway::open().await;
    let silence = encode_all(&vec![0.0; 8_000 * 61], Format::new(Codec::Wav, 8_000)).unwrap();
    let long = GivenAudio { source: AudioSource::Memory(silence.into()), told: None };
    match fixture.gateway.recognise(&fixture.caller, hear(long.clone(), "scribe")).await.unwrap_err() {
        GatewayError::TooLong { engine, given, limit, .. } => {
            assert_eq!((engine.as_str(), given, limit), ("scribe", 61, 60))
        }
        other => panic!("{other}"),
    }
    let plan = fixture.gateway.estimate_hearing(&fixture.caller, &long, &hearer(Some("ear"))).await.unwrap().plan;
    assert_eq!(plan.len(), 1, "the leg that cannot take it is left out");
    assert_eq!(plan[0].engine_name(), "turnstone");
}

#[tokio::test]
async fn what_is_no_audio_is_refused_before_anything_is_recorded() {
    let fixture = TestGateway::open().await;
    let odd: [(&[u8], Option<Format>); 4] = [
        (b"", None),
        (b"<html><p>Not a sound.</p></html>", None),
        (b"RIFF\x24\0\0\0WAVEfmt ", None),
        (b"plain words", Some(Format::new(Codec::Mp3, 24_000))),
    ];
    for (bytes, told) in odd {
        let audio = GivenAudio { source: AudioSource::Memory(Bytes::copy_from_slice(bytes)), told };
        for audio in [in_file(&audio), audio] {
            let error = fixture.gateway.recognise(&fixture.caller, hear(audio, "ear")).await.unwrap_err();
            assert!(matches!(error, GatewayError::NotAudio(_)), "{bytes:?}: {error}");
        }
    }
    assert_eq!(fixture.count().await, 0);
}

#[tokio::test]
async fn who_hears_is_asked_then_the_apps_default_then_whoever_can() {
    let mut fixture = TestGateway::open().await;
    let audio = spoken(TEXT, Format::new(Codec::Wav, 16_000), false);
    let first = fixture.gateway.estimate_hearing(&fixture.caller, &audio, &hearer(None)).await.unwrap();
    assert_eq!(first.plan[0].engine_name(), "scribe", "the first recogniser by name");
    fixture.caller.app.default_recognition = Some("ear".into());
    let default = fixture.gateway.estimate_hearing(&fixture.caller, &audio, &hearer(None)).await.unwrap();
    assert_eq!(default.plan.iter().map(|p| p.engine_name()).collect::<Vec<_>>(), ["turnstone", "scribe"]);
    let missing = fixture.gateway.estimate_hearing(&fixture.caller, &audio, &hearer(Some("turnstome"))).await;
    assert!(missing.err().unwrap().to_string().contains("turnstone"));
    let other_work = fixture.gateway.estimate_hearing(&fixture.caller, &audio, &hearer(Some("pier"))).await;
    assert!(other_work.err().unwrap().to_string().contains("pier"));
}

#[tokio::test]
async fn a_rehearsal_hears_nothing_and_charges_nothing() {
    let mut fixture = TestGateway::open().await;
    fixture.caller.app.rehearsal = true;
    let audio = spoken(TEXT, Format::new(Codec::Wav, 16_000), false);
    let heard = fixture.gateway.recognise(&fixture.caller, hear(audio, "turnstone")).await.unwrap();
    assert!(heard.rehearsal && heard.cost.nanos == 0);
    assert_eq!(heard.revised.transcript.text, "this is a rehearsal");
    assert!((heard.revised.transcript.words.last().unwrap().end.unwrap() - heard.length).abs() < 1e-9);
    assert_eq!(delivered(&fixture.turnstone).await["calls"], 0);
}
