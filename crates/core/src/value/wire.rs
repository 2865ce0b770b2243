//! Values to JSON and back.

use std::borrow::Cow;

use base64::Engine as _;
use base64::engine::general_purpose::STANDARD as BASE64;
use serde_json::{Map, Value as Json, json};

use super::Value;

/// Why some JSON is no value.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum ValueError {
    /// A `$` form that does not exist.
    #[error(
        "unknown form `{0}`; the forms are $tuple, $set, $map, $bytes, $int, $float, $undefined, \
         $opaque"
    )]
    UnknownForm(String),
    /// A `$` form with the wrong content.
    #[error("`{form}` takes {takes}")]
    BadForm {
        /// The form's key.
        form: &'static str,
        /// What belongs in it.
        takes: &'static str,
    },
    /// Text that is not JSON at all.
    #[error("not JSON: {0}")]
    NotJson(String),
}

/// Reads a value from one text of JSON. Whole numbers of any length are kept exactly.
///
/// # Errors
/// When the text is not JSON, is nested more than 128 deep, or uses a `$` form wrongly.
pub fn parse_line(text: &str) -> Result<Value, ValueError> {
    let json: Json = serde_json::from_str(&quote_long_integers(text))
        .map_err(|error| ValueError::NotJson(error.to_string()))?;
    from_json(json)
}

/// Puts whole numbers that do not fit 64 bits into the form `{"$int": "…"}`, so that reading
/// them as JSON does not round them.
#[must_use]
pub fn quote_long_integers(text: &str) -> Cow<'_, str> {
    let bytes = text.as_bytes();
    let (mut out, mut copied, mut at) = (String::new(), 0, 0);
    while at < bytes.len() {
        match bytes[at] {
            b'"' => at = end_of_string(bytes, at),
            b'-' | b'0'..=b'9' => {
                let is_part = |b: &u8| matches!(b, b'-' | b'+' | b'.' | b'e' | b'E' | b'0'..=b'9');
                let end = at + bytes[at..].iter().take_while(|b| is_part(b)).count();
                let number = &text[at..end];
                if number.parse::<i64>().is_err() && canonical_integer(number).is_some() {
                    out.push_str(&text[copied..at]);
                    out.push_str(&format!("{{\"$int\":\"{number}\"}}"));
                    copied = end;
                }
                at = end;
            }
            _ => at += 1,
        }
    }
    if copied == 0 {
        return Cow::Borrowed(text);
    }
    out.push_str(&text[copied..]);
    Cow::Owned(out)
}

/// The index just behind the JSON string that opens at `at`.
fn end_of_string(bytes: &[u8], at: usize) -> usize {
    let mut end = at + 1;
    while end < bytes.len() {
        match bytes[end] {
            b'\\' => end += 2,
            b'"' => return end + 1,
            _ => end += 1,
        }
    }
    bytes.len()
}

/// Decimal digits without leading zeros, `-` kept except before zero; `None` for anything else.
fn canonical_integer(text: &str) -> Option<String> {
    let (sign, digits) = text.strip_prefix('-').map_or(("", text), |rest| ("-", rest));
    if digits.is_empty() || !digits.bytes().all(|b| b.is_ascii_digit()) {
        return None;
    }
    let digits = digits.trim_start_matches('0');
    Some(if digits.is_empty() { "0".to_owned() } else { format!("{sign}{digits}") })
}

/// Turns JSON into a value.
///
/// # Errors
/// When a `$` form is unknown or filled wrongly.
pub fn from_json(json: Json) -> Result<Value, ValueError> {
    Ok(match json {
        Json::Null => Value::Null,
        Json::Bool(it) => Value::Bool(it),
        Json::Number(number) => from_number(&number),
        Json::String(text) => Value::Str(text),
        Json::Array(items) => Value::List(all(items)?),
        Json::Object(map) => from_object(map)?,
    })
}

fn from_number(number: &serde_json::Number) -> Value {
    if let Some(int) = number.as_i64() {
        Value::Int(int)
    } else if let Some(int) = number.as_u64() {
        Value::BigInt(int.to_string())
    } else {
        Value::Float(number.as_f64().unwrap_or(f64::NAN))
    }
}

fn all(items: Vec<Json>) -> Result<Vec<Value>, ValueError> {
    items.into_iter().map(from_json).collect()
}

fn from_object(map: Map<String, Json>) -> Result<Value, ValueError> {
    if map.len() == 1 && map.keys().all(|key| key.starts_with('$')) {
        let form = map.into_iter().next();
        return form.map_or(Ok(Value::Map(Vec::new())), |(key, inner)| from_form(&key, inner));
    }
    let pairs = map.into_iter().map(|(key, it)| Ok((Value::Str(key), from_json(it)?)));
    pairs.collect::<Result<_, _>>().map(Value::Map)
}

