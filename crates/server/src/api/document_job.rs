//! `POST /jobs`: a document of any length, spoken into one file or several.

use dispatcher_documents::{Block, Document, DocumentKind, Split};
use dispatcher_engines::AudioSource;
use dispatcher_gateway::{Gateway, GatewayError, JobWork, NewJob, TextInput, Track, Unsupported};
use rocket::serde::json::Json;
use rocket::{Responder, State, post};

use super::SMALL_BODY;
use super::jobs::Accepted;
use super::speech_request::{self, Formats};
use crate::access::Allowed;
use crate::body::RequestBody;
use crate::document_reader::DocumentReader;
use crate::headers::{Meta, charset_of, text_of_body};
use crate::parameters::Parameters;
use crate::problem::Problem;
use crate::problem_kind::ProblemKind;
use crate::spool::Spool;
use crate::uploads::{Uploads, bytes_of};
use crate::wire::{JobAnswer, JobEstimateAnswer};

/// Files that one document may become.
const MOST_FILES: usize = 5_000;
const MAX_TITLE: usize = 200;
/// Characters of speech in a minute, for parts by their length.
const CHARACTERS_A_MINUTE: usize = 900;

/// What the query says of the job, beside the speech.
struct DocumentWish {
    title: Option<String>,
    split: Option<String>,
    upload: Option<String>,
    name: Option<String>,
    webhook: Option<String>,
    /// Only the estimate is asked for.
    dry_run: bool,
}

impl DocumentWish {
    fn of(given: &mut Parameters) -> Result<DocumentWish, Problem> {
        Ok(DocumentWish {
            title: given.text("title"),
            split: given.text("split"),
            upload: given.text("upload"),
            name: given.text("filename"),
            webhook: given.text("webhook"),
            dry_run: given.flag("dry_run")?.unwrap_or(false),
        })
    }
}

/// A new job, or its estimate alone.
#[derive(Responder)]
pub(crate) enum Submitted {
    Job(Accepted),
    Estimate(Json<JobEstimateAnswer>),
}

/// Speak a document
///
/// The body is the document: plain text, Markdown, SSML, HTML, EPUB or PDF; or `upload` names one
/// that was sent in parts. `split` says how it is split into files. The other query parameters are
/// those of `POST /utterances`. With `dry_run=true` the document is read and the answer is the
/// estimate; no job is added, and an upload is kept.
#[utoipa::path(
    operation_id = "speakDocument",
    context_path = "/api/v1", tag = "long work",
    request_body(content(
        (String = "text/plain"), (String = "text/markdown"), (String = "text/html"), (String = "application/ssml+xml"),
        (Vec<u8> = "application/epub+zip"), (Vec<u8> = "application/pdf"),
    )),
    params(
        ("split" = Option<String>, Query, description = "none (the default), heading, heading:1 to heading:6, line, or minutes:COUNT"),
        ("title" = Option<String>, Query, description = "Title of the job (default: title of the document)"),
        ("upload" = Option<String>, Query, description = "The id of a complete upload, in place of a body"),
        ("filename" = Option<String>, Query, description = "File name of the document, if the media type does not identify it"),
        ("webhook" = Option<String>, Query, description = "URL to notify when the job ends; the service must allow its host"),
        ("dry_run" = Option<bool>, Query, description = "Answer with the estimate alone"),
        ("voice" = Option<String>, Query, description = "As in POST /utterances, like the other parameters"),
        ("type" = Option<String>, Query, description = "A media type, an extension or a preset"),
    ),
    responses(
        (status = 200, description = "The estimate, with dry_run", body = JobEstimateAnswer),
        (status = 202, description = "The job", body = JobAnswer),
        (status = "4XX", description = "Fault in the request", body = Problem, content_type = "application/problem+json"),
    ),
    security(("key" = []))
)]
#[post("/jobs", data = "<data>")]
pub(crate) async fn speak_document(
    allowed: Allowed,
    meta: Meta,
    data: RequestBody<'_>,
    gateway: &State<Gateway>,
    spool: &State<Spool>,
    uploads: &State<Uploads>,
    reader: &State<DocumentReader>,
) -> Result<Submitted, Problem> {
    let formats = Formats::of(gateway, &allowed.0);
    let mut given = Parameters::of_query(&meta.query)?;
    let wish = DocumentWish::of(&mut given)?;
    let template = speech_request::of_parameters(&mut given, &meta, &formats)?;
    given.finish()?;
    let claimed = match &wish.upload {
        Some(id) => Some(uploads.claim(id, &allowed.0.app.name).await?),
        None => None,
    };
    let (source, media_type, name) = match &claimed {
        None => (spool.take(data).await?, meta.content_type.clone(), wish.name.clone()),
        Some(claimed) => {
            let upload = &claimed.upload;
            (claimed.source.clone(), upload.media_type.clone(), wish.name.clone().or(upload.name.clone()))
        }
    };
    let Read { title, texts, warnings } = tokio::select! {
        read = texts(&source, &media_type, name.as_deref(), wish.split.as_deref(), reader) => read?,
        () = meta.connection.gone() => return Err(GatewayError::Abandoned.into()),
    };
    if template.unsupported == Unsupported::Refuse && !warnings.is_empty() {
        return Err(Problem::new(
            ProblemKind::NotADocument,
            format!("the document is not read whole: {}", warnings.join("; ")),
        ));
    }
    let title = wish.title.filter(|title| !title.trim().is_empty()).unwrap_or(title);
    if title.chars().count() > MAX_TITLE {
        return Err(Problem::at(ProblemKind::Invalid, "/title", format!("a title has at most {MAX_TITLE} characters")));
    }
    let single = texts.len() == 1;
    // It is spoken once, before the first text.
    let mut notice = allowed.0.app.notice.as_deref();
    let track = |(own, text): (String, TextInput)| {
        let text = match notice.take() {
            Some(notice) => text.with_notice(notice),
            None => text,
        };
        let request = dispatcher_gateway::SynthesisRequest { text, ..template.clone() };
        Track { name: None, title: if single { title.clone() } else { own }, request }
    };
    let files = texts.len();
    let tracks = texts.into_iter().map(track).collect();
    let job =
        NewJob { title: title.clone(), work: JobWork::Speech { tracks }, audio: None, webhook: wish.webhook, warnings };
    if wish.dry_run {
        let estimate = gateway.estimate_job(&allowed.0, &job).await?;
        return Ok(Submitted::Estimate(Json(JobEstimateAnswer {
            title,
            files,
            pieces: estimate.pieces,
            estimates: estimate.estimates.amounts().iter().copied().map(Into::into).collect(),
            warnings: job.warnings.into_iter().chain(estimate.warnings).collect(),
        })));
    }
    let answer = JobAnswer::from(gateway.submit(&allowed.0, job).await?);
    if let Some(claimed) = claimed {
        claimed.consume().await;
    }
    Ok(Submitted::Job(Accepted(Box::new(answer))))
}

