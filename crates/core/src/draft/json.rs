//! Where the values of a JSON text lie, so that single ones can be replaced
//! and everything else stays byte for byte.

use std::ops::Range;

/// A string, number or truth value, with the names that lead to it.
#[derive(Debug, Clone, PartialEq)]
pub(super) struct Leaf {
    pub(super) path: Vec<String>,
    /// Quotes included.
    pub(super) span: Range<usize>,
    pub(super) value: serde_json::Value,
}

/// The leaves of a JSON text; empty if it is not JSON.
pub(super) fn leaves(text: &str) -> Option<Vec<Leaf>> {
    serde_json::from_str::<serde_json::Value>(text).ok()?;
    let mut reader = JsonReader { text, at: 0, path: Vec::new(), leaves: Vec::new() };
    reader.value()?;
    Some(reader.leaves)
}

/// Walks a text that is known to be JSON.
struct JsonReader<'a> {
    text: &'a str,
    at: usize,
    path: Vec<String>,
    leaves: Vec<Leaf>,
}

impl JsonReader<'_> {
    fn skip(&mut self) {
        let rest = &self.text[self.at..];
        self.at += rest.len() - rest.trim_start_matches([' ', '\t', '\n', '\r', ',', ':']).len();
    }

    fn token(&mut self) -> Option<Range<usize>> {
        let bytes = self.text.as_bytes();
        let start = self.at;
        if bytes.get(start) == Some(&b'"') {
            let mut at = start + 1;
            while *bytes.get(at)? != b'"' {
                at += if bytes[at] == b'\\' { 2 } else { 1 };
            }
            self.at = at + 1;
        } else {
            let rest = &self.text[start..];
            self.at += rest.find([',', '}', ']', ' ', '\t', '\n', '\r']).unwrap_or(rest.len());
        }
        Some(start..self.at)
    }

    fn value(&mut self) -> Option<()> {
        self.skip();
        match self.text.as_bytes().get(self.at)? {
            b'{' => self.members(b'}'),
            b'[' => self.members(b']'),
            _ => {
                let span = self.token()?;
                let value = serde_json::from_str(&self.text[span.clone()]).ok()?;
                self.leaves.push(Leaf { path: self.path.clone(), span, value });
                Some(())
            }
        }
    }

    fn members(&mut self, end: u8) -> Option<()> {
        self.at += 1;
        loop {
            self.skip();
            if *self.text.as_bytes().get(self.at)? == end {
                self.at += 1;
                return Some(());
            }
            let named = end == b'}';
            if named {
                let name = self.token()?;
                self.path.push(serde_json::from_str(&self.text[name]).ok()?);
            }
            self.value()?;
            if named {
                self.path.pop();
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn leaves_are_found_where_they_lie() {
        let text = "{ \"a\": {\"b\" : \"x\\\"y\"}, \"c\":[1, \"z\"], \"d\":true }";
        let found = leaves(text).expect("JSON");
        let told: Vec<(String, &str)> =
            found.iter().map(|leaf| (leaf.path.join("."), &text[leaf.span.clone()])).collect();
        assert_eq!(
            told,
            [("a.b".to_owned(), "\"x\\\"y\""), ("c".into(), "1"), ("c".into(), "\"z\""), ("d".into(), "true")]
        );
        assert_eq!(found[0].value, "x\"y");
        assert!(leaves("{\"a\": }").is_none());
    }
}
