//! Addresses that a script names: of sounds and lexicons.

use crate::script::{Script, Tag, WalkStep};

/// The content at a URL.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub enum ReferenceKind {
    /// A pronunciation lexicon (`lexicon`).
    Lexicon,
    /// A recording (`audio`).
    Sound,
}

/// Something beside the script that it asks for.
#[derive(Debug, Clone, PartialEq)]
pub struct Reference {
    /// What is expected at the address.
    pub kind: ReferenceKind,
    /// Resolved against `xml:base`.
    pub address: String,
    /// Milliseconds within which it is to be had.
    pub timeout: Option<f64>,
}

impl Script<'_> {
    /// What the script names beside its text, each once, in document order.
    pub fn references(&self) -> Vec<Reference> {
        let mut found: Vec<Reference> = Vec::new();
        let mut bases: Vec<Option<String>> = vec![None];
        for item in &self.items {
            let element = match item.step() {
                WalkStep::Open(number) => self.element(number),
                WalkStep::Close => {
                    bases.pop();
                    continue;
                }
                _ => continue,
            };
            let outer = bases.last().cloned().flatten();
            let base = element.get("xml:base").map(|base| join(outer.as_deref(), base)).or(outer);
            let named = match element.tag() {
                Tag::Lexicon => element.get("uri").map(|uri| (ReferenceKind::Lexicon, uri)),
                Tag::Audio => element.get("src").map(|src| (ReferenceKind::Sound, src)),
                _ => None,
            };
            if let Some((kind, address)) = named {
                let address = join(base.as_deref(), address);
                let timeout = element.get("fetchtimeout").and_then(crate::read_time);
                if !found.iter().any(|known| known.kind == kind && known.address == address) {
                    found.push(Reference { kind, address, timeout });
                }
            }
            bases.push(base);
        }
        found
    }
}

/// An address resolved against a base (RFC 3986, section 5.2, for the forms
/// that documents use: absolute, from the root, relative).
pub(crate) fn join(base: Option<&str>, address: &str) -> String {
    let absolute = address.split_once(':').is_some_and(|(scheme, _)| {
        scheme.starts_with(|c: char| c.is_ascii_alphabetic())
            && scheme.bytes().all(|b| b.is_ascii_alphanumeric() || b"+-.".contains(&b))
    });
    let Some(base) = base.filter(|_| !absolute) else { return address.to_owned() };
    let host_end = base.find("://").map(|at| base[at + 3..].find('/').map_or(base.len(), |slash| at + 3 + slash));
    let scheme = base.split_once(':').map_or("", |(scheme, _)| scheme);
    if address.starts_with("//") {
        format!("{scheme}:{address}")
    } else if address.starts_with('/') {
        format!("{}{address}", &base[..host_end.unwrap_or(0)])
    } else {
        let host_end = host_end.unwrap_or(0);
        let folder = base[host_end..].rfind('/').map_or(base.len(), |slash| host_end + slash);
        format!("{}/{address}", &base[..folder])
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn addresses_are_resolved_against_their_base() {
        for (base, address, whole) in [
            (None, "gong.wav", "gong.wav"),
            (Some("http://h.example/a/b.ssml"), "gong.wav", "http://h.example/a/gong.wav"),
            (Some("http://h.example/a/"), "x/gong.wav", "http://h.example/a/x/gong.wav"),
            (Some("http://h.example/a/b"), "/gong.wav", "http://h.example/gong.wav"),
            (Some("http://h.example"), "gong.wav", "http://h.example/gong.wav"),
            (Some("http://h.example/a/"), "https://o.example/g.wav", "https://o.example/g.wav"),
        ] {
            assert_eq!(join(base, address), whole);
        }
    }

    #[test]
    fn what_a_script_names_is_found_once_with_its_base() {
        let script = crate::read_ssml(
            "<speak version=\"1.1\" xmlns=\"http://www.w3.org/2001/10/synthesis\" xml:lang=\"en\" xml:base=\"http://h.example/a/\">
             <lexicon uri=\"/names.pls\" xml:id=\"n\"/><audio src=\"gong.wav\"/><p xml:base=\"b/\"><audio src=\"gong.wav\"
             fetchtimeout=\"2s\"/>x</p><audio src=\"gong.wav\"/></speak>",
        )
        .expect("a script");
        let found: Vec<_> = script.references().into_iter().map(|it| (it.kind, it.address, it.timeout)).collect();
        let at = |kind, address: &str, timeout| (kind, address.to_owned(), timeout);
        let expected = [
            at(ReferenceKind::Lexicon, "http://h.example/names.pls", None),
            at(ReferenceKind::Sound, "http://h.example/a/gong.wav", None),
            at(ReferenceKind::Sound, "http://h.example/a/b/gong.wav", Some(2_000.0)),
        ];
        assert_eq!(found, expected);
    }
}
