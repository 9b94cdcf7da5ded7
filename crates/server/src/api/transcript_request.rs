//! A recognition request out of a raw body with a query, a form, JSON, or an
//! upload. Whichever it is, it becomes the same type by the same rules.

use dispatcher_audio::Format;
use dispatcher_core::is_known_language;
use dispatcher_engines::{AudioSource, AudioSplitter, EngineError, ScanError};
use dispatcher_gateway::{Gateway, GivenAudio};
use tokio::io::AsyncReadExt as _;
use tokio_util::io::ReaderStream;

use crate::body::{RequestBody, unread};
use crate::headers::Meta;
use crate::parameters::{Parameters, no_query};
use crate::problem::Problem;
use crate::problem_kind::ProblemKind;
use crate::spool::{Sink, Spool};
use crate::uploads::{Claimed, Uploads};
use crate::wire::TranscriptRequest;

/// What a JSON request may hold beside its audio.
pub(super) const MAX_BESIDE: usize = 1 << 20;
const MAX_HINTS: usize = 1_000;
const MAX_HINT: usize = 200;
const MAX_LANGUAGES: usize = 4;
/// A text part of a form.
const MAX_PART: usize = 64 << 10;
/// Text parts of a form: there are fewer parameters.
const MAX_PARTS: usize = 40;

/// A request whose audio is a complete upload, where the query names one.
pub(super) async fn from_upload(
    meta: &Meta,
    app: &str,
    uploads: &Uploads,
) -> Result<Option<(GivenAudio, TranscriptRequest, Claimed)>, Problem> {
    let mut given = Parameters::of_query(&meta.query)?;
    let Some(id) = given.text("upload") else { return Ok(None) };
    let wish = from_parameters(given)?;
    check(&wish)?;
    let claimed = uploads.claim(&id, app).await?;
    let audio = GivenAudio { source: claimed.source.clone(), told: told(&claimed.upload.media_type) };
    Ok(Some((audio, wish, claimed)))
}

/// A request whose audio is at the URL given in the query.
pub(super) async fn from_address(
    meta: &Meta,
    gateway: &Gateway,
    spool: &Spool,
) -> Result<Option<(GivenAudio, TranscriptRequest)>, Problem> {
    let mut given = Parameters::of_query(&meta.query)?;
    let Some(address) = given.text("url") else { return Ok(None) };
    let wish = from_parameters(given)?;
    check(&wish)?;
    Ok(Some((fetched(&address, gateway, spool).await?, wish)))
}

/// The audio at an address, in a file.
async fn fetched(address: &str, gateway: &Gateway, spool: &Spool) -> Result<GivenAudio, Problem> {
    let unread = |error: EngineError| {
        let detail = format!("the audio at {address} cannot be fetched: {}", error.detail);
        Problem::at(ProblemKind::Invalid, "/url", detail)
    };
    let mut fetched = gateway.fetch_recording(address, spool.limit).await?;
    let told = fetched.media_type().and_then(told);
    let mut sink = Sink::new(spool.clone());
    while let Some(chunk) = fetched.next().await.map_err(unread)? {
        sink.push(&chunk).await?;
    }
    Ok(GivenAudio { source: sink.finish().await?, told })
}

/// Reads audio and wishes by the media type of the body.
pub(super) async fn read(
    meta: &Meta,
    data: RequestBody<'_>,
    gateway: &Gateway,
    spool: &Spool,
) -> Result<(GivenAudio, TranscriptRequest), Problem> {
    let (given, wish) = match meta.essence.as_str() {
        "application/json" => {
            no_query(&meta.query, "JSON")?;
            let (rest, audio) = split_json(data, spool, MAX_BESIDE).await?;
            let wish = wish_of(&rest)?;
            match &wish.url {
                Some(address) if audio.is_none() => (fetched(address, gateway, spool).await?, wish),
                _ => of_split(&rest, audio)?,
            }
        }
        "multipart/form-data" => {
            no_query(&meta.query, "a form")?;
            match from_form(meta, data, spool).await? {
                (Some(_), wish) if wish.url.is_some() => return Err(two_recordings()),
                (Some(audio), wish) => (audio, wish),
                (None, wish) => match &wish.url {
                    Some(address) => (fetched(address, gateway, spool).await?, wish),
                    None => {
                        return Err(Problem::new(ProblemKind::Invalid, "the form has no part 'audio' and no 'url'"));
                    }
                },
            }
        }
        essence
            if essence.starts_with("audio/")
                || matches!(
                    essence,
                    "" | "application/octet-stream" | "application/ogg" | "video/webm" | "video/mp4"
                ) =>
        {
            let wish = from_parameters(Parameters::of_query(&meta.query)?)?;
            let told = told(&meta.content_type);
            (GivenAudio { source: spool.take(data).await?, told }, wish)
        }
        other => {
            let detail = format!("'{other}' is no audio; send audio/…, multipart/form-data with a part audio, or JSON");
            return Err(Problem::new(ProblemKind::NotAudio, detail));
        }
    };
    check(&wish)?;
    Ok((given, wish))
}

