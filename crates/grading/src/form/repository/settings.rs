//! What a task of this form says of its repository, and how that is made ready.

use std::path::PathBuf;
use std::sync::Arc;

use fairtrial_core::source::SourceError;
use fairtrial_core::testrun::PrintedReport;
use fairtrial_core::tree::{RelPath, Snapshot, TreePath};
use fairtrial_sandbox::{Caps, HOME};
use fairtrial_worktree::{PreparedTree, Source, TreePreparation};
use globset::{GlobBuilder, GlobSet, GlobSetBuilder};
use serde::Deserialize;

use super::super::FormSource;
use super::super::unit_tests::parse_list;
use super::NAME;
use crate::context::{JudgeContext, JudgeError};
use crate::tools::shows_too_much;

/// The `[repository]` table of a brief.
#[derive(Debug, Deserialize)]
#[serde(deny_unknown_fields)]
struct RepositorySettings {
    source: String,
    commit: Option<String>,
    #[serde(default)]
    prepare: Vec<String>,
    #[serde(default)]
    network: bool,
    #[serde(default)]
    show: Vec<PathBuf>,
    test: String,
    report: PrintedReport,
    turn_green: Names,
    #[serde(default)]
    stay_green: Option<Names>,
    #[serde(default)]
    protected: Vec<String>,
    #[serde(default)]
    expected: Vec<RelPath>,
    #[serde(default)]
    context: Vec<RelPath>,
}

/// Names of tests, or the file in `sealed/` that has them.
#[derive(Debug, Deserialize)]
#[serde(untagged, expecting = "a list of names, or the name of a file in `sealed/`")]
enum Names {
    Here(Vec<String>),
    File(RelPath),
}

/// What is known of a task's repository.
#[derive(Debug)]
pub struct RepositoryTask {
    pub source: Source,
    /// Where it lies beside the brief; `None`: elsewhere.
    pub beside: Option<String>,
    pub prepare: Vec<String>,
    pub network: bool,
    pub show: Vec<PathBuf>,
    /// A line for the shell.
    pub test: String,
    pub report: PrintedReport,
    pub turn_green: Vec<String>,
    pub stay_green: Vec<String>,
    pub protected: GlobSet,
    pub protected_globs: Vec<String>,
    pub expected: Vec<String>,
    /// What a candidate that answers in one go reads.
    pub context: Vec<TreePath>,
    /// The sealed files, as they are laid over a change.
    pub sealed: Snapshot,
    /// The task's right answer, where that is a patch.
    pub right: Option<Vec<u8>>,
}

impl RepositoryTask {
    pub fn parse(from: &mut FormSource<'_>) -> Result<Self, SourceError> {
        let settings: RepositorySettings = from.take_table(NAME)?;
        let brief = from.brief;
        let fail = |message: String| SourceError::whole(brief, message);
        let source = source(from, &settings).map_err(fail)?;
        let mut sealed = from.files.below("sealed/");
        let turn_green = names(from, &settings.turn_green, &mut sealed)?;
        let stay_green = match &settings.stay_green {
            Some(list) => names(from, list, &mut sealed)?,
            None => Vec::new(),
        };
        if let Some(both) = turn_green.iter().find(|it| stay_green.contains(it)) {
            return Err(fail(format!("`{both}` is in `turn_green` and in `stay_green`")));
        }
        if turn_green.is_empty() {
            return Err(fail("`turn_green` names no test".to_owned()));
        }
        if settings.test.trim().is_empty() {
            return Err(fail("`test` is empty; it is a line for the shell".to_owned()));
        }
        if let Some(odd) = settings.show.iter().find(|it| !it.is_absolute()) {
            return Err(fail(format!("`show`: `{}` is no absolute path", odd.display())));
        }
        let right = from.files.below("proofs/");
        let right = right
            .files()
            .find(|(path, _)| path.as_str().starts_with("right") && path.extension() == "patch");
        Ok(Self {
            source,
            beside: beside(&settings).map(str::to_owned),
            prepare: settings.prepare,
            network: settings.network,
            show: settings.show,
            test: settings.test,
            report: settings.report,
            turn_green,
            stay_green,
            protected: globs(&settings.protected).map_err(fail)?,
            protected_globs: settings.protected,
            expected: settings.expected.iter().map(ToString::to_string).collect(),
            context: settings.context.iter().map(TreePath::from).collect(),
            sealed,
            right: right.map(|it| it.1.to_vec()),
        })
    }

