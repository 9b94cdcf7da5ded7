//! Language tags (RFC 5646) and their matching (RFC 4647).

/// Whether the text has the shape of a language tag: subtags of one to eight
/// letters or digits, the first of letters alone (RFC 5646, section 2.1).
pub fn is_language_tag(tag: &str) -> bool {
    let mut subtags = tag.split('-');
    let first = subtags.next().unwrap_or_default();
    let fits = |subtag: &str| (1..=8).contains(&subtag.len()) && subtag.bytes().all(|b| b.is_ascii_alphanumeric());
    first.bytes().all(|byte| byte.is_ascii_alphabetic()) && fits(first) && subtags.all(fits)
}

/// A tag in the case that is recommended for each part (RFC 5646, section
/// 2.1.1): `fr-FR`, `zh-Hant-TW`.
pub fn canonical_tag(tag: &str) -> String {
    let mut extension = false;
    let part = |(index, part): (usize, &str)| {
        let extended = extension;
        extension |= index > 0 && part.len() == 1;
        match part.len() {
            2 if index > 0 && !extended => part.to_ascii_uppercase(),
            4 if index > 0 && !extended && part.bytes().all(|byte| byte.is_ascii_alphabetic()) => {
                part[..1].to_ascii_uppercase() + &part[1..].to_ascii_lowercase()
            }
            _ => part.to_ascii_lowercase(),
        }
    };
    tag.split('-').enumerate().map(part).collect::<Vec<_>>().join("-")
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
    let is_region = |part: &&str| {
        part.len() == 2 && part.bytes().all(|byte| byte.is_ascii_alphabetic())
            || part.len() == 3 && part.bytes().all(|byte| byte.is_ascii_digit())
    };
    let parts = tag.split('-').skip(1).take_while(|part| part.len() > 1);
    parts.into_iter().find(is_region).unwrap_or_default().to_ascii_uppercase()
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
        assert!(!is_language_tag("") && !is_language_tag("en_GB") && !is_language_tag("en-") && !is_language_tag("4n"));
    }
}
