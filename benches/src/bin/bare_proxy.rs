//! A proxy of the same libraries and nothing else: Rocket takes the request,
//! reqwest sends it on, the answer's body is passed on as it comes. What the
//! gateway does beyond this is what `gateway` measures.
//! Run as `bare_proxy PORT URL`.
#![allow(clippy::unwrap_used, reason = "a measurement that cannot be set up is no measurement")]

use futures::StreamExt as _;
use rocket::data::{Data, ToByteUnit as _};
use rocket::http::ContentType;
use rocket::response::stream::ByteStream;
use rocket::{State, post};

struct Upstream {
    url: String,
    http: reqwest::Client,
}

#[post("/", data = "<body>")]
async fn forward(
    body: Data<'_>,
    upstream: &State<Upstream>,
) -> (ContentType, ByteStream<impl futures::Stream<Item = bytes::Bytes> + use<>>) {
    let body = body.open(1.mebibytes()).into_bytes().await.unwrap().into_inner();
    let answer = upstream.http.post(&upstream.url).body(body).send().await.unwrap();
    (ContentType::MP3, ByteStream(answer.bytes_stream().map(Result::unwrap)))
}

/// The port and the URL of the command line.
fn arguments() -> (u16, String) {
    let mut given = std::env::args().skip(1);
    (given.next().unwrap().parse().unwrap(), given.next().unwrap())
}

#[rocket::main]
async fn main() {
    let (port, url) = arguments();
    let http = reqwest::Client::builder().no_proxy().build().unwrap();
    let settings = rocket::Config { port, log_level: rocket::log::LogLevel::Off, ..rocket::Config::release_default() };
    rocket::custom(settings)
        .manage(Upstream { url, http })
        .mount("/", rocket::routes![forward])
        .launch()
        .await
        .unwrap();
}
