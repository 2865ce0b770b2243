//! Tests of our own making among those of a repository: a report in which they do not come to what they must
//! is not to be believed.
//!
//! They stand in freshly named files beside the ones that they resemble, where the task's command runs such
//! files; else among the tests of those files. Which of the two works is found out before anything is
//! changed. A cheat would have to tell them from the others by what they mean.

use std::hash::{BuildHasher as _, RandomState};

use fairtrial_core::language::CanaryStyle;
use fairtrial_core::testrun::{PrintedReport, ReportedTest, Status};
use fairtrial_core::tree::{FileTree, Node, RelPath, Snapshot, TreePath, WorkTree};

use super::settings::RepositoryTask;
use crate::canaries::{Canary, name as fresh_name, plant};
use crate::context::JudgeContext;
use crate::preflights::GuardMode;
use crate::test_rng::TestRng;

/// The sealed files of one run, with tests of our own among them.
pub struct Guard {
    pub sealed: Snapshot,
    pub canaries: Vec<Canary>,
}

/// Folders that get a file of our own.
const FOLDERS_MAX: usize = 3;

/// Files that get tests of our own.
const FILES_MAX: usize = 6;

/// Larger files are no models for others, in bytes.
const MODEL_MAX: usize = 64 << 10;

/// How tests of our own are written for a task; `None` where nobody knows.
fn way_of_writing(report: PrintedReport, language: &str) -> Option<&'static str> {
    Some(match (report, language) {
        (PrintedReport::Pytest, _) | (PrintedReport::Junit, "python") => "python",
        (PrintedReport::Unittest, _) => "python-class",
        (PrintedReport::Node, _) | (PrintedReport::Tap, "javascript") => "node",
        (PrintedReport::Cargo, _) => "rust",
        (PrintedReport::Go, _) => "go",
        (PrintedReport::Junit, "java") => "java",
        _ => return None,
    })
}

/// Whether a file holds tests, by its name.
fn holds_tests(way: &str, path: &RelPath) -> bool {
    let (name, stem, extension) = (path.file_name(), path.stem(), path.extension());
    let in_folder = |folder: &str| path.as_str().split('/').rev().skip(1).any(|it| it == folder);
    match way {
        "python" | "python-class" => {
            extension == "py" && (stem.starts_with("test") || stem.ends_with("_test"))
        }
        "node" => {
            let is_script = matches!(extension, "js" | "mjs" | "cjs");
            let is_named = name.contains(".test.") || name.contains(".spec.");
            is_script && (is_named || in_folder("test") || in_folder("tests"))
        }
        "rust" => extension == "rs" && in_folder("tests"),
        "go" => name.ends_with("_test.go"),
        _ => extension == "java" && (stem.ends_with("Test") || stem.starts_with("Test")),
    }
}

impl Guard {
    /// The sealed files with tests of our own: made of `seed`, and called anew in each run.
    pub fn make(
        task: &RepositoryTask,
        context: &JudgeContext<'_>,
        base: &WorkTree,
        mode: GuardMode,
        seed: u64,
    ) -> Self {
        let bare = Self { sealed: task.sealed.clone(), canaries: Vec::new() };
        let Some(way) = way_of_writing(task.report, context.language) else { return bare };
        let Some(style) = context.shared.languages.canary_style(context.language, way) else {
            return bare;
        };
        let mut rng = TestRng::new(seed);
        // Seeded by the system anew for each: nobody can know it before.
        let mut names = TestRng::new(RandomState::new().hash_one(task.test.as_str()));
        let models = models(task, base, way);
        let files = match mode {
            GuardMode::Nowhere => return bare,
            // Two files of one package must not define the same, and a class is named as its file.
            GuardMode::Beside if matches!(way, "go" | "java") => Vec::new(),
            GuardMode::Beside => beside(style, &models, &mut names),
            GuardMode::Within => models.into_iter().take(FILES_MAX).collect(),
        };
        let mut files: FileTree = files.into_iter().collect();
        let paths: Vec<RelPath> = files.keys().cloned().collect();
        let canaries = plant(style, &mut files, &paths, &mut rng, &mut names);
        let mut sealed = bare.sealed;
        for (path, bytes) in files {
            let executable = matches!(sealed.get(&path), Some(Node::File { executable: true, .. }));
            let bytes = if way == "node" { as_module(bytes) } else { bytes };
            sealed.put(path, Node::File { bytes: bytes.into(), executable });
        }
        Self { sealed, canaries }
    }

