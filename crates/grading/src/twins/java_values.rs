//! Where the values stand that tests in Java compare with.

use std::ops::Range;

use tree_sitter::Node;

use super::literal::{Literal, LiteralKind};
use super::syntax::{TestSource, children, words};

/// Methods that make a list or stream of what they are given.
const LISTS: &[&str] = &["of", "asList"];

/// The literals of one side of a comparison: its own, or those of what stands for it and is used there only, such as a
/// variable, a parameter, or a column of a table.
pub fn side(source: &TestSource<'_>, site: Node<'_>, node: Node<'_>) -> Vec<Literal> {
    let own = expected(source, node).unwrap_or_default();
    if own.is_empty() { bound(source, site, node).unwrap_or_default() } else { own }
}

/// The parameters of a method: names and types.
pub fn parameters<'a>(source: &TestSource<'a>, method: Node<'_>) -> Vec<(&'a str, &'a str)> {
    let all = method.child_by_field_name("parameters").map_or(Vec::new(), children);
    let named = all.into_iter().filter_map(|it| {
        let (name, kind) = (it.child_by_field_name("name")?, it.child_by_field_name("type")?);
        Some((source.of(name), source.of(kind)))
    });
    named.collect()
}

/// The nearest node around one that is of a kind.
fn around<'t>(node: Node<'t>, kind: &str) -> Option<Node<'t>> {
    let mut at = node.parent();
    while let Some(outer) = at.filter(|it| it.kind() != kind) {
        at = outer.parent();
    }
    at
}

/// Nodes below one that are no punctuation.
fn named(node: Node<'_>) -> Vec<Node<'_>> {
    children(node).into_iter().filter(|it| it.is_named() && !it.is_extra()).collect()
}

fn uses(source: &TestSource<'_>, within: Node<'_>, name: &str) -> usize {
    words(source.of(within)).filter(|it| *it == name).count()
}

fn bound(source: &TestSource<'_>, site: Node<'_>, node: Node<'_>) -> Option<Vec<Literal>> {
    let method = around(site, "method_declaration")?;
    match node.kind() {
        "identifier" => {
            let name = source.of(node);
            let parameters = parameters(source, method);
            if let Some(at) = parameters.iter().position(|it| it.0 == name) {
                let is_one = uses(source, method.child_by_field_name("body")?, name) == 1;
                return is_one.then(|| given(source, method, &parameters, at)).flatten();
            }
            if let Some((table, body)) = row_of(source, site, name) {
                let is_one = uses(source, body, name) == 1;
                return all_of(source, &rows(source, method, table).filter(|_| is_one)?);
            }
            expected(source, value_of(source, method, name)?)
        }
        "array_access" => {
            let index = source.of(node.child_by_field_name("index")?).parse().ok()?;
            let name = source.of(node.child_by_field_name("array")?);
            let (table, body) = row_of(source, site, name)?;
            let accesses =
                source.all(body).into_iter().filter(|it| source.of(*it) == source.of(node));
            let is_one = accesses.filter(|it| it.kind() == "array_access").count() == 1;
            column(source, &rows(source, method, table).filter(|_| is_one)?, index)
        }
        "method_invocation" if named(node.child_by_field_name("arguments")?).is_empty() => {
            let part = source.of(node.child_by_field_name("name")?);
            let name = source.of(node.child_by_field_name("object")?);
            let (table, body) = row_of(source, site, name)?;
            let rows = rows(source, method, table).filter(|_| uses(source, body, part) == 1)?;
            let record = source.of(rows.first()?.child_by_field_name("type")?);
            let all = source.all(source.tree.root_node()).into_iter();
            let mut records = all.filter(|it| {
                let own = it.child_by_field_name("name").map(|it| source.of(it));
                it.kind() == "record_declaration" && own == Some(record)
            });
            let at = parameters(source, records.next()?).iter().position(|it| it.0 == part)?;
            column(source, &rows, at)
        }
        _ => None,
    }
}

/// What a loop around a place goes through under a name, and what it does each time.
fn row_of<'t>(source: &TestSource<'_>, site: Node<'t>, name: &str) -> Option<(Node<'t>, Node<'t>)> {
    let mut at = site.parent();
    while let Some(outer) = at {
        let own = outer.child_by_field_name("name").map(|it| source.of(it));
        if outer.kind() == "enhanced_for_statement" && own == Some(name) {
            return Some((outer.child_by_field_name("value")?, outer.child_by_field_name("body")?));
        }
        at = outer.parent();
    }
    None
}