fn from_form(key: &str, inner: Json) -> Result<Value, ValueError> {
    let bad = |form, takes| ValueError::BadForm { form, takes };
    match (key, inner) {
        ("$tuple", Json::Array(items)) => all(items).map(Value::Tuple),
        ("$set", Json::Array(items)) => all(items).map(Value::Set),
        ("$map", Json::Array(pairs)) => {
            pairs.into_iter().map(from_pair).collect::<Result<_, _>>().map(Value::Map)
        }
        ("$bytes", Json::String(text)) => {
            let bytes = BASE64.decode(text).map_err(|_| bad("$bytes", "base64 text"))?;
            Ok(Value::Bytes(bytes))
        }
        ("$int", Json::String(text)) => {
            let digits = canonical_integer(&text).ok_or_else(|| bad("$int", "decimal digits"))?;
            Ok(digits.parse().map_or(Value::BigInt(digits), Value::Int))
        }
        ("$float", Json::String(text)) => match text.as_str() {
            "nan" => Ok(Value::Float(f64::NAN)),
            "inf" => Ok(Value::Float(f64::INFINITY)),
            "-inf" => Ok(Value::Float(f64::NEG_INFINITY)),
            _ => Err(bad("$float", "`nan`, `inf` or `-inf`")),
        },
        ("$undefined", _) => Ok(Value::Null),
        ("$opaque", Json::String(text)) => Ok(Value::Opaque(text)),
        ("$tuple", _) => Err(bad("$tuple", "an array")),
        ("$set", _) => Err(bad("$set", "an array")),
        ("$map", _) => Err(bad("$map", "an array of [key, value] pairs")),
        ("$bytes", _) => Err(bad("$bytes", "base64 text")),
        ("$int", _) => Err(bad("$int", "decimal digits as text")),
        ("$float", _) => Err(bad("$float", "`nan`, `inf` or `-inf`")),
        ("$opaque", _) => Err(bad("$opaque", "text")),
        _ => Err(ValueError::UnknownForm(key.to_owned())),
    }
}

fn from_pair(pair: Json) -> Result<(Value, Value), ValueError> {
    let wrong = ValueError::BadForm { form: "$map", takes: "an array of [key, value] pairs" };
    let Json::Array(pair) = pair else {
        return Err(wrong);
    };
    let [key, value] = <[Json; 2]>::try_from(pair).map_err(|_| wrong)?;
    Ok((from_json(key)?, from_json(value)?))
}

/// Turns TOML, as examples in a brief are written, into a value. Dates become text.
///
/// # Errors
/// As [`from_json`].
pub fn from_toml(toml: &toml::Value) -> Result<Value, ValueError> {
    Ok(match toml {
        toml::Value::Float(it) => Value::Float(*it),
        toml::Value::Array(items) => {
            Value::List(items.iter().map(from_toml).collect::<Result<_, _>>()?)
        }
        toml::Value::Table(table) => {
            if let (1, Some((key, inner))) = (table.len(), table.iter().next())
                && key.starts_with('$')
            {
                return from_form(key, to_json(&from_toml(inner)?));
            }
            let pairs = table.iter().map(|(k, v)| Ok((Value::Str(k.clone()), from_toml(v)?)));
            Value::Map(pairs.collect::<Result<_, _>>()?)
        }
        toml::Value::Integer(it) => Value::Int(*it),
        toml::Value::Boolean(it) => Value::Bool(*it),
        toml::Value::String(it) => Value::Str(it.clone()),
        toml::Value::Datetime(it) => Value::Str(it.to_string()),
    })
}

/// Turns a value into JSON that [`from_json`] reads back to the same value.
#[must_use]
pub fn to_json(value: &Value) -> Json {
    let list = |items: &[Value]| Json::Array(items.iter().map(to_json).collect());
    match value {
        Value::Null => Json::Null,
        Value::Bool(it) => json!(it),
        // Beyond 2^53 a reader that keeps numbers as doubles would round.
        Value::Int(it) if it.unsigned_abs() > (1 << 53) => json!({ "$int": it.to_string() }),
        Value::Int(it) => json!(it),
        Value::BigInt(digits) => json!({ "$int": digits }),
        Value::Float(it) if it.is_nan() => json!({ "$float": "nan" }),
        Value::Float(it) if it.is_infinite() => {
            json!({ "$float": if *it > 0.0 { "inf" } else { "-inf" } })
        }
        Value::Float(it) => json!(it),
        Value::Str(text) => json!(text),
        Value::Bytes(bytes) => json!({ "$bytes": BASE64.encode(bytes) }),
        Value::List(items) => list(items),
        Value::Tuple(items) => json!({ "$tuple": list(items) }),
        Value::Set(items) => json!({ "$set": list(items) }),
        Value::Map(pairs) => map_to_json(pairs),
        Value::Opaque(text) => json!({ "$opaque": text }),
    }
}

