//! What Rocket does not report: that the caller has left, and a way to break an
//! answer off so that the caller sees it.
//!
//! Rocket notices a lost caller only at its next write, and ends a failed
//! body as if it were whole. So the caller's socket is found among our own
//! descriptors by its peer address, duplicated (`pidfd_getfd` on ourselves),
//! and watched or shut down.

use std::io;
use std::net::SocketAddr;
use std::os::fd::OwnedFd;
use std::time::Duration;

use rustix::io::Errno;
use rustix::net::{Shutdown, SocketAddrAny, getpeername, getsockname, shutdown};
use rustix::process::{PidfdFlags, PidfdGetfdFlags, getpid, pidfd_getfd, pidfd_open};
use tokio::io::Interest;
use tokio::net::TcpStream;
use tokio::sync::Semaphore;

/// Looking for the socket costs a scan; short waits go without.
const PATIENCE: Duration = Duration::from_millis(250);
/// Maximum number of scans at once: among many callers each is longer, and a thousand
/// that wait for their turn shall hold no threads.
static SCANS: Semaphore = Semaphore::const_new(2);

/// The connection of one request.
#[derive(Debug, Clone, Copy)]
pub(crate) struct Connection {
    peer: Option<SocketAddr>,
    port: u16,
}

impl Connection {
    /// The connection from a peer to our port.
    pub(crate) fn new(peer: Option<SocketAddr>, port: u16) -> Self {
        Connection { peer, port }
    }

    /// The caller's address.
    pub(crate) fn peer(self) -> Option<SocketAddr> {
        self.peer
    }

    /// Comes back once the caller has closed its side; never, where that cannot
    /// be seen.
    pub(crate) async fn gone(self) {
        tokio::time::sleep(PATIENCE).await;
        let Ok(turn) = SCANS.acquire().await else { return std::future::pending().await };
        let found = tokio::task::spawn_blocking(move || self.find()).await;
        drop(turn);
        let socket = match found {
            Ok(Ok(Some(socket))) => socket,
            // Closed already: the caller left before we came to look.
            Ok(Ok(None)) => return,
            _ => return std::future::pending().await,
        };
        // The duplicate shares the non-blocking mode of Rocket's own.
        let Ok(socket) = TcpStream::from_std(socket.into()) else { return std::future::pending().await };
        loop {
            match socket.ready(Interest::READABLE).await {
                Ok(ready) if ready.is_read_closed() => return,
                Ok(_) => {
                    // Bytes of a next request: not ours to read. Wait for more.
                    let later = || Err::<(), _>(std::io::ErrorKind::WouldBlock.into());
                    // Clears the readiness; there is nothing to read.
                    let _ = socket.try_io(Interest::READABLE, later);
                }
                Err(_) => return,
            }
        }
    }

    /// Shuts the socket down, so that the caller sees a broken transfer.
    pub(crate) async fn break_off(self) {
        // An error means that the connection has ended already.
        let _ = tokio::task::spawn_blocking(move || {
            if let Ok(Some(socket)) = self.find() {
                // An error means that the connection has ended already.
                let _ = shutdown(&socket, Shutdown::Both);
            }
        })
        .await;
    }

    /// A duplicate of the socket that leads from our port to the peer; `None`
    /// where that is closed already.
    ///
    /// # Errors
    /// When not every descriptor could be looked at.
    fn find(self) -> io::Result<Option<OwnedFd>> {
        let Some(peer) = self.peer else { return Err(io::ErrorKind::NotConnected.into()) };
        let mut failed = None;
        for socket in sockets(self.port) {
            match socket {
                Ok(socket) if socket.peer == peer => return Ok(Some(socket.duplicate)),
                Ok(_) => {}
                Err(error) => failed = Some(error),
            }
        }
        failed.map_or(Ok(None), Err)
    }
}

/// A connection to our port, as a duplicate of its socket.
pub(crate) struct Socket {
    pub(crate) peer: SocketAddr,
    duplicate: OwnedFd,
}

/// Shuts a connection down; whoever works on it sees its end.
pub(crate) fn break_off(socket: &Socket) {
    // An error means that the connection has ended already.
    let _ = shutdown(&socket.duplicate, Shutdown::Both);
}

