//! Live recognition: what is said while it is said, whatever becomes of engines.

use bytes::Bytes;
use dispatcher_audio::{Codec, Format, encode_all};
use dispatcher_core::{HearingWish, Transcript, Work};
use dispatcher_gateway::{GatewayError, HearerWish, LiveEvent, LiveRequest, LiveSession};
use dispatcher_standins::{StandIn, start_whimbrel, tone};

use crate::support::*;

const WHIMBREL: &str = include_str!("../../../demo/sheets/whimbrel.toml");
const RATE: u32 = 16_000;
const SAID: [&str; 4] = [
    "The ramp is closing now.",
    "Stand clear of the doors.",
    "Lifejackets are under the seats.",
    "Have a calm crossing.",
];

async fn with_whimbrel() -> (TestGateway, StandIn) {
    let whimbrel = start_whimbrel(0, TOKEN).await.unwrap();
    let engine = load(WHIMBREL, "whimbrel.toml", Some(&whimbrel.url()));
    (TestGateway::open_with(|registry, _| registry.add(engine)).await, whimbrel)
}

fn request(wanted: &str) -> LiveRequest {
    let hearer = HearerWish { wanted: Some(wanted.into()), language: Some("en-GB".into()), ..HearerWish::default() };
    let told = Some(Format::new(Codec::Pcm, RATE));
    LiveRequest { hearer, told, wish: HearingWish::default(), credential: None, trace: None }
}

/// Sentences with a pause before each, and the seconds at which each begins.
fn spoken(sentences: &[&str], pause: f64) -> (Vec<f32>, Vec<f64>) {
    let (mut samples, mut starts) = (Vec::new(), Vec::new());
    for sentence in sentences {
        samples.extend(std::iter::repeat_n(0.0, (pause * f64::from(RATE)) as usize));
        starts.push(samples.len() as f64 / f64::from(RATE));
        samples.extend(tone::speak(sentence, tone::Manner { pitch: 1.0, rate: 1.5 }, RATE));
    }
    samples.extend(std::iter::repeat_n(0.0, (pause * f64::from(RATE)) as usize));
    (samples, starts)
}

fn pcm(samples: &[f32]) -> Vec<u8> {
    encode_all(samples, Format::new(Codec::Pcm, RATE)).unwrap()
}

/// What came of a session: each event, and the last one.
struct Told {
    events: Vec<LiveEvent>,
    end: Result<(String, f64), GatewayError>,
}

impl Told {
    fn settled(&self) -> Vec<&Transcript> {
        self.events
            .iter()
            .filter_map(|event| match event {
                LiveEvent::Result { settled: true, transcript, .. } => Some(transcript),
                _ => None,
            })
            .collect()
    }
}

/// Sends audio in pieces, and takes all that is told.
async fn listen(session: LiveSession, audio: &[u8], piece: usize) -> Told {
    let LiveSession { audio: input, mut events, .. } = session;
    let pieces: Vec<Bytes> = audio.chunks(piece).map(Bytes::copy_from_slice).collect();
    let send = tokio::spawn(async move {
        for piece in pieces {
            if input.send(piece).await.is_err() {
                return;
            }
        }
    });
    let mut told = Told { events: Vec::new(), end: Err(GatewayError::Abandoned) };
    while let Some(event) = events.recv().await {
        match event {
            Ok(LiveEvent::Ended { text, length, .. }) => told.end = Ok((text, length)),
            Ok(event) => told.events.push(event),
            Err(error) => told.end = Err(error),
        }
    }
    send.await.unwrap();
    told
}

