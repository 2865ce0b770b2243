//! Where the values stand that tests in Go compare with.

use tree_sitter::Node;

use super::literal::{Literal, LiteralKind};
use super::syntax::{TestSource, children};

/// Types that a value may be converted to where it is expected.
const CONVERSIONS: &[&str] = &[
    "int", "int8", "int16", "int32", "int64", "uint", "uint8", "uint16", "uint32", "uint64",
    "float32", "float64", "string", "byte", "rune",
];

/// What is converted, where something looks like a conversion: a call of one value by a name in upper case.
pub fn converted<'t>(source: &TestSource<'_>, node: Node<'t>) -> Node<'t> {
    let inner = || {
        let name = node.child_by_field_name("function").map(|it| source.of(it))?;
        let arguments = children(node.child_by_field_name("arguments")?);
        let mut given = arguments.into_iter().filter(|it| it.is_named());
        let (only, None) = (given.next()?, given.next()) else { return None };
        name.rsplit('.').next()?.starts_with(char::is_uppercase).then_some(only)
    };
    inner().unwrap_or(node)
}

/// The literals of one side of a comparison: its own, or those of what stands for it and is used there only, such as a
/// variable, what a loop goes through, or a table's column.
pub fn side(source: &TestSource<'_>, site: Node<'_>, node: Node<'_>) -> Vec<Literal> {
    let found = match node.kind() {
        "identifier" => of_name(source, site, source.of(node)),
        "selector_expression" => of_field(source, site, node),
        "index_expression" => of_index(source, site, node),
        _ => expected(source, node),
    };
    found.unwrap_or_default()
}

/// How often something is looked at, outside of what a test says when it fails.
fn uses(
    source: &TestSource<'_>,
    site: Node<'_>,
    within: Node<'_>,
    text: &str,
    kind: &str,
) -> usize {
    let said = site.child_by_field_name("consequence").map_or(0..0, |it| it.byte_range());
    let all = source.all(within).into_iter();
    all.filter(|it| it.kind() == kind && source.of(*it) == text && !said.contains(&it.start_byte()))
        .count()
}

fn of_name(source: &TestSource<'_>, site: Node<'_>, name: &str) -> Option<Vec<Literal>> {
    let function = function(site)?;
    if let Some((table, is_value)) = range_of(source, function, name) {
        let is_one = uses(source, site, function, name, "identifier") == 2;
        let rows = rows(source, site, table).filter(|_| is_one && is_value)?;
        let mut found = Vec::new();
        for row in rows {
            found.extend(expected(source, row).filter(|it| !it.is_empty())?);
        }
        return Some(found);
    }
    expected(source, value_of(source, site, name)?)
}

/// What a variable or constant is, of a function or of the file, that is looked at in one place.
fn value_of<'t>(source: &TestSource<'_>, site: Node<'t>, name: &str) -> Option<Node<'t>> {
    let function = function(site)?;
    let root = function.parent()?;
    let bound = |within: Node<'t>| {
        let mut all = source.all(within).into_iter().filter_map(|it| {
            let (name_field, value_field) = match it.kind() {
                "short_var_declaration" => ("left", "right"),
                "var_spec" | "const_spec" => ("name", "value"),
                _ => return None,
            };
            let is_it = source.of(it.child_by_field_name(name_field)?) == name;
            it.child_by_field_name(value_field).filter(|_| is_it)
        });
        all.next()
    };
    let at_top = |it: &Node<'t>| {
        let mut at = it.parent();
        while let Some(outer) = at.filter(|it| it.kind() != "function_declaration") {
            at = outer.parent();
        }
        at.is_none()
    };
    let (within, value) = match bound(function) {
        Some(value) => (function, value),
        None => (root, bound(root).filter(|it| at_top(it) && !source.is_elsewhere(name))?),
    };
    (uses(source, site, within, name, "identifier") == 2).then_some(value)
}

