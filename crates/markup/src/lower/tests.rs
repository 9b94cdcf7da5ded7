use super::*;
use crate::read_ssml;

/// An engine with two Portuguese voices, a gong, and a cheerful way.
struct Quay;

impl Choices for Quay {
    fn voice(&self, wish: &VoiceWish) -> Option<String> {
        let portuguese = wish.languages.iter().any(|(tag, _)| tag.starts_with("pt"));
        let named = wish.names.first().filter(|name| *name == "Tarrick").map(|_| "heron/tarrick");
        let male = wish.gender.as_deref() == Some("male");
        named.or(portuguese.then_some("heron/beatriz")).or(male.then_some("heron/tarrick")).map(str::to_owned)
    }

    fn speaks(&self, voice: Option<&str>, language: &str) -> bool {
        language.starts_with(if voice == Some("heron/beatriz") { "pt" } else { "en" })
    }

    fn sound(&self, src: &str) -> bool {
        src.ends_with("gong.wav")
    }

    fn controls(&self, _: &crate::Treatment) -> bool {
        false
    }

    fn style(&self, emotion: &str) -> Option<String> {
        (emotion == "joy" || emotion == "valence+").then(|| "cheerful".to_owned())
    }
}

fn lowered_to(body: &str, dialect: Option<&str>, policy: Policy) -> Lowered {
    let document = format!("<speak version=\"1.1\" xml:lang=\"en-GB\">{body}</speak>");
    let dialect = dialect.map(|text| serde_json::from_str::<Dialect>(text).expect(text));
    lower(&read_ssml(&document).expect(body), dialect.as_ref(), policy, &Quay)
}

fn adapted(body: &str) -> Lowered {
    lowered_to(body, None, Policy::Adapt)
}

fn outcomes(lowered: &Lowered) -> Vec<(&str, Outcome)> {
    lowered.fidelity.iter().skip(1).map(|item| (item.element(), item.outcome)).collect()
}

fn texts(lowered: &Lowered) -> Vec<(String, f64)> {
    lowered.pieces.iter().map(|piece| (piece.plain(), piece.silence)).collect()
}

#[test]
fn breaks_become_silence_of_their_length() {
    let lowered =
        adapted("All aboard.<break time=\"1.5s\"/> Mind <break strength=\"strong\"/>the step<break time=\"200ms\"/>");
    assert_eq!(
        texts(&lowered),
        vec![("All aboard.".into(), 0.0), ("Mind".into(), 1_500.0), ("the step".into(), 700.0)]
    );
    assert!((lowered.silence - 200.0).abs() < 1e-9);
    assert_eq!(outcomes(&lowered), vec![("break", Outcome::Emulated); 3]);
    let leading = adapted("<break time=\"300ms\"/><break time=\"200ms\"/>go");
    assert_eq!(texts(&leading), vec![("go".into(), 500.0)]);
    assert_eq!(outcomes(&lowered_to("a<break/>b", None, Policy::Omit)), vec![("break", Outcome::Omitted)]);
}

#[test]
fn a_stronger_break_is_a_longer_one() {
    let silence = |strength: &str| adapted(&format!("a<break strength=\"{strength}\"/>b")).pieces[1].silence;
    let strengths = ["x-weak", "weak", "medium", "strong", "x-strong"];
    assert_eq!(strengths.map(silence), [100.0, 200.0, 400.0, 700.0, 1_200.0]);
    assert_eq!(adapted("a<break/>b").pieces[1].silence, 400.0, "medium, where nothing is said");
    assert_eq!(texts(&adapted("a<break strength=\"none\"/> b")), vec![("a b".into(), 0.0)]);
}

