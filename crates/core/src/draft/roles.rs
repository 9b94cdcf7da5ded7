//! What the members of a request mean, by their names and values.

/// What a member of a request is for, by its name.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum Role {
    Text,
    Voice,
    Model,
    Language,
    Format,
    Rate,
}

pub(super) fn role(name: &str) -> Option<Role> {
    let plain = name.to_lowercase().replace(['-', '_'], "");
    let is = |names: &[&str]| names.contains(&plain.as_str());
    let has = |parts: &[&str]| parts.iter().any(|part| plain.contains(part));
    if is(&[
        "text",
        "input",
        "say",
        "words",
        "content",
        "prompt",
        "message",
        "sentence",
        "utterance",
        "transcript",
        "q",
        "ssml",
        "script",
        "tts",
    ]) {
        Some(Role::Text)
    } else if has(&["voice", "speaker"]) || is(&["who"]) {
        Some(Role::Voice)
    } else if has(&["model"]) {
        Some(Role::Model)
    } else if has(&["language", "locale"]) || is(&["lang", "tongue"]) {
        Some(Role::Language)
    } else if has(&["samplerate", "samplingrate", "hertz"]) || is(&["rate", "hz"]) {
        Some(Role::Rate)
    } else if has(&["format", "codec", "encoding", "container", "mimetype", "filetype"])
        || is(&["as", "type", "output", "audio"])
    {
        Some(Role::Format)
    } else {
        None
    }
}

/// How an audio format is written in media types, by what engines call it.
pub(super) fn media_type(tag: &str) -> Option<&'static str> {
    let tag = tag.to_lowercase();
    let has = |part: &str| tag.contains(part);
    Some(match () {
        () if has("mp3") || has("mpeg") => "audio/mpeg",
        () if has("opus") && has("webm") => "audio/webm;codecs=opus",
        () if has("opus") || has("ogg") => "audio/ogg;codecs=opus",
        () if has("flac") => "audio/flac",
        () if has("mulaw") || has("ulaw") => "audio/basic",
        () if has("pcm") || has("linear") || has("s16") || has("l16") || has("raw") => "audio/pcm",
        () if has("wav") || has("riff") => "audio/wav",
        () if has("aac") => "audio/aac",
        () => return None,
    })
}

pub(super) fn rate_in(tag: &str) -> Option<u32> {
    let rates = [48_000, 44_100, 32_000, 24_000, 22_050, 16_000, 11_025, 8_000];
    let numbers = tag.split(|c: char| !c.is_ascii_digit()).filter_map(|digits| digits.parse::<u32>().ok());
    numbers.map(|n| if n < 100 { n * 1_000 } else { n }).find(|n| rates.contains(n))
}
