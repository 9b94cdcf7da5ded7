//! Apps, keys, people and their sessions.

use diesel::prelude::*;

use crate::audit::note;
use crate::models::{AccessKey, App, Person, PersonChange, Session};
use crate::schema::{access_keys, apps, people, sessions};
use crate::states::PersonRole;
use crate::{Durability, Store, StoreError};

/// Who a key speaks for.
#[derive(Debug, Clone)]
pub struct Grant {
    pub key: AccessKey,
    pub app: App,
}

impl Store {
    /// Adds an app.
    pub async fn add_app(&self, app: App, by: String) -> Result<App, StoreError> {
        let write = move |c: &mut SqliteConnection| {
            diesel::insert_into(apps::table)
                .values(app.clone())
                .execute(c)
                .map_err(|error| StoreError::taken(error, "app", &app.name))?;
            note(c, app.created_at, &by, "app.add", &app.name)?;
            Ok(app)
        };
        self.writer.submit(Durability::Disk, write).await
    }

    /// All apps by name.
    pub async fn apps(&self) -> Result<Vec<App>, StoreError> {
        self.read(|c| Ok(apps::table.order(apps::name).select(App::as_select()).load(c)?)).await
    }

    /// One app.
    pub async fn app(&self, name: String) -> Result<App, StoreError> {
        self.read(move |c| {
            let found = apps::table.find(&name).select(App::as_select()).first(c).optional()?;
            found.ok_or(StoreError::Missing { what: "app", name })
        })
        .await
    }

    /// Turns an app's rehearsal on or off, or sets what it uses by default.
    pub async fn change_app(&self, app: App, by: String, at: i64) -> Result<App, StoreError> {
        let write = move |c: &mut SqliteConnection| {
            let changed = diesel::update(apps::table.find(&app.name)).set(app.clone()).execute(c)?;
            if changed == 0 {
                return Err(StoreError::Missing { what: "app", name: app.name });
            }
            note(c, at, &by, "app.change", &app.name)?;
            Ok(app)
        };
        self.writer.submit(Durability::Disk, write).await
    }

    /// Keeps a key that was just made.
    pub async fn add_key(&self, key: AccessKey, by: String) -> Result<AccessKey, StoreError> {
        let write = move |c: &mut SqliteConnection| {
            let known: i64 = apps::table.find(&key.app).count().get_result(c)?;
            if known == 0 {
                return Err(StoreError::Missing { what: "app", name: key.app });
            }
            diesel::insert_into(access_keys::table).values(&key).execute(c)?;
            note(c, key.created_at, &by, "key.add", &format!("{} of {}", key.id, key.app))?;
            Ok(key)
        };
        self.writer.submit(Durability::Disk, write).await
    }

    /// Keys of one app.
    pub async fn keys(&self, app: String) -> Result<Vec<AccessKey>, StoreError> {
        self.read(move |c| {
            let found = access_keys::table.filter(access_keys::app.eq(app)).order(access_keys::created_at);
            Ok(found.select(AccessKey::as_select()).load(c)?)
        })
        .await
    }

    /// Revokes a key, and ends the sessions that were begun with it.
    pub async fn revoke_key(&self, app: String, id: String, by: String, at: i64) -> Result<(), StoreError> {
        let write = move |c: &mut SqliteConnection| {
            let found = access_keys::table
                .filter(access_keys::id.eq(&id))
                .filter(access_keys::app.eq(&app))
                .filter(access_keys::revoked_at.is_null());
            if diesel::update(found).set(access_keys::revoked_at.eq(at)).execute(c)? == 0 {
                return Err(StoreError::Missing { what: "key", name: id });
            }
            diesel::delete(sessions::table.filter(sessions::key.eq(&id))).execute(c)?;
            note(c, at, &by, "key.revoke", &format!("{id} of {app}"))
        };
        self.writer.submit(Durability::Disk, write).await
    }

    /// Who the key with this hash speaks for, where it is not revoked.
    pub async fn grant(&self, hash: String) -> Result<Option<Grant>, StoreError> {
        self.read(move |c| {
            let row = access_keys::table
                .inner_join(apps::table.on(apps::name.eq(access_keys::app)))
                .filter(access_keys::hash.eq(hash))
                .filter(access_keys::revoked_at.is_null())
                .select((AccessKey::as_select(), App::as_select()))
                .first(c)
                .optional()?;
            Ok(row.map(|(key, app)| Grant { key, app }))
        })
        .await
    }

    /// Notes when keys were last used.
    pub fn note_key_use(&self, id: String, at: i64) {
        drop(self.writer.submit(Durability::Process, move |c| {
            diesel::update(access_keys::table.find(&id)).set(access_keys::last_used_at.eq(at)).execute(c)?;
            Ok(())
        }));
    }

