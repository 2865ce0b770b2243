//! What an agent says of its work, turn by turn, as steps.

use std::collections::BTreeMap;
use std::time::Instant;

use fairtrial_core::text::head_and_tail;
use serde_json::Value as Json;

use crate::ask::StepNote;

/// Longest text of one step that is sent on, in bytes.
const DETAIL_MAX: usize = 8 << 10;

/// Longest text that is gathered from pieces, in bytes; more of it is dropped.
const SAID_MAX: usize = 1 << 20;

/// Tool calls under way that are kept apart.
const CALLS_MAX: usize = 1000;

/// What is known of one turn.
#[derive(Debug, Default)]
pub struct Updates {
    /// What is being said, piece by piece: whether as thought, the text, and since when.
    saying: Option<(bool, String, Instant)>,
    last_words: String,
    calls: BTreeMap<String, ToolCall>,
}

/// A tool call under way.
#[derive(Debug)]
struct ToolCall {
    title: String,
    kind: String,
    content: Vec<Json>,
    began: Instant,
}

impl Updates {
    /// Takes an update, and gives the steps that are over with it.
    pub fn take(&mut self, update: &Json) -> Vec<StepNote> {
        let thought = match update["sessionUpdate"].as_str().unwrap_or_default() {
            "agent_message_chunk" => false,
            "agent_thought_chunk" => true,
            other => {
                let said = self.said();
                return said.into_iter().chain(self.act(other, update)).collect();
            }
        };
        let piece = update["content"]["text"].as_str().unwrap_or_default();
        let finished = match &self.saying {
            Some((was, ..)) if *was != thought => self.said(),
            _ => None,
        };
        let (_, text, _) =
            self.saying.get_or_insert_with(|| (thought, String::new(), Instant::now()));
        let room = SAID_MAX.saturating_sub(text.len());
        text.push_str(&piece[..piece.floor_char_boundary(room)]);
        finished.into_iter().collect()
    }

    fn act(&mut self, what: &str, update: &Json) -> Option<StepNote> {
        match what {
            "tool_call" | "tool_call_update" => self.call(update),
            "plan" => Some(plan(update)),
            _ => None,
        }
    }

    fn call(&mut self, update: &Json) -> Option<StepNote> {
        let id = update["toolCallId"].as_str().unwrap_or_default();
        if self.calls.len() >= CALLS_MAX && !self.calls.contains_key(id) {
            return None;
        }
        let call = self.calls.entry(id.to_owned()).or_insert_with(|| ToolCall {
            title: id.to_owned(),
            kind: "other".to_owned(),
            content: Vec::new(),
            began: Instant::now(),
        });
        if let Some(title) = update["title"].as_str().filter(|it| !it.trim().is_empty()) {
            call.title = title.to_owned();
        }
        if let Some(kind) = update["kind"].as_str() {
            call.kind = kind.to_owned();
        }
        if let Some(content) = update["content"].as_array() {
            call.content.clone_from(content);
        }
        let outcome = match update["status"].as_str() {
            Some("completed") => "done",
            Some("failed") => "failed",
            _ => return None,
        };
        let call = self.calls.remove(id)?;
        Some(call.over(outcome))
    }

    /// What a tool call is of, by its name.
    pub fn kind_of(&self, id: &str) -> Option<&str> {
        self.calls.get(id).map(|it| it.kind.as_str())
    }

    /// What was said in pieces is whole.
    pub fn said(&mut self) -> Option<StepNote> {
        let (thought, text, began) = self.saying.take()?;
        if text.trim().is_empty() {
            return None;
        }
        let first = text.trim().lines().next().unwrap_or_default();
        let step = StepNote {
            kind: if thought { "thought" } else { "said" }.to_owned(),
            subject: head_and_tail(first, 100),
            outcome: "done".to_owned(),
            detail: head_and_tail(&text, DETAIL_MAX),
            took: began.elapsed(),
            files: None,
        };
        if !thought {
            self.last_words = text;
        }
        Some(step)
    }

    /// The turn is over: what was left open, and what was said last.
    pub fn end(&mut self) -> (Vec<StepNote>, String) {
        let said = self.said();
        let open = std::mem::take(&mut self.calls).into_values().map(|it| it.over("left open"));
        let steps = said.into_iter().chain(open).collect();
        (steps, std::mem::take(&mut self.last_words))
    }
}

