//! Code blocks in Markdown (CommonMark 0.31, section 4.5), as models write them: blocks that do not end,
//! that hold fences of their own, or whose fence stands at the end of a line.

use std::cell::Cell;

use super::label::{self, Label, LabelPlace};
use super::{prose, thought, unwrap};
use crate::language::Languages;

/// An answer, taken apart.
#[derive(Debug, Default)]
pub struct Parts {
    /// The code blocks, in order, those in thoughts among them.
    pub blocks: Vec<Block>,
    /// Everything outside of blocks and thoughts.
    pub prose: String,
    /// Whether anything was thought aloud.
    pub has_thought: bool,
}

/// One code block.
#[derive(Debug, Clone, Default)]
pub struct Block {
    /// Its first and last line, its fences among them, from 1.
    pub lines: (usize, usize),
    /// The first word behind the fence, in lower case; may be empty.
    pub tag: String,
    /// The language that the tag means, or else the extension of the label.
    pub language: Option<String>,
    /// The file name that goes with it.
    pub label: Option<Label>,
    /// The text since the block before it.
    pub before: String,
    /// The lines between the fences.
    pub code: String,
    /// Whether there was a closing fence.
    pub closed: bool,
    /// Whether a line within reads as a fence.
    pub fence_inside: bool,
    /// Whether it is a part of what was thought.
    pub is_thought: bool,
    /// What it was found in, where that was no fence.
    pub found_in: Option<&'static str>,
    /// Whether it writes files that were found in it.
    pub writes_files: bool,
}

/// Whether code in a language, as a tag names it, is sound; `None` where that is not of interest, or cannot
/// be told.
pub type Probe<'a> = dyn Fn(Option<&str>, &str) -> Option<bool> + 'a;

/// An opening fence.
struct FenceOpening<'a> {
    indent: usize,
    mark: char,
    length: usize,
    info: &'a str,
}

/// Where a block ends.
struct BlockEnd {
    code: String,
    /// The line behind it.
    next: usize,
    closed: bool,
    inside: bool,
}

/// Takes an answer apart.
pub fn split(text: &str, languages: &Languages, probe: &Probe<'_>) -> Parts {
    let lines: Vec<&str> = text.lines().collect();
    let last_fence = lines.iter().rposition(|it| opening(it).is_some()).unwrap_or(0);
    let ahead = Cell::new(4 * lines.len() + 10_000);
    Splitter { lines, last_fence, languages, probe, ahead }.split()
}

struct Splitter<'a> {
    lines: Vec<&'a str>,
    /// The last line that could be a fence.
    last_fence: usize,
    languages: &'a Languages,
    probe: &'a Probe<'a>,
    /// Lines that may still be looked at ahead of where the reader is. An honest answer does not use them
    /// up; with one that does, reading stays linear.
    ahead: Cell<usize>,
}

/// What thinking ends with.
#[derive(Clone, Copy, PartialEq)]
enum Thinking {
    No,
    UntilSaid,
    UntilHeading,
}

impl<'a> Splitter<'a> {
    fn split(&self) -> Parts {
        let mut parts = Parts::default();
        let mut thinking = Thinking::No;
        let (mut before, mut at, mut marked) = (String::new(), 0, 0);
        while at < self.lines.len() {
            let mut line = self.lines[at];
            match self.turn(at, thinking) {
                thought::ThoughtTurn::None => {}
                thought::ThoughtTurn::Begins => thinking = Thinking::UntilSaid,
                thought::ThoughtTurn::BeginsHeading => thinking = Thinking::UntilHeading,
                thought::ThoughtTurn::Ends(end) => {
                    // Without a beginning, all before it was thought.
                    if thinking == Thinking::No {
                        parts.blocks[marked..].iter_mut().for_each(|it| it.is_thought = true);
                        parts.prose.clear();
                        marked = parts.blocks.len();
                    }
                    (thinking, parts.has_thought) = (Thinking::No, true);
                    before.clear();
                    line = &line[end..];
                }
            }
            let is_thought = thinking != Thinking::No;
            parts.has_thought |= is_thought;
            let Some(opening) = opening(line) else {
                let has_answer = || parts.blocks.iter().rev().take(8).any(|it| !it.is_thought);
                if !is_thought
                    && unwrap::is_end_mark(line)
                    && unwrap::is_text_end(line)
                    && has_answer()
                {
                    parts.prose.push_str(line);
                    break;
                }
                if !is_thought {
                    parts.prose.push_str(line);
                    parts.prose.push('\n');
                    before.push_str(line);
                    before.push('\n');
                }
                at += 1;
                continue;
            };
            let end =
                if is_thought { self.plain_end(at, &opening) } else { self.end(at, &opening) };
            let next = end.next;
            let mut block = self.block(at, &opening, &before, end);
            block.is_thought = is_thought || thought::is_tag(&block.tag);
            parts.has_thought |= block.is_thought;
            parts.blocks.push(block);
            before.clear();
            at = next;
        }
        parts
    }

