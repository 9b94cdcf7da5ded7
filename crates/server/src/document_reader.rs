//! Documents are read in a process of their own: the same binary, under limits
//! of memory and time, which ends when its caller leaves.
//!
//! What a document unpacks to is in its author's hand. A reader that runs out
//! of memory or time takes itself down and nothing else.

use std::io::{Read as _, Write as _};
use std::path::PathBuf;
use std::process::Stdio;
use std::sync::Arc;
use std::sync::atomic::{AtomicUsize, Ordering};
use std::time::Duration;

use dispatcher_documents::{Document, DocumentError, DocumentKind};
use dispatcher_engines::AudioSource;
use tokio::io::{AsyncReadExt as _, AsyncWriteExt as _};
use tokio::process::{Child, Command};
use tokio::sync::Semaphore;

use crate::problem::Problem;
use crate::problem_kind::ProblemKind;

/// The word that starts the binary as a reader.
const WORD: &str = "read-document";
/// Bytes of one document.
pub(crate) const LARGEST: u64 = 100_000_000;
/// Memory of one reader, in bytes of address space.
const MEMORY: u64 = 448 << 20;
/// Seconds of computing, and of waiting for it.
const SECONDS: u64 = 20;
const PATIENCE: Duration = Duration::from_secs(60);
/// Readers at once, and documents that may wait for one.
const AT_ONCE: usize = 2;
const MOST_WAITING: usize = 20;
/// Bytes of an answer: the text of the longest document, escaped.
const ANSWER: u64 = 4 * dispatcher_documents::MOST_TEXT as u64;
/// Starts another program under limits; part of every Debian system.
const LIMITER: &str = "prlimit";

/// Starts readers, a few at a time.
#[derive(Clone)]
pub(crate) struct DocumentReader {
    program: PathBuf,
    turns: Arc<Semaphore>,
    waiting: Arc<AtomicUsize>,
}

/// A document that waits or is read, until it is dropped.
struct WaitingDocument(Arc<AtomicUsize>);

impl Drop for WaitingDocument {
    fn drop(&mut self) {
        self.0.fetch_sub(1, Ordering::SeqCst);
    }
}

impl Default for DocumentReader {
    fn default() -> Self {
        // Ourselves, whatever has become of the file since the start.
        let program = PathBuf::from(format!("/proc/{}/exe", std::process::id()));
        DocumentReader { program, turns: Arc::new(Semaphore::new(AT_ONCE)), waiting: Arc::default() }
    }
}

impl DocumentReader {
    /// Reads a document; dropping the future ends the reader.
    ///
    /// # Errors
    /// 413 or 415 where the document cannot be read within the limits, 429
    /// where too many wait.
    pub(crate) async fn read(&self, source: &AudioSource, kind: DocumentKind) -> Result<Document, Problem> {
        let waiting = WaitingDocument(self.waiting.clone());
        if waiting.0.fetch_add(1, Ordering::SeqCst) >= AT_ONCE + MOST_WAITING {
            let problem = Problem::new(ProblemKind::Crowded, "too many documents wait to be read");
            return Err(Problem { retry_after: Some(SECONDS), ..problem });
        }
        check_size(source).await?;
        let turn = self.turns.acquire().await;
        let read = tokio::time::timeout(PATIENCE, self.run(source, kind)).await;
        drop(turn);
        read.unwrap_or_else(|_| Err(over_limits()))
    }

    async fn run(&self, source: &AudioSource, kind: DocumentKind) -> Result<Document, Problem> {
        let failed =
            |error: std::io::Error| Problem::new(ProblemKind::Internal, format!("the document reader: {error}"));
        let mut child = self.start(source, kind).await.map_err(failed)?;
        let feed = child.stdin.take().zip(match source {
            AudioSource::Memory(bytes) => Some(bytes.clone()),
            AudioSource::File(_) => None,
        });
        let feeding = async {
            if let Some((mut pipe, bytes)) = feed {
                // A reader that gives up early has closed its end.
                let _ = pipe.write_all(&bytes).await;
            }
        };
        let mut answer = Vec::new();
        let reading = async {
            match child.stdout.take() {
                Some(pipe) => pipe.take(ANSWER).read_to_end(&mut answer).await.map(drop),
                None => Ok(()),
            }
        };
        let (_, read) = tokio::join!(feeding, reading);
        read.map_err(failed)?;
        let status = child.wait().await.map_err(failed)?;
        let told = serde_json::from_slice::<Result<Document, DocumentError>>(&answer);
        drop(answer);
        match told {
            Ok(told) if status.success() => told.map_err(|error| of_document(&error)),
            // It was ended by a limit, or by the kernel.
            _ => Err(over_limits()),
        }
    }

    async fn start(&self, source: &AudioSource, kind: DocumentKind) -> std::io::Result<Child> {
        let stdin = match source {
            AudioSource::Memory(_) => Stdio::piped(),
            AudioSource::File(path) => Stdio::from(tokio::fs::File::open(&***path).await?.into_std().await),
        };
        Command::new(LIMITER)
            .args([format!("--as={MEMORY}"), format!("--cpu={SECONDS}")])
            .args(["--core=0", "--"])
            .arg(&self.program)
            .args([WORD, kind.media_type()])
            .env_clear()
            .env("PATH", std::env::var_os("PATH").unwrap_or_default())
            .stdin(stdin)
            .stdout(Stdio::piped())
            .stderr(Stdio::null())
            .kill_on_drop(true)
            .spawn()
    }
}

async fn check_size(source: &AudioSource) -> Result<(), Problem> {
    let length = match source {
        AudioSource::Memory(bytes) => bytes.len() as u64,
        AudioSource::File(path) => tokio::fs::metadata(&***path).await.map_or(0, |metadata| metadata.len()),
    };
    match length > LARGEST {
        true => Err(Problem::new(ProblemKind::TooLarge, format!("a document has at most {LARGEST} bytes"))),
        false => Ok(()),
    }
}

fn over_limits() -> Problem {
    let detail = format!(
        "the document takes more than {SECONDS} s or {} MiB to read; split it, or send its text alone",
        MEMORY >> 20
    );
    Problem::new(ProblemKind::TooLarge, detail)
}

fn of_document(error: &DocumentError) -> Problem {
    let kind = if *error == DocumentError::TooLarge { ProblemKind::TooLarge } else { ProblemKind::NotADocument };
    Problem::new(kind, error.to_string())
}

/// The reader's side: a document on standard input, its text as JSON on
/// standard output. `None` where the arguments do not ask for a reader.
pub fn read_document_main() -> Option<std::process::ExitCode> {
    let mut arguments = std::env::args().skip(1);
    if arguments.next()? != WORD {
        return None;
    }
    let kind = DocumentKind::of(arguments.next().as_deref(), None)?;
    let work = move || {
        let mut bytes = Vec::new();
        std::io::stdin().take(LARGEST + 1).read_to_end(&mut bytes)?;
        let read = dispatcher_documents::read(&bytes, kind);
        drop(bytes);
        let mut out = std::io::BufWriter::new(std::io::stdout());
        serde_json::to_writer(&mut out, &read)?;
        out.flush()
    };
    // Documents nest deeply: a stack of its own.
    let done = std::thread::Builder::new().stack_size(64 << 20).spawn(work).ok()?.join();
    Some(match done {
        Ok(Ok(())) => std::process::ExitCode::SUCCESS,
        _ => std::process::ExitCode::FAILURE,
    })
}
