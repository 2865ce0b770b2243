//! What the benchmarks share.

mod job;
mod pair;

pub use job::{job, python};
pub use pair::{Pair, median, pair, print};
