//! Sealed calls: arguments that go in, and what must come back.
//!
//! The expectation stays here, on the outside. What the candidate's process sees are arguments.

use serde::Deserialize;
use serde_json::Value as Json;

use crate::source::{SourceError, parse_jsonl};
use crate::tree::RelPath;
use crate::value::{Mismatch, Order, Rules, Value, compare, from_json, from_toml};

/// The `[call]` table of a brief.
#[derive(Debug, Clone, PartialEq, Eq, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct CallSettings {
    /// The file that the answer gives.
    pub file: RelPath,
    /// The function in it; `Name.method` reaches into a class or an object.
    pub name: String,
}

/// One call with its expectation.
#[derive(Debug, Clone, PartialEq)]
pub struct Call {
    /// What people call it; `call 3` without a name of its own.
    pub name: String,
    /// Arguments by place.
    pub args: Vec<Value>,
    /// Arguments by name.
    pub kwargs: Vec<(String, Value)>,
    /// What must happen.
    pub expected: Expected,
    /// What the arguments must be afterwards; `None` when nobody asks.
    pub args_after: Option<Vec<Value>>,
    /// What is forgiven.
    pub rules: Rules,
    /// Its weight in partial credit.
    pub points: f64,
}

/// What a call must come to.
#[derive(Debug, Clone, PartialEq)]
pub enum Expected {
    /// Any of these values.
    OneOf(Vec<Value>),
    /// An error of this name, or of a kind derived from it.
    Raises(String),
    /// Nothing is asked of the value, only of the arguments afterwards.
    AnyValue,
}

/// What a call came to.
#[derive(Debug, Clone, PartialEq)]
pub enum Returned {
    /// It gave a value.
    Value(Value),
    /// It raised: the names of the error's kind and of the kinds that it derives from, and its
    /// message.
    Raised {
        /// Nearest first; never empty.
        kinds: Vec<String>,
        /// The message, as its language gives it.
        message: String,
    },
}

/// How a call was judged.
#[derive(Debug, Clone, PartialEq)]
pub enum CallOutcome {
    /// As expected.
    Holds,
    /// A value came back, but another one.
    WrongValue(Mismatch),
    /// The arguments afterwards are not as expected.
    WrongArguments(Mismatch),
    /// It raised where a value was expected, or raised something else.
    Raised {
        /// The name of what it raised.
        kind: String,
        /// Its message.
        message: String,
    },
    /// It gave a value where it should have raised.
    DidNotRaise {
        /// The name of the error that was expected.
        expected: String,
        /// What came back instead.
        found: Value,
    },
}

/// One line of `sealed/calls.jsonl`, or one `[[example]]` of a brief.
#[derive(Debug, Deserialize)]
#[serde(deny_unknown_fields)]
struct CallLine {
    name: Option<String>,
    #[serde(default)]
    args: Vec<Json>,
    #[serde(default)]
    kwargs: serde_json::Map<String, Json>,
    #[serde(default, deserialize_with = "present")]
    returns: Option<Json>,
    raises: Option<String>,
    one_of: Option<Vec<Json>>,
    args_after: Option<Vec<Json>>,
    tolerance: Option<f64>,
    any_order: Option<AnyOrder>,
    points: Option<f64>,
}

/// Keeps an explicit `null` apart from a key that is not there.
fn present<'de, D: serde::Deserializer<'de>>(from: D) -> Result<Option<Json>, D::Error> {
    Json::deserialize(from).map(Some)
}

#[derive(Debug, Deserialize)]
#[serde(untagged, expecting = "`any_order` is true, false or \"deep\"")]
enum AnyOrder {
    Flag(bool),
    Word(String),
}

/// Reads `sealed/calls.jsonl`.
///
/// # Errors
/// With the line: bad JSON, an unknown key, a call without or with two expectations.
pub fn parse_calls(file: &str, text: &str) -> Result<Vec<Call>, SourceError> {
    let lines: Vec<(usize, CallLine)> = parse_jsonl(file, text)?;
    if lines.is_empty() {
        return Err(SourceError::whole(file, "it holds no call; one object a line is expected"));
    }
    let calls = lines.into_iter().enumerate().map(|(index, (line, call))| {
        call.settle(index + 1).map_err(|message| SourceError::at_line(file, line, message))
    });
    calls.collect()
}

