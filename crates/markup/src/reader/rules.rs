//! What each element of SSML 1.1 may hold: its attributes and its content
//! (W3C Recommendation of 7 September 2010, sections 3.1 to 3.3).

use super::values::{FEATURES, Form, Version};
use crate::script::Tag;

/// What may stand in an element.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Content {
    /// Nothing.
    Empty,
    /// Text alone.
    Text,
    /// Text and these.
    Mixed(&'static [Tag]),
    /// Anything at all, unread.
    Any,
}

/// An attribute of an element.
pub(crate) struct Attribute {
    pub(crate) name: &'static str,
    pub(crate) form: Form,
    pub(crate) required: bool,
}

const fn may(name: &'static str, form: Form) -> Attribute {
    Attribute { name, form, required: false }
}

const fn must(name: &'static str, form: Form) -> Attribute {
    Attribute { name, form, required: true }
}

const SENTENCE: &[Tag] = &[
    Tag::Audio,
    Tag::Break,
    Tag::Emphasis,
    Tag::Lang,
    Tag::Lookup,
    Tag::Mark,
    Tag::Phoneme,
    Tag::Prosody,
    Tag::SayAs,
    Tag::Sub,
    Tag::Token,
    Tag::Voice,
];
const PARAGRAPH: &[Tag] = &[
    Tag::Audio,
    Tag::Break,
    Tag::Emphasis,
    Tag::Lang,
    Tag::Lookup,
    Tag::Mark,
    Tag::Phoneme,
    Tag::Prosody,
    Tag::SayAs,
    Tag::Sub,
    Tag::Token,
    Tag::Voice,
    Tag::Sentence,
];
const STRUCTURE: &[Tag] = &[
    Tag::Audio,
    Tag::Break,
    Tag::Emphasis,
    Tag::Lang,
    Tag::Lookup,
    Tag::Mark,
    Tag::Phoneme,
    Tag::Prosody,
    Tag::SayAs,
    Tag::Sub,
    Tag::Token,
    Tag::Voice,
    Tag::Sentence,
    Tag::Paragraph,
];
const SPEAK: &[Tag] = &[
    Tag::Audio,
    Tag::Break,
    Tag::Emphasis,
    Tag::Lang,
    Tag::Lookup,
    Tag::Mark,
    Tag::Phoneme,
    Tag::Prosody,
    Tag::SayAs,
    Tag::Sub,
    Tag::Token,
    Tag::Voice,
    Tag::Sentence,
    Tag::Paragraph,
    Tag::Meta,
    Tag::Metadata,
    Tag::Lexicon,
];
const AUDIO: &[Tag] = &[
    Tag::Audio,
    Tag::Break,
    Tag::Emphasis,
    Tag::Lang,
    Tag::Lookup,
    Tag::Mark,
    Tag::Phoneme,
    Tag::Prosody,
    Tag::SayAs,
    Tag::Sub,
    Tag::Token,
    Tag::Voice,
    Tag::Sentence,
    Tag::Paragraph,
    Tag::Desc,
];
const TOKEN: &[Tag] =
    &[Tag::Audio, Tag::Break, Tag::Emphasis, Tag::Mark, Tag::Phoneme, Tag::Prosody, Tag::SayAs, Tag::Sub];

const LANGUAGE_FAILURE: Form = Form::OneOf(&["changevoice", "ignoretext", "ignorelang", "processorchoice"]);
const TIMEOUT: Attribute = may("fetchtimeout", Form::Time);
const MAX_AGE: Attribute = may("maxage", Form::Whole);
const MAX_STALE: Attribute = may("maxstale", Form::Whole);

/// What every element may have.
pub(crate) const COMMON: &[Attribute] = &[may("xml:id", Form::Id), may("xml:base", Form::Uri)];

const LANGUAGE: Attribute = may("xml:lang", Form::Language);
const LANGUAGE_MAY_FAIL: Attribute = may("onlangfailure", LANGUAGE_FAILURE);

