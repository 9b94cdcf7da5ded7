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

use crate::trouble::{Trouble, foul};
use crate::weather::{Forecast, Limits, Phase, Sky};

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
    fn sky(&self) -> &Arc<Sky>;
    /// Tells of a trouble in its own form; `given` is what the caller came with.
    fn tell(&self, trouble: Trouble, given: &str) -> Answer;
    /// Whether a call is one that its limits count.
    fn counts(&self, _method: &Method, _path: &str) -> bool {
        true
    }
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
                let served = hyper::server::conn::http1::Builder::new().serve_connection(TokioIo::new(stream), handler);
                let _ = served.with_upgrades().await;
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
        (&Method::PUT, "/limits") => {
            match serde_json::from_slice::<Limits>(&collect(request.into_body(), 4_096).await?) {
                Ok(limits) => {
                    service.sky().limit(limits);
                    json(StatusCode::OK, &limits)
                }
                Err(error) => json(StatusCode::BAD_REQUEST, &error.to_string()),
            }
        }
        (&Method::PUT, "/broken") => {
            match serde_json::from_slice::<Vec<String>>(&collect(request.into_body(), 4_096).await?) {
                Ok(claims) => {
                    service.sky().set_broken(claims.clone());
                    json(StatusCode::OK, &claims)
                }
                Err(error) => json(StatusCode::BAD_REQUEST, &error.to_string()),
            }
        }
        (method, path) if service.counts(method, path) => match service.sky().enter() {
            None => {
                service.sky().count(|delivered| delivered.refused += 1);
                service.tell(Trouble::Crowded, "")
            }
            Some(presence) => {
                let answer = service.call(request).await?;
                // The call is in work until its answer has gone out.
                Ok(answer.map(|body| {
                    let held = body.map_frame(move |frame| {
                        let _ = &presence;
                        frame
                    });
                    held.boxed()
                }))
            }
        },
        _ => service.call(request).await,
    }
}

/// Whether what the caller came with is known, and the weather is fair.
pub(crate) async fn admit<S: Service>(
    service: &S,
    phase: Phase,
    known: bool,
    given: &str,
) -> Result<Option<Forecast>, Answer> {
    let sky = service.sky();
    let forecast = sky.next_in(phase);
    let refused = match foul(forecast.as_ref(), |trouble| service.tell(trouble, given)).await {
        Some(answer) => Some(answer),
        None if !known => Some(service.tell(Trouble::Expired, "")),
        None => None,
    };
    match refused {
        Some(answer) => {
            sky.count(|delivered| delivered.refused += 1);
            Err(answer)
        }
        None => {
            if phase == Phase::Call {
                sky.count(|delivered| delivered.calls += 1);
            }
            Ok(forecast)
        }
    }
}

/// A header of a request as text.
pub(crate) fn header(request: &Request<Incoming>, name: &str) -> String {
    request.headers().get(name).map(HeaderValue::as_bytes).map(String::from_utf8_lossy).unwrap_or_default().into_owned()
}

pub(crate) async fn collect(body: Incoming, limit: usize) -> Result<Bytes, BoxError> {
    Ok(Limited::new(body, limit).collect().await?.to_bytes())
}

/// Gives an answer once the request is read: else it may be lost with the
/// connection, which is closed for what was not read.
pub(crate) async fn after(request: Request<Incoming>, answer: Answer) -> Answer {
    let _ = collect(request.into_body(), 32 << 20).await;
    answer
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
