//! Signal flags on pictures, told by the colours of five points, and what they
//! mean (International Code of Signals, single letters).

/// The colours that signal flags have.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Dye {
    Red,
    Yellow,
    Blue,
    White,
    Black,
}

use Dye::{Black, Blue, Red, White, Yellow};

/// The colours of the corners (top left, top right, bottom left, bottom right),
/// of the middle where it tells flags apart, and what the flag says.
const FLAGS: [([Dye; 4], Option<Dye>, &str, &str); 9] = [
    ([White, Blue, White, Blue], None, "A", "a diver is down, keep well clear at slow speed"),
    ([Red, Red, Red, Red], Some(Red), "B", "dangerous goods are on board"),
    ([White, Red, White, Red], None, "H", "a pilot is on board"),
    ([Yellow, Blue, Yellow, Blue], None, "K", "we wish to speak with you"),
    ([Yellow, Black, Black, Yellow], None, "L", "stop your ship at once"),
    ([Blue, Blue, Blue, Blue], Some(White), "P", "everybody come on board, the ship is about to sail"),
    ([Yellow, Yellow, Yellow, Yellow], Some(Yellow), "Q", "all are well on board, and we ask to enter"),
    ([White, White, White, White], Some(Blue), "S", "our engines are going astern"),
    ([Red, White, White, Red], None, "U", "you are running into danger"),
];
/// Pixels of a picture.
const MOST_PIXELS: u64 = 16_000_000;

fn dye_of([red, green, blue]: [u8; 3]) -> Dye {
    match (red > 127, green > 127, blue > 127) {
        (true, true, true) => White,
        (true, true, false) => Yellow,
        (true, false, _) => Red,
        (false, _, true) => Blue,
        (false, false, false) => Black,
        (false, true, false) => Blue,
    }
}

/// The letter of the flag on a picture, and its meaning.
pub(super) fn meaning_of(png: &[u8]) -> Option<(&'static str, &'static str)> {
    let mut decoder = png::Decoder::new(std::io::Cursor::new(png));
    decoder.set_transformations(png::Transformations::normalize_to_color8());
    let mut reader = decoder.read_info().ok()?;
    let (width, height) = reader.info().size();
    if u64::from(width) * u64::from(height) > MOST_PIXELS || width < 8 || height < 8 {
        return None;
    }
    let mut pixels = vec![0; reader.output_buffer_size()?];
    let frame = reader.next_frame(&mut pixels).ok()?;
    let samples = frame.color_type.samples();
    let at = |x: u32, y: u32| {
        let start = y as usize * frame.line_size + x as usize * samples;
        let pixel = &pixels[start..start + samples];
        dye_of(if samples >= 3 { [pixel[0], pixel[1], pixel[2]] } else { [pixel[0]; 3] })
    };
    let (left, right, top, bottom) = (width / 8, width * 7 / 8, height / 8, height * 7 / 8);
    let corners = [at(left, top), at(right, top), at(left, bottom), at(right, bottom)];
    let middle = at(width / 2, height / 2);
    let found = FLAGS.iter().find(|(of, centre, ..)| *of == corners && centre.is_none_or(|centre| centre == middle));
    found.map(|(.., name, meaning)| (*name, *meaning))
}

#[cfg(test)]
mod tests {
    use super::*;

    /// A picture of 64 by 48 pixels, whose colour is told by its place.
    fn picture(colour: impl Fn(u32, u32) -> [u8; 3]) -> Vec<u8> {
        let mut bytes = Vec::new();
        let mut encoder = png::Encoder::new(&mut bytes, 64, 48);
        encoder.set_color(png::ColorType::Rgb);
        let mut writer = encoder.write_header().expect("a head");
        let pixels: Vec<u8> =
            (0..48).flat_map(|y| (0..64).map(move |x| (x, y))).flat_map(|(x, y)| colour(x, y)).collect();
        writer.write_image_data(&pixels).expect("pixels");
        writer.finish().expect("an end");
        bytes
    }

    #[test]
    fn flags_are_told_apart() {
        let (yellow, blue, white) = ([250, 220, 30], [20, 40, 160], [255, 255, 255]);
        let letter = |png: &[u8]| meaning_of(png).map(|(name, _)| name);
        assert_eq!(letter(&picture(|x, _| if x < 32 { yellow } else { blue })), Some("K"));
        assert_eq!(letter(&picture(|x, y| if (x < 32) == (y < 24) { yellow } else { [0; 3] })), Some("L"));
        let framed = |inner: [u8; 3], outer: [u8; 3]| {
            picture(move |x, y| if (20..44).contains(&x) && (14..34).contains(&y) { inner } else { outer })
        };
        assert_eq!(letter(&framed(white, blue)), Some("P"));
        assert_eq!(letter(&framed(blue, white)), Some("S"));
        assert_eq!(letter(&picture(|_, _| [90, 200, 90])), None, "green is no colour of a flag");
        assert_eq!(letter(b"no picture"), None);
    }
}
