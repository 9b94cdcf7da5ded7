//! A synthesis request out of JSON, plain text or SSML.

use std::sync::Arc;

use dispatcher_audio::{AudioError, Format, Preference, negotiate, parse_accept};
use dispatcher_core::{Criteria, Wanted, is_language_tag};
use dispatcher_gateway::{Caller, Gateway, Presets, Registry, SynthesisRequest, TextInput, Unsupported};
use dispatcher_markup::{DialogueLine, dialogue};

use super::shaping_wish::shaping;
use super::speech_parameters::from_parameters;
use super::{SMALL_BODY, spoken_sequence};
use crate::body::{RequestBody, read_small};
use crate::headers::{Meta, text_of_body};
use crate::parameters::{Parameters, no_query};
use crate::problem::Problem;
use crate::problem_kind::ProblemKind;
use crate::wire::{AudioWish, UtteranceRequest};

/// What a name of audio means to a caller, and what it gets that names none.
pub(super) struct Formats {
    presets: Presets,
    default: Format,
    /// The engines and voices that there are.
    registry: Arc<Registry>,
}

impl Formats {
    pub(super) fn of(gateway: &Gateway, caller: &Caller) -> Formats {
        let presets = gateway.registry().presets().clone();
        // A default whose preset was retired since falls back to the usual one.
        let default = caller.app.default_format.as_deref().and_then(|name| presets.format(name).ok());
        Formats { presets, default: default.unwrap_or_default(), registry: gateway.registry() }
    }

    /// The same with another default.
    pub(super) fn with_default(self, default: Format) -> Formats {
        Formats { default, ..self }
    }

    fn named(&self, name: &str) -> Result<Format, AudioError> {
        self.presets.format(name)
    }
}

/// A request, how to answer it, and its body for comparison.
pub(super) struct SpeechRequest {
    pub(super) request: SynthesisRequest,
    /// The answer carries the audio inside JSON.
    pub(super) json: bool,
    /// The answer is a sequence of JSON texts, with the audio in pieces.
    pub(super) sequence: bool,
    /// The answer is sent once it is whole, with its length.
    pub(super) whole: bool,
    pub(super) webhook: Option<String>,
    /// When the link ends that the audio is answered by, in seconds since 1970.
    pub(super) link_until: Option<i64>,
    pub(super) body: Vec<u8>,
}

/// Reads the body by its media type.
pub(super) async fn read(meta: &Meta, data: RequestBody<'_>, formats: &Formats) -> Result<SpeechRequest, Problem> {
    of_body(meta, read_small(data, SMALL_BODY).await?, formats)
}

/// Reads a query that has all of it, for callers that can only give an address.
/// The answer is sent once it is whole, unless the query says otherwise.
pub(super) fn of_address(meta: &Meta, formats: &Formats) -> Result<SpeechRequest, Problem> {
    let mut given = Parameters::of_query(&meta.query)?;
    let (text, ssml) = (given.text("text"), given.text("ssml"));
    let streamed = given.flag("whole")? == Some(false);
    let wish = from_parameters(&mut given)?;
    given.finish()?;
    let wish = UtteranceRequest { text, ssml, ..wish };
    super::transcripts::no_webhook(wish.webhook.as_ref())?;
    let link_until = super::links::delivery(wish.deliver.as_deref(), wish.expires_in)?;
    let (request, json) = of_wish(wish, meta, formats)?;
    let sequence = spoken_sequence::is_accepted(&meta.accept);
    Ok(SpeechRequest { request, json, sequence, whole: !streamed, webhook: None, link_until, body: Vec::new() })
}

/// The request that each sentence of a text is spoken by, which is still to be
/// written.
pub(super) fn of_opening(wish: UtteranceRequest, meta: &Meta, formats: &Formats) -> Result<SynthesisRequest, Problem> {
    super::narration::check_opening(&wish)?;
    let (format, _) = answer_format("*/*", wish.audio.as_ref(), formats)?;
    request_of(UtteranceRequest { text: Some(String::new()), ..wish }, format, meta, formats)
}

