//! Tokens: secrets that let a page or a program without a key make some calls
//! for an app, within terms and until an end. What requests take from a token
//! is held before any engine is called, so that no number of requests at once
//! goes beyond its amounts.

use std::collections::{HashMap, HashSet};
use std::sync::Arc;

use dispatcher_core::{AmountsUsed, Currency, GrantRefusal, RequestShare, TokenCall, TokenRefusal, TokenTerms};
use dispatcher_store::{App, Identified, StoredToken};
use dispatcher_vault::{KeyKind, hash_key, new_key};
use parking_lot::Mutex;
use secrecy::SecretString;

use crate::desk::{key_id, label_of};
use crate::dispatch::admit::is_end_user;
use crate::{Caller, Gateway, GatewayError, now_micros};

/// Whose answers a caller may be given again, and for whom they were made.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct ReplayScope {
    pub app: String,
    /// Id of its token; `None` for all keys of the app.
    pub token: Option<String>,
    pub end_user: Option<String>,
}

/// Tokens of an app that have not ended.
const MOST_TOKENS: i64 = 10_000;
/// Tokens that a list has.
const LISTED: i64 = 500;
/// Tokens that are known at once.
const MOST_KNOWN: usize = 4_096;
/// Microseconds after its end for which a token can still be read.
const READ_AFTER: i64 = 7 * 86_400 * 1_000_000;

/// A token that was used, and what is left of it.
#[derive(Debug)]
struct KnownToken {
    id: String,
    /// The key or person that made it.
    made_by: String,
    app: Mutex<App>,
    terms: TokenTerms,
    expires_at: i64,
    used: Mutex<AmountsUsed>,
}

/// The token of a caller.
#[derive(Debug, Clone)]
pub struct Token(Arc<KnownToken>);

/// What a request in work has taken from its token. It is given back when this
/// is dropped before it is settled.
#[derive(Debug)]
pub(crate) struct TokenHold {
    token: Token,
    held: AmountsUsed,
}

/// Tokens by their hashes, and the origins whose pages may call.
#[derive(Debug, Default)]
pub(crate) struct TokenBook {
    known: Mutex<KnownTokens>,
    origins: Mutex<HashSet<String>>,
}

#[derive(Debug, Default)]
struct KnownTokens {
    by_hash: HashMap<String, Token>,
    /// Changes of tokens and apps: what was looked up before one may be no longer true.
    generation: u64,
}

/// A token and what was used with it.
#[derive(Debug)]
pub struct TokenView {
    pub token: StoredToken,
    pub used: AmountsUsed,
}

impl Token {
    /// Its id in records.
    pub fn id(&self) -> &str {
        &self.0.id
    }

    /// The key or person that made it.
    pub(crate) fn made_by(&self) -> &str {
        &self.0.made_by
    }

    /// Whether it is for a call, of this page or of none.
    ///
    /// # Errors
    /// [`GatewayError::Token`], with what it is for.
    fn check(&self, app: &App, call: TokenCall, page: Page<'_>) -> Result<(), GatewayError> {
        self.0.terms.check_call(call)?;
        let given = match page {
            Page::Own => return Ok(()),
            Page::None => None,
            Page::Other(origin) => Some(origin),
        };
        let bound = self.0.terms.origin.as_deref();
        // An origin that was taken from the app is taken from its tokens.
        let allowed: Vec<&str> = origins_of(app).filter(|own| bound.is_none_or(|bound| bound == *own)).collect();
        if given.map_or(bound.is_none(), |origin| allowed.contains(&origin)) {
            return Ok(());
        }
        let expected = if allowed.is_empty() { "no other origin".into() } else { allowed.join(", ") };
        Err(TokenRefusal::Origin { expected, given: given.map(str::to_owned) }.into())
    }

    /// Takes what a request needs.
    ///
    /// # Errors
    /// [`GatewayError::Token`] where not as much is left.
    fn hold(&self, share: RequestShare) -> Result<TokenHold, GatewayError> {
        let mut hold = TokenHold { token: self.clone(), held: AmountsUsed::default() };
        hold.extend(share)?;
        Ok(hold)
    }
}

impl TokenHold {
    /// The id of its token.
    pub(crate) fn token(&self) -> &str {
        self.token.id()
    }

    /// Takes more.
    ///
    /// # Errors
    /// [`GatewayError::Token`] where not as much is left.
    pub(crate) fn extend(&mut self, more: RequestShare) -> Result<(), GatewayError> {
        let TokenHold { token, held } = self;
        token.0.terms.take(&mut token.0.used.lock(), more)?;
        held.add(more);
        Ok(())
    }

    /// Gives a part back that was not needed.
    pub(crate) fn give_back(&mut self, part: RequestShare) {
        let TokenHold { token, held } = self;
        token.0.used.lock().give_back(part);
        held.give_back(part);
    }

    /// Counts what was used in the end, in place of what was held.
    pub(crate) fn settle(&mut self, used: &AmountsUsed) {
        let mut all = self.token.0.used.lock();
        all.give_back_all(&std::mem::take(&mut self.held));
        all.add_all(used);
    }
}

