use proptest::prelude::*;

use super::*;

fn document(body: &str) -> String {
    format!("<speak version=\"1.1\" xml:lang=\"en-GB\" xmlns=\"{SSML}\">{body}</speak>")
}

fn plain(body: &str) -> String {
    read_ssml(&document(body)).expect(body).plain_text()
}

#[test]
fn structure_is_kept_and_sub_is_said() {
    assert_eq!(plain("<p>Mind the\n  step.</p><p>Tide &amp; time</p>"), "Mind the step.\n\nTide & time");
    assert_eq!(plain("The <sub alias=\"Saltmarsh Ferries\">SF</sub> pier"), "The Saltmarsh Ferries pier");
    assert_eq!(plain("<s>One.</s><s>Two.</s>"), "One. Two.");
    assert_eq!(plain("a<break time=\"1s\"/>b <prosody rate=\"slow\">c</prosody> &#x41;"), "ab c A");
    assert_eq!(plain("<x:note xmlns:x=\"urn:x\">not <p>said</p></x:note>said"), "said");
    assert_eq!(plain("<![CDATA[a < b & c]]> d"), "a < b & c d");
    assert_eq!(plain("<audio src=\"gong.wav\">Gong <desc>a gong</desc>!</audio>"), "Gong !");
}

#[test]
fn values_count_as_xml_says() {
    // White space of any kind is a space, a reference its value (XML
    // 1.0, section 3.3.3), and either quotation mark may stand in the other.
    for (tag, said) in [
        ("<sub alias=\"Saltmarsh\n\tFerries\">", "Saltmarsh Ferries"),
        ("<sub  alias = 'Tide &amp; \"Time\"' >", "Tide & \"Time\""),
        ("<sub\nalias=\"it's &#x41;&#66;\"\n>", "it's AB"),
        ("<sub alias=\"a > b\" xml:id='x'>", "a > b"),
        ("<sub alias=\"maré às sete\" xml:id=\"ção\">", "maré às sete"),
    ] {
        assert_eq!(plain(&format!("{tag}SF</sub>")), said, "{tag}");
    }
    let marks = document("<mark name='b'/>x<mark name=\"&#x63;\"/>");
    let script = read_ssml(&marks).expect("marks");
    let names: Vec<_> = script.elements().filter_map(|element| element.get("name")).collect();
    assert_eq!(names, ["b", "c"]);
    assert!(script.elements().all(|element| script.source[element.at()..].starts_with('<')));
}

#[test]
fn elements_are_known_by_their_names_whatever_the_prefix() {
    // As long as a prefix makes them, they are not taken for one another.
    let of = |prefix: &str| {
        let open =
            format!("<{prefix}:speak version=\"1.1\" xml:lang=\"en-GB\" xmlns:{prefix}=\"{SSML}\" xmlns:o=\"urn:o\">");
        let body =
            "<P:p><P:s><P:w>Mind</P:w> <P:token>the</P:token> <o:s/>step.</P:s></P:p></P:speak>".replace('P', prefix);
        let source = open + &body;
        let script = read_ssml(&source).expect(prefix);
        let found: Vec<_> = script.elements().map(|it| (it.name().to_owned(), it.tag())).collect();
        assert_eq!(script.plain_text(), "Mind the step.", "{prefix}");
        found
    };
    for prefix in ["a", "abc", "abcd", "say-as"] {
        let named = [("p", Tag::Paragraph), ("s", Tag::Sentence), ("w", Tag::Token), ("token", Tag::Token)];
        let wanted = [("speak", Tag::Speak)].into_iter().chain(named).chain([("s", Tag::Foreign)]);
        assert_eq!(of(prefix), wanted.map(|(name, tag)| (name.to_owned(), tag)).collect::<Vec<_>>(), "{prefix}");
    }
}

