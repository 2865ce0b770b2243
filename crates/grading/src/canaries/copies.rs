//! Changed copies of sealed tests: canaries that must fail, and differ from a test that must pass in
//! one literal only.
//!
//! Only what is sure to fail where its original holds is copied: an assertion of equality with a
//! literal, on one line, that is reached whatever happens before it. A test that uses what others
//! could change is left alone, since running it once more could change what they come to.

use super::literal::{changed_literal, split};
use super::shared::{SharedNames, is_decorated};
use super::style::CopyManner;
use crate::test_rng::TestRng;

/// A copy, and where it belongs.
#[derive(Debug, PartialEq, Eq)]
pub struct Copied {
    /// The sealed test, as its runner names it at the end of its name.
    pub of: String,
    /// The copy, whole lines.
    pub body: String,
    /// Where it goes, in bytes: before its original or behind it.
    pub at: usize,
}

/// What is changed in a copy.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum CopyChange {
    /// A literal that something equals.
    Value,
    /// An error that is expected.
    Error,
}

/// Words that show that a test may leave early, or shares something with others.
const UNSURE: &[&str] =
    &["return", "skip", "global ", "__class__", "type(self)", "setUpClass", "beforeAll", "before("];

/// A copy of one of the tests in `text` under another name. `not_of` are names of tests that are
/// canaries themselves.
pub fn changed_copy(
    style: CopyManner,
    change: CopyChange,
    text: &str,
    (new_name, not_of): (&str, &[String]),
    rng: &mut TestRng,
) -> Option<Copied> {
    let lines: Vec<&str> = text.split_inclusive('\n').collect();
    let shared = SharedNames::of(style, &lines);
    let shares_all = text.contains("setUpClass") || text.contains("setUpModule");
    let (mut copies, mut at, mut class) = (Vec::new(), 0, "");
    for (start, line) in lines.iter().enumerate() {
        let here = at;
        at += line.len();
        if let Some(named) = line.strip_prefix("class ") {
            class = named.split(['(', ':']).next().unwrap_or("").trim();
        } else if line.starts_with("def ") {
            class = "";
        }
        let before = start.checked_sub(1).map_or("", |it| lines[it].trim());
        let Some(name) = opens_test(style, before, line) else { continue };
        let is_python = matches!(style, CopyManner::Python | CopyManner::PythonClass);
        if (is_python && is_decorated(&lines, start))
            || shares_all
            || not_of.iter().any(|it| it == name)
        {
            continue;
        }
        let body = body_of(&lines[start + 1..], line);
        let text = body.concat();
        let unsure = UNSURE.iter().any(|word| text.contains(word)) || shared.is_used_in(&text);
        let changed = if unsure { Vec::new() } else { changes(style, change, &body, rng) };
        if let Some((index, changed)) = pick(changed, rng) {
            let kept = body[..index].concat();
            let head = line.replacen(name, new_name, 1);
            let indent = &line[..line.len() - line.trim_start().len()];
            let mark = if style == CopyManner::Rust { "#[test]\n" } else { "" };
            let end = match style {
                CopyManner::Rust => "}\n".to_owned(),
                CopyManner::Node => format!("{indent}}});\n"),
                _ => String::new(),
            };
            let of = match (style, class) {
                (CopyManner::PythonClass, class) if !class.is_empty() => format!("{class}.{name}"),
                (CopyManner::Python, class) if !class.is_empty() => format!("{class}::{name}"),
                _ => name.to_owned(),
            };
            // Before its original or behind it.
            let first =
                if style == CopyManner::Rust { here - lines[start - 1].len() } else { here };
            let whole = line.len() + text.len() + closing(style, &lines, start + 1 + body.len());
            let at = if rng.below(2) == 0 { first } else { here + whole };
            let body = format!("{mark}{head}{kept}{changed}{end}\n");
            copies.push(Copied { of, body, at });
        }
    }
    pick(copies, rng)
}

