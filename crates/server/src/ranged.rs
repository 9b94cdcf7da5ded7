//! Kept bytes: whole, in part, or not at all where the caller has them
//! (RFC 9110, sections 13 and 14).

use std::io::{Seek as _, SeekFrom};
use std::ops::Range;

use bytes::Bytes;
use rocket::http::Status;
use rocket::request::Request;
use rocket::response::{self, Responder, Response};
use tokio::io::AsyncReadExt as _;

/// Bytes that never change under their name.
pub(crate) struct ImmutableFile {
    pub(crate) bytes: Bytes,
    pub(crate) content_type: String,
    pub(crate) name: String,
    /// Without its quotes.
    pub(crate) tag: String,
}

/// The range that a `Range` field requests of a number of bytes: one range, or `Err` where it
/// is outside. Anything else is answered whole, as the standard allows.
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

/// Whether `If-None-Match` names an entity tag, by weak comparison (RFC 9110,
/// section 13.1.2).
fn names(field: &str, tag: &str) -> bool {
    let opaque = |one: &str| one.trim().trim_start_matches("W/") == tag;
    field.trim() == "*" || field.split(',').any(opaque)
}

impl<'r> Responder<'r, 'static> for ImmutableFile {
    fn respond_to(self, request: &'r Request<'_>) -> response::Result<'static> {
        let field = |name: &str| request.headers().get_one(name);
        let tag = format!("\"{}\"", self.tag);
        let length = self.bytes.len();
        let mut response = Response::build();
        response.raw_header("ETag", tag.clone());
        response.raw_header("Cache-Control", "private, max-age=31536000, immutable");
        response.raw_header("Accept-Ranges", "bytes");
        if field("If-None-Match").is_some_and(|given| names(given, &tag)) {
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

/// A file on its way.
pub(crate) struct Sent {
    file: std::fs::File,
    content_type: String,
    name: String,
    /// Whether it is synthetic speech, and not what a person said.
    synthetic: bool,
    /// Parts of it may be asked for: its bytes stay as they are.
    ranges: bool,
}

impl Sent {
    pub(crate) async fn of(file: tokio::fs::File, content_type: String, name: String, synthetic: bool) -> Sent {
        Sent { file: file.into_std().await, content_type, name, synthetic, ranges: false }
    }

    /// Lets callers ask for a part.
    pub(crate) fn with_ranges(self) -> Sent {
        Sent { ranges: true, ..self }
    }

    /// Tells these bytes from others under the same name.
    fn tag(metadata: &std::fs::Metadata) -> String {
        use std::os::unix::fs::MetadataExt as _;
        format!("\"{:x}-{:x}-{:x}\"", metadata.len(), metadata.mtime(), metadata.mtime_nsec())
    }
}

impl<'r> Responder<'r, 'static> for Sent {
    fn respond_to(self, request: &'r Request<'_>) -> response::Result<'static> {
        let field = |name: &str| request.headers().get_one(name);
        let Sent { mut file, content_type, name, synthetic, ranges } = self;
        let metadata = file.metadata().map_err(|_| Status::InternalServerError)?;
        let length = metadata.len();
        let mut response = Response::build();
        response.raw_header("Content-Type", content_type);
        response.raw_header("Content-Disposition", format!("inline; filename=\"{name}\""));
        if synthetic {
            response.raw_header("Dispatch-Synthetic", "?1");
        }
        let mut part = None;
        if ranges {
            let tag = Sent::tag(&metadata);
            let ranged = field("If-Range").is_none_or(|given| given.trim() == tag);
            response.raw_header("Accept-Ranges", "bytes");
            response.raw_header("ETag", tag);
            let Ok(asked) = asked(field("Range").filter(|_| ranged), usize::try_from(length).unwrap_or(usize::MAX))
            else {
                response.raw_header("Content-Range", format!("bytes */{length}"));
                return response.status(Status::RangeNotSatisfiable).ok();
            };
            part = asked;
        }
        response.max_chunk_size(64 << 10);
        match part {
            None => response.sized_body(None, tokio::fs::File::from_std(file)).ok(),
            Some(range) => {
                let (start, size) = (range.start as u64, range.len() as u64);
                file.seek(SeekFrom::Start(start)).map_err(|_| Status::InternalServerError)?;
                response.status(Status::PartialContent);
                response.raw_header("Content-Range", format!("bytes {start}-{}/{length}", range.end - 1));
                response.raw_header("Content-Length", size.to_string());
                response.streamed_body(tokio::fs::File::from_std(file).take(size)).ok()
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn only_what_the_caller_has_already_is_not_sent_again() {
        for (field, same) in [
            ("\"b-2\"", true),
            ("W/\"b-2\"", true),
            ("\"a-1\", \"b-2\"", true),
            ("*", true),
            ("\"b-1\"", false),
            ("\"a-1\", \"c-3\"", false),
            ("b-2", false),
            ("", false),
        ] {
            assert_eq!(names(field, "\"b-2\""), same, "{field}");
        }
    }

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
