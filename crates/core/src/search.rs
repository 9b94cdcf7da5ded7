//! Search over the catalogue: an index that answers among a hundred thousand
//! voices in well under a millisecond or two.
//!
//! Every fact that can be asked for has a set of bits, one for each voice; a
//! query is their intersection, read out in an order that was sorted before.

use std::collections::{BTreeMap, HashMap};
use std::sync::Arc;

use crate::{
    Gender, Measure, Origin, PriceTerms, Sheet, Site, Usage, Voice, canonical_tag, extended_filter, is_fallback,
};

/// One voice of the catalogue, with its engine.
#[derive(Debug, Clone)]
pub struct Entry {
    /// The sheet of its engine.
    pub sheet: Arc<Sheet>,
    /// Its place in the sheet.
    pub voice: usize,
    /// The list price of a thousand characters, or of a request, in 10⁻⁹.
    pub nanos: i64,
}

impl Entry {
    /// The voice itself.
    pub fn voice(&self) -> &Voice {
        // An entry is only made of a voice that its sheet has.
        let voices = self.sheet.synthesis.as_ref().map(|synthesis| &synthesis.voices);
        voices.and_then(|voices| voices.get(self.voice)).unwrap_or(&NOBODY)
    }

    /// `engine/voice`.
    pub fn id(&self) -> String {
        format!("{}/{}", self.sheet.name, self.voice().id)
    }
}

static NOBODY: Voice = Voice {
    id: String::new(),
    name: String::new(),
    languages: Vec::new(),
    gender: None,
    styles: Vec::new(),
    age: None,
    uses: Vec::new(),
    origin: Origin::Stock,
    unavailable: None,
    models: Vec::new(),
    character: String::new(),
    class: None,
};

/// The order of what is found.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub enum Sort {
    /// What fits the languages best first, then by id.
    #[default]
    Best,
    /// By name.
    Name,
    /// By first language.
    Language,
    /// By the price of 1,000 characters, the cheapest first.
    Price,
}

/// What is looked for; every member that is given must fit.
#[derive(Debug, Clone, Default)]
pub struct VoiceQuery {
    /// Words that must begin words of the voice's id, name, character, uses,
    /// styles or engine.
    pub text: Option<String>,
    /// Language ranges (RFC 4647), separated by spaces or commas, best first.
    pub languages: Option<String>,
    /// Only voices of this gender.
    pub gender: Option<Gender>,
    /// Only voices with this style.
    pub style: Option<String>,
    /// What it was made for.
    pub purpose: Option<String>,
    /// Only voices of this engine.
    pub engine: Option<String>,
    /// Only voices that have this model.
    pub model: Option<String>,
    /// An audio format that its engine makes, by media type without parameters.
    pub format: Option<String>,
    /// Only voices of engines there.
    pub site: Option<Site>,
    /// Only voices of this origin.
    pub origin: Option<Origin>,
    /// The most that a thousand characters may cost, in 10⁻⁹.
    pub most_nanos: Option<i64>,
    /// Only these, by `engine/voice`.
    pub among: Option<Vec<String>>,
    /// Of the voices that were made for the account only these, by
    /// `engine/voice`; all where this is missing.
    pub granted: Option<Vec<String>>,
    /// The order of what is found.
    pub sort: Sort,
    /// Number of entries to skip.
    pub offset: usize,
    /// Maximum number of entries.
    pub limit: usize,
}

/// A page of what was found.
#[derive(Debug, Clone)]
pub struct Found {
    /// Indexes into [`VoiceIndex::entry`].
    pub page: Vec<usize>,
    /// All matching voices.
    pub total: usize,
}

/// How many of what was found have each value.
#[derive(Debug, Clone, Default)]
pub struct Facets {
    /// Voices by language.
    pub languages: BTreeMap<String, usize>,
    /// Voices by gender.
    pub genders: BTreeMap<String, usize>,
    /// Voices by engine.
    pub engines: BTreeMap<String, usize>,
    /// Voices by style.
    pub styles: BTreeMap<String, usize>,
}

#[derive(Clone)]
struct Bits(Vec<u64>);

impl Bits {
    fn none(len: usize) -> Bits {
        Bits(vec![0; len.div_ceil(64)])
    }

    fn all(len: usize) -> Bits {
        let mut bits = Bits(vec![u64::MAX; len.div_ceil(64)]);
        if !len.is_multiple_of(64)
            && let Some(last) = bits.0.last_mut()
        {
            *last = (1 << (len % 64)) - 1;
        }
        bits
    }

