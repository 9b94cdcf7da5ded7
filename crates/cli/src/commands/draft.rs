//! `dispatcher engine draft`: without the service.

use std::io::Read as _;
use std::path::{Path, PathBuf};

use dispatcher_core::{Files, draft};
use secrecy::zeroize::Zeroizing;

use crate::error::CliError;
use crate::output::{self, OutputForm};

/// A file that a command names is read so far.
const LONGEST: u64 = 1 << 20;

/// Files beside the command, or below the folder one is in.
struct Here(PathBuf);

impl Files for Here {
    fn read(&self, path: &str) -> Option<String> {
        let path = self.0.join(path);
        let length = std::fs::metadata(&path).ok()?.len();
        (length <= LONGEST).then(|| std::fs::read_to_string(path).ok()).flatten()
    }
}

pub(crate) fn run(command: Option<&Path>, name: Option<&str>, form: OutputForm) -> Result<(), CliError> {
    let mut text = Zeroizing::new(String::new());
    match command.filter(|path| path.as_os_str() != "-") {
        Some(path) => {
            let read = std::fs::read_to_string(path).map_err(|source| CliError::File { path: path.into(), source })?;
            text.push_str(&read);
        }
        None => {
            std::io::stdin().read_to_string(&mut text)?;
        }
    }
    let folder = command.and_then(Path::parent).filter(|folder| !folder.as_os_str().is_empty());
    let files = Here(folder.unwrap_or(Path::new(".")).to_owned());
    let made = draft(&text, name, &files).map_err(|error| CliError::Usage(error.to_string()))?;
    let parts: Vec<&str> = made.parts.iter().map(|(name, _)| name.as_str()).collect();
    if form.is_json() {
        let told = serde_json::json!({"sheet": made.sheet, "parts": parts, "remarks": made.remarks});
        return output::print_json(&told);
    }
    output::print(made.sheet.trim_end())?;
    for remark in &made.remarks {
        eprintln!("note: {remark}");
    }
    if !parts.is_empty() {
        eprintln!("note: the secrets became parts of a credential: {}", parts.join(", "));
    }
    eprintln!("next: look at the lines with \"# ?\", then: dispatcher engine add FILE");
    Ok(())
}