/// Refuses members that make no sense.
pub(super) fn check(wish: &TranscriptRequest) -> Result<(), Problem> {
    if let Some(tag) = wish.language.as_ref().filter(|tag| !tag.eq_ignore_ascii_case("auto")) {
        check_language("/language", tag)?;
    }
    for (index, tag) in wish.languages.iter().enumerate() {
        check_language(&format!("/languages/{index}"), tag)?;
    }
    if wish.languages.len() == 1 || wish.languages.len() > MAX_LANGUAGES {
        let detail = format!("languages has 2 to {MAX_LANGUAGES} tags; if it is known, send language");
        return Err(Problem::at(ProblemKind::Invalid, "/languages", detail));
    }
    if !wish.languages.is_empty() && wish.language.as_ref().is_some_and(|tag| !tag.eq_ignore_ascii_case("auto")) {
        return Err(Problem::at(ProblemKind::Invalid, "/languages", "send language or languages, not both"));
    }
    if wish.variation.is_some_and(|variation| !(0.0..=1.0).contains(&variation)) {
        return Err(Problem::at(ProblemKind::Invalid, "/variation", "variation is 0 to 1"));
    }
    if wish.hints.len() > MAX_HINTS || wish.hints.iter().any(|hint| hint.len() > MAX_HINT) {
        let detail = format!("at most {MAX_HINTS} hints of {MAX_HINT} bytes each");
        return Err(Problem::at(ProblemKind::Invalid, "/hints", detail));
    }
    Ok(())
}

/// Refuses members that have no meaning in what is said live, which `what`
/// names.
pub(super) fn refuse_beyond_live(request: &TranscriptRequest, what: &str) -> Result<(), Problem> {
    check(request)?;
    for (name, given) in [
        ("audio", request.audio.is_some()),
        ("url", request.url.is_some()),
        ("languages", !request.languages.is_empty()),
        ("speakers", request.speakers),
        ("channels", request.channels),
        ("alternatives", request.alternatives.is_some()),
        ("title", request.title.is_some()),
        ("webhook", request.webhook.is_some()),
        ("deadline", request.deadline.is_some()),
        ("unsupported", request.unsupported.is_some()),
    ] {
        if given {
            let detail = format!("{name} is not available in {what}");
            return Err(Problem::at(ProblemKind::Invalid, &format!("/{name}"), detail));
        }
    }
    Ok(())
}

/// Refuses what is no language.
pub(super) fn check_language(pointer: &str, tag: &str) -> Result<(), Problem> {
    match is_known_language(tag) {
        true => Ok(()),
        false => {
            let detail = format!("'{tag}' is not the BCP 47 tag of a known language, such as en-GB");
            Err(Problem::at(ProblemKind::Invalid, pointer, detail))
        }
    }
}

/// Format of raw audio by its media type; other formats have headers.
pub(super) fn told(content_type: &str) -> Option<Format> {
    Format::parse(content_type).ok()
}

/// Position of the audio in a JSON request.
const AUDIO_PATH: &str = "$.audio.base64";

/// Splits JSON as it comes in: the audio, where there is any, goes to the
/// spool; the rest has at most this many bytes.
pub(super) async fn split_json(
    data: RequestBody<'_>,
    spool: &Spool,
    most_beside: usize,
) -> Result<(Vec<u8>, Option<AudioSource>), Problem> {
    let splitter = AudioSplitter::new(AUDIO_PATH);
    let splitter = splitter.ok_or_else(|| Problem::new(ProblemKind::Internal, "the path of the audio"))?;
    let mut splitter = splitter.with_rest(most_beside);
    let unreadable = |error: ScanError| match error {
        ScanError::NotBase64 => Problem::at(ProblemKind::BadRequest, "/audio/base64", error.to_string()),
        ScanError::TooLong(_) => Problem::new(ProblemKind::TooLarge, error.to_string()),
        _ => Problem::new(ProblemKind::BadRequest, format!("the body cannot be read: {error}")),
    };
    // Base64 is a third longer than what it carries; the splitter counts what is beside it.
    let mut reader = data.open(spool.limit / 3 * 4 + 2 * most_beside as u64)?;
    let mut sink = Sink::new(spool.clone());
    let mut chunk = bytes::BytesMut::new();
    loop {
        chunk.reserve(64 << 10);
        if reader.read_buf(&mut chunk).await.map_err(|error| unread(&error))? == 0 {
            break;
        }
        sink.push(&splitter.push(&chunk.split()).map_err(unreadable)?).await?;
    }
    let (rest, found) = splitter.finish().map_err(unreadable)?;
    Ok((rest, if found { Some(sink.finish().await?) } else { None }))
}

