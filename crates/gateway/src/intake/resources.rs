//! What a script names beside its text, brought here before it is planned:
//! lexicons and sounds.

use std::collections::BTreeMap;
use std::sync::Arc;
use std::time::Duration;

use base64::Engine as _;
use base64::engine::general_purpose::STANDARD;
use bytes::Bytes;
use dispatcher_audio::{Format, measure};
use dispatcher_markup::{Lexicon, Reference, ReferenceKind, Script, decode_text, read_pls};
use futures::future::join_all;

use crate::intake::hosts::check_host;
use crate::{Caller, Gateway, Registry};

/// Bytes of one sound, and of one lexicon.
pub const MOST_SOUND: usize = 8 << 20;
const MOST_LEXICON: usize = 2 << 20;
/// Things that one script may name.
const MOST_NAMED: usize = 64;
/// Bytes of all of them, and how many are fetched at once.
const MOST_HELD: usize = 32 << 20;
const AT_ONCE: usize = 4;
/// Time to fetch one, where the script asks for nothing else; it may ask for less.
const PATIENCE: Duration = Duration::from_secs(10);

/// Audio that a script puts in.
#[derive(Debug, Clone, PartialEq)]
pub struct InsertedSound {
    pub format: Format,
    pub seconds: f64,
    pub audio: Bytes,
    /// Equal for equal bytes.
    pub content: String,
}

impl InsertedSound {
    /// # Errors
    /// When it is no audio that is read here, or holds no audio.
    pub fn new(audio: Bytes) -> Result<InsertedSound, String> {
        if audio.len() > MOST_SOUND {
            return Err(format!("it has more than {MOST_SOUND} bytes"));
        }
        let (format, length) = measure(&audio, None).map_err(|error| error.to_string())?;
        let content = crate::content_hash(&audio);
        Ok(InsertedSound { format, seconds: length.seconds(), audio, content })
    }
}

/// What was asked for, and its bytes or why there are none.
type Brought = ((ReferenceKind, String), Result<Matter, String>);

/// The content at a URL.
enum Matter {
    Bytes(Bytes),
    /// A kept clip, which other scripts may use as well.
    Sound(Arc<InsertedSound>),
}

impl Matter {
    fn len(&self) -> usize {
        match self {
            Matter::Bytes(bytes) => bytes.len(),
            Matter::Sound(sound) => sound.audio.len(),
        }
    }
}

/// Lexicons and sounds for one script, by their addresses.
#[derive(Debug, Clone, Default)]
pub struct Resources {
    /// Lexicons that hold for all the text, by name.
    always: Vec<(String, Arc<Lexicon>)>,
    lexicons: BTreeMap<String, Arc<Lexicon>>,
    sounds: BTreeMap<String, Arc<InsertedSound>>,
    /// What cannot be had, and why.
    pub missing: Vec<String>,
}

impl Resources {
    /// Adds a lexicon that holds for all the text.
    pub fn hold_always(&mut self, name: &str, lexicon: Arc<Lexicon>) {
        self.always.push((name.to_owned(), lexicon));
    }

    /// Adds a lexicon at an address.
    pub fn add_lexicon(&mut self, address: &str, lexicon: Arc<Lexicon>) {
        self.lexicons.insert(address.to_owned(), lexicon);
    }

    /// Adds a sound at an address.
    pub fn add_sound(&mut self, address: &str, sound: Arc<InsertedSound>) {
        self.sounds.insert(address.to_owned(), sound);
    }

    /// Takes a sound to be at an address where nothing is fetched.
    pub fn suppose_sound(&mut self, address: &str) {
        let format = Format::new(dispatcher_audio::Codec::Pcm, 24_000);
        let sound = InsertedSound { format, seconds: 0.0, audio: Bytes::new(), content: String::new() };
        self.add_sound(address, Arc::new(sound));
    }

    /// Says that something cannot be had.
    pub fn lack(&mut self, address: &str, why: &str) {
        self.missing.push(format!("{} cannot be used: {why}", short(address)));
    }

