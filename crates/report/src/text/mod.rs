//! What people read: tables and notes of plain text.

mod beside;
mod change;
mod code;
mod comparison;
mod doctor;
mod dry_run;
mod forecast;
mod gate;
mod grid;
mod reading;
mod regrade;
mod standings;
mod table;
mod trial;
mod vet;

pub use self::beside::side_by_side;
pub use self::comparison::{comparison_sentence, comparison_text, comparisons_text};
pub use self::doctor::doctor_table;
pub use self::dry_run::dry_run_text;
pub use self::forecast::forecast_text;
pub use self::gate::gate_text;
pub(crate) use self::grid::shortened;
pub use self::grid::write_grid;
pub use self::reading::reading_text;
pub use self::regrade::regrade_table;
pub use self::standings::{
    RankingLayout, frontier_grids, grids_with_notes, standings, standings_grids, standings_head,
    standings_notes,
};
pub use self::trial::{show_list, show_trials};
pub use self::vet::vet_table;

/// How many of a kind a note names; the rest it counts.
const NAMED_MAX: usize = 4;

/// The first ones of a list, and how many more there are.
fn first_few(mut names: Vec<String>) -> String {
    let more = names.len().saturating_sub(NAMED_MAX);
    names.truncate(NAMED_MAX);
    let named = names.join(", ");
    if more == 0 { named } else { format!("{named} and {more} more") }
}

/// Breaks a line that is wider than `width` at spaces; one that is not is left as it is.
fn wrap(text: &str, width: usize) -> Vec<String> {
    if unicode_width::UnicodeWidthStr::width(text) <= width {
        return vec![text.to_owned()];
    }
    let options = textwrap::Options::new(width)
        .break_words(false)
        .word_separator(textwrap::WordSeparator::AsciiSpace)
        .word_splitter(textwrap::WordSplitter::NoHyphenation)
        .wrap_algorithm(textwrap::WrapAlgorithm::FirstFit);
    textwrap::wrap(text, options).into_iter().map(std::borrow::Cow::into_owned).collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn long_lines_are_broken_at_spaces_and_short_ones_left_alone() {
        assert_eq!(wrap("a  b", 10), ["a  b"]);
        assert_eq!(wrap("aaa bbb ccc", 7), ["aaa bbb", "ccc"]);
        assert_eq!(wrap("a verylongword b", 5), ["a", "verylongword", "b"]);
        // What is wide on a terminal counts twice.
        assert_eq!(wrap("潮位 潮位 潮位", 9), ["潮位 潮位", "潮位"]);
    }

    #[test]
    fn notes_stay_short_however_many_candidates_there_are() {
        let names: Vec<String> = (0..50).map(|it| format!("seabird-number-{it}")).collect();
        let few = first_few(names.clone());
        assert!(few.len() < 100 && few.ends_with("seabird-number-3 and 46 more"), "{few}");
        assert_eq!(first_few(names[..2].to_vec()), "seabird-number-0, seabird-number-1");
    }
}
