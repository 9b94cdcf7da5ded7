//! One word put into a lexicon, whose document stays as it is otherwise.

use std::ops::Range;

use quick_xml::events::Event;

use super::pls::{PLS, read_pls};
use super::xml::Events;
use crate::MarkupError;
use crate::lexicon::{Lexeme, Pronunciation};
use crate::lower::escape;

/// An empty lexicon for text in a language, as a document of PLS 1.0.
pub fn new_pls(language: &str) -> String {
    let mut escaped = String::new();
    escape(language, &mut escaped);
    format!(
        "<?xml version=\"1.0\" encoding=\"UTF-8\"?>\n<lexicon version=\"1.0\" xmlns=\"{PLS}\" alphabet=\"ipa\" \
         xml:lang=\"{}\">\n</lexicon>\n",
        escaped.replace('"', "&quot;")
    )
}

/// Where the lexemes of a document stand, and its end.
struct Places {
    /// `pls:` where its elements have that prefix.
    prefix: String,
    lexemes: Vec<Range<usize>>,
    end: usize,
}

/// The document with a word: in place of the lexeme that is for this word alone,
/// or as the first one, which is found before others of the same spelling.
///
/// # Errors
/// The document's first fault, or that of the word.
pub fn with_word(document: &str, grapheme: &str, said: &Pronunciation) -> Result<String, MarkupError> {
    let document = document.strip_prefix('\u{feff}').unwrap_or(document);
    let lexicon = read_pls(document)?;
    let places = places_of(document)?;
    let alone = |lexeme: &Lexeme| lexeme.graphemes == [grapheme] && lexeme.roles.is_empty();
    let place = match lexicon.lexemes().iter().position(alone).and_then(|at| places.lexemes.get(at)) {
        Some(place) => place.clone(),
        None => {
            let at = places.lexemes.first().map_or(places.end, |first| first.start);
            at..at
        }
    };
    let word = element(&places.prefix, grapheme, said);
    let new = if place.is_empty() { format!("{word}\n") } else { word };
    let made = format!("{}{new}{}", &document[..place.start], &document[place.end..]);
    // What a person has typed is judged as a whole document is.
    read_pls(&made)?;
    Ok(made)
}

fn element(prefix: &str, grapheme: &str, said: &Pronunciation) -> String {
    let escaped = |text: &str| {
        let mut out = String::new();
        escape(text, &mut out);
        out
    };
    let said = match said {
        Pronunciation::Alias(alias) => format!("<{prefix}alias>{}</{prefix}alias>", escaped(alias)),
        Pronunciation::Phoneme { symbols, alphabet } => {
            let alphabet = escaped(alphabet).replace('"', "&quot;");
            format!("<{prefix}phoneme alphabet=\"{alphabet}\">{}</{prefix}phoneme>", escaped(symbols))
        }
    };
    format!("<{prefix}lexeme><{prefix}grapheme>{}</{prefix}grapheme>{said}</{prefix}lexeme>", escaped(grapheme))
}

/// Looks only at the children of the root: the document was read before.
fn places_of(document: &str) -> Result<Places, MarkupError> {
    let mut events = Events::of(document, "lexicon")?;
    let mut places = Places { prefix: String::new(), lexemes: Vec::new(), end: document.len() };
    let (mut depth, mut begun) = (0_usize, None);
    loop {
        let event = events.next()?;
        let at = events.at();
        match event {
            Event::Start(start) => {
                let name = start.name().as_ref().to_owned();
                if depth == 0 {
                    places.prefix = name.rsplit_once(':').map_or(String::new(), |(prefix, _)| format!("{prefix}:"));
                }
                let lexeme = depth == 1 && name == format!("{}lexeme", places.prefix);
                begun = if lexeme { Some(at) } else { begun };
                depth += 1;
            }
            Event::End(_) => {
                depth = depth.saturating_sub(1);
                match depth {
                    0 => places.end = at,
                    1 => {
                        let close = document[at..].find('>').map_or(document.len(), |length| at + length + 1);
                        places.lexemes.extend(begun.take().map(|begun| begun..close));
                    }
                    _ => {}
                }
            }
            Event::Eof => return Ok(places),
            _ => {}
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    const DOCUMENT: &str = "<?xml version=\"1.0\"?>\n<lexicon version=\"1.0\" \
        xmlns=\"http://www.w3.org/2005/01/pronunciation-lexicon\" alphabet=\"ipa\" xml:lang=\"en-GB\">\n\
        <!-- Ports. -->\n\
        <lexeme><grapheme>Gullsay</grapheme><alias>gull see</alias></lexeme>\n\
        <lexeme><grapheme>Tarnwick</grapheme><grapheme>Tarnwyck</grapheme><phoneme>ˈtɑːnɪk</phoneme></lexeme>\n\
        </lexicon>\n";

    fn alias(text: &str) -> Pronunciation {
        Pronunciation::Alias(text.into())
    }

    #[test]
    fn a_word_takes_the_place_of_its_own_lexeme_and_nothing_else_changes() {
        let made = with_word(DOCUMENT, "Gullsay", &alias("gull say & sea")).expect("a document");
        let wanted = DOCUMENT.replace("<alias>gull see</alias>", "<alias>gull say &amp; sea</alias>");
        assert_eq!(made, wanted);
    }

    #[test]
    fn a_new_word_and_one_that_shares_its_lexeme_come_first() {
        let made = with_word(DOCUMENT, "Tarnwick", &alias("tarn wick")).expect("a document");
        let lexicon = read_pls(&made).expect("a lexicon");
        let found = lexicon.find("To Tarnwick.", 0, None).expect("a word");
        assert_eq!(found.lexeme.pronunciations, [alias("tarn wick")], "the newest word is found");
        let other = lexicon.find("To Tarnwyck.", 0, None).expect("a word");
        assert!(matches!(other.lexeme.pronunciations[0], Pronunciation::Phoneme { .. }), "the other spelling stays");
        assert!(made.contains("<!-- Ports. -->\n<lexeme><grapheme>Tarnwick</grapheme><alias>"), "{made}");
    }

    #[test]
    fn an_empty_or_prefixed_lexicon_takes_words_too() {
        let said = Pronunciation::Phoneme { symbols: "ˈɡʌlzeɪ".into(), alphabet: "ipa".into() };
        let made = with_word(&new_pls("en-GB"), "Gullsay", &said).expect("a document");
        let lexicon = read_pls(&made).expect("a lexicon");
        assert_eq!((lexicon.language.as_str(), lexicon.lexemes().len()), ("en-GB", 1));
        assert_eq!(lexicon.lexemes()[0].pronunciations, [said]);
        let prefixed = "<p:lexicon version=\"1.0\" xmlns:p=\"http://www.w3.org/2005/01/pronunciation-lexicon\" \
            alphabet=\"ipa\" xml:lang=\"pt-PT\"><p:lexeme><p:grapheme>Almada</p:grapheme><p:alias>al mada</p:alias>\
            </p:lexeme></p:lexicon>";
        let made = with_word(prefixed, "Almada", &alias("almáda")).expect("a document");
        assert_eq!(made, prefixed.replace("al mada", "almáda"));
    }

    #[test]
    fn what_is_no_word_is_refused() {
        for grapheme in ["", "  ", "bell\u{7}"] {
            assert!(with_word(DOCUMENT, grapheme, &alias("x")).is_err(), "{grapheme:?}");
        }
        assert!(with_word(DOCUMENT, "Gullsay", &alias("")).is_err());
        assert!(with_word("<lexicon>", "Gullsay", &alias("x")).is_err());
    }
}
