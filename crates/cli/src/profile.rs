//! Where the service is and which key to use: the environment, or a profile
//! of the client's configuration file.

use std::collections::BTreeMap;
use std::path::{Path, PathBuf};

use secrecy::SecretString;
use serde::Deserialize;

use crate::error::CliError;

const DEFAULT_URL: &str = "http://127.0.0.1:7420";

/// How to reach a service.
pub(crate) struct Access {
    pub(crate) url: String,
    pub(crate) key: Option<SecretString>,
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
struct File {
    #[serde(default)]
    profiles: BTreeMap<String, Profile>,
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
struct Profile {
    url: String,
    /// A file that holds the key alone.
    key_file: PathBuf,
}

fn file_path() -> Option<PathBuf> {
    if let Some(path) = std::env::var_os("DISPATCHER_CONFIG") {
        return Some(path.into());
    }
    let base = std::env::var_os("XDG_CONFIG_HOME").map(PathBuf::from);
    let base = base.or_else(|| std::env::var_os("HOME").map(|home| Path::new(&home).join(".config")))?;
    Some(base.join("dispatcher/client.toml"))
}

/// The access of a profile, or of the environment where none is named.
pub(crate) fn access(profile: Option<&str>) -> Result<Access, CliError> {
    let Some(name) = profile else {
        let url = std::env::var("DISPATCHER_URL").ok().filter(|url| !url.is_empty());
        let key = std::env::var("DISPATCHER_KEY").ok().filter(|key| !key.is_empty()).map(SecretString::from);
        return Ok(Access { url: url.unwrap_or_else(|| DEFAULT_URL.into()), key });
    };
    let path =
        file_path().ok_or_else(|| CliError::Usage("there is no home folder to look for client.toml in".into()))?;
    let text = std::fs::read_to_string(&path).map_err(|source| CliError::File { path: path.clone(), source })?;
    let file: File = toml::from_str(&text).map_err(|error| CliError::Usage(format!("{}: {error}", path.display())))?;
    let known: Vec<&str> = file.profiles.keys().map(String::as_str).collect();
    let found = file.profiles.get(name);
    let found = found.ok_or_else(|| {
        CliError::Usage(format!("no profile '{name}' in {}; there are: {}", path.display(), known.join(", ")))
    })?;
    let key = std::fs::read_to_string(&found.key_file)
        .map_err(|source| CliError::File { path: found.key_file.clone(), source })?;
    Ok(Access { url: found.url.clone(), key: Some(SecretString::from(key.trim().to_owned())) })
}
