//! Code inside something else that stands in an answer: Markdown around Markdown, a here-document of a
//! shell, JSON, tags.

use std::collections::HashSet;
use std::sync::LazyLock;

use regex::Regex;
use serde_json::Value;

use super::fence::{self, Block, Parts, Probe};
use super::label::{Label, LabelPlace};
use super::{Wanted, scan, unwrap};
use crate::tree::RelPath;

/// Puts the blocks that stand inside others in their place, or behind them.
pub fn expand(parts: &mut Parts, wanted: Wanted<'_>, probe: &Probe<'_>) {
    let is_wanted = |block: &Block| block.language.as_deref() == Some(wanted.language);
    let mut blocks = Vec::with_capacity(parts.blocks.len());
    for block in std::mem::take(&mut parts.blocks) {
        let has_fence = block.code.contains("```") || block.code.contains("~~~");
        let is_text = matches!(block.tag.as_str(), "markdown" | "md" | "mdx")
            || block.tag.is_empty() && !is_wanted(&block) && block.fence_inside;
        if is_text && has_fence {
            let inner = fence::split(&block.code, wanted.languages, probe).blocks;
            if !inner.is_empty() {
                blocks.extend(inner.into_iter().map(|it| moved(it, &block, "a block of Markdown")));
                continue;
            }
        }
        let mut found = Vec::new();
        if !is_wanted(&block) && block.code.contains("<<") {
            found = here_documents(&block.code, wanted);
        } else if block.code.contains("<<") && block.code.contains(wanted.file.file_name()) {
            // A shell script that writes the script that was asked for.
            found = here_documents(&block.code, wanted);
            found.retain(|it| it.label.as_ref().is_some_and(|it| it.path == *wanted.file));
        }
        if matches!(block.tag.as_str(), "json" | "jsonc" | "json5" | "")
            && block.code.trim_start().starts_with(['{', '['])
        {
            found.extend(in_json(&block.code, wanted));
        }
        let mut block = block;
        block.writes_files = !found.is_empty();
        let found: Vec<Block> = found.into_iter().map(|it| moved(it, &block, "")).collect();
        blocks.push(block);
        blocks.extend(found);
    }
    parts.blocks = blocks;
}

/// A block that was found inside another, where that one stands.
fn moved(mut inner: Block, outer: &Block, found_in: &'static str) -> Block {
    let first = outer.lines.0;
    inner.lines = match inner.lines {
        (0, 0) => outer.lines,
        (from, to) => (from + first, to + first),
    };
    inner.is_thought |= outer.is_thought;
    if inner.before.trim().is_empty() {
        inner.before.clone_from(&outer.before);
    }
    inner.found_in = inner.found_in.or(Some(found_in));
    inner
}

fn found(path: Option<&str>, code: String, found_in: &'static str, wanted: Wanted<'_>) -> Block {
    let path =
        path.map(|it| it.strip_prefix("./").unwrap_or(it)).and_then(|it| RelPath::parse(it).ok());
    let language = path.as_ref().and_then(|it| wanted.languages.by_extension(it.extension()));
    Block {
        language: language.map(str::to_owned),
        label: path.map(|path| Label { path, place: LabelPlace::Fence }),
        code,
        closed: true,
        found_in: Some(found_in),
        ..Block::default()
    }
}

