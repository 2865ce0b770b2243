//! How code in a language looks: what it takes to recognise it in an answer, to tell its parts apart
//! and to leave its strings alone.

use std::sync::{Arc, OnceLock};

use regex::{Regex, RegexBuilder};
use serde::{Deserialize, Serialize};

/// How code looks. A language of which nothing is said here can still be asked for by its tag.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields, default)]
pub struct Syntax {
    /// Languages as which its code is easily tagged, or which it resembles.
    pub kin: Vec<String>,
    /// What strings and characters stand in.
    pub quotes: Vec<char>,
    /// Of these, the ones whose strings can have several lines.
    pub long_quotes: Vec<char>,
    /// Whether three quotes in a row begin a string that three end.
    pub triple_quotes: bool,
    /// What begins a comment that ends with its line. Unless it is `#`, `/* */` is a comment, too.
    pub line_comment: String,
    /// Where three dots alone on a line are code.
    pub dots: Dots,
    /// A line with which code begins; any line, where nothing is said.
    pub begins: Option<Pattern>,
    /// Lines that are typical.
    pub typical: Option<Pattern>,
    /// A definition at the top level; the first group that is there is the name.
    pub defines: Option<Pattern>,
    /// What a whole program has that is run.
    pub entry: Option<Pattern>,
    /// What only tests have.
    pub tests: Option<Pattern>,
    /// Where a whole program reads what it is given: its standard input, arguments, files.
    pub input: Option<Pattern>,
    /// A line that loads something; the first group names it.
    pub imports: Option<Pattern>,
    /// How a line at the top level begins that only declares or loads something; every line, where
    /// nothing is said.
    pub declares: Option<Pattern>,
    /// A statement in the place of a body that is not written.
    pub hollow: Option<Pattern>,
    /// Whether bodies are told by their indentation, not by braces.
    pub indented: bool,
    /// Whether `<<WORD` begins a text that ends with a line `WORD`.
    pub here_documents: bool,
    /// The first group is the package that a line loads.
    pub package: Option<Pattern>,
    /// Packages that come with the language, and what is no package.
    pub own_packages: Vec<String>,
    /// Functions and values that are there without being defined or loaded. Empty: not known.
    pub built_in: Vec<String>,
    /// Where names are given a meaning, as a parameter, a local, a loop's variable, an import: the
    /// first group holds them.
    pub binds: Vec<Pattern>,
}

impl Default for Syntax {
    fn default() -> Self {
        Self {
            kin: Vec::new(),
            quotes: vec!['"'],
            long_quotes: Vec::new(),
            triple_quotes: false,
            line_comment: "//".to_owned(),
            dots: Dots::Nowhere,
            begins: None,
            typical: None,
            defines: None,
            entry: None,
            tests: None,
            input: None,
            imports: None,
            declares: None,
            hollow: None,
            indented: false,
            here_documents: false,
            package: None,
            own_packages: Vec::new(),
            built_in: Vec::new(),
            // A type before it, or a parameter's comma behind it.
            binds: vec![
                Pattern::new(r"\b[\w>\]]+[\s*&]+(\w+)\s*(?:[=;,)\[]|:=)"),
                Pattern::new(r"(\w+)\s*:="),
            ],
        }
    }
}

/// Where three dots alone on a line are code, and leave nothing out.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum Dots {
    /// Nowhere.
    #[default]
    Nowhere,
    /// As the body of something that is only declared.
    Bodies,
    /// As further parameters.
    Parameters,
}

impl Syntax {
    /// Whether anything is said of how code looks.
    #[must_use]
    pub fn is_known(&self) -> bool {
        self.typical.is_some()
    }

    /// Whether `line` could be the first of a piece of code.
    #[must_use]
    pub fn begins(&self, line: &str) -> bool {
        self.begins.as_ref().is_none_or(|it| it.regex().is_match(line))
    }

    /// How many lines are typical, from 0 to 1.
    #[must_use]
    pub fn likeness(&self, code: &str) -> f64 {
        let lines = code.lines().filter(|line| !line.trim().is_empty()).count().max(1);
        let typical = self.typical.as_ref();
        typical.map_or(0.0, |it| it.regex().find_iter(code).count() as f64 / lines as f64)
    }

    /// Whether `code` defines `name` at its top level. `Class.method` asks for the class.
    #[must_use]
    pub fn defines(&self, code: &str, name: &str) -> bool {
        let name = name.split('.').next().unwrap_or(name);
        self.definitions(code).iter().any(|it| it == name)
    }

    /// The names that `code` defines at its top level.
    #[must_use]
    pub fn definitions(&self, code: &str) -> Vec<String> {
        let Some(defines) = &self.defines else { return Vec::new() };
        let names = defines.regex().captures_iter(code);
        names
            .filter_map(|found| found.iter().skip(1).flatten().next())
            .map(|name| name.as_str().to_owned())
            .collect()
    }

    /// Whether `code` has what a whole program starts with when it is run.
    #[must_use]
    pub fn has_entry(&self, code: &str) -> bool {
        self.entry.as_ref().is_none_or(|it| it.regex().is_match(code))
    }

    /// Whether `code` is tests, or has them.
    #[must_use]
    pub fn has_tests(&self, code: &str) -> bool {
        self.tests.as_ref().is_some_and(|it| it.regex().is_match(code))
    }

    /// The words to which `code` gives a meaning of its own somewhere.
    pub fn bound_names<'c>(&self, code: &'c str) -> impl Iterator<Item = &'c str> {
        let lists = self.binds.iter().flat_map(|it| it.regex().captures_iter(code));
        let is_word = |c: char| c.is_alphanumeric() || c == '_';
        let words: Vec<&str> = lists
            .filter_map(|it| it.get(1))
            .flat_map(|it| it.as_str().split(move |c| !is_word(c)))
            .collect();
        words.into_iter().filter(|it| !it.is_empty())
    }

    /// The patterns that are no regular expressions, each with what is wrong.
    pub(super) fn faults(&self) -> Vec<String> {
        let all = [
            &self.begins,
            &self.typical,
            &self.defines,
            &self.entry,
            &self.tests,
            &self.input,
            &self.imports,
            &self.declares,
            &self.hollow,
            &self.package,
        ];
        let all = all.into_iter().flatten().chain(&self.binds);
        all.filter_map(|it| it.compile().err()).map(|it| it.to_string()).collect()
    }
}

/// A regular expression, compiled when it is first used; `^` and `$` are the ends of a line.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[serde(from = "String", into = "String")]
pub struct Pattern {
    text: String,
    compiled: Arc<OnceLock<Regex>>,
}

impl Pattern {
    fn new(text: &str) -> Self {
        Self { text: text.to_owned(), compiled: Arc::default() }
    }

    fn compile(&self) -> Result<Regex, regex::Error> {
        RegexBuilder::new(&self.text).multi_line(true).build()
    }

    /// One that is malformed was refused as its language was read; until then it matches nothing.
    #[must_use]
    pub fn regex(&self) -> &Regex {
        self.compiled.get_or_init(|| {
            self.compile().unwrap_or_else(|_| Regex::new(r"[^\s\S]").expect("well-formed"))
        })
    }
}

impl From<String> for Pattern {
    fn from(text: String) -> Self {
        Self { text, compiled: Arc::default() }
    }
}

impl From<Pattern> for String {
    fn from(pattern: Pattern) -> Self {
        pattern.text
    }
}

impl PartialEq for Pattern {
    fn eq(&self, other: &Self) -> bool {
        self.text == other.text
    }
}

impl Eq for Pattern {}
