//! Measures what a request costs: how many a second the gateway answers, with
//! records, tags and ledger on, against a proxy of the same libraries that does
//! nothing else (`bare_proxy`), nginx as a proxy, and the server behind them
//! all, in turns and in one run. That server is nginx too, which answers each
//! call with an MP3 file. Prints a table, and JSON as the last line.
#![allow(clippy::unwrap_used, reason = "a measurement that cannot be set up is no measurement")]
#![allow(clippy::print_stdout, reason = "the table is what this program is for")]

use std::path::{Path, PathBuf};
use std::process::{Child, Command, Stdio};
use std::time::Duration;

use dispatcher_audio::{Codec, Format, encode_all};
use dispatcher_benches::{Service, binary, free_port, operator_key, processor_seconds, quantile};
use serde_json::{Value, json};

/// Each is measured so often, in turns; the middle one counts.
const ROUNDS: usize = 5;
/// Seconds of a measurement.
const SECONDS: u32 = 4;
const CONNECTIONS: u32 = 16;
const RATE: u32 = 24_000;

/// A process that ends with this one's measurement.
struct Running(Child);

impl Running {
    fn start(command: &mut Command) -> Running {
        Running(command.stdin(Stdio::null()).stdout(Stdio::null()).spawn().unwrap())
    }
}

impl Drop for Running {
    fn drop(&mut self) {
        let _ = self.0.kill();
        let _ = self.0.wait();
    }
}

/// MP3 files of about these sizes: constant tones of so many seconds.
const FILES: [(&str, f64); 2] = [("8k", 1.35), ("100k", 17.0)];

fn write_files(folder: &Path) {
    let format = Format { bitrate: Some(48_000), ..Format::new(Codec::Mp3, RATE) };
    for (name, seconds) in FILES {
        let samples = (0..(seconds * f64::from(RATE)) as usize).map(|n| (n as f32 * 0.05).sin() * 0.3);
        let audio = encode_all(&samples.collect::<Vec<_>>(), format).unwrap();
        std::fs::write(folder.join(format!("{name}.mp3")), audio).unwrap();
    }
}

/// nginx in one process: a server of the files, and a proxy before it.
fn start_nginx(folder: &Path, origin: u16, proxy: u16) -> Running {
    let settings = format!(
        "daemon off; master_process off; error_log {0}/error.log; pid {0}/nginx.pid;\n\
         events {{ worker_connections 1024; }}\n\
         http {{\n\
           access_log off; client_body_temp_path {0}/body; proxy_temp_path {0}/proxy; fastcgi_temp_path {0}/fastcgi;\n\
           uwsgi_temp_path {0}/uwsgi; scgi_temp_path {0}/scgi; keepalive_requests 100000000;\n\
           types {{ audio/mpeg mp3; }}\n\
           upstream origin {{ server 127.0.0.1:{origin}; keepalive 64; keepalive_requests 100000000; }}\n\
           server {{ listen 127.0.0.1:{origin}; root {0}; error_page 405 =200 $uri; }}\n\
           server {{ listen 127.0.0.1:{proxy};\n\
             location / {{ proxy_pass http://origin; proxy_http_version 1.1; proxy_set_header Connection \"\"; }} }}\n\
         }}\n",
        folder.display()
    );
    let file = folder.join("nginx.conf");
    std::fs::write(&file, settings).unwrap();
    Running::start(Command::new("nginx").arg("-c").arg(file).arg("-e").arg(folder.join("error.log")))
}

/// What is asked, and by whom it is answered.
struct Target {
    name: &'static str,
    url: String,
    script: PathBuf,
}

impl Target {
    fn new(folder: &Path, name: &'static str, url: String, headers: &[(&str, &str)], body: &str) -> Target {
        let script = folder.join(format!("{name}.lua"));
        let headers: String =
            headers.iter().map(|(name, value)| format!("wrk.headers[{name:?}] = {value:?}\n")).collect();
        std::fs::write(&script, format!("wrk.method = \"POST\"\n{headers}wrk.body = [[{body}]]\n")).unwrap();
        Target { name, url, script }
    }

    /// Requests a second.
    fn measure(&self, seconds: u32) -> f64 {
        let wrk = Command::new("wrk")
            .args(["--threads", "1", "--connections", &CONNECTIONS.to_string(), "--duration", &format!("{seconds}s")])
            .arg("--script")
            .arg(&self.script)
            .arg(&self.url)
            .output()
            .unwrap();
        let told = String::from_utf8_lossy(&wrk.stdout).into_owned();
        assert!(wrk.status.success() && !told.contains("Non-2xx") && !told.contains("Socket errors"), "{told}");
        let line = told.lines().find(|line| line.starts_with("Requests/sec:")).unwrap();
        line.split_whitespace().nth(1).unwrap().parse().unwrap()
    }
}

fn sheet(origin: u16, file: &str) -> String {
    format!(
        "sheet = 1\nname = \"of-{file}\"\nsite = \"cloud\"\nnetwork = \"private\"\nendpoint = \"http://127.0.0.1:{origin}\"\n\
         [synthesis]\ncall = \"POST /{file}.mp3\"\njson = '{{ \"say\": {{{{ text|json }}}} }}'\nanswer = \"audio\"\n\
         [synthesis.formats]\nmp3 = {{ type = \"audio/mpeg\", sample_rates = [{RATE}], bitrate = 48000 }}\n\
         [[synthesis.voices]]\nid = \"ferry\"\nname = \"Ferry\"\nlanguages = [\"en-GB\"]\n\
         [tariff]\nper = \"character\"\nprice = \"0.00001\"\n"
    )
}

