//! Signing in to the console: passwords, operator keys and one-time links.

use std::collections::{HashMap, HashSet, VecDeque};
use std::net::{IpAddr, Ipv4Addr};
use std::sync::Arc;
use std::sync::atomic::{AtomicUsize, Ordering};
use std::time::{Duration, Instant};

use dispatcher_gateway::{Gateway, NewSession, Session};
use dispatcher_vault::{hash_key, random_token, verify_password};
use parking_lot::Mutex;
use rocket::http::{Cookie, CookieJar, SameSite};
use secrecy::{ExposeSecret as _, SecretString};
use tokio::sync::Semaphore;

use crate::access::COOKIE;
use crate::problem::Problem;
use crate::problem_kind::ProblemKind;
use crate::public_url::PublicUrl;
use crate::wire::SignInRequest;

/// A session lasts a working day.
const SESSION: Duration = Duration::from_secs(12 * 3_600);
/// Failed attempts by password in [`WINDOW`], from one peer for one person.
const ATTEMPTS: usize = 5;
/// The same from one peer for all persons, and for one person from all peers.
/// A peer that has signed in as the person before is not held up by others.
const ATTEMPTS_OF_ALL: usize = 30;
const WINDOW: Duration = Duration::from_secs(60);
/// Passwords hashed at once: each takes 64 MiB.
const HASHED_AT_ONCE: usize = 2;
/// Attempts that may wait for that.
const MOST_WAITING: usize = 16;
/// Known peers that are remembered.
const MOST_KNOWN: usize = 10_000;

/// One-time links, recent failures, and the turns of those who hash.
#[derive(Clone)]
pub(crate) struct SignIn {
    links: Arc<Mutex<HashSet<String>>>,
    pace: Arc<Mutex<RecentSignIns>>,
    turns: Arc<Semaphore>,
    waiting: Arc<AtomicUsize>,
}

impl Default for SignIn {
    fn default() -> Self {
        SignIn {
            links: Arc::default(),
            pace: Arc::default(),
            turns: Arc::new(Semaphore::new(HASHED_AT_ONCE)),
            waiting: Arc::default(),
        }
    }
}

/// Recent attempts that have not succeeded, by peer and person.
#[derive(Default)]
struct RecentSignIns {
    recent: HashMap<(IpAddr, String), VecDeque<Instant>>,
    /// Where persons have signed in from.
    known: HashSet<(IpAddr, String)>,
}

impl RecentSignIns {
    /// Counts an attempt, before anything is done for it.
    fn count(&mut self, peer: IpAddr, person: &str) -> Result<(), Problem> {
        self.recent.retain(|_, times| {
            times.retain(|at| at.elapsed() <= WINDOW);
            !times.is_empty()
        });
        let total = |counts: &dyn Fn(&(IpAddr, String)) -> bool| -> usize {
            self.recent.iter().filter(|(key, _)| counts(key)).map(|(_, times)| times.len()).sum()
        };
        let key = (peer, person.to_owned());
        let own = self.recent.get(&key).map_or(0, VecDeque::len);
        let others = total(&|(from, _)| *from == peer).max(total(&|(_, whose)| whose == person));
        if own >= ATTEMPTS || (others >= ATTEMPTS_OF_ALL && !self.known.contains(&key)) {
            return Err(too_many("too many attempts to sign in; wait a minute, or sign in with an operator key"));
        }
        self.recent.entry(key).or_default().push_back(Instant::now());
        Ok(())
    }

    /// An attempt succeeded: those of before do not count.
    fn succeed(&mut self, peer: IpAddr, person: &str) {
        let key = (peer, person.to_owned());
        self.recent.remove(&key);
        if self.known.len() >= MOST_KNOWN {
            self.known.clear();
        }
        self.known.insert(key);
    }
}

fn too_many(detail: &str) -> Problem {
    Problem { retry_after: Some(WINDOW.as_secs()), ..Problem::new(ProblemKind::TooManyAttempts, detail) }
}

