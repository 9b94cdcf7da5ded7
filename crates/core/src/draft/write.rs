//! From a command taken apart to the text of a sheet.

use super::json::leaves;
use super::roles::{Role, media_type, rate_in, role};
use super::shell::WordPiece;
use super::{Door, Draft, Shape, decode, named, part_name, secret_name, text_of};

/// What was found in the request, to be named by templates.
#[derive(Default)]
struct Found {
    text: Option<String>,
    voice: Option<String>,
    model: Option<String>,
    language: Option<String>,
    format: Option<String>,
    rate: Option<u32>,
    /// The request contains the audio: the engine is a recogniser.
    audio: bool,
}

impl Found {
    /// The expression of a member, and the filter to write it by.
    fn name(&mut self, role: Role, value: &str) -> Option<&'static str> {
        let slot = match role {
            Role::Text => &mut self.text,
            Role::Voice => &mut self.voice,
            Role::Model => &mut self.model,
            Role::Language if crate::is_language_tag(&value.replace('_', "-")) && !value.contains('_') => {
                &mut self.language
            }
            Role::Format if media_type(value).is_some() => &mut self.format,
            _ => return None,
        };
        if slot.is_some() {
            return None;
        }
        *slot = Some(value.to_owned());
        Some(match role {
            Role::Text => "text",
            Role::Voice => "voice.id",
            Role::Model => "model",
            Role::Language => "language",
            _ => "format.tag",
        })
    }
}

/// Text that a template leaves as it is.
fn literal(text: &str) -> String {
    match ["{{", "{%", "{#"].iter().any(|mark| text.contains(mark)) {
        true => format!("{{% raw %}}{text}{{% endraw %}}"),
        false => text.to_owned(),
    }
}

/// A string as TOML.
fn quoted(text: &str) -> String {
    let simple = !text.contains('\'') && !text.contains(|c: char| c.is_control());
    let block = !text.contains("'''")
        && !text.ends_with('\'')
        && !text.contains(|c: char| c.is_control() && c != '\n' && c != '\t');
    match (simple, block) {
        (true, _) => format!("'{text}'"),
        (_, true) => format!("'''\n{text}'''"),
        _ => toml::Value::String(text.to_owned()).to_string(),
    }
}

fn key(name: &str) -> String {
    let bare = !name.is_empty() && name.bytes().all(|b| b.is_ascii_alphanumeric() || b == b'-' || b == b'_');
    if bare { name.to_owned() } else { toml::Value::String(name.to_owned()).to_string() }
}

/// The body as a template, its media type, and what it says of itself.
enum Body {
    None,
    Json(String),
    Text { template: String, content_type: String },
    Multipart { parts: Vec<(String, String)>, audio: Option<String> },
    Raw,
}

struct SheetWriter {
    shape: Shape,
    found: Found,
    lines: Vec<String>,
}

pub(super) fn write(shape: Shape, name: Option<&str>) -> Draft {
    let mut writer = SheetWriter { shape, found: Found::default(), lines: Vec::new() };
    let content_type = writer.content_type();
    let body = writer.body(&content_type);
    let call = writer.call();
    writer.sheet(name, &call, body);
    let SheetWriter { shape, lines, .. } = writer;
    Draft { sheet: format!("{}\n", lines.join("\n")), parts: shape.parts, remarks: shape.pasted.remarks }
}

impl SheetWriter {
    fn content_type(&mut self) -> String {
        let headers = &mut self.shape.pasted.headers;
        let at = headers.iter().position(|(name, _)| name.eq_ignore_ascii_case("content-type"));
        at.map(|at| text_of(&headers.remove(at).1)).unwrap_or_default()
    }

