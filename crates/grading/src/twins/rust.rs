//! Tests in Rust, as Cargo's own runner runs them.

use tree_sitter::Node;

use super::edit::Edit;
use super::rust_asserts::{BEGINS, HEAD, MACROS};
use super::rust_tables::tables;
use super::rust_values::{bound, condition, expected, function, side, split, tokens};
use super::syntax::{
    Site, TestFileParts, TestItem, TestSource, TestSyntax, children, random_word, words,
};
use crate::test_rng::TestRng;

pub const SYNTAX: TestSyntax = TestSyntax {
    name: "rust",
    grammar: || tree_sitter_rust::LANGUAGE.into(),
    take_apart,
    beside: None,
    fresh_name,
    fails_below: false,
};

/// Makes a test fail at its end, however it comes to it.
const FAILS: &str = " let _{id} = { struct End; impl ::std::ops::Drop for End { fn drop(&mut self) { if !::std::thread::panicking() { ::std::panic!(\"the end\") } } } End };";

/// What shows that a file looks at the names of its tests.
const LOOKS: &[&str] = &["type_name", "module_path", "thread::current", "insta"];

fn fresh_name(rng: &mut TestRng, _: usize) -> String {
    format!("t_{}", random_word(rng, 12))
}

fn take_apart(source: &TestSource<'_>) -> TestFileParts {
    let root = source.tree.root_node();
    let mut parts = TestFileParts {
        may_rename: !LOOKS.iter().any(|it| source.text.contains(it)),
        ..TestFileParts::default()
    };
    let is_inner = |node: &Node<'_>| {
        let text = source.of(*node);
        node.kind() == "inner_attribute_item" || text.starts_with("//!") || text.starts_with("/*!")
    };
    let first = children(root).into_iter().find(|it| !is_inner(it));
    let head = first.map_or(source.text.len(), |it| it.start_byte());
    parts.head.push(Edit::before(head, HEAD));
    for node in source.all(root) {
        match node.kind() {
            "function_item" => parts.tests.extend(test(source, node)),
            "macro_invocation" if !node.has_error() => parts.sites.extend(site(source, node)),
            "expression_statement" if !node.has_error() => {
                parts.sites.extend(call_site(source, node));
            }
            _ => {}
        }
    }
    tables(source, head, &mut parts);
    parts.attribute(false);
    // The runner sorts them by name.
    parts.tests.iter_mut().for_each(|it| it.slot = None);
    parts
}

/// The attributes before an item.
fn attributes<'t>(node: Node<'t>) -> Vec<Node<'t>> {
    let (mut found, mut at) = (Vec::new(), node.prev_sibling());
    while let Some(before) = at {
        match before.kind() {
            "attribute_item" => found.push(before),
            "line_comment" | "block_comment" => {}
            _ => break,
        }
        at = before.prev_sibling();
    }
    found
}

fn is_test(source: &TestSource<'_>, attributes: &[Node<'_>]) -> bool {
    attributes.iter().any(|it| {
        let text = source.of(*it).replace(char::is_whitespace, "");
        text == "#[test]" || text.ends_with("::test]")
    })
}

fn test(source: &TestSource<'_>, node: Node<'_>) -> Option<TestItem> {
    let attributes = attributes(node);
    if !is_test(source, &attributes) {
        return None;
    }
    let (name, body) = (node.child_by_field_name("name")?, node.child_by_field_name("body")?);
    let text = source.of(name);
    let panics = attributes.iter().find(|it| source.of(**it).contains("should_panic"));
    let fails = match panics {
        Some(attribute) => vec![Edit::new(attribute.byte_range(), "")],
        None => vec![Edit::before(body.start_byte() + 1, FAILS)],
    };
    // One that is called elsewhere keeps its name.
    let is_alone = source.mentions(text) == 1;
    let name_at = if is_alone { name.byte_range() } else { 0..0 };
    let begins = match panics {
        Some(_) => Vec::new(),
        None => vec![Edit::before(body.start_byte() + 1, BEGINS)],
    };
    let slot = Some(node.byte_range());
    Some(TestItem { name: text.to_owned(), prefix: "", name_at, slot, begins, fails })
}

