//! Tasks and answers in, judgements out, through the real sandbox and the real languages.

#![expect(clippy::unwrap_used, reason = "a test may stop at the first thing that is wrong")]

mod apart;
mod calls;
mod cheats;
mod closed;
mod env;
mod honest;
mod judging;
#[path = "../../../sandbox/tests/support/needs.rs"]
mod needs;
mod pairs;
mod repository;
mod suites;
mod twinned;
mod units;
mod user;