/// Files that commands for a shell write by here-documents.
fn here_documents(code: &str, wanted: Wanted<'_>) -> Vec<Block> {
    static TARGET: LazyLock<Regex> = LazyLock::new(|| {
        Regex::new(r#"(?:>>?\s*|\btee\s+(?:-a\s+)?)["']?([\w./+-]+)["']?"#).expect("fixed")
    });
    let mut blocks = Vec::new();
    let mut at = 0;
    while let Some(begin) = code[at..].find("<<").map(|it| at + it) {
        at = begin + 2;
        let Some((word, _)) = scan::here_word(&code[begin..]) else { continue };
        let line_begin = code[..begin].rfind('\n').map_or(0, |it| it + 1);
        let Some(line_end) = code[begin..].find('\n').map(|it| begin + it) else { break };
        let line = code[line_begin..line_end].replace("<<", "  ");
        let mut body_end = line_end + 1;
        let mut next = code.len();
        for line in code[line_end + 1..].split_inclusive('\n') {
            if line.trim() == word {
                next = body_end + line.len();
                break;
            }
            body_end += line.len();
        }
        if let Some(target) = TARGET.captures(&line).and_then(|it| it.get(1)) {
            let body = code[line_end + 1..body_end].to_owned();
            blocks.push(found(Some(target.as_str()), body, "a here-document", wanted));
        }
        at = next.min(code.len());
    }
    blocks
}

/// Files in JSON: an object with code and perhaps a path, a list or a map of such, or the arguments of a
/// call, which are JSON in a string.
pub fn in_json(text: &str, wanted: Wanted<'_>) -> Vec<Block> {
    let Ok(value) = serde_json::from_str::<Value>(text.trim()) else { return Vec::new() };
    let mut files = Vec::new();
    collect(&value, 0, &mut files);
    let blocks = files.into_iter().map(|(path, code)| {
        let code = unwrap::fenced(&code).unwrap_or(code);
        let code = if code.ends_with('\n') { code } else { code + "\n" };
        found(path.as_deref(), code, "JSON", wanted)
    });
    blocks.collect()
}

/// Keys of JSON objects under which code stands, in which its file is named, and that hold more of both.
const CODE_KEYS: &[&str] = &[
    "code",
    "content",
    "contents",
    "source",
    "source_code",
    "solution",
    "program",
    "body",
    "new_content",
    "file_text",
    "text",
    "answer",
];
const PATH_KEYS: &[&str] =
    &["path", "file", "filename", "file_name", "file_path", "filepath", "name"];
const OUTER_KEYS: &[&str] = &[
    "files",
    "arguments",
    "args",
    "input",
    "parameters",
    "function",
    "tool_calls",
    "tool_input",
    "call",
    "output",
    "result",
    "response",
    "message",
    "changes",
    "answer",
    "solution",
    "data",
    "params",
];

fn collect(value: &Value, depth: usize, files: &mut Vec<(Option<String>, String)>) {
    if depth > 6 || files.len() > 200 {
        return;
    }
    match value {
        Value::Array(list) => list.iter().for_each(|it| collect(it, depth + 1, files)),
        Value::Object(object) => {
            let text = |keys: &[&str]| keys.iter().find_map(|key| object.get(*key)?.as_str());
            let is_code = |it: &&str| it.contains('\n') || it.len() > 20;
            if let Some(code) = text(CODE_KEYS).filter(is_code) {
                files.push((text(PATH_KEYS).map(str::to_owned), code.to_owned()));
                return;
            }
            for key in OUTER_KEYS {
                match object.get(*key) {
                    Some(Value::String(text)) if text.trim_start().starts_with(['{', '[']) => {
                        if let Ok(inner) = serde_json::from_str(text) {
                            collect(&inner, depth + 1, files);
                        }
                    }
                    Some(inner @ (Value::Object(_) | Value::Array(_))) => {
                        collect(inner, depth + 1, files);
                    }
                    _ => {}
                }
            }
            for (key, inner) in object {
                if let Value::String(code) = inner
                    && key.contains('.')
                    && RelPath::parse(key).is_ok()
                {
                    files.push((Some(key.clone()), code.clone()));
                }
            }
        }
        _ => {}
    }
}

/// Code in tags, outside of fences: `<solution>…</solution>`, `[PYTHON]…[/PYTHON]`,
/// `<file path="a.py">…</file>`, `<pre><code>…</code></pre>`.
pub fn in_tags(text: &str, wanted: Wanted<'_>) -> Vec<Block> {
    static OPEN: LazyLock<Regex> = LazyLock::new(|| {
        Regex::new(r#"(?m)^[ \t]*(?:<pre[^>\n]*>\s*)?(?:<([A-Za-z][\w-]*)((?:\s+[\w-]+\s*=\s*(?:"[^"\n]*"|'[^'\n]*'))*)\s*>|\[([A-Za-z][\w+-]*)\])"#)
            .expect("fixed")
    });
    static NAME: LazyLock<Regex> = LazyLock::new(|| {
        Regex::new(r#"\b(?:path|name|file|filename|src|file_path)\s*=\s*["']([^"'\n]+)["']"#)
            .expect("fixed")
    });
    let mut blocks = Vec::new();
    // Tags of which no end is left.
    let mut endless: HashSet<String> = HashSet::new();
    let mut at = 0;
    while let Some(open) = OPEN.captures_at(text, at) {
        let Some(all) = open.get(0) else { break };
        at = all.end();
        let (name, close) = match (open.get(1), open.get(3)) {
            (Some(name), _) => (name.as_str(), format!("</{}>", name.as_str())),
            (_, Some(name)) => (name.as_str(), format!("[/{}]", name.as_str())),
            _ => continue,
        };
        if blocks.len() >= TAGS_MAX || endless.len() >= TAGS_MAX {
            break;
        }
        if endless.contains(&close) {
            continue;
        }
        let Some(end) = text[at..].find(&close).map(|it| at + it) else {
            endless.insert(close);
            continue;
        };
        let inside = text[at..end].trim_matches(['\n', '\r']);
        let inside = inside
            .trim()
            .strip_prefix("<![CDATA[")
            .and_then(|it| it.strip_suffix("]]>"))
            .unwrap_or(inside);
        // Another tag around it, or text.
        if OPEN.find(inside).is_some_and(|it| it.start() == 0) || inside.contains("```") {
            continue;
        }
        let path = NAME.captures(open.get(2).map_or("", |it| it.as_str())).and_then(|it| it.get(1));
        let syntax = wanted.syntax();
        let language = fence::by_tag(&name.to_lowercase(), wanted.languages);
        let is_code = language.is_some()
            || path.is_some()
            || matches!(
                name.to_lowercase().as_str(),
                "code" | "pre" | "solution" | "answer" | "file" | "final" | "output" | "program"
            ) && inside.lines().any(|line| syntax.begins(line));
        if !is_code {
            continue;
        }
        let escaped = unwrap::unescaped(inside);
        let code = if name == "code" || name == "pre" {
            escaped.unwrap_or(inside.to_owned())
        } else {
            inside.to_owned()
        };
        let line = |at: usize| text[..at].matches('\n').count() + 1;
        let mut block = found(
            path.map(|it| it.as_str()),
            code.trim_matches('\n').to_owned() + "\n",
            "tags",
            wanted,
        );
        block.language = block.language.or(language.map(str::to_owned));
        block.lines = (line(all.start()), line(end));
        blocks.push(block);
        at = end + close.len();
    }
    blocks
}

/// Tags of one answer that are looked at.
const TAGS_MAX: usize = 100;
