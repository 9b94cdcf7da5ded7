//! Sheets, routes and credentials: versioned, retired rather than deleted.

use diesel::dsl::max;
use diesel::prelude::*;

use crate::models::{AuditRow, CredentialRow, RouteRow, SheetRow};
use crate::schema::{audit, credentials, routes, sheets};
use crate::{CredentialState, Durability, Store, StoreError};

/// How the origin of a sheet begins that a person put in.
pub const BY: &str = "by ";

pub(crate) fn note(
    connection: &mut SqliteConnection,
    at: i64,
    who: &str,
    action: &str,
    subject: &str,
) -> Result<(), StoreError> {
    let row = (audit::at.eq(at), audit::who.eq(who), audit::action.eq(action), audit::subject.eq(subject));
    diesel::insert_into(audit::table).values(row).execute(connection)?;
    Ok(())
}

/// Retires every version of a name in a table of versions; leaves the write
/// with [`StoreError::Missing`] where none is in use.
macro_rules! retire {
    ($connection:expr, $table:ident, $name:ident, $at:expr, $what:literal) => {
        let in_use = $table::table.filter($table::name.eq(&$name)).filter($table::retired_at.is_null());
        if diesel::update(in_use).set($table::retired_at.eq($at)).execute($connection)? == 0 {
            return Err($crate::StoreError::Missing { what: $what, name: $name });
        }
    };
}
pub(crate) use retire;

/// Of rows by name, each name's newest version first: the newest of each that
/// is not retired. `told` gives a row's name and when it was retired.
pub(crate) fn in_force<T>(rows: Vec<T>, told: impl Fn(&T) -> (&str, Option<i64>)) -> Vec<T> {
    let mut newest: Vec<T> = Vec::new();
    for row in rows {
        if newest.last().is_none_or(|last| told(last).0 != told(&row).0) {
            newest.push(row);
        }
    }
    newest.retain(|row| told(row).1.is_none());
    newest
}

impl Store {
    /// Keeps the document as a new version where it differs from the newest
    /// that came from there; gives the version that is now in force. So a file
    /// that did not change does not undo what a person put in since.
    pub async fn put_sheet(
        &self,
        engine: String,
        document: String,
        origin: String,
        at: i64,
    ) -> Result<i64, StoreError> {
        let write = move |c: &mut SqliteConnection| {
            let rows: Vec<SheetRow> = sheets::table
                .filter(sheets::engine.eq(&engine))
                .order(sheets::version.desc())
                .select(SheetRow::as_select())
                .load(c)?;
            let newest = rows.first().map_or(0, |row| row.version);
            let known = rows.iter().find(|row| row.origin == origin);
            let retired = rows.first().is_some_and(|row| row.retired_at.is_some());
            // A person who puts a retired engine in again wants it back.
            let wanted_back = retired && origin.starts_with(BY);
            if known.is_some_and(|row| row.document == document) && !wanted_back {
                return Ok(newest);
            }
            let version = newest + 1;
            let who = origin.clone();
            let subject = format!("{engine} version {version}");
            diesel::insert_into(sheets::table)
                .values(SheetRow { engine, version, document, origin, created_at: at, retired_at: None })
                .execute(c)?;
            note(c, at, &who, "sheet.put", &subject)?;
            Ok(version)
        };
        self.writer.submit(Durability::Disk, write).await
    }

    /// The newest version of each sheet that is not retired.
    pub async fn sheets(&self) -> Result<Vec<SheetRow>, StoreError> {
        self.read(|c| {
            let rows: Vec<SheetRow> = sheets::table
                .order((sheets::engine.asc(), sheets::version.desc()))
                .select(SheetRow::as_select())
                .load(c)?;
            Ok(in_force(rows, |row| (&row.engine, row.retired_at)))
        })
        .await
    }

    /// All versions of one sheet, the newest first.
    pub async fn sheet_versions(&self, engine: String) -> Result<Vec<SheetRow>, StoreError> {
        self.read(move |c| {
            Ok(sheets::table
                .filter(sheets::engine.eq(engine))
                .order(sheets::version.desc())
                .select(SheetRow::as_select())
                .load(c)?)
        })
        .await
    }

    /// Takes an engine out of use; its sheet stays on record.
    pub async fn retire_sheet(&self, engine: String, by: String, at: i64) -> Result<(), StoreError> {
        let write = move |c: &mut SqliteConnection| {
            let newest: Option<i64> =
                sheets::table.filter(sheets::engine.eq(&engine)).select(max(sheets::version)).first(c)?;
            let Some(newest) = newest else { return Err(StoreError::Missing { what: "engine", name: engine }) };
            diesel::update(sheets::table.find((&engine, newest))).set(sheets::retired_at.eq(at)).execute(c)?;
            note(c, at, &by, "sheet.retire", &engine)
        };
        self.writer.submit(Durability::Disk, write).await
    }

    /// Keeps a new version of a route.
    pub async fn put_route(&self, name: String, document: String, by: String, at: i64) -> Result<i64, StoreError> {
        let write = move |c: &mut SqliteConnection| {
            let newest: Option<i64> =
                routes::table.filter(routes::name.eq(&name)).select(max(routes::version)).first(c)?;
            let version = newest.unwrap_or(0) + 1;
            let subject = format!("{name} version {version}");
            let row = RouteRow { name, version, document, created_by: by.clone(), created_at: at, retired_at: None };
            diesel::insert_into(routes::table).values(row).execute(c)?;
            note(c, at, &by, "route.put", &subject)?;
            Ok(version)
        };
        self.writer.submit(Durability::Disk, write).await
    }

    /// Retires every version of a route.
    pub async fn retire_route(&self, name: String, by: String, at: i64) -> Result<(), StoreError> {
        let write = move |c: &mut SqliteConnection| {
            retire!(c, routes, name, at, "route");
            note(c, at, &by, "route.retire", &name)
        };
        self.writer.submit(Durability::Disk, write).await
    }

    /// The newest version of each route that is not retired.
    pub async fn routes(&self) -> Result<Vec<RouteRow>, StoreError> {
        self.read(|c| {
            let rows: Vec<RouteRow> = routes::table
                .order((routes::name.asc(), routes::version.desc()))
                .select(RouteRow::as_select())
                .load(c)?;
            Ok(in_force(rows, |row| (&row.name, row.retired_at)))
        })
        .await
    }

    /// Keeps a sealed credential as the next version; earlier versions stay as
    /// they are. `seal` is given the version.
    pub async fn put_credential(
        &self,
        name: String,
        by: String,
        at: i64,
        seal: impl FnOnce(i64) -> Result<CredentialRow, StoreError> + Send + 'static,
    ) -> Result<CredentialRow, StoreError> {
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

    /// Adds an entry to the audit log.
    pub async fn note(&self, action: &'static str, subject: String, by: String, at: i64) -> Result<(), StoreError> {
        let write = move |c: &mut SqliteConnection| note(c, at, &by, action, &subject);
        self.writer.submit(Durability::Process, write).await
    }

    /// All versions of all credentials, sealed.
    pub async fn credentials(&self) -> Result<Vec<CredentialRow>, StoreError> {
        self.read(|c| {
            Ok(credentials::table
                .order((credentials::name.asc(), credentials::version.desc()))
                .select(CredentialRow::as_select())
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

    /// The newest audit entries.
    pub async fn audit(&self, limit: i64) -> Result<Vec<AuditRow>, StoreError> {
        self.read(move |c| {
            Ok(audit::table.order(audit::id.desc()).limit(limit).select(AuditRow::as_select()).load(c)?)
        })
        .await
    }
}
