//! Credentials, versioned and sealed.

use diesel::dsl::max;
use diesel::prelude::*;

use crate::audit::note;
use crate::models::SealedCredential;
use crate::schema::credentials;
use crate::{CredentialState, Durability, Store, StoreError};

impl Store {
    /// Keeps a sealed credential as the next version; earlier versions stay as
    /// they are. `seal` is given the version.
    pub async fn put_credential(
        &self,
        name: String,
        by: String,
        at: i64,
        seal: impl FnOnce(i64) -> Result<SealedCredential, StoreError> + Send + 'static,
    ) -> Result<SealedCredential, StoreError> {
        let write = move |c: &mut SqliteConnection| {
            let newest: Option<i64> =
                credentials::table.filter(credentials::name.eq(&name)).select(max(credentials::version)).first(c)?;
            let row = seal(newest.unwrap_or(0) + 1)?;
            diesel::insert_into(credentials::table).values(&row).execute(c)?;
            note(c, at, &by, "credential.add", &format!("{name} version {}", row.version))?;
            Ok(row)
        };
        self.writer.submit(Durability::Disk, write).await
    }

    /// Puts a version of a credential into force; older ones are superseded.
    /// Newer ones stay as they are. Two calls with two versions can end in any
    /// order, so where a newer version is in force already, nothing changes.
    ///
    /// Gives the state that the version has afterwards.
    pub async fn activate_credential(
        &self,
        name: String,
        version: i64,
        by: String,
        at: i64,
    ) -> Result<CredentialState, StoreError> {
        let write = move |c: &mut SqliteConnection| {
            let open = || {
                let of_name = credentials::table.filter(credentials::name.eq(name.clone()));
                of_name.filter(credentials::state.eq_any(CredentialState::OPEN))
            };
            let this = open().filter(credentials::version.eq(version));
            let active = credentials::state.eq(CredentialState::Active);
            let changed = diesel::update(this).set((active, credentials::cause.eq(None::<String>))).execute(c)?;
            if changed == 0 {
                return Ok(credentials::table.find((&name, version)).select(credentials::state).first(c)?);
            }
            let older = open().filter(credentials::version.lt(version));
            diesel::update(older).set(credentials::state.eq(CredentialState::Superseded)).execute(c)?;
            note(c, at, &by, "credential.activate", &format!("{name} version {version}"))?;
            Ok(CredentialState::Active)
        };
        self.writer.submit(Durability::Disk, write).await
    }

    /// Says of a version that it is `pending` or `refused`, and why.
    pub async fn hold_credential(
        &self,
        name: String,
        version: i64,
        state: CredentialState,
        cause: Option<String>,
        at: i64,
    ) -> Result<(), StoreError> {
        let write = move |c: &mut SqliteConnection| {
            let open = credentials::state.eq_any(CredentialState::OPEN);
            let this = credentials::table.find((&name, version)).filter(open);
            diesel::update(this).set((credentials::state.eq(state), credentials::cause.eq(&cause))).execute(c)?;
            let told = format!("{name} version {version}: {state}, {}", cause.as_deref().unwrap_or_default());
            note(c, at, "gateway", "credential.hold", &told)
        };
        self.writer.submit(Durability::Disk, write).await
    }

    /// Notes when a version ends.
    pub async fn note_credential_end(&self, name: String, version: i64, at: i64) -> Result<(), StoreError> {
        let write = move |c: &mut SqliteConnection| {
            let this = credentials::table.find((&name, version));
            diesel::update(this).set(credentials::ends_at.eq(at)).execute(c)?;
            Ok(())
        };
        self.writer.submit(Durability::Disk, write).await
    }

    /// Binds all versions of a credential to other hosts.
    pub async fn bind_credential(&self, name: String, hosts: String, by: String, at: i64) -> Result<(), StoreError> {
        let write = move |c: &mut SqliteConnection| {
            let all = credentials::table.filter(credentials::name.eq(&name));
            diesel::update(all).set(credentials::hosts.eq(&hosts)).execute(c)?;
            note(c, at, &by, "credential.confirm", &format!("{name} for {hosts}"))
        };
        self.writer.submit(Durability::Disk, write).await
    }

    /// Keeps the data key of a version, wrapped anew.
    pub async fn rewrap_credential(&self, name: String, version: i64, wrapped_key: Vec<u8>) -> Result<(), StoreError> {
        let write = move |c: &mut SqliteConnection| {
            let this =
                credentials::table.find((&name, version)).filter(credentials::state.ne(CredentialState::Revoked));
            diesel::update(this).set(credentials::wrapped_key.eq(wrapped_key)).execute(c)?;
            Ok(())
        };
        self.writer.submit(Durability::Disk, write).await
    }

    /// All versions of all credentials, sealed.
    pub async fn credentials(&self) -> Result<Vec<SealedCredential>, StoreError> {
        self.read(|c| {
            Ok(credentials::table
                .order((credentials::name.asc(), credentials::version.desc()))
                .select(SealedCredential::as_select())
                .load(c)?)
        })
        .await
    }

    /// Revokes every version of a credential and overwrites what was sealed.
    pub async fn revoke_credential(&self, name: String, by: String, at: i64) -> Result<(), StoreError> {
        let write = move |c: &mut SqliteConnection| {
            let found = credentials::table
                .filter(credentials::name.eq(&name))
                .filter(credentials::state.ne(CredentialState::Revoked));
            let empty: &[u8] = &[];
            let changed = diesel::update(found)
                .set((
                    credentials::state.eq(CredentialState::Revoked),
                    credentials::wrapped_key.eq(empty),
                    credentials::ciphertext.eq(empty),
                ))
                .execute(c)?;
            if changed == 0 {
                return Err(StoreError::Missing { what: "credential", name });
            }
            note(c, at, &by, "credential.revoke", &name)
        };
        self.writer.submit(Durability::Disk, write).await
    }

    /// Revokes every credential that is sealed, where its root key is lost.
    pub async fn forget_credentials(&self, by: String, at: i64) -> Result<(), StoreError> {
        for row in self.credentials().await?.into_iter().filter(|row| !row.ciphertext.is_empty()) {
            match self.revoke_credential(row.name, by.clone(), at).await {
                // Of several versions the first call revokes all.
                Ok(()) | Err(StoreError::Missing { .. }) => {}
                Err(error) => return Err(error),
            }
        }
        Ok(())
    }

    /// Notes that credentials were used, and how the engine took them.
    pub async fn note_credential_use(
        &self,
        name: String,
        version: i64,
        refused: Option<String>,
        at: i64,
    ) -> Result<(), StoreError> {
        let write = move |c: &mut SqliteConnection| {
            let state = if refused.is_some() { CredentialState::Refused } else { CredentialState::Active };
            let usable = credentials::table
                .find((&name, version))
                .filter(credentials::state.eq_any([CredentialState::Active, CredentialState::Refused]));
            diesel::update(usable)
                .set((
                    credentials::last_used_at.eq(at),
                    credentials::state.eq(state),
                    credentials::cause.eq(refused.as_deref()),
                ))
                .execute(c)?;
            note(c, at, "gateway", "credential.use", &format!("{name} version {version}: {state}"))
        };
        self.writer.submit(Durability::Process, write).await
    }
}
