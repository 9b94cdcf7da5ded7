//! Whole files, read word for word.
#![allow(clippy::unwrap_used, reason = "a test that cannot set up its case has failed")]

use std::io::{Cursor, Write as _};

use dispatcher_documents::{Block, Damage, Document, DocumentError, DocumentKind, Split, read};
use proptest::prelude::*;

const REFERENCE: &str = include_str!("fixtures/columns.txt");
/// Two columns, justified, a running head and page numbers, parted with
/// U+2010, which leaves the hyphens of compounds at line ends.
const SOFT: &[u8] = include_bytes!("fixtures/columns-with-soft-hyphens.pdf");
/// Two columns a little apart, running heads that alternate, words set
/// without spaces, ligatures of the font, parted with the ordinary hyphen.
const TIGHT: &[u8] = include_bytes!("fixtures/columns-set-tight.pdf");

fn words(text: &str) -> Vec<&str> {
    text.split_whitespace().collect()
}

fn headings(document: &Document) -> Vec<(u8, &str)> {
    let heading = |block| match block {
        &Block::Heading { level, ref text } => Some((level, text.as_str())),
        Block::Paragraph(_) => None,
    };
    document.blocks.iter().filter_map(heading).collect()
}

#[test]
fn pages_of_two_columns_give_the_reference_word_for_word() {
    for (name, file) in [("soft", SOFT), ("tight", TIGHT)] {
        let document = read(file, DocumentKind::Pdf).unwrap();
        assert_eq!(words(&document.text()), words(REFERENCE), "{name}");
        let blocks: Vec<&str> = document.blocks.iter().map(Block::text).collect();
        let wanted: Vec<String> = REFERENCE.trim().split("\n\n").map(|block| words(block).join(" ")).collect();
        assert_eq!(blocks, wanted, "{name}: paragraphs are as they were set");
        let chapters: Vec<&str> = headings(&document).iter().map(|(_, text)| *text).collect();
        assert_eq!(chapters[..3], ["Safety handbook of Saltmarsh Ferries", "Safety on board", "Before departure"]);
    }
}

#[test]
fn chapters_become_parts_with_their_titles() {
    let document = read(SOFT, DocumentKind::Pdf).unwrap();
    let parts = document.parts(Split::Heading(document.chapter_level().unwrap()));
    let titles: Vec<&str> = parts.iter().map(|part| part.title.as_str()).collect();
    assert_eq!(titles[1..4], ["Safety on board", "Before departure", "The car deck"]);
    let all = parts.iter().map(|part| part.text.as_str()).collect::<Vec<_>>().join("\n\n");
    assert_eq!(all, document.text());
}

fn zipped(files: &[(&str, &str)]) -> Vec<u8> {
    let mut archive = zip::ZipWriter::new(Cursor::new(Vec::new()));
    for (name, text) in files {
        archive.start_file(*name, zip::write::SimpleFileOptions::default()).unwrap();
        archive.write_all(text.as_bytes()).unwrap();
    }
    archive.finish().unwrap().into_inner()
}

#[test]
fn an_archive_unpacks_to_no_more_than_a_document_may_be() {
    let most = 4 * dispatcher_documents::MOST_TEXT;
    let chapter = |length: usize| {
        let text = "All aboard. ".repeat(length / 12 + 1);
        format!(
            "<html xmlns='http://www.w3.org/1999/xhtml'><body><p hidden='hidden'>{}</p><p>Ahoy.</p></body></html>",
            &text[..length]
        )
    };
    let book = |length: usize| {
        let package = "<package xmlns='http://www.idpf.org/2007/opf' version='3.0'><metadata/><manifest>\
            <item id='a' href='a.xhtml' media-type='application/xhtml+xml'/></manifest>\
            <spine><itemref idref='a'/></spine></package>";
        zipped(&[("META-INF/container.xml", CONTAINER), ("book/a.opf", package), ("book/a.xhtml", &chapter(length))])
    };
    assert_eq!(read(&book(1 << 20), DocumentKind::Epub).unwrap().text(), "Ahoy.");
    let bomb = book(most + 1);
    assert!(bomb.len() < 1 << 20, "{} bytes become {most} and more", bomb.len());
    assert_eq!(read(&bomb, DocumentKind::Epub), Err(DocumentError::TooLarge));
}

