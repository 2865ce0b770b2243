//! What a candidate that acts begins with and leaves, and how its programs ended, in words.

use fairtrial_core::answer::Submission;
use fairtrial_core::change::{Change, apply_patch, write_patch};
use fairtrial_core::tree::WorkTree;
use fairtrial_sandbox::{Archive, Ending, LimitHit, Outcome, TreeView};
use fairtrial_worktree::{Taken, take_change};

use crate::ask::{Ask, Role, Workspace};

/// The limit of a candidate that was ended since what it did came to nothing, again and again.
pub(crate) const STUCK: &str = "stuck";

/// What was changed, of what a repository or a task has, by what was collected of the files.
pub(crate) fn taken(
    workspace: &Workspace<'_>,
    collected: Option<&Archive>,
) -> Result<Taken, String> {
    let nothing = || Taken { change: Change::default(), left_out: 0 };
    let Some(collected) = collected else { return Ok(nothing()) };
    match &workspace.prepared {
        Some(prepared) => take_change(prepared, collected).map_err(|error| chain(&error)),
        None => {
            let files = collected.files().map_err(|error| chain(&error))?;
            let mut change = Change::default();
            for (path, node) in Change::from(files).iter() {
                if workspace.given.get(path) != node {
                    change.put(path.clone(), node.cloned());
                }
            }
            Ok(Taken { change, left_out: 0 })
        }
    }
}

/// What the files were at first.
pub(crate) fn base<'a>(workspace: &'a Workspace<'_>) -> &'a WorkTree {
    workspace.prepared.as_ref().map_or(&workspace.given, |it| it.base())
}

/// A change as it is sent in.
pub(crate) fn submission(workspace: &Workspace<'_>, change: &Change) -> Submission {
    match workspace.prepared {
        Some(_) => Submission::Patch(write_patch(base(workspace), change)),
        None => Submission::Files(change.files()),
    }
}

/// What the attempts before came to, in files of at most `most` bytes. One that was no change that fits
/// began from the start, too.
pub(crate) fn so_far(last: Option<&Submission>, base: &WorkTree, most: u64) -> Change {
    match last {
        Some(Submission::Patch(patch)) => {
            apply_patch(base, patch, most).map(|it| it.change).unwrap_or_default()
        }
        Some(Submission::Files(files)) => Change::from(files.clone()),
        Some(Submission::Text(_)) | None => Change::default(),
    }
}

/// What the agent reads: the task at first, and what was said of its last attempt later.
pub(crate) fn prompt_of(ask: &Ask) -> String {
    let said = ask.messages.iter().filter(|it| it.role == Role::User);
    let texts: Vec<&str> = said.map(|it| it.content.as_str()).collect();
    match texts.as_slice() {
        [] => String::new(),
        [only] => (*only).to_owned(),
        // It may keep no memory of its own from one attempt to the next.
        [first, .., last] => format!("{first}\n\n{last}"),
    }
}

/// How a view was made; empty where there was none.
pub(crate) fn view_word(view: Option<TreeView>) -> &'static str {
    match view {
        Some(TreeView::Overlay) => "overlay",
        Some(TreeView::Reflinks) => "reflinks",
        Some(TreeView::Copies) => "copies",
        None => "",
    }
}

/// How a program ended, in words.
pub(crate) fn ended(outcome: &Outcome) -> String {
    match (outcome.limit, outcome.ending) {
        (Some(LimitHit::Stopped), _) => "was ended at its limit of requests".to_owned(),
        (Some(limit), _) => {
            format!("was ended at its limit of {}", format!("{limit:?}").to_lowercase())
        }
        (None, Ending::Exited(status)) => format!("ended with status {status}"),
        (None, Ending::Signalled(signal)) => format!("ended by signal {signal}"),
    }
}

/// An error with its causes, on one line.
pub(crate) fn chain(error: &dyn std::error::Error) -> String {
    let mut text = error.to_string();
    let mut cause = error.source();
    while let Some(error) = cause {
        text = format!("{text}: {error}");
        cause = error.source();
    }
    text
}
