//! The process driver: a local program, never a shell.
//!
//! The program runs in a process group of its own with limits on time and
//! memory, sees no environment but a path and a locale, and is killed with
//! all its children when its caller leaves.

use std::path::PathBuf;
use std::process::Stdio;
use std::sync::Arc;
use std::time::Duration;

use bytes::Bytes;
use dispatcher_core::{ArgumentText, Cause, LineWords, LocalAudio, ProcessSpec, Sheet, SheetError, Transcript, Voice};
use futures::StreamExt as _;
use minijinja::context;
use minijinja::value::Value;
use rustix::process::{Pid, Signal, WaitId, WaitIdOptions, kill_process_group, waitid};
use tokio::io::{AsyncReadExt as _, AsyncWriteExt as _};
use tokio::process::{Child, ChildStdout, Command};
use tokio::sync::mpsc;

use crate::EngineError;
use crate::call::{Hear, Speak};
use crate::catalogue::Listing;
use crate::engine::{AudioStream, find_program};
use crate::sound::tempo;
use crate::template::{OutputPlace, Template};

/// Starts another program under limits; part of every Debian system.
const LIMITER: &str = "prlimit";
/// Bytes of audio handed on at once.
const CHUNK: usize = 16 << 10;
/// What is kept of a program's complaints.
const MAX_STDERR: usize = 4 << 10;
/// Words that a program may print.
const MAX_OUTPUT: usize = 4 << 20;

pub(crate) struct ProcessDriver {
    spec: ProcessSpec,
    program: Option<PathBuf>,
    limiter: Option<PathBuf>,
    speak: Option<(Vec<Template>, ArgumentText, LocalAudio)>,
    hear: Option<Listener>,
    listing: Option<(Vec<Template>, Listing)>,
}

struct Listener {
    arguments: Vec<Template>,
    input: LocalAudio,
    lines: LineWords,
    /// Whether the arguments follow the tempo of the speech.
    follows_tempo: bool,
}

impl ProcessDriver {
    pub(crate) fn compile(sheet: &Sheet, source: (&str, &str)) -> Result<Self, SheetError> {
        let missing = || SheetError::at_key(source.0, source.1, &["driver"], "the process driver needs [process]");
        let spec = sheet.process.clone().ok_or_else(missing)?;
        let compile = |arguments: &[String], probe: &Value, section: &str| {
            arguments
                .iter()
                .map(|argument| Template::checked(argument, OutputPlace::Plain, probe, source, &[section, "arguments"]))
                .collect::<Result<Vec<_>, _>>()
        };
        let speak = match (&sheet.synthesis, Speak::probe(sheet)) {
            (Some(synthesis), Some(probe)) => {
                let probe = with_file(&probe.context(), "/probe");
                Some((compile(&synthesis.arguments, &probe, "synthesis")?, synthesis.input, synthesis.output))
            }
            _ => None,
        };
        let hear = match (&sheet.recognition, Hear::probe(sheet)) {
            (Some(recognition), Some(probe)) => {
                let probe = |tempo: f64| context! { tempo, ..with_file(&probe.context(), "/probe") };
                let arguments = compile(&recognition.arguments, &probe(1.0), "recognition")?;
                let follows_tempo = render(&arguments, &probe(1.0)).ok() != render(&arguments, &probe(1.25)).ok();
                let input = recognition.input;
                recognition.lines.clone().map(|lines| Listener { arguments, input, lines, follows_tempo })
            }
            _ => None,
        };
        let program = find_program(&spec.program);
        let listing = match &sheet.catalogue {
            Some(spec) => {
                let arguments = compile(&spec.arguments, &context! {}, "catalogue")?;
                Some((arguments, Listing::compile_lines(spec, source)?))
            }
            None => None,
        };
        Ok(ProcessDriver { spec, program, limiter: find_program(LIMITER), speak, hear, listing })
    }

    pub(crate) fn absent(&self) -> Option<String> {
        if self.limiter.is_none() {
            return Some(format!("the program {LIMITER} is not installed on this host; apt-get install util-linux"));
        }
        if self.program.is_some() {
            return None;
        }
        let hint = if self.spec.install.is_empty() { String::new() } else { format!("; {}", self.spec.install) };
        Some(format!("the program {} is not installed on this host{hint}", self.spec.program))
    }

    /// The command line of a call.
    pub(crate) fn preview(&self, call: &Speak) -> String {
        let Some((templates, ..)) = &self.speak else { return String::new() };
        let arguments = render(templates, &with_file(&call.context(), "FILE")).unwrap_or_default();
        format!("{} {}", self.spec.program, arguments.join(" "))
    }

