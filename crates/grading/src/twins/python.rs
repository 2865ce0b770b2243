//! Tests in Python: functions that assert, and methods of test cases.

use tree_sitter::Node;

use super::edit::Edit;
use super::literal::{Literal, LiteralKind};
use super::syntax::{
    Site, TestFileParts, TestItem, TestSource, TestSyntax, children, random_word, words,
};
use crate::test_rng::TestRng;

pub const SYNTAX: TestSyntax = TestSyntax {
    name: "python",
    grammar: || tree_sitter_python::LANGUAGE.into(),
    take_apart,
    beside: None,
    fresh_name,
    fails_below: true,
};

/// What notes, over the driver's channel, and what errors are caught: held before anything of the answer's is there.
const HEAD: &str = r#"import os as {id}_o, functools as {id}_u, inspect as {id}_i; {id}_w = {id}_o.write; {id}_s = set(); {id}_f = []; {id}_E = Exception; exec("def {id}_n(site, held):\n  if not held: {id}_f.append(site)\n  if (site, held) not in {id}_s:\n    {id}_s.add((site, held)); {id}_w(500, b'{\"note\": \"{mark}%d=%d;\"}\\n' % (site, held))\ndef {id}_t(test):\n  def end():\n    if {id}_f: raise AssertionError('an assertion failed')\n  @{id}_u.wraps(test)\n  def plain(*args, **named):\n    {id}_f.clear(); got = test(*args, **named); end(); return got\n  @{id}_u.wraps(test)\n  async def later(*args, **named):\n    {id}_f.clear(); got = await test(*args, **named); end(); return got\n  return later if {id}_i.iscoroutinefunction(test) else plain\n", globals())
"#;

/// What shows that a file looks at the names of its tests.
const LOOKS: &[&str] = &[
    "node.name",
    "nodeid",
    "PYTEST_CURRENT_TEST",
    ".id()",
    "_testMethodName",
    "__name__",
    "originalname",
    "load_tests",
    "makeSuite",
    "addTest",
];

/// Assertions with those that fail where they hold.
const TWINS: &[(&str, &str)] = &[
    ("assertTrue", "assertFalse"),
    ("assertEqual", "assertNotEqual"),
    ("assertIn", "assertNotIn"),
    ("assertIs", "assertIsNot"),
    ("assertIsNone", "assertIsNotNone"),
    ("assertIsInstance", "assertNotIsInstance"),
    ("assertAlmostEqual", "assertNotAlmostEqual"),
    ("assertRegex", "assertNotRegex"),
    ("assertGreater", "assertLessEqual"),
    ("assertLess", "assertGreaterEqual"),
];

/// Assertions whose first two arguments are to be equal.
const EQUALITIES: &[&str] = &[
    "assertEqual",
    "assertListEqual",
    "assertDictEqual",
    "assertTupleEqual",
    "assertSetEqual",
    "assertSequenceEqual",
    "assertAlmostEqual",
    "assertCountEqual",
    "assertMultiLineEqual",
];

/// Errors that few derive from.
const ERRORS: &[&str] = &["EOFError", "BufferError", "ImportError"];

/// Functions that make values of what they are given.
const MAKERS: &[&str] =
    &["set", "frozenset", "tuple", "list", "dict", "approx", "bytes", "bytearray", "str"];

fn fresh_name(rng: &mut TestRng, rank: usize) -> String {
    format!("test_{rank:04}_{}", random_word(rng, 12))
}

