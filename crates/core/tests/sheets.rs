//! Sheets as their authors write them: those that ship, and those with faults.

use dispatcher_core::{
    ArgumentText, Body, Cause, Driver, LocalAudio, Measure, Network, Request as _, Scheme, Sheet, SheetError, Site,
    TimeUnit, Work,
};

const SHIPPED: [(&str, &str); 14] = [
    ("avocet", include_str!("../../../demo/sheets/avocet.toml")),
    ("curlew", include_str!("../../../demo/sheets/curlew.toml")),
    ("dotterel", include_str!("../../../demo/sheets/dotterel.toml")),
    ("redshank", include_str!("../../../demo/sheets/redshank.toml")),
    ("sanderling", include_str!("../../../demo/sheets/sanderling.toml")),
    ("whimbrel", include_str!("../../../demo/sheets/whimbrel.toml")),
    ("espeak-ng", include_str!("../../../sheets/espeak-ng.toml")),
    ("flite", include_str!("../../../sheets/flite.toml")),
    ("pocketsphinx", include_str!("../../../sheets/pocketsphinx.toml")),
    ("bittern", include_str!("../../../demo/sheets/bittern.toml")),
    ("godwit", include_str!("../../../demo/sheets/godwit.toml")),
    ("phalarope", include_str!("../../../demo/sheets/phalarope.toml")),
    ("heron", include_str!("../../../demo/sheets/heron.toml")),
    ("turnstone", include_str!("../../../demo/sheets/turnstone.toml")),
];

fn shipped(name: &str) -> Sheet {
    let (_, source) = SHIPPED.iter().find(|(has, _)| *has == name).unwrap();
    Sheet::parse(source, name).unwrap_or_else(|error| panic!("{error}"))
}

#[test]
fn every_sheet_that_ships_is_read_and_tells_how_one_gets_access() {
    for (name, _) in SHIPPED {
        let sheet = shipped(name);
        assert_eq!(sheet.name, name);
        assert!(!sheet.guide.steps.is_empty(), "{name} has no guide");
        assert_ne!(sheet.title(), name, "{name} has a title of its own");
        assert!(sheet.tariff.check().is_ok());
        match sheet.driver {
            Driver::Process => {
                assert_eq!((sheet.site, sheet.endpoint.as_deref()), (Site::Local, None), "{name}");
                assert!(
                    sheet.process.unwrap().install.starts_with("apt-get install "),
                    "{name} says how to install it"
                );
            }
            Driver::Http => {
                assert_eq!((sheet.site, sheet.network), (Site::Cloud, Network::Private), "{name} is on loopback");
                let (scheme, parts): (Scheme, &[&str]) = match name {
                    "avocet" => (Scheme::Assertion, &["account", "key"]),
                    "curlew" => (Scheme::Headers, &["colony", "call"]),
                    "dotterel" => (Scheme::Signature, &["name", "key"]),
                    "redshank" => (Scheme::Headers, &["pass"]),
                    "sanderling" => (Scheme::Headers, &["key"]),
                    "bittern" => (Scheme::Basic, &["user", "password", "shore"]),
                    "godwit" => (Scheme::ClientCredentials, &["client_id", "client_secret"]),
                    "phalarope" => (Scheme::Query, &["key"]),
                    _ => (Scheme::Bearer, &["token"]),
                };
                assert_eq!(
                    (sheet.access.scheme, &sheet.access.parts[..]),
                    (scheme, &parts.iter().map(|p| (*p).to_owned()).collect::<Vec<_>>()[..])
                );
            }
        }
        let voices = sheet.synthesis.map(|synthesis| synthesis.voices).unwrap_or_default();
        let mut ids: Vec<&str> = voices.iter().map(|voice| voice.id.as_str()).collect();
        ids.sort_unstable();
        let count = ids.len();
        ids.dedup();
        assert_eq!(ids.len(), count, "{name} names a voice twice");
    }
}

#[test]
fn what_a_sheet_leaves_out_has_its_default() {
    let flite = shipped("flite");
    assert_eq!((flite.access.scheme, flite.network), (Scheme::None, Network::Public));
    let synthesis = flite.synthesis.unwrap();
    assert_eq!((synthesis.input, synthesis.output), (ArgumentText::Stdin, LocalAudio::File));
    let sphinx = shipped("pocketsphinx").recognition.unwrap();
    assert_eq!((sphinx.input, sphinx.limit.seconds), (LocalAudio::File, Some(600)));
    assert_eq!(sphinx.lines.unwrap().unit, TimeUnit::Seconds);
    let turnstone = shipped("turnstone");
    assert_eq!((turnstone.tariff.per, turnstone.tariff.step), (Measure::Second, 1));
    assert_eq!(turnstone.recognition.as_ref().unwrap().call_template().body, Body::Audio);
    assert!(turnstone.model_names(Work::Recognition).is_empty() && turnstone.model_names(Work::Synthesis).is_empty());
    let untitled = Sheet::parse(&base(""), "x").unwrap();
    assert_eq!((untitled.title(), untitled.tariff.price.as_str()), ("gull", "0"));
}

