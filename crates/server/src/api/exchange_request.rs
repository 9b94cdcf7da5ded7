//! A request for an exchange out of JSON, or a form with files.

use std::time::Duration;

use base64::Engine as _;
use base64::engine::general_purpose::STANDARD;
use dispatcher_audio::{Codec, Format};
use dispatcher_gateway::{
    Attachment, Caller, ExchangeRequest, Gateway, GivenAudio, RecognitionRequest, ReplyWish, Said,
};
use tokio_util::io::ReaderStream;

use super::speech_parameters;
use super::speech_request::{self, Formats};
use super::transcript_request::{form_fault, refuse_beyond_live, split_json, told};
use super::transcripts::{digest, hearer, hearing_wish};
use crate::body::RequestBody;
use crate::headers::Meta;
use crate::parameters::no_query;
use crate::problem::Problem;
use crate::problem_kind::ProblemKind;
use crate::spool::{Sink, Spool};
use crate::wire::{AttachmentWish, ExchangeWish, ReplyRequest, UtteranceRequest};

/// Bytes of an attachment, in a form and in JSON.
const MOST_ATTACHMENT: usize = 4 << 20;
/// Bytes of all but the audio, in JSON.
const MOST_BESIDE: usize = MOST_ATTACHMENT / 3 * 4 + (256 << 10);
/// Bytes of the part `request` of a form.
const MOST_REQUEST: usize = 256 << 10;
/// Bytes of the context that is handed to a hook.
const MOST_CONTEXT: usize = 64 << 10;
const MOST_TEXT: usize = 16 << 10;

/// Hertz of the voice of a reply, unless its format says otherwise.
const SAMPLE_RATE: u32 = 24_000;

/// What is asked for, and the format of its answer.
pub(super) struct ReadExchange {
    pub(super) request: ExchangeRequest,
    pub(super) format: Format,
    /// When the link ends that the audio is answered by, in seconds since 1970.
    pub(super) link_until: Option<i64>,
    /// Equal for equal requests.
    pub(super) body: Vec<u8>,
}

/// A body in its parts: the wish, its audio, and what distinguishes it from others.
struct Split {
    wish: ExchangeWish,
    audio: Option<GivenAudio>,
    body: Vec<u8>,
}

/// Reads the body by its media type.
pub(super) async fn read(
    meta: &Meta,
    data: RequestBody<'_>,
    spool: &Spool,
    (gateway, caller): (&Gateway, &Caller),
) -> Result<ReadExchange, Problem> {
    // An attachment is in memory as text, as bytes while it is checked, and in the request to the hook.
    data.reserve(3 * MOST_BESIDE as u64).await?;
    let Split { wish, audio, mut body } = match meta.essence.as_str() {
        "application/json" | "" => {
            no_query(&meta.query, "JSON")?;
            let (rest, source) = split_json(data, spool, MOST_BESIDE).await?;
            let mut wish: ExchangeWish = serde_json::from_slice(&rest).map_err(|error| Problem::of_json(&error))?;
            let kind = wish.audio.take().and_then(|audio| audio.kind);
            let audio = source.map(|source| GivenAudio { source, told: kind.as_deref().and_then(told) });
            Split { wish, audio, body: rest }
        }
        "multipart/form-data" => {
            no_query(&meta.query, "a form")?;
            from_form(meta, data, spool).await?
        }
        other => {
            let detail = format!("'{other}' is not accepted; send application/json or multipart/form-data");
            return Err(Problem::new(ProblemKind::BadRequest, detail));
        }
    };
    if let Some(audio) = &audio {
        body.extend_from_slice(digest(audio).await?.as_bytes());
    }
    let link_until = super::links::delivery(wish.deliver.as_deref(), wish.expires_in)?;
    let (request, format) = request_of(wish, audio, meta, &Formats::of(gateway, caller))?;
    Ok(ReadExchange { request, format, link_until, body })
}

