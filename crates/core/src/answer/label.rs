//! File names that go with code: behind a fence, above a block, in its first comment.

use std::sync::LazyLock;

use regex::Regex;

use crate::language::Languages;
use crate::tree::RelPath;

/// Where a block is told its file's name.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum LabelPlace {
    /// Behind the fence, or in an attribute of a tag.
    Fence,
    /// In its first comment.
    Comment,
    /// In the text above it.
    Above,
}

/// The name that a block's file is given.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Label {
    /// The file.
    pub path: RelPath,
    /// Where it is said.
    pub place: LabelPlace,
}

/// A path with an extension.
const PATH: &str = r"[\w.+-]+(?:/[\w.+-]+)*\.[A-Za-z][A-Za-z0-9+]{0,5}";

/// Extensions of files that are no code of a language that is defined.
const OTHER_EXTENSIONS: &[&str] = &[
    "txt",
    "csv",
    "tsv",
    "json",
    "jsonl",
    "toml",
    "yaml",
    "yml",
    "md",
    "html",
    "css",
    "xml",
    "sql",
    "ini",
    "cfg",
    "conf",
    "env",
    "hpp",
    "hh",
    "hxx",
    "bash",
    "rb",
    "php",
    "cs",
    "kt",
    "swift",
    "lua",
    "pl",
    "r",
    "in",
    "out",
    "log",
    "dat",
    "lock",
    "mk",
    "gradle",
    "tsx",
    "jsx",
    "pyi",
    "properties",
];

/// A path that stands for a file in a text.
fn path(text: &str, languages: &Languages) -> Option<RelPath> {
    let text = text.strip_prefix("./").unwrap_or(text).trim_start_matches('/');
    let path = RelPath::parse(text).ok()?;
    let extension = path.extension().to_lowercase();
    let is_known = languages.by_extension(&extension).is_some()
        || OTHER_EXTENSIONS.contains(&extension.as_str());
    // A runtime and its libraries are called as files are.
    let is_product = extension == "js"
        && !path.as_str().contains('/')
        && path.stem().starts_with(char::is_uppercase);
    (is_known && !is_product).then_some(path)
}

/// `python solution.py`, `python:solution.py`, `solution.py`, `python title="solution.py"`.
pub fn in_fence(info: &str, languages: &Languages) -> Option<RelPath> {
    static WHOLE: LazyLock<Regex> =
        LazyLock::new(|| Regex::new(&format!("^(?:{PATH})$")).expect("fixed"));
    let words = info.split([' ', ',', '{', '}', ':', '=', '"', '\'', '\t', '(', ')', '[', ']']);
    words
        .filter(|word| WHOLE.is_match(word.trim_start_matches("./")))
        // `python3.11` is a language.
        .filter(|word| {
            languages
                .by_tag(word.split(|c: char| c.is_ascii_digit()).next().unwrap_or(""))
                .is_none()
        })
        .find_map(|word| {
            path(word, languages).or_else(|| {
                let is_path = word.chars().any(char::is_lowercase);
                RelPath::parse(word).ok().filter(|it| is_path && !it.extension().is_empty())
            })
        })
}

/// The file that the text right before a block names.
pub fn above(before: &str, languages: &Languages) -> Option<RelPath> {
    let lines = before.lines().rev().map(str::trim).filter(|it| !it.is_empty());
    for line in lines.take(LINES_ABOVE) {
        if line.chars().all(|c| matches!(c, '=' | '-' | '*' | '_' | '#' | '`' | '~')) {
            continue;
        }
        if let Some(found) = in_line(line, languages) {
            return Some(found);
        }
        // What stands above another heading is about something else.
        if line.starts_with('#') {
            return None;
        }
    }
    None
}

/// Lines above a block in which its file may be named.
const LINES_ABOVE: usize = 4;

/// A line that introduces a file: `**solution.py** (fixed)`, `### File: src/a.py`, `Here is a.py:`,
/// `[a.py](a.py)`, `=== a.py ===`, `<u>a.py</u>`.
pub fn in_line(line: &str, languages: &Languages) -> Option<RelPath> {
    static FRAME: LazyLock<Regex> = LazyLock::new(|| {
        let words = [
            r"here(?:'|’)?s?(?: is| are)?",
            r"this is",
            r"now",
            r"then",
            r"first",
            r"next",
            r"and",
            r"create",
            r"save (?:this|it|the code)?",
            r"put (?:this|it) (?:in|into)",
            r"write",
            r"replace",
            r"update",
            r"as",
            r"in",
            r"into",
            r"to",
            r"a",
            r"the",
            r"my",
            r"new",
            r"full",
            r"complete",
            r"whole",
            r"final",
            r"corrected",
            r"fixed",
            r"updated",
            r"file(?:[ _-]?(?:name|path))?",
            r"path",
            r"contents?",
            r"content of",
            r"of",
            r"code",
            r"for",
            r"module",
            r"step \d+",
            r"main",
            r"called",
            r"named",
            r"with",
            r"version",
            r"solution",
        ];
        Regex::new(&format!(
            r"(?i)^(?:(?:(?:{})\b|\d+[.)]|[:.,(–—|-])\s*)*(?P<path>{PATH})\)?\s*(?P<rest>$|[:(–—|-].*|(?:as follows|with (?:this|the following|these)|like (?:this|so)).*|(?:is|becomes)? ?(?:below|follows|now)?:?$)",
            words.join("|")
        ))
        .expect("fixed")
    });
    static LINK: LazyLock<Regex> =
        LazyLock::new(|| Regex::new(r"\[([^\]\[]+)\]\([^)]*\)").expect("fixed"));
    static USE: LazyLock<Regex> = LazyLock::new(|| {
        Regex::new(r"(?i)\b(?:usage|uses?|run(?:s|ning)?|tests?|example|output|import)\b")
            .expect("fixed")
    });
    if line.len() > 200 {
        return None;
    }
    let line = LINK.replace_all(line, "$1");
    let plain = line
        .replace("**", "")
        .replace("__", "")
        .replace(['`', '"', '“', '”'], "")
        .replace("<u>", "")
        .replace("</u>", "")
        .replace("<b>", "")
        .replace("</b>", "")
        .replace("<strong>", "")
        .replace("</strong>", "")
        .replace("<!--", "")
        .replace("-->", "");
    let is_mark = |c: char| !c.is_alphanumeric() && !matches!(c, '.' | '_');
    let plain = plain.trim_start_matches(is_mark).trim_end_matches(is_mark);
    let found = FRAME.captures(plain)?;
    let rest = found.name("rest").map_or("", |it| it.as_str());
    if USE.is_match(rest) && !rest.contains("import") {
        return None;
    }
    path(found.name("path")?.as_str(), languages)
}