const CONTAINER: &str = "<?xml version=\"1.0\"?><container version=\"1.0\" \
    xmlns=\"urn:oasis:names:tc:opendocument:xmlns:container\"><rootfiles><rootfile full-path=\"book/a.opf\" \
    media-type=\"application/oebps-package+xml\"/></rootfiles></container>";
const PACKAGE: &str = "<package xmlns=\"http://www.idpf.org/2007/opf\" version=\"3.0\">\
    <metadata xmlns:dc=\"http://purl.org/dc/elements/1.1/\"><dc:title>Tides &amp; ramps</dc:title>\
    <dc:language>en-GB</dc:language></metadata><manifest>\
    <item id=\"n\" href=\"nav.xhtml\" properties=\"nav\" media-type=\"application/xhtml+xml\"/>\
    <item id=\"b\" href=\"text/two.xhtml\" media-type=\"application/xhtml+xml\"/>\
    <item id=\"a\" href=\"text/one%201.xhtml\" media-type=\"application/xhtml+xml\"/>\
    <item id=\"x\" href=\"text/extra.xhtml\" media-type=\"application/xhtml+xml\"/></manifest>\
    <spine><itemref idref=\"n\"/><itemref idref=\"a\"/><itemref idref=\"b\"/><itemref idref=\"x\" linear=\"no\"/></spine>\
    </package>";

fn page(body: &str) -> String {
    format!(
        "<?xml version=\"1.0\" encoding=\"utf-8\"?><!DOCTYPE html><html xmlns=\"http://www.w3.org/1999/xhtml\" \
         xmlns:epub=\"http://www.idpf.org/2007/ops\"><head><title/></head><body>{body}</body></html>"
    )
}

#[test]
fn a_book_is_read_in_the_order_of_its_spine_without_the_marks_of_its_notes() {
    let nav = page("<nav epub:type=\"toc\"><ol><li><a href=\"text/two.xhtml\">Two</a></li></ol></nav>");
    let one = page(
        "<h1>The tide</h1><p>It turns<a epub:type=\"noteref\" href=\"#n1\">1</a> twice a day&#160;– be&#xAD;ware.</p>\
         <span epub:type=\"pagebreak\" title=\"12\">12</span>\
         <aside epub:type=\"footnote\" id=\"n1\"><p>At Gullsay, four times.</p></aside>",
    );
    let two = page("<h1>The ramp</h1><ul><li>Lower it.</li><li>Look <em>twice</em>.</li></ul>");
    let extra = page("<p>Not read.</p>");
    let book = zipped(&[
        ("mimetype", "application/epub+zip"),
        ("META-INF/container.xml", CONTAINER),
        ("book/a.opf", PACKAGE),
        ("book/nav.xhtml", &nav),
        ("book/text/one 1.xhtml", &one),
        ("book/text/two.xhtml", &two),
        ("book/text/extra.xhtml", &extra),
    ]);
    let document = read(&book, DocumentKind::Epub).unwrap();
    assert_eq!((document.title.as_deref(), document.language.as_deref()), (Some("Tides & ramps"), Some("en-GB")));
    let texts: Vec<&str> = document.blocks.iter().map(Block::text).collect();
    let wanted = [
        "The tide",
        "It turns twice a day – beware.",
        "At Gullsay, four times.",
        "The ramp",
        "Lower it.",
        "Look twice.",
    ];
    assert_eq!(texts, wanted);
    assert_eq!(headings(&document), [(1, "The tide"), (1, "The ramp")]);
}

