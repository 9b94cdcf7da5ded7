//! What scripts name beside their text: sounds that are put in, words of
//! lexicons, lines that overlap, speakers of different loudness.

use crate::support::{ON_TAPE, TestGateway, listen, load, say, script, tape, texts};
use base64::Engine as _;
use base64::engine::general_purpose::STANDARD;
use dispatcher_audio::{Codec, Format, encode_all};
use dispatcher_gateway::{NewLexicon, SynthesisRequest, TextInput, Utterance};
use dispatcher_markup::{DialogueLine, Outcome, dialogue};
use dispatcher_standins::tone::{self, Heard};

const RATE: f64 = 24_000.0;

/// Half a second of a tone that no speech has, rising in its middle.
fn gong() -> Vec<u8> {
    let samples: Vec<f32> = (0..8_000)
        .map(|n| if n < 4_000 { 0.2 } else { 0.4 } * (std::f32::consts::TAU * 4_000.0 * n as f32 / 16_000.0).sin())
        .collect();
    encode_all(&samples, Format::new(Codec::Wav, 16_000)).unwrap()
}

fn data() -> String {
    format!("data:audio/wav;base64,{}", STANDARD.encode(gong()))
}

/// Seconds at which its first word begins and its last one ends.
fn span(heard: &Heard) -> (f64, f64) {
    (heard.words.first().unwrap().start, heard.words.last().unwrap().end)
}

/// Stretches with the gong's tone, in seconds, with their amplitude.
fn gongs(samples: &[f32]) -> Vec<(f64, f64, f64)> {
    let block = 240;
    let tone = |samples: &[f32]| {
        let (mut re, mut im) = (0.0f64, 0.0f64);
        for (n, sample) in samples.iter().enumerate() {
            let turn = std::f64::consts::TAU * 4_000.0 * n as f64 / RATE;
            re += f64::from(*sample) * turn.cos();
            im += f64::from(*sample) * turn.sin();
        }
        2.0 * re.hypot(im) / samples.len() as f64
    };
    let mut found: Vec<(f64, f64, Vec<f64>)> = Vec::new();
    for (at, block) in samples.chunks_exact(block).enumerate() {
        let (level, from) = (tone(block), at as f64 * 0.01);
        match found.last_mut() {
            _ if level < 0.02 => {}
            Some((_, to, levels)) if (from - *to).abs() < 0.015 => {
                *to = from + 0.01;
                levels.push(level);
            }
            _ => found.push((from, from + 0.01, vec![level])),
        }
    }
    let middle = |mut levels: Vec<f64>| {
        levels.sort_by(f64::total_cmp);
        levels[levels.len() / 2]
    };
    found.into_iter().map(|(from, to, levels)| (from, to, middle(levels))).collect()
}

/// A server on loopback that answers each path from a list.
async fn server(files: Vec<(&'static str, Vec<u8>)>) -> String {
    use tokio::io::{AsyncReadExt as _, AsyncWriteExt as _};
    let listener = tokio::net::TcpListener::bind("127.0.0.1:0").await.unwrap();
    let host = listener.local_addr().unwrap().to_string();
    tokio::spawn(async move {
        while let Ok((mut socket, _)) = listener.accept().await {
            let mut head = vec![0; 4_096];
            let read = socket.read(&mut head).await.unwrap_or(0);
            let head = String::from_utf8_lossy(&head[..read]).into_owned();
            let path = head.split(' ').nth(1).unwrap_or_default();
            let found = files.iter().find(|(name, _)| path.split('?').next() == Some(*name));
            let (status, body) = found.map_or(("404 Not Found", &[][..]), |(_, body)| ("200 OK", body.as_slice()));
            let start = format!("HTTP/1.1 {status}\r\nContent-Length: {}\r\nConnection: close\r\n\r\n", body.len());
            let _ = socket.write_all(start.as_bytes()).await;
            let _ = socket.write_all(body).await;
        }
    });
    host
}

fn element<'u>(utterance: &'u Utterance, name: &str) -> (Outcome, &'u str) {
    let found = utterance.fidelity.iter().find(|it| it.element() == name).unwrap_or_else(|| panic!("no {name}"));
    (found.outcome, found.note().unwrap_or_default())
}