#[test]
fn a_language_within_another_ends_where_it_ends() {
    let lowered = adapted("One <lang xml:lang=\"pt-PT\">dois <lang xml:lang=\"en-GB\">three</lang> quatro</lang> five");
    let found: Vec<(String, Option<&str>)> =
        lowered.pieces.iter().map(|piece| (piece.plain(), piece.voice.as_deref())).collect();
    let beatriz = Some("heron/beatriz");
    let expected = [("One", None), ("dois", beatriz), ("three", None), ("quatro", beatriz), ("five", None)];
    assert_eq!(found, expected.map(|(text, voice)| (text.to_owned(), voice)));
}

#[test]
fn a_voice_of_several_languages_is_told_of_each() {
    struct Bilingual;
    impl Choices for Bilingual {}
    let document = "<speak version=\"1.1\" xml:lang=\"en-GB\">One <lang xml:lang=\"pt-PT\">dois \
        <lang xml:lang=\"en-GB\">three</lang> quatro</lang> five</speak>";
    let lowered = lower(&read_ssml(document).expect("a document"), None, Policy::Adapt, &Bilingual);
    let found: Vec<(String, Option<&str>)> =
        lowered.pieces.iter().map(|piece| (piece.plain(), piece.language.as_deref())).collect();
    let (english, portuguese) = (Some("en-GB"), Some("pt-PT"));
    let expected = [("One", None), ("dois", portuguese), ("three", english), ("quatro", portuguese), ("five", None)];
    assert_eq!(found, expected.map(|(text, language)| (text.to_owned(), language)), "also back to the document's own");
}

#[test]
fn prosody_is_made_good_piece_by_piece() {
    let lowered = adapted(
        "One <prosody rate=\"80%\" pitch=\"+2st\">two <prosody volume=\"-6dB\" pitch=\"+1st\">three</prosody></prosody> four",
    );
    let found: Vec<(String, f64, f64, f64)> = lowered
        .pieces
        .iter()
        .map(|piece| (piece.plain(), piece.treatment.rate, piece.treatment.pitch, piece.treatment.volume))
        .collect();
    assert_eq!(
        found,
        vec![
            ("One".into(), 1.0, 0.0, 0.0),
            ("two".into(), 0.8, 2.0, 0.0),
            ("three".into(), 0.8, 3.0, -6.0),
            ("four".into(), 1.0, 0.0, 0.0),
        ]
    );
    assert_eq!(outcomes(&lowered), vec![("prosody", Outcome::Emulated); 2]);
    // A percentage is of the ordinary rate, and not of the one around it.
    let nested = adapted("<prosody rate=\"50%\">a <prosody rate=\"80%\">b</prosody></prosody>");
    assert!((nested.pieces[1].treatment.rate - 0.8).abs() < 1e-9);
    let lasting = adapted("<prosody duration=\"3s\">a b c</prosody> d");
    assert_eq!(lasting.pieces[0].treatment.duration, Some(3_000.0));
    assert_eq!(lasting.pieces[1].treatment.duration, None);
    let parted = adapted("<prosody duration=\"3s\">a<break/>b</prosody>");
    assert_eq!(parted.fidelity[1].outcome, Outcome::Plain);
    let beyond = adapted("<prosody contour=\"(0%,+1st)\" rate=\"80%\">x</prosody>");
    assert_eq!(outcomes(&beyond), vec![("prosody", Outcome::Plain)]);
    assert!(beyond.fidelity[1].note().expect("why").contains("contour"));
    assert!((beyond.pieces[0].treatment.rate - 0.8).abs() < 1e-9, "what can be made good still is");
}

const DIALECT: &str = r#"{"elements": {
    "p": {}, "s": {}, "emphasis": {"level": ["strong"]},
    "break": {"time": {"form": "milliseconds", "most": 5000}},
    "prosody": {"rate": {"form": "percent", "least": 50, "most": 150}, "volume": ["soft", "loud"]},
    "say-as": {"interpret-as": ["characters"]}, "phoneme": {"alphabet": ["ipa"], "ph": "text"},
    "mark": {"name": "text"}
}}"#;

