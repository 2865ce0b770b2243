//! Changes to a text, by byte range.

use std::ops::Range;

/// What stands in place of a range.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Edit {
    /// In bytes; empty to put something in.
    pub at: Range<usize>,
    pub text: String,
}

impl Edit {
    pub fn new(at: Range<usize>, text: impl Into<String>) -> Self {
        Self { at, text: text.into() }
    }

    /// Something put in before a place.
    pub fn before(at: usize, text: impl Into<String>) -> Self {
        Self::new(at..at, text)
    }
}

/// A part of a text with its edits made. Of two that overlap the later one is left out; of two at one place the
/// first given comes first.
pub fn edited(text: &str, part: Range<usize>, edits: &[Edit]) -> String {
    // What is put in between two parts belongs to the second.
    let is_last = part.end == text.len();
    let inside = |it: &&Edit| {
        it.at.start >= part.start && it.at.end <= part.end && (it.at.start < part.end || is_last)
    };
    let mut sorted: Vec<&Edit> = edits.iter().filter(inside).collect();
    sorted.sort_by_key(|it| (it.at.start, it.at.end));
    let (mut out, mut done) = (String::new(), part.start);
    for edit in sorted {
        if edit.at.start < done {
            continue;
        }
        out.push_str(&text[done..edit.at.start]);
        out.push_str(&edit.text);
        done = edit.at.end;
    }
    out.push_str(&text[done..part.end]);
    out
}

/// A text with its edits made, and the parts at `slots` in another order: what stood at `slots[order[i]]`
/// stands at `slots[i]`. Slots are in order and do not overlap.
pub fn reordered(text: &str, edits: &[Edit], slots: &[Range<usize>], order: &[usize]) -> String {
    let (mut out, mut done) = (String::new(), 0);
    for (slot, &from) in slots.iter().zip(order) {
        out.push_str(&edited(text, done..slot.start, edits));
        out.push_str(&edited(text, slots[from].clone(), edits));
        done = slot.end;
    }
    out.push_str(&edited(text, done..text.len(), edits));
    out
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn edits_are_made_where_parts_stand_in_another_order() {
        let edits = [Edit::before(0, "<"), Edit::new(4..5, "B"), Edit::before(8, ">")];
        let slots = [0..2, 3..6];
        assert_eq!(reordered("aa bbb c", &edits, &slots, &[1, 0]), "bBb <aa c>");
    }
}
