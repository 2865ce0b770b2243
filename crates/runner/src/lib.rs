//! The run: which trials are run, in which order, attempts and repair, and resuming.
//!
//! What is decided is decided by two state machines without threads, clocks or processes:
//! [`Board`] for the whole run, [`Course`] for one trial. [`run_trials`] feeds them with what the
//! candidates and the judge say, and writes the record.

mod compatibility;
mod counter;
mod pool;
mod prepare;
mod regrade;
mod run;
mod scheduler;
mod trial;
mod vet;

pub use counter::Progress;
pub use prepare::{PlannedTask, Preparation, PrepareError, PrepareOptions, prepare};
pub use regrade::{RegradeError, RegradeOptions, regrade};
pub use run::{Observer, RunError, RunOptions, Summary, run_trials};
pub use scheduler::{Scheduler, TrialEnd};
pub use trial::{Next, TrialState};
pub use vet::{VetError, VetOptions, Vetted, vet};
