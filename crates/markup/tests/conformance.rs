//! The clauses of SSML 1.1, one after the other: what each becomes for an
//! engine that takes text alone, and for one that takes it all.

use dispatcher_markup::{Choices, Dialect, Lowered, Piece, Policy, Treatment, VoiceWish, lower, read_ssml};

/// Voices `en` and `pt`, of which the second is male; no styles, no sounds.
struct Quay;

impl Choices for Quay {
    fn voice(&self, wish: &VoiceWish) -> Option<String> {
        let portuguese = wish.languages.iter().any(|(tag, _)| tag.starts_with("pt"));
        let male = wish.gender.as_deref() == Some("male");
        let named = wish.names.iter().any(|name| name == "Almada");
        (portuguese || male || named).then(|| "pt".to_owned())
    }

    fn speaks(&self, voice: Option<&str>, language: &str) -> bool {
        language.starts_with(voice.unwrap_or("en"))
    }

    fn sound(&self, _: &str) -> bool {
        false
    }

    fn controls(&self, _: &Treatment) -> bool {
        false
    }

    fn style(&self, _: &str) -> Option<String> {
        None
    }
}

/// Everything, in the forms of the recommendation.
const ALL: &str = r#"{"elements": {
    "p": {}, "s": {}, "token": {"role": "text"}, "w": {"role": "text"},
    "say-as": {"interpret-as": "text", "format": "text", "detail": "text"},
    "phoneme": {"ph": "text", "alphabet": "text", "type": "text"}, "sub": {"alias": "text"},
    "emphasis": {"level": "text"}, "break": {"time": "milliseconds", "strength": "text"},
    "prosody": {"rate": "percent", "pitch": "semitones", "volume": "decibels", "contour": "text", "range": "text"},
    "mark": {"name": "text"}, "lang": {"xml:lang": "text"}
}}"#;

/// A piece in a line: silence before it, what is said, and what is done to it.
fn told(piece: &Piece, markup: bool) -> String {
    let mut line = String::new();
    if piece.silence > 0.0 {
        line += &format!("[{}] ", piece.silence);
    }
    line += &if markup { piece.markup() } else { piece.plain().replace('\n', "⏎") };
    let Treatment { rate, pitch, volume, duration } = piece.treatment;
    for (value, neutral, unit) in [(rate, 1.0, "×"), (pitch, 0.0, "st"), (volume, 0.0, "dB")] {
        if (value - neutral).abs() > 1e-9 {
            line += &format!(" {value:.3}{unit}");
        }
    }
    line += &duration.map(|duration| format!(" in {duration}")).unwrap_or_default();
    line += &piece.voice.as_ref().map(|voice| format!(" by {voice}")).unwrap_or_default();
    line + &piece.language.as_ref().map(|language| format!(" as {language}")).unwrap_or_default()
}

fn lowered(body: &str, dialect: Option<&str>) -> Lowered {
    let document = format!(
        "<speak version=\"1.1\" xmlns=\"http://www.w3.org/2001/10/synthesis\" xml:lang=\"en-GB\">{body}</speak>"
    );
    let script = read_ssml(&document).unwrap_or_else(|fault| panic!("{body}: {fault}"));
    let dialect: Option<Dialect> = dialect.map(|dialect| serde_json::from_str(dialect).unwrap());
    lower(&script, dialect.as_ref(), Policy::Adapt, &Quay)
}

fn lines(body: &str, dialect: Option<&str>) -> String {
    let lowered = lowered(body, dialect);
    let mut lines: Vec<String> = lowered.pieces.iter().map(|piece| told(piece, dialect.is_some())).collect();
    if lowered.silence > 0.0 {
        lines.push(format!("[{}]", lowered.silence));
    }
    lines.join(" | ")
}