    fn set(&mut self, at: u32) {
        self.0[at as usize / 64] |= 1 << (at % 64);
    }

    fn has(&self, at: u32) -> bool {
        self.0[at as usize / 64] >> (at % 64) & 1 == 1
    }

    fn keep(&mut self, other: &Bits) {
        self.0.iter_mut().zip(&other.0).for_each(|(mine, theirs)| *mine &= theirs);
    }

    fn drop_all(&mut self, other: &Bits) {
        self.0.iter_mut().zip(&other.0).for_each(|(mine, theirs)| *mine &= !theirs);
    }

    fn add_all(&mut self, list: &[u32]) {
        list.iter().for_each(|at| self.set(*at));
    }

    fn count(&self) -> usize {
        self.0.iter().map(|word| word.count_ones() as usize).sum()
    }

    fn iter(&self) -> impl Iterator<Item = u32> + '_ {
        self.0.iter().enumerate().flat_map(|(word, bits)| {
            let mut rest = *bits;
            std::iter::from_fn(move || {
                let bit = (rest != 0).then(|| rest.trailing_zeros())?;
                rest &= rest - 1;
                Some(word as u32 * 64 + bit)
            })
        })
    }
}

/// A fact that can be asked for.
#[derive(PartialEq, Eq, Hash)]
enum Fact {
    Gender(Gender),
    Style(String),
    Purpose(String),
    Engine(String),
    Model(String),
    Format(String),
    Site(bool),
    Origin(Origin),
}

/// The voices, indexed.
pub struct VoiceIndex {
    entries: Vec<Entry>,
    facts: HashMap<Fact, Vec<u32>>,
    /// Words in order, each with the voices that have it.
    words: Vec<(Box<str>, Vec<u32>)>,
    /// Language tags in small letters, each with the voices that speak it.
    tags: BTreeMap<String, Vec<u32>>,
    by_id: Vec<u32>,
    by_name: Vec<u32>,
    by_language: Vec<u32>,
    by_price: Vec<u32>,
}

fn words_of(text: &str) -> impl Iterator<Item = String> + '_ {
    text.split(|c: char| !c.is_alphanumeric()).filter(|word| !word.is_empty()).map(str::to_lowercase)
}

fn price(sheet: &Sheet, voice: &Voice, day: &str) -> i64 {
    let tariff = sheet.tariff_of(crate::Work::Synthesis);
    let usage = match tariff.per {
        Measure::Request => Usage::default(),
        _ => Usage { characters: 1_000, bytes: 1_000, milliseconds: 65_000 },
    };
    let model = voice.models.first().map(String::as_str);
    let model = model.or_else(|| sheet.model_names(crate::Work::Synthesis).first().copied());
    let terms = PriceTerms { model, class: voice.class.as_deref(), region: None, day, used: Usage::default() };
    tariff.of_call(terms).and_then(|price| price.without_tiers().cost(usage)).map_or(0, |cost| cost.nanos)
}

