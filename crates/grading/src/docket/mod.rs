//! A docket: tasks with their settings, statements, given files, sealed parts and proofs.
//!
//! Everything but [`read_docket`] works on files in memory.

mod brief;
mod folder;

use std::collections::BTreeMap;
use std::ops::Deref;

use fairtrial_core::language::Languages;
use fairtrial_core::source::{SourceError, parse_toml, utf8};
use fairtrial_core::task::{DocketSettings, Task};
use fairtrial_core::text::name_fault;
use fairtrial_core::tree::{RelPath, Snapshot};

use self::brief::parse_task;
pub use self::folder::{FolderError, read_docket, read_file, read_folder};
use crate::form::Form;

/// The file with the settings of a docket.
const SETTINGS: &str = "docket.toml";

/// A docket, read.
#[derive(Debug)]
pub struct Docket {
    /// What `docket.toml` says.
    pub settings: DocketSettings,
    /// The tasks, by name.
    pub tasks: Vec<PosedTask>,
}

/// A task as it is posed and judged: by its form.
#[derive(Debug)]
pub struct PosedTask {
    /// What every task has.
    pub task: Task,
    /// What its form knows of it.
    pub form: Box<dyn Form>,
}

impl Deref for PosedTask {
    type Target = Task;

    fn deref(&self) -> &Task {
        &self.task
    }
}

impl PosedTask {
    /// The languages that it takes to judge an answer: that of the task, and that of its checker.
    #[must_use]
    pub fn languages<'a>(&'a self, languages: &'a Languages) -> Vec<&'a str> {
        let checker = self.form.checker();
        let checker = checker.and_then(|file| languages.by_extension(file.extension()));
        std::iter::once(self.language.as_str()).chain(checker).collect()
    }
}

impl Docket {
    /// Reads a docket from the files of its folder. `place` is the folder as the user knows it;
    /// `languages` are those that tasks may use.
    ///
    /// # Errors
    /// With file and line: whatever is missing, unknown or malformed in any file.
    pub fn parse(
        place: &str,
        files: &Snapshot,
        languages: &Languages,
    ) -> Result<Self, SourceError> {
        let (mut root, mut folders) = (Snapshot::new(), BTreeMap::<&str, Snapshot>::new());
        for (path, node) in files.iter() {
            match path.as_str().split_once('/') {
                None => {
                    root.put(path.clone(), node.clone());
                }
                Some((folder, rest)) => {
                    let rest = RelPath::parse(rest)
                        .map_err(|error| SourceError::whole(place, error.to_string()))?;
                    folders.entry(folder).or_default().put(rest, node.clone());
                }
            }
        }
        let file = format!("{place}/{SETTINGS}");
        let Some(bytes) = root.file(SETTINGS) else {
            let message = "it is missing; a docket needs at least `title = \"…\"` there";
            return Err(SourceError::whole(&file, message));
        };
        let settings: DocketSettings = parse_toml(&file, utf8(&file, bytes)?)?;
        let whole = |message| SourceError::whole(&file, message);
        settings.limits.check("`limits`").map_err(whole)?;
        // A folder without a brief that holds nothing of a task is somebody's notes or pictures.
        folders.retain(|_, files| files.iter().any(|it| is_part_of_task(it.0.as_str())));
        if folders.is_empty() {
            let message = "it holds no task; a task is a folder with `brief.md`";
            return Err(SourceError::whole(place, message));
        }
        let unusable = |name: &&&str| name_fault(name).is_some();
        if let Some(name) = folders.keys().find(unusable) {
            let fault = name_fault(name).unwrap_or_default();
            let name = name.escape_debug();
            return Err(SourceError::whole(
                place,
                format!("the name of the task `{name}` {fault}"),
            ));
        }
        let tasks = folders
            .iter()
            .map(|(name, files)| parse_task(&format!("{place}/{name}"), name, files, languages));
        let tasks = tasks.collect::<Result<Vec<_>, _>>()?;
        check_weights(&settings, &tasks).map_err(whole)?;
        Ok(Self { settings, tasks })
    }
}

/// Whether the weights of categories are numbers that can be averaged with, of categories that there are.
fn check_weights(settings: &DocketSettings, tasks: &[PosedTask]) -> Result<(), String> {
    for (category, weight) in &settings.weights {
        if !(*weight >= 0.0 && weight.is_finite()) {
            return Err(format!("the weight of `{category}` is a number of at least 0"));
        }
        if !tasks.iter().any(|it| it.category == *category) {
            return Err(format!("`weights` names the category `{category}`, which no task has"));
        }
    }
    Ok(())
}

