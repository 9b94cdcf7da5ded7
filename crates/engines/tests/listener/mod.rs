//! A plain listener on loopback that keeps what it was sent and answers as told.

use std::sync::{Arc, Mutex};

use tokio::io::{AsyncReadExt as _, AsyncWriteExt as _};
use tokio::net::{TcpListener, TcpStream};

/// One request, as it came.
#[derive(Debug, Clone)]
pub struct Seen {
    /// `METHOD target`.
    pub line: String,
    /// Names in lower case.
    pub headers: Vec<(String, String)>,
    pub body: Vec<u8>,
}

impl Seen {
    pub fn header(&self, name: &str) -> Option<&str> {
        self.headers.iter().find(|(has, _)| has == name).map(|(_, value)| value.as_str())
    }

    pub fn text(&self) -> String {
        String::from_utf8_lossy(&self.body).into_owned()
    }
}

pub struct Listener {
    pub url: String,
    seen: Arc<Mutex<Vec<Seen>>>,
    task: tokio::task::JoinHandle<()>,
}

impl Listener {
    /// Answers every request with these bytes, and closes the connection.
    pub async fn answering(answer: impl Into<Vec<u8>>) -> Listener {
        let answer = answer.into();
        Listener::with(move |_| answer.clone()).await
    }

    /// Answers each request as it is told, and closes the connection.
    pub async fn with(mut answer: impl FnMut(&Seen) -> Vec<u8> + Send + 'static) -> Listener {
        let socket = TcpListener::bind("127.0.0.1:0").await.unwrap();
        let url = format!("http://{}", socket.local_addr().unwrap());
        let seen = Arc::new(Mutex::new(Vec::new()));
        let kept = seen.clone();
        let task = tokio::spawn(async move {
            loop {
                let (mut stream, _) = socket.accept().await.unwrap();
                if let Some(request) = read_request(&mut stream).await {
                    let answer = answer(&request);
                    kept.lock().unwrap().push(request);
                    let _ = stream.write_all(&answer).await;
                }
            }
        });
        Listener { url, seen, task }
    }

    /// Requests so far whose first line begins so.
    pub fn all(&self, line: &str) -> Vec<Seen> {
        self.seen.lock().unwrap().iter().filter(|seen| seen.line.starts_with(line)).cloned().collect()
    }

    pub fn count(&self) -> usize {
        self.seen.lock().unwrap().len()
    }

    pub fn last(&self) -> Seen {
        self.seen.lock().unwrap().last().expect("no request came").clone()
    }
}

impl Drop for Listener {
    fn drop(&mut self) {
        self.task.abort();
    }
}

/// An answer with these header lines (each ended by CRLF) and this body.
pub fn answer(status: &str, headers: &str, body: &[u8]) -> Vec<u8> {
    let mut bytes = format!("HTTP/1.1 {status}\r\nconnection: close\r\n{headers}\r\n").into_bytes();
    bytes.extend_from_slice(body);
    bytes
}

async fn read_request(stream: &mut TcpStream) -> Option<Seen> {
    let mut bytes = Vec::new();
    let head = loop {
        if let Some(at) = bytes.windows(4).position(|four| four == b"\r\n\r\n") {
            break at;
        }
        if stream.read_buf(&mut bytes).await.ok()? == 0 {
            return None;
        }
    };
    let text = String::from_utf8_lossy(&bytes[..head]).into_owned();
    let mut lines = text.split("\r\n");
    let line = lines.next()?.trim_end_matches(" HTTP/1.1").to_owned();
    let headers: Vec<(String, String)> = lines
        .filter_map(|line| line.split_once(": "))
        .map(|(name, value)| (name.to_ascii_lowercase(), value.to_owned()))
        .collect();
    let length = headers.iter().find(|(name, _)| name == "content-length").map_or(0, |(_, n)| n.parse().unwrap());
    let mut body = bytes[head + 4..].to_vec();
    while body.len() < length {
        if stream.read_buf(&mut body).await.ok()? == 0 {
            return None;
        }
    }
    Some(Seen { line, headers, body })
}