    fn body(&mut self, content_type: &str) -> Body {
        if !self.shape.pasted.parts.is_empty() {
            return self.multipart();
        }
        if self.shape.pasted.raw {
            self.found.audio = true;
            if !content_type.is_empty() && !content_type.starts_with("audio/") {
                // The type of the audio follows from its format.
                let value = vec![WordPiece::Text(content_type.to_owned())];
                self.shape.pasted.headers.push(("Content-Type".into(), value));
            } else if let Some(kind) = media_type(content_type) {
                self.found.format = Some(kind.to_owned());
            }
            return Body::Raw;
        }
        let Some(body) = self.shape.pasted.body.take() else { return Body::None };
        let body = text_of(&body);
        let template = if let Some(template) = self.json(&body) {
            template
        } else if content_type.starts_with("application/x-www-form-urlencoded") {
            self.pairs(&body)
        } else if body.trim_start().starts_with('<') {
            self.markup(&body)
        } else {
            self.found.text = Some(body.clone());
            "{{ text }}".into()
        };
        match content_type == "application/json" && leaves(&body).is_some() {
            true => Body::Json(template),
            false => Body::Text { template, content_type: content_type.to_owned() },
        }
    }

    /// A JSON body with the members that are understood as templates.
    fn json(&mut self, body: &str) -> Option<String> {
        let all = leaves(body)?;
        let mut made = String::new();
        let mut at = 0;
        let longest = all
            .iter()
            .filter_map(|leaf| leaf.value.as_str().filter(|text| text.contains(' ')).map(|text| (text.len(), leaf)))
            .max_by_key(|(length, _)| *length)
            .map(|(_, leaf)| leaf.clone());
        let by_name = all
            .iter()
            .any(|leaf| leaf.value.is_string() && leaf.path.last().is_some_and(|name| role(name) == Some(Role::Text)));
        for leaf in &all {
            // A member of `voice` is of the voice, whatever its name.
            let names = leaf.path.iter().rev();
            let own = leaf.path.last().and_then(|name| role(name));
            let role = own.or_else(|| {
                let named = leaf.path.last().is_some_and(|name| ["name", "id"].contains(&name.as_str()));
                names.clone().nth(1).filter(|_| named).and_then(|outer| role(outer)).filter(|r| *r == Role::Voice)
            });
            let text_by_length = !by_name && longest.as_ref() == Some(leaf);
            let value = leaf.value.as_str();
            let template = match (role, value) {
                _ if value.is_some_and(base64_audio) => {
                    self.found.audio = true;
                    Some("{{ audio.base64|json }}".to_owned())
                }
                (_, Some(text)) if leaf.path.last().is_some_and(|name| secret_name(name)) => {
                    let given = (!text.starts_with('$')).then(|| secrecy::SecretString::from(text.to_owned()));
                    let part = self.shape.add_part(leaf.path.last().map_or("secret", String::as_str), given);
                    self.shape.by_templates();
                    Some(format!("{{{{ credential.{part}|json }}}}"))
                }
                (_, Some(text)) if text_by_length => {
                    self.found.name(Role::Text, text).map(|name| format!("{{{{ {name}|json }}}}"))
                }
                (Some(Role::Rate), None) => match leaf.value.as_u64().and_then(|rate| u32::try_from(rate).ok()) {
                    Some(rate) if (8_000..=48_000).contains(&rate) && self.found.rate.is_none() => {
                        self.found.rate = Some(rate);
                        Some("{{ format.sample_rate }}".into())
                    }
                    _ => None,
                },
                (Some(role), Some(text)) => self.found.name(role, text).map(|name| format!("{{{{ {name}|json }}}}")),
                _ => None,
            };
            let Some(template) = template else { continue };
            made.push_str(&literal(&body[at..leaf.span.start]));
            made.push_str(&template);
            at = leaf.span.end;
        }
        made.push_str(&literal(&body[at..]));
        Some(made)
    }

