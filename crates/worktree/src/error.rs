//! Why a repository could not be made ready.

use std::io;
use std::path::PathBuf;

use fairtrial_sandbox::SandboxError;

/// Why a repository could not be made ready.
#[derive(Debug, thiserror::Error)]
pub enum TreeError {
    /// The sandbox could not do its part.
    #[error(transparent)]
    Sandbox(#[from] SandboxError),
    /// Git is not where a sandbox sees it.
    #[error("`git` is neither in `/usr/local/bin` nor in `/usr/bin`, and repositories need it")]
    NoGit,
    /// The commit could not be taken out of its source.
    #[error("failed to take commit `{commit}` out of {source_name}: {said}")]
    Checkout {
        /// The commit.
        commit: String,
        /// What it was looked for in, in words.
        source_name: String,
        /// What git said, or how it ended.
        said: String,
    },
    /// A command of the task failed.
    #[error("`prepare` command {number} (`{command}`) {ended}: {said}")]
    Command {
        /// Its number, from 1.
        number: usize,
        /// The command.
        command: String,
        /// How it ended.
        ended: String,
        /// The last that it said.
        said: String,
    },
    /// Something else went wrong while the work tree was laid out.
    #[error("failed to lay out the repository: {0}")]
    Layout(String),
    /// The folder of prepared trees could not be used.
    #[error("failed to use `{path}`")]
    Io {
        /// What was to be read or written.
        path: PathBuf,
        /// What the system said.
        #[source]
        source: io::Error,
    },
}

impl TreeError {
    pub(crate) fn io(path: &std::path::Path) -> impl FnOnce(io::Error) -> Self + use<> {
        let path = path.to_owned();
        move |source| Self::Io { path, source }
    }
}
