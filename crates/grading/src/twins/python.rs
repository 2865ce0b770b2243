//! Tests in Python: functions that assert, and methods of test cases.

use tree_sitter::Node;

use super::edit::Edit;
use super::literal::Literal;
use super::python_values::{function, parameters, side};
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

/// A call of a function of the same file that compares what it is given whenever it is called.
fn of_helper(source: &TestSource<'_>, node: Node<'_>) -> Option<Changeable> {
    let call = node.child(0).filter(|it| it.kind() == "call")?;
    let called = source.of(call.child_by_field_name("function")?);
    let name = called.strip_prefix("self.").unwrap_or(called);
    // Looking through the file takes longer than looking for a text in it.
    if !source.text.contains(&format!("def {name}(")) {
        return None;
    }
    let mut functions = source.all(source.tree.root_node()).into_iter().filter(|it| {
        let own = it.child_by_field_name("name").map(|it| source.of(it));
        it.kind() == "function_definition" && own == Some(name)
    });
    let (Some(helper), None) = (functions.next(), functions.next()) else { return None };
    if test(source, helper).is_some() || !decorators(source, helper).is_empty() {
        return None;
    }
    let mut parameters = parameters(source, helper);
    if called != name && !parameters.is_empty() {
        parameters.remove(0);
    }
    let given = children(call.child_by_field_name("arguments")?);
    let given: Vec<_> =
        given.into_iter().filter(|it| it.is_named() && it.kind() != "comment").collect();
    let is_plain =
        given.iter().all(|it| !it.kind().contains("splat") && it.kind() != "keyword_argument");
    if !is_plain || given.len() != parameters.len() {
        return None;
    }
    let body = helper.child_by_field_name("body")?;
    for statement in children(body) {
        let uses = |name: &str| words(source.of(body)).filter(|it| *it == name).count();
        for side_of in compared(source, statement) {
            let name = source.of(side_of);
            let at = parameters.iter().position(|it| *it == name).filter(|_| uses(name) == 1);
            if let Some(at) = at {
                let (literals, is_made) = side(source, node, &[given[at]]);
                if !literals.is_empty() {
                    return Some((None, literals, is_made));
                }
            }
        }
        if ["return", "raise", "yield", "skip"].iter().any(|it| source.of(statement).contains(it)) {
            return None;
        }
    }
    None
}

/// The two sides of an assertion that they are equal.
fn compared<'t>(source: &TestSource<'_>, statement: Node<'t>) -> Vec<Node<'t>> {
    let sides = || {
        if statement.kind() == "assert_statement" {
            let condition = children(statement).into_iter().find(|it| it.is_named())?;
            let parts = children(condition);
            let is_equality = condition.kind() == "comparison_operator"
                && parts.len() == 3
                && source.of(parts[1]) == "==";
            return is_equality.then(|| vec![parts[2], parts[0]]);
        }
        let call = statement.child(0).filter(|it| it.kind() == "call")?;
        let word = source.of(call.child_by_field_name("function")?);
        let arguments = children(call.child_by_field_name("arguments")?);
        let given: Vec<_> = arguments.into_iter().filter(|it| it.is_named()).take(2).collect();
        let is_equality = word.strip_prefix("self.").is_some_and(|it| EQUALITIES.contains(&it));
        (is_equality && given.len() == 2).then(|| vec![given[1], given[0]])
    };
    sides().unwrap_or_default()
}

fn of_call(source: &TestSource<'_>, node: Node<'_>) -> Option<Changeable> {
    if let Some(found) = of_helper(source, node) {
        return Some(found);
    }
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
    let is_tolerant = given.iter().any(|it| source.of(*it).starts_with("delta"));
    if EQUALITIES.contains(&word) && given.len() >= 2 && !is_tolerant {
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
            ("assert f(1) == pytest.approx(100, rel=0.5)", vec![]),
            ("assert f(1) == pytest.approx(100, abs=20)", vec![]),
            ("self.assertAlmostEqual(f(1), 100, delta=20)", vec![]),
            ("assert f(1) == g(2)", vec![]),
            ("assert f(1) == 2 and g()", vec![]),
            ("self.assertEqual(f(3), 'six')", vec!["'six'"]),
            ("self.assertEqual(f\"{x} six\", f(3))", vec![]),
            ("want = (1, 2)\n    assert f() == want", vec!["1", "2"]),
            ("for n, want in [(1, 2), (3, 4)]:\n        assert f(n) == want", vec!["2", "4"]),
            ("WANT = 6\n@@assert f(3) == WANT", vec!["6"]),
            ("WANT = 6\n@@assert f(WANT) == WANT", vec![]),
            (
                "@pytest.mark.parametrize('n, want', [(1, [2]), pytest.param(3, 4, id='x')])\n@@assert f(n) == want",
                vec!["2", "4"],
            ),
            ("@pytest.mark.parametrize('n, want', [(1, 2)])\n@@assert f(n) == want", vec![]),
            (
                "@pytest.mark.parametrize(('want',), [1, 2], ids=['a', 'b'])\n@@assert f() == want",
                vec!["1", "2"],
            ),
            ("@pytest.mark.parametrize('n', [1, 2])\n@@assert f(n) == n", vec![]),
            ("def check(n, want):\n    assert f(n) == want\n@@check(3, 6)", vec!["6"]),
        ] {
            let (before, body) = body.split_once("@@").unwrap_or(("", body));
            let parameters =
                ["n", "want"].iter().filter(|it| before.contains("'") && before.contains(**it));
            let parameters = parameters.copied().collect::<Vec<_>>().join(", ");
            let text = format!("{before}def test_one({parameters}):\n    {body}\n");
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