const SPEAK_HAS: &[Attribute] = &[
    may("version", Form::OneOf(&["1.0", "1.1"])),
    LANGUAGE,
    LANGUAGE_MAY_FAIL,
    may("startmark", Form::Reference),
    may("endmark", Form::Reference),
];
const STRUCTURE_HAS: &[Attribute] = &[LANGUAGE, LANGUAGE_MAY_FAIL];
const TOKEN_HAS: &[Attribute] = &[LANGUAGE, LANGUAGE_MAY_FAIL, may("role", Form::Roles)];
const VOICE_HAS: &[Attribute] = &[
    may("gender", Form::OneOf(&["male", "female", "neutral", ""])),
    may("age", Form::Whole),
    may("variant", Form::Counted),
    may("name", Form::Text),
    may("languages", Form::Languages),
    may("required", FEATURES),
    may("ordering", FEATURES),
    may("onvoicefailure", Form::OneOf(&["priorityselect", "keepexisting", "processorchoice"])),
];
const OLD_VOICE_HAS: &[Attribute] = &[
    may("gender", Form::OneOf(&["male", "female", "neutral"])),
    may("age", Form::Whole),
    may("variant", Form::Counted),
    may("name", Form::Text),
    LANGUAGE,
];
const PROSODY_HAS: &[Attribute] = &[
    may("pitch", Form::Pitch),
    may("contour", Form::Contour),
    may("range", Form::Range),
    may("rate", Form::Rate),
    may("duration", Form::Time),
    may("volume", Form::Volume),
];
const EMPHASIS_HAS: &[Attribute] = &[may("level", Form::OneOf(&["strong", "moderate", "none", "reduced"]))];
const BREAK_HAS: &[Attribute] = &[
    may("strength", Form::OneOf(&["none", "x-weak", "weak", "medium", "strong", "x-strong"])),
    may("time", Form::Time),
];
const SAY_AS_HAS: &[Attribute] =
    &[must("interpret-as", Form::Token), may("format", Form::Text), may("detail", Form::Text)];
const PHONEME_HAS: &[Attribute] =
    &[must("ph", Form::Text), may("alphabet", Form::Token), may("type", Form::OneOf(&["default", "ruby"]))];
const SUB_HAS: &[Attribute] = &[must("alias", Form::Text)];
const LANG_HAS: &[Attribute] = &[must("xml:lang", Form::Language), LANGUAGE_MAY_FAIL];
const LEXICON_HAS: &[Attribute] =
    &[must("uri", Form::Uri), must("xml:id", Form::Id), may("type", Form::Text), TIMEOUT, MAX_AGE, MAX_STALE];
const OLD_LEXICON_HAS: &[Attribute] = &[must("uri", Form::Uri), may("type", Form::Text)];
const LOOKUP_HAS: &[Attribute] = &[must("ref", Form::Reference)];
const AUDIO_HAS: &[Attribute] = &[
    may("src", Form::Uri),
    may("fetchhint", Form::OneOf(&["prefetch", "safe"])),
    TIMEOUT,
    MAX_AGE,
    MAX_STALE,
    may("clipBegin", Form::Time),
    may("clipEnd", Form::Time),
    may("repeatCount", Form::Positive),
    may("repeatDur", Form::Time),
    may("soundLevel", Form::Decibels),
    may("speed", Form::Percent),
];
const OLD_AUDIO_HAS: &[Attribute] = &[must("src", Form::Uri)];
const OVERLAP_HAS: &[Attribute] = &[must("time", Form::Time)];
const MARK_HAS: &[Attribute] = &[must("name", Form::Token)];
const DESC_HAS: &[Attribute] = &[LANGUAGE];
const META_HAS: &[Attribute] = &[may("name", Form::Text), may("http-equiv", Form::Text), must("content", Form::Text)];

