//! Sealed cases of a whole program: what goes in, and what must come out.

use std::collections::BTreeMap;

use fairtrial_core::source::{SourceError, parse_jsonl};
use fairtrial_core::text::{Compare, TextMismatch, compare_texts};
use fairtrial_core::tree::RelPath;
use fairtrial_core::value::{Value, from_json, to_json};
use serde::Deserialize;

/// The `[program]` table of a brief.
#[derive(Debug, Clone, PartialEq, Eq, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct ProgramSettings {
    /// The file that the answer gives and that is built and run.
    pub file: RelPath,
}

/// One run of a program with its expectation.
#[derive(Debug, Clone, PartialEq)]
pub struct Case {
    /// What people call it; `case 3` without a name of its own.
    pub name: String,
    /// Arguments on the command line.
    pub args: Vec<String>,
    /// What it reads on standard input.
    pub stdin: Vec<u8>,
    /// Files put into its folder beforehand.
    pub files: BTreeMap<RelPath, Vec<u8>>,
    /// What it must write to standard output; `None` when nobody asks.
    pub stdout: Option<ExpectedContent>,
    /// How it must end.
    pub status: i32,
    /// Files that must be there afterwards.
    pub files_after: BTreeMap<RelPath, ExpectedContent>,
    /// How texts are compared.
    pub compare: Compare,
    /// Absolute tolerance of `number`.
    pub tolerance: f64,
    /// Its weight in partial credit.
    pub points: f64,
}

/// What a run of a program came to, as far as its judging needs.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct ProgramResult<'a> {
    /// Exit status.
    pub status: i32,
    /// Everything on standard output.
    pub stdout: &'a [u8],
    /// The files asked for that were there.
    pub files_after: &'a BTreeMap<RelPath, Vec<u8>>,
}

/// How a case was judged.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum CaseOutcome {
    /// As expected.
    Holds,
    /// Another exit status.
    WrongStatus {
        /// The status that was expected.
        expected: i32,
    },
    /// Standard output differs.
    WrongOutput(TextMismatch),
    /// A file is missing afterwards.
    MissingFile(RelPath),
    /// A file holds something else.
    WrongFile(RelPath, TextMismatch),
}

/// One line of `sealed/cases.jsonl`, or one `[[example]]` of a brief.
#[derive(Debug, Deserialize)]
#[serde(deny_unknown_fields)]
struct CaseLine {
    name: Option<String>,
    #[serde(default)]
    args: Vec<String>,
    #[serde(default)]
    stdin: TextOrBytes,
    #[serde(default)]
    files: BTreeMap<RelPath, TextOrBytes>,
    stdout: Option<TextOrBytes>,
    status: Option<i32>,
    #[serde(default)]
    files_after: BTreeMap<RelPath, TextOrBytes>,
    compare: Option<Compare>,
    tolerance: Option<f64>,
    points: Option<f64>,
}

/// What is expected of an output or a file.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct ExpectedContent {
    /// What it is.
    pub bytes: Vec<u8>,
    /// Whether it must be that to the byte, since it was given as bytes.
    pub is_exact: bool,
}

/// Text, or bytes as `{"$bytes": "…"}`.
#[derive(Debug, Default)]
struct TextOrBytes {
    bytes: Vec<u8>,
    is_exact: bool,
}

impl From<TextOrBytes> for ExpectedContent {
    fn from(content: TextOrBytes) -> Self {
        Self { bytes: content.bytes, is_exact: content.is_exact }
    }
}

impl<'de> Deserialize<'de> for TextOrBytes {
    fn deserialize<D: serde::Deserializer<'de>>(from: D) -> Result<Self, D::Error> {
        let json = serde_json::Value::deserialize(from)?;
        match from_json(json).map_err(serde::de::Error::custom)? {
            Value::Str(text) => Ok(Self { bytes: text.into_bytes(), is_exact: false }),
            Value::Bytes(bytes) => Ok(Self { bytes, is_exact: true }),
            other => Err(serde::de::Error::custom(format!(
                "{} is neither text nor {{\"$bytes\": \"base64\"}}",
                to_json(&other)
            ))),
        }
    }
}

/// Reads `sealed/cases.jsonl`.
///
/// # Errors
/// With the line: bad JSON, an unknown key, a case that expects nothing.
pub fn parse_cases(file: &str, text: &str) -> Result<Vec<Case>, SourceError> {
    let lines: Vec<(usize, CaseLine)> = parse_jsonl(file, text)?;
    if lines.is_empty() {
        return Err(SourceError::whole(file, "it holds no case; one object a line is expected"));
    }
    let cases = lines.into_iter().enumerate().map(|(index, (line, case))| {
        let name = format!("case {}", index + 1);
        case.into_case(name).map_err(|message| SourceError::at_line(file, line, message))
    });
    cases.collect()
}

/// Reads one `[[example]]` table.
///
/// # Errors
/// As [`parse_cases`], without a line.
pub fn parse_example(table: &toml::Value, number: usize) -> Result<Case, String> {
    let json = serde_json::to_value(table).map_err(|error| error.to_string())?;
    let line: CaseLine = serde_json::from_value(json).map_err(|error| error.to_string())?;
    line.into_case(format!("example {number}"))
}