    /// The repository, ready: made if it is not there.
    ///
    /// # Errors
    /// [`JudgeError::Unfit`] when it cannot be made.
    pub fn prepared(&self, context: &JudgeContext<'_>) -> Result<Arc<PreparedTree>, JudgeError> {
        for folder in &self.show {
            if shows_too_much(folder) || !folder.is_dir() {
                let folder = folder.display();
                let why = format!(
                    "`show`: `{folder}` is not there, or holds more than code under trial may see"
                );
                return Err(JudgeError::Unfit(why));
            }
        }
        let limits = context.limits;
        let preparation = TreePreparation {
            source: self.source.clone(),
            given: context.task.given.to_work_tree(),
            commands: self.prepare.clone(),
            network: self.network,
            show: self.folders(context),
            env: self.env(context),
            caps: Caps { disk: limits.build_disk.0.max(limits.disk.0), ..context.build_caps() },
            tools: format!("{} {}", context.tool.program.display(), context.tool.version),
        };
        let prepared = context.shared.trees.prepared(context.sandbox(), &preparation);
        prepared.map_err(|error| JudgeError::Unfit(chain(&*error)))
    }

    /// Folders of this machine that runs of the task see.
    pub fn folders(&self, context: &JudgeContext<'_>) -> Vec<PathBuf> {
        let mut folders = context.tool.folders.clone();
        folders.extend(self.show.iter().cloned());
        folders.sort();
        folders.dedup();
        folders
    }

    /// The environment of every command of the task: the language's, its tools and what is shown on the
    /// path, and a home of its own.
    pub fn env(&self, context: &JudgeContext<'_>) -> std::collections::BTreeMap<String, String> {
        let mut env = context.env();
        let shown: Vec<PathBuf> = self.show.iter().map(|it| it.join("bin")).collect();
        env.insert("PATH".to_owned(), context.search_path(&shown));
        for (key, value) in [
            ("HOME", HOME),
            ("CI", "1"),
            ("CARGO_NET_OFFLINE", "true"),
            ("PYTHONDONTWRITEBYTECODE", "1"),
            ("GIT_CONFIG_NOSYSTEM", "1"),
            ("npm_config_offline", "true"),
            ("npm_config_update_notifier", "false"),
        ] {
            env.insert(key.to_owned(), value.to_owned());
        }
        if self.network {
            env.remove("CARGO_NET_OFFLINE");
            env.remove("npm_config_offline");
        }
        env
    }
}

/// The file or folder beside the brief that a source is; `None`: it has an address.
fn beside(settings: &RepositorySettings) -> Option<&str> {
    let is_address = settings.source.contains("://") || settings.source.starts_with('/');
    (!is_address).then(|| settings.source.trim_end_matches('/'))
}

fn source(from: &FormSource<'_>, settings: &RepositorySettings) -> Result<Source, String> {
    let Some(name) = beside(settings) else {
        let commit = settings.commit.as_deref().unwrap_or_default();
        return Source::of_address(&settings.source, commit);
    };
    let folder = from.files.below(&format!("{name}/"));
    match (from.file(name), folder.is_empty(), &settings.commit) {
        (Some(bytes), _, Some(commit)) => {
            Ok(Source::Bundle { bytes: bytes.into(), commit: commit.clone() })
        }
        (Some(_), _, None) => Err("`commit` is missing; a bundle needs it".to_owned()),
        (None, false, None) => {
            let tree = folder.to_work_tree();
            let own = |path: &TreePath| !path.parts().any(|it| it.eq_ignore_ascii_case(b".git"));
            let nodes = tree.iter().filter(|it| own(it.0));
            Ok(Source::Files(nodes.map(|(path, node)| (path.clone(), node.clone())).collect()))
        }
        (None, false, Some(_)) => Err("`commit` is for bundles and addresses; `source` is a \
                                       folder"
            .to_owned()),
        (None, true, _) => Err(format!(
            "`source`: there is no `{name}` beside the brief; it is a git bundle or a folder \
             there, or the address of a repository"
        )),
    }
}

/// The names of a list. Its file is no sealed file that is laid over a change.
fn names(
    from: &FormSource<'_>,
    names: &Names,
    sealed: &mut Snapshot,
) -> Result<Vec<String>, SourceError> {
    match names {
        Names::Here(names) => Ok(names.clone()),
        Names::File(path) => {
            let (text, file) = from.sealed(NAME, path.as_str())?;
            sealed.remove(path);
            // An empty list says that there are no such tests.
            let is_empty = text.lines().all(|it| it.trim().is_empty() || it.starts_with('#'));
            if is_empty { Ok(Vec::new()) } else { parse_list(&file, text) }
        }
    }
}

fn globs(patterns: &[String]) -> Result<GlobSet, String> {
    let mut set = GlobSetBuilder::new();
    for pattern in patterns {
        let glob = GlobBuilder::new(pattern).literal_separator(true).build();
        set.add(glob.map_err(|error| format!("`protected`: {error}"))?);
    }
    set.build().map_err(|error| format!("`protected`: {error}"))
}

/// An error with its causes, on one line.
fn chain(error: &dyn std::error::Error) -> String {
    let mut text = error.to_string();
    let mut cause = error.source();
    while let Some(error) = cause {
        text = format!("{text}: {error}");
        cause = error.source();
    }
    text
}
