//! Tests in JavaScript, by node's own runner and its `assert`.

use std::ops::Range;

use tree_sitter::Node;

use super::edit::Edit;
use super::javascript_values::side;
use super::literal::Literal;
use super::syntax::{
    Site, TestFileParts, TestItem, TestSource, TestSyntax, children, random_word, words,
};
use crate::test_rng::TestRng;

pub const SYNTAX: TestSyntax = TestSyntax {
    name: "javascript",
    grammar: || tree_sitter_javascript::LANGUAGE.into(),
    take_apart,
    beside: None,
    fresh_name,
    fails_below: false,
};

/// What notes, over the driver's channel: held before anything of the answer's is there.
const HEAD: &str = r#"const {id}N = ((write, seen) => (failed, site, held) => { if (!held) failed.push(site); const it = 2 * site + held; if (!seen[it]) { seen[it] = 1; write(3, `{"note": "{mark}${site}=${held};"}\n`); } })(process.getBuiltinModule('fs').writeSync, { __proto__: null }); const {id}Z = (failed) => { if (failed.length) throw new Error('an assertion failed'); }; "#;

/// Functions that make tests.
const TESTS: &[&str] = &["test", "it", "t.test"];

/// What shows that a file looks at the names of its tests.
const LOOKS: &[&str] = &["t.name", "context.name", "ctx.name", ".fullName", "snapshot"];

/// Assertions with those that fail where they hold.
const TWINS: &[(&str, &str)] = &[
    ("strictEqual", "notStrictEqual"),
    ("equal", "notEqual"),
    ("deepStrictEqual", "notDeepStrictEqual"),
    ("deepEqual", "notDeepEqual"),
    ("match", "doesNotMatch"),
];

/// Assertions whose first two arguments are to be equal.
const EQUALITIES: &[&str] = &["strictEqual", "equal", "deepStrictEqual", "deepEqual"];

/// Assertions that are met by an error.
const THROWS: &[&str] = &["throws", "rejects"];

fn fresh_name(rng: &mut TestRng, _: usize) -> String {
    random_word(rng, 12)
}

fn take_apart(source: &TestSource<'_>) -> TestFileParts {
    let root = source.tree.root_node();
    let mut parts = TestFileParts {
        may_rename: !LOOKS.iter().any(|it| source.text.contains(it)),
        ..TestFileParts::default()
    };
    let is_first = |node: &Node<'_>| {
        let is_directive = node.kind() == "expression_statement"
            && node.child(0).is_some_and(|it| it.kind() == "string");
        is_directive || matches!(node.kind(), "comment" | "hash_bang_line")
    };
    let Some(head) = children(root).into_iter().find(|it| !is_first(it)) else { return parts };
    parts.head.push(Edit::before(head.start_byte(), HEAD));
    for node in source.all(root) {
        match node.kind() {
            "call_expression" => parts.tests.extend(test(source, node)),
            "expression_statement" if !node.has_error() => parts.sites.extend(site(source, node)),
            _ => {}
        }
    }
    parts.attribute(false);
    // With a test that stands in another one, that one fails, too.
    let slots: Vec<_> = parts.tests.iter().filter_map(|it| it.slot.clone()).collect();
    for test in &mut parts.tests {
        let own = test.slot.clone().unwrap_or_default();
        if slots.iter().any(|it| it.start < own.start && own.end < it.end) {
            test.fails.clear();
        }
    }
    // What stands between them may be of consequence.
    parts.tests.iter_mut().for_each(|it| it.slot = None);
    parts
}

/// The function of a test, where a call makes one.
fn body_of<'t>(source: &TestSource<'_>, call: Node<'t>) -> Option<Node<'t>> {
    let function = source.of(call.child_by_field_name("function")?);
    let arguments = call.child_by_field_name("arguments").filter(|_| TESTS.contains(&function))?;
    let last =
        children(arguments).into_iter().rfind(|it| it.is_named() && it.kind() != "comment")?;
    let body = last.child_by_field_name("body")?;
    let is_function = matches!(last.kind(), "arrow_function" | "function_expression" | "function");
    (is_function && body.kind() == "statement_block").then_some(body)
}

