//! What each engine was used in the current month, where its tariff has tiers:
//! the sums of the ledger, and the calls that are under way.

use std::collections::HashMap;

use dispatcher_core::{Usage, Work};
use dispatcher_store::GroupBy;
use parking_lot::Mutex;

use crate::{Gateway, GatewayError, Registry, today};

/// Work of engines whose tariffs have tiers.
#[derive(Default)]
pub(crate) struct Volumes(Mutex<HashMap<(String, Work), MonthVolume>>);

#[derive(Default)]
struct MonthVolume {
    /// `YYYY-MM` in UTC.
    month: String,
    used: Usage,
}

fn month_of(day: &str) -> &str {
    day.get(..7).unwrap_or(day)
}

impl MonthVolume {
    /// What was used in the month of a day. A new month begins with nothing.
    fn in_month(&mut self, day: &str) -> &mut Usage {
        if self.month.as_str() < month_of(day) {
            *self = MonthVolume { month: month_of(day).to_owned(), used: Usage::default() };
        }
        &mut self.used
    }
}

impl Volumes {
    /// What work of an engine was used in the month of a day until now; nothing
    /// where its tariff has no tiers.
    pub(crate) fn used(&self, engine: &str, work: Work, day: &str) -> Usage {
        let mut volumes = self.0.lock();
        let volume = volumes.get_mut(&(engine.to_owned(), work));
        volume.map_or_else(Usage::default, |volume| *volume.in_month(day))
    }

    /// The same, and counts a call that begins: two at once are never counted
    /// from the same place.
    pub(crate) fn begin(&self, engine: &str, work: Work, day: &str, usage: Usage) -> Usage {
        let mut volumes = self.0.lock();
        let Some(volume) = volumes.get_mut(&(engine.to_owned(), work)) else { return Usage::default() };
        let used = volume.in_month(day);
        std::mem::replace(used, used.plus(usage))
    }

    /// A call that began on a day has used less or more than was held for it.
    pub(crate) fn end(&self, engine: &str, work: Work, day: &str, held: Usage, charged: Usage) {
        let mut volumes = self.0.lock();
        if let Some(volume) = volumes.get_mut(&(engine.to_owned(), work)).filter(|it| it.month == month_of(day)) {
            volume.used = volume.used.plus(charged).minus(held);
        }
    }
}

impl Gateway {
    /// Counts the month of all work whose tariff has tiers and that is not
    /// counted yet. Calls that are under way meanwhile are not counted.
    pub(crate) async fn load_volumes(&self, registry: &Registry) -> Result<(), GatewayError> {
        let tiered: Vec<(String, Work)> = registry.tiered();
        let volumes = &registry.volumes.0;
        volumes.lock().retain(|of, _| tiered.contains(of));
        if tiered.iter().all(|of| volumes.lock().contains_key(of)) {
            return Ok(());
        }
        let day = today();
        let days = (format!("{}-01", month_of(&day)), day.clone());
        let sums = self.inner.store.usage((GroupBy::Engine, Some(GroupBy::Work)), days, None).await?;
        for (engine, work) in tiered {
            let mut used = Usage::default();
            for sum in sums.iter().filter(|sum| sum.first == engine && sum.second.as_deref() == Some(work.name())) {
                let [characters, milliseconds] =
                    [sum.characters, sum.audio_ms].map(|sum| u64::try_from(sum).unwrap_or(0));
                used = used.plus(Usage { characters, milliseconds, ..Usage::default() });
            }
            let month = month_of(&day).to_owned();
            volumes.lock().entry((engine, work)).or_insert(MonthVolume { month, used });
        }
        Ok(())
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn characters(characters: u64) -> Usage {
        Usage { characters, ..Usage::default() }
    }

    #[test]
    fn a_month_begins_with_nothing_and_a_late_end_does_not_count_in_it() {
        let volumes = Volumes::default();
        let of = || ("heron".to_owned(), Work::Synthesis);
        assert_eq!(volumes.begin("heron", Work::Synthesis, "2026-12-31", characters(9)), Usage::default());
        assert_eq!(volumes.used("heron", Work::Synthesis, "2026-12-31"), Usage::default(), "it has no tiers");
        volumes.0.lock().insert(of(), MonthVolume { month: "2026-12".into(), used: characters(100) });
        assert_eq!(volumes.begin("heron", Work::Synthesis, "2026-12-31", characters(50)), characters(100));
        assert_eq!(volumes.begin("heron", Work::Synthesis, "2026-12-31", characters(20)), characters(150));
        volumes.end("heron", Work::Synthesis, "2026-12-31", characters(50), characters(30));
        assert_eq!(volumes.used("heron", Work::Synthesis, "2026-12-31"), characters(150));
        assert_eq!(volumes.begin("heron", Work::Synthesis, "2027-01-01", characters(7)), Usage::default());
        volumes.end("heron", Work::Synthesis, "2026-12-31", characters(20), Usage::default());
        assert_eq!(volumes.used("heron", Work::Synthesis, "2027-01-01"), characters(7));
        assert_eq!(volumes.used("heron", Work::Recognition, "2027-01-01"), Usage::default());
    }
}