/// Clause, body, for an engine of text alone, for one that takes it all.
const CLAUSES: &[(&str, &str, &str, &str)] = &[
    ("2.1 white space", "  Mind \n the\tstep  ", "Mind the step", "Mind the step"),
    ("2.1 references", "Tide &amp; time &lt;1&gt; &#x42;", "Tide & time <1> B", "Tide &amp; time &lt;1&gt; B"),
    ("2.1 comments", "Mind <!-- the --> step", "Mind step", "Mind step"),
    ("2.3 other namespaces", "a <x:n xmlns:x=\"urn:x\">b</x:n> c", "a c", "a c"),
    ("3.1.6 meta", "<meta name=\"a\" content=\"b\"/>x", "x", "x"),
    ("3.1.8 p and s", "<p><s>a</s><s>b</s></p><p>c</p>", "a b⏎⏎c", "<p><s>a</s><s>b</s></p><p>c</p>"),
    ("3.1.8.2 token", "a <token>b</token> <w>c</w>", "a b c", "a <token>b</token> <w>c</w>"),
    (
        "3.1.9 say-as cardinal",
        "<say-as interpret-as=\"cardinal\">42</say-as> boats",
        "forty-two boats",
        "<say-as interpret-as=\"cardinal\">42</say-as> boats",
    ),
    (
        "3.1.9 say-as ordinal",
        "the <say-as interpret-as=\"ordinal\">3</say-as> boat",
        "the third boat",
        "the <say-as interpret-as=\"ordinal\">3</say-as> boat",
    ),
    (
        "3.1.9 say-as unknown",
        "<say-as interpret-as=\"tide\">low</say-as>",
        "low",
        "<say-as interpret-as=\"tide\">low</say-as>",
    ),
    (
        "3.1.10 phoneme",
        "to <phoneme alphabet=\"ipa\" ph=\"ˈɡʌlzeɪ\">Gullsay</phoneme>",
        "to Gullsay",
        "to <phoneme alphabet=\"ipa\" ph=\"ˈɡʌlzeɪ\">Gullsay</phoneme>",
    ),
    ("3.1.11 sub", "the <sub alias=\"lifeboat\">LB</sub>.", "the lifeboat.", "the <sub alias=\"lifeboat\">LB</sub>."),
    (
        "3.1.12 lang that the voice speaks",
        "a <lang xml:lang=\"en-US\">b</lang> c",
        "a | b as en-US | c",
        "a <lang xml:lang=\"en-US\">b</lang> c",
    ),
    (
        "3.1.12 lang of another voice",
        "a <lang xml:lang=\"pt-PT\">b</lang> c",
        "a | b by pt as pt-PT | c",
        "a <lang xml:lang=\"pt-PT\">b</lang> c",
    ),
    ("3.2.1 voice", "a <voice gender=\"male\">b</voice> c", "a | b by pt | c", "a | b by pt | c"),
    ("3.2.1 voice by name", "<voice name=\"Nobody Almada\">b</voice>", "b by pt", "b by pt"),
    ("3.2.1 no such voice", "a <voice gender=\"female\" age=\"9\">b</voice>", "a b", "a b"),
    (
        "3.2.2 emphasis with a level",
        "<emphasis level=\"strong\">now</emphasis>",
        "now",
        "<emphasis level=\"strong\">now</emphasis>",
    ),
    ("3.2.3 break", "a<break/>b", "a | [400] b", "a<break/>b"),
    ("3.2.3 break by time", "a<break time=\"1.5s\"/>b", "a | [1500] b", "a<break time=\"1500ms\"/>b"),
    (
        "3.2.3 time counts before strength",
        "a<break time=\"250ms\" strength=\"x-strong\"/>b",
        "a | [250] b",
        "a<break time=\"250ms\" strength=\"x-strong\"/>b",
    ),
    ("3.2.3 no break", "a <break strength=\"none\"/>b", "a b", "a <break strength=\"none\"/>b"),
    (
        "3.2.3 breaks add up",
        "a<break time=\"100ms\"/><break time=\"200ms\"/>b",
        "a | [300] b",
        "a<break time=\"100ms\"/><break time=\"200ms\"/>b",
    ),
    ("3.2.3 at the end", "a<break time=\"1s\"/>", "a | [1000]", "a<break time=\"1000ms\"/>"),
    ("3.2.4 rate", "<prosody rate=\"80%\">a</prosody>", "a 0.800×", "<prosody rate=\"80%\">a</prosody>"),
    (
        "3.2.4 pitch in semitones",
        "<prosody pitch=\"+2st\">a</prosody>",
        "a 2.000st",
        "<prosody pitch=\"+2st\">a</prosody>",
    ),
    (
        "3.2.4 pitch in per cent",
        "<prosody pitch=\"+100%\">a</prosody>",
        "a 12.000st",
        "<prosody pitch=\"+12st\">a</prosody>",
    ),
    ("3.2.4 volume", "<prosody volume=\"-6dB\">a</prosody>", "a -6.000dB", "<prosody volume=\"-6dB\">a</prosody>"),
    ("3.2.4 duration", "<prosody duration=\"3s\">a</prosody>", "a in 3000", "a in 3000"),
    ("3.2.4 contour", "<prosody contour=\"(0%,+1st)\">a</prosody>", "a", "<prosody contour=\"(0%,+1st)\">a</prosody>"),
    (
        "3.2.4 nested",
        "<prosody pitch=\"+2st\">a <prosody rate=\"50%\">b</prosody></prosody>",
        "a 2.000st | b 0.500× 2.000st",
        "<prosody pitch=\"+2st\">a <prosody rate=\"50%\">b</prosody></prosody>",
    ),
    ("3.3.1 audio with something else", "a <audio src=\"bell.wav\">a bell</audio>", "a a bell", "a a bell"),
    ("3.3.1 audio alone", "a <audio src=\"bell.wav\"/>b", "a b", "a b"),
    ("3.3.2 mark", "a<mark name=\"m\"/> b", "a | b", "a<mark name=\"m\"/> b"),
    ("3.3.3 desc", "<audio src=\"bell.wav\"><desc>a bell</desc>ding</audio>", "ding", "ding"),
];

