use super::spoken;

#[track_caller]
fn says(language: &str, kind: &str, cases: &[(&str, Option<&str>, &str)]) {
    for (text, format, words) in cases {
        let said = spoken(text, kind, *format, None, Some(language));
        assert_eq!(said.as_deref(), Some(*words), "{kind} {text} ({format:?}) in {language}");
    }
}

#[test]
fn a_language_is_known_by_its_first_subtag() {
    let said = |language: &str| spoken("105", "cardinal", None, None, Some(language));
    for british in ["en", "EN-gb", "en-x-us", "en-usx"] {
        assert_eq!(said(british).as_deref(), Some("one hundred and five"), "{british}");
    }
    for american in ["en-US", "En-us-x-old"] {
        assert_eq!(said(american).as_deref(), Some("one hundred five"), "{american}");
    }
    for unknown in ["", "e", "eng", "english", "enm-GB", "de", "ção"] {
        assert_eq!(said(unknown), None, "{unknown:?} is no language whose words are known");
    }
}

#[test]
fn english_is_said_as_it_is_spoken() {
    says(
        "en-GB",
        "cardinal",
        &[
            ("0", None, "zero"),
            ("21", None, "twenty-one"),
            ("105", None, "one hundred and five"),
            ("1,250", None, "one thousand two hundred and fifty"),
            ("2007", None, "two thousand and seven"),
            ("-3.14", None, "minus three point one four"),
            ("1000000", None, "one million"),
        ],
    );
    says("en-US", "cardinal", &[("105", None, "one hundred five")]);
    says(
        "en",
        "ordinal",
        &[
            ("1", None, "first"),
            ("22nd", None, "twenty-second"),
            ("30", None, "thirtieth"),
            ("12th", None, "twelfth"),
            ("105", None, "one hundred and fifth"),
        ],
    );
    says("en-GB", "characters", &[("SF-12", None, "S F dash one two"), ("a.b@c", None, "a dot b at c")]);
    says(
        "en-GB",
        "date",
        &[
            ("2026-03-06", None, "the sixth of March, twenty twenty-six"),
            ("06/03/2026", Some("dmy"), "the sixth of March, twenty twenty-six"),
            ("03/06/2026", Some("mdy"), "the sixth of March, twenty twenty-six"),
            ("1905", Some("y"), "nineteen oh five"),
            ("12/2005", Some("my"), "December, two thousand and five"),
            ("3/4", Some("dm"), "the third of April"),
            ("21", Some("d"), "the twenty-first"),
        ],
    );
    says("en-US", "date", &[("03/06/2026", None, "March sixth, twenty twenty-six")]);
    says(
        "en-GB",
        "time",
        &[
            ("06:15", None, "six fifteen"),
            ("18:05", None, "eighteen oh five"),
            ("18:05", Some("hms12"), "six oh five p m"),
            ("6:30pm", None, "six thirty p m"),
            ("12:00 am", None, "twelve a m"),
            ("12:00 pm", None, "twelve p m"),
            ("12:00", Some("hms12"), "twelve p m"),
            ("12:30", Some("hms12"), "twelve thirty p m"),
            ("11:59", Some("hms12"), "eleven fifty-nine a m"),
            ("00:05", Some("hms12"), "twelve oh five a m"),
            ("07:00", None, "seven o'clock"),
            ("06:15:20", None, "six fifteen and twenty seconds"),
        ],
    );
    says("en-GB", "telephone", &[("+351 912 000", None, "plus three five one, nine one two, zero zero zero")]);
    says(
        "en-GB",
        "currency",
        &[
            ("€12.50", None, "twelve euros and fifty cents"),
            ("£1", None, "one pound"),
            ("0.01 GBP", None, "one penny"),
            ("USD 1,200", None, "one thousand two hundred dollars"),
            ("3.5", Some("EUR"), "three euros and fifty cents"),
        ],
    );
    says(
        "en-GB",
        "unit",
        &[
            ("12 kn", None, "twelve knots"),
            ("1km", None, "one kilometre"),
            ("3.5 m", None, "three point five metres"),
            ("-2 °C", None, "minus two degrees Celsius"),
            ("40%", None, "forty percent"),
        ],
    );
    says(
        "en-GB",
        "fraction",
        &[
            ("1/2", None, "one half"),
            ("3/4", None, "three quarters"),
            ("2/3", None, "two thirds"),
            ("1 1/2", None, "one and one half"),
            ("½", None, "one half"),
        ],
    );
}

