//! The run: which trials are run, in which order, attempts and repair, and resuming.
//!
//! What is decided is decided by state machines without threads, clocks or processes: `Scheduler` says
//! when something is done, `TrialState` what comes next in one trial, `Session` records what happens.
//! [`run_trials`] gives them a clock and threads.

mod budget;
mod compatibility;
mod counter;
mod dry_run;
mod files;
mod forecast;
mod news;
mod order;
mod pool;
mod prepare;
mod read;
mod regrade;
mod reuse;
mod run;
mod scheduler;
mod session;
mod trial;
mod vet;

pub use budget::{CapOwner, CapReached};
pub use counter::{CandidateProgress, FirstLook, Progress};
pub use dry_run::dry_run;
pub use files::{FilesError, FilesOptions, attempt_files};
pub use forecast::forecast;
pub use news::RunNews;
pub use order::{ChoiceError, HeldAgain, TrialChoice, UnknownAgain};
pub use prepare::{PlannedTask, Preparation, PrepareError, PrepareOptions, prepare};
pub use read::{ReadError, ReadOptions, ReadText, read_text};
pub use regrade::{
    RegradeError, RegradeOptions, RegradeProgress, Regraded, RegradedCandidate, regrade,
};
pub use run::{RunError, RunOptions, run_trials};
pub use scheduler::CandidateState;
pub use session::{Observer, Summary};
pub use vet::{VetError, VetOptions, Vetted, vet};
