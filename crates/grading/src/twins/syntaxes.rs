//! The languages whose tests are known.

use super::syntax::TestSyntax;
use super::{go, java, javascript, python, rust};

/// How tests are written in the language that a definition calls so.
pub fn test_syntax(name: &str) -> Option<&'static TestSyntax> {
    let all = [&rust::SYNTAX, &go::SYNTAX, &java::SYNTAX, &python::SYNTAX, &javascript::SYNTAX];
    all.into_iter().find(|it| it.name == name)
}
