//! What language a text is in, by its letters and their neighbours.

use whatlang::{Detector, Lang};

use crate::lower::escape;

/// A language that a text is taken for.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Detected {
    /// BCP 47, without a region.
    pub tag: &'static str,
    /// 0 to 1.
    pub confidence: f64,
    /// Whether one may go by it.
    pub reliable: bool,
}

/// Languages by their shortest tags (ISO 639-1).
const TAGS: &[(Lang, &str)] = &[
    (Lang::Eng, "en"),
    (Lang::Por, "pt"),
    (Lang::Fra, "fr"),
    (Lang::Ara, "ar"),
    (Lang::Jpn, "ja"),
    (Lang::Deu, "de"),
    (Lang::Spa, "es"),
    (Lang::Ita, "it"),
    (Lang::Nld, "nl"),
    (Lang::Swe, "sv"),
    (Lang::Dan, "da"),
    (Lang::Nob, "nb"),
    (Lang::Fin, "fi"),
    (Lang::Pol, "pl"),
    (Lang::Ces, "cs"),
    (Lang::Slk, "sk"),
    (Lang::Hun, "hu"),
    (Lang::Ron, "ro"),
    (Lang::Bul, "bg"),
    (Lang::Hrv, "hr"),
    (Lang::Srp, "sr"),
    (Lang::Slv, "sl"),
    (Lang::Ell, "el"),
    (Lang::Rus, "ru"),
    (Lang::Ukr, "uk"),
    (Lang::Tur, "tr"),
    (Lang::Heb, "he"),
    (Lang::Pes, "fa"),
    (Lang::Hin, "hi"),
    (Lang::Ben, "bn"),
    (Lang::Tam, "ta"),
    (Lang::Tel, "te"),
    (Lang::Urd, "ur"),
    (Lang::Tha, "th"),
    (Lang::Vie, "vi"),
    (Lang::Ind, "id"),
    (Lang::Kor, "ko"),
    (Lang::Cmn, "zh"),
    (Lang::Cat, "ca"),
    (Lang::Lit, "lt"),
    (Lang::Lav, "lv"),
    (Lang::Est, "et"),
];

/// The language of a text among those of `among` (tags, of which the first
/// part counts; all that are known where it is empty). `None` if the text
/// has no letters to go by.
pub fn detect(text: &str, among: &[String]) -> Option<Detected> {
    let primary = |tag: &str| tag.split('-').next().unwrap_or_default().to_ascii_lowercase();
    let wanted: Vec<String> = among.iter().map(|tag| primary(tag)).collect();
    let allowed = TAGS.iter().filter(|(_, tag)| wanted.is_empty() || wanted.iter().any(|one| one == tag));
    let allowed: Vec<Lang> = allowed.map(|(lang, _)| *lang).collect();
    let found = Detector::with_allowlist(allowed).detect(text)?;
    let (_, tag) = TAGS.iter().find(|(lang, _)| *lang == found.lang())?;
    Some(Detected { tag, confidence: found.confidence(), reliable: found.is_reliable() })
}

/// Letters from which on a text shows its language.
const ENOUGH: usize = 30;
/// Characters of a text that are looked at.
const LOOKED_AT: usize = 2_000;
/// Confidence that counts as certainty.
const SURE: f64 = 0.95;

/// The language of a text that shows it beyond doubt; `None` for short and
/// doubtful ones.
pub fn evident(text: &str) -> Option<&'static str> {
    let start = text.char_indices().nth(LOOKED_AT).map_or(text, |(end, _)| &text[..end]);
    let letters = start.chars().filter(|c| c.is_alphabetic());
    // A writing of its own shows more in fewer signs than the Latin one.
    let latin = |c: char| (c as u32) < 0x250;
    let weight: usize = letters.map(|c| if latin(c) { 1 } else { 3 }).sum();
    if weight < ENOUGH {
        return None;
    }
    let found = detect(start, &[]).filter(|found| found.reliable && found.confidence >= SURE)?;
    Some(found.tag)
}

/// A text whose paragraphs are in several languages, as a document that names
/// them; `None` if they are in one. Paragraphs that tell nothing go with
/// the text as a whole.
pub fn by_paragraph(text: &str, whole: &str, among: &[String]) -> Option<String> {
    let paragraphs: Vec<&str> = text.split("\n\n").map(str::trim).filter(|part| !part.is_empty()).collect();
    let tags: Vec<&str> = paragraphs
        .iter()
        .map(|part| detect(part, among).filter(|found| found.reliable).map_or(whole, |found| found.tag))
        .collect();
    if tags.iter().all(|tag| *tag == whole) {
        return None;
    }
    let mut document = format!("<speak version=\"1.1\" xmlns=\"{}\" xml:lang=\"{whole}\">\n", crate::reader::SSML);
    for (part, tag) in paragraphs.iter().zip(tags) {
        document += &format!("<p xml:lang=\"{tag}\">");
        escape(part, &mut document);
        document += "</p>\n";
    }
    Some(document + "</speak>")
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn sentences_of_the_demo_are_told_apart() {
        let here: Vec<String> = ["en-GB", "pt-PT", "fr-FR", "ar", "ja"].map(str::to_owned).to_vec();
        for (text, tag) in [
            ("The 06:15 to Gullsay is delayed by twenty minutes.", "en"),
            ("A partida das 6h15 para Gullsay está atrasada vinte minutos.", "pt"),
            ("Le départ de 6 h 15 pour Gullsay a vingt minutes de retard.", "fr"),
            ("تأخرت رحلة الساعة السادسة والربع عشرين دقيقة", "ar"),
            ("六時十五分の便は二十分遅れています。", "ja"),
        ] {
            assert_eq!(detect(text, &here).map(|found| found.tag), Some(tag), "{text}");
        }
        assert_eq!(detect("12:30 – 4", &here), None);
    }

    #[test]
    fn a_language_is_evident_only_in_a_text_that_shows_it() {
        for (text, tag) in [
            ("O barco para Gullsay parte do cais dois, e a porta fecha cinco minutos antes da partida.", Some("pt")),
            ("Le départ de 6 h 15 pour Gullsay a vingt minutes de retard, veuillez patienter.", Some("fr")),
            ("六時十五分の便は二十分遅れています。", Some("ja")),
            ("The ferry to Gullsay leaves from berth two, and the gate closes five minutes before.", Some("en")),
            ("Berth 2", None),
            ("Gullsay", None),
            ("Sabeen Ondina", None),
            ("12:30 – 4", None),
        ] {
            assert_eq!(evident(text), tag, "{text}");
        }
    }

    #[test]
    fn paragraphs_of_several_languages_become_a_document() {
        let text = "The ferry to Gullsay leaves from berth two, and the gate closes five minutes before.\n\n\
                    O barco para Gullsay parte do cais dois, e a porta fecha cinco minutos antes da partida. R&R";
        let document = by_paragraph(text, "en", &[]).expect("two languages");
        assert!(document.contains("<p xml:lang=\"en\">The ferry") && document.contains("<p xml:lang=\"pt\">O barco"));
        assert!(document.contains("R&amp;R") && crate::read_ssml(&document).is_ok(), "{document}");
        assert_eq!(by_paragraph("One paragraph, and nothing else, in English.", "en", &[]), None);
    }
}
