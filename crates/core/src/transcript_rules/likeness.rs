//! How alike two words sound: letters (mainly as English reads them) or IPA
//! become a short row of sounds, and rows are compared by a weighted edit
//! distance. No dictionary is needed, since names are in none.

use std::sync::LazyLock;

/// The sounds of a word, each a letter: consonants as in the X-SAMPA of
/// English (`T` of "thin", `S` of "ship", `C` of "chip", `J` of "jam", `N` of
/// "ring"), vowels as one of `a e i o u`.
#[derive(Debug, Clone, PartialEq, Eq, Hash, Default)]
pub(super) struct Sounds {
    row: Vec<u8>,
    /// How many there are of each kind.
    kinds: [u8; KINDS],
}

/// Kinds of sounds: an exchange of one kind for another costs at least half.
const KINDS: usize = 9;

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
        Sounds::of_row(sounds)
    }

    /// A sound that follows itself is heard once.
    fn of_row(mut row: Vec<u8>) -> Sounds {
        row.dedup();
        let mut kinds = [0_u8; KINDS];
        for sound in &row {
            let kind = &mut kinds[kind(*sound)];
            *kind = kind.saturating_add(1);
        }
        Sounds { row, kinds }
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
        Sounds::of_row(sounds)
    }

    pub(super) fn len(&self) -> usize {
        self.row.len()
    }

    /// 1 where they sound the same, 0 where nothing is alike. `None` if it
    /// is less than `least`, which is found out sooner.
    pub(super) fn likeness(&self, other: &Sounds, least: f64) -> Option<f64> {
        let longest = self.len().max(other.len()) as f64;
        let most = (1.0 - least) * longest;
        let kinds =
            self.kinds.iter().zip(&other.kinds).map(|(one, other)| u32::from(one.abs_diff(*other))).sum::<u32>();
        // An exchange evens out two of them, for half at the least; so does an omission one.
        if longest == 0.0 || f64::from(kinds) * 0.25 > most + 1e-9 {
            return None;
        }
        let likeness = (1.0 - distance(&self.row, &other.row, most)? / longest).max(0.0);
        (likeness >= least).then_some(likeness)
    }
}

fn kind(sound: u8) -> usize {
    match sound {
        b'a' | b'e' | b'i' | b'o' | b'u' | b'j' | b'w' => 0,
        b'p' | b'b' => 1,
        b't' | b'd' => 2,
        b'k' | b'g' => 3,
        b'f' | b'v' => 4,
        b's' | b'z' | b'S' | b'Z' | b'C' | b'J' | b'T' => 5,
        b'm' | b'n' | b'N' => 6,
        b'l' | b'r' => 7,
        _ => 8,
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

/// All exchanges and omissions, by sounds: words of an hour are compared with
/// thousands of names.
struct Costs {
    exchange: [[f64; SOUNDS]; SOUNDS],
    omission: [f64; SOUNDS],
}

/// Sounds are letters of ASCII, from `A` on.
const SOUNDS: usize = 64;

fn place(sound: u8) -> usize {
    usize::from(sound) % SOUNDS
}

static COSTS: LazyLock<Costs> = LazyLock::new(|| {
    let mut costs = Costs { exchange: [[0.0; SOUNDS]; SOUNDS], omission: [0.0; SOUNDS] };
    for one in b'A'..=b'z' {
        costs.omission[place(one)] = omission(one);
        for other in b'A'..=b'z' {
            costs.exchange[place(one)][place(other)] = exchange(one, other);
        }
    }
    costs
});

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

/// Weighted edit distance (Wagner and Fischer 1974); `None` if it is more
/// than `most`.
fn distance(one: &[u8], other: &[u8], most: f64) -> Option<f64> {
    let Costs { exchange, omission } = &*COSTS;
    let mut row = Vec::with_capacity(other.len() + 1);
    let mut sum = 0.0;
    row.push(sum);
    for sound in other {
        sum += omission[place(*sound)];
        row.push(sum);
    }
    for a in one {
        let (exchange, missing) = (&exchange[place(*a)], omission[place(*a)]);
        let mut diagonal = row[0];
        row[0] += missing;
        let mut least = row[0];
        for (index, b) in other.iter().enumerate() {
            let exchanged = diagonal + exchange[place(*b)];
            diagonal = row[index + 1];
            let cost = exchanged.min(diagonal + missing).min(row[index] + omission[place(*b)]);
            row[index + 1] = cost;
            least = least.min(cost);
        }
        if least > most + 1e-9 {
            return None;
        }
    }
    row.last().copied()
}

#[cfg(test)]
mod tests {
    use super::*;

    fn like(one: &str, other: &str) -> f64 {
        Sounds::of_words(one.split(' ')).likeness(&Sounds::of_words(other.split(' ')), 0.0).unwrap_or(0.0)
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

    /// What is ruled out sooner is less alike than it must be.
    #[test]
    fn nothing_that_is_alike_is_ruled_out() {
        let words = [
            "gullsay",
            "skerrow",
            "tarnwick",
            "pellin",
            "wexcombe",
            "jossamy",
            "thornbeck",
            "harrow mere",
            "sheep",
            "quill",
        ];
        for one in words {
            for other in words {
                let (one, other) = (Sounds::of_words(one.split(' ')), Sounds::of_words(other.split(' ')));
                let alike = one.likeness(&other, 0.0).unwrap_or(0.0);
                for least in [0.3, 0.5, 0.8, 0.95] {
                    let found = one.likeness(&other, least);
                    assert_eq!(found.is_some(), alike >= least && alike > 0.0, "{one:?} {other:?} {alike} {least}");
                }
            }
        }
    }

    #[test]
    fn what_is_close_in_the_mouth_is_closer() {
        assert!(like("gullsay", "gulsy") > like("gullsay", "colder"));
        assert!(like("bat", "pat") > like("bat", "mat"));
        assert!(like("skerrow", "scarrow") > like("skerrow", "tomorrow"));
        assert!(like("pellin", "ferry") < 0.6);
    }
}
