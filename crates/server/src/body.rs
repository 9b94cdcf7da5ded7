//! The body of a request: bounded in bytes and time, and an error where it is
//! not whole.
//!
//! Rocket reads the first bytes of every body before the guards run and drops
//! the error of that read, so that a short body which breaks off looks complete.
//! [`RequestBody`] detects this, compares what was read with `Content-Length`,
//! and ends bodies that arrive too slowly. Every handler reads through it.

use std::convert::Infallible;
use std::io;
use std::pin::Pin;
use std::sync::Arc;
use std::task::{Context, Poll};
use std::time::Duration;

use parking_lot::Mutex;
use rocket::Data;
use rocket::data::{ByteUnit, DataStream, FromData, Outcome};
use rocket::request::Request;
use tokio::io::{AsyncRead, ReadBuf};
use tokio::sync::{OwnedSemaphorePermit, Semaphore};
use tokio::time::{Instant, Sleep};

use crate::problem::Problem;
use crate::problem_kind::ProblemKind;

/// Bytes that Rocket reads ahead: the length of `_method=delete`.
const PEEKED: usize = 14;
/// A body may pause this long.
const PAUSE: Duration = Duration::from_secs(30);
/// The slowest mean rate in bytes per second, once [`PAUSE`] has passed. The
/// slowest speech codec in use needs three times as much.
const SLOWEST: u64 = 256;

/// Bytes of a body that are read into memory without a turn.
const FREE: usize = 64 << 10;
/// Bodies of this size are kept in memory beside the room.
const SMALL: u64 = 1 << 20;
/// KiB of larger bodies in memory, of all requests together.
const IN_MEMORY: usize = 64 << 10;
/// A request waits this long for its turn.
const PATIENCE: Duration = Duration::from_secs(10);

/// The memory for bodies, of all requests together.
#[derive(Clone)]
pub(crate) struct BodyRoom(Arc<Semaphore>);

impl Default for BodyRoom {
    fn default() -> Self {
        BodyRoom(Arc::new(Semaphore::new(IN_MEMORY)))
    }
}

impl BodyRoom {
    /// Waits for room for a body of this size in bytes.
    ///
    /// # Errors
    /// 429 where others take it for too long.
    async fn take(&self, bytes: u64) -> Result<OwnedSemaphorePermit, Problem> {
        let weight = u32::try_from(bytes.div_ceil(1 << 10)).unwrap_or(u32::MAX).min(IN_MEMORY as u32);
        match tokio::time::timeout(PATIENCE, self.0.clone().acquire_many_owned(weight)).await {
            Ok(Ok(permit)) => Ok(permit),
            _ => {
                let problem = Problem::new(ProblemKind::Crowded, "too many large bodies are worked on at this moment");
                Err(Problem { retry_after: Some(PATIENCE.as_secs()), ..problem })
            }
        }
    }
}

/// The room of a request's body, kept until its answer is sent.
struct Held(Mutex<Option<OwnedSemaphorePermit>>);

/// The body of a request, not yet read.
pub(crate) struct RequestBody<'r> {
    data: Data<'r>,
    announced: Option<u64>,
    held: &'r Held,
    room: BodyRoom,
}

#[rocket::async_trait]
impl<'r> FromData<'r> for RequestBody<'r> {
    type Error = Infallible;

    async fn from_data(request: &'r Request<'_>, data: Data<'r>) -> Outcome<'r, Self> {
        let announced = request.headers().get_one("Content-Length").and_then(|length| length.trim().parse().ok());
        let room = request.rocket().state::<BodyRoom>().cloned().unwrap_or_default();
        let held = request.local_cache(|| Held(Mutex::default()));
        Outcome::Success(RequestBody { data, announced, held, room })
    }
}

impl<'r> RequestBody<'r> {
    /// Waits for room for what a handler keeps of the body in memory, at most
    /// `most` bytes; bodies up to 1 MiB pass.
    ///
    /// # Errors
    /// 429 if other requests use it for too long.
    pub(crate) async fn reserve(&self, most: u64) -> Result<(), Problem> {
        let announced = self.announced.unwrap_or(most).min(most);
        if announced > SMALL {
            *self.held.0.lock() = Some(self.room.take(announced).await?);
        }
        Ok(())
    }

    /// Opens the body for at most `limit` bytes; one more is an error of kind
    /// [`io::ErrorKind::FileTooLarge`].
    ///
    /// # Errors
    /// 413 where the announced length is over the limit.
    pub(crate) fn open(self, limit: u64) -> Result<BodyReader<'r>, Problem> {
        if self.announced.is_some_and(|announced| announced > limit) {
            return Err(too_large(limit));
        }
        let ended = self.data.peek_complete();
        let stream = self.data.open(ByteUnit::Byte(limit.saturating_add(1).max(PEEKED as u64)));
        // Neither ended nor full: the read ahead failed, and Rocket dropped its error.
        let torn = !ended && stream.hint() < PEEKED;
        Ok(BodyReader::new(stream, limit, self.announced, torn))
    }
}