    pub(crate) async fn speak(&self, job: Speak) -> Result<AudioStream, EngineError> {
        let unable = || EngineError::new(Cause::Unsupported, "this engine has no synthesis");
        let (templates, input, output) = self.speak.as_ref().ok_or_else(unable)?;
        let file = match output {
            LocalAudio::Stream => None,
            LocalAudio::File => Some(temporary(job.format.format.codec.extension())?),
        };
        let mut context = job.context();
        if let Some(file) = &file {
            context = with_file(&context, &file.to_string_lossy());
        }
        let mut arguments = render(templates, &context)?;
        let stdin = match input {
            ArgumentText::Stdin => Some(Bytes::from(job.text.into_bytes())),
            ArgumentText::Argument => {
                arguments.push("--".into());
                arguments.push(job.text);
                None
            }
        };
        let running = self.start(&arguments, stdin)?;
        let audio = running.stream(Duration::from_secs(self.spec.seconds));
        match file {
            None => Ok(audio),
            Some(file) => {
                // The file is whole only once the program has ended well.
                let mut audio = audio;
                while let Some(chunk) = audio.next().await {
                    chunk?;
                }
                let whole = tokio::fs::read(&*file).await;
                let whole =
                    whole.map_err(|error| EngineError::new(Cause::Broken, format!("no audio file: {error}")))?;
                Ok(Box::pin(futures::stream::once(async move { Ok(Bytes::from(whole)) })))
            }
        }
    }

    pub(crate) async fn hear(&self, job: Hear) -> Result<Transcript, EngineError> {
        let unable = || EngineError::new(Cause::Unsupported, "this engine has no recognition");
        let listener = self.hear.as_ref().ok_or_else(unable)?;
        let file = job.audio.to_file(job.format.format.codec.extension())?;
        let tempo = if listener.follows_tempo { tempo(file.clone(), job.format.format).await } else { 1.0 };
        let context = context! { tempo, ..with_file(&job.context(), &file.to_string_lossy()) };
        let stdin = match listener.input {
            LocalAudio::File => None,
            LocalAudio::Stream => {
                let read = tokio::fs::read(&**file).await;
                Some(Bytes::from(read.map_err(|error| EngineError::new(Cause::Unavailable, error.to_string()))?))
            }
        };
        let text = self.output(&render(&listener.arguments, &context)?, stdin).await?;
        Ok(crate::transcript::read_lines(&text, &listener.lines))
    }

    /// The call that lists the voices, as text.
    pub(crate) fn catalogue_preview(&self) -> Option<String> {
        let (_, listing) = self.listing.as_ref()?;
        Some(format!("{} {}", self.spec.program, listing.preview()))
    }

    /// The program's list of voices; `None` if the sheet names no list.
    pub(crate) async fn voices(&self) -> Option<Result<Vec<Voice>, EngineError>> {
        let (templates, listing) = self.listing.as_ref()?;
        let list = async { listing.of_lines(&self.output(&render(templates, &context! {})?, None).await?) };
        Some(list.await)
    }

    /// All that the program prints.
    async fn output(&self, arguments: &[String], stdin: Option<Bytes>) -> Result<String, EngineError> {
        let running = self.start(arguments, stdin)?;
        let mut output = running.stream(Duration::from_secs(self.spec.seconds));
        let mut text = Vec::new();
        while let Some(chunk) = output.next().await {
            text.extend_from_slice(&chunk?);
            if text.len() > MAX_OUTPUT {
                return Err(EngineError::new(Cause::Broken, "the program's output has no end"));
            }
        }
        Ok(String::from_utf8_lossy(&text).into_owned())
    }

    fn start(&self, arguments: &[String], stdin: Option<Bytes>) -> Result<RunningProgram, EngineError> {
        let absent = || EngineError::new(Cause::Absent, self.absent().unwrap_or_default());
        let program = self.program.as_ref().ok_or_else(absent)?;
        let limiter = self.limiter.as_ref().ok_or_else(absent)?;
        // The program begins under its limits: set once it runs, they would
        // come too late for children that it has started by then.
        let mut child = Command::new(limiter)
            .args([format!("--as={}", self.spec.memory << 20), format!("--cpu={}", self.spec.seconds)])
            .args(["--core=0", "--"])
            .arg(program)
            .args(arguments)
            .env_clear()
            .env("PATH", std::env::var_os("PATH").unwrap_or_default())
            .env("LC_ALL", "C.UTF-8")
            .stdin(if stdin.is_some() { Stdio::piped() } else { Stdio::null() })
            .stdout(Stdio::piped())
            .stderr(Stdio::piped())
            .process_group(0)
            .kill_on_drop(true)
            .spawn()
            .map_err(|error| {
                EngineError::new(Cause::Unavailable, format!("{} did not start: {error}", self.spec.program))
            })?;
        let group = Group(child.id().and_then(|id| Pid::from_raw(id.cast_signed())));
        if let (Some(text), Some(mut pipe)) = (stdin, child.stdin.take()) {
            // Fed aside: a program may write before it has read everything.
            tokio::spawn(async move {
                // A program that needs no more of it closes its end.
                let _ = pipe.write_all(&text).await;
            });
        }
        Ok(RunningProgram { child, group, program: self.spec.program.clone() })
    }
}

