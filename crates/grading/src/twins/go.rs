//! Tests in Go, as the package `testing` runs them: conditions that lead to a failure are what asserts.

use std::collections::BTreeSet;

use fairtrial_core::tree::{FileTree, RelPath};
use tree_sitter::Node;

use super::edit::Edit;
use super::go_values::{converted, side};
use super::literal::Literal;
use super::syntax::{Site, TestFileParts, TestItem, TestSource, TestSyntax, children, random_word};
use crate::test_rng::TestRng;

pub const SYNTAX: TestSyntax = TestSyntax {
    name: "go",
    grammar: || tree_sitter_go::LANGUAGE.into(),
    take_apart,
    beside: Some(beside),
    fresh_name,
    fails_below: false,
};

/// What notes. It does not compile where an answer of the same package has bound the language's own words to
/// something else.
const BESIDE: &str = r#"package {package}

import (
	{id}c "strconv"
	{id}m "sync"
	{id}s "syscall"
)

var {id}Seen {id}m.Map

const _ = uint(len("ab") - 2)
const _ = uint(cap([2]struct{}{}) - 2)
const {id}Yes bool = true
const {id}No bool = false

var _ = map[bool]struct{}{true: {}, 1 == 2: {}}
var _ = map[bool]struct{}{false: {}, 1 == 1: {}}
var _ *struct{} = nil
var _ func() = nil
var _ interface{ Error() string } = error(nil)

func {id}Site(t interface{ Fail() }, site int, fails func() bool) bool {
	failed := {id}Yes
	defer func() {
		recover()
		if failed {
			t.Fail()
		}
		{id}Note(site, failed)
	}()
	failed = fails()
	return {id}No
}

var {id}Calls {id}m.Map

func {id}Call(t interface{ Fail() }, site int, call func()) {
	failed := {id}No
	{id}Calls.Store(t, &failed)
	defer func() {
		{id}Calls.Delete(t)
		{id}Note(site, failed)
	}()
	call()
}

func {id}Held(t interface{ Fail() }, fails func() bool) bool {
	if fails() {
		if failed, called := {id}Calls.Load(t); called {
			*failed.(*bool) = {id}Yes
		}
		t.Fail()
	}
	return {id}No
}

func {id}Note(site int, failed bool) {
	key, held := 2*site, "1"
	if failed {
		key, held = key+1, "0"
	}
	if _, seen := {id}Seen.LoadOrStore(key, held); !seen {
		{id}s.Write(2, []byte("\n{mark}"+{id}c.Itoa(site)+"="+held+";\n"))
	}
}
"#;

/// Methods that make a test fail.
const FAILS: &[&str] = &["Error", "Errorf", "Fatal", "Fatalf", "Fail", "FailNow"];

/// Functions that say whether two values are equal.
const EQUALITIES: &[&str] =
    &["reflect.DeepEqual", "slices.Equal", "maps.Equal", "bytes.Equal", "cmp.Equal"];

fn fresh_name(rng: &mut TestRng, _: usize) -> String {
    let mut word = random_word(rng, 12);
    word[..1].make_ascii_uppercase();
    word
}

fn beside(files: &FileTree, path: &RelPath) -> Option<(RelPath, String)> {
    let text = String::from_utf8_lossy(files.get(path)?);
    let line = text.lines().find_map(|it| it.strip_prefix("package "))?;
    let package = line.split_whitespace().next()?;
    let folder = path.as_str().rsplit_once('/').map_or(String::new(), |it| format!("{}/", it.0));
    let path = RelPath::parse(&format!("{folder}zz_{{id}}_{package}_test.go")).ok()?;
    Some((path, BESIDE.replace("{package}", package)))
}

fn take_apart(source: &TestSource<'_>) -> TestFileParts {
    let root = source.tree.root_node();
    let mut parts =
        TestFileParts { may_rename: !source.text.contains(".Name()"), ..TestFileParts::default() };
    let handles = handles(source, root);
    for node in source.all(root) {
        match node.kind() {
            "function_declaration" => parts.tests.extend(test(source, node)),
            "if_statement" if !node.has_error() => {
                parts.sites.extend(site(source, node, &handles));
            }
            "expression_statement" if !node.has_error() => {
                parts.sites.extend(call_site(source, node));
            }
            _ => {}
        }
    }
    for node in children(root).into_iter().filter(|it| it.kind() == "function_declaration") {
        if let Some(helper) = helper(source, node) {
            parts.head.extend(helper.noted);
        }
    }
    parts.attribute(true);
    parts
}

