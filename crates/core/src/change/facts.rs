//! What a person who reviews a change looks at first.

use std::collections::BTreeSet;

use serde::{Deserialize, Serialize};

use super::Change;
use crate::tree::{Node, TreePath, WorkTree};

/// What a change does, in numbers and names. Paths are written for people.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize)]
pub struct ChangeFacts {
    /// Every file that it touches, in path order.
    pub files: Vec<FileFacts>,
    /// Lines that came.
    pub added: usize,
    /// Lines that went.
    pub removed: usize,
    /// Bytes of the change as a patch.
    pub patch_bytes: u64,
    /// Files that a good change touches, by the task, and that this one does not.
    #[serde(default)]
    pub missed: Vec<String>,
    /// Files that it touches and that the task does not expect; empty where it expects none.
    #[serde(default)]
    pub beyond: Vec<String>,
    /// Files that it touches as the task's right answer does, and in all that either touches.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub like_right: Option<(usize, usize)>,
    /// Paths that were put back before judging, since a change may not touch them.
    #[serde(default)]
    pub put_back: Vec<String>,
}

/// One file of a change.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct FileFacts {
    /// Its path.
    pub path: String,
    /// What became of it: `added`, `deleted`, `changed`, `mode`, `link`.
    pub what: String,
    /// Lines that came; 0 for what is no text.
    pub added: usize,
    /// Lines that went.
    pub removed: usize,
    /// What it is: `test`, `dependencies`, or empty for anything else.
    #[serde(default, skip_serializing_if = "String::is_empty")]
    pub role: String,
    /// Whether only white space differs.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub only_space: bool,
}

/// Names of files that say what a project depends on.
const DEPENDENCIES: &[&str] = &[
    "Cargo.lock",
    "Cargo.toml",
    "Gemfile",
    "Gemfile.lock",
    "build.gradle",
    "go.mod",
    "go.sum",
    "package-lock.json",
    "package.json",
    "pnpm-lock.yaml",
    "poetry.lock",
    "pom.xml",
    "pyproject.toml",
    "requirements.txt",
    "setup.cfg",
    "setup.py",
    "uv.lock",
    "yarn.lock",
];

impl ChangeFacts {
    /// Those of a change of `before`. What the task says of it, and what was put back, is not known here.
    #[must_use]
    pub fn of(before: &WorkTree, change: &Change, patch_bytes: u64) -> Self {
        let files: Vec<FileFacts> =
            change.iter().map(|(path, node)| facts(path, before.get(path), node)).collect();
        let sum = |count: fn(&FileFacts) -> usize| files.iter().map(count).sum();
        let (added, removed) = (sum(|it| it.added), sum(|it| it.removed));
        Self { files, added, removed, patch_bytes, ..Self::default() }
    }

    /// Compares the files with those that a good change touches.
    pub fn compare(&mut self, expected: &[String], right: Option<&Change>) {
        let touched: BTreeSet<&str> = self.files.iter().map(|it| it.path.as_str()).collect();
        self.missed =
            expected.iter().filter(|it| !touched.contains(it.as_str())).cloned().collect();
        if !expected.is_empty() {
            let is_beyond = |it: &&&str| !expected.iter().any(|known| known == **it);
            self.beyond = touched.iter().filter(is_beyond).map(|&it| it.to_owned()).collect();
        }
        if let Some(right) = right {
            let right: BTreeSet<String> = right.iter().map(|(path, _)| path.to_string()).collect();
            let both = right.iter().filter(|it| touched.contains(it.as_str())).count();
            self.like_right = Some((both, right.len() + touched.len() - both));
        }
    }
}

fn facts(path: &TreePath, before: Option<&Node>, after: Option<&Node>) -> FileFacts {
    let what = match (before, after) {
        (None, Some(Node::Link { .. })) | (_, Some(Node::Link { .. })) => "link",
        (None, _) => "added",
        (_, None) => "deleted",
        (Some(Node::File { bytes: old, .. }), Some(Node::File { bytes: new, .. }))
            if old == new =>
        {
            "mode"
        }
        _ => "changed",
    };
    let text = |node: Option<&Node>| match node {
        Some(Node::File { bytes, .. }) => std::str::from_utf8(bytes).map(str::to_owned).ok(),
        _ => Some(String::new()),
    };
    let (mut added, mut removed, mut only_space) = (0, 0, false);
    if let (Some(old), Some(new)) = (text(before), text(after)) {
        for hunk in diffy::create_patch(&old, &new).hunks() {
            for line in hunk.lines() {
                match line {
                    diffy::Line::Insert(_) => added += 1,
                    diffy::Line::Delete(_) => removed += 1,
                    diffy::Line::Context(_) => {}
                }
            }
        }
        let bare = |text: &str| text.split_whitespace().collect::<String>();
        only_space = what == "changed" && bare(&old) == bare(&new);
    }
    let path = path.to_string();
    let role = role(&path).to_owned();
    FileFacts { path, what: what.to_owned(), added, removed, role, only_space }
}

/// What a file is, by its name.
fn role(path: &str) -> &'static str {
    let name = path.rsplit('/').next().unwrap_or(path);
    let stem = name.split('.').next().unwrap_or(name);
    let is_test_folder = |part: &str| matches!(part, "test" | "tests" | "__tests__" | "spec");
    let in_tests = path.split('/').rev().skip(1).any(is_test_folder);
    let is_test = stem.starts_with("test_")
        || stem.ends_with("_test")
        || stem.ends_with("Test")
        || name.contains(".test.")
        || name.contains(".spec.")
        || name == "conftest.py";
    if DEPENDENCIES.contains(&name) {
        "dependencies"
    } else if in_tests || is_test {
        "test"
    } else {
        ""
    }
}
