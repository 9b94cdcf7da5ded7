//! The nearest names to one that was not found.

/// From which likeness on two names may be meant for one another.
const ALIKE: f64 = 0.6;
/// Letters that one name must share with the beginning of another.
const STEM: usize = 3;

/// The `count` names most like the wanted one, best first; none that nobody
/// would mistake for it.
pub fn nearest<'a>(wanted: &str, names: impl IntoIterator<Item = &'a str>, count: usize) -> Vec<String> {
    nearest_by(wanted, names.into_iter().map(|name| (name, None)), count)
}

/// As [`nearest`], of things that have an id and perhaps a name of another
/// sort; gives ids.
pub fn nearest_by<'a>(
    wanted: &str,
    names: impl IntoIterator<Item = (&'a str, Option<&'a str>)>,
    count: usize,
) -> Vec<String> {
    let wanted = wanted.to_lowercase();
    let own = wanted.rsplit('/').next().unwrap_or(&wanted);
    let mut rated: Vec<(f64, &str)> = names
        .into_iter()
        .filter_map(|(id, name)| {
            let lower = id.to_lowercase();
            // The part behind the slash is what people remember.
            let short = lower.rsplit('/').next().unwrap_or(&lower);
            let name = name.map(str::to_lowercase);
            let name = name.iter().map(|name| likeness(own, name));
            let likeness = name.fold(likeness(&wanted, &lower).max(likeness(own, short)), f64::max);
            (likeness >= ALIKE).then_some((likeness, id))
        })
        .collect();
    rated.sort_by(|a, b| b.0.total_cmp(&a.0).then(a.1.cmp(b.1)));
    rated.dedup_by(|a, b| a.1 == b.1);
    rated.into_iter().take(count).map(|(_, name)| name.to_owned()).collect()
}

/// 0 to 1, by the letters that differ, and by a common beginning.
fn likeness(wanted: &str, name: &str) -> f64 {
    let edits = strsim::normalized_damerau_levenshtein(wanted, name);
    let (short, long) = if wanted.len() < name.len() { (wanted, name) } else { (name, wanted) };
    let stem = short.chars().count() >= STEM && long.starts_with(short);
    if stem { edits.max(ALIKE) } else { edits }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_slip_of_the_finger_finds_the_name() {
        let names = ["heron/pellin", "heron/isolde", "flite/slt", "espeak-ng/pt", "heron/pellina"];
        assert_eq!(nearest("heron/pellinn", names, 3)[0], "heron/pellin");
        assert_eq!(nearest("Pelin", names, 2), ["heron/pellin", "heron/pellina"]);
        assert_eq!(nearest("isold", names, 1), ["heron/isolde"]);
    }

    #[test]
    fn what_is_like_nothing_has_no_nearest() {
        let names = ["heron/pellin", "heron/isolde", "flite/slt", "espeak-ng/pt", "en-GB", "quayside"];
        for wanted in ["xx", "Zebra", "anything", "q"] {
            assert_eq!(nearest(wanted, names, 3), Vec::<String>::new(), "{wanted}");
        }
    }

    #[test]
    fn names_count_as_ids_do() {
        let voices = [("heron/v-17", Some("Pellin")), ("heron/v-18", Some("Isolde"))];
        assert_eq!(nearest_by("Pelin", voices, 3), ["heron/v-17"]);
        assert_eq!(nearest_by("heron/Pellinn", voices, 1), ["heron/v-17"]);
    }
}
