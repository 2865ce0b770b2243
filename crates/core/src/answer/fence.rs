//! Code blocks in Markdown (CommonMark 0.31, section 4.5), and the file names that go with them.

use std::collections::BTreeSet;
use std::sync::LazyLock;

use regex::Regex;

use crate::language::Languages;
use crate::tree::RelPath;

/// An answer, taken apart.
#[derive(Debug, Default)]
pub struct Parts {
    /// The code blocks, in order.
    pub blocks: Vec<Block>,
    /// Everything outside of them.
    pub prose: String,
}

/// One code block.
#[derive(Debug, Clone)]
pub struct Block {
    /// The first word behind the fence, in lower case; may be empty.
    pub tag: String,
    /// The language that the tag means, or else the extension of the label.
    pub language: Option<String>,
    /// The file name that goes with it.
    pub label: Option<RelPath>,
    /// The lines between the fences.
    pub code: String,
    /// Whether there was a closing fence.
    pub closed: bool,
}

/// An opening fence.
struct FenceOpening {
    indent: usize,
    mark: char,
    length: usize,
    info: String,
}

/// Takes an answer apart.
pub fn split(text: &str, languages: &Languages) -> Parts {
    let mut parts = Parts::default();
    let mut open: Option<(FenceOpening, Option<String>)> = None;
    let mut code = String::new();
    let mut above: Option<String> = None;
    for line in text.lines() {
        match &open {
            None => match opening(line) {
                Some(opening) => open = Some((opening, above.take())),
                None => {
                    parts.prose.push_str(line);
                    parts.prose.push('\n');
                    if !line.trim().is_empty() {
                        above = Some(line.to_owned());
                    }
                }
            },
            Some((opening, above)) if closes(line, opening) => {
                parts.blocks.push(block(opening, above.as_deref(), &code, true, languages));
                code.clear();
                open = None;
            }
            Some((opening, _)) => {
                code.push_str(unindent(line, opening.indent));
                code.push('\n');
            }
        }
    }
    if let Some((opening, above)) = open {
        parts.blocks.push(block(&opening, above.as_deref(), &code, false, languages));
    }
    // A line that does nothing but name the file of a block belongs to the block.
    let labels: BTreeSet<&RelPath> =
        parts.blocks.iter().filter_map(|it| it.label.as_ref()).collect();
    if !labels.is_empty() {
        let names_only = |line: &&str| label_in_line(line).is_some_and(|it| labels.contains(&it));
        let kept: Vec<&str> = parts.prose.lines().filter(|line| !names_only(line)).collect();
        parts.prose = kept.join("\n");
    }
    parts
}

fn opening(line: &str) -> Option<FenceOpening> {
    let rest = line.trim_start();
    let mark = rest.chars().next().filter(|c| matches!(c, '`' | '~'))?;
    let length = rest.chars().take_while(|&c| c == mark).count();
    let info = rest[length..].trim();
    // Backticks in the info string make it inline code: ```x``` in running text.
    if length < 3 || (mark == '`' && info.contains('`')) {
        return None;
    }
    Some(FenceOpening { indent: line.len() - rest.len(), mark, length, info: info.to_owned() })
}

fn closes(line: &str, opening: &FenceOpening) -> bool {
    let line = line.trim();
    line.chars().all(|c| c == opening.mark) && line.chars().count() >= opening.length
}

/// Drops as much indentation as the opening fence had.
fn unindent(line: &str, indent: usize) -> &str {
    let spaces = line.len() - line.trim_start_matches([' ', '\t']).len();
    &line[spaces.min(indent)..]
}

fn block(
    opening: &FenceOpening,
    above: Option<&str>,
    code: &str,
    closed: bool,
    languages: &Languages,
) -> Block {
    let info = &opening.info;
    let first = info.split([' ', ',', '{', ':', ';', '\t']).next().unwrap_or("");
    let label = label_in_info(info, languages)
        .or_else(|| above.and_then(label_in_line))
        .or_else(|| label_in_code(code));
    let is_path = label.as_ref().is_some_and(|label| label.as_str() == first);
    let tag = if is_path { String::new() } else { first.trim_start_matches('.').to_lowercase() };
    let language = languages.by_tag(&tag).map(str::to_owned).or_else(|| {
        let extension = label.as_ref().map(RelPath::extension).filter(|_| tag.is_empty())?;
        languages.by_extension(extension).map(str::to_owned)
    });
    Block { tag, language, label, code: code.to_owned(), closed }
}

/// A path with an extension, as a whole.
static PATH: LazyLock<Regex> = LazyLock::new(|| {
    Regex::new(r"^[\w.+-]+(?:/[\w.+-]+)*\.[A-Za-z][A-Za-z0-9+]{0,5}$").expect("fixed")
});

/// `python solution.py`, `python:solution.py`, `solution.py`, `python title="solution.py"`.
fn label_in_info(info: &str, languages: &Languages) -> Option<RelPath> {
    let words = info.split([' ', ',', '{', '}', ':', '=', '"', '\'', '\t']);
    words.filter(|word| PATH.is_match(word)).find_map(|word| {
        let path = RelPath::parse(word).ok()?;
        languages.by_extension(path.extension()).map(|_| path.clone()).or(Some(path))
    })
}

/// A line that does nothing but name a file: `**solution.py**`, `### File: src/a.py`,
/// `` `solution.py`: ``, `# solution.py`.
fn label_in_line(line: &str) -> Option<RelPath> {
    static FRAME: LazyLock<Regex> = LazyLock::new(|| {
        Regex::new(
            r"^[\s#*_>/`-]*(?:\d+[.)]\s*)?[*_`]*(?:(?i:file(?:name)?|path)[*_`]*\s*:?\s*)?[*_`(]*([\w./+-]+)[*_`):\s]*$",
        )
        .expect("fixed")
    });
    let name = FRAME.captures(line)?.get(1)?.as_str();
    PATH.is_match(name).then(|| RelPath::parse(name).ok()).flatten()
}

/// A first line that is a comment and names a file: `# solution.py`, `// file: src/a.js`.
fn label_in_code(code: &str) -> Option<RelPath> {
    let first = code.lines().find(|line| !line.trim().is_empty())?.trim();
    let comment =
        ["#", "//", "--", "/*", "<!--"].iter().find_map(|mark| first.strip_prefix(mark))?;
    label_in_line(comment.trim_end_matches("*/").trim_end_matches("-->").trim())
}