impl VoiceIndex {
    /// Indexes the voices of all sheets, with their prices of a day.
    pub fn new<'a>(sheets: impl IntoIterator<Item = &'a Arc<Sheet>>, day: &str) -> VoiceIndex {
        let mut entries = Vec::new();
        for sheet in sheets {
            let Some(synthesis) = &sheet.synthesis else { continue };
            for (at, voice) in synthesis.voices.iter().enumerate() {
                entries.push(Entry { sheet: sheet.clone(), voice: at, nanos: price(sheet, voice, day) });
            }
        }
        let mut facts: HashMap<Fact, Vec<u32>> = HashMap::new();
        let mut words: BTreeMap<String, Vec<u32>> = BTreeMap::new();
        let mut tags: BTreeMap<String, Vec<u32>> = BTreeMap::new();
        for (at, entry) in entries.iter().enumerate() {
            let at = at as u32;
            for fact in facts_of(entry) {
                facts.entry(fact).or_default().push(at);
            }
            for tag in &entry.voice().languages {
                tags.entry(tag.to_lowercase()).or_default().push(at);
            }
            for word in text_of(entry) {
                let list = words.entry(word).or_default();
                if list.last() != Some(&at) {
                    list.push(at);
                }
            }
        }
        let sorted = |key: &dyn Fn(&Entry) -> (i64, String)| {
            let mut keyed: Vec<_> = entries.iter().enumerate().map(|(at, entry)| (key(entry), at as u32)).collect();
            keyed.sort();
            keyed.into_iter().map(|(_, at)| at).collect::<Vec<u32>>()
        };
        VoiceIndex {
            by_id: sorted(&|entry| (0, entry.id())),
            by_name: sorted(&|entry| (0, format!("{}\0{}", entry.voice().name.to_lowercase(), entry.id()))),
            by_language: sorted(&|entry| (0, format!("{}\0{}", entry.voice().languages.join(" "), entry.id()))),
            by_price: sorted(&|entry| (entry.nanos, entry.id())),
            words: words.into_iter().map(|(word, list)| (word.into_boxed_str(), list)).collect(),
            entries,
            facts,
            tags,
        }
    }

    /// How many voices there are.
    pub fn len(&self) -> usize {
        self.entries.len()
    }

    /// Whether there are none.
    pub fn is_empty(&self) -> bool {
        self.entries.is_empty()
    }

    /// A voice by its place in what was found.
    pub fn entry(&self, at: usize) -> &Entry {
        &self.entries[at]
    }

    /// Looks for voices.
    pub fn find(&self, query: &VoiceQuery) -> Found {
        let ranks = self.ranks(query, self.fitting(query));
        let total = ranks.iter().map(Bits::count).sum();
        let order = match query.sort {
            Sort::Best => &self.by_id,
            Sort::Name => &self.by_name,
            Sort::Language => &self.by_language,
            Sort::Price => &self.by_price,
        };
        let mut page = Vec::new();
        let mut skip = query.offset;
        for rank in ranks {
            let count = rank.count();
            if skip >= count {
                skip -= count;
                continue;
            }
            let wanted = query.limit - page.len();
            let found = order.iter().filter(|at| rank.has(**at)).skip(skip).take(wanted);
            page.extend(found.map(|at| *at as usize));
            skip = 0;
            if page.len() >= query.limit {
                break;
            }
        }
        Found { page, total }
    }

    /// How many of what fits have each value of each facet.
    pub fn facets(&self, query: &VoiceQuery) -> Facets {
        let mut facets = Facets::default();
        let add = |map: &mut BTreeMap<String, usize>, value: &str| match map.get_mut(value) {
            Some(count) => *count += 1,
            None => drop(map.insert(value.to_owned(), 1)),
        };
        let ranks = self.ranks(query, self.fitting(query));
        for at in ranks.iter().flat_map(Bits::iter) {
            let entry = &self.entries[at as usize];
            let voice = entry.voice();
            add(&mut facets.engines, &entry.sheet.name);
            // Two spellings of one tag are one language.
            let tags: std::collections::BTreeSet<String> =
                voice.languages.iter().map(|tag| canonical_tag(tag)).collect();
            tags.iter().for_each(|tag| add(&mut facets.languages, tag));
            voice.styles.iter().for_each(|style| add(&mut facets.styles, style));
            if let Some(gender) = voice.gender {
                add(&mut facets.genders, gender.name());
            }
        }
        facets
    }

    fn fitting(&self, query: &VoiceQuery) -> Bits {
        let mut fits = Bits::all(self.entries.len());
        let lower = |text: &String| text.to_lowercase();
        let facts = [
            query.gender.map(Fact::Gender),
            query.style.as_ref().map(|style| Fact::Style(lower(style))),
            query.purpose.as_ref().map(|purpose| Fact::Purpose(lower(purpose))),
            query.engine.clone().map(Fact::Engine),
            query.model.clone().map(Fact::Model),
            query.format.as_ref().map(|format| Fact::Format(lower(format))),
            query.site.map(|site| Fact::Site(site == Site::Local)),
            query.origin.map(Fact::Origin),
        ];
        let list = |list: &[u32]| {
            let mut bits = Bits::none(self.entries.len());
            bits.add_all(list);
            bits
        };
        for fact in facts.into_iter().flatten() {
            fits.keep(&list(self.facts.get(&fact).map(Vec::as_slice).unwrap_or_default()));
        }
        for word in query.text.iter().flat_map(|text| words_of(text)) {
            fits.keep(&self.beginning(&word));
        }
        if let Some(most) = query.most_nanos {
            let end = self.by_price.partition_point(|at| self.entries[*at as usize].nanos <= most);
            fits.keep(&list(&self.by_price[..end]));
        }
        if let Some(among) = &query.among {
            let place = |id: &String| {
                let at = self.by_id.binary_search_by(|at| self.entries[*at as usize].id().cmp(id));
                at.ok().map(|at| self.by_id[at])
            };
            fits.keep(&list(&among.iter().filter_map(place).collect::<Vec<u32>>()));
        }
        if let Some(granted) = &query.granted {
            let custom = self.facts.get(&Fact::Origin(Origin::Custom)).map(Vec::as_slice).unwrap_or_default();
            let hidden = custom.iter().copied().filter(|at| !granted.contains(&self.entries[*at as usize].id()));
            fits.drop_all(&list(&hidden.collect::<Vec<u32>>()));
        }
        fits
    }

    /// Voices with a word that begins so.
    fn beginning(&self, start: &str) -> Bits {
        let mut bits = Bits::none(self.entries.len());
        let from = self.words.partition_point(|(word, _)| word.as_ref() < start);
        for (_, list) in self.words[from..].iter().take_while(|(word, _)| word.starts_with(start)) {
            bits.add_all(list);
        }
        bits
    }

    /// What fits, the best first: for each range in turn those that have its
    /// very tag, and then those that are in it; last those whose tags are wider.
    fn ranks(&self, query: &VoiceQuery, mut fits: Bits) -> Vec<Bits> {
        let Some(languages) = &query.languages else { return vec![fits] };
        let mut ranks = Vec::new();
        let ranges = || languages.split([' ', ',']).filter(|range| !range.is_empty());
        for range in ranges() {
            let mut exact = Bits::none(self.entries.len());
            let mut inside = Bits::none(self.entries.len());
            for (tag, list) in &self.tags {
                if tag.eq_ignore_ascii_case(range) {
                    exact.add_all(list);
                } else if extended_filter(range, tag) {
                    inside.add_all(list);
                }
            }
            for mut rank in [exact, inside] {
                rank.keep(&fits);
                fits.drop_all(&rank);
                ranks.push(rank);
            }
        }
        let mut wider = Bits::none(self.entries.len());
        for (tag, list) in &self.tags {
            if ranges().any(|range| is_fallback(range, tag)) {
                wider.add_all(list);
            }
        }
        wider.keep(&fits);
        ranks.push(wider);
        ranks
    }
}

