//! Views of a record, and renderers that turn a view into text or JSON.
//!
//! A view is plain data: what is computed is computed there. Renderers take a writer and decide nothing;
//! what they write for people takes a [`Style`] and fits [`Style::width`] columns. Machine output has its
//! own types, with `format_version` first; `docs/json.md` lists their fields.

mod csv;
mod figures;
mod grid;
mod html;
mod json;
mod junit;
mod markdown;
mod plot;
mod safe;
mod style;
mod text;
mod view;

pub use csv::grid_csv;
pub use figures::{count, duration, money, percent, thousands};
pub use grid::{
    Grid, RankingColumn, alike_grid, compared_tasks_grid, comparison_grid, legend, matrix_grid,
    pairs_grid, tasks_grid,
};
pub use html::{PageError, report_html};
pub use json::{
    StandingsExtras, comparisons_json, doctor_json, forecast_json, gate_json, reading_json,
    regrade_json, show_json, standings_json, vet_json,
};
pub use junit::junit_xml;
pub use markdown::{grid_markdown, notes_markdown};
pub use plot::{Painter, Plot, PngError, plots, standalone};
pub use safe::safe;
pub use style::Style;
pub use text::{
    RankingLayout, comparison_sentence, comparison_text, comparisons_text, doctor_table,
    dry_run_text, forecast_text, frontier_grids, gate_text, grids_with_notes, reading_text,
    regrade_table, show_list, show_trials, side_by_side, standings, standings_grids,
    standings_head, standings_notes, vet_table, write_grid,
};
pub use view::{
    AlikeView, AttemptView, ComparedTask, ComparisonView, Deviations, DoctorView, HeldAgainNote,
    Helped, JoinNote, LanguageView, LayerView, MatrixView, Note, Only, ReadingView, ReportView,
    Side, Slice, StandingsError, StandingsOptions, StandingsSource, StandingsView, StepView,
    TasksView, TestView, TrialView, VerdictSource, adjust_together, alike_view, comparison_view,
    is_narrow, matrix_view, place_of, report_view, standings_view, tasks_view, trial_list,
    trial_view,
};
