//! PDF (ISO 32000): letters with their places become lines, lines columns,
//! columns paragraphs. Running heads, page numbers and the hyphens of line
//! ends are taken out.

mod drawing;
mod flow;
mod fonts;
mod layout;
mod lines;

use std::cell::Cell;
use std::collections::HashSet;

use pdf_extract::{Document as File, MediaBox, Object, ObjectId, OutputDev, OutputError, Transform, output_doc_page};

use crate::{Damage, Document, DocumentError};

/// Letters that a file may have: a shelf of books.
const MOST_GLYPHS: usize = 8_000_000;
/// Bytes that the drawing of one page or form may unpack to: the reader holds
/// each operator of it, at a hundred times its size.
const MOST_DRAWING: u64 = 3 << 20;
/// Bytes that all drawings of a file may unpack to.
const MOST_DRAWINGS: u64 = 200 << 20;
/// Forms within forms.
const DEEPEST: usize = 16;

/// A letter, or several that are one sign.
#[derive(Debug, Clone, PartialEq)]
struct Glyph {
    text: String,
    /// Left edge, right edge and base line, in points from the lower left.
    x: f64,
    right: f64,
    y: f64,
    /// Height of its font in points.
    size: f64,
}

/// The letters of a page in the order of the file.
#[derive(Debug, Default)]
struct Page {
    glyphs: Vec<Glyph>,
    bottom: f64,
    top: f64,
}

/// Ways in which text runs: to the right, up, to the left, down.
const DIRECTIONS: usize = 4;

/// The letters of one page by the direction in which they run.
#[derive(Default)]
struct Taker {
    by_direction: [Vec<Glyph>; DIRECTIONS],
    width: f64,
    height: f64,
    count: usize,
    /// Signs that have no mapping to text.
    unmapped: usize,
}

impl Taker {
    /// The page as most of its text runs, and how many letters run otherwise.
    fn page(self) -> (Page, usize) {
        let sizes = self.by_direction.each_ref().map(Vec::len);
        // To the right where there are as many of one as of another.
        let most = (0..DIRECTIONS).rev().max_by_key(|direction| sizes[*direction]).unwrap_or(0);
        let others = sizes.iter().sum::<usize>() - sizes[most];
        let mut by_direction = self.by_direction;
        let glyphs = std::mem::take(&mut by_direction[most]);
        let top = if most % 2 == 1 { self.width } else { self.height };
        (Page { glyphs, bottom: 0.0, top }, others)
    }
}

impl OutputDev for Taker {
    fn begin_page(&mut self, _: u32, media: &MediaBox, _: Option<(f64, f64, f64, f64)>) -> Result<(), OutputError> {
        (self.width, self.height) = (media.urx - media.llx, media.ury - media.lly);
        Ok(())
    }

    fn end_page(&mut self) -> Result<(), OutputError> {
        Ok(())
    }

    fn output_character(
        &mut self,
        place: &Transform,
        width: f64,
        _spacing: f64,
        font_size: f64,
        text: &str,
    ) -> Result<(), OutputError> {
        let is_mapped = |c: char| !matches!(c, '\0' | '\u{fffd}' | '\u{e000}'..='\u{f8ff}');
        if !text.chars().any(is_mapped) {
            self.unmapped += 1;
            return Ok(());
        }
        self.count += 1;
        let size = font_size.abs() * place.m21.hypot(place.m22);
        if self.count > MOST_GLYPHS || !size.is_finite() || size <= 0.5 {
            return Ok(());
        }
        let (across, up) = (place.m11 * font_size.signum(), place.m12 * font_size.signum());
        let length = width * font_size.abs() * across.hypot(up);
        // Each direction is turned to run to the right.
        let (direction, x, y) = match (across.abs() >= up.abs(), across >= 0.0, up >= 0.0) {
            (true, true, _) => (0, place.m31, place.m32),
            (false, _, true) => (1, place.m32, self.width - place.m31),
            (true, false, _) => (2, self.width - place.m31, self.height - place.m32),
            (false, _, false) => (3, self.height - place.m32, place.m31),
        };
        // What is neither along the page nor across it is a mark on it.
        if across.abs().min(up.abs()) > 0.1 * across.abs().max(up.abs()) {
            return Ok(());
        }
        self.by_direction[direction].push(Glyph { text: text.to_owned(), x, right: x + length, y, size });
        Ok(())
    }