    /// `name=value&…` with what is understood as templates.
    fn pairs(&mut self, body: &str) -> String {
        let pair = |pair: &str| {
            let Some((name, value)) = pair.split_once('=') else { return literal(pair) };
            let plain = decode(value);
            if let Some(part) = value.strip_prefix('\u{1}').and_then(|value| value.strip_suffix('\u{2}')) {
                return format!("{}={}", literal(name), named(part));
            }
            if secret_name(name) && !value.is_empty() {
                let given = (!value.starts_with('$')).then(|| secrecy::SecretString::from(plain));
                let part = self.shape.add_part(name, given);
                self.shape.by_templates();
                return format!("{}={{{{ credential.{part}|form }}}}", literal(name));
            }
            let made = match role(name) {
                Some(Role::Rate) => rate_in(&plain).filter(|_| self.found.rate.is_none()).map(|rate| {
                    self.found.rate = Some(rate);
                    "format.sample_rate"
                }),
                Some(role) => self.found.name(role, &plain),
                None => None,
            };
            // Spaces as `+`, where the command wrote them so.
            let filter = if value.contains('+') { "form_plus" } else { "form" };
            match made {
                Some(expression) => format!("{}={{{{ {expression}|{filter} }}}}", literal(name)),
                None => literal(&format!("{name}={value}")),
            }
        };
        body.split('&').map(pair).collect::<Vec<_>>().join("&")
    }

    /// XML, its text as a template where there is one run of it.
    fn markup(&mut self, body: &str) -> String {
        let longest = body.split('>').filter_map(|part| part.split('<').next()).max_by_key(|text| text.trim().len());
        match longest.filter(|text| !text.trim().is_empty()) {
            Some(text) => {
                self.found.text = Some(text.trim().to_owned());
                let (before, after) = body.split_once(text).unwrap_or((body, ""));
                let lead = &text[..text.len() - text.trim_start().len()];
                let trail = &text[text.trim_end().len()..];
                format!("{}{lead}{{{{ text|xml }}}}{trail}{}", literal(before), literal(after))
            }
            None => literal(body),
        }
    }

    fn multipart(&mut self) -> Body {
        let mut parts = Vec::new();
        let mut audio = None;
        for part in std::mem::take(&mut self.shape.pasted.parts) {
            let text = text_of(&part.value);
            if let Some(kind) = part.file {
                self.found.audio = true;
                if audio.is_some() {
                    self.shape.pasted.remarks.push(format!("a second file, the part {}, is left out", part.name));
                    continue;
                }
                let ending = text.rsplit('.').next().unwrap_or_default().to_owned();
                self.found.format = kind.as_deref().and_then(media_type).or(media_type(&ending)).map(str::to_owned);
                // It keeps its position.
                parts.push((part.name.clone(), String::new()));
                audio = Some(part.name);
                continue;
            }
            if secret_name(&part.name) {
                let name = self.shape.part(&part.name, &part.value);
                self.shape.by_templates();
                parts.push((part.name, named(&name)));
                continue;
            }
            let made = role(&part.name).filter(|role| *role != Role::Text || audio.is_none());
            let expression = made.and_then(|role| self.found.name(role, &text));
            parts.push((part.name, expression.map_or_else(|| literal(&text), |it| format!("{{{{ {it} }}}}"))));
        }
        Body::Multipart { parts, audio }
    }

    /// `METHOD /path?query` as a template.
    fn call(&mut self) -> String {
        let mut path = String::new();
        let segments: Vec<String> = self.shape.path.split('/').map(str::to_owned).collect();
        for (at, segment) in segments.iter().enumerate() {
            if at > 0 {
                path.push('/');
            }
            let before = at.checked_sub(1).map(|before| segments[before].to_lowercase()).unwrap_or_default();
            let names_voice = matches!(before.as_str(), "voice" | "voices" | "speaker" | "speakers");
            let is_secret = at.checked_sub(1).is_some_and(|_| matches!(before.as_str(), "key" | "token" | "keys"));
            if names_voice && !segment.is_empty() && self.found.voice.is_none() {
                self.found.voice = Some(decode(segment));
                path.push_str("{{ voice.id }}");
            } else if is_secret && segment.len() > 8 {
                let part = self.shape.add_part("key", Some(decode(segment).into()));
                self.shape.by_templates();
                path.push_str(&named(&part));
            } else {
                path.push_str(&literal(segment));
            }
        }
        let query = text_of(&self.shape.pasted.query);
        if !query.is_empty() {
            let made = self.pairs(&query);
            path.push('?');
            path.push_str(&made);
        }
        format!("{} {path}", self.shape.pasted.method)
    }