#[test]
fn archives_that_are_no_books_or_unpack_without_end_are_refused() {
    let no_book = read(&zipped(&[("a.txt", "x")]), DocumentKind::Epub).unwrap_err();
    assert!(
        matches!(&no_book, DocumentError::Damaged(Damage::ArchivedFile { name, .. }) if name == "META-INF/container.xml"),
        "{no_book:?}"
    );
    let empty = "<container/>";
    let no_package = read(&zipped(&[("META-INF/container.xml", empty)]), DocumentKind::Epub);
    assert_eq!(no_package, Err(Damage::NoPackage.into()));
    let bomb = page(&"<p>0000000000</p>".repeat(5_000_000));
    let book = zipped(&[
        ("META-INF/container.xml", CONTAINER),
        ("book/a.opf", PACKAGE),
        ("book/nav.xhtml", &bomb),
        ("book/text/one 1.xhtml", &bomb),
        ("book/text/two.xhtml", &bomb),
    ]);
    assert!(book.len() < 2_000_000);
    assert_eq!(read(&book, DocumentKind::Epub), Err(DocumentError::TooLarge));
}

/// A PDF of these objects, the first its catalogue.
fn pdf(objects: &[String]) -> Vec<u8> {
    let mut file = b"%PDF-1.5\n".to_vec();
    let mut places = Vec::new();
    for (number, object) in objects.iter().enumerate() {
        places.push(file.len());
        write!(file, "{} 0 obj\n{object}\nendobj\n", number + 1).unwrap();
    }
    let start = file.len();
    write!(file, "xref\n0 {}\n0000000000 65535 f \n", objects.len() + 1).unwrap();
    places.iter().for_each(|place| writeln!(file, "{place:010} 00000 n ").unwrap());
    write!(file, "trailer << /Size {} /Root 1 0 R >>\nstartxref\n{start}\n%%EOF\n", objects.len() + 1).unwrap();
    file
}

fn one_page(content: &str, resources: &str, more: &[String]) -> Vec<u8> {
    let mut objects = vec![
        "<< /Type /Catalog /Pages 2 0 R >>".to_owned(),
        "<< /Type /Pages /Kids [3 0 R] /Count 1 >>".into(),
        format!("<< /Type /Page /Parent 2 0 R /MediaBox [0 0 595 842] /Contents 4 0 R /Resources << {resources} >> >>"),
        format!("<< /Length {} >>\nstream\n{content}\nendstream", content.len()),
    ];
    objects.extend_from_slice(more);
    pdf(&objects)
}

#[test]
fn pictures_of_text_are_no_text_and_a_form_within_itself_is_refused() {
    let scanned = one_page("q 595 0 0 842 0 0 cm Q", "", &[]);
    let error = read(&scanned, DocumentKind::Pdf).unwrap_err();
    assert_eq!(error, DocumentError::NoText);
    assert!(error.to_string().contains("scanned"), "{error}");
    let form = "<< /Type /XObject /Subtype /Form /BBox [0 0 9 9] /Resources << /XObject << /F 5 0 R >> >> /Length 5 >>\n\
                stream\n/F Do\nendstream";
    let endless = one_page("/F Do", "/XObject << /F 5 0 R >>", &[form.to_owned()]);
    assert_eq!(read(&endless, DocumentKind::Pdf), Err(Damage::FormInItself.into()));
    assert!(matches!(
        read(&TIGHT[..TIGHT.len() / 2], DocumentKind::Pdf),
        Err(DocumentError::Damaged(_) | DocumentError::NoText)
    ));
}

/// One handbook by five programs that make PDF files.
const HANDBOOK: &str = include_str!("fixtures/makers/handbook.txt");
const MAKERS: [(&str, &[u8]); 5] = [
    ("browser", include_bytes!("fixtures/makers/browser.pdf")),
    ("office", include_bytes!("fixtures/makers/office.pdf")),
    ("typesetter", include_bytes!("fixtures/makers/typesetter.pdf")),
    ("report", include_bytes!("fixtures/makers/report.pdf")),
    ("stylesheet", include_bytes!("fixtures/makers/stylesheet.pdf")),
];