    /// Fetches the content at a URL.
    ///
    /// # Errors
    /// When the bytes are no such thing.
    pub fn add(&mut self, kind: ReferenceKind, address: &str, bytes: Bytes) -> Result<(), String> {
        match kind {
            ReferenceKind::Sound => self.add_sound(address, Arc::new(InsertedSound::new(bytes)?)),
            ReferenceKind::Lexicon => {
                let document = decode_text(&bytes, None).map_err(|error| error.to_string())?;
                let lexicon = read_pls(&document).map_err(|fault| fault.to_string())?;
                self.add_lexicon(address, Arc::new(lexicon));
            }
        }
        Ok(())
    }

    pub(crate) fn always(&self) -> Vec<(String, Arc<Lexicon>)> {
        self.always.clone()
    }

    pub(crate) fn lexicon(&self, address: &str) -> Option<Arc<Lexicon>> {
        self.lexicons.get(address).cloned()
    }

    pub(crate) fn sound(&self, address: &str) -> Option<Arc<InsertedSound>> {
        self.sounds.get(address).cloned()
    }
}

/// An address as it is shown to people.
fn short(address: &str) -> String {
    match address.char_indices().nth(80) {
        Some((at, _)) => format!("{}…", &address[..at]),
        None => address.to_owned(),
    }
}

/// The bytes of a `data:` address (RFC 2397).
fn data_of(rest: &str) -> Result<Bytes, String> {
    let (head, body) = rest.split_once(',').ok_or("a data: URL needs a comma before its data")?;
    if head.ends_with(";base64") {
        let packed: String = body.chars().filter(|c| !c.is_ascii_whitespace()).collect();
        return STANDARD.decode(packed).map(Bytes::from).map_err(|error| format!("its base64 cannot be read: {error}"));
    }
    let mut out = Vec::with_capacity(body.len());
    let mut bytes = body.bytes();
    while let Some(byte) = bytes.next() {
        let escaped = (byte == b'%').then(|| {
            let digits = [bytes.next()?, bytes.next()?];
            u8::from_str_radix(std::str::from_utf8(&digits).ok()?, 16).ok()
        });
        match escaped {
            None => out.push(byte),
            Some(Some(byte)) => out.push(byte),
            Some(None) => return Err("a % in it is not followed by two digits".into()),
        }
    }
    Ok(out.into())
}

/// The name of a lexicon on record that an address means: `name`, `name.pls`,
/// or where the service has it.
fn lexicon_named(address: &str) -> &str {
    let address = address.strip_prefix("/api/v1/lexicons/").unwrap_or(address);
    address.strip_suffix(".pls").unwrap_or(address)
}

impl Gateway {
    /// Brings here what a script names, for a caller; what cannot be had is
    /// listed among what is missing.
    pub(crate) async fn resources(&self, caller: &Caller, script: &Script<'_>) -> Resources {
        let registry = self.registry();
        let mut found = Resources::default();
        for lexicon in registry.lexicons().of(&caller.app.name).filter(|lexicon| lexicon.always) {
            found.hold_always(&lexicon.name, lexicon.lexicon.clone());
        }
        let references = script.references();
        let mut others = Vec::new();
        for reference in references.iter().take(MOST_NAMED) {
            match self.on_record(caller, &registry, reference) {
                Some(lexicon) => found.add_lexicon(&reference.address, lexicon),
                None => others.push(reference),
            }
        }
        let brought = self.bring_all(caller, &others).await;
        if !brought.is_empty() {
            let mut so_far = found.clone();
            let take = move || {
                for ((kind, address), brought) in brought {
                    let added = brought.and_then(|matter| match matter {
                        Matter::Bytes(bytes) => so_far.add(kind, &address, bytes),
                        Matter::Sound(sound) => {
                            so_far.add_sound(&address, sound);
                            Ok(())
                        }
                    });
                    if let Err(why) = added {
                        so_far.lack(&address, &why);
                    }
                }
                so_far
            };
            // Sounds are decoded to learn their lengths.
            match self.in_turn(take).await {
                Ok(taken) => found = taken,
                Err(error) => tracing::error!(%error, "what a script names could not be read"),
            }
        }
        for reference in references.iter().skip(MOST_NAMED) {
            found.lack(&reference.address, &format!("a script can refer to at most {MOST_NAMED} clips and lexicons"));
        }
        found
    }