#[test]
fn what_a_dialect_takes_is_written_for_it() {
    let body = |body: &str| {
        let lowered = lowered_to(body, Some(DIALECT), Policy::Adapt);
        let bodies: Vec<String> = lowered.pieces.iter().map(|piece| piece.markup()).collect();
        let outcomes = outcomes(&lowered).into_iter().map(|(_, outcome)| outcome).collect::<Vec<_>>();
        (bodies, outcomes)
    };
    let one = |text: &str| vec![text.to_owned()];
    assert_eq!(
        body("<p>Tide &amp; <emphasis level=\"strong\">time</emphasis> now</p>"),
        (one("<p>Tide &amp; <emphasis level=\"strong\">time</emphasis> now</p>"), vec![Outcome::Native; 2])
    );
    assert_eq!(body("a <break time=\"1.5s\"/> b"), (one("a <break time=\"1500ms\"/> b"), vec![Outcome::Rewritten]));
    assert_eq!(body("a <break strength=\"strong\"/> b").0, one("a <break time=\"700ms\"/> b"));
    assert_eq!(body("a <break time=\"9s\"/> b"), (vec!["a".into(), "b".into()], vec![Outcome::Emulated]));
    assert_eq!(
        body("<prosody rate=\"slow\">a</prosody>"),
        (one("<prosody rate=\"80%\">a</prosody>"), vec![Outcome::Rewritten])
    );
    assert_eq!(body("<prosody rate=\"40%\">a</prosody>").1, vec![Outcome::Plain]);
    // What is made good parts the text; what is open is closed and opened again.
    assert_eq!(
        body("<p><prosody rate=\"80%\">a <prosody pitch=\"+1st\">b</prosody> c</prosody></p>").0,
        vec![
            "<p><prosody rate=\"80%\">a</prosody></p>".to_owned(),
            "<p><prosody rate=\"80%\">b</prosody></p>".into(),
            "<p><prosody rate=\"80%\">c</prosody></p>".into(),
        ]
    );
    assert_eq!(body("<say-as interpret-as=\"characters\">SF</say-as>").1, vec![Outcome::Native]);
    assert_eq!(
        body("<say-as interpret-as=\"cardinal\">12</say-as> boats"),
        (one("twelve boats"), vec![Outcome::Rewritten])
    );
    assert_eq!(
        body("<phoneme alphabet=\"ipa\" ph=\"a&lt;b&quot;\">x</phoneme>").0,
        one("<phoneme alphabet=\"ipa\" ph=\"a&lt;b&quot;\">x</phoneme>")
    );
    assert_eq!(body("<phoneme alphabet=\"x-dock\" ph=\"a\">x</phoneme>"), (one("x"), vec![Outcome::Plain]));
    assert_eq!(
        body("<sub alias=\"Saltmarsh\">S</sub> &lt;1&gt;"),
        (one("Saltmarsh &lt;1&gt;"), vec![Outcome::Rewritten])
    );
    assert_eq!(body("a<mark name=\"m\"/> b"), (one("a<mark name=\"m\"/> b"), vec![Outcome::Native]));
    assert_eq!(body("<emphasis>x</emphasis>").1, vec![Outcome::Plain], "the engine asks for a level it knows");
}

#[test]
fn voices_and_languages_change_by_piece() {
    let lowered =
        adapted("Welcome. <voice gender=\"male\">All aboard.</voice> <lang xml:lang=\"pt-PT\">Bom dia.</lang> Go.");
    let found: Vec<(String, Option<&str>, Option<&str>)> =
        lowered.pieces.iter().map(|p| (p.plain(), p.voice.as_deref(), p.language.as_deref())).collect();
    assert_eq!(
        found,
        vec![
            ("Welcome.".into(), None, None),
            ("All aboard.".into(), Some("heron/tarrick"), None),
            ("Bom dia.".into(), Some("heron/beatriz"), Some("pt-PT")),
            ("Go.".into(), None, None),
        ]
    );
    assert_eq!(outcomes(&lowered), vec![("voice", Outcome::Emulated), ("lang", Outcome::Emulated)]);
    let absent = adapted("<lang xml:lang=\"ja\" onlangfailure=\"ignoretext\">x</lang>y <lang xml:lang=\"ja\">z</lang>");
    assert_eq!(texts(&absent), vec![("y z".into(), 0.0)]);
    assert_eq!(outcomes(&absent), vec![("lang", Outcome::Omitted), ("lang", Outcome::Plain)]);
}

