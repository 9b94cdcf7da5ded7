//! Tests of `search.rs`.

use super::*;

fn sheet(name: &str, price: &str, voices: &[(&str, &str, &str, &str)]) -> Arc<Sheet> {
    let voices: String = voices
        .iter()
        .map(|(id, tags, gender, more)| {
            let tags: Vec<String> = tags.split(' ').map(|tag| format!("\"{tag}\"")).collect();
            format!(
                "[[synthesis.voices]]\nid = \"{id}\"\nname = \"{id}\"\nlanguages = [{}]\ngender = \"{gender}\"\n{more}\n",
                tags.join(", ")
            )
        })
        .collect();
    let source = format!(
        "sheet = 1\nname = \"{name}\"\nsite = \"cloud\"\nendpoint = \"http://x.example\"\n[synthesis]\n\
         call = \"POST /say\"\nanswer = \"audio\"\n[synthesis.formats]\nwav = {{ type = \"audio/wav\", sample_rates = [24000] }}\n\
         {voices}[tariff]\nper = \"character\"\nprice = \"{price}\"\n"
    );
    Arc::new(Sheet::parse(&source, name).unwrap_or_else(|error| panic!("{error}")))
}

fn index() -> VoiceIndex {
    VoiceIndex::new(
        &[
            sheet(
                "gull",
                "0.00002",
                &[
                    ("Ana", "pt-BR", "female", "styles = [\"calm\"]"),
                    ("Rui", "pt-PT", "male", "uses = [\"telephone\"]"),
                    ("Ivo", "pt", "male", "origin = \"custom\""),
                ],
            ),
            sheet(
                "tern",
                "0.00001",
                &[("Zoe", "en-GB pt-PT", "female", "character = \"Harbour pilot\""), ("Max", "de", "male", "")],
            ),
        ],
        "2026-11-30",
    )
}

fn ids(query: VoiceQuery) -> Vec<String> {
    let index = index();
    let found = index.find(&VoiceQuery { limit: if query.limit == 0 { 100 } else { query.limit }, ..query });
    found.page.iter().map(|at| index.entry(*at).id()).collect()
}

fn languages(ranges: &str) -> VoiceQuery {
    VoiceQuery { languages: Some(ranges.into()), ..VoiceQuery::default() }
}

#[test]
fn ranges_find_regions_and_an_exact_tag_comes_first() {
    assert_eq!(ids(languages("pt")), ["gull/Ivo", "gull/Ana", "gull/Rui", "tern/Zoe"]);
    assert_eq!(ids(languages("pt-PT")), ["gull/Rui", "tern/Zoe", "gull/Ivo"]);
    assert_eq!(ids(languages("de, pt-BR")), ["tern/Max", "gull/Ana", "gull/Ivo"]);
    assert!(ids(languages("fr")).is_empty());
}

#[test]
fn facts_and_words_narrow_what_is_found() {
    let query = |change: fn(&mut VoiceQuery)| {
        let mut query = VoiceQuery::default();
        change(&mut query);
        ids(query)
    };
    assert_eq!(query(|q| q.style = Some("CALM".into())), ["gull/Ana"]);
    assert_eq!(query(|q| q.purpose = Some("telephone".into())), ["gull/Rui"]);
    assert_eq!(query(|q| q.origin = Some(Origin::Custom)), ["gull/Ivo"]);
    assert_eq!(query(|q| q.engine = Some("tern".into())), ["tern/Max", "tern/Zoe"]);
    assert_eq!(query(|q| q.text = Some("pil harb".into())), ["tern/Zoe"]);
    // A language by its name in English, or in the language itself.
    assert_eq!(query(|q| q.text = Some("portuguese".into())), ["gull/Ana", "gull/Ivo", "gull/Rui", "tern/Zoe"]);
    assert_eq!(query(|q| q.text = Some("Português".into())).len(), 4);
    assert_eq!(query(|q| q.text = Some("deutsch".into())), ["tern/Max"]);
    assert_eq!(query(|q| q.most_nanos = Some(10_000_000)), ["tern/Max", "tern/Zoe"]);
    assert_eq!(query(|q| q.among = Some(vec!["tern/Max".into(), "no/body".into()])), ["tern/Max"]);
    assert!(query(|q| q.format = Some("audio/mpeg".into())).is_empty());
    assert_eq!(query(|q| q.format = Some("audio/WAV".into())).len(), 5);
}

#[test]
fn pages_join_without_gap_or_repetition_in_every_order() {
    for (sort, first) in
        [(Sort::Best, "gull/Ana"), (Sort::Name, "gull/Ana"), (Sort::Language, "tern/Max"), (Sort::Price, "tern/Max")]
    {
        let mut all = Vec::new();
        for offset in 0..5 {
            all.extend(ids(VoiceQuery { sort, offset, limit: 1, ..VoiceQuery::default() }));
        }
        assert_eq!(all[0], first, "{sort:?}");
        assert_eq!(all, ids(VoiceQuery { sort, ..VoiceQuery::default() }), "{sort:?}");
        assert_eq!(all.len(), 5);
    }
    // A page across two ranks.
    let paged = |offset| ids(VoiceQuery { offset, limit: 2, ..languages("pt") });
    assert_eq!(
        (paged(0), paged(2)),
        (vec!["gull/Ivo".to_owned(), "gull/Ana".into()], vec!["gull/Rui".to_owned(), "tern/Zoe".into()])
    );
}

#[test]
fn facets_count_what_fits() {
    let facets = index().facets(&VoiceQuery { gender: Some(Gender::Male), ..VoiceQuery::default() });
    assert_eq!(facets.engines, BTreeMap::from([("gull".to_owned(), 2), ("tern".to_owned(), 1)]));
    assert_eq!(facets.languages.get("pt-PT"), Some(&1));
    assert_eq!(facets.genders, BTreeMap::from([("male".to_owned(), 3)]));
    let cased = VoiceIndex::new(
        &[sheet("gull", "0", &[("Ana", "fr-fr", "female", "")]), sheet("tern", "0", &[("Zoe", "fr-FR", "female", "")])],
        "2026-11-30",
    );
    assert_eq!(cased.facets(&VoiceQuery::default()).languages, BTreeMap::from([("fr-FR".to_owned(), 2)]));
}

#[test]
fn total_and_facets_are_those_of_the_languages_asked_for() {
    let index = index();
    let query = VoiceQuery { limit: 1, ..languages("de") };
    assert_eq!(index.find(&query).total, 1);
    let facets = index.facets(&query);
    assert_eq!(facets.engines, BTreeMap::from([("tern".to_owned(), 1)]));
    assert_eq!(facets.languages, BTreeMap::from([("de".to_owned(), 1)]));
    assert_eq!(index.find(&VoiceQuery { limit: 1, ..languages("fr") }).total, 0);
    let granted = |granted: &[&str]| VoiceQuery {
        granted: Some(granted.iter().map(|id| (*id).to_owned()).collect()),
        limit: 9,
        ..VoiceQuery::default()
    };
    assert_eq!(index.find(&granted(&[])).total, 4, "what is made for the account is not counted");
    assert_eq!(index.find(&granted(&["gull/Ivo"])).total, 5);
}