fn test(source: &TestSource<'_>, call: Node<'_>) -> Option<TestItem> {
    let body = body_of(source, call)?;
    let arguments = children(call.child_by_field_name("arguments")?);
    let name = *arguments.iter().find(|it| it.is_named() && it.kind() != "comment")?;
    let at = match name.kind() {
        "string" => name.start_byte() + 1..name.end_byte() - 1,
        "template_string" => word_of(source, name)?,
        _ => return None,
    };
    let text = &source.text[at.clone()];
    let has_callback =
        source.of(body.parent()?).split("=>").next().is_some_and(|it| it.contains(','));
    let is_plain = !text.is_empty() && !text.contains('\\');
    let is_alone = source.text.matches(text).count() == 1 && source.mentions(text) <= 1;
    let name_at = if is_plain && is_alone { at } else { 0..0 };
    let leaves = ["return", "skip", "todo"].iter().any(|it| source.of(call).contains(it));
    let fails = if leaves || has_callback {
        Vec::new()
    } else {
        vec![Edit::before(body.end_byte() - 1, "; throw new Error('the end'); ")]
    };
    let begins = if has_callback {
        Vec::new()
    } else {
        vec![
            Edit::before(body.start_byte() + 1, " const {id}F = []; try {"),
            Edit::before(body.end_byte() - 1, "; } finally { {id}Z({id}F); } "),
        ]
    };
    let slot = Some(call.byte_range());
    Some(TestItem { name: text.to_owned(), prefix: "", name_at, slot, begins, fails })
}

/// A word of a name that is made of others, which stands nowhere else.
fn word_of(source: &TestSource<'_>, template: Node<'_>) -> Option<Range<usize>> {
    let is_alone = |it: &&str| {
        it.len() > 1 && source.text.matches(*it).count() == 1 && source.mentions(it) == 1
    };
    let parts = children(template).into_iter().filter(|it| it.kind() == "string_fragment");
    let mut found = parts.filter_map(|part| {
        let text = source.of(part);
        let word = words(text).find(is_alone)?;
        let start = part.start_byte() + text.find(word)?;
        Some(start..start + word.len())
    });
    found.next()
}

/// Whether something around it may catch what fails here.
fn is_caught(source: &TestSource<'_>, node: Node<'_>) -> bool {
    let mut at = node.parent();
    while let Some(outer) = at {
        if outer.kind() == "try_statement" {
            return true;
        }
        let called = outer.child_by_field_name("function").map_or("", |it| source.of(it));
        if outer.kind() == "call_expression"
            && THROWS.iter().any(|it| called.ends_with(it) || called.ends_with(".catch"))
        {
            return true;
        }
        at = outer.parent();
    }
    false
}

