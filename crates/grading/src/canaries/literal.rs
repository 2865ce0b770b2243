//! Literals in the source of tests, and others in their place.

use crate::test_rng::TestRng;

/// Splits at commas that stand in no bracket and no quotes. `None` when those do not match.
pub fn split(text: &str) -> Option<Vec<&str>> {
    let (mut parts, mut depth, mut quote, mut begin) = (Vec::new(), 0_i32, None, 0);
    let mut chars = text.char_indices();
    while let Some((at, char)) = chars.next() {
        match (quote, char) {
            (_, '\\') => drop(chars.next()),
            (Some(open), char) if char == open => quote = None,
            (Some(_), _) => {}
            (None, '"' | '\'' | '`') => quote = Some(char),
            (None, '(' | '[' | '{') => depth += 1,
            (None, ')' | ']' | '}') => depth -= 1,
            (None, '#') => return None,
            (None, ',') if depth == 0 => {
                parts.push(text[begin..at].trim());
                begin = at + 1;
            }
            _ => {}
        }
        if depth < 0 {
            return None;
        }
    }
    parts.push(text[begin..].trim());
    (depth == 0 && quote.is_none()).then_some(parts)
}

/// Another value, written in the same way. `None` when it is no literal.
pub fn changed_literal(text: &str, rng: &mut TestRng) -> Option<String> {
    let text = text.trim();
    let off = 1 + rng.below(9);
    if let Ok(number) = text.parse::<i64>() {
        return Some(number.checked_add(off as i64)?.to_string());
    }
    let is_decimal = text.contains('.') && text.bytes().all(|it| b"-.0123456789".contains(&it));
    if let (true, Ok(number)) = (is_decimal, text.parse::<f64>()) {
        return Some(format!("{:?}", number + off as f64));
    }
    let swapped = [("True", "False"), ("true", "false")];
    for (a, b) in swapped {
        match text {
            _ if text == a => return Some(b.to_owned()),
            _ if text == b => return Some(a.to_owned()),
            _ => {}
        }
    }
    let (first, last) = (text.chars().next()?, text.chars().next_back()?);
    let inner = || text.get(1..text.len() - 1);
    match (first, last) {
        ('"', '"') | ('\'', '\'') if text.len() > 1 => {
            let inner = inner()?;
            let is_plain = !inner.contains(['\\', '"', '\'']);
            is_plain.then(|| format!("{first}{inner}{}{last}", "~".repeat(1 + off % 3)))
        }
        ('[', ']') => {
            let parts = split(inner()?)?;
            if parts == [""] {
                return Some(format!("[{off}]"));
            }
            let at = rng.below(parts.len());
            let changed = changed_literal(parts[at], rng)?;
            let mut parts: Vec<String> = parts.into_iter().map(str::to_owned).collect();
            parts[at] = changed;
            Some(format!("[{}]", parts.join(", ")))
        }
        _ => None,
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn literals_are_changed_and_expressions_are_not() {
        let mut rng = TestRng::new(3);
        for text in ["6", "-2", "2.5", "True", "false", "'ab'", "\"\"", "[]", "[1, [2]]"] {
            let changed = changed_literal(text, &mut rng).unwrap();
            assert_ne!(changed, text);
        }
        for text in ["x", "f(3)", "1 + 2", "[x]", "'a' + 'b'", "{}", "None", "r'a'", "'a\\'"] {
            assert_eq!(changed_literal(text, &mut rng), None, "{text}");
        }
    }
}