/// The names of parameters through which tests are told that they failed.
fn handles<'a>(source: &TestSource<'a>, root: Node<'_>) -> BTreeSet<&'a str> {
    let parameters = source.all(root).into_iter().filter(|it| it.kind() == "parameter_declaration");
    let named = parameters.filter_map(|it| {
        let kind = source.of(it.child_by_field_name("type")?);
        let is_handle = ["*testing.T", "testing.TB", "*testing.B", "*testing.F"].contains(&kind);
        it.child_by_field_name("name").filter(|_| is_handle).map(|it| source.of(it))
    });
    named.collect()
}

fn test(source: &TestSource<'_>, node: Node<'_>) -> Option<TestItem> {
    let (name, body) = (node.child_by_field_name("name")?, node.child_by_field_name("body")?);
    let text = source.of(name);
    let (prefix, rest) =
        ["Test", "Fuzz", "Example"].iter().find_map(|it| Some((*it, text.strip_prefix(it)?)))?;
    if rest.starts_with(char::is_lowercase) {
        return None;
    }
    let name_at = if source.mentions(text) == 1 { name.byte_range() } else { 0..0 };
    let (begins, slot) = (Vec::new(), Some(node.byte_range()));
    if prefix == "Example" {
        // What it is to print has one line more.
        let last = source.all(body).into_iter().rfind(|it| it.kind() == "comment")?;
        let fails = vec![Edit::before(last.end_byte(), "\n// {id}")];
        return Some(TestItem { name: text.to_owned(), prefix, name_at, slot, begins, fails });
    }
    let handle = match &handles(source, node.child_by_field_name("parameters")?)
        .into_iter()
        .collect::<Vec<_>>()[..]
    {
        [handle] => (*handle).to_owned(),
        _ => return None,
    };
    let fails = if handle == "_" {
        Vec::new()
    } else {
        vec![Edit::before(body.start_byte() + 1, format!(" defer func() {{ {handle}.Fail() }}();"))]
    };
    Some(TestItem { name: text.to_owned(), prefix, name_at, slot, begins, fails })
}

/// The names of parameters, in order.
fn parameters<'a>(source: &TestSource<'a>, function: Node<'_>) -> Vec<&'a str> {
    let all = function.child_by_field_name("parameters").map_or(Vec::new(), children);
    let names = all.into_iter().filter(|it| it.kind() == "parameter_declaration").flat_map(|it| {
        let mut cursor = it.walk();
        it.children_by_field_name("name", &mut cursor).collect::<Vec<_>>()
    });
    names.map(|it| source.of(it)).collect()
}

/// A function that tests call to have something compared with what they give it.
struct Helper {
    /// The places of the parameters that it compares with, the likeliest first.
    compares: Vec<usize>,
    /// Its place for what tells a test that it failed.
    handle: usize,
    count: usize,
    /// Notes what comes of the comparison.
    noted: Vec<Edit>,
}

/// What a function that is no test compares whenever it is called.
fn helper(source: &TestSource<'_>, function: Node<'_>) -> Option<Helper> {
    let name = source.of(function.child_by_field_name("name")?);
    let parameters = parameters(source, function);
    let handles = handles(source, function.child_by_field_name("parameters")?);
    let handle = parameters.iter().position(|it| handles.contains(it))?;
    if ["Test", "Fuzz"].iter().any(|it| name.starts_with(it))
        || handles.len() != 1
        || parameters[handle] == "_"
    {
        return None;
    }
    let body = function.child_by_field_name("body")?;
    for statement in statements(body).into_iter().filter(|it| it.is_named()) {
        if statement.kind() == "if_statement"
            && let Some(found) = site(source, statement, &handles)
        {
            let condition = statement.child_by_field_name("condition")?;
            let consequence = statement.child_by_field_name("consequence")?.byte_range();
            let uses = |name: &str| {
                let all = source.all(body).into_iter();
                let outside = all.filter(|it| !consequence.contains(&it.start_byte()));
                outside.filter(|it| it.kind() == "identifier" && source.of(*it) == name).count()
            };
            let sides = sides(source, condition);
            let at = |side: &Node<'_>| {
                let name = source.of(*side);
                parameters.iter().position(|it| *it == name).filter(|_| uses(name) == 1)
            };
            let compares: Vec<usize> = sides.iter().filter_map(at).collect();
            if !compares.is_empty() {
                let open =
                    format!("{{id}}Held({}, func() bool {{ return bool(", parameters[handle]);
                let noted =
                    vec![Edit::before(found.at.start, open), Edit::before(found.at.end, ") })")];
                return Some(Helper { compares, handle, count: parameters.len(), noted });
            }
        }
        if ["return", "Skip", "Goexit"].iter().any(|it| source.of(statement).contains(it)) {
            return None;
        }
    }
    None
}