/// The length of the line that closes a test, where its language has one.
fn closing(style: CopyManner, lines: &[&str], at: usize) -> usize {
    let closes = matches!(style, CopyManner::Rust | CopyManner::Node);
    lines.get(at).filter(|_| closes).map_or(0, |line| line.len())
}

fn pick<T>(mut from: Vec<T>, rng: &mut TestRng) -> Option<T> {
    if from.is_empty() { None } else { Some(from.swap_remove(rng.below(from.len()))) }
}

/// The name of the test that a line opens, where copies are made of such tests: in languages whose
/// comparisons the candidate's code can redefine, or whose tests it can read while it runs.
fn opens_test<'a>(style: CopyManner, before: &str, line: &'a str) -> Option<&'a str> {
    let line = line.trim_end();
    match style {
        CopyManner::Python | CopyManner::PythonClass => {
            let name = line.trim_start().strip_prefix("def ")?.strip_suffix(':')?;
            let name = name.split_once('(')?.0;
            name.starts_with("test_").then_some(name)
        }
        CopyManner::Rust if before == "#[test]" => line.strip_prefix("fn ")?.strip_suffix("() {"),
        CopyManner::Node => {
            let call = line.trim_start();
            let inside = call.strip_prefix("test(").or_else(|| call.strip_prefix("it("))?;
            let quote = inside.chars().next().filter(|it| ['\'', '"'].contains(it))?;
            let (name, rest) = inside[1..].split_once(quote)?;
            let opens = [", () => {", ", async () => {", ", function () {"].contains(&rest);
            (opens && !name.contains('\\')).then_some(name)
        }
        _ => None,
    }
}

/// The lines after the one that opens a test that are deeper inside.
fn body_of<'a>(lines: &[&'a str], opening: &str) -> Vec<&'a str> {
    let depth = |line: &str| line.len() - line.trim_start().len();
    let outer = depth(opening);
    let inside = |line: &&&str| line.trim().is_empty() || depth(line) > outer;
    lines.iter().take_while(inside).copied().collect()
}

/// Every line of a body that can be changed so that it is sure to fail, changed.
fn changes(
    style: CopyManner,
    change: CopyChange,
    body: &[&str],
    rng: &mut TestRng,
) -> Vec<(usize, String)> {
    let indent = |line: &str| line.len() - line.trim_start().len();
    let Some(first) = body.iter().find(|line| !line.trim().is_empty()) else { return Vec::new() };
    // What stands deeper may not be reached.
    let depth = indent(first);
    let level = body.iter().enumerate().filter(|it| indent(it.1) == depth);
    let changed = level.filter_map(|(at, line)| {
        // A statement of several lines would be cut in two.
        let is_whole = body[..at].iter().all(|it| is_balanced(it)) && is_balanced(line);
        let line_of = |rng: &mut TestRng| match change {
            CopyChange::Value => changed_line(style, line.trim(), rng),
            CopyChange::Error => changed_error(style, line.trim(), rng),
        };
        let changed = line_of(rng).filter(|_| is_whole)?;
        let block = body[at + 1..].iter().take_while(|it| indent(it) > depth).copied();
        let block: String =
            if line.trim_end().ends_with("):") { block.collect() } else { String::new() };
        Some((at, format!("{}{changed}\n{block}", &line[..depth])))
    });
    changed.collect()
}

/// Whether what a line opens is closed on it, but for a block.
fn is_balanced(line: &str) -> bool {
    let count = |chars: &[char]| line.matches(chars).count();
    !line.contains("\"\"\"")
        && !line.contains("'''")
        && !line.trim_end().ends_with('\\')
        && count(&['(']) == count(&[')'])
        && count(&['[']) == count(&[']'])
}

