//! Others who are told something: a receiver of webhooks, and a mail server.

use base64::Engine as _;
use base64::engine::general_purpose::{STANDARD, URL_SAFE_NO_PAD};
use serde_json::Value;
use tokio::io::{AsyncBufReadExt as _, AsyncReadExt as _, AsyncWriteExt as _, BufReader};
use tokio::net::TcpListener;
use tokio::sync::mpsc;

/// A header field of a request's head.
pub fn head_field(head: &str, name: &str) -> String {
    let named = head.lines().filter_map(|line| line.split_once(':')).find(|(key, _)| key.eq_ignore_ascii_case(name));
    named.unwrap_or_else(|| panic!("no {name} in {head}")).1.trim().to_owned()
}

/// Takes requests as they come; answers each with the next status, and gives
/// its head and body. The first of what it gives is its host and port.
pub async fn take_requests(statuses: &[u16]) -> (String, mpsc::Receiver<(String, Vec<u8>)>) {
    let listener = TcpListener::bind("127.0.0.1:0").await.unwrap();
    let host = listener.local_addr().unwrap().to_string();
    let (rung, heard) = mpsc::channel(8);
    let statuses = statuses.to_vec();
    tokio::spawn(async move {
        for status in statuses {
            let (mut socket, _) = listener.accept().await.unwrap();
            let mut bytes = Vec::new();
            let (head, length) = loop {
                let mut chunk = [0; 4_096];
                let count = socket.read(&mut chunk).await.unwrap();
                bytes.extend_from_slice(&chunk[..count]);
                if let Some(end) = bytes.windows(4).position(|four| four == b"\r\n\r\n") {
                    let head = String::from_utf8(bytes.drain(..end + 4).collect()).unwrap();
                    let length = head_field(&head, "content-length").parse::<usize>().unwrap();
                    break (head, length);
                }
            };
            while bytes.len() < length {
                let mut chunk = [0; 4_096];
                let count = socket.read(&mut chunk).await.unwrap();
                bytes.extend_from_slice(&chunk[..count]);
            }
            let answer = format!("HTTP/1.1 {status} x\r\ncontent-length: 0\r\nconnection: close\r\n\r\n");
            socket.write_all(answer.as_bytes()).await.unwrap();
            // Who listens may have heard enough.
            let _ = rung.send((head, bytes)).await;
        }
    });
    (host, heard)
}

/// Checks that a request was signed by the gateway with its webhook key: the
/// base of the signature (RFC 9421, section 2.5) is rebuilt by who is told.
pub fn check_signature(key: &Value, head: &str, body: &[u8], address: &str) {
    let digest = STANDARD.encode(aws_lc_rs::digest::digest(&aws_lc_rs::digest::SHA256, body));
    assert_eq!(head_field(head, "content-digest"), format!("sha-256=:{digest}:"));
    let kid = key["kid"].as_str().unwrap();
    let created = head_field(head, "signature-input").split("created=").nth(1).unwrap()[..10].to_owned();
    let parameters = format!(
        "(\"@method\" \"@target-uri\" \"content-type\" \"content-digest\");created={created};keyid=\"{kid}\";alg=\"ed25519\""
    );
    assert_eq!(head_field(head, "signature-input"), format!("dispatcher={parameters}"));
    let base = format!(
        "\"@method\": POST\n\"@target-uri\": {address}\n\"content-type\": application/json\n\
         \"content-digest\": sha-256=:{digest}:\n\"@signature-params\": {parameters}"
    );
    let public = URL_SAFE_NO_PAD.decode(key["x"].as_str().unwrap()).unwrap();
    let signature = head_field(head, "signature");
    let signature = signature.strip_prefix("dispatcher=:").and_then(|rest| rest.strip_suffix(':')).unwrap();
    let signature = STANDARD.decode(signature).unwrap();
    let public = aws_lc_rs::signature::UnparsedPublicKey::new(&aws_lc_rs::signature::ED25519, public);
    public.verify(base.as_bytes(), &signature).expect("signed by the gateway");
    assert!(public.verify(base.replace("POST", "PUT").as_bytes(), &signature).is_err());
}

/// A mail server without TLS (RFC 5321) that takes every message; gives its
/// port, and each message with who sends it to whom.
pub async fn take_mail() -> (u16, mpsc::Receiver<String>) {
    let listener = TcpListener::bind("127.0.0.1:0").await.unwrap();
    let port = listener.local_addr().unwrap().port();
    let (taken, mail) = mpsc::channel(8);
    tokio::spawn(async move {
        while let Ok((socket, _)) = listener.accept().await {
            let taken = taken.clone();
            tokio::spawn(async move {
                let mut socket = BufReader::new(socket);
                socket.write_all(b"220 mail.saltmarsh.example\r\n").await.unwrap();
                let (mut line, mut message, mut body) = (String::new(), String::new(), false);
                while socket.read_line(&mut line).await.is_ok_and(|read| read > 0) {
                    let said = std::mem::take(&mut line);
                    let answer = match (body, said.trim_end()) {
                        (true, ".") => {
                            body = false;
                            let _ = taken.send(std::mem::take(&mut message)).await;
                            "250 taken\r\n"
                        }
                        (true, text) => {
                            message.push_str(text);
                            message.push('\n');
                            continue;
                        }
                        (false, "DATA") => {
                            body = true;
                            "354 go on\r\n"
                        }
                        (false, "QUIT") => "221 bye\r\n",
                        (false, text) => {
                            if text.starts_with("MAIL") || text.starts_with("RCPT") {
                                message.push_str(text);
                                message.push('\n');
                            }
                            "250 mail.saltmarsh.example\r\n"
                        }
                    };
                    if socket.write_all(answer.as_bytes()).await.is_err() {
                        return;
                    }
                }
            });
        }
    });
    (port, mail)
}
