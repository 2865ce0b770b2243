//! Languages: how each is recognised in an answer, built and run.

use std::collections::BTreeMap;

use serde::{Deserialize, Serialize};

use crate::limits::LimitSettings;
use crate::source::{SourceError, parse_toml};
use crate::testrun::ReportKind;
use crate::tree::RelPath;

/// What is known of one language. The commands are argument lists with `{…}` places to fill:
/// `{tool}`, each name in `also`, `{file}`, `{stem}`, `{driver}`, `{heap_mib}` (three quarters of
/// the memory limit, in MiB).
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct LanguageDefinition {
    /// The name that candidates read.
    pub title: String,
    /// Words after a code fence that mean this language, in lower case.
    pub tags: Vec<String>,
    /// File extensions, without the dot; the first is the usual one.
    pub extensions: Vec<String>,
    /// Names of the interpreter or compiler; the first found on the search path is used.
    pub tool: Vec<String>,
    /// Further programs that are needed, found on the search path.
    #[serde(default)]
    pub also: Vec<String>,
    /// Arguments that make the tool print where it really is: its own file, or the folder in
    /// which `bin/` holds it, then folders that it needs. Empty: the file found is the tool.
    #[serde(default)]
    pub locate: Vec<String>,
    /// Arguments that make the tool print its version. Empty: it has none to tell.
    #[serde(default)]
    pub version: Vec<String>,
    /// The command that fails when a file does not parse. Empty: what does not build does not parse.
    #[serde(default)]
    pub parse: Vec<String>,
    /// Commands that make something to run, one after the other.
    #[serde(default)]
    pub build: Vec<Vec<String>>,
    /// The command that runs a whole program.
    #[serde(default)]
    pub run: Vec<String>,
    /// Commands that make something to serve single calls with; empty: the file itself is loaded.
    #[serde(default)]
    pub call_build: Vec<Vec<String>>,
    /// The file that the driver loads, where it is not the answer's; `{stem}` is filled.
    #[serde(default)]
    pub call_file: String,
    /// The command that serves single calls; empty where the form `call` is not offered.
    #[serde(default)]
    pub call: Vec<String>,
    /// Arguments with which the tool, given names of packages behind them, prints name and version of
    /// each, and fails when one is missing. Empty: answers in this language can use no packages.
    #[serde(default)]
    pub packages: Vec<String>,
    /// A whole program that prints `fair`, to see whether the language can be run.
    #[serde(default)]
    pub sample: String,
    /// A file that defines a function `same`, which returns its argument.
    #[serde(default)]
    pub sample_call: String,
    /// Runners of unit tests, by name.
    #[serde(default)]
    pub runners: BTreeMap<String, TestRunner>,
    /// Texts on standard error, or names of errors, that mean that memory ran out.
    #[serde(default)]
    pub memory_errors: Vec<String>,
    /// Environment set for build and run.
    #[serde(default)]
    pub env: BTreeMap<String, String>,
    /// Limits that this language needs others of than are built in, such as `build_time`.
    #[serde(default)]
    pub limits: LimitSettings,
}

/// A runner of unit tests. Further places to fill: `{report}`, where a report is to be written
/// when it is not printed; `{files}`, alone in its argument, for the sealed test files.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct TestRunner {
    /// Arguments with which the tool succeeds when the runner is there. Empty: it comes with the
    /// tool.
    #[serde(default)]
    pub probe: Vec<String>,
    /// Further programs that are needed, found on the search path.
    #[serde(default)]
    pub also: Vec<String>,
    /// Files that are put beside the answer, by path, such as a manifest.
    #[serde(default)]
    pub lay: BTreeMap<String, String>,
    /// Commands that fail when the answer does not build or load by itself, without any test. What
    /// they print then goes back to the candidate.
    #[serde(default)]
    pub check: Vec<Vec<String>>,
    /// Commands that make something to run.
    #[serde(default)]
    pub build: Vec<Vec<String>>,
    /// The command that runs the tests.
    pub command: Vec<String>,
    /// How it reports.
    pub report: ReportKind,
    /// The file that it reports to; empty: it prints the report, or one of our drivers sends it.
    #[serde(default)]
    pub file: String,
    /// How canaries are written; empty: none are.
    #[serde(default)]
    pub canaries: String,
    /// How the files are called that hold tests: `test_*.py`.
    #[serde(default)]
    pub pattern: String,
    /// Whether files that hold tests are blank when the tests are run, since they were built or are
    /// sent to the driver.
    #[serde(default)]
    pub blank: bool,
    /// Exit statuses when tests failed; 0 when all passed.
    #[serde(default)]
    pub failed_status: Vec<i32>,
    /// Files that it picks up by itself, which are not taken from a candidate: names, endings after
    /// `*`, folders before `/`, or beginnings of whole paths after `/`.
    #[serde(default)]
    pub config: Vec<String>,
    /// Environment set for build and run.
    #[serde(default)]
    pub env: BTreeMap<String, String>,
    /// What shows whether it can be run.
    pub sample: Option<TestRunnerSample>,
}

/// A sealed test of one name, and an answer for which it holds.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct TestRunnerSample {
    /// The answer's file.
    pub file: RelPath,
    /// What is in it.
    pub answer: String,
    /// The file of the test.
    pub test: RelPath,
    /// What is in it.
    pub code: String,
    /// The test's name, as the runner reports it.
    pub name: String,
}

