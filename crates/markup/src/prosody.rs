//! The value forms of prosody (SSML 1.1, section 3.2.4), as numbers.
//!
//! Words for values are this project's choice, since the recommendation leaves
//! them to the processor: x-slow 0.6, slow 0.8, fast 1.25, x-fast 1.6; x-low
//! and low 6 and 3 semitones down, high and x-high as many up; x-soft and soft
//! 12 and 6 dB down, loud and x-loud 6 and 12 dB up.

/// A value that is none of the forms; the text says which there are.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[error("'{value}' is no {what}; {forms}")]
pub struct ProsodyError {
    /// The value as it was given.
    pub value: String,
    /// The property, such as `rate`.
    pub what: &'static str,
    /// The forms that the property takes, as a sentence.
    pub forms: &'static str,
}

fn number(text: &str) -> Option<f64> {
    let digits = text.strip_prefix('+').unwrap_or(text);
    let plain = !digits.is_empty() && digits.bytes().all(|b| b.is_ascii_digit() || matches!(b, b'.' | b'-'));
    digits.parse().ok().filter(|value: &f64| plain && value.is_finite())
}

fn percent(text: &str) -> Option<(f64, bool)> {
    let body = text.strip_suffix('%')?;
    Some((number(body)? / 100.0, body.starts_with(['+', '-'])))
}

/// A rate as the factor of the ordinary speed: a word, `90%`, `+10%`, or a
/// bare factor as in SSML 1.0.
///
/// # Errors
/// When the value has none of these forms.
pub fn rate(value: &str) -> Result<f64, ProsodyError> {
    let value = value.trim();
    let word = match value {
        "x-slow" => Some(0.6),
        "slow" => Some(0.8),
        "medium" | "default" => Some(1.0),
        "fast" => Some(1.25),
        "x-fast" => Some(1.6),
        _ => None,
    };
    let share = || percent(value).map(|(share, relative)| if relative { 1.0 + share } else { share });
    word.or_else(share).or_else(|| number(value)).filter(|rate| *rate > 0.0).ok_or(ProsodyError {
        value: value.into(),
        what: "rate",
        forms: "write 90%, +10%, or x-slow, slow, medium, fast, x-fast",
    })
}

/// A pitch in semitones from the ordinary one: a word, `+2st`, `-10%`.
///
/// # Errors
/// When the value has none of these forms; hertz are not relative to a voice.
pub fn pitch(value: &str) -> Result<f64, ProsodyError> {
    let value = value.trim();
    let word = match value {
        "x-low" => Some(-6.0),
        "low" => Some(-3.0),
        "medium" | "default" => Some(0.0),
        "high" => Some(3.0),
        "x-high" => Some(6.0),
        _ => None,
    };
    let semitones = || value.strip_suffix("st").and_then(number);
    let share = || {
        let (share, relative) = percent(value)?;
        let factor = if relative { 1.0 + share } else { share };
        (factor > 0.0).then(|| 12.0 * factor.log2())
    };
    word.or_else(semitones).or_else(share).ok_or(ProsodyError {
        value: value.into(),
        what: "pitch",
        forms: "write +2st, -10%, or x-low, low, medium, high, x-high",
    })
}

/// A volume in decibels from the ordinary one: a word, `-3dB`; silence is
/// -40 dB.
///
/// # Errors
/// When the value has none of these forms.
pub fn volume(value: &str) -> Result<f64, ProsodyError> {
    let value = value.trim();
    let word = match value {
        "silent" => Some(-40.0),
        "x-soft" => Some(-12.0),
        "soft" => Some(-6.0),
        "medium" | "default" => Some(0.0),
        "loud" => Some(6.0),
        "x-loud" => Some(12.0),
        _ => None,
    };
    let decibels = || value.strip_suffix("dB").and_then(number);
    word.or_else(decibels).ok_or(ProsodyError {
        value: value.into(),
        what: "volume",
        forms: "write -3dB, +6dB, or silent, x-soft, soft, medium, loud, x-loud",
    })
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn every_form_is_read() {
        for (value, factor) in
            [("90%", 0.9), ("+10%", 1.1), ("-25%", 0.75), ("slow", 0.8), ("1.5", 1.5), (" default ", 1.0)]
        {
            assert!((rate(value).expect(value) - factor).abs() < 1e-9, "{value}");
        }
        for (value, semitones) in [("+2st", 2.0), ("-1.5st", -1.5), ("+100%", 12.0), ("50%", -12.0), ("x-high", 6.0)] {
            assert!((pitch(value).expect(value) - semitones).abs() < 1e-9, "{value}");
        }
        for (value, decibels) in [("-3dB", -3.0), ("+6dB", 6.0), ("0dB", 0.0), ("soft", -6.0)] {
            assert!((volume(value).expect(value) - decibels).abs() < 1e-9, "{value}");
        }
    }

    #[test]
    fn other_values_are_refused_with_the_forms() {
        for value in ["", "quick", "0%", "-100%", "1e3", "NaN", "inf", "--5%", "9 0%"] {
            assert!(rate(value).is_err(), "{value}");
        }
        assert!(pitch("200Hz").is_err() && pitch("-100%").is_err() && pitch("st").is_err());
        assert!(volume("50").is_err() && volume("3db").is_err());
        assert!(rate("quick").expect_err("no form").to_string().contains("write 90%"));
    }
}