impl Tag {
    /// The element of SSML of this name.
    pub(crate) fn named(name: &str, version: Version) -> Option<Tag> {
        Some(match name {
            "speak" => Tag::Speak,
            "p" => Tag::Paragraph,
            "s" => Tag::Sentence,
            "token" | "w" if version == Version::OneOne => Tag::Token,
            "lang" if version == Version::OneOne => Tag::Lang,
            "lookup" if version == Version::OneOne => Tag::Lookup,
            "voice" => Tag::Voice,
            "prosody" => Tag::Prosody,
            "emphasis" => Tag::Emphasis,
            "break" => Tag::Break,
            "say-as" => Tag::SayAs,
            "phoneme" => Tag::Phoneme,
            "sub" => Tag::Sub,
            "lexicon" => Tag::Lexicon,
            "audio" => Tag::Audio,
            "mark" => Tag::Mark,
            "desc" => Tag::Desc,
            "meta" => Tag::Meta,
            "metadata" => Tag::Metadata,
            _ => return None,
        })
    }

    /// The name that SSML gives it.
    pub fn name(self) -> &'static str {
        match self {
            Tag::Speak => "speak",
            Tag::Paragraph => "p",
            Tag::Sentence => "s",
            Tag::Token => "token",
            Tag::Voice => "voice",
            Tag::Prosody => "prosody",
            Tag::Emphasis => "emphasis",
            Tag::Break => "break",
            Tag::SayAs => "say-as",
            Tag::Phoneme => "phoneme",
            Tag::Sub => "sub",
            Tag::Lang => "lang",
            Tag::Lexicon => "lexicon",
            Tag::Lookup => "lookup",
            Tag::Audio => "audio",
            Tag::Mark => "mark",
            Tag::Desc => "desc",
            Tag::Meta => "meta",
            Tag::Metadata => "metadata",
            Tag::Emotion => "emotion",
            Tag::Overlap => "overlap",
            Tag::Foreign => "foreign",
        }
    }

    pub(crate) fn attributes(self, version: Version) -> &'static [Attribute] {
        let old = version == Version::One;
        match self {
            Tag::Speak => SPEAK_HAS,
            Tag::Paragraph | Tag::Sentence => STRUCTURE_HAS,
            Tag::Token => TOKEN_HAS,
            Tag::Voice if old => OLD_VOICE_HAS,
            Tag::Voice => VOICE_HAS,
            Tag::Prosody => PROSODY_HAS,
            Tag::Emphasis => EMPHASIS_HAS,
            Tag::Break => BREAK_HAS,
            Tag::SayAs => SAY_AS_HAS,
            Tag::Phoneme => PHONEME_HAS,
            Tag::Sub => SUB_HAS,
            Tag::Lang => LANG_HAS,
            Tag::Lexicon if old => OLD_LEXICON_HAS,
            Tag::Lexicon => LEXICON_HAS,
            Tag::Lookup => LOOKUP_HAS,
            Tag::Audio if old => OLD_AUDIO_HAS,
            Tag::Audio => AUDIO_HAS,
            Tag::Mark => MARK_HAS,
            Tag::Desc => DESC_HAS,
            Tag::Meta => META_HAS,
            Tag::Overlap => OVERLAP_HAS,
            Tag::Metadata | Tag::Emotion | Tag::Foreign => &[],
        }
    }

    pub(crate) fn content(self) -> Content {
        match self {
            Tag::Speak => Content::Mixed(SPEAK),
            Tag::Paragraph => Content::Mixed(PARAGRAPH),
            Tag::Sentence | Tag::Emphasis => Content::Mixed(SENTENCE),
            Tag::Token => Content::Mixed(TOKEN),
            Tag::Voice | Tag::Prosody | Tag::Lang | Tag::Lookup => Content::Mixed(STRUCTURE),
            Tag::Audio => Content::Mixed(AUDIO),
            Tag::SayAs | Tag::Phoneme | Tag::Sub | Tag::Desc => Content::Text,
            Tag::Break | Tag::Lexicon | Tag::Mark | Tag::Meta | Tag::Overlap => Content::Empty,
            // Text is what is spoken so (EmotionML 1.0, 2.1.2); its own children are read apart.
            Tag::Emotion => Content::Mixed(STRUCTURE),
            Tag::Metadata | Tag::Foreign => Content::Any,
        }
    }
}
