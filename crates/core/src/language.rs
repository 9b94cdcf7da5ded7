//! Language tags (RFC 5646) and their matching (RFC 4647).

use oxilangtag::LanguageTag;

/// Whether the text is a well-formed language tag (RFC 5646, section 2.2.9);
/// whether its subtags are registered is not asked.
pub fn is_language_tag(tag: &str) -> bool {
    LanguageTag::parse(tag).is_ok()
}

/// Whether a tag is of a language that there is: its primary language is one of
/// ISO 639, or kept free for private use (`qaa` to `qtz`).
pub fn is_known_language(tag: &str) -> bool {
    let primary = primary_language(tag);
    let private = primary.len() == 3 && ("qaa"..="qtz").contains(&primary.as_str());
    is_language_tag(tag)
        && (private || isolang::Language::from_639_1(&primary).or(isolang::Language::from_639_3(&primary)).is_some())
}

/// The longest beginning of a text that is a tag: `en-us` of `en-us-nyc`, whose
/// last subtag is where none of three letters is allowed.
pub fn longest_tag(text: &str) -> Option<&str> {
    let ends = [text.len()].into_iter().chain(text.rmatch_indices('-').map(|(at, _)| at));
    ends.map(|end| &text[..end]).find(|tag| is_language_tag(tag))
}

/// A tag in the case that is recommended for each part (RFC 5646, section
/// 2.1.1): `fr-FR`, `zh-Hant-TW`; what is no tag in lower case.
pub fn canonical_tag(tag: &str) -> String {
    LanguageTag::parse_and_normalize(tag).map_or_else(|_| tag.to_ascii_lowercase(), LanguageTag::into_inner)
}

/// Whether a voice of the tag may serve where the range finds none in it
/// (lookup, RFC 4647, section 3.4): `sw` for `sw-KE`, and not `sw-TZ`.
pub fn is_fallback(range: &str, tag: &str) -> bool {
    let (range, tag) = (range.to_ascii_lowercase(), tag.to_ascii_lowercase());
    range.strip_prefix(&tag).is_some_and(|rest| rest.starts_with('-'))
}

/// The region of a tag in upper case, or nothing: `BR` of `pt-BR`, `419` of
/// `es-419` (RFC 5646, section 2.2.4).
pub fn region(tag: &str) -> String {
    LanguageTag::parse(tag).ok().and_then(|tag| tag.region().map(str::to_ascii_uppercase)).unwrap_or_default()
}

/// The primary language of a tag, in lower case.
pub fn primary_language(tag: &str) -> String {
    tag.split('-').next().unwrap_or_default().to_ascii_lowercase()
}

/// Extended filtering (RFC 4647, section 3.3.2): whether the tag is in the
/// range. `pt` takes in `pt-PT` and `pt-BR`, `*` every tag, `*-CH` each of
/// that region, and `de-DE` also `de-Latn-DE`.
pub fn extended_filter(range: &str, tag: &str) -> bool {
    let mut range = range.split('-');
    let mut tag = tag.split('-');
    match (range.next(), tag.next()) {
        (Some("*"), Some(_)) => {}
        (Some(wanted), Some(found)) if wanted.eq_ignore_ascii_case(found) => {}
        _ => return false,
    }
    for wanted in range {
        if wanted == "*" {
            continue;
        }
        loop {
            match tag.next() {
                None => return false,
                Some(found) if found.eq_ignore_ascii_case(wanted) => break,
                // A singleton begins an extension, which must not be skipped.
                Some(found) if found.len() == 1 => return false,
                Some(_) => {}
            }
        }
    }
    true
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_language_that_is_not_there_is_known_as_none() {
        let tags = ["en-GB", "gsw", "zh-Hant-TW", "qab-x-tide", "xx-bogus", "xx", "en_GB", "bogus", ""];
        let known = [true, true, true, true, false, false, false, false, false];
        assert_eq!(tags.map(is_known_language), known);
    }

    #[test]
    fn filters_as_in_the_example_of_rfc_4647() {
        // Section 3.3.2: "de-*-DE" (and so "de-DE") matches and does not match:
        for tag in ["de-DE", "de-de", "de-Latn-DE", "de-Latf-DE", "de-DE-x-goethe", "de-Latn-DE-1996", "de-Deva-DE"] {
            assert!(extended_filter("de-*-DE", tag) && extended_filter("de-DE", tag), "{tag}");
        }
        for tag in ["de", "de-x-DE", "de-Deva"] {
            assert!(!extended_filter("de-*-DE", tag) && !extended_filter("de-DE", tag), "{tag}");
        }
    }

    #[test]
    fn a_bare_language_takes_in_its_regions_and_a_star_everything() {
        assert!(extended_filter("pt", "pt-BR") && extended_filter("*", "ja-JP") && extended_filter("*-CH", "fr-CH"));
        assert!(!extended_filter("pt-PT", "pt") && !extended_filter("pt", "ptx"));
    }

    #[test]
    fn tags_have_one_case_and_a_wider_one_may_serve() {
        for (tag, canonical) in [
            ("fr-fr", "fr-FR"),
            ("ZH-hant-tw", "zh-Hant-TW"),
            ("es-419", "es-419"),
            ("EN", "en"),
            ("de-x-uk-berl", "de-x-uk-berl"),
        ] {
            assert_eq!(canonical_tag(tag), canonical, "{tag}");
        }
        for (tag, found) in [("pt-BR", "BR"), ("es-419", "419"), ("zh-Hant-tw", "TW"), ("en", ""), ("en-x-gb", "")] {
            assert_eq!(region(tag), found, "{tag}");
        }
        assert!(is_fallback("sw-KE", "sw") && is_fallback("zh-Hant-TW", "zh-Hant"));
        assert!(!is_fallback("sw-KE", "sw-TZ") && !is_fallback("sw", "sw") && !is_fallback("swx", "sw"));
    }

    #[test]
    fn knows_the_shape_of_a_tag() {
        assert!(is_language_tag("pt-PT") && is_language_tag("zh-Hant-TW") && is_language_tag("und"));
        for text in ["", "en_GB", "en-", "4n", "e", "en-us-nyc", "englishness", "en--GB", "en-a", "de-DE-DE"] {
            assert!(!is_language_tag(text), "{text}");
        }
        for tag in ["x-pier", "i-default", "sl-rozaj-biske", "de-CH-1901", "zh-yue-HK", "en-a-bbb-x-a"] {
            assert!(is_language_tag(tag), "{tag}");
        }
        assert_eq!(longest_tag("en-us-nyc"), Some("en-us"));
        assert_eq!((longest_tag("pt-BR"), longest_tag("4n-GB"), longest_tag("")), (Some("pt-BR"), None, None));
    }
}
