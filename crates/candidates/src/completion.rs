//! Answers of the chat-completions protocol, whole or in parts, read generously: what is odd beside an answer never
//! loses it.

use fairtrial_core::plan::Tokens;
use serde_json::Value as Json;

/// Where halves of characters outside the basic plane are kept until both are there: from U+100000 on, one for each
/// of the 2048 halves.
const HALVES: u32 = 0x10_0000;

/// A completion, or a part of one.
#[derive(Debug)]
pub(crate) struct Completion {
    json: Json,
    /// Whether halves of characters stand in it.
    pub(crate) has_halves: bool,
}

impl Completion {
    /// Reads one.
    ///
    /// # Errors
    /// When it is no JSON, halves of characters put aside.
    pub(crate) fn parse(text: &str) -> Result<Self, serde_json::Error> {
        let error = match serde_json::from_str(text) {
            Ok(json) => return Ok(Self { json: unwrapped(json), has_halves: false }),
            Err(error) => error,
        };
        let mended = mended(text);
        // Some hosts cut the escapes of a character in two (RFC 8259, section 8.2).
        let halves = with_halves(mended.as_deref().unwrap_or(text));
        let has_halves = halves.is_some();
        match halves.or(mended) {
            Some(text) => Ok(Self { json: unwrapped(serde_json::from_str(&text)?), has_halves }),
            None => Err(error),
        }
    }

    /// What the host says went wrong.
    pub(crate) fn error(&self) -> Option<String> {
        let Some(error) = self.json.get("error").filter(|it| says_something(it)) else {
            return self.error_in_place();
        };
        let message = error.get("message").and_then(Json::as_str).filter(|it| !it.is_empty());
        Some(message.or(error.as_str()).map_or_else(|| error.to_string(), str::to_owned))
    }

    /// What stands in the place of an answer, where the whole is an error.
    fn error_in_place(&self) -> Option<String> {
        let text = |name: &str| self.json.get(name).and_then(Json::as_str);
        let says = || ["message", "detail", "msg"].into_iter().find_map(text);
        let is_other = self.json.get("choices").is_none();
        says().filter(|it| is_other && !it.trim().is_empty()).map(str::to_owned)
    }

    /// The choice that was asked for: the first, whatever else comes with it.
    fn choice(&self) -> Option<&Json> {
        let all = self.json.get("choices")?.as_array()?;
        let is_first = |it: &&Json| it.get("index").and_then(Json::as_u64).unwrap_or(0) == 0;
        all.iter().find(is_first)
    }

    /// Whether there is a choice.
    pub(crate) fn has_choice(&self) -> bool {
        self.choice().is_some()
    }

    /// Whether a choice holds a message, or what older hosts have in its place.
    pub(crate) fn has_message(&self) -> bool {
        let has =
            |name: &str| self.choice().and_then(|it| it.get(name)).is_some_and(|it| !it.is_null());
        has("message") || has("delta") || has("text")
    }

    /// A field of its message, or of the part of it.
    fn field(&self, name: &str) -> Option<&Json> {
        let choice = self.choice()?;
        let of = |part: &str| choice.get(part)?.get(name).filter(|it| !it.is_null());
        of("delta").or_else(|| of("message"))
    }

    /// What was said: text, or the text parts of a list of parts.
    pub(crate) fn text(&self) -> String {
        match self.field("content") {
            Some(Json::String(text)) => text.clone(),
            Some(Json::Array(parts)) => {
                let said = parts.iter().filter(|it| !is_thought(it));
                said.filter_map(|part| part.get("text")?.as_str()).collect()
            }
            Some(part @ Json::Object(_)) if !is_thought(part) => texts_in(part),
            Some(_) => String::new(),
            // As the protocol's forerunner has it.
            None => {
                let text = self.choice().and_then(|it| it.get("text")?.as_str());
                text.unwrap_or_default().to_owned()
            }
        }
    }

    /// What it thought aloud, where its host keeps that apart: in a field of its own, or in parts that say so.
    pub(crate) fn thought(&self) -> String {
        let own = ["reasoning_content", "reasoning", "thinking"];
        let own = own.iter().find_map(|it| self.field(it));
        let parts = self.field("content").and_then(Json::as_array).into_iter().flatten();
        let parts = parts.filter(|it| is_thought(it));
        own.into_iter().chain(parts).map(texts_in).collect()
    }

    /// By which words the model declined.
    pub(crate) fn refusal(&self) -> &str {
        self.field("refusal").and_then(Json::as_str).unwrap_or_default()
    }