fn is_part_of_task(path: &str) -> bool {
    path == "brief.md" || ["sealed/", "given/", "proofs/"].iter().any(|it| path.starts_with(it))
}

#[cfg(test)]
mod tests {
    use fairtrial_core::answer::Submission;

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
        let file = task.form.answer().proof_file().unwrap();
        let has_file = |it: &fairtrial_core::task::Proof| matches!(&it.answer, Submission::Files(files) if files.contains_key(file));
        assert!(task.proofs.iter().all(has_file));
    }

    #[test]
    fn whatever_is_wrong_is_told_with_its_place() {
        for (from, to, part) in [
            ("title =", "titel =", "line 2, column 1: unknown field `titel`"),
            (
                "\"call\"\n",
                "\"cal\"\n",
                "line 3, column 8: unknown form `cal`; the forms are call, program, tests, repository",
            ),
            ("\"python\"", "\"pascal\"", "unknown language `pascal`; known are: c, c++"),
            (
                "\"python\"",
                "\"c\"",
                "offered for javascript, python, rust, typescript, not for `c`",
            ),
            ("difficulty = 1", "difficulty = 9", "1 to 5, not 9"),
            ("[call]", "[program]", "the form `call` needs a table `[call]`, and no other form's"),
            ("name = ", "nam = ", "line 9, column 1: unknown field `nam`"),
            ("form = \"call\"", "points = 2", "`form` is missing"),
            ("returns = 2", "", "[[example]] number 1: an expectation is missing"),
            ("+++\n\nSay", "\nSay", "between two lines of `+++`"),
            ("solution.py", "../solution.py", "not a usable file path"),
            ("[call]", "limits = { memory = 0 }\n[call]", "`limits`: `memory` is not above 0"),
            ("[call]", "images = [\"tides.csv\"]\n[call]", "is no PNG, JPEG, GIF or WebP file"),
        ] {
            let error = with_brief(&BRIEF.replacen(from, to, 1)).unwrap_err().to_string();
            assert!(error.contains(part), "{from} -> {to}: {error}");
        }
    }

    #[test]
    fn weights_are_of_categories_that_there_are() {
        for (weights, part) in [
            ("{ basics = 2.0 }", ""),
            ("{ basics = -1.0 }", "the weight of `basics` is a number of at least 0"),
            ("{ basic = 2.0 }", "the category `basic`, which no task has"),
        ] {
            let settings = format!("title = \"T\"\nweights = {weights}");
            let files = [
                ("docket.toml", settings.as_str()),
                ("gap/brief.md", BRIEF),
                ("gap/sealed/calls.jsonl", "{\"args\": [9, 4], \"returns\": 5}"),
            ];
            match (parse(&files), part) {
                (result, "") => assert!(result.is_ok()),
                (result, _) => assert!(result.unwrap_err().to_string().contains(part)),
            }
        }
    }

    #[test]
    fn what_is_no_part_of_a_task_is_refused_but_for_notes() {
        let sealed = ("gap/sealed/calls.jsonl", "{\"args\": [9, 4], \"returns\": 5}");
        let with = |settings: &str, more: &str| {
            parse(&[("docket.toml", settings), ("gap/brief.md", BRIEF), sealed, (more, "x")])
        };
        for (more, refused) in [
            ("gap/seald/calls.jsonl", Some("`d/gap/seald`: it is no part of a task")),
            ("gap/calls.jsonl", Some("`d/gap/calls.jsonl`: it is no part of a task")),
            ("gap/sealed", Some("`d/gap/sealed`: it is no part of a task")),
            ("gap/.cache/x", None),
            ("-gap/brief.md", Some("`d`: the name of the task `-gap` begins with `-`")),
            (
                "gap\u{202e}/brief.md",
                Some("`d`: the name of the task `gap\\u{202e}` has characters that"),
            ),
            ("gap/NOTES.md", None),
            ("gap/.gitkeep", None),
            ("gap/brief.md~", None),
            ("pictures/quay.png", None),
        ] {
            let found = with("title = \"T\"", more).err().map(|it| it.to_string());
            match refused {
                Some(part) => assert!(found.unwrap().starts_with(part), "{more}"),
                None => assert_eq!(found, None, "{more}"),
            }
        }
        let error = with("title = \"T\"\nlimits = { disk = 0 }", "gap/NOTES.md").unwrap_err();
        let expected = "`d/docket.toml`: `limits`: `disk` is not above 0";
        assert!(error.to_string().starts_with(expected), "{error}");
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
