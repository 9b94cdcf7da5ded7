//! `dispatcher tariff`.

use serde_json::{Map, Value, json};

use crate::args::{TariffArgs, TariffCommand};
use crate::client::{Client, segment};
use crate::error::CliError;
use crate::output::{self, OutputForm};

pub(crate) async fn run(client: &Client, command: TariffCommand, form: OutputForm) -> Result<(), CliError> {
    let path = |engine: &str, work: &str| format!("/api/v1/tariffs/{}/{work}", segment(engine));
    match command {
        TariffCommand::List { engine } => {
            let list = client.get("/api/v1/tariffs", &[("engine", engine.as_deref())]).await?;
            form.print(&list, || render(&output::items(&list)))
        }
        TariffCommand::Set(args) => {
            let path = path(&args.engine, args.work.name());
            let tariff = client.put(&path, &tariff_of(*args)?).await?;
            form.print(&tariff, || render(std::slice::from_ref(&tariff)))
        }
        TariffCommand::Versions { engine, work } => {
            let list = client.get(&format!("{}/versions", path(&engine, work.name())), &[]).await?;
            form.print(&list, || render_versions(&output::items(&list), &engine))
        }
        TariffCommand::Retire { engine, work } => {
            client.delete(&path(&engine, work.name())).await?;
            eprintln!("Retired the tariff; the one of the sheet of {engine} applies");
            Ok(())
        }
    }
}

/// `NAME=FACTOR` as members of an object.
fn factors(given: &[String], option: &str) -> Result<Map<String, Value>, CliError> {
    given.iter().map(|pair| pair_of(pair, option).map(|(name, factor)| (name.to_owned(), factor.into()))).collect()
}

fn pair_of<'a>(pair: &'a str, option: &str) -> Result<(&'a str, &'a str), CliError> {
    let (name, value) =
        pair.split_once('=').ok_or_else(|| CliError::Usage(format!("--{option} {pair}: write NAME=VALUE")))?;
    Ok((name.trim(), value.trim()))
}

fn tariff_of(args: TariffArgs) -> Result<Value, CliError> {
    if let Some(file) = &args.file {
        let text = super::speak::read_text(None, Some(file))?;
        let wrong = |error| CliError::Usage(format!("{}: not a tariff in JSON: {error}", file.display()));
        return serde_json::from_str(&text).map_err(wrong);
    }
    let changes = args.changes.iter().map(|pair| {
        let (from, price) = pair_of(pair, "change")?;
        Ok(json!({"from": from, "price": price}))
    });
    let tiers = args.tiers.iter().map(|pair| {
        let (above, factor) = pair_of(pair, "tier")?;
        let above = above.parse::<u64>();
        let above = above.map_err(|_| CliError::Usage(format!("--tier {pair}: write UNITS=FACTOR")))?;
        Ok(json!({"above": above, "factor": factor}))
    });
    let mut tariff = json!({
        "price": args.price, "per": args.per, "currency": args.currency, "step": args.step, "minimum": args.minimum,
        "changes": changes.collect::<Result<Vec<Value>, CliError>>()?,
        "tiers": tiers.collect::<Result<Vec<Value>, CliError>>()?,
        "models": factors(&args.models, "model")?, "classes": factors(&args.classes, "class")?,
        "regions": factors(&args.regions, "region")?,
    });
    if let Some(members) = tariff.as_object_mut() {
        members.retain(|_, value| !value.is_null());
    }
    Ok(tariff)
}

/// `fine ×1.7, swift ×0.5`.
fn factor_words(tariff: &Value) -> String {
    let of = |member: &str| {
        let factors = tariff[member].as_object().into_iter().flatten();
        factors.map(|(name, factor)| format!("{name} ×{}", factor.as_str().unwrap_or_default())).collect::<Vec<_>>()
    };
    [of("models"), of("classes"), of("regions")].concat().join(", ")
}

/// Steps, minimum, tiers and the next price changes.
fn terms(tariff: &Value, today: &str) -> String {
    let unit = output::text(tariff, "per");
    let mut words = Vec::new();
    words.extend(tariff["step"].as_u64().filter(|step| *step > 1).map(|step| format!("per started {step} {unit}s")));
    words
        .extend(tariff["minimum"].as_u64().filter(|least| *least > 0).map(|least| format!("at least {least} {unit}s")));
    let tiers = tariff["tiers"].as_array().into_iter().flatten();
    words.extend(
        tiers.map(|tier| format!("×{} beyond {} {unit}s a month", output::text(tier, "factor"), tier["above"])),
    );
    let changes = tariff["changes"].as_array().into_iter().flatten();
    let later = changes.filter(|change| change["from"].as_str().is_some_and(|from| from > today));
    words
        .extend(later.map(|change| format!("{} from {}", output::text(change, "price"), output::text(change, "from"))));
    words.join("; ")
}

fn render(tariffs: &[Value]) -> String {
    if tariffs.is_empty() {
        return "There are no engines yet.".into();
    }
    let today = dispatcher_gateway::day_of(dispatcher_gateway::now_micros());
    let rows = tariffs.iter().map(|tariff| {
        vec![
            output::text(tariff, "engine"),
            output::text(tariff, "work"),
            output::text(tariff, "price_today"),
            format!("{} per {}", output::text(tariff, "currency"), output::text(tariff, "per")),
            terms(tariff, &today),
            factor_words(tariff),
            output::text(tariff, "source"),
        ]
    });
    output::table(&["engine", "work", "price", "", "terms", "factors", "set by"], rows.collect(), &[2])
}

fn render_versions(versions: &[Value], engine: &str) -> String {
    if versions.is_empty() {
        return format!("No operator has set this tariff; the one of the sheet of {engine} applies.");
    }
    let rows = versions.iter().map(|version| {
        let tariff = &version["tariff"];
        let price = format!(
            "{} {} per {}",
            output::text(tariff, "price"),
            output::text(tariff, "currency"),
            output::text(tariff, "per")
        );
        let state = if version["retired"] == true { "retired" } else { "" };
        vec![
            output::text(version, "version"),
            output::time(&version["at"]),
            output::text(version, "by"),
            price,
            factor_words(tariff),
            state.to_owned(),
        ]
    });
    output::table(&["version", "at", "by", "price", "factors", ""], rows.collect(), &[0])
}