/// A sound sheet of both kinds of work, with more at its end.
fn base(more: &str) -> String {
    format!(
        "sheet = 1\nname = \"gull\"\nsite = \"cloud\"\nendpoint = \"https://gull.example\"\n\
         [synthesis]\ncall = \"POST /say\"\ntext = \"{{{{ text }}}}\"\nanswer = \"audio\"\n\
         [synthesis.formats]\nmp3 = {{ type = \"audio/mpeg\", sample_rates = [24000] }}\n\
         [[synthesis.voices]]\nid = \"skua\"\nname = \"Skua\"\nlanguages = [\"en-GB\"]\n\
         [recognition]\ncall = \"POST /hear\"\nraw = true\n[recognition.formats]\nwav = {{ type = \"audio/wav\", sample_rates = [16000] }}\n\
         [recognition.transcript]\ntext = \"$.text\"\n{more}"
    )
}

fn fault(source: &str) -> SheetError {
    Sheet::parse(source, "sheets/gull.toml").expect_err(source)
}

#[test]
fn faults_are_told_at_their_key_in_words_that_help() {
    let replace = |from: &str, to: &str| {
        let source = base("");
        assert!(source.contains(from), "{from}");
        source.replacen(from, to, 1)
    };
    let access = |scheme: &str, parts: &str, more: &str| {
        base(&format!("[access]\nscheme = \"{scheme}\"\nparts = [{parts}]\n{more}"))
    };
    for (source, key, says) in [
        (replace("POST /hear", "HEAD /hear"), "recognition.call", "GET, POST, PUT"),
        (replace("call = \"POST /hear\"\n", ""), "recognition", "call is missing"),
        (
            replace("[recognition.transcript]\ntext = \"$.text\"\n", ""),
            "recognition",
            "[recognition.transcript] is missing",
        ),
        (replace("raw = true", "raw = true\njson = '{}'"), "recognition", "one body"),
        (replace("text = \"{{ text }}\"", "text = \"x\"\nform = { a = \"b\" }"), "synthesis", "one body"),
        (replace("answer = \"audio\"\n", ""), "synthesis", "answer is missing"),
        (replace("sample_rates = [16000]", "sample_rates = []"), "recognition.formats", "at least one rate"),
        (replace("sample_rates = [24000]", "sample_rates = [24000, 0]"), "synthesis.formats", "at least one rate"),
        (replace("languages = [\"en-GB\"]", "languages = []"), "synthesis.voices", "no language"),
        (replace("endpoint = \"https://gull.example\"\n", ""), "name", "needs an endpoint"),
        (replace("site = \"cloud\"", "site = \"cloud\"\ndriver = \"process\""), "driver", "needs [process]"),
        (replace("name = \"gull\"", "name = \"\""), "name", "1 to 40"),
        (base("[access]\nscheme = \"headers\"\nparts = [\"key\"]\n"), "access.scheme", "[access.headers]"),
        (base("[access]\nscheme = \"query\"\nparts = [\"key\"]\n"), "access.scheme", "[access.query]"),
        (base("[access]\nparts = [\"key\"]\n"), "access.scheme", "takes no parts"),
        (access("basic", "\"user\"", ""), "access.scheme", "two parts"),
        (access("basic", "\"user\", \"password\", \"region\"", ""), "access.scheme", "not public"),
        (access("bearer", "\"key\"", "public = [\"region\"]\n"), "access.public", "'region' is not one of the parts"),
        (access("client-credentials", "\"id\", \"secret\"", ""), "access.scheme", "[access.token]"),
        (
            access("client-credentials", "\"id\", \"secret\"", "token = { call = \"GET /door\" }\n"),
            "access.token",
            "POST",
        ),
        (
            access("client-credentials", "\"id\", \"secret\"", "token = { call = \"POST door\" }\n"),
            "access.token",
            "POST and a path",
        ),
        (access("assertion", "\"key\"", ""), "access.scheme", "[access.assertion]"),
        (
            access("assertion", "\"key\"", "assertion = { algorithm = \"RS256\", key = \"keys\", claims = '{}' }\n"),
            "access.assertion",
            "'keys' is not",
        ),
        (
            access("assertion", "\"key\"", "assertion = { algorithm = \"ES256\", key = \"key\", claims = '{}' }\n"),
            "access.assertion",
            "[access.token]",
        ),
        (access("signature", "\"key\"", ""), "access.scheme", "[access.signature]"),
        (
            access(
                "signature",
                "\"k\", \"n\"",
                "signature = { algorithm = \"ed25519\", key = \"k\", key_id = \"x\" }\n",
            ),
            "access.signature",
            "'x' is not",
        ),
        (
            access(
                "signature",
                "\"k\", \"n\"",
                "signature = { algorithm = \"ed25519\", key = \"k\", key_id = \"n\", covers = [\"@status\"] }\n",
            ),
            "access.signature",
            "'@status' cannot be covered",
        ),
        (
            access(
                "signature",
                "\"k\", \"n\"",
                "signature = { algorithm = \"ed25519\", key = \"k\", key_id = \"n\", covers = [\"Date\"] }\n",
            ),
            "access.signature",
            "small letters",
        ),
        (
            access("signature", "\"k\", \"n\"", "signature = { algorithm = \"rot13\", key = \"k\", key_id = \"n\" }\n"),
            "access.signature",
            "rot13",
        ),
        (base("[tariff]\nper = \"second\"\nprice = \"0.1\"\nstep = 0\n"), "tariff", "step"),
        (base("[tariff]\nper = \"byte\"\nprice = \"0.1\"\nmodels = { fine = \"dear\" }\n"), "tariff", "dear"),
        (base("[[errors]]\nmeans = \"quota\"\n"), "errors", "status, contains or at"),
        (base("[[errors]]\nstatus = 200\nequals = 7\nmeans = \"quota\"\n"), "errors", "equals needs at"),
        (base("[[errors]]\nstatus = 500\nmeans = \"timed-out\"\n"), "errors", "only the gateway"),
    ] {
        let error = fault(&source);
        assert!(error.key.starts_with(key), "{key}: {error}");
        assert!(error.message.contains(says), "{says}: {error}");
        assert!(error.to_string().starts_with(&format!("sheets/gull.toml:{}:", error.line)), "{error}");
        let line = source.lines().nth(error.line - 1).unwrap_or_default();
        let last = error.key.rsplit('.').next().unwrap();
        assert!(line.contains(last) || line.contains('['), "{error} points at: {line}");
    }
    let long = base(&format!("# {}\n", "x".repeat(1 << 20)));
    assert!(fault(&long).message.contains("longer than"));
    let neither = "sheet = 1\nname = \"mute\"\nsite = \"local\"\nendpoint = \"http://x.example\"\n";
    assert!(fault(neither).message.contains("neither [synthesis] nor [recognition]"));
}

