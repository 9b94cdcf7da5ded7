//! The report of a comparison: one HTML file that needs nothing else.

use std::fmt::Write as _;

use base64::Engine as _;
use base64::engine::general_purpose::STANDARD;

use crate::wire::{Amount, ComparedVoiceAnswer, PreferenceAnswer, VoiceComparison};

const HEAD: &str = "<!doctype html>\n<html lang=\"en\">\n<meta charset=\"utf-8\">\n\
    <meta name=\"viewport\" content=\"width=device-width\">\n<title>Comparison of voices</title>\n<style>\n\
    body { font: 16px/1.5 sans-serif; max-width: 60rem; margin: 2rem auto; padding: 0 1rem; color: #1d2a2a; }\n\
    table { border-collapse: collapse; width: 100%; margin: 1rem 0; }\n\
    th, td { text-align: left; padding: .4rem .6rem; border-bottom: 1px solid #c9d3d1; vertical-align: middle; }\n\
    td.n { text-align: right; font-variant-numeric: tabular-nums; }\n\
    blockquote { margin: 1rem 0; padding: .6rem 1rem; background: #eef3f1; }\n\
    audio { width: 15rem; max-width: 100%; }\n</style>\n";

/// Text as it is written in HTML.
fn escaped(text: &str) -> String {
    text.replace('&', "&amp;").replace('<', "&lt;").replace('>', "&gt;").replace('"', "&quot;")
}

fn cost(amount: &Amount) -> String {
    format!("{} {}", amount.amount, amount.currency)
}

fn number(value: Option<f64>, unit: &str) -> String {
    value.map_or_else(|| "–".into(), |value| format!("{value} {unit}"))
}

fn voice_row(voice: &ComparedVoiceAnswer, sounds: &[(i64, Vec<u8>)]) -> String {
    let sound = sounds.iter().find(|(number, _)| *number == voice.number);
    let player = match (sound, &voice.fault) {
        (Some((_, sound)), _) => {
            format!("<audio controls src=\"data:audio/wav;base64,{}\"></audio>", STANDARD.encode(sound))
        }
        (None, fault) => escaped(fault.as_deref().unwrap_or("no audio")),
    };
    format!(
        "<tr><td>{}</td><td>{}</td><td>{player}</td><td class=\"n\">{}</td><td class=\"n\">{}</td>\
         <td class=\"n\">{}</td><td class=\"n\">{}</td><td class=\"n\">{} s</td></tr>\n",
        voice.number,
        escaped(&voice.voice),
        escaped(&cost(&voice.cost)),
        number(voice.first, "ms"),
        number(voice.total, "ms"),
        number(voice.loudness, "LUFS"),
        voice.duration,
    )
}

/// `heron/pellin is preferred to flite/slt`.
pub(super) fn verdict(preference: &PreferenceAnswer, name: impl Fn(i64) -> String) -> String {
    let (one, other) = (name(preference.one), name(preference.other));
    match preference.preferred {
        Some(number) if number == preference.one => format!("{one} is preferred to {other}"),
        Some(_) => format!("{other} is preferred to {one}"),
        None => format!("no preference between {one} and {other} is certain"),
    }
}

fn preference_row(preference: &PreferenceAnswer, name: impl Fn(i64) -> String) -> String {
    let interval = preference.interval.map_or_else(String::new, |interval| format!(" ± {interval}"));
    let ratio = preference.price_ratio.map_or_else(|| "–".into(), |ratio| format!("{ratio} ×"));
    format!(
        "<tr><td>{} against {}</td><td class=\"n\">{:+}{interval}</td><td class=\"n\">{}</td><td class=\"n\">{ratio}</td>\
         <td>{}</td></tr>\n",
        escaped(&name(preference.other)),
        escaped(&name(preference.one)),
        preference.mean,
        preference.count,
        escaped(&verdict(preference, &name)),
    )
}

/// The report, with the audio by the numbers of the voices.
pub(super) fn html(comparison: &VoiceComparison, sounds: &[(i64, Vec<u8>)]) -> String {
    let name = |number: i64| {
        let voice = comparison.voices.iter().find(|voice| voice.number == number);
        voice.map_or_else(|| number.to_string(), |voice| voice.voice.clone())
    };
    let mut page = String::from(HEAD);
    let summary = &comparison.summary;
    let _ = write!(
        page,
        "<h1>Comparison of {} voices</h1>\n<p>{}</p>\n<blockquote>{}</blockquote>\n<table>\n<tr><th>No.</th><th>Voice</th>\
         <th>Audio</th><th>Cost</th><th>First audio</th><th>Total</th><th>Loudness</th><th>Duration</th></tr>\n",
        comparison.voices.len(),
        escaped(&summary.created),
        escaped(&summary.text)
    );
    comparison.voices.iter().for_each(|voice| page.push_str(&voice_row(voice, sounds)));
    page.push_str("</table>\n");
    if comparison.preferences.is_empty() {
        page.push_str("<p>Nobody has rated these voices yet.</p>\n");
        return page;
    }
    let _ = write!(
        page,
        "<h2>{} ratings</h2>\n<p>Heard in pairs without names, in random order; from -3 (much worse) to 3 (much better), \
         ITU-T P.800, annex E. The intervals hold with a confidence of 95 %.</p>\n<table>\n<tr><th>Pair</th><th>Mean</th>\
         <th>Ratings</th><th>Price</th><th>Result</th></tr>\n",
        comparison.ratings
    );
    comparison.preferences.iter().for_each(|preference| page.push_str(&preference_row(preference, name)));
    page.push_str("</table>\n");
    page
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::wire::VoiceComparisonSummary;

    fn voice(number: i64, voice: &str, fault: Option<&str>) -> ComparedVoiceAnswer {
        ComparedVoiceAnswer {
            number,
            voice: voice.into(),
            model: None,
            dispatch: None,
            cost: Amount { amount: "0.0008".into(), currency: "EUR".into() },
            first: Some(21.5),
            total: None,
            duration: 2.5,
            loudness: Some(-18.2),
            audio: None,
            fault: fault.map(str::to_owned),
        }
    }

    #[test]
    fn a_report_has_the_audio_in_it_and_takes_no_text_for_markup() {
        let preference = PreferenceAnswer {
            one: 1,
            other: 2,
            count: 12,
            mean: 1.25,
            interval: Some(0.4),
            preferred: Some(2),
            price_ratio: Some(2.0),
        };
        let summary = VoiceComparisonSummary {
            id: "c1".into(),
            app: "quay".into(),
            text: "Mind <the> \"gap\" & step.".into(),
            created: "2026-12-01T06:15:00Z".into(),
        };
        let comparison = VoiceComparison {
            summary,
            voices: vec![
                voice(1, "flite/slt", None),
                voice(2, "heron/pellin", None),
                voice(3, "gull/a", Some("<down>")),
            ],
            ratings: 12,
            preferences: vec![preference],
        };
        let page = html(&comparison, &[(1, b"RIFF".to_vec())]);
        assert!(page.contains("Mind &lt;the&gt; &quot;gap&quot; &amp; step."), "{page}");
        assert!(page.contains("src=\"data:audio/wav;base64,UklGRg==\"") && page.contains("&lt;down&gt;"));
        assert!(page.contains("+1.25 ± 0.4") && page.contains("2 ×"), "{page}");
        assert!(page.contains("heron/pellin is preferred to flite/slt"));
        assert!(!page.contains("http"), "it needs nothing from elsewhere");
    }
}
