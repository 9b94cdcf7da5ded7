//! All connections of the service: how many there may be, and how long one may
//! be idle, send a request head, or leave its answer unread.
//!
//! Rocket has no such limits. A fairing notes which connections carry a
//! request, and a task looks through our own sockets and shuts down those that
//! carry none for too long, or whose caller does not read its answer.

use std::collections::{HashMap, HashSet};
use std::fs::File;
use std::net::SocketAddr;
use std::pin::Pin;
use std::sync::Arc;
use std::sync::atomic::{AtomicU64, Ordering};
use std::task::{Context, Poll};
use std::time::{Duration, Instant};

use parking_lot::{Mutex, MutexGuard};
use rocket::fairing::AdHoc;
use rocket::http::Header;
use rocket::response::Body;
use rocket::{Request, Response};
use tokio::io::{AsyncRead, ReadBuf};

use crate::connection::{break_off, sockets};

/// A new connection has this long for its first request head, and for the
/// first bytes of its body.
const HEAD: Duration = Duration::from_secs(15);
/// A connection between two requests is kept this long.
const IDLE: Duration = Duration::from_secs(60);
/// A caller may leave the next bytes of its answer unread this long.
const UNREAD: Duration = Duration::from_secs(120);
/// How often the sockets are looked through, and how often near the limit.
const ROUND: Duration = Duration::from_secs(1);
const QUICK_ROUND: Duration = Duration::from_millis(200);
/// Bodies up to this size reach the kernel at once and are not watched.
const SMALL: usize = 64 << 10;
/// Chunks that answers are read in.
const CHUNK: usize = 64 << 10;

/// The connections of a service. Cheap to clone.
#[derive(Clone)]
pub(crate) struct Connections(Arc<ConnectionTable>);

struct ConnectionTable {
    most: usize,
    started: Instant,
    known: Mutex<Known>,
    /// Descriptors that a look at the sockets takes.
    spare: Mutex<Option<[File; 3]>>,
}

fn spare_descriptors() -> Option<[File; 3]> {
    let open = || File::open("/dev/null").ok();
    Some([open()?, open()?, open()?])
}

#[derive(Default)]
struct Known {
    /// Requests that are being answered, by the peer's address.
    at_work: HashMap<SocketAddr, Arc<AnswerProgress>>,
    /// When a connection was last of use: its last request ended, or it was first seen.
    idle_since: HashMap<SocketAddr, (Instant, bool)>,
}

/// How far an answer is.
#[derive(Default)]
struct AnswerProgress {
    /// Milliseconds since the start at which bytes were handed to the socket
    /// that it has not taken yet; 0 if there are none.
    unread_since: AtomicU64,
}

/// A request that is being answered, until it is dropped.
pub(crate) struct AtWork {
    connections: Connections,
    peer: SocketAddr,
    progress: Arc<AnswerProgress>,
}

impl Drop for AtWork {
    fn drop(&mut self) {
        let mut known = self.connections.lock();
        // The next request of the connection may have begun meanwhile.
        let own = known.at_work.get(&self.peer).is_some_and(|progress| Arc::ptr_eq(progress, &self.progress));
        if own {
            known.at_work.remove(&self.peer);
            known.idle_since.insert(self.peer, (Instant::now(), true));
        }
    }
}

impl Connections {
    pub(crate) fn new(most: usize) -> Self {
        let spare = Mutex::new(spare_descriptors());
        Connections(Arc::new(ConnectionTable { most, started: Instant::now(), known: Mutex::default(), spare }))
    }

