//! What the tests share: the product started as a process of its own, called
//! over the network and through its client, and ears for tone speech.
#![allow(clippy::unwrap_used, reason = "a test that cannot set up its case has failed")]

mod receiver;
mod service;
mod slow_engine;

pub use receiver::{check_signature, head_field, take_mail, take_requests};
pub use service::Service;
pub use slow_engine::{gannet_sheet, slow_engine};

use std::path::{Path, PathBuf};
use std::process::{Child, Command, Output, Stdio};
use std::time::{Duration, Instant};

use dispatcher_audio::{Format, decode_all};
use dispatcher_standins::tone;
use reqwest::header::{ACCEPT, AUTHORIZATION, CONTENT_TYPE};
use serde_json::{Value, json};

/// A client of the service that never asks on a connection which the service
/// may be closing: a test that decodes for seconds does not see it close.
pub fn http() -> reqwest::Client {
    reqwest::Client::builder().no_proxy().pool_idle_timeout(Duration::from_secs(2)).build().unwrap()
}

/// A demo that runs in a process of its own until this is dropped.
pub struct Demo {
    child: Child,
    pub folder: tempfile::TempDir,
    pub url: String,
    pub operator: String,
    pub app: String,
    pub heron: String,
    told: String,
    pub sign_in: String,
    pub http: reqwest::Client,
    binary: PathBuf,
}

impl Demo {
    /// Starts `dispatcher demo` without samples, on free ports.
    pub async fn start(binary: &str) -> Demo {
        Demo::start_in(binary, tempfile::tempdir().unwrap()).await
    }

    /// Starts `dispatcher demo` as people do, with its samples.
    pub async fn start_with_samples(binary: &str) -> Demo {
        Demo::launch(binary, tempfile::tempdir().unwrap(), &[], &[]).await
    }

    /// Starts it without samples, by a clock that [`Demo::turn_clock`] turns.
    pub async fn start_with_clock(binary: &str, seconds: i64) -> Demo {
        let folder = tempfile::tempdir().unwrap();
        turn(folder.path(), seconds);
        let environment = [
            // Of Debian's faketime; the linker fills in $LIB.
            ("LD_PRELOAD", "/usr/$LIB/faketime/libfaketimeMT.so.1".to_owned()),
            ("FAKETIME_TIMESTAMP_FILE", folder.path().join("clock").display().to_string()),
            ("FAKETIME_NO_CACHE", "1".to_owned()),
            ("DONT_FAKE_MONOTONIC", "1".to_owned()),
        ];
        Demo::launch(binary, folder, &["--empty"], &environment).await
    }

    /// Sets the clock of the demo to so many seconds after that of the host.
    pub fn turn_clock(&self, seconds: i64) {
        turn(self.folder.path(), seconds);
    }

    /// The same with settings of `dispatcher.toml`.
    pub async fn start_with_settings(binary: &str, settings: &str) -> Demo {
        let folder = tempfile::tempdir().unwrap();
        std::fs::write(folder.path().join("dispatcher.toml"), settings).unwrap();
        Demo::launch(binary, folder, &[], &[]).await
    }

    pub async fn start_in(binary: &str, folder: tempfile::TempDir) -> Demo {
        Demo::launch(binary, folder, &["--empty"], &[]).await
    }

    async fn launch(binary: &str, folder: tempfile::TempDir, options: &[&str], environment: &[(&str, String)]) -> Demo {
        let data = folder.path().join("data");
        std::fs::create_dir_all(&data).unwrap();
        let log = std::fs::File::create(folder.path().join("log")).unwrap();
        let told = folder.path().join("told");
        let _ = std::fs::remove_file(data.join("demo.env"));
        let child = Command::new(binary)
            .args(["demo", "--port", "0", "--data"])
            .arg(&data)
            .args(options)
            .envs(environment.iter().map(|(name, value)| (name, value)))
            // Where it looks for its settings.
            .current_dir(folder.path())
            .env_remove("DISPATCHER_URL")
            .env_remove("DISPATCHER_KEY")
            .stdin(Stdio::null())
            .stdout(std::fs::File::create(&told).unwrap())
            .stderr(log)
            .spawn()
            .unwrap();
        let begun = Instant::now();
        let text = loop {
            let text = std::fs::read_to_string(&told).unwrap_or_default();
            if text.contains("Ctrl-C ends it.") {
                break text;
            }
            let log = || std::fs::read_to_string(folder.path().join("log")).unwrap_or_default();
            assert!(begun.elapsed() < Duration::from_secs(120), "the demo does not start: {text}{}", log());
            tokio::time::sleep(Duration::from_millis(20)).await;
        };
        let environment = std::fs::read_to_string(data.join("demo.env")).unwrap();
        let value = |name: &str| {
            let line = environment.lines().find_map(|line| line.strip_prefix(&format!("export {name}=")));
            line.unwrap_or_else(|| panic!("demo.env has no {name}")).to_owned()
        };
        let word = |mark: &str| {
            let line =
                text.lines().find(|line| line.contains(mark)).unwrap_or_else(|| panic!("nothing told of {mark}"));
            line.split_whitespace().find(|word| word.starts_with("http")).unwrap().to_owned()
        };
        Demo {
            url: value("DISPATCHER_URL"),
            operator: value("DISPATCHER_KEY"),
            app: value("DISPATCHER_APP_KEY"),
            heron: word("heron  ").trim_end_matches("/weather").to_owned(),
            told: text.clone(),
            sign_in: word("/sign-in/"),
            http: http(),
            binary: binary.into(),
            child,
            folder,
        }
    }

