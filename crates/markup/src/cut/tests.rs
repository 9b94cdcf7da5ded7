use proptest::prelude::*;

use super::FirstPart::{Full, Sentence};
use super::*;
use crate::{Choices, Dialect, Policy, Sound, lower, read_ssml, read_text};

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

fn open(tag: &str, name: &'static str) -> Atom {
    Atom::Open(Arc::new(Opening { tag: tag.into(), name }))
}

fn text(text: &str) -> Atom {
    Atom::Text(text.into())
}

fn piece(body: Vec<Atom>) -> Piece {
    Piece { body, ..Piece::default() }
}

fn chime() -> Sound {
    Sound { src: "chime.wav".into(), begin: None, end: None, count: 1.0, duration: None, level: 0.0, speed: 1.0 }
}

fn parts(body: Vec<Atom>, room: Room, first: FirstPart) -> Vec<String> {
    pack(&piece(body), room, first).iter().map(Piece::markup).collect()
}

#[test]
fn a_piece_of_just_the_limit_stays_whole_in_every_unit() {
    let body = vec![
        open("<p>", "p"),
        text("The ção & the <bar>. "),
        open("<emphasis level=\"strong\">", "emphasis"),
        text("Cast off."),
        Atom::Close("emphasis"),
        Atom::Empty("<break time=\"2000ms\"/>".into()),
        Atom::Close("p"),
        Atom::Paragraph,
        text("One more."),
        Atom::Sentence,
        text("And go."),
    ];
    let whole = piece(body.clone());
    for (form, tags, bytes) in [
        (BodyForm::Markup, true, false),
        (BodyForm::Markup, true, true),
        (BodyForm::Markup, false, false),
        (BodyForm::Markup, false, true),
        (BodyForm::Text, false, true),
    ] {
        let counted = if tags { whole.markup() } else { whole.plain() };
        let most = if bytes { counted.len() } else { counted.chars().count() };
        let room = |most, around| Room { most, bytes, tags, around, form };
        assert_eq!(pack(&whole, room(most, 0), Full).len(), 1, "{form:?} {tags} {bytes}");
        assert!(pack(&whole, room(most - 1, 0), Full).len() > 1, "{form:?} {tags} {bytes}");
        // The surrounding markup counts only where tags do.
        let around = if tags { 7 } else { 0 };
        assert_eq!(pack(&whole, room(most + around, 7), Full).len(), 1);
        assert!(pack(&whole, room(most + around - 1, 7), Full).len() > 1);
    }
    // Words that are sent as they are have no escapes.
    let plain = piece(vec![text("Fish & chips. Tea & toast.")]);
    let room = |most, form| Room { most, bytes: false, tags: true, around: 0, form };
    assert_eq!(pack(&plain, room(26, BodyForm::Text), Full).len(), 1);
    assert_eq!(pack(&plain, room(33, BodyForm::Markup), Full).len(), 2);
    assert_eq!(pack(&plain, room(34, BodyForm::Markup), Full).len(), 1);
}

#[test]
fn a_sound_is_never_cut_and_no_room_at_all_is_not_the_cutters_to_tell() {
    let sound = Piece { sound: Some(Box::new(chime())), ..piece(vec![text("One. Two.")]) };
    assert_eq!(pack(&sound, room(4), Full), std::slice::from_ref(&sound));
    let words = piece(vec![text("One. Two.")]);
    let tight = Room { most: 9, bytes: false, tags: true, around: 9, form: BodyForm::Markup };
    assert_eq!(pack(&words, tight, Full), std::slice::from_ref(&words));
}

#[test]
fn sentences_keep_the_space_behind_them_and_empty_ones_are_left_out() {
    assert_eq!(sentences("One two. Three!  Four?\n\nFive"), ["One two. ", "Three!  ", "Four?\n\n", "Five"]);
    assert_eq!(sentences(" \n "), Vec::<&str>::new());
    assert_eq!(sentences("One. \n\n"), ["One. \n\n"]);
}

