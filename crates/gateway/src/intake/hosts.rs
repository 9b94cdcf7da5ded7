//! Addresses that callers name: only hosts that the operator allows.

/// Whether an address is of http or https, at a host of the list; `setting`
/// is where the operator keeps that list.
///
/// # Errors
/// What is wrong with it, and what would help.
pub fn check_host(address: &str, hosts: &[String], setting: &str) -> Result<(), String> {
    let no_address = || Err(format!("'{address}' is no address of http or https"));
    let Some((scheme, rest)) = address.split_once("://") else { return no_address() };
    let host = rest.split(['/', '?', '#']).next().unwrap_or_default();
    if !matches!(scheme, "http" | "https") || host.is_empty() || host.contains(['@', '\\']) {
        return no_address();
    }
    match hosts.iter().any(|allowed| allowed.eq_ignore_ascii_case(host)) {
        true => Ok(()),
        false => Err(format!("the host '{host}' is not allowed here; add it to {setting} in dispatcher.toml")),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn only_hosts_of_the_list_pass_and_no_other_spelling() {
        let hosts = ["sounds.example".to_owned(), "127.0.0.1:7000".to_owned()];
        for (address, passes) in [
            ("https://sounds.example/gong.wav", true),
            ("https://SOUNDS.example?x", true),
            ("http://127.0.0.1:7000/a", true),
            ("http://127.0.0.1:7001/a", false),
            ("https://sounds.example.org/", false),
            ("https://evil-sounds.example/", false),
            ("https://x.sounds.example/", false),
            ("http://evil127.0.0.1:7000/", false),
            ("https://sounds.example@elsewhere.example/", false),
            ("https://elsewhere.example\\@sounds.example/", false),
            ("ftp://sounds.example/", false),
            ("file:///etc/passwd", false),
            ("sounds.example/gong.wav", false),
        ] {
            assert_eq!(check_host(address, &hosts, "fetch_hosts").is_ok(), passes, "{address}");
        }
        let error = check_host("http://other.example/", &hosts, "fetch_hosts").expect_err("not allowed");
        assert!(error.contains("'other.example'") && error.contains("fetch_hosts"), "{error}");
    }
}