#[test]
fn sounds_marks_and_fallbacks() {
    let lowered = adapted(
        "One <audio src=\"http://h.example/gong.wav\" clipBegin=\"1s\" repeatCount=\"2\" soundLevel=\"-3dB\" speed=\"50%\">gong!</audio><mark name=\"here\"/> two",
    );
    let sound = lowered.pieces[1].sound.as_ref().expect("a sound");
    assert_eq!((sound.begin, sound.count, sound.level, sound.speed), (Some(1.0), 2.0, -3.0, 0.5));
    assert_eq!(lowered.pieces[2].marks, vec![MarkAt { name: "here".into(), behind: 0.0 }]);
    assert_eq!(lowered.pieces[2].plain(), "two");
    assert_eq!(outcomes(&lowered), vec![("audio", Outcome::Emulated), ("mark", Outcome::Emulated)]);
    let fallback =
        adapted("One <audio src=\"none.wav\">ding <emphasis>dong</emphasis></audio> two<audio src=\"none.wav\"/>");
    assert_eq!(texts(&fallback), vec![("One ding dong two".into(), 0.0)]);
    assert_eq!(fallback.fidelity[1].outcome, Outcome::Plain);
    assert_eq!(fallback.fidelity[3].outcome, Outcome::Omitted);
    let tail = adapted("x<mark name=\"end\"/>");
    assert_eq!(tail.marks, vec![MarkAt { name: "end".into(), behind: 0.0 }]);
    let between = adapted("x<break time=\"1s\"/><mark name=\"m\"/><break time=\"2s\"/>y");
    assert_eq!((between.pieces[1].silence, between.pieces[1].marks[0].behind), (3_000.0, 1_000.0));
}

#[test]
fn marks_of_the_root_bound_what_is_rendered() {
    let document = "<speak version=\"1.1\" xml:lang=\"en\" startmark=\"a\" endmark=\"b\">x<mark name=\"a\"/>y<mark name=\"b\"/>z</speak>";
    let lowered = lower(&read_ssml(document).expect("valid"), None, Policy::Adapt, &Quay);
    assert_eq!(texts(&lowered), vec![("y".into(), 0.0)]);
}

#[test]
fn an_emotion_colours_what_stands_around_it() {
    let emotion = "<e:emotion xmlns:e=\"http://www.w3.org/2009/10/emotionml\" category-set=\"u\"><e:category name=\"joy\" value=\"0.6\"/></e:emotion>";
    let lowered = adapted(&format!("a <s>{emotion}b</s> c"));
    let styles: Vec<Option<Manner>> = lowered.pieces.iter().map(|piece| piece.style.as_deref().cloned()).collect();
    assert_eq!(styles, vec![None, Some(Manner { name: "cheerful".into(), strength: Some(0.6) }), None]);
    assert_eq!(outcomes(&lowered)[1], ("emotion", Outcome::Rewritten));
    let unknown = adapted(&emotion.replace("joy", "dread").replace("</e:emotion>", "</e:emotion>x"));
    assert_eq!(outcomes(&unknown), vec![("emotion", Outcome::Omitted)]);
}

#[test]
fn the_report_names_element_place_and_outcome() {
    let lowered = lower(
        &read_ssml("<speak version=\"1.1\">\n  go <break/>\n</speak>").expect("valid"),
        None,
        Policy::Adapt,
        &Quay,
    );
    let last = lowered.fidelity.last().expect("an entry");
    assert_eq!((last.element(), last.line, last.column, last.outcome), ("break", 2, 6, Outcome::Emulated));
}

