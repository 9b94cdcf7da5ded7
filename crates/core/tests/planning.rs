//! From a wish to ordered candidates.

use std::collections::BTreeMap;
use std::sync::Arc;

use dispatcher_core::{
    Bounds, Candidate, Circumstances, Conditions, Criteria, Gender, Leg, LegFault, Measure, Order, PlanError, Planner,
    PriceChange, PriceTerms, Route, Sheet, Site, Tariff, Tier, Usage, Wanted, Work, nearest,
};
use proptest::prelude::*;

const VOICES: &str = "[[synthesis.voices]]\nid = \"anna\"\nname = \"Anna\"\nlanguages = [\"en-GB\"]\ngender = \"female\"\nmodels = [\"fine\"]\n\
    [[synthesis.voices]]\nid = \"ben\"\nname = \"Ben\"\nlanguages = [\"en-US\", \"pt-BR\"]\ngender = \"male\"\nstyles = [\"calm\"]\n";

fn sheet(name: &str, voices: &str, recognition: bool) -> Arc<Sheet> {
    let hear = "[recognition]\ncall = \"POST /h\"\nraw = true\nmodels = [{ name = \"near\" }, { name = \"far\" }]\n\
                [recognition.formats]\nwav = { type = \"audio/wav\", sample_rates = [16000] }\n[recognition.transcript]\ntext = \"$.t\"\n";
    let speak = format!(
        "[synthesis]\ncall = \"POST /s\"\nanswer = \"audio\"\nmodels = [{{ name = \"quick\" }}, {{ name = \"fine\" }}]\n\
         [synthesis.formats]\nmp3 = {{ type = \"audio/mpeg\", sample_rates = [24000] }}\n{voices}"
    );
    let source = format!(
        "sheet = 1\nname = \"{name}\"\nsite = \"cloud\"\nendpoint = \"http://x.example\"\n{}{}",
        if voices.is_empty() { "" } else { &speak },
        if recognition { hear } else { "" }
    );
    Arc::new(Sheet::parse(&source, name).unwrap_or_else(|error| panic!("{error}")))
}

fn leg(engine: &str, languages: &[&str]) -> Leg {
    Leg {
        engine: engine.into(),
        voice: None,
        criteria: Criteria::default(),
        model: None,
        deadline: None,
        credential: None,
        weight: None,
        conditions: Conditions {
            languages: languages.iter().map(|tag| (*tag).to_owned()).collect(),
            ..Conditions::default()
        },
    }
}

struct TestCatalogue {
    sheets: BTreeMap<String, Arc<Sheet>>,
    routes: BTreeMap<String, Route>,
}

fn fixture() -> TestCatalogue {
    let mut far = leg("owl", &[]);
    far.model = Some("far".into());
    far.deadline = Some(700);
    let routes = [
        Route {
            name: "desk".into(),
            work: Work::Synthesis,
            note: String::new(),
            order: Order::Listed,
            hedge: false,
            legs: vec![leg("gull", &["pt"]), leg("tern", &["en", "pt"])],
        },
        Route {
            name: "ear".into(),
            work: Work::Recognition,
            note: String::new(),
            order: Order::Listed,
            hedge: false,
            legs: vec![far, leg("hawk", &["en"])],
        },
        Route {
            name: "lost".into(),
            work: Work::Synthesis,
            note: String::new(),
            order: Order::Listed,
            hedge: false,
            legs: vec![leg("dodo", &[])],
        },
    ];
    let sheets =
        [sheet("gull", VOICES, false), sheet("tern", VOICES, true), sheet("owl", "", true), sheet("hawk", "", true)];
    TestCatalogue {
        sheets: sheets.into_iter().map(|sheet| (sheet.name.clone(), sheet)).collect(),
        routes: routes.into_iter().map(|route| (route.name.clone(), route)).collect(),
    }
}

impl TestCatalogue {
    fn planner(&self) -> Planner<'_> {
        Planner::new(&self.sheets, &self.routes)
    }

    fn speak(&self, wanted: &str, model: Option<&str>, language: Option<&str>) -> Result<Vec<String>, PlanError> {
        self.planner().synthesis(&Wanted::Named(wanted.into()), model, language).map(names)
    }

    fn like(&self, criteria: Criteria, model: Option<&str>) -> Result<Vec<String>, PlanError> {
        self.planner().synthesis(&Wanted::Like(criteria), model, None).map(names)
    }
}