fn facts_of(entry: &Entry) -> Vec<Fact> {
    let (sheet, voice) = (&entry.sheet, entry.voice());
    let mut facts =
        vec![Fact::Engine(sheet.name.clone()), Fact::Site(sheet.site == Site::Local), Fact::Origin(voice.origin)];
    facts.extend(voice.gender.map(Fact::Gender));
    facts.extend(voice.styles.iter().map(|style| Fact::Style(style.to_lowercase())));
    facts.extend(voice.uses.iter().map(|purpose| Fact::Purpose(purpose.to_lowercase())));
    let models = sheet.model_names(crate::Work::Synthesis);
    match voice.models.is_empty() {
        true => facts.extend(models.into_iter().map(|model| Fact::Model(model.to_owned()))),
        false => facts.extend(voice.models.iter().cloned().map(Fact::Model)),
    }
    let mut formats: Vec<String> = sheet
        .synthesis
        .iter()
        .flat_map(|synthesis| synthesis.formats.values())
        .map(|format| format.media_type.split(';').next().unwrap_or_default().trim().to_lowercase())
        .collect();
    formats.sort();
    formats.dedup();
    facts.extend(formats.into_iter().map(Fact::Format));
    facts
}

/// Names of the language of a tag (ISO 639): in English, and in the language
/// itself.
fn language_names(tag: &str) -> impl Iterator<Item = &'static str> {
    let primary = tag.split('-').next().unwrap_or_default();
    let language = isolang::Language::from_639_1(primary).or_else(|| isolang::Language::from_639_3(primary));
    language.into_iter().flat_map(|language| [Some(language.to_name()), language.to_autonym()].into_iter().flatten())
}

fn text_of(entry: &Entry) -> Vec<String> {
    let (sheet, voice) = (&entry.sheet, entry.voice());
    let mut words: Vec<String> =
        [&sheet.name, &voice.id, &voice.name, &voice.character].into_iter().flat_map(|text| words_of(text)).collect();
    words.extend(voice.languages.iter().flat_map(|tag| words_of(tag)));
    words.extend(voice.languages.iter().flat_map(|tag| language_names(tag)).flat_map(words_of));
    words.extend(voice.styles.iter().chain(&voice.uses).flat_map(|text| words_of(text)));
    words
}

#[cfg(test)]
mod tests;