#[test]
fn emotion_with_text_is_spoken_in_that_style() {
    let emotion = |category: &str, text: &str| {
        format!(
            "Before. <e:emotion xmlns:e=\"http://www.w3.org/2009/10/emotionml\" category-set=\"u\">\
             <e:category name=\"{category}\"/><e:info>unread</e:info>{text}</e:emotion> After."
        )
    };
    let styles = |lowered: &Lowered| -> Vec<(String, Option<String>)> {
        let style = |piece: &Piece| piece.style.as_ref().map(|style| style.name.clone());
        lowered.pieces.iter().map(|piece| (piece.plain(), style(piece))).collect()
    };
    let lowered = adapted(&emotion("joy", "Happy <emphasis>words</emphasis>."));
    assert_eq!(
        styles(&lowered),
        vec![("Before.".into(), None), ("Happy words.".into(), Some("cheerful".into())), ("After.".into(), None),]
    );
    assert_eq!(outcomes(&lowered)[0], ("emotion", Outcome::Rewritten));
    // No such style: the words are still spoken.
    let plain = adapted(&emotion("dread", "Calm words."));
    assert_eq!(styles(&plain), vec![("Before. Calm words. After.".into(), None)]);
    assert_eq!(outcomes(&plain), vec![("emotion", Outcome::Plain)]);
    assert_eq!(outcomes(&lowered_to(&emotion("joy", "x"), None, Policy::Omit)), vec![("emotion", Outcome::Omitted)]);
    // The category may follow the text, and emotions may be within one another.
    let inner = "<e:emotion category-set=\"u\">inner<e:category name=\"joy\"/></e:emotion>";
    let nested = adapted(&emotion("dread", &format!("outer {inner}")));
    assert_eq!(
        styles(&nested),
        vec![("Before. outer".into(), None), ("inner".into(), Some("cheerful".into())), ("After.".into(), None),]
    );
}

#[test]
fn a_token_is_one_word_and_two_tokens_are_two() {
    let said = |body: &str| adapted(body).pieces.iter().map(Piece::plain).collect::<Vec<_>>();
    assert_eq!(said("to <token>Salt<mark name=\"m\"/>marsh</token> now"), vec!["to", "Saltmarsh now"]);
    assert_eq!(said("<w>North</w><w>Island</w>"), vec!["North Island"]);
    assert_eq!(said("the<w>North</w>pier, <w>Island</w>."), vec!["the North pier, Island."]);
    assert_eq!(said("<w>Salt<break time=\"1s\"/>marsh</w> now"), vec!["Saltmarsh", "now"]);
    assert_eq!(said("<w>Salt<prosody rate=\"slow\">marsh</prosody></w> now"), vec!["Saltmarsh now"]);
    assert_eq!(said("<w><prosody rate=\"slow\">Saltmarsh</prosody></w> now"), vec!["Saltmarsh", "now"]);
    assert_eq!(said("<w>Salt<emphasis>marsh</emphasis></w><w>pier</w>"), vec!["Saltmarsh pier"]);
    let marked = adapted("to <token>Salt<mark name=\"m\"/>marsh</token> now");
    assert_eq!(marked.pieces[1].marks, vec![MarkAt { name: "m".into(), behind: 0.0 }]);
    assert_eq!(outcomes(&marked), vec![("token", Outcome::Rewritten), ("mark", Outcome::Emulated)]);
    let paused = adapted("<w>Salt<break time=\"1s\"/>marsh</w> now");
    assert_eq!(texts(&paused), vec![("Saltmarsh".into(), 0.0), ("now".into(), 1_000.0)]);
    // The engine's own element keeps words apart; a mark does not cut it.
    let native =
        lowered_to("<w>North</w><w>Is<mark name=\"m\"/>land</w>", Some(r#"{"elements": {"w": {}}}"#), Policy::Adapt);
    let bodies: Vec<String> = native.pieces.iter().map(|piece| piece.markup()).collect();
    assert_eq!(bodies, vec!["<w>North</w>", "<w>Island</w>"]);
}