/// Reads a body that is there already.
pub(super) fn of_body(meta: &Meta, body: Vec<u8>, formats: &Formats) -> Result<SpeechRequest, Problem> {
    let text = || text_of_body(&body, meta.charset.as_deref());
    let wish = match meta.essence.as_str() {
        "application/json" | "" => {
            no_query(&meta.query, "JSON")?;
            serde_json::from_slice(&body).map_err(|error| Problem::of_json(&error))?
        }
        "text/plain" => UtteranceRequest { text: Some(text()?), ..from_query(&meta.query)? },
        "application/ssml+xml" => UtteranceRequest { ssml: Some(text()?), ..from_query(&meta.query)? },
        other => {
            let detail = format!(
                "the type '{other}' is not accepted; send application/json, text/plain or application/ssml+xml"
            );
            return Err(Problem::new(ProblemKind::BadRequest, detail));
        }
    };
    let whole = wish.audio.as_ref().is_some_and(|audio| audio.whole);
    let webhook = wish.webhook.clone();
    let link_until = super::links::delivery(wish.deliver.as_deref(), wish.expires_in)?;
    let (request, json) = of_wish(wish, meta, formats)?;
    let sequence = spoken_sequence::is_accepted(&meta.accept);
    Ok(SpeechRequest { request, json, sequence, whole, webhook, link_until, body })
}

/// The request of a wish, and whether its answer carries the audio inside JSON.
pub(super) fn of_wish(
    wish: UtteranceRequest,
    meta: &Meta,
    formats: &Formats,
) -> Result<(SynthesisRequest, bool), Problem> {
    let accept = if spoken_sequence::is_accepted(&meta.accept) { "application/json" } else { meta.accept.as_str() };
    let (format, json) = answer_format(accept, wish.audio.as_ref(), formats)?;
    Ok((request_of(wish, format, meta, formats)?, json))
}

/// The text of a request, which is there in one of three forms.
fn text_of(wish: &mut UtteranceRequest) -> Result<TextInput, Problem> {
    let two = |pointer: &str| Err(Problem::at(ProblemKind::Invalid, pointer, "send only one of text, ssml and lines"));
    match (wish.text.take(), wish.ssml.take(), wish.lines.take()) {
        (Some(text), None, None) => Ok(TextInput::Plain(text)),
        (None, Some(document), None) => Ok(TextInput::Ssml(document)),
        (None, None, Some(lines)) if lines.is_empty() => {
            Err(Problem::at(ProblemKind::Invalid, "/lines", "there are no lines"))
        }
        (None, None, Some(lines)) => {
            let lines: Vec<DialogueLine> = lines.into_iter().map(DialogueLine::from).collect();
            let language = wish.language.as_deref().filter(|tag| *tag != "auto");
            let made = dialogue(&lines, language);
            made.map(TextInput::Made)
                .map_err(|fault| Problem::at(ProblemKind::Invalid, &format!("/lines/{}", fault.at), fault.what))
        }
        (None, None, None) => {
            Err(Problem::at(ProblemKind::Invalid, "/text", "there is no text; send text, ssml or lines"))
        }
        (_, Some(_), _) => two("/ssml"),
        _ => two("/lines"),
    }
}

