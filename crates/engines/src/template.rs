//! Templates of a sheet: compiled once, escaped by where they stand.

use dispatcher_core::SheetError;
use minijinja::value::Value;
use minijinja::{AutoEscape, Environment, Error, ErrorKind, UndefinedBehavior};
use percent_encoding::{AsciiSet, NON_ALPHANUMERIC, utf8_percent_encode};

/// Steps that one rendering may take; a template is short.
const FUEL: u64 = 20_000;

/// What is left as it is in a path segment or query (RFC 3986, section 2.3).
pub(crate) const UNRESERVED: &AsciiSet = &NON_ALPHANUMERIC.remove(b'-').remove(b'.').remove(b'_').remove(b'~');

/// Context of the output of a template.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum OutputPlace {
    /// As it is: headers, form and query values (encoded later), arguments.
    Plain,
    /// In a URL path: every value is percent-encoded.
    Path,
    /// In JSON: every value is written as JSON.
    Json,
}

/// One compiled template.
pub(crate) struct Template {
    environment: Environment<'static>,
    place: OutputPlace,
}

impl Template {
    pub(crate) fn compile(source: &str, place: OutputPlace) -> Result<Template, Error> {
        let mut environment = Environment::new();
        environment.set_undefined_behavior(UndefinedBehavior::SemiStrict);
        environment.set_fuel(Some(FUEL));
        environment.set_auto_escape_callback(|_| AutoEscape::None);
        environment.add_filter("json", to_json);
        environment.add_filter("json_ascii", to_ascii_json);
        environment.add_filter("xml", to_xml);
        environment.add_filter("base64", |value: &Value| {
            use base64::Engine as _;
            base64::engine::general_purpose::STANDARD.encode(value.to_string())
        });
        environment.add_filter("base64url", |value: &Value| {
            use base64::Engine as _;
            base64::engine::general_purpose::URL_SAFE_NO_PAD.encode(value.to_string())
        });
        environment.add_filter("primary", |value: &Value| dispatcher_core::primary_language(&value.to_string()));
        environment.add_filter("region", |value: &Value| dispatcher_core::region(&value.to_string()));
        environment.add_filter("form", |value: &Value| to_form(value));
        environment.add_filter("form_plus", |value: &Value| {
            Value::from_safe_string(to_form(value).to_string().replace("%20", "+"))
        });
        match place {
            OutputPlace::Plain => {}
            OutputPlace::Path => environment.set_formatter(|out, _, value| match value.is_safe() {
                // An address or path that the engine itself gave.
                true => Ok(write!(out, "{value}")?),
                false => Ok(write!(out, "{}", utf8_percent_encode(&value.to_string(), UNRESERVED))?),
            }),
            OutputPlace::Json => environment.set_formatter(|out, _, value| {
                Ok(out.write_str(
                    if value.is_safe() { value.to_string() } else { to_json(value)?.to_string() }.as_str(),
                )?)
            }),
        }
        // The last line end is cut off by the library; bodies are sent as written.
        let end = if source.ends_with('\n') { "\n" } else { "" };
        environment.add_template_owned("it", format!("{source}{end}"))?;
        Ok(Template { environment, place })
    }

    /// As [`Template::compile`], and tried on a probe; faults name their place
    /// in the sheet.
    pub(crate) fn checked(
        source: &str,
        place: OutputPlace,
        probe: &Value,
        sheet: (&str, &str),
        key: &[&str],
    ) -> Result<Template, SheetError> {
        let fault = |message: String| SheetError::at_key(sheet.0, sheet.1, key, message);
        let template = Template::compile(source, place).map_err(|error| fault(describe(&error)))?;
        let text = template.render(probe).map_err(|error| fault(describe(&error)))?;
        if template.place == OutputPlace::Json {
            serde_json::from_str::<serde_json::Value>(&text).map_err(|error| {
                fault(format!("does not produce JSON ({error}); do not write quotes around values"))
            })?;
        }
        Ok(template)
    }

    pub(crate) fn render(&self, context: &Value) -> Result<String, Error> {
        self.environment.get_template("it")?.render(context)
    }
}

fn describe(error: &Error) -> String {
    match error.detail() {
        Some(detail) => format!("{}: {detail}", error.kind()),
        None => error.kind().to_string(),
    }
}

