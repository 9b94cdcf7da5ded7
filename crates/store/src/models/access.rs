//! Apps with their allowances, and what speaks for them: keys, tokens and sessions.

use diesel::prelude::*;
use dispatcher_core::{
    Allowance, AllowanceAmount, AllowancePeriod, Currency, KeyCall, KeyGrants, Money, Site, TokenCall, TokenTerms,
};

use crate::schema::{access_keys, allowances, apps, people, sessions, tokens};
use crate::states::{AllowanceUnit, Disclosure, PersonRole, RecallPolicy};
use crate::words::{OptionalWord, Word};

/// A program of the team.
#[derive(Debug, Clone, Queryable, Selectable, Insertable, AsChangeset)]
#[diesel(primary_key(name), treat_none_as_null = true)]
pub struct App {
    pub name: String,
    pub title: String,
    /// No engine is called and nothing is charged.
    pub rehearsal: bool,
    /// The voice or route of a request that names none.
    pub default_voice: Option<String>,
    /// The engine or route of a recognition that names none.
    pub default_recognition: Option<String>,
    pub created_at: i64,
    /// The audio format of a request that names none: a preset or a type.
    pub default_format: Option<String>,
    /// Voices made for this account that it may use, one a line.
    pub custom_voices: Option<String>,
    /// Where the engines of its requests must run; anywhere where it is missing.
    #[diesel(serialize_as = OptionalWord<Site>, deserialize_as = OptionalWord<Site>)]
    pub site: Option<Site>,
    /// What is kept of its answers.
    pub recall: RecallPolicy,
    /// Requests for work in a minute, and at once.
    pub per_minute: Option<i64>,
    pub at_once: Option<i64>,
    /// The region in which engines are called for it.
    pub region: Option<String>,
    /// Days that its transcripts are kept; not at all where it is missing.
    pub transcript_days: Option<i64>,
    /// Of its recordings, where a request names none.
    pub language: Option<String>,
    /// Origins whose pages may call for it with its tokens, one a line.
    pub origins: Option<String>,
    /// Address that answers what is said in its exchanges.
    pub reply_hook: Option<String>,
    /// What is spoken where that address does not answer well.
    pub apology: Option<String>,
    /// Where its answers say that they are synthetic speech, one [`Disclosure`] per
    /// line; everywhere if `None`.
    pub disclosure: Option<String>,
    /// Text that is spoken before its texts.
    pub notice: Option<String>,
}

impl App {
    /// An app for which nothing is settled yet; `created_at` in microseconds.
    pub fn new(name: impl Into<String>, title: impl Into<String>, created_at: i64) -> App {
        App {
            name: name.into(),
            title: title.into(),
            rehearsal: false,
            default_voice: None,
            default_recognition: None,
            created_at,
            default_format: None,
            custom_voices: None,
            site: None,
            recall: RecallPolicy::Off,
            per_minute: None,
            at_once: None,
            region: None,
            transcript_days: None,
            language: None,
            origins: None,
            reply_hook: None,
            apology: None,
            disclosure: None,
            notice: None,
        }
    }

    /// Whether its answers say there that they are synthetic speech.
    pub fn discloses_in(&self, place: Disclosure) -> bool {
        self.disclosure.as_ref().is_none_or(|places| places.lines().any(|line| line == place.name()))
    }
}

/// An app key or operator key, without the key.
#[derive(Debug, Clone, Queryable, Selectable, Insertable)]
pub struct AccessKey {
    pub id: String,
    pub app: String,
    /// An operator key.
    pub operator: bool,
    pub hash: String,
    pub hint: String,
    pub label: String,
    pub created_at: i64,
    pub last_used_at: Option<i64>,
    pub revoked_at: Option<i64>,
    /// Requests for work with it in a minute, and at once.
    pub per_minute: Option<i64>,
    pub at_once: Option<i64>,
    /// When it expires; never if `None`.
    pub expires_at: Option<i64>,
    /// What it is granted, one per line; everything if `None`.
    pub calls: Option<String>,
    pub routes: Option<String>,
    pub engines: Option<String>,
    pub voices: Option<String>,
    /// Networks that it is accepted from, in CIDR notation (RFC 4632), one per line.
    pub networks: Option<String>,
}

