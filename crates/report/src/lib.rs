//! Tables and machine output, out of a record.
//!
//! Renderers take a writer and a [`Style`]; what they write for people fits [`Style::width`]
//! columns. Machine output has its own types, with `format_version` first; `docs/json.md` lists
//! their fields.

mod doctor;
mod figures;
mod json;
mod regrade;
mod safe;
mod show;
mod show_json;
mod standings;
mod standings_json;
mod style;
mod table;
mod vet;

pub use doctor::{Doctor, Finding, LanguageFinding, doctor_json, doctor_table};
pub use figures::{count, duration, money, percent, thousands};
pub use regrade::{regrade_json, regrade_table};
pub use safe::safe;
pub use show::{ShowError, ShowOptions, show};
pub use show_json::show_json;
pub use standings::{Loaded, load, standings};
pub use standings_json::standings_json;
pub use style::Style;
pub use vet::{vet_json, vet_table};
