//! Errors that point into a file somebody wrote.

use std::fmt;

use serde::de::DeserializeOwned;
use toml::Spanned;
use toml::de::{DeTable, DeValue};

/// What is wrong in a file, and where.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct SourceError {
    /// The file, as the user knows it.
    pub file: String,
    /// Line, from 1; `None` when the whole file is meant.
    pub line: Option<usize>,
    /// Column in characters, from 1; `None` when the whole line is meant.
    pub column: Option<usize>,
    /// What was found and what is allowed.
    pub message: String,
}

impl SourceError {
    /// An error about a file as a whole.
    pub fn whole(file: &str, message: impl Into<String>) -> Self {
        Self { file: file.to_owned(), line: None, column: None, message: message.into() }
    }

    /// An error about one line.
    pub fn at_line(file: &str, line: usize, message: impl Into<String>) -> Self {
        Self { file: file.to_owned(), line: Some(line), column: None, message: message.into() }
    }

    /// The same error in a file that begins `lines` lines further up.
    #[must_use]
    pub fn shifted(mut self, lines: usize) -> Self {
        self.line = self.line.map(|line| line + lines);
        self
    }
}

impl fmt::Display for SourceError {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "`{}`", self.file)?;
        if let Some(line) = self.line {
            write!(f, ", line {line}")?;
        }
        if let Some(column) = self.column {
            write!(f, ", column {column}")?;
        }
        write!(f, ": {}", self.message)
    }
}

impl std::error::Error for SourceError {}

/// Reads TOML into a type that knows all its keys.
///
/// # Errors
/// With line and column: bad TOML, an unknown key, a value of the wrong kind.
pub fn parse_toml<T: DeserializeOwned>(file: &str, text: &str) -> Result<T, SourceError> {
    toml::from_str(text).map_err(|error| toml_error(file, text, &error))
}

/// TOML of which parts are read by different readers. Errors of each have line and column.
#[derive(Debug)]
pub struct TomlParts<'a> {
    file: &'a str,
    text: &'a str,
    table: Spanned<DeTable<'a>>,
}

/// The value of one key, to be read by whoever knows it.
#[derive(Debug)]
pub struct TomlPart<'a> {
    file: &'a str,
    text: &'a str,
    value: Spanned<DeValue<'a>>,
}

impl<'a> TomlParts<'a> {
    /// Reads TOML without asking what its keys mean.
    ///
    /// # Errors
    /// With line and column: bad TOML.
    pub fn parse(file: &'a str, text: &'a str) -> Result<Self, SourceError> {
        let table = DeTable::parse(text).map_err(|error| toml_error(file, text, &error))?;
        Ok(Self { file, text, table })
    }

    /// The text of a key, and an error that points at it.
    #[must_use]
    pub fn word(&self, key: &str) -> Option<(String, impl Fn(String) -> SourceError + use<'_>)> {
        let value = self.table.get_ref().get(key)?;
        let word = value.get_ref().as_str()?.to_owned();
        let (line, column) = place_of(self.text, value.span().start);
        let error = move |message| SourceError {
            file: self.file.to_owned(),
            line: Some(line),
            column: Some(column),
            message,
        };
        Some((word, error))
    }

    /// Whether there is such a key.
    #[must_use]
    pub fn has(&self, key: &str) -> bool {
        self.table.get_ref().contains_key(key)
    }

    /// Takes a key out, so that [`Self::read`] does not meet it.
    pub fn take(&mut self, key: &str) -> Option<TomlPart<'a>> {
        let value = self.table.get_mut().remove(key)?;
        Some(TomlPart { file: self.file, text: self.text, value })
    }

    /// Reads what was not taken out into a type that knows all its keys.
    ///
    /// # Errors
    /// As [`parse_toml`].
    pub fn read<T: DeserializeOwned>(self) -> Result<T, SourceError> {
        T::deserialize(toml::Deserializer::from(self.table))
            .map_err(|error| toml_error(self.file, self.text, &error))
    }
}