/// What a condition compares, where the two being equal is what is asked for: what is expected stands last as a rule.
fn sides<'t>(source: &TestSource<'_>, condition: Node<'t>) -> Vec<Node<'t>> {
    let field = |name: &str| condition.child_by_field_name(name);
    match condition.kind() {
        "binary_expression" if field("operator").is_some_and(|it| source.of(it) == "!=") => {
            [field("right"), field("left")].into_iter().flatten().collect()
        }
        "unary_expression" if source.of(condition).starts_with('!') => {
            let call = field("operand").filter(|it| it.kind() == "call_expression");
            let function = call.and_then(|it| it.child_by_field_name("function"));
            let is_equality = function.is_some_and(|it| EQUALITIES.contains(&source.of(it)));
            let given =
                call.filter(|_| is_equality).and_then(|it| it.child_by_field_name("arguments"));
            let mut given: Vec<_> = given.map_or(Vec::new(), children);
            given.retain(|it| it.is_named());
            given.reverse();
            given
        }
        _ => Vec::new(),
    }
}

/// A call of such a function, which asserts what it compares.
fn call_site(source: &TestSource<'_>, node: Node<'_>) -> Option<Site> {
    let call = node.child(0).filter(|it| it.kind() == "call_expression")?;
    let name = source.of(call.child_by_field_name("function")?);
    // Looking through a file takes longer than looking for a text in it.
    let head = format!("func {name}");
    let mut helpers = source.everywhere().filter(|it| it.text.contains(&head)).flat_map(|file| {
        let all = children(file.tree.root_node()).into_iter().filter(|it| {
            let own = it.child_by_field_name("name").map(|it| file.of(it));
            it.kind() == "function_declaration" && own == Some(name)
        });
        all.map(|it| helper(&file, it)).collect::<Vec<_>>()
    });
    let (Some(Some(helper)), None) = (helpers.next(), helpers.next()) else { return None };
    let given: Vec<_> = children(call.child_by_field_name("arguments")?)
        .into_iter()
        .filter(|it| it.is_named() && it.kind() != "comment")
        .collect();
    let handle = source.of(*given.get(helper.handle).filter(|_| given.len() == helper.count)?);
    let found = helper.compares.iter().map(|at| side(source, node, converted(source, given[*at])));
    let literals = found.into_iter().find(|it| !it.is_empty())?;
    if !handle.chars().all(|it| it.is_alphanumeric() || it == '_') {
        return None;
    }
    Some(Site {
        at: node.byte_range(),
        line: node.start_position().row + 1,
        test: None,
        is_certain: is_certain(source, node),
        noted: vec![
            Edit::before(call.start_byte(), format!("{{id}}Call({handle}, {{site}}, func() {{ ")),
            Edit::before(call.end_byte(), " })"),
        ],
        swapped: None,
        literals,
        is_made: false,
    })
}