/// `engine/voice model`.
fn names(candidates: Vec<Candidate>) -> Vec<String> {
    let name = |c: Candidate| {
        format!("{}/{} {}", c.sheet.name, c.voice.map_or("-".into(), |voice| voice.id), c.model.unwrap_or_default())
    };
    candidates.into_iter().map(name).collect()
}

#[test]
fn a_recognition_goes_to_an_engine_or_through_a_route_with_its_deadlines() {
    let fixture = fixture();
    let planner = fixture.planner();
    let direct = planner.recognition("owl", None, None).unwrap();
    assert_eq!((direct[0].model.as_deref(), direct[0].deadline), (Some("near"), None), "the first model");
    let usage = dispatcher_core::Usage::default();
    assert_eq!(direct[0].first_deadline(usage).as_secs(), 30, "no route and no sheet says otherwise");
    let route = planner.recognition("ear", None, Some("en-GB")).unwrap();
    assert_eq!(
        route.iter().map(|c| (c.sheet.name.as_str(), c.model.as_deref(), c.deadline)).collect::<Vec<_>>(),
        [("owl", Some("far"), Some(700)), ("hawk", Some("near"), None)]
    );
    assert_eq!(planner.recognition("ear", None, Some("ja")).unwrap().len(), 1, "hawk is for English");
    assert_eq!(planner.recognition("ear", Some("near"), None).unwrap()[0].model.as_deref(), Some("near"));
    match planner.recognition("hawkk", None, None).unwrap_err() {
        PlanError::NoSuchEngine { wanted, nearest } => assert!(wanted == "hawkk" && nearest == ["hawk"], "{nearest:?}"),
        other => panic!("{other}"),
    }
    let error = planner.recognition("desk", None, None).unwrap_err();
    assert_eq!(error, PlanError::OtherWork { route: "desk".into(), has: Work::Synthesis, wanted: Work::Recognition });
    assert_eq!(error.to_string(), "the route 'desk' is for synthesis, not for recognition");
    let error = planner.recognition("owl", Some("nearer"), None).unwrap_err();
    assert_eq!(error.to_string(), "owl has no model 'nearer'; similar: near, far");
}

#[test]
fn legs_are_passed_over_where_their_conditions_or_voices_do_not_fit() {
    let fixture = fixture();
    assert_eq!(fixture.speak("desk", None, Some("pt-BR")).unwrap(), ["gull/ben quick", "tern/ben quick"]);
    assert_eq!(fixture.speak("desk", None, Some("en-GB")).unwrap(), ["tern/anna fine"]);
    assert_eq!(fixture.speak("desk", None, Some("en-IE")).unwrap_err(), PlanError::NoVoiceFits { nearest: Vec::new() });
    let error = fixture.speak("desk", None, Some("ja")).unwrap_err();
    assert_eq!(error.to_string(), "no leg of the route 'desk' may be used; leg 1: it is for pt, not for ja");
    assert!(
        matches!(fixture.speak("lost", None, None), Err(PlanError::NoSuchEngine { wanted, .. }) if wanted == "dodo")
    );
}

#[test]
fn a_voice_with_models_of_its_own_takes_no_other() {
    let fixture = fixture();
    assert_eq!(fixture.speak("gull/anna", None, None).unwrap(), ["gull/anna fine"]);
    assert_eq!(fixture.speak("gull/ben", None, None).unwrap(), ["gull/ben quick"]);
    assert_eq!(
        fixture.speak("gull/anna", Some("quick"), None).unwrap_err(),
        PlanError::NoSuchModel { engine: "gull".into(), model: "quick".into(), models: vec!["fine".into()] }
    );
    let women = Criteria { gender: Some(Gender::Female), ..Criteria::default() };
    assert_eq!(fixture.like(women.clone(), Some("fine")).unwrap(), ["gull/anna fine", "tern/anna fine"]);
    assert!(matches!(fixture.like(women, Some("quick")), Err(PlanError::NoVoiceFits { .. })));
}

#[test]
fn criteria_are_all_met_and_the_first_range_wins() {
    let fixture = fixture();
    let languages = |ranges: &str| Criteria { languages: Some(ranges.into()), ..Criteria::default() };
    assert_eq!(fixture.like(languages("pt, en"), None).unwrap()[0], "gull/ben quick");
    assert_eq!(fixture.like(languages("en-GB pt"), None).unwrap()[0], "gull/anna fine");
    let calm = Criteria { style: Some("Calm".into()), name: Some("ben".into()), ..languages("*") };
    assert_eq!(fixture.like(calm.clone(), None).unwrap(), ["gull/ben quick", "tern/ben quick"]);
    assert!(fixture.like(Criteria { gender: Some(Gender::Neutral), ..calm }, None).is_err());
}

