//! How alike two words sound: letters (mainly as English reads them) or IPA
//! become a short row of sounds, and rows are compared by a weighted edit
//! distance. No dictionary is needed, since names are in none.

/// The sounds of a word, each a letter: consonants as in the X-SAMPA of
/// English (`T` of "thin", `S` of "ship", `C` of "chip", `J` of "jam", `N` of
/// "ring"), vowels as one of `a e i o u`.
#[derive(Debug, Clone, PartialEq, Eq, Hash, Default)]
pub(super) struct Sounds(Vec<u8>);

/// Letters together, and their sound; the longest first.
const SPELT: &[(&str, &str)] = &[
    ("eigh", "e"),
    ("ough", "o"),
    ("augh", "o"),
    ("tch", "C"),
    ("sch", "S"),
    ("igh", "ai"),
    ("ssi", "S"),
    ("tio", "So"),
    ("cia", "Sa"),
    ("dge", "J"),
    ("que", "k"),
    ("ch", "C"),
    ("sh", "S"),
    ("th", "T"),
    ("ph", "f"),
    ("gh", "g"),
    ("ck", "k"),
    ("qu", "kw"),
    ("wh", "w"),
    ("ng", "N"),
    ("ce", "se"),
    ("ci", "si"),
    ("cy", "si"),
    ("ge", "Je"),
    ("gi", "gi"),
    ("gy", "Ji"),
    ("ee", "i"),
    ("ea", "i"),
    ("ie", "i"),
    ("ei", "e"),
    ("ey", "i"),
    ("oo", "u"),
    ("ou", "au"),
    ("ow", "o"),
    ("ai", "e"),
    ("ay", "e"),
    ("oa", "o"),
    ("oe", "o"),
    ("oi", "oi"),
    ("oy", "oi"),
    ("au", "o"),
    ("aw", "o"),
    ("ew", "u"),
    ("ue", "u"),
];

/// Signs of the IPA that are not a letter of its own sound.
const IPA: &[(&str, &str)] = &[
    ("tʃ", "C"),
    ("dʒ", "J"),
    ("ŋ", "N"),
    ("ʃ", "S"),
    ("ʒ", "Z"),
    ("θ", "T"),
    ("ð", "T"),
    ("ɹ", "r"),
    ("ɾ", "t"),
    ("ʁ", "r"),
    ("ɡ", "g"),
    ("ç", "S"),
    ("ɲ", "n"),
    ("ʎ", "l"),
    ("x", "k"),
    ("ɣ", "g"),
    ("β", "v"),
    ("æ", "a"),
    ("ɑ", "a"),
    ("ɐ", "a"),
    ("ʌ", "a"),
    ("ɒ", "o"),
    ("ɔ", "o"),
    ("ø", "e"),
    ("œ", "e"),
    ("ə", "e"),
    ("ɜ", "e"),
    ("ɛ", "e"),
    ("ɪ", "i"),
    ("y", "i"),
    ("ʏ", "i"),
    ("ʊ", "u"),
    ("ɯ", "u"),
];

impl Sounds {
    /// Of words as they are spelt. Writing that has no letters of the Latin
    /// alphabet has no sounds.
    pub(super) fn of_words<'w>(words: impl IntoIterator<Item = &'w str>) -> Sounds {
        let mut sounds = Vec::new();
        for word in words {
            let letters: String = word.chars().flat_map(char::to_lowercase).map(plain).collect();
            sounds.extend(spelt(&letters));
        }
        Sounds(merged(sounds))
    }

    /// Of a transcription in the IPA.
    pub(super) fn of_ipa(text: &str) -> Sounds {
        let mut sounds = Vec::new();
        let mut rest = text;
        while let Some(c) = rest.chars().next() {
            if let Some((sign, sound)) = IPA.iter().find(|(sign, _)| rest.starts_with(sign)) {
                sounds.extend(sound.bytes());
                rest = &rest[sign.len()..];
                continue;
            }
            if c.is_ascii_lowercase() {
                sounds.push(c as u8);
            }
            rest = &rest[c.len_utf8()..];
        }
        Sounds(merged(sounds))
    }

    pub(super) fn len(&self) -> usize {
        self.0.len()
    }

    /// 1 where they sound the same, 0 where nothing is alike.
    pub(super) fn likeness(&self, other: &Sounds) -> f64 {
        let longest = self.len().max(other.len());
        if longest == 0 { 0.0 } else { (1.0 - distance(&self.0, &other.0) / longest as f64).max(0.0) }
    }
}

/// A letter without what is set above or below it.
fn plain(c: char) -> char {
    match c {
        'à'..='å' | 'ā' | 'ă' | 'ą' => 'a',
        'æ' | 'è'..='ë' | 'ē' | 'ė' | 'ę' | 'ě' | 'œ' => 'e',
        'ì'..='ï' | 'ī' | 'į' | 'ı' | 'ý' | 'ÿ' => 'i',
        'ò'..='ö' | 'ø' | 'ō' | 'ő' => 'o',
        'ù'..='ü' | 'ū' | 'ů' | 'ű' => 'u',
        'ç' | 'ß' | 'ś' | 'š' => 's',
        'ñ' | 'ń' | 'ň' => 'n',
        'ł' => 'l',
        'ř' => 'r',
        'ź' | 'ż' | 'ž' => 'z',
        other => other,
    }
}