    /// What a line outside of blocks does to thinking.
    fn turn(&self, at: usize, thinking: Thinking) -> thought::ThoughtTurn {
        let line = self.lines[at];
        // Cheap, and true of nearly all lines.
        let is_marked = line.contains(['<', '[', '◁', '#', '*', '_']);
        match thinking {
            _ if !is_marked => thought::ThoughtTurn::None,
            Thinking::No => match thought::turn(line) {
                thought::ThoughtTurn::BeginsHeading if !self.has_heading_behind(at) => {
                    thought::ThoughtTurn::None
                }
                turn => turn,
            },
            Thinking::UntilSaid => match thought::end(line) {
                Some(end) => thought::ThoughtTurn::Ends(end),
                None if thought::begins_answer(line) => thought::ThoughtTurn::Ends(0),
                None => thought::ThoughtTurn::None,
            },
            Thinking::UntilHeading => match thought::end(line) {
                Some(end) => thought::ThoughtTurn::Ends(end),
                None if thought::is_heading(line) || thought::begins_answer(line) => {
                    thought::ThoughtTurn::Ends(0)
                }
                None => thought::ThoughtTurn::None,
            },
        }
    }

    /// Whether a heading of thoughts is one among others. Where it is the only one, an answer that comes
    /// without a heading of its own would be lost.
    fn has_heading_behind(&self, at: usize) -> bool {
        let mut in_fence = false;
        self.lines[at + 1..].iter().take_while(|_| self.may_look_ahead()).any(|line| {
            in_fence ^= opening(line).is_some();
            !in_fence && thought::is_heading(line)
        })
    }

    /// Takes note that one more line is looked at.
    fn may_look_ahead(&self) -> bool {
        let left = self.ahead.get();
        self.ahead.set(left.saturating_sub(1));
        left > 0
    }

    fn block(&self, at: usize, opening: &FenceOpening<'_>, before: &str, end: BlockEnd) -> Block {
        let (info, languages) = (opening.info, self.languages);
        let first = info.split([' ', ',', '{', ':', ';', '\t', '=', '[', '(']).next().unwrap_or("");
        let label = None
            .or_else(|| label::in_fence(info, languages).map(|path| (path, LabelPlace::Fence)))
            .or_else(|| {
                label::in_code(&end.code, languages).map(|path| (path, LabelPlace::Comment))
            })
            .or_else(|| label::above(before, languages).map(|path| (path, LabelPlace::Above)))
            .map(|(path, place)| Label { path, place });
        let is_path = label.as_ref().is_some_and(|it| {
            it.place == LabelPlace::Fence && (it.path.as_str() == first || first.contains('/'))
        });
        let tag = if is_path { "" } else { first.trim_start_matches(['.', '{']) }.to_lowercase();
        let tag = if tag.is_empty() && info.starts_with('{') {
            info.trim_start_matches(['{', '.'])
                .split([' ', '}'])
                .next()
                .unwrap_or("")
                .to_lowercase()
        } else {
            tag
        };
        // A tag that slipped below its fence.
        let (first, rest) = end.code.split_once('\n').unwrap_or(("", ""));
        let slipped = tag.is_empty() && label.is_none() && languages.by_tag(first.trim()).is_some();
        let (tag, code, found_in) = match slipped && !rest.trim().is_empty() {
            true => (first.trim().to_lowercase(), rest.to_owned(), Some("behind its tag")),
            false => (tag, end.code, None),
        };
        let language = by_tag(&tag, languages).map(str::to_owned).or_else(|| {
            let extension =
                label.as_ref().map(|it| it.path.extension()).filter(|_| tag.is_empty())?;
            languages.by_extension(extension).map(str::to_owned)
        });
        Block {
            lines: (at + 1, end.next.max(at + 1)),
            tag,
            language,
            label,
            before: before.to_owned(),
            code,
            closed: end.closed,
            fence_inside: end.inside,
            is_thought: false,
            found_in,
            writes_files: false,
        }
    }

