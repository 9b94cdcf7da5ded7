//! One synthesis through the stages, against the stand-ins.

use std::time::{Duration, Instant};

use crate::support::{ON_TAPE, TEXT, TestGateway, collect, delivered, leg, lines, route, say, weather, words};
use dispatcher_audio::{Codec, Format};
use dispatcher_core::{Cause, Criteria, PlanError, Wanted, Work};
use dispatcher_gateway::{GatewayError, SynthesisRequest, TextInput, Unsupported};
use dispatcher_markup::Outcome;

/// heron's price of a character, in 10⁻⁹ EUR.
const CHARACTER: i64 = 16_000;

#[tokio::test]
async fn what_is_spoken_is_charged_by_the_character_and_the_hold_released() {
    let fixture = TestGateway::open().await;
    let utterance = fixture.speak(say(TEXT, "heron/pellin")).await;
    assert_eq!((utterance.engine.as_str(), utterance.voice.as_str()), ("heron", "heron/pellin"));
    assert_eq!(utterance.model.as_deref(), Some("quick"), "the first model is the ordinary one");
    assert_eq!(utterance.estimate.nanos, 50 * CHARACTER);
    let (id, format) = (utterance.dispatch.clone(), utterance.format);
    assert_eq!(words(&collect(utterance.body).await.unwrap(), format), TEXT);
    // The body has ended, so that everything is settled already.
    let (row, attempts, ledger) = fixture.dispatch(&id).await;
    assert_eq!((row.state.name(), row.cost_nanos, row.characters), ("done", 50 * CHARACTER, 50));
    assert!(row.audio_ms > 2_000 && row.first_us.unwrap() <= row.total_us.unwrap());
    assert_eq!(attempts.len(), 1);
    let held = 50 * CHARACTER;
    assert_eq!(lines(&ledger), [("hold".into(), held), ("release".into(), -held), ("settle".into(), held)]);
    assert_eq!(ledger.iter().map(|line| line.characters).collect::<Vec<_>>(), [50, -50, 50]);
}

#[tokio::test]
async fn a_dearer_model_costs_its_factor_and_the_estimate_says_so_before() {
    let fixture = TestGateway::open().await;
    for (model, nanos) in [("quick", 800_000), ("fine", 1_360_000), ("bright", 960_000), ("directed", 1_600_000)] {
        let request = SynthesisRequest { model: Some(model.into()), ..say(TEXT, "heron/pellin") };
        let estimate = fixture.gateway.estimate_speech(&fixture.caller, &request).await.unwrap();
        assert_eq!((estimate.cost.nanos, estimate.exact), (nanos, true), "{model}");
        let before = delivered(&fixture.heron).await["calls"].clone();
        let utterance = fixture.speak(request).await;
        assert_eq!(utterance.fingerprint, estimate.fingerprint.unwrap(), "{model}: the sound is the one estimated");
        let id = utterance.dispatch.clone();
        collect(utterance.body).await.unwrap();
        assert_eq!(fixture.dispatch(&id).await.0.cost_nanos, nanos, "{model}");
        assert_eq!(delivered(&fixture.heron).await["calls"].as_u64(), before.as_u64().map(|calls| calls + 1));
    }
}