/// The catalogue with `gull` as the only engine on this machine.
fn with_gull_at_home() -> TestCatalogue {
    let mut fixture = fixture();
    let gull = fixture.sheets.get_mut("gull").unwrap();
    *gull = Arc::new(Sheet { site: Site::Local, ..Sheet::clone(gull) });
    fixture
}

#[test]
fn criteria_with_a_site_look_nowhere_else_and_bind_what_is_cast_beside_them() {
    let fixture = with_gull_at_home();
    let english = |site| Criteria { languages: Some("en".into()), site, ..Criteria::default() };
    let plan = |site| fixture.planner().synthesis(&Wanted::Like(english(site)), None, None).unwrap();
    assert_eq!(names(plan(None)), ["gull/anna fine", "tern/anna fine"]);
    assert_eq!(names(plan(Some(Site::Local))), ["gull/anna fine"]);
    assert_eq!(names(plan(Some(Site::Cloud))), ["tern/anna fine"]);
    assert_eq!(plan(None)[0].bounds, Bounds::default());
    let bounds = plan(Some(Site::Local))[0].bounds.clone();
    assert_eq!(bounds, Bounds::default().at(Some(Site::Local)));
    // What a script asks for beside it is looked for there alone.
    let here = fixture.planner().within(bounds);
    assert!(here.voices().all(|(sheet, _)| sheet.name == "gull") && here.voices().count() == 2);
    let elsewhere = here.synthesis(&Wanted::Named("tern/anna".into()), None, None);
    assert_eq!(elsewhere.unwrap_err(), PlanError::OutOfBounds { wanted: "tern/anna".into() });
    let nobody = here.synthesis(&Wanted::Named("tern/nobody".into()), None, None);
    assert!(matches!(nobody, Err(PlanError::NoSuchVoice { .. })), "{nobody:?}");
    let nowhere = here.synthesis(&Wanted::Like(english(Some(Site::Cloud))), None, None);
    assert_eq!(nowhere.unwrap_err(), PlanError::NoVoiceFits { nearest: Vec::new() }, "no hint leads out of bounds");
    let ear = here.recognition("owl", None, None);
    assert_eq!(ear.unwrap_err(), PlanError::OutOfBounds { wanted: "owl".into() });
    assert!(matches!(here.recognition("dodo", None, None), Err(PlanError::NoSuchEngine { .. })));
}

#[test]
fn a_leg_with_a_site_is_taken_only_while_its_engine_runs_there() {
    let mut fixture = with_gull_at_home();
    let desk = fixture.routes.get_mut("desk").unwrap();
    desk.legs
        .iter_mut()
        .for_each(|leg| leg.conditions = Conditions { site: Some(Site::Local), ..Conditions::default() });
    let planned = fixture.planner().synthesis(&Wanted::Named("desk".into()), None, Some("en")).unwrap();
    assert_eq!(planned[0].bounds, Bounds::default().at(Some(Site::Local)));
    assert_eq!(names(planned), ["gull/anna fine"], "tern runs elsewhere");
    // The sheet is replaced, and the engine runs elsewhere from now on.
    let gull = fixture.sheets.get_mut("gull").unwrap();
    *gull = Arc::new(Sheet { site: Site::Cloud, ..Sheet::clone(gull) });
    let error = fixture.speak("desk", None, Some("en")).unwrap_err();
    assert_eq!(error, PlanError::OutOfBounds { wanted: "desk".into() });
    let ear = fixture.routes.get_mut("ear").unwrap();
    ear.legs[1].conditions.site = Some(Site::Local);
    let planned = fixture.planner().recognition("ear", None, Some("en")).unwrap();
    assert_eq!(planned.iter().map(|it| it.sheet.name.as_str()).collect::<Vec<_>>(), ["owl"]);
    // Two demands that contradict each other are met by nobody.
    let desk = fixture.routes.get_mut("desk").unwrap();
    desk.legs.iter_mut().for_each(|leg| leg.criteria.site = Some(Site::Cloud));
    assert!(matches!(fixture.speak("desk", None, Some("en")), Err(PlanError::OutOfBounds { .. })));
}

#[test]
fn the_nearest_names_come_in_order_of_likeness() {
    let names = ["quayside", "quay", "harbour-phone", "captions"];
    assert_eq!(nearest("quaysde", names, 2), ["quayside", "quay"]);
    assert_eq!(nearest("capitons", names, 1), ["captions"]);
    assert!(nearest("x", [], 3).is_empty());
}