#[tokio::test]
async fn a_sound_is_put_in_where_it_stands() {
    let fixture = TestGateway::open().await;
    let body = format!("One.<audio src=\"{}\">a gong</audio> Two.", data());
    let utterance = fixture.speak(script(&body, "heron/pellin")).await;
    assert_eq!(element(&utterance, "audio"), (Outcome::Emulated, ""));
    let (samples, heard) = listen(utterance).await;
    assert_eq!(texts(&heard), ["One.", "Two."]);
    let gongs = gongs(&samples);
    assert_eq!(gongs.len(), 1, "{gongs:?}");
    let (from, to, _) = gongs[0];
    assert!((to - from - 0.5).abs() < 0.02, "{gongs:?}");
    assert!(span(&heard[0]).1 <= from && to <= span(&heard[1]).0, "{gongs:?} between {heard:?}");
}

#[tokio::test]
async fn a_sound_is_cut_repeated_and_changed_as_the_element_says() {
    let fixture = TestGateway::open().await;
    for (attributes, seconds, level) in [
        ("clipBegin=\"250ms\"", 0.25, 0.4),
        ("clipEnd=\"200ms\" soundLevel=\"+6dB\"", 0.2, 0.4),
        ("repeatCount=\"2.5\" soundLevel=\"-6.02dB\"", 1.25, 0.15),
        ("repeatDur=\"1.2s\"", 1.2, 0.3),
        ("speed=\"200%\"", 0.25, 0.3),
        ("clipBegin=\"0.3s\" clipEnd=\"0.4s\" repeatCount=\"4\"", 0.4, 0.4),
    ] {
        let body = format!("One <audio src=\"{}\" {attributes}/>", data());
        let (samples, heard) = listen(fixture.speak(script(&body, "heron/pellin")).await).await;
        assert_eq!(texts(&heard), ["One"], "{attributes}");
        let gongs = gongs(&samples);
        let (first, last) = (gongs.first().unwrap(), gongs.last().unwrap());
        assert!((last.1 - first.0 - seconds).abs() < 0.025, "{attributes}: {gongs:?}");
        assert!((first.2 - level).abs() < 0.11, "{attributes}: {gongs:?}");
    }
}

#[tokio::test]
async fn a_sound_that_cannot_be_had_gives_way_to_its_text() {
    let host = server(vec![("/gong.wav", gong()), ("/note.txt", b"no sound".to_vec())]).await;
    let fixture = TestGateway::open_near(vec![host.clone()], |_, _| {}).await;
    let one = |src: &str| script(&format!("One <audio src=\"{src}\">two</audio> three."), "heron/pellin");
    let fetched = fixture.speak(one(&format!("http://{host}/gong.wav"))).await;
    assert_eq!(element(&fetched, "audio").0, Outcome::Emulated);
    let (samples, heard) = listen(fetched).await;
    assert_eq!((texts(&heard), gongs(&samples).len()), (vec!["One", "three."], 1));
    for (src, why) in [
        (format!("http://{host}/none.wav"), "it answered 404"),
        (format!("http://{host}/note.txt"), "cannot be used"),
        ("http://127.0.0.1:9/gong.wav".into(), "'127.0.0.1:9' is not allowed here; add it to fetch_hosts"),
        ("http://sounds.example/gong.wav".into(), "'sounds.example' is not allowed here"),
        ("file:///etc/passwd".into(), "is no address of http or https"),
        ("clip:c0ffee".into(), "there is no clip 'c0ffee'"),
        ("data:audio/wav;base64,!!".into(), "base64"),
        ("gong.wav".into(), "there is no clip 'gong.wav'"),
    ] {
        let utterance = fixture.speak(one(&src)).await;
        assert_eq!(element(&utterance, "audio"), (Outcome::Plain, "the text in its place is spoken"), "{src}");
        assert!(utterance.warnings.iter().any(|it| it.contains(why)), "{src}: {:?}", utterance.warnings);
        let (_, heard) = listen(utterance).await;
        assert_eq!(texts(&heard), ["One two three."], "{src}");
    }
}

