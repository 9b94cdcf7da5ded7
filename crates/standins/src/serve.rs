//! A small HTTP/1 server for stand-ins, which can also break its answers.

use std::convert::Infallible;
use std::net::SocketAddr;
use std::sync::Arc;

use bytes::Bytes;
use futures::channel::mpsc;
use http_body_util::{BodyExt as _, Full, Limited, StreamBody};
use hyper::body::{Frame, Incoming};
use hyper::header::{CONTENT_TYPE, HeaderValue};
use hyper::service::service_fn;
use hyper::{Method, Request, Response, StatusCode};
use hyper_util::rt::TokioIo;
use tokio::net::TcpListener;

use crate::weather::{Forecast, Sky};

type BoxError = Box<dyn std::error::Error + Send + Sync>;
pub(crate) type Body = http_body_util::combinators::BoxBody<Bytes, BoxError>;
/// An error drops the connection without an answer.
pub(crate) type Answer = Result<Response<Body>, BoxError>;

/// A stand-in that is running; it stops when this is dropped.
pub struct StandIn {
    address: SocketAddr,
    task: tokio::task::JoinHandle<()>,
}

impl StandIn {
    /// `http://127.0.0.1:port`.
    pub fn url(&self) -> String {
        format!("http://{}", self.address)
    }
}

impl Drop for StandIn {
    fn drop(&mut self) {
        self.task.abort();
    }
}

/// One simulated engine.
pub(crate) trait Service: Send + Sync + 'static {
    fn sky(&self) -> &Sky;
    fn call(self: Arc<Self>, request: Request<Incoming>) -> impl Future<Output = Answer> + Send;
}

/// Serves on a port of loopback; port 0 takes a free one.
pub(crate) async fn serve<S: Service>(service: S, port: u16) -> std::io::Result<StandIn> {
    let listener = TcpListener::bind((std::net::Ipv4Addr::LOCALHOST, port)).await?;
    let address = listener.local_addr()?;
    let service = Arc::new(service);
    let task = tokio::spawn(async move {
        loop {
            let Ok((stream, _)) = listener.accept().await else { continue };
            let _ = stream.set_nodelay(true);
            let service = service.clone();
            tokio::spawn(async move {
                let handler = service_fn(move |request| route(service.clone(), request));
                // A broken answer is meant to break the connection.
                let _ =
                    hyper::server::conn::http1::Builder::new().serve_connection(TokioIo::new(stream), handler).await;
            });
        }
    });
    Ok(StandIn { address, task })
}

async fn route<S: Service>(service: Arc<S>, request: Request<Incoming>) -> Answer {
    let path = request.uri().path().to_owned();
    match (request.method(), path.as_str()) {
        (&Method::GET, "/weather") => json(StatusCode::OK, &service.sky().forecast()),
        (&Method::DELETE, "/weather") => {
            service.sky().set(None);
            json(StatusCode::OK, &service.sky().forecast())
        }
        (&Method::PUT, "/weather") => {
            let body = collect(request.into_body(), 4_096).await?;
            match serde_json::from_slice::<Forecast>(&body) {
                Ok(forecast) => {
                    service.sky().set(Some(forecast));
                    json(StatusCode::OK, &service.sky().forecast())
                }
                Err(error) => json(StatusCode::BAD_REQUEST, &error.to_string()),
            }
        }
        (&Method::GET, "/delivered") => json(StatusCode::OK, &service.sky().delivered()),
        _ => service.call(request).await,
    }
}

pub(crate) async fn collect(body: Incoming, limit: usize) -> Result<Bytes, BoxError> {
    Ok(Limited::new(body, limit).collect().await?.to_bytes())
}

pub(crate) fn json(status: StatusCode, value: &impl serde::Serialize) -> Answer {
    let mut response = Response::new(full(serde_json::to_vec(value)?));
    *response.status_mut() = status;
    response.headers_mut().insert(CONTENT_TYPE, HeaderValue::from_static("application/json"));
    Ok(response)
}

pub(crate) fn full(bytes: impl Into<Bytes>) -> Body {
    Full::new(bytes.into()).map_err(|never: Infallible| match never {}).boxed()
}

/// A body that is sent piece by piece; an error breaks it off.
pub(crate) fn streamed() -> (mpsc::Sender<Result<Frame<Bytes>, BoxError>>, Body) {
    let (sender, receiver) = mpsc::channel(1);
    (sender, StreamBody::new(receiver).boxed())
}
