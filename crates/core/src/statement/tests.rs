use super::read::read_statement;
use super::*;

fn mapping() -> StatementMapping {
    StatementMapping::of("when", "cost", Currency::EUR)
}

fn euros(nanos: i64) -> Money {
    Money { nanos, currency: Currency::EUR }
}

fn line(row: usize, at: i64, nanos: i64) -> StatementLine {
    StatementLine { row, at, whole_day: false, amount: euros(nanos), last_digit: 1_000 }
}

fn charge(dispatch: &str, at: i64, nanos: i64) -> LedgerCharge {
    LedgerCharge { dispatch: dispatch.into(), attempt: 1, at, amount: euros(nanos), failed: false }
}

/// What is told of each difference: row, dispatch, cause.
fn told(differences: &[StatementDifference]) -> Vec<(Option<usize>, Option<&str>, DifferenceCause)> {
    let one = |it: &StatementDifference| it.cause;
    differences.iter().map(|it| (it.row, it.charge.as_ref().map(|(id, _)| id.as_str()), one(it))).collect()
}

#[test]
fn a_statement_that_is_right_matches_to_the_last_line() {
    let lines = [line(2, 1_000, 800_000), line(3, 1_030, 800_000), line(4, 9_000, 16_000)];
    let charges = [charge("a", 990, 800_000), charge("b", 1_020, 800_000), charge("c", 8_950, 16_000)];
    let found = reconcile(&lines, &charges, 120).expect("sums");
    assert!(found.is_clean(), "{found:?}");
    assert_eq!((found.matched, found.matched_sum.of(Currency::EUR).nanos), (3, 1_616_000));
    let late = reconcile(&lines, &charges, 5).expect("sums");
    assert_eq!((late.matched, late.not_charged.len(), late.not_billed.len()), (0, 3, 3));
}

#[test]
fn each_difference_is_named_with_its_cause() {
    use DifferenceCause::{BilledTwice, FailedCall, Price, Rounding, Unknown};
    let failed = LedgerCharge { failed: true, ..charge("broke", 5_000, 640_000) };
    let charges = [
        charge("same", 1_000, 800_000),
        charge("round", 2_000, 800_400),
        charge("dear", 3_000, 800_000),
        charge("once", 4_000, 320_000),
        failed,
        charge("forgotten", 6_000, 16_000),
    ];
    let lines = [
        line(2, 1_001, 800_000),
        line(3, 2_001, 800_000),
        line(4, 3_001, 1_600_000),
        line(5, 4_001, 320_000),
        line(6, 4_003, 320_000),
        line(7, 5_001, 640_000),
        line(8, 7_000, 99_000),
    ];
    let found = reconcile(&lines, &charges, 120).expect("sums");
    assert_eq!((found.matched, found.matched_sum.of(Currency::EUR).nanos), (2, 1_120_000));
    assert_eq!(told(&found.differing), [(Some(3), Some("round"), Rounding), (Some(4), Some("dear"), Price)]);
    assert_eq!(
        told(&found.not_charged),
        [(Some(6), Some("once"), BilledTwice), (Some(7), Some("broke"), FailedCall), (Some(8), None, Unknown)]
    );
    assert_eq!(told(&found.not_billed), [(None, Some("forgotten"), Unknown)]);
    assert_eq!(found.differing[1].billed.zip(found.differing[1].charged), Some((euros(1_600_000), euros(800_000))));
}

#[test]
fn times_of_another_zone_are_noticed_as_such() {
    let charges: Vec<LedgerCharge> = (0..40).map(|n| charge(&format!("c{n}"), n * 700, 1_000 * (n % 7 + 1))).collect();
    let lines: Vec<StatementLine> =
        charges.iter().enumerate().map(|(n, it)| line(n + 2, it.at + 2 * 3_600, it.amount.nanos)).collect();
    let found = reconcile(&lines, &charges, 60).expect("sums");
    assert_eq!(found.differing.len(), 40, "{found:?}");
    assert!(found.differing.iter().all(|it| it.cause == DifferenceCause::TimeZone(2)), "{found:?}");
    assert!(found.not_charged.is_empty() && found.not_billed.is_empty());
    assert_eq!(DifferenceCause::TimeZone(2).describe(), "the statement's times are +2 h from UTC");
}

