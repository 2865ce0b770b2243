//! Views of a record, and renderers that turn a view into text or JSON.
//!
//! A view is plain data: what is computed is computed there. Renderers take a writer and decide nothing;
//! what they write for people takes a [`Style`] and fits [`Style::width`] columns. Machine output has its
//! own types, with `format_version` first; `docs/json.md` lists their fields.

mod figures;
mod json;
mod safe;
mod style;
mod text;
mod view;

pub use figures::{count, duration, money, percent, thousands};
pub use json::{doctor_json, reading_json, regrade_json, show_json, standings_json, vet_json};
pub use safe::safe;
pub use style::Style;
pub use text::{
    doctor_table, reading_text, regrade_table, show_list, show_trials, standings, vet_table,
};
pub use view::{
    AttemptView, Deviations, DoctorView, Helped, LanguageView, LayerView, Note, ReadingView, Rival,
    StandingsView, StepView, TestView, TrialView, is_narrow, standings_view, trial_list,
    trial_view,
};