/// The statements of a block.
fn statements(block: Node<'_>) -> Vec<Node<'_>> {
    let inner = children(block);
    let list = inner.iter().find(|it| it.kind() == "statement_list");
    list.map_or_else(|| inner.clone(), |it| children(*it))
}

fn site(source: &TestSource<'_>, node: Node<'_>, handles: &BTreeSet<&str>) -> Option<Site> {
    let condition = node.child_by_field_name("condition")?;
    let body = node.child_by_field_name("consequence")?;
    let handle = statements(body).into_iter().find_map(|it| {
        let call = if it.kind() == "expression_statement" { it.child(0) } else { Some(it) };
        let function = call.and_then(|it| it.child_by_field_name("function"))?;
        let (handle, method) = source.of(function).split_once('.')?;
        (handles.contains(handle) && FAILS.contains(&method)).then_some(handle)
    })?;
    let (start, end) = (condition.start_byte(), condition.end_byte());
    let wrapped = |open: &str, close: &str| {
        vec![
            Edit::before(
                start,
                format!("{{id}}Site({handle}, {{site}}, func() bool {{ return {open}"),
            ),
            Edit::before(end, format!("{close} }})")),
        ]
    };
    Some(Site {
        at: condition.byte_range(),
        line: node.start_position().row + 1,
        test: None,
        is_certain: is_certain(source, node),
        noted: wrapped("bool(", ")"),
        swapped: Some(wrapped("!bool(", ")")),
        literals: compared(source, node, condition),
        is_made: source.of(condition).contains("Eq"),
    })
}

/// Whether a test that passes has come by a statement.
fn is_certain(source: &TestSource<'_>, node: Node<'_>) -> bool {
    let mut block = node.parent();
    if block.is_some_and(|it| it.kind() == "statement_list") {
        block = block.and_then(|it| it.parent());
    }
    let Some(block) = block.filter(|it| it.kind() == "block") else { return false };
    let Some(function) = block.parent().filter(|it| it.kind() == "function_declaration") else {
        return false;
    };
    let leaves = |it: Node<'_>| {
        let text = source.of(it);
        text.contains("return") || text.contains(".Skip") || text.contains("Goexit")
    };
    test(source, function).is_some()
        && !source.of(function).contains("recover()")
        && !statements(block).into_iter().take_while(|it| *it != node).any(leaves)
}