fn site(source: &TestSource<'_>, node: Node<'_>) -> Option<Site> {
    let within = function(source, node)?;
    let is_to_panic = attributes(within).iter().any(|it| source.of(*it).contains("should_panic"));
    if is_to_panic || is_caught(source, node) {
        return None;
    }
    let name = node.child_by_field_name("macro")?;
    let word = source.of(name).trim_start_matches("::").trim_start_matches("std::");
    let (_, own, twin) = MACROS.iter().find(|it| it.0 == word)?;
    let tree = children(node).into_iter().find(|it| it.kind() == "token_tree")?;
    let tokens = tokens(source, tree);
    let inside = tokens.get(1..tokens.len().checked_sub(1)?)?;
    let args = split(inside, ",");
    let (literals, caught, is_made) = match *own {
        "eq" if args.len() >= 2 => side(source, node, args[0], args[1]),
        "ok" => (condition(source, node, args[0]), None, true),
        _ => (Vec::new(), None, false),
    };
    let named = |word: &str| {
        vec![
            Edit::new(name.byte_range(), format!("{{id}}_{word}")),
            Edit::before(tree.start_byte() + 1, "{id}_F {site}; "),
        ]
    };
    let noted = match caught {
        Some(at) => named(["eq_left", "eq_right"][at]),
        None => named(own),
    };
    Some(Site {
        at: node.byte_range(),
        line: node.start_position().row + 1,
        test: None,
        is_certain: is_certain(source, node),
        noted,
        swapped: Some(named(twin)),
        literals,
        is_made,
    })
}

/// A call of a function that compares what it is given whenever it is called.
fn call_site(source: &TestSource<'_>, node: Node<'_>) -> Option<Site> {
    let call = node.child(0).filter(|it| it.kind() == "call_expression")?;
    let within = function(source, node)?;
    let is_to_panic = attributes(within).iter().any(|it| source.of(*it).contains("should_panic"));
    let leaves = ["await_expression", "return_expression", "try_expression"];
    let is_left = source.all(call).iter().any(|it| leaves.contains(&it.kind()));
    if is_to_panic || is_left || is_caught(source, node) {
        return None;
    }
    let path = source.of(call.child_by_field_name("function")?);
    let name = path.rsplit("::").next().unwrap_or_default();
    // Looking through a file takes longer than looking for a text in it.
    let head = format!("fn {name}");
    let mut helpers = source.everywhere().filter(|it| it.text.contains(&head)).flat_map(|file| {
        let all = file.all(file.tree.root_node()).into_iter().filter(|it| {
            let own = it.child_by_field_name("name").map(|it| file.of(it));
            it.kind() == "function_item" && own == Some(name)
        });
        all.map(|it| compared(&file, it)).collect::<Vec<_>>()
    });
    let (Some(Some((at, count))), None) = (helpers.next(), helpers.next()) else { return None };
    let given = children(call.child_by_field_name("arguments")?);
    let given: Vec<_> = given.into_iter().filter(|it| it.is_named() && !it.is_extra()).collect();
    let value = tokens(source, *given.get(at).filter(|_| given.len() == count)?);
    let own = expected(&value).filter(|it| !it.may_fail).map(|it| it.literals);
    let own = own.filter(|it| !it.is_empty());
    let literals = own.unwrap_or_else(|| bound(source, node, &value));
    if literals.is_empty() {
        return None;
    }
    let noted = vec![
        Edit::before(
            call.start_byte(),
            "{ let held = ::std::panic::catch_unwind(::std::panic::AssertUnwindSafe(|| { ",
        ),
        Edit::before(call.end_byte(), "; })).is_ok(); crate::{id}_note(&{id}_F, {site}, held) }"),
    ];
    Some(Site {
        at: node.byte_range(),
        line: node.start_position().row + 1,
        test: None,
        is_certain: is_certain(source, node),
        noted,
        swapped: None,
        literals,
        is_made: false,
    })
}

/// The place of the parameter that a function which is no test compares with whenever it is called, and how many it has.
fn compared(source: &TestSource<'_>, function: Node<'_>) -> Option<(usize, usize)> {
    if is_test(source, &attributes(function)) {
        return None;
    }
    let parameters = children(function.child_by_field_name("parameters")?);
    let parameters: Vec<_> = parameters
        .into_iter()
        .filter(|it| it.kind() == "parameter")
        .map(|it| it.child_by_field_name("pattern").map_or("", |it| source.of(it)))
        .collect();
    let body = function.child_by_field_name("body")?;
    for statement in children(body).into_iter().filter(|it| it.is_named() && !it.is_extra()) {
        let call = if statement.kind() == "expression_statement" {
            statement.child(0)
        } else {
            Some(statement)
        };
        let call = call.filter(|it| it.kind() == "macro_invocation");
        let word = call.and_then(|it| it.child_by_field_name("macro")).map(|it| source.of(it));
        if let (Some(call), Some("assert_eq" | "::std::assert_eq" | "std::assert_eq")) =
            (call, word)
        {
            let tree = children(call).into_iter().find(|it| it.kind() == "token_tree")?;
            let all = tokens(source, tree);
            let args = split(all.get(1..all.len().checked_sub(1)?)?, ",");
            let of = |side: &[super::rust_values::Token<'_>]| {
                let plain: Vec<_> =
                    side.iter().filter(|it| !matches!(it.text, "&" | "*")).collect();
                let [name] = plain[..] else { return None };
                let uses = words(source.of(body)).filter(|it| *it == name.text).count();
                parameters.iter().position(|it| *it == name.text).filter(|_| uses == 1)
            };
            let found = args.get(1).and_then(|it| of(it)).or_else(|| of(args[0]));
            if let Some(at) = found {
                return Some((at, parameters.len()));
            }
        }
        let leaves = ["return_expression", "try_expression"];
        if source.all(statement).iter().any(|it| leaves.contains(&it.kind())) {
            return None;
        }
    }
    None
}

