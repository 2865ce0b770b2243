//! What an answer must give.

use std::sync::LazyLock;

use crate::language::{Languages, Syntax};
use crate::tree::{FileTree, RelPath};

/// What an answer must give, and what its reader may know. What is sealed is no part of it.
#[derive(Debug, Clone, Copy)]
pub struct Wanted<'a> {
    /// The file.
    pub file: &'a RelPath,
    /// Its language.
    pub language: &'a str,
    /// What the file is.
    pub kind: &'a WantedKind,
    /// All languages, to recognise wrong ones.
    pub languages: &'a Languages,
    /// The files that candidates were given, to recognise quotations of them and to apply patches to.
    pub given: &'a FileTree,
    /// Packages that answers may use besides what comes with the language.
    pub packages: &'a [String],
}

/// What a file is that an answer must give.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum WantedKind {
    /// It defines this; `Class.method` asks for the class.
    Definition(String),
    /// It is run.
    Program,
    /// It is loaded by others, which know its names.
    Module,
}

impl<'a> Wanted<'a> {
    /// How code in the wanted language looks.
    pub(super) fn syntax(&self) -> &'a Syntax {
        static UNKNOWN: LazyLock<Syntax> = LazyLock::new(Syntax::default);
        self.languages.find(self.language).map_or(&UNKNOWN, |it| &it.syntax)
    }

    /// The name that must be defined at the top level.
    pub(super) fn name(&self) -> Option<&'a str> {
        match self.kind {
            WantedKind::Definition(name) => name.split('.').next(),
            WantedKind::Program | WantedKind::Module => None,
        }
    }

    /// The text of the file as it was given, where it was.
    pub(super) fn given_text(&self) -> Option<&'a str> {
        self.given.get(self.file).and_then(|bytes| std::str::from_utf8(bytes).ok())
    }

    /// Whether code in the wanted language is easily tagged as `other`.
    pub(super) fn is_kin(&self, other: &str) -> bool {
        self.syntax().kin.iter().any(|it| it == other)
    }
}
