//! Sheets that a service starts with: those that ship, and those of folders.

use std::path::PathBuf;

use dispatcher_engines::{Engine, Fetcher};
use dispatcher_gateway::{Host, Registry};

use crate::ServeError;

/// The sheets that are part of the product.
const SHIPPED: [(&str, &str); 3] = [
    ("espeak-ng.toml", include_str!("../../../sheets/espeak-ng.toml")),
    ("flite.toml", include_str!("../../../sheets/flite.toml")),
    ("pocketsphinx.toml", include_str!("../../../sheets/pocketsphinx.toml")),
];

/// The engines that ship and those of these folders, without any records.
///
/// # Errors
/// When a folder cannot be read or a sheet has a fault.
pub fn offline_registry(sheets: &[PathBuf]) -> Result<Registry, ServeError> {
    let host = Host::alone(Fetcher::new()?);
    let mut registry = Registry::default();
    for (engine, ..) in load_engines(sheets, &host)? {
        registry.add(engine);
    }
    Ok(registry)
}

pub(crate) fn load_engines(sheets: &[PathBuf], host: &Host) -> Result<Vec<(Engine, String, String)>, ServeError> {
    let mut engines = Vec::new();
    let mut load = |source: &str, file: &str| -> Result<(), ServeError> {
        engines.push((host.engine(source, file)?, source.to_owned(), file.to_owned()));
        Ok(())
    };
    for (file, source) in SHIPPED {
        load(source, file)?;
    }
    for folder in sheets {
        let failed = |source| ServeError::Sheets { path: folder.clone(), source };
        let mut files: Vec<PathBuf> = std::fs::read_dir(folder)
            .map_err(failed)?
            .filter_map(|entry| entry.ok().map(|entry| entry.path()))
            .filter(|path| path.extension().is_some_and(|extension| extension == "toml"))
            .collect();
        files.sort();
        for file in files {
            let source = std::fs::read_to_string(&file).map_err(failed)?;
            load(&source, &file.to_string_lossy())?;
        }
    }
    Ok(engines)
}