#[test]
fn sums_of_days_are_compared_with_the_sums_of_their_days() {
    let text = "when,cost\n2026-11-24,0.001600\n2026-11-25,0.0008\n2026-11-26,1\n";
    let lines = read_statement(text, &mapping()).expect("a statement");
    let midnight = lines[0].at;
    let day = 86_400;
    let charges = [
        charge("a", midnight + 5, 800_000),
        charge("b", midnight + day - 1, 800_000),
        charge("c", midnight + day, 800_040),
        charge("d", midnight + 3 * day, 7),
    ];
    let found = reconcile(&lines, &charges, 120).expect("sums");
    assert_eq!((found.matched, found.matched_sum.of(Currency::EUR).nanos), (1, 1_600_000));
    assert_eq!(told(&found.differing), [(Some(3), None, DifferenceCause::Rounding)]);
    assert_eq!(told(&found.not_charged), [(Some(4), None, DifferenceCause::Unknown)]);
    assert_eq!((found.not_billed.len(), found.not_billed[0].at), (1, midnight + 3 * day));
}

#[test]
fn a_mapping_reads_zones_separators_and_currencies() {
    let own = StatementMapping {
        time: "Zeit".into(),
        amount: "Betrag".into(),
        currency_column: Some("W".into()),
        currency: None,
        zone: Some("+01:00".into()),
        delimiter: Some(';'),
        decimal_comma: true,
        tolerance: Some(3),
    };
    let text =
        "\u{feff}Zeit;Betrag;W\n2026-11-25 07:15:00;1.234,5;GBP\n2026-11-25T06:15Z;-0,25;EUR\n2026-11-25 07:00;;EUR\n";
    let lines = read_statement(text, &own).expect("a statement");
    assert_eq!(lines.len(), 2, "a row without an amount is none");
    assert_eq!((lines[0].at, lines[1].at), (1_795_587_300, 1_795_587_300));
    assert_eq!((lines[0].amount.to_string(), lines[0].last_digit), ("1234.500000 GBP".into(), 100_000_000));
    assert_eq!((lines[1].amount.nanos, lines[1].row, own.tolerance()), (-250_000_000, 3, 3));
}

#[test]
fn faults_of_a_statement_are_told_with_their_row() {
    let read = |text: &str| read_statement(text, &mapping()).expect_err("a fault").to_string();
    assert_eq!(read("at,cost\n"), "the statement has no column 'when'; it has: at, cost");
    assert_eq!(
        read("when,cost\n2026-11-25T06:15:00Z,1\n25.11.,1\n"),
        "row 3: '25.11.' is not a time such as 2026-11-30T06:15:00Z, or a day"
    );
    assert!(read("when,cost\n2026-11-25T06:15:00Z,cheap\n").starts_with("row 2: 'cheap' is not a decimal"));
    assert!(read("when,cost\n2026-11-25T06:15:00Z,--1\n").starts_with("row 2: '--1' is not a decimal"));
    assert_eq!(
        read("when,cost\n2026-11-25T06:15:00Z,1\n2026-11-25,1\n"),
        "row 3: a statement has times or days, not both"
    );
    assert!(read("when,cost\n2026-11-25T06:15:00Z\n").starts_with("row 2: "));
    for odd in ["2026-02-30", "2026-11-25T24:00", "2026-11-25T06", "2026-11-25T06:15+25:00", "2026-11-25x", "۲۰۲۶-۱۱"]
    {
        assert!(read(&format!("when,cost\n{odd},1\n")).starts_with("row 2: "), "{odd}");
    }
    let zone = StatementMapping { zone: Some("CET".into()), ..mapping() };
    assert_eq!(zone.check(), Err(StatementError::Zone("CET".into())));
    assert_eq!(StatementMapping { currency: None, ..mapping() }.check(), Err(StatementError::NoCurrency));
    assert_eq!(StatementMapping { tolerance: Some(3_601), ..mapping() }.check(), Err(StatementError::Tolerance(3_601)));
    assert_eq!(StatementMapping { delimiter: Some('x'), ..mapping() }.check(), Err(StatementError::Delimiter('x')));
}

#[test]
fn a_hundred_thousand_lines_are_compared_without_every_pair() {
    let charges: Vec<LedgerCharge> = (0..100_000).map(|n| charge(&n.to_string(), n * 3, 1_000 + n % 97)).collect();
    let lines: Vec<StatementLine> = charges
        .iter()
        .enumerate()
        .filter(|(n, _)| n % 1_000 != 999)
        .map(|(n, it)| line(n + 2, it.at + 1, it.amount.nanos))
        .collect();
    let found = reconcile(&lines, &charges, 30).expect("sums");
    assert_eq!((found.matched, found.not_charged.len(), found.not_billed.len()), (99_900, 0, 100));
}
