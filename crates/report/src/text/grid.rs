//! A grid on a terminal: it fits the line, whatever the line is.

use std::collections::BTreeSet;
use std::io::{self, Write};

use unicode_width::UnicodeWidthStr as _;

use super::table::layout;
use super::wrap;
use crate::grid::{ColumnKind, Grid, GridCell, GridColumn, Overflow};
use crate::safe::safe;
use crate::style::Style;

/// Narrowest that a name is shortened to, in columns.
const NAME_MIN: usize = 8;

/// Widest that a name is where something else has to be left out for it.
const NAME_MAX: usize = 20;

/// Narrowest that the head of a column is shortened to, so that all fit in one line.
const HEAD_MIN: usize = 6;

/// Widest that it is where they do not.
const HEAD_MAX: usize = 14;

/// Writes a grid: its title, then the columns that fit, or all of them in blocks one below the other.
///
/// # Errors
/// When the writer fails.
pub fn write_grid(out: &mut dyn Write, grid: &Grid, style: Style) -> io::Result<()> {
    for line in wrap(&safe(&grid.title), style.width) {
        if !line.is_empty() {
            writeln!(out, "{}", style.bold(&line))?;
        }
    }
    if !grid.title.is_empty() {
        writeln!(out)?;
    }
    let blocks = match grid.overflow {
        Overflow::Drop => vec![fitted(grid, style.width)],
        Overflow::Blocks(first) => blocks(grid, first, style.width),
    };
    for (index, block) in blocks.iter().enumerate() {
        if index > 0 {
            writeln!(out)?;
        }
        for (index, line) in lines(block, style.width).iter().enumerate() {
            writeln!(out, "{}", if index == 0 { style.dim(line) } else { line.clone() })?;
        }
    }
    Ok(())
}

/// What is written: heads and cells, and which columns stand to the left.
struct GridBlock {
    heads: Vec<String>,
    rows: Vec<Vec<String>>,
    kinds: Vec<ColumnKind>,
}

impl GridBlock {
    /// The columns of a grid at these places.
    fn of(grid: &Grid, places: &[usize]) -> Self {
        let shown = |cell: &GridCell| safe(&cell.shown).into_owned();
        let row = |row: &Vec<GridCell>| places.iter().map(|&it| shown(&row[it])).collect();
        let column = |&it: &usize| &grid.columns[it];
        Self {
            heads: places.iter().map(|it| safe(&column(it).head).into_owned()).collect(),
            rows: grid.rows.iter().map(row).collect(),
            kinds: places.iter().map(|it| column(it).kind).collect(),
        }
    }

    fn column_width(&self, place: usize) -> usize {
        let cells = self.rows.iter().map(|row| row[place].width());
        cells.chain([self.heads[place].width()]).max().unwrap_or(0)
    }

    /// The width of a line: each column has a space on both sides, but for the first and the last.
    fn width(&self) -> usize {
        let columns = (0..self.heads.len()).map(|it| self.column_width(it) + 2).sum::<usize>();
        columns.saturating_sub(2)
    }

    /// Shortens the names of a column to a width.
    fn shorten(&mut self, place: usize, width: usize) {
        let names: Vec<String> = self.rows.iter().map(|row| row[place].clone()).collect();
        for (row, name) in self.rows.iter_mut().zip(shortened(&names, width)) {
            row[place] = name;
        }
    }
}

/// Columns that are left when the least important ones are left out until a line fits.
fn fitted(grid: &Grid, width: usize) -> GridBlock {
    let mut places: Vec<usize> = (0..grid.columns.len()).collect();
    loop {
        let mut block = GridBlock::of(grid, &places);
        squeeze(&mut block, width, NAME_MAX);
        if block.width() <= width {
            return block;
        }
        let spare = |it: &&usize| grid.columns[**it].spare;
        // Of equals, the one farthest to the right.
        match places.iter().filter(|it| spare(it) > 0).max_by_key(spare).copied() {
            Some(least) => places.retain(|it| *it != least),
            None => {
                squeeze(&mut block, width, NAME_MIN);
                return block;
            }
        }
    }
}