fn site(source: &TestSource<'_>, node: Node<'_>) -> Option<Site> {
    let mut call = node.child(0)?;
    if call.kind() == "await_expression" {
        call = children(call).into_iter().find(|it| it.is_named())?;
    }
    if call.kind() != "call_expression" || is_caught(source, node) {
        return None;
    }
    let function = call.child_by_field_name("function")?;
    let word = source.of(function);
    let own = word.rsplit('.').next().unwrap_or_default();
    if let Some(literals) = of_helper(source, node, call) {
        let noted = noted(node);
        let is_certain = is_certain(source, node);
        let (at, line) = (node.byte_range(), node.start_position().row + 1);
        let (test, swapped, is_made) = (None, None, false);
        return Some(Site { at, line, test, is_certain, swapped, is_made, noted, literals });
    }
    let by_object =
        word.starts_with("assert.") || word.starts_with("t.assert.") || word == "assert";
    let is_bare = word == own && EQUALITIES.contains(&own) && source.text.contains("node:assert");
    if !by_object && !is_bare {
        return None;
    }
    let arguments = call.child_by_field_name("arguments")?;
    let given: Vec<_> = children(arguments)
        .into_iter()
        .filter(|it| it.is_named() && it.kind() != "comment")
        .collect();
    let mut literals = Vec::new();
    if EQUALITIES.contains(&own) && given.len() >= 2 {
        let found = [given[1], given[0]].map(|it| side(source, node, it));
        literals = found.into_iter().find(|it| !it.is_empty()).unwrap_or_default();
    }
    let twin = TWINS.iter().find_map(|&(one, other)| match own {
        _ if own == one => Some(other),
        _ if own == other => Some(one),
        _ => None,
    });
    let is_truth = word == "assert" || word == "assert.ok" || word == "assert.strict.ok";
    let swapped = match (twin, given.first()) {
        (Some(twin), _) if !is_bare => {
            let name = function.child_by_field_name("property")?;
            Some(vec![Edit::new(name.byte_range(), twin)])
        }
        (_, Some(first)) if is_truth => {
            Some(vec![Edit::before(first.start_byte(), "!("), Edit::before(first.end_byte(), ")")])
        }
        // With another error, where one is named.
        _ if THROWS.contains(&own) && given.len() > 1 && given[1].kind() == "identifier" => {
            Some(vec![Edit::new(given[1].byte_range(), "URIError")])
        }
        _ => None,
    };
    let noted = noted(node);
    Some(Site {
        at: node.byte_range(),
        line: node.start_position().row + 1,
        test: None,
        is_certain: is_certain(source, node),
        swapped: swapped.map(|edits| [edits, noted.clone()].concat()),
        is_made: literals.is_empty(),
        noted,
        literals,
    })
}

/// Notes what an assertion comes to.
fn noted(node: Node<'_>) -> Vec<Edit> {
    let end = "; {id}N({id}F, {site}, 1); } catch ({id}E) { {id}N({id}F, {site}, 0); }";
    vec![Edit::before(node.start_byte(), "try { "), Edit::before(node.end_byte(), end)]
}

/// What a function of the same file is given to compare with, where it does so whenever it is called.
fn of_helper(source: &TestSource<'_>, node: Node<'_>, call: Node<'_>) -> Option<Vec<Literal>> {
    let name = source.of(call.child_by_field_name("function")?);
    // Looking through the file takes longer than looking for a text in it.
    let heads = [format!("function {name}"), format!("{name} =")];
    if name.contains('.') || !heads.iter().any(|it| source.text.contains(it)) {
        return None;
    }
    let mut functions = source.all(source.tree.root_node()).into_iter().filter_map(|it| {
        let own = it.child_by_field_name("name").map(|it| source.of(it));
        let function = match it.kind() {
            "function_declaration" => it,
            "variable_declarator" => it.child_by_field_name("value")?,
            _ => return None,
        };
        let body = function.child_by_field_name("body")?;
        (own == Some(name)).then_some((function.child_by_field_name("parameters")?, body))
    });
    let (Some((parameters, body)), None) = (functions.next(), functions.next()) else {
        return None;
    };
    let named = |it: Node<'_>| -> Vec<String> {
        let all = children(it).into_iter().filter(|it| it.is_named() && it.kind() != "comment");
        all.map(|it| source.of(it).to_owned()).collect()
    };
    let parameters = named(parameters);
    let given = children(call.child_by_field_name("arguments")?);
    let given: Vec<_> =
        given.into_iter().filter(|it| it.is_named() && it.kind() != "comment").collect();
    let statements = if body.kind() == "statement_block" { children(body) } else { vec![body] };
    for statement in statements {
        let asserts = || {
            let call = if statement.kind() == "call_expression" {
                statement
            } else {
                statement.child(0)?
            };
            let word = source.of(call.child_by_field_name("function")?);
            let compared = named(call.child_by_field_name("arguments")?);
            let is_equality = EQUALITIES.contains(&word.rsplit('.').next()?);
            let at = compared.iter().take(2).rev().find_map(|side| {
                let uses = words(source.of(body)).filter(|it| it == side).count();
                parameters.iter().position(|it| it == side).filter(|_| uses == 1)
            })?;
            (is_equality && given.len() == parameters.len()).then(|| side(source, node, given[at]))
        };
        if let Some(found) = asserts().filter(|it| !it.is_empty()) {
            return Some(found);
        }
        if ["return", "throw"].iter().any(|it| source.of(statement).contains(it)) {
            return None;
        }
    }
    None
}