    /// Why it ended.
    pub(crate) fn finish(&self) -> Option<&str> {
        self.choice()?.get("finish_reason")?.as_str()
    }

    /// The tool calls, or parts of them.
    pub(crate) fn calls(&self) -> &[Json] {
        self.field("tool_calls").and_then(Json::as_array).map(Vec::as_slice).unwrap_or_default()
    }

    /// What its host counted; `None` where it did not count both what was read and what was written. Where it does not
    /// count what was thought as written, that is added: it is paid for.
    pub(crate) fn tokens(&self) -> Option<Tokens> {
        let usage = self.json.get("usage")?;
        let first = |names: &[&str]| names.iter().find_map(|it| count(usage.pointer(it)?));
        let input = first(&["/prompt_tokens", "/input_tokens"])?;
        let output = first(&["/completion_tokens", "/output_tokens"])?;
        // Nothing is asked by no words at all: it did not count.
        if input == 0 && output == 0 {
            return None;
        }
        let total = first(&["/total_tokens"]);
        let reasoning = first(&[
            "/completion_tokens_details/reasoning_tokens",
            "/output_tokens_details/reasoning_tokens",
            "/reasoning_tokens",
        ]);
        let reasoning = reasoning.unwrap_or(0);
        let is_apart = reasoning > output
            || reasoning > 0 && total.is_some_and(|it| it == input + output + reasoning);
        let output = if is_apart { output + reasoning } else { output };
        let cached = first(&[
            "/prompt_tokens_details/cached_tokens",
            "/input_tokens_details/cached_tokens",
            "/prompt_cache_hit_tokens",
            "/cache_read_input_tokens",
            "/cached_tokens",
        ]);
        Some(Tokens { input, cached: cached.unwrap_or(0).min(input), output, reasoning })
    }
}

/// The one thing in a list of one, as some hosts wrap it.
fn unwrapped(json: Json) -> Json {
    match json {
        Json::Array(mut all) if all.len() == 1 => all.pop().unwrap_or_default(),
        other => other,
    }
}

/// Whether a field for what went wrong says that something did.
fn says_something(error: &Json) -> bool {
    match error {
        Json::Null | Json::Bool(false) => false,
        Json::Bool(true) => true,
        Json::Number(code) => code.as_f64() != Some(0.0),
        Json::String(text) => !text.trim().is_empty(),
        Json::Array(all) => all.iter().any(says_something),
        Json::Object(fields) => fields.values().any(says_something),
    }
}

/// JSON as some hosts write it, with numbers that are none (`NaN`, `Infinity`) and with control characters in texts, put
/// right; `None` where there is neither.
fn mended(text: &str) -> Option<String> {
    const NO_NUMBERS: [&str; 3] = ["-Infinity", "Infinity", "NaN"];
    let mut out = String::with_capacity(text.len());
    let (mut rest, mut found, mut in_text) = (text, false, false);
    while let Some(c) = rest.chars().next() {
        let mut length = c.len_utf8();
        match c {
            '"' => in_text = !in_text,
            '\\' if in_text => length += rest[1..].chars().next().map_or(0, char::len_utf8),
            '\0'..'\u{20}' if in_text => {
                out.push_str(&format!("\\u{:04x}", c as u32));
                (rest, found) = (&rest[length..], true);
                continue;
            }
            'N' | 'I' | '-' if !in_text => {
                if let Some(name) = NO_NUMBERS.iter().find(|it| rest.starts_with(**it)) {
                    out.push_str("null");
                    (rest, found) = (&rest[name.len()..], true);
                    continue;
                }
            }
            _ => {}
        }
        out.push_str(&rest[..length]);
        rest = &rest[length..];
    }
    found.then_some(out)
}

/// Whether a part of a message is what was thought.
fn is_thought(part: &Json) -> bool {
    let kind = part.get("type").and_then(Json::as_str).unwrap_or_default();
    ["reasoning", "thinking", "thought"].contains(&kind)
}

/// The text in a field or part that holds what was thought: a text, an object with one, or a list of these.
fn texts_in(value: &Json) -> String {
    match value {
        Json::String(text) => text.clone(),
        Json::Array(parts) => parts.iter().map(texts_in).collect(),
        Json::Object(part) => {
            let names = ["text", "thinking", "reasoning", "content"];
            names.iter().find_map(|it| part.get(*it)).map(texts_in).unwrap_or_default()
        }
        _ => String::new(),
    }
}

