//! `dispatcher exchange`: what is said, the reply of the app's hook, and its voice.

use std::path::Path;
use std::process::Stdio;

use base64::Engine as _;
use base64::engine::general_purpose::STANDARD;
use reqwest::Method;
use reqwest::multipart::{Form, Part};
use serde_json::{Value, json};
use tokio::io::AsyncWriteExt as _;
use tokio_tungstenite::tungstenite::Message;

use super::live_audio::{self, Listener, RAW, Source, say};
use super::transcribe::media_type;
use crate::args::ExchangeArgs;
use crate::client::{self, Client};
use crate::error::CliError;
use crate::files::Existing;
use crate::output::{self, OutputForm};

pub(crate) async fn run(client: &Client, args: ExchangeArgs, form: OutputForm) -> Result<(), CliError> {
    if args.list {
        let list = client.get("/api/v1/exchanges", &[]).await?;
        return form.print(&list, || render(&list));
    }
    if args.microphone {
        return converse(client, &args, form).await;
    }
    if let Some(path) = &args.output {
        crate::files::check_target(path, Existing::with(args.force))?;
    }
    let request = client.request(Method::POST, "/api/v1/exchanges").multipart(form_of(&args).await?);
    let answer = client::json(client.send(request).await?).await?;
    let audio = STANDARD.decode(output::text(&answer["audio"], "base64"));
    let audio = audio.map_err(|error| CliError::Failed(format!("the audio of the answer cannot be read: {error}")))?;
    if let Some(path) = &args.output {
        std::fs::write(path, &audio).map_err(|source| CliError::File { path: path.clone(), source })?;
    }
    if args.play {
        play(&audio).await?;
    }
    if form.is_json() {
        return output::print_json(&answer);
    }
    output::print(&format!("You    {}", output::text(&answer["transcript"], "text")))?;
    output::print(&format!("Reply  {}", output::text(&answer["reply"], "spoken")))?;
    tell_end(&answer, &answer["reply"]["fault"]);
    if let Some(path) = &args.output {
        eprintln!("{}  {}", path.display(), output::seconds(&answer["audio"]["duration"]));
    }
    Ok(())
}

/// What was wrong with the hook, and how long each stage took.
fn tell_end(answer: &Value, fault: &Value) {
    if let Some(fault) = fault.as_str() {
        eprintln!("{} {fault}", output::paint("warning:", output::Colour::Warn));
    }
    let costs: Vec<String> = answer["costs"].as_array().into_iter().flatten().map(output::money).collect();
    eprintln!("{}  {}", stages(&answer["stages"]), costs.join(" + "));
}

/// Seconds until the first result of each stage.
fn stages(stages: &Value) -> String {
    let told = ["ear", "reply", "voice"].into_iter().filter_map(|name| {
        let first = stages[name]["first"].as_f64()?;
        Some(format!("{name} {first:.2} s"))
    });
    told.collect::<Vec<_>>().join("  ")
}

impl ExchangeArgs {
    /// The members that one call and a live exchange share.
    fn request(&self) -> Result<Value, CliError> {
        let context: Value = match &self.context {
            None => Value::Null,
            Some(text) => {
                let wrong = |error| CliError::Usage(format!("--context is JSON, such as {{\"visitor\": 7}}: {error}"));
                serde_json::from_str(text).map_err(wrong)?
            }
        };
        Ok(json!({
            "ear": {"route": self.route, "engine": self.engine, "language": self.language},
            "reply": {"context": context, "within": self.within},
            "voice": {"voice": self.voice},
            "site": self.site,
        }))
    }
}

/// The form of a one-call exchange.
async fn form_of(args: &ExchangeArgs) -> Result<Form, CliError> {
    let mut request = args.request()?;
    request["text"] = json!(args.text);
    let extension = args.output.as_deref().and_then(Path::extension).and_then(|extension| extension.to_str());
    // What aplay plays.
    let usual = if args.play { Some("wav") } else { extension };
    if let Some(kind) = args.format.as_deref().or(usual) {
        request["voice"]["audio"] = json!({"type": kind});
    }
    let mut form = Form::new().text("request", request.to_string());
    if let Some(path) = &args.audio {
        form = form.part("audio", part(path, &media_type(path, args.kind.as_deref())).await?);
    }
    if let Some(path) = &args.attach {
        let kind = mime_guess::from_path(path).first_or_octet_stream();
        form = form.part("attachment", part(path, kind.essence_str()).await?);
    }
    Ok(form)
}

async fn part(path: &Path, kind: &str) -> Result<Part, CliError> {
    let failed = |source| CliError::File { path: path.into(), source };
    let bytes = if path.as_os_str() == "-" {
        let mut bytes = Vec::new();
        tokio::io::AsyncReadExt::read_to_end(&mut tokio::io::stdin(), &mut bytes).await.map_err(failed)?;
        bytes
    } else {
        tokio::fs::read(path).await.map_err(failed)?
    };
    let wrong = |error| CliError::Usage(format!("'{kind}' is not a media type: {error}"));
    Part::bytes(bytes).file_name("file").mime_str(kind).map_err(wrong)
}