#[test]
fn files_of_five_makers_give_the_handbook_word_for_word() {
    for (name, file) in MAKERS {
        let document = read(file, DocumentKind::Pdf).unwrap();
        assert_eq!(document.warnings, Vec::<String>::new(), "{name}");
        let text = document.text();
        let titles = ["Handbook", "Saltmarsh Ferries handbook"];
        let text = titles.iter().find_map(|title| text.strip_prefix(*title)).unwrap_or(&text).to_owned();
        // One of them was given a text in plain signs.
        let plain = HANDBOOK.replace(['“', '”'], "\"").replace('–', "-").replace('€', "EUR ").replace('é', "e");
        let wanted = if name == "typesetter" { &plain } else { HANDBOOK };
        let text = if name == "typesetter" { text.replace(['“', '”'], "\"") } else { text };
        assert_eq!(words(&text), words(wanted), "{name}");
    }
}

const HELVETICA: &str = "/Font << /F 5 0 R >>";

fn helvetica(more: &str) -> String {
    format!("<< /Type /Font /Subtype /Type1 /BaseFont /Helvetica {more} >>")
}

fn stream(dictionary: &str, content: &str) -> String {
    format!("<< {dictionary} /Length {} >>\nstream\n{content}\nendstream", content.len())
}

fn text_of(file: &[u8]) -> String {
    read(file, DocumentKind::Pdf).unwrap().blocks.iter().map(Block::text).collect::<Vec<_>>().join(" ")
}

#[test]
fn every_operator_that_shows_text_is_read() {
    let content = "BT /F 12 Tf 14 TL 72 720 Td (One.) Tj (Two.) ' 2 0 (Three.) \" [( Fo) -20 (ur.)] TJ \
                   T* /Span << /ActualText (x) >> BDC (Five.) Tj EMC ET";
    let file = one_page(content, HELVETICA, &[helvetica("/Encoding /StandardEncoding")]);
    assert_eq!(text_of(&file), "One. Two. Three. Four. Five.");
    // Forms are drawn in their places, with fonts of their own under the same name.
    let form = stream(
        "/Type /XObject /Subtype /Form /BBox [0 0 400 20] /Matrix [1 0 0 1 0 0] /Resources << /Font << /F 7 0 R >> >>",
        "BT /F 12 Tf (ab) Tj ET",
    );
    let mapped = helvetica("/Encoding << /Differences [97 /B /e] >>");
    let content =
        "BT /F 12 Tf 72 720 Td (First ab.) Tj ET q 1 0 0 1 72 700 cm /X Do Q BT /F 12 Tf 72 680 Td (Last.) Tj ET";
    let resources = format!("{HELVETICA} /XObject << /X 6 0 R >>");
    let file = one_page(content, &resources, &[helvetica(""), form, mapped]);
    assert_eq!(text_of(&file), "First ab. Be Last.");
    // A page that is looked at sideways; page furniture that the file marks.
    let content = "BT /F 12 Tf 0 1 -1 0 100 72 Tm (Read sideways.) Tj ET \
                   /Artifact << /Type /Pagination >> BDC BT /F 9 Tf 0 1 -1 0 20 72 Tm (Handbook, sheet 12) Tj ET EMC";
    let turned = pdf(&[
        "<< /Type /Catalog /Pages 2 0 R >>".to_owned(),
        "<< /Type /Pages /Kids [3 0 R] /Count 1 /Rotate 90 /MediaBox [0 0 595 842] >>".into(),
        format!("<< /Type /Page /Parent 2 0 R /Contents 4 0 R /Resources << {HELVETICA} >> >>"),
        stream("", content),
        helvetica(""),
    ]);
    assert_eq!(text_of(&turned), "Read sideways.");
}

