//! The run: which trials are run, in which order, attempts and repair, and resuming.
//!
//! What is decided is decided by state machines without threads, clocks or processes: [`Scheduler`] says
//! when something is done, [`TrialState`] what comes next in one trial, [`Session`] records what happens.
//! [`run_trials`] gives them a clock and threads.

mod compatibility;
mod counter;
mod dry_run;
mod files;
mod pool;
mod prepare;
mod read;
mod regrade;
mod run;
mod scheduler;
mod session;
mod trial;
mod vet;

pub use counter::{CandidateProgress, Progress};
pub use dry_run::dry_run;
pub use files::{FilesError, FilesOptions, attempt_files};
pub use prepare::{PlannedTask, Preparation, PrepareError, PrepareOptions, prepare};
pub use read::{ReadError, ReadOptions, ReadText, read_text};
pub use regrade::{RegradeError, RegradeOptions, Regraded, regrade};
pub use run::{RunError, RunOptions, run_trials};
pub use scheduler::{Concurrency, ScheduledAction, Scheduler, TrialEnd};
pub use session::{Observer, RunEvent, RunOrder, RunSpec, Session, Summary, World};
pub use trial::{Next, TrialState, Unjudged};
pub use vet::{VetError, VetOptions, Vetted, vet};
