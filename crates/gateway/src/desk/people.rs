//! People who sign in, and their sessions. How passwords are hashed and
//! attempts counted is the host's.

use std::time::Duration;

use dispatcher_store::{Person, PersonChange, Session};
use dispatcher_vault::{hash_key, random_token};

use crate::{Gateway, GatewayError, now_micros};

/// A session to be begun.
#[derive(Debug, Clone)]
pub struct NewSession {
    /// The person, or how the key is named in the audit log.
    pub person: String,
    /// The id of the operator key that begins it, where one does.
    pub key: Option<String>,
    pub length: Duration,
}

impl Gateway {
    /// The people who can sign in, by name.
    ///
    /// # Errors
    /// When the records cannot be read or written; so with all of these.
    pub async fn people(&self) -> Result<Vec<Person>, GatewayError> {
        Ok(self.inner.store.people().await?)
    }

    /// Whether anybody can sign in with a password.
    ///
    /// # Errors
    /// When the records cannot be read.
    pub async fn has_people(&self) -> Result<bool, GatewayError> {
        Ok(self.inner.store.has_people().await?)
    }

    /// The hash of a person's password.
    ///
    /// # Errors
    /// When the records cannot be read.
    pub async fn password_hash(&self, person: &str) -> Result<Option<String>, GatewayError> {
        Ok(self.inner.store.password_hash(person.to_owned()).await?)
    }

    /// Changes a person, or adds one. The person's sessions end, but for the one
    /// of the token `keep`.
    ///
    /// # Errors
    /// Where an app of an app owner is not there, or there is no such person
    /// and no password.
    pub async fn put_person(
        &self,
        name: &str,
        change: PersonChange,
        keep: Option<&str>,
        by: &str,
    ) -> Result<(), GatewayError> {
        for app in change.role.iter().flat_map(|(_, apps)| apps) {
            self.app(app).await?;
        }
        let (keep, now) = (keep.map(hash_key), now_micros());
        Ok(self.inner.store.put_person(name.to_owned(), change, keep, by.to_owned(), now).await?)
    }

    /// Removes a person, whose sessions end.
    ///
    /// # Errors
    /// Where there is none of the name.
    pub async fn remove_person(&self, name: &str, by: &str) -> Result<(), GatewayError> {
        Ok(self.inner.store.remove_person(name.to_owned(), by.to_owned(), now_micros()).await?)
    }

    /// Begins a session; gives its record and its token, of which the records have a hash alone.
    ///
    /// # Errors
    /// When the records cannot be written.
    pub async fn begin_session(&self, new: NewSession) -> Result<(String, Session), GatewayError> {
        let token = random_token(&mut rand::rng());
        let now = now_micros();
        let length = i64::try_from(new.length.as_micros()).unwrap_or(i64::MAX);
        let session = Session {
            hash: hash_key(&token),
            person: new.person,
            created_at: now,
            expires_at: now.saturating_add(length),
            key: new.key,
        };
        self.inner.store.add_session(session.clone()).await?;
        Ok((token, session))
    }

    /// The session of a token, where it is not over.
    ///
    /// # Errors
    /// When the records cannot be read.
    pub async fn session(&self, token: &str) -> Result<Option<Session>, GatewayError> {
        Ok(self.inner.store.session(hash_key(token), now_micros()).await?)
    }

    /// Ends the session of a token.
    ///
    /// # Errors
    /// When the records cannot be written.
    pub async fn end_session(&self, token: &str) -> Result<(), GatewayError> {
        Ok(self.inner.store.end_session(hash_key(token)).await?)
    }
}