/// Reads one `[[example]]` table.
///
/// # Errors
/// As [`parse_calls`], without a line.
pub fn parse_example(table: &toml::Value, number: usize) -> Result<Call, String> {
    let json = example_json(table)?;
    let line: CallLine = serde_json::from_value(json).map_err(|error| error.to_string())?;
    let mut call = line.settle(number)?;
    if table.get("name").is_none() {
        call.name = format!("example {number}");
    }
    Ok(call)
}

/// An example as JSON, with its values in the forms that survive JSON.
fn example_json(table: &toml::Value) -> Result<Json, String> {
    let Some(table) = table.as_table() else {
        return Err("an example is a table".to_owned());
    };
    let mut out = serde_json::Map::new();
    for (key, value) in table {
        let json = match (key.as_str(), value) {
            ("kwargs", toml::Value::Table(inner)) => {
                let pairs = inner.iter().map(|(key, it)| Ok((key.clone(), value_json(it)?)));
                Json::Object(pairs.collect::<Result<_, String>>()?)
            }
            ("args" | "one_of" | "args_after", toml::Value::Array(items)) => {
                Json::Array(items.iter().map(value_json).collect::<Result<_, String>>()?)
            }
            ("returns", value) => value_json(value)?,
            (_, value) => serde_json::to_value(value).map_err(|error| error.to_string())?,
        };
        out.insert(key.clone(), json);
    }
    Ok(Json::Object(out))
}

fn value_json(value: &toml::Value) -> Result<Json, String> {
    from_toml(value).map(|it| crate::value::to_json(&it)).map_err(|error| error.to_string())
}

impl CallLine {
    fn settle(self, number: usize) -> Result<Call, String> {
        let read = |json| from_json(json).map_err(|error| error.to_string());
        let read_all =
            |items: Vec<Json>| items.into_iter().map(read).collect::<Result<Vec<_>, _>>();
        let order = match &self.any_order {
            None | Some(AnyOrder::Flag(false)) => Order::Counts,
            Some(AnyOrder::Flag(true)) => Order::AnyOutside,
            Some(AnyOrder::Word(word)) if word == "deep" => Order::AnyEverywhere,
            Some(AnyOrder::Word(word)) => {
                return Err(format!("`any_order` is true, false or \"deep\", not `{word}`"));
            }
        };
        if self.tolerance.is_some_and(|it| !(it >= 0.0 && it.is_finite())) {
            return Err("`tolerance` is a number of at least 0".to_owned());
        }
        let points = self.points.unwrap_or(1.0);
        if !(points >= 0.0 && points.is_finite()) {
            return Err("`points` is a number of at least 0".to_owned());
        }
        let expected = match (self.returns, self.raises, self.one_of) {
            (Some(value), None, None) => Expected::OneOf(vec![read(value)?]),
            (None, Some(kind), None) => Expected::Raises(kind),
            (None, None, Some(values)) if !values.is_empty() => Expected::OneOf(read_all(values)?),
            (None, None, None) if self.args_after.is_some() => Expected::AnyValue,
            (None, None, _) => {
                return Err(
                    "an expectation is missing: one of `returns`, `raises`, `one_of` (not \
                            empty), or `args_after` alone"
                        .to_owned(),
                );
            }
            _ => return Err("only one of `returns`, `raises` and `one_of` may be there".to_owned()),
        };
        let kwargs = self.kwargs.into_iter().map(|(key, json)| Ok((key, read(json)?)));
        Ok(Call {
            name: self.name.unwrap_or_else(|| format!("call {number}")),
            args: read_all(self.args)?,
            kwargs: kwargs.collect::<Result<_, String>>()?,
            expected,
            args_after: self.args_after.map(read_all).transpose()?,
            rules: Rules { tolerance: self.tolerance, order },
            points,
        })
    }
}

impl Call {
    /// Judges what came back. `args_after` is what the process says its arguments are now.
    #[must_use]
    pub fn judge(&self, returned: &Returned, args_after: &[Value]) -> CallOutcome {
        let outcome = match (&self.expected, returned) {
            (Expected::AnyValue, Returned::Value(_)) => CallOutcome::Holds,
            (Expected::OneOf(options), Returned::Value(found)) => self.judge_value(options, found),
            (Expected::Raises(name), Returned::Raised { kinds, .. }) if kinds.contains(name) => {
                CallOutcome::Holds
            }
            (_, Returned::Raised { kinds, message }) => CallOutcome::Raised {
                kind: kinds.first().cloned().unwrap_or_default(),
                message: message.clone(),
            },
            (Expected::Raises(name), Returned::Value(found)) => {
                CallOutcome::DidNotRaise { expected: name.clone(), found: found.clone() }
            }
        };
        match (&self.args_after, &outcome) {
            (Some(expected), CallOutcome::Holds) => {
                let (expected, found) =
                    (Value::List(expected.clone()), Value::List(args_after.to_vec()));
                // The outermost list is the argument list itself: its order always counts.
                match compare(&expected, &found, Rules { order: Order::Counts, ..self.rules }) {
                    Ok(()) => outcome,
                    Err(mismatch) => CallOutcome::WrongArguments(mismatch),
                }
            }
            _ => outcome,
        }
    }

