//! The nearest names to one that was not found.

/// The `count` names most like the wanted one, best first.
pub fn nearest<'a>(wanted: &str, names: impl IntoIterator<Item = &'a str>, count: usize) -> Vec<String> {
    let wanted = wanted.to_lowercase();
    let mut rated: Vec<(f64, &str)> = names
        .into_iter()
        .map(|name| {
            let lower = name.to_lowercase();
            // The part behind the slash is what people remember.
            let short = lower.rsplit('/').next().unwrap_or(&lower);
            let likeness = strsim::jaro_winkler(&wanted, &lower).max(strsim::jaro_winkler(&wanted, short));
            (likeness, name)
        })
        .collect();
    rated.sort_by(|a, b| b.0.total_cmp(&a.0).then(a.1.cmp(b.1)));
    rated.dedup_by(|a, b| a.1 == b.1);
    rated.into_iter().take(count).map(|(_, name)| name.to_owned()).collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_slip_of_the_finger_finds_the_name() {
        let names = ["heron/marin", "heron/isolde", "flite/slt", "espeak-ng/pt", "heron/marina"];
        assert_eq!(nearest("heron/marinn", names, 3)[0], "heron/marin");
        assert_eq!(nearest("isold", names, 1), ["heron/isolde"]);
        assert_eq!(nearest("anything", names, 3).len(), 3);
    }
}