fn take_apart(source: &TestSource<'_>) -> TestFileParts {
    let root = source.tree.root_node();
    let mut parts = TestFileParts {
        may_rename: !LOOKS.iter().any(|it| source.text.contains(it)),
        ..TestFileParts::default()
    };
    let is_first = |node: &Node<'_>| {
        let is_text = node.kind() == "expression_statement"
            && node.child(0).is_some_and(|it| it.kind() == "string");
        is_text || node.kind() == "comment" || node.kind() == "future_import_statement"
    };
    let Some(head) = children(root).into_iter().find(|it| !is_first(it)) else { return parts };
    parts.head.push(Edit::before(head.start_byte(), HEAD));
    for node in source.all(root) {
        match node.kind() {
            "function_definition" => parts.tests.extend(test(source, node)),
            "assert_statement" | "expression_statement" if !node.has_error() => {
                parts.sites.extend(site(source, node));
            }
            _ => {}
        }
    }
    parts.attribute(false);
    // They stay in their order: some of its runners go by names, others by places.
    parts.tests.iter_mut().for_each(|it| it.slot = None);
    parts
}

/// The text of what decorates a function.
fn decorators(source: &TestSource<'_>, function: Node<'_>) -> String {
    let outer = function.parent().filter(|it| it.kind() == "decorated_definition");
    let all = outer.map_or(Vec::new(), children);
    all.into_iter().filter(|it| it.kind() == "decorator").map(|it| source.of(it)).collect()
}

/// Whether a function is to fail, so that nothing in it may be caught.
fn is_to_fail(source: &TestSource<'_>, function: Node<'_>) -> bool {
    let decorators = decorators(source, function);
    decorators.contains("xfail") || decorators.contains("expectedFailure")
}

fn test(source: &TestSource<'_>, node: Node<'_>) -> Option<TestItem> {
    let (name, body) = (node.child_by_field_name("name")?, node.child_by_field_name("body")?);
    let text = source.of(name);
    if !text.starts_with("test") || function(node).is_some() {
        return None;
    }
    let name_at = if source.mentions(text) == 1 { name.byte_range() } else { 0..0 };
    let first = children(body).into_iter().next()?;
    let leaves = ["return", "yield", "skip", "Skip"].iter().any(|it| source.of(body).contains(it));
    let fails = if source.begins_line(first.start_byte()) && !leaves && !is_to_fail(source, node) {
        let column = " ".repeat(first.start_position().column);
        vec![Edit::before(node.end_byte(), format!("\n{column}raise {{id}}_E('the end')"))]
    } else {
        Vec::new()
    };
    let column = " ".repeat(node.start_position().column);
    let begins = if source.begins_line(node.start_byte()) {
        vec![Edit::before(node.start_byte(), format!("@{{id}}_t\n{column}"))]
    } else {
        Vec::new()
    };
    let slot = Some(node.byte_range());
    Some(TestItem { name: text.to_owned(), prefix: "", name_at, slot, begins, fails })
}

