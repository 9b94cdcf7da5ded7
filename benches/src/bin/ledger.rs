//! Measures what reports cost on a month of ten million ledger entries (or as
//! many as the first argument says), and the comparison of a statement of
//! 100,000 lines. Prints a table, and JSON as the last line.
#![allow(clippy::unwrap_used, reason = "a measurement that cannot be set up is no measurement")]
#![allow(clippy::print_stdout, reason = "the table is what this program is for")]

use std::time::Instant;

use diesel::connection::SimpleConnection as _;
use diesel::{Connection as _, SqliteConnection};
use dispatcher_core::{Currency, StatementMapping, read_statement, reconcile};
use dispatcher_store::{GroupBy, Store};
use serde_json::json;

const ENTRIES: u64 = 10_000_000;
/// 2026-11-01, and the microseconds of the month.
const BEGIN: u64 = 1_793_491_200_000_000;
const MONTH: u64 = 30 * 86_400_000_000;
/// Reports of each kind.
const ROUNDS: usize = 15;
const LINES: usize = 100_000;

/// Dispatches of one attempt each: held, released and settled.
fn fill(path: &std::path::Path, dispatches: u64) {
    let mut connection = SqliteConnection::establish(path.to_str().unwrap()).unwrap();
    let step = MONTH / dispatches;
    let numbers = format!(
        "WITH RECURSIVE n(i, at) AS (SELECT 0, {BEGIN} UNION ALL SELECT i + 1, at + {step} FROM n WHERE i < {})",
        dispatches - 1
    );
    let (id, app) = ("printf('%032x', at * 16 + i % 16)", "'app-' || (i % 20)");
    let (engine, work) = ("'engine-' || (i % 7)", "'synthesis'");
    let settings = "PRAGMA synchronous = OFF; PRAGMA cache_size = -400000; BEGIN;";
    let dispatch = format!(
        "INSERT INTO dispatches (id, app, work, requested, rehearsal, state, engine, voice, model, media_type, language, \
         characters, audio_ms, first_us, total_us, cost_nanos, currency, started_at, caller) {numbers} \
         SELECT {id}, {app}, {work}, 'route-' || (i % 5), 0, 'done', {engine}, 'voice', 'fine', 'audio/mpeg', 'en-GB', \
         60, 4000, 90000, 200000, 960000, 'EUR', at, 'key-' || (i % 40) FROM n;"
    );
    let attempt = format!(
        "INSERT INTO attempts (dispatch, number, engine, voice, model, state, offset_us, first_us, total_us) {numbers} \
         SELECT {id}, 1, {engine}, 'voice', 'fine', 'done', 50, 80000 + (i * 37) % 90000, 200000 FROM n;"
    );
    let entry = |kind: &str, sign: i64| {
        format!(
            "INSERT INTO ledger (dispatch, attempt, kind, app, engine, model, work, day, characters, audio_ms, nanos, \
             currency, at) {numbers} SELECT {id}, 1, '{kind}', {app}, {engine}, 'fine', {work}, \
             date(at / 1000000, 'unixepoch'), {sign} * 60, {sign} * 4000, {sign} * (900000 + i % 977 * 100), 'EUR', at FROM n;"
        )
    };
    let all = [settings.to_owned(), dispatch, attempt, entry("hold", 1), entry("release", -1), entry("settle", 1)];
    connection.batch_execute(&(all.concat() + "COMMIT;")).unwrap();
}

fn median(mut times: Vec<f64>) -> f64 {
    times.sort_by(f64::total_cmp);
    times[times.len() / 2]
}

#[tokio::main]
async fn main() {
    let entries = std::env::args().nth(1).map_or(ENTRIES, |text| text.parse().unwrap());
    let folder = tempfile::tempdir().unwrap();
    let path = folder.path().join("records.db");
    Store::open(&path).unwrap().close();
    fill(&path, entries / 3);
    let store = Store::open(&path).unwrap();
    let begun = Instant::now();
    store.roll_up_usage().await.unwrap();
    let rolled = begun.elapsed().as_secs_f64();
    println!("{entries} entries are added to the sums in {rolled:.1} s: {:.0} a second", entries as f64 / rolled);
    let days = || ("2026-11-01".to_owned(), "2026-11-30".to_owned());
    let mut told = vec![("roll_up_s", json!(rolled))];
    for (name, by) in [
        ("by app and engine", (GroupBy::App, Some(GroupBy::Engine))),
        ("by day", (GroupBy::Day, None)),
        ("by key and model", (GroupBy::Key, Some(GroupBy::Model))),
        ("by hour", (GroupBy::Hour, None)),
    ] {
        let mut times = Vec::new();
        let mut rows = 0;
        for _ in 0..ROUNDS {
            let begun = Instant::now();
            rows = store.usage(by, days(), None).await.unwrap().len();
            times.push(begun.elapsed().as_secs_f64() * 1_000.0);
        }
        let middle = median(times);
        println!("a month {name}: {middle:.0} ms, {rows} rows");
        told.push((name, json!(middle)));
    }
    let begun = Instant::now();
    let charges = store.engine_charges("engine-3".into(), days()).await.unwrap();
    let charges = &charges[..LINES.min(charges.len())];
    let read = begun.elapsed().as_secs_f64();
    let mut statement = String::from("time,amount\n");
    for charge in charges {
        statement.push_str(&format!(
            "{},{}\n",
            dispatcher_gateway::rfc3339(charge.at * 1_000_000),
            charge.amount.amount()
        ));
    }
    let mapping = StatementMapping::of("time", "amount", Currency::EUR);
    let begun = Instant::now();
    let lines = read_statement(&statement, &mapping).unwrap();
    let found = reconcile(&lines, charges, mapping.tolerance()).unwrap();
    let compared = begun.elapsed().as_secs_f64();
    println!(
        "a statement of {} lines: the charges of the month read in {read:.1} s, compared in {compared:.2} s, {} matched",
        lines.len(),
        found.matched
    );
    told.extend([("charges_s", json!(read)), ("statement_s", json!(compared))]);
    let told: serde_json::Map<_, _> = told.into_iter().map(|(name, value)| (name.to_owned(), value)).collect();
    println!("{}", serde_json::Value::from(told));
}