#[test]
fn each_clause_becomes_what_it_should() {
    let mut wrong = Vec::new();
    for (clause, body, plain, native) in CLAUSES {
        for (kind, wanted, found) in [("text", plain, lines(body, None)), ("all", native, lines(body, Some(ALL)))] {
            if found != **wanted {
                wrong.push(format!("{clause}, {kind}: {body}\n  wanted {wanted}\n  found  {found}"));
            }
        }
    }
    assert!(wrong.is_empty(), "{}", wrong.join("\n"));
}

#[test]
fn the_report_has_each_element_once_whatever_the_engine_takes() {
    for (clause, body, ..) in CLAUSES {
        let names = |dialect: Option<&str>| -> Vec<(String, u32)> {
            lowered(body, dialect).fidelity.iter().map(|item| (item.element().to_owned(), item.column)).collect()
        };
        assert_eq!(names(None), names(Some(ALL)), "{clause}");
        let started = body.matches('<').count() - body.matches("</").count() - body.matches("<!--").count();
        assert_eq!(names(None).len(), 1 + started, "{clause}: the root, and each element");
    }
}

#[test]
fn documents_of_version_one_are_read_by_their_own_forms() {
    let one = |body: &str| {
        let document = format!("<speak version=\"1.0\" xml:lang=\"en\">{body}</speak>");
        let script = read_ssml(&document).unwrap_or_else(|fault| panic!("{body}: {fault}"));
        let lowered = lower(&script, None, Policy::Adapt, &Quay);
        lowered.pieces.iter().map(|piece| told(piece, false)).collect::<Vec<_>>().join(" | ")
    };
    assert_eq!(one("<prosody rate=\"-10%\">a</prosody>"), "a 0.900×");
    assert_eq!(one("<prosody rate=\"1.5\">a</prosody>"), "a 1.500×");
    assert_eq!(one("<voice xml:lang=\"pt\">a</voice>"), "a by pt as pt");
    for body in ["<lang xml:lang=\"pt\">a</lang>", "<token>a</token>", "<lookup ref=\"a\">a</lookup>"] {
        assert!(read_ssml(&format!("<speak version=\"1.0\">{body}</speak>")).is_err(), "{body} came with 1.1");
    }
}
