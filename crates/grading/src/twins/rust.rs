//! Tests in Rust, as Cargo's own runner runs them.

use tree_sitter::Node;

use super::edit::Edit;
use super::literal::{Literal, LiteralKind};
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

/// What asserts in place of the library's macros: it notes what it comes to and goes on, so that the test fails at
/// its end. Nothing in it can be shadowed by what an answer exports.
const HEAD: &str = r#"#[allow(dead_code, non_camel_case_types)] pub struct {id}_End(pub &'static ::std::sync::atomic::AtomicBool);
impl ::std::ops::Drop for {id}_End { fn drop(&mut self) { if self.0.swap(false, ::std::sync::atomic::Ordering::SeqCst) && !::std::thread::panicking() { ::std::panic!("an assertion failed") } } }
#[allow(dead_code)] pub fn {id}_note(failed: &::std::sync::atomic::AtomicBool, site: ::std::primitive::u32, held: ::std::primitive::bool) {
    if !held { failed.store(true, ::std::sync::atomic::Ordering::SeqCst); }
    static SEEN: ::std::sync::Mutex<::std::collections::BTreeSet<::std::primitive::u32>> = ::std::sync::Mutex::new(::std::collections::BTreeSet::new());
    let mut seen = SEEN.lock().unwrap_or_else(::std::sync::PoisonError::into_inner);
    if seen.insert(2 * site + held as ::std::primitive::u32) {
        let note = ::std::format!("\n{mark}{}={};\n", site, held as ::std::primitive::u8);
        let _ = ::std::io::Write::write_all(&mut ::std::io::stderr(), note.as_bytes());
    }
}
#[allow(unused_macros)] macro_rules! {id}_eq {
    ($failed:ident $site:literal; $left:expr, $right:expr $(,)?) => { match (&$left, &$right) { (left, right) => crate::{id}_note(&$failed, $site, *left == *right) } };
    ($failed:ident $site:literal; $left:expr, $right:expr, $($said:tt)+) => { match (&$left, &$right) { (left, right) => {
        if false { let _ = ::std::format_args!($($said)+); }
        crate::{id}_note(&$failed, $site, *left == *right)
    } } };
}
#[allow(unused_macros)] macro_rules! {id}_ne {
    ($failed:ident $site:literal; $left:expr, $right:expr $(,)?) => { match (&$left, &$right) { (left, right) => crate::{id}_note(&$failed, $site, !(*left == *right)) } };
    ($failed:ident $site:literal; $left:expr, $right:expr, $($said:tt)+) => { match (&$left, &$right) { (left, right) => {
        if false { let _ = ::std::format_args!($($said)+); }
        crate::{id}_note(&$failed, $site, !(*left == *right))
    } } };
}
#[allow(unused_macros)] macro_rules! {id}_eq_right {
    ($failed:ident $site:literal; $left:expr, $right:expr $(, $($said:tt)*)?) => { match &$left { left => match ::std::panic::catch_unwind(::std::panic::AssertUnwindSafe(|| $right)) {
        ::std::result::Result::Ok(right) => crate::{id}_note(&$failed, $site, *left == right),
        _ => crate::{id}_note(&$failed, $site, false),
    } } };
}
#[allow(unused_macros)] macro_rules! {id}_eq_left {
    ($failed:ident $site:literal; $left:expr, $right:expr $(, $($said:tt)*)?) => { match &$right { right => match ::std::panic::catch_unwind(::std::panic::AssertUnwindSafe(|| $left)) {
        ::std::result::Result::Ok(left) => crate::{id}_note(&$failed, $site, left == *right),
        _ => crate::{id}_note(&$failed, $site, false),
    } } };
}
#[allow(unused_macros)] macro_rules! {id}_ok {
    ($failed:ident $site:literal; $held:expr $(,)?) => { crate::{id}_note(&$failed, $site, if $held { true } else { false }) };
    ($failed:ident $site:literal; $held:expr, $($said:tt)+) => {{
        if false { let _ = ::std::format_args!($($said)+); }
        crate::{id}_note(&$failed, $site, if $held { true } else { false })
    }};
}
#[allow(unused_macros)] macro_rules! {id}_no {
    ($failed:ident $site:literal; $held:expr $(,)?) => { crate::{id}_note(&$failed, $site, if $held { false } else { true }) };
    ($failed:ident $site:literal; $held:expr, $($said:tt)+) => {{
        if false { let _ = ::std::format_args!($($said)+); }
        crate::{id}_note(&$failed, $site, if $held { false } else { true })
    }};
}
"#;