#[tokio::test]
async fn what_a_script_names_is_bounded() {
    // Seven megabytes each: five are more than a script may hold.
    let long: Vec<f32> = vec![0.1; 3_500_000];
    let large = encode_all(&long, Format::new(Codec::Wav, 48_000)).unwrap();
    let huge = vec![0; 9 << 20];
    let host = server(vec![("/large.wav", large), ("/huge.wav", huge)]).await;
    let fixture = TestGateway::open_near(vec![host.clone()], |_, _| {}).await;
    let named = |path: &str, count: usize| -> String {
        (0..count).map(|n| format!("<audio src=\"http://{host}{path}?{n}\" clipEnd=\"10ms\">{n} </audio>")).collect()
    };
    let made = |estimate: &dispatcher_gateway::Estimate| {
        let audio = estimate.fidelity.iter().filter(|it| it.element() == "audio");
        audio.filter(|it| it.outcome == Outcome::Emulated).count()
    };
    let estimate = async |body: &str| {
        fixture.gateway.estimate_speech(&fixture.caller, &script(body, "heron/pellin")).await.unwrap()
    };
    let ten = estimate(&named("/large.wav", 10)).await;
    assert_eq!(made(&ten), 4, "{:?}", ten.warnings);
    assert!(ten.warnings.iter().any(|it| it.contains("bytes together")), "{:?}", ten.warnings);
    let many = estimate(&named("/none.wav", 70)).await;
    assert_eq!(many.warnings.iter().filter(|it| it.contains("at most 64 clips and lexicons")).count(), 6);
    let one = estimate(&format!("One. {}", named("/huge.wav", 1))).await;
    assert!(one.warnings[0].contains("larger than 8388608 bytes"), "{:?}", one.warnings);
    // No number that a script writes ends its task.
    let patient =
        format!("One. <audio src=\"http://{host}/none.wav\" fetchtimeout=\"{}s\">Two.</audio>", "9".repeat(40));
    let utterance = fixture.speak(script(&patient, "heron/pellin")).await;
    assert_eq!(texts(&listen(utterance).await.1), ["One. Two."]);
}

#[tokio::test]
async fn a_kept_clip_is_put_in_by_its_id_and_by_its_title() {
    let fixture = TestGateway::open().await;
    let (kept, _) = fixture.gateway.keep_clip(&fixture.caller, "gong.wav", gong().into()).await.unwrap();
    assert_eq!((kept.audio_ms, kept.bytes), (500, gong().len() as i64));
    let mut sounds = Vec::new();
    for src in [format!("clip:{}", kept.id), format!("/api/v1/clips/{}", kept.id), "gong.wav".into()] {
        let utterance = fixture.speak(script(&format!("One <audio src=\"{src}\"/>"), "heron/pellin")).await;
        sounds.push(utterance.fingerprint.clone());
        let (samples, _) = listen(utterance).await;
        assert_eq!(gongs(&samples).len(), 1, "{src}");
    }
    let without = fixture.speak(script("One <audio src=\"gong.wav\"/>", "heron/isolde")).await;
    assert_ne!(without.fingerprint, sounds[2]);
    // Another app has its own.
    let other = dispatcher_gateway::Caller::of_app(crate::support::app("barge"), "other");
    let utterance =
        fixture.gateway.speak(&other, script("One <audio src=\"gong.wav\">two</audio>", "heron/pellin")).await;
    assert_eq!(texts(&listen(utterance.unwrap()).await.1), ["One two"]);
    fixture.gateway.remove_clip(&other, &kept.id).await.unwrap_err();
    fixture.gateway.remove_clip(&fixture.caller, &kept.id).await.unwrap();
    let gone = fixture.speak(script("One <audio src=\"gong.wav\">two</audio>", "heron/pellin")).await;
    assert_ne!(gone.fingerprint, sounds[2], "whoever keeps the audio sees that it is stale");
    assert_eq!(texts(&listen(gone).await.1), ["One two"]);
}