/// Reads a body; an error where it is torn, too slow, too long or too short.
pub(crate) struct BodyReader<'r> {
    stream: Pin<Box<dyn AsyncRead + Send + 'r>>,
    limit: u64,
    announced: Option<u64>,
    torn: bool,
    read: u64,
    begun: Instant,
    patience: Pin<Box<Sleep>>,
}

impl<'r> BodyReader<'r> {
    fn new(stream: impl Into<BodySource<'r>>, limit: u64, announced: Option<u64>, torn: bool) -> Self {
        BodyReader {
            stream: stream.into().0,
            limit,
            announced,
            torn,
            read: 0,
            begun: Instant::now(),
            patience: Box::pin(tokio::time::sleep(PAUSE)),
        }
    }

    /// Whether the mean rate has fallen below the slowest that is accepted.
    fn is_too_slow(&self) -> bool {
        self.begun.elapsed() > PAUSE + Duration::from_secs(self.read / SLOWEST)
    }

    fn check_end(&self) -> io::Result<()> {
        match self.announced {
            Some(announced) if self.read < announced => {
                let detail = format!("{announced} bytes were announced and {} arrived", self.read);
                Err(io::Error::new(io::ErrorKind::UnexpectedEof, detail))
            }
            _ => Ok(()),
        }
    }
}

/// Where the bytes come from; tests read from memory.
struct BodySource<'r>(Pin<Box<dyn AsyncRead + Send + 'r>>);

impl<'r> From<DataStream<'r>> for BodySource<'r> {
    fn from(stream: DataStream<'r>) -> Self {
        BodySource(Box::pin(stream))
    }
}

impl AsyncRead for BodyReader<'_> {
    fn poll_read(mut self: Pin<&mut Self>, cx: &mut Context<'_>, buffer: &mut ReadBuf<'_>) -> Poll<io::Result<()>> {
        if self.torn {
            return Poll::Ready(Err(io::Error::new(io::ErrorKind::UnexpectedEof, "it ended within its first bytes")));
        }
        let before = buffer.filled().len();
        match self.stream.as_mut().poll_read(cx, buffer) {
            Poll::Pending => match self.patience.as_mut().poll(cx) {
                Poll::Ready(()) => {
                    let detail = format!("nothing arrived for {} s", PAUSE.as_secs());
                    Poll::Ready(Err(io::Error::new(io::ErrorKind::TimedOut, detail)))
                }
                Poll::Pending => Poll::Pending,
            },
            Poll::Ready(Err(error)) => Poll::Ready(Err(error)),
            Poll::Ready(Ok(())) => {
                let count = buffer.filled().len() - before;
                self.read += count as u64;
                let fault = if self.read > self.limit {
                    let detail = format!("it is larger than {} bytes", self.limit);
                    Some(io::Error::new(io::ErrorKind::FileTooLarge, detail))
                } else if self.is_too_slow() {
                    let detail = format!("it arrives at less than {SLOWEST} bytes per second");
                    Some(io::Error::new(io::ErrorKind::TimedOut, detail))
                } else {
                    None
                };
                if let Some(fault) = fault {
                    // With an error nothing was read.
                    buffer.set_filled(before);
                    return Poll::Ready(Err(fault));
                }
                if count == 0 && buffer.remaining() > 0 {
                    return Poll::Ready(self.check_end());
                }
                let next = Instant::now() + PAUSE;
                self.patience.as_mut().reset(next);
                Poll::Ready(Ok(()))
            }
        }
    }
}

pub(crate) fn too_large(limit: u64) -> Problem {
    Problem::new(ProblemKind::TooLarge, format!("the body is larger than {limit} bytes"))
}

/// The problem of a body that could not be read to its end.
pub(crate) fn unread(error: &io::Error) -> Problem {
    match error.kind() {
        io::ErrorKind::TimedOut => Problem::new(ProblemKind::TooSlow, format!("the body: {error}")),
        io::ErrorKind::FileTooLarge => Problem::new(ProblemKind::TooLarge, format!("the body: {error}")),
        _ => Problem::new(ProblemKind::BadRequest, format!("the body is not complete: {error}")),
    }
}