    /// The id of the service's process.
    pub fn process(&self) -> u32 {
        self.child.id()
    }

    /// Memory that the service has in use, in KiB.
    pub fn memory(&self) -> u64 {
        self.status("VmRSS:")
    }

    /// The most that it has had in use so far, in KiB.
    pub fn peak_memory(&self) -> u64 {
        self.status("VmHWM:")
    }

    fn status(&self, name: &str) -> u64 {
        let status = std::fs::read_to_string(format!("/proc/{}/status", self.process())).unwrap();
        let line = status.lines().find_map(|line| line.strip_prefix(name)).unwrap();
        line.trim().trim_end_matches(" kB").trim().parse().unwrap()
    }

    pub fn data(&self) -> PathBuf {
        self.folder.path().join("data")
    }

    pub fn log(&self) -> String {
        std::fs::read_to_string(self.folder.path().join("log")).unwrap_or_default()
    }

    /// A request with the app's key.
    pub fn post(&self, path: &str) -> reqwest::RequestBuilder {
        self.http.post(format!("{}{path}", self.url)).header(AUTHORIZATION, format!("Bearer {}", self.app))
    }

    /// Speaks with the app's key.
    pub async fn speak(&self, body: Value, accept: &str) -> reqwest::Response {
        self.post("/api/v1/utterances").header(ACCEPT, accept).json(&body).send().await.unwrap()
    }

    /// Recognises with the app's key; JSON.
    pub async fn hear(&self, audio: Vec<u8>, kind: &str, query: &str) -> Value {
        let (status, answer) = self.try_to_hear(audio, kind, query).await;
        assert!(status.is_success(), "{answer}");
        answer
    }

    /// As [`Demo::hear`], where it may be refused.
    pub async fn try_to_hear(&self, audio: Vec<u8>, kind: &str, query: &str) -> (reqwest::StatusCode, Value) {
        let request = self.post(&format!("/api/v1/transcripts{query}")).header(CONTENT_TYPE, kind).body(audio);
        let response = request.send().await.unwrap();
        (response.status(), response.json().await.unwrap())
    }

    /// Reads with the operator's key.
    pub async fn get(&self, path: &str) -> Value {
        let request = self.http.get(format!("{}{path}", self.url)).bearer_auth(&self.operator);
        let response = request.send().await.unwrap();
        assert!(response.status().is_success(), "{path}: {}", response.status());
        response.json().await.unwrap()
    }

    /// A dispatch, once it is no longer open.
    pub async fn settled(&self, id: &str) -> Value {
        for _ in 0..300 {
            let dispatch = self.get(&format!("/api/v1/dispatches/{id}")).await;
            if dispatch["state"] != "running" {
                return dispatch;
            }
            tokio::time::sleep(Duration::from_millis(20)).await;
        }
        panic!("the dispatch {id} stays open");
    }

    /// The weather of any stand-in; clear where it is null.
    pub async fn weather_of(&self, name: &str, forecast: Value) {
        let line = self.told.lines().find(|line| line.contains(&format!("{name} ")) && line.contains("/weather"));
        let url = line.and_then(|line| line.split_whitespace().find(|word| word.starts_with("http"))).unwrap();
        let request = if forecast.is_null() { self.http.delete(url) } else { self.http.put(url).json(&forecast) };
        assert!(request.send().await.unwrap().status().is_success());
    }

