//! Words of lexicons in scripts: what an engine with phonemes is sent, what
//! one without, and what is told of it.

use std::sync::Arc;

use dispatcher_markup::{Choices, Dialect, Lexicon, Lowered, Outcome, Policy, lower, read_pls, read_ssml, read_text};

const HARBOUR: &str = r#"<lexicon version="1.0" xmlns="http://www.w3.org/2005/01/pronunciation-lexicon" alphabet="ipa" xml:lang="en">
    <lexeme><grapheme>Gullsay</grapheme><phoneme>ˈɡʌlzeɪ</phoneme><alias>Gull zay</alias></lexeme>
    <lexeme><grapheme>Nesst</grapheme><phoneme>nɛst</phoneme></lexeme>
    <lexeme><grapheme>R&amp;D</grapheme><alias>rescue and drill</alias></lexeme>
    <lexeme><grapheme>HQ</grapheme><alias>the R&amp;D office</alias></lexeme>
    <lexeme><grapheme>loop</grapheme><alias>loop</alias></lexeme>
    <lexeme role="verb"><grapheme>row</grapheme><alias>roh</alias></lexeme>
    <lexeme role="noun"><grapheme>row</grapheme><alias>rau</alias></lexeme>
</lexicon>"#;
const OTHER: &str = r#"<lexicon version="1.0" xmlns="http://www.w3.org/2005/01/pronunciation-lexicon" alphabet="ipa" xml:lang="en">
    <lexeme><grapheme>Gullsay</grapheme><alias>Gull island</alias></lexeme></lexicon>"#;
const PHONEMES: &str = r#"{"elements": {"phoneme": {"ph": "text", "alphabet": ["ipa"]}}}"#;

/// Lexicons `harbour.pls` and `other.pls`; that of the app, where it has one.
struct Shelf {
    own: Option<Arc<Lexicon>>,
}

impl Choices for Shelf {
    fn lexicon(&self, uri: &str) -> Option<Arc<Lexicon>> {
        let source = match uri {
            "harbour.pls" => HARBOUR,
            "other.pls" => OTHER,
            _ => return None,
        };
        Some(Arc::new(read_pls(source).unwrap()))
    }

    fn lexicons(&self) -> Vec<(String, Arc<Lexicon>)> {
        self.own.iter().map(|own| ("own".to_owned(), own.clone())).collect()
    }
}

fn lowered(body: &str, dialect: Option<&str>, own: bool, language: &str) -> Lowered {
    let document = format!(
        "<speak version=\"1.1\" xmlns=\"http://www.w3.org/2001/10/synthesis\" xml:lang=\"{language}\">
         <lexicon uri=\"harbour.pls\" xml:id=\"h\"/><lexicon uri=\"other.pls\" xml:id=\"o\"/>{body}</speak>"
    );
    let script = read_ssml(&document).unwrap_or_else(|fault| panic!("{body}: {fault}"));
    let dialect: Option<Dialect> = dialect.map(|dialect| serde_json::from_str(dialect).unwrap());
    let own = own.then(|| Arc::new(read_pls(HARBOUR).unwrap()));
    lower(&script, dialect.as_ref(), Policy::Adapt, &Shelf { own })
}

fn said(lowered: &Lowered, markup: bool) -> String {
    let pieces: Vec<String> = lowered.pieces.iter().map(|it| if markup { it.markup() } else { it.plain() }).collect();
    pieces.join(" | ")
}

fn plain(body: &str) -> String {
    said(&lowered(body, None, false, "en-GB"), false)
}

#[test]
fn words_within_a_lookup_are_said_as_the_lexicon_has_them() {
    for (body, expected) in [
        ("To Gullsay.", "To Gullsay."),
        ("<lookup ref=\"h\">To Gullsay, and Gullsayers.</lookup> Gullsay", "To Gull zay, and Gullsayers. Gullsay"),
        ("<lookup ref=\"h\">The R&amp;D desk</lookup>", "The rescue and drill desk"),
        ("<lookup ref=\"h\">At HQ. loop</lookup>", "At the rescue and drill office. loop"),
        ("<lookup ref=\"h\">Nesst</lookup>", "Nesst"),
        ("<lookup ref=\"h\"><emphasis>Gullsay</emphasis>!</lookup>", "Gull zay!"),
        (
            "<lookup ref=\"h\">a <token role=\"noun\">row</token> to <w role=\"verb\">row</w> row</lookup>",
            "a rau to roh row",
        ),
        (
            "<lookup ref=\"h\"><lookup ref=\"o\">Gullsay R&amp;D</lookup> Gullsay</lookup>",
            "Gull island rescue and drill Gull zay",
        ),
        ("<lookup ref=\"h\"><sub alias=\"Gullsay\">GS</sub></lookup>", "Gull zay"),
        ("<lookup ref=\"h\"><phoneme ph=\"x\">Gullsay</phoneme></lookup>", "Gull zay"),
    ] {
        assert_eq!(plain(body), expected, "{body}");
    }
}