    /// The end of a block by the letter: the first line that can close it.
    fn plain_end(&self, at: usize, opening: &FenceOpening<'_>) -> BlockEnd {
        let close = (at + 1..self.lines.len()).find(|&it| closes(self.lines[it], opening));
        self.ended(at, opening, close.unwrap_or(self.lines.len()), close.is_some())
    }

    /// The end of a block as a careful person would see it.
    fn end(&self, at: usize, fence: &FenceOpening<'_>) -> BlockEnd {
        let nests = matches!(fence.info.split(' ').next(), Some("markdown" | "md" | "mdx"));
        if nests {
            return self.nested_end(at, fence);
        }
        let mut close = None;
        let mut inner = None;
        for index in at + 1..self.lines.len() {
            if inner.is_some() && !self.may_look_ahead() {
                break;
            }
            if closes(self.lines[index], fence) {
                close = Some(index);
                break;
            }
            let is_inner = || {
                opening(self.lines[index]).is_some_and(|it| {
                    it.mark == fence.mark
                        && it.length >= fence.length
                        && it.indent <= fence.indent + 3
                        && is_info(it.info)
                })
            };
            if inner.is_none() && is_inner() {
                inner = Some(index);
            }
        }
        let is_clear = inner.is_none() && close.is_some_and(|it| it >= self.last_fence);
        let tag = fence.info.split([' ', ',', '{', ':', '\t']).next().unwrap_or("");
        let language = by_tag(&tag.to_lowercase(), self.languages);
        let sound = |end: &BlockEnd| (self.probe)(language, &end.code);
        match (inner, close) {
            (None, Some(close)) => {
                let plain = self.ended(at, fence, close, true);
                match is_clear || sound(&plain) != Some(false) {
                    true => plain,
                    false => self.later_end(at, fence, &plain, &sound).unwrap_or(plain),
                }
            }
            _ => self.open_end(at, fence, inner, close, &sound),
        }
    }

    /// A block whose first closing fence leaves code that is not sound: a later one, or a fence at the end
    /// of a line.
    fn later_end(
        &self,
        at: usize,
        fence: &FenceOpening<'_>,
        plain: &BlockEnd,
        sound: &dyn Fn(&BlockEnd) -> Option<bool>,
    ) -> Option<BlockEnd> {
        let glued = self.glued_end(at, fence, plain.next);
        let later = (plain.next..self.lines.len()).filter(|&it| closes(self.lines[it], fence));
        let later = later
            .take(TRIES_MAX)
            .map(|it| BlockEnd { inside: true, ..self.ended(at, fence, it, true) });
        glued.into_iter().chain(later).find(|it| sound(it) == Some(true))
    }

    /// A block in which another begins, or that does not end at all.
    fn open_end(
        &self,
        at: usize,
        fence: &FenceOpening<'_>,
        inner: Option<usize>,
        close: Option<usize>,
        sound: &dyn Fn(&BlockEnd) -> Option<bool>,
    ) -> BlockEnd {
        let until = inner.unwrap_or(self.lines.len());
        if let Some(glued) = self.glued_end(at, fence, until)
            && sound(&glued) != Some(false)
        {
            return glued;
        }
        let whole = self.ended(at, fence, until, false);
        let is_sound = sound(&whole);
        if is_sound == Some(true) {
            return whole;
        }
        if inner.is_some() && is_sound == Some(false) {
            let nested = self.nested_end(at, fence);
            let plain = close.map(|it| self.ended(at, fence, it, true));
            let others = std::iter::once(nested).chain(plain);
            let mut others = others.map(|it| BlockEnd { inside: true, ..it });
            if let Some(found) = others.find(|it| sound(it) == Some(true)) {
                return found;
            }
        }
        let trimmed = prose::without_tail(&whole.code, TRIES_MAX);
        let has_tail =
            whole.code.lines().rev().find(|it| !it.trim().is_empty()).is_some_and(prose::is_break);
        let cut = |code: &String| {
            let lines = code.lines().count();
            BlockEnd { code: code.clone(), next: at + 1 + lines, closed: false, inside: false }
        };
        let mut cuts = trimmed.iter().map(cut);
        match cuts.find(|it| sound(it) == Some(true)) {
            Some(found) => found,
            // Where nothing can be told, what is clearly running text is left away.
            None if has_tail && is_sound.is_none() => {
                trimmed.first().map(cut).filter(|it| !it.code.trim().is_empty()).unwrap_or(whole)
            }
            None => whole,
        }
    }

