//! A sentence to hear a voice by, in its own language. All made up.

use crate::primary_language;

const SENTENCES: [(&str, &str); 24] = [
    ("ar", "تغادر العبّارة الرصيف في الساعة السادسة والربع."),
    ("cs", "Trajekt odplouvá od mola ve čtvrt na sedm."),
    ("da", "Færgen sejler fra kajen klokken kvart over seks."),
    ("de", "Die Fähre legt um Viertel nach sechs am Kai ab."),
    ("el", "Το φέρι φεύγει από την προβλήτα στις έξι και τέταρτο."),
    ("en", "The ferry leaves the quay at a quarter past six."),
    ("es", "El transbordador sale del muelle a las seis y cuarto."),
    ("fi", "Lautta lähtee laiturilta vartin yli kuusi."),
    ("fr", "Le bac quitte le quai à six heures et quart."),
    ("hi", "नौका सवा छह बजे घाट से रवाना होती है।"),
    ("hu", "A komp negyed hétkor indul a rakpartról."),
    ("it", "Il traghetto lascia il molo alle sei e un quarto."),
    ("ja", "フェリーは六時十五分に岸壁を出ます。"),
    ("ko", "여객선은 여섯 시 십오 분에 부두를 떠납니다."),
    ("nl", "De veerboot vertrekt om kwart over zes van de kade."),
    ("no", "Fergen går fra kaien kvart over seks."),
    ("pl", "Prom odpływa z nabrzeża kwadrans po szóstej."),
    ("pt", "O barco parte do cais às seis e um quarto."),
    ("ro", "Feribotul pleacă de la chei la șase și un sfert."),
    ("ru", "Паром отходит от причала в четверть седьмого."),
    ("sv", "Färjan går från kajen kvart över sex."),
    ("tr", "Feribot saat altıyı çeyrek geçe rıhtımdan kalkar."),
    ("uk", "Пором відходить від причалу о чверть на сьому."),
    ("zh", "渡轮六点一刻离开码头。"),
];

/// A sentence in the first of these languages that there is one for; English
/// where there is none.
pub fn sample_sentence(languages: &[String]) -> &'static str {
    let of = |tag: &String| {
        let primary = primary_language(tag).to_lowercase();
        let primary = if matches!(primary.as_str(), "nb" | "nn") { "no".into() } else { primary };
        SENTENCES.iter().find(|(language, _)| *language == primary).map(|(_, sentence)| *sentence)
    };
    languages.iter().find_map(of).unwrap_or(SENTENCES[5].1)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_voice_is_heard_in_its_own_language() {
        let sample = |tags: &[&str]| sample_sentence(&tags.iter().map(|tag| (*tag).to_owned()).collect::<Vec<_>>());
        assert!(sample(&["pt-BR", "en"]).starts_with("O barco"));
        assert!(sample(&["xx", "ja-JP"]).starts_with("フェリー"));
        assert!(sample(&["nb-NO"]).starts_with("Fergen"));
        assert!(sample(&["xx"]).starts_with("The ferry"));
        assert!(SENTENCES.is_sorted_by_key(|(language, _)| *language));
    }
}