impl CaseLine {
    fn into_case(self, name: String) -> Result<Case, String> {
        if self.stdout.is_none() && self.status.is_none() && self.files_after.is_empty() {
            return Err("an expectation is missing: at least one of `stdout`, `status`, \
                        `files_after`"
                .to_owned());
        }
        let positive = |value: Option<f64>, otherwise: f64, key: &str| match value {
            Some(it) if !(it >= 0.0 && it.is_finite()) => {
                Err(format!("`{key}` is a number of at least 0"))
            }
            it => Ok(it.unwrap_or(otherwise)),
        };
        let contents = |files: BTreeMap<RelPath, TextOrBytes>| {
            files.into_iter().map(|(path, content)| (path, content.bytes)).collect()
        };
        Ok(Case {
            name: self.name.unwrap_or(name),
            args: self.args,
            stdin: self.stdin.bytes,
            files: contents(self.files),
            stdout: self.stdout.map(ExpectedContent::from),
            status: self.status.unwrap_or(0),
            files_after: self.files_after.into_iter().map(|(path, it)| (path, it.into())).collect(),
            compare: self.compare.unwrap_or_default(),
            tolerance: positive(self.tolerance, 1e-6, "tolerance")?,
            points: positive(self.points, 1.0, "points")?,
        })
    }
}

impl Case {
    /// Judges a run: exit status first, then standard output, then files.
    #[must_use]
    pub fn judge(&self, result: &ProgramResult<'_>) -> CaseOutcome {
        if result.status != self.status {
            return CaseOutcome::WrongStatus { expected: self.status };
        }
        if let Some(expected) = &self.stdout
            && let Err(mismatch) = self.same(expected, result.stdout)
        {
            return CaseOutcome::WrongOutput(mismatch);
        }
        for (path, expected) in &self.files_after {
            let Some(found) = result.files_after.get(path) else {
                return CaseOutcome::MissingFile(path.clone());
            };
            if let Err(mismatch) = self.same(expected, found) {
                return CaseOutcome::WrongFile(path.clone(), mismatch);
            }
        }
        CaseOutcome::Holds
    }

    fn same(&self, expected: &ExpectedContent, found: &[u8]) -> Result<(), TextMismatch> {
        let compare = if expected.is_exact { Compare::Exact } else { self.compare };
        compare_texts(compare, self.tolerance, &expected.bytes, found)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn holds(line: &str, status: i32, stdout: &str) -> bool {
        let case = parse_cases("c.jsonl", line).unwrap().remove(0);
        let files = BTreeMap::new();
        let result = ProgramResult { status, stdout: stdout.as_bytes(), files_after: &files };
        case.judge(&result) == CaseOutcome::Holds
    }

    #[test]
    fn each_comparison_forgives_what_it_says() {
        assert!(holds(r#"{"stdout": "a\nb"}"#, 0, "a  \r\nb\n\n"));
        assert!(!holds(r#"{"stdout": "a\nb"}"#, 0, "a\n\nb\n"));
        assert!(!holds(r#"{"stdout": "a", "compare": "exact"}"#, 0, "a\n"));
        assert!(holds(r#"{"stdout": "a b", "compare": "tokens"}"#, 0, " a\n\tb "));
        assert!(holds(
            r#"{"stdout": "x 2.5", "compare": "number", "tolerance": 0.01}"#,
            0,
            "x 2.501"
        ));
        assert!(!holds(r#"{"stdout": "x 2.5", "compare": "number"}"#, 0, "x 2.501"));
        assert!(!holds(r#"{"stdout": "nan", "compare": "number"}"#, 0, "1"));
    }

    #[test]
    fn status_and_files_count() {
        assert!(!holds(r#"{"stdout": "a"}"#, 1, "a"));
        assert!(holds(r#"{"status": 3}"#, 3, "anything"));
        assert!(holds(r#"{"stdout": {"$bytes": "YQo="}}"#, 0, "a\n"));
        assert!(
            !holds(r#"{"stdout": {"$bytes": "YQo="}}"#, 0, "a"),
            "bytes are compared to the byte"
        );
        let line = r#"{"files_after": {"out/log.txt": "x"}}"#;
        let case = parse_cases("c.jsonl", line).unwrap().remove(0);
        let files = BTreeMap::new();
        let result = ProgramResult { status: 0, stdout: b"", files_after: &files };
        assert!(matches!(case.judge(&result), CaseOutcome::MissingFile(_)));
    }

    #[test]
    fn bytes_can_be_given_and_bad_lines_are_told() {
        let line = r#"{"stdin": {"$bytes": "/w=="}, "stdout": ""}"#;
        assert_eq!(parse_cases("c", line).unwrap()[0].stdin, [0xff]);
        for (line, part) in [
            (r#"{"stdin": "x"}"#, "an expectation is missing"),
            (r#"{"stdout": 5}"#, "neither text"),
            (r#"{"stdout": "", "compare": "fuzzy"}"#, "unknown variant `fuzzy`"),
            (r#"{"stdout": "", "files": {"../x": ""}}"#, "not a usable file path"),
        ] {
            let error = parse_cases("c", line).unwrap_err().to_string();
            assert!(error.contains(part), "{line}: {error}");
        }
    }
}
