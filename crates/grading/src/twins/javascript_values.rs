//! Where the values stand that tests in JavaScript compare with.

use tree_sitter::Node;

use super::literal::{Literal, LiteralKind};
use super::syntax::{TestSource, children, words};

/// The literals of one side of a comparison: its own, or those of what stands for it and is used there only, such as a
/// variable or a column of a table.
pub fn side(source: &TestSource<'_>, site: Node<'_>, node: Node<'_>) -> Vec<Literal> {
    let found = match node.kind() {
        "identifier" => of_name(source, site, source.of(node)),
        "member_expression" => of_member(source, site, node),
        _ => expected(source, node),
    };
    found.unwrap_or_default()
}

fn uses(source: &TestSource<'_>, within: Node<'_>, name: &str) -> usize {
    words(source.of(within)).filter(|it| *it == name).count()
}

fn named(node: Node<'_>) -> Vec<Node<'_>> {
    children(node).into_iter().filter(|it| it.is_named() && it.kind() != "comment").collect()
}

/// What is done for each of several values around a place: what they are called, where they come from, what is done.
fn loops<'t>(source: &TestSource<'_>, site: Node<'t>) -> Vec<(Node<'t>, Node<'t>, Node<'t>)> {
    let (mut found, mut at) = (Vec::new(), site.parent());
    while let Some(outer) = at {
        let field = |name: &str| outer.child_by_field_name(name);
        let is_loop = outer.kind() == "for_in_statement" && source.of(outer).contains(" of ");
        if is_loop
            && let (Some(left), Some(right), Some(body)) =
                (field("left"), field("right"), field("body"))
        {
            found.push((left, right, body));
        }
        let each = || {
            let function = outer.parent()?.parent()?.child_by_field_name("function")?;
            let is_each = function
                .child_by_field_name("property")
                .is_some_and(|it| source.of(it) == "forEach");
            let table = function.child_by_field_name("object").filter(|_| is_each)?;
            let first =
                field("parameter").or_else(|| named(field("parameters")?).into_iter().next())?;
            Some((first, table, field("body")?))
        };
        found.extend(each());
        at = outer.parent();
    }
    found
}

fn of_name(source: &TestSource<'_>, site: Node<'_>, name: &str) -> Option<Vec<Literal>> {
    for (left, table, body) in loops(source, site) {
        let place = match left.kind() {
            "identifier" if source.of(left) == name => Some(Column::Whole),
            "array_pattern" => {
                named(left).iter().position(|it| source.of(*it) == name).map(Column::Place)
            }
            "object_pattern" if named(left).iter().any(|it| source.of(*it) == name) => {
                Some(Column::Field(name))
            }
            _ => None,
        };
        if let Some(place) = place {
            let is_one = uses(source, body, name) == 1;
            return column(source, &rows(source, site, table).filter(|_| is_one)?, &place);
        }
    }
    expected(source, value_of(source, site, name)?)
}

/// The literals of a field of the values that a loop goes through.
fn of_member(source: &TestSource<'_>, site: Node<'_>, node: Node<'_>) -> Option<Vec<Literal>> {
    let row = source.of(node.child_by_field_name("object")?);
    let field = source.of(node.child_by_field_name("property")?);
    let mut loops = loops(source, site).into_iter().filter(|it| source.of(it.0) == row);
    let (_, table, body) = loops.next()?;
    let looks = source
        .all(body)
        .into_iter()
        .filter(|it| it.kind() == "member_expression" && source.of(*it) == source.of(node));
    let wholes = source.all(body).into_iter().filter(|it| {
        let is_part = it.parent().is_some_and(|it| it.kind() == "member_expression");
        it.kind() == "identifier" && source.of(*it) == row && !is_part
    });
    let is_one = looks.count() == 1 && wholes.count() == 0;
    column(source, &rows(source, site, table).filter(|_| is_one)?, &Column::Field(field))
}

/// What a name is bound to around a place, where one place uses it.
fn value_of<'t>(source: &TestSource<'_>, site: Node<'t>, name: &str) -> Option<Node<'t>> {
    let mut at = site.parent();
    while let Some(outer) = at {
        if matches!(outer.kind(), "statement_block" | "program") {
            let binds =
                source.all(outer).into_iter().filter(|it| it.kind() == "variable_declarator");
            let mut values = binds.filter_map(|it| {
                let is_it = it.child_by_field_name("name").is_some_and(|it| source.of(it) == name);
                it.child_by_field_name("value").filter(|_| is_it)
            });
            if let Some(value) = values.next() {
                return (uses(source, outer, name) == 2).then_some(value);
            }
        }
        at = outer.parent();
    }
    None
}

/// The elements of a list; a name stands for what it is bound to.
fn rows<'t>(source: &TestSource<'_>, site: Node<'t>, table: Node<'t>) -> Option<Vec<Node<'t>>> {
    match table.kind() {
        "identifier" => {
            let value = value_of(source, site, source.of(table))?;
            (value.kind() == "array").then(|| named(value))
        }
        "array" => Some(named(table)),
        _ => None,
    }
}

/// A part of each row.
enum Column<'a> {
    Whole,
    Place(usize),
    Field(&'a str),
}

/// The literals of a part of every row. `None` where one has none.
fn column(source: &TestSource<'_>, rows: &[Node<'_>], at: &Column<'_>) -> Option<Vec<Literal>> {
    let mut found = Vec::new();
    for row in rows {
        let cell = match at {
            Column::Whole => *row,
            Column::Place(at) => *named(*row).get(*at).filter(|_| row.kind() == "array")?,
            Column::Field(name) => named(*row).into_iter().find_map(|it| {
                let key = it.child_by_field_name("key").map(|it| source.of(it))?;
                it.child_by_field_name("value").filter(|_| key == *name)
            })?,
        };
        found.extend(expected(source, cell).filter(|it| !it.is_empty())?);
    }
    Some(found)
}

/// The literals of an expectation that calls nothing. `None` when it does.
fn expected(source: &TestSource<'_>, node: Node<'_>) -> Option<Vec<Literal>> {
    let literal = |kind| Some(vec![Literal { at: node.byte_range(), kind }]);
    match node.kind() {
        "number" => {
            let is_float = source.of(node).contains('.');
            return literal(if is_float { LiteralKind::Float } else { LiteralKind::Integer });
        }
        "string" => return literal(LiteralKind::Text),
        "true" | "false" => return literal(LiteralKind::Truth),
        "template_string" | "regex" | "member_expression" | "subscript_expression" => {
            return Some(Vec::new());
        }
        "pair" => return expected(source, node.child_by_field_name("value")?),
        "call_expression"
        | "arrow_function"
        | "function_expression"
        | "await_expression"
        | "ternary_expression" => return None,
        "new_expression" => {
            let class = source.of(node.child_by_field_name("constructor")?);
            let is_plain = ["Set", "Map", "Date", "Array"].contains(&class);
            return expected(source, node.child_by_field_name("arguments").filter(|_| is_plain)?);
        }
        _ => {}
    }
    let mut found = Vec::new();
    for child in children(node) {
        found.extend(expected(source, child)?);
    }
    Some(found)
}
