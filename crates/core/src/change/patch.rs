//! Reading a patch: unified diffs, as git and others write them, with text around.

use super::binary::{self, BinaryBlock};
use super::hunk::{self, Hunk};
use super::name;

/// What is done to one file.
#[derive(Debug, Default)]
pub struct FilePatch<'a> {
    /// The names behind `diff --git`, where both are the same.
    pub git_name: Option<Vec<u8>>,
    /// The name behind `---`; `None` inside for `/dev/null`.
    pub old: Option<Option<Vec<u8>>>,
    /// The name behind `+++`.
    pub new: Option<Option<Vec<u8>>>,
    /// Where it is moved or copied from and to: `rename from`, `copy to` and so on. These have no prefix.
    pub from: Option<Vec<u8>>,
    pub to: Option<Vec<u8>>,
    pub is_copy: bool,
    pub is_new: bool,
    pub is_gone: bool,
    /// The mode that it comes to have.
    pub mode: Option<Vec<u8>>,
    pub body: Body<'a>,
}

/// What is done to what is in a file.
#[derive(Debug, Default)]
pub enum Body<'a> {
    #[default]
    Nothing,
    Hunks(Vec<Hunk<'a>>),
    Binary(Result<BinaryBlock, String>),
}

/// Whether a text has what makes a patch: names or a head of git's, behind which hunks or modes stand.
#[must_use]
pub fn is_patch(text: &[u8]) -> bool {
    !read(&lines_of(text), 0).is_empty()
}

/// The lines of a text, without their ends. A last line that is empty is none.
pub fn lines_of(text: &[u8]) -> Vec<&[u8]> {
    let mut lines: Vec<&[u8]> = text.split(|&it| it == b'\n').collect();
    if lines.last().is_some_and(|it| it.is_empty()) {
        lines.pop();
    }
    lines
}

/// Reads all that is done in a patch, in its order. Binary files of more than `most` bytes are not
/// unpacked.
pub fn read<'a>(lines: &[&'a [u8]], most: u64) -> Vec<FilePatch<'a>> {
    let (mut out, mut at) = (Vec::<FilePatch<'_>>::new(), 0);
    while at < lines.len() {
        let line = without_cr(lines[at]);
        let next = lines.get(at + 1).map_or(&[][..], |it| without_cr(it));
        if let Some(names) = line.strip_prefix(b"diff --git ") {
            out.push(FilePatch { git_name: git_name(names), ..FilePatch::default() });
        } else if line.starts_with(b"--- ") && next.starts_with(b"+++ ") {
            if out.last().is_none_or(|it| it.old.is_some() || it.git_name.is_none()) {
                out.push(FilePatch::default());
            }
            if let Some(part) = out.last_mut() {
                (part.old, part.new) = (side(&line[4..]), side(&next[4..]));
            }
            at += 1;
        } else if let Some(part) = out.last_mut() {
            if hunk::is_head(line) && part.old.is_some() {
                let (hunk, taken) = Hunk::read(&lines[at..]);
                match &mut part.body {
                    Body::Hunks(hunks) => hunks.push(hunk),
                    body => *body = Body::Hunks(vec![hunk]),
                }
                at += taken - 1;
            } else if line == b"GIT binary patch" {
                let (block, taken) = binary_part(&lines[at + 1..], most);
                part.body = Body::Binary(block);
                at += taken;
            } else if part.old.is_none() {
                header(part, line);
            }
        }
        at += 1;
    }
    out.retain(does_something);
    out
}

/// Whether a part was more than a head.
fn does_something(part: &FilePatch<'_>) -> bool {
    let is_moved = part.from.is_some() && part.to.is_some();
    let is_emptied =
        part.git_name.is_some() && (part.is_new || part.is_gone || part.mode.is_some());
    !matches!(part.body, Body::Nothing) || is_moved || is_emptied
}

/// A line that git writes between `diff --git` and the names.
fn header(part: &mut FilePatch<'_>, line: &[u8]) {
    let after = |word: &str| line.strip_prefix(word.as_bytes());
    let bare = |text: &[u8]| name::read(text, |_| false).map(|it| it.0);
    if let Some(mode) = after("new file mode ") {
        (part.is_new, part.mode) = (true, Some(mode.to_vec()));
    } else if after("deleted file mode ").is_some() {
        part.is_gone = true;
    } else if let Some(mode) = after("new mode ") {
        part.mode = Some(mode.to_vec());
    } else if let Some(from) = after("rename from ") {
        part.from = bare(from);
    } else if let Some(to) = after("rename to ") {
        part.to = bare(to);
    } else if let Some(from) = after("copy from ") {
        (part.from, part.is_copy) = (bare(from), true);
    } else if let Some(to) = after("copy to ") {
        part.to = bare(to);
    } else if line.starts_with(b"Binary files ") && line.ends_with(b" differ") {
        part.body = Body::Binary(Err("it says only that a binary file differs".to_owned()));
    }
}

/// The two blocks of a binary file, there and back; the second does not matter.
fn binary_part(lines: &[&[u8]], most: u64) -> (Result<BinaryBlock, String>, usize) {
    let end_of = |from: usize| {
        let blank = lines[from..].iter().position(|it| it.trim_ascii().is_empty());
        blank.map_or(lines.len(), |it| from + it)
    };
    let first = end_of(0);
    let block = binary::read(&lines[..first], most);
    let second = lines
        .get(first + 1)
        .is_some_and(|it| it.starts_with(b"literal ") || it.starts_with(b"delta "));
    (block, if second { end_of(first + 1) } else { first })
}

/// The name behind `---` or `+++`: in quotes, or up to a tab, behind which some write a time.
fn side(text: &[u8]) -> Option<Option<Vec<u8>>> {
    let (name, rest) = name::read(text, |byte| byte == b'\t')?;
    // Only a tab or a quote shows that a space at the end belongs to the name.
    let has_end = text.starts_with(b"\"") || !rest.is_empty();
    let name = if has_end { name } else { name.trim_ascii_end().to_vec() };
    Some((name != b"/dev/null").then_some(name))
}

/// The name behind `diff --git`, without the prefix of one letter: it stands there twice.
fn git_name(names: &[u8]) -> Option<Vec<u8>> {
    let strip = |name: &[u8]| name::without_prefix(name).unwrap_or(name).to_vec();
    if names.starts_with(b"\"") {
        let (first, rest) = name::read(names, |_| false)?;
        let (second, _) = name::read(rest.trim_ascii_start(), |_| false)?;
        return (strip(&first) == strip(&second)).then(|| strip(&first));
    }
    // Names may have spaces: both halves must be the same.
    let middles = names.iter().enumerate().filter(|it| *it.1 == b' ').map(|it| it.0);
    let mut pairs = middles.map(|at| (strip(&names[..at]), strip(&names[at + 1..])));
    pairs.find(|(first, second)| first == second && !first.is_empty()).map(|it| it.0)
}

pub fn without_cr(line: &[u8]) -> &[u8] {
    line.strip_suffix(b"\r").unwrap_or(line)
}
