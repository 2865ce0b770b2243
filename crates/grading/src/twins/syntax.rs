//! How tests are written in a language, as far as twins of them are made.

use std::ops::Range;

use fairtrial_core::tree::{FileTree, RelPath};
use tree_sitter::{Language, Node, Tree};

use super::edit::Edit;
use super::literal::Literal;
use crate::test_rng::TestRng;

/// A language's way of writing tests. In the texts of edits `{site}` is the number of an assertion, `{id}` a name
/// that nothing else has, and `{mark}` what begins a note.
pub struct TestSyntax {
    /// The word in language definitions.
    pub name: &'static str,
    pub grammar: fn() -> Language,
    /// Takes a file apart.
    pub take_apart: fn(&TestSource<'_>) -> TestFileParts,
    /// The file that must stand beside one that holds tests.
    pub beside: Option<MakesBeside>,
    /// A name for a test, in one manner for all; the number is its place among the names of its file.
    pub fresh_name: fn(&mut TestRng, usize) -> String,
    /// Whether the failure of a test shows in all that was reported under its name, and what is below it.
    pub fails_below: bool,
}

/// Makes the file that must stand beside one of these.
type MakesBeside = fn(&FileTree, &RelPath) -> Option<(RelPath, String)>;

/// A file of tests, parsed.
pub struct TestSource<'a> {
    pub text: &'a str,
    pub tree: &'a Tree,
    /// The other files of the suite.
    pub others: Vec<(&'a str, &'a Tree)>,
}

impl<'a> TestSource<'a> {
    /// A file that is all there is.
    pub fn alone(text: &'a str, tree: &'a Tree) -> Self {
        Self { text, tree, others: Vec::new() }
    }

    /// Every file of the suite, each alone: this one first.
    pub fn everywhere(&self) -> impl Iterator<Item = TestSource<'a>> {
        let own = [(self.text, self.tree)];
        own.into_iter().chain(self.others.clone()).map(|it| TestSource::alone(it.0, it.1))
    }

    pub fn of(&self, node: Node<'_>) -> &'a str {
        &self.text[node.byte_range()]
    }

    /// Every node below one, itself first, in the order of the text.
    pub fn all<'t>(&self, top: Node<'t>) -> Vec<Node<'t>> {
        let (mut found, mut open) = (Vec::new(), vec![top]);
        while let Some(node) = open.pop() {
            found.push(node);
            let mut children = children(node);
            children.reverse();
            open.extend(children);
        }
        found
    }

    /// Whether nothing but white space stands before a place on its line.
    pub fn begins_line(&self, at: usize) -> bool {
        let line = self.text[..at].rsplit('\n').next().unwrap_or_default();
        line.chars().all(char::is_whitespace)
    }

    /// Whether another file of the suite has this word.
    pub fn is_elsewhere(&self, word: &str) -> bool {
        self.others.iter().any(|it| words(it.0).any(|it| it == word))
    }

    /// How often a word stands in the text.
    pub fn mentions(&self, word: &str) -> usize {
        words(self.text).filter(|it| *it == word).count()
    }
}

/// The words of a text: runs of letters, digits and `_`.
pub fn words(text: &str) -> impl Iterator<Item = &str> {
    text.split(|it: char| !(it.is_alphanumeric() || it == '_')).filter(|it| !it.is_empty())
}

/// The nodes directly below one.
pub fn children(node: Node<'_>) -> Vec<Node<'_>> {
    let mut cursor = node.walk();
    node.children(&mut cursor).collect()
}

/// What a file of tests is made of.
#[derive(Debug, Default)]
pub struct TestFileParts {
    pub tests: Vec<TestItem>,
    pub sites: Vec<Site>,
    /// What is put in once.
    pub head: Vec<Edit>,
    /// Whether tests may have other names: nothing in the file looks at them.
    pub may_rename: bool,
}

impl TestFileParts {
    /// Finds the test that each assertion stands in. Those that stand in none, or in others, or whose test would not
    /// fail with them, are left as they are.
    pub fn attribute(&mut self, fails_by_itself: bool) {
        let mut sites = outermost(std::mem::take(&mut self.sites));
        for site in &mut sites {
            let inside = |it: &TestItem| {
                let slot = it.slot.as_ref();
                slot.is_some_and(|it| it.start <= site.at.start && site.at.end <= it.end)
            };
            // Where tests stand in tests, the outer one fails with the inner one.
            site.test = self.tests.iter().position(inside);
        }
        let can_fail = |it: &Site| {
            it.test.is_some_and(|it| fails_by_itself || !self.tests[it].begins.is_empty())
        };
        sites.retain(can_fail);
        self.sites = sites;
    }
}

/// A test.
#[derive(Debug)]
pub struct TestItem {
    pub name: String,
    /// How its name must begin.
    pub prefix: &'static str,
    pub name_at: Range<usize>,
    /// What can change places with other tests, where their order in the file is the order of their runs.
    pub slot: Option<Range<usize>>,
    /// What makes it fail at its end when one of its assertions did.
    pub begins: Vec<Edit>,
    /// What makes it fail as a whole.
    pub fails: Vec<Edit>,
}

/// An assertion, which stands in a test: others are left as they are.
#[derive(Debug)]
pub struct Site {
    pub at: Range<usize>,
    /// Counted from 1.
    pub line: usize,
    /// The test that it stands in, by its place among those of the file.
    pub test: Option<usize>,
    /// Whether a test that passes must have come by it.
    pub is_certain: bool,
    /// Notes what it comes to.
    pub noted: Vec<Edit>,
    /// Notes what another assertion comes to that fails where this one holds.
    pub swapped: Option<Vec<Edit>>,
    /// The literals of what is expected.
    pub literals: Vec<Literal>,
    /// Whether they stand in what makes a value, so that a near one may make the same.
    pub is_made: bool,
}

/// Lower-case letters that nobody can know before.
pub fn random_word(rng: &mut TestRng, length: usize) -> String {
    (0..length).map(|_| char::from(b'a' + rng.below(26) as u8)).collect()
}

/// Leaves out assertions that stand inside of others.
fn outermost(mut sites: Vec<Site>) -> Vec<Site> {
    sites.sort_by_key(|it| (it.at.start, std::cmp::Reverse(it.at.end)));
    let mut end = 0;
    sites.retain(|it| {
        let is_outer = it.at.start >= end;
        end = end.max(it.at.end);
        is_outer
    });
    sites
}
