//! Languages: how each is recognised in an answer, built, run, called and tested.
//!
//! All that is known of a language that ships with the tool is in one folder below `languages/`: its
//! definition, in the form in which users write theirs, and the files of its drivers.

mod canaries;
mod driver;
mod shipped;
mod syntax;
mod test_runner;
mod values;

use std::collections::BTreeMap;

use serde::{Deserialize, Serialize};

pub use self::canaries::CanaryStyle;
pub use self::driver::{DriverSet, Drivers, Precompile, Shim};
pub use self::syntax::{Dots, Syntax};
pub use self::test_runner::{ApartRunner, TestRunner, TestRunnerSample};
pub use self::values::{Dialect, ValueTemplates};
use crate::limits::LimitSettings;
use crate::source::{SourceError, parse_toml};

/// What is known of one language. The commands are argument lists with `{…}` places to fill:
/// `{tool}`, each name in `also`, `{file}`, `{sources}` (an argument of its own: the file, and the others of the
/// language that are built with it), `{stem}`, `{drivers}` (the folder of the drivers),
/// `{driver}` (the driver in it), `{heap_mib}` (three quarters of the memory limit, in MiB).
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct LanguageDefinition {
    /// The name that candidates read.
    pub title: String,
    /// Words after a code fence that mean this language, in lower case.
    pub tags: Vec<String>,
    /// File extensions, without the dot; the first is the usual one.
    pub extensions: Vec<String>,
    /// Of these, the extensions of files that are not built by themselves.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub headers: Vec<String>,
    /// What candidates must know of how answers are built and loaded, by form; `*` is any. `{stem}` is the
    /// name of the answer's file without its extension.
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    pub told: BTreeMap<String, String>,
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
    /// What stands before the code in the file that this command gets.
    #[serde(default, skip_serializing_if = "String::is_empty")]
    pub parse_before: String,
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
    /// How code in it looks.
    #[serde(default)]
    pub syntax: Syntax,
    /// How values are written in it; as JSON where nothing is said.
    pub values: Option<ValueTemplates>,
    /// Drivers.
    #[serde(default)]
    pub drivers: Drivers,
    /// How calls are served by a program that is built around an answer.
    pub shim: Option<Shim>,
    /// The files that drivers and the shim are made of, by name.
    #[serde(default)]
    pub files: BTreeMap<String, String>,
    /// Runners of unit tests, by name.
    #[serde(default)]
    pub runners: BTreeMap<String, TestRunner>,
    /// Ways of writing tests, by names that runners of any language use.
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    pub canaries: BTreeMap<String, CanaryStyle>,
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

impl LanguageDefinition {
    /// Whether files with this extension are source code that is built by itself.
    #[must_use]
    pub fn is_source(&self, extension: &str) -> bool {
        let is_in = |list: &[String]| list.iter().any(|it| it == extension);
        is_in(&self.extensions) && !is_in(&self.headers)
    }

    /// How values are written.
    #[must_use]
    pub fn dialect(&self) -> Dialect<'_> {
        Dialect::of(self.values.as_ref())
    }
}

/// All languages known to a run, by name.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(transparent)]
pub struct Languages(BTreeMap<String, LanguageDefinition>);

impl Languages {
    /// The languages that ship with the tool.
    #[must_use]
    pub fn shipped() -> Self {
        Self(shipped::languages())
    }

    /// Adds the languages in `text`, replacing those of the same name.
    ///
    /// # Errors
    /// Bad TOML, an unknown key, a definition that cannot run anything, a pattern that is no regular
    /// expression, a driver's file that is not there.
    pub fn add(&mut self, file: &str, text: &str) -> Result<(), SourceError> {
        let more: BTreeMap<String, LanguageDefinition> = parse_toml(file, text)?;
        let names: Vec<String> = more.keys().cloned().collect();
        for (name, definition) in more {
            if definition.tool.is_empty() || definition.run.is_empty() {
                let message = format!("`{name}` needs at least one `tool` and a `run` command");
                return Err(SourceError::whole(file, message));
            }
            self.0.insert(name, definition);
        }
        // Only now, since one may use files of another.
        for name in names {
            if let Some(fault) = self.0.get(&name).and_then(|it| self.fault(it)) {
                return Err(SourceError::whole(file, format!("`{name}`: {fault}")));
            }
        }
        Ok(())
    }

    /// What is wrong with a definition.
    fn fault(&self, definition: &LanguageDefinition) -> Option<String> {
        let drivers = &definition.drivers;
        let sets =
            [&drivers.call, &drivers.packages, &drivers.program, &drivers.tests, &drivers.build];
        let sets = sets.into_iter().chain([&drivers.serve, &drivers.apart]);
        let parts = sets.into_iter().flat_map(BTreeMap::values).flatten();
        let parts = parts.chain(definition.shim.as_ref().map(|it| &it.template));
        let is_missing = |name: &&String| self.file(definition, name).is_none();
        let missing = parts.into_iter().find(is_missing);
        let missing = missing.map(|name| format!("the file `{name}` of its drivers is not there"));
        let mut runners = definition.runners.values();
        let unknown = runners
            .find(|it| !it.twins.is_empty() && !test_runner::TWINS.contains(&it.twins.as_str()));
        let unknown = unknown.map(|it| {
            format!(
                "`twins` of a runner is one of `{}`, not `{}`",
                test_runner::TWINS.join("`, `"),
                it.twins
            )
        });
        let written = definition.canaries.iter().find_map(|(name, style)| {
            style.fault().map(|what| format!("its canaries `{name}`: {what}"))
        });
        let syntax = definition.syntax.faults().into_iter().next();
        syntax.or(missing).or(unknown).or(written)
    }

