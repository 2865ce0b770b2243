//! Simulated models behind a real chat-completions endpoint, on loopback only.
//!
//! Each model has a skill, a speed and habits. What it answers is drawn from the proofs of a
//! docket and from scripted ways to go wrong, by a seed: the same request gets the same answer.

mod acting;
mod answers;
mod fault;
mod http;
mod models;

pub use fault::Fault;
pub use http::{Handle, Log, StandinError, StandinServer, start};
pub use models::{Model, ModelsError, parse_models, shipped_models};
