//! Taking a change out of a view of a prepared tree.

use fairtrial_core::change::Change;
use fairtrial_core::tree::{Node, TreePath, WorkTree};
use fairtrial_sandbox::{Archive, SandboxError};

use crate::error::TreeError;
use crate::ignored::IgnoreRules;
use crate::prepare::PreparedTree;

/// What was changed in a view of a prepared tree.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Taken {
    /// What is the change, of the files that the repository has or would have: those that it ignores
    /// are left out, and so are those that its preparation made.
    pub change: Change,
    /// How many files were left out.
    pub left_out: usize,
}

/// Takes the change out of what a run left, which was collected against the prepared tree.
///
/// # Errors
/// When what was collected, or the prepared tree, cannot be read.
pub fn take_change(prepared: &PreparedTree, collected: &Archive) -> Result<Taken, TreeError> {
    let folder = prepared.open()?;
    let base = prepared.base();
    let malformed = |error| TreeError::Sandbox(SandboxError::Archive(error));
    // Rules may be changed themselves, so they are those that there are in the end.
    let (mut after, mut others) = (base.clone(), Vec::<(TreePath, Node)>::new());
    for entry in collected.reader().map_err(malformed)? {
        let entry = entry.map_err(malformed)?;
        if entry.path.parts().any(|it| it.eq_ignore_ascii_case(b".git")) {
            continue;
        }
        let Some(node) = entry.node else {
            clear(&mut after, &entry.path);
            continue;
        };
        if base.get(&entry.path).is_some() || entry.path.file_name() == b".gitignore" {
            lay(&mut after, entry.path, node);
        } else {
            others.push((entry.path, node));
        }
    }
    let rules = IgnoreRules::of(&after);
    let mut left_out = 0;
    for (path, node) in others {
        let is_prepared = folder.has(&path).map_err(TreeError::io(prepared.folder()))?;
        if is_prepared || rules.ignore(&path) {
            left_out += 1;
        } else {
            lay(&mut after, path, node);
        }
    }
    Ok(Taken { change: Change::between(base, &after), left_out })
}

/// Takes away what stands under a path and below it.
fn clear(tree: &mut WorkTree, path: &TreePath) {
    let below: Vec<TreePath> = tree.below_folder(path).cloned().collect();
    for path in below.iter().chain([path]) {
        tree.remove(path);
    }
}

/// Puts a node in the place of what stood there, and of files that stood where its folders are.
fn lay(tree: &mut WorkTree, path: TreePath, node: Node) {
    clear(tree, &path);
    let bytes = path.as_bytes();
    let cuts = bytes.iter().enumerate().filter(|it| *it.1 == b'/').map(|it| it.0);
    for folder in cuts.filter_map(|at| TreePath::parse(&bytes[..at]).ok()) {
        tree.remove(&folder);
    }
    tree.put(path, node);
}
