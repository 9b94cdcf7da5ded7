//! EmotionML within SSML: a style of the voice, for the words inside of an
//! `emotion` or for those that follow it.

use super::{Element, Lowering, Manner, Tag, WalkStep};
use crate::Outcome;
use crate::reader::values::number;

impl Lowering<'_> {
    pub(super) fn emotion(&mut self, element: Element<'_>, at: usize) -> Outcome {
        let around = !self.is_spoken(element);
        let dimensions = || element.attributes().filter(|(key, _)| *key == "dimension");
        let dimension =
            |name: &str| dimensions().find_map(|(_, value)| number(value.strip_prefix(name)?.strip_prefix(' ')?));
        let signed = |name: &str| {
            let value = dimension(name)?;
            Some((format!("{name}{}", if value < 0.5 { '-' } else { '+' }), (value - 0.5).abs() * 2.0))
        };
        let category = element.get("category").map(|name| (name.to_owned(), element.get("strength").and_then(number)));
        let meant: Vec<(String, Option<f64>)> = category
            .into_iter()
            .chain(
                ["valence", "arousal", "dominance"].iter().filter_map(|name| signed(name)).map(|(n, d)| (n, Some(d))),
            )
            .collect();
        let style = meant
            .iter()
            .find_map(|(emotion, strength)| Some(Manner { name: self.choices.style(emotion)?, strength: *strength }));
        match style.filter(|_| self.adapts()) {
            Some(style) => {
                self.note(at, format!("spoken {}", style.name));
                let style = Box::new(style);
                if around {
                    // It holds from here to its parent's end.
                    self.inner();
                    let depth = self.saved.len();
                    let parent = depth.checked_sub(2).and_then(|parent| self.saved.get_mut(parent));
                    if let Some((outside @ None, _)) = parent {
                        *outside = Some(Box::new(self.state.clone()));
                    }
                    if let Some((Some(outer), _)) = self.saved.last_mut() {
                        outer.style = Some(style.clone());
                    }
                }
                self.turn(|state| state.style = Some(style));
                Outcome::Rewritten
            }
            None => {
                let names: Vec<&str> = meant.iter().map(|(name, _)| name.as_str()).collect();
                self.note(at, format!("this voice has no style for {}", names.join(", ")));
                if around || !self.adapts() { Outcome::Omitted } else { Outcome::Plain }
            }
        }
    }

    /// Whether the element that the walk has just reached has content of its
    /// own that is spoken.
    fn is_spoken(&self, element: Element<'_>) -> bool {
        let script = self.script;
        script.items[self.next..element.end()].iter().any(|item| match item.step() {
            WalkStep::Text(span) => !script.slice(span).trim_ascii().is_empty(),
            WalkStep::Said(said) => !said.is_ascii_whitespace(),
            WalkStep::Open(number) => matches!(script.element(number).tag(), Tag::Audio | Tag::Sub | Tag::Phoneme),
            WalkStep::Close => false,
        })
    }
}
