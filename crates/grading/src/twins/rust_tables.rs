//! Tests in Rust that a macro of the same file makes of a table's rows.

use std::ops::Range;

use tree_sitter::Node;

use super::edit::Edit;
use super::literal::Literal;
use super::rust_asserts::{BEGINS, MACROS};
use super::rust_values::{Token, behind, expected, split, tokens};
use super::syntax::{Site, TestFileParts, TestItem, TestSource, children};

/// A part of what a macro is given.
#[derive(Debug)]
enum MatcherPart<'a> {
    /// This token.
    Plain(&'a str),
    /// Something under a name.
    Named { name: &'a str, kind: &'a str },
    /// The same several times.
    Repeated { parts: Vec<MatcherPart<'a>>, between: Option<&'a str> },
}

/// Names with the tokens that stand for them.
type Row<'a> = Vec<(&'a str, Range<usize>)>;

/// A macro that makes tests.
struct Table<'a> {
    name: &'a str,
    patterns: Vec<MatcherPart<'a>>,
    /// What the name of a test stands for.
    test: &'a str,
    /// What it compares with: a name, and the place in the tuple that is under it.
    compares: Option<(&'a str, Option<usize>)>,
    is_certain: bool,
    edits: Vec<Edit>,
}

/// Takes the macros of a file apart that make tests, and what they are given.
pub fn tables(source: &TestSource<'_>, head: usize, parts: &mut TestFileParts) {
    let root = source.tree.root_node();
    let definitions = source.all(root).into_iter().filter(|it| it.kind() == "macro_definition");
    for table in definitions.filter_map(|it| table(source, it)) {
        let invocations = source.all(root).into_iter().filter(|it| {
            it.kind() == "macro_invocation"
                && it.child_by_field_name("macro").is_some_and(|it| source.of(it) == table.name)
        });
        let rows = invocations.map(|it| rows(source, it, &table)).collect::<Option<Vec<_>>>();
        // All of them or none: they share what asserts.
        let Some(rows) = rows.map(|it| it.concat()).filter(|it| !it.is_empty()) else { continue };
        if rows.iter().any(|it| source.mentions(&source.text[it.0.clone()]) != 1) {
            continue;
        }
        parts.head.extend(table.edits);
        for (name_at, literals) in rows {
            let name = source.text[name_at.clone()].to_owned();
            let line = source.text[..name_at.start].matches('\n').count() + 1;
            let site = |number: &str| {
                let text = format!(
                    "#[allow(dead_code, non_snake_case)] pub mod {{name}} {{ pub const AT: u32 = {number}; }} "
                );
                vec![Edit::before(head, text)]
            };
            parts.sites.push(Site {
                at: name_at.clone(),
                line,
                test: None,
                is_certain: table.is_certain,
                noted: site("{site}"),
                swapped: Some(site("{site} | 1 << 31")),
                literals,
                is_made: false,
            });
            parts.tests.push(TestItem {
                name,
                prefix: "",
                name_at: name_at.clone(),
                slot: Some(name_at),
                begins: vec![Edit::before(head, "")],
                fails: Vec::new(),
            });
        }
    }
}

fn texts<'a>(tokens: &[Token<'a>]) -> Vec<&'a str> {
    tokens.iter().map(|it| it.text).collect()
}

/// A macro of one rule that makes a function with `#[test]` under a name that it is given.
fn table<'a>(source: &TestSource<'a>, node: Node<'_>) -> Option<Table<'a>> {
    let name = source.of(node.child_by_field_name("name")?);
    let mut rules = children(node).into_iter().filter(|it| it.kind() == "macro_rule");
    let (Some(rule), None) = (rules.next(), rules.next()) else { return None };
    let left = tokens(source, rule.child_by_field_name("left")?);
    let right = tokens(source, rule.child_by_field_name("right")?);
    let words = texts(&right);
    let mut marks =
        (0..words.len()).filter(|at| words[*at..].starts_with(&["#", "[", "test", "]"]));
    let (Some(mark), None) = (marks.next(), marks.next()) else { return None };
    let function = (mark..words.len()).find(|at| words[*at] == "fn")?;
    let test = words.get(function + 1).filter(|it| it.starts_with('$'))?;
    if words[mark..function].contains(&"should_panic") {
        return None;
    }
    let open = (function..words.len()).find(|at| words[*at] == "{")?;
    let body = open + 1..behind(&right, open) - 1;
    let begin = right[open].start + 1;
    let mut edits = vec![Edit::before(begin, BEGINS)];
    let (mut compares, mut is_certain, mut depth) = (None, false, 0);
    for at in body.clone() {
        match words[at] {
            "(" | "[" | "{" => depth += 1,
            ")" | "]" | "}" => depth -= 1,
            _ => {}
        }
        let own = MACROS.iter().find(|it| it.0 == words[at]);
        let Some((_, own, _)) = own.filter(|_| words[at + 1..].starts_with(&["!", "("])) else {
            continue;
        };
        edits.push(Edit::new(
            right[at].start..right[at].start + words[at].len(),
            format!("{{id}}_{own}"),
        ));
        edits.push(Edit::before(right[at + 2].start + 1, format!("{{id}}_F crate::{test}::AT; ")));
        is_certain |=
            depth == 0 && !words[body.start..at].iter().any(|it| matches!(*it, "return" | "?"));
        if *own == "eq" && compares.is_none() {
            let inside = at + 3..behind(&right, at + 2) - 1;
            let args = split(&right[inside], ",");
            let sides = [args.get(1), args.first()].into_iter().flatten();
            compares = sides.filter_map(|it| compared(&words[body.clone()], it)).next();
        }
    }
    let patterns = patterns(&with_separators(source, left.get(1..left.len().checked_sub(1)?)?));
    (edits.len() > 1).then_some(Table {
        name,
        patterns,
        test: &test[1..],
        compares,
        is_certain,
        edits,
    })
}

