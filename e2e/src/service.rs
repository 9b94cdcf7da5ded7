//! The bare service, with sheets that a test writes.

use std::path::Path;
use std::process::{Child, Command, Stdio};
use std::time::{Duration, Instant};

use reqwest::header::ACCEPT;
use serde_json::Value;

/// `dispatcher serve` in a process of its own until this is dropped.
pub struct Service {
    child: Child,
    pub folder: tempfile::TempDir,
    pub url: String,
    /// Its first operator key.
    pub key: String,
    pub http: reqwest::Client,
}

impl Service {
    /// Starts it on a free port with these sheets: name and text.
    pub async fn start(binary: &str, sheets: &[(&str, String)]) -> Service {
        Service::start_with(binary, sheets, &[]).await
    }

    /// As [`Service::start`], with settings in its environment.
    pub async fn start_with(binary: &str, sheets: &[(&str, String)], settings: &[(&str, &str)]) -> Service {
        let folder = tempfile::tempdir().unwrap();
        let sheet_folder = folder.path().join("sheets");
        std::fs::create_dir_all(&sheet_folder).unwrap();
        for (name, text) in sheets {
            std::fs::write(sheet_folder.join(format!("{name}.toml")), text).unwrap();
        }
        let (child, url) = launch(binary, folder.path(), settings).await;
        let key = std::fs::read_to_string(folder.path().join("data/operator.key")).unwrap().trim().to_owned();
        let http = crate::http();
        Service { child, folder, url, key, http }
    }

    /// Kills it without a word, and starts it again on what it left.
    pub async fn kill_and_start(&mut self, binary: &str) {
        self.child.kill().unwrap();
        self.child.wait().unwrap();
        (self.child, self.url) = launch(binary, self.folder.path(), &[]).await;
    }

    /// Speaks with the operator's key.
    pub async fn speak(&self, body: Value, accept: &str) -> reqwest::Response {
        let request = self.http.post(format!("{}/api/v1/utterances", self.url)).bearer_auth(&self.key);
        request.header(ACCEPT, accept).json(&body).send().await.unwrap()
    }

    /// Reads with the operator's key.
    pub async fn get(&self, path: &str) -> Value {
        let response = self.http.get(format!("{}{path}", self.url)).bearer_auth(&self.key).send().await.unwrap();
        assert!(response.status().is_success(), "{path}: {}", response.status());
        response.json().await.unwrap()
    }

    /// Sends JSON with the operator's key.
    pub async fn send(&self, method: reqwest::Method, path: &str, body: Value) -> (u16, Value) {
        let request = self.http.request(method, format!("{}{path}", self.url)).bearer_auth(&self.key).json(&body);
        let response = request.send().await.unwrap();
        (response.status().as_u16(), response.json().await.unwrap_or(Value::Null))
    }
}

async fn launch(binary: &str, folder: &Path, settings: &[(&str, &str)]) -> (Child, String) {
    let log = folder.join("log");
    // A service with another name outside is told its port.
    let port = settings.iter().find(|(name, _)| *name == "DISPATCHER_PORT").map(|(_, port)| *port);
    let child = Command::new(binary)
        .args(["serve", "--port", port.unwrap_or("0"), "--data"])
        .arg(folder.join("data"))
        .arg("--sheets")
        .arg(folder.join("sheets"))
        .current_dir(folder)
        .envs(settings.iter().copied())
        .stdin(Stdio::null())
        .stdout(Stdio::null())
        .stderr(std::fs::File::create(&log).unwrap())
        .spawn()
        .unwrap();
    let told = wait_for_url(&log).await;
    let url = port.map_or(told, |port| format!("http://127.0.0.1:{port}"));
    (child, url)
}

async fn wait_for_url(log: &Path) -> String {
    let begun = Instant::now();
    loop {
        let text = std::fs::read_to_string(log).unwrap_or_default();
        let told = text.lines().find_map(|line| line.split_once("The console is at ")?.1.split_once(". To sign in"));
        if let Some((url, _)) = told {
            return url.trim_end_matches('/').to_owned();
        }
        assert!(begun.elapsed() < Duration::from_secs(60), "the service does not start: {text}");
        tokio::time::sleep(Duration::from_millis(20)).await;
    }
}

impl Drop for Service {
    fn drop(&mut self) {
        let _ = self.child.kill();
        let _ = self.child.wait();
    }
}
