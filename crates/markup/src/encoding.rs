//! Bytes to text: which encoding they are in, and what they say in it.

use std::borrow::Cow;

use encoding_rs::{Encoding, UTF_8, UTF_16BE, UTF_16LE};
use serde::{Deserialize, Serialize};

/// Bytes that an XML declaration is looked for in.
const DECLARATION: usize = 256;

/// Why bytes are no text.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error, Serialize, Deserialize)]
#[non_exhaustive]
pub enum EncodingError {
    /// The byte, from 0, at which UTF-8 ends.
    #[error("byte {0} is not UTF-8; save the text as UTF-8, or as UTF-16 with a byte order mark")]
    NotUtf8(usize),
    /// Not valid in the declared encoding, which is named.
    #[error("the content is not valid {0}, its declared type")]
    Invalid(Cow<'static, str>),
    /// The declared encoding is not one of the WHATWG Encoding Standard.
    #[error("the encoding '{0}' is not known; use UTF-8")]
    Unknown(String),
}

/// Decodes a text. Its encoding is, in this order (RFC 7303, section 3; XML
/// 1.0, appendix F): that of its byte order mark, the one that the sender
/// declares (`charset` of a media type), that of its XML declaration, UTF-8.
/// The result has no byte order mark.
///
/// # Errors
/// When the encoding is unknown, or the bytes are not valid in it.
pub fn decode_text<'b>(bytes: &'b [u8], charset: Option<&str>) -> Result<Cow<'b, str>, EncodingError> {
    let (encoding, bytes) = match Encoding::for_bom(bytes) {
        Some((encoding, length)) => (encoding, &bytes[length..]),
        None => (declared(bytes, charset)?, bytes),
    };
    if encoding == UTF_8 {
        let text = std::str::from_utf8(bytes).map_err(|error| EncodingError::NotUtf8(error.valid_up_to()))?;
        return Ok(Cow::Borrowed(text));
    }
    let text = encoding.decode_without_bom_handling_and_without_replacement(bytes);
    let text = text.ok_or(EncodingError::Invalid(encoding.name().into()))?;
    // `UTF-16` alone may have its mark behind the one that was looked for.
    Ok(Cow::Owned(text.trim_start_matches('\u{feff}').to_owned()))
}

fn declared(bytes: &[u8], charset: Option<&str>) -> Result<&'static Encoding, EncodingError> {
    if let Some(label) = charset.map(str::trim).filter(|label| !label.is_empty()) {
        return Encoding::for_label(label.as_bytes()).ok_or_else(|| EncodingError::Unknown(label.into()));
    }
    match bytes {
        [b'<', 0, b'?', 0, ..] => return Ok(UTF_16LE),
        [0, b'<', 0, b'?', ..] => return Ok(UTF_16BE),
        [b'<', b'?', b'x', b'm', b'l', ..] => {}
        _ => return Ok(UTF_8),
    }
    let start = &bytes[..bytes.len().min(DECLARATION)];
    let declaration = start.split(|byte| *byte == b'>').next().unwrap_or_default();
    let declaration = String::from_utf8_lossy(declaration).into_owned();
    let Some((_, after)) = declaration.split_once("encoding") else { return Ok(UTF_8) };
    let label = after.trim_start_matches(|c: char| c.is_ascii_whitespace() || matches!(c, '=' | '"' | '\''));
    let label = label.split(['"', '\'', ' ', '?']).next().unwrap_or_default();
    match Encoding::for_label(label.as_bytes()) {
        // An ASCII declaration in a document of two-byte units is not read here.
        Some(encoding) if encoding == UTF_16BE || encoding == UTF_16LE => Ok(UTF_8),
        Some(encoding) => Ok(encoding),
        None => Err(EncodingError::Unknown(label.into())),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn wide(text: &str, mark: bool, bytes: fn(u16) -> [u8; 2]) -> Vec<u8> {
        let mark = mark.then_some(0xFEFF);
        mark.into_iter().chain(text.encode_utf16()).flat_map(bytes).collect()
    }

    #[test]
    fn the_mark_comes_before_what_is_declared_and_that_before_the_document() {
        let text = "<?xml version=\"1.0\" encoding=\"UTF-16\"?><speak>Fähre</speak>";
        for (bytes, charset) in [
            (wide(text, true, u16::to_le_bytes), None),
            (wide(text, true, u16::to_be_bytes), None),
            (wide(text, true, u16::to_be_bytes), Some("utf-8")),
            (wide(text, false, u16::to_le_bytes), None),
            (wide(text, false, u16::to_be_bytes), None),
            (wide(text, false, u16::to_be_bytes), Some("utf-16be")),
            (text.as_bytes().to_vec(), None),
            (text.as_bytes().to_vec(), Some("UTF-8")),
            ([b"\xEF\xBB\xBF", text.as_bytes()].concat(), Some("iso-8859-1")),
        ] {
            assert_eq!(decode_text(&bytes, charset).as_deref(), Ok(text), "{charset:?} {:?}", &bytes[..4]);
        }
        let latin = "<?xml version='1.0' encoding='ISO-8859-1'?><speak>F\u{e4}hre</speak>";
        let bytes: Vec<u8> = latin.chars().map(|c| u8::try_from(u32::from(c)).expect("latin")).collect();
        assert_eq!(decode_text(&bytes, None).as_deref(), Ok(latin));
        assert_eq!(decode_text(b"F\xE4hre", Some("iso-8859-1")).as_deref(), Ok("Fähre"));
    }

    #[test]
    fn bytes_that_are_no_text_are_refused() {
        assert_eq!(decode_text(b"F\xE4hre", None), Err(EncodingError::NotUtf8(1)));
        assert_eq!(decode_text(b"a", Some("marsh-8")), Err(EncodingError::Unknown("marsh-8".into())));
        assert_eq!(decode_text(b"\xFF\xFEa", None), Err(EncodingError::Invalid("UTF-16LE".into())));
    }
}