#[test]
fn every_element_is_accepted_where_it_may_stand() {
    for body in [
        "<meta name=\"a\" content=\"b\"/><metadata><any xmlns=\"urn:x\">thing</any></metadata><lexicon uri=\"u.pls\" xml:id=\"l\"/>x",
        "<lexicon uri=\"u.pls\" xml:id=\"l\" type=\"application/pls+xml\" fetchtimeout=\"3s\"/><lookup ref=\"l\">x</lookup>",
        "<p><s>a <token role=\"x:noun\" xmlns:x=\"urn:x\">b</token> <w>c</w></s></p>",
        "<voice languages=\"pt:en fr\" gender=\"female\" age=\"30\" variant=\"2\" name=\"a b\" required=\"languages gender\" ordering=\"gender languages\" onvoicefailure=\"keepexisting\"><p>x</p></voice>",
        "<voice gender=\"\">x</voice>",
        "<prosody pitch=\"+10%\" contour=\"(0%,+20Hz) (50%,+1st)\" range=\"x-low\" rate=\"90%\" duration=\"3s\" volume=\"+6dB\">x</prosody>",
        "<emphasis level=\"reduced\">x</emphasis><emphasis>y</emphasis>",
        "a<break/>b<break strength=\"x-weak\"/>c<break time=\"250ms\" strength=\"none\"/>d",
        "<say-as interpret-as=\"date\" format=\"mdy\" detail=\"1\">1/2/2026</say-as>",
        "<phoneme alphabet=\"ipa\" ph=\"t&#x259;\" type=\"default\">to</phoneme>",
        "<lang xml:lang=\"pt-PT\" onlangfailure=\"ignoretext\">olá</lang>",
        "<audio src=\"g.wav\" fetchtimeout=\"1s\" fetchhint=\"safe\" maxage=\"1\" maxstale=\"2\" clipBegin=\"1s\" clipEnd=\"2s\" repeatCount=\"2.5\" repeatDur=\"9s\" soundLevel=\"-3dB\" speed=\"80%\">x</audio>",
        "<audio>x</audio>",
        "<mark name=\"here\"/>x",
        "<s xml:id=\"one\" xml:lang=\"\">x</s>",
        "x<!-- a note --><?thing of ours?>",
        "<e:emotion xmlns:e=\"http://www.w3.org/2009/10/emotionml\" category-set=\"http://s.example\"><e:category name=\"joy\" value=\"0.8\"/></e:emotion>x",
        "<p xmlns:i=\"urn:i\" i:note=\"kept\">x</p>",
    ] {
        let document = document(body);
        let read = read_ssml(&document);
        assert!(read.is_ok(), "{body}: {read:?}");
    }
    for whole in [
        format!("<?xml version=\"1.0\" encoding=\"UTF-8\"?>\n<speak version=\"1.1\" xml:lang=\"en\" xmlns=\"{SSML}\">x</speak>\n<!-- end -->"),
        format!("\u{feff}<s:speak version=\"1.1\" xml:lang=\"en\" xmlns:s=\"{SSML}\"><s:p>x</s:p></s:speak>"),
        "<!DOCTYPE speak PUBLIC \"-//W3C//DTD SYNTHESIS 1.0//EN\" \"http://www.w3.org/TR/speech-synthesis/synthesis.dtd\"><speak version=\"1.0\" xml:lang=\"en\">x</speak>".into(),
        "<speak version=\"1.0\"><voice xml:lang=\"fr\"><prosody rate=\"-10%\" volume=\"50\" pitch=\"+5\">x</prosody></voice></speak>".into(),
        "<speak version=\"1.1\" startmark=\"a\" endmark=\"b\">x<mark name=\"a\"/>y<mark name=\"b\"/>z</speak>".into(),
    ] {
        let read = read_ssml(&whole);
        assert!(read.is_ok(), "{whole}: {read:?}");
    }
}

