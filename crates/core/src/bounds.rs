//! Where a request may be worked on.

use crate::Site;

/// The sites at which engines may be called for a request. Whatever fails,
/// nothing of it is sent elsewhere.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub enum Bounds {
    /// At every site.
    #[default]
    Anywhere,
    /// At one.
    Only(Site),
    /// Two demands that no engine meets.
    Nowhere,
}

impl Bounds {
    /// These bounds, and a further demand.
    #[must_use]
    pub fn and(self, site: Option<Site>) -> Bounds {
        match (self, site) {
            (bounds, None) => bounds,
            (Bounds::Anywhere, Some(site)) => Bounds::Only(site),
            (Bounds::Only(one), Some(site)) if one == site => self,
            _ => Bounds::Nowhere,
        }
    }

    /// Whether an engine that runs there may be called.
    pub fn hold(self, site: Site) -> bool {
        match self {
            Bounds::Anywhere => true,
            Bounds::Only(one) => one == site,
            Bounds::Nowhere => false,
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn demands_add_up_and_are_never_lifted() {
        let (local, cloud) = (Some(Site::Local), Some(Site::Cloud));
        assert_eq!(Bounds::Anywhere.and(None), Bounds::Anywhere);
        assert_eq!(Bounds::Anywhere.and(local).and(None).and(local), Bounds::Only(Site::Local));
        assert_eq!(Bounds::Anywhere.and(local).and(cloud), Bounds::Nowhere);
        assert_eq!(Bounds::Nowhere.and(local), Bounds::Nowhere);
        for (bounds, at_local, at_cloud) in [
            (Bounds::Anywhere, true, true),
            (Bounds::Only(Site::Local), true, false),
            (Bounds::Only(Site::Cloud), false, true),
            (Bounds::Nowhere, false, false),
        ] {
            assert_eq!((bounds.hold(Site::Local), bounds.hold(Site::Cloud)), (at_local, at_cloud), "{bounds:?}");
        }
    }
}