async fn play(wave: &[u8]) -> Result<(), CliError> {
    let mut speaker = Speaker::start(&["-q"])?;
    speaker.push(wave).await;
    speaker.finish().await
}

/// aplay, while it plays; what is left of it is not heard once this is dropped.
struct Speaker {
    child: tokio::process::Child,
    input: Option<tokio::process::ChildStdin>,
}

impl Speaker {
    fn start(arguments: &[&str]) -> Result<Speaker, CliError> {
        let mut command = tokio::process::Command::new("aplay");
        command.args(arguments).stdin(Stdio::piped()).stdout(Stdio::null()).kill_on_drop(true);
        let missing = |error| CliError::Failed(format!("aplay cannot be run (Debian package alsa-utils): {error}"));
        let mut child = command.spawn().map_err(missing)?;
        let input = child.stdin.take();
        Ok(Speaker { child, input })
    }

    /// Audio to be played. A player that has ended says why at the end.
    async fn push(&mut self, audio: &[u8]) {
        if let Some(input) = &mut self.input {
            let _ = input.write_all(audio).await;
        }
    }

    /// Waits until all of it has sounded.
    async fn finish(mut self) -> Result<(), CliError> {
        drop(self.input.take());
        let status = self.child.wait().await?;
        match status.success() {
            true => Ok(()),
            false => Err(CliError::Failed(format!("aplay ended with {status}; is there a sound device?"))),
        }
    }
}

/// A live exchange through microphone and loudspeaker.
async fn converse(client: &Client, args: &ExchangeArgs, form: OutputForm) -> Result<(), CliError> {
    let mut source = Source::open(None, true).await?;
    let mut socket = client.live("/api/v1/exchanges/live").await?;
    let mut open = args.request()?;
    open["type"] = "open".into();
    open["format"] = RAW.into();
    open["interim"] = false.into();
    open["voice"]["audio"] = json!({"type": "audio/pcm;rate=24000"});
    say(&mut socket, Message::text(open.to_string())).await?;
    let mut conversation = Conversation { form, speaker: None, reply: String::new() };
    live_audio::run(&mut socket, &mut source, None, &mut conversation).await
}

/// What is shown and heard.
struct Conversation {
    form: OutputForm,
    speaker: Option<Speaker>,
    /// Sentences that were spoken.
    reply: String,
}

impl Listener for Conversation {
    fn ends_with_close(&self) -> bool {
        true
    }

    async fn audio(&mut self, audio: &[u8]) -> Result<(), CliError> {
        if self.speaker.is_none() {
            self.speaker = Some(Speaker::start(&["-q", "-t", "raw", "-f", "S16_LE", "-r", "24000", "-c", "1"])?);
        }
        if let Some(speaker) = &mut self.speaker {
            speaker.push(audio).await;
        }
        Ok(())
    }

    async fn message(&mut self, message: &Value) -> Result<bool, CliError> {
        let kind = message["type"].as_str().unwrap_or_default();
        match kind {
            // Whoever speaks into a reply does not hear the rest of it.
            "start-of-input" | "stopped" => self.speaker = None,
            "sentence" => {
                self.reply.push_str(output::text(message, "text").trim());
                self.reply.push(' ');
            }
            "end-of-turn" => {
                if let Some(speaker) = self.speaker.take() {
                    speaker.finish().await?;
                }
            }
            _ => {}
        }
        if self.form.is_json() {
            output::print(&message.to_string())?;
            return Ok(false);
        }
        match kind {
            "said" => output::print(&format!("You    {}", output::text(message, "text")))?,
            "end-of-turn" => {
                output::print(&format!("Reply  {}", std::mem::take(&mut self.reply).trim()))?;
                tell_end(message, &message["fault"]);
            }
            _ => {}
        }
        Ok(false)
    }
}

/// The list as a table.
fn render(list: &Value) -> String {
    let rows = output::items(list);
    if rows.is_empty() {
        return "No exchanges yet. Make the first: dispatcher exchange --text \"When is the next ferry?\"".into();
    }
    let seconds = |stage: &Value| stage["first"].as_f64().map_or_else(String::new, |first| format!("{first:.2} s"));
    let rows = rows.iter().map(|row| {
        vec![
            output::short_id(row, "id"),
            output::time(&row["begun"]),
            output::text(row, "app"),
            output::text(row, "state"),
            seconds(&row["stages"]["ear"]),
            seconds(&row["stages"]["reply"]),
            seconds(&row["stages"]["voice"]),
            output::seconds(&row["duration"]),
        ]
    });
    let head = ["exchange", "begun (UTC)", "app", "state", "ear", "reply", "voice", "duration"];
    output::table(&head, rows.collect(), &[4, 5, 6, 7])
}
