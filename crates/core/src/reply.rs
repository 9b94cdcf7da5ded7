//! Incremental reader of the answers of reply hooks: plain text in UTF-8, or
//! server-sent events (HTML Living Standard, section 9.2.6). Deadlines and
//! speech are not here.

/// Form of an answer.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum ReplyForm {
    /// `text/plain`: the text itself.
    Text,
    /// `text/event-stream`: pieces of the text, each the data of an event.
    Events,
}

impl ReplyForm {
    /// Value of `Accept`.
    pub const ACCEPT: &str = "text/event-stream, text/plain;q=0.9";

    /// Form of a media type; parameters are ignored.
    pub fn of_media_type(media_type: &str) -> Option<ReplyForm> {
        let essence = media_type.split(';').next().unwrap_or_default().trim();
        match essence {
            _ if essence.eq_ignore_ascii_case("text/plain") => Some(ReplyForm::Text),
            _ if essence.eq_ignore_ascii_case("text/event-stream") => Some(ReplyForm::Events),
            _ => None,
        }
    }
}

/// Why an answer is refused.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[non_exhaustive]
pub enum ReplyFault {
    /// The answer is not UTF-8.
    #[error("its answer is not UTF-8")]
    NotText,
    /// The answer exceeds the limit, in characters.
    #[error("its answer has more than {0} characters")]
    TooLong(usize),
    /// A line or the data of an event is too long.
    #[error("its answer has a line of more than {MOST_LINE} bytes")]
    LongLine,
    /// The hook sent the event `error`.
    #[error("it reported: {0}")]
    Refused(String),
}

/// Most bytes of a line, and of the data of an event.
const MOST_LINE: usize = 64 << 10;
/// Most characters of a reported error.
const MOST_REFUSAL: usize = 300;

/// Reads an answer in chunks, which may be split anywhere.
#[derive(Debug)]
pub struct ReplyReader {
    form: ReplyForm,
    /// Incomplete UTF-8 sequence at the end of the last chunk.
    torn: Vec<u8>,
    /// Characters left within the limit.
    left: usize,
    most: usize,
    events: EventReader,
    ended: bool,
}

impl ReplyReader {
    /// Creates a reader that accepts at most `most` characters.
    pub fn new(form: ReplyForm, most: usize) -> ReplyReader {
        ReplyReader { form, torn: Vec::new(), left: most, most, events: EventReader::default(), ended: false }
    }

    /// Whether the event `end` was received.
    pub fn has_ended(&self) -> bool {
        self.ended
    }

    /// Reads a chunk and appends its text to `text`.
    ///
    /// # Errors
    /// Why the answer is refused; text before the fault has been appended.
    pub fn push(&mut self, bytes: &[u8], text: &mut String) -> Result<(), ReplyFault> {
        let known = self.decode(bytes)?;
        match self.form {
            ReplyForm::Text => self.append(&known, text),
            ReplyForm::Events => {
                for event in self.events.push(&known)? {
                    match event {
                        ReplyEvent::Piece(piece) => self.append(&piece, text)?,
                        ReplyEvent::End => self.ended = true,
                        ReplyEvent::Error(detail) => {
                            return Err(ReplyFault::Refused(detail.chars().take(MOST_REFUSAL).collect()));
                        }
                    }
                }
                Ok(())
            }
        }
    }

    /// Ends the answer.
    ///
    /// # Errors
    /// If it ends within a character.
    pub fn finish(&self) -> Result<(), ReplyFault> {
        if self.torn.is_empty() { Ok(()) } else { Err(ReplyFault::NotText) }
    }

    fn decode(&mut self, bytes: &[u8]) -> Result<String, ReplyFault> {
        self.torn.extend_from_slice(bytes);
        let whole = match std::str::from_utf8(&self.torn) {
            Ok(text) => text.len(),
            Err(error) if error.error_len().is_none() => error.valid_up_to(),
            Err(_) => return Err(ReplyFault::NotText),
        };
        let rest = self.torn.split_off(whole);
        String::from_utf8(std::mem::replace(&mut self.torn, rest)).map_err(|_| ReplyFault::NotText)
    }

    fn append(&mut self, piece: &str, text: &mut String) -> Result<(), ReplyFault> {
        for character in piece.chars() {
            self.left = self.left.checked_sub(1).ok_or(ReplyFault::TooLong(self.most))?;
            text.push(character);
        }
        Ok(())
    }
}

/// An event that has a meaning here.
#[derive(Debug, PartialEq, Eq)]
enum ReplyEvent {
    Piece(String),
    End,
    Error(String),
}

/// Parser of server-sent events.
#[derive(Debug, Default)]
struct EventReader {
    line: String,
    /// The last line ended with CR; a following LF is part of its end.
    after_return: bool,
    begun: bool,
    kind: String,
    data: Option<String>,
}

impl EventReader {
    fn push(&mut self, mut text: &str) -> Result<Vec<ReplyEvent>, ReplyFault> {
        if !self.begun {
            self.begun = !text.is_empty();
            text = text.strip_prefix('\u{feff}').unwrap_or(text);
        }
        let mut events = Vec::new();
        for character in text.chars() {
            let after_return = std::mem::take(&mut self.after_return);
            match character {
                '\n' if after_return => {}
                '\n' | '\r' => {
                    self.after_return = character == '\r';
                    let line = std::mem::take(&mut self.line);
                    events.extend(self.end_line(&line)?);
                }
                _ => {
                    if self.line.len() >= MOST_LINE {
                        return Err(ReplyFault::LongLine);
                    }
                    self.line.push(character);
                }
            }
        }
        Ok(events)
    }

