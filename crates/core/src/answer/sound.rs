//! Does code parse? The reader asks; something that may run tools answers.

use std::cell::{Cell, RefCell};
use std::collections::HashMap;

use super::{Wanted, scan};
use crate::digest::Digest;
use crate::language::Syntax;
use crate::tree::{FileTree, RelPath};

/// Finds out whether code parses, or builds where its language has nothing that only parses.
pub trait SoundCheck {
    /// Whether the answer's file does, with the others of `files` beside it. `None` when it cannot be
    /// found out; such code is left as it stands.
    fn is_sound(&self, files: &FileTree) -> Option<bool>;
}

/// Finds out nothing: everything is left as it stands.
#[derive(Debug, Clone, Copy)]
pub struct Unchecked;

impl SoundCheck for Unchecked {
    fn is_sound(&self, _files: &FileTree) -> Option<bool> {
        None
    }
}

/// The sound checks of one reading: each text is checked once, and an answer cannot have any number of
/// them made.
pub struct SoundChecks<'a> {
    check: &'a dyn SoundCheck,
    file: &'a RelPath,
    syntax: &'a Syntax,
    known: RefCell<HashMap<Digest, Option<bool>>>,
    left: Cell<usize>,
    bytes_left: Cell<usize>,
}

/// Checks that are made for one answer, and bytes that are checked.
const CHECKS_MAX: usize = 40;
const BYTES_MAX: usize = 4 << 20;

impl<'a> SoundChecks<'a> {
    /// Checks of what is wanted.
    pub fn new(check: &'a dyn SoundCheck, wanted: Wanted<'a>) -> Self {
        Self {
            check,
            file: wanted.file,
            syntax: wanted.syntax(),
            known: RefCell::default(),
            left: Cell::new(CHECKS_MAX),
            bytes_left: Cell::new(BYTES_MAX),
        }
    }

    /// Whether `code` parses by itself.
    pub fn of(&self, code: &str) -> Option<bool> {
        let key = Digest::of(code.as_bytes());
        if let Some(&known) = self.known.borrow().get(&key) {
            return known;
        }
        let files = FileTree::from([(self.file.clone(), code.as_bytes().to_vec())]);
        let found = match self.of_files(&files, code.len()) {
            // Shells take the end of a file for the end of a here-document.
            Some(true) if scan::ends_in_here_document(code, self.syntax) => Some(false),
            found => found,
        };
        self.known.borrow_mut().insert(key, found);
        found
    }

    fn of_files(&self, files: &FileTree, bytes: usize) -> Option<bool> {
        if self.left.get() == 0 || self.bytes_left.get() < bytes {
            return None;
        }
        self.left.set(self.left.get() - 1);
        self.bytes_left.set(self.bytes_left.get() - bytes);
        self.check.is_sound(files)
    }
}
