//! Grids: rows and columns of what a view holds, said in words and figures. Text for a terminal, Markdown and
//! CSV are three ways to write one grid.

mod comparison;
mod matrix;
mod pairs;
mod ranking;
mod slices;
mod tasks;

pub use self::comparison::compared_tasks_grid;
pub use self::matrix::matrix_grid;
pub(crate) use self::pairs::p_value;
pub use self::pairs::{comparison_grid, pairs_grid};
pub use self::ranking::{RankingColumn, frontier_grid, legend, ranking_grid, trouble_grid};
pub use self::slices::{reasons_grid, slices_grid};
pub use self::tasks::{alike_grid, tasks_grid};

/// Rows and columns.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Grid {
    /// What it shows; empty where that is clear.
    pub title: String,
    /// The columns.
    pub columns: Vec<GridColumn>,
    /// The rows, each with a cell for every column.
    pub rows: Vec<Vec<GridCell>>,
    /// What happens where a line is too narrow.
    pub overflow: Overflow,
}

/// What happens to a grid that is wider than a line.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Overflow {
    /// The least important columns are left out.
    Drop,
    /// Columns go on below, with so many of the first ones before them again.
    Blocks(usize),
}

/// A column.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct GridColumn {
    /// Its name for programs.
    pub key: String,
    /// Its name for people.
    pub head: String,
    /// What stands in it.
    pub kind: ColumnKind,
    /// How early it is left out where a line is too narrow: 0 never, 9 first.
    pub spare: u8,
}

/// What stands in a column.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum ColumnKind {
    /// Names, which may be shortened as long as no two become equal.
    Name,
    /// Words.
    Words,
    /// Figures.
    Figure,
}

/// A cell.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct GridCell {
    /// For people.
    pub shown: String,
    /// For programs: a number without a unit, or the text as it is; empty where there is nothing.
    pub raw: String,
}

impl GridColumn {
    /// Whether figures stand in it.
    pub fn is_figure(&self) -> bool {
        self.kind == ColumnKind::Figure
    }

    fn name(key: &str) -> Self {
        Self::new(key, key, ColumnKind::Name, 0)
    }

    fn figure(key: &str, head: &str, spare: u8) -> Self {
        Self::new(key, head, ColumnKind::Figure, spare)
    }

    fn new(key: &str, head: &str, kind: ColumnKind, spare: u8) -> Self {
        Self { key: key.to_owned(), head: head.to_owned(), kind, spare }
    }
}

impl GridCell {
    /// A text.
    fn text(text: &str) -> Self {
        Self { shown: text.to_owned(), raw: text.to_owned() }
    }

    /// A whole number.
    fn count(count: usize) -> Self {
        Self::text(&count.to_string())
    }

    /// A figure and how it is shown; a dash where there is none.
    fn figure(value: Option<f64>, show: impl Fn(f64) -> String) -> Self {
        match value {
            Some(value) => Self { shown: show(value), raw: value.to_string() },
            None => Self::none(),
        }
    }

    /// Nothing.
    fn none() -> Self {
        Self { shown: "–".to_owned(), raw: String::new() }
    }
}
