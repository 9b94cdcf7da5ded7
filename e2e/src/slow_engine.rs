//! An engine that takes its time, and its sheet.

use std::time::Duration;

use tokio::io::{AsyncReadExt as _, AsyncWriteExt as _};

/// An engine whose calls each take as long as the pause, as many at once as
/// come; its URL.
pub async fn slow_engine(pause: Duration) -> String {
    let listener = tokio::net::TcpListener::bind("127.0.0.1:0").await.unwrap();
    let url = format!("http://{}", listener.local_addr().unwrap());
    tokio::spawn(async move {
        while let Ok((mut stream, _)) = listener.accept().await {
            tokio::spawn(async move {
                let _ = stream.read(&mut [0; 4_096]).await;
                tokio::time::sleep(pause).await;
                let head =
                    "HTTP/1.1 200 OK\r\ncontent-type: audio/pcm\r\ncontent-length: 3200\r\nconnection: close\r\n\r\n";
                let _ = stream.write_all(head.as_bytes()).await;
                let _ = stream.write_all(&[9; 3_200]).await;
            });
        }
    });
    url
}

/// The sheet of an engine `gannet` at a URL, with the voice `ada`; it says how
/// many calls may be at once.
pub fn gannet_sheet(url: &str, at_once: u32) -> String {
    format!(
        "sheet = 1\nname = \"gannet\"\nsite = \"cloud\"\nnetwork = \"private\"\nendpoint = \"{url}\"\n\
         [pace]\nat_once = {at_once}\n[access]\nscheme = \"none\"\n\
         [synthesis]\ncall = \"POST /say\"\ntext = \"{{{{ text }}}}\"\nanswer = \"audio\"\n\
         [synthesis.formats]\npcm = {{ type = \"audio/pcm\", sample_rates = [16000] }}\n\
         [[synthesis.voices]]\nid = \"ada\"\nname = \"Ada\"\nlanguages = [\"en\"]\n"
    )
}