fn request_of(
    mut wish: UtteranceRequest,
    format: Format,
    meta: &Meta,
    formats: &Formats,
) -> Result<SynthesisRequest, Problem> {
    let text = text_of(&mut wish)?;
    if let Some(tag) = wish.language.as_ref().filter(|tag| !is_language_tag(tag)) {
        return Err(Problem::at(
            ProblemKind::Invalid,
            "/language",
            format!("'{tag}' is not a BCP 47 tag, such as en-GB"),
        ));
    }
    let unsupported = unsupported(wish.unsupported.as_deref(), meta)?;
    let wanted = match wish.voice {
        None => None,
        Some(serde_json::Value::String(name)) => Some(Wanted::Named(name)),
        Some(criteria) => {
            let read: Result<Criteria, _> = serde_json::from_value(criteria);
            let read = read.map_err(|error| Problem::at(ProblemKind::Invalid, "/voice", error.to_string()))?;
            (!read.is_empty()).then_some(Wanted::Like(read))
        }
    };
    let shaping = shaping(wish.prosody, wish.style, wish.direction, wish.variation, wish.seed)?;
    let mut request = SynthesisRequest {
        shaping,
        text,
        wanted,
        model: wish.model,
        language: wish.language,
        unsupported,
        format,
        deadline: deadline(wish.deadline)?,
        credential: wish.credential,
        region: wish.region,
        trace: meta.trace.clone(),
        notes: Vec::new(),
        cache: meta.cache,
    };
    request.find_language(&formats.registry);
    Ok(request)
}

/// The request with the notice of its app before its text.
pub(super) fn announced(request: SynthesisRequest, caller: &Caller) -> SynthesisRequest {
    match &caller.app.notice {
        Some(notice) => SynthesisRequest { text: request.text.with_notice(notice), ..request },
        None => request,
    }
}

/// Seconds of a deadline as milliseconds.
pub(super) fn deadline(seconds: Option<f64>) -> Result<Option<u64>, Problem> {
    match seconds {
        None => Ok(None),
        Some(seconds) if (0.1..=3_600.0).contains(&seconds) => Ok(Some((seconds * 1_000.0) as u64)),
        Some(_) => Err(Problem::at(ProblemKind::Invalid, "/deadline", "a deadline is 0.1 to 3600 seconds")),
    }
}

/// What to do with what an engine cannot.
pub(super) fn unsupported(told: Option<&str>, meta: &Meta) -> Result<Unsupported, Problem> {
    match told {
        None if meta.strict => Ok(Unsupported::Refuse),
        None | Some("adapt") => Ok(Unsupported::Adapt),
        Some("refuse") => Ok(Unsupported::Refuse),
        Some("omit") => Ok(Unsupported::Omit),
        Some(other) => {
            Err(Problem::at(ProblemKind::Invalid, "/unsupported", format!("'{other}' is not refuse, adapt or omit")))
        }
    }
}

/// The format of the answer, and whether it travels inside JSON.
fn answer_format(accept: &str, wish: Option<&AudioWish>, formats: &Formats) -> Result<(Format, bool), Problem> {
    let json = parse_accept(accept).into_iter().next() == Some(Preference::Json);
    let wished = wish.map(|wish| wished_format(wish, formats)).transpose()?.flatten();
    let plain = |error: dispatcher_audio::AudioError| Problem::new(ProblemKind::NotAcceptable, error.to_string());
    let format = match wished {
        Some(format) => format,
        None if json => formats.default,
        None => negotiate(accept, formats.default).map_err(plain)?.unwrap_or(formats.default),
    };
    // A rate or bit rate without a type changes the negotiated format.
    let format = match wish.filter(|wish| wish.kind.is_none()) {
        Some(wish) => with_numbers(format, wish)?,
        None => format,
    };
    Ok((format, json))
}

fn wished_format(wish: &AudioWish, formats: &Formats) -> Result<Option<Format>, Problem> {
    let Some(kind) = &wish.kind else { return Ok(None) };
    let format = formats
        .named(kind)
        .map_err(|error| Problem::at(ProblemKind::NotAcceptable, "/audio/type", error.to_string()))?;
    with_numbers(format, wish).map(Some)
}

fn with_numbers(format: Format, wish: &AudioWish) -> Result<Format, Problem> {
    let format = Format {
        rate: wish.sample_rate.unwrap_or(format.rate),
        channels: wish.channels.unwrap_or(format.channels),
        bitrate: if wish.vbr { wish.bitrate } else { wish.bitrate.or(format.bitrate) },
        vbr: wish.vbr || format.vbr && wish.bitrate.is_none(),
        ..format
    };
    format.check_output().map_err(|error| Problem::at(ProblemKind::NotAcceptable, "/audio", error.to_string()))?;
    Ok(format)
}