/// Makes a test fail at its end when one of its assertions did.
const BEGINS: &str = " static {id}_F: ::std::sync::atomic::AtomicBool = ::std::sync::atomic::AtomicBool::new(false); let _{id}_e = crate::{id}_End(&{id}_F);";

/// Makes a test fail at its end, however it comes to it.
const FAILS: &str = " let _{id} = { struct End; impl ::std::ops::Drop for End { fn drop(&mut self) { if !::std::thread::panicking() { ::std::panic!(\"the end\") } } } End };";

/// What shows that a file looks at the names of its tests.
const LOOKS: &[&str] = &["type_name", "module_path", "thread::current", "insta"];

/// Methods that make nothing but what they are called on.
const PLAIN_METHODS: &[&str] = &[
    "to_string",
    "to_owned",
    "to_vec",
    "into",
    "iter",
    "into_iter",
    "cloned",
    "copied",
    "clone",
    "as_str",
    "as_slice",
    "as_ref",
    "as_bytes",
    "unwrap",
    "collect",
];

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
            _ => {}
        }
    }
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

/// A piece of text that is not taken apart further.
#[derive(Debug, Clone)]
struct Token<'a> {
    text: &'a str,
    start: usize,
    literal: Option<LiteralKind>,
}

impl Token<'_> {
    fn is_word(&self) -> bool {
        self.text.starts_with(|it: char| it.is_alphabetic() || it == '_')
            && !self.text.contains('"')
    }

    fn literal(&self) -> Option<Literal> {
        Some(Literal { at: self.start..self.start + self.text.len(), kind: self.literal? })
    }
}

fn literal_kind(kind: &str, text: &str) -> Option<LiteralKind> {
    Some(match kind {
        "integer_literal" => LiteralKind::Integer,
        "float_literal" => LiteralKind::Float,
        "string_literal" | "raw_string_literal" => LiteralKind::Text,
        "char_literal" => LiteralKind::Char,
        _ if text == "true" || text == "false" => LiteralKind::Truth,
        _ => return None,
    })
}

fn tokens<'a>(source: &TestSource<'a>, top: Node<'_>) -> Vec<Token<'a>> {
    let is_leaf = |node: &Node<'_>| node.child_count() == 0 || node.kind().ends_with("_literal");
    let (mut found, mut open) = (Vec::new(), vec![top]);
    while let Some(node) = open.pop() {
        if node.kind().contains("comment") {
            continue;
        }
        if is_leaf(&node) {
            let text = source.of(node);
            let literal = literal_kind(node.kind(), text);
            found.push(Token { text, start: node.start_byte(), literal });
        } else {
            let mut children = children(node);
            children.reverse();
            open.extend(children);
        }
    }
    found
}

/// The tokens between commas that stand in no bracket.
fn split<'t, 'a>(tokens: &'t [Token<'a>], at: &str) -> Vec<&'t [Token<'a>]> {
    let (mut parts, mut depth, mut begin, mut angles) = (Vec::new(), 0_i32, 0, 0_i32);
    for (index, token) in tokens.iter().enumerate() {
        match token.text {
            "(" | "[" | "{" => depth += 1,
            ")" | "]" | "}" => depth -= 1,
            "<" if angles > 0 || (index > 0 && tokens[index - 1].text == "::") => angles += 1,
            ">" if angles > 0 => angles -= 1,
            ">>" if angles > 0 => angles = (angles - 2).max(0),
            text if text == at && depth == 0 && angles == 0 => {
                parts.push(&tokens[begin..index]);
                begin = index + 1;
            }
            _ => {}
        }
    }
    parts.push(&tokens[begin..]);
    parts
}

