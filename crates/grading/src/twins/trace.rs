//! What the assertions of a run came to, as they noted it on the standard streams.

use std::collections::BTreeSet;

/// Which assertions were seen to hold, and which to fail, by their numbers. One in a loop may have done both.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Trace {
    pub held: BTreeSet<usize>,
    pub failed: BTreeSet<usize>,
}

impl Trace {
    /// Reads notes: the mark of the run, a number, `=`, and `1` where it held or `0` where it did not, then `;`.
    pub fn read(mark: &str, streams: &[&[u8]]) -> Self {
        let mut trace = Self::default();
        for stream in streams {
            let text = String::from_utf8_lossy(stream);
            for note in text.split(mark).skip(1) {
                let Some((number, rest)) = note.split_once('=') else { continue };
                let Ok(site) = number.parse::<usize>() else { continue };
                match rest.as_bytes() {
                    [b'1', b';', ..] => trace.held.insert(site),
                    [b'0', b';', ..] => trace.failed.insert(site),
                    _ => continue,
                };
            }
        }
        trace
    }

    /// Whether an assertion was seen at all.
    pub fn has_seen(&self, site: usize) -> bool {
        self.held.contains(&site) || self.failed.contains(&site)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn notes_are_found_among_other_output() {
        let (out, err) = ("{\"Output\":\"m-3=1;\\n\"}\nm-x=1;m-4=2;", "noise\nm-3=0;\nm-12=0;m-");
        let trace = Trace::read("m-", &[out.as_bytes(), err.as_bytes()]);
        assert_eq!(trace.held, BTreeSet::from([3]));
        assert_eq!(trace.failed, BTreeSet::from([3, 12]));
        assert!(trace.has_seen(12) && !trace.has_seen(4));
    }
}
