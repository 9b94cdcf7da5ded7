//! Limits on the silence that a document asks for: a few bytes must not
//! become hours of audio.

use super::values;
use crate::script::{Script, Tag};
use crate::{LONGEST_BREAK, LONGEST_SILENCE, MarkupError};

/// Refuses a break that is too long, and breaks that are too long together.
///
/// # Errors
/// At the first `<break>` beyond a limit.
pub(super) fn check(script: &Script<'_>) -> Result<(), MarkupError> {
    let mut total = 0.0;
    for element in script.elements().filter(|element| element.tag() == Tag::Break) {
        let Some(milliseconds) = element.get("time").and_then(values::time) else { continue };
        let fault = |message: String| Err(MarkupError::at(script.source, element.at(), message));
        if milliseconds > LONGEST_BREAK {
            return fault(format!("a break lasts {} s at most", LONGEST_BREAK / 1_000.0));
        }
        total += milliseconds;
        if total > LONGEST_SILENCE {
            return fault(format!("the breaks up to here last more than {} s together", LONGEST_SILENCE / 1_000.0));
        }
    }
    Ok(())
}

#[cfg(test)]
mod tests {
    use crate::read_ssml;

    fn read(body: &str) -> Result<(), (usize, usize, String)> {
        let document =
            format!("<speak version=\"1.1\" xmlns=\"{}\" xml:lang=\"en\">\n{body}</speak>", crate::reader::SSML);
        read_ssml(&document).map(drop).map_err(|error| (error.line, error.column, error.message))
    }

    #[test]
    fn a_break_and_all_breaks_together_have_a_limit_with_its_place() {
        assert_eq!(read("Wait. <break time=\"600s\"/> Go."), Ok(()));
        let long = read("Wait. <break time=\"999999999s\"/> Go.").expect_err("31 years");
        assert_eq!(long, (2, 7, "a break lasts 600 s at most".into()));
        let just = read("Wait. <break time=\"600001ms\"/> Go.").expect_err("a millisecond more");
        assert_eq!(just.1, 7);
        let six = "<break time=\"600s\"/>".repeat(6);
        assert_eq!(read(&format!("Wait.{six} Go.")), Ok(()));
        let more = read(&format!("Wait.{six} <break time=\"1ms\"/> Go.")).expect_err("an hour and more");
        assert!(more.2.contains("3600 s"), "{}", more.2);
    }
}