proptest! {
    /// More is never cheaper, and whole steps cost what their parts cost.
    #[test]
    fn costs_grow_with_use_and_add_up(price in 0u32..2_000_000, step in 1u64..50, first in 0u64..100_000, more in 0u64..100_000) {
        let tariff = Tariff {
            per: Measure::Character,
            price: format!("0.{price:09}"),
            step,
            ..Tariff::free()
        };
        let cost = |characters| {
            let price = tariff.of_call(PriceTerms { day: "2026-11-30", ..PriceTerms::default() }).unwrap();
            price.cost(Usage { characters, ..Usage::default() }).unwrap().nanos
        };
        prop_assert!(cost(first + more) >= cost(first));
        prop_assert_eq!(cost(first * step) + cost(more * step), cost((first + more) * step));
        prop_assert_eq!(cost(first), i64::from(price) * first.div_ceil(step) as i64 * step as i64);
    }
}

/// A decimal of so many billionths.
fn decimal(nanos: u32) -> String {
    format!("{}.{:09}", nanos / 1_000_000_000, nanos % 1_000_000_000)
}

prop_compose! {
    fn any_tariff()(
        per in prop::sample::select(vec![Measure::Character, Measure::Byte, Measure::Second, Measure::Minute, Measure::Request]),
        prices in prop::collection::vec(0u32..2_000_000, 1..4),
        (step, minimum) in (1u64..40, 0u64..300),
        factors in prop::collection::vec(0u32..3_000_000_000, 5),
        tiers in prop::collection::btree_map(0u64..20_000, 0u32..2_000_000_000, 0..4),
    ) -> Tariff {
        let named = |pairs: &[(&str, usize)]| pairs.iter().map(|(name, at)| ((*name).to_owned(), decimal(factors[*at]))).collect();
        let tier = |(above, factor): (u64, u32)| Tier { above, factor: decimal(factor) };
        let tiers = if per == Measure::Request { Vec::new() } else { tiers.into_iter().map(tier).collect() };
        let change = |(month, price): (usize, &u32)| PriceChange { from: format!("2027-{month:02}-01"), price: decimal(*price) };
        Tariff {
            per,
            price: decimal(prices[0]),
            changes: prices.iter().enumerate().skip(1).map(change).collect(),
            step,
            minimum,
            tiers,
            models: named(&[("fine", 0)]),
            classes: named(&[("natural", 1)]),
            regions: named(&[("north", 2), ("south", 3), ("west", 4)]),
            ..Tariff::free()
        }
    }
}

proptest! {
    /// Where the engine charges by the text, what is estimated is charged to the last digit, however long
    /// the audio becomes; else the estimate is charged at the most. An unknown region never costs less
    /// than was estimated.
    #[test]
    fn an_estimate_is_charged_exactly_or_not_exceeded(
        tariff in any_tariff(),
        (characters, wide) in (0u64..5_000, 0u64..5_000),
        (estimated_ms, share) in (1u64..600_000, 0.0f64..=1.0),
        before in 0u64..30_000,
        region in prop::sample::select(vec!["north", "south", "west"]),
        day in prop::sample::select(vec!["2026-12-31", "2027-01-01", "2027-01-31", "2027-02-01", "2030-01-01"]),
    ) {
        prop_assert_eq!(tariff.check(), Ok(()));
        let used = Usage { characters: before, bytes: 0, milliseconds: before * 1_000 };
        let price = |region| {
            let terms = PriceTerms { model: Some("fine"), class: Some("natural"), region, day, used };
            tariff.of_call(terms).unwrap()
        };
        let estimated = Usage { characters, bytes: characters + wide, milliseconds: estimated_ms };
        let made = Usage { milliseconds: (estimated_ms as f64 * share) as u64, ..estimated };
        let (estimate, charge) = (price(Some(region)).cost(estimated).unwrap(), price(Some(region)).cost(made).unwrap());
        if tariff.charges_text() {
            prop_assert_eq!(estimate, charge);
        }
        prop_assert!(charge.nanos <= estimate.nanos);
        prop_assert!(charge.nanos <= price(None).cost(estimated).unwrap().nanos);
        // A call in two parts, one after the other, costs what it costs whole, but for a billionth in each tier.
        if tariff.is_divisible() {
            let first = Usage { characters: characters / 3, bytes: characters / 3, ..Usage::default() };
            let whole = Usage { characters, bytes: characters, ..Usage::default() };
            let rest = whole.minus(first);
            let parts = price(Some(region)).cost(first).unwrap().nanos
                + price(Some(region)).after(first).cost(rest).unwrap().nanos;
            prop_assert!((parts - price(Some(region)).cost(whole).unwrap().nanos).abs() <= 8);
        }
        let units = price(None).units(made);
        prop_assert!(units % tariff.step == 0 && units >= tariff.minimum);
    }
}