/// Body, place and what the message must say.
const REFUSED: &[(&str, usize, usize, &str)] = &[
    ("\n<tone/>x", 2, 1, "not an element of SSML 1.1"),
    ("\n <break time=\"3\"/>x", 2, 9, "a time such as 250ms"),
    ("<break strength=\"huge\"/>x", 1, 0, "x-weak"),
    ("<break>x</break>", 1, 0, "<break> is empty"),
    ("<prosody>x</prosody>", 1, 0, "needs one of"),
    ("<prosody rate=\"-10%\">x</prosody>", 1, 0, "without a sign"),
    ("<prosody rate=\"fast\" speed=\"1\">x</prosody>", 1, 0, "speed is no attribute"),
    ("<prosody volume=\"50\">x</prosody>", 1, 0, "+6dB"),
    ("<prosody contour=\"0%,1st\">x</prosody>", 1, 0, "pairs"),
    ("<p>a<p>b</p></p>", 1, 0, "<p> may not stand in <p>"),
    ("<s>a<s>b</s></s>", 1, 0, "may not stand in <s>"),
    ("<s><p>b</p></s>", 1, 0, "may not stand in <s>"),
    ("<emphasis><s>b</s></emphasis>", 1, 0, "may not stand in <emphasis>"),
    ("<token><voice>b</voice></token>", 1, 0, "may not stand in <token>"),
    ("<sub>x</sub>", 1, 0, "needs alias"),
    ("<sub alias=\"y\"><emphasis>x</emphasis></sub>", 1, 0, "takes text alone"),
    ("<say-as>x</say-as>", 1, 0, "needs interpret-as"),
    ("<say-as interpret-as=\"date\">a<break/></say-as>", 1, 0, "takes text alone"),
    ("<phoneme>x</phoneme>", 1, 0, "needs ph"),
    ("<phoneme ph=\"x\" type=\"odd\">x</phoneme>", 1, 0, "default, ruby"),
    ("<mark/>x", 1, 0, "needs name"),
    ("<mark name=\"a b\"/>x", 1, 0, "without white space"),
    ("<mark name=\"a\">x</mark>", 1, 0, "is empty"),
    ("<lang>x</lang>", 1, 0, "needs xml:lang"),
    ("<lang xml:lang=\"en_GB\">x</lang>", 1, 0, "pt-PT"),
    ("<lang xml:lang=\"pt\" onlangfailure=\"stop\">x</lang>", 1, 0, "ignoretext"),
    ("<voice gender=\"robot\">x</voice>", 1, 0, "female"),
    ("<voice age=\"old\">x</voice>", 1, 0, "whole number"),
    ("<voice variant=\"0\">x</voice>", 1, 0, "from 1"),
    ("<voice required=\"colour\">x</voice>", 1, 0, "none twice"),
    ("<voice xml:lang=\"pt\">x</voice>", 1, 0, "xml:lang is no attribute"),
    ("<lookup ref=\"none\">x</lookup>", 1, 0, "no <lexicon>"),
    ("x<lexicon uri=\"a\" xml:id=\"l\"/>", 1, 0, "at the head"),
    ("<lexicon uri=\"a\"/>x", 1, 0, "needs xml:id"),
    ("<p><meta name=\"a\" content=\"b\"/></p>", 1, 0, "may not stand in <p>"),
    ("<meta content=\"b\"/>x", 1, 0, "either name or http-equiv"),
    ("<meta name=\"a\" http-equiv=\"c\" content=\"b\"/>x", 1, 0, "either name or http-equiv"),
    ("<desc>x</desc>y", 1, 0, "may not stand in <speak>"),
    ("<audio src=\"a\" speed=\"fast\">x</audio>", 1, 0, "percentage"),
    ("<audio src=\"a\" repeatCount=\"0\">x</audio>", 1, 0, "above 0"),
    ("<audio src=\"a b\">x</audio>", 1, 0, "an address"),
    ("<p xml:id=\"1a\">x</p>", 1, 0, "without a colon"),
    ("<p xml:id=\"a\">x</p><p xml:id=\"a\">y</p>", 1, 0, "stands twice"),
    ("<p class=\"big\">x</p>", 1, 0, "class is no attribute"),
    ("<speak version=\"1.1\">x</speak>", 1, 0, "one root"),
    ("<w role=\"x:noun\">x</w>", 1, 0, "prefix is not declared"),
    ("<x:note>x</x:note>y", 1, 0, "not declared"),
    ("<p x:note=\"1\">y</p>", 1, 0, "not declared"),
    ("&unknown;", 1, 0, "&unknown;"),
    ("<sub alias=\"&unknown;\">x</sub>", 1, 0, "not known"),
    ("<sub alias=\"a < b\">x</sub>", 1, 0, "&lt;"),
    ("<sub alias='a'xml:id='b'>x</sub>", 1, 0, "white space"),
    ("\n<sub alias=\"a\" alias=\"b\">x</sub>", 2, 16, "alias stands twice"),
    ("\n<sub alias=a>x</sub>", 2, 12, "quotation marks"),
    ("\n<sub alias>x</sub>", 2, 6, "write alias="),
    ("\n<sub alias = >x</sub>", 2, 14, "quotation marks"),
    ("\n<sub =\"a\">x</sub>", 2, 6, "not a name"),
    ("<1a/>x", 1, 0, "not a name"),
    ("a ]]> b", 1, 0, "']]>'"),
    ("&#0;", 1, 0, "not known"),
    ("&#xFFFF;", 1, 0, "not known"),
    ("<p>x</s>", 1, 0, "</s> stands where </p> is expected"),
    ("<?xml version=\"1.0\"?>x", 1, 0, "very beginning"),
    (" ", 1, 1, "no text"),
    ("<p/><break/>", 1, 1, "no text"),
    (
        "<e:emotion xmlns:e=\"http://www.w3.org/2009/10/emotionml\"><e:category name=\"joy\"/></e:emotion>x",
        1,
        0,
        "category-set",
    ),
    (
        "<e:emotion xmlns:e=\"http://www.w3.org/2009/10/emotionml\" category-set=\"u\"><e:category name=\"joy\" value=\"2\"/></e:emotion>x",
        1,
        0,
        "from 0 to 1",
    ),
];

