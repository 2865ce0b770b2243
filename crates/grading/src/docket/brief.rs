//! A docket: tasks with their settings, statements, given files, sealed parts and proofs.
//!
//! Everything here is parsed from files in memory; who reads the disk hands them in.

use std::collections::BTreeMap;

use serde::{Deserialize, Serialize};

use crate::digest::Digest;
use crate::form::Form;
use crate::form::call::{self, Call, CallSettings};
use crate::form::program::{self, Case, ProgramSettings};
use crate::form::unit::{LIST, SealedTests, TestsSettings, parse_list};
use crate::language::Languages;
use crate::limits::LimitSettings;
use crate::source::{SourceError, parse_toml, utf8};
use crate::tree::{FileTree, RelPath};

/// `docket.toml`.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct DocketSettings {
    /// What people call the docket.
    pub title: String,
    /// Which issue of it this is.
    #[serde(default = "first_version")]
    pub version: String,
    /// How much each category weighs; 1 where nothing is said.
    #[serde(default)]
    pub weights: BTreeMap<String, f64>,
    /// Limits for tasks that set none.
    #[serde(default)]
    pub limits: LimitSettings,
}

fn first_version() -> String {
    "1".to_owned()
}

/// A docket, read.
#[derive(Debug, Clone, PartialEq)]
pub struct Docket {
    /// What `docket.toml` says.
    pub settings: DocketSettings,
    /// The tasks, by name.
    pub tasks: Vec<Task>,
}

/// One task, read.
#[derive(Debug, Clone, PartialEq)]
pub struct Task {
    /// The name of its folder, which is its name everywhere.
    pub name: String,
    /// What people call it.
    pub title: String,
    /// The language of the answer.
    pub language: String,
    /// Such as `algorithms`.
    pub category: String,
    /// From 1, trivial, to 5, expert.
    pub difficulty: u8,
    /// What it is worth.
    pub points: f64,
    /// Free words.
    pub tags: Vec<String>,
    /// Limits of the task, over those of the docket.
    pub limits: LimitSettings,
    /// How often a failed attempt's tests are run again, to see whether they always fail.
    pub rerun_failures: u32,
    /// Whether a candidate learns after a failure how many of the sealed tests passed.
    pub tell_passed: bool,
    /// Packages that answers may import besides the language's standard library, by name.
    pub packages: Vec<String>,
    /// What candidates read, in Markdown.
    pub statement: String,
    /// How it is answered, and what it is judged by.
    pub proceedings: Proceedings,
    /// Files that candidates get.
    pub given: FileTree,
    /// Answers known to be right or wrong.
    pub proofs: Vec<Proof>,
    /// The digest of everything in the task's folder.
    pub digest: Digest,
}

/// What is particular to a task's form.
#[derive(Debug, Clone, PartialEq)]
pub enum Proceedings {
    /// Single calls.
    Call {
        /// File and function.
        settings: CallSettings,
        /// The program that judges what no value can be written down for.
        checker: Option<Vec<u8>>,
        /// What candidates may see.
        examples: Vec<Call>,
        /// What they may not.
        sealed: Vec<Call>,
    },
    /// Whole programs.
    Program {
        /// The file.
        settings: ProgramSettings,
        /// What candidates may see.
        examples: Vec<Case>,
        /// What they may not.
        sealed: Vec<Case>,
    },
    /// Unit tests.
    Tests {
        /// File and runner.
        settings: TestsSettings,
        /// What candidates may not see.
        sealed: SealedTests,
    },
}

/// One answer in `proofs/`. Its file or folder is called `right…` or `wrong…`.
#[derive(Debug, Clone, PartialEq)]
pub struct Proof {
    /// The name without extension, such as `wrong-off-by-one`.
    pub name: String,
    /// Whether it must pass.
    pub right: bool,
    /// The files of the answer.
    pub files: FileTree,
}

impl Task {
    /// The form.
    #[must_use]
    pub fn form(&self) -> Form {
        match self.proceedings {
            Proceedings::Call { .. } => Form::Call,
            Proceedings::Program { .. } => Form::Program,
            Proceedings::Tests { .. } => Form::Tests,
        }
    }

    /// The file that an answer must give.
    #[must_use]
    pub fn file(&self) -> &RelPath {
        match &self.proceedings {
            Proceedings::Call { settings, .. } => &settings.file,
            Proceedings::Program { settings, .. } => &settings.file,
            Proceedings::Tests { settings, .. } => &settings.file,
        }
    }

