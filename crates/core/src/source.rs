//! Errors that point into a file somebody wrote.

use std::fmt;

use serde::de::DeserializeOwned;

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
    toml::from_str(text).map_err(|error| {
        let place = error.span().map(|span| place_of(text, span.start));
        SourceError {
            file: file.to_owned(),
            line: place.map(|it| it.0),
            column: place.map(|it| it.1),
            message: one_line(error.message()),
        }
    })
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
