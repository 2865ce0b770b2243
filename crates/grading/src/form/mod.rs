//! The forms of task: how each is answered, what its prompt says, and how an answer is judged.
//!
//! A form is a folder here and a line in [`FORMS`]. It reads its own table of a brief and its own
//! files in `sealed/`; everything else asks it through [`Form`] and knows of no particular one.

mod answer_file;
mod call;
mod program;
mod repository;
mod unit_tests;

use std::collections::{BTreeMap, BTreeSet};
use std::fmt;
use std::path::PathBuf;
use std::sync::Arc;

use fairtrial_core::answer::{AnswerEnd, Code, Reading, SoundCheck, Submission};
use fairtrial_core::change::Change;
use fairtrial_core::judgement::Judgement;
use fairtrial_core::language::{Dialect, LanguageDefinition, Languages};
use fairtrial_core::limits::{LimitSettings, Limits};
use fairtrial_core::source::{SourceError, TomlPart, utf8};
use fairtrial_core::task::Task;
use fairtrial_core::tree::{RelPath, Snapshot, TreePath, WorkTree};
use fairtrial_worktree::PreparedTree;
use serde::de::DeserializeOwned;

use crate::context::{JudgeContext, JudgeError};
pub use crate::outcome::SealedTest;

/// Every form, in the order in which they are listed to people.
pub const FORMS: &[FormKind] = &[call::KIND, program::KIND, unit_tests::KIND, repository::KIND];

/// A form by its name, and how its part of a task is read.
#[derive(Clone, Copy)]
pub struct FormKind {
    /// Its name in a brief, and the name of its table there.
    pub name: &'static str,
    /// Reads a task's settings and sealed files.
    pub parse: fn(FormSource<'_>) -> Result<Box<dyn Form>, SourceError>,
}

/// What a form knows of one task.
pub trait Form: fmt::Debug + Send + Sync {
    /// Its name in a brief.
    fn name(&self) -> &'static str;

    /// The file of a sealed checker, whose language is needed, too.
    fn checker(&self) -> Option<&RelPath> {
        None
    }

    /// The runner of unit tests, where there are any.
    fn runner(&self) -> Option<&str> {
        None
    }

    /// What is to be written, in a sentence or two. `language` is its name and version.
    fn instructions(&self, language: &str) -> String;

    /// What an answer consists of.
    fn answer(&self) -> &dyn AnswerShape;

    /// Limits of its own, over those of the language.
    fn limits(&self) -> LimitSettings {
        LimitSettings::default()
    }

    /// Where its sealed unit tests run, and the same form with them elsewhere; `None` where there is no choice.
    fn other_process(&self) -> Option<(&'static str, Box<dyn Form>)> {
        None
    }

    /// Whether what answers may use is the repository's business, not the language's.
    fn brings_packages(&self) -> bool {
        false
    }

    /// Whether what answers start from has to be made ready.
    fn is_prepared(&self) -> bool {
        false
    }

    /// Folders of this machine that its programs see.
    fn folders(&self) -> &[PathBuf] {
        &[]
    }

    /// What a candidate that acts finds around it: folders of this machine, and the environment.
    fn surroundings(&self, context: &JudgeContext<'_>) -> Surroundings {
        let mut env = context.env();
        env.insert("PATH".to_owned(), context.search_path(&[]));
        env.insert("HOME".to_owned(), fairtrial_sandbox::HOME.to_owned());
        Surroundings { show: context.tool.folders.clone(), env }
    }

    /// What answers start from.
    ///
    /// # Errors
    /// When it has to be made ready, and cannot be.
    fn start(&self, context: &JudgeContext<'_>) -> Result<Start, JudgeError> {
        Ok(Start::Given(context.task.given.to_work_tree()))
    }

    /// What it has in the task's folder besides `given/`, `sealed/` and `proofs/`: a file, or all in a folder.
    fn beside(&self) -> Option<&str> {
        None
    }

    /// Whether the task holds on this machine before anything is changed.
    ///
    /// # Errors
    /// [`JudgeError::Unfit`] when it does not.
    fn preflight(&self, _context: &JudgeContext<'_>, _start: &Start) -> Result<(), JudgeError> {
        Ok(())
    }

    /// The files that a candidate reads with the statement, besides those that are given, by path.
    fn context_files(&self) -> &[TreePath] {
        &[]
    }

    /// The visible examples, in Markdown; empty where there are none.
    fn examples(&self, dialect: Dialect<'_>) -> String;

    /// Every sealed test.
    fn sealed_tests(&self) -> Vec<SealedTest>;

    /// The names of sealed tests that are visible examples, too.
    fn also_visible(&self) -> Vec<String> {
        Vec::new()
    }

    /// The names of sealed tests that share a process with the answer and are run as they stand each time.
    fn without_twins(&self) -> Vec<String> {
        Vec::new()
    }

    /// The names of sealed tests that need no wrong proof to show that they can fail.
    fn proved_tests(&self) -> Vec<String> {
        Vec::new()
    }

    /// What of the sealed part can be read in what candidates get, in words. `visible` are the lines
    /// of the statement and of the given files.
    fn shown(&self, _visible: &BTreeSet<&str>) -> Vec<String> {
        Vec::new()
    }

    /// Whether files parse, or build by themselves where the language has no command that parses;
    /// `None` when that cannot be told.
    /// Nothing sealed is beside them.
    ///
    /// # Errors
    /// When our own part goes wrong.
    fn is_sound(
        &self,
        context: &JudgeContext<'_>,
        answered: &Answered<'_>,
    ) -> Result<Option<bool>, JudgeError>;

    /// Judges an answer. After a failure the visible examples are run, too, where `examples` says so.
    ///
    /// # Errors
    /// When our own part goes wrong.
    fn judge(
        &self,
        context: &JudgeContext<'_>,
        answered: &Answered<'_>,
        examples: bool,
    ) -> Result<Judgement, JudgeError>;
}

/// What an answer consists of: how it is asked for, and found in what a candidate sent.
pub trait AnswerShape {
    /// How an answer is to be sent, in a sentence; `tag` is the language's, for code blocks.
    fn reply(&self, tag: &str) -> String;