    /// A fence at the end of a line of code, before the line `until`.
    fn glued_end(&self, at: usize, fence: &FenceOpening<'_>, until: usize) -> Option<BlockEnd> {
        let mark: String = std::iter::repeat_n(fence.mark, fence.length).collect();
        let is_glued = |line: &str| {
            let line = line.trim_end();
            line.ends_with(&mark) && !closes(line, fence) && opening(line).is_none()
        };
        let line = (at + 1..until.min(self.lines.len())).find(|&it| is_glued(self.lines[it]))?;
        let mut end = self.ended(at, fence, line, false);
        let code = self.lines[line].trim_end().trim_end_matches(fence.mark);
        end.code.push_str(unindent(code, fence.indent));
        end.code.push('\n');
        Some(BlockEnd { next: line + 1, ..end })
    }

    /// The end of a block in which others stand, each with a fence that names a language.
    fn nested_end(&self, at: usize, fence: &FenceOpening<'_>) -> BlockEnd {
        let mut depth = 0_usize;
        for index in at + 1..self.lines.len() {
            if closes(self.lines[index], fence) {
                if depth == 0 {
                    return self.ended(at, fence, index, true);
                }
                depth -= 1;
            } else if opening(self.lines[index]).is_some_and(|it| {
                it.mark == fence.mark && it.length >= fence.length && is_info(it.info)
            }) {
                depth += 1;
            }
        }
        self.ended(at, fence, self.lines.len(), false)
    }

    /// The block up to a line, which is its closing fence where it is `closed`.
    fn ended(&self, at: usize, fence: &FenceOpening<'_>, until: usize, closed: bool) -> BlockEnd {
        let mut code = String::new();
        for line in &self.lines[at + 1..until.max(at + 1).min(self.lines.len())] {
            code.push_str(unindent(line, fence.indent));
            code.push('\n');
        }
        BlockEnd { code, next: until + usize::from(closed), closed, inside: false }
    }
}

/// Other ends of a block that are tried.
const TRIES_MAX: usize = 4;

/// The language that a tag means: with a version behind it, too.
pub fn by_tag<'l>(tag: &str, languages: &'l Languages) -> Option<&'l str> {
    languages.by_tag(tag).or_else(|| {
        let plain = tag
            .trim_end_matches(|c: char| c.is_ascii_digit() || matches!(c, '.' | '-' | '_' | '+'));
        (!plain.is_empty() && plain != tag).then(|| languages.by_tag(plain)).flatten()
    })
}

/// Whether what stands behind a fence can name a language or a file.
fn is_info(info: &str) -> bool {
    info.starts_with(|c: char| c.is_alphabetic() || matches!(c, '{' | '.'))
        && info.split(' ').count() <= 4
}

fn opening(line: &str) -> Option<FenceOpening<'_>> {
    let rest = line.trim_start();
    let mark = rest.chars().next().filter(|c| matches!(c, '`' | '~'))?;
    let length = rest.len() - rest.trim_start_matches(mark).len();
    let info = rest[length..].trim();
    // Backticks in the info string make it inline code: ```x``` in running text.
    if length < 3 || (mark == '`' && info.contains('`')) {
        return None;
    }
    Some(FenceOpening { indent: line.len() - rest.len(), mark, length, info })
}

/// Whether a line closes a block: the same mark, at least as often, indented by at most three more.
fn closes(line: &str, opening: &FenceOpening<'_>) -> bool {
    let rest = line.trim_start();
    let indent = line.len() - rest.len();
    let marks = rest.trim_end();
    marks.len() >= opening.length
        && marks.chars().all(|c| c == opening.mark)
        && (indent <= opening.indent + 3)
}

/// Drops as much indentation as the opening fence had.
fn unindent(line: &str, indent: usize) -> &str {
    let spaces = line.len() - line.trim_start_matches([' ', '\t']).len();
    &line[spaces.min(indent)..]
}