/// An assertion that something equals a literal, with another literal in its place.
fn changed_line(style: CopyManner, line: &str, rng: &mut TestRng) -> Option<String> {
    let arguments = |open: &str, close: &str| -> Option<Vec<String>> {
        let inside = line.strip_prefix(open)?.strip_suffix(close)?;
        Some(split(inside)?.into_iter().map(str::to_owned).collect())
    };
    let rebuilt = |open: &str, mut args: Vec<String>, close: &str, rng: &mut TestRng| {
        let at = [1, 0].into_iter().find(|&at| changed_literal(&args[at], rng).is_some())?;
        args[at] = changed_literal(&args[at], rng)?;
        Some(format!("{open}{}{close}", args.join(", ")))
    };
    match style {
        CopyManner::Python | CopyManner::PythonClass if line.starts_with("assert ") => {
            let parts = split(line.strip_prefix("assert ")?)?;
            let (left, right) = parts.first()?.split_once(" == ")?;
            let more = [" == ", " and ", " or ", " not ", " if ", " else ", " for ", "lambda"];
            let is_plain = !left.starts_with("not ")
                && !more.iter().any(|it| left.contains(it) || right.contains(it));
            let right = changed_literal(right, rng).filter(|_| is_plain && parts.len() <= 2)?;
            Some(format!("assert {left} == {right}"))
        }
        CopyManner::Python | CopyManner::PythonClass => {
            let open = ["self.assertEqual(", "self.assertListEqual(", "self.assertAlmostEqual("]
                .into_iter()
                .find(|it| line.starts_with(it))?;
            let args = arguments(open, ")")?;
            // A third argument can be a tolerance.
            let most = if open.contains("Almost") { 2 } else { 3 };
            if (2..=most).contains(&args.len()) { rebuilt(open, args, ")", rng) } else { None }
        }
        CopyManner::Node => {
            let (open, rest) = line.split_once('(')?;
            let method = open.strip_prefix("assert.")?.trim_start_matches("strict.");
            let is_equality =
                ["strictEqual", "deepStrictEqual", "equal", "deepEqual"].contains(&method);
            let close = if rest.ends_with(");") { ");" } else { ")" };
            let open = format!("{open}(");
            let args = arguments(&open, close).filter(|_| is_equality)?;
            if (2..=3).contains(&args.len()) { rebuilt(&open, args, close, rng) } else { None }
        }
        CopyManner::Rust => {
            let args = arguments("assert_eq!(", ");")?;
            // Other literals may be of a type that has no such value.
            let number = args.iter().take(2).any(|it| it.parse::<i64>().is_ok());
            if number && args.len() == 2 { rebuilt("assert_eq!(", args, ");", rng) } else { None }
        }
        _ => None,
    }
}

/// Kinds of errors in Python of which no class derives from two, so that none can be raised for all.
const PYTHON_ERRORS: &[&str] = &["OSError", "ImportError", "SyntaxError"];

/// Kinds of errors in JavaScript that programs hardly raise themselves.
const NODE_ERRORS: &[&str] = &["URIError", "EvalError"];

/// An assertion that an error is raised, with another error in its place.
fn changed_error(style: CopyManner, line: &str, rng: &mut TestRng) -> Option<String> {
    let (opens, kinds): (&[&str], _) = match style {
        CopyManner::Python | CopyManner::PythonClass => (
            &["with pytest.raises(", "with self.assertRaises(", "self.assertRaises("],
            PYTHON_ERRORS,
        ),
        CopyManner::Node => (&["assert.throws("], NODE_ERRORS),
        _ => return None,
    };
    let open = opens.iter().find(|open| line.starts_with(**open))?;
    let close = ["):", ");", ")"].into_iter().find(|close| line.ends_with(close))?;
    let args = split(line.strip_prefix(open)?.strip_suffix(close)?)?;
    let at = if style == CopyManner::Node { 1 } else { 0 };
    let named = *args.get(at)?;
    let is_kind = named.ends_with("Error") && named.chars().all(char::is_alphanumeric);
    let other = kinds[rng.below(kinds.len())];
    // Errors that derive from each other would not tell.
    let apart = ["ValueError", "TypeError", "KeyError", "IndexError", "ZeroDivisionError"];
    let apart = apart.contains(&named) || (style == CopyManner::Node && named == "RangeError");
    let mut args: Vec<&str> = args.clone();
    args[at] = other;
    (is_kind && apart && named != other).then(|| format!("{open}{}{close}", args.join(", ")))
}

