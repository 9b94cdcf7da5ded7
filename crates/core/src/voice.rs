//! Voices in one normal form, and how they are matched.

use std::fmt;
use std::str::FromStr;

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use crate::{Site, extended_filter, is_fallback};

/// `engine/voice`.
#[derive(Debug, Clone, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub struct VoiceId {
    /// The engine's name.
    pub engine: String,
    /// The voice's id there.
    pub voice: String,
}

impl fmt::Display for VoiceId {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{}/{}", self.engine, self.voice)
    }
}

impl FromStr for VoiceId {
    type Err = ();

    fn from_str(text: &str) -> Result<Self, ()> {
        match text.split_once('/') {
            Some((engine, voice)) if !engine.is_empty() && !voice.is_empty() => {
                Ok(VoiceId { engine: engine.into(), voice: voice.into() })
            }
            _ => Err(()),
        }
    }
}

/// As in SSML 1.1 (section 3.2.1).
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "lowercase")]
pub enum Gender {
    /// `female`.
    Female,
    /// `male`.
    Male,
    /// `neutral`: neither, or either.
    Neutral,
}

impl Gender {
    /// The word for it.
    pub fn name(self) -> &'static str {
        match self {
            Gender::Female => "female",
            Gender::Male => "male",
            Gender::Neutral => "neutral",
        }
    }
}

/// Origin of a voice.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Default, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "lowercase")]
pub enum Origin {
    /// Available to every customer of the engine.
    #[default]
    Stock,
    /// Made for this account; for apps with a grant.
    Custom,
}

impl Origin {
    /// The word in sheets and in the API.
    pub fn name(self) -> &'static str {
        match self {
            Origin::Stock => "stock",
            Origin::Custom => "custom",
        }
    }

    fn is_stock(&self) -> bool {
        *self == Origin::Stock
    }
}

/// One speaking voice of one engine.
#[derive(Debug, Clone, PartialEq, Eq, Default, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct Voice {
    /// The engine's id for it; in a sheet, also a number.
    #[serde(deserialize_with = "text_or_number")]
    pub id: String,
    /// The name for people.
    pub name: String,
    /// BCP 47 tags, the best first.
    pub languages: Vec<String>,
    /// As the engine states it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub gender: Option<Gender>,
    /// Ways of speaking, as the engine names them.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub styles: Vec<String>,
    /// Approximate age in years.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub age: Option<u8>,
    /// Intended uses: `announcements`, `telephone`, `reading` …
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub uses: Vec<String>,
    /// Who made the voice.
    #[serde(default, skip_serializing_if = "Origin::is_stock")]
    pub origin: Origin,
    /// Why it cannot be used at present.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub unavailable: Option<String>,
    /// Models that have this voice (empty: all).
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub models: Vec<String>,
    /// A few words on its character or purpose.
    #[serde(default, skip_serializing_if = "String::is_empty")]
    pub character: String,
    /// Class by which its engine charges it; the tariff has a factor for each.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub class: Option<String>,
}

fn text_or_number<'de, D: serde::Deserializer<'de>>(deserializer: D) -> Result<String, D::Error> {
    #[derive(Deserialize)]
    #[serde(untagged)]
    enum Id {
        Text(String),
        Number(i64),
    }
    Ok(match Id::deserialize(deserializer)? {
        Id::Text(text) => text,
        Id::Number(number) => number.to_string(),
    })
}

/// What a voice must be like; every member that is given must fit.
#[derive(Debug, Clone, PartialEq, Eq, Default, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Criteria {
    /// Language ranges (RFC 4647), separated by spaces or commas, best first.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub languages: Option<String>,
    /// The gender that it must have.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub gender: Option<Gender>,
    /// A style that it must have.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub style: Option<String>,
    /// The name that it must have.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub name: Option<String>,
    /// Where its engine must run. It binds the whole request: voices that a
    /// script asks for, too, are looked for there alone.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub site: Option<Site>,
}

impl fmt::Display for Criteria {
    /// In words: `any female pt-PT voice in the style calm`.
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str("any ")?;
        if let Some(site) = self.site {
            write!(f, "{} ", site.name())?;
        }
        if let Some(gender) = self.gender {
            write!(f, "{} ", gender.name())?;
        }
        let ranges: Vec<&str> = self.ranges().collect();
        if !ranges.is_empty() {
            write!(f, "{} ", ranges.join(" or "))?;
        }
        f.write_str("voice")?;
        if let Some(name) = &self.name {
            write!(f, " named {name}")?;
        }
        match &self.style {
            Some(style) => write!(f, " in the style {style}"),
            None => Ok(()),
        }
    }
}

