//! The colour of a test by its name.

use fairtrial_core::testrun::{ReportedTest, Status, is_meant};

/// What came of the tests that a name means.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Colour {
    /// All of them passed.
    Green,
    /// One failed.
    Red,
    /// One was skipped, and none failed.
    Skipped,
    /// There was none.
    Missing,
}

impl Colour {
    /// What it did, in words.
    pub const fn word(self) -> &'static str {
        match self {
            Self::Green => "passes",
            Self::Red => "fails",
            Self::Skipped => "is skipped",
            Self::Missing => "is not reported",
        }
    }
}

/// What came of the tests that a name means: the one that is called so, or all that have more before it.
pub fn colour_of(name: &str, tests: &[ReportedTest]) -> Colour {
    let worst = meant(name, tests).map(|it| match it.status {
        Status::Passed => 0,
        Status::Skipped => 1,
        Status::Failed => 2,
    });
    match worst.max() {
        None => Colour::Missing,
        Some(0) => Colour::Green,
        Some(1) => Colour::Skipped,
        Some(_) => Colour::Red,
    }
}

/// The tests that a name means.
pub fn meant<'a>(
    name: &'a str,
    tests: &'a [ReportedTest],
) -> impl Iterator<Item = &'a ReportedTest> {
    let is_whole = tests.iter().any(|it| it.name == name);
    tests.iter().filter(move |it| if is_whole { it.name == name } else { is_meant(&it.name, name) })
}
