//! Wishes for voices, from SSML 1.1's attributes (section 3.2.1).

use super::VoiceWish;
use crate::Element;

fn words(value: &str) -> Vec<String> {
    value.split_ascii_whitespace().map(str::to_owned).collect()
}

/// The wish of a `voice` element.
pub(super) fn wish_of(element: Element<'_>) -> VoiceWish {
    let languages = element.get("languages").or_else(|| element.get("xml:lang")).unwrap_or_default();
    let language = |one: &str| match one.split_once(':') {
        Some((tag, accent)) => (tag.to_owned(), Some(accent.to_owned())),
        None => (one.to_owned(), None),
    };
    VoiceWish {
        languages: languages.split_ascii_whitespace().map(language).collect(),
        gender: element.get("gender").filter(|gender| !gender.is_empty()).map(str::to_owned),
        age: element.get("age").and_then(|age| age.parse().ok()),
        variant: element.get("variant").and_then(|variant| variant.parse().ok()),
        names: words(element.get("name").unwrap_or_default()),
        required: element.get("required").map_or_else(|| vec!["languages".into()], words),
    }
}

/// Any voice that speaks a language.
pub(super) fn wish_for_language(tag: &str) -> VoiceWish {
    VoiceWish { languages: vec![(tag.to_owned(), None)], required: vec!["languages".into()], ..VoiceWish::default() }
}
