//! Repositories as tasks have them: where they come from, how they are prepared once and kept, and what
//! was changed in a view of one.
//!
//! Whatever git or a command of a task does, it does in the sandbox. What is outside only reads the
//! trees that came of it, follows no link, and never looks into a `.git`.

mod cache;
mod error;
mod ignored;
mod left_out;
mod prepare;
mod read;
mod source;
mod taken;
mod write;

pub use cache::TreeCache;
pub use error::TreeError;
pub use left_out::LeftOut;
pub use prepare::{PreparedTree, TreePreparation};
pub use read::read_tree;
pub use source::Source;
pub use taken::{Taken, take_change};
pub use write::write_tree;
