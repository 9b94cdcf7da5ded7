//! Names of records: apps, routes, presets, lexicons, prompt sets, alerts, canaries.

/// Whether it is 1 to 40 small letters, digits and hyphens.
pub fn is_record_name(name: &str) -> bool {
    let fits = |byte: u8| byte.is_ascii_lowercase() || byte.is_ascii_digit() || byte == b'-';
    (1..=40).contains(&name.len()) && name.bytes().all(fits)
}

#[cfg(test)]
mod tests {
    use super::is_record_name;

    #[test]
    fn a_name_stays_within_its_letters_and_length() {
        let named = ["ferry-2", &"a".repeat(40), "", &"a".repeat(41), "Ferry", "night watch", "a/b", "é"];
        assert_eq!(named.map(is_record_name), [true, true, false, false, false, false, false, false]);
    }
}
