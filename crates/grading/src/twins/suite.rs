//! A sealed suite: taken apart once, and written anew for each run.

use std::collections::{BTreeMap, BTreeSet};

use fairtrial_core::tree::{FileTree, RelPath};
use tree_sitter::Parser;

use super::edit::{Edit, edited, reordered};
use super::literal::{Distance, Literal, changed};
use super::syntax::{Site, TestFileParts, TestItem, TestSource, TestSyntax, random_word, words};
use super::syntaxes::test_syntax;
use crate::test_rng::TestRng;

/// Sealed tests, taken apart.
pub struct Suite {
    pub(super) syntax: &'static TestSyntax,
    files: Vec<TestFile>,
    rest: FileTree,
}

struct TestFile {
    path: RelPath,
    text: String,
    parts: TestFileParts,
}

/// How many guesses an answer would have to make at least, each of them right.
const BITS: usize = 8;

/// How much is changed.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Level {
    /// What is expected, and assertions.
    Full,
    /// Assertions only, for others of the same operands.
    Swaps,
    /// Nothing but names and order.
    Named,
    /// What is expected, and by anything that its type takes where a near value may make the same.
    Far,
}

/// What is changed in a run.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Choice {
    pub level: Level,
    /// Assertions, by their numbers.
    pub changed: BTreeSet<usize>,
    /// Tests that fail as a whole, by file and place.
    pub failing: BTreeSet<(usize, usize)>,
}

/// A suite as it is written for one run.
#[derive(Debug)]
pub struct Written {
    pub files: FileTree,
    /// Files that hold tests, and what they need beside them.
    pub code: Vec<RelPath>,
    pub choice: Choice,
    pub mark: String,
    /// The new name of every test, by file and place.
    pub(super) fresh: BTreeMap<(usize, usize), String>,
    /// The name that each new one stands for.
    names: BTreeMap<String, String>,
}

impl Written {
    /// A name as the sealed list has it. `None` for one that no test has in this run.
    pub fn original(&self, reported: &str) -> Option<String> {
        let known: Vec<_> = words(reported).filter_map(|it| self.names.get_key_value(it)).collect();
        if !known.is_empty() {
            let name = known
                .iter()
                .fold(reported.to_owned(), |name, (new, old)| name.replace(new.as_str(), old));
            return Some(name);
        }
        let is_old = |old: &String| {
            let own = reported.strip_suffix("()").unwrap_or(reported);
            let before = own.strip_suffix(old.as_str());
            before.is_some_and(|it| !it.ends_with(|it: char| it.is_alphanumeric() || it == '_'))
        };
        let is_old = self.names.iter().any(|(new, old)| new != old && is_old(old));
        (!is_old).then(|| reported.to_owned())
    }
}

impl Suite {
    /// Takes the sealed files apart of which `has_tests` says so. `None` where nobody knows how.
    pub fn take_apart(
        syntax: &str,
        files: &FileTree,
        has_tests: impl Fn(&RelPath, &[u8]) -> bool,
    ) -> Option<Self> {
        let syntax = test_syntax(syntax)?;
        let mut parser = Parser::new();
        parser.set_language(&(syntax.grammar)()).ok()?;
        let mut suite = Self { syntax, files: Vec::new(), rest: FileTree::new() };
        let mut parsed = Vec::new();
        for (path, bytes) in files {
            let text = std::str::from_utf8(bytes).ok().filter(|_| has_tests(path, bytes));
            match text.and_then(|it| Some((it, parser.parse(it, None)?))) {
                Some((text, tree)) => parsed.push((path, text, tree)),
                None => drop(suite.rest.insert(path.clone(), bytes.clone())),
            }
        }
        for (path, text, tree) in &parsed {
            let others = parsed.iter().filter(|it| it.0 != *path).map(|it| (it.1, &it.2)).collect();
            let parts = (syntax.take_apart)(&TestSource { text, tree, others });
            suite.files.push(TestFile { path: (*path).clone(), text: (*text).to_owned(), parts });
        }
        Some(suite)
    }

    /// The suite with its own names, in its own order.
    pub fn with_own_names(mut self) -> Self {
        self.files.iter_mut().for_each(|it| it.parts.may_rename = false);
        self
    }

