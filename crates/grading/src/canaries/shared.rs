//! What tests of one file could change for each other.

use super::literal::changed_literal;
use super::style::CopyManner;
use crate::test_rng::TestRng;

/// What tests of a file have in common and could change.
pub struct SharedNames<'a> {
    /// Names bound at the top of the file or of a class to what is no fixed value.
    bound: Vec<&'a str>,
    /// Names taken from other files, which may be objects.
    taken: Vec<&'a str>,
}

impl<'a> SharedNames<'a> {
    /// What the tests in these lines have in common.
    pub fn of(style: CopyManner, lines: &[&'a str]) -> Self {
        let (mut shared, mut in_class) = (Self { bound: Vec::new(), taken: Vec::new() }, false);
        for line in lines {
            let depth = line.len() - line.trim_start().len();
            if depth == 0 && !line.trim().is_empty() {
                in_class = line.starts_with("class ");
            }
            if depth == 0 || (in_class && depth <= 4 && style != CopyManner::Node) {
                shared.bound.extend(bound_name(style, line.trim()));
                shared.taken.extend(taken_names(style, line.trim()));
            }
        }
        shared
    }

    /// Whether a test uses any of it. Of what was taken from other files, functions and classes may
    /// be called: only what is used by its parts can have a state.
    pub fn is_used_in(&self, text: &str) -> bool {
        let by_part = |name: &&str| {
            let mut places = text.match_indices(name);
            places.any(|(at, _)| text[at + name.len()..].starts_with('.'))
        };
        self.bound.iter().any(|name| mentions(text, name)) || self.taken.iter().any(by_part)
    }
}

/// The name that a line binds to what tests could change.
fn bound_name(style: CopyManner, line: &str) -> Option<&str> {
    let bound = match style {
        CopyManner::Node => {
            ["const ", "let ", "var "].iter().find_map(|it| line.strip_prefix(it))?
        }
        _ => line,
    };
    let (name, value) = bound.split_once('=')?;
    let name = name.split(':').next()?.trim();
    let is_name = !name.is_empty()
        && name.chars().all(|it| it.is_alphanumeric() || it == '_')
        && !value.starts_with('=');
    let value = value.trim().trim_end_matches(';');
    let is_fixed = value.starts_with("require(")
        || value.contains("=>")
        || (!value.starts_with('[') && changed_literal(value, &mut TestRng::new(0)).is_some());
    (is_name && !is_fixed).then_some(name)
}

/// The names that a line takes from another file.
fn taken_names(style: CopyManner, line: &str) -> Vec<&str> {
    let list = match style {
        CopyManner::Node => {
            let inside = line.split_once('{').and_then(|it| it.1.split_once('}'));
            inside.filter(|it| it.1.contains("require(") || it.1.contains(" from ")).map(|it| it.0)
        }
        _ => line.strip_prefix("from ").and_then(|it| it.split_once(" import ")).map(|it| it.1),
    };
    let name = |part: &'_ str| part.rsplit([' ', ':']).next().unwrap_or("").len();
    list.unwrap_or("")
        .split(',')
        .map(str::trim)
        .map(|part| &part[part.len() - name(part)..])
        .filter(|it| !it.is_empty())
        .collect()
}

/// Whether a text has a name as a word.
fn mentions(text: &str, name: &str) -> bool {
    let is_word = |it: char| it.is_alphanumeric() || it == '_';
    text.match_indices(name).any(|(at, _)| {
        let before = text[..at].chars().next_back();
        let after = text[at + name.len()..].chars().next();
        !before.is_some_and(is_word) && !after.is_some_and(is_word)
    })
}
/// Whether something of Python's stands under a decorator, which may go on over several lines.
pub fn is_decorated(lines: &[&str], at: usize) -> bool {
    let depth = |line: &str| line.len() - line.trim_start().len();
    let own = lines.get(at).map_or(0, |line| depth(line));
    for line in lines[..at.min(lines.len())].iter().rev() {
        let text = line.trim();
        if text.starts_with('@') && depth(line) == own {
            return true;
        }
        let goes_on = depth(line) > own || text.starts_with([')', ']', '}']);
        if text.is_empty() || !goes_on {
            return false;
        }
    }
    false
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn decorators_go_on_over_several_lines() {
        let text = "@mark('value', [\n    1,\n    2,\n])\ndef test_a(value):\n    pass\n\n\n@one\n@two\ndef test_b():\n    pass\nX = [\n    1,\n]\ndef test_c():\n    pass\n";
        let lines: Vec<&str> = text.split_inclusive('\n').collect();
        let decorated: Vec<bool> = (0..lines.len())
            .filter(|&at| lines[at].starts_with("def "))
            .map(|at| is_decorated(&lines, at))
            .collect();
        assert_eq!(decorated, [true, true, false]);
    }
}