impl Drop for TokenHold {
    fn drop(&mut self) {
        self.token.0.used.lock().give_back_all(&self.held);
    }
}

/// The page that a request comes from.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Page<'a> {
    /// None: a program.
    None,
    /// One of the service itself.
    Own,
    /// One of this origin.
    Other(&'a str),
}

/// Origins whose pages may call for an app.
fn origins_of(app: &App) -> impl Iterator<Item = &str> {
    app.origins.iter().flat_map(|origins| origins.lines())
}

impl TokenBook {
    fn get(&self, hash: &str) -> Option<Token> {
        self.known.lock().by_hash.get(hash).cloned()
    }

    fn generation(&self) -> u64 {
        self.known.lock().generation
    }

    /// Takes in a token that was looked up in a generation, unless that is over;
    /// one that another request took in meanwhile stays, with what is held from it.
    fn put(&self, hash: String, token: Token, generation: u64, now: i64) -> Option<Token> {
        let mut known = self.known.lock();
        if known.generation != generation {
            return None;
        }
        if known.by_hash.len() >= MOST_KNOWN {
            // What is held from a token is known here alone.
            known.by_hash.retain(|_, token| Arc::strong_count(&token.0) > 1 && token.0.expires_at > now);
        }
        Some(known.by_hash.entry(hash).or_insert(token).clone())
    }

    fn forget(&self, id: &str) {
        let mut known = self.known.lock();
        known.by_hash.retain(|_, token| token.0.id != id);
        known.generation += 1;
    }

    /// Takes in an app that was changed.
    fn change(&self, app: &App) {
        let mut known = self.known.lock();
        known.generation += 1;
        for token in known.by_hash.values() {
            let mut own = token.0.app.lock();
            if own.name == app.name {
                own.clone_from(app);
            }
        }
    }

    /// Whether pages of an origin may call for some app.
    fn allows(&self, origin: &str) -> bool {
        self.origins.lock().contains(origin)
    }

    fn set_origins(&self, apps: &[App]) {
        *self.origins.lock() = apps.iter().flat_map(origins_of).map(str::to_owned).collect();
    }
}

impl Caller {
    /// Holds what a request needs of its token; `None` if it has none.
    ///
    /// # Errors
    /// [`GatewayError::Token`] where not as much is left.
    pub(crate) fn hold_token(&self, share: RequestShare) -> Result<Option<TokenHold>, GatewayError> {
        self.token.as_ref().map(|token| token.hold(share)).transpose()
    }

    /// The currency of the money of its token, if that limits money.
    pub(crate) fn token_currency(&self) -> Option<Currency> {
        self.token.as_ref().and_then(|token| token.0.terms.cost).map(|cost| cost.currency)
    }

    /// Whether its token is for what is asked for by name, and by which credential.
    ///
    /// # Errors
    /// [`GatewayError::Token`], with the routes that it is for.
    pub(crate) fn check_route(&self, wanted: &str, credential: Option<&str>) -> Result<(), GatewayError> {
        if let Some(grants) = &self.grants {
            grants.check_route(wanted)?;
        }
        let Some(token) = &self.token else { return Ok(()) };
        if credential.is_some() {
            return Err(TokenRefusal::Credential.into());
        }
        Ok(token.0.terms.check_route(wanted)?)
    }

    /// Whether it may make jobs.
    ///
    /// # Errors
    /// [`GatewayError::Token`] where it calls with a token.
    pub(crate) fn check_job(&self) -> Result<(), GatewayError> {
        self.token.as_ref().map_or(Ok(()), |_| Err(TokenRefusal::Job.into()))
    }

    /// Whose answers it may be given again: those of its app, or of its token.
    pub fn replay_scope(&self) -> ReplayScope {
        ReplayScope {
            app: self.app.name.clone(),
            token: self.token.as_ref().map(|token| token.id().to_owned()),
            end_user: self.end_user(),
        }
    }

    /// Refuses voices beside the routes of its token.
    ///
    /// # Errors
    /// [`GatewayError::Token`], with the routes that it is for.
    pub(crate) fn check_voices(&self, others: bool) -> Result<(), GatewayError> {
        let routes = self.token.as_ref().map(|token| &token.0.terms.routes).filter(|routes| !routes.is_empty());
        if let Some(grants) = self.grants.as_ref().filter(|grants| others && !grants.routes.is_empty())
            && grants.voices.is_empty()
        {
            return Err(GrantRefusal::Route(grants.routes.clone()).into());
        }
        match routes.filter(|_| others) {
            Some(routes) => Err(TokenRefusal::Voice(routes.clone()).into()),
            None => Ok(()),
        }
    }
}