#[test]
fn sentences_are_found_through_elements_and_behind_paragraphs() {
    let emphasis = || open("<emphasis>", "emphasis");
    let run_on =
        vec![text("We sail at "), emphasis(), text("noon. Wait"), Atom::Close("emphasis"), text(" here. Then go.")];
    assert_eq!(
        parts(run_on.clone(), room(30), Sentence),
        ["We sail at <emphasis>noon.</emphasis>", "<emphasis>Wait</emphasis> here. Then go."]
    );
    assert_eq!(parts(run_on, room(31), Full), ["We sail at <emphasis>noon. Wait</emphasis> here.", "Then go."]);
    let behind = vec![text("Life jackets"), Atom::Paragraph, text("Are there. Take one. Put it on.")];
    assert_eq!(parts(behind, room(35), Full), ["Life jackets\n\nAre there. Take one.", "Put it on."]);
    let number = vec![
        text("Ring "),
        open("<say-as interpret-as=\"telephone\">", "say-as"),
        text("912 000 111"),
        Atom::Close("say-as"),
        text(" now. Then wait. Then go on."),
    ];
    assert_eq!(
        parts(number, room(35), Full),
        ["Ring <say-as interpret-as=\"telephone\">912 000 111</say-as> now. Then wait.", "Then go on."]
    );
}

#[test]
fn a_cut_lies_behind_the_element_that_ends_there() {
    for name in ["p", "s"] {
        let tag = format!("<{name}>");
        let body = vec![
            open(&tag, name),
            text("Safety on board"),
            Atom::Close(name),
            open(&tag, name),
            text("Life jackets are here"),
            Atom::Close(name),
        ];
        assert_eq!(
            parts(body, room(30), Full),
            [format!("<{name}>Safety on board</{name}>"), format!("<{name}>Life jackets are here</{name}>")]
        );
    }
    let body = vec![
        open("<emphasis>", "emphasis"),
        text("Stop. "),
        Atom::Close("emphasis"),
        text("Wait for the ramp to come down."),
    ];
    assert_eq!(parts(body, room(32), Full), ["<emphasis>Stop.</emphasis>", "Wait for the ramp to come down."]);
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

fn sentence_by_sentence(document: &str, least: usize) -> Vec<String> {
    let script = match document.starts_with('<') {
        true => read_ssml(document).expect(document),
        false => read_text(document).expect(document),
    };
    let dialect = Dialect::default();
    let lowered = lower(&script, Some(&dialect), Policy::Adapt, &Nobody);
    lowered.pieces.iter().flat_map(|piece| by_sentence(piece, 1, least)).map(|piece| piece.plain()).collect()
}

#[test]
fn each_sentence_is_a_part_and_short_ones_go_with_the_next() {
    assert_eq!(sentence_by_sentence("One two. Three. Five six?", 1), ["One two.", "Three.", "Five six?"]);
    assert_eq!(
        sentence_by_sentence("No. Go. The ramp is closing. Wait.", 8),
        ["No.", "Go. The ramp is closing.", "Wait."]
    );
    assert_eq!(sentence_by_sentence("One sentence alone", 1), ["One sentence alone"]);
    assert_eq!(sentence_by_sentence("Dr. Reed waits at 6.15 p.m. on pier 2. Go.", 1).len(), 2);
    assert_eq!(sentence_by_sentence("船は遅れます。お待ちください。", 1), ["船は遅れます。", "お待ちください。"]);
    let words = "One. Two three. Four five six. Seven";
    assert_eq!(sentence_by_sentence(words, 1).join(" "), words, "nothing is lost");
}

#[test]
fn a_piece_whose_length_is_asked_for_is_not_parted() {
    let timed = "<speak version='1.1' xml:lang='en'><prosody duration='4s'>One. Two.</prosody></speak>";
    assert_eq!(sentence_by_sentence(timed, 1), ["One. Two."]);
}
