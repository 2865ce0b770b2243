//! Views: plain data, computed from a record. Every format prints the same one; a renderer decides nothing.

mod comparison;
mod doctor;
mod join;
mod matrix;
mod notes;
mod reading;
mod report;
mod source;
mod standings;
mod tasks;
mod trial;

pub use self::comparison::{
    ComparedTask, ComparisonView, Side, adjust_together, comparison_view, place_of,
};
pub use self::doctor::{DoctorView, LanguageView, LayerView};
pub use self::join::JoinNote;
pub use self::matrix::{MatrixCell, MatrixRow, MatrixView, matrix_view};
pub use self::notes::{Deviations, HeldAgainNote, Helped, Note};
pub use self::reading::ReadingView;
pub use self::report::{NamedTrial, ReportView, TrialEvidence, report_view, trials_at};
pub use self::source::{Only, StandingsError, StandingsSource, VerdictSource};
pub use self::standings::{
    NamedStep, NarrowStandings, PublishedRow, ReasonsView, Slice, StandingsOptions, StandingsView,
    TroubleRow, standings_view,
};
pub use self::tasks::{AlikeRow, AlikeView, TaskRow, TasksView, alike_view, tasks_view};
pub use self::trial::{
    ActorEndView, AttemptView, ColourChanges, StepView, TestView, TrialView, is_narrow, trial_list,
    trial_view,
};
