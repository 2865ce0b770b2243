//! What the benchmarks share.

mod job;
mod pair;

pub use job::{job, python};
pub use pair::{TimedPair, median, pair, print};