/// Shortens names, to no less than `least`, as far as a line needs it.
fn squeeze(block: &mut GridBlock, width: usize, least: usize) {
    for place in 0..block.kinds.len() {
        let (own, over) = (block.column_width(place), block.width().saturating_sub(width));
        if block.kinds[place] == ColumnKind::Name && over > 0 && own > least {
            let head = block.heads[place].width();
            block.shorten(place, own.saturating_sub(over).max(least).max(head));
        }
    }
}

/// All columns, as many beside each other as fit, with the first ones before each block.
fn blocks(grid: &Grid, first: usize, width: usize) -> Vec<GridBlock> {
    let grid = with_short_heads(grid, first, width);
    let leading: Vec<usize> = (0..first.min(grid.columns.len())).collect();
    let mut blocks = Vec::new();
    let mut own: Vec<usize> = Vec::new();
    let of = |own: &[usize]| {
        let places: Vec<usize> = leading.iter().chain(own).copied().collect();
        let mut block = GridBlock::of(&grid, &places);
        for place in 0..leading.len() {
            // A long first column leaves room for at least some figures.
            if block.kinds[place] != ColumnKind::Figure && block.column_width(place) > width / 3 {
                block.shorten(place, width / 3);
            }
        }
        block
    };
    for place in first..grid.columns.len() {
        own.push(place);
        if of(&own).width() > width && own.len() > 1 {
            own.pop();
            blocks.push(of(&own));
            own = vec![place];
        }
    }
    if !own.is_empty() || blocks.is_empty() {
        blocks.push(of(&own));
    }
    blocks
}

/// Heads of the columns after the first ones are shortened where they are what makes a line too long.
fn with_short_heads(grid: &Grid, first: usize, width: usize) -> Grid {
    let whole = grid.clone();
    let mut grid = grid.clone();
    let all: Vec<usize> = (0..grid.columns.len()).collect();
    let heads = |columns: &[GridColumn]| -> Vec<String> {
        columns[first.min(columns.len())..].iter().map(|it| it.head.clone()).collect()
    };
    let names = heads(&grid.columns);
    let longest = names.iter().map(|it| it.width()).max().unwrap_or(0);
    let shorten = |grid: &mut Grid, most: usize| {
        for (column, head) in grid.columns[first..].iter_mut().zip(shortened(&names, most)) {
            column.head = head;
        }
    };
    for most in (HEAD_MIN..=longest).rev() {
        shorten(&mut grid, most);
        if GridBlock::of(&grid, &all).width() <= width {
            return grid;
        }
    }
    // They go on below anyhow: then they may as well be read.
    grid = whole;
    shorten(&mut grid, HEAD_MAX);
    grid
}

/// Names no wider than `width`, with what is left out in the middle; no two that differ become equal.
pub(crate) fn shortened(names: &[String], width: usize) -> Vec<String> {
    let distinct: BTreeSet<&String> = names.iter().collect();
    // How much of the end is kept: more of it where names differ only there.
    let kept = (0..width).map(|more| (width / 2 + more) % width);
    for tail in kept {
        let short = |name: &String| shortened_to(name, width, tail);
        let taken: BTreeSet<String> = distinct.iter().map(|it| short(it)).collect();
        if taken.len() == distinct.len() {
            return names.iter().map(short).collect();
        }
    }
    // They differ in the middle alone: then they are numbered.
    let number = |name: &String| distinct.iter().position(|it| *it == name).unwrap_or(0) + 1;
    let short = |name: &String| {
        let end = format!("…{}", number(name));
        let head: String = cut(name.chars(), width.saturating_sub(end.width()));
        if name.width() <= width { name.clone() } else { head + &end }
    };
    names.iter().map(short).collect()
}

