//! The whole example, once: every line it prints is read back from the API.

use std::path::PathBuf;

use reqwest::Method;
use reqwest::header::ACCEPT;
use serde_json::{Value, json};

use super::scenario::{DRILL, announcements};
use crate::client::Client;
use crate::commands::{dispatches, usage};
use crate::error::CliError;
use crate::output::{self, OutputForm};

pub(super) struct Example {
    /// Speaks for quay-announcer.
    pub(super) app: Client,
    pub(super) operator: Client,
    /// Where heron's weather is made.
    pub(super) heron: String,
    pub(super) out: PathBuf,
}

/// What one line of the example says, and the dispatch it was read from.
struct ExampleLine {
    file: String,
    dispatch: Value,
}

impl Example {
    pub(super) async fn run(&self, form: OutputForm) -> Result<(), CliError> {
        let mut lines = Vec::new();
        self.title(form, "Announcements, by the route quayside")?;
        for announcement in announcements()? {
            let body = json!({"text": announcement.text, "language": announcement.language, "audio": {"type": "mp3"}});
            let line = self.speak(&format!("{}.mp3", announcement.name), body).await?;
            self.must(&line, "heron", &announcement.name)?;
            lines.push(self.show(form, line)?);
        }
        self.title(form, "Engines on this host")?;
        for (engine, voice, format) in [("espeak-ng", "espeak-ng/en-gb", "opus"), ("flite", "flite/slt", "wav")] {
            let body = json!({"text": DRILL.trim(), "voice": voice, "audio": {"type": format}});
            let line = self.speak(&format!("drill-{engine}.{format}"), body).await?;
            self.must(&line, engine, "the drill")?;
            lines.push(self.show(form, line)?);
        }
        self.title(form, "A recording, transcribed by the route captions")?;
        lines.push(self.transcribe(form).await?);
        self.title(form, "Heron is throttled; the next leg of quayside answers")?;
        lines.push(self.fall_back(form).await?);
        let used = self.operator.get("/api/v1/usage", &[("by", Some("app,engine"))]).await?;
        if form.is_json() {
            return output::print_json(&json!({"dispatches": lines, "usage": used}));
        }
        self.title(form, "Usage and cost")?;
        output::print(&usage::render(&used))?;
        output::print(&format!("\nAudio and transcripts are in {}", self.out.display()))
    }

    fn title(&self, form: OutputForm, title: &str) -> Result<(), CliError> {
        if form.is_json() { Ok(()) } else { output::print(&format!("\n{title}")) }
    }

    /// Speaks into a file, and reads the record of it.
    async fn speak(&self, file: &str, body: Value) -> Result<ExampleLine, CliError> {
        let request = self.app.request(Method::POST, "/api/v1/utterances").header(ACCEPT, "*/*").json(&body);
        let response = self.app.send(request).await?;
        let dispatch =
            response.headers().get("dispatch-id").and_then(|id| id.to_str().ok()).unwrap_or_default().to_owned();
        let mut audio = response.bytes().await.map_err(CliError::Broken)?.to_vec();
        let length = audio.len() as u64;
        dispatcher_audio::mend_wav_lengths(&mut audio, length);
        self.write(file, &audio)?;
        Ok(ExampleLine { file: file.to_owned(), dispatch: self.dispatch(&dispatch).await? })
    }

    async fn dispatch(&self, id: &str) -> Result<Value, CliError> {
        self.app.get(&format!("/api/v1/dispatches/{id}"), &[]).await
    }

    fn write(&self, file: &str, bytes: &[u8]) -> Result<(), CliError> {
        let path = self.out.join(file);
        std::fs::write(&path, bytes).map_err(|source| CliError::File { path, source })
    }

    /// The example shows what it says, or fails.
    fn must(&self, line: &ExampleLine, engine: &str, what: &str) -> Result<(), CliError> {
        let (state, by) = (output::text(&line.dispatch, "state"), output::text(&line.dispatch, "engine"));
        if state == "done" && by == engine {
            return Ok(());
        }
        let why = line.dispatch["attempts"]
            .as_array()
            .into_iter()
            .flatten()
            .map(|a| format!("{}: {}", output::text(a, "engine"), output::text(a, "detail")));
        Err(CliError::Failed(format!(
            "{what} was {state} by {by}, not by {engine} ({})",
            why.collect::<Vec<_>>().join("; ")
        )))
    }

    fn show(&self, form: OutputForm, line: ExampleLine) -> Result<Value, CliError> {
        let record = &line.dispatch;
        if !form.is_json() {
            let voice = format!("{}/{}", output::text(record, "engine"), output::text(record, "voice"));
            output::print(&format!(
                "  {:<22} {:<18} first audio {:>7}  {:>8} of audio  {:>13}",
                line.file,
                voice,
                output::milliseconds(&record["first_audio"]),
                output::seconds(&record["duration"]),
                output::money(&record["cost"]),
            ))?;
        }
        Ok(line.dispatch)
    }

    /// A recording of the drill, spoken by heron, comes back as its text.
    async fn transcribe(&self, form: OutputForm) -> Result<Value, CliError> {
        let body = json!({"text": DRILL.trim(), "voice": "heron/tarrick", "model": "fine", "audio": {"type": "mp3"}});
        self.speak("drill-recording.mp3", body).await?;
        let recording = self.out.join("drill-recording.mp3");
        let query = [("route", Some("captions")), ("language", Some("en-GB"))];
        let path = "/api/v1/transcripts";
        let response = self.app.post_file(path, &query, &recording, "audio/mpeg", "application/json").await?;
        let transcript = crate::client::json(response).await?;
        let subtitles = self.app.post_file(path, &query, &recording, "audio/mpeg", "text/vtt").await?;
        self.write("drill.vtt", &subtitles.bytes().await.map_err(CliError::Broken)?)?;
        self.write("drill.json", serde_json::to_string_pretty(&transcript).unwrap_or_default().as_bytes())?;
        let text = output::text(&transcript, "text");
        if text != DRILL.trim() {
            return Err(CliError::Failed(format!("the recording was heard as '{text}'")));
        }
        if !form.is_json() {
            let words = transcript["words"].as_array().map_or(0, Vec::len);
            output::print(&format!("  “{text}”"))?;
            output::print(&format!(
                "  {} words by {}, {} of audio, {}",
                words,
                output::text(&transcript, "engine"),
                output::seconds(&transcript["duration"]),
                output::money(&transcript["cost"]),
            ))?;
        }
        self.dispatch(&output::text(&transcript, "dispatch")).await
    }

    async fn fall_back(&self, form: OutputForm) -> Result<Value, CliError> {
        self.weather(Some(json!({"weather": "throttled"}))).await?;
        let body = json!({"text": "The 07:40 to Marram Point leaves from berth two.", "language": "en-GB", "audio": {"type": "mp3"}});
        let spoken = self.speak("berth-two.mp3", body).await;
        self.weather(None).await?;
        let line = spoken?;
        self.must(&line, "espeak-ng", "the announcement")?;
        if !form.is_json() {
            for row in dispatches::render_one(&line.dispatch).lines().skip(3).take(3) {
                output::print(&format!("  {row}"))?;
            }
        }
        self.show(form, line)
    }

    /// Makes heron's weather, or clears it.
    async fn weather(&self, forecast: Option<Value>) -> Result<(), CliError> {
        let heron = Client::to(self.heron.clone(), None)?;
        let request = match forecast {
            Some(forecast) => heron.request(Method::PUT, "/weather").json(&forecast),
            None => heron.request(Method::DELETE, "/weather"),
        };
        heron.send(request).await.map(drop)
    }
}