/// A form: the parts `audio` and `attachment` are files, and the part `request`
/// is the rest as JSON.
async fn from_form(meta: &Meta, data: RequestBody<'_>, spool: &Spool) -> Result<Split, Problem> {
    let boundary = multer::parse_boundary(&meta.content_type).map_err(form_fault)?;
    let reader = data.open(spool.limit + (MOST_ATTACHMENT + (1 << 20)) as u64)?;
    let mut parts = multer::Multipart::new(ReaderStream::with_capacity(reader, 64 << 10), boundary);
    let (mut audio, mut attachment, mut wish, mut body) = (None, None, None, Vec::new());
    while let Some(mut part) = parts.next_field().await.map_err(form_fault)? {
        let name = part.name().unwrap_or_default().to_owned();
        let kind = part.content_type().map(ToString::to_string).unwrap_or_default();
        match name.as_str() {
            "audio" if audio.is_none() => {
                let mut sink = Sink::new(spool.clone());
                while let Some(chunk) = part.chunk().await.map_err(form_fault)? {
                    sink.push(&chunk).await?;
                }
                audio = Some(GivenAudio { source: sink.finish().await?, told: told(&kind) });
            }
            "attachment" if attachment.is_none() => {
                let base64 = STANDARD.encode(small_part(&mut part, "attachment", MOST_ATTACHMENT).await?);
                body.extend_from_slice(base64.as_bytes());
                attachment = Some(AttachmentWish { kind, base64 });
            }
            "request" if wish.is_none() => {
                let text = small_part(&mut part, "request", MOST_REQUEST).await?;
                wish = Some(serde_json::from_slice(&text).map_err(|error| Problem::of_json(&error))?);
                body.extend_from_slice(&text);
            }
            _ => {
                let detail =
                    format!("the part '{name}' is not expected; send audio, attachment and request, once each");
                return Err(Problem::new(ProblemKind::Invalid, detail));
            }
        }
    }
    let wish: ExchangeWish = wish.unwrap_or_default();
    if wish.audio.is_some() || (wish.attachment.is_some() && attachment.is_some()) {
        return Err(Problem::new(ProblemKind::Invalid, "files of a form are parts of their own, not in its request"));
    }
    let wish = ExchangeWish { attachment: attachment.or(wish.attachment.clone()), ..wish };
    Ok(Split { wish, audio, body })
}

async fn small_part(part: &mut multer::Field<'_>, name: &str, most: usize) -> Result<Vec<u8>, Problem> {
    let mut bytes = Vec::new();
    while let Some(chunk) = part.chunk().await.map_err(form_fault)? {
        if bytes.len() + chunk.len() > most {
            let detail = format!("the part '{name}' is larger than {most} bytes");
            return Err(Problem::new(ProblemKind::TooLarge, detail));
        }
        bytes.extend_from_slice(&chunk);
    }
    Ok(bytes)
}

fn request_of(
    wish: ExchangeWish,
    audio: Option<GivenAudio>,
    meta: &Meta,
    formats: &Formats,
) -> Result<(ExchangeRequest, Format), Problem> {
    let ExchangeWish { text, ear, reply, voice, attachment, site, .. } = wish;
    refuse_beyond_live(&ear, "an exchange").map_err(|problem| problem.under("/ear"))?;
    let said = match (text, audio) {
        (Some(text), None) if text.len() <= MOST_TEXT => Said::Text { text, language: ear.language.clone() },
        (Some(_), None) => {
            return Err(Problem::at(ProblemKind::Invalid, "/text", format!("text has at most {MOST_TEXT} bytes")));
        }
        (None, Some(audio)) => Said::Audio(Box::new(RecognitionRequest {
            audio,
            hearer: hearer(&ear).map_err(|problem| problem.under("/ear"))?,
            languages: Vec::new(),
            channels: false,
            unsupported: speech_request::unsupported(None, meta)?,
            wish: hearing_wish(ear.hints, ear.context, ear.variation, false, None),
            deadline: None,
            credential: ear.credential,
            trace: meta.trace.clone(),
        })),
        (Some(_), Some(_)) => return Err(Problem::at(ProblemKind::Invalid, "/text", "send audio or text, not both")),
        (None, None) => return Err(Problem::at(ProblemKind::Invalid, "/audio", "send audio or text")),
    };
    let (format, voice) = voice_of(voice, meta, formats).map_err(|problem| problem.under("/voice"))?;
    let request = ExchangeRequest {
        said,
        voice,
        reply: reply_of(reply)?,
        attachment: attachment.map(attachment_of).transpose()?,
        site: site.as_deref().map(speech_parameters::site).transpose()?,
    };
    Ok((request, format))
}

