//! Sealed calls: arguments that go in, and what must come back.
//!
//! A call is one step, or several on one object. The expectation stays here, on the outside. What
//! the candidate's process sees are arguments.

use std::time::Duration;

use serde::Deserialize;
use serde_json::{Value as Json, json};

use fairtrial_core::text::{Compare, TextMismatch, compare_texts};
use fairtrial_core::tree::RelPath;
use fairtrial_core::value::{CompareRules, Mismatch, Order, Value, compare, to_json};

/// The `[call]` table of a brief.
#[derive(Debug, Clone, PartialEq, Eq, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct CallSettings {
    /// The file that the answer gives.
    pub file: RelPath,
    /// The function in it, or the class where calls have steps; `Name.method` reaches into a class
    /// or an object.
    pub name: String,
    /// Whether every call gets a process of its own, in which nothing else has happened.
    #[serde(default)]
    pub isolate: bool,
    /// Whether what is called may be asynchronous: what it gives is waited for then, and else is no value.
    #[serde(default)]
    pub awaits: bool,
    /// A program in `sealed/` that judges what a call came to, where no value can be written down.
    #[serde(default)]
    pub checker: Option<RelPath>,
}

/// One call with its expectation.
#[derive(Debug, Clone, PartialEq)]
pub struct Call {
    /// What people call it; `call 3` without a name of its own.
    pub name: String,
    /// What is done, in order; never empty. A plain call is one step.
    pub steps: Vec<Step>,
    /// What must be printed on standard output meanwhile; `None` when nobody asks.
    pub prints: Option<String>,
    /// What the checker gets beside what the call came to; `None` when it is not asked.
    pub check: Option<Json>,
    /// Processor time that it may take; `None` for the task's.
    pub time: Option<Duration>,
    /// Its weight in partial credit.
    pub points: f64,
}

/// One thing that is done, and what must come of it.
#[derive(Debug, Clone, PartialEq)]
pub struct Step {
    /// What is done.
    pub action: Action,
    /// Arguments by place.
    pub args: Vec<Value>,
    /// Arguments by name.
    pub kwargs: Vec<(String, Value)>,
    /// What must happen.
    pub expected: Expected,
    /// What the arguments must be afterwards; `None` when nobody asks.
    pub args_after: Option<Vec<Value>>,
    /// What is forgiven.
    pub rules: CompareRules,
}

/// What a step does.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Action {
    /// Calls the task's function.
    Function,
    /// Makes an object of the task's class; later steps use the one that was made last.
    New,
    /// Calls a method of the object.
    Method(String),
    /// Reads a property of the object.
    Get(String),
}

/// What a step must come to.
#[derive(Debug, Clone, PartialEq)]
pub enum Expected {
    /// Any of these values.
    OneOf(Vec<Value>),
    /// An error of this name, or of a kind derived from it.
    Raises(String),
    /// Nothing is asked of the value.
    AnyValue,
}

/// What a step came to.
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

/// What the candidate's process says of one step.
#[derive(Debug, Clone, PartialEq)]
pub struct Reply {
    /// What came back.
    pub returned: Returned,
    /// What the arguments are now.
    pub args: Vec<Value>,
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
    /// Something else was printed.
    WrongPrint(TextMismatch),
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
    /// Fewer steps were answered than were asked for.
    StepsMissing,
}

impl Call {
    /// What is sent to the process with the candidate's code. No expectation is in it.
    #[must_use]
    pub fn order(&self) -> Json {
        let step = |step: &Step| {
            let (act, name) = match &step.action {
                Action::Function => ("function", ""),
                Action::New => ("new", ""),
                Action::Method(name) => ("method", name.as_str()),
                Action::Get(name) => ("get", name.as_str()),
            };
            let kwargs = step.kwargs.iter().map(|(key, value)| (key.clone(), to_json(value)));
            json!({
                "act": act,
                "name": name,
                "args": step.args.iter().map(to_json).collect::<Vec<_>>(),
                "kwargs": kwargs.collect::<serde_json::Map<_, _>>(),
            })
        };
        json!({ "steps": self.steps.iter().map(step).collect::<Vec<_>>() })
    }

    /// Judges what came back, step by step, then what was printed. Gives the index of the step that
    /// the outcome is of.
    #[must_use]
    pub fn judge(&self, replies: &[Reply], printed: &[u8]) -> (usize, CallOutcome) {
        for (index, step) in self.steps.iter().enumerate() {
            let outcome = match replies.get(index) {
                Some(reply) => step.judge(&reply.returned, &reply.args),
                None => CallOutcome::StepsMissing,
            };
            if outcome != CallOutcome::Holds {
                return (index, outcome);
            }
        }
        let last = self.steps.len() - 1;
        if let Some(expected) = &self.prints
            && let Err(mismatch) = compare_texts(Compare::Lines, 0.0, expected.as_bytes(), printed)
        {
            return (last, CallOutcome::WrongPrint(mismatch));
        }
        (last, CallOutcome::Holds)
    }
}

impl Step {
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
                match compare(
                    &expected,
                    &found,
                    CompareRules { order: Order::Counts, ..self.rules },
                ) {
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
    use super::super::line::{parse_calls, parse_example};
    use super::*;
    use fairtrial_core::value::parse_line;

    fn call(line: &str) -> Call {
        parse_calls("c.jsonl", line).unwrap().remove(0)
    }

    fn only(line: &str) -> Step {
        call(line).steps.remove(0)
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
            (r#"{"steps": []}"#, "at least one step"),
            (r#"{"steps": [{"call": "f", "returns": 1}]}"#, "begins with `new`"),
            (r#"{"steps": [{"new": []}], "returns": 1}"#, "belong to its steps"),
            (r#"{"steps": [{"new": []}, {"get": "x", "args": [1]}]}"#, "`get` takes no"),
            (r#"{"steps": [{"new": []}, {"get": "x", "call": "y"}]}"#, "exactly one of"),
            (r#"{"returns": 1, "time": 0}"#, "above 0"),
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
        assert!(matches!(call.steps[0].args[0], Value::Float(f) if f.is_nan()));
        let tuple = Value::Tuple(vec![Value::Int(1), Value::Float(f64::INFINITY)]);
        assert_eq!(call.steps[0].expected, Expected::OneOf(vec![tuple]));
        assert_eq!(call.name, "example 1");
    }

    #[test]
    fn steps_are_judged_in_order_and_what_was_printed_last() {
        let call = call(
            r#"{"steps": [{"new": [2]}, {"call": "put", "args": ["a"], "returns": true},
                {"get": "size", "returns": 1}], "prints": "put a\n", "time": 0.5}"#
                .replace('\n', " ")
                .as_str(),
        );
        let reply = |value| Reply { returned: Returned::Value(value), args: Vec::new() };
        let made = reply(Value::Opaque("Hold".into()));
        let right = [made.clone(), reply(Value::Bool(true)), reply(Value::Int(1))];
        assert_eq!(call.judge(&right, b"put a"), (2, CallOutcome::Holds));
        assert!(matches!(call.judge(&right, b"put b"), (2, CallOutcome::WrongPrint(_))));
        let wrong = [made.clone(), reply(Value::Bool(false)), reply(Value::Int(1))];
        assert!(matches!(call.judge(&wrong, b""), (1, CallOutcome::WrongValue(_))));
        assert_eq!(call.judge(&right[..2], b""), (2, CallOutcome::StepsMissing));
        assert_eq!(call.time, Some(Duration::from_millis(500)));
        let order = call.order().to_string();
        assert!(order.contains(r#""act":"method""#) && !order.contains("true"), "{order}");
    }
}