    /// How a repaired answer is to be sent, in a sentence.
    fn repair(&self) -> String;

    /// Where a proof belongs that is a single file; `None`: such a proof is a patch.
    fn proof_file(&self) -> Option<&RelPath>;

    /// Finds an answer in what a candidate sent.
    ///
    /// # Errors
    /// In words: a patch that does not apply.
    fn read(&self, from: &ReadFrom<'_>) -> Result<Reading<Change>, String>;

    /// What was judged, as it is kept.
    fn code(&self, start: &Start, change: &Change) -> Code;
}

/// What an answer is found in.
#[derive(Clone, Copy)]
pub struct ReadFrom<'a> {
    /// The task.
    pub task: &'a Task,
    /// What it starts from.
    pub start: &'a Start,
    /// All languages.
    pub languages: &'a Languages,
    /// Its limits.
    pub limits: Limits,
    /// What was sent.
    pub submission: &'a Submission,
    /// How it ended.
    pub end: AnswerEnd,
    /// Finds out whether code parses.
    pub check: &'a dyn SoundCheck,
}

/// What programs of a task find around them.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Surroundings {
    /// Folders of this machine, read-only.
    pub show: Vec<PathBuf>,
    /// The environment.
    pub env: BTreeMap<String, String>,
}

/// What answers start from.
#[derive(Debug, Clone)]
pub enum Start {
    /// The files that the task gives.
    Given(WorkTree),
    /// A repository, made ready.
    Prepared(Arc<PreparedTree>),
}

impl Start {
    /// The files.
    #[must_use]
    pub fn tree(&self) -> &WorkTree {
        match self {
            Self::Given(tree) => tree,
            Self::Prepared(prepared) => prepared.base(),
        }
    }
}

/// An answer: what it starts from, and what it changes.
#[derive(Clone, Copy)]
pub struct Answered<'a> {
    /// What it starts from.
    pub start: &'a Start,
    /// What it changes.
    pub change: &'a Change,
}

impl Answered<'_> {
    /// All files and links there are then, under names that a person could have written. A file that
    /// takes the place of another keeps its mode.
    #[must_use]
    pub fn files(&self) -> Snapshot {
        let given = self.start.tree().iter();
        let mut files: Snapshot =
            given.filter_map(|(path, node)| Some((path.to_rel()?, node.clone()))).collect();
        files.put_files(&self.change.files());
        files
    }
}

/// What a form is read from.
pub struct FormSource<'a> {
    /// The task's folder, as the user knows it.
    pub place: &'a str,
    /// The brief, as the user knows it.
    pub brief: &'a str,
    /// The form's own table of the brief.
    pub table: Option<TomlPart<'a>>,
    /// The `[[example]]` tables of the brief.
    pub examples: Vec<toml::Value>,
    /// All files of the task's folder.
    pub files: &'a Snapshot,
    /// The task's language.
    pub language: &'a str,
    /// How it is defined.
    pub definition: &'a LanguageDefinition,
    /// All languages.
    pub languages: &'a Languages,
}

impl<'a> FormSource<'a> {
    /// Reads the form's own table; its keys are those of `T`.
    fn take_table<T: DeserializeOwned>(&mut self, form: &str) -> Result<T, SourceError> {
        let missing = || {
            SourceError::whole(self.brief, format!("the form `{form}` needs a table `[{form}]`"))
        };
        let table = self.table.take().ok_or_else(missing)?;
        table.read().map_err(|error| error.shifted(1))
    }

    /// A file in `sealed/` that the form `form` cannot do without, and its name for people.
    fn sealed(&self, form: &str, name: &str) -> Result<(&'a str, String), SourceError> {
        let file = format!("{}/sealed/{name}", self.place);
        let bytes = self.file(&format!("sealed/{name}")).ok_or_else(|| {
            SourceError::whole(&file, format!("it is missing; the form `{form}` is judged by it"))
        })?;
        Ok((utf8(&file, bytes)?, file))
    }

    fn file(&self, path: &str) -> Option<&'a [u8]> {
        self.files.file(path)
    }

    /// Reads every example.
    fn read_examples<T>(
        &self,
        parse: impl Fn(&toml::Value, usize) -> Result<T, String>,
    ) -> Result<Vec<T>, SourceError> {
        let rows = self.examples.iter().enumerate().map(|(index, table)| {
            parse(table, index + 1).map_err(|message| {
                let message = format!("[[example]] number {}: {message}", index + 1);
                SourceError::whole(self.brief, message)
            })
        });
        rows.collect()
    }
}
