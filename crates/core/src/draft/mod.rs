//! A draft of a sheet out of a pasted call of the curl command.
//!
//! What can be derived is written; secrets become parts of a credential;
//! what cannot be derived is marked for the reader with `# ?`. Nothing is called
//! and nothing of the environment is looked at.

mod command;
mod json;
mod roles;
mod shell;
mod write;

use self::command::{Pasted, Value, basic, read};
use self::shell::WordPiece;

/// Why there is no draft.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[non_exhaustive]
pub enum DraftError {
    /// The text holds no call of a tool.
    #[error("this does not begin with curl; paste the whole command")]
    NoCommand,
    /// The call names no address.
    #[error("the command has no address")]
    NoAddress,
    /// The address of the call cannot be read.
    #[error("the address '{0}' cannot be used; it begins with http:// or https://")]
    Address(String),
    /// An option of the tool that the draft cannot follow.
    #[error("{0}")]
    Option(String),
    /// A form of the shell that is not followed.
    #[error("{0}")]
    Shell(String),
}

/// Files that a command names, where they may be read.
pub trait Files {
    /// The text of a file; `None` if it is not there, is no text or is
    /// too long.
    fn read(&self, path: &str) -> Option<String>;
}

/// No file is read.
pub struct NoFiles;

impl Files for NoFiles {
    fn read(&self, _: &str) -> Option<String> {
        None
    }
}

/// A drafted sheet.
#[derive(Debug, Clone)]
pub struct Draft {
    /// TOML, with comments.
    pub sheet: String,
    /// Parts of the credential, each with the secret that stood in the
    /// command; `None` if that was a variable.
    pub parts: Vec<(String, Option<secrecy::SecretString>)>,
    /// What the reader must see to.
    pub remarks: Vec<String>,
}

/// Drafts a sheet. `name` names the engine; the host of the address where it
/// is missing.
///
/// # Errors
/// When the command cannot be read.
pub fn draft(command: &str, name: Option<&str>, files: &dyn Files) -> Result<Draft, DraftError> {
    let pasted = read(command, files)?;
    let shape = Shape::of(pasted)?;
    Ok(write::write(shape, name))
}

/// How the secrets of a command are shown to the engine.
#[derive(Debug, Clone, PartialEq, Eq)]
enum Door {
    None,
    Bearer,
    Basic,
    /// Header fields by name, as templates.
    Headers(Vec<(String, String)>),
    /// The parts stand where the request names them.
    Templates,
}

/// A command, taken apart.
struct Shape {
    pasted: Pasted,
    endpoint: String,
    path: String,
    door: Door,
    parts: Vec<(String, Option<secrecy::SecretString>)>,
    /// Header fields with secrets in them, as templates.
    templates: Vec<(String, String)>,
}

/// Whether a name is one that secrets have.
fn secret_name(name: &str) -> bool {
    let name = name.to_lowercase().replace(['-', '_'], "");
    let exact = ["key", "auth", "token", "secret", "password", "sig", "signature", "code"];
    exact.contains(&name.as_str())
        || name.ends_with("key")
        || ["apikey", "accesskey", "token", "secret", "password", "authorization", "authkey", "credential"]
            .iter()
            .any(|part| name.contains(part))
}

/// A name for a part of the credential: small letters, digits, underscores.
fn part_name(name: &str) -> String {
    let mut made = String::new();
    for c in name.chars() {
        if c.is_ascii_alphanumeric() {
            made.push(c.to_ascii_lowercase());
        } else if !made.is_empty() && !made.ends_with('_') {
            made.push('_');
        }
    }
    let made = made.trim_end_matches('_').to_owned();
    if made.is_empty() { "secret".into() } else { made }
}

fn text_of(value: &Value) -> String {
    let piece = |piece: &WordPiece| match piece {
        WordPiece::Text(text) => text.clone(),
        WordPiece::Variable(name) => format!("${name}"),
    };
    value.iter().map(piece).collect()
}