/// What a variable or field is, where it is used in one place.
fn value_of<'t>(source: &TestSource<'_>, method: Node<'t>, name: &str) -> Option<Node<'t>> {
    let root = around(method, "program")?;
    let declared = |within: Node<'t>, kind: &str| {
        let all = source.all(within).into_iter();
        let mut found = all.filter(|it| {
            let own = it.child_by_field_name("name").map(|it| source.of(it));
            it.kind() == "variable_declarator"
                && own == Some(name)
                && it.parent().is_some_and(|it| it.kind() == kind)
        });
        found.next()
    };
    let (within, declarator) = match declared(method, "local_variable_declaration") {
        Some(local) => (method, local),
        None => (root, declared(root, "field_declaration").filter(|_| !source.is_elsewhere(name))?),
    };
    declarator.child_by_field_name("value").filter(|_| uses(source, within, name) == 2)
}

/// What a list, an array or a stream is made of; a name stands for what it is bound to.
fn rows<'t>(source: &TestSource<'_>, method: Node<'t>, table: Node<'t>) -> Option<Vec<Node<'t>>> {
    match table.kind() {
        "identifier" => {
            let value = value_of(source, method, source.of(table))?;
            if value.kind() == "identifier" { None } else { rows(source, method, value) }
        }
        "array_creation_expression" => rows(source, method, table.child_by_field_name("value")?),
        "array_initializer" => Some(named(table)),
        "method_invocation" => {
            let name = source.of(table.child_by_field_name("name")?);
            let of = source.of(table.child_by_field_name("object")?);
            let makes = LISTS.contains(&name) && of.starts_with(char::is_uppercase);
            table.child_by_field_name("arguments").filter(|_| makes).map(named)
        }
        _ => None,
    }
}

/// The literals of all of these. `None` where one has none.
fn all_of(source: &TestSource<'_>, values: &[Node<'_>]) -> Option<Vec<Literal>> {
    let mut found = Vec::new();
    for value in values {
        found.extend(expected(source, *value).filter(|it| !it.is_empty())?);
    }
    Some(found)
}

/// The literals that stand in one column of these rows.
fn column(source: &TestSource<'_>, rows: &[Node<'_>], at: usize) -> Option<Vec<Literal>> {
    let cell = |row: &Node<'_>| {
        let cells = match row.kind() {
            "array_initializer" => named(*row),
            "array_creation_expression" => named(row.child_by_field_name("value")?),
            "object_creation_expression" => named(row.child_by_field_name("arguments")?),
            "method_invocation" => {
                let name = source.of(row.child_by_field_name("name")?);
                let arguments = row.child_by_field_name("arguments")?;
                let is_row = matches!(name, "of" | "arguments" | "entry");
                if is_row { named(arguments) } else { return None }
            }
            _ => return None,
        };
        let literals = expected(source, *cells.get(at)?)?;
        (!literals.is_empty()).then_some(literals)
    };
    let found: Option<Vec<_>> = rows.iter().map(cell).collect();
    found.map(|it| it.concat())
}

