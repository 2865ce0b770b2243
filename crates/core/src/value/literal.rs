//! Values as people write them in the language at hand.

use super::{Value, to_json};

/// How values are written.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Dialect {
    /// As in Python: `None`, `True`, `(1, 2)`, `{1, 2}`, `b'…'`.
    Python,
    /// As in JavaScript: `null`, `true`, `new Set([1, 2])`, `12n`.
    JavaScript,
    /// As JSON, with the forms for what JSON lacks.
    Json,
}

impl Dialect {
    /// The dialect of a language; JSON for those that have none here.
    #[must_use]
    pub fn of(language: &str) -> Self {
        match language {
            "python" => Self::Python,
            "javascript" => Self::JavaScript,
            _ => Self::Json,
        }
    }

    /// Writes a value.
    #[must_use]
    pub fn write(self, value: &Value) -> String {
        match self {
            Self::Python => python(value),
            Self::JavaScript => javascript(value),
            Self::Json => to_json(value).to_string(),
        }
    }
}

fn listed(items: &[Value], write: fn(&Value) -> String) -> String {
    items.iter().map(write).collect::<Vec<_>>().join(", ")
}

fn pairs(pairs: &[(Value, Value)], write: fn(&Value) -> String) -> String {
    let one = |(key, value): &(Value, Value)| format!("{}: {}", write(key), write(value));
    pairs.iter().map(one).collect::<Vec<_>>().join(", ")
}

fn python(value: &Value) -> String {
    match value {
        Value::Null => "None".to_owned(),
        Value::Bool(true) => "True".to_owned(),
        Value::Bool(false) => "False".to_owned(),
        Value::Int(int) => int.to_string(),
        Value::BigInt(digits) => digits.clone(),
        Value::Float(it) if it.is_nan() => "float('nan')".to_owned(),
        Value::Float(it) if it.is_infinite() => {
            format!("float('{}inf')", if *it < 0.0 { "-" } else { "" })
        }
        Value::Float(it) => format!("{it:?}"),
        Value::Str(_) => to_json(value).to_string(),
        Value::Bytes(bytes) => format!("b\"{}\"", bytes.escape_ascii()),
        Value::List(items) => format!("[{}]", listed(items, python)),
        Value::Tuple(items) if items.len() == 1 => format!("({},)", listed(items, python)),
        Value::Tuple(items) => format!("({})", listed(items, python)),
        Value::Set(items) if items.is_empty() => "set()".to_owned(),
        Value::Set(items) => format!("{{{}}}", listed(items, python)),
        Value::Map(map) => format!("{{{}}}", pairs(map, python)),
        Value::Opaque(text) => format!("<{text}>"),
    }
}

fn javascript(value: &Value) -> String {
    match value {
        Value::Null => "null".to_owned(),
        Value::Bool(it) => it.to_string(),
        Value::Int(int) => int.to_string(),
        Value::BigInt(digits) => format!("{digits}n"),
        Value::Float(it) if it.is_nan() => "NaN".to_owned(),
        Value::Float(it) if it.is_infinite() => {
            format!("{}Infinity", if *it < 0.0 { "-" } else { "" })
        }
        Value::Float(it) => it.to_string(),
        Value::Str(_) => to_json(value).to_string(),
        Value::Bytes(bytes) => format!("Uint8Array {bytes:?}"),
        Value::List(items) | Value::Tuple(items) => format!("[{}]", listed(items, javascript)),
        Value::Set(items) => format!("new Set([{}])", listed(items, javascript)),
        Value::Map(map) => format!("{{ {} }}", pairs(map, javascript)),
        Value::Opaque(text) => format!("<{text}>"),
    }
}

#[cfg(test)]
mod tests {
    use super::super::parse_line;
    use super::*;

    #[test]
    fn values_are_written_as_the_language_has_them() {
        let text = r#"[null, true, 1.5, 2.0, "a\"b", {"$tuple": [1]}, {"$set": []}, {"$set": [2]},
            {"$bytes": "AGE="}, {"k": {"$float": "-inf"}}, 123456789012345678901]"#;
        let value = parse_line(text).unwrap();
        assert_eq!(
            Dialect::Python.write(&value),
            r#"[None, True, 1.5, 2.0, "a\"b", (1,), set(), {2}, b"\x00a", {"k": float('-inf')}, 123456789012345678901]"#
        );
        assert_eq!(
            Dialect::JavaScript.write(&value),
            r#"[null, true, 1.5, 2, "a\"b", [1], new Set([]), new Set([2]), Uint8Array [0, 97], { "k": -Infinity }, 123456789012345678901n]"#
        );
        assert_eq!(Dialect::of("c"), Dialect::Json);
    }
}