/// A count, as hosts write it: a whole number, one with a fraction, or a text. One below 0 is none.
fn count(value: &Json) -> Option<u64> {
    let number = match value {
        Json::Number(number) => match number.as_u64() {
            Some(whole) => return Some(whole),
            None => number.as_f64()?,
        },
        Json::String(text) => text.trim().parse().ok()?,
        _ => return None,
    };
    (0.0..1e15).contains(&number).then_some(number.round() as u64)
}

/// JSON with each half of a character that stands alone written as a character of its own; `None` where none does.
fn with_halves(text: &str) -> Option<String> {
    let mut out = String::with_capacity(text.len());
    let (mut rest, mut found) = (text, false);
    while let Some(at) = rest.find('\\') {
        let (before, escape) = rest.split_at(at);
        out.push_str(before);
        let (length, half) = match (unit(escape), escape.get(6..).and_then(unit)) {
            (Some(0xD800..=0xDBFF), Some(0xDC00..=0xDFFF)) => (12, None),
            (Some(unit @ 0xD800..=0xDFFF), _) => (6, Some(unit)),
            // An escaped backslash is no beginning of another escape.
            _ => (escape.char_indices().nth(2).map_or(escape.len(), |it| it.0), None),
        };
        match half.and_then(|unit| char::from_u32(HALVES + unit - 0xD800)) {
            Some(half) => {
                out.push(half);
                found = true;
            }
            None => out.push_str(&escape[..length]),
        }
        rest = &escape[length..];
    }
    out.push_str(rest);
    found.then_some(out)
}

/// The code unit of `\uXXXX` at the beginning of a text.
fn unit(text: &str) -> Option<u32> {
    let digits = text.strip_prefix("\\u")?.get(..4)?;
    digits.bytes().all(|it| it.is_ascii_hexdigit()).then(|| u32::from_str_radix(digits, 16).ok())?
}

/// Puts halves of characters together; one that stays alone is no character.
pub(crate) fn without_halves(text: &str) -> String {
    let half = |c: char| (c as u32).checked_sub(HALVES).filter(|it| *it < 0x800);
    let mut out = String::with_capacity(text.len());
    let mut chars = text.chars().peekable();
    while let Some(c) = chars.next() {
        match (half(c), chars.peek().copied().and_then(half)) {
            (None, _) => out.push(c),
            (Some(high @ ..0x400), Some(low @ 0x400..)) => {
                chars.next();
                let whole = 0x1_0000 + (high << 10) + (low - 0x400);
                out.push(char::from_u32(whole).unwrap_or(char::REPLACEMENT_CHARACTER));
            }
            (Some(_), _) => out.push(char::REPLACEMENT_CHARACTER),
        }
    }
    out
}

#[cfg(test)]
mod tests {
    use super::*;

    fn tokens(usage: &str) -> Option<(u64, u64, u64)> {
        let found = counted(usage)?;
        Some((found.input, found.cached, found.output))
    }

    fn counted(usage: &str) -> Option<Tokens> {
        let text = format!("{{\"choices\": null, \"usage\": {usage}}}");
        Completion::parse(&text).unwrap().tokens()
    }

