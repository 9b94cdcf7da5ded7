//! The conformance matrix: what a sheet claims, against what is seen.
//!
//! Every claim that can be tried with a short call is tried: access, voices,
//! models, formats, controls, limits, errors, the catalogue. The calls are
//! real: they are dispatches of the caller's app, and are charged to it.

mod hearing;
mod speech;

use std::time::Duration;

use dispatcher_audio::Length;
use dispatcher_core::{Cause, Money, Shaping, Sheet, Voice};
use dispatcher_engines::{Engine, EngineError};
use dispatcher_vault::Parts;
use futures::StreamExt as _;
use secrecy::{ExposeSecret as _, SecretString};

use crate::{Caller, Gateway, GatewayError};

/// One call of a check may take so long.
const PATIENCE: Duration = Duration::from_secs(120);

/// Whether a claim was found to be true.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Verdict {
    Holds,
    Differs,
    /// Not tried, and why is in what was seen.
    Untested,
}

impl Verdict {
    /// The word for it.
    pub fn name(self) -> &'static str {
        match self {
            Verdict::Holds => "holds",
            Verdict::Differs => "differs",
            Verdict::Untested => "untested",
        }
    }
}

/// One claim of a sheet.
#[derive(Debug, Clone)]
pub struct Claim {
    /// `access`, `voice`, `model`, `format`, `control`, `limit`, `error`,
    /// `catalogue` or `transcript`.
    pub kind: &'static str,
    pub subject: String,
    pub claimed: String,
    pub seen: String,
    pub verdict: Verdict,
    /// Of a claim that differs: what was sent, without the credential …
    pub request: Option<String>,
    /// … and what came back.
    pub answer: Option<String>,
}

/// The matrix of one engine.
#[derive(Debug, Clone)]
pub struct Matrix {
    pub engine: String,
    pub claims: Vec<Claim>,
    pub cost: Money,
}

impl Matrix {
    /// Whether nothing differs.
    pub fn good(&self) -> bool {
        self.claims.iter().all(|claim| claim.verdict != Verdict::Differs)
    }
}

/// Audio that an engine made.
struct MadeSound {
    samples: Vec<f32>,
    rate: u32,
    length: Length,
}

impl MadeSound {
    fn seconds(&self) -> f64 {
        self.samples.len() as f64 / f64::from(self.rate.max(1))
    }
}

struct Checking<'a> {
    gateway: &'a Gateway,
    caller: &'a Caller,
    engine: std::sync::Arc<Engine>,
    sheet: std::sync::Arc<Sheet>,
    claims: Vec<Claim>,
    cost: Money,
}

/// Why a try came to nothing, and what was sent.
struct Miss {
    cause: Cause,
    detail: String,
    request: String,
}

/// How much of a sheet is tried.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum CheckDepth {
    /// All but limits, which take long texts.
    Quick,
    /// All that can be tried.
    Whole,
}

impl Gateway {
    /// Tries what an engine's sheet claims. `heard` speaks what a recogniser
    /// is to hear, by voice id or route; the app's own voice where it is
    /// missing.
    ///
    /// # Errors
    /// When there is no such engine, or the records cannot be written.
    pub async fn check_engine(
        &self,
        caller: &Caller,
        name: &str,
        depth: CheckDepth,
        heard: Option<&str>,
    ) -> Result<Matrix, GatewayError> {
        let registry = self.registry();
        let engine = registry.engine(name)?.clone();
        let sheet = registry.sheet(name).cloned().unwrap_or_else(|| engine.sheet().clone());
        let cost = Money::zero(sheet.tariff.currency);
        let mut work = Checking { gateway: self, caller, engine, sheet, claims: Vec::new(), cost };
        if work.access().await? {
            work.catalogue().await;
            Box::pin(work.speech(depth)).await?;
            work.hearing(heard).await?;
        }
        Ok(Matrix { engine: name.to_owned(), claims: work.claims, cost: work.cost })
    }
}

