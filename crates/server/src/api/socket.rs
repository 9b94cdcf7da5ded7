//! What the calls over WebSockets (RFC 6455) share: limits, messages in and
//! out, and how a connection ends.

use std::time::Duration;

use dispatcher_gateway::{Caller, GatewayError};
use futures::{SinkExt as _, StreamExt as _};
use rocket::Shutdown;
use rocket::request::{FromRequest, Outcome, Request};
use rocket_ws as ws;
use rocket_ws::frame::{CloseCode, CloseFrame};
use serde::Serialize;
use tokio::sync::mpsc;

use crate::connection::Connection;
use crate::connections::Connections;
use crate::problem::Problem;
use crate::problem_kind::ProblemKind;
use crate::public_url::PublicUrl;

/// Bytes of a message, and of a frame of one.
const MOST_MESSAGE: usize = 1 << 20;
const MOST_FRAME: usize = 256 << 10;
/// A session begins with a message within this time.
const OPENS_WITHIN: Duration = Duration::from_secs(10);
/// A caller takes a message within this time.
const TAKEN_WITHIN: Duration = Duration::from_secs(20);
/// What is still on its way from a caller is read for so long after the end.
const DRAINED_WITHIN: Duration = Duration::from_secs(2);
/// Interval of pings to a connection.
pub(super) const PING: Duration = Duration::from_secs(20);

/// The limits of every socket.
fn config() -> ws::Config {
    ws::Config {
        max_message_size: Some(MOST_MESSAGE),
        max_frame_size: Some(MOST_FRAME),
        write_buffer_size: 0,
        max_write_buffer_size: MOST_MESSAGE,
        ..ws::Config::default()
    }
}

/// What is said over a connection.
pub(super) trait Talk: Send + 'static {
    /// From the first message to the last; why it ends where that is earlier.
    fn talk(&mut self, socket: &mut Socket) -> impl Future<Output = Result<(), Close>> + Send;
}

/// A request that becomes a connection over which messages go both ways.
pub(crate) struct Upgrade {
    socket: ws::WebSocket,
    base: String,
    connections: Connections,
    end: Shutdown,
}

#[rocket::async_trait]
impl<'r> FromRequest<'r> for Upgrade {
    type Error = ();

    async fn from_request(request: &'r Request<'_>) -> Outcome<Self, ()> {
        let socket = match ws::WebSocket::from_request(request).await {
            Outcome::Success(socket) => socket,
            Outcome::Error((status, _)) => return Outcome::Error((status, ())),
            Outcome::Forward(status) => return Outcome::Forward(status),
        };
        let rocket = request.rocket();
        match (rocket.state::<PublicUrl>(), rocket.state::<Connections>()) {
            (Some(url), Some(connections)) => {
                let (base, end) = (url.0.clone(), rocket.shutdown());
                Outcome::Success(Upgrade { socket, base, connections: connections.clone(), end })
            }
            _ => Outcome::Error((rocket::http::Status::InternalServerError, ())),
        }
    }
}

impl Upgrade {
    /// Opens the connection, lets a caller talk, and says why it is closed.
    pub(super) fn open(self, caller: &Caller, of: &Connection, mut talk: impl Talk) -> ws::Channel<'static> {
        let Upgrade { socket, base, connections, end } = self;
        // A connection without a request in work would be closed.
        let held = of.peer().map(|peer| connections.begin(peer));
        let operator = caller.is_operator();
        socket.config(config()).channel(move |stream| {
            Box::pin(async move {
                let _held = held;
                let mut socket = Socket { stream, base, operator };
                let close = tokio::select! {
                    said = talk.talk(&mut socket) => said.err().unwrap_or_else(Close::normal),
                    () = end => Close::restart(),
                };
                socket.close(close).await;
                Ok(())
            })
        })
    }
}

/// Why a connection is closed.
pub(super) struct Close {
    code: CloseCode,
    reason: String,
    /// What is said before.
    problem: Option<Problem>,
}

impl Close {
    fn of(code: CloseCode, reason: &str) -> Close {
        Close { code, reason: reason.to_owned(), problem: None }
    }

    /// All is said, or nobody listens.
    fn normal() -> Close {
        Close::of(CloseCode::Normal, "")
    }

    /// The service ends.
    fn restart() -> Close {
        Close::of(CloseCode::Restart, "the service is ending")
    }

    /// The first message is another one.
    pub(super) fn unopened() -> Close {
        Close::wrong("the first message must have the type open")
    }

    /// The caller does not keep to the messages.
    pub(super) fn wrong(detail: impl Into<String>) -> Close {
        let problem = Problem::new(ProblemKind::BadRequest, detail.into());
        Close { problem: Some(problem), ..Close::of(CloseCode::Policy, "not a message of this interface") }
    }
}

