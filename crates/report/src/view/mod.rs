//! Views: plain data, computed from a record. Every format prints the same one; a renderer decides nothing.

mod doctor;
mod reading;
mod standings;
mod trial;

pub use self::doctor::{DoctorView, LanguageView, LayerView};
pub use self::reading::ReadingView;
pub use self::standings::{
    Deviations, Helped, NarrowStandings, Note, Rival, StandingsView, TroubleRow, standings_view,
};
pub use self::trial::{
    ActorEndView, AttemptView, ColourChanges, StepView, TestView, TrialView, is_narrow, trial_list,
    trial_view,
};