    /// The languages that it takes to judge an answer: that of the task, and that of its checker.
    #[must_use]
    pub fn languages<'a>(&'a self, languages: &'a Languages) -> Vec<&'a str> {
        let checker = match &self.proceedings {
            Proceedings::Call { settings, .. } => settings.checker.as_ref(),
            Proceedings::Program { .. } | Proceedings::Tests { .. } => None,
        };
        let checker = checker.and_then(|file| languages.by_extension(file.extension()));
        std::iter::once(self.language.as_str()).chain(checker).collect()
    }

    /// The name that the answer must define, where the form asks for one.
    #[must_use]
    pub fn wanted_name(&self) -> Option<&str> {
        match &self.proceedings {
            Proceedings::Call { settings, .. } => Some(&settings.name),
            Proceedings::Program { .. } | Proceedings::Tests { .. } => None,
        }
    }

    /// The runner of its unit tests, where it has any.
    #[must_use]
    pub fn runner(&self) -> Option<&str> {
        match &self.proceedings {
            Proceedings::Tests { settings, .. } => Some(&settings.runner),
            _ => None,
        }
    }

    /// How many sealed tests there are.
    #[must_use]
    pub fn sealed_count(&self) -> usize {
        match &self.proceedings {
            Proceedings::Call { sealed, .. } => sealed.len(),
            Proceedings::Program { sealed, .. } => sealed.len(),
            Proceedings::Tests { sealed, .. } => sealed.names.len(),
        }
    }
}

/// The settings at the head of `brief.md`.
#[derive(Debug, Deserialize)]
#[serde(deny_unknown_fields)]
struct BriefSettings {
    title: String,
    form: Form,
    language: String,
    category: String,
    difficulty: u8,
    #[serde(default = "one")]
    points: f64,
    #[serde(default)]
    tags: Vec<String>,
    #[serde(default)]
    example: Vec<toml::Value>,
    #[serde(default)]
    limits: LimitSettings,
    #[serde(default)]
    rerun_failures: u32,
    #[serde(default)]
    tell_passed: bool,
    #[serde(default)]
    packages: Vec<String>,
    call: Option<CallSettings>,
    program: Option<ProgramSettings>,
    tests: Option<TestsSettings>,
}

/// Most runs of a failed attempt's tests beyond the first.
const RERUNS_MAX: u32 = 20;

const fn one() -> f64 {
    1.0
}

/// The line that stands above and below the settings of a brief.
const FENCE: &str = "+++";

impl Docket {
    /// Reads a docket from the files of its folder. `place` is the folder as the user knows it;
    /// `languages` are those that tasks may use.
    ///
    /// # Errors
    /// With file and line: whatever is missing, unknown or malformed in any file.
    pub fn parse(
        place: &str,
        files: &FileTree,
        languages: &Languages,
    ) -> Result<Self, SourceError> {
        let (mut root, mut folders) = (FileTree::new(), BTreeMap::<&str, FileTree>::new());
        for (path, bytes) in files {
            match path.as_str().split_once('/') {
                None => {
                    root.insert(path.clone(), bytes.clone());
                }
                Some((folder, rest)) => {
                    let rest = RelPath::parse(rest)
                        .map_err(|error| SourceError::whole(place, error.to_string()))?;
                    folders.entry(folder).or_default().insert(rest, bytes.clone());
                }
            }
        }
        let file = format!("{place}/docket.toml");
        let Some(bytes) = find(&root, "docket.toml") else {
            let message = "it is missing; a docket needs at least `title = \"…\"` there";
            return Err(SourceError::whole(&file, message));
        };
        let settings = parse_toml(&file, utf8(&file, bytes)?)?;
        // A folder without a brief that holds nothing of a task is somebody's notes or pictures.
        folders.retain(|_, files| files.keys().any(|path| is_part_of_task(path.as_str())));
        if folders.is_empty() {
            let message = "it holds no task; a task is a folder with `brief.md`";
            return Err(SourceError::whole(place, message));
        }
        let tasks = folders
            .iter()
            .map(|(name, files)| parse_task(&format!("{place}/{name}"), name, files, languages));
        Ok(Self { settings, tasks: tasks.collect::<Result<_, _>>()? })
    }
}

fn is_part_of_task(path: &str) -> bool {
    path == "brief.md" || ["sealed/", "given/", "proofs/"].iter().any(|it| path.starts_with(it))
}

fn find<'a>(files: &'a FileTree, path: &str) -> Option<&'a [u8]> {
    files.iter().find(|(known, _)| known.as_str() == path).map(|(_, bytes)| bytes.as_slice())
}

