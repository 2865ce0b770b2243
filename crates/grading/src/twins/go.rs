//! Tests in Go, as the package `testing` runs them: conditions that lead to a failure are what asserts.

use std::collections::BTreeSet;

use fairtrial_core::tree::{FileTree, RelPath};
use tree_sitter::Node;

use super::edit::Edit;
use super::literal::{Literal, LiteralKind};
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

/// Types that a value may be converted to where it is expected.
const CONVERSIONS: &[&str] = &[
    "int", "int8", "int16", "int32", "int64", "uint", "uint8", "uint16", "uint32", "uint64",
    "float32", "float64", "string", "byte", "rune",
];

fn fresh_name(rng: &mut TestRng, _: usize) -> String {
    let mut word = random_word(rng, 12);
    word[..1].make_ascii_uppercase();
    format!("Test{word}")
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
            _ => {}
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
    let rest = text.strip_prefix("Test")?;
    if rest.starts_with(char::is_lowercase) {
        return None;
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
    let name_at = if source.mentions(text) == 1 { name.byte_range() } else { 0..0 };
    let (begins, slot) = (Vec::new(), Some(node.byte_range()));
    Some(TestItem { name: text.to_owned(), name_at, slot, begins, fails })
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

/// What is converted, where something looks like a conversion: a call of one value by a name in upper case.
fn converted<'t>(source: &TestSource<'_>, node: Node<'t>) -> Node<'t> {
    let inner = || {
        let name = node.child_by_field_name("function").map(|it| source.of(it))?;
        let arguments = children(node.child_by_field_name("arguments")?);
        let mut given = arguments.into_iter().filter(|it| it.is_named());
        let (only, None) = (given.next()?, given.next()) else { return None };
        name.rsplit('.').next()?.starts_with(char::is_uppercase).then_some(only)
    };
    inner().unwrap_or(node)
}

/// The literals of one side of a comparison: its own, those of a name that is used here only, or those of a
/// table's column.
fn side(source: &TestSource<'_>, site: Node<'_>, node: Node<'_>) -> Vec<Literal> {
    let Some(function) = function(node) else { return Vec::new() };
    let body = site.child_by_field_name("consequence").map_or(0..0, |it| it.byte_range());
    let outside = |it: &Node<'_>| !body.contains(&it.start_byte());
    match node.kind() {
        "identifier" => {
            let is_it = |it: &Node<'_>| {
                it.kind() == "identifier" && source.of(*it) == source.of(node) && outside(it)
            };
            if source.all(function).iter().filter(|it| is_it(it)).count() != 2 {
                return Vec::new();
            }
            let bound = source.all(function).into_iter().filter_map(|it| {
                let is_short = it.kind() == "short_var_declaration";
                let left = it.child_by_field_name("left").filter(|_| is_short)?;
                let right = it.child_by_field_name("right")?;
                (source.of(left) == source.of(node)).then_some(right)
            });
            bound.into_iter().next().and_then(|it| expected(source, it)).unwrap_or_default()
        }
        "selector_expression" => {
            let name = node.child_by_field_name("field").map_or("", |it| source.of(it));
            let is_it = |it: &Node<'_>| {
                let field = it.child_by_field_name("field");
                it.kind() == "selector_expression"
                    && field.is_some_and(|it| source.of(it) == name)
                    && outside(it)
            };
            if source.all(function).iter().filter(|it| is_it(it)).count() != 1 {
                return Vec::new();
            }
            column(source, function, name).unwrap_or_default()
        }
        _ => expected(source, node).unwrap_or_default(),
    }
}

fn function<'t>(node: Node<'t>) -> Option<Node<'t>> {
    let mut at = node.parent();
    while let Some(outer) = at.filter(|it| it.kind() != "function_declaration") {
        at = outer.parent();
    }
    at
}