/// The literals of what a condition compares with, where other ones make it true.
fn compared(source: &TestSource<'_>, site: Node<'_>, condition: Node<'_>) -> Vec<Literal> {
    let field = |name: &str| condition.child_by_field_name(name);
    match condition.kind() {
        "parenthesized_expression" => {
            let inner = children(condition).into_iter().find(|it| it.is_named());
            inner.map_or(Vec::new(), |it| compared(source, site, it))
        }
        "binary_expression" => {
            let operator = field("operator").map_or("", |it| source.of(it));
            let sides: Vec<Node<'_>> =
                [field("right"), field("left")].into_iter().flatten().collect();
            let found = |of: fn(&TestSource<'_>, Node<'_>, Node<'_>) -> Vec<Literal>| {
                let each = sides.iter().map(|it| of(source, site, *it));
                each.into_iter().find(|it| !it.is_empty()).unwrap_or_default()
            };
            match operator {
                "!=" => found(side),
                "||" => found(compared),
                _ => Vec::new(),
            }
        }
        "unary_expression" if source.of(condition).starts_with('!') => {
            let call = field("operand").filter(|it| it.kind() == "call_expression");
            let parts = call.and_then(|it| {
                Some((it.child_by_field_name("function")?, it.child_by_field_name("arguments")?))
            });
            let Some((function, arguments)) = parts else { return Vec::new() };
            let function = source.of(function);
            let method = function.rsplit_once('.').map_or("", |it| it.1);
            if !EQUALITIES.contains(&function) && !["Equal", "Equals", "Eq"].contains(&method) {
                return Vec::new();
            }
            let mut given: Vec<_> =
                children(arguments).into_iter().filter(|it| it.is_named()).collect();
            given.reverse();
            let found = given.into_iter().map(|it| side(source, site, converted(source, it)));
            found.into_iter().find(|it| !it.is_empty()).unwrap_or_default()
        }
        _ => Vec::new(),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn literals(body: &str) -> Vec<String> {
        let (before, body) = body.split_once("@@").unwrap_or(("", body));
        let text =
            format!("package answer\n\n{before}\n\nfunc TestOne(t *testing.T) {{\n{body}\n}}\n");
        let mut parser = tree_sitter::Parser::new();
        parser.set_language(&tree_sitter_go::LANGUAGE.into()).unwrap();
        let tree = parser.parse(&text, None).unwrap();
        let parts = take_apart(&TestSource::alone(&text, &tree));
        assert_eq!((parts.sites.len(), parts.tests.len()), (1, 1), "{body}");
        parts.sites[0].literals.iter().map(|it| text[it.at.clone()].to_owned()).collect()
    }

    #[test]
    fn helpers_that_do_not_always_compare_are_left() {
        for helper in [
            "func check(t *testing.T, got, want int) { if got < 3 { return }; if got != want { t.Fatal(1) } }",
            "func check(t *testing.T, got, want int) { for i := 0; i < got; i++ { if got != want { t.Fatal(1) } } }",
            "func check(t *testing.T, got, want int) { if got != want { println(1) } }",
            "func check(got, want int) bool { return got != want }",
        ] {
            let text = format!(
                "package answer\n\n{helper}\n\nfunc TestOne(t *testing.T) {{ check(t, F(3), 6) }}\n"
            );
            let mut parser = tree_sitter::Parser::new();
            parser.set_language(&tree_sitter_go::LANGUAGE.into()).unwrap();
            let tree = parser.parse(&text, None).unwrap();
            let parts = take_apart(&TestSource::alone(&text, &tree));
            assert!(parts.sites.is_empty() && parts.head.is_empty(), "{helper}");
        }
    }

    #[test]
    fn what_is_expected_is_found() {
        for (body, found) in [
            ("if F(3) != 6 { t.Error(1) }", vec!["6"]),
            ("if got := F(3); got != int64(6) || err != nil { t.Fatalf(\"%d\", 4) }", vec!["6"]),
            (
                "want := []int{1, 2}\nif !reflect.DeepEqual(F(3), want) { t.Fatal(want) }",
                vec!["1", "2"],
            ),
            ("if !Ok(3) { t.Fail() }", vec![]),
            ("if F(3) == 6 { t.Fail() }", vec![]),
            ("if F(3) != G(6) { t.Fail() }", vec![]),
            (
                "tests := []struct{ in, want int; s string }{{1, 2, \"a\"}, {in: 3, want: 4}}\nfor _, tt := range tests { t.Run(\"x\", func(t *testing.T) { if got := F(tt.in); got != tt.want { t.Error(tt.want) } }) }",
                vec!["2", "4"],
            ),
            (
                "tests := map[string]struct{ in int; want string }{\"a\": {1, \"b\"}, \"c\": {in: 3}}\nfor _, tt := range tests { if F(tt.in) != tt.want { t.Error(tt.want) } }",
                vec![],
            ),
            ("want := 6\nif F(want) != want { t.Error(1) }", vec![]),
            ("var want = 6@@if F(3) != want { t.Error(want) }", vec!["6"]),
            ("var want = 6@@if F(3) != want || F(4) == want { t.Error(want) }", vec![]),
            (
                "for in, want := range map[string]int{\"a\": 1, \"b\": 2} { if F(in) != want { t.Error(1) } }",
                vec!["1", "2"],
            ),
            (
                "rows := [][2]int{{1, 2}, {3, 4}}\nfor _, row := range rows { if F(row[0]) != row[1] { t.Error(1) } }",
                vec!["2", "4"],
            ),
            ("for i, want := range []int{5, 6} { if F(i) != want { t.Error(1) } }", vec!["5", "6"]),
            ("for i := range []int{5, 6} { if F(i) != i { t.Error(1) } }", vec![]),
            (
                "rows := [][2]int{{1, 2}}\nfor _, row := range rows { t.Run(fmt.Sprint(row), func(t *testing.T) { if F(row[0]) != row[1] { t.Error(row) } }) }",
                vec![],
            ),
            (
                "var cases = []struct{ in, want int }{{1, 2}, {3, 4}}@@for _, c := range cases { if F(c.in) != c.want { t.Error(1) } }",
                vec!["2", "4"],
            ),
            (
                "func check(t *testing.T, got, want int) { t.Helper(); if got != want { t.Fatal(want) } }@@check(t, F(3), 6)",
                vec!["6"],
            ),
            (
                "func check(want []int, t testing.TB) { if !reflect.DeepEqual(F(3), want) { t.Fatal(want) } }@@check([]int{6, 7}, t)",
                vec!["6", "7"],
            ),
        ] {
            assert_eq!(literals(body), found, "{body}");
        }
    }
}