#[test]
fn a_voice_that_is_gone_is_replaced_by_one_like_it() {
    let voices = "[[synthesis.voices]]\nid = \"ondina\"\nname = \"Ondina\"\nlanguages = [\"pt-PT\"]\ngender = \"female\"\nstyles = [\"calm\"]\n\
        [[synthesis.voices]]\nid = \"tomo\"\nname = \"Tomo\"\nlanguages = [\"pt-PT\"]\ngender = \"male\"\nstyles = [\"calm\"]\n\
        [[synthesis.voices]]\nid = \"dona\"\nname = \"Dona\"\nlanguages = [\"pt-PT\"]\ngender = \"female\"\n\
        [[synthesis.voices]]\nid = \"bela\"\nname = \"Bela\"\nlanguages = [\"pt-PT\"]\ngender = \"female\"\nstyles = [\"calm\"]\n";
    let mut gull = Sheet::clone(&sheet("gull", voices, false));
    gull.synthesis.as_mut().expect("synthesis").voices[0].unavailable = Some("withdrawn".into());
    let sheets: BTreeMap<_, _> = [("gull".to_owned(), Arc::new(gull))].into();
    let routes = BTreeMap::new();
    let planner = Planner::new(&sheets, &routes);
    let legs = |voice: &str, criteria: Criteria| {
        let leg = Leg { voice: Some(voice.into()), criteria, ..leg("gull", &[]) };
        let route = Route {
            name: "desk".into(),
            work: Work::Synthesis,
            note: String::new(),
            order: Order::Listed,
            hedge: false,
            legs: vec![leg],
        };
        planner.legs(&route, None, None).remove(0)
    };
    let spoken = |found: Result<Candidate, LegFault>| {
        found
            .map(|candidate| (candidate.voice.expect("a voice").id, candidate.in_place_of))
            .map_err(|fault| fault.to_string())
    };
    assert_eq!(spoken(legs("dona", Criteria::default())), Ok(("dona".into(), None)));
    let missed = Some("gull/ondina".to_owned());
    assert_eq!(spoken(legs("ondina", Criteria::default())), Ok(("bela".into(), missed.clone())), "gender and style");
    let male = Criteria { languages: Some("pt".into()), gender: Some(Gender::Male), ..Criteria::default() };
    assert_eq!(spoken(legs("ondina", male)), Ok(("tomo".into(), missed.clone())), "as the leg asks");
    let angry = Criteria { languages: Some("pt".into()), style: Some("angry".into()), ..Criteria::default() };
    assert_eq!(spoken(legs("ondina", angry)), Ok(("tomo".into(), missed)), "no style is nearer than none");
    assert_eq!(spoken(legs("dodo", Criteria::default())), Err("no voice matches the criteria".into()));
}

#[test]
fn legs_that_may_not_be_used_say_why() {
    let sheets: BTreeMap<_, _> = [("gull".to_owned(), sheet("gull", VOICES, false))].into();
    let bounded = |apps: &[&str], site| Leg {
        conditions: Conditions {
            apps: apps.iter().map(|app| (*app).to_owned()).collect(),
            site,
            ..Conditions::default()
        },
        ..leg("gull", &[])
    };
    let legs = vec![bounded(&["helpline"], None), bounded(&[], Some(Site::Local)), bounded(&["console"], None)];
    let route = Route {
        name: "desk".into(),
        work: Work::Synthesis,
        note: String::new(),
        order: Order::Listed,
        hedge: false,
        legs,
    };
    let routes = BTreeMap::new();
    let planner = Planner::new(&sheets, &routes);
    let told = |app| {
        let circumstances = Circumstances { app: Some(app), ..Circumstances::default() };
        let legs = planner.clone().under(circumstances).legs(&route, None, Some("en-GB"));
        legs.into_iter().map(|leg| leg.map(|it| it.leg).map_err(|fault| fault.to_string())).collect::<Vec<_>>()
    };
    let outside =
        "no engine of 'desk' may be used: the site, the region or the grants of the key exclude it".to_owned();
    assert_eq!(
        told("console"),
        [Err("it is for helpline, not for console".to_owned()), Err(outside.clone()), Ok(Some(2))]
    );
    assert_eq!(told("helpline")[0], Ok(Some(0)));
}
