//! A hundred thousand voices, made up, and what is looked for among them.

use std::sync::Arc;

use dispatcher_core::{Gender, Sheet, Sort, Voice, VoiceQuery};

/// How many voices there are.
pub const VOICES: usize = 100_000;

const NAMES: [&str; 24] = [
    "Pellin", "Isolde", "Tarrick", "Wade", "Beatriz", "Davi", "Armand", "Sabeen", "Haru", "Moor", "Fell", "Serrane",
    "Nagi", "Sand", "Tussock", "Rushes", "Cairn", "Penedo", "Mine", "Grey", "Rosa", "Kaze", "Lagoon", "Salvane",
];
const TAGS: [&str; 40] = [
    "en-GB", "en-US", "en-AU", "en-IE", "en-IN", "pt-PT", "pt-BR", "fr-FR", "fr-CA", "fr-BE", "de-DE", "de-AT",
    "de-CH", "es-ES", "es-MX", "es-AR", "it-IT", "nl-NL", "nl-BE", "ja-JP", "ko-KR", "zh-CN", "zh-TW", "ar-EG",
    "ar-SA", "hi-IN", "ru-RU", "uk-UA", "pl-PL", "cs-CZ", "sv-SE", "da-DK", "nb-NO", "fi-FI", "el-GR", "tr-TR",
    "hu-HU", "ro-RO", "he-IL", "id-ID",
];
const STYLES: [&str; 8] = ["calm", "brisk", "grave", "warm", "bright", "hushed", "plain", "cheerful"];
const USES: [&str; 5] = ["announcements", "telephone", "reading", "captions", "games"];
const CHARACTERS: [&str; 6] = [
    "clear, for platforms and piers",
    "low and unhurried",
    "warm, for the telephone",
    "a harbour pilot",
    "heard from afar",
    "quick and plain",
];

/// One of them, always the same by its number.
pub fn voice(number: usize) -> Voice {
    let mix = number.wrapping_mul(2_654_435_761) >> 7;
    let mut languages = vec![TAGS[mix % TAGS.len()].to_owned()];
    if mix.is_multiple_of(5) {
        languages.push(TAGS[(mix / 40) % TAGS.len()].to_owned());
        languages.dedup();
    }
    Voice {
        id: format!("v{number:06}"),
        name: format!("{} {number}", NAMES[mix % NAMES.len()]),
        languages,
        gender: [Some(Gender::Female), Some(Gender::Male), Some(Gender::Neutral), None][mix % 4],
        age: Some((20 + mix % 60) as u8),
        styles: vec![STYLES[(mix / 3) % STYLES.len()].to_owned()],
        uses: vec![USES[(mix / 7) % USES.len()].to_owned()],
        character: CHARACTERS[(mix / 11) % CHARACTERS.len()].to_owned(),
        ..Voice::default()
    }
}

/// A sheet with all of them, as one of ten engines that share them.
///
/// # Panics
/// Where the sheet is no sheet.
pub fn sheets() -> Vec<Arc<Sheet>> {
    let sheet = |engine: usize| {
        let source = format!(
            "sheet = 1\nname = \"engine-{engine}\"\nsite = \"cloud\"\nendpoint = \"http://127.0.0.1:1\"\n[synthesis]\n\
             call = \"POST /say\"\nanswer = \"audio\"\n[synthesis.formats]\nmp3 = {{ type = \"audio/mpeg\", sample_rates = [24000] }}\n\
             [[synthesis.voices]]\nid = \"a\"\nname = \"A\"\nlanguages = [\"en\"]\n\
             [tariff]\nper = \"character\"\nprice = \"0.0000{engine}1\"\n"
        );
        let mut sheet = Sheet::parse(&source, "bench").unwrap();
        if let Some(synthesis) = &mut sheet.synthesis {
            synthesis.voices = (0..VOICES).filter(|number| number % 10 == engine).map(voice).collect();
        }
        Arc::new(sheet)
    };
    (0..10).map(sheet).collect()
}

/// Twenty mixed queries: free text, ranges, orders, deep pages.
pub fn queries() -> Vec<(&'static str, VoiceQuery)> {
    let page = |query: VoiceQuery| VoiceQuery { limit: 100, ..query };
    let text = |text: &str| page(VoiceQuery { text: Some(text.into()), ..VoiceQuery::default() });
    let languages = |ranges: &str| page(VoiceQuery { languages: Some(ranges.into()), ..VoiceQuery::default() });
    let sorted = |sort, offset| page(VoiceQuery { sort, offset, ..VoiceQuery::default() });
    vec![
        ("everything", page(VoiceQuery::default())),
        ("a name", text("pellin")),
        ("the start of a name", text("be")),
        ("one letter", text("m")),
        ("two words", text("harbour pilot")),
        ("a number", text("v04711")),
        ("nothing fits", text("zeppelin")),
        ("a language", languages("pt")),
        ("a region", languages("en-GB")),
        ("three ranges", languages("pt-BR pt, en")),
        ("any language", languages("*")),
        ("by name", sorted(Sort::Name, 0)),
        ("by price", sorted(Sort::Price, 0)),
        ("by language, deep", sorted(Sort::Language, 50_000)),
        ("by price, the last page", sorted(Sort::Price, VOICES - 100)),
        ("a language, deep", VoiceQuery { offset: 9_000, ..languages("en") }),
        (
            "style and use",
            page(VoiceQuery { style: Some("calm".into()), purpose: Some("telephone".into()), ..VoiceQuery::default() }),
        ),
        (
            "gender and text, cheapest first",
            VoiceQuery { gender: Some(Gender::Female), sort: Sort::Price, ..text("warm") },
        ),
        (
            "an engine and a price",
            page(VoiceQuery { engine: Some("engine-3".into()), most_nanos: Some(40_000_000), ..VoiceQuery::default() }),
        ),
        ("a format and a language", VoiceQuery { format: Some("audio/mpeg".into()), ..languages("fr") }),
    ]
}

/// A query as it stands in an address.
pub fn address(query: &VoiceQuery) -> String {
    let mut pairs: Vec<(&str, String)> = vec![("limit", query.limit.to_string()), ("cursor", query.offset.to_string())];
    let texts = [
        ("search", &query.text),
        ("languages", &query.languages),
        ("style", &query.style),
        ("use", &query.purpose),
        ("engine", &query.engine),
        ("format", &query.format),
    ];
    pairs.extend(texts.into_iter().filter_map(|(name, value)| Some((name, value.clone()?))));
    pairs.extend(query.gender.map(|gender| ("gender", gender.name().to_owned())));
    pairs.extend(query.most_nanos.map(|nanos| ("price", format!("{}", nanos as f64 / 1e9))));
    let sort = match query.sort {
        Sort::Best => "best",
        Sort::Name => "name",
        Sort::Language => "language",
        Sort::Price => "price",
    };
    pairs.push(("sort", sort.to_owned()));
    let encode = |text: &str| text.replace(' ', "%20").replace(',', "%2C").replace('*', "%2A").replace('/', "%2F");
    pairs.iter().map(|(name, value)| format!("{name}={}", encode(value))).collect::<Vec<_>>().join("&")
}