async fn add_sheet(service: &Service, key: &str, sheet: String) {
    let http = reqwest::Client::builder().no_proxy().build().unwrap();
    let put = http.post(format!("{}/api/v1/engines", service.url)).bearer_auth(key);
    let put = put.header("content-type", "application/toml").body(sheet).send().await.unwrap();
    assert!(put.status().is_success(), "{}", put.text().await.unwrap());
}

/// A key of an app whose audio is kept.
async fn app_that_recalls(service: &Service, key: &str) -> String {
    let http = reqwest::Client::builder().no_proxy().build().unwrap();
    let post = async |path: &str, body: Value| {
        let request = http.post(format!("{}{path}", service.url)).bearer_auth(key).json(&body);
        let response = request.send().await.unwrap();
        assert!(response.status().is_success(), "{path}: {}", response.status());
        response.json::<Value>().await.unwrap()
    };
    post("/api/v1/apps", json!({"name": "bench", "recall": "private"})).await;
    post("/api/v1/apps/bench/keys", json!({})).await["key"].as_str().unwrap().to_owned()
}

#[tokio::main]
async fn main() {
    let folder = tempfile::tempdir().unwrap();
    write_files(folder.path());
    let (origin, proxy) = (free_port(), free_port());
    let _nginx = start_nginx(folder.path(), origin, proxy);
    let http = reqwest::Client::builder().no_proxy().build().unwrap();
    let data = folder.path().join("data");
    let service = Service::start(&binary(), &data, "http://127.0.0.1:1", &http).await;
    let key = operator_key(&data).await;
    let bearer = format!("Bearer {key}");
    let recalling = format!("Bearer {}", app_that_recalls(&service, &key).await);
    let mut report = serde_json::Map::new();
    println!("requests a second, {CONNECTIONS} connections; middle of {ROUNDS} rounds of {SECONDS} s");
    for (file, _) in FILES {
        add_sheet(&service, &key, sheet(origin, file)).await;
        let port = free_port();
        let behind = format!("http://127.0.0.1:{origin}/{file}.mp3");
        let bare = binary().with_file_name("bare_proxy");
        let kept = folder.path().join(format!("{file}.mp3"));
        let _bare = Running::start(Command::new(bare).arg(port.to_string()).arg(&behind).arg(kept));
        tokio::time::sleep(Duration::from_millis(500)).await;
        let said = json!({"say": "The 06:15 to Gullsay is delayed."}).to_string();
        let voice = format!("of-{file}/ferry");
        let audio = json!({"type": "audio/mpeg", "sample_rate": RATE, "bitrate": 48_000});
        let asked = json!({"text": "The 06:15 to Gullsay is delayed.", "voice": voice, "audio": audio}).to_string();
        let json_body = ("content-type", "application/json");
        let at = folder.path();
        let targets = [
            Target::new(at, "direct", behind.clone(), &[json_body], &said),
            Target::new(at, "nginx", format!("http://127.0.0.1:{proxy}/{file}.mp3"), &[json_body], &said),
            Target::new(at, "bare", format!("http://127.0.0.1:{port}/"), &[json_body], &said),
            Target::new(
                at,
                "gateway",
                format!("{}/api/v1/utterances", service.url),
                &[json_body, ("authorization", &bearer)],
                &asked,
            ),
            Target::new(at, "file", format!("http://127.0.0.1:{port}/kept"), &[json_body], &said),
            Target::new(
                at,
                "recalled",
                format!("{}/api/v1/utterances", service.url),
                &[json_body, ("authorization", &recalling)],
                &asked,
            ),
        ];
        for target in &targets {
            target.measure(1);
        }
        let mut rates = vec![Vec::new(); targets.len()];
        let (mut answered, mut worked) = (0.0, 0.0);
        for _ in 0..ROUNDS {
            for (target, rates) in targets.iter().zip(&mut rates) {
                let before = processor_seconds(service.id()).0;
                let rate = target.measure(SECONDS);
                if target.name == "gateway" {
                    answered += rate * f64::from(SECONDS);
                    worked += processor_seconds(service.id()).0 - before;
                }
                rates.push(rate);
            }
        }
        let mut per_file: Vec<f64> = rates[5].iter().zip(&rates[4]).map(|(recalled, file)| recalled / file).collect();
        let of_file = quantile(&mut per_file, 0.5);
        let mut per_bare: Vec<f64> = rates[3].iter().zip(&rates[2]).map(|(gateway, bare)| gateway / bare).collect();
        let rates: Vec<f64> = rates.iter_mut().map(|rates| quantile(rates, 0.5)).collect();
        let [direct, nginx, bare, gateway, static_file, recalled] = rates[..] else { unreachable!("six targets") };
        let of_bare = quantile(&mut per_bare, 0.5);
        println!(
            "{file:>5}: direct {direct:7.0}, nginx {nginx:7.0}, bare proxy {bare:7.0}, gateway {gateway:7.0}: \
             {of_bare:.3} of the bare proxy, {:.3} of nginx; {:.3} ms of processor a request",
            gateway / nginx,
            worked * 1_000.0 / answered
        );
        println!("       kept audio {recalled:7.0}: {of_file:.3} of a file by the same framework ({static_file:.0})");
        let figures: Value = json!({
            "direct": direct, "nginx": nginx, "bare": bare, "gateway": gateway, "of_bare": of_bare,
            "of_nginx": gateway / nginx, "processor_ms": worked * 1_000.0 / answered,
            "recalled": recalled, "file": static_file, "of_file": of_file,
        });
        report.insert(file.into(), figures);
    }
    println!("{}", Value::Object(report));
}
