//! Tests of tariffs and prices of calls.

use super::*;
use crate::Money;

fn tariff(per: Measure, price: &str, step: u64) -> Tariff {
    let models = BTreeMap::from([("fine".to_owned(), "1.7".to_owned())]);
    Tariff { price: price.into(), per, step, models, ..Tariff::free() }
}

const DAY: &str = "2026-11-30";

fn of_model(tariff: &Tariff, model: Option<&str>) -> CallPrice {
    tariff.of_call(PriceTerms { model, day: DAY, ..PriceTerms::default() }).expect("a price")
}

fn cost(tariff: &Tariff, usage: Usage, model: Option<&str>) -> Money {
    of_model(tariff, model).cost(usage).expect("a cost")
}

fn units_of(tariff: &Tariff, usage: Usage) -> u64 {
    of_model(tariff, None).units(usage)
}

#[test]
fn characters_are_counted_and_models_multiply() {
    let tariff = tariff(Measure::Character, "0.000016", 1);
    let usage = Usage { characters: 50, bytes: 60, milliseconds: 0 };
    assert_eq!(cost(&tariff, usage, None).amount(), "0.000800");
    assert_eq!(cost(&tariff, usage, Some("fine")).amount(), "0.001360");
    assert_eq!(cost(&tariff, usage, Some("unknown")).amount(), "0.000800");
}

#[test]
fn audio_is_charged_by_started_steps() {
    let tariff = tariff(Measure::Second, "0.0004", 15);
    for (milliseconds, units) in [(1, 15), (15_000, 15), (15_001, 30), (0, 0)] {
        assert_eq!(units_of(&tariff, Usage { milliseconds, ..Usage::default() }), units, "{milliseconds} ms");
    }
}

#[test]
fn a_minute_that_was_started_is_charged() {
    let tariff = tariff(Measure::Minute, "0.02", 1);
    for (milliseconds, minutes) in [(0, 0), (1, 1), (60_000, 1), (60_001, 2), (119_999, 2), (120_001, 3)] {
        assert_eq!(units_of(&tariff, Usage { milliseconds, ..Usage::default() }), minutes, "{milliseconds} ms");
    }
    let usage = Usage { milliseconds: 60_001, ..Usage::default() };
    assert_eq!(cost(&tariff, usage, None).amount(), "0.040000");
}

#[test]
fn a_cancelled_call_is_charged_as_the_tariff_says() {
    let minute = Usage { milliseconds: 60_000, characters: 40, bytes: 40 };
    let units = |tariff: &Tariff, heard| {
        let price = of_model(tariff, None);
        price.of_cancelled(minute, heard).0.map(|usage| price.units(usage))
    };
    let by_second = tariff(Measure::Second, "0.0004", 15);
    assert_eq!(
        (units(&by_second, 4), units(&by_second, 20_000), units(&by_second, 90_000)),
        (Some(15), Some(30), Some(60))
    );
    let whole = Tariff { cancelled: Cancelled::Whole, ..by_second.clone() };
    let nothing = Tariff { cancelled: Cancelled::Nothing, ..by_second };
    assert_eq!((units(&whole, 4), units(&nothing, 4)), (Some(60), None));
    assert_eq!(units(&tariff(Measure::Character, "0.1", 1), 4), Some(40));
}

#[test]
fn each_measure_counts_its_own_and_only_text_is_known_before() {
    let usage = Usage { characters: 7, bytes: 9, milliseconds: 61_000 };
    for (per, units, word, of_text) in [
        (Measure::Character, 7, "character", true),
        (Measure::Byte, 9, "byte", true),
        (Measure::Second, 61, "second", false),
        (Measure::Minute, 2, "minute", false),
        (Measure::Request, 1, "request", true),
    ] {
        let tariff = tariff(per, "0.5", 1);
        assert_eq!((units_of(&tariff, usage), per.name(), tariff.charges_text()), (units, word, of_text));
        assert_eq!(cost(&tariff, usage, None).nanos, units as i64 * 500_000_000);
    }
    let divisible = |per, price, step| tariff(per, price, step).is_divisible();
    assert!(divisible(Measure::Character, "0.5", 1) && divisible(Measure::Byte, "0.5", 1));
    assert!(!divisible(Measure::Character, "0.5", 100) && !divisible(Measure::Second, "0.5", 1));
    assert!(!divisible(Measure::Request, "0.5", 1) && divisible(Measure::Request, "0.00", 15));
    // A step that nobody checked is one.
    assert_eq!(units_of(&tariff(Measure::Character, "0.5", 0), usage), 7);
    let pounds = Tariff { currency: "GBP".parse().expect("a currency"), ..tariff(Measure::Request, "0.5", 1) };
    assert_eq!(cost(&pounds, usage, None).to_string(), "0.500000 GBP");
    assert_eq!(cost(&Tariff::free(), usage, Some("fine")), Money::zero(Currency::EUR));
}