fn map_to_json(pairs: &[(Value, Value)]) -> Json {
    let plain: Option<Map<String, Json>> = pairs
        .iter()
        .map(|(key, value)| match key {
            Value::Str(key) if !key.starts_with('$') => Some((key.clone(), to_json(value))),
            _ => None,
        })
        .collect();
    plain.filter(|map| map.len() == pairs.len()).map_or_else(
        || {
            let pairs = pairs.iter().map(|(key, value)| json!([to_json(key), to_json(value)]));
            json!({ "$map": pairs.collect::<Vec<_>>() })
        },
        Json::Object,
    )
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    #[test]
    fn every_form_is_read() {
        let text = r#"[null, true, 3, 3.5, "x", {"$tuple": [1]}, {"$set": [2]}, {"$bytes": "AAE="},
            {"$int": "-00123456789012345678901"}, {"$float": "-inf"}, {"$map": [[1, 2]]}, {"a": 1}]"#;
        let Value::List(items) = parse_line(text).unwrap() else { panic!("no list") };
        assert_eq!(items[5], Value::Tuple(vec![Value::Int(1)]));
        assert_eq!(items[7], Value::Bytes(vec![0, 1]));
        assert_eq!(items[8], Value::BigInt("-123456789012345678901".into()));
        assert_eq!(items[9], Value::Float(f64::NEG_INFINITY));
        assert_eq!(items[10], Value::Map(vec![(Value::Int(1), Value::Int(2))]));
    }

    #[test]
    fn long_whole_numbers_are_kept_exactly_and_strings_are_left_alone() {
        let value = parse_line(r#"{"n": 123456789012345678901, "s": "\"123456789012345678901"}"#);
        let Value::Map(pairs) = value.unwrap() else { panic!("no map") };
        assert_eq!(pairs[0].1, Value::BigInt("123456789012345678901".into()));
        assert_eq!(pairs[1].1, Value::Str("\"123456789012345678901".into()));
    }

    #[test]
    fn forms_filled_wrongly_say_what_they_take() {
        for (text, part) in [
            (r#"{"$tuple": 1}"#, "an array"),
            (r#"{"$set": {}}"#, "an array"),
            (r#"{"$map": [[1]]}"#, "pairs"),
            (r#"{"$int": "1.5"}"#, "digits"),
            (r#"{"$float": "huge"}"#, "inf"),
            (r#"{"$bytes": "?"}"#, "base64"),
            (r#"{"$tupel": []}"#, "unknown form `$tupel`"),
        ] {
            let error = parse_line(text).unwrap_err().to_string();
            assert!(error.contains(part), "{text}: {error}");
        }
    }

    fn any_value() -> impl Strategy<Value = Value> {
        let leaf = prop_oneof![
            Just(Value::Null),
            any::<bool>().prop_map(Value::Bool),
            any::<i64>().prop_map(Value::Int),
            any::<i128>().prop_filter_map("64 bits", |n| {
                i64::try_from(n).is_err().then(|| Value::BigInt(n.to_string()))
            }),
            any::<f64>().prop_filter("NaN is unequal", |f| !f.is_nan()).prop_map(Value::Float),
            "\\PC{0,8}|\\$[a-z]{1,4}".prop_map(Value::Str),
            proptest::collection::vec(any::<u8>(), 0..8).prop_map(Value::Bytes),
        ];
        leaf.prop_recursive(3, 24, 4, |inner| {
            let items = proptest::collection::vec(inner.clone(), 0..4);
            prop_oneof![
                items.clone().prop_map(Value::List),
                items.clone().prop_map(Value::Tuple),
                items.prop_map(Value::Set),
                proptest::collection::btree_map("\\$?[a-z]{0,5}", inner, 0..4).prop_map(|map| {
                    Value::Map(map.into_iter().map(|(k, v)| (Value::Str(k), v)).collect())
                }),
            ]
        })
    }

    proptest! {
        #[test]
        fn what_is_written_is_read_back(value in any_value()) {
            let text = to_json(&value).to_string();
            prop_assert_eq!(parse_line(&text).unwrap(), value);
        }

        #[test]
        fn no_text_makes_the_reader_panic(text in "[\\[\\]{}\":,0-9eE.+$a-z\\\\-]{0,60}") {
            let _ = parse_line(&text);
        }
    }
}