/// A first comment that names a file, perhaps behind a line for the system or the editor: `# a.py`,
/// `// file: src/a.js`, `# a.py - sums numbers`.
pub fn in_code(code: &str, languages: &Languages) -> Option<RelPath> {
    static NAMED: LazyLock<Regex> = LazyLock::new(|| {
        Regex::new(&format!(
            r"(?i)^(?:[=*#\s-]*)(?:(?:file(?:[ _-]?(?:name|path))?|path|module|script)\s*[:=]\s*)?[`']?(?P<path>{PATH})[`']?\s*(?:$|[-–—:(|=*#,])"
        ))
        .expect("fixed")
    });
    let is_for_system = |line: &&str| {
        let line = line.trim();
        line.is_empty()
            || line.starts_with("#!")
            || line.contains("coding:")
            || line == "'use strict';"
            || line == "\"use strict\";"
    };
    let mut lines = code.lines().skip_while(is_for_system).map(str::trim);
    let first = lines.next()?;
    let marks = ["#", "//", "--", "/*", "<!--", "\"\"\""];
    let mut comment = marks.iter().find_map(|mark| first.strip_prefix(mark))?;
    // The text of a comment that begins on a line of its own.
    if comment.trim_matches(['*', ' ', '#', '/', '=', '-']).is_empty() {
        comment = lines.next()?.trim_start_matches(['*', ' ', '#', '/']);
    }
    let comment =
        comment.trim_end_matches("*/").trim_end_matches("-->").trim_end_matches("\"\"\"").trim();
    path(NAMED.captures(comment)?.name("path")?.as_str(), languages)
}

#[cfg(test)]
mod tests {
    use super::*;

    fn line(text: &str) -> Option<String> {
        in_line(text, &Languages::shipped()).map(|it| it.to_string())
    }

    #[test]
    fn a_line_that_introduces_a_file_names_it() {
        for text in [
            "total.py",
            "**total.py**",
            "`total.py`:",
            "### File: total.py (new)",
            "**total.py** (fixed)",
            "Here is total.py:",
            "**File:** total.py",
            "=== total.py ===",
            "[total.py](total.py)",
            "<u>total.py</u>",
            "__total.py__",
            "1. `total.py`",
            "Filename: total.py",
            "The full `total.py`:",
            "Save this as `total.py`:",
            "-- total.py --",
            "./total.py",
            "total.py - sums numbers",
            "`total.py` (new file)",
            "#### total.py",
            "File `total.py`",
            "File name: `total.py`",
            "### 1. total.py",
            "### `total.py` – the sums",
            "Create a file called `total.py` with the following content:",
            "Create `total.py`:",
            "Here is the updated `total.py`:",
            "Here's the code for `total.py`:",
            "In `total.py`:",
            "Update total.py as follows:",
            "Contents of total.py:",
            "<b>total.py</b>",
            "<!-- total.py -->",
            "~~~ total.py ~~~",
            "> total.py",
            "- **total.py**",
            "* `total.py`:",
            "(total.py)",
            "total.py:",
            "Path: total.py",
            "**Filename:** `total.py`",
            "/total.py",
            "Solution (total.py):",
            "And the main file, total.py:",
            "Then, total.py:",
            "📄 total.py",
            "## 📁 total.py",
        ] {
            assert_eq!(line(text).as_deref(), Some("total.py"), "{text}");
        }
        for text in [
            "Run python total.py:",
            "Usage of total.py:",
            "Here is the Node.js solution:",
            "e.g. this",
            "It reads total.csv and writes the sum",
            "total.py - usage",
            "I changed total.py so that it works.",
            "In version 3.11 this works:",
        ] {
            assert_eq!(line(text), None, "{text}");
        }
    }

    #[test]
    fn a_first_comment_names_a_file() {
        let languages = Languages::shipped();
        let code = |text: &str| in_code(text, &languages).map(|it| it.to_string());
        for text in [
            "# total.py\nx = 1",
            "#!/usr/bin/env python3\n# total.py\n",
            "# -*- coding: utf-8 -*-\n# total.py",
            "# filepath: total.py",
            "# total.py - sums numbers",
            "/* total.py */",
            "/*\n * total.py\n */",
            "\"\"\"total.py: sums numbers\"\"\"",
            "# File: total.py",
        ] {
            assert_eq!(code(text).as_deref(), Some("total.py"), "{text}");
        }
        for text in
            ["# usage: python total.py", "# total.py is what tests load\n", "x = 'total.py'"]
        {
            assert_eq!(code(text), None, "{text}");
        }
    }
}