/// The texts of a pattern; what stands between repetitions is no token of its own in the tree.
fn with_separators<'a>(source: &TestSource<'a>, tokens: &[Token<'a>]) -> Vec<&'a str> {
    let mut found = Vec::new();
    for (at, token) in tokens.iter().enumerate() {
        found.push(token.text);
        let next = tokens.get(at + 1).map_or(token.start + token.text.len(), |it| it.start);
        let gap = source.text[token.start + token.text.len()..next].trim();
        if token.text == ")" && !gap.is_empty() {
            found.push(gap);
        }
    }
    found
}

/// What a side of a comparison stands for, where it is nothing but a name.
fn compared<'a>(body: &[&'a str], side: &[Token<'a>]) -> Option<(&'a str, Option<usize>)> {
    let plain: Vec<&str> = texts(side).into_iter().filter(|it| !matches!(*it, "&" | "*")).collect();
    let [name] = plain[..] else { return None };
    let uses = |name: &str| body.iter().filter(|it| **it == name).count();
    if let Some(given) = name.strip_prefix('$') {
        return (uses(name) == 1).then_some((given, None));
    }
    if uses(name) != 2 {
        return None;
    }
    let start = (0..body.len()).find(|at| {
        body[*at] == "let" && {
            let end = body[*at..].iter().position(|it| *it == "=").map_or(body.len(), |it| at + it);
            body[*at..end].contains(&name)
        }
    })?;
    let end = start + body[start..].iter().position(|it| *it == "=")?;
    let (pattern, value) = (&body[start + 1..end], &body[end + 1..]);
    let given = value.first()?.strip_prefix('$').filter(|_| value.get(1) == Some(&";"))?;
    if uses(value[0]) != 1 {
        return None;
    }
    match pattern {
        [only] if *only == name => Some((given, None)),
        ["(", inside @ .., ")"] => {
            let column = inside.split(|it| *it == ",").position(|it| it == [name])?;
            Some((given, Some(column)))
        }
        _ => None,
    }
}

fn patterns<'a>(words: &[&'a str]) -> Vec<MatcherPart<'a>> {
    let (mut found, mut at) = (Vec::new(), 0);
    while at < words.len() {
        match words[at..] {
            ["$", "(", ..] => {
                let end = closing(words, at + 1);
                let parts = patterns(&words[at + 2..end]);
                let is_end = |it: &str| matches!(it, "*" | "+" | "?");
                let between = words.get(end + 1).copied().filter(|it| !is_end(it));
                found.push(MatcherPart::Repeated { parts, between });
                at = end + 2 + usize::from(between.is_some());
            }
            [name, ":", kind, ..] if name.starts_with('$') => {
                found.push(MatcherPart::Named { name: &name[1..], kind });
                at += 3;
            }
            _ => {
                found.push(MatcherPart::Plain(words[at]));
                at += 1;
            }
        }
    }
    found
}

/// Where the bracket closes that opens at a place.
fn closing(words: &[&str], open: usize) -> usize {
    let mut depth = 0_i32;
    for (at, word) in words.iter().enumerate().skip(open) {
        match *word {
            "(" | "[" | "{" => depth += 1,
            ")" | "]" | "}" => depth -= 1,
            _ => {}
        }
        if depth <= 0 {
            return at;
        }
    }
    words.len()
}

/// Matches tokens from a place on, and gives the place behind; what repeats adds a row each time.
fn matched<'a>(
    patterns: &[MatcherPart<'a>],
    words: &[&str],
    mut at: usize,
    row: &mut Row<'a>,
    rows: &mut Vec<Row<'a>>,
) -> Option<usize> {
    for (index, pattern) in patterns.iter().enumerate() {
        match pattern {
            MatcherPart::Plain(text) => {
                if words.get(at) != Some(text) {
                    return None;
                }
                at += 1;
            }
            MatcherPart::Named { name, kind } => {
                let next = match patterns.get(index + 1) {
                    Some(MatcherPart::Plain(text)) => Some(*text),
                    _ => None,
                };
                let end = match *kind {
                    "ident" | "lifetime" | "literal" if words.get(at) != Some(&"-") => at + 1,
                    "tt" => closing(words, at).min(words.len().checked_sub(1)?) + 1,
                    _ => until(words, at, next),
                };
                if end <= at || end > words.len() {
                    return None;
                }
                row.push((name, at..end));
                at = end;
            }
            MatcherPart::Repeated { parts, between } => loop {
                let (mut own, mut inner) = (Row::new(), Vec::new());
                let Some(end) =
                    matched(parts, words, at, &mut own, &mut inner).filter(|it| *it > at)
                else {
                    break;
                };
                at = end;
                rows.push(own);
                rows.extend(inner);
                match between {
                    Some(text) if words.get(at) == Some(text) => at += 1,
                    Some(_) => break,
                    None => {}
                }
            },
        }
    }
    Some(at)
}

