//! One line of `sealed/calls.jsonl`, or one `[[example]]` of a brief.

use serde::Deserialize;
use serde_json::Value as Json;

use super::sealed::{Action, Call, Expected, Step};
use fairtrial_core::limits::Span;
use fairtrial_core::source::{SourceError, parse_jsonl};
use fairtrial_core::value::{CompareRules, Order, Value, from_json, from_toml};

#[derive(Debug, Deserialize)]
#[serde(deny_unknown_fields)]
struct CallLine {
    name: Option<String>,
    steps: Option<Vec<Object>>,
    prints: Option<String>,
    #[serde(default, deserialize_with = "present")]
    check: Option<Json>,
    time: Option<Span>,
    points: Option<f64>,
    #[serde(default)]
    args: Vec<Json>,
    #[serde(default)]
    kwargs: serde_json::Map<String, Json>,
}

/// One of the `steps` of a call.
#[derive(Debug, Deserialize)]
#[serde(deny_unknown_fields)]
struct StepLine {
    new: Option<Vec<Json>>,
    call: Option<String>,
    get: Option<String>,
    #[serde(default)]
    args: Vec<Json>,
    #[serde(default)]
    kwargs: serde_json::Map<String, Json>,
}

/// What must come of a step.
#[derive(Debug, Default, Deserialize)]
#[serde(deny_unknown_fields)]
struct ExpectLine {
    #[serde(default, deserialize_with = "present")]
    returns: Option<Json>,
    raises: Option<String>,
    one_of: Option<Vec<Json>>,
    args_after: Option<Vec<Json>>,
    tolerance: Option<f64>,
    any_order: Option<AnyOrder>,
}

/// An object as it was written.
type Object = serde_json::Map<String, Json>;

/// The keys of an [`ExpectLine`].
const EXPECT_KEYS: &[&str] =
    &["returns", "raises", "one_of", "args_after", "tolerance", "any_order"];

/// Takes the expectation out of an object that holds one among other things, and reads both.
fn split<T: serde::de::DeserializeOwned>(object: Object) -> Result<(T, ExpectLine), String> {
    let (mut rest, mut expect) = (Object::new(), Object::new());
    for (key, value) in object {
        let part = if EXPECT_KEYS.contains(&key.as_str()) { &mut expect } else { &mut rest };
        part.insert(key, value);
    }
    let text_of = |error: serde_json::Error| error.to_string();
    let rest = serde_json::from_value(Json::Object(rest)).map_err(text_of)?;
    Ok((rest, serde_json::from_value(Json::Object(expect)).map_err(text_of)?))
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
    let lines: Vec<(usize, Object)> = parse_jsonl(file, text)?;
    if lines.is_empty() {
        return Err(SourceError::whole(file, "it holds no call; one object a line is expected"));
    }
    let calls = lines.into_iter().enumerate().map(|(index, (line, call))| {
        settle_call(call, index + 1).map_err(|message| SourceError::at_line(file, line, message))
    });
    calls.collect()
}

/// Reads one `[[example]]` table.
///
/// # Errors
/// As [`parse_calls`], without a line.
pub fn parse_example(table: &toml::Value, number: usize) -> Result<Call, String> {
    let json = example_json(table)?;
    let mut call = settle_call(json, number)?;
    if table.get("name").is_none() {
        call.name = format!("example {number}");
    }
    Ok(call)
}

/// An example as JSON, with its values in the forms that survive JSON.
fn example_json(table: &toml::Value) -> Result<Object, String> {
    let Some(table) = table.as_table() else {
        return Err("an example is a table".to_owned());
    };
    let mut out = Object::new();
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
    Ok(out)
}

fn value_json(value: &toml::Value) -> Result<Json, String> {
    from_toml(value)
        .map(|it| fairtrial_core::value::to_json(&it))
        .map_err(|error| error.to_string())
}

fn read(json: Json) -> Result<Value, String> {
    from_json(json).map_err(|error| error.to_string())
}

fn read_all(items: Vec<Json>) -> Result<Vec<Value>, String> {
    items.into_iter().map(read).collect()
}

fn read_named(items: serde_json::Map<String, Json>) -> Result<Vec<(String, Value)>, String> {
    items.into_iter().map(|(key, json)| Ok((key, read(json)?))).collect()
}

