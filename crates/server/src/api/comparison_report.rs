//! The reports of comparisons of voices and of transcripts: one HTML file each,
//! which needs nothing else.

use std::fmt::Write as _;

use base64::Engine as _;
use base64::engine::general_purpose::STANDARD;

use crate::wire::{
    AgainstReference, AlignedAnswer, Amount, ComparedVoiceAnswer, ComparisonAnswer, PreferenceAnswer, VoiceComparison,
};

const HEAD: &str = "<!doctype html>\n<html lang=\"en\">\n<meta charset=\"utf-8\">\n\
    <meta name=\"viewport\" content=\"width=device-width\">\n<title>Comparison</title>\n<style>\n\
    body { font: 16px/1.5 sans-serif; max-width: 60rem; margin: 2rem auto; padding: 0 1rem; color: #1d2a2a; }\n\
    table { border-collapse: collapse; width: 100%; margin: 1rem 0; }\n\
    th, td { text-align: left; padding: .4rem .6rem; border-bottom: 1px solid #c9d3d1; vertical-align: middle; }\n\
    td.n { text-align: right; font-variant-numeric: tabular-nums; }\n\
    blockquote { margin: 1rem 0; padding: .6rem 1rem; background: #eef3f1; }\n\
    audio { width: 15rem; max-width: 100%; }\n    .s { background: #f6e3b5; } .s del { color: #6b5b2a; }\n\
    .m { background: #f4cfc9; } .i { background: #cfe0f4; }\n</style>\n";

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

fn percent(rate: f64) -> String {
    format!("{:.1} %", rate * 100.0)
}

/// A place of an alignment: what was said is crossed out where something else was heard.
fn place(place: &AlignedAnswer) -> String {
    let text = |word: &Option<String>| escaped(word.as_deref().unwrap_or_default());
    match (&place.reference, &place.heard) {
        (Some(said), Some(heard)) if said == heard => text(&place.heard),
        (Some(_), Some(_)) => {
            format!("<span class=\"s\"><del>{}</del> {}</span>", text(&place.reference), text(&place.heard))
        }
        (_, None) => format!("<del class=\"m\">{}</del>", text(&place.reference)),
        (None, _) => format!("<ins class=\"i\">{}</ins>", text(&place.heard)),
    }
}

fn error_row(line: &AgainstReference) -> String {
    let words = &line.words;
    let counts =
        [words.substituted, words.missing, words.inserted].map(|count| format!("<td class=\"n\">{count}</td>"));
    format!(
        "<tr><td>{}</td><td class=\"n\">{}</td><td class=\"n\">{}</td>{}<td class=\"n\">{}</td></tr>\n",
        escaped(&line.name),
        percent(words.rate),
        percent(line.characters.rate),
        counts.concat(),
        escaped(&line.cost.as_ref().map_or_else(|| "–".into(), cost)),
    )
}

/// The report of transcripts, with their names and texts.
pub(super) fn transcripts_html(compared: &ComparisonAnswer, texts: &[(String, String)]) -> String {
    let mut page = String::from(HEAD);
    let _ = writeln!(page, "<h1>Comparison of {} transcripts</h1>", texts.len());
    if let Some(reference) = &compared.reference {
        let _ = write!(
            page,
            "<blockquote>{}</blockquote>\n<p>Compared as: {}.</p>\n<table>\n<tr><th>Transcript</th><th>Word errors</th>\
             <th>Character errors</th><th>Substituted</th><th>Missing</th><th>Inserted</th><th>Cost</th></tr>\n",
            escaped(reference),
            compared.normalisation
        );
        compared.transcripts.iter().for_each(|line| page.push_str(&error_row(line)));
        page.push_str(
            "</table>\n<p><span class=\"s\"><del>said</del> heard</span> another word, <del class=\"m\">missing</del>, \
             <ins class=\"i\">inserted</ins></p>\n",
        );
        for line in &compared.transcripts {
            let places: Vec<String> = line.alignment.iter().map(place).collect();
            let _ = writeln!(page, "<h2>{}</h2>\n<p>{}</p>", escaped(&line.name), places.join(" "));
        }
    } else {
        for (name, text) in texts {
            let _ = writeln!(page, "<h2>{}</h2>\n<p>{}</p>", escaped(name), escaped(text));
        }
        if let Some(agreed) = &compared.consensus {
            let _ = writeln!(page, "<h2>Consensus</h2>\n<p>{}</p>", escaped(&agreed.text));
        }
    }
    if !compared.agreement.is_empty() {
        page.push_str("<table>\n<tr><th>Transcript</th><th>And</th><th>Agree on</th></tr>\n");
        for pair in &compared.agreement {
            let _ = writeln!(
                page,
                "<tr><td>{}</td><td>{}</td><td class=\"n\">{}</td></tr>",
                escaped(&pair.first),
                escaped(&pair.second),
                percent(pair.agreement)
            );
        }
        page.push_str("</table>\n");
    }
    page
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::wire::{AgreementAnswer, ErrorCountsAnswer, VoiceComparisonSummary};

    #[test]
    fn a_report_of_transcripts_marks_each_kind_of_error_and_takes_no_text_for_markup() {
        let step = |reference: Option<&str>, heard: Option<&str>| AlignedAnswer {
            reference: reference.map(str::to_owned),
            heard: heard.map(str::to_owned),
        };
        let counts = || ErrorCountsAnswer { rate: 0.6, substituted: 1, missing: 1, inserted: 1, of: 5 };
        let line = AgainstReference {
            name: "turn<stone>".into(),
            cost: Some(Amount { amount: "0.0024".into(), currency: "EUR".into() }),
            words: counts(),
            characters: counts(),
            alignment: vec![
                step(Some("ferry"), Some("ferry")),
                step(Some("leaves"), Some("leave")),
                step(Some("at"), None),
                step(None, Some("o'clock")),
            ],
        };
        let agreement = AgreementAnswer { first: "a".into(), second: "b".into(), agreement: 0.75 };
        let compared = ComparisonAnswer {
            normalisation: "small letters",
            reference: Some("ferry leaves at".into()),
            transcripts: vec![line],
            agreement: vec![agreement],
            consensus: None,
        };
        let page = transcripts_html(&compared, &[("turn<stone>".into(), "Ferry leave o'clock".into())]);
        let marked = "ferry <span class=\"s\"><del>leaves</del> leave</span> <del class=\"m\">at</del> \
                      <ins class=\"i\">o'clock</ins>";
        assert!(page.contains(marked), "{page}");
        assert!(page.contains("turn&lt;stone&gt;") && !page.contains("turn<stone>"));
        assert!(page.contains("60.0 %") && page.contains("0.0024 EUR") && page.contains("75.0 %"));
        let compared = ComparisonAnswer { reference: None, transcripts: Vec::new(), ..compared };
        let page = transcripts_html(&compared, &[("a".into(), "Mind <the> step".into())]);
        assert!(page.contains("<p>Mind &lt;the&gt; step</p>") && !page.contains("Word errors"), "{page}");
    }

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
