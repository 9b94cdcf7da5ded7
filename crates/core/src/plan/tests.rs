use super::*;

fn sheet(name: &str, languages: &[&str], models: &str) -> Arc<Sheet> {
    let voices: String = languages
        .iter()
        .map(|tag| format!("[[synthesis.voices]]\nid = \"v-{tag}\"\nname = \"V {tag}\"\nlanguages = [\"{tag}\"]\n"))
        .collect();
    let source = format!(
        "sheet = 1\nname = \"{name}\"\nsite = \"cloud\"\nendpoint = \"http://x.example\"\n[synthesis]\n\
         call = \"POST /say\"\nanswer = \"audio\"\nmodels = [{models}]\n\
         [synthesis.formats]\nwav = {{ type = \"audio/wav\", sample_rates = [24000] }}\n{voices}"
    );
    Arc::new(Sheet::parse(&source, name).expect("sheet"))
}

fn house() -> (BTreeMap<String, Arc<Sheet>>, BTreeMap<String, Route>) {
    let sheets = [
        sheet("heron", &["en-GB", "pt-PT", "pt-BR"], "{ name = \"quick\" }, { name = \"fine\" }"),
        sheet("flute", &["en-GB"], ""),
    ];
    let leg = |engine: &str, languages: &[&str]| Leg {
        engine: engine.into(),
        voice: None,
        criteria: Criteria { languages: Some("en".into()), ..Criteria::default() },
        model: None,
        deadline: Some(900),
        credential: None,
        weight: None,
        conditions: Conditions {
            languages: languages.iter().map(|l| (*l).to_owned()).collect(),
            ..Conditions::default()
        },
    };
    let legs = vec![leg("heron", &[]), leg("flute", &["en"])];
    let route = Route {
        name: "quayside".into(),
        work: Work::Synthesis,
        note: String::new(),
        order: Order::Listed,
        hedge: false,
        legs,
    };
    let sheets = sheets.into_iter().map(|sheet| (sheet.name.clone(), sheet)).collect();
    (sheets, BTreeMap::from([("quayside".to_owned(), route)]))
}

use crate::{Conditions, Order};

fn plan(wanted: Wanted, model: Option<&str>, language: Option<&str>) -> Result<Vec<String>, PlanError> {
    let (sheets, routes) = house();
    let planner = Planner::new(&sheets, &routes);
    let name = |candidate: Candidate| {
        let voice = candidate.voice.expect("a voice").id;
        format!("{}/{voice} {}", candidate.sheet.name, candidate.model.as_deref().unwrap_or("-"))
    };
    Ok(planner.synthesis(&wanted, model, language)?.into_iter().map(name).collect())
}

fn named(name: &str) -> Wanted {
    Wanted::Named(name.into())
}

#[test]
fn a_route_gives_its_legs_in_order_with_voices_for_the_language() {
    assert_eq!(plan(named("quayside"), None, None), Ok(vec!["heron/v-en-GB quick".into(), "flute/v-en-GB -".into()]));
    assert_eq!(plan(named("quayside"), None, Some("pt-BR")), Ok(vec!["heron/v-pt-BR quick".into()]));
    assert_eq!(plan(named("quayside"), Some("fine"), Some("en")).expect("plan")[0], "heron/v-en-GB fine");
}

#[test]
fn criteria_choose_one_voice_of_each_engine() {
    let like = |languages: &str| Wanted::Like(Criteria { languages: Some(languages.into()), ..Criteria::default() });
    assert_eq!(plan(like("en"), None, None).expect("plan").len(), 2);
    assert_eq!(plan(like("pt-BR"), None, None), Ok(vec!["heron/v-pt-BR quick".into()]));
    assert!(matches!(plan(like("ja"), None, None), Err(PlanError::NoVoiceFits { .. })));
}

#[test]
fn a_miss_names_the_three_nearest() {
    let Err(PlanError::NoSuchVoice { nearest, .. }) = plan(named("heron/v-en-GX"), None, None) else {
        panic!("found a voice that is not there");
    };
    assert_eq!(nearest[0], "heron/v-en-GB");
    let like = Criteria { languages: Some("pt-BR".into()), style: Some("angry".into()), ..Criteria::default() };
    let Err(PlanError::NoVoiceFits { nearest }) = plan(Wanted::Like(like), None, None) else {
        panic!("found a style that is not there");
    };
    assert_eq!(nearest, ["heron/v-pt-BR"], "what speaks the language");
    let Err(PlanError::NoSuchModel { models, .. }) = plan(named("heron/v-en-GB"), Some("grand"), None) else {
        panic!("found a model that is not there");
    };
    assert_eq!(models, ["quick", "fine"]);
}
