//! Whole files, read word for word.
#![allow(clippy::unwrap_used, reason = "a test that cannot set up its case has failed")]

use std::io::{Cursor, Write as _};

use dispatcher_documents::{Block, Document, DocumentError, Kind, Split, read};
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
        let document = read(file, Kind::Pdf).unwrap();
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
    let document = read(SOFT, Kind::Pdf).unwrap();
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
    assert_eq!(read(&book(1 << 20), Kind::Epub).unwrap().text(), "Ahoy.");
    let bomb = book(most + 1);
    assert!(bomb.len() < 1 << 20, "{} bytes become {most} and more", bomb.len());
    assert_eq!(read(&bomb, Kind::Epub), Err(DocumentError::TooLarge));
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
    let document = read(&book, Kind::Epub).unwrap();
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
    assert!(matches!(read(&zipped(&[("a.txt", "x")]), Kind::Epub), Err(DocumentError::Damaged(_))));
    let bomb = page(&"<p>0000000000</p>".repeat(5_000_000));
    let book = zipped(&[
        ("META-INF/container.xml", CONTAINER),
        ("book/a.opf", PACKAGE),
        ("book/nav.xhtml", &bomb),
        ("book/text/one 1.xhtml", &bomb),
        ("book/text/two.xhtml", &bomb),
    ]);
    assert!(book.len() < 2_000_000);
    assert_eq!(read(&book, Kind::Epub), Err(DocumentError::TooLarge));
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
    let error = read(&scanned, Kind::Pdf).unwrap_err();
    assert_eq!(error, DocumentError::NoText);
    assert!(error.to_string().contains("scanned"), "{error}");
    let form = "<< /Type /XObject /Subtype /Form /BBox [0 0 9 9] /Resources << /XObject << /F 5 0 R >> >> /Length 5 >>\n\
                stream\n/F Do\nendstream";
    let endless = one_page("/F Do", "/XObject << /F 5 0 R >>", &[form.to_owned()]);
    assert!(matches!(read(&endless, Kind::Pdf), Err(DocumentError::Damaged(_))));
    assert!(matches!(
        read(&TIGHT[..TIGHT.len() / 2], Kind::Pdf),
        Err(DocumentError::Damaged(_) | DocumentError::NoText)
    ));
}

#[test]
fn kinds_are_known_by_type_name_and_first_bytes() {
    assert_eq!(Kind::of(Some("text/markdown; charset=utf-8"), None), Some(Kind::Markdown));
    assert_eq!(Kind::of(Some("application/octet-stream"), Some("Handbook.PDF")), Some(Kind::Pdf));
    assert_eq!(Kind::of(None, Some("picture.png")), None);
    assert_eq!(words(&read(SOFT, Kind::Text).unwrap().text()).len(), words(REFERENCE).len(), "its bytes tell");
    assert_eq!(read(b"caf\xE9", Kind::Text), Err(DocumentError::NotUtf8(3)));
    assert_eq!(read(b" \n ", Kind::Markdown), Err(DocumentError::NoText));
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(200))]

    #[test]
    fn damage_is_an_error_and_no_panic(at in 0usize..49_000, byte: u8, cut in 0usize..49_000) {
        let mut file = TIGHT.to_vec();
        file[at % TIGHT.len()] = byte;
        file.truncate(cut.max(10));
        let _ = read(&file, Kind::Pdf);
    }

    #[test]
    fn deep_or_broken_pages_are_read(tags in proptest::collection::vec("<(div|p|a|table|li|b)>|</(div|p|a)>|&|x", 0..400)) {
        let _ = read(tags.concat().repeat(20).as_bytes(), Kind::Html);
    }
}