#[test]
fn a_call_of_no_length_that_is_cancelled_still_began_a_unit() {
    let by_second = tariff(Measure::Second, "0.0004", 1);
    let usage = Usage { milliseconds: 0, ..Usage::default() };
    let (charged, why) = of_model(&by_second, None).of_cancelled(usage, 5_000);
    assert_eq!(charged.map(|usage| usage.milliseconds), Some(1));
    assert_eq!(why, "charged by the units that were begun");
}

#[test]
fn faults_in_a_tariff_are_found_when_it_is_checked() {
    assert!(tariff(Measure::Byte, "0,1", 1).check().is_err());
    assert!(tariff(Measure::Byte, "0.1", 0).check().is_err());
    assert!(tariff(Measure::Byte, "0.1", 1).check().is_ok());
    let mut odd = tariff(Measure::Byte, "0.1", 1);
    odd.models.insert("fine".into(), "1,7".into());
    assert_eq!(odd.check(), Err(MoneyError::Amount("1,7".into())));
    odd.models.insert("fine".into(), "-1.7".into());
    assert_eq!(odd.check(), Err(MoneyError::Amount("-1.7".into())));
    assert_eq!(tariff(Measure::Byte, "-0.1", 1).check(), Err(MoneyError::Amount("-0.1".into())));
    let falling = Tariff { changes: vec![change("2026-12-01", "-1")], ..tariff(Measure::Byte, "0.1", 1) };
    assert_eq!(falling.check(), Err(MoneyError::Amount("-1".into())));
}

fn change(from: &str, price: &str) -> PriceChange {
    PriceChange { from: from.into(), price: price.into() }
}

#[test]
fn a_price_applies_from_its_day_and_does_not_rewrite_the_past() {
    let changes = vec![change("2026-12-01", "0.3"), change("2027-01-01", "0.2")];
    let tariff = Tariff { changes, ..tariff(Measure::Request, "0.5", 1) };
    assert_eq!(tariff.check(), Ok(()));
    for (day, price) in [
        ("2026-11-30", "0.5"),
        ("2026-12-01", "0.3"),
        ("2026-12-31", "0.3"),
        ("2027-01-01", "0.2"),
        ("2030-06-01", "0.2"),
    ] {
        assert_eq!(tariff.price_on(day), price, "{day}");
        let terms = PriceTerms { day, ..PriceTerms::default() };
        let nanos = tariff.of_call(terms).expect("a price").cost(Usage::default()).expect("a cost").nanos;
        assert_eq!(nanos, parse_nanos(price).expect("an amount"), "{day}");
    }
    let out_of_order = Tariff { changes: vec![change("2027-01-01", "1"), change("2027-01-01", "2")], ..tariff };
    assert_eq!(out_of_order.check(), Err(MoneyError::DayOrder("2027-01-01".into())));
    for odd in ["2026-02-29", "2026-13-01", "2026-1-01", "tomorrow", "2026-12-00", "2026/12/01", "２026-12-0"] {
        let tariff = Tariff { changes: vec![change(odd, "1")], ..Tariff::free() };
        assert_eq!(tariff.check(), Err(MoneyError::Day(odd.into())));
    }
    assert!(is_day("2028-02-29") && !is_day("2100-02-29") && is_day("2000-02-29"));
}

