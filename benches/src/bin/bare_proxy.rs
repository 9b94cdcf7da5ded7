//! A proxy of the same libraries and nothing else: Rocket takes the request,
//! reqwest sends it on, the answer's body is passed on as it comes. What the
//! gateway does beyond this is what `gateway` measures. `/kept` gives a file, as
//! the same framework gives one, to compare kept audio with.
//! Run as `bare_proxy PORT URL FILE`.
#![allow(clippy::unwrap_used, reason = "a measurement that cannot be set up is no measurement")]

use futures::StreamExt as _;
use rocket::data::{Data, ToByteUnit as _};
use rocket::fs::NamedFile;
use rocket::http::ContentType;
use rocket::response::stream::ByteStream;
use rocket::{State, post};

struct Upstream {
    url: String,
    file: std::path::PathBuf,
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

#[post("/kept", data = "<body>")]
async fn kept(body: Data<'_>, upstream: &State<Upstream>) -> NamedFile {
    body.open(1.mebibytes()).into_bytes().await.unwrap();
    NamedFile::open(&upstream.file).await.unwrap()
}

/// The port, the URL and the file of the command line.
fn arguments() -> (u16, String, std::path::PathBuf) {
    let mut given = std::env::args().skip(1);
    (given.next().unwrap().parse().unwrap(), given.next().unwrap(), given.next().unwrap().into())
}

#[rocket::main]
async fn main() {
    let (port, url, file) = arguments();
    let http = reqwest::Client::builder().no_proxy().build().unwrap();
    let settings = rocket::Config { port, log_level: rocket::log::LogLevel::Off, ..rocket::Config::release_default() };
    rocket::custom(settings)
        .manage(Upstream { url, file, http })
        .mount("/", rocket::routes![forward, kept])
        .launch()
        .await
        .unwrap();
}