#[test]
fn portuguese_is_said_as_it_is_spoken() {
    says(
        "pt-PT",
        "cardinal",
        &[
            ("16", None, "dezasseis"),
            ("100", None, "cem"),
            ("121", None, "cento e vinte e um"),
            ("1205", None, "mil duzentos e cinco"),
            ("1.200", None, "mil e duzentos"),
            ("2026", None, "dois mil e vinte e seis"),
            ("3,5", None, "três vírgula cinco"),
            ("1000000", None, "um milhão"),
        ],
    );
    says("pt-PT", "ordinal", &[("1.º", None, "primeiro"), ("21.ª", None, "vigésima primeira"), ("10", None, "décimo")]);
    says(
        "pt-PT",
        "date",
        &[
            ("06/03/2026", Some("dmy"), "seis de março de dois mil e vinte e seis"),
            ("2026-05-01", None, "um de maio de dois mil e vinte e seis"),
        ],
    );
    says(
        "pt-PT",
        "time",
        &[
            ("06:15", None, "seis horas e quinze"),
            ("13:00", None, "treze horas"),
            ("1h02", None, "uma hora e dois"),
            ("22:00", None, "vinte e duas horas"),
        ],
    );
    says(
        "pt-PT",
        "currency",
        &[
            ("12,50 €", None, "doze euros e cinquenta cêntimos"),
            ("2 GBP", None, "duas libras"),
            ("€1000000", None, "um milhão de euros"),
        ],
    );
    says(
        "pt-PT",
        "unit",
        &[
            ("12 kn", None, "doze nós"),
            ("2 t", None, "duas toneladas"),
            ("1,5 km", None, "um vírgula cinco quilómetro"),
        ],
    );
    says(
        "pt-PT",
        "fraction",
        &[
            ("3/4", None, "três quartos"),
            ("1/2", None, "um meio"),
            ("2/3", None, "dois terços"),
            ("1/12", None, "um doze avos"),
        ],
    );
    says("pt-PT", "characters", &[("SF2", None, "S F dois")]);
}

#[test]
fn french_is_said_as_it_is_spoken() {
    says(
        "fr-FR",
        "cardinal",
        &[
            ("21", None, "vingt et un"),
            ("71", None, "soixante et onze"),
            ("80", None, "quatre-vingts"),
            ("81", None, "quatre-vingt-un"),
            ("97", None, "quatre-vingt-dix-sept"),
            ("200", None, "deux cents"),
            ("201", None, "deux cent un"),
            ("1000", None, "mille"),
            ("80000", None, "quatre-vingt mille"),
            ("3,14", None, "trois virgule un quatre"),
        ],
    );
    says(
        "fr-FR",
        "ordinal",
        &[
            ("1er", None, "premier"),
            ("1re", None, "première"),
            ("5e", None, "cinquième"),
            ("9", None, "neuvième"),
            ("4", None, "quatrième"),
            ("21", None, "vingt et unième"),
        ],
    );
    says("fr-FR", "date", &[("01/05/2026", None, "premier mai deux mille vingt-six")]);
    says(
        "fr-FR",
        "time",
        &[("06:15", None, "six heures quinze"), ("1h", None, "une heure"), ("21:01", None, "vingt et une heures une")],
    );
    says("fr-FR", "currency", &[("12,50 €", None, "douze euros et cinquante centimes"), ("£1", None, "une livre")]);
    says("fr-FR", "fraction", &[("3/4", None, "trois quarts"), ("2/3", None, "deux tiers"), ("1/2", None, "un demi")]);
    says("fr-FR", "telephone", &[("01 23", None, "zéro un, deux trois")]);
}

#[test]
fn what_is_not_known_is_left_as_it_is() {
    for (text, kind, language) in [
        ("12", "cardinal", "ja-JP"),
        ("twelve", "cardinal", "en"),
        ("12", "constellation", "en"),
        ("13/13/2026", "date", "en"),
        ("25:00", "time", "en"),
        ("1,25,0", "cardinal", "en"),
        ("12 parsec", "unit", "en"),
        ("1/0", "fraction", "en"),
        ("0", "ordinal", "en"),
        ("12 €€", "currency", "en"),
        ("9999999999999999999", "cardinal", "en"),
        ("", "characters", "en"),
    ] {
        assert_eq!(spoken(text, kind, None, None, Some(language)), None, "{text} as {kind}");
    }
    assert_eq!(spoken("12", "cardinal", None, None, None), None);
}