#[tokio::test]
async fn the_next_leg_answers_in_the_asked_format_and_both_attempts_are_kept() {
    let fixture = TestGateway::open().await;
    for (weather_name, cause) in [
        ("down", Cause::Unavailable),
        ("throttled", Cause::Throttled),
        ("reset", Cause::Unavailable),
        ("garbage", Cause::Broken),
        ("wrong-type", Cause::Broken),
        ("expired", Cause::Unauthorized),
    ] {
        weather(&fixture.heron, &format!(r#"{{"weather":"{weather_name}","calls":1}}"#)).await;
        // Raw samples cannot be told from noise; frames of MP3 can.
        let noise = weather_name == "garbage";
        let format = if noise { Format::new(Codec::Mp3, 24_000) } else { Format::new(Codec::Mulaw, 8_000) };
        let utterance = fixture.speak(SynthesisRequest { format, ..say(TEXT, "pier") }).await;
        assert_eq!((utterance.engine.as_str(), utterance.voice.as_str()), ("tape", "tape/reel"), "{weather_name}");
        assert_eq!(utterance.fallbacks.len(), 1);
        assert_eq!(utterance.fallbacks[0].cause, cause, "{weather_name}");
        assert!(utterance.warnings[0].starts_with("heron was skipped"), "{:?}", utterance.warnings);
        let id = utterance.dispatch.clone();
        assert_eq!(words(&collect(utterance.body).await.unwrap(), format), ON_TAPE, "{weather_name}");
        let (row, attempts, ledger) = fixture.dispatch(&id).await;
        assert_eq!((row.state.name(), row.engine.as_deref(), row.cost_nanos), ("done", Some("tape"), 0));
        let seen: Vec<_> = attempts.iter().map(|a| (a.engine.as_str(), a.state.name(), a.cause.as_deref())).collect();
        assert_eq!(seen, [("heron", "failed", Some(cause.name())), ("tape", "done", None)], "{weather_name}");
        assert!(attempts[0].offset_us <= attempts[1].offset_us);
        let held = 50 * CHARACTER;
        assert_eq!(
            lines(&ledger),
            [
                ("hold".into(), held),
                ("release".into(), -held),
                ("hold".into(), 0),
                ("release".into(), 0),
                ("settle".into(), 0)
            ],
            "{weather_name}: a failed attempt is not charged"
        );
        // Five in a row would open its breaker.
        fixture.gateway.reset_breakers("heron", "test").await.unwrap();
    }
}

#[tokio::test]
async fn a_leg_that_is_slow_past_its_deadline_gives_way() {
    let fixture = TestGateway::open().await;
    let mut slow = leg("heron", Some("pellin"));
    slow.deadline = Some(250);
    fixture.gateway.put_route(route("hasty", Work::Synthesis, vec![slow, leg("tape", None)]), "test").await.unwrap();
    weather(&fixture.heron, r#"{"weather":"becalmed"}"#).await;
    let begun = Instant::now();
    let utterance = fixture.speak(say(TEXT, "hasty")).await;
    assert!(begun.elapsed() >= Duration::from_millis(250) && begun.elapsed() < Duration::from_secs(4));
    assert_eq!(utterance.fallbacks[0].cause, Cause::TimedOut);
    assert_eq!(utterance.fallbacks[0].detail, "no audio within 250 ms");
    collect(utterance.body).await.unwrap();
}

#[tokio::test]
async fn with_no_leg_left_every_attempt_is_in_the_error_and_nothing_is_charged() {
    let fixture = TestGateway::open().await;
    let both = vec![leg("heron", Some("pellin")), leg("heron", Some("tarrick"))];
    fixture.gateway.put_route(route("herons", Work::Synthesis, both), "test").await.unwrap();
    weather(&fixture.heron, r#"{"weather":"throttled"}"#).await;
    let Err(GatewayError::AllFailed { dispatch, attempts }) =
        fixture.gateway.speak(&fixture.caller, say(TEXT, "herons")).await
    else {
        panic!("a throttled engine spoke");
    };
    // The last leg is called again: nobody else is left, and nothing was done.
    assert_eq!(attempts.iter().map(|a| a.cause).collect::<Vec<_>>(), [Cause::Throttled; 4]);
    assert_eq!(attempts[0].retry_after, Some(Duration::from_secs(1)), "the engine's own hint is kept");
    let (row, tried, ledger) = fixture.dispatch(&dispatch).await;
    assert_eq!((row.state.name(), row.cost_nanos), ("failed", 0));
    assert_eq!(row.problem.as_deref(), Some(["heron: throttled"; 4].join("; ").as_str()));
    let voices: Vec<_> = tried.iter().filter_map(|a| a.voice.as_deref()).collect();
    assert_eq!(voices, ["pellin", "tarrick", "tarrick", "tarrick"]);
    assert_eq!(ledger.iter().map(|line| line.nanos).sum::<i64>(), 0, "no hold is left behind");
}

#[tokio::test]
async fn half_an_answer_breaks_the_body_and_charges_nothing() {
    let fixture = TestGateway::open().await;
    weather(&fixture.heron, r#"{"weather":"half"}"#).await;
    for format in
        [Format::new(Codec::Pcm, 24_000), Format::new(Codec::Mp3, 24_000), Format::new(Codec::OggOpus, 48_000)]
    {
        let utterance = fixture.speak(SynthesisRequest { format, ..say(TEXT, "heron/pellin") }).await;
        let id = utterance.dispatch.clone();
        let error = collect(utterance.body).await.unwrap_err();
        assert_eq!((error.0.engine.as_str(), error.0.cause), ("heron", Cause::Broken), "{format:?}");
        let (row, attempts, ledger) = fixture.dispatch(&id).await;
        assert_eq!((row.state.name(), row.cost_nanos), ("failed", 0), "{format:?}");
        assert!(row.problem.unwrap().starts_with("failed after "));
        assert!(attempts[0].first_us.is_some(), "there was a first audio");
        assert!(ledger.iter().all(|line| line.kind.name() != "settle"), "{format:?}");
    }
}

#[tokio::test]
async fn leaving_in_the_middle_ends_the_call_and_is_charged_as_sent() {
    let fixture = TestGateway::open().await;
    weather(&fixture.heron, r#"{"weather":"drip","pause":40}"#).await;
    let mut utterance = fixture.speak(say(TEXT, "heron/pellin")).await;
    let id = utterance.dispatch.clone();
    assert!(!utterance.body.next().await.unwrap().unwrap().is_empty());
    drop(utterance);
    let (row, attempts, ledger) = fixture.settled(&id).await;
    assert_eq!((row.state.name(), attempts[0].state.name()), ("abandoned", "abandoned"));
    assert_eq!(row.cost_nanos, 50 * CHARACTER, "the engine has had the whole text");
    assert_eq!(ledger.last().unwrap().kind.name(), "settle");
    for _ in 0..200 {
        if delivered(&fixture.heron).await["left"] == 1 {
            return;
        }
        tokio::time::sleep(Duration::from_millis(10)).await;
    }
    panic!("heron still speaks to nobody");
}

#[tokio::test]
async fn leaving_before_the_first_audio_is_an_abandoned_dispatch_too() {
    let fixture = TestGateway::open().await;
    weather(&fixture.heron, r#"{"weather":"becalmed"}"#).await;
    let waiting = fixture.gateway.speak(&fixture.caller, say(TEXT, "heron/pellin"));
    assert!(tokio::time::timeout(Duration::from_millis(200), waiting).await.is_err());
    let filter = dispatcher_store::DispatchFilter { limit: 1, ..Default::default() };
    let id = fixture.store.dispatches(filter).await.unwrap()[0].id.clone();
    let (row, attempts, _) = fixture.settled(&id).await;
    assert_eq!((row.state.name(), row.first_us), ("abandoned", None));
    assert_eq!(attempts[0].cause.as_deref(), Some("abandoned"));
}

#[tokio::test]
async fn a_text_beyond_the_engines_limit_is_cut_at_its_sentences_and_charged_as_sent() {
    let fixture = TestGateway::open().await;
    let sentence = "The 06:15 to Gullsay is delayed by twenty minutes. ";
    let long = sentence.repeat(150).trim_end().to_owned();
    let estimate = fixture.gateway.estimate_speech(&fixture.caller, &say(&long, "pier")).await.unwrap();
    let utterance = fixture.speak(say(&long, "pier")).await;
    assert_eq!((utterance.engine.as_str(), utterance.fallbacks.len()), ("heron", 0));
    let id = utterance.dispatch.clone();
    let format = utterance.format;
    let audio = collect(utterance.body).await.unwrap();
    let (samples, layout) = dispatcher_audio::decode_all(&audio, format).unwrap();
    let heard = dispatcher_standins::tone::hear(&samples, layout.rate);
    let texts: Vec<&str> = heard.iter().map(|utterance| utterance.text.as_str()).collect();
    assert!(heard.iter().all(|utterance| utterance.complete));
    assert_eq!(texts.join(" "), long, "not a letter is lost or doubled");
    assert_eq!(texts[0], sentence.trim_end(), "the first call is one sentence, so that it is audible early");
    // Parts of some sentences, between which another engine could go on.
    assert!(texts.len() <= 26 && texts.iter().all(|text| text.len() <= 400 && text.ends_with("minutes.")));
    let (row, attempts, ledger) = fixture.dispatch(&id).await;
    assert_eq!((row.state.name(), attempts.len()), ("done", texts.len()));
    let characters: i64 = texts.iter().map(|text| text.len() as i64).sum();
    assert_eq!((row.cost_nanos, estimate.cost.nanos), (characters * CHARACTER, characters * CHARACTER));
    assert_eq!(
        ledger.iter().filter(|line| line.kind.name() == "settle").map(|line| line.characters).sum::<i64>(),
        characters
    );
}

#[tokio::test]
async fn markup_that_is_lost_is_reported_or_refused_as_asked() {
    let fixture = TestGateway::open().await;
    let document = "<speak version=\"1.1\" xmlns=\"http://www.w3.org/2001/10/synthesis\" xml:lang=\"en-GB\">\
                    The ramp is <emphasis>closing</emphasis>.</speak>";
    let request = |unsupported| SynthesisRequest {
        text: TextInput::Ssml(document.into()),
        unsupported,
        ..say("", "heron/pellin")
    };
    match fixture.gateway.speak(&fixture.caller, request(Unsupported::Refuse)).await.err().unwrap() {
        GatewayError::Unsupported(lost) => assert_eq!(lost[0].element(), "emphasis"),
        other => panic!("{other}"),
    }
    assert_eq!(delivered(&fixture.heron).await["calls"], 0);
    let utterance = fixture.speak(request(Unsupported::Adapt)).await;
    assert!(utterance.worst > Outcome::Emulated, "what was lost is said");
    let format = utterance.format;
    assert_eq!(words(&collect(utterance.body).await.unwrap(), format), "The ramp is closing.");
}

#[tokio::test]
async fn who_speaks_is_asked_then_the_apps_default_then_the_language() {
    let mut fixture = TestGateway::open().await;
    let nobody = SynthesisRequest { wanted: None, ..say(TEXT, "") };
    let error = fixture.gateway.speak(&fixture.caller, nobody.clone()).await.err().unwrap();
    assert!(matches!(&error, GatewayError::NothingWanted(app) if app == "quay"), "{error}");
    let spoken = SynthesisRequest { language: Some("pt-BR".into()), ..nobody.clone() };
    assert_eq!(
        fixture.gateway.estimate_speech(&fixture.caller, &spoken).await.unwrap().plan[0].voice_id().unwrap(),
        "heron/davi"
    );
    fixture.caller.app.default_voice = Some("heron/tarrick".into());
    for (request, voice) in
        [(nobody, "heron/tarrick"), (spoken, "heron/tarrick"), (say(TEXT, "heron/wade"), "heron/wade")]
    {
        let plan = fixture.gateway.estimate_speech(&fixture.caller, &request).await.unwrap().plan;
        assert_eq!(plan[0].voice_id().unwrap(), voice);
    }
}

#[tokio::test]
async fn criteria_give_one_candidate_of_each_engine_and_a_miss_names_what_is_near() {
    let fixture = TestGateway::open().await;
    let like = |languages: &str| SynthesisRequest {
        wanted: Some(Wanted::Like(Criteria { languages: Some(languages.into()), ..Criteria::default() })),
        ..say(TEXT, "")
    };
    let plan = fixture.gateway.estimate_speech(&fixture.caller, &like("pt-PT")).await.unwrap().plan;
    let voices: Vec<String> = plan.iter().filter_map(|planned| planned.voice_id()).collect();
    assert_eq!(voices, ["heron/beatriz", "tape/reel"]);
    let error = fixture.gateway.estimate_speech(&fixture.caller, &like("xx")).await.err().unwrap();
    assert!(matches!(error, GatewayError::Plan(PlanError::NoVoiceFits { .. })), "{error}");
    let error = fixture.gateway.estimate_speech(&fixture.caller, &say(TEXT, "heron/pelin")).await.err().unwrap();
    assert!(error.to_string().contains("heron/pellin"), "{error}");
}

#[tokio::test]
async fn a_voice_that_does_not_speak_the_language_is_warned_of() {
    let fixture = TestGateway::open().await;
    let request =
        SynthesisRequest { language: Some("fr-FR".into()), ..say("Le bateau est en retard.", "heron/pellin") };
    let warnings = fixture.gateway.estimate_speech(&fixture.caller, &request).await.unwrap().warnings;
    assert_eq!(warnings, ["the voice Pellin speaks en-GB, and the text is fr-FR"]);
    let same = SynthesisRequest { language: Some("en-US".into()), ..say(TEXT, "heron/pellin") };
    assert!(fixture.gateway.estimate_speech(&fixture.caller, &same).await.unwrap().warnings.is_empty());
}

#[tokio::test]
async fn equal_sound_has_an_equal_key_and_any_difference_another() {
    let fixture = TestGateway::open().await;
    let key = async |request: SynthesisRequest| {
        fixture.gateway.estimate_speech(&fixture.caller, &request).await.unwrap().fingerprint.unwrap()
    };
    let base = key(say(TEXT, "heron/pellin")).await;
    assert_eq!(base, key(say(TEXT, "heron/pellin")).await);
    assert_eq!(base, key(say(TEXT, "pier")).await, "a route that leads to the same voice makes the same sound");
    let mp3 = |bitrate| Format { bitrate, ..Format::new(Codec::Mp3, 24_000) };
    let others = [
        key(say("The 06:15 to Gullsay is on time.", "heron/pellin")).await,
        key(say(TEXT, "heron/tarrick")).await,
        key(SynthesisRequest { model: Some("fine".into()), ..say(TEXT, "heron/pellin") }).await,
        key(SynthesisRequest { format: Format::new(Codec::Pcm, 16_000), ..say(TEXT, "heron/pellin") }).await,
        key(SynthesisRequest { format: mp3(Some(48_000)), ..say(TEXT, "heron/pellin") }).await,
        key(SynthesisRequest { format: mp3(Some(64_000)), ..say(TEXT, "heron/pellin") }).await,
    ];
    for (at, other) in others.iter().enumerate() {
        assert!(*other != base && !others[..at].contains(other), "case {at}");
    }
}

#[tokio::test]
async fn a_rehearsal_has_a_tone_a_word_and_calls_nobody() {
    let mut fixture = TestGateway::open().await;
    fixture.caller.app.rehearsal = true;
    let utterance = fixture.speak(say(TEXT, "heron/pellin")).await;
    assert!(utterance.rehearsal && utterance.estimate.nanos == 0);
    let id = utterance.dispatch.clone();
    let audio = collect(utterance.body).await.unwrap();
    let loud: Vec<bool> = audio
        .chunks_exact(2 * 240)
        .map(|block| block.chunks_exact(2).any(|pair| i16::from_le_bytes([pair[0], pair[1]]).unsigned_abs() > 500))
        .collect();
    let tones = loud.windows(2).filter(|pair| !pair[0] && pair[1]).count() + usize::from(loud[0]);
    assert_eq!(tones, TEXT.split_whitespace().count(), "one tone a word");
    assert_eq!(delivered(&fixture.heron).await["calls"], 0);
    let (row, attempts, ledger) = fixture.dispatch(&id).await;
    assert_eq!((row.rehearsal, row.state.name(), attempts.len(), ledger.len()), (true, "done", 0, 0));
    let unknown = fixture.gateway.speak(&fixture.caller, say(TEXT, "heron/pelin")).await;
    assert!(unknown.is_err(), "a rehearsal checks as the real thing does");
}

#[tokio::test]
async fn a_gateway_that_finishes_waits_for_what_it_has_begun() {
    let fixture = TestGateway::open().await;
    weather(&fixture.heron, r#"{"weather":"drip","pause":10}"#).await;
    let utterance = fixture.speak(say(TEXT, "heron/pellin")).await;
    let id = utterance.dispatch.clone();
    assert!(fixture.gateway.is_busy());
    let reading = tokio::spawn(collect(utterance.body));
    fixture.gateway.finish().await;
    assert!(!fixture.gateway.is_busy());
    let audio = reading.await.unwrap().unwrap();
    assert_eq!(words(&audio, Format::new(Codec::Pcm, 24_000)), TEXT);
    let store = dispatcher_store::Store::open(&fixture.folder.path().join("records.db")).unwrap();
    assert_eq!(store.dispatch(id).await.unwrap().0.state.name(), "done");
}

#[tokio::test]
async fn routes_are_kept_in_versions_and_may_not_name_what_is_not_there() {
    let fixture = TestGateway::open().await;
    let version =
        fixture.gateway.put_route(route("pier", Work::Synthesis, vec![leg("tape", None)]), "test").await.unwrap();
    assert_eq!(version, 2);
    assert_eq!(fixture.gateway.registry().routes()["pier"].legs.len(), 1, "in force at once");
    let ghost = route("ghost", Work::Synthesis, vec![leg("herron", None)]);
    match fixture.gateway.put_route(ghost, "test").await.err().unwrap() {
        GatewayError::NoSuchEngine { wanted, nearest } => {
            assert_eq!((wanted.as_str(), nearest[0].as_str()), ("herron", "heron"))
        }
        other => panic!("{other}"),
    }
    assert!(!fixture.gateway.registry().routes().contains_key("ghost"));
}