#[test]
fn a_list_price_of_a_measure_that_is_not_known_is_refused_with_those_that_are() {
    let error = fault(&base("[tariff]\nper = \"word\"\nprice = \"0.1\"\n"));
    assert!(error.message.contains("word") && error.message.contains("character"), "{error}");
    assert_eq!(error.key, "tariff.per");
}

#[test]
fn the_causes_of_a_sheet_are_the_closed_list() {
    for cause in Cause::IN_SHEETS {
        let sheet = Sheet::parse(&base(&format!("[[errors]]\nstatus = 499\nmeans = \"{cause}\"\n")), "x").unwrap();
        assert_eq!(sheet.errors[0].means, cause);
    }
    for seen_by_us in
        [Cause::TimedOut, Cause::Absent, Cause::BreakerOpen, Cause::Abandoned, Cause::Unusable, Cause::Internal]
    {
        assert!(Sheet::parse(&base(&format!("[[errors]]\nstatus = 499\nmeans = \"{seen_by_us}\"\n")), "x").is_err());
    }
}

#[test]
fn statuses_stand_for_causes_where_no_rule_says_otherwise() {
    for (status, cause) in [
        (400, Cause::Malformed),
        (401, Cause::Unauthorized),
        (402, Cause::Unpaid),
        (403, Cause::Refused),
        (404, Cause::Malformed),
        (408, Cause::TimedOut),
        (413, Cause::Unsupported),
        (415, Cause::Unsupported),
        (429, Cause::Throttled),
        (500, Cause::Unavailable),
        (503, Cause::Unavailable),
        (504, Cause::TimedOut),
    ] {
        assert_eq!(Cause::of_status(status), cause, "{status}");
    }
}

/// The schema beside the documentation is that of this code;
/// `UPDATE_SNAPSHOT=1 cargo test -p dispatcher-core --test all sheets` writes it anew.
#[test]
fn the_schema_for_editors_is_the_one_in_the_papers() {
    let path = std::path::Path::new(env!("CARGO_MANIFEST_DIR")).join("../../docs/engine-sheet.schema.json");
    let now = format!("{}\n", dispatcher_core::sheet_schema());
    if std::env::var_os("UPDATE_SNAPSHOT").is_some() {
        std::fs::write(&path, &now).unwrap();
    }
    let then = std::fs::read_to_string(&path).unwrap_or_default();
    assert!(then == now, "the language has grown: UPDATE_SNAPSHOT=1 cargo test -p dispatcher-core --test all sheets");
    let schema: serde_json::Value = serde_json::from_str(&now).unwrap();
    let sections = schema["properties"].as_object().unwrap();
    for key in
        ["sheet", "name", "endpoint", "hosts", "access", "synthesis", "recognition", "catalogue", "pace", "errors"]
    {
        assert!(sections.contains_key(key), "{key}");
    }
    assert_eq!(schema["additionalProperties"], false, "an unknown key is told in the editor");
}
