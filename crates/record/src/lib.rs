//! The record: what a run writes, and the only source of everything that is shown.
//!
//! A record is a folder with a manifest (`manifest.json`), a database (`trials.sqlite`) and a lock
//! that a run holds. All SQL of the tool is in this crate. Long texts are compressed and stored
//! once, by their digest. `docs/record.md` describes the format.

mod aside;
mod blob;
mod entries;
mod error;
mod figures;
mod files;
mod gradings;
mod lock;
mod manifest;
mod migrations;
mod outcomes;
mod read;
mod refresh;
mod rows;
mod schema;
mod workload;
mod write;

pub use aside::EarlierRow;
pub use entries::{NewAnswer, NewJudgement, NewStep, RequestResult};
pub use error::RecordError;
pub use gradings::{GradingNote, GradingRow, NewRegrade, RegradeRow, RegradedTrial};
pub use lock::is_being_written;
pub use manifest::{
    FORMAT_VERSION, Machine, Manifest, PlanChange, SandboxNote, TaskNote, ToolNote,
};
pub use rows::{AttemptRow, RequestRow, Selection, StepRow, TrialRow, TrialSummary};
pub use write::Record;
