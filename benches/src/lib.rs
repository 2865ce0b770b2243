//! What the benchmarks share.

mod generate;
mod job;
mod pair;
mod trial;
mod usage;

pub use generate::{RecordSize, generate};
pub use job::{job, python};
pub use pair::{TimedPair, median, pair, print};
pub use trial::trial;
pub use usage::wait_with_usage;