#[tokio::test]
async fn words_are_told_while_they_are_said_and_settled_once_with_their_times() {
    let (fixture, _whimbrel) = with_whimbrel().await;
    let (samples, starts) = spoken(&SAID, 1.3);
    let session = fixture.gateway.listen(&fixture.caller, request("whimbrel")).await.unwrap();
    let id = session.dispatch.clone();
    let told = listen(session, &pcm(&samples), 3_200).await;
    let (text, length) = told.end.as_ref().unwrap();
    assert_eq!(*text, SAID.join(" "));
    assert!((length - samples.len() as f64 / f64::from(RATE)).abs() < 0.01);
    let settled = told.settled();
    assert_eq!(settled.iter().map(|it| it.text.as_str()).collect::<Vec<_>>(), SAID);
    for (transcript, start) in settled.iter().zip(starts) {
        let own = transcript.words[0].start.unwrap();
        // Tone speech begins with a mark of a fifth of a second.
        assert!((0.15..0.25).contains(&(own - start)), "'{}' at {own}, said at {start}", transcript.text);
    }
    // Whimbrel's guesses have their words in another order, and are told before.
    for segment in 1..=4 {
        let of = |settled: bool| {
            told.events.iter().position(
                |event| matches!(event, LiveEvent::Result { segment: own, settled: is, .. } if (*own, *is) == (segment, settled)),
            )
        };
        assert!(of(false).unwrap() < of(true).unwrap(), "segment {segment}");
    }
    let speech = told.events.iter().filter(|event| matches!(event, LiveEvent::Speech { .. })).count();
    assert_eq!(speech, 4);
    let (row, attempts, ledger) = fixture.dispatch(&id).await;
    assert_eq!((row.state.name(), row.work, attempts.len()), ("done", Work::Recognition, 4));
    let charged: i64 = ledger.iter().filter(|line| line.kind.name() == "settle").map(|line| line.audio_ms).sum();
    let said = 1_000.0 * (samples.len() as f64 / f64::from(RATE)) - 5.0 * 1_300.0;
    assert!((charged as f64) < said + 4.0 * 1_500.0, "silence is not heard for long: {charged} ms of {said} ms");
    let held: i64 = ledger.iter().filter(|line| line.kind.name() != "settle").map(|line| line.nanos).sum();
    assert_eq!(held, 0);
}