/// One address of IPv4, or the network that one subscriber of IPv6 has.
fn subscriber(peer: IpAddr) -> IpAddr {
    match peer.to_canonical() {
        IpAddr::V6(address) => IpAddr::V6((u128::from(address) & !u128::from(u64::MAX)).into()),
        address @ IpAddr::V4(_) => address,
    }
}

fn lock<T>(mutex: &Mutex<T>) -> parking_lot::MutexGuard<'_, T> {
    mutex.lock()
}

/// Who a session belongs to, and ends with.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) struct SessionOwner {
    /// As the audit log names it.
    pub(crate) name: String,
    /// The id of the operator key, where one was used.
    pub(crate) key: Option<String>,
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

    /// Does work that hashes a password, a few at a time.
    ///
    /// # Errors
    /// 429 where too many wait for that already.
    pub(crate) async fn hash<T: Send + 'static>(
        &self,
        work: impl FnOnce() -> T + Send + 'static,
    ) -> Result<T, Problem> {
        if self.waiting.fetch_add(1, Ordering::SeqCst) >= MOST_WAITING + HASHED_AT_ONCE {
            self.waiting.fetch_sub(1, Ordering::SeqCst);
            return Err(Problem { retry_after: Some(2), ..too_many("too many people sign in at this moment") });
        }
        let waiting = self.waiting.clone();
        let turns = self.turns.clone();
        // The work ends its turn itself: a caller that leaves does not free it early.
        let done = tokio::spawn(async move {
            let turn = turns.acquire_owned().await;
            let done = tokio::task::spawn_blocking(work).await;
            waiting.fetch_sub(1, Ordering::SeqCst);
            drop(turn);
            done
        });
        let failed = |error: tokio::task::JoinError| Problem::new(ProblemKind::Internal, error.to_string());
        done.await.map_err(failed)?.map_err(failed)
    }

    /// Who signs in with this request.
    ///
    /// # Errors
    /// 401 where it is nobody, 429 where too many attempts have failed. Keys
    /// cannot be guessed, so that attempts with them are not counted.
    pub(crate) async fn owner(
        &self,
        gateway: &Gateway,
        request: SignInRequest,
        peer: Option<IpAddr>,
    ) -> Result<SessionOwner, Problem> {
        let refused = || Problem::new(ProblemKind::SignedOut, "the name, password or key is not right");
        match (request.person, request.password, request.key) {
            (Some(person), Some(password), None) => {
                let peer = subscriber(peer.unwrap_or(IpAddr::V4(Ipv4Addr::UNSPECIFIED)));
                lock(&self.pace).count(peer, &person)?;
                if !self.is_password_of(gateway, person.clone(), password).await? {
                    return Err(refused());
                }
                lock(&self.pace).succeed(peer, &person);
                Ok(SessionOwner { name: person, key: None })
            }
            (None, None, Some(key)) => {
                let caller = gateway.admit(key.expose_secret(), peer).await.ok();
                // A session could do what such a key may not.
                let caller = caller.filter(|caller| caller.is_operator() && caller.grants.is_none());
                let caller = caller.ok_or_else(refused)?;
                Ok(SessionOwner { name: format!("key {}", caller.who), key: Some(caller.who) })
            }
            _ => Err(Problem::new(ProblemKind::Invalid, "send person and password, or key")),
        }
    }

    async fn is_password_of(&self, gateway: &Gateway, person: String, password: SecretString) -> Result<bool, Problem> {
        let stored = gateway.password_hash(&person).await?;
        // Where there is no such person the same work is done, so that names
        // cannot be found by the time it takes.
        let known = stored.is_some();
        let stored = stored
            .unwrap_or_else(|| "argon2id$AAAAAAAAAAAAAAAAAAAAAA$AAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAA".into());
        Ok(self.hash(move || verify_password(password.expose_secret(), &stored)).await? && known)
    }
}