#[test]
fn pages_that_cannot_be_read_are_named() {
    let page = |contents: usize| {
        format!(
            "<< /Type /Page /Parent 2 0 R /MediaBox [0 0 595 842] /Contents {contents} 0 R \
             /Resources << /Font << /F 9 0 R /G 10 0 R >> /XObject << /P 12 0 R >> >> >>"
        )
    };
    let picture =
        stream("/Type /XObject /Subtype /Image /Width 1 /Height 1 /ColorSpace /DeviceGray /BitsPerComponent 8", "x");
    let file = pdf(&[
        "<< /Type /Catalog /Pages 2 0 R >>".to_owned(),
        "<< /Type /Pages /Kids [3 0 R 4 0 R 5 0 R] /Count 3 >>".into(),
        page(6),
        page(7),
        page(8),
        stream("", "BT /F 12 Tf 72 720 Td (The first page.) Tj ET"),
        stream("", "q 595 0 0 842 0 0 cm /P Do Q"),
        stream("", "BT /G 12 Tf 72 720 Td <00010002> Tj /F 12 Tf (Half a page.) Tj ET"),
        helvetica(""),
        "<< /Type /Font /Subtype /Type0 /BaseFont /X /Encoding /Identity-H /DescendantFonts [11 0 R] >>".into(),
        "<< /Type /Font /Subtype /CIDFontType2 /BaseFont /X /CIDSystemInfo << /Registry (Adobe) /Ordering (Identity) \
         /Supplement 0 >> /DW 500 /W [1 2 600] >>"
            .into(),
        picture,
    ]);
    let document = read(&file, DocumentKind::Pdf).unwrap();
    assert_eq!(text_of(&file), "The first page. Half a page.");
    assert_eq!(
        document.warnings,
        ["page 2: it has only pictures, and no text", "page 3: 2 of 14 signs have no mapping to text and are left out",]
    );
}

#[test]
fn documents_in_utf_16_are_read() {
    let bytes: Vec<u8> = "\u{feff}Fähre\n\nAb 6:15".encode_utf16().flat_map(u16::to_le_bytes).collect();
    assert_eq!(read(&bytes, DocumentKind::Text).unwrap().text(), "Fähre\n\nAb 6:15");
    assert_eq!(read(&bytes, DocumentKind::Markdown).unwrap().text(), "Fähre\n\nAb 6:15");
}

#[test]
fn kinds_are_known_by_type_name_and_first_bytes() {
    assert_eq!(DocumentKind::of(Some("text/markdown; charset=utf-8"), None), Some(DocumentKind::Markdown));
    assert_eq!(DocumentKind::of(Some("application/octet-stream"), Some("Handbook.PDF")), Some(DocumentKind::Pdf));
    assert_eq!(DocumentKind::of(None, Some("picture.png")), None);
    assert_eq!(words(&read(SOFT, DocumentKind::Text).unwrap().text()).len(), words(REFERENCE).len(), "its bytes tell");
    assert_eq!(read(b"caf\xE9", DocumentKind::Text), Err(DocumentError::NotUtf8(3)));
    assert_eq!(read(b" \n ", DocumentKind::Markdown), Err(DocumentError::NoText));
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(200))]

    #[test]
    fn damage_is_an_error_and_no_panic(at in 0usize..49_000, byte: u8, cut in 0usize..49_000) {
        let mut file = TIGHT.to_vec();
        file[at % TIGHT.len()] = byte;
        file.truncate(cut.max(10));
        let _ = read(&file, DocumentKind::Pdf);
    }

    #[test]
    fn deep_or_broken_pages_are_read(tags in proptest::collection::vec("<(div|p|a|table|li|b)>|</(div|p|a)>|&|x", 0..400)) {
        let _ = read(tags.concat().repeat(20).as_bytes(), DocumentKind::Html);
    }
}
