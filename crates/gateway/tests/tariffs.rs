//! What an operator agreed with an engine, and prices that change with the day.

use dispatcher_core::{Currency, Measure, PriceChange, Tariff, Tier, Work};
use dispatcher_gateway::{GatewayError, TariffSource, day_of, now_micros};

use crate::support::{TEXT, TestGateway, collect, lines, say, weather};

const DAY: i64 = 86_400_000_000;

/// Per character: `price`, and what it was or will be by the day from today.
fn by_character(price: &str, changes: &[(i64, &str)]) -> Tariff {
    let change = |(days, price): &(i64, &str)| PriceChange {
        from: day_of(now_micros() + days * DAY),
        price: (*price).to_owned(),
    };
    let changes = changes.iter().map(change).collect();
    Tariff { per: Measure::Character, price: price.into(), changes, ..Tariff::free() }
}

/// What speaking [`TEXT`] costs, in billionths: as estimated, held and charged.
async fn costs(fixture: &TestGateway) -> (i64, i64, i64) {
    let estimate = fixture.gateway.estimate_speech(&fixture.caller, &say(TEXT, "heron/pellin")).await.unwrap();
    assert!(estimate.exact);
    let utterance = fixture.speak(say(TEXT, "heron/pellin")).await;
    let id = utterance.dispatch.clone();
    collect(utterance.body).await.unwrap();
    let (row, _, ledger) = fixture.settled(&id).await;
    let ledger = lines(&ledger);
    assert_eq!((ledger[0].0.as_str(), ledger[2].0.as_str()), ("hold", "settle"));
    assert_eq!(row.cost_nanos, ledger[2].1);
    (estimate.cost.nanos, ledger[0].1, ledger[2].1)
}

#[tokio::test]
async fn the_price_of_the_day_is_estimated_held_and_charged() {
    let fixture = TestGateway::open().await;
    let tariff = by_character("0.5", &[(-1, "0.002"), (1, "0.9")]);
    fixture.gateway.put_tariff("heron", Work::Synthesis, tariff, "ada").await.unwrap();
    assert_eq!(costs(&fixture).await, (100_000_000, 100_000_000, 100_000_000), "50 characters since yesterday");
    let tomorrow = by_character("0.5", &[(1, "0.9")]);
    fixture.gateway.put_tariff("heron", Work::Synthesis, tomorrow, "ada").await.unwrap();
    assert_eq!(costs(&fixture).await.2, 25_000_000_000);
}

#[tokio::test]
async fn an_operators_tariff_goes_before_the_sheets_until_it_is_retired() {
    let fixture = TestGateway::open().await;
    let by_sheet = costs(&fixture).await;
    let own = Tariff { minimum: 400, step: 100, ..by_character("0.00001", &[]) };
    fixture.gateway.put_tariff("heron", Work::Synthesis, own, "ada").await.unwrap();
    assert_eq!(costs(&fixture).await.2, 4_000_000, "400 characters at the least");
    let sources = |fixture: &TestGateway| -> Vec<(String, Work, TariffSource)> {
        let all = fixture.gateway.tariffs(Some("heron")).unwrap();
        all.into_iter().map(|it| (it.price_today, it.work, it.source)).collect()
    };
    assert_eq!(sources(&fixture), [("0.00001".to_owned(), Work::Synthesis, TariffSource::Operator)]);
    let versions = fixture.gateway.tariff_versions("heron", Work::Synthesis).await.unwrap();
    assert_eq!((versions.len(), versions[0].origin.name()), (1, "ada"));
    fixture.gateway.retire_tariff("heron", Work::Synthesis, "ada").await.unwrap();
    assert_eq!(sources(&fixture)[0].2, TariffSource::Sheet);
    assert_eq!(costs(&fixture).await, by_sheet);
}

