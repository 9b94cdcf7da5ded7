use proptest::prelude::*;

use super::FirstPart::{Full, Sentence};
use super::*;
use crate::{Choices, Dialect, Policy, lower, read_ssml, read_text};

struct Nobody;

impl Choices for Nobody {}

fn room(most: usize) -> Room {
    Room { most, bytes: false, tags: false, around: 0, form: BodyForm::Text }
}

fn cut(text: &str, room: Room, first: FirstPart) -> Vec<String> {
    let lowered = lower(&read_text(text).expect(text), None, Policy::Adapt, &Nobody);
    pack(&lowered.pieces[0], room, first).iter().map(|piece| piece.plain()).collect()
}

#[test]
fn pieces_end_at_sentences_then_clauses_then_words() {
    assert_eq!(cut("One. Two. Three.", room(100), Full), ["One. Two. Three."]);
    assert_eq!(cut("One two. Three four. Five.", room(21), Full), ["One two. Three four.", "Five."]);
    assert_eq!(
        cut("One two. Three four. Five.", room(100), Sentence),
        ["One two. Three four. Five."],
        "what fits stays whole"
    );
    assert_eq!(cut("One two. Three. Five six seven.", room(25), Sentence), ["One two.", "Three. Five six seven."]);
    assert_eq!(cut("Mind the step, please, and wait", room(23), Full), ["Mind the step, please,", "and wait"]);
    assert_eq!(cut("all aboard the ferry", room(12), Full), ["all aboard", "the ferry"]);
    assert_eq!(cut("Saltmarshferries", room(6), Full), ["Saltma", "rshfer", "ries"]);
    assert_eq!(cut("船は遅れます。お待ちください。", room(8), Full), ["船は遅れます。", "お待ちください。"]);
    assert_eq!(
        cut("Life jackets\n\nAre there. Take one.", room(26), Full),
        ["Life jackets\n\nAre there.", "Take one."]
    );
}

#[test]
fn bytes_and_tags_are_counted_where_the_engine_counts_them() {
    let bytes = Room { most: 22, bytes: true, tags: false, around: 0, form: BodyForm::Text };
    assert_eq!(cut("ção ção. Ação. Três.", bytes, Full), ["ção ção. Ação.", "Três."]);
    let dialect: Dialect =
        serde_json::from_str(r#"{"elements":{"p":{},"emphasis":{"level":"text"}}}"#).expect("a dialect");
    let document =
        "<speak version=\"1.1\"><p>One &amp; <emphasis level=\"strong\">two. Three</emphasis> four.</p></speak>";
    let lowered = lower(&read_ssml(document).expect("valid"), Some(&dialect), Policy::Adapt, &Nobody);
    let tight = Room { most: 70, bytes: true, tags: true, around: 10, form: BodyForm::Markup };
    let bodies: Vec<String> = pack(&lowered.pieces[0], tight, Full).iter().map(|p| p.markup()).collect();
    assert_eq!(
        bodies,
        [
            "<p>One &amp; <emphasis level=\"strong\">two.</emphasis></p>",
            "<p><emphasis level=\"strong\">Three</emphasis> four.</p>"
        ]
    );
    assert!(bodies.iter().all(|body| body.len() <= 60), "{bodies:?}");
}

#[test]
fn what_is_one_thing_is_never_cut() {
    let dialect: Dialect =
        serde_json::from_str(r#"{"elements":{"say-as":{"interpret-as":"text"}}}"#).expect("a dialect");
    let document = "<speak version=\"1.1\">ring <say-as interpret-as=\"telephone\">912 000 111</say-as> now</speak>";
    let lowered = lower(&read_ssml(document).expect("valid"), Some(&dialect), Policy::Adapt, &Nobody);
    let bodies: Vec<String> = pack(&lowered.pieces[0], room(12), Full).iter().map(|p| p.markup()).collect();
    assert_eq!(bodies, ["ring", "<say-as interpret-as=\"telephone\">912 000 111</say-as>", "now"]);
}

proptest! {
    /// Whatever the text and the limit: nothing is lost, and every part fits.
    #[test]
    fn parts_fit_and_hold_the_whole_text(text in "[a-zA-Z.,!? \u{e7}\u{3002}\u{8239}\n]{1,300}", most in 4usize..80) {
        prop_assume!(!text.trim().is_empty());
        let parts = cut(&text, room(most), Sentence);
        for part in &parts {
            prop_assert!(part.chars().count() <= most, "{part:?} of {most}");
        }
        let squeeze = |text: &str| text.chars().filter(|c| !c.is_whitespace()).collect::<String>();
        prop_assert_eq!(squeeze(&parts.concat()), squeeze(&text));
    }
}