impl AccessKey {
    /// Whether it has expired at a time.
    pub fn has_expired(&self, at: i64) -> bool {
        self.expires_at.is_some_and(|expires_at| expires_at <= at)
    }

    /// Its grants. A call that is not known is no grant.
    pub fn grants(&self) -> KeyGrants {
        let lines = |list: &Option<String>| list.iter().flat_map(|list| list.lines()).map(str::to_owned).collect();
        let calls: Vec<String> = lines(&self.calls);
        KeyGrants {
            calls: calls.iter().filter_map(|name| KeyCall::of_name(name)).collect(),
            routes: lines(&self.routes),
            engines: lines(&self.engines),
            voices: lines(&self.voices),
        }
    }

    /// The same key with other grants and networks.
    #[must_use]
    pub fn with_grants(self, grants: &KeyGrants, networks: &[String]) -> AccessKey {
        let lines = |list: &[String]| (!list.is_empty()).then(|| list.join("\n"));
        let calls: Vec<String> = grants.calls.iter().map(|call| call.name().to_owned()).collect();
        AccessKey {
            calls: lines(&calls),
            routes: lines(&grants.routes),
            engines: lines(&grants.engines),
            voices: lines(&grants.voices),
            networks: lines(networks),
            ..self
        }
    }
}

/// A person who can sign in with a password, without the password.
#[derive(Debug, Clone, PartialEq, Eq, Queryable, Selectable)]
#[diesel(table_name = people)]
pub struct Person {
    pub name: String,
    pub role: PersonRole,
    /// Apps of an app owner, one per line.
    pub apps: Option<String>,
    /// When the person was added or last changed.
    #[diesel(column_name = created_at)]
    pub changed_at: i64,
}

/// Changes of a person; what is `None` stays.
#[derive(Debug, Clone, Default)]
pub struct PersonChange {
    pub password_hash: Option<String>,
    /// The role, and the apps of an app owner.
    pub role: Option<(PersonRole, Vec<String>)>,
}

/// A console session. It ends with the key or the person that began it.
#[derive(Debug, Clone, PartialEq, Eq, Queryable, Selectable, Insertable)]
#[diesel(table_name = sessions)]
pub struct Session {
    /// SHA-256 of the token.
    pub hash: String,
    /// The person, or how the key is named in the audit log.
    pub person: String,
    pub created_at: i64,
    pub expires_at: i64,
    /// The id of the operator key that began it, where one did.
    pub key: Option<String>,
}

/// A token of an app, without the token.
#[derive(Debug, Clone, PartialEq, Eq, Queryable, Selectable, Insertable)]
#[diesel(table_name = tokens)]
pub struct StoredToken {
    pub id: String,
    pub app: String,
    /// SHA-256 of the token.
    pub hash: String,
    pub label: String,
    /// Names of its calls, one a line.
    pub calls: String,
    /// Names of its routes, one a line.
    pub routes: String,
    pub origin: Option<String>,
    pub characters: Option<i64>,
    pub audio_ms: Option<i64>,
    pub cost_nanos: Option<i64>,
    #[diesel(serialize_as = OptionalWord<Currency>, deserialize_as = OptionalWord<Currency>)]
    pub currency: Option<Currency>,
    /// A key's id, or a person.
    pub made_by: String,
    pub made_at: i64,
    pub expires_at: i64,
    pub revoked_at: Option<i64>,
    /// For whom it was, in the words of the app.
    pub end_user: Option<String>,
}