impl Gateway {
    /// Who a token speaks for, where it is for this call and this page.
    ///
    /// # Errors
    /// [`GatewayError::BadToken`] where it is over; [`GatewayError::Token`]
    /// where it is for something else.
    pub async fn admit_token(&self, token: &str, call: TokenCall, page: Page<'_>) -> Result<Caller, GatewayError> {
        if dispatcher_vault::key_kind(token) != Some(KeyKind::Token) {
            return Err(GatewayError::BadToken("it is mistyped or cut off (its check digit does not fit)"));
        }
        let hash = hash_key(token);
        let token = match self.inner.tokens.get(&hash) {
            Some(token) => token,
            None => self.look_up_token(hash).await?,
        };
        if token.0.expires_at <= now_micros() {
            return Err(GatewayError::BadToken("it has ended"));
        }
        let app = token.0.app.lock().clone();
        token.check(&app, call, page)?;
        let end_user = token.0.terms.end_user.as_deref().map(Arc::from);
        Ok(Caller { token: Some(token.clone()), end_user, ..Caller::of_app(app, format!("token {}", token.id())) })
    }

    async fn look_up_token(&self, hash: String) -> Result<Token, GatewayError> {
        let unknown = || GatewayError::BadToken("it was revoked, or belongs to another gateway");
        loop {
            let generation = self.inner.tokens.generation();
            let (row, app) = self.inner.store.token(hash.clone()).await?.ok_or_else(unknown)?;
            if row.revoked_at.is_some() {
                return Err(unknown());
            }
            let used = self.inner.store.tokens_used(vec![row.id.clone()]).await?;
            let used = used.into_iter().map(|(_, used)| used).next().unwrap_or_default();
            let terms = row.terms();
            let (app, used) = (Mutex::new(app), Mutex::new(used));
            let (id, made_by, expires_at) = (row.id, row.made_by, row.expires_at);
            let token = Token(Arc::new(KnownToken { id, made_by, app, terms, expires_at, used }));
            if let Some(token) = self.inner.tokens.put(hash.clone(), token, generation, now_micros()) {
                return Ok(token);
            }
        }
    }

    /// Whether pages of an origin may call for some app.
    pub fn allows_origin(&self, origin: &str) -> bool {
        self.inner.tokens.allows(origin)
    }

    /// Takes in an app that was added or changed.
    pub(crate) async fn note_app(&self, app: &App) -> Result<(), GatewayError> {
        self.inner.tokens.change(app);
        self.load_origins().await
    }

    pub(crate) async fn load_origins(&self) -> Result<(), GatewayError> {
        self.inner.tokens.set_origins(&self.inner.store.apps().await?);
        Ok(())
    }

    /// Makes a token of an app that ends at `expires_at`; gives the token, which
    /// is shown nowhere else.
    ///
    /// # Errors
    /// Where its origin is none of the app's, its routes are unknown, or the app
    /// has too many tokens.
    pub async fn add_token(
        &self,
        app: &App,
        (label, terms, expires_at): (&str, TokenTerms, i64),
        by: &str,
    ) -> Result<(TokenView, SecretString), GatewayError> {
        if let Some(origin) = &terms.origin
            && !origins_of(app).any(|own| own == origin)
        {
            return Err(GatewayError::ForeignOrigin { app: app.name.clone(), origin: origin.clone() });
        }
        let registry = self.registry();
        if let Some(route) = terms.routes.iter().find(|route| !registry.routes().contains_key(*route)) {
            return Err(GatewayError::NoSuchRoute(route.clone()));
        }
        if terms.end_user.as_deref().is_some_and(|name| !is_end_user(name)) {
            return Err(GatewayError::BadEndUser);
        }
        let made = new_key(KeyKind::Token, &mut rand::rng());
        let now = now_micros();
        let row = StoredToken {
            hash: made.hash,
            label: label_of(label),
            ..StoredToken::new(&key_id(), &app.name, &terms, (by, now, expires_at))
        };
        if !self.inner.store.add_token(row.clone(), MOST_TOKENS, now - READ_AFTER).await? {
            let what = format!("the app {} has {MOST_TOKENS} tokens, and may have no more", app.name);
            return Err(GatewayError::Crowded { what, retry_after: std::time::Duration::from_secs(60) });
        }
        Ok((TokenView { token: row, used: AmountsUsed::default() }, made.secret))
    }

    /// Tokens of an app, the newest first, and what was used with each: what is
    /// on record.
    ///
    /// # Errors
    /// Where there is no app of the name.
    pub async fn tokens(&self, app: &str) -> Result<Vec<TokenView>, GatewayError> {
        let app = self.app(app).await?;
        let rows = self.inner.store.tokens(app.name, LISTED).await?;
        let used = self.inner.store.tokens_used(rows.iter().map(|row| row.id.clone()).collect()).await?;
        Ok(rows.into_iter().zip(used).map(|(token, (_, used))| TokenView { token, used }).collect())
    }

    /// Ends a token of an app by its id or a unique beginning of it, from the
    /// next request on.
    ///
    /// # Errors
    /// Where the app has none, or several, that begin so.
    pub async fn revoke_token(&self, app: &str, id: &str, by: &str) -> Result<(), GatewayError> {
        let store = &self.inner.store;
        let id = store.id_of(Identified::Token, Some(vec![app.to_owned()]), id.to_owned()).await?;
        store.revoke_token(app.to_owned(), id.clone(), by.to_owned(), now_micros()).await?;
        self.inner.tokens.forget(&id);
        Ok(())
    }
}

#[cfg(test)]
mod tests;