#[test]
fn an_engine_with_phonemes_is_sent_them() {
    let body = "<lookup ref=\"h\">To Gullsay &amp; (Nesst), R&amp;D.</lookup>";
    let sent = said(&lowered(body, Some(PHONEMES), false, "en-GB"), true);
    let phoneme = |ph: &str, word: &str| format!("<phoneme alphabet=\"ipa\" ph=\"{ph}\">{word}</phoneme>");
    let (gullsay, nesst) = (phoneme("ˈɡʌlzeɪ", "Gullsay"), phoneme("nɛst", "Nesst"));
    assert_eq!(sent, format!("To {gullsay} &amp; ({nesst}), rescue and drill."));
}

#[test]
fn what_a_lookup_could_not_do_is_told_at_its_place() {
    let outcome = |body: &str, dialect, language| {
        let lowered = lowered(body, dialect, false, language);
        let lookup = lowered.fidelity.iter().find(|it| it.element() == "lookup").unwrap().clone();
        (lookup.outcome, lookup.note().unwrap_or_default().to_owned(), lookup.line)
    };
    let body = "<lookup ref=\"h\">Nesst, Gullsay and Nesst</lookup>";
    let (done, note, line) = outcome(body, None, "en-GB");
    assert_eq!((done, line), (Outcome::Plain, 2));
    assert_eq!(&*note, "it has no words for Nesst but phonemes, which this engine does not take");
    assert_eq!(outcome(body, Some(PHONEMES), "en-GB").0, Outcome::Rewritten);
    let (done, note, _) = outcome("<lookup ref=\"h\">Gullsay</lookup>", None, "pt");
    assert_eq!((done, &*note), (Outcome::Rewritten, "it is for en, and the text is not"));
    let script = read_ssml(
        "<speak version=\"1.1\" xmlns=\"http://www.w3.org/2001/10/synthesis\" xml:lang=\"en\">
         <lexicon uri=\"none.pls\" xml:id=\"n\"/><lookup ref=\"n\">Gullsay</lookup></speak>",
    )
    .unwrap();
    let lowered = lower(&script, None, Policy::Adapt, &Shelf { own: None });
    let told: Vec<_> = lowered.fidelity.iter().map(|it| (it.element(), it.outcome)).collect();
    let expected = [("speak", Outcome::Native), ("lexicon", Outcome::Omitted), ("lookup", Outcome::Plain)];
    assert_eq!(told, expected);
    assert_eq!(lowered.fidelity[1].note(), Some("the lexicon 'none.pls' cannot be had"));
}

#[test]
fn a_lexicon_of_the_app_holds_for_all_text_in_its_language() {
    let own = Some(Arc::new(read_pls(HARBOUR).unwrap()));
    let mut script = read_text("To  Gullsay\nfrom Nesst.").unwrap();
    let lowered_text = lower(&script, None, Policy::Adapt, &Shelf { own: own.clone() });
    assert_eq!(said(&lowered_text, false), "To  Gull zay\nfrom Nesst.");
    let told = &lowered_text.fidelity[0];
    assert_eq!((told.element(), told.line, told.outcome), ("lexicon", 0, Outcome::Plain));
    script.language = Some("pt-PT".into());
    let elsewhere = lower(&script, None, Policy::Adapt, &Shelf { own });
    assert_eq!(said(&elsewhere, false), "To  Gullsay\nfrom Nesst.");
    assert!(elsewhere.fidelity.is_empty(), "no word of it was looked up");
    // What the document asks for goes before it.
    let both = lowered("Gullsay <lookup ref=\"o\">Gullsay</lookup>", None, true, "en-GB");
    assert_eq!(said(&both, false), "Gull zay Gull island");
    let note = both.fidelity.last().unwrap().note().unwrap();
    assert_eq!(note, "'own' says how to speak 1 word");
}

#[test]
fn in_version_1_0_a_lexicon_holds_for_the_whole_document() {
    let script = read_ssml(
        "<speak version=\"1.0\" xmlns=\"http://www.w3.org/2001/10/synthesis\" xml:lang=\"en\">
         <lexicon uri=\"harbour.pls\"/><p>Gullsay</p></speak>",
    )
    .unwrap();
    assert_eq!(said(&lower(&script, None, Policy::Adapt, &Shelf { own: None }), false), "Gull zay");
}
