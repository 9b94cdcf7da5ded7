//! Signing in to the console: passwords, operator keys and one-time links.

use std::collections::{HashMap, HashSet, VecDeque};
use std::sync::{Arc, Mutex};
use std::time::{Duration, Instant};

use dispatcher_gateway::{Gateway, now_micros};
use dispatcher_vault::{hash_key, random_token, verify_password};
use rocket::http::{Cookie, CookieJar, SameSite};
use secrecy::{ExposeSecret as _, SecretString};

use crate::access::COOKIE;
use crate::problem::Problem;
use crate::wire::SignInRequest;

/// A session lasts a working day.
const SESSION: Duration = Duration::from_secs(12 * 3_600);
/// Failed attempts in [`WINDOW`] before a pause, for one name.
const ATTEMPTS: usize = 5;
/// And for all names together.
const ATTEMPTS_OF_ALL: usize = 30;
const WINDOW: Duration = Duration::from_secs(60);

/// One-time links and recent failures.
#[derive(Default, Clone)]
pub(crate) struct SignIn {
    links: Arc<Mutex<HashSet<String>>>,
    failures: Arc<Mutex<HashMap<String, VecDeque<Instant>>>>,
}

fn lock<T>(mutex: &Mutex<T>) -> std::sync::MutexGuard<'_, T> {
    mutex.lock().unwrap_or_else(std::sync::PoisonError::into_inner)
}

impl SignIn {
    /// A token that signs in once.
    pub(crate) fn new_link(&self) -> String {
        let token = random_token(&mut rand::rng());
        lock(&self.links).insert(hash_key(&token));
        token
    }

    /// Whether the token was good; it is no more.
    pub(crate) fn use_link(&self, token: &str) -> bool {
        lock(&self.links).remove(&hash_key(token))
    }

    fn check_pace(&self, name: &str) -> Result<(), Problem> {
        let mut failures = lock(&self.failures);
        for recent in failures.values_mut() {
            while recent.front().is_some_and(|at| at.elapsed() > WINDOW) {
                recent.pop_front();
            }
        }
        failures.retain(|_, recent| !recent.is_empty());
        let all: usize = failures.values().map(VecDeque::len).sum();
        let own = failures.get(name).map_or(0, VecDeque::len);
        if own < ATTEMPTS && all < ATTEMPTS_OF_ALL {
            return Ok(());
        }
        let mut problem = Problem::new("too-many-attempts", "too many attempts to sign in; wait a minute");
        problem.retry_after = Some(WINDOW.as_secs());
        Err(problem)
    }

    fn note_failure(&self, name: &str) {
        lock(&self.failures).entry(name.to_owned()).or_default().push_back(Instant::now());
    }

    /// Who signs in with this request.
    pub(crate) async fn person(&self, gateway: &Gateway, request: SignInRequest) -> Result<String, Problem> {
        let name = request.person.clone().unwrap_or_else(|| "(key)".into());
        self.check_pace(&name)?;
        let person = match (request.person, request.password, request.key) {
            (Some(person), Some(password), None) => by_password(gateway, person, password).await?,
            (None, None, Some(key)) => {
                let caller = gateway.admit(key.expose_secret()).await.ok().filter(|caller| caller.operator);
                caller.map(|caller| format!("key {}", caller.who))
            }
            _ => return Err(Problem::new("invalid", "send person and password, or key")),
        };
        person.ok_or_else(|| {
            self.note_failure(&name);
            Problem::new("signed-out", "the name, password or key is not right")
        })
    }
}

async fn by_password(gateway: &Gateway, person: String, password: SecretString) -> Result<Option<String>, Problem> {
    let stored = gateway.store().password_hash(person.clone()).await?;
    // Where there is no such person the same work is done, so that names
    // cannot be told by the time it takes.
    let known = stored.is_some();
    let stored =
        stored.unwrap_or_else(|| "argon2id$AAAAAAAAAAAAAAAAAAAAAA$AAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAA".into());
    let fits = tokio::task::spawn_blocking(move || verify_password(password.expose_secret(), &stored)).await;
    Ok((fits.unwrap_or(false) && known).then_some(person))
}

/// Begins a session for a person; the cookie holds its token.
pub(crate) async fn begin_session(gateway: &Gateway, person: String, cookies: &CookieJar<'_>) -> Result<(), Problem> {
    let token = random_token(&mut rand::rng());
    let now = now_micros();
    let expires = now + i64::try_from(SESSION.as_micros()).unwrap_or(0);
    gateway.store().add_session(hash_key(&token), person, now, expires).await?;
    let cookie = Cookie::build((COOKIE, token)).path("/").http_only(true).same_site(SameSite::Strict);
    cookies.add(cookie);
    Ok(())
}

/// Ends the session of the cookie.
pub(crate) async fn end_session(gateway: &Gateway, cookies: &CookieJar<'_>) -> Result<(), Problem> {
    if let Some(cookie) = cookies.get(COOKIE) {
        gateway.store().end_session(hash_key(cookie.value())).await?;
    }
    cookies.remove(Cookie::build(COOKIE).path("/"));
    Ok(())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_link_signs_in_once() {
        let sign_in = SignIn::default();
        let token = sign_in.new_link();
        assert!(!sign_in.use_link("another"));
        assert!(sign_in.use_link(&token) && !sign_in.use_link(&token));
    }

    #[test]
    fn guessing_is_slowed_down_for_one_name_and_for_all() {
        let sign_in = SignIn::default();
        for _ in 0..ATTEMPTS {
            assert!(sign_in.check_pace("ada").is_ok());
            sign_in.note_failure("ada");
        }
        let problem = sign_in.check_pace("ada").expect_err("slowed down");
        assert_eq!((problem.status, problem.retry_after), (429, Some(60)));
        assert!(sign_in.check_pace("bo").is_ok());
        for n in 0..ATTEMPTS_OF_ALL {
            sign_in.note_failure(&format!("name {n}"));
        }
        assert!(sign_in.check_pace("bo").is_err());
    }
}