/// Whether a test that passes has come by a statement.
fn is_certain(source: &TestSource<'_>, node: Node<'_>) -> bool {
    let call = || {
        let block = node.parent().filter(|it| it.kind() == "statement_block")?;
        let call = block.parent()?.parent()?.parent()?;
        (body_of(source, call)?.id() == block.id()).then_some((block, call))
    };
    let Some((block, call)) = call() else { return false };
    let leaves = |it: Node<'_>| ["return", "skip"].iter().any(|word| source.of(it).contains(word));
    let before = children(block).into_iter().take_while(|it| it.id() != node.id());
    let options = source.of(call).split("=>").next().unwrap_or_default();
    !options.contains("skip") && !options.contains("todo") && !before.into_iter().any(leaves)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_is_expected_is_found() {
        for (statement, found) in [
            ("assert.strictEqual(f(3), 6);", vec!["6"]),
            ("assert.deepStrictEqual(f(3), { a: [1, 'b'] }, 'four')", vec!["1", "'b'"]),
            ("assert.equal(f(3), g(4));", vec![]),
            ("assert(f(3));", vec![]),
            ("const want = [1]; assert.deepEqual(f(), want);", vec!["1"]),
            ("await assert.rejects(f(), RangeError);", vec![]),
            ("const WANT = 6;@@assert.equal(f(3), WANT);", vec!["6"]),
            ("const check = (n, want) => assert.equal(f(n), want);@@check(3, 6);", vec!["6"]),
            (
                "function check(n, want) { if (n) return; assert.equal(f(n), want); }@@check(3, 6); assert(1);",
                vec![],
            ),
            (
                "const cases = [[1, 2], [3, 4]];@@for (const [n, want] of cases) { assert.equal(f(n), want); }",
                vec!["2", "4"],
            ),
            (
                "@@[{ n: 1, want: 2 }].forEach(({ n, want }) => { assert.equal(f(n), want); });",
                vec!["2"],
            ),
            (
                "@@for (const it of [{ n: 1, want: 2 }]) { assert.equal(f(it.n), it.want); }",
                vec!["2"],
            ),
            ("@@for (const n of [1, 2]) { assert.equal(n, n); }", vec![]),
        ] {
            let (before, body) = statement.split_once("@@").unwrap_or(("", statement));
            let text = format!("{before}\ntest('takes it', async () => {{ {body} }});\n");
            let mut parser = tree_sitter::Parser::new();
            parser.set_language(&tree_sitter_javascript::LANGUAGE.into()).unwrap();
            let tree = parser.parse(&text, None).unwrap();
            let parts = take_apart(&TestSource::alone(&text, &tree));
            assert_eq!((parts.sites.len(), parts.tests.len()), (1, 1), "{statement}");
            let site = &parts.sites[0];
            let seen: Vec<_> =
                site.literals.iter().map(|it| text[it.at.clone()].to_owned()).collect();
            assert_eq!(seen, found, "{statement}");
            let in_loop = body.starts_with("for") || body.starts_with('[');
            assert!(site.is_certain != in_loop && site.test == Some(0), "{statement}");
            assert_eq!(&text[parts.tests[0].name_at.clone()], "takes it");
        }
    }
}