#[tokio::test]
async fn a_tariff_for_no_work_of_the_engine_or_with_a_fault_changes_nothing() {
    let fixture = TestGateway::open().await;
    let before = costs(&fixture).await;
    let put = async |engine: &str, work, tariff| fixture.gateway.put_tariff(engine, work, tariff, "ada").await;
    let refused = put("heron", Work::Recognition, by_character("1", &[])).await.unwrap_err();
    assert_eq!(refused.to_string(), "heron does no recognition");
    assert!(matches!(
        put("hern", Work::Synthesis, by_character("1", &[])).await,
        Err(GatewayError::NoSuchEngine { .. })
    ));
    for faulty in [by_character("cheap", &[]), by_character("1", &[(2, "1"), (1, "2")])] {
        assert!(put("heron", Work::Synthesis, faulty).await.is_err());
    }
    let long = Tariff { models: (0..1_001).map(|n| (n.to_string(), "1".into())).collect(), ..by_character("1", &[]) };
    let refused = put("heron", Work::Synthesis, long).await.unwrap_err();
    assert_eq!(refused.to_string(), "a tariff has at most 1000 price changes and factors, not 1001");
    assert_eq!(costs(&fixture).await, before);
}

#[tokio::test]
async fn a_tariff_in_another_currency_charges_in_it() {
    let fixture = TestGateway::open().await;
    let pounds: Currency = "GBP".parse().unwrap();
    let tariff = Tariff { currency: pounds, ..by_character("0.001", &[]) };
    fixture.gateway.put_tariff("heron", Work::Synthesis, tariff, "ada").await.unwrap();
    let utterance = fixture.speak(say(TEXT, "heron/pellin")).await;
    let id = utterance.dispatch.clone();
    collect(utterance.body).await.unwrap();
    let (row, _, ledger) = fixture.settled(&id).await;
    assert_eq!((row.currency, row.cost_nanos), (pounds, 50_000_000));
    assert!(ledger.iter().all(|line| line.currency == pounds));
}

#[tokio::test]
async fn what_comes_late_in_a_month_is_estimated_held_and_charged_by_its_tier() {
    let fixture = TestGateway::open().await;
    let tier = |above, factor: &str| Tier { above, factor: factor.into() };
    // 50 characters each: those before the tariff count, too.
    costs(&fixture).await;
    let tariff = Tariff { tiers: vec![tier(80, "0.5"), tier(150, "2")], ..by_character("0.01", &[]) };
    fixture.gateway.put_tariff("heron", Work::Synthesis, tariff.clone(), "ada").await.unwrap();
    let each = |cents: i64| (cents * 10_000_000, cents * 10_000_000, cents * 10_000_000);
    assert_eq!(costs(&fixture).await, each(40), "30 characters in full, 20 at a half");
    assert_eq!(costs(&fixture).await, each(25), "to the end of the tier");
    fixture.gateway.put_tariff("heron", Work::Synthesis, tariff, "ada").await.unwrap();
    assert_eq!(costs(&fixture).await, each(100), "a new version begins nothing anew");
    weather(&fixture.heron, "{\"weather\": \"down\"}").await;
    let failed = fixture.gateway.speak(&fixture.caller, say(TEXT, "heron/pellin")).await;
    assert!(failed.is_err());
    weather(&fixture.heron, "").await;
    let tariff = Tariff { tiers: vec![tier(220, "0")], ..by_character("0.01", &[]) };
    fixture.gateway.put_tariff("heron", Work::Synthesis, tariff, "ada").await.unwrap();
    assert_eq!(costs(&fixture).await, each(20), "what failed does not count: 200 were used");
}

#[tokio::test]
async fn calls_at_once_are_charged_as_those_one_after_the_other() {
    let fixture = TestGateway::open().await;
    let tiers = vec![Tier { above: 125, factor: "0".into() }];
    let tariff = Tariff { tiers, ..by_character("0.01", &[]) };
    fixture.gateway.put_tariff("heron", Work::Synthesis, tariff, "ada").await.unwrap();
    let calls = (0..6).map(|_| async {
        let utterance = fixture.speak(say(TEXT, "heron/pellin")).await;
        let id = utterance.dispatch.clone();
        collect(utterance.body).await.unwrap();
        fixture.settled(&id).await.0.cost_nanos
    });
    let mut charged = futures::future::join_all(calls).await;
    charged.sort_unstable();
    assert_eq!(charged, [0, 0, 0, 250_000_000, 500_000_000, 500_000_000], "125 of 300 characters are charged");
}
