//! Documents that would take all there is, against the running service.

use std::io::Write as _;
use std::net::TcpStream;
use std::time::{Duration, Instant};

use dispatcher_e2e::Demo;
use reqwest::header::CONTENT_TYPE;
use serde_json::Value;

use crate::BINARY;
use crate::attacked::{MOST, head};

/// A page whose drawing unpacks to so many bytes of operators.
fn bomb(bytes: usize) -> Vec<u8> {
    let operators = b"q 1 0 0 1 0 0 cm Q\n".repeat(bytes / 19);
    let mut packer = flate2::write::ZlibEncoder::new(Vec::new(), flate2::Compression::best());
    packer.write_all(&operators).unwrap();
    let drawing = packer.finish().unwrap();
    let mut file = b"%PDF-1.4\n".to_vec();
    let mut places = Vec::new();
    let objects: [Vec<u8>; 4] = [
        b"<</Type/Catalog/Pages 2 0 R>>".to_vec(),
        b"<</Type/Pages/Kids[3 0 R]/Count 1>>".to_vec(),
        b"<</Type/Page/Parent 2 0 R/MediaBox[0 0 612 792]/Contents 4 0 R>>".to_vec(),
        [format!("<</Length {}/Filter/FlateDecode>>stream\n", drawing.len()).as_bytes(), &drawing, b"\nendstream"]
            .concat(),
    ];
    for (number, object) in objects.iter().enumerate() {
        places.push(file.len());
        file.extend(format!("{} 0 obj\n", number + 1).bytes());
        file.extend(object);
        file.extend(b"\nendobj\n");
    }
    let table = file.len();
    file.extend(b"xref\n0 5\n0000000000 65535 f \n");
    for place in places {
        file.extend(format!("{place:010} 00000 n \n").bytes());
    }
    file.extend(format!("trailer<</Size 5/Root 1 0 R>>\nstartxref\n{table}\n%%EOF\n").bytes());
    file
}

/// Readers of documents that the service has started and that run.
fn readers(demo: &Demo) -> usize {
    // Whichever thread started one is its parent.
    let threads = std::fs::read_dir(format!("/proc/{}/task", demo.process())).unwrap().flatten();
    let children = threads.map(|thread| std::fs::read_to_string(thread.path().join("children")).unwrap_or_default());
    let children = children.collect::<Vec<_>>().join(" ");
    let is_reader = |id: &&str| {
        let command = std::fs::read(format!("/proc/{id}/cmdline")).unwrap_or_default();
        String::from_utf8_lossy(&command).contains("read-document")
    };
    children.split_whitespace().filter(is_reader).count()
}

#[tokio::test]
async fn documents_that_unpack_without_end_harm_nobody() {
    let demo = Demo::start(BINARY).await;
    let before = demo.memory();
    let send = async |kind: &str, body: Vec<u8>| {
        let request = demo.post("/api/v1/jobs?voice=heron/pellin").header(CONTENT_TYPE, kind).body(body);
        let response = request.send().await.unwrap();
        (response.status().as_u16(), response.json::<Value>().await.unwrap())
    };
    let begun = Instant::now();
    let (status, problem) = send("application/pdf", bomb(200 << 20)).await;
    assert_eq!(status, 413, "{problem}");
    let (status, problem) = send("text/html", "<div>".repeat(300_000).into_bytes()).await;
    assert_eq!(status, 415, "{problem}");
    // Small enough to be drawn, and too much for a reader.
    let (status, problem) = send("application/pdf", bomb(3_000_000)).await;
    assert!(matches!(status, 413 | 415), "{status} {problem}");
    // Its reader has 20 s of the processor for each at the most, which other tests want too.
    assert!(begun.elapsed() < Duration::from_secs(400), "{:?}", begun.elapsed());
    let grown = demo.peak_memory() - before;
    assert!(grown < MOST, "{grown} KiB");
    let (status, job) = send("text/html", b"<h1>Rounds</h1><p>All aboard.</p>".to_vec()).await;
    assert_eq!(status, 202, "the next one is read: {job}");
}

#[tokio::test]
async fn a_reader_ends_with_its_caller() {
    let demo = Demo::start(BINARY).await;
    // Formatting that is opened anew in each of many paragraphs takes long.
    let slow = format!("{}{}", "<b><i><u>".repeat(900), "<p>x".repeat(400_000));
    let rest = format!("Content-Type: text/html\r\nContent-Length: {}\r\n", slow.len());
    let mut stream = TcpStream::connect(demo.url.trim_start_matches("http://")).unwrap();
    stream.write_all(head("POST", "/api/v1/jobs?voice=heron/pellin", &demo.app, &rest).as_bytes()).unwrap();
    stream.write_all(slow.as_bytes()).unwrap();
    let begun = Instant::now();
    while readers(&demo) == 0 && begun.elapsed() < Duration::from_secs(10) {
        tokio::time::sleep(Duration::from_millis(5)).await;
    }
    assert_eq!(readers(&demo), 1, "it is read in a process of its own");
    drop(stream);
    let left = Instant::now();
    while readers(&demo) > 0 {
        assert!(left.elapsed() < Duration::from_secs(1), "it goes on after its caller has left");
        tokio::time::sleep(Duration::from_millis(10)).await;
    }
}