impl ToolCall {
    fn over(self, outcome: &str) -> StepNote {
        let parts: Vec<String> = self.content.iter().map(content).collect();
        StepNote {
            // What it says of itself is told from what the client did for it.
            kind: format!("tool:{}", self.kind),
            subject: self.title,
            outcome: outcome.to_owned(),
            detail: head_and_tail(&parts.join("\n"), DETAIL_MAX),
            took: self.began.elapsed(),
            files: None,
        }
    }
}

/// What a tool call came to, as text.
fn content(part: &Json) -> String {
    let text = |value: &Json| value.as_str().unwrap_or_default().to_owned();
    match part["type"].as_str().unwrap_or_default() {
        "content" => text(&part["content"]["text"]),
        "diff" => {
            let (old, new) = (text(&part["oldText"]), text(&part["newText"]));
            let diff = diffy::create_patch(&old, &new).to_string();
            // Its first two lines name no files.
            let hunks = diff.split_inclusive('\n').skip(2).collect::<String>();
            format!("{}\n{hunks}", text(&part["path"]))
        }
        "terminal" => format!("terminal {}", text(&part["terminalId"])),
        _ => String::new(),
    }
}

fn plan(update: &Json) -> StepNote {
    let entries = update["entries"].as_array().map(Vec::as_slice).unwrap_or_default();
    let line = |entry: &Json| {
        let status = entry["status"].as_str().unwrap_or_default();
        let mark = match status {
            "completed" => "done",
            "in_progress" => "now ",
            _ => "open",
        };
        format!("{mark}  {}", entry["content"].as_str().unwrap_or_default())
    };
    let lines: Vec<String> = entries.iter().map(line).collect();
    let done = lines.iter().filter(|it| it.starts_with("done")).count();
    StepNote {
        kind: "plan".to_owned(),
        subject: format!("{done} of {} done", lines.len()),
        outcome: "done".to_owned(),
        detail: head_and_tail(&lines.join("\n"), DETAIL_MAX),
        ..StepNote::default()
    }
}

#[cfg(test)]
mod tests {
    use serde_json::json;

    use super::*;

    #[test]
    fn pieces_become_texts_and_calls_become_steps() {
        let mut updates = Updates::default();
        let chunk = |kind: &str, text: &str| json!({ "sessionUpdate": kind, "content": { "type": "text", "text": text } });
        assert!(updates.take(&chunk("agent_thought_chunk", "Where is ")).is_empty());
        assert!(updates.take(&chunk("agent_thought_chunk", "the tide?")).is_empty());
        let steps = updates.take(&chunk("agent_message_chunk", "I look."));
        assert_eq!(
            (steps[0].kind.as_str(), steps[0].detail.as_str()),
            ("thought", "Where is the tide?")
        );
        let call = json!({ "sessionUpdate": "tool_call", "toolCallId": "1", "title": "Edit tides.py",
            "kind": "edit", "status": "in_progress" });
        let steps = updates.take(&call);
        assert_eq!((steps.len(), steps[0].kind.as_str()), (1, "said"));
        assert_eq!(updates.kind_of("1"), Some("edit"));
        let diff = json!({ "type": "diff", "path": "/work/a.py", "oldText": "x = 1\n", "newText": "x = 2\n" });
        let over = json!({ "sessionUpdate": "tool_call_update", "toolCallId": "1",
            "status": "completed", "content": [diff] });
        let step = updates.take(&over).remove(0);
        assert_eq!((step.kind.as_str(), step.outcome.as_str()), ("tool:edit", "done"));
        assert_eq!(step.detail, "/work/a.py\n@@ -1 +1 @@\n-x = 1\n+x = 2\n");
        let plan = json!({ "sessionUpdate": "plan", "entries": [
            { "content": "read", "status": "completed" }, { "content": "mend", "status": "pending" } ] });
        let step = updates.take(&plan).remove(0);
        assert_eq!(
            (step.subject.as_str(), step.detail.as_str()),
            ("1 of 2 done", "done  read\nopen  mend")
        );
        updates.take(&json!({ "sessionUpdate": "tool_call", "toolCallId": "2", "title": "Wait" }));
        updates.take(&chunk("agent_message_chunk", "Done."));
        let (steps, last_words) = updates.end();
        assert_eq!(last_words, "Done.");
        let found: Vec<_> =
            steps.iter().map(|it| (it.kind.as_str(), it.outcome.as_str())).collect();
        assert_eq!(found, [("said", "done"), ("tool:other", "left open")]);
    }
}