    fn begin_word(&mut self) -> Result<(), OutputError> {
        Ok(())
    }

    fn end_word(&mut self) -> Result<(), OutputError> {
        Ok(())
    }

    fn end_line(&mut self) -> Result<(), OutputError> {
        Ok(())
    }
}

/// Forms that are drawn within themselves would be drawn for ever.
fn check_forms(file: &File) -> Result<(), DocumentError> {
    fn walk(file: &File, holder: &Object, path: &mut Vec<ObjectId>, seen: &mut HashSet<ObjectId>) -> bool {
        let dictionary = match holder {
            Object::Dictionary(dictionary) => dictionary,
            Object::Stream(stream) => &stream.dict,
            _ => return true,
        };
        let resolved = |object: &Object| file.dereference(object).map(|(_, object)| object.clone()).ok();
        let resources = dictionary.get(b"Resources").ok().and_then(resolved);
        let Some(Object::Dictionary(resources)) = resources else { return true };
        let forms = resources.get(b"XObject").ok().and_then(resolved);
        let Some(Object::Dictionary(forms)) = forms else { return true };
        for (_, form) in &forms {
            let Object::Reference(id) = form else { continue };
            if path.contains(id) || path.len() > DEEPEST {
                return false;
            }
            if !seen.insert(*id) {
                continue;
            }
            let Ok(inner) = file.get_object(*id) else { continue };
            path.push(*id);
            let sound = walk(file, inner, path, seen);
            path.pop();
            if !sound {
                return false;
            }
        }
        true
    }
    for id in file.page_iter() {
        let Ok(page) = file.get_object(id) else { continue };
        if !walk(file, page, &mut Vec::new(), &mut HashSet::new()) {
            return Err(Damage::FormInItself.into());
        }
    }
    Ok(())
}

/// Refuses drawings that unpack to more than is read, before any is unpacked
/// whole.
fn check_drawings(file: &File) -> Result<(), DocumentError> {
    let mut total = 0;
    let forms = file
        .objects
        .values()
        .filter_map(|object| object.as_stream().ok())
        .filter(|stream| stream.dict.get(b"Subtype").and_then(Object::as_name).is_ok_and(|name| name == b"Form"));
    for form in forms {
        add_drawing(&mut total, unpacked(form))?;
    }
    for page in file.page_iter() {
        let streams = file.get_page_contents(page);
        let streams = streams.into_iter().filter_map(|id| file.get_object(id).ok()?.as_stream().ok());
        add_drawing(&mut total, streams.map(unpacked).sum())?;
    }
    Ok(())
}

fn add_drawing(total: &mut u64, bytes: u64) -> Result<(), DocumentError> {
    *total += bytes;
    if bytes > MOST_DRAWING || *total > MOST_DRAWINGS { Err(DocumentError::TooLarge) } else { Ok(()) }
}

/// Bytes that a stream unpacks to, counted no further than what is refused.
/// Filters other than Flate (ISO 32000-1, 7.4.4) pack far less.
fn unpacked(stream: &pdf_extract::Stream) -> u64 {
    use std::io::Read as _;
    let flate = stream.filters().is_ok_and(|filters| filters.first().is_some_and(|name| *name == b"FlateDecode"));
    if !flate {
        return stream.content.len() as u64;
    }
    let unpack = flate2::read::ZlibDecoder::new(stream.content.as_slice()).take(MOST_DRAWING + 1);
    let mut chunk = vec![0; 64 << 10];
    let (mut unpack, mut bytes) = (unpack, 0);
    while let Ok(count @ 1..) = unpack.read(&mut chunk) {
        bytes += count as u64;
    }
    bytes
}

thread_local! {
    static PARSING: Cell<bool> = const { Cell::new(false) };
}

/// Whether this thread is within a parser whose panic would be caught, and
/// become an error: a program's panic hook need not report it.
pub fn expects_panic() -> bool {
    PARSING.get()
}

/// Warnings about single pages; more are counted.
const MOST_WARNINGS: usize = 20;
/// Letters that run another way than the others from which on it is said.
const FEW_TURNED: usize = 10;

