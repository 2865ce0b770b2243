//! A task and an answer's files in, a judgement out.
//!
//! Each form has one module. The code under trial runs in the sandbox; expectations never go in.
//! Comparisons are made here, on the outside, by `fairtrial-core`.

mod build;
mod canaries;
mod checkup;
mod context;
mod docket;
mod doubts;
mod driver;
mod form;
mod judge;
mod outcome;
mod preflights;
mod pressure;
mod probe;
mod prompt;
mod shared;
mod stability;
mod submission;
mod test_rng;
mod tools;
mod twins;

pub use checkup::{Checkup, check};
pub use context::JudgeError;
pub use docket::{Docket, FolderError, PosedTask, read_docket, read_file, read_folder};
pub use form::{
    AnswerShape, Answered, FORMS, Form, FormKind, FormSource, ReadFrom, SealedTest, Start,
    Surroundings,
};
pub use judge::{Judge, TREES_MAX, limits_of};
pub use prompt::{
    Images, Manner, PromptParts, PromptTemplates, RepairParts, TemplateError, prompt_parts,
    repair_parts,
};
pub use submission::{JudgeOptions, JudgedSubmission};
pub use tools::{Tool, ToolMissing, Toolbox};