fn shortened_to(name: &str, width: usize, tail: usize) -> String {
    if name.width() <= width {
        return name.to_owned();
    }
    let tail: String = cut(name.chars().rev(), tail.min(width.saturating_sub(1)));
    let head: String = cut(name.chars(), width.saturating_sub(1 + tail.width()));
    head + "…" + &tail.chars().rev().collect::<String>()
}

/// The first characters that are no wider than so many columns.
fn cut(chars: impl Iterator<Item = char>, width: usize) -> String {
    let mut text = String::new();
    for next in chars {
        text.push(next);
        if text.width() > width {
            text.pop();
            break;
        }
    }
    text
}

/// The lines of a block. What a last column says in words goes on below where it is too long.
fn lines(block: &GridBlock, width: usize) -> Vec<String> {
    let left: Vec<usize> =
        (0..block.kinds.len()).filter(|&it| block.kinds[it] != ColumnKind::Figure).collect();
    let heads: Vec<&str> = block.heads.iter().map(String::as_str).collect();
    let last = block.heads.len().saturating_sub(1);
    let before: usize = (0..last).map(|it| block.column_width(it) + 2).sum();
    if block.kinds.last() != Some(&ColumnKind::Words) || before + HEAD_MIN * 2 > width {
        return layout(&heads, &block.rows, &left);
    }
    let mut rows = Vec::new();
    for row in &block.rows {
        let parts = wrap(&row[last], width - before);
        for (index, part) in parts.into_iter().enumerate() {
            let mut line = if index == 0 { row.clone() } else { vec![String::new(); row.len()] };
            line[last] = part;
            rows.push(line);
        }
    }
    layout(&heads, &rows, &left)
}

#[cfg(test)]
mod tests {
    use super::*;

    fn names(all: &[&str]) -> Vec<String> {
        all.iter().map(|it| (*it).to_owned()).collect()
    }

    #[test]
    fn names_are_shortened_in_the_middle_and_stay_apart() {
        let all = names(&["kittiwake-large-instruct-v1", "kittiwake-large-instruct-v2", "auk"]);
        assert_eq!(shortened(&all, 10), ["kitt…ct-v1", "kitt…ct-v2", "auk"]);
        let same_ends = names(&["aaaaaaaaXbbbbbbbb", "aaaaaaaaYbbbbbbbb"]);
        let found = shortened(&same_ends, 8);
        assert!(found[0] != found[1] && found.iter().all(|it| it.width() <= 8), "{found:?}");
        assert_eq!(shortened(&names(&["same-long-name"; 2]), 7), ["sam…ame"; 2]);
        // Wide characters are as wide as they are.
        assert!(shortened(&names(&["潮位潮位潮位"]), 7)[0].width() <= 7);
    }

    fn grid(overflow: Overflow, columns: usize) -> Grid {
        let column = |it: usize| GridColumn {
            key: format!("c{it}"),
            head: format!("column-{it}"),
            kind: if it == 0 { ColumnKind::Name } else { ColumnKind::Figure },
            spare: it as u8,
        };
        let cell = |it: usize| GridCell {
            shown: if it == 0 { "a-rather-long-name-of-a-bird".into() } else { "12.5 %".into() },
            raw: String::new(),
        };
        Grid {
            title: String::new(),
            columns: (0..columns).map(column).collect(),
            rows: vec![(0..columns).map(cell).collect()],
            overflow,
        }
    }

    #[test]
    fn a_grid_fits_the_line_by_leaving_out_or_by_going_on_below() {
        for width in [60, 80, 100] {
            for overflow in [Overflow::Drop, Overflow::Blocks(1)] {
                let mut out = Vec::new();
                let style = Style { width, colour: false };
                write_grid(&mut out, &grid(overflow, 9), style).unwrap();
                let text = String::from_utf8(out).unwrap();
                assert!(text.lines().all(|it| it.width() <= width), "{text}");
                let has = |column: &str| text.contains(&format!("n-{column}"));
                assert!(has("1") && (overflow == Overflow::Drop || has("8")), "{text}");
            }
        }
    }
}