    fn put(&mut self, line: impl Into<String>) {
        self.lines.push(line.into());
    }

    fn sheet(&mut self, name: Option<&str>, call: &str, body: Body) {
        let host = self.shape.endpoint.split("://").nth(1).unwrap_or_default().split(':').next().unwrap_or_default();
        let own = host.split('.').rev().nth(1).filter(|_| !host.bytes().all(|b| b.is_ascii_digit() || b == b'.'));
        let name = name.map(str::to_owned).unwrap_or_else(|| part_name(own.unwrap_or("engine")).replace('_', "-"));
        let private = host == "localhost" || host.parse::<std::net::IpAddr>().is_ok_and(|it| it.is_loopback());
        let endpoint = self.shape.endpoint.clone();
        self.put("# Drafted from a pasted command. Lines with \"# ?\" are guesses: look at each of them.");
        self.put("sheet    = 1");
        self.put(format!("name     = {}", quoted(&name.chars().take(40).collect::<String>())));
        self.put("site     = \"cloud\"");
        if private {
            self.put("network  = \"private\"");
        }
        self.put(format!("endpoint = {}", quoted(&endpoint)));
        self.put("");
        self.put("[guide]");
        self.put("steps = []  # ? how to get access: account, narrowest role, where to find the key");
        self.put("");
        self.access();
        let section = if self.found.audio { "recognition" } else { "synthesis" };
        self.put(format!("[{section}]"));
        self.put(format!("call   = {}", quoted(call)));
        self.request(&body);
        if self.found.audio {
            self.recognition()
        } else {
            self.synthesis()
        }
        self.put("");
        self.put("[tariff]");
        self.put("per   = \"character\"  # ? character, byte, second, minute or request");
        self.put("price = \"0\"          # ? of one unit");
        self.put("");
        self.put("# [[errors]]  # ? what its errors mean, such as");
        self.put("# status = 402");
        self.put("# means  = \"unpaid\"");
        if section == "synthesis" && self.found.text.is_none() {
            let remark = "no text was found in the command; put {{ text }} in its place";
            self.shape.pasted.remarks.push(remark.into());
        }
    }

    fn access(&mut self) {
        let scheme = match &self.shape.door {
            Door::None => "none",
            Door::Bearer => "bearer",
            Door::Basic => "basic",
            Door::Headers(_) => "headers",
            Door::Templates => "templates",
        };
        self.put("[access]");
        self.put(format!("scheme = \"{scheme}\""));
        let parts: Vec<String> = self.shape.parts.iter().map(|(name, _)| quoted(name)).collect();
        if !parts.is_empty() {
            self.put(format!("parts  = [{}]", parts.join(", ")));
        }
        if let Door::Headers(headers) = self.shape.door.clone() {
            self.put("");
            self.put("[access.headers]");
            for (name, template) in headers {
                self.put(format!("{} = {}", key(&name), quoted(&template)));
            }
        }
        self.put("");
    }