fn parse_task(
    place: &str,
    name: &str,
    files: &FileTree,
    languages: &Languages,
) -> Result<Task, SourceError> {
    let file = format!("{place}/brief.md");
    let Some(bytes) = find(files, "brief.md") else {
        return Err(SourceError::whole(&file, "it is missing; each task needs one"));
    };
    let (settings, statement) = split_brief(&file, utf8(&file, bytes)?)?;
    let settings: BriefSettings = parse_toml(&file, settings).map_err(|error| error.shifted(1))?;
    check_settings(&file, &settings, languages)?;
    let proceedings = parse_proceedings(place, &file, &settings, files, languages)?;
    Ok(Task {
        name: name.to_owned(),
        title: settings.title,
        language: settings.language,
        category: settings.category,
        difficulty: settings.difficulty,
        points: settings.points,
        tags: settings.tags,
        limits: settings.limits,
        rerun_failures: settings.rerun_failures,
        tell_passed: settings.tell_passed,
        packages: settings.packages,
        statement: statement.to_owned(),
        proofs: parse_proofs(place, files, proceedings_file(&proceedings))?,
        proceedings,
        given: below(files, "given/"),
        digest: Digest::of_tree(files),
    })
}

fn proceedings_file(proceedings: &Proceedings) -> &RelPath {
    match proceedings {
        Proceedings::Call { settings, .. } => &settings.file,
        Proceedings::Program { settings, .. } => &settings.file,
        Proceedings::Tests { settings, .. } => &settings.file,
    }
}

fn split_brief<'a>(file: &str, text: &'a str) -> Result<(&'a str, &'a str), SourceError> {
    let text = text.strip_prefix('\u{feff}').unwrap_or(text);
    let wrong = || {
        let message = "it must begin with settings in TOML between two lines of `+++`";
        SourceError::at_line(file, 1, message)
    };
    let (first, rest) = text.split_once('\n').ok_or_else(wrong)?;
    if first.trim_end() != FENCE {
        return Err(wrong());
    }
    let mut offset = 0;
    for line in rest.split_inclusive('\n') {
        if line.trim_end() == FENCE {
            let statement = rest[offset + line.len()..].trim();
            if statement.is_empty() {
                let message = "there is no statement below the settings";
                return Err(SourceError::whole(file, message));
            }
            return Ok((&rest[..offset], statement));
        }
        offset += line.len();
    }
    Err(wrong())
}

fn check_settings(
    file: &str,
    settings: &BriefSettings,
    languages: &Languages,
) -> Result<(), SourceError> {
    let fail = |message: String| Err(SourceError::whole(file, message));
    if !(1..=5).contains(&settings.difficulty) {
        return fail(format!("`difficulty` is 1 to 5, not {}", settings.difficulty));
    }
    if !(settings.points > 0.0 && settings.points.is_finite()) {
        return fail("`points` is a number above 0".to_owned());
    }
    let Some(definition) = languages.find(&settings.language) else {
        let names = languages.names();
        return fail(format!("unknown language `{}`; known are: {names}", settings.language));
    };
    if settings.rerun_failures > RERUNS_MAX {
        return fail(format!("`rerun_failures` is at most {RERUNS_MAX}"));
    }
    let is_name = |it: &String| {
        let is_word = |c: char| c.is_ascii_alphanumeric() || "-_.".contains(c);
        !it.is_empty() && it.chars().all(is_word) && !it.starts_with('-')
    };
    if let Some(odd) = settings.packages.iter().find(|it| !is_name(it)) {
        return fail(format!("`{}` is no name of a package", odd.escape_debug()));
    }
    if !settings.packages.is_empty() && definition.packages.is_empty() {
        return fail(format!("answers in `{}` can use no packages", settings.language));
    }
    if settings.form == Form::Call && definition.call.is_empty() {
        let offered: Vec<_> = languages.iter().filter(|(_, it)| !it.call.is_empty()).collect();
        let names = offered.iter().map(|(name, _)| *name).collect::<Vec<_>>().join(", ");
        let language = &settings.language;
        return fail(format!("the form `call` is offered for {names}, not for `{language}`"));
    }
    if let Some(tests) = &settings.tests
        && !definition.runners.contains_key(&tests.runner)
    {
        let names = definition.runners.keys().cloned().collect::<Vec<_>>().join(", ");
        let (runner, language) = (&tests.runner, &settings.language);
        return fail(if names.is_empty() {
            format!("the form `tests` is not offered for `{language}`")
        } else {
            format!("unknown runner `{runner}`; `{language}` has {names}")
        });
    }
    let tables = [settings.call.is_some(), settings.program.is_some(), settings.tests.is_some()];
    let own = match settings.form {
        Form::Call => tables[0],
        Form::Program => tables[1],
        Form::Tests => tables[2],
    };
    if !own || tables.iter().filter(|there| **there).count() > 1 {
        let form = settings.form;
        return fail(format!("the form `{form}` needs a table `[{form}]`, and no other form's"));
    }
    Ok(())
}

