//! An engine: a sheet, compiled, and the calls that it makes possible.

use std::collections::BTreeMap;
use std::path::{Path, PathBuf};
use std::pin::Pin;
use std::sync::Arc;

use bytes::Bytes;
use dispatcher_audio::{Depth, Format};
use dispatcher_core::{Cause, Driver, FormatSpec, Sheet, SheetError, Transcript, Voice, Word};
use dispatcher_vault::Parts;
use futures::Stream;
use parking_lot::Mutex;

use crate::call::{EngineFormat, Hear, Speak};
use crate::catalogue::Turns;
use crate::http::HttpDriver;
use crate::process::ProcessDriver;
use crate::socket::LiveResult;
use crate::{EngineError, Fetcher, KeyFileError};

/// Audio as the engine sends it. Dropping it ends the engine's call.
pub type AudioStream = Pin<Box<dyn Stream<Item = Result<Bytes, EngineError>> + Send>>;

/// Words that an engine times while it speaks; whole once its audio is.
pub type Words = Arc<Mutex<Vec<Word>>>;

/// An engine that speaks.
pub struct SpokenAudio {
    pub audio: AudioStream,
    pub words: Words,
}

enum EngineDriver {
    Http(Box<HttpDriver>),
    Process(Box<ProcessDriver>),
}

/// A sheet, compiled.
pub struct Engine {
    sheet: Arc<Sheet>,
    way: EngineDriver,
}

impl Engine {
    /// Reads, checks and compiles a sheet. `endpoint` is the host's override.
    ///
    /// # Errors
    /// The first fault, at its place in the file.
    pub fn load(source: &str, file: &str, endpoint: Option<&str>, fetcher: &Fetcher) -> Result<Engine, SheetError> {
        let mut sheet = Sheet::parse(source, file)?;
        if let Some(endpoint) = endpoint {
            sheet.endpoint = Some(endpoint.trim_end_matches('/').to_owned());
        }
        for (section, formats) in [
            ("synthesis", sheet.synthesis.as_ref().map(|s| &s.formats)),
            ("recognition", sheet.recognition.as_ref().map(|r| &r.formats)),
        ] {
            for (key, spec) in formats.into_iter().flatten() {
                engine_formats(key, spec)
                    .map_err(|message| SheetError::at_key(source, file, &[section, "formats", key], message))?;
            }
        }
        if !sheet.endpoint.as_deref().unwrap_or_default().contains("{{")
            && let Some(endpoint) = &sheet.endpoint
            && reqwest::Url::parse(endpoint).is_err()
        {
            return Err(SheetError::at_key(source, file, &["endpoint"], "this is not a URL"));
        }
        let way = match sheet.driver {
            Driver::Http => EngineDriver::Http(Box::new(HttpDriver::compile(&sheet, (source, file), fetcher.clone())?)),
            Driver::Process => EngineDriver::Process(Box::new(ProcessDriver::compile(&sheet, (source, file))?)),
        };
        Ok(Engine { sheet: Arc::new(sheet), way })
    }

    /// What the sheet says.
    pub fn sheet(&self) -> &Arc<Sheet> {
        &self.sheet
    }

    /// Why it cannot be called on this host at all, if so.
    pub fn absent(&self) -> Option<String> {
        match &self.way {
            EngineDriver::Process(process) => process.absent(),
            EngineDriver::Http(_) => None,
        }
    }

    /// The hosts that see a credential, to which it is bound: the endpoint's
    /// and, where tokens are had elsewhere, that one's. Empty for local programs.
    pub fn host(&self) -> String {
        let token = self.sheet.access.token.as_ref().and_then(|token| token.call.split_once(' '));
        let elsewhere = token.map(|(_, target)| target).filter(|target| !target.starts_with('/'));
        let addresses = [self.sheet.endpoint.as_deref(), elsewhere];
        let host = |address: &str| match reqwest::Url::parse(address) {
            Ok(url) => url.host_str().map(str::to_owned),
            // An endpoint with parts of the credential in it.
            Err(_) => Some(address.to_owned()),
        };
        let mut hosts: Vec<String> = addresses.into_iter().flatten().filter_map(host).collect();
        hosts.dedup();
        hosts.join(" ")
    }