pub(crate) fn read(bytes: &[u8]) -> Result<Document, DocumentError> {
    let (mut file, title) = attempt(|| {
        let file = File::load_mem(bytes).map_err(pdf_damage)?;
        if file.is_encrypted() {
            return Err(DocumentError::Encrypted);
        }
        check_forms(&file)?;
        check_drawings(&file)?;
        let title = title(&file);
        Ok((file, title))
    })?;
    let mut pages = Vec::new();
    let mut warnings = Vec::new();
    let mut first_damage = None;
    let mut count = 0;
    for (number, id) in file.get_pages() {
        // A page that cannot be read does not take the others with it.
        match attempt(|| read_page(&mut file, number, id)) {
            Err(DocumentError::TooLarge) => return Err(DocumentError::TooLarge),
            Err(error) => {
                let damage = Damage::Page { page: number, cause: Box::new(error) };
                warnings.push(damage.to_string());
                first_damage.get_or_insert(damage);
                pages.push(Page::default());
            }
            Ok((page, found, warning)) => {
                count += found;
                warnings.extend(warning.map(|warning| format!("page {number}: {warning}")));
                pages.push(page);
            }
        }
        if count > MOST_GLYPHS {
            return Err(DocumentError::TooLarge);
        }
    }
    if count == 0
        && let Some(damage) = first_damage
    {
        return Err(damage.into());
    }
    if warnings.len() > MOST_WARNINGS {
        let more = warnings.len() - MOST_WARNINGS;
        warnings.truncate(MOST_WARNINGS);
        warnings.push(format!("{more} further pages are not read whole"));
    }
    Ok(Document { title, language: None, blocks: flow::blocks(layout::lay_out(&pages)), warnings })
}

/// What the library says of a PDF that it cannot read.
fn pdf_damage(error: impl std::fmt::Display) -> DocumentError {
    Damage::Pdf { reason: error.to_string() }.into()
}

/// The parser gives up on some damaged files by panicking.
fn attempt<T>(work: impl FnOnce() -> Result<T, DocumentError>) -> Result<T, DocumentError> {
    PARSING.set(true);
    let done = std::panic::catch_unwind(std::panic::AssertUnwindSafe(work));
    PARSING.set(false);
    done.unwrap_or_else(|_| Err(Damage::NotStandard.into()))
}

/// One page, the number of its letters, and what is missing of it.
fn read_page(file: &mut File, number: u32, id: ObjectId) -> Result<(Page, usize, Option<String>), DocumentError> {
    let drawing = drawing::simplify(file, id)?;
    let mut taker = Taker::default();
    let read = output_doc_page(file, &mut taker, number);
    drawing::clear(file, id);
    read.map_err(pdf_damage)?;
    let (count, unmapped) = (taker.count, taker.unmapped);
    let (page, turned) = taker.page();
    let warning = match (count, unmapped) {
        (0, 0) if drawing.pictures => Some("it has only pictures, and no text".to_owned()),
        (_, 1..) => Some(format!("{unmapped} of {} signs have no mapping to text and are left out", count + unmapped)),
        _ if turned > FEW_TURNED => Some(format!("{turned} letters run another way than the others and are left out")),
        _ => None,
    };
    Ok((page, count, warning))
}

/// The title that the file gives itself.
fn title(file: &File) -> Option<String> {
    let info = file.trailer.get(b"Info").ok()?;
    let (_, info) = file.dereference(info).ok()?;
    let title = info.as_dict().ok()?.get(b"Title").ok()?;
    let (_, title) = file.dereference(title).ok()?;
    let bytes = title.as_str().ok()?;
    let text = match bytes {
        [0xFE, 0xFF, rest @ ..] => {
            let units: Vec<u16> = rest.as_chunks::<2>().0.iter().map(|pair| u16::from_be_bytes(*pair)).collect();
            String::from_utf16_lossy(&units)
        }
        bytes => {
            std::str::from_utf8(bytes).map_or_else(|_| bytes.iter().map(|b| char::from(*b)).collect(), str::to_owned)
        }
    };
    Some(crate::tidy(&text)).filter(|title| !title.is_empty())
}
