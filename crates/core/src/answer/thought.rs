//! Where a model thinks before it answers: tags and channels in their usual spellings, and headings.

use std::sync::LazyLock;

use regex::Regex;

/// Names of what is thought in, as a part of a pattern.
const NAMES: &str = "think(?:ing)?|thoughts?|reason(?:ing)?|reflection|scratch_?pad|analysis|(?:inner_?)?monologue|deliberation|chain_of_thought|cot|thought_process";

/// What a line outside of code blocks does to thinking.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum ThoughtTurn {
    /// Nothing.
    None,
    /// Thinking begins here, and ends where it is said so.
    Begins,
    /// Thinking begins here with a heading.
    BeginsHeading,
    /// Thinking ends in the line, this many bytes in.
    Ends(usize),
}

/// What `line` does, when nothing is being thought.
pub fn turn(line: &str) -> ThoughtTurn {
    static OPEN: LazyLock<Regex> = LazyLock::new(|| {
        Regex::new(&format!(
            r"(?i)^\s*(?:(?:<\|start\|>\w*)?<\|?channel\|?>\s*(?:{NAMES}|commentary)\b|(?:<\|?|\[|◁)(?:begin_of_|start_of_|begin_|start_|[a-z]\w*:)?(?:{NAMES})(?:\s[^>\]]*)?(?:\|?>|\]|▷)|<(?:\w+\d+)>thought\b)"
        ))
        .expect("fixed")
    });
    static HEADING: LazyLock<Regex> = LazyLock::new(|| {
        Regex::new(
            r"(?i)^\s*(?:#{1,6}\s*|\*\*|__)(?:my )?(?:think(?:ing)?(?: process| aloud| out loud)?|thoughts?(?: process)?|reasoning(?: process)?|scratch ?pad|chain of thought|internal monologue|inner monologue|analysis)\s*(?:\.{3}|…|:)?\s*(?:\*\*|__)?\s*:?\s*$",
        )
        .expect("fixed")
    });
    if let Some(end) = end(line)
        && !OPEN.is_match(line)
    {
        return ThoughtTurn::Ends(end);
    }
    if let Some(open) = OPEN.find(line) {
        return end(&line[open.end()..])
            .map_or(ThoughtTurn::Begins, |it| ThoughtTurn::Ends(open.end() + it));
    }
    if HEADING.is_match(line) { ThoughtTurn::BeginsHeading } else { ThoughtTurn::None }
}

/// Behind what ends thinking in a line.
pub fn end(line: &str) -> Option<usize> {
    static CLOSE: LazyLock<Regex> = LazyLock::new(|| {
        Regex::new(&format!(
            r"(?i)(?:</|<\|/|\[/|◁/)(?:[a-z]\w*:)?(?:{NAMES})(?:\|?>|\]|▷)|<\|?/?(?:end_of_|end_)(?:{NAMES})\|?>|<\|?channel\|?>\s*final(?:\s*<\|?message\|?>)?"
        ))
        .expect("fixed")
    });
    CLOSE.find_iter(line).last().map(|it| it.end())
}

/// Whether `line` begins the answer proper, so that thinking that does not end has ended.
pub fn begins_answer(line: &str) -> bool {
    static ANSWER: LazyLock<Regex> = LazyLock::new(|| {
        Regex::new(r"(?i)^\s*<(?:\|)?(?:answer|final|final_answer|solution|output|response|code|begin_of_solution)(?:\|)?>")
            .expect("fixed")
    });
    ANSWER.is_match(line)
}

/// Whether `line` is a heading that ends thinking under a heading.
pub fn is_heading(line: &str) -> bool {
    static HEADING: LazyLock<Regex> = LazyLock::new(|| {
        Regex::new(r"^\s*(?:#{1,6}\s+\S|(?:\*\*|__)[^*_]+(?:\*\*|__)\s*:?\s*$)").expect("fixed")
    });
    HEADING.is_match(line)
}

/// Whether code blocks with this tag hold thoughts.
pub fn is_tag(tag: &str) -> bool {
    matches!(
        tag,
        "think" | "thinking" | "thought" | "thoughts" | "reasoning" | "scratchpad" | "analysis"
    )
}