    /// A file that a driver or the shim is made of; `LANGUAGE/FILE` is one of another language.
    #[must_use]
    pub fn file<'a>(&'a self, definition: &'a LanguageDefinition, name: &str) -> Option<&'a str> {
        let (files, name) = match name.split_once('/') {
            Some((language, name)) => (&self.find(language)?.files, name),
            None => (&definition.files, name),
        };
        files.get(name).map(String::as_str)
    }

    /// The files of a driver, by the name that they have in the driver's folder.
    ///
    /// # Errors
    /// With the name of a file that is not there.
    pub fn driver_files<'a>(
        &self,
        definition: &LanguageDefinition,
        set: &'a DriverSet,
    ) -> Result<BTreeMap<&'a str, String>, String> {
        let file = |(name, parts): (&'a String, &Vec<String>)| {
            let part = |part: &String| self.file(definition, part).ok_or_else(|| part.clone());
            let parts = parts.iter().map(part).collect::<Result<Vec<&str>, String>>()?;
            Ok((name.as_str(), parts.concat()))
        };
        set.iter().map(file).collect()
    }

    /// The language that `code` looks like most; `None` when it looks like none.
    #[must_use]
    pub fn guess(&self, code: &str) -> Option<&str> {
        let scored = self.iter().map(|(name, it)| (name, it.syntax.likeness(code)));
        scored.filter(|it| it.1 >= 0.2).max_by(|a, b| a.1.total_cmp(&b.1)).map(|it| it.0)
    }

    /// The languages that do not ship with the tool, or are defined otherwise than those that do.
    #[must_use]
    pub fn added(&self) -> BTreeMap<String, LanguageDefinition> {
        let shipped = Self::shipped();
        let is_added = |it: &(&String, &LanguageDefinition)| shipped.0.get(it.0) != Some(it.1);
        self.0.iter().filter(is_added).map(|(name, it)| (name.clone(), it.clone())).collect()
    }

    /// The way of writing tests of this name: the language's own, or another's.
    #[must_use]
    pub fn canary_style(&self, language: &str, name: &str) -> Option<&CanaryStyle> {
        let own = self.find(language).and_then(|it| it.canaries.get(name));
        own.or_else(|| self.0.values().find_map(|it| it.canaries.get(name)))
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
    fn the_shipped_definitions_have_no_fault() {
        let languages = Languages::shipped();
        for (name, definition) in languages.iter() {
            assert_eq!(languages.fault(definition), None, "{name}");
            assert!(definition.syntax.is_known() && !definition.run.is_empty(), "{name}");
        }
    }

    #[test]
    fn a_language_may_say_how_tests_are_written_and_must_say_it_well() {
        let style =
            "name = '{snake}_{number}'\ntest = 'fn {name} {line}'\nlines = ['{a} + {b} = {sum}']\n";
        let awk = |twins: &str, style: &str| {
            format!(
                "[awk]\ntitle='AWK'\ntags=['awk']\nextensions=['awk']\ntool=['awk']\nrun=['{{tool}}','{{file}}']\n\
                 [awk.runners.tap]\ncommand=['{{tool}}']\nreport='tap'\ntwins='{twins}'\n[awk.canaries.own]\n{style}"
            )
        };
        let add = |text: String| Languages::shipped().add("r.toml", &text);
        let mut languages = Languages::shipped();
        languages.add("r.toml", &awk("", style)).unwrap();
        assert!(languages.canary_style("awk", "own").is_some());
        assert!(languages.canary_style("python", "own").is_some(), "others may use it, too");
        assert!(add(awk("rust", style)).is_ok());
        for (text, part) in [
            (awk("lisp", style), "`twins` of a runner is one of"),
            (awk("", &style.replace("{line}", "x")), "`test` lacks"),
            (awk("", &style.replace("{sum}", "7")), "without `{sum}`"),
            (awk("", &style.replace("{snake}", "x")), "`name` has no words"),
            (awk("", &format!("copies = 'lisp'\n{style}")), "`copies` is one of"),
        ] {
            let error = add(text).unwrap_err().to_string();
            assert!(error.contains(part), "{part}: {error}");
        }
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
        for (more, part) in [
            ("[awk.syntax]\ntypical = '('", "`awk`: regex parse error"),
            (
                "[awk.drivers]\ncall = { 'd.awk' = ['call.awk'] }",
                "the file `call.awk` of its drivers",
            ),
        ] {
            let error = languages.add("r.toml", &format!("{awk}\n{more}")).unwrap_err();
            assert!(error.to_string().contains(part), "{error}");
        }
    }
}
