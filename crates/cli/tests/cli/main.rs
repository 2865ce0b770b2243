//! The built program, driven as its users drive it, on files in a temporary folder.

#![expect(clippy::unwrap_used, reason = "a test may stop at the first thing that is wrong")]

mod acp;
mod agents;
mod answers;
mod asking;
mod browser;
mod compare;
mod demo;
mod doctor;
mod dry_run;
mod env;
mod hostile;
mod hosts;
mod input;
#[path = "../../../sandbox/tests/support/needs.rs"]
mod needs;
mod read;
mod regatta;
mod regrade;
mod report;
mod resume;
mod scripted;
mod show;
mod standings;
mod stranger;
mod streams;
mod tiers;
mod trouble;
mod users;
mod vet;
mod wording;