#[test]
fn classes_and_regions_multiply_and_an_unknown_region_counts_as_the_dearest() {
    let factors =
        |of: &[(&str, &str)]| of.iter().map(|(name, factor)| (name.to_string(), factor.to_string())).collect();
    let tariff = Tariff {
        classes: factors(&[("natural", "4")]),
        regions: factors(&[("north", "1.25"), ("south", "0.8")]),
        ..tariff(Measure::Character, "0.01", 1)
    };
    let usage = Usage { characters: 3, ..Usage::default() };
    let amount = |model, class, region| {
        let price =
            tariff.of_call(PriceTerms { model, class, region, day: DAY, ..PriceTerms::default() }).expect("a price");
        price.cost(usage).expect("a cost").amount()
    };
    assert_eq!(amount(None, None, Some("south")), "0.024000");
    assert_eq!(amount(Some("fine"), Some("natural"), Some("south")), "0.163200");
    assert_eq!(amount(None, Some("plain"), Some("north")), "0.037500");
    assert_eq!(amount(None, Some("natural"), None), "0.150000");
    assert_eq!(amount(None, None, Some("west")), "0.030000");
}

#[test]
fn a_short_call_costs_the_minimum_in_whole_steps() {
    let tariff = Tariff { minimum: 20, ..tariff(Measure::Second, "0.1", 15) };
    let seconds = |milliseconds| units_of(&tariff, Usage { milliseconds, ..Usage::default() });
    assert_eq!((seconds(1), seconds(20_000), seconds(30_001)), (30, 30, 45));
    assert!(!Tariff { minimum: 20, ..self::tariff(Measure::Character, "0.1", 1) }.is_divisible());
    assert!(Tariff { minimum: 1, ..self::tariff(Measure::Character, "0.1", 1) }.is_divisible());
}

#[test]
fn a_call_that_reaches_a_tier_is_charged_by_both() {
    let tier = |above, factor: &str| Tier { above, factor: factor.into() };
    let free_and_cheaper = vec![tier(0, "0"), tier(100, "1"), tier(1_000, "0.5")];
    let tariff = Tariff { tiers: free_and_cheaper, ..tariff(Measure::Character, "0.01", 1) };
    tariff.check().expect("a tariff");
    let amount = |used: u64, characters: u64, model| {
        let used = Usage { characters: used, ..Usage::default() };
        let price = tariff.of_call(PriceTerms { model, day: DAY, used, ..PriceTerms::default() }).expect("a price");
        price.cost(Usage { characters, ..Usage::default() }).expect("a cost").amount()
    };
    assert_eq!(amount(0, 100, None), "0.000000", "all of it is free");
    assert_eq!(amount(60, 50, None), "0.100000", "ten of them are beyond the free ones");
    assert_eq!(amount(990, 30, None), "0.200000", "ten in full, twenty at a half");
    assert_eq!(amount(990, 30, Some("fine")), "0.340000");
    assert_eq!(amount(50, 1_050, None), "9.500000", "50 free, 900 in full, 100 at a half");
    let price = tariff.of_call(PriceTerms { day: DAY, ..PriceTerms::default() }).expect("a price");
    let calls = [60, 50, 880, 30].map(|characters| Usage { characters, ..Usage::default() });
    let mut at = price;
    let mut nanos = 0;
    for usage in calls {
        nanos += at.cost(usage).expect("a cost").nanos;
        at = at.after(usage);
    }
    assert_eq!(nanos, 9_100_000_000, "one after the other as all in one: 900 in full, 20 at a half");
}

#[test]
fn tiers_are_in_the_order_of_their_units_and_not_of_requests() {
    let tier = |above, factor: &str| Tier { above, factor: factor.into() };
    let of = |per, tiers| Tariff { tiers, ..tariff(per, "0.01", 1) }.check();
    assert_eq!(of(Measure::Second, vec![tier(5, "0.5"), tier(5, "0.4")]), Err(MoneyError::TierOrder(5)));
    assert_eq!(of(Measure::Request, vec![tier(5, "0.5")]), Err(MoneyError::RequestTiers));
    assert_eq!(of(Measure::Minute, vec![tier(5, "-1")]), Err(MoneyError::Amount("-1".into())));
    assert_eq!(of(Measure::Byte, vec![tier(0, "0"), tier(9, "1.5")]), Ok(()));
}