#[tokio::test]
async fn words_of_lexicons_are_heard_as_they_are_pronounced() {
    let fixture = TestGateway::open().await;
    let document = |alias: &str| {
        format!(
            "<lexicon version=\"1.0\" xmlns=\"http://www.w3.org/2005/01/pronunciation-lexicon\" alphabet=\"ipa\" \
             xml:lang=\"en-GB\"><lexeme><grapheme>Gullsay</grapheme><alias>{alias}</alias></lexeme></lexicon>"
        )
    };
    let new = |name: &str, app: Option<&str>, always, alias: &str| NewLexicon {
        name: name.into(),
        app: app.map(str::to_owned),
        always,
        document: document(alias),
    };
    let plain = fixture.speak(say("To Gullsay.", "heron/pellin")).await;
    let before = plain.fingerprint.clone();
    assert_eq!(texts(&listen(plain).await.1), ["To Gullsay."]);
    fixture.gateway.put_lexicon(new("harbour", None, false, "Gull see"), "test").await.unwrap();
    let asked = "<lexicon uri=\"harbour.pls\" xml:id=\"h\"/>To <lookup ref=\"h\">Gullsay</lookup>.";
    let utterance = fixture.speak(script(asked, "heron/pellin")).await;
    assert_eq!(element(&utterance, "lookup").0, Outcome::Rewritten);
    assert_eq!(texts(&listen(utterance).await.1), ["To Gull see."]);
    let unasked = fixture.speak(say("To Gullsay.", "heron/pellin")).await;
    assert_eq!(unasked.fingerprint, before, "a lexicon on request changes nothing else");
    assert_eq!(texts(&listen(unasked).await.1), ["To Gullsay."]);
    let own = fixture.gateway.put_lexicon(new("own", Some("quay"), true, "Gull zay"), "test").await.unwrap();
    assert_eq!(own.version, 1);
    let utterance = fixture.speak(say("To Gullsay.", "heron/pellin")).await;
    assert_ne!(utterance.fingerprint, before);
    assert_eq!(element(&utterance, "lexicon"), (Outcome::Rewritten, "'own' says how to speak 1 word"));
    assert_eq!(texts(&listen(utterance).await.1), ["To Gull zay."]);
    let other = dispatcher_gateway::Caller::of_app(crate::support::app("barge"), "other");
    let utterance = fixture.gateway.speak(&other, say("To Gullsay.", "heron/pellin")).await.unwrap();
    assert_eq!(texts(&listen(utterance).await.1), ["To Gullsay."], "another app's lexicon is none of its own");
    fixture.gateway.put_lexicon(new("own", Some("nobody"), true, "x"), "test").await.unwrap_err();
    fixture.gateway.retire_lexicon("own", "test").await.unwrap();
    assert_eq!(fixture.speak(say("To Gullsay.", "heron/pellin")).await.fingerprint, before);
}

#[tokio::test]
async fn lines_overlap_by_what_their_gap_says() {
    let fixture = TestGateway::open().await;
    let line = |text: &str, gap: Option<&str>| DialogueLine {
        text: text.into(),
        gap: gap.map(str::to_owned),
        ..DialogueLine::default()
    };
    let spoken = |gap: Option<&'static str>| {
        let document =
            dialogue(&[line("The ramp is closing.", None), line("Stand clear.", gap)], Some("en-GB")).unwrap();
        fixture.speak(SynthesisRequest { text: TextInput::Made(document), ..say("", "heron/pellin") })
    };
    let (apart, _) = listen(spoken(Some("100ms")).await).await;
    let (over, heard) = listen(spoken(Some("-150ms")).await).await;
    let shorter = (apart.len() as f64 - over.len() as f64) / RATE;
    assert!((shorter - 0.25).abs() < 0.005, "{shorter} s shorter");
    // Two at once cannot be told apart by ear; what is not overlapped can.
    assert_eq!(texts(&heard), ["Stand clear."]);
    let energy = |samples: &[f32]| samples.iter().map(|s| f64::from(*s).powi(2)).sum::<f64>();
    assert!((energy(&over) / energy(&apart) - 1.0).abs() < 0.1, "nothing of either is lost");
}