    /// A lexicon that is read already.
    fn on_record(&self, caller: &Caller, registry: &Registry, reference: &Reference) -> Option<Arc<Lexicon>> {
        let name = lexicon_named(&reference.address);
        let wanted = reference.kind == ReferenceKind::Lexicon;
        let found = registry.lexicons().of(&caller.app.name).find(|lexicon| wanted && lexicon.name == name);
        found.map(|lexicon| lexicon.lexicon.clone())
    }

    /// Some at once, in order, and no more bytes of all together than a script
    /// may hold.
    async fn bring_all(&self, caller: &Caller, references: &[&Reference]) -> Vec<Brought> {
        let (mut all, mut held) = (Vec::new(), 0);
        for some in references.chunks(AT_ONCE) {
            let brought = join_all(some.iter().map(|reference| self.bring(caller, reference))).await;
            for (reference, brought) in some.iter().zip(brought) {
                held += brought.as_ref().map_or(0, Matter::len);
                let fits = |bytes: Matter| match held <= MOST_HELD {
                    true => Ok(bytes),
                    false => {
                        Err(format!("the clips and lexicons of a script can have at most {MOST_HELD} bytes together"))
                    }
                };
                all.push(((reference.kind, reference.address.clone()), brought.and_then(fits)));
            }
            if held > MOST_HELD {
                let rest = references.iter().skip(all.len());
                let why = "the clips and lexicons before it have reached the limit of a script";
                all.extend(rest.map(|it| ((it.kind, it.address.clone()), Err(why.to_owned()))));
                break;
            }
        }
        all
    }

    async fn bring(&self, caller: &Caller, reference: &Reference) -> Result<Matter, String> {
        let address = reference.address.as_str();
        if let Some(rest) = address.strip_prefix("data:") {
            return data_of(rest).map(Matter::Bytes);
        }
        if address.contains("://") {
            check_host(address, &self.inner.host.fetch_hosts, "fetch_hosts")?;
            // A script may write any number, and a duration does not hold it.
            let most = PATIENCE.as_secs_f64();
            let asked = reference.timeout.map_or(most, |milliseconds| (milliseconds / 1_000.0).min(most));
            let patience = Duration::from_secs_f64(asked);
            let most = if reference.kind == ReferenceKind::Sound { MOST_SOUND } else { MOST_LEXICON };
            let fetched = self.inner.host.fetcher.get(address, most, patience).await;
            return fetched.map(Matter::Bytes).map_err(|error| error.detail);
        }
        match reference.kind {
            ReferenceKind::Lexicon => {
                Err(format!("no lexicon '{}' exists for {}", lexicon_named(address), caller.app.name))
            }
            ReferenceKind::Sound => {
                let id = address.strip_prefix("clip:").or_else(|| address.strip_prefix("/api/v1/clips/"));
                let sound = match id {
                    Some(id) => self.clip_in_use(caller, id).await,
                    None => self.clip_titled(caller, address).await,
                };
                sound.map(Matter::Sound).map_err(|error| error.to_string())
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn data_addresses_are_read_in_both_forms() {
        assert_eq!(data_of("text/plain;base64,R29u\nZw==").expect("base64"), "Gong");
        assert_eq!(data_of(",a%20b%C3%A9").expect("escaped"), "a bé");
        for bad in ["text/plain", ";base64,!", ",a%2"] {
            assert!(data_of(bad).is_err(), "{bad}");
        }
    }
}