/// Reads a whole small body.
///
/// # Errors
/// 400 where it is not whole, 408 where it is too slow, 413 over the limit.
pub(crate) async fn read_small(body: RequestBody<'_>, limit: u64) -> Result<Vec<u8>, Problem> {
    use tokio::io::AsyncReadExt as _;
    let (held, room, announced) = (body.held, body.room.clone(), body.announced);
    let mut reader = body.open(limit)?;
    let mut bytes = Vec::new();
    (&mut reader).take(FREE as u64).read_to_end(&mut bytes).await.map_err(|error| unread(&error))?;
    if bytes.len() < FREE {
        return Ok(bytes);
    }
    // A large one goes on once there is room for all that it may come to.
    let most = announced.unwrap_or(limit);
    let permit = room.take(most).await?;
    *held.0.lock() = Some(permit);
    bytes.reserve_exact(usize::try_from(most).unwrap_or(0).saturating_sub(bytes.len()));
    reader.read_to_end(&mut bytes).await.map_err(|error| unread(&error))?;
    Ok(bytes)
}

/// Reads JSON into a type that knows all its members.
///
/// # Errors
/// Those of [`read_small`], and 400 or 422 for what the JSON holds.
pub(crate) async fn read_json<T: serde::de::DeserializeOwned>(body: RequestBody<'_>, limit: u64) -> Result<T, Problem> {
    let bytes = read_small(body, limit).await?;
    serde_json::from_slice(&bytes).map_err(|error| Problem::of_json(&error))
}

#[cfg(test)]
mod tests {
    use tokio::io::{AsyncReadExt as _, AsyncWriteExt as _};

    use super::*;

    impl<'r> From<tokio::io::DuplexStream> for BodySource<'r> {
        fn from(stream: tokio::io::DuplexStream) -> Self {
            BodySource(Box::pin(stream))
        }
    }

    async fn read(mut reader: BodyReader<'_>) -> Result<Vec<u8>, io::ErrorKind> {
        let mut bytes = Vec::new();
        reader.read_to_end(&mut bytes).await.map(|_| bytes).map_err(|error| error.kind())
    }

    async fn sent(bytes: &[u8], limit: u64, announced: Option<u64>, torn: bool) -> Result<Vec<u8>, io::ErrorKind> {
        let (mut sender, receiver) = tokio::io::duplex(1 << 16);
        sender.write_all(bytes).await.expect("room");
        drop(sender);
        read(BodyReader::new(receiver, limit, announced, torn)).await
    }

    #[tokio::test]
    async fn a_body_is_whole_or_an_error() {
        assert_eq!(sent(b"abc", 10, Some(3), false).await, Ok(b"abc".to_vec()));
        assert_eq!(sent(b"abc", 10, None, false).await, Ok(b"abc".to_vec()));
        assert_eq!(sent(b"", 10, Some(0), false).await, Ok(Vec::new()));
        assert_eq!(sent(b"abc", 10, Some(4), false).await, Err(io::ErrorKind::UnexpectedEof));
        assert_eq!(sent(b"abc", 10, None, true).await, Err(io::ErrorKind::UnexpectedEof), "its first read failed");
        assert_eq!(sent(b"abcd", 3, None, false).await, Err(io::ErrorKind::FileTooLarge));
        assert_eq!(sent(b"abc", 3, None, false).await, Ok(b"abc".to_vec()), "exactly the limit");
    }

    #[tokio::test(start_paused = true)]
    async fn large_bodies_share_the_memory() {
        let room = BodyRoom::default();
        let mut held = Vec::new();
        for _ in 0..32 {
            held.push(room.take(2 << 20).await.expect("room"));
        }
        let problem = room.take(2 << 20).await.expect_err("all of it is taken");
        assert_eq!((problem.status, problem.retry_after), (429, Some(10)));
        held.pop();
        assert!(room.take(2 << 20).await.is_ok());
    }

    #[tokio::test(start_paused = true)]
    async fn a_body_that_stops_or_trickles_ends_with_a_time_out() {
        let (mut sender, receiver) = tokio::io::duplex(64);
        let begun = Instant::now();
        let stopped = tokio::spawn(read(BodyReader::new(receiver, 1 << 20, Some(9), false)));
        sender.write_all(b"abc").await.expect("room");
        assert_eq!(stopped.await.expect("ran"), Err(io::ErrorKind::TimedOut));
        assert!(begun.elapsed() < PAUSE * 2, "{:?}", begun.elapsed());

        let (mut sender, receiver) = tokio::io::duplex(64);
        let begun = Instant::now();
        let trickle = tokio::spawn(read(BodyReader::new(receiver, 1 << 20, None, false)));
        while sender.write_all(b"x").await.is_ok() {
            tokio::time::sleep(Duration::from_secs(5)).await;
        }
        assert_eq!(trickle.await.expect("ran"), Err(io::ErrorKind::TimedOut));
        assert!(begun.elapsed() < PAUSE * 2, "{:?}", begun.elapsed());
    }
}