/// Whether something around an assertion may catch its panic.
fn is_caught(source: &TestSource<'_>, node: Node<'_>) -> bool {
    let mut at = node.parent();
    while let Some(outer) = at.filter(|it| it.kind() != "function_item") {
        let called = outer.child_by_field_name("function").map_or("", |it| source.of(it));
        if outer.kind() == "call_expression" && called.ends_with("catch_unwind") {
            return true;
        }
        at = outer.parent();
    }
    false
}

/// Whether a test that passes has come by a statement: it stands in the test itself, and nothing before it
/// leaves.
fn is_certain(source: &TestSource<'_>, node: Node<'_>) -> bool {
    let statement = node.parent().filter(|it| it.kind() == "expression_statement").unwrap_or(node);
    let Some(block) = statement.parent().filter(|it| it.kind() == "block") else { return false };
    let Some(function) = block.parent().filter(|it| it.kind() == "function_item") else {
        return false;
    };
    let attributes = attributes(function);
    let is_plain = is_test(source, &attributes)
        && !attributes.iter().any(|it| source.of(*it).contains("should_panic"));
    let leaves = |it: Node<'_>| {
        let kinds = ["return_expression", "try_expression"];
        source.all(it).iter().any(|it| kinds.contains(&it.kind()))
    };
    is_plain && !children(block).into_iter().take_while(|it| *it != statement).any(leaves)
}

#[cfg(test)]
mod tests {
    use super::*;

    fn parts_of(text: &str) -> TestFileParts {
        let mut parser = tree_sitter::Parser::new();
        parser.set_language(&tree_sitter_rust::LANGUAGE.into()).unwrap();
        let tree = parser.parse(text, None).unwrap();
        take_apart(&TestSource::alone(text, &tree))
    }

    fn literals(assertion: &str) -> Vec<String> {
        let text = format!("#[test]\nfn one() {{\n    {assertion}\n}}\n");
        let parts = parts_of(&text);
        let site = &parts.sites[0];
        assert_eq!((parts.sites.len(), site.test), (1, Some(0)), "{assertion}");
        site.literals.iter().map(|it| text[it.at.clone()].to_owned()).collect()
    }

    #[test]
    fn what_is_expected_is_found() {
        for (assertion, found) in [
            ("assert_eq!(f(3), 6);", vec!["6"]),
            ("assert_eq!(6, f(3), \"at {}\", 4);", vec!["6"]),
            ("assert_eq!(f::<A, B>(1), Some(\"x\".to_string()));", vec!["\"x\""]),
            ("assert_eq!(f(&[1, 2]), vec![3, 4]);", vec!["3", "4"]),
            ("assert_eq!(f(1), [0; 3]);", vec!["0"]),
            ("assert_eq!(xs[2], Point { x: 1.5, y: -2.5 });", vec!["1.5", "2.5"]),
            ("assert_eq!(a.0, 'c');", vec!["'c'"]),
            ("assert_eq!(Mod::new(3), Mod::new(4));", vec!["4"]),
            ("assert_eq!(f(3), g(4));", vec![]),
            ("assert!(f(1) == 2);", vec!["2"]),
            ("assert!(f(1) == 2 || g());", vec![]),
            ("assert!(matches!(f(1), Err(E::Bad(4))));", vec!["4"]),
            ("let want = \"a\";\n assert_eq!(f(3), want);", vec!["\"a\""]),
            ("for (n, want) in [(1, 2), (3, 4)] { assert_eq!(f(n), want); }", vec!["2", "4"]),
            (
                "let rows = vec![(1, \"a\"), (3, \"b\")]; for (n, want) in &rows { assert_eq!(f(*n), *want); }",
                vec!["\"a\"", "\"b\""],
            ),
        ] {
            assert_eq!(literals(assertion), found, "{assertion}");
        }
    }

    #[test]
    fn a_test_passes_only_by_what_is_sure_to_be_come_by() {
        let text = "#[test]\nfn one() {\n    assert!(a());\n    if b() { assert!(c()); }\n    if d() { return; }\n    assert!(e());\n}\n\
                    #[test]\n#[should_panic]\nfn two() { assert!(f()); }\nfn help() { assert!(g()); }\n";
        let parts = parts_of(text);
        let seen: Vec<_> = parts.sites.iter().map(|it| (it.line, it.test, it.is_certain)).collect();
        assert_eq!(seen, [(3, Some(0), true), (4, Some(0), false), (6, Some(0), false)]);
        assert_eq!(parts.tests[1].fails, [Edit::new(parts.tests[1].fails[0].at.clone(), "")]);
    }
}