/// The literals that a test with parameters is given for one of them.
fn given(
    source: &TestSource<'_>,
    method: Node<'_>,
    parameters: &[(&str, &str)],
    at: usize,
) -> Option<Vec<Literal>> {
    let modifiers = children(method).into_iter().find(|it| it.kind() == "modifiers")?;
    let annotations: Vec<_> =
        children(modifiers).into_iter().filter(|it| it.kind().ends_with("annotation")).collect();
    let name = |it: &Node<'_>| it.child_by_field_name("name").map(|it| source.of(it));
    let sources: Vec<_> =
        annotations.iter().filter(|it| name(it).is_some_and(|it| it.ends_with("Source"))).collect();
    let [only] = sources[..] else { return None };
    match name(only)? {
        "CsvSource" => lines(source, *only, parameters[at].1, at),
        "MethodSource" => {
            let texts = strings(source, *only);
            let own = source.of(method.child_by_field_name("name")?);
            let called = match texts[..] {
                [] => own,
                [one] => source.of(one).trim_matches('"'),
                _ => return None,
            };
            // Nothing else takes its values from it.
            if source.mentions(called) != 2 {
                return None;
            }
            let mut methods = source.all(source.tree.root_node()).into_iter().filter(|it| {
                it.kind() == "method_declaration"
                    && it.id() != method.id()
                    && name(it) == Some(called)
            });
            let makes = methods.next()?;
            let mut returns =
                source.all(makes).into_iter().filter(|it| it.kind() == "return_statement");
            let (value, None) = (named(returns.next()?).into_iter().next()?, returns.next()) else {
                return None;
            };
            let rows = rows(source, makes, value)?;
            if parameters.len() == 1 { all_of(source, &rows) } else { column(source, &rows, at) }
        }
        _ => None,
    }
}

/// The texts of an annotation that has nothing else.
fn strings<'t>(source: &TestSource<'_>, annotation: Node<'t>) -> Vec<Node<'t>> {
    source.all(annotation).into_iter().filter(|it| it.kind() == "string_literal").collect()
}

/// The cells of one column of texts that hold values between commas, as far as the type is one that has others.
fn lines(
    source: &TestSource<'_>,
    annotation: Node<'_>,
    kind: &str,
    at: usize,
) -> Option<Vec<Literal>> {
    let kind = match kind {
        "int" | "long" | "short" | "byte" | "Integer" | "Long" => LiteralKind::Integer,
        "double" | "float" | "Double" => LiteralKind::Float,
        "boolean" | "Boolean" => LiteralKind::Truth,
        "String" => LiteralKind::Word,
        _ => return None,
    };
    let settings =
        source.all(annotation).into_iter().filter(|it| it.kind() == "element_value_pair");
    let mut keys = settings.filter_map(|it| it.child_by_field_name("key"));
    if keys.any(|it| !["value", "textBlock"].contains(&source.of(it))) {
        return None;
    }
    let mut found = Vec::new();
    for text in strings(source, annotation) {
        let (whole, start) = (source.of(text), text.start_byte());
        if whole.contains('\\') {
            return None;
        }
        let quotes = if whole.starts_with("\"\"\"") { 3 } else { 1 };
        let mut from = start + quotes;
        for line in source.text[from..text.end_byte() - quotes].split_inclusive('\n') {
            if !line.trim().is_empty() && !line.trim().starts_with('#') {
                found.push(Literal { at: cell(line, from, at)?, kind });
            }
            from += line.len();
        }
    }
    Some(found)
}

/// Where the cell of a line stands that begins at a place in the file. `None` where it is quoted or empty.
fn cell(line: &str, from: usize, at: usize) -> Option<Range<usize>> {
    if line.contains(['\'', '"']) {
        return None;
    }
    let before: usize = line.split(',').take(at).map(|it| it.len() + 1).sum();
    let cell = line.split(',').nth(at)?;
    let start = from + before + (cell.len() - cell.trim_start().len());
    (!cell.trim().is_empty()).then(|| start..start + cell.trim().len())
}