    /// Whether every one came to what it must where nobody interferes.
    pub fn stands(&self, tests: &[ReportedTest]) -> bool {
        !self.canaries.is_empty()
            && self.canaries.iter().all(|canary| {
                let seen = tests.iter().find(|it| canary.is_meant(&it.name));
                match (seen.map(|it| it.status), canary.holds) {
                    (Some(Status::Passed), true) | (Some(Status::Failed), false) => true,
                    // A copy of a test that fails says nothing.
                    (Some(_), false) => canary.copy_of.is_some(),
                    _ => false,
                }
            })
    }
}

/// Files of tests that nobody under trial can change, smallest first: the sealed ones, or else protected ones
/// of the repository that the lists name.
fn models(task: &RepositoryTask, base: &WorkTree, way: &str) -> Vec<(RelPath, Vec<u8>)> {
    let mut found: Vec<(RelPath, Vec<u8>)> = task
        .sealed
        .files()
        .filter(|(path, _)| holds_tests(way, path))
        .map(|(path, bytes)| (path.clone(), bytes.to_vec()))
        .collect();
    if found.is_empty() {
        let is_named = |path: &RelPath| {
            let names = task.turn_green.iter().chain(&task.stay_green);
            names.into_iter().any(|it| it.contains(path.as_str()) || it.contains(path.stem()))
        };
        let is_ours = |path: &TreePath| task.protected.is_match(path.to_string());
        found = base
            .files()
            .filter(|(path, _)| is_ours(path))
            .filter_map(|(path, bytes)| Some((path.to_rel()?, bytes)))
            .filter(|(path, _)| holds_tests(way, path) && is_named(path))
            .map(|(path, bytes)| (path, bytes.to_vec()))
            .collect();
    }
    found.sort_by_key(|it| it.1.len());
    found
}

/// New files, each with what is in a model of the same folder.
fn beside(
    style: &CanaryStyle,
    models: &[(RelPath, Vec<u8>)],
    rng: &mut TestRng,
) -> Vec<(RelPath, Vec<u8>)> {
    let folder = |path: &RelPath| {
        path.as_str().rsplit_once('/').map_or(String::new(), |it| format!("{}/", it.0))
    };
    let mut out: Vec<(RelPath, Vec<u8>)> = Vec::new();
    for (path, bytes) in models.iter().filter(|it| it.1.len() <= MODEL_MAX) {
        let folder = folder(path);
        if out.len() >= FOLDERS_MAX
            || out.iter().any(|it| {
                it.0.as_str().rsplit_once('/').map_or("", |it| it.0) == folder.trim_end_matches('/')
            })
        {
            continue;
        }
        let name = fresh_name(style, &String::from_utf8_lossy(bytes), rng).replace(' ', "-");
        let ending = path.file_name().split_once('.').map_or("", |it| it.1);
        if let Ok(path) = RelPath::parse(&format!("{folder}{name}.{ending}")) {
            out.push((path, bytes.clone()));
        }
    }
    out
}

/// Tests of our own load what they need so that a module of either kind can.
fn as_module(bytes: Vec<u8>) -> Vec<u8> {
    let text = String::from_utf8_lossy(&bytes);
    if !text.lines().any(|it| it.starts_with("import ") || it.starts_with("export ")) {
        return bytes;
    }
    text.replace("require('node:", "process.getBuiltinModule('node:").into_bytes()
}
