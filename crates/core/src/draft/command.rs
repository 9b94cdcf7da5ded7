//! A pasted call of the curl command, read into the request that it sends.

use base64::Engine as _;

use super::shell::{ShellWord, WordPiece, words};
use super::{DraftError, Files};

/// A value in which variables stand by name.
pub(super) type Value = Vec<WordPiece>;

/// One part of a form.
#[derive(Debug, Clone)]
pub(super) struct FormPart {
    pub(super) name: String,
    pub(super) value: Value,
    /// It is a file, of this media type where one is said.
    pub(super) file: Option<Option<String>>,
}

/// What a command sends.
#[derive(Debug, Clone, Default)]
pub(super) struct Pasted {
    pub(super) method: String,
    /// Without query.
    pub(super) url: Value,
    /// As written, `?` left out.
    pub(super) query: Value,
    pub(super) headers: Vec<(String, Value)>,
    pub(super) body: Option<Value>,
    /// The body is a file that was not given.
    pub(super) raw: bool,
    pub(super) parts: Vec<FormPart>,
    /// Name and password.
    pub(super) user: Option<(Value, Value)>,
    /// A token for `Authorization: Bearer`.
    pub(super) bearer: Option<Value>,
    /// What could not be taken over, for the reader.
    pub(super) remarks: Vec<String>,
}

fn text(value: &Value) -> String {
    let piece = |piece: &WordPiece| match piece {
        WordPiece::Text(text) => text.clone(),
        WordPiece::Variable(name) => format!("${name}"),
    };
    value.iter().map(piece).collect()
}

fn plain(text: impl Into<String>) -> Value {
    vec![WordPiece::Text(text.into())]
}

/// Parts a value at the first of a character.
pub(super) fn split(value: &Value, at: char) -> Option<(Value, Value)> {
    for (index, piece) in value.iter().enumerate() {
        if let WordPiece::Text(text) = piece
            && let Some((before, after)) = text.split_once(at)
        {
            let mut head: Value = value[..index].to_vec();
            head.push(WordPiece::Text(before.to_owned()));
            let mut tail = plain(after);
            tail.extend(value[index + 1..].iter().cloned());
            return Some((head, tail));
        }
    }
    None
}

fn join(mut left: Value, between: &str, right: Value) -> Value {
    left.push(WordPiece::Text(between.to_owned()));
    left.extend(right);
    left
}

/// Options that take a value and say nothing of the request.
const ASIDE: [&str; 24] = [
    "-o",
    "--output",
    "-m",
    "--max-time",
    "--connect-timeout",
    "-w",
    "--write-out",
    "-c",
    "--cookie-jar",
    "--retry",
    "--retry-delay",
    "--retry-max-time",
    "--limit-rate",
    "-D",
    "--dump-header",
    "--trace",
    "--trace-ascii",
    "--stderr",
    "-x",
    "--proxy",
    "--cacert",
    "--capath",
    "--resolve",
    "-K",
];
/// Switches that say nothing of the request.
const SWITCHES: [&str; 24] = [
    "-s",
    "--silent",
    "-S",
    "--show-error",
    "-L",
    "--location",
    "-i",
    "--include",
    "-v",
    "--verbose",
    "-f",
    "--fail",
    "--fail-with-body",
    "-N",
    "--no-buffer",
    "-O",
    "--remote-name",
    "--http1.1",
    "--http2",
    "-#",
    "--progress-bar",
    "--globoff",
    "-g",
    "-J",
];

struct Options<'a> {
    pasted: Pasted,
    files: &'a dyn Files,
    method: Option<String>,
    data: Vec<Value>,
    get: bool,
    json: bool,
    url: Option<Value>,
}

/// Reads a command.
pub(super) fn read(command: &str, files: &dyn Files) -> Result<Pasted, DraftError> {
    let words = words(command.trim())?;
    let mut words = words.into_iter().skip_while(|word| text(word) == "$");
    match words.next().map(|word| text(&word)) {
        Some(name) if name == "curl" || name.ends_with("/curl") => {}
        _ => return Err(DraftError::NoCommand),
    }
    let mut options = Options {
        pasted: Pasted::default(),
        files,
        method: None,
        data: Vec::new(),
        get: false,
        json: false,
        url: None,
    };
    let mut words = words.collect::<Vec<ShellWord>>().into_iter();
    while let Some(word) = words.next() {
        options.take(word, &mut words)?;
    }
    options.finish()
}