    fn judge_value(&self, options: &[Value], found: &Value) -> CallOutcome {
        let mut first = None;
        for option in options {
            match compare(option, found, self.rules) {
                Ok(()) => return CallOutcome::Holds,
                Err(mismatch) => first = first.or(Some(mismatch)),
            }
        }
        first.map_or(CallOutcome::Holds, CallOutcome::WrongValue)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::value::parse_line;

    fn only(line: &str) -> Call {
        parse_calls("c.jsonl", line).unwrap().remove(0)
    }

    fn holds(line: &str, returned: &str, after: &str) -> bool {
        let Value::List(after) = parse_line(after).unwrap() else { panic!("no list") };
        let returned = Returned::Value(parse_line(returned).unwrap());
        only(line).judge(&returned, &after) == CallOutcome::Holds
    }

    #[test]
    fn values_alternatives_and_changed_arguments_are_judged() {
        assert!(holds(r#"{"args": [1], "returns": 2}"#, "2", "[1]"));
        assert!(!holds(r#"{"args": [1], "returns": null}"#, "2", "[1]"));
        assert!(holds(r#"{"one_of": [1, [2, 3]], "any_order": true}"#, "[3, 2]", "[]"));
        assert!(holds(r#"{"returns": 2.5, "tolerance": 0.1}"#, "2.45", "[]"));
        assert!(holds(r#"{"args": [[2, 1]], "args_after": [[1, 2]]}"#, "null", "[[1, 2]]"));
        assert!(!holds(r#"{"args": [[2, 1]], "args_after": [[1, 2]]}"#, "null", "[[2, 1]]"));
    }

    #[test]
    fn an_expected_error_may_be_a_derived_one() {
        let call = only(r#"{"args": [-1], "raises": "ValueError"}"#);
        let raised = |kinds: &[&str]| Returned::Raised {
            kinds: kinds.iter().map(|&kind| kind.to_owned()).collect(),
            message: "no".into(),
        };
        assert_eq!(call.judge(&raised(&["DepthError", "ValueError"]), &[]), CallOutcome::Holds);
        let other = call.judge(&raised(&["KeyError", "LookupError"]), &[]);
        assert!(matches!(other, CallOutcome::Raised { kind, .. } if kind == "KeyError"));
        let none = call.judge(&Returned::Value(Value::Null), &[]);
        assert!(matches!(none, CallOutcome::DidNotRaise { .. }));
    }

    #[test]
    fn bad_lines_say_what_is_allowed() {
        for (line, part) in [
            (r#"{"args": [1]}"#, "an expectation is missing"),
            (r#"{"returns": 1, "raises": "E"}"#, "only one of"),
            (r#"{"return": 1}"#, "unknown field `return`"),
            (r#"{"returns": 1, "any_order": "some"}"#, "any_order"),
            (r#"{"returns": 1, "tolerance": -1}"#, "tolerance"),
            (r#"{"returns": {"$tupel": []}}"#, "$tuple"),
            ("", "no call"),
        ] {
            let error = parse_calls("c.jsonl", line).unwrap_err().to_string();
            assert!(error.contains(part), "{line}: {error}");
        }
    }

    #[test]
    fn examples_in_toml_keep_what_json_lacks() {
        let table: toml::Value =
            toml::from_str("args = [nan, [1]]\nreturns = { \"$tuple\" = [1, inf] }").unwrap();
        let call = parse_example(&table, 1).unwrap();
        assert!(matches!(call.args[0], Value::Float(f) if f.is_nan()));
        let tuple = Value::Tuple(vec![Value::Int(1), Value::Float(f64::INFINITY)]);
        assert_eq!(call.expected, Expected::OneOf(vec![tuple]));
        assert_eq!(call.name, "example 1");
    }
}
