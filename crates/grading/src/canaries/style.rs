//! Tests of our own making, written as a language writes them.

use fairtrial_core::language::CanaryStyle;

use crate::test_rng::TestRng;

/// Words of which names are made where the sealed tests give too few.
const WORDS: &[&str] = &["keeps", "order", "first", "last", "value", "range", "edge", "total"];

/// How sealed tests are taken apart, so that one can be copied and changed.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum CopyManner {
    Python,
    PythonClass,
    Node,
    Rust,
    /// None is copied.
    Other,
}

impl CopyManner {
    pub fn of(style: &CanaryStyle) -> Self {
        match style.copies.as_str() {
            "python" => Self::Python,
            "python-class" => Self::PythonClass,
            "node" => Self::Node,
            "rust" => Self::Rust,
            _ => Self::Other,
        }
    }
}

/// A name in the manner of those that are there.
pub fn name(style: &CanaryStyle, text: &str, rng: &mut TestRng) -> String {
    let mut words: Vec<String> = text
        .split(|c: char| !c.is_ascii_alphabetic())
        .filter(|word| {
            (3..12).contains(&word.len()) && word.chars().all(|c| c.is_ascii_lowercase())
        })
        .filter(|word| {
            !["def", "test", "assert", "self", "import", "from", "return"].contains(word)
        })
        .map(str::to_owned)
        .collect();
    words.extend(WORDS.iter().map(|&it| it.to_owned()));
    let pick = |rng: &mut TestRng| words[rng.below(words.len())].clone();
    let parts = [pick(rng), pick(rng), pick(rng)];
    let number = rng.below(90) + 10;
    style
        .name
        .replace("{snake}", &parts.join("_"))
        .replace("{spaced}", &parts.join(" "))
        .replace("{pascal}", &parts.iter().map(|it| capital(it)).collect::<String>())
        .replace("{number}", &number.to_string())
}

/// Lines that fail, one for each way of asserting that the file uses. A way that can be patched is so
/// seen to be whole.
pub fn failing_lines(style: &CanaryStyle, text: &str, rng: &mut TestRng) -> Vec<String> {
    let (a, b) = (rng.below(900) + 100, rng.below(90) + 10);
    let (sum, more) = (a + b, a + b + 1 + rng.below(8));
    let known = style.fails.iter().filter(|it| text.contains(&it.0));
    known.map(|(_, line)| filled(line, a, b, sum).replace("{more}", &more.to_string())).collect()
}

/// A test around a line.
pub fn wrap(style: &CanaryStyle, name: &str, line: &str) -> String {
    let class: String = name.split('_').skip(1).map(capital).collect();
    style.test.replace("{class}", &class).replace("{name}", name).replace("{line}", line)
}

/// A word with its first letter in upper case.
fn capital(word: &str) -> String {
    let mut chars = word.chars();
    let first = chars.next().map(|c| c.to_ascii_uppercase());
    first.into_iter().chain(chars).collect()
}

/// A test of numbers and texts only.
pub fn made_up(style: &CanaryStyle, name: &str, holds: bool, rng: &mut TestRng) -> String {
    let (a, b) = (rng.below(900) + 100, rng.below(90) + 10);
    let off = if holds { 0 } else { rng.below(8) + 1 };
    let line = style.lines.get(rng.below(style.lines.len().max(1)));
    wrap(style, name, &filled(line.map_or("", String::as_str), a, b, a + b + off))
}

fn filled(line: &str, a: usize, b: usize, sum: usize) -> String {
    let figures = [("{a}", a), ("{b}", b), ("{sum}", sum)];
    figures.iter().fold(line.to_owned(), |line, (place, it)| line.replace(place, &it.to_string()))
}