fn spelt(letters: &str) -> Vec<u8> {
    let start = match letters.get(..2) {
        Some("kn" | "wr" | "gn" | "ps") => 1,
        _ => 0,
    };
    let mut rest = &letters[start..];
    let mut sounds: Vec<u8> = Vec::new();
    while let Some(c) = rest.chars().next() {
        if let Some((sign, sound)) = SPELT.iter().find(|(sign, _)| rest.starts_with(sign)) {
            sounds.extend(sound.bytes());
            rest = &rest[sign.len()..];
            continue;
        }
        let last = rest.len() == c.len_utf8();
        match c {
            // Not heard at the end of a word, where there is another vowel.
            'e' if last
                && sounds.iter().any(|sound| is_vowel(*sound))
                && sounds.last().is_some_and(|it| !is_vowel(*it)) => {}
            // Not heard behind a vowel.
            'h' if sounds.last().is_some_and(|sound| is_vowel(*sound)) => {}
            'c' | 'q' => sounds.push(b'k'),
            'x' => sounds.extend(b"ks"),
            'j' => sounds.push(b'J'),
            'y' if sounds.is_empty() => sounds.push(b'j'),
            'y' => sounds.push(b'i'),
            'a'..='z' => sounds.push(c as u8),
            _ => {}
        }
        rest = &rest[c.len_utf8()..];
    }
    sounds
}

fn is_vowel(sound: u8) -> bool {
    b"aeiou".contains(&sound)
}

/// A sound that follows itself is heard once.
fn merged(mut sounds: Vec<u8>) -> Vec<u8> {
    sounds.dedup();
    sounds
}

/// What it costs to hear one sound for another.
fn exchange(one: u8, other: u8) -> f64 {
    if one == other {
        return 0.0;
    }
    let pair = |a: &[u8; 2]| a.contains(&one) && a.contains(&other);
    match (is_vowel(one), is_vowel(other)) {
        (true, true) if [b"ei", b"ae", b"ao", b"ou"].into_iter().any(pair) => 0.25,
        (true, true) => 0.5,
        (false, false)
            if [b"pb", b"td", b"kg", b"fv", b"sz", b"SZ", b"CJ", b"SC", b"mn", b"nN"].into_iter().any(pair) =>
        {
            0.3
        }
        (false, false)
            if [b"Tf", b"sS", b"zJ", b"gJ", b"kC", b"lr", b"wv", b"wr", b"rl", b"jJ"].into_iter().any(pair) =>
        {
            0.5
        }
        (false, false) if [b"Tt", b"Td", b"Ts"].into_iter().any(pair) => 0.7,
        (false, true) | (true, false) if pair(b"ij") || pair(b"uw") => 0.3,
        _ => 1.0,
    }
}

/// What it costs to hear a sound too many or too few.
fn omission(sound: u8) -> f64 {
    match sound {
        b'h' | b'j' | b'w' => 0.5,
        // Many do not say it before a consonant.
        b'r' => 0.6,
        sound if is_vowel(sound) => 0.5,
        _ => 1.0,
    }
}

/// Weighted edit distance (Wagner and Fischer 1974).
fn distance(one: &[u8], other: &[u8]) -> f64 {
    let mut row: Vec<f64> = std::iter::once(0.0)
        .chain(other.iter().scan(0.0, |sum, sound| {
            *sum += omission(*sound);
            Some(*sum)
        }))
        .collect();
    for a in one {
        let mut diagonal = row[0];
        row[0] += omission(*a);
        for (index, b) in other.iter().enumerate() {
            let exchanged = diagonal + exchange(*a, *b);
            diagonal = row[index + 1];
            row[index + 1] = exchanged.min(diagonal + omission(*a)).min(row[index] + omission(*b));
        }
    }
    row.last().copied().unwrap_or(0.0)
}

#[cfg(test)]
mod tests {
    use super::*;

    fn like(one: &str, other: &str) -> f64 {
        Sounds::of_words(one.split(' ')).likeness(&Sounds::of_words(other.split(' ')))
    }

    #[test]
    fn spellings_of_the_same_sounds_are_equal() {
        for (one, other) in [
            ("phare", "fair"),
            ("knight", "nite"),
            ("skerry", "skerrie"),
            ("quill", "kwil"),
            ("Bjørn", "Bjorn"),
            ("dock", "dok"),
        ] {
            assert!(like(one, other) > 0.85, "{one} {other}: {}", like(one, other));
        }
        assert_eq!(Sounds::of_ipa("ˈpɛlɪn"), Sounds::of_words(["pellin"]));
        assert_eq!(Sounds::of_ipa("ʃiːp"), Sounds::of_words(["sheep"]));
        assert_eq!(Sounds::of_words(["六時"]).len(), 0);
    }

    #[test]
    fn what_is_close_in_the_mouth_is_closer() {
        assert!(like("gullsay", "gulsy") > like("gullsay", "colder"));
        assert!(like("bat", "pat") > like("bat", "mat"));
        assert!(like("skerrow", "scarrow") > like("skerrow", "tomorrow"));
        assert!(like("pellin", "ferry") < 0.6);
    }
}
