//! Words of a command line as a shell would part them (POSIX.1-2024, Shell
//! Command Language, section 2.2), and `$'…'` of section 2.2.4. Nothing is run
//! and nothing looked up: variables stay, by name.

use super::DraftError;

/// A piece of a word: text, or the name of a variable.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(super) enum WordPiece {
    Text(String),
    Variable(String),
}

/// One word.
pub(super) type ShellWord = Vec<WordPiece>;

struct ShellReader<'a> {
    rest: std::iter::Peekable<std::str::Chars<'a>>,
    words: Vec<ShellWord>,
    word: Option<ShellWord>,
}

/// Parts a command into its words.
pub(super) fn words(command: &str) -> Result<Vec<ShellWord>, DraftError> {
    let mut reader = ShellReader { rest: command.chars().peekable(), words: Vec::new(), word: None };
    reader.read()?;
    Ok(reader.words)
}

impl ShellReader<'_> {
    fn push(&mut self, c: char) {
        let word = self.word.get_or_insert_default();
        match word.last_mut() {
            Some(WordPiece::Text(text)) => text.push(c),
            _ => word.push(WordPiece::Text(c.to_string())),
        }
    }

    /// A word that is there though it may be empty.
    fn begin(&mut self) {
        let word = self.word.get_or_insert_default();
        if word.is_empty() {
            word.push(WordPiece::Text(String::new()));
        }
    }

    fn end(&mut self) {
        self.words.extend(self.word.take());
    }

    fn read(&mut self) -> Result<(), DraftError> {
        while let Some(c) = self.rest.next() {
            match c {
                ' ' | '\t' | '\r' => self.end(),
                '\n' => self.end(),
                '\\' => match self.rest.next() {
                    // A line that goes on.
                    Some('\n') | None => {}
                    Some('\r') if self.rest.peek() == Some(&'\n') => drop(self.rest.next()),
                    Some(c) => self.push(c),
                },
                '\'' => {
                    self.begin();
                    self.single()?;
                }
                '"' => {
                    self.begin();
                    self.double()?;
                }
                '$' if self.rest.peek() == Some(&'\'') => {
                    self.rest.next();
                    self.begin();
                    self.escaped()?;
                }
                '$' => self.variable()?,
                '#' if self.word.is_none() => while self.rest.next_if(|c| *c != '\n').is_some() {},
                '|' | ';' | '&' | '<' | '>' if self.word.is_none() || c != '&' => {
                    // What follows is another command, or where output goes.
                    self.end();
                    return Ok(());
                }
                '`' => return Err(DraftError::Shell("a command inside the command (`…`) cannot be read".into())),
                c => self.push(c),
            }
        }
        self.end();
        Ok(())
    }

    fn single(&mut self) -> Result<(), DraftError> {
        loop {
            match self.rest.next() {
                Some('\'') => return Ok(()),
                Some(c) => self.push(c),
                None => return Err(DraftError::Shell("a single quote is not closed".into())),
            }
        }
    }

    fn double(&mut self) -> Result<(), DraftError> {
        loop {
            match self.rest.next() {
                Some('"') => return Ok(()),
                Some('\\') => match self.rest.next() {
                    Some(c @ ('"' | '\\' | '$' | '`')) => self.push(c),
                    Some('\n') => {}
                    Some(c) => {
                        self.push('\\');
                        self.push(c);
                    }
                    None => return Err(DraftError::Shell("a double quote is not closed".into())),
                },
                Some('$') => self.variable()?,
                Some('`') => {
                    return Err(DraftError::Shell("a command inside the command (`…`) cannot be read".into()));
                }
                Some(c) => self.push(c),
                None => return Err(DraftError::Shell("a double quote is not closed".into())),
            }
        }
    }

    /// `$'…'`: escapes as in C.
    fn escaped(&mut self) -> Result<(), DraftError> {
        loop {
            let c = match self.rest.next() {
                Some('\'') => return Ok(()),
                Some('\\') => match self.rest.next() {
                    Some('n') => '\n',
                    Some('t') => '\t',
                    Some('r') => '\r',
                    Some('a') => '\x07',
                    Some('b') => '\x08',
                    Some('f') => '\x0C',
                    Some('v') => '\x0B',
                    Some('e') => '\x1B',
                    Some('x') => self.code(2, 16)?,
                    Some('u') => self.code(4, 16)?,
                    Some('U') => self.code(8, 16)?,
                    Some(c) => c,
                    None => return Err(DraftError::Shell("a quote is not closed".into())),
                },
                Some(c) => c,
                None => return Err(DraftError::Shell("a quote is not closed".into())),
            };
            self.push(c);
        }
    }

    fn code(&mut self, most: usize, radix: u32) -> Result<char, DraftError> {
        let mut digits = String::new();
        while digits.len() < most
            && let Some(digit) = self.rest.next_if(|c| c.is_digit(radix))
        {
            digits.push(digit);
        }
        let code = u32::from_str_radix(&digits, radix).ok();
        code.and_then(char::from_u32).ok_or_else(|| DraftError::Shell(format!("\\x{digits} is no character")))
    }

    fn variable(&mut self) -> Result<(), DraftError> {
        let braced = self.rest.next_if_eq(&'{').is_some();
        if !braced && self.rest.peek() == Some(&'(') {
            return Err(DraftError::Shell("a command inside the command ($(…)) cannot be read".into()));
        }
        let mut name = String::new();
        while let Some(c) = self.rest.next_if(|c| c.is_ascii_alphanumeric() || *c == '_') {
            name.push(c);
        }
        if braced {
            // Defaults and the like say nothing of the sheet.
            loop {
                match self.rest.next() {
                    Some('}') => break,
                    Some(_) => {}
                    None => return Err(DraftError::Shell("${ is not closed".into())),
                }
            }
        }
        match name.is_empty() {
            true => self.push('$'),
            false => self.word.get_or_insert_default().push(WordPiece::Variable(name)),
        }
        Ok(())
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn plain(command: &str) -> Vec<String> {
        let text = |word: ShellWord| {
            let piece = |piece: &WordPiece| match piece {
                WordPiece::Text(text) => text.clone(),
                WordPiece::Variable(name) => format!("<{name}>"),
            };
            word.iter().map(piece).collect::<String>()
        };
        words(command).unwrap_or_else(|error| panic!("{command}: {error}")).into_iter().map(text).collect()
    }

    #[test]
    fn quotes_are_taken_as_a_shell_takes_them() {
        assert_eq!(plain("a 'b  c' \"d \\\"e\\\" \\n\" f\\ g"), ["a", "b  c", "d \"e\" \\n", "f g"]);
        assert_eq!(plain("x \\\n  y\\\r\n z"), ["x", "y", "z"]);
        assert_eq!(plain(r"$'it\'s \u00e9\n'"), ["it's é\n"]);
        assert_eq!(plain("'' \"\" a''b"), ["", "", "ab"]);
        assert_eq!(plain("\"Bearer $TOKEN\" ${KEY:-none} '$NOT'"), ["Bearer <TOKEN>", "<KEY>", "$NOT"]);
        assert_eq!(plain("a b | play -"), ["a", "b"]);
        assert_eq!(plain("http://x/?a=1&b=2 > out.mp3"), ["http://x/?a=1&b=2"]);
    }

    #[test]
    fn what_cannot_be_known_is_refused() {
        for broken in ["'open", "\"open", "$(cat key)", "\"`cat key`\"", "${open"] {
            assert!(words(broken).is_err(), "{broken}");
        }
    }
}