/// The rank of a voice whose tag is wider than the range.
const WIDER: usize = 1_000_000;

impl Criteria {
    fn ranges(&self) -> impl Iterator<Item = &str> {
        let languages = self.languages.as_deref().unwrap_or_default();
        languages.split([' ', ',']).filter(|range| !range.is_empty())
    }

    /// How well the voice fits, wherever its engine runs: smaller is better;
    /// `None` where it does not.
    /// An exact tag comes before one that is only in the range.
    pub fn rank(&self, voice: &Voice) -> Option<usize> {
        let mut rank = 0;
        if self.languages.is_some() {
            let place = |(index, range): (usize, &str)| {
                let exact = voice.languages.iter().any(|tag| tag.eq_ignore_ascii_case(range));
                match voice.languages.iter().position(|tag| extended_filter(range, tag)) {
                    Some(fits) => Some(index * 100 + if exact { 0 } else { 1 + fits }),
                    // Without a region, it may serve for each.
                    None => voice.languages.iter().any(|tag| is_fallback(range, tag)).then_some(WIDER + index),
                }
            };
            rank = self.ranges().enumerate().filter_map(place).min()?;
        }
        let gender = self.gender.is_none_or(|gender| voice.gender == Some(gender));
        let style =
            self.style.as_ref().is_none_or(|style| voice.styles.iter().any(|has| has.eq_ignore_ascii_case(style)));
        let name = self
            .name
            .as_ref()
            .is_none_or(|name| voice.name.eq_ignore_ascii_case(name) || voice.id.eq_ignore_ascii_case(name));
        (gender && style && name).then_some(rank)
    }

    /// Whether anything is asked at all.
    pub fn is_empty(&self) -> bool {
        *self == Criteria::default()
    }
}

impl Voice {
    /// Whether one of its languages shares the primary language of the tag.
    pub fn speaks(&self, tag: &str) -> bool {
        let primary = crate::primary_language(tag);
        self.languages.iter().any(|has| crate::primary_language(has) == primary)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn voice(languages: &[&str], gender: Gender) -> Voice {
        Voice {
            id: "pellin".into(),
            name: "Pellin".into(),
            languages: languages.iter().map(|tag| (*tag).to_owned()).collect(),
            gender: Some(gender),
            styles: vec!["calm".into()],
            ..Voice::default()
        }
    }

    #[test]
    fn criteria_are_written_in_words() {
        assert_eq!(Criteria::default().to_string(), "any voice");
        assert_eq!(criteria("pt-PT pt").to_string(), "any pt-PT or pt voice");
        let whole = Criteria {
            languages: Some("en-GB".into()),
            gender: Some(Gender::Female),
            style: Some("calm".into()),
            name: Some("Pellin".into()),
            site: Some(Site::Local),
        };
        assert_eq!(whole.to_string(), "any local female en-GB voice named Pellin in the style calm");
    }

    fn criteria(languages: &str) -> Criteria {
        Criteria { languages: Some(languages.into()), ..Criteria::default() }
    }

    #[test]
    fn an_exact_region_comes_before_another_and_order_counts() {
        let (portugal, brazil) = (voice(&["pt-PT"], Gender::Female), voice(&["pt-BR"], Gender::Female));
        let wanted = criteria("pt-BR pt");
        assert!(wanted.rank(&brazil) < wanted.rank(&portugal));
        assert_eq!(criteria("fr").rank(&brazil), None);
        let bare = voice(&["pt"], Gender::Female);
        assert!(criteria("pt-BR").rank(&brazil) < criteria("pt-BR").rank(&bare), "{:?}", criteria("pt-BR").rank(&bare));
        assert!(criteria("pt").rank(&portugal).is_some());
    }

    #[test]
    fn every_criterion_must_fit() {
        let pellin = voice(&["en-GB"], Gender::Female);
        let wanted = |gender, style: &str| Criteria { gender, style: Some(style.into()), ..criteria("en") };
        assert!(wanted(Some(Gender::Female), "CALM").rank(&pellin).is_some());
        assert_eq!(wanted(Some(Gender::Male), "calm").rank(&pellin), None);
        assert_eq!(wanted(None, "angry").rank(&pellin), None);
    }

    #[test]
    fn ids_have_two_parts() {
        assert_eq!("heron/pellin".parse::<VoiceId>().expect("id").to_string(), "heron/pellin");
        assert!("quayside".parse::<VoiceId>().is_err() && "heron/".parse::<VoiceId>().is_err());
    }
}
