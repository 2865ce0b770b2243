//! Canaries: tests that are made up for one run, named and worded anew, among the sealed ones.
//!
//! Some pass and some fail. Among those that fail are changed copies of sealed tests where they can
//! be made: what forges results by looking at the code finds the candidate's own function called
//! there as in any other test.

mod copies;
mod evidence;
mod literal;
mod shared;
mod style;

use fairtrial_core::language::CanaryStyle;
use fairtrial_core::tree::{FileTree, RelPath};

use crate::test_rng::TestRng;

use self::copies::{CopyChange, changed_copy};
pub use self::evidence::{Canary, NOT_REPORTED, canary_evidence};
use self::shared::is_decorated;
pub use self::style::name;
use self::style::{CopyManner, failing_lines, made_up, wrap};

/// How many canaries pass, and how many fail.
const EACH: usize = 2;

/// How a canary is made.
enum Made {
    /// It holds.
    Holds,
    /// It fails: a changed copy, or a made-up one where none can be made.
    Copy(CopyChange),
    /// It fails by this line.
    Fails(String),
}

/// Puts canaries into every test file, and gives what they must come to. What is put where depends on `rng`, how it is called on `names`.
pub fn plant(
    style: &CanaryStyle,
    files: &mut FileTree,
    test_files: &[RelPath],
    rng: &mut TestRng,
    names_rng: &mut TestRng,
) -> Vec<Canary> {
    let mut canaries = Vec::new();
    for path in test_files {
        let Some(text) = files.get(path).and_then(|it| String::from_utf8(it.clone()).ok()) else {
            continue;
        };
        let mut text = text;
        // Each way of asserting that the file uses must be seen to fail.
        let failing = failing_lines(style, &text, rng);
        let made: Vec<Made> = (0..2 * EACH)
            .map(|index| if index % 2 == 0 { Made::Holds } else { Made::Copy(CopyChange::Value) })
            .chain([Made::Copy(CopyChange::Error)])
            .chain(failing.into_iter().map(Made::Fails))
            .collect();
        let mut names = Vec::new();
        for made in made {
            let name = name(style, &text, names_rng);
            let copied = match made {
                Made::Copy(change) => {
                    changed_copy(CopyManner::of(style), change, &text, (&name, &names), rng)
                }
                _ => None,
            };
            let holds = matches!(made, Made::Holds);
            let body = match (&copied, made) {
                // Not every file expects an error.
                (None, Made::Copy(CopyChange::Error)) => continue,
                (None, Made::Fails(line)) => wrap(style, &name, &line),
                _ => made_up(style, &name, holds, rng),
            };
            let copy_of = copied.map(|copied| {
                text.insert_str(copied.at, &copied.body);
                copied.of
            });
            if copy_of.is_none() {
                text = insert(style, &text, &body, rng);
            }
            names.push(name.clone());
            canaries.push(Canary { name, holds, copy_of });
        }
        files.insert(path.clone(), text.into_bytes());
    }
    canaries
}

/// Puts a test between two others.
fn insert(style: &CanaryStyle, text: &str, body: &str, rng: &mut TestRng) -> String {
    if style.before.is_empty() {
        // Inside of the class, whose last brace ends the file.
        let Some(end) = text.rfind('}') else { return text.to_owned() };
        return format!("{}\n{body}{}", &text[..end], &text[end..]);
    }
    let opens = |line: &str| style.before.iter().any(|it| line.starts_with(it.as_str()));
    let mut places: Vec<usize> = vec![text.len()];
    let mut at = 0;
    let mut before = "";
    let lines: Vec<&str> = text.split_inclusive('\n').collect();
    for (index, &line) in lines.iter().enumerate() {
        if opens(line)
            && !is_decorated(&lines, index)
            && !before.starts_with("#[")
            && !before.starts_with("//")
        {
            places.push(at);
        }
        before = line;
        at += line.len();
    }
    let place = *rng.pick(&places.iter().collect::<Vec<_>>());
    let gap = if text[..place].ends_with('\n') || place == 0 { "" } else { "\n" };
    format!("{}{gap}\n{body}\n{}", &text[..place], &text[place..])
}
