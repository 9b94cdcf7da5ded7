//! The vocabulary of an app: names and terms that dictionaries lack, in the
//! words of PLS (W3C Pronunciation Lexicon Specification 1.0, section 4).
//! Engines that take hints are given it; what they make of it, and what the
//! others hear, is corrected by how it sounds.

use std::collections::HashMap;

use serde::{Deserialize, Deserializer, Serialize};

use super::likeness::Sounds;
use super::rewrite::{SaidWord, WrittenSpan, keys, places, tokens};
use super::{ChangedBy, RuleError, check_text};
use crate::Transcript;

const MOST_WORDS: usize = 1_000;
const MOST_FORMS: usize = 10;
/// Forms of all words together: each is held against every word that is said.
const MOST_FORMS_OF_ALL: usize = 2_000;
const MOST_CHARACTERS: usize = 80;
/// Words of a form: longer ones are sentences.
const MOST_FORM_WORDS: usize = 6;
/// What is heard must sound so much like a word to be taken for it.
const LIKENESS: f64 = 0.8;
/// What an engine is sure of must sound more like it.
const SURE: f64 = 0.95;
const LIKENESS_OF_SURE: f64 = 0.88;
/// Words with fewer sounds are like too many others.
const LEAST_SOUNDS: usize = 4;
/// Small words of English, German, French and Spanish. They stand beside a name
/// far more often than they are heard for a part of one.
const SMALL: &[&str] = &[
    "a", "about", "an", "and", "any", "are", "as", "at", "be", "been", "but", "by", "can", "for", "from", "had", "has",
    "have", "he", "her", "his", "i", "if", "in", "is", "it", "its", "me", "my", "no", "not", "of", "off", "on", "one",
    "or", "our", "out", "she", "so", "that", "the", "their", "them", "then", "there", "they", "this", "to", "up", "us",
    "was", "we", "were", "what", "when", "who", "will", "with", "you", "your", "das", "dem", "den", "der", "die",
    "ein", "eine", "im", "ist", "und", "von", "zu", "zum", "au", "aux", "de", "des", "du", "en", "est", "et", "la",
    "le", "les", "un", "une", "con", "del", "el", "los", "por", "que", "se", "y",
];
/// What a small word at either end of several takes off their likeness.
const SMALL_BESIDE: f64 = 0.1;
/// Words that one is heard as, beyond its own.
const MORE_HEARD: usize = 2;

/// A name or term.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct VocabularyWord {
    /// Its spellings.
    pub grapheme: Vec<String>,
    /// Other words that it is heard as.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub alias: Vec<String>,
    /// How it sounds, in the International Phonetic Alphabet.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub phoneme: Vec<String>,
    /// How it is written in transcripts; its first grapheme where nothing is said.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub written: Option<String>,
}

impl VocabularyWord {
    /// How it is written in transcripts.
    pub fn in_writing(&self) -> &str {
        self.written.as_deref().or(self.grapheme.first().map(String::as_str)).unwrap_or_default()
    }

    fn check(&self, at: &str) -> Result<(), RuleError> {
        if self.grapheme.is_empty() {
            return Err(RuleError::new(format!("{at}/grapheme"), "is empty"));
        }
        for (name, forms) in [("grapheme", &self.grapheme), ("alias", &self.alias), ("phoneme", &self.phoneme)] {
            if forms.len() > MOST_FORMS {
                return Err(RuleError::new(format!("{at}/{name}"), format!("has more than {MOST_FORMS} forms")));
            }
            for (index, form) in forms.iter().enumerate() {
                let place = format!("{at}/{name}/{index}");
                check_text(&place, form, MOST_CHARACTERS)?;
                if name == "phoneme" && Sounds::of_ipa(form).len() == 0 {
                    return Err(RuleError::new(place, "has no sound of the International Phonetic Alphabet"));
                }
                match keys(form).len() {
                    _ if name == "phoneme" => {}
                    0 => return Err(RuleError::new(place, "has no letter or digit")),
                    1..=MOST_FORM_WORDS => {}
                    _ => return Err(RuleError::new(place, format!("has more than {MOST_FORM_WORDS} words"))),
                }
            }
        }
        let Some(written) = &self.written else { return Ok(()) };
        let place = format!("{at}/written");
        check_text(&place, written, MOST_CHARACTERS)?;
        match keys(written).len() {
            0..=MOST_FORM_WORDS => Ok(()),
            _ => Err(RuleError::new(place, format!("has more than {MOST_FORM_WORDS} words"))),
        }
    }
}