impl Checking<'_> {
    fn put(&mut self, kind: &'static str, subject: impl Into<String>, claimed: &str, seen: String, verdict: Verdict) {
        let (subject, claimed) = (subject.into(), claimed.to_owned());
        self.claims.push(Claim { kind, subject, claimed, seen, verdict, request: None, answer: None });
    }

    fn miss(&mut self, kind: &'static str, subject: impl Into<String>, claimed: &str, miss: &Miss) {
        self.put(kind, subject, claimed, miss.cause.name().to_owned(), Verdict::Differs);
        if let Some(claim) = self.claims.last_mut() {
            claim.request = Some(miss.request.clone());
            claim.answer = Some(miss.detail.clone());
        }
    }

    /// Whether the engine can be called at all.
    async fn access(&mut self) -> Result<bool, GatewayError> {
        if let Some(reason) = self.engine.absent() {
            self.put("access", "program", "installed", reason, Verdict::Differs);
            return Ok(false);
        }
        let engine = self.engine.clone();
        if engine.sheet().access.parts.is_empty() {
            self.put("access", "credential", "none needed", "none needed".into(), Verdict::Holds);
            return Ok(true);
        }
        let opened = match self.gateway.credential_for(&engine, None).await {
            Ok(Some(opened)) => opened,
            Ok(None) => return Ok(true),
            Err(error) => {
                self.put("access", "credential", "bound", error.detail, Verdict::Differs);
                return Ok(false);
            }
        };
        match engine.try_credential(&opened.parts).await {
            None => self.put("access", "credential", "accepted", "see the calls below".into(), Verdict::Untested),
            Some(Ok(_)) => self.put("access", "credential", "taken", "taken".into(), Verdict::Holds),
            Some(Err(error)) => {
                let miss = Miss { cause: error.cause, detail: error.detail, request: "the call of the check".into() };
                self.miss("access", "credential", "taken", &miss);
            }
        }
        self.stranger(&opened.parts).await;
        Ok(true)
    }

    /// A credential that is not good is refused as such.
    async fn stranger(&mut self, parts: &Parts) {
        let own: Vec<String> = self.sheet.access.secret_parts().cloned().collect();
        let spoilt = |(name, part): (&String, &SecretString)| {
            let text = part.expose_secret();
            // A key in PEM that is spoilt is no key: it would not leave the house.
            let spoilt = if own.contains(name) && !text.contains("-----BEGIN") {
                text.chars().rev().chain(['x', 'x', 'x', 'x']).collect()
            } else {
                text.to_owned()
            };
            (name.clone(), SecretString::from(spoilt))
        };
        let strange: Parts = parts.iter().map(spoilt).collect();
        if strange.iter().all(|(name, part)| parts[name].expose_secret() == part.expose_secret()) {
            return self.put(
                "access",
                "invalid credential",
                "refused",
                "no invalid key can be made".into(),
                Verdict::Untested,
            );
        }
        let Some(planned) = self.planned(None, None, None, Shaping::default()) else { return };
        let call = self.call(&planned, "Hello.");
        let request = self.engine.preview(&call);
        let refused = match self.engine.try_credential(&strange).await {
            Some(outcome) => outcome.map(drop),
            None => read(self.engine.speak(call, &strange).await).await.map(drop),
        };
        match refused {
            Err(error) if error.cause == Cause::Unauthorized => {
                self.put("access", "invalid credential", "unauthorized", "unauthorized".into(), Verdict::Holds);
            }
            Err(error) => {
                let miss = Miss { cause: error.cause, detail: error.detail, request };
                self.miss("access", "invalid credential", "unauthorized", &miss);
            }
            Ok(()) => self.put("access", "invalid credential", "unauthorized", "let in".into(), Verdict::Differs),
        }
    }

    async fn catalogue(&mut self) {
        let Some(catalogue) = self.engine.sheet().catalogue.clone() else { return };
        let parts = match self.gateway.credential_for(&self.engine, None).await {
            Ok(opened) => opened.map(|opened| opened.parts.clone()).unwrap_or_default(),
            Err(_) => return,
        };
        let own = self.engine.sheet().synthesis.as_ref().map(|it| it.voices.clone()).unwrap_or_default();
        match self.engine.voices(&parts, &self.gateway.upkeep_turns(&self.engine)).await {
            None => {}
            Some(Err(error)) => {
                let request = self.engine.catalogue_preview().unwrap_or_default();
                let miss = Miss { cause: error.cause, detail: error.detail, request };
                self.miss("catalogue", "list", "voices", &miss);
            }
            Some(Ok(listed)) => {
                self.put("catalogue", "list", "voices", format!("{} voices", listed.len()), Verdict::Holds);
                let there = |voice: &&Voice| listed.iter().any(|has| has.id == voice.id);
                let gone: Vec<&str> = own.iter().filter(|v| !there(v)).map(|voice| voice.id.as_str()).collect();
                if !catalogue.extends && !own.is_empty() {
                    let (seen, verdict) = match gone.is_empty() {
                        true => ("all listed".into(), Verdict::Holds),
                        false => (format!("not listed: {}", gone.join(", ")), Verdict::Differs),
                    };
                    self.put("catalogue", "the sheet's voices", "listed", seen, verdict);
                }
            }
        }
    }
}

/// All that an engine says.
async fn read(spoken: Result<dispatcher_engines::SpokenAudio, EngineError>) -> Result<Vec<u8>, EngineError> {
    let mut audio = Vec::new();
    let mut stream = spoken?.audio;
    while let Some(piece) = stream.next().await {
        audio.extend_from_slice(&piece?);
    }
    Ok(audio)
}