    fn request(&mut self, body: &Body) {
        match body {
            Body::None => {}
            Body::Json(template) => self.put(format!("json   = {}", quoted(template))),
            Body::Text { template, content_type } => {
                self.put(format!("text   = {}", quoted(template)));
                self.put(format!("content_type = {}", quoted(content_type)));
            }
            Body::Raw => self.put("raw    = true"),
            Body::Multipart { parts, audio } => {
                let parts: Vec<String> =
                    parts.iter().map(|(name, template)| format!("{} = {}", key(name), quoted(template))).collect();
                self.put(format!("multipart = {{ {} }}", parts.join(", ")));
                if let Some(audio) = audio {
                    self.put(format!("audio  = {}", quoted(audio)));
                }
            }
        }
        let headers = std::mem::take(&mut self.shape.pasted.headers);
        let mut headers: Vec<(String, String)> =
            headers.into_iter().map(|(name, value)| (name, literal(&text_of(&value)))).collect();
        headers.append(&mut self.shape.templates);
        if self.found.format.is_none() {
            let accept = headers.iter().find(|(name, _)| name.eq_ignore_ascii_case("accept"));
            self.found.format = accept.and_then(|(_, value)| media_type(value)).map(str::to_owned);
        }
        if !headers.is_empty() {
            let headers: Vec<String> =
                headers.iter().map(|(name, value)| format!("{} = {}", key(name), quoted(value))).collect();
            self.put(format!("headers = {{ {} }}", headers.join(", ")));
        }
    }

    fn format(&mut self, section: &str) {
        let tag = self.found.format.clone();
        let kind = tag.as_deref().and_then(media_type);
        let rate = self.found.rate.or(tag.as_deref().and_then(rate_in)).unwrap_or(24_000);
        let rate = if kind == Some("audio/basic") { 8_000 } else { rate };
        let short =
            kind.unwrap_or("audio/mpeg").trim_start_matches("audio/").split(';').next().unwrap_or("mpeg").to_owned();
        let named = tag.as_ref().filter(|tag| **tag != short && !tag.starts_with("audio/"));
        let tag = named.map(|tag| format!(", tag = {}", quoted(tag))).unwrap_or_default();
        let guess = if kind.is_some() && self.found.rate.is_some() { "" } else { "  # ? type and rate of the audio" };
        self.put("");
        self.put(format!("[{section}.formats]"));
        let kind = kind.unwrap_or("audio/mpeg");
        self.put(format!("{} = {{ type = \"{kind}\", sample_rates = [{rate}]{tag} }}{guess}", key(&short)));
    }

    fn synthesis(&mut self) {
        self.put("answer = \"audio\"  # ? or { base64 = \"$.path\" }, { link = \"$.path\" }");
        self.put("# limit = { characters = 5000 }  # ? limit of one call");
        if let Some(model) = self.found.model.clone() {
            self.put(format!("models = [{{ name = {} }}]", quoted(&model)));
        }
        self.format("synthesis");
        let voice = self.found.voice.clone().unwrap_or_else(|| "default".into());
        let language = self.found.language.clone().or_else(|| language_in(&voice));
        let guess = if language.is_some() { "" } else { "  # ? the languages of the voice" };
        self.put("");
        self.put("[[synthesis.voices]]");
        self.put(format!("id = {}", quoted(&voice)));
        self.put(format!("name = {}", quoted(&voice)));
        self.put(format!("languages = [{}]{guess}", quoted(&language.unwrap_or_else(|| "en".into()))));
    }

    fn recognition(&mut self) {
        if let Some(model) = self.found.model.clone() {
            self.put(format!("models = [{{ name = {} }}]", quoted(&model)));
        }
        self.put("# limit = { megabytes = … }  # ? limit of one call");
        self.format("recognition");
        self.put("");
        self.put("[recognition.transcript]");
        self.put("text = \"$.text\"  # ? where the text is in its answer; also words and times");
    }
}

/// The language at the beginning of a voice's name, such as `en-GB-…`.
fn language_in(voice: &str) -> Option<String> {
    let mut parts = voice.split(['-', '_']);
    let (language, region) = (parts.next()?, parts.next()?);
    let fits = language.len() == 2 && region.len() == 2 && region.bytes().all(|b| b.is_ascii_uppercase());
    fits.then(|| format!("{language}-{region}"))
}

/// A long string that can be nothing but base64.
fn base64_audio(text: &str) -> bool {
    text.len() > 200 && text.bytes().all(|b| b.is_ascii_alphanumeric() || matches!(b, b'+' | b'/' | b'='))
}
