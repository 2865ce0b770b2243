//! What a driver of calls says, a line of JSON each time.
//!
//! The candidate's code shares the driver's process, so every line may be forged: whatever it holds
//! is read as a value that came back, or as nothing at all.

use super::sealed::{Reply, Returned};
use fairtrial_core::text::head_and_tail;
use fairtrial_core::value::{Value, from_json};
use serde::Deserialize;

/// Longest name kept of an error's kind, in bytes.
pub const KIND_MAX: usize = 100;

/// Longest text kept of an error, in bytes.
const TEXT_MAX: usize = 4 << 10;

/// One line from the driver.
#[derive(Debug, Default, Deserialize)]
#[serde(rename_all = "lowercase")]
pub struct DriverLine {
    /// The candidate's file is loaded.
    #[serde(default)]
    pub loaded: bool,
    /// Why it is not.
    pub failed: Option<RaisedError>,
    /// What each step of a call came to.
    pub steps: Option<Vec<StepReply>>,
    /// How the process of a call ended that did not answer: its status, or less than 0 its signal.
    pub ended: Option<i32>,
}

/// What one step came to.
#[derive(Debug, Deserialize)]
pub struct StepReply {
    value: Option<serde_json::Value>,
    pub raised: Option<RaisedError>,
    #[serde(default)]
    args: Vec<serde_json::Value>,
}

/// An error, as the driver tells it.
#[derive(Debug, Deserialize)]
pub struct RaisedError {
    pub kinds: Vec<String>,
    message: String,
    #[serde(default)]
    place: String,
}

impl RaisedError {
    fn kind(&self) -> &str {
        let kind = self.kinds.first().map_or("an error", String::as_str);
        &kind[..kind.floor_char_boundary(KIND_MAX)]
    }

    /// The error for people: kind, message, place.
    pub fn text(&self) -> String {
        let place =
            if self.place.is_empty() { String::new() } else { format!(" ({})", self.place) };
        head_and_tail(&format!("{}: {}{place}", self.kind(), self.message), TEXT_MAX)
    }
}

impl DriverLine {
    /// Reads a line. `None` when it is none.
    pub fn read(bytes: &[u8]) -> Option<Self> {
        serde_json::from_slice(bytes).ok()
    }
}

impl StepReply {
    /// The step's reply in the words of the core.
    pub fn reply(self) -> Reply {
        let read = |json| from_json(json).unwrap_or(Value::Opaque("malformed value".to_owned()));
        let returned = match (self.value, self.raised) {
            (Some(value), None) => Returned::Value(read(value)),
            (_, Some(raised)) => Returned::Raised { kinds: raised.kinds, message: raised.message },
            (None, None) => Returned::Value(Value::Null),
        };
        Reply { returned, args: self.args.into_iter().map(read).collect() }
    }
}

#[cfg(test)]
mod tests {
    use super::super::line::parse_calls;
    use super::super::sealed::CallOutcome;
    use proptest::prelude::*;

    use super::*;

    /// Judges a line by a call that must return 1706.
    fn judged(bytes: &[u8]) -> Option<CallOutcome> {
        let call = parse_calls("c.jsonl", "{\"args\": [3], \"returns\": 1706}").unwrap().remove(0);
        let steps = DriverLine::read(bytes)?.steps?;
        for step in &steps {
            if let Some(raised) = &step.raised {
                assert!(raised.text().len() <= 2 * TEXT_MAX);
            }
        }
        let replies: Vec<Reply> = steps.into_iter().map(StepReply::reply).collect();
        Some(call.judge(&replies, b"1706").1)
    }

    #[test]
    fn only_the_value_itself_holds() {
        let holds = |line: &str| judged(line.as_bytes()) == Some(CallOutcome::Holds);
        assert!(holds(r#"{"steps": [{"value": 1706}]}"#));
        assert!(holds(r#"{"steps": [{"value": 1706, "args": [3]}, {"value": 0}]}"#));
        for line in [
            r#"{"steps": []}"#,
            r#"{"steps": [{}]}"#,
            r#"{"steps": [{"value": true}]}"#,
            r#"{"steps": [{"value": {"$opaque": "1706"}}]}"#,
            r#"{"steps": [{"value": {"$any": 1706}}]}"#,
            r#"{"steps": [{"value": "1706"}]}"#,
            r#"{"steps": [{"value": 1706, "raised": {"kinds": [], "message": ""}}]}"#,
            r#"{"steps": [{"value": 1e999}]}"#,
            r#"{"passed": true, "loaded": true}"#,
        ] {
            assert!(!holds(line), "{line}");
        }
        let deep =
            format!("{{\"steps\": [{{\"value\": {}1706{}}}]}}", "[".repeat(9999), "]".repeat(9999));
        assert_eq!(judged(deep.as_bytes()), None);
    }

    proptest! {
        #![proptest_config(ProptestConfig::with_cases(300))]

        #[test]
        fn no_bytes_make_the_reader_panic_or_hold(
            bytes in proptest::collection::vec(any::<u8>(), 0..300),
        ) {
            prop_assert_ne!(judged(&bytes), Some(CallOutcome::Holds));
        }

        #[test]
        fn no_pieces_of_lines_make_the_reader_panic_or_hold(
            parts in proptest::collection::vec(
                prop_oneof![
                    Just("{"), Just("}"), Just("["), Just("]"), Just(":"), Just(","),
                    Just("\"steps\""), Just("\"value\""), Just("\"raised\""), Just("\"kinds\""),
                    Just("\"message\""), Just("\"args\""), Just("\"$int\""), Just("\"$map\""),
                    Just("\"$set\""), Just("\"170\""), Just("null"), Just("true"), Just("-1e99"),
                ],
                0..40,
            ),
        ) {
            let text: String = parts.concat();
            prop_assert_ne!(judged(text.as_bytes()), Some(CallOutcome::Holds));
            let inside = format!("{{\"steps\":[{text}]}}");
            prop_assert_ne!(judged(inside.as_bytes()), Some(CallOutcome::Holds));
        }
    }
}
