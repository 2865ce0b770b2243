//! What a simulated model does that was given tools: it looks around, reads, changes, tries, and says so.

use fairtrial_core::answer::Submission;
use serde_json::{Value, json};

use crate::answers::{Moment, choice};

/// One call of a tool.
#[derive(Debug, Clone, PartialEq)]
pub struct SimulatedCall {
    /// The tool.
    pub tool: String,
    /// Its arguments.
    pub arguments: Value,
}

/// A turn: calls, or a text where it is done.
#[derive(Debug, Clone, PartialEq)]
pub struct Turn {
    /// What it says.
    pub text: String,
    /// What it wants done.
    pub calls: Vec<SimulatedCall>,
}

/// What is changed in one file.
#[derive(Debug, Default)]
struct FileEdit {
    path: String,
    is_new: bool,
    is_gone: bool,
    /// Pieces before and after.
    hunks: Vec<(String, String)>,
}

/// Takes a turn, after `done` turns since it was asked, with the tools that it was given. Of tools that are not
/// those of a model that acts, it uses one that runs commands.
pub fn turn(moment: Moment<'_>, tools: &[Value], done: usize) -> Turn {
    let says = |text: &str| Turn { text: text.to_owned(), calls: Vec::new() };
    let acts = |calls: Vec<SimulatedCall>| Turn { text: String::new(), calls };
    let call = |tool: &str, arguments| SimulatedCall { tool: tool.to_owned(), arguments };
    let Some(proof) = choice(moment) else {
        return says("The files look right to me as they are.");
    };
    let edits = match &proof.answer {
        Submission::Patch(patch) => edits_of(&String::from_utf8_lossy(patch)),
        Submission::Files(files) => {
            let file = |(path, bytes): (_, &Vec<u8>)| FileEdit {
                path: format!("{path}"),
                is_new: true,
                hunks: vec![(String::new(), String::from_utf8_lossy(bytes).into_owned())],
                ..FileEdit::default()
            };
            files.iter().map(file).collect()
        }
        Submission::Text(text) => return says(text),
    };
    let has = |tool: &&str| tools.iter().any(|it| it["function"]["name"] == *tool);
    if !["list", "read", "edit", "run"].iter().all(has) {
        return by_commands(&proof.answer, tools, done);
    }
    match done {
        0 => acts(vec![call("list", json!({}))]),
        1 => {
            let known = edits.iter().filter(|it| !it.is_new);
            let mut calls: Vec<_> =
                known.map(|it| call("read", json!({ "path": it.path }))).collect();
            // Somebody who makes new files alone looks for what they are called by.
            if calls.is_empty() {
                calls.push(call("search", json!({ "text": moment.task.name })));
            }
            acts(calls)
        }
        2 => acts(edits.iter().flat_map(changes).collect()),
        3 => acts(vec![call("run", json!({ "command": trying(&moment.task.language) }))]),
        _ => says("I have changed what was asked for, and tried it.\n\nfinished"),
    }
}

fn changes(edit: &FileEdit) -> Vec<SimulatedCall> {
    let path = &edit.path;
    if edit.is_gone {
        return vec![SimulatedCall {
            tool: "delete".to_owned(),
            arguments: json!({ "path": path }),
        }];
    }
    let call = |(old, new): &(String, String)| {
        let (tool, arguments) = match edit.is_new {
            true => ("write", json!({ "path": path, "content": new })),
            false => ("edit", json!({ "path": path, "old": old, "new": new })),
        };
        SimulatedCall { tool: tool.to_owned(), arguments }
    };
    edit.hunks.iter().map(call).collect()
}

/// Makes the whole change by one command, where a tool takes one.
fn by_commands(answer: &Submission, tools: &[Value], done: usize) -> Turn {
    let says = |text: &str| Turn { text: text.to_owned(), calls: Vec::new() };
    let takes_command =
        |it: &&Value| it["function"]["parameters"]["properties"]["command"]["type"] == "string";
    let Some(tool) = tools.iter().find(takes_command).map(|it| &it["function"]) else {
        return says("I have nothing to change files with.\n\nnot finished");
    };
    if done > 0 {
        return says("I have changed what was asked for.\n\nfinished");
    }
    let command = match answer {
        Submission::Patch(patch) => {
            format!("git apply <<'END-OF-PATCH'\n{}\nEND-OF-PATCH", String::from_utf8_lossy(patch))
        }
        Submission::Files(files) => {
            let file = |(path, bytes): (_, &Vec<u8>)| {
                let text = String::from_utf8_lossy(bytes);
                format!("cat > '{path}' <<'END-OF-FILE'\n{text}\nEND-OF-FILE\n")
            };
            files.iter().map(file).collect()
        }
        Submission::Text(text) => return says(text),
    };
    let mut arguments = serde_json::Map::new();
    for name in tool["parameters"]["required"].as_array().into_iter().flatten() {
        let name = name.as_str().unwrap_or_default();
        let value = match tool["parameters"]["properties"][name]["type"].as_str() {
            Some("boolean") => json!(false),
            Some("number" | "integer") => json!(0),
            _ => json!("make the change"),
        };
        arguments.insert(name.to_owned(), value);
    }
    arguments.insert("command".to_owned(), json!(command));
    let name = tool["name"].as_str().unwrap_or_default().to_owned();
    let text = String::new();
    Turn { text, calls: vec![SimulatedCall { tool: name, arguments: Value::Object(arguments) }] }
}

fn trying(language: &str) -> &'static str {
    match language {
        "python" => "python3 -m unittest 2>&1 | tail -n 4",
        "javascript" => "node --test 2>&1 | tail -n 9",
        _ => "ls",
    }
}

/// Reads a patch that ships with a task: text, and nothing unusual.
fn edits_of(patch: &str) -> Vec<FileEdit> {
    let mut edits: Vec<FileEdit> = Vec::new();
    for line in patch.split_inclusive('\n') {
        if line.starts_with("diff --git ") {
            edits.push(FileEdit::default());
            continue;
        }
        let Some(edit) = edits.last_mut() else { continue };
        let path = |line: &str, mark| Some(line.trim_end().strip_prefix(mark)?.to_owned());
        if line.starts_with("@@") {
            edit.hunks.push((String::new(), String::new()));
        } else if let Some((old, new)) = edit.hunks.last_mut() {
            let Some((mark, text)) = line.split_at_checked(1) else { continue };
            match mark {
                "-" => old.push_str(text),
                "+" => new.push_str(text),
                " " => {
                    old.push_str(text);
                    new.push_str(text);
                }
                _ => {}
            }
        } else if line.starts_with("new file") {
            edit.is_new = true;
        } else if line.starts_with("deleted file") {
            edit.is_gone = true;
        } else if let Some(path) = path(line, "--- a/").or_else(|| path(line, "+++ b/")) {
            edit.path = path;
        }
    }
    edits
}

#[cfg(test)]
mod tests {
    use super::edits_of;

    #[test]
    fn a_patch_becomes_edits() {
        let patch = "diff --git a/a.py b/a.py\n--- a/a.py\n+++ b/a.py\n@@ -1,2 +1,2 @@\n one\n-two\n+2\n\
                     diff --git a/new b/new\nnew file mode 100644\n--- /dev/null\n+++ b/new\n@@ -0,0 +1 @@\n+x\n";
        let edits = edits_of(patch);
        assert_eq!(edits[0].hunks, [("one\ntwo\n".to_owned(), "one\n2\n".to_owned())]);
        assert_eq!((edits[1].path.as_str(), edits[1].is_new), ("new", true));
    }
}