impl TestRunner {
    /// Whether a file is one that the runner picks up by itself.
    #[must_use]
    pub fn is_config(&self, path: &RelPath) -> bool {
        let name = path.as_str().rsplit('/').next().unwrap_or_default();
        let in_folder = |known: &str| {
            let folder = known.strip_suffix('/');
            folder.is_some_and(|it| path.as_str().split('/').rev().skip(1).any(|part| part == it))
        };
        self.config.iter().any(|known| match known.strip_prefix('/') {
            Some(start) => path.as_str().starts_with(start),
            None => fits(known, name) || known == path.as_str() || in_folder(known),
        })
    }

    /// Whether a file holds tests.
    #[must_use]
    pub fn is_test_file(&self, path: &RelPath) -> bool {
        let name = path.as_str().rsplit('/').next().unwrap_or_default();
        !self.pattern.is_empty() && fits(&self.pattern, name)
    }
}

/// A name, with at most one `*`.
fn fits(pattern: &str, name: &str) -> bool {
    match pattern.split_once('*') {
        None => pattern == name,
        Some((head, tail)) => {
            name.len() >= head.len() + tail.len() && name.starts_with(head) && name.ends_with(tail)
        }
    }
}

/// All languages known to a run, by name.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(transparent)]
pub struct Languages(BTreeMap<String, LanguageDefinition>);

impl Languages {
    /// The languages that ship with the tool.
    ///
    /// # Panics
    /// Never: a test reads the shipped file.
    #[must_use]
    pub fn shipped() -> Self {
        let text = include_str!("languages.toml");
        Self(parse_toml("languages.toml", text).expect("the shipped definitions are well-formed"))
    }

    /// Adds the languages in `text`, replacing those of the same name.
    ///
    /// # Errors
    /// Bad TOML, an unknown key, a definition that cannot run anything.
    pub fn add(&mut self, file: &str, text: &str) -> Result<(), SourceError> {
        let more: BTreeMap<String, LanguageDefinition> = parse_toml(file, text)?;
        for (name, definition) in more {
            if definition.tool.is_empty() || definition.run.is_empty() {
                let message = format!("`{name}` needs at least one `tool` and a `run` command");
                return Err(SourceError::whole(file, message));
            }
            self.0.insert(name, definition);
        }
        Ok(())
    }

    /// The languages that do not ship with the tool, or are defined otherwise than those that do.
    #[must_use]
    pub fn added(&self) -> BTreeMap<String, LanguageDefinition> {
        let shipped = Self::shipped();
        let is_added = |it: &(&String, &LanguageDefinition)| shipped.0.get(it.0) != Some(it.1);
        self.0.iter().filter(is_added).map(|(name, it)| (name.clone(), it.clone())).collect()
    }

    /// The definition of a language.
    #[must_use]
    pub fn find(&self, language: &str) -> Option<&LanguageDefinition> {
        self.0.get(language)
    }

    /// Names and definitions, in name order.
    pub fn iter(&self) -> impl Iterator<Item = (&str, &LanguageDefinition)> {
        self.0.iter().map(|(name, definition)| (name.as_str(), definition))
    }

    /// The language that a fence tag means.
    #[must_use]
    pub fn by_tag(&self, tag: &str) -> Option<&str> {
        let tag = tag.to_lowercase();
        self.iter().find(|(name, it)| *name == tag || it.tags.contains(&tag)).map(|(name, _)| name)
    }

    /// The language that a file extension means.
    #[must_use]
    pub fn by_extension(&self, extension: &str) -> Option<&str> {
        let known = |it: &LanguageDefinition| it.extensions.iter().any(|known| known == extension);
        self.iter().find(|(_, it)| known(it)).map(|(name, _)| name)
    }

    /// The names, for error messages.
    #[must_use]
    pub fn names(&self) -> String {
        self.0.keys().cloned().collect::<Vec<_>>().join(", ")
    }
}

/// Fills the `{…}` places of a command. A place that `values` does not know stays as it is.
#[must_use]
pub fn fill(command: &[String], values: &[(&str, &str)]) -> Vec<String> {
    let fill_one = |part: &String| {
        values
            .iter()
            .fold(part.clone(), |text, (name, value)| text.replace(&format!("{{{name}}}"), value))
    };
    command.iter().map(fill_one).collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_shipped_definitions_cover_nine_languages() {
        let languages = Languages::shipped();
        assert_eq!(
            languages.names(),
            "c, c++, go, java, javascript, python, rust, shell, typescript"
        );
        assert_eq!(languages.by_tag("CPP"), Some("c++"));
        assert_eq!(languages.by_extension("mjs"), Some("javascript"));
        assert_eq!(languages.by_tag("text"), None);
    }

    #[test]
    fn a_user_can_add_a_language_and_a_wrong_key_is_told() {
        let mut languages = Languages::shipped();
        let awk = "[awk]\ntitle='AWK'\ntags=['awk']\nextensions=['awk']\ntool=['awk']\n\
                   run=['{tool}','-f','{file}']";
        languages.add("r.toml", awk).unwrap();
        let run =
            fill(&languages.find("awk").unwrap().run, &[("tool", "/bin/awk"), ("file", "m.awk")]);
        assert_eq!(run, ["/bin/awk", "-f", "m.awk"]);
        let error = languages.add("r.toml", "[x]\ntitel = ''").unwrap_err();
        assert_eq!(error.line, Some(2));
        let error = languages.add("r.toml", &awk.replace("tool=['awk']", "tool=[]")).unwrap_err();
        assert!(error.to_string().contains("at least one `tool`"), "{error}");
    }
}
