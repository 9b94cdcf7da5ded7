//! Headless Chromium from Debian's packages, driven by chromedriver.

use std::path::Path;
use std::process::{Child, Command, Stdio};
use std::time::{Duration, Instant};

use dispatcher_e2e::Demo;
use serde_json::{Value, json};
use thirtyfour::prelude::*;

/// Beside a browser that records there is no other: several on few cores drop
/// blocks of the microphone.
static MICROPHONE: tokio::sync::RwLock<()> = tokio::sync::RwLock::const_new(());

/// A browser with a fresh profile, and its driver.
pub struct Browser {
    _turn: Box<dyn Send + Sync>,
    pub driver: WebDriver,
    service: Child,
    _profile: tempfile::TempDir,
}

impl Browser {
    pub async fn start(microphone: Option<&Path>) -> Browser {
        let turn: Box<dyn Send + Sync> = match microphone {
            Some(_) => Box::new(MICROPHONE.write().await),
            None => Box::new(MICROPHONE.read().await),
        };
        let port = std::net::TcpListener::bind("127.0.0.1:0").unwrap().local_addr().unwrap().port();
        let service = Command::new("chromedriver")
            .arg(format!("--port={port}"))
            .stdout(Stdio::null())
            .stderr(Stdio::null())
            .spawn()
            .expect("chromedriver, from the package chromium-driver");
        let profile = tempfile::tempdir().unwrap();
        let mut wishes = DesiredCapabilities::chrome();
        for argument in [
            "--headless",
            "--no-sandbox",
            "--disable-gpu",
            "--no-first-run",
            "--disable-background-networking",
            "--disable-component-update",
            "--disable-sync",
            "--window-size=1280,800",
            "--autoplay-policy=no-user-gesture-required",
            "--use-fake-ui-for-media-stream",
            "--use-fake-device-for-media-stream",
        ] {
            wishes.add_arg(argument).unwrap();
        }
        wishes.add_arg(&format!("--user-data-dir={}", profile.path().display())).unwrap();
        if let Some(file) = microphone {
            wishes.add_arg(&format!("--use-file-for-fake-audio-capture={}%noloop", file.display())).unwrap();
        }
        let url = format!("http://127.0.0.1:{port}");
        let begun = Instant::now();
        let driver = loop {
            match WebDriver::new(&url, wishes.clone()).await {
                Ok(driver) => break driver,
                Err(error) if begun.elapsed() > Duration::from_secs(60) => panic!("no browser: {error}"),
                Err(_) => tokio::time::sleep(Duration::from_millis(200)).await,
            }
        };
        Browser { _turn: turn, driver, service, _profile: profile }
    }

    pub async fn find(&self, name: &str) -> WebElement {
        let selector = format!("[data-test={name}]");
        let begun = Instant::now();
        loop {
            if let Ok(element) = self.driver.find(By::Css(selector.as_str())).await
                && (element.is_displayed().await.unwrap_or(false) || name == "audio" || name == "file")
            {
                return element;
            }
            if begun.elapsed() > Duration::from_secs(30) {
                let page = self.driver.find(By::Tag("body")).await.unwrap().text().await.unwrap_or_default();
                panic!("{name} does not appear on:\n{page}");
            }
            tokio::time::sleep(Duration::from_millis(50)).await;
        }
    }

    pub async fn run(&self, script: &str) -> Value {
        self.driver.execute(script, Vec::new()).await.unwrap().json().clone()
    }

    /// Runs a script that calls its last argument with what it gives.
    pub async fn run_async(&self, script: &str) -> Value {
        self.driver.execute_async(script, Vec::new()).await.unwrap().json().clone()
    }

    /// Waits until a script is true.
    pub async fn until(&self, what: &str, script: &str) {
        let begun = Instant::now();
        while self.run(script).await != json!(true) {
            let page = self.run("return document.body.innerText").await;
            assert!(begun.elapsed() < Duration::from_secs(40), "{what} does not happen; the page says: {page}");
            tokio::time::sleep(Duration::from_millis(50)).await;
        }
    }

    /// Sets the width of the page: a headless window has a least width of its own.
    pub async fn width(&self, pixels: u32) {
        self.size(pixels, 800).await;
    }

    pub async fn size(&self, width: u32, height: u32) {
        let metrics = json!({"width": width, "height": height, "deviceScaleFactor": 1, "mobile": false});
        self.driver.cdp().send_raw("Emulation.setDeviceMetricsOverride", metrics).await.unwrap();
    }

    pub async fn go(&self, url: &str) {
        self.driver.goto(url).await.unwrap();
    }

    pub async fn sign_in(&self, demo: &Demo) {
        self.go(&demo.url).await;
        self.find("key").await.find(By::Tag("input")).await.unwrap().send_keys(&demo.operator).await.unwrap();
        self.find("enter").await.click().await.unwrap();
        self.find("speak").await;
    }
}

impl Browser {
    pub async fn quit(self) {
        drop(self.driver.clone().quit().await);
    }
}

impl Drop for Browser {
    fn drop(&mut self) {
        let _ = self.service.kill();
        let _ = self.service.wait();
    }
}