impl Shape {
    fn of(mut pasted: Pasted) -> Result<Shape, DraftError> {
        let url = text_of(&pasted.url);
        let (scheme, rest) = url.split_once("://").ok_or_else(|| DraftError::Address(url.clone()))?;
        if !matches!(scheme, "http" | "https") {
            return Err(DraftError::Address(url.clone()));
        }
        let (host, path) = match rest.find('/') {
            Some(at) => (&rest[..at], &rest[at..]),
            None => (rest, "/"),
        };
        let host = match host.rsplit_once('@') {
            // A name and a password in the address are basic access.
            Some((user, host)) => {
                let (name, password) = user.split_once(':').unwrap_or((user, ""));
                let text = |text: &str| vec![WordPiece::Text(text.to_owned())];
                pasted.user.get_or_insert((text(name), text(password)));
                host
            }
            None => host,
        };
        if host.is_empty() {
            return Err(DraftError::Address(url.clone()));
        }
        let endpoint = format!("{scheme}://{host}");
        let path = path.to_owned();
        let mut shape = Shape { pasted, endpoint, path, door: Door::None, parts: Vec::new(), templates: Vec::new() };
        shape.find_access();
        Ok(shape)
    }

    /// Makes a part of what a value says; gives its name.
    fn part(&mut self, wanted: &str, value: &Value) -> String {
        let given = match value.as_slice() {
            [WordPiece::Text(text)] => Some(secrecy::SecretString::from(text.clone())),
            _ => None,
        };
        self.add_part(wanted, given)
    }

    fn add_part(&mut self, wanted: &str, given: Option<secrecy::SecretString>) -> String {
        let base = part_name(wanted);
        let mut name = base.clone();
        let mut number = 2;
        while self.parts.iter().any(|(has, _)| *has == name) {
            name = format!("{base}_{number}");
            number += 1;
        }
        self.parts.push((name.clone(), given));
        name
    }

    fn find_access(&mut self) {
        if let Some((user, password)) = self.pasted.user.take() {
            self.part("user", &user);
            self.part("password", &password);
            self.door = Door::Basic;
        } else if let Some(token) = self.pasted.bearer.take() {
            self.part("token", &token);
            self.door = Door::Bearer;
        }
        self.headers();
        self.query_secrets();
    }

    fn headers(&mut self) {
        let mut kept = Vec::new();
        let mut shown = Vec::new();
        for (name, value) in std::mem::take(&mut self.pasted.headers) {
            let text = text_of(&value);
            let authorization = name.eq_ignore_ascii_case("authorization");
            if authorization && self.door == Door::None && text.len() > 7 && text[..7].eq_ignore_ascii_case("bearer ") {
                let token = trimmed(&value, 7);
                self.part("token", &token);
                self.door = Door::Bearer;
            } else if authorization && self.door == Door::None && text.to_lowercase().starts_with("basic ") {
                match basic(&text[6..]) {
                    Some((user, password)) => {
                        self.add_part("user", Some(user.into()));
                        self.add_part("password", Some(password.into()));
                        self.door = Door::Basic;
                    }
                    None => shown.push((name.clone(), self.shown(&name, &value))),
                }
            } else if authorization || secret_name(&name) || named_variable(&value) {
                shown.push((name.clone(), self.shown(&name, &value)));
            } else {
                kept.push((name, value));
            }
        }
        self.pasted.headers = kept;
        if shown.is_empty() {
            return;
        }
        if self.door == Door::None {
            self.door = Door::Headers(shown);
        } else {
            self.by_templates();
            self.templates.extend(shown);
        }
    }

