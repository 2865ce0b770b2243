//! Where the values stand that tests in Python compare with.

use tree_sitter::Node;

use super::literal::{Literal, LiteralKind};
use super::syntax::{TestSource, children, words};

/// Functions that make values of what they are given.
const MAKERS: &[&str] =
    &["set", "frozenset", "tuple", "list", "dict", "approx", "bytes", "bytearray", "str"];

/// The function that something stands in.
pub fn function(node: Node<'_>) -> Option<Node<'_>> {
    let mut at = node.parent();
    while let Some(outer) = at.filter(|it| it.kind() != "function_definition") {
        at = outer.parent();
    }
    at
}

/// The literals of the side that is expected, of the first that has some.
pub fn side(source: &TestSource<'_>, site: Node<'_>, sides: &[Node<'_>]) -> (Vec<Literal>, bool) {
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

/// Whether a tolerance is so wide that another value may be near, too.
fn is_wide(source: &TestSource<'_>, setting: Node<'_>, value: Node<'_>) -> bool {
    let Some((name, width)) = source.of(setting).split_once('=') else { return false };
    let (width, value): (Option<f64>, Option<f64>) =
        (width.trim().parse().ok(), source.of(value).parse().ok());
    match (name.trim(), width) {
        ("abs", Some(width)) => width >= 1.0,
        ("rel", Some(width)) => value.is_none_or(|it| width * it.abs() >= 1.0),
        _ => true,
    }
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
            // What is near is a matter of the first alone, where it is near enough.
            let given: Vec<_> =
                children(arguments).into_iter().filter(|it| it.is_named()).collect();
            if name == "approx" && given.iter().any(|it| is_wide(source, *it, given[0])) {
                return Some(Vec::new());
            }
            let counted = if name == "approx" { 1 } else { usize::MAX };
            let mut found = Vec::new();
            for it in given.into_iter().take(counted) {
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
    if parameters(source, within).contains(&name) {
        return of_cases(source, within, name).unwrap_or_default();
    }
    if let Some(value) = value_of(source, within, name) {
        let mut is_made = false;
        let found = expected(source, value, &mut is_made).filter(|_| !is_made);
        return found.unwrap_or_default();
    }
    if uses(name) != 2 {
        return Vec::new();
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
                    right = value_of(source, within, source.of(right))?;
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

/// The names of a function's parameters.
pub fn parameters<'a>(source: &TestSource<'a>, function: Node<'_>) -> Vec<&'a str> {
    let all = function.child_by_field_name("parameters").map_or(Vec::new(), children);
    let named = all.into_iter().filter(|it| it.is_named() && it.kind() != "comment");
    let name = |it: Node<'_>| source.of(it).split([':', '=']).next().unwrap_or_default().trim();
    named.map(name).collect()
}

/// What a name is bound to in a function or in the file, where one place uses it.
fn value_of<'t>(source: &TestSource<'_>, within: Node<'t>, name: &str) -> Option<Node<'t>> {
    let mut root = within;
    while let Some(outer) = root.parent() {
        root = outer;
    }
    let bound = |it: Node<'t>| {
        let is_it = it.kind() == "assignment" && source.of(it.child_by_field_name("left")?) == name;
        it.child_by_field_name("right").filter(|_| is_it)
    };
    let uses = |text: &str| words(text).filter(|it| *it == name).count();
    if let Some(value) = source.all(within).into_iter().find_map(bound) {
        return (uses(source.of(within)) == 2).then_some(value);
    }
    let at_top = children(root).into_iter().filter(|it| it.kind() == "expression_statement");
    let value = at_top.filter_map(|it| it.child(0)).find_map(bound)?;
    (uses(source.text) == 2).then_some(value)
}

/// The literals of what a parametrised test is given under a name that it looks at once.
fn of_cases(source: &TestSource<'_>, test: Node<'_>, name: &str) -> Option<Vec<Literal>> {
    let body = test.child_by_field_name("body")?;
    if words(source.of(body)).filter(|it| *it == name).count() != 1 {
        return None;
    }
    let outer = test.parent().filter(|it| it.kind() == "decorated_definition")?;
    let decorators = children(outer).into_iter().filter(|it| it.kind() == "decorator");
    let mut cases = decorators.filter_map(|it| {
        let call = children(it).into_iter().find(|it| it.kind() == "call")?;
        let function = source.of(call.child_by_field_name("function")?);
        let given = children(call.child_by_field_name("arguments")?);
        let given: Vec<_> =
            given.into_iter().filter(|it| it.is_named() && it.kind() != "comment").collect();
        let names =
            given.first().map(|it| source.of(*it)).filter(|_| function.ends_with("parametrize"))?;
        let names: Vec<&str> = words(names).collect();
        let has_ids = given.iter().any(|it| {
            let is_list = it.child_by_field_name("value").is_some_and(|it| it.kind() == "list");
            is_list && source.of(*it).starts_with("ids")
        });
        Some((names.iter().position(|it| *it == name)?, names.len(), *given.get(1)?, has_ids))
    });
    let (at, width, mut table, has_ids) = cases.next()?;
    if table.kind() == "identifier" {
        table = value_of(source, test, source.of(table))?;
    }
    let rows = children(table).into_iter().filter(|it| it.is_named() && it.kind() != "comment");
    // Names of tests are made of single values, unless they are given.
    let is_named = |row: &Node<'_>| {
        let is_param = row.kind() == "call" && source.of(*row).contains("id=");
        let cells: Vec<_> = children(*row).into_iter().filter(|it| it.is_named()).collect();
        let cell = if width > 1 { cells.get(at).copied() } else { Some(*row) };
        is_param
            || cell.is_some_and(|it| matches!(it.kind(), "list" | "tuple" | "dictionary" | "set"))
    };
    let rows: Vec<_> = rows.collect();
    if !has_ids && !rows.iter().all(is_named) {
        return None;
    }
    if width > 1 {
        return in_column(source, table, at, width);
    }
    let mut found = Vec::new();
    for row in rows {
        let mut is_made = false;
        found.extend(expected(source, row, &mut is_made).filter(|it| !it.is_empty() && !is_made)?);
    }
    Some(found)
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
        let is_param = row.kind() == "call"
            && row
                .child_by_field_name("function")
                .is_some_and(|it| source.of(it).ends_with("param"));
        let cells = if is_param { row.child_by_field_name("arguments")? } else { row };
        let is_cell =
            |it: &Node<'_>| it.is_named() && !matches!(it.kind(), "comment" | "keyword_argument");
        let cells: Vec<_> = children(cells).into_iter().filter(is_cell).collect();
        if !(is_param || matches!(row.kind(), "list" | "tuple")) || cells.len() != width {
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
