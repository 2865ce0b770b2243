//! Where the values stand that tests in Rust compare with.

use tree_sitter::Node;

use super::literal::{Literal, LiteralKind};
use super::syntax::{TestSource, children, words};

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

/// A piece of text that is not taken apart further.
#[derive(Debug, Clone)]
pub struct Token<'a> {
    pub text: &'a str,
    pub start: usize,
    pub literal: Option<LiteralKind>,
}

impl Token<'_> {
    pub fn is_word(&self) -> bool {
        self.text.starts_with(|it: char| it.is_alphabetic() || it == '_')
            && !self.text.contains('"')
    }

    pub fn literal(&self) -> Option<Literal> {
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

pub fn tokens<'a>(source: &TestSource<'a>, top: Node<'_>) -> Vec<Token<'a>> {
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
pub fn split<'t, 'a>(tokens: &'t [Token<'a>], at: &str) -> Vec<&'t [Token<'a>]> {
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
pub fn behind(tokens: &[Token<'_>], open: usize) -> usize {
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
pub struct Expectation {
    pub literals: Vec<Literal>,
    /// Whether something is made by a function that may refuse other values.
    pub may_fail: bool,
    /// Whether something is made of them at all.
    pub is_made: bool,
}

/// Whether a bracket opens what a macro is given.
fn is_macro(tokens: &[Token<'_>], at: usize) -> bool {
    at > 1 && tokens[at - 1].text == "!" && tokens[at - 2].is_word()
}

/// The literals of what calls nothing but what makes values. `None` when it does more.
pub fn expected(tokens: &[Token<'_>]) -> Option<Expectation> {
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

/// The literals of the side that is expected, which one it is where making it may fail, and whether it is made
/// of them.
pub fn side(
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
pub fn condition(source: &TestSource<'_>, site: Node<'_>, tokens: &[Token<'_>]) -> Vec<Literal> {
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
pub fn function<'t>(source: &TestSource<'_>, node: Node<'t>) -> Option<Node<'t>> {
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
pub fn bound(source: &TestSource<'_>, site: Node<'_>, tokens: &[Token<'_>]) -> Vec<Literal> {
    let plain: Vec<_> = tokens.iter().filter(|it| !matches!(it.text, "&" | "*")).collect();
    let name = match plain[..] {
        [name] => name,
        [row, dot, field] if dot.text == "." => {
            return of_row(source, site, row.text, field.text).unwrap_or_default();
        }
        _ => return Vec::new(),
    };
    let Some(function) = function(source, site).filter(|_| name.is_word()) else {
        return Vec::new();
    };
    let uses = |name: &str| words(source.of(function)).filter(|it| *it == name).count();
    if let Some(value) = value_of(source, function, name.text) {
        let found = expected(&self::tokens(source, value)).filter(|it| !it.may_fail);
        return found.map_or(Vec::new(), |it| it.literals);
    }
    if uses(name.text) != 2 {
        return Vec::new();
    }
    let mut at = site.parent();
    while let Some(outer) = at {
        if outer.kind() == "for_expression" {
            let column = column(source, outer, name.text);
            let rows =
                column.and_then(|column| in_column(&rows_of(source, function, outer)?, column));
            if let Some(rows) = rows {
                return rows;
            }
        }
        at = outer.parent();
    }
    Vec::new()
}

/// What a loop goes through; a name stands for what it is bound to.
fn rows_of<'a>(
    source: &TestSource<'a>,
    function: Node<'_>,
    outer: Node<'_>,
) -> Option<Vec<Token<'a>>> {
    let rows = tokens_of_rows(source, outer)?;
    match &rows[..] {
        [only] => Some(tokens(source, value_of(source, function, only.text)?)),
        _ => Some(rows),
    }
}

/// The literals of one field of the rows that a loop goes through, where only this place looks at it.
fn of_row(source: &TestSource<'_>, site: Node<'_>, row: &str, field: &str) -> Option<Vec<Literal>> {
    let function = function(source, site)?;
    let mut at = site.parent();
    while let Some(outer) = at {
        let is_it = outer.kind() == "for_expression"
            && outer
                .child_by_field_name("pattern")
                .is_some_and(|it| source.of(it).trim_start_matches('&') == row);
        if is_it {
            let body = tokens(source, outer.child_by_field_name("body")?);
            let looks = body
                .windows(3)
                .filter(|it| it[0].text == row && it[1].text == "." && it[2].text == field);
            if looks.count() != 1 {
                return None;
            }
            let rows = rows_of(source, function, outer)?;
            return match field.parse() {
                Ok(column) => in_column(&rows, column),
                Err(_) => in_field(&rows, field),
            };
        }
        at = outer.parent();
    }
    None
}

/// The literals that stand in one field of a list of structures.
fn in_field(tokens: &[Token<'_>], field: &str) -> Option<Vec<Literal>> {
    let open = tokens.iter().position(|it| it.text == "[")?;
    let inside = &tokens[open + 1..behind(tokens, open) - 1];
    let mut found = Vec::new();
    for row in split(inside, ",").into_iter().filter(|it| !it.is_empty()) {
        let open = row.iter().position(|it| it.text == "{")?;
        let cells = split(&row[open + 1..behind(row, open) - 1], ",");
        let cell = cells.into_iter().find_map(|it| match it {
            [name, colon, value @ ..] if name.text == field && colon.text == ":" => Some(value),
            _ => None,
        });
        let cell = expected(cell?).filter(|it| !it.may_fail && !it.literals.is_empty())?;
        found.extend(cell.literals);
    }
    Some(found)
}

/// What a name is bound to in a function or, as a constant, in the file, where one place uses it.
fn value_of<'t>(source: &TestSource<'_>, function: Node<'t>, name: &str) -> Option<Node<'t>> {
    let uses = words(source.of(function)).filter(|it| *it == name).count();
    if let Some(value) = let_value(source, function, name) {
        return (uses == 2).then_some(value);
    }
    let mut root = function;
    while let Some(outer) = root.parent() {
        root = outer;
    }
    let mut constants = source.all(root).into_iter().filter(|it| {
        let own = it.child_by_field_name("name").map(|it| source.of(it));
        matches!(it.kind(), "const_item" | "static_item") && own == Some(name)
    });
    let value = constants.next()?.child_by_field_name("value")?;
    (uses <= 1 && source.mentions(name) == 2 && !source.is_elsewhere(name)).then_some(value)
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