/// The literals of an expectation that calls nothing. `None` when it does.
fn expected(source: &TestSource<'_>, node: Node<'_>) -> Option<Vec<Literal>> {
    let literal = |kind| Some(vec![Literal { at: node.byte_range(), kind }]);
    match node.kind() {
        "int_literal" => return literal(LiteralKind::Integer),
        "float_literal" => return literal(LiteralKind::Float),
        "interpreted_string_literal" | "raw_string_literal" => return literal(LiteralKind::Text),
        "rune_literal" => return literal(LiteralKind::Char),
        "true" | "false" => return literal(LiteralKind::Truth),
        "func_literal" => return None,
        "index_expression"
        | "slice_expression"
        | "slice_type"
        | "array_type"
        | "map_type"
        | "struct_type"
        | "selector_expression" => return Some(Vec::new()),
        "composite_literal" => return expected(source, node.child_by_field_name("body")?),
        "keyed_element" => {
            return expected(source, *children(node).iter().rfind(|it| it.is_named())?);
        }
        "call_expression" => {
            let name = source.of(node.child_by_field_name("function")?);
            if !CONVERSIONS.contains(&name) {
                return None;
            }
            return expected(source, node.child_by_field_name("arguments")?);
        }
        _ => {}
    }
    let mut found = Vec::new();
    for child in children(node) {
        found.extend(expected(source, child)?);
    }
    Some(found)
}

/// The literals of one field in every row of the one table of a function that has such a field. `None` where a
/// row has none.
fn column(source: &TestSource<'_>, function: Node<'_>, name: &str) -> Option<Vec<Literal>> {
    let all = source.all(function);
    let tables = all.iter().filter(|it| it.kind() == "composite_literal").filter_map(|it| {
        let kind = it.child_by_field_name("type")?;
        let is_list = ["slice_type", "array_type", "implicit_length_array_type", "map_type"]
            .contains(&kind.kind());
        let row = kind.child_by_field_name("element").or_else(|| kind.child_by_field_name("value"));
        let fields = fields(source, row.filter(|_| is_list)?)?;
        let place = fields.iter().position(|it| *it == name)?;
        Some((it.child_by_field_name("body")?, place))
    });
    let tables: Vec<_> = tables.collect();
    let [(body, place)] = tables[..] else { return None };
    let mut found = Vec::new();
    for row in children(body).into_iter().filter(|it| it.is_named() && it.kind() != "comment") {
        // Of a map, what stands behind the key.
        let value = if row.kind() == "keyed_element" {
            *children(row).iter().rfind(|it| it.is_named())?
        } else {
            row
        };
        let value = source.all(value).into_iter().find(|it| it.kind() == "literal_value")?;
        let cells: Vec<_> = children(value)
            .into_iter()
            .filter(|it| it.is_named() && it.kind() != "comment")
            .collect();
        let keyed = cells.iter().find(|it| {
            it.kind() == "keyed_element" && it.child(0).is_some_and(|it| source.of(it) == name)
        });
        let is_keyed = cells.first().is_some_and(|it| it.kind() == "keyed_element");
        let cell = match keyed {
            Some(cell) => *cell,
            None if is_keyed => return None,
            None => *cells.get(place)?,
        };
        let literals = expected(source, cell)?;
        if literals.is_empty() {
            return None;
        }
        found.extend(literals);
    }
    Some(found)
}

/// The names of a row's fields.
fn fields<'a>(source: &TestSource<'a>, row: Node<'_>) -> Option<Vec<&'a str>> {
    let structure = if row.kind() == "struct_type" {
        row
    } else {
        let all = source.all(source.tree.root_node());
        let spec = all.into_iter().find(|it| {
            let name = it.child_by_field_name("name");
            it.kind() == "type_spec" && name.is_some_and(|it| source.of(it) == source.of(row))
        })?;
        spec.child_by_field_name("type").filter(|it| it.kind() == "struct_type")?
    };
    let names = source.all(structure).into_iter().filter(|it| it.kind() == "field_identifier");
    Some(names.map(|it| source.of(it)).collect())
}

#[cfg(test)]
mod tests {
    use super::*;

    fn literals(body: &str) -> Vec<String> {
        let text = format!("package answer\n\nfunc TestOne(t *testing.T) {{\n{body}\n}}\n");
        let mut parser = tree_sitter::Parser::new();
        parser.set_language(&tree_sitter_go::LANGUAGE.into()).unwrap();
        let tree = parser.parse(&text, None).unwrap();
        let parts = take_apart(&TestSource { text: &text, tree: &tree });
        assert_eq!((parts.sites.len(), parts.tests.len()), (1, 1), "{body}");
        parts.sites[0].literals.iter().map(|it| text[it.at.clone()].to_owned()).collect()
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
        ] {
            assert_eq!(literals(body), found, "{body}");
        }
    }
}
