//! The server's side of a WebSocket (RFC 6455, section 4.2).

use base64::Engine as _;
use hyper::body::Incoming;
use hyper::header::{CONNECTION, HeaderValue, UPGRADE};
use hyper::upgrade::Upgraded;
use hyper::{Request, Response, StatusCode};
use hyper_util::rt::TokioIo;
use tokio_tungstenite::WebSocketStream;
use tokio_tungstenite::tungstenite::handshake::derive_accept_key;
use tokio_tungstenite::tungstenite::protocol::Role;

use crate::serve::{Answer, full, header};

pub(crate) type Socket = WebSocketStream<TokioIo<Upgraded>>;

/// The answer that opens a WebSocket, and what is done with it then; nothing
/// where the request does not ask for one.
pub(crate) fn open<F>(request: Request<Incoming>, then: impl FnOnce(Socket) -> F + Send + 'static) -> Option<Answer>
where
    F: Future<Output = ()> + Send + 'static,
{
    let key = header(&request, "sec-websocket-key");
    let known = base64::engine::general_purpose::STANDARD.decode(&key).is_ok_and(|key| key.len() == 16);
    if !header(&request, "upgrade").eq_ignore_ascii_case("websocket") || !known {
        return None;
    }
    let accept = HeaderValue::from_str(&derive_accept_key(key.as_bytes())).ok()?;
    let upgrade = hyper::upgrade::on(request);
    tokio::spawn(async move {
        if let Ok(upgraded) = upgrade.await {
            then(WebSocketStream::from_raw_socket(TokioIo::new(upgraded), Role::Server, None).await).await;
        }
    });
    let mut response = Response::new(full(""));
    *response.status_mut() = StatusCode::SWITCHING_PROTOCOLS;
    response.headers_mut().insert(UPGRADE, HeaderValue::from_static("websocket"));
    response.headers_mut().insert(CONNECTION, HeaderValue::from_static("Upgrade"));
    response.headers_mut().insert("sec-websocket-accept", accept);
    Some(Ok(response))
}