/// The literals of an expectation that calls nothing but what makes values. `None` when it does more.
fn expected(source: &TestSource<'_>, node: Node<'_>) -> Option<Vec<Literal>> {
    let literal = |kind| Some(vec![Literal { at: node.byte_range(), kind }]);
    match node.kind() {
        "decimal_integer_literal" => return literal(LiteralKind::Integer),
        "decimal_floating_point_literal" => return literal(LiteralKind::Float),
        "string_literal" => return literal(LiteralKind::Text),
        "character_literal" => return literal(LiteralKind::Char),
        "true" | "false" => return literal(LiteralKind::Truth),
        "lambda_expression" | "method_reference" => return None,
        "array_access" | "dimensions_expr" | "class_literal" => return Some(Vec::new()),
        "object_creation_expression" => {
            return expected(source, node.child_by_field_name("arguments")?);
        }
        "method_invocation" => {
            let of = node.child_by_field_name("object").map(|it| source.of(it))?;
            let name = node.child_by_field_name("name").map(|it| source.of(it))?;
            let makes = [
                "of",
                "asList",
                "valueOf",
                "entry",
                "ofEntries",
                "singletonList",
                "range",
                "rangeClosed",
            ];
            let is_class =
                of.rsplit('.').next().is_some_and(|it| it.starts_with(char::is_uppercase));
            if !is_class || !makes.contains(&name) {
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

#[cfg(test)]
mod tests {
    use super::*;

    /// The literals of the second side of the only assertion of equality in a class.
    fn found(members: &str) -> Vec<String> {
        let text = format!("class T {{ {members} }}");
        let mut parser = tree_sitter::Parser::new();
        parser.set_language(&tree_sitter_java::LANGUAGE.into()).unwrap();
        let tree = parser.parse(&text, None).unwrap();
        let source = TestSource::alone(&text, &tree);
        let call = source.all(tree.root_node()).into_iter().find(|it| {
            it.child_by_field_name("name").is_some_and(|it| source.of(it) == "assertEquals")
        });
        let arguments = call.unwrap().child_by_field_name("arguments").unwrap();
        let literals = side(&source, arguments, named(arguments)[0]);
        literals.into_iter().map(|it| text[it.at].to_owned()).collect()
    }

    #[test]
    fn values_are_found_where_they_stand() {
        let csv = |rows: &str, parameters: &str| {
            format!(
                "@ParameterizedTest @CsvSource({rows}) void one({parameters}) {{ assertEquals(want, f(n)); }}"
            )
        };
        let of = |body: &str| format!("@Test void one() {{ {body} }}");
        let made = |source: &str| {
            format!(
                "static Stream<Arguments> made() {{ return Stream.of({source}); }} @ParameterizedTest @MethodSource(\"made\") void one(int n, int want) {{ assertEquals(want, f(n)); }}"
            )
        };
        for (members, literals) in [
            (of("int want = 6; assertEquals(want, f(3));"), vec!["6"]),
            (of("int want = 6; assertEquals(want, f(want));"), vec![]),
            (format!("static final int WANT = 6; {}", of("assertEquals(WANT, f(3));")), vec!["6"]),
            (
                of(
                    "for (int[] row : new int[][] {{1, 2}, {3, 4}}) assertEquals(row[1], f(row[0]));",
                ),
                vec!["2", "4"],
            ),
            (
                of(
                    "int[][] rows = {{1, 2}, {3, 4}}; for (int[] row : rows) { assertEquals(row[1], f(row[0])); }",
                ),
                vec!["2", "4"],
            ),
            (
                of("for (String it : List.of(\"a\", \"b\")) assertEquals(it, f());"),
                vec!["\"a\"", "\"b\""],
            ),
            (
                format!(
                    "record Case(int n, int want) {{}} {}",
                    of(
                        "for (Case it : List.of(new Case(1, 2), new Case(3, 4))) assertEquals(it.want(), f(it.n()));"
                    )
                ),
                vec!["2", "4"],
            ),
            (csv("{\"1, 2\", \"3,  4 \"}", "int n, int want"), vec!["2", "4"]),
            (csv("\"a, b c\"", "String n, String want"), vec!["b c"]),
            (
                csv("textBlock = \"\"\"\n  1, 2\n  # 5, 6\n  3, 4\n\"\"\"", "int n, int want"),
                vec!["2", "4"],
            ),
            (csv("\"1, 'a, b'\"", "int n, String want"), vec![]),
            (csv("value = \"1|2\", delimiter = '|'", "int n, int want"), vec![]),
            (csv("\"1, A\"", "int n, Size want"), vec![]),
            (made("Arguments.of(1, 2), Arguments.of(3, 4)"), vec!["2", "4"]),
            (made("Arguments.of(1, two()), Arguments.of(3, 4)"), vec![]),
        ] {
            assert_eq!(found(&members), literals, "{members}");
        }
    }
}