/// The request that the sentences of a reply are spoken by, and the format of
/// the whole: sentences are joined as raw samples.
pub(super) fn voice_of(
    voice: UtteranceRequest,
    meta: &Meta,
    formats: &Formats,
) -> Result<(Format, dispatcher_gateway::SynthesisRequest), Problem> {
    let request = speech_request::of_opening(voice, meta, formats)?;
    let format = request.format;
    let raw = Format::new(Codec::Pcm, if format.codec == Codec::Pcm { format.rate } else { SAMPLE_RATE });
    Ok((format, dispatcher_gateway::SynthesisRequest { format: raw, ..request }))
}

/// How the hook is to answer.
pub(super) fn reply_of(given: ReplyRequest) -> Result<ReplyWish, Problem> {
    let usual = ReplyWish::default();
    let within = given.within.unwrap_or(usual.within.as_secs_f64());
    if !(0.5..=60.0).contains(&within) {
        return Err(Problem::at(ProblemKind::Invalid, "/reply/within", "within is 0.5 to 60 seconds"));
    }
    let characters = given.characters.unwrap_or(usual.characters);
    if !(1..=20_000).contains(&characters) {
        return Err(Problem::at(ProblemKind::Invalid, "/reply/characters", "characters is 1 to 20000"));
    }
    let context = given.context.unwrap_or_default();
    if context.to_string().len() > MOST_CONTEXT {
        let detail = format!("context has at most {MOST_CONTEXT} bytes");
        return Err(Problem::at(ProblemKind::Invalid, "/reply/context", detail));
    }
    Ok(ReplyWish { context, within: Duration::from_secs_f64(within), characters })
}

/// Refuses what is no file, before a hook is asked about it.
pub(super) fn attachment_of(given: AttachmentWish) -> Result<Attachment, Problem> {
    if given.kind.parse::<rocket::http::MediaType>().is_err() {
        let detail = format!("'{}' is no media type, such as image/png", given.kind);
        return Err(Problem::at(ProblemKind::Invalid, "/attachment/type", detail));
    }
    match STANDARD.decode(&given.base64) {
        Ok(bytes) if bytes.len() <= MOST_ATTACHMENT => Ok(Attachment { kind: given.kind, base64: given.base64 }),
        Ok(_) => {
            let detail = format!("an attachment has at most {MOST_ATTACHMENT} bytes");
            Err(Problem::at(ProblemKind::TooLarge, "/attachment/base64", detail))
        }
        Err(error) => {
            let detail = format!("it is not base64 (RFC 4648, section 4): {error}");
            Err(Problem::at(ProblemKind::Invalid, "/attachment/base64", detail))
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_reply_has_bounds() {
        let reply = |within, characters| reply_of(ReplyRequest { context: None, within, characters });
        let usual = reply(None, None).expect("the usual");
        assert_eq!((usual.within, usual.characters), (Duration::from_secs(8), 2_000));
        for (within, characters) in [(Some(0.1), None), (Some(61.0), None), (None, Some(0)), (None, Some(20_001))] {
            assert!(reply(within, characters).is_err(), "{within:?} {characters:?}");
        }
        let context = Some(serde_json::Value::String("x".repeat(MOST_CONTEXT)));
        assert!(reply_of(ReplyRequest { context, within: None, characters: None }).is_err());
    }

    #[test]
    fn an_attachment_is_a_file_of_a_type() {
        let attachment = |kind: &str, base64: String| attachment_of(AttachmentWish { kind: kind.into(), base64 });
        assert!(attachment("image/png", STANDARD.encode("flag")).is_ok());
        assert!(attachment("flag", STANDARD.encode("flag")).is_err());
        assert!(attachment("image/png", "no base64!".into()).is_err());
        assert!(attachment("image/png", STANDARD.encode(vec![0; MOST_ATTACHMENT + 1])).is_err());
    }
}