    fn end_line(&mut self, line: &str) -> Result<Option<ReplyEvent>, ReplyFault> {
        if line.is_empty() {
            let (kind, data) = (std::mem::take(&mut self.kind), self.data.take());
            return Ok(match (kind.as_str(), data) {
                ("end", _) => Some(ReplyEvent::End),
                ("error", data) => Some(ReplyEvent::Error(data.unwrap_or_default())),
                ("" | "message", Some(data)) => Some(ReplyEvent::Piece(data)),
                _ => None,
            });
        }
        let (field, value) = line.split_once(':').unwrap_or((line, ""));
        let value = value.strip_prefix(' ').unwrap_or(value);
        match field {
            "event" => value.clone_into(&mut self.kind),
            "data" => match &mut self.data {
                None => self.data = Some(value.to_owned()),
                Some(data) if data.len() + value.len() > MOST_LINE => return Err(ReplyFault::LongLine),
                Some(data) => {
                    data.push('\n');
                    data.push_str(value);
                }
            },
            _ => {}
        }
        Ok(None)
    }
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    fn read(form: ReplyForm, pieces: &[&[u8]], most: usize) -> (String, Result<(), ReplyFault>, bool) {
        let mut reader = ReplyReader::new(form, most);
        let mut text = String::new();
        for piece in pieces {
            if let Err(fault) = reader.push(piece, &mut text) {
                return (text, Err(fault), reader.has_ended());
            }
        }
        (text, reader.finish(), reader.has_ended())
    }

    #[test]
    fn events_are_read_as_the_standard_says() {
        let stream = "\u{feff}: a comment\r\ndata: The ferry\r\n\r\nid: 7\ndata:  leaves\ndata:at ten.\n\n\
                      event: tide\ndata: high\n\nevent:message\rdata: Mind the step.\r\revent: end\n\n\
                      data: not told";
        let (text, end, ended) = read(ReplyForm::Events, &[stream.as_bytes()], 1_000);
        assert_eq!(text, "The ferry leaves\nat ten.Mind the step.");
        assert_eq!((end, ended), (Ok(()), true));
        let (text, end, _) = read(ReplyForm::Events, &[b"data: Well\n\nevent: error\ndata: no timetable\n\n"], 99);
        assert_eq!((text.as_str(), end), ("Well", Err(ReplyFault::Refused("no timetable".into()))));
    }

    #[test]
    fn what_is_too_long_or_no_text_ends_it_and_what_came_before_is_kept() {
        let (text, end, _) = read(ReplyForm::Text, &["The fähre leaves".as_bytes()], 9);
        assert_eq!((text.as_str(), end), ("The fähre", Err(ReplyFault::TooLong(9))));
        let (text, end, _) = read(ReplyForm::Text, &[b"Ahoy", b"\xff"], 9);
        assert_eq!((text.as_str(), end), ("Ahoy", Err(ReplyFault::NotText)));
        let (_, end, _) = read(ReplyForm::Text, &["Fä".as_bytes(), &"ä".as_bytes()[..1]], 9);
        assert_eq!(end, Err(ReplyFault::NotText), "half a character at the end");
        let long = vec![b'x'; MOST_LINE + 1];
        assert_eq!(read(ReplyForm::Events, &[&long], 9).1, Err(ReplyFault::LongLine));
        let many = "data: x\n".repeat(MOST_LINE);
        assert_eq!(read(ReplyForm::Events, &[many.as_bytes()], 9).1, Err(ReplyFault::LongLine));
    }

    #[test]
    fn a_form_is_found_whatever_its_parameters() {
        assert_eq!(ReplyForm::of_media_type("Text/Plain; charset=utf-8"), Some(ReplyForm::Text));
        assert_eq!(ReplyForm::of_media_type("text/event-stream"), Some(ReplyForm::Events));
        assert_eq!(ReplyForm::of_media_type("application/json"), None);
    }

    proptest! {
        /// A network cuts where it likes.
        #[test]
        fn pieces_may_be_cut_anywhere(
            lines in prop::collection::vec("(data: ?|event: end|: |id|\u{feff})?[a-zé漢\u{1f6a2} ]{0,6}", 0..12),
            ends in prop::collection::vec(prop::sample::select(vec!["\n", "\r", "\r\n", "\n\n"]), 12),
            cuts in prop::collection::vec(0usize..200, 0..8),
            events: bool,
        ) {
            let stream: String = lines.iter().zip(&ends).flat_map(|(line, end)| [line.as_str(), *end]).collect();
            let form = if events { ReplyForm::Events } else { ReplyForm::Text };
            let whole = read(form, &[stream.as_bytes()], 1_000);
            let mut cuts: Vec<usize> = cuts.into_iter().map(|cut| cut.min(stream.len())).collect();
            cuts.sort_unstable();
            cuts.push(stream.len());
            let mut from = 0;
            let pieces: Vec<&[u8]> = cuts.iter().map(|cut| &stream.as_bytes()[std::mem::replace(&mut from, *cut)..*cut]).collect();
            prop_assert_eq!(read(form, &pieces, 1_000), whole);
        }
    }
}