    /// The format to ask the engine for, so that `wanted` costs least work
    /// and loses least: the same; else lossless; else the same coding.
    pub fn speaking_format(&self, wanted: Format) -> Option<EngineFormat> {
        let formats = &self.sheet.synthesis.as_ref()?.formats;
        let cost = |made: &EngineFormat| {
            let lossy = made.format.codec.is_lossy();
            (
                !made.format.satisfies(&wanted),
                lossy && made.format.codec != wanted.codec,
                made.format.rate < wanted.rate,
                lossy,
                made.format.rate.abs_diff(wanted.rate),
            )
        };
        all_formats(formats).min_by_key(cost)
    }

    /// The format to hand audio of a format over in: as it is where the
    /// engine takes it, else lossless; in as many of its channels as the
    /// engine takes.
    pub fn hearing_format(&self, given: Format) -> Option<EngineFormat> {
        let formats = &self.sheet.recognition.as_ref()?.formats;
        // A recogniser reads any bit rate.
        let given = Format { bitrate: None, vbr: false, ..given };
        let cost = |taken: &EngineFormat| {
            let lossy = taken.format.codec.is_lossy();
            (
                !taken.format.satisfies(&given),
                !taken.format.codec.is_written(),
                lossy,
                taken.format.rate < given.rate,
                taken.format.rate.abs_diff(given.rate),
            )
        };
        let formats = formats.iter().flat_map(|(key, spec)| {
            let channels = given.channels.min(spec.channels).max(1);
            let all = engine_formats(key, spec).unwrap_or_default();
            all.into_iter().map(move |taken| EngineFormat { format: Format { channels, ..taken.format }, ..taken })
        });
        formats.min_by_key(cost)
    }

    /// Whether a recogniser takes samples that are stored so in a format of
    /// its sheet.
    pub fn hears_depth(&self, format: &EngineFormat, depth: Depth) -> bool {
        let formats = self.sheet.recognition.as_ref().map(|recognition| &recognition.formats);
        let Some(spec) = formats.and_then(|formats| formats.get(&format.key)) else { return false };
        if depth.law.is_some() {
            return !depth.swapped;
        }
        let fits = if depth.float { spec.float && depth.bits == 32 } else { spec.bits.contains(&depth.bits) };
        fits && !depth.swapped
    }

    /// Every format that it speaks in.
    pub fn speaking_formats(&self) -> Vec<EngineFormat> {
        self.sheet.synthesis.as_ref().map(|it| all_formats(&it.formats).collect()).unwrap_or_default()
    }

    /// Every format that it listens to.
    pub fn hearing_formats(&self) -> Vec<EngineFormat> {
        self.sheet.recognition.as_ref().map(|it| all_formats(&it.formats).collect()).unwrap_or_default()
    }

    /// The request that a call becomes, without its access, for people.
    pub fn preview(&self, call: &Speak) -> String {
        match &self.way {
            EngineDriver::Http(http) => http.preview(call),
            EngineDriver::Process(process) => process.preview(call),
        }
    }

    /// The call that lists the engine's voices, without its access, for people;
    /// `None` where the sheet names no list.
    pub fn catalogue_preview(&self) -> Option<String> {
        match &self.way {
            EngineDriver::Http(http) => http.catalogue_preview(),
            EngineDriver::Process(process) => process.catalogue_preview(),
        }
    }

    /// The document that a call sends: what limits with `tags` count.
    pub fn document(&self, call: &Speak) -> String {
        match &self.way {
            EngineDriver::Http(http) => http.document(call),
            EngineDriver::Process(_) => call.text.clone(),
        }
    }

    /// Has the engine speak. The answer streams as the engine streams.
    ///
    /// # Errors
    /// Free of secrets; faults after the first byte come in the stream.
    pub async fn speak(&self, call: Speak, credential: &Parts) -> Result<SpokenAudio, EngineError> {
        match &self.way {
            EngineDriver::Http(http) => http.speak(call, credential).await,
            EngineDriver::Process(process) => {
                let audio = process.speak(call).await?;
                Ok(SpokenAudio { audio, words: Words::default() })
            }
        }
    }

    /// Has the engine listen.
    ///
    /// # Errors
    /// Free of secrets.
    pub async fn hear(&self, call: Hear, credential: &Parts) -> Result<Transcript, EngineError> {
        match &self.way {
            EngineDriver::Http(http) => http.hear(call, credential).await,
            EngineDriver::Process(process) => process.hear(call).await,
        }
    }

