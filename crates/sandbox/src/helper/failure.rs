//! Why what a run finds could not be set up.

/// Why a run's own part could not be set up.
pub enum SetUpFailure {
    /// The run's files do not fit into the space that it may use.
    Full,
    /// The job's files cannot be written: an odd name, a place where something else stands.
    BadFiles(String),
    /// The kernel refused.
    Failed(String),
}

impl From<String> for SetUpFailure {
    fn from(why: String) -> Self {
        Self::Failed(why)
    }
}