fn wish_of(rest: &[u8]) -> Result<TranscriptRequest, Problem> {
    serde_json::from_slice(rest).map_err(|error| Problem::of_json(&error))
}

fn two_recordings() -> Problem {
    Problem::at(ProblemKind::Invalid, "/url", "send audio or url, not both")
}

/// A recognition request whose audio was split off.
pub(super) fn of_split(rest: &[u8], audio: Option<AudioSource>) -> Result<(GivenAudio, TranscriptRequest), Problem> {
    let mut wish = wish_of(rest)?;
    if wish.url.is_some() {
        return Err(two_recordings());
    }
    match (wish.audio.take(), audio) {
        (Some(told_of), Some(source)) => {
            let told = told_of.kind.as_deref().and_then(told);
            Ok((GivenAudio { source, told }, wish))
        }
        _ => Err(Problem::at(ProblemKind::Invalid, "/audio", "there is no audio")),
    }
}

/// A form that cannot be read, or whose body cannot.
pub(super) fn form_fault(error: multer::Error) -> Problem {
    match &error {
        multer::Error::StreamReadFailed(source) => match source.downcast_ref::<std::io::Error>() {
            Some(source) => unread(source),
            None => Problem::new(ProblemKind::BadRequest, format!("the body is not complete: {source}")),
        },
        _ => Problem::new(ProblemKind::BadRequest, format!("the form cannot be read: {error}")),
    }
}

async fn from_form(
    meta: &Meta,
    data: RequestBody<'_>,
    spool: &Spool,
) -> Result<(Option<GivenAudio>, TranscriptRequest), Problem> {
    let boundary = multer::parse_boundary(&meta.content_type).map_err(form_fault)?;
    let reader = data.open(spool.limit + (1 << 20))?;
    let mut parts = multer::Multipart::new(ReaderStream::with_capacity(reader, 64 << 10), boundary);
    let mut given = None;
    let mut pairs = Vec::new();
    while let Some(mut part) = parts.next_field().await.map_err(form_fault)? {
        let name = part.name().unwrap_or_default().to_owned();
        if name == "audio" {
            if given.is_some() {
                return Err(Problem::new(ProblemKind::Invalid, "the form has two parts 'audio'; send one recording"));
            }
            let kind = part.content_type().map(ToString::to_string).unwrap_or_default();
            let mut sink = Sink::new(spool.clone());
            while let Some(chunk) = part.chunk().await.map_err(form_fault)? {
                sink.push(&chunk).await?;
            }
            given = Some(GivenAudio { source: sink.finish().await?, told: told(&kind) });
            continue;
        }
        if part.file_name().is_some() {
            let detail = format!("the form has a file in the part '{name}'; name the part of the recording 'audio'");
            return Err(Problem::new(ProblemKind::Invalid, detail));
        }
        if pairs.len() == MAX_PARTS {
            let detail = format!("the form has more than {MAX_PARTS} parts beside the part 'audio'");
            return Err(Problem::new(ProblemKind::TooLarge, detail));
        }
        let mut text = Vec::new();
        while let Some(chunk) = part.chunk().await.map_err(form_fault)? {
            if text.len() + chunk.len() > MAX_PART {
                let detail =
                    format!("the part '{name}' is longer than {MAX_PART} bytes; a recording goes in the part 'audio'");
                return Err(Problem::new(ProblemKind::TooLarge, detail));
            }
            text.extend_from_slice(&chunk);
        }
        pairs.push((name, String::from_utf8_lossy(&text).into_owned()));
    }
    Ok((given, from_parameters(Parameters::new(pairs)?)?))
}

fn from_parameters(mut given: Parameters) -> Result<TranscriptRequest, Problem> {
    let listed = |text: Option<String>| -> Vec<String> {
        let text = text.unwrap_or_default();
        text.split(',').map(str::trim).filter(|item| !item.is_empty()).map(str::to_owned).collect()
    };
    let wish = TranscriptRequest {
        audio: None,
        engine: given.text("engine"),
        route: given.text("route"),
        language: given.text("language"),
        model: given.text("model"),
        site: given.text("site"),
        region: given.text("region"),
        context: given.text("context"),
        variation: given.number("variation")?,
        hints: listed(given.text("hints")),
        languages: listed(given.text("languages")),
        speakers: given.flag("speakers")?.unwrap_or(false),
        channels: given.flag("channels")?.unwrap_or(false),
        alternatives: given.number("alternatives")?,
        unsupported: given.text("unsupported"),
        title: given.text("title"),
        deadline: given.number("deadline")?,
        credential: given.text("credential"),
        webhook: given.text("webhook"),
        url: given.text("url"),
    };
    given.finish()?;
    Ok(wish)
}
