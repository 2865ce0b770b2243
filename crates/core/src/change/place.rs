//! Putting the hunks of one file on it, with tolerance for what drifts.

use std::collections::BTreeSet;

use super::hunk::{Fate, Hunk, HunkLine};
use super::patch::without_cr;
use super::slack::Slack;

/// How exactly the lines of a hunk and those of the file must agree, from the strictest on.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Likeness {
    Same,
    /// But for the marks at the ends of lines.
    Ends,
    /// But for white space at the ends of lines.
    Trailing,
}

const LIKENESSES: [Likeness; 3] = [Likeness::Same, Likeness::Ends, Likeness::Trailing];

/// Most lines at either end of a hunk that may differ from the file, where they are there only to show
/// the place.
const FUZZ_MAX: usize = 2;

impl Likeness {
    fn holds(self, ours: &[u8], theirs: &[u8]) -> bool {
        match self {
            Self::Same => ours == theirs,
            Self::Ends => without_cr(ours) == without_cr(theirs),
            Self::Trailing => ours.trim_ascii_end() == theirs.trim_ascii_end(),
        }
    }
}

/// Where a hunk belongs.
struct HunkPlace {
    /// The file's line at which its first old line that counts stands, from 0.
    at: usize,
    /// How many lines at its beginning and at its end do not count.
    fuzz: (usize, usize),
    likeness: Likeness,
}

/// Puts hunks on a file, and adds to `slack` what had to be forgiven.
///
/// # Errors
/// Which hunk does not fit, in words.
pub fn place(
    old: &[u8],
    hunks: &[Hunk<'_>],
    slack: &mut BTreeSet<Slack>,
) -> Result<Vec<u8>, String> {
    let lines: Vec<&[u8]> = old.split_inclusive(|&it| it == b'\n').collect();
    let texts: Vec<&[u8]> = lines.iter().map(|it| it.strip_suffix(b"\n").unwrap_or(it)).collect();
    let mut out = Output { bytes: Vec::with_capacity(old.len()) };
    // The next line of the file that no hunk has taken, and how far places have drifted so far.
    let (mut next, mut drift) = (0_usize, 0_isize);
    for (number, hunk) in hunks.iter().enumerate() {
        if hunk.lines.iter().all(|it| it.fate == Fate::Stays) {
            slack.insert(Slack::Head);
            continue;
        }
        if !hunk.counts_right {
            slack.insert(Slack::Head);
        }
        let expected = expected_place(hunk, drift, next);
        let place = find(&texts, hunk, next, expected)
            .map_err(|why| format!("part {} of it {why}", number + 1))?;
        match (expected, place.at.checked_sub(place.fuzz.0)) {
            (Some(expected), Some(found)) if expected == found => {}
            (expected, found) => {
                slack.insert(Slack::LineNumbers);
                if let (Some(expected), Some(found)) = (expected, found) {
                    drift += found as isize - expected as isize;
                }
            }
        }
        match place.likeness {
            Likeness::Same => {}
            Likeness::Ends => drop(slack.insert(Slack::LineEnds)),
            Likeness::Trailing => drop(slack.insert(Slack::WhiteSpace)),
        }
        if place.fuzz != (0, 0) {
            slack.insert(Slack::Context);
        }
        lines[next..place.at].iter().for_each(|it| out.line(it));
        next = place.at + write(&mut out, &lines[place.at..], hunk, &place);
    }
    lines[next..].iter().for_each(|it| out.line(it));
    Ok(out.bytes)
}

/// The file as it comes to be.
struct Output {
    bytes: Vec<u8>,
}

impl Output {
    /// Puts a line, with its end, behind what is there. What was the last line of a file may lack its end.
    fn line(&mut self, line: &[u8]) {
        if !self.bytes.is_empty() && !self.bytes.ends_with(b"\n") {
            self.bytes.push(b'\n');
        }
        self.bytes.extend(line);
    }
}

/// Where the first old line should be, from 0.
fn expected_place(hunk: &Hunk<'_>, drift: isize, next: usize) -> Option<usize> {
    let start = hunk.start?;
    let has_old = hunk.old().next().is_some();
    // A hunk without old lines names the line before.
    let first = if has_old { start.saturating_sub(1) } else { start };
    Some(first.saturating_add_signed(drift).max(next))
}

fn find(
    texts: &[&[u8]],
    hunk: &Hunk<'_>,
    next: usize,
    expected: Option<usize>,
) -> Result<HunkPlace, String> {
    let old: Vec<&HunkLine<'_>> = hunk.old().collect();
    if old.is_empty() {
        return match expected {
            Some(at) if at <= texts.len() => {
                Ok(HunkPlace { at, fuzz: (0, 0), likeness: Likeness::Same })
            }
            _ if texts.is_empty() => {
                Ok(HunkPlace { at: 0, fuzz: (0, 0), likeness: Likeness::Same })
            }
            _ => Err("says not where its lines belong".to_owned()),
        };
    }
    let margins = hunk.margins();
    for fuzz in 0..=FUZZ_MAX {
        let cut = (fuzz.min(margins.0), fuzz.min(margins.1));
        let left = old.len() - (cut.0 + cut.1).min(old.len());
        if left == 0 || (fuzz > 0 && cut == (0, 0)) {
            break;
        }
        let wanted = &old[cut.0..old.len() - cut.1];
        for likeness in LIKENESSES {
            let fits = |at: usize| {
                let here = texts[at..].iter().take(wanted.len());
                here.zip(wanted).all(|(ours, it)| likeness.holds(ours, it.text))
            };
            let ends = (texts.len() + 1).saturating_sub(wanted.len());
            let mut places = (next..ends).filter(|&at| fits(at));
            let found = match expected {
                Some(expected) => places.min_by_key(|&at| at.abs_diff(expected + cut.0)),
                None => {
                    let first = places.next();
                    if places.next().is_some() {
                        return Err("fits in several places, and has no line numbers".to_owned());
                    }
                    first
                }
            };
            if let Some(at) = found {
                return Ok(HunkPlace { at, fuzz: cut, likeness });
            }
        }
    }
    Err("does not fit: its lines are not in the file".to_owned())
}

/// Writes a hunk where it belongs, and says how many lines of the file it takes. Lines that stay are
/// written as the file has them.
fn write(out: &mut Output, lines: &[&[u8]], hunk: &Hunk<'_>, place: &HunkPlace) -> usize {
    let has_cr = |it: &&&[u8]| it.ends_with(b"\r\n");
    let old = hunk.old().count() - place.fuzz.0 - place.fuzz.1;
    let crlf = lines[..old].iter().filter(has_cr).count() * 2 > old;
    let counted = place.fuzz.0..hunk.lines.len() - place.fuzz.1;
    let mut taken = 0;
    for line in &hunk.lines[counted] {
        match line.fate {
            Fate::Stays => {
                out.line(lines[taken]);
                taken += 1;
            }
            Fate::Goes => taken += 1,
            Fate::Comes => {
                let mut text = match place.likeness {
                    Likeness::Ends | Likeness::Trailing if crlf => {
                        [without_cr(line.text), b"\r"].concat()
                    }
                    Likeness::Ends => without_cr(line.text).to_vec(),
                    _ => line.text.to_vec(),
                };
                if !line.no_newline {
                    text.push(b'\n');
                }
                out.line(&text);
            }
        }
    }
    taken
}