/// The function that something stands in.
fn function(node: Node<'_>) -> Option<Node<'_>> {
    let mut at = node.parent();
    while let Some(outer) = at.filter(|it| it.kind() != "function_definition") {
        at = outer.parent();
    }
    at
}

/// Whether something around it may catch what fails here, up to the function that it stands in.
fn is_caught(source: &TestSource<'_>, node: Node<'_>) -> bool {
    let mut at = node.parent();
    while let Some(outer) = at.filter(|it| it.kind() != "function_definition") {
        let head = source.of(outer).lines().next().unwrap_or_default();
        match outer.kind() {
            "try_statement" => return true,
            "with_statement"
                if ["raises", "Raises", "suppress", "Warns", "warns"]
                    .iter()
                    .any(|it| head.contains(it)) =>
            {
                return true;
            }
            "lambda" => return true,
            _ => at = outer.parent(),
        }
    }
    false
}

fn site(source: &TestSource<'_>, node: Node<'_>) -> Option<Site> {
    let within = function(node)?;
    // One that has its lines for itself.
    let rest = source.text[node.end_byte()..].split('\n').next().unwrap_or_default().trim();
    if !source.begins_line(node.start_byte())
        || !(rest.is_empty() || rest.starts_with('#'))
        || node.parent().is_none_or(|it| it.kind() != "block")
        || is_caught(source, node)
        || is_to_fail(source, within)
    {
        return None;
    }
    let all = source.all(node);
    if all.iter().any(|it| matches!(it.kind(), "named_expression" | "yield")) {
        return None;
    }
    let (swapped, literals, is_made) = if node.kind() == "assert_statement" {
        of_statement(source, node)?
    } else {
        of_call(source, node)?
    };
    let column = " ".repeat(node.start_position().column);
    let noted = vec![
        Edit::before(node.start_byte(), "try: "),
        Edit::before(
            node.end_byte(),
            format!(
                "\n{column}except {{id}}_E: {{id}}_n({{site}}, 0)\n{column}else: {{id}}_n({{site}}, 1)"
            ),
        ),
    ];
    Some(Site {
        at: node.byte_range(),
        line: node.start_position().row + 1,
        test: None,
        is_certain: is_certain(source, node, within),
        swapped: swapped.map(|edits| [edits, noted.clone()].concat()),
        noted,
        literals,
        is_made,
    })
}

/// What can be changed about an assertion: what makes its twin, the literals of what it expects, and whether a
/// value is made of them.
type Changeable = (Option<Vec<Edit>>, Vec<Literal>, bool);

fn of_statement(source: &TestSource<'_>, node: Node<'_>) -> Option<Changeable> {
    let condition = children(node).into_iter().find(|it| it.is_named())?;
    let swapped = vec![
        Edit::before(condition.start_byte(), "not ("),
        Edit::before(condition.end_byte(), ")"),
    ];
    let inner = if condition.kind() == "parenthesized_expression" {
        children(condition).into_iter().find(|it| it.is_named())?
    } else {
        condition
    };
    let parts = children(inner);
    let is_equality =
        inner.kind() == "comparison_operator" && parts.len() == 3 && source.of(parts[1]) == "==";
    let (literals, is_made) =
        if is_equality { side(source, node, &[parts[2], parts[0]]) } else { (Vec::new(), false) };
    Some((Some(swapped), literals, is_made))
}

fn of_call(source: &TestSource<'_>, node: Node<'_>) -> Option<Changeable> {
    let mut call = node.child(0)?;
    if call.kind() == "await" {
        call = children(call).into_iter().find(|it| it.kind() == "call")?;
    }
    let function = call.child_by_field_name("function").filter(|it| it.kind() == "attribute")?;
    let name = function.child_by_field_name("attribute")?;
    let word = source.of(name);
    if !word.starts_with("assert") || source.of(function.child_by_field_name("object")?) != "self" {
        return None;
    }
    let arguments = call.child_by_field_name("arguments")?;
    let given: Vec<_> = children(arguments)
        .into_iter()
        .filter(|it| it.is_named() && it.kind() != "comment")
        .collect();
    let (mut literals, mut is_made) = (Vec::new(), false);
    if EQUALITIES.contains(&word) && given.len() >= 2 {
        (literals, is_made) = side(source, node, &[given[1], given[0]]);
    }
    let twin = TWINS.iter().find_map(|&(one, other)| match word {
        _ if word == one => Some(other),
        _ if word == other => Some(one),
        _ => None,
    });
    let swapped = match (word, given.first()) {
        ("assertRaises", Some(class)) if given.len() > 1 => {
            let other = ERRORS.iter().find(|it| **it != source.of(*class))?;
            Some(vec![Edit::new(class.byte_range(), *other)])
        }
        _ => twin.map(|it| vec![Edit::new(name.byte_range(), it)]),
    };
    Some((swapped, literals, is_made))
}

/// Whether a test that passes has come by a statement.
fn is_certain(source: &TestSource<'_>, node: Node<'_>, within: Node<'_>) -> bool {
    let body = within.child_by_field_name("body");
    let is_direct = node.parent().is_some_and(|it| body.is_some_and(|body| body.id() == it.id()));
    let leaves = |it: Node<'_>| {
        let text = source.of(it);
        ["return", "raise", "skip", "Skip"].iter().any(|word| text.contains(word))
    };
    let before =
        body.map_or(Vec::new(), children).into_iter().take_while(|it| it.id() != node.id());
    is_direct
        && test(source, within).is_some()
        && !decorators(source, within).contains("skip")
        && !before.into_iter().any(leaves)
}