    #[test]
    fn what_was_thought_is_counted_once() {
        for (usage, output, reasoning) in [
            (
                r#"{"prompt_tokens": 7, "completion_tokens": 30, "completion_tokens_details": {"reasoning_tokens": 20}}"#,
                30,
                20,
            ),
            (r#"{"prompt_tokens": 7, "completion_tokens": 3, "reasoning_tokens": 20}"#, 23, 20),
            (
                r#"{"input_tokens": 7, "output_tokens": 30, "total_tokens": 57, "reasoning_tokens": 20}"#,
                50,
                20,
            ),
        ] {
            let found = counted(usage).unwrap();
            assert_eq!((found.output, found.reasoning), (output, reasoning), "{usage}");
        }
    }

    #[test]
    fn what_was_thought_is_kept_apart_from_what_was_said() {
        for message in [
            r#"{"content": "x = 1", "reasoning_content": "let me see"}"#,
            r#"{"content": "x = 1", "reasoning": "let me see"}"#,
            r#"{"content": [{"type": "thinking", "thinking": [{"type": "text", "text": "let me see"}]}, {"type": "text", "text": "x = 1"}]}"#,
            r#"{"content": [{"type": "reasoning", "text": "let me see"}, {"text": "x = 1"}]}"#,
        ] {
            let text = format!("{{\"choices\": [{{\"message\": {message}}}]}}");
            let completion = Completion::parse(&text).unwrap();
            assert_eq!(
                (completion.text().as_str(), completion.thought().as_str()),
                ("x = 1", "let me see")
            );
        }
    }

    #[test]
    fn counts_are_read_as_hosts_write_them() {
        for (usage, expected) in [
            (r#"{"prompt_tokens": 7, "completion_tokens": 3}"#, Some((7, 0, 3))),
            (r#"{"prompt_tokens": 7.4, "completion_tokens": "3"}"#, Some((7, 0, 3))),
            (r#"{"input_tokens": 7, "output_tokens": 3, "cached_tokens": 9}"#, Some((7, 7, 3))),
            (
                r#"{"prompt_tokens": 7, "completion_tokens": 3, "prompt_tokens_details": {"cached_tokens": 2}}"#,
                Some((7, 2, 3)),
            ),
            (
                r#"{"prompt_tokens": 7, "completion_tokens": 3, "prompt_cache_hit_tokens": 4}"#,
                Some((7, 4, 3)),
            ),
            (r#"{"prompt_tokens": null, "completion_tokens": 3}"#, None),
            (r#"{"prompt_tokens": 7, "completion_tokens": -3}"#, None),
            (r#"{"prompt_tokens": 0, "completion_tokens": 0, "total_tokens": 0}"#, None),
            ("{}", None),
            ("null", None),
        ] {
            assert_eq!(tokens(usage), expected, "{usage}");
        }
    }

    #[test]
    fn characters_cut_in_two_are_put_together() {
        let part = |escape: &str| {
            let text = format!(r#"{{"choices": [{{"delta": {{"content": "a{escape}"}}}}]}}"#);
            Completion::parse(&text).unwrap()
        };
        let (high, low) = (part(r"\ud83d"), part(r"\ude00"));
        assert!(high.has_halves && low.has_halves);
        assert_eq!(without_halves(&(high.text() + &low.text()[1..])), "a\u{1f600}");
        assert_eq!(without_halves(&high.text()), "a\u{fffd}");
        // Whole ones and escaped backslashes stay what they are.
        let whole = part(r"\ud83d\ude00\\ud83d");
        assert!(!whole.has_halves && whole.text() == "a\u{1f600}\\ud83d", "{whole:?}");
        let mixed = part(r"\\\\ud83d\ud83d");
        assert_eq!(without_halves(&mixed.text()), "a\\\\ud83d\u{fffd}");
    }

    #[test]
    fn json_that_is_nearly_json_is_read() {
        let text = "[{\"choices\": [{\"logprobs\": [-Infinity, NaN, -1], \"message\": {\"content\":\
            \"a\nb\tNaN \\\"c\\\\\"}}]}]";
        assert_eq!(Completion::parse(text).unwrap().text(), "a\nb\tNaN \"c\\");
        for broken in ["{\"choices\": [NaN", "{\"a\": Nan}", "{\"a\": \"\n"] {
            assert!(Completion::parse(broken).is_err(), "{broken}");
        }
    }

    #[test]
    fn an_error_is_one_where_it_says_something() {
        let answer = |error: &str| {
            let text = format!(
                "{{\"choices\": [{{\"message\": {{\"content\": \"x\"}}}}], \"error\": {error}}}"
            );
            Completion::parse(&text).unwrap().error()
        };
        for error in ["null", "{}", "false", "\"\"", "0", "[]", r#"{"code": 0, "message": ""}"#] {
            assert_eq!(answer(error), None, "{error}");
        }
        let code = answer(r#"{"code": 7, "message": ""}"#).unwrap();
        assert!(code.contains("\"code\":7"), "{code}");
        assert_eq!(answer(r#""sunk""#).as_deref(), Some("sunk"));
        let whole = |text: &str| Completion::parse(text).unwrap().error();
        assert_eq!(whole(r#"{"object": "error", "message": "sunk"}"#).as_deref(), Some("sunk"));
        assert_eq!(whole(r#"[{"error": {"message": "sunk"}}]"#).as_deref(), Some("sunk"));
        assert_eq!(whole(r#"{"choices": [], "message": "hello"}"#), None);
    }

    #[test]
    fn a_choice_that_nobody_asked_for_is_passed_over() {
        let text = r#"{"choices": [{"index": 1, "delta": {"content": "no"}}, {"index": 0, "message": null,
            "delta": {"content": "yes"}}], "id": 1, "id": 2}"#;
        assert_eq!(Completion::parse(text).unwrap().text(), "yes");
        assert!(!Completion::parse(r#"{"choices": [{"index": 1}]}"#).unwrap().has_choice());
        let older = Completion::parse(r#"{"choices": [{"text": "yes"}]}"#).unwrap();
        assert!(older.has_message() && older.text() == "yes");
    }
}