fn parse_proceedings(
    place: &str,
    brief: &str,
    settings: &BriefSettings,
    files: &FileTree,
    languages: &Languages,
) -> Result<Proceedings, SourceError> {
    let sealed = |name: &str| {
        let file = format!("{place}/sealed/{name}");
        let bytes = find(files, &format!("sealed/{name}")).ok_or_else(|| {
            let form = settings.form;
            SourceError::whole(&file, format!("it is missing; the form `{form}` is judged by it"))
        })?;
        Ok::<_, SourceError>((utf8(&file, bytes)?.to_owned(), file))
    };
    if let Some(call) = &settings.call {
        let (text, file) = sealed("calls.jsonl")?;
        let examples = examples(brief, settings, call::parse_example)?;
        let sealed = call::parse_calls(&file, &text)?;
        let checker = match &call.checker {
            Some(name) => Some(sealed_checker(place, name, files, languages)?),
            None => None,
        };
        if checker.is_none() && sealed.iter().chain(&examples).any(|it| it.check.is_some()) {
            let message = "a call has `check`, but `[call]` names no `checker`";
            return Err(SourceError::whole(brief, message));
        }
        return Ok(Proceedings::Call { settings: call.clone(), checker, examples, sealed });
    }
    if let Some(tests) = &settings.tests {
        if !settings.example.is_empty() {
            let message = "the form `tests` has no `[[example]]`: put tests to be seen in `given/`";
            return Err(SourceError::whole(brief, message));
        }
        let (text, file) = sealed(LIST)?;
        let names = parse_list(&file, &text)?;
        let mut files = below(files, "sealed/");
        files.retain(|path, _| path.as_str() != LIST);
        let sealed = SealedTests { files, names };
        return Ok(Proceedings::Tests { settings: tests.clone(), sealed });
    }
    let (text, file) = sealed("cases.jsonl")?;
    let Some(program) = &settings.program else {
        return Err(SourceError::whole(brief, "a table for the form is missing"));
    };
    Ok(Proceedings::Program {
        settings: program.clone(),
        examples: examples(brief, settings, program::parse_example)?,
        sealed: program::parse_cases(&file, &text)?,
    })
}

/// The checker's source, in a language that is known.
fn sealed_checker(
    place: &str,
    name: &RelPath,
    files: &FileTree,
    languages: &Languages,
) -> Result<Vec<u8>, SourceError> {
    let file = format!("{place}/sealed/{name}");
    let bytes = find(files, &format!("sealed/{name}"))
        .ok_or_else(|| SourceError::whole(&file, "it is missing; `[call]` names it"))?;
    if languages.by_extension(name.extension()).is_none() {
        let message = format!("no known language has files that end in `.{}`", name.extension());
        return Err(SourceError::whole(&file, message));
    }
    Ok(bytes.to_vec())
}

fn examples<T>(
    brief: &str,
    settings: &BriefSettings,
    parse: impl Fn(&toml::Value, usize) -> Result<T, String>,
) -> Result<Vec<T>, SourceError> {
    let rows = settings.example.iter().enumerate().map(|(index, table)| {
        parse(table, index + 1).map_err(|message| {
            SourceError::whole(brief, format!("[[example]] number {}: {message}", index + 1))
        })
    });
    rows.collect()
}

fn below(files: &FileTree, prefix: &str) -> FileTree {
    files
        .iter()
        .filter_map(|(path, bytes)| {
            let rest = path.as_str().strip_prefix(prefix)?;
            Some((RelPath::parse(rest).ok()?, bytes.clone()))
        })
        .collect()
}