impl From<Problem> for Close {
    fn from(problem: Problem) -> Close {
        let code = if problem.status < 500 { CloseCode::Policy } else { CloseCode::Error };
        Close { problem: Some(problem), ..Close::of(code, "see the problem") }
    }
}

impl From<GatewayError> for Close {
    fn from(error: GatewayError) -> Close {
        Problem::from(error).into()
    }
}

/// What a caller has sent.
pub(super) enum Sent<Order> {
    Order(Order),
    Audio(Vec<u8>),
    Left,
}

/// Room for one thing more; nothing once no more is taken. What a caller sends
/// is not read while there is none, and its events continue.
pub(super) async fn room_for<T>(to: Option<mpsc::Sender<T>>) -> Option<mpsc::OwnedPermit<T>> {
    to?.reserve_owned().await.ok()
}

/// The last message of a session that fails.
#[derive(Serialize)]
struct ProblemMessage {
    r#type: &'static str,
    problem: Problem,
}

/// A connection to a caller.
pub(super) struct Socket {
    stream: ws::stream::DuplexStream,
    /// What the types of problems begin with.
    base: String,
    operator: bool,
}

impl Socket {
    /// Asks for a sign of life; whether the caller is still there.
    pub(super) async fn ping(&mut self) -> bool {
        let sent = self.stream.send(ws::Message::Ping(Vec::new()));
        matches!(tokio::time::timeout(TAKEN_WITHIN, sent).await, Ok(Ok(())))
    }

    pub(super) async fn say(&mut self, message: &impl Serialize) -> Result<(), Close> {
        self.send(ws::Message::Text(serde_json::to_string(message).unwrap_or_default())).await
    }

    pub(super) async fn send(&mut self, message: ws::Message) -> Result<(), Close> {
        match tokio::time::timeout(TAKEN_WITHIN, self.stream.send(message)).await {
            Ok(Ok(())) => Ok(()),
            _ => Err(Close::normal()),
        }
    }

    /// Says why, and closes. A caller who has left misses nothing.
    async fn close(&mut self, close: Close) {
        let Close { code, reason, problem } = close;
        if let Some(problem) = problem {
            let problem = if self.operator { problem.for_operator() } else { problem };
            let kind = format!("{}/problems/{}", self.base, problem.kind);
            let _ = self.say(&ProblemMessage { r#type: "problem", problem: Problem { kind, ..problem } }).await;
        }
        let frame = CloseFrame { code, reason: reason.into() };
        let _ = tokio::time::timeout(TAKEN_WITHIN, self.stream.close(Some(frame))).await;
        // What is still on its way would make the connection break, and take
        // what was said just now with it.
        let rest = async { while let Some(Ok(_)) = self.stream.next().await {} };
        let _ = tokio::time::timeout(DRAINED_WITHIN, rest).await;
    }

    /// The first message, which must come soon. `None` if the caller left.
    pub(super) async fn first<Order>(
        &mut self,
        read: impl Fn(&str) -> Result<Order, String>,
    ) -> Result<Option<Order>, Close> {
        match tokio::time::timeout(OPENS_WITHIN, self.next(read)).await {
            Ok(Ok(Sent::Order(order))) => Ok(Some(order)),
            Ok(Ok(Sent::Left)) => Ok(None),
            Ok(Err(close)) => Err(close),
            Err(_) | Ok(Ok(Sent::Audio(_))) => Err(Close::unopened()),
        }
    }

    /// The next message that says something, its text read by `read`.
    pub(super) async fn next<Order>(
        &mut self,
        read: impl Fn(&str) -> Result<Order, String>,
    ) -> Result<Sent<Order>, Close> {
        loop {
            match self.stream.next().await {
                None | Some(Ok(ws::Message::Close(_))) => return Ok(Sent::Left),
                Some(Ok(ws::Message::Binary(bytes))) => return Ok(Sent::Audio(bytes)),
                Some(Ok(ws::Message::Text(text))) => return read(&text).map(Sent::Order).map_err(Close::wrong),
                Some(Ok(ws::Message::Ping(_) | ws::Message::Pong(_) | ws::Message::Frame(_))) => {}
                Some(Err(ws::result::Error::Capacity(error))) => {
                    let detail = format!("a message has at most {MOST_MESSAGE} bytes: {error}");
                    let problem = Problem::new(ProblemKind::TooLarge, detail);
                    let close = Close::of(CloseCode::Size, "the message is too large");
                    return Err(Close { problem: Some(problem), ..close });
                }
                Some(Err(ws::result::Error::Protocol(_) | ws::result::Error::Utf8)) => {
                    return Err(Close::of(CloseCode::Protocol, "not as RFC 6455 says"));
                }
                Some(Err(_)) => return Ok(Sent::Left),
            }
        }
    }
}