    /// Changes a person, or adds one: a new person has a password, and is an
    /// operator unless another role is given. The person's sessions end, but
    /// for the one with the hash `keep`.
    ///
    /// # Errors
    /// [`StoreError::Missing`] where there is no such person and no password.
    pub async fn put_person(
        &self,
        name: String,
        change: PersonChange,
        keep: Option<String>,
        by: String,
        at: i64,
    ) -> Result<(), StoreError> {
        let write = move |c: &mut SqliteConnection| {
            let known = people::table.find(&name).select((people::password_hash, people::role, people::apps));
            let known: Option<(String, PersonRole, Option<String>)> = known.first(c).optional()?;
            let (hash, role, apps) = match (known, change.password_hash) {
                (None, None) => return Err(StoreError::Missing { what: "person", name }),
                (None, Some(hash)) => (hash, PersonRole::Operator, None),
                (Some((_, role, apps)), Some(hash)) => (hash, role, apps),
                (Some(known), None) => known,
            };
            let (role, apps) = match change.role {
                Some((role, apps)) => (role, (!apps.is_empty()).then(|| apps.join("\n"))),
                None => (role, apps),
            };
            let row = (
                people::name.eq(&name),
                people::password_hash.eq(&hash),
                people::created_at.eq(at),
                people::role.eq(role),
                people::apps.eq(apps),
            );
            diesel::replace_into(people::table).values(row).execute(c)?;
            let others = sessions::table.filter(sessions::person.eq(&name)).filter(sessions::key.is_null());
            diesel::delete(others.filter(sessions::hash.ne(keep.unwrap_or_default()))).execute(c)?;
            note(c, at, &by, "person.put", &format!("{name}, {role}"))
        };
        self.writer.submit(Durability::Disk, write).await
    }

    /// Removes a person, and ends the person's sessions.
    pub async fn remove_person(&self, name: String, by: String, at: i64) -> Result<(), StoreError> {
        let write = move |c: &mut SqliteConnection| {
            if diesel::delete(people::table.find(&name)).execute(c)? == 0 {
                return Err(StoreError::Missing { what: "person", name });
            }
            let own = sessions::table.filter(sessions::person.eq(&name)).filter(sessions::key.is_null());
            diesel::delete(own).execute(c)?;
            note(c, at, &by, "person.remove", &name)
        };
        self.writer.submit(Durability::Disk, write).await
    }

    /// The people who can sign in with a password, by name.
    pub async fn people(&self) -> Result<Vec<Person>, StoreError> {
        self.read(|c| Ok(people::table.order(people::name).select(Person::as_select()).load(c)?)).await
    }

    /// One person.
    pub async fn person(&self, name: String) -> Result<Option<Person>, StoreError> {
        self.read(move |c| Ok(people::table.find(name).select(Person::as_select()).first(c).optional()?)).await
    }

    /// A person's password hash.
    pub async fn password_hash(&self, name: String) -> Result<Option<String>, StoreError> {
        self.read(move |c| Ok(people::table.find(name).select(people::password_hash).first(c).optional()?)).await
    }

    /// Whether anybody can sign in with a password.
    pub async fn has_people(&self) -> Result<bool, StoreError> {
        self.read(|c| Ok(people::table.count().get_result::<i64>(c)? > 0)).await
    }

    /// Keeps a session by its token's hash, and forgets those that are over.
    pub async fn add_session(&self, session: Session) -> Result<(), StoreError> {
        let write = move |c: &mut SqliteConnection| {
            let at = session.created_at;
            diesel::delete(sessions::table.filter(sessions::expires_at.lt(at))).execute(c)?;
            diesel::insert_into(sessions::table).values(&session).execute(c)?;
            note(c, at, &session.person, "session.begin", &session.person)
        };
        self.writer.submit(Durability::Disk, write).await
    }

    /// The session with this hash, where it is not over.
    pub async fn session(&self, hash: String, at: i64) -> Result<Option<Session>, StoreError> {
        self.read(move |c| {
            let found = sessions::table.find(hash).filter(sessions::expires_at.gt(at));
            let session: Option<Session> = found.select(Session::as_select()).first(c).optional()?;
            let Some(key) = session.as_ref().and_then(|session| session.key.clone()) else { return Ok(session) };
            // It does not outlive the key that began it.
            let key: Option<AccessKey> =
                access_keys::table.find(key).select(AccessKey::as_select()).first(c).optional()?;
            Ok(session.filter(|_| key.is_none_or(|key| !key.has_expired(at))))
        })
        .await
    }

    /// Ends a session.
    pub async fn end_session(&self, hash: String) -> Result<(), StoreError> {
        let write = move |c: &mut SqliteConnection| {
            diesel::delete(sessions::table.find(hash)).execute(c)?;
            Ok(())
        };
        self.writer.submit(Durability::Disk, write).await
    }
}