/// Begins a session; the cookie holds its token, and is sent over TLS alone
/// where the service is reached that way.
pub(crate) async fn begin_session(
    gateway: &Gateway,
    owner: SessionOwner,
    cookies: &CookieJar<'_>,
    url: &PublicUrl,
) -> Result<Session, Problem> {
    let new = NewSession { person: owner.name, key: owner.key, length: SESSION };
    let (token, session) = gateway.begin_session(new).await?;
    let cookie = Cookie::build((COOKIE, token)).path("/").http_only(true).same_site(SameSite::Strict);
    cookies.add(cookie.secure(url.is_https()));
    Ok(session)
}

/// Ends the session of the cookie.
pub(crate) async fn end_session(gateway: &Gateway, cookies: &CookieJar<'_>) -> Result<(), Problem> {
    if let Some(cookie) = cookies.get(COOKIE) {
        gateway.end_session(cookie.value()).await?;
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

    fn peer(last: u8) -> IpAddr {
        IpAddr::from([192, 0, 2, last])
    }

    #[test]
    fn guessing_is_slowed_down_for_one_person_and_for_one_peer() {
        let mut pace = RecentSignIns::default();
        for _ in 0..ATTEMPTS {
            assert!(pace.count(peer(1), "ada").is_ok());
        }
        let problem = pace.count(peer(1), "ada").expect_err("slowed down");
        assert_eq!((problem.status, problem.retry_after), (429, Some(60)));
        assert!(pace.count(peer(2), "ada").is_ok(), "ada herself, from elsewhere");
        for n in 0..ATTEMPTS_OF_ALL {
            let _ = pace.count(peer(1), &format!("name {n}"));
        }
        assert!(pace.count(peer(1), "bo").is_err(), "a peer that tries many names");
        assert!(pace.count(peer(2), "bo").is_ok());
    }

    #[test]
    fn strangers_do_not_lock_out_who_has_signed_in_before() {
        let mut pace = RecentSignIns::default();
        pace.count(peer(1), "ada").expect("counted");
        pace.succeed(peer(1), "ada");
        for n in 0..ATTEMPTS_OF_ALL {
            let _ = pace.count(peer(10 + u8::try_from(n).expect("small")), "ada");
        }
        assert!(pace.count(peer(9), "ada").is_err(), "a stranger");
        assert!(pace.count(peer(1), "ada").is_ok(), "ada, where she always is");
    }

    #[test]
    fn a_subscriber_is_one_peer_whatever_address_it_takes() {
        let one: IpAddr = "2001:db8::1".parse().expect("an address");
        let two: IpAddr = "2001:db8::ffff:2".parse().expect("an address");
        assert_eq!(subscriber(one), subscriber(two));
        let mapped: IpAddr = "::ffff:192.0.2.1".parse().expect("an address");
        assert_eq!(subscriber(mapped), peer(1));
    }

    #[tokio::test]
    async fn two_passwords_are_hashed_at_once_and_a_crowd_is_refused() {
        let sign_in = SignIn::default();
        let (running, most) = (Arc::new(AtomicUsize::new(0)), Arc::new(AtomicUsize::new(0)));
        let work = |running: Arc<AtomicUsize>, most: Arc<AtomicUsize>| {
            move || {
                most.fetch_max(running.fetch_add(1, Ordering::SeqCst) + 1, Ordering::SeqCst);
                std::thread::sleep(Duration::from_millis(20));
                running.fetch_sub(1, Ordering::SeqCst);
            }
        };
        let attempts = (0..200).map(|_| sign_in.hash(work(running.clone(), most.clone())));
        let outcomes = futures::future::join_all(attempts).await;
        let refused = outcomes.iter().filter(|outcome| outcome.as_ref().is_err_and(|p| p.status == 429)).count();
        assert_eq!(refused, 200 - MOST_WAITING - HASHED_AT_ONCE);
        assert_eq!(most.load(Ordering::SeqCst), HASHED_AT_ONCE);
        assert!(sign_in.hash(|| ()).await.is_ok(), "the turns come back");
    }
}