    /// Whether it listens while audio is still sent.
    pub fn is_live(&self) -> bool {
        match &self.way {
            EngineDriver::Http(http) => http.is_live(),
            EngineDriver::Process(_) => false,
        }
    }

    /// Has the engine listen to audio as it comes, in the call's format; the
    /// call's own audio is empty. Each result is `told` as it comes. Ends once
    /// the engine has said all.
    ///
    /// # Errors
    /// Free of secrets; also where the engine does not listen live.
    pub async fn hear_live(
        &self,
        call: Hear,
        audio: impl Stream<Item = Bytes> + Send,
        told: impl FnMut(LiveResult) + Send,
        credential: &Parts,
    ) -> Result<(), EngineError> {
        match &self.way {
            EngineDriver::Http(http) => http.hear_live(call, audio, told, credential).await,
            EngineDriver::Process(_) => Err(EngineError::new(Cause::Unsupported, "this engine does not listen live")),
        }
    }

    /// The parts of a credential out of a key file of JSON: where `[access.file]`
    /// says, else in members of their names.
    ///
    /// # Errors
    /// For people, without anything of the file.
    pub fn parts_of_file(&self, text: &str) -> Result<Parts, KeyFileError> {
        let document: serde_json::Value =
            serde_json::from_str(text).map_err(|error| KeyFileError::NotJson { line: error.line() })?;
        let access = &self.sheet.access;
        let part = |name: &String| {
            let path = access.file.get(name).cloned().unwrap_or_else(|| format!("$['{name}']"));
            let found =
                serde_json_path::JsonPath::parse(&path).ok().and_then(|it| it.query(&document).first().cloned());
            let text = match found {
                Some(serde_json::Value::String(text)) => text,
                Some(serde_json::Value::Number(number)) => number.to_string(),
                _ => return Err(KeyFileError::NoPart { part: name.clone(), path }),
            };
            Ok((name.clone(), text.into()))
        };
        access.parts.iter().map(part).collect()
    }

    /// Whether a credential is taken, and the roles it has, by a call that
    /// costs nothing; `None` if the sheet knows of none.
    ///
    /// # Errors
    /// Free of secrets.
    pub async fn try_credential(&self, credential: &Parts) -> Option<Result<Vec<String>, EngineError>> {
        match &self.way {
            EngineDriver::Http(http) => http.try_credential(credential).await,
            EngineDriver::Process(_) => None,
        }
    }

    /// Asks the engine for its voices; `None` if its sheet has no
    /// `[catalogue]`.
    ///
    /// # Errors
    /// Free of secrets.
    pub async fn voices(&self, credential: &Parts, turns: Turns<'_>) -> Option<Result<Vec<Voice>, EngineError>> {
        match &self.way {
            EngineDriver::Http(http) => http.voices(credential, turns).await,
            EngineDriver::Process(process) => process.voices().await,
        }
    }
}

pub(crate) fn all_formats(formats: &BTreeMap<String, FormatSpec>) -> impl Iterator<Item = EngineFormat> {
    formats.iter().filter_map(|(key, spec)| engine_formats(key, spec).ok()).flatten()
}

/// All formats of one entry of the sheet.
fn engine_formats(key: &str, spec: &FormatSpec) -> Result<Vec<EngineFormat>, String> {
    let base = Format::parse(&spec.media_type).map_err(|error| error.to_string())?;
    spec.sample_rates
        .iter()
        .map(|rate| {
            let format = Format { bitrate: spec.bitrate, ..base.with_rate(*rate) };
            format.check().map_err(|error| error.to_string())?;
            Ok(EngineFormat { key: key.into(), tag: spec.tag.clone().unwrap_or_else(|| key.into()), format })
        })
        .collect()
}

/// The program in the folders of `PATH`, or at its absolute path.
pub(crate) fn find_program(program: &str) -> Option<PathBuf> {
    let path = Path::new(program);
    if path.is_absolute() {
        return path.is_file().then(|| path.to_owned());
    }
    if program.contains('/') {
        return None;
    }
    std::env::split_paths(&std::env::var_os("PATH")?).map(|folder| folder.join(program)).find(|path| path.is_file())
}