/// The words of an app, ready for use.
#[derive(Debug, Clone, Default, Serialize)]
pub struct Vocabulary {
    /// As they were given.
    pub words: Vec<VocabularyWord>,
    #[serde(skip)]
    forms: HashMap<Vec<String>, usize>,
    #[serde(skip)]
    sounds: Vec<(usize, Sounds)>,
    /// The most words that a form has.
    #[serde(skip)]
    longest: usize,
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
struct VocabularyDocument {
    words: Vec<VocabularyWord>,
}

impl<'de> Deserialize<'de> for Vocabulary {
    fn deserialize<D: Deserializer<'de>>(deserializer: D) -> Result<Vocabulary, D::Error> {
        let document = VocabularyDocument::deserialize(deserializer)?;
        Vocabulary::new(document.words).map_err(serde::de::Error::custom)
    }
}

/// What is heard for a word of the vocabulary.
struct VocabularyMatch {
    /// The first token, and the one behind the last.
    from: usize,
    to: usize,
    word: usize,
    likeness: f64,
}

impl Vocabulary {
    /// Words, ready for use.
    ///
    /// # Errors
    /// The first word that makes no sense.
    pub fn new(words: Vec<VocabularyWord>) -> Result<Vocabulary, RuleError> {
        if words.len() > MOST_WORDS {
            return Err(RuleError::new("/words", format!("has more than {MOST_WORDS} words")));
        }
        let forms: usize = words.iter().map(|word| word.grapheme.len() + word.alias.len() + word.phoneme.len()).sum();
        if forms > MOST_FORMS_OF_ALL {
            return Err(RuleError::new(
                "/words",
                format!("has more than {MOST_FORMS_OF_ALL} forms of all words together"),
            ));
        }
        let mut made = Vocabulary::default();
        for (index, word) in words.iter().enumerate() {
            word.check(&format!("/words/{index}"))?;
            let spelt = word.grapheme.iter().chain(&word.alias).chain(&word.written);
            for form in spelt {
                let form = keys(form);
                made.longest = made.longest.max(form.len());
                let sounds = Sounds::of_words(form.iter().map(String::as_str));
                made.sounds.push((index, sounds));
                made.forms.entry(form).or_insert(index);
            }
            made.sounds.extend(word.phoneme.iter().map(|ipa| (index, Sounds::of_ipa(ipa))));
        }
        made.sounds.retain(|(_, sounds)| sounds.len() >= LEAST_SOUNDS);
        Ok(Vocabulary { words, ..made })
    }

    /// The spellings, for engines that take hints.
    pub fn hints(&self) -> impl Iterator<Item = &str> {
        self.words.iter().map(VocabularyWord::in_writing)
    }

    /// What of a transcript is written differently.
    pub(super) fn spans(&self, transcript: &Transcript) -> Vec<WrittenSpan> {
        if self.words.is_empty() {
            return Vec::new();
        }
        let text = &transcript.text;
        let said = tokens(text);
        let sure = confidences(transcript, &said);
        let mut matches = Vec::new();
        let mut known: HashMap<Vec<&str>, Option<(usize, f64)>> = HashMap::new();
        for from in 0..said.len() {
            for to in from + 1..=(from + self.longest + MORE_HEARD).min(said.len()) {
                // A form does not reach over the end of a sentence.
                if to - from > 1 && ends_sentence(&text[said[to - 2].range.end..said[to - 1].range.start]) {
                    break;
                }
                let window: Vec<&str> = said[from..to].iter().map(|token| token.key.as_str()).collect();
                let found = *known.entry(window.clone()).or_insert_with(|| self.heard(&window));
                let Some((word, likeness)) = found else { continue };
                let certain = sure[from..to].iter().all(|sure| sure.is_some_and(|sure| sure >= SURE));
                if likeness >= LIKENESS_OF_SURE || !certain {
                    matches.push(VocabularyMatch { from, to, word, likeness });
                }
            }
        }
        matches.sort_by(|one, other| {
            other.likeness.total_cmp(&one.likeness).then((other.to - other.from).cmp(&(one.to - one.from)))
        });
        let mut taken = vec![false; said.len()];
        let mut spans = Vec::new();
        for VocabularyMatch { from, to, word, likeness } in matches {
            if taken[from..to].iter().any(|taken| *taken) {
                continue;
            }
            taken[from..to].fill(true);
            let range = said[from].range.start..said[to - 1].range.end;
            let written = self.words[word].in_writing();
            if text[range.clone()] != *written {
                let (by, likeness) = (ChangedBy::Vocabulary, Some(likeness));
                spans.push(WrittenSpan { range, written: written.to_owned(), by, likeness });
            }
        }
        spans.sort_by_key(|span| span.range.start);
        spans
    }