    /// Heron's weather; clear where it is null.
    pub async fn weather(&self, forecast: Value) {
        let url = format!("{}/weather", self.heron);
        let request = if forecast.is_null() { self.http.delete(url) } else { self.http.put(url).json(&forecast) };
        assert!(request.send().await.unwrap().status().is_success());
    }

    /// Closes the breaker of an engine, which many failures in a row have opened.
    pub fn reset(&self, engine: &str) {
        let done = self.client(&["engine", "reset", engine]);
        assert!(done.status.success(), "{}", String::from_utf8_lossy(&done.stderr));
    }

    /// What a stand-in has delivered.
    pub async fn delivered_by(&self, name: &str) -> Value {
        let line = self.told.lines().find(|line| line.contains(&format!("{name} ")) && line.contains("/weather"));
        let url = line.and_then(|line| line.split_whitespace().find(|word| word.starts_with("http"))).unwrap();
        self.http.get(url.replace("/weather", "/delivered")).send().await.unwrap().json().await.unwrap()
    }

    /// What heron has delivered.
    pub async fn delivered(&self) -> Value {
        self.http.get(format!("{}/delivered", self.heron)).send().await.unwrap().json().await.unwrap()
    }

    /// A route, made by the operator.
    pub async fn put_route(&self, name: &str, legs: Value) {
        let body = json!({"work": "synthesis", "legs": legs});
        let request =
            self.http.put(format!("{}/api/v1/routes/{name}", self.url)).bearer_auth(&self.operator).json(&body);
        let response = request.send().await.unwrap();
        assert!(response.status().is_success(), "{}", response.text().await.unwrap());
    }

    /// Runs the client with the operator's key.
    pub fn client(&self, arguments: &[&str]) -> Output {
        self.client_command(arguments).output().unwrap()
    }

    /// The client, to be given more than arguments.
    pub fn client_command(&self, arguments: &[&str]) -> Command {
        let mut command = Command::new(&self.binary);
        command
            .args(arguments)
            .current_dir(self.folder.path())
            .env("DISPATCHER_URL", &self.url)
            .env("DISPATCHER_KEY", &self.operator)
            .stdin(Stdio::null());
        command
    }

    /// Asks the service to end, as an operating system does, and waits.
    pub async fn terminate(mut self) -> (std::process::ExitStatus, tempfile::TempDir) {
        let id = self.child.id().to_string();
        assert!(Command::new("kill").args(["-TERM", &id]).status().unwrap().success());
        for _ in 0..1_500 {
            if let Some(status) = self.child.try_wait().unwrap() {
                let folder = std::mem::replace(&mut self.folder, tempfile::tempdir().unwrap());
                return (status, folder);
            }
            tokio::time::sleep(Duration::from_millis(20)).await;
        }
        panic!("the service does not end");
    }

    /// Kills the service without a word, and gives its data.
    pub fn kill(mut self) -> tempfile::TempDir {
        self.child.kill().unwrap();
        self.child.wait().unwrap();
        std::mem::replace(&mut self.folder, tempfile::tempdir().unwrap())
    }
}

impl Drop for Demo {
    fn drop(&mut self) {
        let _ = self.child.kill();
        let _ = self.child.wait();
    }
}

/// The text of a header.
fn turn(folder: &Path, seconds: i64) {
    // Replaced at once: half a number would be another time.
    let written = folder.join("clock.new");
    std::fs::write(&written, format!("{seconds:+}")).unwrap();
    std::fs::rename(written, folder.join("clock")).unwrap();
}

pub fn header(response: &reqwest::Response, name: &str) -> String {
    response.headers().get(name).and_then(|value| value.to_str().ok()).unwrap_or_default().to_owned()
}

/// What a recording of tone speech says.
pub fn words_of(audio: &[u8], format: Format) -> String {
    let (samples, layout) = decode_all(audio, format).unwrap();
    let heard = tone::hear(&samples, layout.rate);
    heard.iter().map(|heard| heard.text.as_str()).collect::<Vec<_>>().join(" ")
}

/// Every file below a folder.
pub fn files_below(folder: &Path) -> Vec<PathBuf> {
    let mut found = Vec::new();
    for entry in std::fs::read_dir(folder).into_iter().flatten().flatten() {
        let path = entry.path();
        if path.is_dir() { found.extend(files_below(&path)) } else { found.push(path) }
    }
    found
}
