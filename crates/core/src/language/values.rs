//! Values as people write them in the language at hand.

use serde::{Deserialize, Serialize};

use crate::value::{Value, to_json};

/// How values are written in a language. `{}` is the place for what is inside, parts separated by commas.
/// What is left out is written as in JavaScript's object notation.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields, default)]
pub struct ValueTemplates {
    /// Nothing.
    pub null: String,
    /// The truth value true.
    pub r#true: String,
    /// The truth value false.
    pub r#false: String,
    /// A whole number that is too long for a machine word.
    pub big_int: String,
    /// How a floating-point number without a fraction is written.
    pub whole_floats: WholeFloats,
    /// No number.
    pub nan: String,
    /// Infinity.
    pub infinity: String,
    /// The same below zero.
    pub negative_infinity: String,
    /// Bytes: `{ascii}`, escaped, or `{numbers}`, separated by commas.
    pub bytes: String,
    /// A list.
    pub list: String,
    /// A tuple.
    pub tuple: String,
    /// A tuple of one part; empty: as any other.
    pub tuple_of_one: String,
    /// A set.
    pub set: String,
    /// A set without parts; empty: as any other.
    pub empty_set: String,
    /// A map.
    pub map: String,
}

/// How a floating-point number without a fraction is written.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum WholeFloats {
    /// `2`.
    #[default]
    Plain,
    /// `2.0`.
    Point,
}

impl Default for ValueTemplates {
    fn default() -> Self {
        let text = str::to_owned;
        Self {
            null: text("null"),
            r#true: text("true"),
            r#false: text("false"),
            big_int: text("{}"),
            whole_floats: WholeFloats::Plain,
            nan: text("nan"),
            infinity: text("inf"),
            negative_infinity: text("-inf"),
            bytes: text("[{numbers}]"),
            list: text("[{}]"),
            tuple: text("({})"),
            tuple_of_one: String::new(),
            set: text("{{}}"),
            empty_set: String::new(),
            map: text("{{}}"),
        }
    }
}

/// How values are written.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Dialect<'a>(Option<&'a ValueTemplates>);

impl<'a> Dialect<'a> {
    /// JSON, with the forms for what JSON lacks.
    pub const JSON: Self = Self(None);

    /// By templates; JSON without any.
    #[must_use]
    pub const fn of(templates: Option<&'a ValueTemplates>) -> Self {
        Self(templates)
    }

    /// Writes a value.
    #[must_use]
    pub fn write(self, value: &Value) -> String {
        self.0.map_or_else(|| to_json(value).to_string(), |it| it.write(value))
    }
}

impl ValueTemplates {
    fn write(&self, value: &Value) -> String {
        let around = |template: &str, inside: &str| template.replacen("{}", inside, 1);
        match value {
            Value::Null => self.null.clone(),
            Value::Bool(true) => self.r#true.clone(),
            Value::Bool(false) => self.r#false.clone(),
            Value::Int(int) => int.to_string(),
            Value::BigInt(digits) => around(&self.big_int, digits),
            Value::Float(it) if it.is_nan() => self.nan.clone(),
            Value::Float(it) if it.is_infinite() && *it < 0.0 => self.negative_infinity.clone(),
            Value::Float(it) if it.is_infinite() => self.infinity.clone(),
            Value::Float(it) => match self.whole_floats {
                WholeFloats::Plain => it.to_string(),
                WholeFloats::Point => format!("{it:?}"),
            },
            Value::Str(_) => to_json(value).to_string(),
            Value::Bytes(bytes) => {
                let numbers = bytes.iter().map(u8::to_string).collect::<Vec<_>>().join(", ");
                let ascii = bytes.escape_ascii().to_string();
                self.bytes.replace("{ascii}", &ascii).replace("{numbers}", &numbers)
            }
            Value::List(items) => around(&self.list, &self.listed(items)),
            Value::Tuple(items) if items.len() == 1 && !self.tuple_of_one.is_empty() => {
                around(&self.tuple_of_one, &self.listed(items))
            }
            Value::Tuple(items) => around(&self.tuple, &self.listed(items)),
            Value::Set(items) if items.is_empty() && !self.empty_set.is_empty() => {
                self.empty_set.clone()
            }
            Value::Set(items) => around(&self.set, &self.listed(items)),
            Value::Map(pairs) => {
                let pair = |(key, value): &(Value, Value)| {
                    format!("{}: {}", self.write(key), self.write(value))
                };
                around(&self.map, &pairs.iter().map(pair).collect::<Vec<_>>().join(", "))
            }
            Value::Opaque(text) => format!("<{text}>"),
        }
    }

    fn listed(&self, items: &[Value]) -> String {
        items.iter().map(|it| self.write(it)).collect::<Vec<_>>().join(", ")
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::language::Languages;
    use crate::value::parse_line;

    #[test]
    fn values_are_written_as_the_language_has_them() {
        let text = r#"[null, true, 1.5, 2.0, "a\"b", {"$tuple": [1]}, {"$set": []}, {"$set": [2]},
            {"$bytes": "AGE="}, {"k": {"$float": "-inf"}}, 123456789012345678901]"#;
        let value = parse_line(text).unwrap();
        let languages = Languages::shipped();
        assert_eq!(
            languages.find("python").unwrap().dialect().write(&value),
            r#"[None, True, 1.5, 2.0, "a\"b", (1,), set(), {2}, b"\x00a", {"k": float('-inf')}, 123456789012345678901]"#
        );
        assert_eq!(
            languages.find("typescript").unwrap().dialect().write(&value),
            r#"[null, true, 1.5, 2, "a\"b", [1], new Set([]), new Set([2]), Uint8Array [0, 97], { "k": -Infinity }, 123456789012345678901n]"#
        );
        assert_eq!(languages.find("c").unwrap().dialect(), Dialect::JSON);
    }
}
