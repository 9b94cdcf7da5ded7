//! A page's drawing with nothing in it but text and where it is: forms in
//! their places, and operators that the reader of text does not know replaced
//! by those that it knows (ISO 32000-1, 9.4 and 8.10).

use std::collections::HashMap;

use pdf_extract::content::{Content, Operation};
use pdf_extract::{Dictionary, Document as File, Object, ObjectId, Stream};

use super::{fonts, pdf_damage};
use crate::DocumentError;

/// Operators of one page, forms included.
const MOST_OPERATIONS: usize = 400_000;
/// Forms within forms.
const DEEPEST: usize = 16;
/// Ancestors that a page inherits from.
const MOST_ANCESTORS: usize = 32;

/// What a page shows.
#[derive(Debug, Default)]
pub(super) struct Drawing {
    operations: Vec<Operation>,
    fonts: Dictionary,
    names: HashMap<ObjectId, Vec<u8>>,
    /// Pictures are drawn.
    pub(super) pictures: bool,
}

/// The state that the walk over one stream keeps.
#[derive(Default)]
struct Walk {
    /// Whether a font is set, and in each saved state.
    font: bool,
    saved: Vec<bool>,
    /// For each marked sequence that is open, whether it is page furniture.
    marked: Vec<bool>,
}

/// A value that a page has or inherits (7.7.3.4).
fn inherited<'f>(file: &'f File, page: ObjectId, key: &[u8]) -> Option<&'f Object> {
    let mut node = file.get_dictionary(page).ok()?;
    for _ in 0..MOST_ANCESTORS {
        if let Ok(value) = node.get(key) {
            return file.dereference(value).ok().map(|(_, value)| value);
        }
        node = file.get_dictionary(node.get(b"Parent").ok()?.as_reference().ok()?).ok()?;
    }
    None
}

fn dictionary<'f>(file: &'f File, holder: &'f Dictionary, key: &[u8]) -> Option<&'f Dictionary> {
    file.dereference(holder.get(key).ok()?).ok()?.1.as_dict().ok()
}

fn number(object: &Object) -> Option<f64> {
    object.as_float().ok().map(f64::from)
}

fn numbers(operands: &[Object], count: usize) -> bool {
    operands.len() == count && operands.iter().all(|operand| number(operand).is_some())
}

fn operation(operator: &str, operands: Vec<Object>) -> Operation {
    Operation::new(operator, operands)
}

fn transform(values: [f64; 6]) -> Operation {
    operation("cm", values.iter().map(|value| Object::Real(*value as f32)).collect())
}

/// Four corners of a box, in points: left, bottom, right, top.
fn media_box(file: &File, page: ObjectId) -> [f64; 4] {
    let given = inherited(file, page, b"MediaBox").and_then(|value| value.as_array().ok());
    let resolved = |object: &Object| file.dereference(object).ok().and_then(|(_, object)| number(object));
    let corners: Vec<f64> = given.into_iter().flatten().filter_map(resolved).collect();
    match corners[..] {
        [a, b, c, d] => [a.min(c), b.min(d), a.max(c), b.max(d)],
        // US letter, where a file says nothing.
        _ => [0.0, 0.0, 612.0, 792.0],
    }
}

/// Replaces what a page draws by its text alone, upright as it is looked at.
///
/// # Errors
/// When a page draws more than is read.
pub(super) fn simplify(file: &mut File, page: ObjectId) -> Result<Drawing, DocumentError> {
    let mut drawing = Drawing::default();
    let [left, bottom, right, top] = media_box(file, page);
    let (width, height) = (right - left, top - bottom);
    let turned = inherited(file, page, b"Rotate").and_then(|turn| turn.as_i64().ok()).unwrap_or(0).rem_euclid(360);
    drawing.operations.push(match turned {
        90 => transform([0.0, -1.0, 1.0, 0.0, -bottom, right]),
        180 => transform([-1.0, 0.0, 0.0, -1.0, right, top]),
        270 => transform([0.0, 1.0, -1.0, 0.0, top, -left]),
        _ => transform([1.0, 0.0, 0.0, 1.0, -left, -bottom]),
    });
    let empty = Dictionary::new();
    let resources = inherited(file, page, b"Resources").and_then(|found| found.as_dict().ok()).unwrap_or(&empty);
    let content = file.get_page_content(page).unwrap_or_default();
    drawing.stream(file, &content, resources, 0)?;
    let (width, height) = if turned % 180 == 90 { (height, width) } else { (width, height) };
    let operations = std::mem::take(&mut drawing.operations);
    let content = Content { operations }.encode().map_err(pdf_damage)?;
    let fonts = std::mem::take(&mut drawing.fonts);
    let mut resources = Dictionary::new();
    resources.set("Font", fonts);
    let content = file.add_object(Stream::new(Dictionary::new(), content).with_compression(false));
    if let Ok(page) = file.get_object_mut(page).and_then(Object::as_dict_mut) {
        let corners = [0.0, 0.0, width, height].map(|corner| Object::Real(corner as f32)).to_vec();
        page.set("MediaBox", Object::Array(corners));
        page.remove(b"ArtBox");
        page.remove(b"Rotate");
        page.set("Resources", Object::Dictionary(resources));
        page.set("Contents", Object::Reference(content));
    }
    Ok(drawing)
}