#[test]
fn what_is_not_ssml_is_refused_at_its_place() {
    for (body, line, column, says) in REFUSED {
        let error = read_ssml(&document(body)).expect_err(body);
        assert_eq!(error.line, *line, "{body}: {error}");
        if *column > 0 {
            assert_eq!(error.column, *column, "{body}: {error}");
        }
        assert!(error.message.contains(says), "{body}: {error}");
    }
    for (whole, says) in [
        ("<speak version=\"1.1\">x", "never closed"),
        ("<speak version=\"1.1\">x</speak><speak version=\"1.1\">y</speak>", "one root"),
        ("<speak version=\"1.1\">x</speak> tail", "outside"),
        ("head <speak version=\"1.1\">x</speak>", "outside"),
        ("<speak version=\"2.0\">x</speak>", "2.0"),
        ("<speak version=\"1.1\" xmlns=\"urn:other\">x</speak>", "the namespace of <speak>"),
        ("<speak version=\"1.1\" endmark=\"gone\">x</speak>", "no <mark>"),
        ("<speak version=\"1.0\"><lang xml:lang=\"pt\">x</lang></speak>", "SSML 1.0"),
        ("<speak version=\"1.0\"><audio>x</audio></speak>", "needs src"),
        ("<voice>x</voice>", "<speak>"),
        ("<!DOCTYPE speak [<!ENTITY a \"b\">]><speak version=\"1.1\">&a;</speak>", "document type"),
        ("<!DOCTYPE html><speak version=\"1.1\">x</speak>", "document type"),
        ("<speak version=\"1.1\">a\u{1}b</speak>", "not allowed in XML"),
        ("", "no <speak>"),
    ] {
        let error = read_ssml(whole).expect_err(whole);
        assert!(error.message.contains(says), "{whole}: {error}");
    }
}