#[tokio::test]
async fn what_an_engine_has_not_settled_is_heard_by_the_next_one() {
    let (fixture, whimbrel) = with_whimbrel().await;
    let legs = vec![leg("whimbrel", None), leg("turnstone", None)];
    fixture.gateway.put_route(route("desk", Work::Recognition, legs), "test").await.unwrap();
    for forecast in ["half", "reset", "down", "garbage", "expired"] {
        weather(&whimbrel, &format!(r#"{{"weather":"{forecast}","skip":1,"calls":2}}"#)).await;
        let (samples, _) = spoken(&SAID, 1.2);
        let session = fixture.gateway.listen(&fixture.caller, request("desk")).await.unwrap();
        let id = session.dispatch.clone();
        let told = listen(session, &pcm(&samples), 3_200).await;
        assert_eq!(told.end.as_ref().map(|(text, _)| text.as_str()).unwrap(), SAID.join(" "), "{forecast}");
        let renewed = told.events.iter().filter(|event| matches!(event, LiveEvent::Renewed { .. })).count();
        assert_eq!(renewed, 2, "{forecast}");
        let (row, attempts, _) = fixture.dispatch(&id).await;
        let failed = attempts.iter().filter(|attempt| attempt.state.name() == "failed").count();
        assert_eq!((row.state.name(), failed, attempts.len()), ("done", 2, 6), "{forecast}");
        weather(&whimbrel, "").await;
        fixture.gateway.reset_breakers("whimbrel", "test").await.unwrap();
    }
}

#[tokio::test]
async fn an_engine_that_hears_whole_recordings_is_made_live_by_pauses() {
    let (fixture, _whimbrel) = with_whimbrel().await;
    let (samples, starts) = spoken(&SAID, 0.9);
    let session = fixture.gateway.listen(&fixture.caller, request("turnstone")).await.unwrap();
    // Pieces end in the middle of samples.
    let told = listen(session, &pcm(&samples), 7_777).await;
    assert_eq!(told.end.as_ref().unwrap().0, SAID.join(" "));
    let settled = told.settled();
    assert_eq!(settled.len(), 4);
    let lead = settled[3].words[0].start.unwrap() - starts[3];
    assert!((0.15..0.25).contains(&lead), "{lead}");
}

#[tokio::test]
async fn speech_without_a_pause_is_parted_and_no_word_is_lost_or_doubled() {
    let (fixture, _whimbrel) = with_whimbrel().await;
    // A minute of sentences with a tenth of a second between them.
    let sentences: Vec<&str> = SAID.iter().copied().cycle().take(40).collect();
    let (samples, _) = spoken(&sentences, 0.1);
    assert!(samples.len() > 55 * RATE as usize, "{}", samples.len() / RATE as usize);
    let session = fixture.gateway.listen(&fixture.caller, request("turnstone")).await.unwrap();
    let told = listen(session, &pcm(&samples), 32_000).await;
    let plain = |text: &str| text.replace(['.', ','], "").to_lowercase();
    assert_eq!(plain(&told.end.as_ref().unwrap().0), plain(&sentences.join(" ")));
    assert!(told.settled().len() >= 3, "a call lasts 20 s at the most");
}

#[tokio::test]
async fn audio_tells_itself_what_it_is_and_what_is_none_is_refused() {
    let (fixture, _whimbrel) = with_whimbrel().await;
    let (samples, _) = spoken(&SAID[..2], 1.2);
    for format in [Format::new(Codec::Wav, RATE), Format::new(Codec::Flac, RATE), Format::new(Codec::WebmOpus, 48_000)]
    {
        let audio = match format.rate {
            RATE => encode_all(&samples, format).unwrap(),
            rate => {
                let tripled: Vec<f32> = samples.iter().flat_map(|sample| [*sample; 3]).collect();
                assert_eq!(rate, 3 * RATE);
                encode_all(&tripled, format).unwrap()
            }
        };
        let session =
            fixture.gateway.listen(&fixture.caller, LiveRequest { told: None, ..request("whimbrel") }).await.unwrap();
        let told = listen(session, &audio, 4_000).await;
        assert_eq!(told.end.as_ref().unwrap().0, SAID[..2].join(" "), "{format:?}");
    }
    let session =
        fixture.gateway.listen(&fixture.caller, LiveRequest { told: None, ..request("whimbrel") }).await.unwrap();
    let told = listen(session, &[b'?'; 40_000], 4_000).await;
    assert!(matches!(told.end, Err(GatewayError::NotAudio(_))), "{:?}", told.end.err());
    // Silence is heard by nobody, and costs nothing.
    let session = fixture.gateway.listen(&fixture.caller, request("whimbrel")).await.unwrap();
    let id = session.dispatch.clone();
    let told = listen(session, &vec![0; 160_000], 4_000).await;
    assert_eq!((told.end.unwrap().0.as_str(), told.events.len()), ("", 0));
    assert_eq!(fixture.dispatch(&id).await.1.len(), 0);
}

#[tokio::test]
async fn a_session_whose_engines_all_fail_says_so_and_one_that_is_left_ends() {
    let (fixture, whimbrel) = with_whimbrel().await;
    weather(&whimbrel, r#"{"weather":"unpaid"}"#).await;
    let (samples, _) = spoken(&SAID[..1], 1.2);
    let session = fixture.gateway.listen(&fixture.caller, request("whimbrel")).await.unwrap();
    let id = session.dispatch.clone();
    let told = listen(session, &pcm(&samples), 4_000).await;
    assert!(matches!(told.end, Err(GatewayError::AllFailed { .. })));
    let (row, ..) = fixture.dispatch(&id).await;
    assert_eq!((row.state.name(), row.problem.is_some()), ("failed", true));
    weather(&whimbrel, "").await;
    fixture.gateway.reset_breakers("whimbrel", "test").await.unwrap();

    let session = fixture.gateway.listen(&fixture.caller, request("whimbrel")).await.unwrap();
    let id = session.dispatch.clone();
    session.audio.send(Bytes::from(pcm(&samples))).await.unwrap();
    tokio::time::sleep(std::time::Duration::from_millis(200)).await;
    drop(session);
    let (row, attempts, ledger) = fixture.settled(&id).await;
    assert_eq!(row.state.name(), "abandoned");
    let ends: Vec<_> = attempts.iter().map(|one| one.state.name()).collect();
    assert_eq!(ends, ["done"]);
    let held: i64 = ledger.iter().filter(|line| line.kind.name() != "settle").map(|line| line.nanos).sum();
    assert_eq!(held, 0);
}
