//! `dispatcher provenance`.

use std::path::Path;

use dispatcher_gateway::{Provenance, read_provenance};
use serde_json::{Value, json};

use crate::args::ProvenanceArgs;
use crate::client::Client;
use crate::error::CliError;
use crate::output::{self, OutputForm};

/// What a check of a file found.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Finding {
    Verified,
    Changed,
    Foreign,
    Unsigned,
    Missing,
}

impl Finding {
    fn of(provenance: &Provenance, public: &str) -> Finding {
        match provenance {
            Provenance::Missing => Finding::Missing,
            Provenance::Unsigned => Finding::Unsigned,
            Provenance::Signed(signature) if signature.verifies(public) => Finding::Verified,
            Provenance::Signed(signature) if public.starts_with(&signature.key) => Finding::Changed,
            Provenance::Signed(_) => Finding::Foreign,
        }
    }

    fn name(self) -> &'static str {
        match self {
            Finding::Verified => "verified",
            Finding::Changed => "changed",
            Finding::Foreign => "foreign",
            Finding::Unsigned => "unsigned",
            Finding::Missing => "missing",
        }
    }

    fn meaning(self) -> &'static str {
        match self {
            Finding::Verified => "signed by the gateway with this key, and unchanged since",
            Finding::Changed => "the file is not what was signed: it was changed, or the signature is forged",
            Finding::Foreign => "signed with another key",
            Finding::Unsigned => "made by a gateway and not signed, since it was streamed",
            Finding::Missing => "no signature",
        }
    }
}

pub(crate) async fn run(
    client: impl FnOnce() -> Result<Client, CliError>,
    args: ProvenanceArgs,
    form: OutputForm,
) -> Result<(), CliError> {
    let public = match args.public_key {
        Some(public) => public,
        None => output::text(&client()?.get("/api/v1/provenance-key", &[]).await?, "x"),
    };
    let findings = args.files.iter().map(|file| Ok((file, check(file, &public)?)));
    let findings: Vec<_> = findings.collect::<Result<_, CliError>>()?;
    let items = findings
        .iter()
        .map(|(file, (finding, key))| json!({"file": file.display().to_string(), "state": finding.name(), "key": key}));
    let list = json!({"items": items.collect::<Vec<Value>>()});
    form.print(&list, || {
        let rows = findings.iter().map(|(file, (finding, key))| {
            let key = key.clone().unwrap_or_default();
            vec![file.display().to_string(), finding.name().into(), key, finding.meaning().into()]
        });
        output::table(&["file", "state", "key", "meaning"], rows.collect(), &[])
    })?;
    let doubtful = findings.iter().filter(|(_, (finding, _))| *finding != Finding::Verified).count();
    match doubtful {
        0 => Ok(()),
        count => Err(CliError::Failed(format!("{count} of {} files are not verified", findings.len()))),
    }
}

/// What a file says, and the name of the key that it names.
fn check(path: &Path, public: &str) -> Result<(Finding, Option<String>), CliError> {
    let failed = |error: std::io::Error| CliError::Failed(format!("{}: {error}", path.display()));
    let mut file = std::fs::File::open(path).map_err(failed)?;
    let provenance = read_provenance(&mut file).map_err(failed)?;
    let key = match &provenance {
        Provenance::Signed(signature) => Some(signature.key.clone()),
        Provenance::Missing | Provenance::Unsigned => None,
    };
    Ok((Finding::of(&provenance, public), key))
}