/// A value as JSON; a missing one is an error and never `null`.
fn to_json(value: &Value) -> Result<Value, Error> {
    if value.is_undefined() {
        return Err(Error::new(ErrorKind::UndefinedError, "a missing value cannot be written as JSON"));
    }
    let text =
        serde_json::to_string(value).map_err(|error| Error::new(ErrorKind::BadSerialization, error.to_string()))?;
    Ok(Value::from_safe_string(text))
}

/// As [`to_json`], with everything beyond ASCII escaped: for header fields.
fn to_ascii_json(value: &Value) -> Result<Value, Error> {
    let escape = |c: char| match c.is_ascii() {
        true => c.to_string(),
        false => c.encode_utf16(&mut [0; 2]).iter().map(|unit| format!("\\u{unit:04x}")).collect(),
    };
    Ok(Value::from_safe_string(to_json(value)?.to_string().chars().map(escape).collect()))
}

/// A value as written in a form (RFC 3986, section 2.3).
fn to_form(value: &Value) -> Value {
    Value::from_safe_string(utf8_percent_encode(&value.to_string(), UNRESERVED).to_string())
}

/// Text as written in XML, in an element or between quotes.
pub(crate) fn to_xml(value: &Value) -> Value {
    let escape = |c: char| match c {
        '&' => "&amp;".to_owned(),
        '<' => "&lt;".to_owned(),
        '>' => "&gt;".to_owned(),
        '"' => "&quot;".to_owned(),
        '\'' => "&apos;".to_owned(),
        // What XML 1.0 has no place for, section 2.2.
        '\t' | '\n' | '\r' => c.to_string(),
        c if c < ' ' => " ".to_owned(),
        c => c.to_string(),
    };
    Value::from_safe_string(value.to_string().chars().map(escape).collect())
}

#[cfg(test)]
mod tests {
    use minijinja::context;

    use super::*;

    fn render(source: &str, place: OutputPlace) -> Result<String, Error> {
        let context = context! { text => "say \"no\" & <go>\n", voice => context! { id => "a/b ?" }, none => () };
        Template::compile(source, place)?.render(&context)
    }

    #[test]
    fn json_values_cannot_break_out_of_their_string() {
        let body = render(r#"{"say": {{ text|json }}, "again": {{ text }}}"#, OutputPlace::Json).expect("renders");
        let parsed: serde_json::Value = serde_json::from_str(&body).expect("JSON");
        assert_eq!(parsed["say"], "say \"no\" & <go>\n");
        assert_eq!(parsed["again"], parsed["say"]);
    }

    #[test]
    fn text_cannot_break_out_of_its_element() {
        let made = render("<speak>{{ text|xml }}</speak>", OutputPlace::Plain).expect("renders");
        assert_eq!(made, "<speak>say &quot;no&quot; &amp; &lt;go&gt;\n</speak>");
    }

    #[test]
    fn path_values_are_encoded_and_missing_ones_refused() {
        assert_eq!(render("/talk/{{ voice.id }}", OutputPlace::Path).expect("renders"), "/talk/a%2Fb%20%3F");
        assert!(render("/talk/{{ vioce.id }}", OutputPlace::Path).is_err());
        assert!(render("{{ typo|json }}", OutputPlace::Json).is_err());
        assert!(render("{% if voice.style %}x{% endif %}ok", OutputPlace::Plain).is_ok());
    }

    #[test]
    fn a_template_cannot_run_away() {
        assert!(
            render("{% for a in range(9999) %}{% for b in range(9999) %}x{% endfor %}{% endfor %}", OutputPlace::Plain)
                .is_err()
        );
    }

    #[test]
    fn a_quoted_value_is_found_when_the_sheet_is_loaded() {
        let sheet = "[synthesis]\njson = '''{\"a\": \"{{ text }}\"}'''\n";
        let probe = context! { text => "x" };
        let error = Template::checked(
            r#"{"a": "{{ text }}"}"#,
            OutputPlace::Json,
            &probe,
            (sheet, "s.toml"),
            &["synthesis", "json"],
        )
        .err()
        .expect("quotes twice");
        assert_eq!((error.line, error.key.as_str()), (2, "synthesis.json"));
    }
}