impl StoredToken {
    /// A token of an app with its terms, made by somebody at a time and until
    /// another, in microseconds; without its hash and label.
    pub fn new(id: &str, app: &str, terms: &TokenTerms, made: (&str, i64, i64)) -> StoredToken {
        let amount = |amount: Option<u64>| amount.map(|amount| i64::try_from(amount).unwrap_or(i64::MAX));
        let (made_by, made_at, expires_at) = made;
        StoredToken {
            id: id.to_owned(),
            app: app.to_owned(),
            hash: String::new(),
            label: String::new(),
            calls: terms.calls.iter().map(|call| call.name()).collect::<Vec<_>>().join("\n"),
            routes: terms.routes.join("\n"),
            origin: terms.origin.clone(),
            characters: amount(terms.characters),
            audio_ms: amount(terms.milliseconds),
            cost_nanos: terms.cost.map(|cost| cost.nanos),
            currency: terms.cost.map(|cost| cost.currency),
            made_by: made_by.to_owned(),
            made_at,
            expires_at,
            revoked_at: None,
            end_user: terms.end_user.clone(),
        }
    }

    /// What it allows.
    pub fn terms(&self) -> TokenTerms {
        let amount = |amount: Option<i64>| amount.map(|amount| u64::try_from(amount).unwrap_or_default());
        TokenTerms {
            calls: self.calls.lines().filter_map(TokenCall::of_name).collect(),
            routes: self.routes.lines().map(str::to_owned).collect(),
            origin: self.origin.clone(),
            characters: amount(self.characters),
            milliseconds: amount(self.audio_ms),
            cost: self.cost_nanos.zip(self.currency).map(|(nanos, currency)| Money { nanos, currency }),
            end_user: self.end_user.clone(),
        }
    }
}

/// An allowance of an app, or of one of its keys.
#[derive(Debug, Clone, PartialEq, Eq, Queryable, Selectable, Insertable)]
#[diesel(table_name = allowances)]
pub struct StoredAllowance {
    pub id: String,
    pub app: String,
    /// The key that it limits; `None` for the app with all its keys.
    pub key: Option<String>,
    pub unit: AllowanceUnit,
    /// Billionths of the currency, characters, milliseconds or requests.
    pub amount: i64,
    #[diesel(serialize_as = OptionalWord<Currency>, deserialize_as = OptionalWord<Currency>)]
    pub currency: Option<Currency>,
    #[diesel(serialize_as = Word<AllowancePeriod>, deserialize_as = Word<AllowancePeriod>)]
    pub period: AllowancePeriod,
    /// A key's id, or a person.
    pub made_by: String,
    pub made_at: i64,
}

impl StoredAllowance {
    /// An allowance of an app or a key, added by somebody at a time.
    pub fn new(
        id: String,
        (app, key): (String, Option<String>),
        allowance: Allowance,
        (by, at): (&str, i64),
    ) -> StoredAllowance {
        let (unit, currency) = match allowance.amount {
            AllowanceAmount::Cost(money) => (AllowanceUnit::Money, Some(money.currency)),
            AllowanceAmount::Characters(_) => (AllowanceUnit::Characters, None),
            AllowanceAmount::Milliseconds(_) => (AllowanceUnit::Milliseconds, None),
            AllowanceAmount::Requests(_) => (AllowanceUnit::Requests, None),
        };
        let (amount, period) = (allowance.amount.count(), allowance.period);
        StoredAllowance { id, app, key, unit, amount, currency, period, made_by: by.to_owned(), made_at: at }
    }

    /// What it limits.
    pub fn allowance(&self) -> Allowance {
        let empty = match self.unit {
            AllowanceUnit::Money => AllowanceAmount::Cost(Money::zero(self.currency.unwrap_or(Currency::EUR))),
            AllowanceUnit::Characters => AllowanceAmount::Characters(0),
            AllowanceUnit::Milliseconds => AllowanceAmount::Milliseconds(0),
            AllowanceUnit::Requests => AllowanceAmount::Requests(0),
        };
        Allowance { amount: empty.with_count(self.amount), period: self.period }
    }
}
