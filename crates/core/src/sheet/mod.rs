//! Engine sheets: an engine described as data (`docs/engine-sheets.md`).
//!
//! This module holds the shape of a sheet and its checks. Templates and paths
//! are kept as text; the engines crate compiles them.

mod access;
mod call;
mod catalogue;
mod check;
mod control;
mod deadline;
mod hearing;
mod pace;
mod place;
mod regions;
mod shape;

pub use access::*;
pub use call::*;
pub use catalogue::*;
pub(crate) use control::takes;
pub use control::*;
pub use deadline::DeadlineSpec;
pub use hearing::*;
pub use pace::Pace;
pub use place::SheetError;
pub use regions::Regions;
pub use shape::*;

use place::key_at;

/// A sheet longer than this is refused: 1 MiB holds thousands of voices.
const MAX_SHEET_BYTES: usize = 1 << 20;

impl Sheet {
    /// Reads and checks a sheet. `file` is named in errors.
    ///
    /// # Errors
    /// The first fault, with file, line, column and key.
    pub fn parse(source: &str, file: &str) -> Result<Sheet, SheetError> {
        let fault = |span, key, message| SheetError::at(source, file, span, key, message);
        if source.len() > MAX_SHEET_BYTES {
            return Err(fault(None, String::new(), format!("longer than {MAX_SHEET_BYTES} bytes")));
        }
        let sheet: Sheet = toml::from_str(source).map_err(|error| {
            let key = error.span().map(|span| key_at(source, span.start)).unwrap_or_default();
            fault(error.span(), key, error.message().trim().to_owned())
        })?;
        sheet.check().map_err(|(path, message)| SheetError::at_key(source, file, &path, message))?;
        Ok(sheet)
    }
}

/// The shape of sheets as JSON Schema (2020-12), for editors.
pub fn sheet_schema() -> String {
    serde_json::to_string_pretty(&schemars::schema_for!(Sheet)).unwrap_or_default()
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::Cause;

    const GOOD: &str = r#"
sheet    = 1
name     = "heron"
site     = "cloud"
network  = "private"
endpoint = "http://127.0.0.1:7801"

[access]
scheme = "bearer"
parts  = ["token"]

[synthesis]
call   = "POST /talk/{{ voice.id }}"
json   = '{"say": {{ text|json }}}'
answer = "audio"
limit  = { characters = 3600 }
models = [{ name = "quick" }, { name = "fine" }]

[synthesis.formats]
mp3 = { type = "audio/mpeg", sample_rates = [24000] }

[[synthesis.voices]]
id = "pellin"
name = "Pellin"
languages = ["en-GB"]

[tariff]
per   = "character"
price = "0.000016"

[[errors]]
status = 402
means  = "quota"
"#;

    fn fault(from: &str, to: &str) -> SheetError {
        assert!(GOOD.contains(from), "{from}");
        Sheet::parse(&GOOD.replace(from, to), "sheets/heron.toml").expect_err(to)
    }

    #[test]
    fn reads_a_whole_sheet() {
        let sheet = Sheet::parse(GOOD, "heron.toml").expect("good");
        assert_eq!(sheet.model_names(crate::Work::Synthesis), ["quick", "fine"]);
        let synthesis = sheet.synthesis.expect("speaks");
        assert_eq!(synthesis.call_template().body, Body::Json(r#"{"say": {{ text|json }}}"#));
        assert_eq!(synthesis.limit.characters, Some(3_600));
        assert_eq!(sheet.errors[0].means, Cause::Quota);
    }

    #[test]
    fn an_unknown_key_is_named_with_file_line_and_key() {
        let error = fault("answer = \"audio\"", "answr = \"audio\"");
        assert_eq!((error.file.as_str(), error.line, error.column), ("sheets/heron.toml", 15, 1));
        assert_eq!(error.key, "synthesis.answr");
        assert!(error.message.contains("unknown field `answr`"), "{}", error.message);
    }

    #[test]
    fn faults_of_sense_point_at_their_key() {
        for (from, to, line, key, says) in [
            ("sheet    = 1", "sheet    = 9", 2, "sheet", "version 9"),
            ("name     = \"heron\"", "name     = \"He ron\"", 3, "name", "small letters"),
            ("endpoint = \"http:", "endpoint = \"ftp:", 6, "endpoint", "http://"),
            ("parts  = [\"token\"]", "parts  = []", 9, "access.scheme", "exactly one part"),
            ("call   = \"POST", "call   = \"FETCH", 13, "synthesis.call", "GET, POST, PUT, PATCH or DELETE"),
            ("languages = [\"en-GB\"]", "languages = [\"en_GB\"]", 22, "synthesis.voices", "en_GB"),
            ("price = \"0.000016\"", "price = \"cheap\"", 29, "tariff.price", "cheap"),
            ("means  = \"quota\"", "means  = \"abandoned\"", 31, "errors", "only the gateway"),
        ] {
            let error = fault(from, to);
            assert_eq!((error.line, error.key.as_str()), (line, key), "{to}: {error}");
            assert!(error.message.contains(says), "{to}: {error}");
        }
    }

    #[test]
    fn a_wrong_type_is_told_at_its_line() {
        let error = fault("sample_rates = [24000]", "rates = \"high\"");
        assert_eq!(error.line, 20);
        let error = Sheet::parse("sheet = ", "x.toml").expect_err("no TOML");
        assert_eq!(error.line, 1);
    }
}
