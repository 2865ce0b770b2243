//! How tests are written in each language: names, bodies, assertions that fail.

use super::rng::TestRng;

/// Words of which names are made where the sealed tests give too few.
const WORDS: &[&str] = &["keeps", "order", "first", "last", "value", "range", "edge", "total"];

/// Ways of writing tests.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum CanaryStyle {
    Python,
    PythonClass,
    Node,
    Rust,
    Go,
    Java,
}

impl CanaryStyle {
    pub fn parse(text: &str) -> Option<Self> {
        Some(match text {
            "python" => Self::Python,
            "python-class" => Self::PythonClass,
            "node" => Self::Node,
            "rust" => Self::Rust,
            "go" => Self::Go,
            "java" => Self::Java,
            _ => return None,
        })
    }
}

/// A name in the manner of those that are there.
pub fn name(style: CanaryStyle, text: &str, rng: &mut TestRng) -> String {
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
    match style {
        CanaryStyle::Python | CanaryStyle::PythonClass => {
            format!("test_{}_{number}", parts.join("_"))
        }
        CanaryStyle::Rust => format!("{}_{number}", parts.join("_")),
        CanaryStyle::Node => format!("{} {number}", parts.join(" ")),
        CanaryStyle::Go | CanaryStyle::Java => {
            let joined: String = parts.iter().map(|it| capital(it)).collect();
            if style == CanaryStyle::Go {
                format!("Test{joined}{number}")
            } else {
                format!("tries{joined}{number}")
            }
        }
    }
}

/// Lines that fail, one for each way of asserting that the file uses. A way that can be patched is so
/// seen to be whole.
pub fn failing_lines(style: CanaryStyle, text: &str, rng: &mut TestRng) -> Vec<String> {
    let (a, b) = (rng.below(900) + 100, rng.below(90) + 10);
    let (sum, more) = (a + b, a + b + 1 + rng.below(8));
    let known: Vec<(&str, String)> = match style {
        CanaryStyle::Python => vec![(
            "pytest.raises(",
            format!("with __import__(\"pytest\").raises(ValueError):\n        int(\"{a}\")"),
        )],
        CanaryStyle::PythonClass => vec![
            ("self.assertEqual(", format!("self.assertEqual({a} + {b}, {more})")),
            ("self.assertNotEqual(", format!("self.assertNotEqual({a} + {b}, {sum})")),
            ("self.assertTrue(", format!("self.assertTrue({a} > {more})")),
            ("self.assertFalse(", format!("self.assertFalse({a} < {more})")),
            ("self.assertIs(", format!("self.assertIs([{a}], [{b}])")),
            ("self.assertIsNone(", format!("self.assertIsNone({a})")),
            ("self.assertIsNotNone(", "self.assertIsNotNone(None)".to_owned()),
            ("self.assertIn(", format!("self.assertIn({more}, [{a}, {b}])")),
            ("self.assertNotIn(", format!("self.assertNotIn({a}, [{a}, {b}])")),
            ("self.assertIsInstance(", format!("self.assertIsInstance({a}, str)")),
            ("self.assertGreater(", format!("self.assertGreater({a}, {more})")),
            ("self.assertLess(", format!("self.assertLess({more}, {a})")),
            ("self.assertAlmostEqual(", format!("self.assertAlmostEqual({a}.5, {more}.5)")),
            ("self.assertListEqual(", format!("self.assertListEqual([{a}], [{more}])")),
            ("self.assertDictEqual(", format!("self.assertDictEqual({{1: {a}}}, {{1: {more}}})")),
            ("self.assertCountEqual(", format!("self.assertCountEqual([{a}], [{more}])")),
            (
                "self.assertRaises(",
                format!("with self.assertRaises(ValueError):\n            int(\"{a}\")"),
            ),
        ],
        CanaryStyle::Node => {
            let assert = "require('node:assert')";
            vec![
                (".strictEqual(", format!("{assert}.strictEqual({a} + {b}, {more});")),
                (".deepStrictEqual(", format!("{assert}.deepStrictEqual([{a}], [{more}]);")),
                (".equal(", format!("{assert}.equal({a} + {b}, {more});")),
                (".deepEqual(", format!("{assert}.deepEqual([{a}], [{more}]);")),
                (".notStrictEqual(", format!("{assert}.notStrictEqual({a} + {b}, {sum});")),
                (".ok(", format!("{assert}.ok({a} > {more});")),
                ("assert(", format!("{assert}({a} > {more});")),
                (".throws(", format!("{assert}.throws(() => Number('{a}'));")),
                (".doesNotThrow(", format!("{assert}.doesNotThrow(() => BigInt('{a}.5'));")),
                (".match(", format!("{assert}.match('{a}', /x{more}/);")),
            ]
        }
        // What these assert with cannot be replaced by the code that is tested.
        CanaryStyle::Rust | CanaryStyle::Go | CanaryStyle::Java => Vec::new(),
    };
    known.into_iter().filter(|it| text.contains(it.0)).map(|it| it.1).collect()
}

