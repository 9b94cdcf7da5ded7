//! Lines of a dialogue, as a script.

use crate::lower::escape;
use crate::{LONGEST_BREAK, read_time};

/// What one voice says.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct DialogueLine {
    /// The words of the line; plain text, without markup.
    pub text: String,
    /// A voice; that of the script unless given.
    pub voice: Option<String>,
    /// The language of the line (BCP 47); that of the script unless given.
    pub language: Option<String>,
    /// Silence before it, as SSML writes times; with a minus, how much earlier
    /// it begins than the line before it ends.
    pub gap: Option<String>,
}

/// Milliseconds by which two lines may overlap.
pub const MOST_OVERLAP: f64 = 5_000.0;

/// Which line cannot be, from 0, and why.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[error("line {}: {what}", .at + 1)]
pub struct LineFault {
    /// The line, counted from 0.
    pub at: usize,
    /// What is wrong with it.
    pub what: String,
}

/// A document of lines, each in a line of its own.
///
/// # Errors
/// The first line without text, or whose gap is no time.
pub fn dialogue(lines: &[DialogueLine], language: Option<&str>) -> Result<String, LineFault> {
    let attribute = |text: &str| {
        let mut escaped = String::new();
        escape(text, &mut escaped);
        escaped.replace('"', "&quot;")
    };
    let tongue =
        |language: Option<&str>| language.map(|tag| format!(" xml:lang=\"{}\"", attribute(tag))).unwrap_or_default();
    let overlaps = lines.iter().any(|line| line.gap.as_ref().is_some_and(|gap| gap.trim().starts_with('-')));
    let own = if overlaps { format!(" xmlns:d=\"{}\"", crate::reader::OWN) } else { String::new() };
    let ssml = crate::reader::SSML;
    let mut document = format!("<speak version=\"1.1\" xmlns=\"{ssml}\"{own}{}>", tongue(language));
    for (at, line) in lines.iter().enumerate() {
        let fault = |what: String| LineFault { at, what };
        if line.text.trim().is_empty() {
            return Err(fault("there is no text".into()));
        }
        document.push('\n');
        if let Some(gap) = &line.gap {
            let (element, time) = match gap.trim().strip_prefix('-') {
                Some(time) => ("d:overlap", time),
                None => ("break", gap.trim()),
            };
            let Some(milliseconds) = read_time(time).filter(|_| !time.starts_with('+')) else {
                return Err(fault(format!("the gap '{gap}' is no time, such as 300ms, 1.5s or -200ms")));
            };
            if element != "break" && (at == 0 || milliseconds > MOST_OVERLAP) {
                let most = MOST_OVERLAP / 1_000.0;
                return Err(fault(format!(
                    "the gap '{gap}': lines overlap by {most} s at most, and the first by none"
                )));
            }
            if milliseconds > LONGEST_BREAK {
                let most = LONGEST_BREAK / 1_000.0;
                return Err(fault(format!("the gap '{gap}': a gap lasts {most} s at most")));
            }
            document += &format!("<{element} time=\"{}\"/>", attribute(time));
        }
        let voice =
            line.voice.as_deref().map(|voice| format!("<voice name=\"{}\" required=\"name\">", attribute(voice)));
        // `voice` has no language of its own in SSML 1.1.
        let lang = line.language.as_deref().map(|tag| format!("<lang{}>", tongue(Some(tag))));
        let sentence = (voice.is_none() && lang.is_none()).then(|| "<s>".to_owned());
        let elements = [(voice, "</voice>"), (lang, "</lang>"), (sentence, "</s>")];
        elements.iter().filter_map(|(open, _)| open.as_deref()).for_each(|open| document += open);
        escape(&line.text, &mut document);
        elements.iter().rev().filter(|(open, _)| open.is_some()).for_each(|(_, close)| document += close);
    }
    Ok(document + "\n</speak>")
}

#[cfg(test)]
mod tests {
    use super::*;

    struct Nobody;
    impl crate::Choices for Nobody {}

    #[test]
    fn lines_become_a_script_that_is_sound() {
        let line = |text: &str, voice: Option<&str>, gap: Option<&str>| DialogueLine {
            text: text.into(),
            voice: voice.map(str::to_owned),
            language: None,
            gap: gap.map(str::to_owned),
        };
        let lines =
            [line("All aboard & welcome.", Some("heron/pellin"), None), line("Thank you.", None, Some("300ms"))];
        let document = dialogue(&lines, Some("en-GB")).expect("a document");
        let script = crate::read_ssml(&document).expect("sound");
        assert_eq!(script.plain_text(), "All aboard & welcome. Thank you.");
        assert_eq!(script.language.as_deref(), Some("en-GB"));
        let line_in =
            |voice: Option<&str>| DialogueLine { language: Some("pt-PT".into()), ..line("Bom dia.", voice, None) };
        let document = dialogue(&[line_in(Some("heron/pellin")), line_in(None)], Some("en-GB")).expect("a document");
        let script = crate::read_ssml(&document).expect("a voice and a language in one line");
        assert_eq!(
            script.elements().filter_map(|element| element.get("xml:lang")).skip(1).collect::<Vec<_>>(),
            ["pt-PT"; 2]
        );
        assert_eq!(dialogue(&[line(" ", None, None)], None).expect_err("empty").at, 0);
        for gap in ["soon", "-200ms", "300", "--1s", "-6s"] {
            let first = if gap == "-6s" { vec![line("b", None, None)] } else { Vec::new() };
            let lines: Vec<DialogueLine> = first.into_iter().chain([line("a", None, Some(gap))]).collect();
            assert!(dialogue(&lines, None).is_err(), "{gap}");
        }
        let document = dialogue(&[line("One.", None, None), line("Two.", None, Some("-200ms"))], None).expect("lines");
        let script = crate::read_ssml(&document).expect("sound");
        let lowered = crate::lower(&script, None, crate::Policy::Adapt, &Nobody);
        let told: Vec<_> = lowered.pieces.iter().map(|piece| (piece.plain(), piece.silence, piece.overlap)).collect();
        assert_eq!(told, [("One.".to_owned(), 0.0, 0.0), ("Two.".to_owned(), 0.0, 200.0)]);
        // A document of somebody's own may ask for any length; it is not held for.
        let document = document.replace("200ms", "99999999999999999999999999s");
        let script = crate::read_ssml(&document).expect("sound");
        let lowered = crate::lower(&script, None, crate::Policy::Adapt, &Nobody);
        assert_eq!(lowered.pieces[1].overlap, MOST_OVERLAP);
    }
}