/// Lets go of what [`simplify`] made of a page.
pub(super) fn clear(file: &mut File, page: ObjectId) {
    let made = file.get_dictionary(page).ok().and_then(|page| page.get(b"Contents").ok()?.as_reference().ok());
    if let Some(made) = made {
        file.objects.remove(&made);
    }
    if let Ok(page) = file.get_object_mut(page).and_then(Object::as_dict_mut) {
        page.remove(b"Contents");
        page.remove(b"Resources");
    }
}

impl Drawing {
    fn push(&mut self, operation: Operation) -> Result<(), DocumentError> {
        self.operations.push(operation);
        if self.operations.len() > MOST_OPERATIONS { Err(DocumentError::TooLarge) } else { Ok(()) }
    }

    fn stream(
        &mut self,
        file: &File,
        content: &[u8],
        resources: &Dictionary,
        deep: usize,
    ) -> Result<(), DocumentError> {
        // What can be read of a damaged stream is read.
        let Ok(content) = Content::decode(content) else { return Ok(()) };
        let mut walk = Walk::default();
        for one in content.operations {
            self.step(file, one, resources, deep, &mut walk)?;
        }
        // What it left open does not reach beyond it.
        for _ in 0..walk.saved.len() {
            self.push(operation("Q", Vec::new()))?;
        }
        Ok(())
    }

    fn step(
        &mut self,
        file: &File,
        one: Operation,
        resources: &Dictionary,
        deep: usize,
        walk: &mut Walk,
    ) -> Result<(), DocumentError> {
        let operands = one.operands.as_slice();
        match one.operator.as_str() {
            "q" => {
                walk.saved.push(walk.font);
                self.push(one)
            }
            "Q" => match walk.saved.pop() {
                Some(font) => {
                    walk.font = font;
                    self.push(one)
                }
                None => Ok(()),
            },
            "BT" | "ET" | "T*" => self.push(operation(&one.operator, Vec::new())),
            "cm" | "Tm" if numbers(operands, 6) => self.push(one),
            "Td" | "TD" if numbers(operands, 2) => self.push(one),
            "Tc" | "Tw" | "Tz" | "TL" | "Ts" if numbers(operands, 1) => self.push(one),
            "Tf" => self.font(file, operands, resources, walk),
            "gs" => self.state(file, operands, resources, walk),
            "Tj" | "TJ" => self.show(operands, walk),
            "'" => {
                self.push(operation("T*", Vec::new()))?;
                self.show(operands, walk)
            }
            "\"" if operands.len() == 3 && numbers(&operands[..2], 2) => {
                self.push(operation("Tw", vec![operands[0].clone()]))?;
                self.push(operation("Tc", vec![operands[1].clone()]))?;
                self.push(operation("T*", Vec::new()))?;
                self.show(&operands[2..], walk)
            }
            "BMC" | "BDC" => {
                walk.marked.push(is_furniture(file, operands, resources));
                Ok(())
            }
            "EMC" => {
                walk.marked.pop();
                Ok(())
            }
            "BI" => {
                self.pictures = true;
                Ok(())
            }
            "Do" => self.draw(file, operands, resources, deep, walk),
            // Lines, colours and the like.
            _ => Ok(()),
        }
    }

    /// Text, as one operator with an array of strings and distances.
    fn show(&mut self, operands: &[Object], walk: &Walk) -> Result<(), DocumentError> {
        if !walk.font || walk.marked.contains(&true) {
            return Ok(());
        }
        let parts = match operands {
            [Object::Array(parts)] => parts.as_slice(),
            operands => operands,
        };
        let fits = |part: &&Object| matches!(part, Object::String(..) | Object::Integer(_) | Object::Real(_));
        let parts: Vec<Object> = parts.iter().filter(fits).cloned().collect();
        self.push(operation("TJ", vec![Object::Array(parts)]))
    }

