//! The run: which trials are to be held, in which order, attempts and repair, and resuming.
//!
//! What is decided is decided by two state machines without threads, clocks or processes:
//! [`Board`] for the whole run, [`Course`] for one trial. [`hold`] feeds them with what the
//! candidates and the judge say, and writes the record.

mod board;
mod course;
mod footing;
mod hold;
mod pool;
mod prepare;
mod regrade;
mod tally;
mod vet;

pub use board::{Board, Ended};
pub use course::{Course, Next};
pub use hold::{HoldError, HoldOptions, Observer, Summary, hold};
pub use prepare::{Entry, Preparation, PrepareError, PrepareOptions, prepare};
pub use regrade::{RegradeError, RegradeOptions, regrade};
pub use tally::Progress;
pub use vet::{VetError, VetOptions, Vetted, vet};
