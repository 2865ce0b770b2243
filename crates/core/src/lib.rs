//! Fair Trial's words and computations.
//!
//! This crate holds what a task, a plan, an answer and a verdict are, how code is found in an
//! answer, how values are compared, and how trials add up to standings. It touches no files, no
//! network, no clock and no processes: whatever comes from there is an argument.

pub mod answer;
pub mod change;
pub mod digest;
pub mod dry_run;
pub mod forecast;
pub mod image;
pub mod judgement;
pub mod language;
pub mod limits;
pub mod plan;
pub mod schedule;
pub mod source;
pub mod standings;
pub mod task;
pub mod testrun;
pub mod text;
pub mod tree;
pub mod trouble;
pub mod value;
pub mod verdict;
pub mod vet;