impl Options<'_> {
    fn take(&mut self, word: ShellWord, rest: &mut dyn Iterator<Item = ShellWord>) -> Result<(), DraftError> {
        let name = text(&word);
        if !name.starts_with('-') || name == "-" {
            return self.address(word);
        }
        if let Some((name, value)) = split(&word, '=').filter(|_| name.starts_with("--")) {
            return self.option(&text(&name), &mut || Ok(value.clone()));
        }
        // Short options may stand together, the last with its value.
        if !name.starts_with("--") && name.chars().count() > 2 {
            return self.together(&word, rest);
        }
        let mut next = || rest.next().ok_or_else(|| DraftError::Option(format!("{name} lacks its value")));
        self.option(&name, &mut next)
    }

    fn together(&mut self, word: &ShellWord, rest: &mut dyn Iterator<Item = ShellWord>) -> Result<(), DraftError> {
        let mut word = word.clone();
        let Some(WordPiece::Text(first)) = word.first_mut() else { return Ok(()) };
        let letters = first.trim_start_matches('-').to_owned();
        for (at, letter) in letters.char_indices() {
            let name = format!("-{letter}");
            if SWITCHES.contains(&name.as_str()) || matches!(letter, 'G' | 'I' | 'k') {
                self.option(&name, &mut || Err(DraftError::Option(name.clone())))?;
                continue;
            }
            let after = letters[at + letter.len_utf8()..].to_owned();
            *first = after.clone();
            let inside = (!after.is_empty() || word.len() > 1).then(|| word.clone());
            let mut next = || match &inside {
                Some(value) => Ok(value.clone()),
                None => rest.next().ok_or_else(|| DraftError::Option(format!("{name} lacks its value"))),
            };
            return self.option(&name, &mut next);
        }
        Ok(())
    }

    fn address(&mut self, word: ShellWord) -> Result<(), DraftError> {
        if self.url.is_some() {
            return Err(DraftError::Option(format!("a second address, {}; paste one call at a time", text(&word))));
        }
        self.url = Some(word);
        Ok(())
    }

    fn option(&mut self, name: &str, value: &mut dyn FnMut() -> Result<Value, DraftError>) -> Result<(), DraftError> {
        match name {
            "-X" | "--request" => self.method = Some(text(&value()?).to_uppercase()),
            "--url" => {
                let word = value()?;
                self.address(word)?;
            }
            "-H" | "--header" => self.header(value()?),
            "-A" | "--user-agent" => self.pasted.headers.push(("User-Agent".into(), value()?)),
            "-e" | "--referer" => self.pasted.headers.push(("Referer".into(), value()?)),
            "-b" | "--cookie" => self.pasted.headers.push(("Cookie".into(), value()?)),
            "--compressed" => self.pasted.remarks.push("--compressed: audio is not compressed again; left out".into()),
            "-k" | "--insecure" => {
                self.pasted
                    .remarks
                    .push("-k: certificates are always checked; name an authority with [access.identity]".into());
            }
            "-u" | "--user" => {
                let word = value()?;
                self.pasted.user = Some(split(&word, ':').unwrap_or((word, plain(""))));
            }
            "--oauth2-bearer" => self.pasted.bearer = Some(value()?),
            "-d" | "--data" | "--data-ascii" => {
                let word = value()?;
                self.data(word, true)?;
            }
            "--data-raw" => self.data.push(value()?),
            "--data-binary" => {
                let word = value()?;
                self.data(word, false)?;
            }
            "--data-urlencode" => {
                let word = value()?;
                self.encoded(&word)?;
            }
            "--json" => {
                let word = value()?;
                self.json = true;
                self.data(word, false)?;
            }
            "-F" | "--form" => {
                let word = value()?;
                self.form(&word, false)?;
            }
            "--form-string" => {
                let word = value()?;
                self.form(&word, true)?;
            }
            "-T" | "--upload-file" => {
                value()?;
                self.pasted.raw = true;
                self.method.get_or_insert("PUT".into());
            }
            "-G" | "--get" => self.get = true,
            "-I" | "--head" => return Err(DraftError::Option("-I requests headers only, not audio".into())),
            "-E" | "--cert" | "--key" => {
                value()?;
                self.pasted.remarks.push(format!("{name}: a client certificate; add [access.identity] and its parts"));
            }
            name if ASIDE.contains(&name) => drop(value()?),
            name if SWITCHES.contains(&name) => {}
            name => return Err(DraftError::Option(format!("the option {name} is not known here"))),
        }
        Ok(())
    }

    fn header(&mut self, word: Value) {
        match split(&word, ':') {
            Some((name, value)) => {
                let mut value = value;
                if let Some(WordPiece::Text(first)) = value.first_mut() {
                    *first = first.trim_start().to_owned();
                }
                let empty = text(&value).trim().is_empty();
                if !empty {
                    self.pasted.headers.push((text(&name).trim().to_owned(), value));
                }
            }
            // `Name;` sends an empty one.
            None => self.pasted.remarks.push(format!("the header '{}' has no value and is left out", text(&word))),
        }
    }

    /// Data as it is, or of a file; line ends of files are stripped as the
    /// command does it.
    fn data(&mut self, word: Value, strip: bool) -> Result<(), DraftError> {
        let given = text(&word);
        let Some(path) = given.strip_prefix('@') else {
            self.data.push(word);
            return Ok(());
        };
        match self.files.read(path) {
            Some(content) => {
                let content = if strip { content.replace(['\r', '\n'], "") } else { content };
                self.data.push(plain(content));
            }
            None => {
                self.pasted.raw = true;
                self.pasted.remarks.push(format!(
                    "the body is the file {path}, which does not exist here; it is taken to be the audio"
                ));
            }
        }
        Ok(())
    }

    fn encoded(&mut self, word: &Value) -> Result<(), DraftError> {
        // `content`, `=content`, `name=content`; files are not looked into.
        let (name, content) = split(word, '=').unwrap_or((plain(""), word.clone()));
        if text(word).contains('@') && split(word, '=').is_none() {
            return Err(DraftError::Option("--data-urlencode with a file; paste the text itself".into()));
        }
        let encode = |piece: &WordPiece| match piece {
            WordPiece::Text(text) => WordPiece::Text(encode(text)),
            variable => variable.clone(),
        };
        let content: Value = content.iter().map(encode).collect();
        self.data.push(match text(&name).is_empty() {
            true => content,
            false => join(name, "=", content),
        });
        Ok(())
    }

    fn form(&mut self, word: &Value, literal: bool) -> Result<(), DraftError> {
        let (name, value) =
            split(word, '=').ok_or_else(|| DraftError::Option(format!("-F {} has no =", text(word))))?;
        let given = text(&value);
        let part = match given.chars().next().filter(|_| !literal) {
            Some('@') => {
                let kind = given.split(';').find_map(|part| part.trim().strip_prefix("type=")).map(str::to_owned);
                FormPart {
                    name: text(&name),
                    value: plain(given[1..].split(';').next().unwrap_or_default()),
                    file: Some(kind),
                }
            }
            Some('<') => {
                let path = given[1..].split(';').next().unwrap_or_default().to_owned();
                let content = self.files.read(&path);
                if content.is_none() {
                    self.pasted
                        .remarks
                        .push(format!("the part {} is the file {path}, which does not exist here", text(&name)));
                }
                FormPart { name: text(&name), value: plain(content.unwrap_or_default()), file: None }
            }
            _ => {
                let value = match given.contains(";type=") {
                    true => plain(given.split(";type=").next().unwrap_or_default()),
                    false => value,
                };
                FormPart { name: text(&name), value, file: None }
            }
        };
        self.pasted.parts.push(part);
        Ok(())
    }

    fn finish(mut self) -> Result<Pasted, DraftError> {
        let url = self.url.take().ok_or(DraftError::NoAddress)?;
        // What follows `#` never leaves.
        let url = split(&url, '#').map_or(url.clone(), |(before, _)| before);
        let (url, query) = split(&url, '?').unwrap_or((url, Vec::new()));
        let (url, mut query) = (with_scheme(url), query);
        let mut body: Option<Value> = None;
        for data in std::mem::take(&mut self.data) {
            body = Some(match body {
                None => data,
                Some(before) => join(before, if self.json { "" } else { "&" }, data),
            });
        }
        if self.get
            && let Some(data) = body.take()
        {
            query = if query.is_empty() { data } else { join(query, "&", data) };
        }
        let sends = body.is_some() || self.pasted.raw || !self.pasted.parts.is_empty();
        let method = self.method.unwrap_or_else(|| if sends { "POST" } else { "GET" }.into());
        if self.json {
            for (name, value) in [("Content-Type", "application/json"), ("Accept", "application/json")] {
                if !self.pasted.headers.iter().any(|(has, _)| has.eq_ignore_ascii_case(name)) {
                    self.pasted.headers.push((name.into(), plain(value)));
                }
            }
        }
        let typed = self.pasted.headers.iter().any(|(name, _)| name.eq_ignore_ascii_case("content-type"));
        if body.is_some() && !typed {
            let kind = "application/x-www-form-urlencoded";
            self.pasted.headers.push(("Content-Type".into(), plain(kind)));
        }
        Ok(Pasted { method, url, query, body, ..self.pasted })
    }
}

fn with_scheme(mut url: Value) -> Value {
    if let Some(WordPiece::Text(first)) = url.first_mut()
        && !first.contains("://")
    {
        *first = format!("http://{first}");
    }
    url
}

/// Percent-encoding of all but the unreserved characters (RFC 3986, section
/// 2.3), spaces as `+`, as the command does it for forms.
fn encode(text: &str) -> String {
    let keep = |byte: u8| byte.is_ascii_alphanumeric() || matches!(byte, b'-' | b'.' | b'_' | b'~');
    let one = |byte: u8| match byte {
        b' ' => "+".to_owned(),
        byte if keep(byte) => char::from(byte).to_string(),
        byte => format!("%{byte:02X}"),
    };
    text.bytes().map(one).collect()
}

/// The name and password of `Authorization: Basic`.
pub(super) fn basic(value: &str) -> Option<(String, String)> {
    let decoded = base64::engine::general_purpose::STANDARD.decode(value.trim()).ok()?;
    let (name, password) = std::str::from_utf8(&decoded).ok()?.split_once(':')?;
    Some((name.to_owned(), password.to_owned()))
}