/// The end of an expression or type that begins at a place.
fn until(words: &[&str], at: usize, next: Option<&str>) -> usize {
    let mut here = at;
    while here < words.len() {
        let is_end = next.map_or(matches!(words[here], "=>" | "," | ";"), |it| words[here] == it);
        if is_end || matches!(words[here], "," | ";" | "=>") {
            return here;
        }
        here = if matches!(words[here], "(" | "[" | "{") {
            closing(words, here) + 1
        } else {
            here + 1
        };
    }
    here
}

/// Where the name of each test stands that an invocation makes, with the literals of what it expects. `None` where it is
/// given otherwise than one row a test.
fn rows(
    source: &TestSource<'_>,
    invocation: Node<'_>,
    table: &Table<'_>,
) -> Option<Vec<(Range<usize>, Vec<Literal>)>> {
    let tree = children(invocation).into_iter().find(|it| it.kind() == "token_tree")?;
    let all = tokens(source, tree);
    let given = all.get(1..all.len().checked_sub(1)?)?;
    let words = texts(given);
    let (mut own, mut rows) = (Row::new(), Vec::new());
    if matched(&table.patterns, &words, 0, &mut own, &mut rows)? != words.len() {
        return None;
    }
    let of = |row: &Row<'_>, name: &str| row.iter().find(|it| it.0 == name).map(|it| it.1.clone());
    rows.push(own);
    let mut found = Vec::new();
    for row in rows {
        let Some(name) = of(&row, table.test) else { continue };
        let token = &given[name.start];
        let literals = || {
            let (compared, column) = table.compares?;
            let mut value = &given[of(&row, compared)?];
            if let Some(column) = column {
                let inside = value.get(1..value.len().checked_sub(1)?)?;
                value = *split(inside, ",").get(column).filter(|_| value[0].text == "(")?;
            }
            expected(value).filter(|it| !it.may_fail).map(|it| it.literals)
        };
        found.push((token.start..token.start + token.text.len(), literals().unwrap_or_default()));
    }
    Some(found)
}

#[cfg(test)]
mod tests {
    use super::*;

    fn parts_of(text: &str) -> Vec<(String, Vec<String>)> {
        let mut parser = tree_sitter::Parser::new();
        parser.set_language(&tree_sitter_rust::LANGUAGE.into()).unwrap();
        let tree = parser.parse(text, None).unwrap();
        let mut parts = TestFileParts::default();
        tables(&TestSource::alone(text, &tree), 0, &mut parts);
        let sites = parts.tests.iter().zip(&parts.sites);
        let literals =
            |site: &Site| site.literals.iter().map(|it| text[it.at.clone()].to_owned()).collect();
        sites.map(|(test, site)| (test.name.clone(), literals(site))).collect()
    }

    #[test]
    fn tests_that_macros_make_are_found() {
        let of = |pattern: &str, body: &str, given: &str| {
            parts_of(&format!(
                "macro_rules! cases {{ ({pattern}) => {{ $(#[test] fn $name() {{ {body} }})* }} }}\ncases! {{ {given} }}\n"
            ))
        };
        let pair = |name: &str, literal: &str| (name.to_owned(), vec![literal.to_owned()]);
        let both = [pair("one", "2"), pair("two", "4")];
        assert_eq!(
            of(
                "$($name:ident: $n:expr => $want:expr,)*",
                "assert_eq!(f($n), $want);",
                "one: 1 => 2, two: 3 => 4,"
            ),
            both
        );
        assert_eq!(
            of(
                "$($name:ident: $value:expr),* $(,)?",
                "let (n, want) = $value; assert_eq!(want, f(n), \"no\");",
                "one: (1, 2), two: (3, 4),"
            ),
            both
        );
        assert_eq!(
            of(
                "$($name:ident($n:literal) == $want:literal;)+",
                "assert_eq!(f($n), $want);",
                "one(1) == 2; two(3) == 4;"
            ),
            both
        );
        // What else is looked at is not changed, and what does not fit is left as it is.
        assert_eq!(
            of("$($name:ident: $n:expr,)*", "assert_eq!(f($n), $n);", "one: 1,"),
            [("one".to_owned(), vec![])]
        );
        assert_eq!(of("$($name:ident: $n:expr,)*", "assert_eq!(f(), $n);", "one 1,"), []);
        let one = "macro_rules! case { ($name:ident, $n:expr, $want:expr) => { #[test] fn $name() { assert_eq!(f($n), $want); } } }\ncase!(one, 1, 2);\ncase!(two, 3, 4);";
        assert_eq!(parts_of(one), both);
    }
}
