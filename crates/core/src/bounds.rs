//! Where a request may be worked on.

use crate::{Sheet, Site};

/// The sites and the region in which engines may be called for a request.
/// Whatever fails, nothing of it is sent elsewhere.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct Bounds {
    site: Option<Site>,
    region: Option<String>,
    /// Two demands that no engine meets.
    nowhere: bool,
    /// The only engines that may be called; all where it is empty.
    engines: Vec<String>,
    /// The only voices that may speak, as `engine/voice`; all where it is empty.
    voices: Vec<String>,
}

impl Bounds {
    /// These bounds, and a further demand.
    #[must_use]
    pub fn at(self, site: Option<Site>) -> Bounds {
        let clash = self.site.zip(site).is_some_and(|(one, other)| one != other);
        Bounds { site: self.site.or(site), nowhere: self.nowhere || clash, ..self }
    }

    /// These bounds, and a region. What runs on this machine is in every region.
    #[must_use]
    pub fn in_region(self, region: Option<&str>) -> Bounds {
        let clash = self.region.as_deref().zip(region).is_some_and(|(one, other)| one != other);
        let region = self.region.clone().or_else(|| region.map(str::to_owned));
        Bounds { region, nowhere: self.nowhere || clash, ..self }
    }

    /// These bounds, and nothing but some engines and voices (`engine/voice`); an
    /// empty list bounds nothing. Lists of the same kind are not combined.
    #[must_use]
    pub fn only(self, engines: &[String], voices: &[String]) -> Bounds {
        Bounds { engines: engines.to_vec(), voices: voices.to_vec(), ..self }
    }

    /// Whether a voice may speak.
    pub fn hold_voice(&self, engine: &str, voice: &str) -> bool {
        let is = |id: &String| id.split_once('/').is_some_and(|(of, name)| of == engine && name == voice);
        self.voices.is_empty() || self.voices.iter().any(is)
    }

    /// The region that is asked for.
    pub fn region(&self) -> Option<&str> {
        self.region.as_deref()
    }

    /// Whether an engine may be called. One that does not say in which regions
    /// it can be called is in none.
    pub fn hold(&self, sheet: &Sheet) -> bool {
        let region = || self.region.as_ref().is_none_or(|region| sheet.site == Site::Local || sheet.has_region(region));
        let granted = self.engines.is_empty() || self.engines.contains(&sheet.name);
        granted && !self.nowhere && self.site.is_none_or(|site| site == sheet.site) && region()
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn sheet(site: &str, regions: &str) -> Sheet {
        let text = format!(
            "sheet = 1\nname = \"ibis\"\nsite = \"{site}\"\nendpoint = \"http://x.example\"\n[access]\n\
             scheme = \"basic\"\nparts = [\"user\", \"password\", \"shore\"]\npublic = [\"shore\"]\n{regions}\n\
             [synthesis]\ncall = \"POST /say\"\ntext = \"x\"\nanswer = \"audio\"\n\
             [synthesis.formats]\nmp3 = {{ type = \"audio/mpeg\", sample_rates = [24000] }}\n\
             [[synthesis.voices]]\nid = \"ada\"\nname = \"Ada\"\nlanguages = [\"en\"]\n"
        );
        Sheet::parse(&text, "ibis.toml").expect("a sheet")
    }

    #[test]
    fn demands_add_up_and_are_never_lifted() {
        let (local, cloud) = (Some(Site::Local), Some(Site::Cloud));
        let (here, there) = (sheet("local", ""), sheet("cloud", ""));
        let all = Bounds::default;
        for (bounds, at_local, at_cloud) in [
            (all(), true, true),
            (all().at(None), true, true),
            (all().at(local).at(None).at(local), true, false),
            (all().at(cloud), false, true),
            (all().at(local).at(cloud), false, false),
            (all().at(local).at(cloud).at(local), false, false),
        ] {
            assert_eq!((bounds.hold(&here), bounds.hold(&there)), (at_local, at_cloud), "{bounds:?}");
        }
    }

    #[test]
    fn only_granted_engines_and_voices_are_used() {
        let list = |names: &[&str]| names.iter().map(|name| (*name).to_owned()).collect::<Vec<_>>();
        let ibis = sheet("cloud", "");
        let bounds = |engines: &[&str], voices: &[&str]| Bounds::default().only(&list(engines), &list(voices));
        assert!(bounds(&["ibis"], &[]).hold(&ibis) && bounds(&[], &["ibis/ada"]).hold(&ibis));
        assert!(!bounds(&["heron"], &[]).hold(&ibis));
        assert!(!bounds(&["ibis"], &[]).at(Some(Site::Local)).hold(&ibis));
        let voice = |voices: &[&str], name| bounds(&[], voices).hold_voice("ibis", name);
        assert!(voice(&[], "ada") && voice(&["heron/x", "ibis/ada"], "ada"));
        assert!(!voice(&["heron/ada", "ibis/adam"], "ada"));
    }

    #[test]
    fn a_region_holds_for_engines_that_have_it_and_for_this_machine() {
        let northern = sheet("cloud", "[regions]\npart = \"shore\"\nnames = [\"north\"]");
        let both = sheet("cloud", "[regions]\npart = \"shore\"\nnames = [\"north\", \"south\"]");
        let (unsaid, here) = (sheet("cloud", ""), sheet("local", ""));
        let held = |bounds: &Bounds| [&northern, &both, &unsaid, &here].map(|sheet| bounds.hold(sheet));
        let south = Bounds::default().in_region(Some("south"));
        assert_eq!(held(&south), [false, true, false, true]);
        assert_eq!(held(&south.clone().in_region(None).in_region(Some("south"))), [false, true, false, true]);
        assert_eq!(held(&south.clone().in_region(Some("north"))), [false; 4], "two regions are none");
        assert_eq!(held(&south.at(Some(Site::Cloud))), [false, true, false, false]);
    }
}