/// The query parameters of bodies that are text.
fn from_query(query: &str) -> Result<UtteranceRequest, Problem> {
    let mut given = Parameters::of_query(query)?;
    let wish = from_parameters(&mut given)?;
    given.finish()?;
    Ok(wish)
}

/// A request of parameters alone; its text is put in later.
pub(super) fn of_parameters(
    given: &mut Parameters,
    meta: &Meta,
    formats: &Formats,
) -> Result<SynthesisRequest, Problem> {
    let wish = from_parameters(given)?;
    super::links::no_link(wish.deliver.as_ref())?;
    // What a job answers with is JSON, and says nothing of its files.
    let (format, _) = answer_format("*/*", wish.audio.as_ref(), formats)?;
    request_of(UtteranceRequest { text: Some(String::new()), ..wish }, format, meta, formats)
}

#[cfg(test)]
mod tests {
    use dispatcher_audio::Codec;

    use super::*;

    fn wish(json: &str) -> AudioWish {
        serde_json::from_str(json).expect("a wish")
    }

    fn usual() -> Formats {
        Formats { presets: Presets::default(), default: Format::default(), registry: Arc::default() }
    }

    #[test]
    fn an_app_that_has_a_format_of_its_own_gets_it_unless_it_asks() {
        let phone = Formats { default: Format::new(Codec::Mulaw, 8_000), ..usual() };
        for (accept, asked, codec, rate) in [
            ("", None, Codec::Mulaw, 8_000),
            ("*/*", None, Codec::Mulaw, 8_000),
            ("application/json", None, Codec::Mulaw, 8_000),
            ("audio/mpeg", None, Codec::Mp3, 8_000),
            ("", Some(r#"{"type":"web"}"#), Codec::Mp3, 24_000),
            ("", Some(r#"{"sample_rate":16000}"#), Codec::Mulaw, 16_000),
        ] {
            let (made, _) = answer_format(accept, asked.map(wish).as_ref(), &phone).expect(accept);
            assert_eq!((made.codec, made.rate), (codec, rate), "{accept} {asked:?}");
        }
        let (made, _) = answer_format("", Some(&wish(r#"{"type":"web","vbr":true}"#)), &usual()).expect("variable");
        assert!(made.vbr && made.bitrate.is_none(), "{made:?}");
    }

    fn refused<T>(result: Result<T, Problem>) -> Problem {
        match result {
            Ok(_) => panic!("it was taken"),
            Err(problem) => problem,
        }
    }

    #[test]
    fn the_wish_decides_before_what_is_accepted_and_json_only_wraps() {
        let wav = Format::default();
        let mp3 = Format::new(Codec::Mp3, 24_000);
        for (accept, asked, format, json) in [
            ("", None, wav, false),
            ("*/*", None, wav, false),
            ("audio/mpeg", None, mp3, false),
            ("application/json", None, wav, true),
            ("application/json", Some(r#"{"type":"audio/mpeg"}"#), mp3, true),
            ("audio/wav", Some(r#"{"type":"mp3"}"#), mp3, false),
            ("audio/wav", Some(r#"{"type":".mp3","bitrate":64000}"#), Format { bitrate: Some(64_000), ..mp3 }, false),
            ("", Some(r#"{"type":"phone"}"#), Format::new(Codec::Mulaw, 8_000), false),
            ("", Some(r#"{"type":"editor","sample_rate":44100}"#), Format::new(Codec::Wav, 44_100), false),
            ("", Some(r#"{"type":"flac"}"#), Format::new(Codec::Flac, 24_000), false),
            ("audio/webm;codecs=opus", None, Format::new(Codec::WebmOpus, 24_000), false),
            ("audio/mp4, audio/ogg;codecs=vorbis, audio/flac", None, Format::new(Codec::Flac, 24_000), false),
            ("audio/mpeg", Some(r#"{"sample_rate":16000}"#), Format::new(Codec::Mp3, 16_000), false),
            (
                "audio/wav",
                Some(r#"{"sample_rate":8000,"channels":2}"#),
                Format { channels: 2, ..Format::new(Codec::Wav, 8_000) },
                false,
            ),
            ("audio/ogg;codecs=opus;q=0.2, audio/mpeg", None, mp3, false),
        ] {
            let asked = asked.map(wish);
            let (made, inside) = answer_format(accept, asked.as_ref(), &usual()).expect(accept);
            assert_eq!((made, inside), (format, json), "{accept} {asked:?}");
        }
    }

    #[test]
    fn what_cannot_be_made_is_not_acceptable_and_points_at_the_member() {
        for (accept, asked, pointer) in [
            ("video/mp4", None, None),
            ("audio/wav;q=0", None, None),
            ("audio/mp4", None, None),
            ("", Some(r#"{"type":"audio/midi"}"#), Some("/audio/type")),
            ("", Some(r#"{"type":"audio/mp4"}"#), Some("/audio")),
            ("", Some(r#"{"type":"mp3","sample_rate":11111}"#), Some("/audio")),
            ("", Some(r#"{"type":"audio/ogg","sample_rate":22050}"#), Some("/audio")),
            ("", Some(r#"{"channels":9}"#), Some("/audio")),
        ] {
            let made = answer_format(accept, asked.map(wish).as_ref(), &usual());
            assert!(made.is_err(), "{accept} {asked:?} makes {:?}", made.ok());
            let problem = refused(made);
            let told = serde_json::to_value(&problem).expect("JSON");
            assert_eq!(told["status"], 406, "{accept} {asked:?}: {told}");
            let named = told["errors"][0]["pointer"].as_str();
            assert_eq!(named, pointer, "{accept} {asked:?}: {told}");
        }
    }

    #[test]
    fn query_parameters_say_the_same_as_members() {
        let read = from_query(
            "voice=heron%2Fpellin&model=fine&language=en-GB&type=audio%2Fmpeg&sample_rate=24000&bitrate=64000&channels=1",
        );
        let read = read.expect("a request");
        assert_eq!(read.voice, Some(serde_json::json!("heron/pellin")));
        assert_eq!((read.model.as_deref(), read.language.as_deref()), (Some("fine"), Some("en-GB")));
        let audio = read.audio.expect("a wish");
        assert_eq!(
            (audio.kind.as_deref(), audio.sample_rate, audio.bitrate, audio.channels),
            (Some("audio/mpeg"), Some(24_000), Some(64_000), Some(1))
        );
        let like = from_query("languages=pt-PT+pt&gender=female&style=calm").expect("criteria").voice.expect("a voice");
        assert_eq!(like, serde_json::json!({"languages": "pt-PT pt", "gender": "female", "style": "calm"}));
        let styled = from_query("voice=quayside&style=calm&seed=5000000000").expect("a style");
        assert_eq!(styled.voice, Some(serde_json::json!("quayside")));
        assert_eq!(styled.style.map(|style| style.name).as_deref(), Some("calm"));
        assert_eq!(styled.seed, Some(5_000_000_000), "as large as in JSON");
    }

    #[test]
    fn a_parameter_that_is_not_known_or_no_number_is_named() {
        for (query, said) in [
            ("vioce=quayside", "unknown parameter 'vioce'; known: voice,"),
            ("sample_rate=fast", "sample_rate takes a number, not 'fast'"),
            ("gender=other", "not 'other'"),
            ("voice=quayside&gender=male", "send one or the other"),
            ("voice=quayside&languages=pt", "send one or the other"),
            ("seed=-1", "seed takes a number, not '-1'"),
            ("model=fine&model=fast", "'model' is given twice"),
            ("access_token=x", "unknown parameter 'access_token'"),
        ] {
            let problem = refused(from_query(query));
            let told = serde_json::to_value(&problem).expect("JSON");
            assert!(told["detail"].as_str().is_some_and(|detail| detail.contains(said)), "{query}: {told}");
        }
    }
}