    /// More than one kind of secret, or one outside of the header: each stands
    /// as a template where it stood.
    fn by_templates(&mut self) {
        let (first, second) = (self.parts.first(), self.parts.get(1));
        match std::mem::replace(&mut self.door, Door::Templates) {
            Door::Bearer => {
                let token = first.map(|(name, _)| named(name)).unwrap_or_default();
                self.templates.push(("Authorization".into(), format!("Bearer {token}")));
            }
            Door::Basic => {
                let part =
                    |part: Option<&(String, _)>| part.map(|(name, _)| format!("credential.{name}")).unwrap_or_default();
                let both = format!("{{{{ ({} ~ ':' ~ {})|base64 }}}}", part(first), part(second));
                self.templates.push(("Authorization".into(), format!("Basic {both}")));
            }
            Door::Headers(headers) => self.templates.extend(headers),
            Door::None | Door::Templates => {}
        }
    }

    /// A header's value as a template: what comes before a space stays, such
    /// as the name of a scheme.
    fn shown(&mut self, name: &str, value: &Value) -> String {
        let text = text_of(value);
        let head =
            text.split_once(' ').filter(|(head, _)| head.bytes().all(|b| b.is_ascii_alphanumeric() || b == b'-'));
        match head {
            Some((head, _)) if name.eq_ignore_ascii_case("authorization") => {
                let rest = trimmed(value, head.len() + 1);
                let part = self.part("key", &rest);
                format!("{head} {}", named(&part))
            }
            _ => {
                let wanted = name.strip_prefix("X-").or(name.strip_prefix("x-")).unwrap_or(name).to_owned();
                let wanted = if name.eq_ignore_ascii_case("authorization") { "key".into() } else { wanted };
                let part = self.part(&wanted, value);
                named(&part)
            }
        }
    }

    /// Secrets among the query parameters stand where they stood.
    fn query_secrets(&mut self) {
        let query = text_of(&self.pasted.query);
        if query.is_empty() {
            return;
        }
        let mut made = Vec::new();
        let mut found = false;
        for pair in query.split('&') {
            match pair.split_once('=') {
                Some((name, value)) if secret_name(name) && !value.is_empty() => {
                    let given = (!value.starts_with('$')).then(|| secrecy::SecretString::from(decode(value)));
                    let part = self.add_part(name, given);
                    made.push(WordPiece::Text(format!("{name}=\u{1}{part}\u{2}")));
                    found = true;
                }
                _ => made.push(WordPiece::Text(pair.to_owned())),
            }
        }
        if !found {
            return;
        }
        let joined: Vec<String> = made.iter().map(|piece| text_of(&vec![piece.clone()])).collect();
        self.pasted.query = vec![WordPiece::Text(joined.join("&"))];
        self.by_templates();
    }
}

/// `{{ credential.PART }}`.
fn named(part: &str) -> String {
    format!("{{{{ credential.{part} }}}}")
}

/// A value that is a variable with a name that secrets have.
fn named_variable(value: &Value) -> bool {
    value.iter().any(|piece| matches!(piece, WordPiece::Variable(name) if secret_name(name)))
}

/// A value without a number of bytes at its beginning.
fn trimmed(value: &Value, bytes: usize) -> Value {
    let mut value = value.clone();
    if let Some(WordPiece::Text(first)) = value.first_mut() {
        *first = first.get(bytes..).unwrap_or_default().to_owned();
        if first.is_empty() && value.len() > 1 {
            value.remove(0);
        }
    }
    value
}

/// Percent-decoding, with `+` as a space.
fn decode(text: &str) -> String {
    let mut bytes = Vec::new();
    let mut rest = text.bytes();
    while let Some(byte) = rest.next() {
        let digits = || {
            let mut ahead = rest.clone();
            let pair = [ahead.next()?, ahead.next()?];
            u8::from_str_radix(std::str::from_utf8(&pair).ok()?, 16).ok()
        };
        match (byte, digits()) {
            (b'%', Some(code)) => {
                bytes.push(code);
                rest.next();
                rest.next();
            }
            (b'+', _) => bytes.push(b' '),
            (byte, _) => bytes.push(byte),
        }
    }
    String::from_utf8_lossy(&bytes).into_owned()
}