/// A document that was read.
struct Read {
    title: String,
    /// Its parts with their titles.
    texts: Vec<(String, TextInput)>,
    /// What of it could not be read.
    warnings: Vec<String>,
}

/// Reads a document and parts it.
async fn texts(
    source: &AudioSource,
    media_type: &str,
    name: Option<&str>,
    split: Option<&str>,
    reader: &DocumentReader,
) -> Result<Read, Problem> {
    let essence = media_type.split(';').next().unwrap_or_default().trim().to_ascii_lowercase();
    let by_name = name.is_some_and(|name| name.to_ascii_lowercase().ends_with(".ssml"));
    let stem = name.and_then(|name| name.rsplit(['/', '\\']).next()).and_then(|name| name.rsplit_once('.'));
    let stem = stem.map(|(stem, _)| stem.to_owned());
    if essence == "application/ssml+xml" || by_name {
        let bytes = bytes_of(source, SMALL_BODY).await?;
        let text = text_of_body(&bytes, charset_of(media_type).as_deref())?;
        if split.is_some_and(|split| split != "none") {
            return Err(Problem::new(ProblemKind::Invalid, "SSML is spoken into one file; leave out split"));
        }
        let text = TextInput::Ssml(text);
        let title = stem.unwrap_or_else(|| super::utterances::spoken_title(&text));
        return Ok(Read { title: title.clone(), texts: vec![(title, text)], warnings: Vec::new() });
    }
    let kind = DocumentKind::of(Some(media_type), name).ok_or_else(|| {
        let detail = format!(
            "'{media_type}' is no document; send text/plain, text/markdown, application/ssml+xml, text/html, \
             application/epub+zip or application/pdf"
        );
        Problem::new(ProblemKind::NotADocument, detail)
    })?;
    let document = reader.read(source, kind).await?;
    let parts = document.parts(split_of(split, &document)?);
    if parts.len() > MOST_FILES {
        let detail = format!("the document comes to {} files; at most {MOST_FILES} are made", parts.len());
        return Err(Problem::new(ProblemKind::Invalid, detail));
    }
    let first = parts.first().map(|part| part.title.clone()).unwrap_or_default();
    let heading = document.blocks.iter().find_map(|block| match block {
        Block::Heading { text, .. } => Some(text.clone()),
        Block::Paragraph(_) => None,
    });
    let title = document.title.clone().or(heading).or(stem).unwrap_or(first);
    let texts = parts.into_iter().map(|part| (part.title, TextInput::Plain(part.text))).collect();
    Ok(Read { title, texts, warnings: document.warnings })
}

fn split_of(told: Option<&str>, document: &Document) -> Result<Split, Problem> {
    let wrong = || {
        let told = told.unwrap_or_default();
        let detail = format!("'{told}' is not none, heading, heading:1 to heading:6, line or minutes:COUNT");
        Problem::at(ProblemKind::Invalid, "/split", detail)
    };
    match told {
        None | Some("none") => Ok(Split::None),
        Some("line") => Ok(Split::Line),
        Some("heading") => match document.chapter_level() {
            Some(level) => Ok(Split::Heading(level)),
            None => Err(Problem::at(
                ProblemKind::Invalid,
                "/split",
                "the document has no headings; part it by line or minutes",
            )),
        },
        Some(told) => match told.split_once(':') {
            Some(("heading", level)) => {
                let level = level.parse::<u8>().ok().filter(|level| (1..=6).contains(level));
                Ok(Split::Heading(level.ok_or_else(wrong)?))
            }
            Some(("minutes", count)) => {
                let count = count.parse::<usize>().ok().filter(|count| (1..=600).contains(count)).ok_or_else(wrong)?;
                Ok(Split::Length(CHARACTERS_A_MINUTE * count))
            }
            _ => Err(wrong()),
        },
    }
}