impl TomlPart<'_> {
    /// Reads it into a type that knows all its keys.
    ///
    /// # Errors
    /// As [`parse_toml`].
    pub fn read<T: DeserializeOwned>(self) -> Result<T, SourceError> {
        T::deserialize(toml::de::ValueDeserializer::from(self.value))
            .map_err(|error| toml_error(self.file, self.text, &error))
    }
}

fn toml_error(file: &str, text: &str, error: &toml::de::Error) -> SourceError {
    let place = error.span().map(|span| place_of(text, span.start));
    SourceError {
        file: file.to_owned(),
        line: place.map(|it| it.0),
        column: place.map(|it| it.1),
        message: one_line(error.message()),
    }
}

/// Reads JSON Lines: one object a line, blank lines left out. The line number comes with each.
///
/// # Errors
/// At the first line that is not JSON or not of the type.
pub fn parse_jsonl<T: DeserializeOwned>(
    file: &str,
    text: &str,
) -> Result<Vec<(usize, T)>, SourceError> {
    let lines = text.lines().enumerate().filter(|(_, line)| !line.trim().is_empty());
    lines
        .map(|(index, line)| {
            let line = crate::value::quote_long_integers(line);
            let row = serde_json::from_str(&line).map_err(|error| SourceError {
                file: file.to_owned(),
                line: Some(index + 1),
                column: Some(error.column()).filter(|&column| column > 0),
                message: without_place(&error.to_string()),
            })?;
            Ok((index + 1, row))
        })
        .collect()
}

/// Bytes of a file as text.
///
/// # Errors
/// With the line of the first byte that is not UTF-8.
pub fn utf8<'a>(file: &str, bytes: &'a [u8]) -> Result<&'a str, SourceError> {
    std::str::from_utf8(bytes).map_err(|error| {
        let line = 1 + bytes[..error.valid_up_to()].iter().filter(|&&b| b == b'\n').count();
        SourceError::at_line(file, line, "not UTF-8 text")
    })
}

fn place_of(text: &str, offset: usize) -> (usize, usize) {
    let before = &text[..text.floor_char_boundary(offset)];
    let line = before.matches('\n').count() + 1;
    let column = before.rsplit('\n').next().unwrap_or("").chars().count() + 1;
    (line, column)
}

fn one_line(message: &str) -> String {
    message.lines().map(str::trim).filter(|line| !line.is_empty()).collect::<Vec<_>>().join("; ")
}

fn without_place(message: &str) -> String {
    message.rsplit_once(" at line ").map_or(message, |(text, _)| text).to_owned()
}

#[cfg(test)]
mod tests {
    use serde::Deserialize;

    use super::*;

    #[derive(Debug, Deserialize)]
    #[serde(deny_unknown_fields)]
    struct Row {
        #[expect(dead_code, reason = "only read by the parser")]
        depth: f64,
    }

    #[test]
    fn toml_errors_have_line_column_and_what_is_allowed() {
        let error = parse_toml::<Row>("x.toml", "# tide\ndepht = 3").unwrap_err();
        let text = error.shifted(1).to_string();
        assert_eq!(text, "`x.toml`, line 3, column 1: unknown field `depht`, expected `depth`");
    }

    #[test]
    fn jsonl_errors_have_the_line() {
        let error = parse_jsonl::<Row>("x.jsonl", "{\"depth\": 1}\n\n{\"depth\": }").unwrap_err();
        assert_eq!((error.line, error.column), (Some(3), Some(11)));
        let error = parse_jsonl::<Row>("x.jsonl", "{\"depth\": \"low\"}").unwrap_err();
        assert!(error.to_string().contains("invalid type"), "{error}");
    }

    #[test]
    fn text_that_is_not_utf8_is_told_by_line() {
        assert_eq!(utf8("x", b"a\nb\xff").unwrap_err().line, Some(2));
    }
}
