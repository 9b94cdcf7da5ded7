//! What the measurements share: the release binary, started and watched.
#![allow(clippy::unwrap_used, reason = "a measurement that cannot be set up is no measurement")]

pub mod catalogue;
pub mod spectrum;

use std::path::{Path, PathBuf};
use std::process::{Child, Command, Stdio};
use std::time::{Duration, Instant};

use serde_json::json;

/// What the stand-in wants to be shown.
pub const TOKEN: &str = "bench-token";

/// The release binary, running.
pub struct Service {
    child: Child,
    pub url: String,
    /// From its start to its first answer.
    pub started: Duration,
}

impl Service {
    /// # Panics
    /// Where it does not start.
    pub async fn start(binary: &Path, folder: &Path, heron: &str, http: &reqwest::Client) -> Service {
        let port = free_port();
        let sheets = Path::new(env!("CARGO_MANIFEST_DIR")).join("../demo/sheets");
        let url = format!("http://127.0.0.1:{port}");
        let begun = Instant::now();
        let child = Command::new(binary)
            .args(["serve", "--log-level", "error", "--port", &port.to_string(), "--data"])
            .arg(folder)
            .arg("--sheets")
            .arg(sheets)
            .env("DISPATCHER_ENGINES__HERON__ENDPOINT", heron)
            .current_dir(folder.parent().unwrap())
            .stdin(Stdio::null())
            .stdout(Stdio::null())
            .stderr(Stdio::null())
            .spawn()
            .unwrap();
        loop {
            let answer = http.get(format!("{url}/health")).send().await;
            if answer.is_ok_and(|answer| answer.status().is_success()) {
                break;
            }
            assert!(begun.elapsed() < Duration::from_secs(20), "the service does not start");
            tokio::time::sleep(Duration::from_millis(1)).await;
        }
        Service { child, url, started: begun.elapsed() }
    }

    /// Its process.
    pub fn id(&self) -> u32 {
        self.child.id()
    }

    /// Resident memory in KiB.
    pub fn memory(&self) -> u64 {
        self.status("VmRSS:")
    }

    /// The most resident memory so far, in KiB.
    pub fn peak_memory(&self) -> u64 {
        self.status("VmHWM:")
    }

    /// Threads.
    pub fn threads(&self) -> u64 {
        self.status("Threads:")
    }

    fn status(&self, name: &str) -> u64 {
        let status = std::fs::read_to_string(format!("/proc/{}/status", self.child.id())).unwrap();
        let line = status.lines().find(|line| line.starts_with(name)).unwrap();
        line.split_whitespace().nth(1).unwrap().parse().unwrap()
    }
}

impl Drop for Service {
    fn drop(&mut self) {
        let _ = self.child.kill();
        let _ = self.child.wait();
    }
}

/// A port of loopback that nobody listens at.
///
/// # Panics
/// Where there is none.
pub fn free_port() -> u16 {
    std::net::TcpListener::bind("127.0.0.1:0").unwrap().local_addr().unwrap().port()
}

/// Seconds of processor time of a process so far (its number, or `self`), and
/// of the children that it has waited for; in hundredths.
///
/// # Panics
/// Where there is no such process.
pub fn processor_seconds(process: impl std::fmt::Display) -> (f64, f64) {
    let stat = std::fs::read_to_string(format!("/proc/{process}/stat")).unwrap();
    let fields: Vec<&str> = stat.rsplit_once(')').unwrap().1.split_whitespace().collect();
    let ticks = |at: usize| fields[at].parse::<f64>().unwrap() / 100.0;
    (ticks(11) + ticks(12), ticks(13) + ticks(14))
}

/// A quantile of some measurements: 0.5 is the middle one.
pub fn quantile(values: &mut [f64], share: f64) -> f64 {
    values.sort_by(f64::total_cmp);
    values[((values.len() - 1) as f64 * share).round() as usize]
}

/// # Panics
/// Where it was not built.
pub fn binary() -> PathBuf {
    let target = std::env::current_exe().unwrap();
    let binary = target.with_file_name("dispatcher");
    assert!(binary.exists(), "{} is not there; run: make bench", binary.display());
    binary
}

/// # Panics
/// Where the service has not written it.
pub async fn operator_key(folder: &Path) -> String {
    std::fs::read_to_string(folder.join("operator.key")).unwrap().trim().to_owned()
}

/// Gives the service its credential for heron.
///
/// # Panics
/// Where it is refused.
pub async fn add_heron(service: &Service, key: &str, http: &reqwest::Client) {
    let body = json!({"engine": "heron", "parts": {"token": TOKEN}});
    let url = format!("{}/api/v1/credentials", service.url);
    let added = http.post(url).bearer_auth(key).json(&body).send().await.unwrap();
    assert!(added.status().is_success());
}