    fn font(
        &mut self,
        file: &File,
        operands: &[Object],
        resources: &Dictionary,
        walk: &mut Walk,
    ) -> Result<(), DocumentError> {
        let [Object::Name(name), size] = operands else { return Ok(()) };
        let found = dictionary(file, resources, b"Font").and_then(|fonts| fonts.get(name).ok());
        walk.font = false;
        match found {
            Some(font) => self.set_font(file, font, size, walk),
            None => Ok(()),
        }
    }

    /// Under a name of its own: forms name their fonts as their pages do.
    fn set_font(&mut self, file: &File, font: &Object, size: &Object, walk: &mut Walk) -> Result<(), DocumentError> {
        let known = font.as_reference().ok().and_then(|id| self.names.get(&id).cloned());
        let name = match known {
            Some(name) => name,
            None => {
                let Some(mended) = file.dereference(font).ok().and_then(|(_, font)| fonts::mended(file, font)) else {
                    return Ok(());
                };
                let name = format!("F{}", self.fonts.len()).into_bytes();
                self.fonts.set(name.clone(), mended);
                if let Ok(id) = font.as_reference() {
                    self.names.insert(id, name.clone());
                }
                name
            }
        };
        if number(size).is_none() {
            return Ok(());
        }
        walk.font = true;
        self.push(operation("Tf", vec![Object::Name(name), size.clone()]))
    }

    /// A graphics state may set a font (8.4.5).
    fn state(
        &mut self,
        file: &File,
        operands: &[Object],
        resources: &Dictionary,
        walk: &mut Walk,
    ) -> Result<(), DocumentError> {
        let [Object::Name(name)] = operands else { return Ok(()) };
        let state = dictionary(file, resources, b"ExtGState").and_then(|states| dictionary(file, states, name));
        let font = state.and_then(|state| state.get(b"Font").ok()).and_then(|font| file.dereference(font).ok());
        match font.map(|(_, font)| font) {
            Some(Object::Array(pair)) if pair.len() == 2 => self.set_font(file, &pair[0], &pair[1], walk),
            _ => Ok(()),
        }
    }

    /// A form in its place (8.10.1), or a picture.
    fn draw(
        &mut self,
        file: &File,
        operands: &[Object],
        resources: &Dictionary,
        deep: usize,
        walk: &Walk,
    ) -> Result<(), DocumentError> {
        let [Object::Name(name)] = operands else { return Ok(()) };
        let found = dictionary(file, resources, b"XObject").and_then(|objects| objects.get(name).ok());
        let Some(stream) = found.and_then(|found| file.dereference(found).ok()?.1.as_stream().ok()) else {
            return Ok(());
        };
        if stream.dict.get(b"Subtype").and_then(Object::as_name).is_ok_and(|kind| kind == b"Image") {
            self.pictures = true;
            return Ok(());
        }
        if deep >= DEEPEST || walk.marked.contains(&true) {
            return Ok(());
        }
        self.push(operation("q", Vec::new()))?;
        let matrix = stream.dict.get(b"Matrix").and_then(|matrix| file.dereference(matrix)).ok();
        if let Some(matrix) = matrix.and_then(|(_, matrix)| matrix.as_array().ok()).filter(|it| numbers(it, 6)) {
            self.push(operation("cm", matrix.clone()))?;
        }
        let own = dictionary(file, &stream.dict, b"Resources").unwrap_or(resources);
        let content = stream.decompressed_content().unwrap_or_else(|_| stream.content.clone());
        self.stream(file, &content, own, deep + 1)?;
        self.push(operation("Q", Vec::new()))
    }
}

/// Whether a marked sequence is a running head, a page number or the like, by
/// what the file says of it (14.8.2.2.2).
fn is_furniture(file: &File, operands: &[Object], resources: &Dictionary) -> bool {
    let [Object::Name(tag), properties] = operands else { return false };
    let properties = match properties {
        Object::Dictionary(properties) => Some(properties),
        Object::Name(name) => dictionary(file, resources, b"Properties").and_then(|all| dictionary(file, all, name)),
        _ => None,
    };
    let kind = properties.and_then(|properties| properties.get(b"Type").ok()?.as_name().ok());
    tag == b"Artifact" && kind == Some(b"Pagination")
}