    /// Every assertion, with its number and the file that it stands in.
    pub(super) fn sites(&self) -> impl Iterator<Item = (usize, usize, &Site)> {
        let of_file = |(file, it): (usize, &'_ TestFile)| (file, it.parts.sites.len());
        let firsts = self.files.iter().enumerate().map(of_file).scan(0, |first, (file, count)| {
            let own = *first;
            *first += count;
            Some((file, own))
        });
        firsts.flat_map(|(file, first)| {
            let sites = self.files[file].parts.sites.iter().enumerate();
            sites.map(move |(index, site)| (first + index, file, site))
        })
    }

    /// The number of a site with the test that it stands in.
    pub(super) fn test_of(&self, number: usize) -> Option<(usize, usize)> {
        let (_, file, site) = self.sites().find(|it| it.0 == number)?;
        Some((file, site.test?))
    }

    /// The name of the test that an assertion stands in.
    pub fn test_name(&self, number: usize) -> Option<&str> {
        let (file, test) = self.test_of(number)?;
        Some(&self.files[file].parts.tests[test].name)
    }

    /// Whether what an assertion expects is made of its literals, so that others may make the same.
    pub fn is_made(&self, number: usize) -> bool {
        self.sites().find(|it| it.0 == number).is_some_and(|it| it.2.is_made)
    }

    /// Where an assertion stands, for people.
    pub fn place(&self, number: usize) -> String {
        match self.sites().find(|it| it.0 == number) {
            Some((_, file, site)) => format!("{}:{}", self.files[file].path, site.line),
            None => "somewhere".to_owned(),
        }
    }

    /// The assertions that can be changed.
    pub fn changeable(&self, level: Level) -> BTreeSet<usize> {
        let can = |(_, file, site): &(usize, usize, &Site)| {
            let test = site.test.map(|it| &self.files[*file].parts.tests[it]);
            if !test.is_some_and(|it| self.is_known(*file, it)) {
                return false;
            }
            let literals = level != Level::Swaps && self.has_literals(*file, site);
            level != Level::Named && (site.swapped.is_some() || literals)
        };
        self.sites().filter(can).map(|it| it.0).collect()
    }

    fn has_literals(&self, file: usize, site: &Site) -> bool {
        let text = &self.files[file].text;
        let mut rng = TestRng::new(0);
        let can = |it: &Literal, rng: &mut TestRng| {
            changed(it.kind, Distance::Near, &text[it.at.clone()], rng).is_some()
        };
        site.literals.iter().any(|it| can(it, &mut rng))
    }

    /// Of these names, those of tests that are run as they stand each time.
    pub fn without_twins(&self, names: &[String]) -> Vec<String> {
        let mut tests: BTreeSet<_> = self.silent(Level::Full).into_iter().collect();
        tests.extend(self.changeable(Level::Full).iter().filter_map(|it| self.test_of(*it)));
        let known: Vec<&str> =
            tests.iter().map(|it| self.files[it.0].parts.tests[it.1].name.as_str()).collect();
        let is_one = |name: &str, own: &str| {
            if words(own).eq([own]) { words(name).any(|it| it == own) } else { name.contains(own) }
        };
        let has_none = |name: &&String| !known.iter().any(|it| is_one(name, it));
        names.iter().filter(has_none).cloned().collect()
    }

    /// Tests of which only the runner says whether they passed: no assertion of theirs that can be changed is
    /// sure to be come by.
    fn silent(&self, level: Level) -> Vec<(usize, usize)> {
        let changeable = self.changeable(level);
        let certain: BTreeSet<(usize, usize)> = self
            .sites()
            .filter(|it| it.2.is_certain && changeable.contains(&it.0))
            .filter_map(|it| Some((it.1, it.2.test?)))
            .collect();
        let all = self.files.iter().enumerate().flat_map(|(file, it)| {
            let tests = it.parts.tests.iter().enumerate();
            let can_fail =
                move |test: &TestItem| !test.fails.is_empty() && self.is_known(file, test);
            tests.filter(move |it| can_fail(it.1)).map(move |it| (file, it.0))
        });
        all.filter(|it| !certain.contains(it)).collect()
    }

    /// Whether a report of a test is known to be of it.
    fn is_known(&self, file: usize, test: &TestItem) -> bool {
        let renames = self.files[file].parts.may_rename && !test.name_at.is_empty();
        renames || self.is_alone(&test.name)
    }

    /// Whether a name is a word that no other test has, so that a report of it is known to be of its test.
    fn is_alone(&self, name: &str) -> bool {
        let all = self.files.iter().flat_map(|it| &it.parts.tests);
        words(name).eq([name]) && all.filter(|it| it.name == name).count() == 1
    }

    /// Two choices, of which one changes what the other does not: each test is as it was in one of them.
    pub fn halves(&self, level: Level, rng: &mut TestRng) -> [Choice; 2] {
        let changeable = self.changeable(level);
        let silent = if level == Level::Named { Vec::new() } else { self.silent(level) };
        let mut tests: BTreeSet<(usize, usize)> = silent.iter().copied().collect();
        tests.extend(changeable.iter().filter_map(|it| self.test_of(*it)));
        let halves = split(tests.into_iter().collect(), rng);
        halves.map(|tests| Choice {
            level,
            changed: changeable
                .iter()
                .copied()
                .filter(|it| self.test_of(*it).is_some_and(|it| tests.contains(&it)))
                .collect(),
            failing: tests.into_iter().filter(|it| silent.contains(it)).collect(),
        })
    }

    /// How many pairs of halves are run: more for a small suite, so that who guesses what was changed is right in
    /// at most one of `2^BITS` times.
    pub fn pairs(&self, level: Level) -> usize {
        let mut tests: BTreeSet<(usize, usize)> = self.silent(level).into_iter().collect();
        tests.extend(self.changeable(level).iter().filter_map(|it| self.test_of(*it)));
        if tests.is_empty() { 1 } else { BITS.div_ceil(2 * tests.len()) }
    }

    /// Writes it for one run.
    pub fn write(&self, choice: &Choice, rng: &mut TestRng) -> Written {
        let id = random_word(rng, 12);
        let mark = format!("{}-", rng.mark());
        let mut written = Written {
            files: self.rest.clone(),
            code: Vec::new(),
            choice: choice.clone(),
            mark: mark.clone(),
            fresh: BTreeMap::new(),
            names: BTreeMap::new(),
        };
        let mut sites = self.sites().peekable();
        for (at, file) in self.files.iter().enumerate() {
            let mut edits: Vec<Edit> = file.parts.head.clone();
            for test in &file.parts.tests {
                edits.extend(test.begins.iter().cloned());
            }
            let mut ranks: Vec<&str> = file.parts.tests.iter().map(|it| it.name.as_str()).collect();
            ranks.sort_unstable();
            for (index, test) in file.parts.tests.iter().enumerate() {
                let fresh = if file.parts.may_rename && !test.name_at.is_empty() {
                    let rank = ranks.partition_point(|it| *it < test.name.as_str());
                    let fresh = format!("{}{}", test.prefix, (self.syntax.fresh_name)(rng, rank));
                    edits.push(Edit::new(test.name_at.clone(), fresh.clone()));
                    fresh
                } else {
                    test.name.clone()
                };
                written.fresh.insert((at, index), fresh.clone());
                written.names.insert(fresh, test.name.clone());
            }
            while let Some((number, _, site)) = sites.next_if(|it| it.1 == at) {
                let is_changed = choice.changed.contains(&number);
                let name = site.test.and_then(|it| written.fresh.get(&(at, it)));
                for edit in self.site_edits(file, site, is_changed.then_some(choice.level), rng) {
                    let text = edit.text.replace("{site}", &number.to_string());
                    let text = text.replace("{name}", name.map_or("", String::as_str));
                    edits.push(Edit { text, ..edit });
                }
            }
            let failing = |it: &(usize, &TestItem)| choice.failing.contains(&(at, it.0));
            let fails = file.parts.tests.iter().enumerate().filter(failing);
            edits.extend(fails.flat_map(|it| it.1.fails.iter().cloned()));
            for edit in &mut edits {
                edit.text = edit.text.replace("{id}", &id).replace("{mark}", &mark);
            }
            let text = write_file(file, &edits, rng);
            written.files.insert(file.path.clone(), text.into_bytes());
            written.code.push(file.path.clone());
        }
        drop(sites);
        for path in written.code.clone() {
            let made = self.syntax.beside.and_then(|make| make(&written.files, &path));
            if let Some((beside, text)) = made {
                let fill = |it: &str| it.replace("{id}", &id).replace("{mark}", &mark);
                if let Ok(beside) = RelPath::parse(&fill(beside.as_str())) {
                    written.files.insert(beside.clone(), fill(&text).into_bytes());
                    written.code.push(beside);
                }
            }
        }
        written.code.sort();
        written.code.dedup();
        written
    }

    fn site_edits(
        &self,
        file: &TestFile,
        site: &Site,
        level: Option<Level>,
        rng: &mut TestRng,
    ) -> Vec<Edit> {
        let Some(level) = level else { return site.noted.clone() };
        // An expectation that is changed says more than an assertion.
        let by_literal = matches!(level, Level::Full | Level::Far);
        let is_far = level == Level::Far && site.is_made;
        let distance = if is_far { Distance::Any } else { Distance::Near };
        let literal = |it: &Literal, rng: &mut TestRng| {
            let text = changed(it.kind, distance, &file.text[it.at.clone()], rng)?;
            Some(Edit::new(it.at.clone(), text))
        };
        let mut edits: Vec<Edit> = if by_literal {
            site.literals.iter().filter_map(|it| literal(it, rng)).collect()
        } else {
            Vec::new()
        };
        match &site.swapped {
            Some(swapped) if edits.is_empty() => swapped.clone(),
            _ => {
                edits.extend(site.noted.iter().cloned());
                edits
            }
        }
    }
}

/// A file with its edits, and tests in another order where they are run in that of the file.
fn write_file(file: &TestFile, edits: &[Edit], rng: &mut TestRng) -> String {
    let slots: Vec<_> = file.parts.tests.iter().filter_map(|it| it.slot.clone()).collect();
    if slots.len() < 2 || !file.parts.may_rename {
        return edited(&file.text, 0..file.text.len(), edits);
    }
    let mut order: Vec<usize> = (0..slots.len()).collect();
    shuffle(&mut order, rng);
    reordered(&file.text, edits, &slots, &order)
}

/// Two halves; of an odd number either may have one more.
fn split<T: Clone>(mut all: Vec<T>, rng: &mut TestRng) -> [Vec<T>; 2] {
    shuffle(&mut all, rng);
    let half = (all.len() + rng.below(2)) / 2;
    let rest = all.split_off(half);
    [all, rest]
}

fn shuffle<T>(all: &mut [T], rng: &mut TestRng) {
    for at in (1..all.len()).rev() {
        all.swap(at, rng.below(at + 1));
    }
}