/// The literals of the side that is expected, of the first that has some.
fn side(source: &TestSource<'_>, site: Node<'_>, sides: &[Node<'_>]) -> (Vec<Literal>, bool) {
    for &node in sides {
        let mut is_made = false;
        if let Some(found) = expected(source, node, &mut is_made).filter(|it| !it.is_empty()) {
            return (found, is_made);
        }
        let found = bound(source, site, node);
        if !found.is_empty() {
            return (found, false);
        }
    }
    (Vec::new(), false)
}

/// The literals of an expectation that calls nothing but what makes values. `None` when it does more.
fn expected(source: &TestSource<'_>, node: Node<'_>, is_made: &mut bool) -> Option<Vec<Literal>> {
    let literal = |kind| Some(vec![Literal { at: node.byte_range(), kind }]);
    match node.kind() {
        "integer" => return literal(LiteralKind::Integer),
        "float" => return literal(LiteralKind::Float),
        "true" | "false" => return literal(LiteralKind::Truth),
        "string" => {
            let is_template =
                source.of(node).split(['"', '\'']).next().is_some_and(|it| it.contains(['f', 'F']));
            return if is_template { Some(Vec::new()) } else { literal(LiteralKind::Text) };
        }
        "attribute" | "subscript" => return Some(Vec::new()),
        "pair" | "keyword_argument" => {
            return expected(source, node.child_by_field_name("value")?, is_made);
        }
        "lambda"
        | "await"
        | "conditional_expression"
        | "list_comprehension"
        | "set_comprehension"
        | "dictionary_comprehension"
        | "generator_expression"
        | "list_splat"
        | "dictionary_splat" => return None,
        "call" => {
            let name = source.of(node.child_by_field_name("function")?);
            let name = name.rsplit('.').next().unwrap_or_default();
            if !(name.starts_with(char::is_uppercase) || MAKERS.contains(&name)) {
                return None;
            }
            *is_made |= !MAKERS.contains(&name);
            let arguments = node.child_by_field_name("arguments")?;
            // What is near is a matter of the first alone.
            let given = children(arguments).into_iter().filter(|it| it.is_named());
            let counted = if name == "approx" { 1 } else { usize::MAX };
            let mut found = Vec::new();
            for it in given.take(counted) {
                found.extend(expected(source, it, is_made)?);
            }
            return Some(found);
        }
        _ => {}
    }
    let mut found = Vec::new();
    for child in children(node) {
        found.extend(expected(source, child, is_made)?);
    }
    Some(found)
}

/// The literals that a name stands for: bound once, and used in this assertion only.
fn bound(source: &TestSource<'_>, site: Node<'_>, node: Node<'_>) -> Vec<Literal> {
    let Some(within) = function(site).filter(|_| node.kind() == "identifier") else {
        return Vec::new();
    };
    let name = source.of(node);
    let uses = |name: &str| words(source.of(within)).filter(|it| *it == name).count();
    if uses(name) != 2 {
        return Vec::new();
    }
    let value_of = |name: &str| {
        source.all(within).into_iter().filter(|it| it.kind() == "assignment").find_map(|it| {
            let is_it = source.of(it.child_by_field_name("left")?) == name;
            it.child_by_field_name("right").filter(|_| is_it)
        })
    };
    if let Some(value) = value_of(name) {
        let mut is_made = false;
        let found = expected(source, value, &mut is_made).filter(|_| !is_made);
        return found.unwrap_or_default();
    }
    let mut at = site.parent();
    while let Some(outer) = at {
        if outer.kind() == "for_statement" {
            let rows = || {
                let left = children(outer.child_by_field_name("left")?);
                let left: Vec<_> = left.into_iter().filter(|it| it.is_named()).collect();
                let column = left.iter().position(|it| source.of(*it) == name)?;
                let mut right = outer.child_by_field_name("right")?;
                if right.kind() == "identifier" {
                    let table = source.of(right);
                    right = value_of(table).filter(|_| uses(table) == 2)?;
                }
                in_column(source, right, column, left.len())
            };
            if let Some(found) = rows() {
                return found;
            }
        }
        at = outer.parent();
    }
    Vec::new()
}

/// The literals that stand in one column of a list of tuples.
fn in_column(
    source: &TestSource<'_>,
    table: Node<'_>,
    column: usize,
    width: usize,
) -> Option<Vec<Literal>> {
    if !matches!(table.kind(), "list" | "tuple") {
        return None;
    }
    let mut found = Vec::new();
    for row in children(table).into_iter().filter(|it| it.is_named() && it.kind() != "comment") {
        let cells: Vec<_> = children(row).into_iter().filter(|it| it.is_named()).collect();
        if !matches!(row.kind(), "list" | "tuple") || cells.len() != width {
            return None;
        }
        let mut is_made = false;
        let literals = expected(source, cells[column], &mut is_made)?;
        if literals.is_empty() || is_made {
            return None;
        }
        found.extend(literals);
    }
    Some(found)
}

#[cfg(test)]
mod tests {
    use super::*;

    fn parts_of(text: &str) -> TestFileParts {
        let mut parser = tree_sitter::Parser::new();
        parser.set_language(&tree_sitter_python::LANGUAGE.into()).unwrap();
        let tree = parser.parse(text, None).unwrap();
        take_apart(&TestSource::alone(text, &tree))
    }

    #[test]
    fn what_is_expected_is_found() {
        for (body, found) in [
            ("assert f(3) == 6, 'at 4'", vec!["6"]),
            ("assert (f(3) == [1, {'a': 2.5}])", vec!["1", "2.5"]),
            ("assert Mod(3) == Mod(10)", vec!["10"]),
            ("assert f(1) == pytest.approx(2.5, rel=0.1)", vec!["2.5"]),
            ("assert f(1) == g(2)", vec![]),
            ("assert f(1) == 2 and g()", vec![]),
            ("self.assertEqual(f(3), 'six')", vec!["'six'"]),
            ("self.assertEqual(f\"{x} six\", f(3))", vec![]),
            ("want = (1, 2)\n    assert f() == want", vec!["1", "2"]),
            ("for n, want in [(1, 2), (3, 4)]:\n        assert f(n) == want", vec!["2", "4"]),
        ] {
            let text = format!("def test_one(self):\n    {body}\n");
            let parts = parts_of(&text);
            assert_eq!((parts.sites.len(), parts.tests.len()), (1, 1), "{body}");
            let literals = parts.sites[0].literals.iter();
            let seen: Vec<_> = literals.map(|it| text[it.at.clone()].to_owned()).collect();
            assert_eq!(seen, found, "{body}");
        }
    }

    #[test]
    fn what_may_be_caught_or_shares_its_line_is_left() {
        for body in [
            "with pytest.raises(AssertionError):\n        assert f() == 1",
            "try:\n        assert f() == 1\n    except AssertionError:\n        pass",
            "if x: assert f() == 1",
            "assert f() == 1; g()",
            "assert (y := f()) == 1",
            "other.assertEqual(f(), 1)",
        ] {
            let text = format!("def test_one(self):\n    {body}\n");
            assert!(parts_of(&text).sites.is_empty(), "{body}");
        }
        let xfail = "@pytest.mark.xfail(strict=True)\ndef test_one():\n    assert f() == 1\n";
        assert!(parts_of(xfail).sites.is_empty());
    }
}