#[cfg(test)]
mod tests {
    use super::*;

    fn copy(style: CopyManner, text: &str) -> Option<Copied> {
        changed_copy(style, CopyChange::Value, text, ("test_new", &[]), &mut TestRng::new(7))
    }

    #[test]
    fn a_copy_differs_in_a_literal() {
        let text =
            "import x\n\n\ndef test_a(tmp_path):\n    v = f(3)\n    assert v == 6\n    g()\n";
        let made = copy(CopyManner::Python, text).unwrap();
        let lines: Vec<&str> = made.body.lines().collect();
        assert_eq!(made.of, "test_a");
        assert!([11, text.len()].contains(&made.at), "{}", made.at);
        assert_eq!(lines[..2], ["def test_new(tmp_path):", "    v = f(3)"]);
        assert!(lines[2].starts_with("    assert v == ") && !lines[2].ends_with("== 6"));
        let class = "class T(C):\n    def test_a(self):\n        self.assertEqual([1, 2], f(3))\n";
        let made = copy(CopyManner::PythonClass, class).unwrap();
        assert_eq!(made.of, "T.test_a");
        assert!([12, class.len()].contains(&made.at), "{}", made.at);
        assert!(made.body.contains(", f(3))") && !made.body.contains("[1, 2]"), "{}", made.body);
        let raises = "def test_a():\n    with pytest.raises(ValueError, match='x'):\n        f(-1)\n    g()\n";
        let raises = changed_copy(
            CopyManner::Python,
            CopyChange::Error,
            raises,
            ("b", &[]),
            &mut TestRng::new(1),
        );
        let made = raises.unwrap();
        assert!(made.body.contains("Error, match='x'):\n        f(-1)\n\n"), "{}", made.body);
        assert!(!made.body.contains("ValueError") && !made.body.contains("g()"));
        let node = "describe('d', () => {\n  it('one', async () => {\n    assert.equal(f(3), 'x');\n  });\n});\n";
        let made = copy(CopyManner::Node, node).unwrap();
        assert_eq!(made.of, "one");
        assert!(
            made.body.starts_with("  it('test_new', async () => {\n    assert.equal(f(3), 'x~")
        );
        assert!(made.body.ends_with(");\n  });\n\n"), "{}", made.body);
    }

    #[test]
    fn what_may_not_fail_or_is_shared_is_not_copied() {
        for body in [
            "    if f(1):\n        assert f(3) == 6\n",
            "    for x in y:\n        assert x == 6\n",
            "    if f(1):\n        return\n    assert f(3) == 6\n",
            "    assert f(3) == 6 or g()\n",
            "    assert f(3) == x\n",
            "    assert not f(3) == 6\n",
            "    assert ledger.add(3) == 6\n",
            "    assert store.add(3) == 6\n",
            "    assert next(NUMBERS) == 6\n",
            "    v = f(\n    3)\n    assert v == 6\n",
        ] {
            let text = format!(
                "from a import f, the_store as store\nledger = Ledger()\nNUMBERS: list = []\n\n\ndef test_a():\n{body}"
            );
            assert_eq!(copy(CopyManner::Python, &text), None, "{body}");
        }
        let class = "class T(C):\n    seen = []\n\n    def test_a(self):\n        self.seen.append(1)\n        self.assertEqual(f(3), 6)\n";
        assert_eq!(copy(CopyManner::PythonClass, class), None);
        let node = "const { store } = require('./a');\ntest('one', () => {\n  assert.equal(store.add(3), 6);\n});\n";
        assert_eq!(copy(CopyManner::Node, node), None);
        assert!(copy(CopyManner::Node, &node.replace("store.add", "store")).is_some());
        let text = "def test_a():\n    assert f(3) == 6\n";
        assert_eq!(
            changed_copy(
                CopyManner::Python,
                CopyChange::Value,
                text,
                ("test_b", &["test_a".into()]),
                &mut TestRng::new(1)
            ),
            None
        );
    }
}