/// What a loop goes through that gives a name its values, and whether it is values, and no places.
fn range_of<'t>(
    source: &TestSource<'_>,
    function: Node<'t>,
    name: &str,
) -> Option<(Node<'t>, bool)> {
    let clauses = source.all(function).into_iter().filter(|it| it.kind() == "range_clause");
    let mut found = clauses.filter_map(|it| {
        let names = children(it.child_by_field_name("left")?);
        let mut names = names.into_iter().filter(|it| it.is_named());
        let at = names.position(|it| source.of(it) == name)?;
        Some((it.child_by_field_name("right")?, at == 1))
    });
    found.next()
}

/// The elements of a list, or the values of a map; a name stands for what it is bound to.
fn rows<'t>(source: &TestSource<'_>, site: Node<'t>, table: Node<'t>) -> Option<Vec<Node<'t>>> {
    let mut value = table;
    if table.kind() == "identifier" {
        value = value_of(source, site, source.of(table))?;
    }
    while value.kind() == "expression_list" {
        value = children(value).into_iter().find(|it| it.is_named())?;
    }
    let body = value.child_by_field_name("body").filter(|_| value.kind() == "composite_literal")?;
    let rows = children(body).into_iter().filter(|it| it.is_named() && it.kind() != "comment");
    Some(rows.collect())
}

/// Whether a row is looked at as a whole, as for the name of a test, outside of what a test says when it fails.
fn is_whole(
    source: &TestSource<'_>,
    function: Node<'_>,
    row: Node<'_>,
    said: &std::ops::Range<usize>,
) -> bool {
    let name = source.of(row);
    let binds = ["range_clause", "short_var_declaration", "expression_list"];
    source.all(function).into_iter().any(|it| {
        let is_row = it.kind() == "identifier" && source.of(it) == name;
        let parent = it.parent().map_or("", |it| it.kind());
        let is_part = matches!(parent, "selector_expression" | "index_expression");
        is_row && !is_part && !binds.contains(&parent) && !said.contains(&it.start_byte())
    })
}

/// The literals of a field of the rows that a loop goes through.
fn of_field(source: &TestSource<'_>, site: Node<'_>, node: Node<'_>) -> Option<Vec<Literal>> {
    let function = function(site)?;
    let name = source.of(node.child_by_field_name("field")?);
    let said = site.child_by_field_name("consequence").map_or(0..0, |it| it.byte_range());
    if is_whole(source, function, node.child_by_field_name("operand")?, &said) {
        return None;
    }
    let is_it = |it: &Node<'_>| {
        let field = it.child_by_field_name("field");
        it.kind() == "selector_expression"
            && field.is_some_and(|it| source.of(it) == name)
            && !said.contains(&it.start_byte())
    };
    if source.all(function).iter().filter(|it| is_it(it)).count() != 1 {
        return None;
    }
    if let Some(found) = column(source, function, name) {
        return Some(found);
    }
    // A table of the file's that nothing else looks at.
    let row = source.of(node.child_by_field_name("operand")?);
    let (table, _) = range_of(source, function, row).filter(|it| it.1)?;
    column(source, value_of(source, site, source.of(table))?, name)
}

/// The literals of a column of the lists that a loop goes through.
fn of_index(source: &TestSource<'_>, site: Node<'_>, node: Node<'_>) -> Option<Vec<Literal>> {
    let function = function(site)?;
    let at: usize = source.of(node.child_by_field_name("index")?).parse().ok()?;
    let said = site.child_by_field_name("consequence").map_or(0..0, |it| it.byte_range());
    if is_whole(source, function, node.child_by_field_name("operand")?, &said) {
        return None;
    }
    let row = source.of(node.child_by_field_name("operand")?);
    let (table, _) = range_of(source, function, row).filter(|it| it.1)?;
    if uses(source, site, function, source.of(node), "index_expression") != 1 {
        return None;
    }
    let mut found = Vec::new();
    for row in rows(source, site, table)? {
        let cells = source.all(row).into_iter().find(|it| it.kind() == "literal_value")?;
        let cells =
            children(cells).into_iter().filter(|it| it.is_named() && it.kind() != "comment");
        let cells: Vec<_> = cells.collect();
        found.extend(expected(source, *cells.get(at)?).filter(|it| !it.is_empty())?);
    }
    Some(found)
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
