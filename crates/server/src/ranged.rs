//! Kept bytes: whole, in part, or not at all where the caller has them
//! (RFC 9110, sections 13 and 14).

use std::ops::Range;

use bytes::Bytes;
use rocket::http::Status;
use rocket::request::Request;
use rocket::response::{self, Responder, Response};

/// Bytes that never change under their name.
pub(crate) struct Kept {
    pub(crate) bytes: Bytes,
    pub(crate) content_type: String,
    pub(crate) name: String,
    /// Without its quotes.
    pub(crate) tag: String,
}

/// What a `Range` field asks of so many bytes: one range, or `Err` where it
/// lies outside. Anything else is answered whole, as the standard allows.
fn asked(field: Option<&str>, length: usize) -> Result<Option<Range<usize>>, ()> {
    let Some(spec) = field.and_then(|field| field.trim().strip_prefix("bytes=")) else { return Ok(None) };
    let Some((first, last)) = spec.split_once('-').filter(|_| !spec.contains(',')) else { return Ok(None) };
    let range = match (first.trim().parse::<usize>(), last.trim().parse::<usize>()) {
        (Ok(first), Ok(last)) if first <= last => first..last.saturating_add(1).min(length),
        (Ok(first), Err(_)) if last.trim().is_empty() => first..length,
        (Err(_), Ok(count)) if first.trim().is_empty() => length.saturating_sub(count)..length,
        _ => return Ok(None),
    };
    if range.start >= range.end { Err(()) } else { Ok(Some(range)) }
}

impl<'r> Responder<'r, 'static> for Kept {
    fn respond_to(self, request: &'r Request<'_>) -> response::Result<'static> {
        let field = |name: &str| request.headers().get_one(name);
        let tag = format!("\"{}\"", self.tag);
        let length = self.bytes.len();
        let mut response = Response::build();
        response.raw_header("ETag", tag.clone());
        response.raw_header("Cache-Control", "private, max-age=31536000, immutable");
        response.raw_header("Accept-Ranges", "bytes");
        let known = |field: &str| field.trim() == "*" || field.split(',').any(|one| one.trim() == tag);
        if field("If-None-Match").is_some_and(known) {
            return response.status(Status::NotModified).ok();
        }
        response.raw_header("Content-Type", self.content_type);
        response.raw_header("Content-Disposition", format!("inline; filename=\"{}\"", self.name));
        // A part of what the caller has must be of the same bytes.
        let ranged = field("If-Range").is_none_or(|given| given.trim() == tag);
        let part = match asked(field("Range").filter(|_| ranged), length) {
            Err(()) => {
                response.raw_header("Content-Range", format!("bytes */{length}"));
                return response.status(Status::RangeNotSatisfiable).ok();
            }
            Ok(None) => self.bytes,
            Ok(Some(range)) => {
                response.raw_header("Content-Range", format!("bytes {}-{}/{length}", range.start, range.end - 1));
                response.status(Status::PartialContent);
                self.bytes.slice(range)
            }
        };
        response.sized_body(part.len(), std::io::Cursor::new(part)).ok()
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn one_range_is_given_and_what_is_no_range_is_passed_over() {
        for (field, answer) in [
            ("bytes=0-0", Ok(Some(0..1))),
            ("bytes=2-", Ok(Some(2..10))),
            ("bytes=-3", Ok(Some(7..10))),
            ("bytes=-30", Ok(Some(0..10))),
            ("bytes=4-99", Ok(Some(4..10))),
            ("bytes=10-", Err(())),
            ("bytes=-0", Err(())),
            ("bytes=5-4", Ok(None)),
            ("bytes=0-1,3-4", Ok(None)),
            ("words=0-1", Ok(None)),
            ("bytes=a-b", Ok(None)),
        ] {
            assert_eq!(asked(Some(field), 10), answer, "{field}");
        }
        assert_eq!(asked(None, 10), Ok(None));
    }
}
