//! EmotionML 1.0 (W3C Recommendation of 22 May 2014) inside SSML: `emotion`
//! gives the style of the text in it or, if it is empty, of its parent's text
//! from there on.

use super::values::number;
use super::xml::Given;

/// An `emotion` being read.
pub(super) struct Emotion {
    category_set: bool,
    dimension_set: bool,
    parts: Vec<(&'static str, String)>,
}

fn get<'g>(given: &'g [Given<'_>], name: &str) -> Option<&'g str> {
    given.iter().find(|one| one.name == name).map(|one| &*one.value)
}

/// A value from 0 to 1.
fn share(given: &[Given<'_>], of: &str) -> Result<Option<String>, String> {
    match get(given, "value") {
        None => Ok(None),
        Some(value) if number(value).is_some_and(|value| value <= 1.0) => Ok(Some(value.to_owned())),
        Some(value) => Err(format!("value=\"{value}\" in <{of}>: expected a number from 0 to 1")),
    }
}

impl Emotion {
    pub(super) fn begin(given: &[Given<'_>]) -> Result<Emotion, String> {
        if let Some(version) = get(given, "version").filter(|version| *version != "1.0") {
            return Err(format!("version '{version}' of EmotionML is not known; 1.0 is"));
        }
        Ok(Emotion {
            category_set: get(given, "category-set").is_some(),
            dimension_set: get(given, "dimension-set").is_some(),
            parts: Vec::new(),
        })
    }

    /// A child.
    pub(super) fn part(&mut self, local: &str, given: &[Given<'_>]) -> Result<(), String> {
        let named = || get(given, "name").ok_or_else(|| format!("<{local}> needs name"));
        match local {
            "category" => {
                let name = named()?;
                if !self.category_set {
                    return Err("<category> needs a category-set on its <emotion>".into());
                }
                self.parts.push(("category", name.into()));
                self.parts.extend(share(given, local)?.map(|value| ("strength", value)));
            }
            "dimension" => {
                let name = named()?;
                if !self.dimension_set {
                    return Err("<dimension> needs a dimension-set on its <emotion>".into());
                }
                let value = share(given, local)?.ok_or("<dimension> needs value, or a trace of values")?;
                self.parts.push(("dimension", format!("{name} {value}")));
            }
            "intensity" => {
                self.parts.extend(share(given, local)?.map(|value| ("strength", value)));
            }
            _ => {}
        }
        Ok(())
    }

    /// What was found, as attributes of the element: `category`, `strength`, and
    /// `dimension`, with its name before its value.
    pub(super) fn attributes(self) -> Vec<(&'static str, String)> {
        self.parts
    }
}
