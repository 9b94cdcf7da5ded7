//! The root key, and its change while the service runs.
//!
//! A change writes the new key aside, wraps every data key anew, one record
//! after the other, and only then puts the new key in the place of the old.
//! What a crash leaves half done is finished at the next start: until then
//! both keys are at hand, and each record opens under one of them.

use std::path::{Path, PathBuf};
use std::sync::Arc;

use dispatcher_vault::{Parts, RootKey, Sealed, VaultError, open, rewrap, seal};
use parking_lot::RwLock;

use crate::error::CredentialFault;
use crate::{Gateway, GatewayError, now_micros};

/// Where the root key comes from.
#[derive(Debug, Clone)]
pub enum RootKeySource {
    /// A file, which can be changed while the service runs.
    File(PathBuf),
    /// The environment; the host changes it.
    Elsewhere,
}

/// The root keys in force.
pub struct RootKeys {
    place: RootKeySource,
    keys: RwLock<Keys>,
    /// One change at a time.
    changing: tokio::sync::Mutex<()>,
}

#[derive(Clone)]
struct Keys {
    current: Arc<RootKey>,
    next: Option<Arc<RootKey>>,
}

/// The file in which the new key waits for its turn.
fn aside(path: &Path) -> PathBuf {
    let mut name = path.file_name().unwrap_or_default().to_owned();
    name.push(".next");
    path.with_file_name(name)
}

impl RootKeys {
    /// The key of a file, made where there is none; and the one that waits
    /// beside it, where a change was broken off.
    ///
    /// # Errors
    /// When a file can be read by others, or is no key.
    pub fn of_file(path: &Path) -> Result<RootKeys, VaultError> {
        let current = RootKey::load_or_create(path, &mut rand::rng())?;
        let next = match aside(path).exists() {
            true => Some(Arc::new(RootKey::load_or_create(&aside(path), &mut rand::rng())?)),
            false => None,
        };
        Ok(RootKeys::new(RootKeySource::File(path.into()), current, next))
    }

    /// Keys that the host gives: the one in force, and the one to change to.
    pub fn given(current: RootKey, next: Option<RootKey>) -> RootKeys {
        RootKeys::new(RootKeySource::Elsewhere, current, next.map(Arc::new))
    }

    fn new(place: RootKeySource, current: RootKey, next: Option<Arc<RootKey>>) -> RootKeys {
        let keys = RwLock::new(Keys { current: Arc::new(current), next });
        RootKeys { place, keys, changing: tokio::sync::Mutex::default() }
    }

    fn keys(&self) -> Keys {
        self.keys.read().clone()
    }

    fn set(&self, keys: Keys) {
        *self.keys.write() = keys;
    }

    pub(super) fn seal(&self, name: &str, version: i64, parts: &Parts) -> Result<Sealed, VaultError> {
        let keys = self.keys();
        seal(keys.next.as_ref().unwrap_or(&keys.current), name, narrow(version), parts, &mut rand::rng())
    }

    pub(super) fn open(&self, name: &str, version: i64, sealed: &Sealed) -> Result<Parts, VaultError> {
        let keys = self.keys();
        let newest = keys.next.as_ref().and_then(|next| open(next, name, narrow(version), sealed).ok());
        newest.map_or_else(|| open(&keys.current, name, narrow(version), sealed), Ok)
    }
}

fn narrow(version: i64) -> u32 {
    version.try_into().unwrap_or(u32::MAX)
}

impl Gateway {
    /// How many credentials are sealed, and how many of them the root key opens.
    ///
    /// # Errors
    /// When the records cannot be read.
    pub async fn sealed_credentials(&self) -> Result<(usize, usize), GatewayError> {
        let (mut sealed, mut opened) = (0, 0);
        for row in self.inner.store.credentials().await?.into_iter().filter(|row| !row.ciphertext.is_empty()) {
            let closed = Sealed { wrapped_key: row.wrapped_key, ciphertext: row.ciphertext };
            sealed += 1;
            opened += usize::from(self.inner.roots.open(&row.name, row.version, &closed).is_ok());
        }
        Ok((sealed, opened))
    }

    /// Changes the root key; gives how many records were wrapped anew.
    ///
    /// # Errors
    /// When the key is not in a file, or a record cannot be written: the next
    /// call, or the next start, goes on from there.
    pub async fn change_root_key(&self, by: &str) -> Result<usize, GatewayError> {
        let roots = &self.inner.roots;
        let RootKeySource::File(path) = roots.place.clone() else {
            return Err(CredentialFault::KeyOfHost.into());
        };
        if roots.keys().next.is_none() {
            let next = RootKey::load_or_create(&aside(&path), &mut rand::rng())?;
            roots.set(Keys { current: roots.keys().current, next: Some(Arc::new(next)) });
        }
        self.finish_root_change(by).await
    }

    /// Finishes a change of the root key that was begun; nothing is done where
    /// none was.
    pub(crate) async fn finish_root_change(&self, by: &str) -> Result<usize, GatewayError> {
        let roots = &self.inner.roots;
        let _turn = roots.changing.lock().await;
        let Keys { current, next: Some(next) } = roots.keys() else { return Ok(0) };
        let mut moved = 0;
        for row in self.inner.store.credentials().await? {
            let sealed = Sealed { wrapped_key: row.wrapped_key.clone(), ciphertext: row.ciphertext.clone() };
            if sealed.ciphertext.is_empty() || open(&next, &row.name, narrow(row.version), &sealed).is_ok() {
                continue;
            }
            let made = rewrap(&current, &next, &row.name, narrow(row.version), &sealed, &mut rand::rng())?;
            self.inner.store.rewrap_credential(row.name, row.version, made.wrapped_key).await?;
            moved += 1;
        }
        if let RootKeySource::File(path) = &roots.place {
            let failed = |source| VaultError::KeyFile { path: path.clone(), source };
            std::fs::rename(aside(path), path).map_err(failed)?;
        }
        roots.set(Keys { current: next, next: None });
        self.inner.store.note("root-key.change", format!("{moved} credentials"), by.into(), now_micros()).await?;
        Ok(moved)
    }
}