#[test]
fn bombs_and_deep_and_wide_documents_are_refused_at_once() {
    let begun = std::time::Instant::now();
    let deep = format!("<speak version=\"1.1\">{}", "<emphasis>".repeat(200_000));
    assert!(read_ssml(&deep).expect_err("deep").message.contains("within one another"));
    let wide = document(&"<break/>".repeat(100_001));
    assert!(read_ssml(&wide).expect_err("wide").message.contains("more than"));
    let bomb = format!(
        "<!DOCTYPE speak [<!ENTITY a \"aaaa\">{}]><speak version=\"1.1\">&z;</speak>",
        "<!ENTITY b \"&a;&a;&a;&a;\">".repeat(50)
    );
    assert!(read_ssml(&bomb).is_err());
    let outside = "<!DOCTYPE speak [<!ENTITY a SYSTEM \"file:///etc/hostname\">]><speak version=\"1.1\">&a;</speak>";
    assert!(read_ssml(outside).is_err());
    assert!(begun.elapsed().as_millis() < 2_000, "{:?}", begun.elapsed());
}

proptest! {
    #[test]
    fn random_markup_never_panics(text in "[<>/a-z \"=&;pseak!\\[\\]ω:-]{0,120}") {
        let _ = read_ssml(&text);
        let _ = read_ssml(&document(&text));
    }
}

#[test]
fn depth_attributes_and_elements_have_their_limits() {
    let nested = |depth: usize| document(&format!("{}a{}", "<emphasis>".repeat(depth), "</emphasis>".repeat(depth)));
    assert!(read_ssml(&nested(MAX_DEPTH - 1)).is_ok(), "<speak> is the first");
    let fault = read_ssml(&nested(MAX_DEPTH)).expect_err("one deeper");
    assert!(fault.message.contains("64 within one another"), "{fault}");
    assert!(read_ssml(&nested(50_000)).is_err(), "and no stack is run through");
    // Elements that are passed over count as well.
    let foreign = |depth: usize| {
        let (open, close) = ("<x:a>".repeat(depth), "</x:a>".repeat(depth));
        document(&format!("<x:a xmlns:x=\"urn:x\">{open}{close}</x:a>b"))
    };
    assert!(read_ssml(&foreign(MAX_DEPTH - 2)).is_ok());
    assert!(read_ssml(&foreign(MAX_DEPTH - 1)).is_err());
    let attributes = |count: usize| {
        let all: String = (0..count).map(|n| format!(" a{n}=\"\"")).collect();
        document(&format!("<x:a xmlns:x=\"urn:x\"{all}/>b"))
    };
    assert!(read_ssml(&attributes(60)).is_ok());
    let fault = read_ssml(&attributes(65)).expect_err("too many");
    assert!(fault.message.contains("64 attributes"), "{fault}");
    let many = |count: usize| document(&format!("a{}", "<break/>".repeat(count)));
    assert!(read_ssml(&many(MAX_ELEMENTS - 1)).is_ok());
    assert!(read_ssml(&many(MAX_ELEMENTS)).is_err());
    let long = |bytes: usize| document(&"a ".repeat(bytes / 2));
    assert!(read_ssml(&long(MAX_BYTES - 200)).is_ok());
    assert!(read_ssml(&long(MAX_BYTES)).is_err());
}

#[test]
fn a_document_without_version_namespace_or_language_is_read_with_warnings() {
    let script = read_ssml("<speak>All aboard</speak>").expect("a document");
    assert_eq!(script.plain_text(), "All aboard");
    for what in ["namespace", "no version and is read as SSML 1.1", "language"] {
        assert!(script.notes.iter().any(|note| note.contains(what)), "{what}: {:?}", script.notes);
    }
}