    /// The word that a row of words is heard for, and how alike they sound.
    fn heard(&self, window: &[&str]) -> Option<(usize, f64)> {
        let form: Vec<String> = window.iter().map(|key| (*key).to_owned()).collect();
        if let Some(word) = self.forms.get(&form) {
            return Some((*word, 1.0));
        }
        let sounds = Sounds::of_words(window.iter().copied());
        let candidates = self.sounds.iter();
        let alike = candidates.filter_map(|(word, own)| Some((*word, own.likeness(&sounds, LIKENESS)?)));
        let best = alike.max_by(|one, other| one.1.total_cmp(&other.1))?;
        let small = |key: Option<&&str>| window.len() > 1 && key.is_some_and(|key| SMALL.contains(key));
        let beside = usize::from(small(window.first())) + usize::from(small(window.last()));
        // A form that is heard as it is spelt is certain; nothing else is.
        let likeness = best.1.min(0.999) - SMALL_BESIDE * beside as f64;
        (likeness >= LIKENESS).then_some((best.0, likeness))
    }
}

fn ends_sentence(between: &str) -> bool {
    between.contains(['.', '?', '!', '。', '？', '！', '؟', '…', '[', ']'])
}

/// How sure the engine was of each token, where it says so.
fn confidences(transcript: &Transcript, said: &[SaidWord]) -> Vec<Option<f64>> {
    let places = places(transcript).unwrap_or_default();
    let of = |token: &SaidWord| {
        let within = places.partition_point(|place| place.end <= token.range.start);
        let place = places.get(within).filter(|place| place.start < token.range.end);
        place.and_then(|_| transcript.words[within].confidence)
    };
    said.iter().map(of).collect()
}

#[cfg(test)]
mod tests {
    use super::super::tests::heard;
    use super::*;