    fn lock(&self) -> MutexGuard<'_, Known> {
        self.0.known.lock()
    }

    /// Counts a connection as in work until what is given back is dropped.
    pub(crate) fn begin(&self, peer: SocketAddr) -> AtWork {
        let progress = Arc::new(AnswerProgress::default());
        let mut known = self.lock();
        known.idle_since.remove(&peer);
        known.at_work.insert(peer, progress.clone());
        AtWork { connections: self.clone(), peer, progress }
    }

    /// Notes each request, and watches large answers.
    pub(crate) fn fairing(&self) -> [AdHoc; 2] {
        let connections = self.clone();
        let begin = AdHoc::on_request("connections: requests", move |request, _| {
            let connections = connections.clone();
            Box::pin(async move {
                // Dropped with the request, once its answer is sent or given up.
                if let Some(peer) = request.remote() {
                    request.local_cache(|| Some(connections.begin(peer)));
                }
            })
        });
        let connections = self.clone();
        let watch = AdHoc::on_response("connections: answers", move |request, response| {
            let connections = connections.clone();
            Box::pin(async move { connections.watch(request, response).await })
        });
        [begin, watch]
    }

    async fn watch(&self, request: &Request<'_>, response: &mut Response<'_>) {
        let at_work: &Option<AtWork> = request.local_cache(|| None);
        let Some(at_work) = at_work else { return };
        let size = response.body_mut().size().await;
        if response.body().is_none() || size.is_some_and(|size| size <= SMALL) {
            return;
        }
        let body = std::mem::take(response.body_mut());
        let (progress, started) = (at_work.progress.clone(), self.0.started);
        response.set_max_chunk_size(CHUNK);
        response.set_streamed_body(Watched { body, progress, started });
        if let Some(size) = size {
            response.set_header(Header::new("Content-Length", size.to_string()));
        }
    }

    /// Looks after the connections to our port until the service ends.
    pub(crate) async fn look_after(self, port: u16) {
        let mut round = ROUND;
        loop {
            tokio::time::sleep(round).await;
            let connections = self.clone();
            let seen = tokio::task::spawn_blocking(move || connections.round(port)).await.unwrap_or(0);
            // A burst of new connections must not outrun the rounds.
            round = if seen > self.0.most / 2 { QUICK_ROUND } else { ROUND };
        }
    }

    /// One look at every socket; gives their number.
    fn round(&self, port: u16) -> usize {
        // Callers may have used up all descriptors, and a look takes one.
        let mut spare = self.0.spare.lock();
        drop(spare.take());
        let peers: Vec<SocketAddr> = sockets(port).flatten().map(|socket| socket.peer).collect();
        let ended: HashSet<SocketAddr> = self.to_end(&peers, Instant::now()).into_iter().collect();
        if !ended.is_empty() {
            tracing::debug!(count = ended.len(), open = peers.len(), "connections are shut down");
            for socket in sockets(port).flatten().filter(|socket| ended.contains(&socket.peer)) {
                break_off(&socket);
            }
        }
        *spare = spare_descriptors();
        peers.len()
    }

    /// The connections whose time is over, and those above the limit that have
    /// been idle longest.
    fn to_end(&self, open: &[SocketAddr], now: Instant) -> Vec<SocketAddr> {
        let mut known = self.lock();
        let Known { at_work, idle_since } = &mut *known;
        let here: HashSet<&SocketAddr> = open.iter().collect();
        idle_since.retain(|peer, _| here.contains(peer));
        let mut ended = Vec::new();
        let mut idle = Vec::new();
        for peer in open {
            if let Some(progress) = at_work.get(peer) {
                let since = progress.unread_since.load(Ordering::Relaxed);
                let since = self.0.started + Duration::from_millis(since);
                if progress.unread_since.load(Ordering::Relaxed) > 0 && now.saturating_duration_since(since) > UNREAD {
                    ended.push(*peer);
                }
                continue;
            }
            let (since, used) = *idle_since.entry(*peer).or_insert((now, false));
            let patience = if used { IDLE } else { HEAD };
            match now.saturating_duration_since(since) > patience {
                true => ended.push(*peer),
                false => idle.push((since, *peer)),
            }
        }
        let above = (open.len() - ended.len()).saturating_sub(self.0.most);
        idle.sort_by_key(|(since, _)| *since);
        ended.extend(idle.into_iter().take(above).map(|(_, peer)| peer));
        ended
    }
}

/// An answer's body that notes when its caller stops reading.
struct Watched<'r> {
    body: Body<'r>,
    progress: Arc<AnswerProgress>,
    started: Instant,
}

impl AsyncRead for Watched<'_> {
    fn poll_read(
        mut self: Pin<&mut Self>,
        cx: &mut Context<'_>,
        buffer: &mut ReadBuf<'_>,
    ) -> Poll<std::io::Result<()>> {
        // Being asked for more means that the socket has taken the last bytes.
        self.progress.unread_since.store(0, Ordering::Relaxed);
        let before = buffer.filled().len();
        let outcome = Pin::new(&mut self.body).poll_read(cx, buffer);
        if outcome.is_ready() && buffer.filled().len() > before {
            let now = u64::try_from(self.started.elapsed().as_millis()).unwrap_or(u64::MAX);
            self.progress.unread_since.store(now.max(1), Ordering::Relaxed);
        }
        outcome
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn peer(port: u16) -> SocketAddr {
        SocketAddr::from(([127, 0, 0, 1], port))
    }

    #[test]
    fn half_open_heads_idle_connections_and_unread_answers_have_their_times() {
        let connections = Connections::new(100);
        let start = Instant::now();
        let at = |seconds: u64| start + Duration::from_secs(seconds);
        let working = connections.begin(peer(1));
        drop(connections.begin(peer(2)));
        let open = [peer(1), peer(2), peer(3)];
        assert!(connections.to_end(&open, at(0)).is_empty());
        assert_eq!(connections.to_end(&open, at(16)), [peer(3)], "its head has not come");
        assert_eq!(connections.to_end(&open[..2], at(62)), [peer(2)], "its next request has not come");
        assert!(connections.to_end(&open[..1], at(3_000)).is_empty(), "an engine may take its time");
        working.progress.unread_since.store(1_000, Ordering::Relaxed);
        assert!(connections.to_end(&open[..1], at(100)).is_empty());
        assert_eq!(connections.to_end(&open[..1], at(130)), [peer(1)], "its caller does not read");
    }

    #[test]
    fn a_request_that_ends_late_does_not_end_the_next_one_of_its_connection() {
        let connections = Connections::new(100);
        let first = connections.begin(peer(1));
        let second = connections.begin(peer(1));
        drop(first);
        let later = Instant::now() + Duration::from_secs(3_600);
        assert!(connections.to_end(&[peer(1)], later).is_empty(), "it is still being answered");
        drop(second);
        assert_eq!(connections.to_end(&[peer(1)], later), [peer(1)]);
    }

    #[test]
    fn above_the_limit_those_idle_longest_go_and_none_at_work() {
        let connections = Connections::new(2);
        let start = Instant::now();
        let _working = [connections.begin(peer(1)), connections.begin(peer(2))];
        connections.to_end(&[peer(1), peer(2), peer(3)], start);
        let ended = connections.to_end(&[peer(1), peer(2), peer(3), peer(4)], start + Duration::from_secs(1));
        assert_eq!(ended, [peer(3), peer(4)], "both are above the limit, and nobody waits for them");
        let few = Connections::new(2);
        few.to_end(&[peer(3)], start);
        let ended = few.to_end(&[peer(3), peer(4), peer(5)], start + Duration::from_secs(1));
        assert_eq!(ended, [peer(3)], "the oldest");
    }
}
