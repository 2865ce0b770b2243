//! One hunk of a patch: lines that stay, go and come.

/// What becomes of a line.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Fate {
    Stays,
    Goes,
    Comes,
}

/// One line, without its end.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct HunkLine<'a> {
    pub fate: Fate,
    pub text: &'a [u8],
    /// Whether the file ends with it, without the end of a line.
    pub no_newline: bool,
}

/// A hunk, read.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Hunk<'a> {
    /// The number of the first old line, from 1; for a hunk without old lines that of the line before.
    /// `None` where the head does not say.
    pub start: Option<usize>,
    pub lines: Vec<HunkLine<'a>>,
    /// Whether the head says how many lines follow, and so many do.
    pub counts_right: bool,
}

impl<'a> Hunk<'a> {
    /// Reads the hunk whose head is the first of `lines`, and says how many lines it takes.
    pub fn read(lines: &[&'a [u8]]) -> (Self, usize) {
        let head = lines.first().and_then(|it| head(it));
        let stated = head.map(|it| (it.old, it.new));
        let exact = stated.and_then(|counts| read_stated(&lines[1..], counts));
        let (read, counts_right) = match exact {
            Some(read) => (read, true),
            None => (read_loosely(&lines[1..]), false),
        };
        let taken = 1 + read.1;
        (Self { start: head.map(|it| it.start), lines: read.0, counts_right }, taken)
    }

    /// The lines that must be in the old file.
    pub fn old(&self) -> impl DoubleEndedIterator<Item = &HunkLine<'a>> {
        self.lines.iter().filter(|it| it.fate != Fate::Comes)
    }

    /// How many lines stay before the first that goes or comes, and after the last.
    pub fn margins(&self) -> (usize, usize) {
        let stays = |it: &&HunkLine<'_>| it.fate == Fate::Stays;
        let first = self.lines.iter().take_while(stays).count();
        (first, self.lines.iter().rev().take_while(stays).count())
    }
}

/// What the head of a hunk says: `@@ -3,4 +3,5 @@`.
#[derive(Debug, Clone, Copy)]
struct Head {
    start: usize,
    old: usize,
    new: usize,
}

fn head(line: &[u8]) -> Option<Head> {
    let text =
        std::str::from_utf8(line.strip_prefix(b"@@ -")?.split(|&it| it == b'@').next()?).ok()?;
    let (old, new) = text.trim_end().split_once(" +")?;
    let range = |range: &str| match range.split_once(',') {
        None => Some((range.parse().ok()?, 1)),
        Some((start, count)) => Some((start.parse().ok()?, count.parse().ok()?)),
    };
    let ((start, old), (_, new)) = (range(old)?, range(new)?);
    Some(Head { start, old, new })
}

/// Whether a line is the head of a hunk, with numbers or without.
pub fn is_head(line: &[u8]) -> bool {
    line.starts_with(b"@@ ") || matches!(line, b"@@" | b"@@\r")
}

type Read<'a> = (Vec<HunkLine<'a>>, usize);

/// Reads as many lines as the head says; `None` when they are not there, or more follow.
fn read_stated<'a>(lines: &[&'a [u8]], (mut old, mut new): (usize, usize)) -> Option<Read<'a>> {
    let (mut out, mut at) = (Vec::<HunkLine<'_>>::new(), 0);
    while old > 0 || new > 0 {
        let line = *lines.get(at)?;
        at += 1;
        if is_no_newline(line) {
            out.last_mut()?.no_newline = true;
            continue;
        }
        let line = hunk_line(line)?;
        old = old.checked_sub(usize::from(line.fate != Fate::Comes))?;
        new = new.checked_sub(usize::from(line.fate != Fate::Goes))?;
        out.push(line);
    }
    if lines.get(at).is_some_and(|it| is_no_newline(it)) {
        out.last_mut()?.no_newline = true;
        at += 1;
    }
    let next = lines.get(at).copied().unwrap_or_default();
    let goes_on = matches!(next.first(), Some(b'+' | b'-' | b' ')) && !ends_hunk(&lines[at..]);
    (!goes_on).then_some((out, at))
}

/// Reads all that looks like lines of a hunk. Empty lines at its end are not taken for such.
fn read_loosely<'a>(lines: &[&'a [u8]]) -> Read<'a> {
    let (mut out, mut at) = (Vec::<HunkLine<'_>>::new(), 0);
    while at < lines.len() && !ends_hunk(&lines[at..]) {
        if is_no_newline(lines[at]) {
            if let Some(last) = out.last_mut() {
                last.no_newline = true;
            }
        } else if let Some(line) = hunk_line(lines[at]) {
            out.push(line);
        } else {
            break;
        }
        at += 1;
    }
    let is_blank = |it: &HunkLine<'_>| it.fate == Fate::Stays && it.text.trim_ascii().is_empty();
    while out.last().is_some_and(is_blank) {
        out.pop();
    }
    (out, at)
}

/// Whether something else begins here than a further line of a hunk.
fn ends_hunk(lines: &[&[u8]]) -> bool {
    let first = lines[0];
    let second = lines.get(1).copied().unwrap_or_default();
    is_head(first)
        || first.starts_with(b"diff --git ")
        || (first.starts_with(b"--- ") && second.starts_with(b"+++ "))
        // How git ends a patch that is sent by mail.
        || matches!(first.trim_ascii_end(), b"--")
}

fn is_no_newline(line: &[u8]) -> bool {
    line.starts_with(b"\\ ")
}

fn hunk_line(line: &[u8]) -> Option<HunkLine<'_>> {
    let (fate, text) = match line.split_first() {
        // A line that lost its only space.
        None => (Fate::Stays, line),
        Some((b'\r', [])) => (Fate::Stays, line),
        Some((b' ', text)) => (Fate::Stays, text),
        Some((b'-', text)) => (Fate::Goes, text),
        Some((b'+', text)) => (Fate::Comes, text),
        Some(_) => return None,
    };
    Some(HunkLine { fate, text, no_newline: false })
}
