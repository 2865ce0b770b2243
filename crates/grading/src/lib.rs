//! A task and an answer's files in, a judgement out.
//!
//! Each form has one module. The code under trial runs in the sandbox; expectations never go in.
//! Comparisons are made here, on the outside, by `fairtrial-core`.

mod build;
mod call;
mod canaries;
mod checker;
mod checkup;
mod context;
mod driver;
mod folder;
mod frame;
mod judge;
mod outcome;
mod pressure;
mod probe;
mod program;
mod shim;
mod sound;
mod stability;
mod tools;
mod unit;

pub use checkup::{Checkup, check};
pub use folder::{FolderError, read_docket, read_file, read_folder};
pub use judge::{Judge, limits_of};
pub use tools::{Tool, ToolMissing, Toolbox};