fn settle_call(object: Object, number: usize) -> Result<Call, String> {
    let (line, only) = split::<CallLine>(object)?;
    line.resolve(only, number)
}

impl CallLine {
    fn resolve(self, only: ExpectLine, number: usize) -> Result<Call, String> {
        let points = self.points.unwrap_or(1.0);
        if !(points >= 0.0 && points.is_finite()) {
            return Err("`points` is a number of at least 0".to_owned());
        }
        let steps = match self.steps {
            Some(steps) => {
                let alone = self.args.is_empty() && self.kwargs.is_empty() && only.is_empty();
                if !alone {
                    return Err("arguments and expectations belong to its steps".to_owned());
                }
                settle_steps(steps)?
            }
            None => {
                let judged_otherwise = self.check.is_some() || self.prints.is_some();
                let step = only.resolve(Action::Function, self.args, self.kwargs)?;
                let silent = step.expected == Expected::AnyValue && step.args_after.is_none();
                if silent && !judged_otherwise {
                    return Err("an expectation is missing: one of `returns`, `raises`, `one_of` \
                                (not empty), or `args_after`, `prints`, `check` alone"
                        .to_owned());
                }
                vec![step]
            }
        };
        Ok(Call {
            name: self.name.unwrap_or_else(|| format!("call {number}")),
            steps,
            prints: self.prints,
            check: self.check,
            time: self.time.map(|it| it.0),
            points,
        })
    }
}

fn settle_steps(lines: Vec<Object>) -> Result<Vec<Step>, String> {
    let mut steps = Vec::new();
    for (index, line) in lines.into_iter().enumerate() {
        let step = split::<StepLine>(line).and_then(|(line, expect)| line.resolve(expect));
        let step = step.map_err(|why| format!("step {}: {why}", index + 1))?;
        if index == 0 && step.action != Action::New {
            return Err("step 1: a row of steps begins with `new`, which makes the object".into());
        }
        steps.push(step);
    }
    if steps.is_empty() { Err("`steps` needs at least one step".to_owned()) } else { Ok(steps) }
}

impl StepLine {
    fn resolve(self, expect: ExpectLine) -> Result<Step, String> {
        match (self.new, self.call, self.get) {
            (Some(args), None, None) if self.args.is_empty() => {
                expect.resolve(Action::New, args, self.kwargs)
            }
            (None, Some(name), None) => {
                expect.resolve(Action::Method(name), self.args, self.kwargs)
            }
            (None, None, Some(name)) if self.args.is_empty() && self.kwargs.is_empty() => {
                expect.resolve(Action::Get(name), Vec::new(), self.kwargs)
            }
            (None, None, Some(_)) => Err("`get` takes no arguments".to_owned()),
            (Some(_), None, None) => Err("`new` holds its arguments itself".to_owned()),
            _ => Err("a step has exactly one of `new`, `call` and `get`".to_owned()),
        }
    }
}

impl ExpectLine {
    fn is_empty(&self) -> bool {
        self.returns.is_none()
            && self.raises.is_none()
            && self.one_of.is_none()
            && self.args_after.is_none()
            && self.tolerance.is_none()
            && self.any_order.is_none()
    }

    fn resolve(
        self,
        action: Action,
        args: Vec<Json>,
        kwargs: serde_json::Map<String, Json>,
    ) -> Result<Step, String> {
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
        let expected = match (self.returns, self.raises, self.one_of) {
            (Some(value), None, None) => Expected::OneOf(vec![read(value)?]),
            (None, Some(kind), None) => Expected::Raises(kind),
            (None, None, Some(values)) if !values.is_empty() => Expected::OneOf(read_all(values)?),
            (None, None, Some(_)) => {
                return Err("an expectation is missing: `one_of` is empty".to_owned());
            }
            (None, None, None) => Expected::AnyValue,
            _ => return Err("only one of `returns`, `raises` and `one_of` may be there".to_owned()),
        };
        Ok(Step {
            action,
            args: read_all(args)?,
            kwargs: read_named(kwargs)?,
            expected,
            args_after: self.args_after.map(read_all).transpose()?,
            rules: CompareRules { tolerance: self.tolerance, order },
        })
    }
}