    fn vocabulary(words: &str) -> Vocabulary {
        serde_json::from_str(&format!(r#"{{"words": {words}}}"#)).expect("a vocabulary")
    }

    fn corrected(vocabulary: &Vocabulary, transcript: Transcript) -> String {
        let spans = vocabulary.spans(&transcript);
        super::super::rewrite(transcript, &spans).0.text
    }

    const NAMES: &str = r#"[{"grapheme": ["Gullsay"]}, {"grapheme": ["Skerrow"], "alias": ["care oh"]},
        {"grapheme": ["Ondina"], "phoneme": ["ɒnˈdiːnə"]}, {"grapheme": ["MV Tern"], "written": "M/V Tern"}]"#;

    #[test]
    fn names_are_found_by_their_sound_and_by_their_forms() {
        let names = vocabulary(NAMES);
        for (text, written) in [
            ("The boat to gull say is late.", "The boat to Gullsay is late."),
            ("The boat to gullsay is late.", "The boat to Gullsay is late."),
            ("from scare oh, and back", "from Skerrow, and back"),
            ("from care oh and back", "from Skerrow and back"),
            ("Ask on Dina about it", "Ask Ondina about it"),
            ("aboard mv tern", "aboard M/V Tern"),
            ("Gullsay and Skerrow", "Gullsay and Skerrow"),
            ("They were gull. Say no more.", "They were gull. Say no more."),
        ] {
            assert_eq!(corrected(&names, heard(text)), written, "{text}");
        }
    }

    /// Sentences of every day that have none of the names.
    #[test]
    fn ordinary_words_stay() {
        let names = vocabulary(NAMES);
        for text in [
            "The ramp is closing, stand clear of the doors.",
            "I would like two return tickets for tomorrow morning please.",
            "Could you tell me where the harbour office is?",
            "She scarcely said a word about the weather on Sunday.",
            "We saw a gull the other day, it was on the pier.",
            "Dinner is served on the upper deck until nine.",
        ] {
            assert_eq!(corrected(&names, heard(text)), text);
        }
    }

    /// Made-up names and the words of an English dictionary of pronunciations
    /// that come closest to how a synthesiser says them. None of them was used
    /// to find the constants above.
    #[test]
    fn names_are_found_behind_the_words_that_a_dictionary_has_for_them() {
        let heard_for = [
            ("Gullsay", ["guhl say", "cul say", "guhl c"]),
            ("Skerrow", ["scary", "schiro", "scow reaux"]),
            ("Ondina", ["on dana", "on danna", "andino"]),
            ("Pellin", ["pehl in", "beilin", "palin"]),
            ("Sabeen", ["sabine", "sapien", "soybean"]),
            ("Tarnwick", ["darn wick", "torn wick", "darn vic"]),
            ("Corvane", ["coar vain", "corvin", "caire vain"]),
            ("Melisund", ["melisse and", "melicent", "ma listened"]),
            ("Brackenholm", ["bracken holm", "blacken holm", "bracken hahm"]),
            ("Ferrendale", ["faron dail", "ferrand ail", "faron dahl"]),
            ("Linnoway", ["lin away", "lahn away", "lana way"]),
            ("Harrowmere", ["harrow mear", "hallow mear", "harr amir"]),
            ("Quillan", ["quill un", "quillin", "kwai luhn"]),
            ("Dunmarrow", ["done murrow", "daane murrow", "done maro"]),
            ("Vesperine", ["vesper reen", "vesper lean", "vess perren"]),
            ("Ostrava", ["aase traver", "aase trevor", "aced lava"]),
            ("Thornbeck", ["thorn bec", "thoen bec", "thorn baack"]),
            ("Illamar", ["il amor", "ahl amor", "il amer"]),
            ("Wexcombe", ["weck scam", "weck scheme", "vex calm"]),
            ("Sarrolin", ["sahr allin", "ceara lin", "cera lin"]),
            ("Pendrast", ["penned rast", "bend rast", "pen dressed"]),
            ("Calloway Point", ["callaway point", "calaway point", "callaway paint"]),
            ("Mirrenfall", ["marohn fall", "marron fall", "murr rainfall"]),
            ("Jossamy", ["jha sami", "cha sami", "gees amie"]),
            ("Tavistane", ["tavist aine", "tavist ahn", "davee stain"]),
            ("Keldrith", ["called writhe", "cared writhe", "heldreth"]),
            ("Ashgrove Landing", ["aggrieve landing", "agro landing", "agro blanding"]),
            ("Umberlee", ["um birley", "aim birley", "amber lea"]),
            ("Rosmadec", ["roz maddock", "laas maddock", "roz madog"]),
            ("Zennorick", ["zahnow ric", "zaino ric", "zeh norick"]),
        ];
        let words = heard_for.iter().map(|(name, _)| VocabularyWord {
            grapheme: vec![(*name).to_owned()],
            alias: Vec::new(),
            phoneme: Vec::new(),
            written: None,
        });
        let names = Vocabulary::new(words.collect()).expect("a vocabulary");
        let (mut found, mut wrong, mut all) = (0, 0, 0);
        for (name, forms) in heard_for {
            for form in forms {
                let made = corrected(&names, heard(&format!("please ask {form} about the tickets")));
                all += 1;
                found += usize::from(made == format!("please ask {name} about the tickets"));
                wrong += usize::from(heard_for.iter().any(|(other, _)| *other != name && made.contains(other)));
            }
        }
        assert!(found * 100 >= all * 90, "{found} of {all}");
        assert!(wrong * 50 <= all, "{wrong} of {all}");
    }

    #[test]
    fn what_the_engine_is_sure_of_must_sound_more_alike() {
        let names = vocabulary(r#"[{"grapheme": ["Pellin"]}]"#);
        let with = |confidence: f64| {
            let mut transcript = heard("ask Helen now");
            transcript.words.iter_mut().for_each(|word| word.confidence = Some(confidence));
            transcript
        };
        let likeness = Sounds::of_words(["pellin"]).likeness(&Sounds::of_words(["helen"]), 0.0).expect("some");
        assert!(likeness < LIKENESS_OF_SURE, "{likeness}");
        assert_eq!(corrected(&names, with(0.99)), "ask Helen now");
        let close = |confidence: f64| {
            let mut transcript = heard("ask pelling now");
            transcript.words.iter_mut().for_each(|word| word.confidence = Some(confidence));
            transcript
        };
        assert_eq!(corrected(&names, close(0.6)), "ask Pellin now");
    }

    #[test]
    fn words_that_make_no_sense_are_told_by_their_place() {
        let fault = |words: &str| {
            let document = format!(r#"{{"words": {words}}}"#);
            serde_json::from_str::<Vocabulary>(&document).map(drop).expect_err("a fault").to_string()
        };
        assert!(fault(r#"[{"grapheme": []}]"#).starts_with("/words/0/grapheme: is empty"));
        assert!(fault(r#"[{"grapheme": ["a"]}, {"grapheme": [" "]}]"#).starts_with("/words/1/grapheme/0: is empty"));
        assert!(fault(r#"[{"grapheme": ["a b c d e f g"]}]"#).contains("more than 6 words"));
        assert!(fault(r#"[{"grapheme": ["…"]}]"#).contains("no letter or digit"));
        assert!(fault(r#"[{"grapheme": ["a"], "phoneme": ["ˈ"]}]"#).starts_with("/words/0/phoneme/0"));
        assert!(fault(r#"[{"grapheme": ["a"], "sounds": "b"}]"#).contains("unknown field"));
    }
}