#[tokio::test]
async fn another_engine_is_as_loud_as_the_first() {
    let folder = tempfile::tempdir().unwrap();
    let quiet: Vec<f32> = tone::speak(ON_TAPE, tone::Manner { pitch: 1.0, rate: 1.0 }, 16_000)
        .into_iter()
        .map(|sample| sample * 0.35)
        .collect();
    let file = folder.path().join("quiet.wav");
    std::fs::write(&file, encode_all(&quiet, Format::new(Codec::Wav, 16_000)).unwrap()).unwrap();
    let sheet = tape(&file).replace("\"tape\"", "\"whisper\"").replace("Reel", "Hush").replace("reel", "hush");
    let fixture = TestGateway::open_with(|registry, _| registry.add(load(&sheet, "whisper.toml", None))).await;
    let body = "Mind the step between the ramp and the deck. <voice name=\"whisper/hush\" required=\"name\">x</voice>";
    let utterance = fixture.speak(script(body, "heron/pellin")).await;
    assert_eq!(element(&utterance, "voice").0, Outcome::Emulated);
    let (samples, heard) = listen(utterance).await;
    assert_eq!(texts(&heard), ["Mind the step between the ramp and the deck.", ON_TAPE]);
    let level = |one: &Heard| -> f64 {
        let (from, to) = span(one);
        let span = &samples[(from * RATE) as usize..(to * RATE) as usize];
        let loud: Vec<f64> = span.iter().map(|s| f64::from(*s)).filter(|s| s.abs() > 1e-3).collect();
        20.0 * (loud.iter().map(|s| s * s).sum::<f64>() / loud.len() as f64).sqrt().log10()
    };
    let apart = level(&heard[0]) - level(&heard[1]);
    assert!(apart.abs() < 1.5, "it was 9.1 dB too quiet, and is {apart} dB off");
}

#[tokio::test]
async fn an_engine_that_breaks_while_its_loudness_is_learnt_leaves_nothing_behind() {
    let folder = tempfile::tempdir().unwrap();
    let said = tone::speak(ON_TAPE, tone::Manner { pitch: 1.0, rate: 2.0 }, 16_000);
    let whole = encode_all(&said, Format::new(Codec::Wav, 16_000)).unwrap();
    let file = folder.path().join("torn.wav");
    std::fs::write(&file, &whole[..whole.len() / 2]).unwrap();
    let sheet = tape(&file).replace("\"tape\"", "\"torn\"").replace("Reel", "Rip").replace("reel", "rip");
    let fixture = TestGateway::open_with(|registry, _| registry.add(load(&sheet, "torn.toml", None))).await;
    let body = "The ramp is closing. <voice name=\"torn/rip\" required=\"name\">Stand clear.</voice>";
    let utterance = fixture.speak(script(body, "heron/pellin")).await;
    let id = utterance.dispatch.clone();
    let (_, heard) = listen(utterance).await;
    assert_eq!(texts(&heard), ["The ramp is closing.", "Stand clear."]);
    let (row, attempts, _) = fixture.dispatch(&id).await;
    let ends: Vec<(&str, &str)> = attempts.iter().map(|one| (one.engine.as_str(), one.state.name())).collect();
    assert_eq!((row.state.name(), ends[1]), ("done", ("torn", "failed")), "{ends:?}");
}
