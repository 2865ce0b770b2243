//! Which files git would not look at: gitignore(5).

use std::collections::BTreeMap;
use std::ffi::OsStr;
use std::os::unix::ffi::OsStrExt as _;
use std::path::Path;

use fairtrial_core::tree::{Node, TreePath, WorkTree};
use ignore::Match;
use ignore::gitignore::{Gitignore, GitignoreBuilder};

/// The rules of a work tree: those of every `.gitignore` in it.
pub struct IgnoreRules {
    /// By folder; the empty path is the top.
    by_folder: BTreeMap<Vec<u8>, Gitignore>,
}

impl IgnoreRules {
    /// Those of a tree. A line that is malformed ignores nothing, as with git.
    pub fn of(tree: &WorkTree) -> Self {
        let mut by_folder = BTreeMap::new();
        for (path, node) in tree.iter() {
            let Node::File { bytes, .. } = node else { continue };
            if path.file_name() != b".gitignore" {
                continue;
            }
            let folder = path.as_bytes().strip_suffix(b".gitignore").unwrap_or_default();
            let folder = folder.strip_suffix(b"/").unwrap_or(folder).to_vec();
            let mut builder = GitignoreBuilder::new("");
            for line in String::from_utf8_lossy(bytes).lines() {
                let _ = builder.add_line(None, line);
            }
            if let Ok(rules) = builder.build() {
                by_folder.insert(folder, rules);
            }
        }
        Self { by_folder }
    }

    /// Whether a file is ignored: it, or a folder that it lies in.
    pub fn ignore(&self, path: &TreePath) -> bool {
        let bytes = path.as_bytes();
        let cuts = bytes.iter().enumerate().filter(|it| *it.1 == b'/').map(|it| it.0);
        cuts.map(|at| (&bytes[..at], true))
            .chain([(bytes, false)])
            .any(|(part, is_folder)| self.says(part, is_folder))
    }

    /// What the rules say of one path: the last rule of the innermost file that has one for it.
    fn says(&self, path: &[u8], is_folder: bool) -> bool {
        let mut folder = path;
        loop {
            let end = folder.iter().rposition(|&it| it == b'/');
            folder = &folder[..end.unwrap_or(0)];
            if let Some(rules) = self.by_folder.get(folder) {
                let skipped = if folder.is_empty() { 0 } else { folder.len() + 1 };
                let inner = Path::new(OsStr::from_bytes(&path[skipped..]));
                match rules.matched(inner, is_folder) {
                    Match::Ignore(_) => return true,
                    Match::Whitelist(_) => return false,
                    Match::None => {}
                }
            }
            if end.is_none() {
                return false;
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn rules_of_inner_folders_come_first_and_folders_stay_ignored() {
        let file = |text: &str| Node::File { bytes: text.as_bytes().into(), executable: false };
        let path = |text: &str| TreePath::parse(text.as_bytes()).unwrap();
        let tree = [
            (path(".gitignore"), file("*.log\n/target/\n!keep.log\n__pycache__\n[\n")),
            (path("docs/.gitignore"), file("!*.log\nbuild/\n")),
        ];
        let rules = IgnoreRules::of(&tree.into_iter().collect());
        for (name, expected) in [
            ("a.log", true),
            ("src/a.log", true),
            ("keep.log", false),
            ("docs/a.log", false),
            ("docs/build/x", true),
            ("build/x", false),
            ("target/debug/keep.log", true),
            ("src/target/x", false),
            ("a/__pycache__/m.pyc", true),
            ("a.py", false),
        ] {
            assert_eq!(rules.ignore(&path(name)), expected, "{name}");
        }
    }
}