/// A test around a line.
pub fn wrap(style: CanaryStyle, name: &str, line: &str) -> String {
    match style {
        CanaryStyle::Python => format!("def {name}():\n    {line}\n"),
        CanaryStyle::PythonClass => {
            let class: String = name.split('_').skip(1).map(capital).collect();
            let case = "__import__(\"unittest\").TestCase";
            format!("class {class}({case}):\n    def {name}(self):\n        {line}\n")
        }
        CanaryStyle::Node => {
            format!("require('node:test').test('{name}', () => {{\n  {line}\n}});\n")
        }
        CanaryStyle::Rust => format!("#[test]\nfn {name}() {{\n    {line}\n}}\n"),
        CanaryStyle::Go => format!("func {name}(t *testing.T) {{\n\t{line}\n}}\n"),
        CanaryStyle::Java => {
            format!(
                "    @org.junit.jupiter.api.Test\n    void {name}() {{\n        {line}\n    }}\n"
            )
        }
    }
}

/// A word with its first letter in upper case.
fn capital(word: &str) -> String {
    let mut chars = word.chars();
    let first = chars.next().map(|c| c.to_ascii_uppercase());
    first.into_iter().chain(chars).collect()
}

/// A test of numbers and texts only.
pub fn made_up(style: CanaryStyle, name: &str, holds: bool, rng: &mut TestRng) -> String {
    let (a, b) = (rng.below(900) + 100, rng.below(90) + 10);
    let off = if holds { 0 } else { rng.below(8) + 1 };
    let sum = a + b + off;
    let kind = rng.below(3);
    let line = match style {
        CanaryStyle::Python => match kind {
            0 => format!("values = [{a}, {b}]\n    assert sum(values) == {sum}"),
            1 => format!("assert {a} + {b} == {sum}"),
            _ => format!("assert str({a} + {b}) == \"{sum}\""),
        },
        CanaryStyle::PythonClass => match kind {
            0 => format!("self.assertEqual(sum([{a}, {b}]), {sum})"),
            1 => format!("self.assertEqual({a} + {b}, {sum})"),
            _ => format!("self.assertIn({sum}, [{a} + {b}])"),
        },
        CanaryStyle::Node => match kind {
            0 => format!(
                "require('node:assert').strictEqual([{a}, {b}].reduce((x, y) => x + y), {sum});"
            ),
            1 => format!("require('node:assert').strictEqual({a} + {b}, {sum});"),
            _ => format!("require('node:assert').deepStrictEqual([{a} + {b}], [{sum}]);"),
        },
        CanaryStyle::Rust => match kind {
            0 => format!("assert_eq!([{a}, {b}].iter().sum::<i32>(), {sum});"),
            1 => format!("assert_eq!({a} + {b}, {sum});"),
            _ => format!("assert_eq!(({a} + {b}).to_string(), \"{sum}\");"),
        },
        CanaryStyle::Go => {
            format!("if got := {a} + {b}; got != {sum} {{\n\t\tt.Errorf(\"got %d\", got)\n\t}}")
        }
        CanaryStyle::Java => {
            format!("org.junit.jupiter.api.Assertions.assertEquals({sum}, {a} + {b});")
        }
    };
    wrap(style, name, &line)
}