/// Proofs: `proofs/right.py` is the answer's file; `proofs/right/…` a folder with its files.
fn parse_proofs(
    place: &str,
    files: &FileTree,
    answer_file: &RelPath,
) -> Result<Vec<Proof>, SourceError> {
    let mut proofs = BTreeMap::<String, FileTree>::new();
    for (path, bytes) in below(files, "proofs/") {
        let (name, inner) = match path.as_str().split_once('/') {
            Some((folder, rest)) => (folder.to_owned(), RelPath::parse(rest)),
            None => (path.stem().to_owned(), Ok(answer_file.clone())),
        };
        let file = format!("{place}/proofs/{path}");
        if !name.starts_with("right") && !name.starts_with("wrong") {
            let message = "a proof's name begins with `right` or `wrong`";
            return Err(SourceError::whole(&file, message));
        }
        let inner = inner.map_err(|error| SourceError::whole(&file, error.to_string()))?;
        proofs.entry(name).or_default().insert(inner, bytes);
    }
    let proof =
        |(name, files): (String, FileTree)| Proof { right: name.starts_with("right"), name, files };
    Ok(proofs.into_iter().map(proof).collect())
}

#[cfg(test)]
mod tests {
    use super::*;

    const BRIEF: &str = "+++\ntitle = \"Tide gap\"\nform = \"call\"\nlanguage = \"python\"\n\
        category = \"basics\"\ndifficulty = 1\n[call]\nfile = \"solution.py\"\nname = \"tide_gap\"\n\
        [[example]]\nargs = [3, 1]\nreturns = 2\n+++\n\nSay how far.\n";

    fn parse(files: &[(&str, &str)]) -> Result<Docket, SourceError> {
        let tree = files.iter().map(|(p, b)| (RelPath::parse(p).unwrap(), b.as_bytes().to_vec()));
        Docket::parse("d", &tree.collect(), &Languages::shipped())
    }

    fn with_brief(brief: &str) -> Result<Docket, SourceError> {
        parse(&[
            ("docket.toml", "title = \"T\""),
            ("gap/brief.md", brief),
            ("gap/sealed/calls.jsonl", "{\"args\": [9, 4], \"returns\": 5}"),
            ("gap/proofs/right.py", "x"),
            ("gap/proofs/wrong-sign/solution.py", "y"),
            ("gap/given/tides.csv", "1"),
        ])
    }

    #[test]
    fn a_task_is_read_whole() {
        let docket = with_brief(BRIEF).unwrap();
        let task = &docket.tasks[0];
        assert_eq!((task.name.as_str(), task.statement.as_str()), ("gap", "Say how far."));
        assert_eq!(task.given.len(), 1);
        let proofs: Vec<_> = task.proofs.iter().map(|it| (it.name.as_str(), it.right)).collect();
        assert_eq!(proofs, [("right", true), ("wrong-sign", false)]);
        assert!(task.proofs.iter().all(|it| it.files.contains_key(task.file())));
    }

    #[test]
    fn whatever_is_wrong_is_told_with_its_place() {
        for (from, to, part) in [
            ("title =", "titel =", "line 2, column 1: unknown field `titel`"),
            (
                "\"call\"\n",
                "\"cal\"\n",
                "line 3, column 8: unknown variant `cal`, expected one of `call`",
            ),
            ("\"python\"", "\"pascal\"", "unknown language `pascal`; known are: c, c++"),
            (
                "\"python\"",
                "\"c\"",
                "offered for javascript, python, rust, typescript, not for `c`",
            ),
            ("difficulty = 1", "difficulty = 9", "1 to 5, not 9"),
            ("[call]", "[program]", "unknown field `name`"),
            ("returns = 2", "", "[[example]] number 1: an expectation is missing"),
            ("+++\n\nSay", "\nSay", "between two lines of `+++`"),
            ("solution.py", "../solution.py", "not a usable file path"),
        ] {
            let error = with_brief(&BRIEF.replacen(from, to, 1)).unwrap_err().to_string();
            assert!(error.contains(part), "{from} -> {to}: {error}");
        }
    }

    #[test]
    fn missing_files_are_named() {
        let error = parse(&[("gap/brief.md", BRIEF)]).unwrap_err().to_string();
        assert!(error.starts_with("`d/docket.toml`: it is missing"), "{error}");
        let head = ("docket.toml", "title = \"T\"");
        let error = parse(&[head, ("gap/brief.md", BRIEF)]).unwrap_err().to_string();
        assert!(error.starts_with("`d/gap/sealed/calls.jsonl`: it is missing"), "{error}");
        let error = parse(&[head, ("gap/given/x", "")]).unwrap_err().to_string();
        assert!(error.starts_with("`d/gap/brief.md`: it is missing"), "{error}");
        assert!(parse(&[head]).unwrap_err().to_string().contains("no task"));
    }
}