/// The connections to our port, found among our own descriptors; an error for
/// each that could not be looked at.
pub(crate) fn sockets(port: u16) -> impl Iterator<Item = io::Result<Socket>> {
    let open = || Ok((pidfd_open(getpid(), PidfdFlags::empty())?, std::fs::read_dir("/proc/self/fd")?));
    let opened: io::Result<_> = open();
    let (opened, failed) = match opened {
        Ok(opened) => (Some(opened), None),
        Err(error) => (None, Some(Err(error))),
    };
    let found = opened.into_iter().flat_map(move |(ourselves, descriptors)| {
        descriptors.filter_map(move |entry| socket_of(&entry.ok()?, &ourselves, port).transpose())
    });
    failed.into_iter().chain(found)
}

/// The connection to our port that a descriptor of ours is, if it is one.
fn socket_of(entry: &std::fs::DirEntry, ourselves: &OwnedFd, port: u16) -> io::Result<Option<Socket>> {
    // Only sockets are worth the look, and others close while we look.
    let Ok(target) = std::fs::read_link(entry.path()) else { return Ok(None) };
    let number = entry.file_name().to_str().and_then(|name| name.parse().ok());
    let Some(number) = number.filter(|_| target.to_string_lossy().starts_with("socket:")) else { return Ok(None) };
    let duplicate = match pidfd_getfd(ourselves, number, PidfdGetfdFlags::empty()) {
        Err(Errno::BADF) => return Ok(None),
        duplicate => duplicate?,
    };
    let peer = getpeername(&duplicate).ok().flatten().and_then(address);
    let here = getsockname(&duplicate).ok().and_then(address);
    let ours = peer.zip(here).filter(|(_, here)| here.port() == port);
    Ok(ours.map(|(peer, _)| Socket { peer, duplicate }))
}

fn address(any: SocketAddrAny) -> Option<SocketAddr> {
    SocketAddr::try_from(any).ok()
}

#[cfg(test)]
mod tests {
    use tokio::io::{AsyncReadExt as _, AsyncWriteExt as _};
    use tokio::net::TcpListener;

    use super::*;

    async fn pair() -> (TcpStream, TcpStream, Connection) {
        let listener = TcpListener::bind("127.0.0.1:0").await.expect("binds");
        let client = TcpStream::connect(listener.local_addr().expect("address")).await.expect("connects");
        let (server, peer) = listener.accept().await.expect("accepts");
        let connection = Connection::new(Some(peer), listener.local_addr().expect("address").port());
        (client, server, connection)
    }

    #[tokio::test]
    async fn a_caller_that_leaves_is_noticed() {
        let (client, _server, connection) = pair().await;
        let watch = tokio::spawn(connection.gone());
        tokio::time::sleep(Duration::from_millis(400)).await;
        assert!(!watch.is_finished(), "it is still there");
        drop(client);
        tokio::time::timeout(Duration::from_secs(2), watch).await.expect("noticed").expect("ran");
    }

    #[tokio::test]
    async fn a_caller_that_left_before_anybody_looked_is_noticed_too() {
        let (client, server, connection) = pair().await;
        let watch = tokio::spawn(connection.gone());
        drop((client, server));
        tokio::time::timeout(Duration::from_secs(2), watch).await.expect("noticed").expect("ran");
    }

    #[tokio::test]
    async fn a_next_request_on_the_connection_is_no_leave_taking() {
        let (mut client, _server, connection) = pair().await;
        let watch = tokio::spawn(connection.gone());
        client.write_all(b"GET / HTTP/1.1\r\n\r\n").await.expect("writes");
        tokio::time::sleep(Duration::from_millis(500)).await;
        assert!(!watch.is_finished());
        drop(client);
        tokio::time::timeout(Duration::from_secs(2), watch).await.expect("noticed").expect("ran");
    }

    #[tokio::test]
    async fn breaking_off_ends_the_callers_read() {
        let (mut client, _server, connection) = pair().await;
        connection.break_off().await;
        let read = tokio::time::timeout(Duration::from_secs(2), client.read(&mut [0; 8])).await.expect("ended");
        assert_eq!(read.unwrap_or(0), 0);
    }
}