/// The index behind the bracket that closes the one at `open`.
fn behind(tokens: &[Token<'_>], open: usize) -> usize {
    let mut depth = 0_i32;
    for (index, token) in tokens.iter().enumerate().skip(open) {
        match token.text {
            "(" | "[" | "{" => depth += 1,
            ")" | "]" | "}" => depth -= 1,
            _ => {}
        }
        if depth <= 0 {
            return index + 1;
        }
    }
    tokens.len()
}

/// What stands in an expectation.
#[derive(Debug, Default)]
struct Expectation {
    literals: Vec<Literal>,
    /// Whether something is made by a function that may refuse other values.
    may_fail: bool,
    /// Whether something is made of them at all.
    is_made: bool,
}

/// Whether a bracket opens what a macro is given.
fn is_macro(tokens: &[Token<'_>], at: usize) -> bool {
    at > 1 && tokens[at - 1].text == "!" && tokens[at - 2].is_word()
}

/// The literals of what calls nothing but what makes values. `None` when it does more.
fn expected(tokens: &[Token<'_>]) -> Option<Expectation> {
    let mut found = Expectation::default();
    let before = |at: usize, back: usize| at.checked_sub(back).map_or("", |it| tokens[it].text);
    let mut at = 0;
    while at < tokens.len() {
        let token = &tokens[at];
        let follows_word = at > 0 && tokens[at - 1].is_word();
        match token.text {
            "|" | "||" | "?" | "await" | "return" | "match" | "if" | "move" | ".." | "..="
            | "#" => {
                return None;
            }
            "(" if follows_word => {
                found.is_made = true;
                let name = before(at, 1);
                let is_type = name.starts_with(char::is_uppercase);
                match before(at, 2) {
                    "." if PLAIN_METHODS.contains(&name) => {}
                    "." => return None,
                    "::" if !is_type => found.may_fail = true,
                    _ if is_type => {}
                    _ => return None,
                }
            }
            "(" | "[" | "{" if is_macro(tokens, at) && before(at, 2) != "vec" => return None,
            "(" if before(at, 1) == ">" => return None,
            // Of an index or a length nothing is changed.
            "[" if follows_word || matches!(before(at, 1), ")" | "]") => {
                at = behind(tokens, at);
                continue;
            }
            ";" => {
                while at < tokens.len() && tokens[at].text != "]" {
                    at += 1;
                }
                continue;
            }
            _ => {}
        }
        if before(at, 1) != "." {
            found.literals.extend(token.literal());
        }
        at += 1;
    }
    Some(found)
}

/// The macros that assert, with what stands in their place and what in that of their twins.
const MACROS: &[(&str, &str, &str)] = &[
    ("assert_eq", "eq", "ne"),
    ("assert_ne", "ne", "eq"),
    ("assert", "ok", "no"),
    ("debug_assert_eq", "eq", "ne"),
    ("debug_assert_ne", "ne", "eq"),
    ("debug_assert", "ok", "no"),
];

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

/// The literals of the side that is expected, which one it is where making it may fail, and whether it is made
/// of them.
fn side(
    source: &TestSource<'_>,
    site: Node<'_>,
    left: &[Token<'_>],
    right: &[Token<'_>],
) -> (Vec<Literal>, Option<usize>, bool) {
    for (at, tokens) in [(1, right), (0, left)] {
        if let Some(found) = expected(tokens).filter(|it| !it.literals.is_empty()) {
            return (found.literals, found.may_fail.then_some(at), found.is_made);
        }
        let named = bound(source, site, tokens);
        if !named.is_empty() {
            return (named, None, false);
        }
    }
    (Vec::new(), None, false)
}

/// The literals of what a condition compares with, where it is one comparison.
fn condition(source: &TestSource<'_>, site: Node<'_>, tokens: &[Token<'_>]) -> Vec<Literal> {
    let texts: Vec<&str> = tokens.iter().map(|it| it.text).collect();
    if let ["matches", "!", "(", .., ")"] = texts[..] {
        let args = split(&tokens[3..tokens.len() - 1], ",");
        let pattern = args.get(1).filter(|_| args.len() == 2).and_then(|it| expected(it));
        return pattern.map_or(Vec::new(), |it| it.literals);
    }
    let sides = split(tokens, "==");
    let is_one = split(tokens, "&&").len() == 1 && split(tokens, "||").len() == 1;
    match sides[..] {
        [left, right] if is_one && texts.first() != Some(&"!") => {
            let (literals, caught, _) = side(source, site, left, right);
            if caught.is_none() { literals } else { Vec::new() }
        }
        _ => Vec::new(),
    }
}

/// The function that something stands in, unless it is one of those that run while others are compiled.
fn function<'t>(source: &TestSource<'_>, node: Node<'t>) -> Option<Node<'t>> {
    let mut at = node.parent();
    while let Some(outer) = at {
        match outer.kind() {
            "function_item" => {
                let head = source.of(outer).split("fn ").next().unwrap_or_default();
                return (!words(head).any(|it| it == "const")).then_some(outer);
            }
            "const_item" | "static_item" | "const_block" => return None,
            _ => at = outer.parent(),
        }
    }
    None
}

/// The literals that a name stands for: bound once, and used in this assertion only.
fn bound(source: &TestSource<'_>, site: Node<'_>, tokens: &[Token<'_>]) -> Vec<Literal> {
    let mut plain = tokens.iter().filter(|it| !matches!(it.text, "&" | "*"));
    let (Some(name), None) = (plain.next(), plain.next()) else { return Vec::new() };
    let Some(function) = function(source, site).filter(|_| name.is_word()) else {
        return Vec::new();
    };
    let uses = |name: &str| words(source.of(function)).filter(|it| *it == name).count();
    if uses(name.text) != 2 {
        return Vec::new();
    }
    if let Some(value) = let_value(source, function, name.text) {
        let found = expected(&self::tokens(source, value)).filter(|it| !it.may_fail);
        return found.map_or(Vec::new(), |it| it.literals);
    }
    let mut at = site.parent();
    while let Some(outer) = at {
        if outer.kind() == "for_expression" {
            let column = column(source, outer, name.text);
            let rows = column.and_then(|column| {
                let mut value = tokens_of_rows(source, outer)?;
                if let [only] = &value[..] {
                    let table = only.text;
                    let binding =
                        let_value(source, function, table).filter(|_| uses(table) == 2)?;
                    value = self::tokens(source, binding);
                }
                in_column(&value, column)
            });
            if let Some(rows) = rows {
                return rows;
            }
        }
        at = outer.parent();
    }
    Vec::new()
}

/// What a name is bound to by the one `let` of a function.
fn let_value<'t>(source: &TestSource<'_>, function: Node<'t>, name: &str) -> Option<Node<'t>> {
    source.all(function).into_iter().filter(|it| it.kind() == "let_declaration").find_map(|it| {
        let is_it = source.of(it.child_by_field_name("pattern")?) == name;
        it.child_by_field_name("value").filter(|_| is_it)
    })
}

/// Where a name stands in the tuple that a loop takes apart.
fn column(source: &TestSource<'_>, outer: Node<'_>, name: &str) -> Option<usize> {
    let pattern = tokens(source, outer.child_by_field_name("pattern")?);
    let open = pattern.iter().position(|it| it.text == "(")?;
    let inside = pattern.get(open + 1..pattern.len() - 1)?;
    split(inside, ",").iter().position(|it| {
        let plain: Vec<&str> = it.iter().map(|it| it.text).filter(|it| *it != "&").collect();
        plain == [name]
    })
}

/// The tokens of what a loop goes through, without what only makes it a loop.
fn tokens_of_rows<'a>(source: &TestSource<'a>, outer: Node<'_>) -> Option<Vec<Token<'a>>> {
    let mut rows = tokens(source, outer.child_by_field_name("value")?);
    rows.retain(|it| it.text != "&");
    while rows.len() > 4
        && matches!(rows[rows.len() - 3].text, "iter" | "into_iter")
        && rows[rows.len() - 4].text == "."
    {
        rows.truncate(rows.len() - 4);
    }
    if let [name, dot, way, _, _] = &rows[..]
        && dot.text == "."
        && matches!(way.text, "iter" | "into_iter")
    {
        return Some(vec![name.clone()]);
    }
    Some(rows)
}

/// The literals that stand in one column of a list of tuples.
fn in_column(tokens: &[Token<'_>], column: usize) -> Option<Vec<Literal>> {
    let open = tokens.iter().position(|it| it.text == "[")?;
    let inside = &tokens[open + 1..behind(tokens, open) - 1];
    let mut found = Vec::new();
    for row in split(inside, ",").into_iter().filter(|it| !it.is_empty()) {
        let is_tuple = row.first().is_some_and(|it| it.text == "(");
        let cells = split(row.get(1..row.len() - 1).filter(|_| is_tuple)?, ",");
        let cell = expected(cells.get(column)?).filter(|it| !it.may_fail)?;
        if cell.literals.is_empty() {
            return None;
        }
        found.extend(cell.literals);
    }
    Some(found)
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