fn temporary(extension: &str) -> Result<Arc<tempfile::TempPath>, EngineError> {
    let made = tempfile::Builder::new().suffix(&format!(".{extension}")).tempfile();
    let made = made.map_err(|error| EngineError::new(Cause::Unavailable, format!("no temporary file: {error}")))?;
    Ok(Arc::new(made.into_temp_path()))
}

fn with_file(context: &Value, file: &str) -> Value {
    context! { file, ..context.clone() }
}

fn render(templates: &[Template], context: &Value) -> Result<Vec<String>, EngineError> {
    let failed =
        |error: minijinja::Error| EngineError::new(Cause::Malformed, format!("the sheet's template failed: {error}"));
    templates.iter().map(|template| template.render(context).map_err(failed)).collect()
}

/// A process group that dies with this value. Invariant: the group is killed
/// before its leader is waited for, since the id may be used again after.
struct Group(Option<Pid>);

impl Group {
    /// Waits until the leader has ended, and leaves it unreaped. It has closed
    /// its output already, so that it is looked for rather than waited on.
    async fn leader_ended(&self) {
        let options = WaitIdOptions::EXITED | WaitIdOptions::NOWAIT | WaitIdOptions::NOHANG;
        let mut pause = Duration::from_millis(1);
        while let Some(pid) = self.0 {
            if !matches!(waitid(WaitId::Pid(pid), options), Ok(None)) {
                return;
            }
            tokio::time::sleep(pause).await;
            pause = (pause * 2).min(Duration::from_millis(50));
        }
    }

    fn kill(&mut self) {
        if let Some(pid) = self.0.take() {
            // An error means that it is gone already.
            let _ = kill_process_group(pid, Signal::KILL);
        }
    }
}

impl Drop for Group {
    fn drop(&mut self) {
        self.kill();
    }
}

struct RunningProgram {
    child: Child,
    group: Group,
    program: String,
}

impl RunningProgram {
    /// Standard output as it comes; an error where the program ends badly or
    /// runs out of time. Dropping the stream kills the group.
    fn stream(mut self, limit: Duration) -> AudioStream {
        let (sender, receiver) = mpsc::channel(4);
        tokio::spawn(async move {
            let stdout = self.child.stdout.take();
            let stderr = self.child.stderr.take();
            let complaints = tokio::spawn(async move {
                let mut text = Vec::new();
                if let Some(pipe) = stderr {
                    let mut kept = pipe.take(MAX_STDERR as u64);
                    // Only its output before the fault is known.
                    let _ = kept.read_to_end(&mut text).await;
                    // Read so that it does not block; nobody needs it.
                    let _ = tokio::io::copy(&mut kept.into_inner(), &mut tokio::io::sink()).await;
                }
                String::from_utf8_lossy(&text).into_owned()
            });
            let work = async {
                let left = match stdout {
                    Some(stdout) => pump(stdout, &sender).await,
                    None => false,
                };
                if !left {
                    self.group.leader_ended().await;
                }
                left
            };
            // Whether its caller left; an error where its time ran out.
            let outcome = tokio::select! {
                outcome = tokio::time::timeout(limit, work) => outcome,
                () = sender.closed() => Ok(true),
            };
            self.group.kill();
            let status = self.child.wait().await;
            let error = match outcome {
                Ok(true) => None,
                Ok(false) if status.as_ref().is_ok_and(std::process::ExitStatus::success) => None,
                Ok(false) => {
                    let said = complaints.await.unwrap_or_default();
                    let how = status.map_or_else(|error| error.to_string(), |status| status.to_string());
                    Some(EngineError::new(Cause::Broken, format!("{} ended with {how}: {said}", self.program)))
                }
                Err(_) => {
                    Some(EngineError::new(Cause::TimedOut, format!("{} took longer than {limit:?}", self.program)))
                }
            };
            if let Some(error) = error {
                // A caller who left needs no error.
                let _ = sender.send(Err(error)).await;
            }
        });
        let next = |mut receiver: mpsc::Receiver<_>| async move { receiver.recv().await.map(|item| (item, receiver)) };
        Box::pin(futures::stream::unfold(receiver, next))
    }
}

/// Hands on what the program writes; `true` where nobody takes it any more.
async fn pump(mut stdout: ChildStdout, sender: &mpsc::Sender<Result<Bytes, EngineError>>) -> bool {
    loop {
        let mut chunk = bytes::BytesMut::with_capacity(CHUNK);
        match stdout.read_buf(&mut chunk).await {
            Ok(0) => return false,
            Ok(_) if sender.send(Ok(chunk.freeze())).await.is_err() => return true,
            Ok(_) => {}
            Err(error) => {
                // A caller who left needs no error.
                let _ = sender.send(Err(EngineError::new(Cause::Broken, error.to_string()))).await;
                return true;
            }
        }
    }
}
