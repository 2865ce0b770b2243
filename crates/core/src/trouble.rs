//! Trouble on the way to an answer, which people pay for: what is done over and over, undone, broken again,
//! or claimed to be done and is not.
//!
//! It is counted within a trial, from what a candidate did step by step and from what its attempts came to.
//! Counting errs on the side of the candidate: what may have had a reason is not counted.

use std::collections::{BTreeMap, HashMap};

use serde::{Deserialize, Serialize};

use crate::answer::Code;
use crate::digest::Digest;
use crate::judgement::Judgement;
use crate::verdict::{FailReason, Verdict};

/// How often each sort of trouble was seen.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(default)]
pub struct Trouble {
    /// Attempts that failed in the same tests and in the same way as the one before.
    pub same_failure: u32,
    /// Edits that brought a file back to what it was before another edit.
    pub undone: u32,
    /// Steps that did what had been done twice before, with no change of files in between.
    pub repeated: u32,
    /// Tests that were green and turned red.
    pub turned_red: u32,
    /// Attempts that failed although the candidate said that its work is done.
    pub false_claims: u32,
}

impl Trouble {
    /// The sorts of trouble, with their counts, in words.
    #[must_use]
    pub fn sorts(&self) -> [(&'static str, u32); 5] {
        [
            ("same failure", self.same_failure),
            ("edits undone", self.undone),
            ("repeated", self.repeated),
            ("turned red", self.turned_red),
            ("false claims", self.false_claims),
        ]
    }

    /// The count of the sort that was seen most.
    #[must_use]
    pub fn most(&self) -> u32 {
        self.sorts().into_iter().map(|it| it.1).max().unwrap_or(0)
    }

    /// 1 for each sort that was seen at all.
    #[must_use]
    pub fn seen(self) -> Self {
        let seen = |count: u32| u32::from(count > 0);
        Self {
            same_failure: seen(self.same_failure),
            undone: seen(self.undone),
            repeated: seen(self.repeated),
            turned_red: seen(self.turned_red),
            false_claims: seen(self.false_claims),
        }
    }

    /// Adds another's counts.
    #[must_use]
    pub fn and(self, other: Self) -> Self {
        Self {
            same_failure: self.same_failure + other.same_failure,
            undone: self.undone + other.undone,
            repeated: self.repeated + other.repeated,
            turned_red: self.turned_red + other.turned_red,
            false_claims: self.false_claims + other.false_claims,
        }
    }
}

/// One step of a candidate, as far as trouble is looked for in it.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct WatchedStep<'a> {
    /// What it was: `read`, `edit`, `run` and so on.
    pub kind: &'a str,
    /// What it was about: a path, a command.
    pub subject: &'a str,
    /// What came of it, in a word.
    pub outcome: &'a str,
    /// What came of it.
    pub detail: &'a str,
    /// Marks of the files before and after it, where it changed them: of one file for an edit, of all for a
    /// command. `None`: it changed nothing, or nobody knows.
    pub files: Option<(&'a str, &'a str)>,
}

/// How often the same must be done until it counts.
const OFTEN: u32 = 3;

/// Different steps that are kept in mind.
const KEPT: usize = 10_000;

/// Looks for trouble in the steps of one attempt, as they come.
#[derive(Debug, Clone, Default, PartialEq)]
pub struct StepWatch {
    /// How often each thing was done since files were changed last.
    done: HashMap<String, u32>,
    /// What each file was, edit by edit.
    states: HashMap<String, Vec<String>>,
    repeated: u32,
    undone: u32,
}

impl StepWatch {
    /// Takes a step.
    pub fn take(&mut self, step: &WatchedStep<'_>) {
        let key = match step.kind {
            // A file or an answer that differs is no repetition; what a command prints may always differ.
            "read" | "list" | "search" | "call" => {
                format!("{} {} {}", step.kind, step.subject, Digest::of(step.detail.as_bytes()))
            }
            "request" if step.outcome == "repeated" => {
                self.repeated += 1;
                return;
            }
            "run" | "tool:read" | "tool:search" | "tool:execute" => {
                format!("{} {}", step.kind, step.subject)
            }
            _ => String::new(),
        };
        let is_edit = matches!(step.kind, "write" | "edit" | "delete");
        let is_told = matches!(step.kind, "tool:edit" | "tool:delete" | "tool:move" | "tool:other");
        let has_changed = match step.kind {
            "run" => step.files.is_some(),
            _ => (is_edit || is_told) && step.outcome == "done",
        };
        if has_changed || self.done.len() >= KEPT {
            self.done.retain(|it, _| *it == key);
        }
        if !key.is_empty() {
            let count = self.done.entry(key).or_default();
            *count += 1;
            self.repeated += u32::from(*count >= OFTEN);
        }
        if let Some((before, after)) = step.files.filter(|_| is_edit) {
            let states = self.states.entry(step.subject.to_owned()).or_default();
            if states.last().is_none_or(|it| it != before) {
                states.push(before.to_owned());
            }
            self.undone += u32::from(before != after && states.iter().any(|it| it == after));
            states.push(after.to_owned());
        }
    }

    /// What was found so far.
    #[must_use]
    pub fn trouble(&self) -> Trouble {
        Trouble { repeated: self.repeated, undone: self.undone, ..Trouble::default() }
    }
}

/// What one attempt came to, as far as the next is compared with it.
#[derive(Debug, Clone, PartialEq)]
struct AttemptState {
    verdict: Verdict,
    /// Which tests failed, and how; where none was run, what was said instead.
    failure: Vec<String>,
    /// Whether each test passed.
    tests: BTreeMap<String, bool>,
    /// A mark of each file that it has other than the task gives it.
    files: BTreeMap<String, String>,
}

/// Looks for trouble in the attempts of one trial.
#[derive(Debug, Clone, Default, PartialEq)]
pub struct TrialWatch {
    attempts: Vec<AttemptState>,
    total: Trouble,
}

impl TrialWatch {
    /// What was found in all attempts together.
    #[must_use]
    pub fn total(&self) -> Trouble {
        self.total
    }

    /// Takes an attempt that was judged. `code` is what was judged, `steps` what led to it, and `last_words`
    /// what the candidate said last, where it acts. Gives what is to be counted for this attempt.
    pub fn take(
        &mut self,
        judgement: &Judgement,
        code: Option<&Code>,
        steps: &StepWatch,
        last_words: Option<&str>,
    ) -> Trouble {
        let now = AttemptState::of(judgement, code);
        let mut trouble = steps.trouble();
        let is_red = matches!(now.verdict, Verdict::Fail(_));
        if is_red && let Some(before) = self.attempts.last() {
            let is_same = before.verdict == now.verdict && before.failure == now.failure;
            trouble.same_failure = u32::from(is_same);
        }
        trouble.turned_red = self.turned_red(judgement);
        trouble.undone += self.undone(&now);
        trouble.false_claims = u32::from(is_red && last_words.is_some_and(claims_success));
        self.attempts.push(now);
        self.total = self.total.and(trouble);
        trouble
    }

    /// Tests that passed when they were run last, or before anything was changed, and fail now.
    fn turned_red(&self, judgement: &Judgement) -> u32 {
        let red = judgement.tests.iter().filter(|it| it.failed.is_some() && it.was_run());
        let was_green = |name: &str, role: &str| {
            let known = self.attempts.iter().rev().find_map(|it| it.tests.get(name).copied());
            known.unwrap_or(role == "stay green")
        };
        let count = red.filter(|it| was_green(&it.name, &it.role)).count();
        u32::try_from(count).unwrap_or(u32::MAX)
    }

    /// Files that are now what they were before the last attempt changed them.
    fn undone(&self, now: &AttemptState) -> u32 {
        let Some((last, earlier)) = self.attempts.split_last() else { return 0 };
        let mut paths: Vec<&String> = last.files.keys().chain(now.files.keys()).collect();
        paths.sort();
        paths.dedup();
        let is_undone = |path: &&&String| {
            let is = now.files.get(**path);
            let was = |state: &AttemptState| state.files.get(**path) == is;
            // Before the first attempt no file differs from what is given.
            !was(last) && (is.is_none() || earlier.iter().any(was))
        };
        u32::try_from(paths.iter().filter(is_undone).count()).unwrap_or(u32::MAX)
    }
}

impl AttemptState {
    fn of(judgement: &Judgement, code: Option<&Code>) -> Self {
        let red = judgement.tests.iter().filter(|it| it.failed.is_some());
        let named = |it: &crate::judgement::TestOutcome| {
            format!("{}: {}", it.name, it.failed.map_or("", FailReason::word))
        };
        let mut failure: Vec<String> = red.map(named).collect();
        failure.extend(
            judgement
                .message
                .as_deref()
                .filter(|_| judgement.tests.is_empty())
                .map(without_figures),
        );
        let run = judgement.tests.iter().filter(|it| it.was_run());
        let tests = run.map(|it| (it.name.clone(), it.failed.is_none()));
        Self {
            verdict: judgement.verdict,
            failure,
            tests: tests.collect(),
            files: code.map(marks).unwrap_or_default(),
        }
    }
}

/// A message without what differs from run to run.
fn without_figures(message: &str) -> String {
    message.chars().filter(|it| !it.is_ascii_digit()).collect()
}

/// A mark of each file of an answer.
fn marks(code: &Code) -> BTreeMap<String, String> {
    let mark = |bytes: &[u8]| Digest::of(bytes).to_string();
    match code {
        Code::Files(files) => {
            files.iter().map(|(path, bytes)| (path.to_string(), mark(bytes))).collect()
        }
        // What a patch says of one file, against what is given, is a mark of that file.
        Code::Patch(patch) => {
            let text = String::from_utf8_lossy(patch);
            let parts = text.split("\ndiff --git ").filter(|it| !it.trim().is_empty());
            let named = |part: &str| {
                let part = part.strip_prefix("diff --git ").unwrap_or(part);
                let name = part.lines().next().unwrap_or_default().to_owned();
                (name, mark(part.trim_end().as_bytes()))
            };
            parts.map(named).collect()
        }
    }
}

/// How much of what was said last is looked at for a claim, in bytes.
const LAST_WORDS: usize = 600;

/// What somebody says who holds the work to be done.
const CLAIMS: &[&str] = &[
    "all tests pass",
    "tests pass",
    "tests now pass",
    "tests are passing",
    "done",
    "fixed",
    "complete",
    "completed",
    "finished",
    "implemented",
    "resolved",
    "succeeded",
    "successfully",
    "works",
    "work correctly",
];

/// What somebody says who is not sure.
const DOUBTS: &[&str] = &[
    "not",
    "cannot",
    "can't",
    "couldn't",
    "doesn't",
    "don't",
    "didn't",
    "isn't",
    "won't",
    "unable",
    "fail",
    "fails",
    "failed",
    "failing",
    "failure",
    "incomplete",
    "unfinished",
    "partially",
    "remaining",
    "todo",
    "unsure",
    "unclear",
    "unless",
];

/// Whether last words claim that the work is done. The last line decides where it is `finished` or
/// `not finished`, as prompts ask for; otherwise a claim is one only where no doubt stands beside it.
#[must_use]
pub fn claims_success(last_words: &str) -> bool {
    let plain = |line: &str| {
        let kept = |c: char| if c.is_alphanumeric() || c == '\'' { c } else { ' ' };
        let words: String = line.to_lowercase().replace('’', "'").chars().map(kept).collect();
        words.split_whitespace().collect::<Vec<_>>().join(" ")
    };
    let last = last_words.lines().rev().map(plain).find(|it| !it.is_empty()).unwrap_or_default();
    match last.as_str() {
        "finished" => return true,
        "not finished" | "unfinished" => return false,
        _ => {}
    }
    let from = last_words.ceil_char_boundary(last_words.len().saturating_sub(LAST_WORDS));
    let words = format!(" {} ", plain(&last_words[from..]));
    let holds = |list: &[&str]| list.iter().any(|it| words.contains(&format!(" {it} ")));
    holds(CLAIMS) && !holds(DOUBTS)
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::judgement::TestOutcome;

    fn step<'a>(kind: &'a str, subject: &'a str) -> WatchedStep<'a> {
        WatchedStep { kind, subject, outcome: "done", detail: "", files: None }
    }

    #[test]
    fn what_is_done_over_and_over_counts_from_the_third_time() {
        let mut watch = StepWatch::default();
        for _ in 0..4 {
            watch.take(&step("read", "a.py"));
            watch.take(&step("run", "pytest"));
        }
        assert_eq!(watch.trouble().repeated, 4);
        // After a change it has a reason.
        let mut watch = StepWatch::default();
        for at in ["1", "2", "3", "4", "5"] {
            watch.take(&WatchedStep { files: Some((at, "x")), ..step("edit", "a.py") });
            watch.take(&step("read", "a.py"));
            watch.take(&step("run", "pytest"));
        }
        assert_eq!(watch.trouble().repeated, 0);
        // A command that changes files changes what is read, and another file is another thing to read.
        let mut watch = StepWatch::default();
        for detail in ["1", "2", "3", "4"] {
            watch.take(&WatchedStep { detail, ..step("read", "a.py") });
            watch.take(&WatchedStep { files: Some(("1", "2")), ..step("run", "sed") });
        }
        assert_eq!(watch.trouble().repeated, 2, "the command itself was the same four times");
        watch.take(&WatchedStep { outcome: "repeated", ..step("request", "the same") });
        assert_eq!(watch.trouble().repeated, 3);
    }

    #[test]
    fn an_edit_that_brings_back_what_was_counts() {
        let mut watch = StepWatch::default();
        let mut edit = |before, after| {
            watch.take(&WatchedStep { files: Some((before, after)), ..step("edit", "a.py") });
            watch.trouble().undone
        };
        assert_eq!(edit("a", "b"), 0);
        assert_eq!(edit("b", "b"), 0, "nothing has changed");
        assert_eq!(edit("b", "a"), 1);
        assert_eq!(edit("a", "c"), 1);
        assert_eq!(edit("c", "b"), 2);
    }

    fn judged(verdict: Verdict, tests: &[(&str, &str, bool)]) -> Judgement {
        let outcome = |(name, role, passed): &(&str, &str, bool)| TestOutcome {
            role: (*role).to_owned(),
            failed: (!passed).then_some(FailReason::WrongResult),
            ..TestOutcome::passed(name, false, 1.0)
        };
        Judgement { tests: tests.iter().map(outcome).collect(), ..Judgement::bare(verdict) }
    }

    #[test]
    fn attempts_are_compared_with_those_before() {
        const FAIL: Verdict = Verdict::Fail(FailReason::WrongResult);
        let (calm, mut watch) = (StepWatch::default(), TrialWatch::default());
        let code = |text: &str| {
            Code::Patch(
                format!("diff --git a/x b/x\n{text}\ndiff --git a/y b/y\n+1\n").into_bytes(),
            )
        };
        let tests = [("new", "turn green", false), ("old", "stay green", true)];
        let first = watch.take(&judged(FAIL, &tests), Some(&code("+a")), &calm, Some("finished"));
        assert_eq!(first, Trouble { false_claims: 1, ..Trouble::default() });
        let second =
            watch.take(&judged(FAIL, &tests), Some(&code("+b")), &calm, Some("not finished"));
        assert_eq!(second, Trouble { same_failure: 1, ..Trouble::default() });
        let tests = [("new", "turn green", true), ("old", "stay green", false)];
        let third = watch.take(&judged(FAIL, &tests), Some(&code("+a")), &calm, None);
        assert_eq!(third, Trouble { turned_red: 1, undone: 1, ..Trouble::default() });
        let tests = [("new", "turn green", true), ("old", "stay green", true)];
        let last = watch.take(&judged(Verdict::Pass, &tests), None, &calm, Some("finished"));
        assert_eq!(last, Trouble { undone: 2, ..Trouble::default() }, "both files are as given");
        assert_eq!((watch.total().undone, watch.total().most()), (3, 3));
    }

    #[test]
    fn a_claim_is_a_claim_without_a_doubt() {
        for (words, claims) in [
            ("finished", true),
            ("I changed it.\n\n**Finished.**\n", true),
            ("All done!\nnot finished", false),
            ("Done: the change is made and all tests pass.", true),
            ("The change is made, and the visible tests fail.", false),
            ("I couldn’t get it to work, but most of it is done.", false),
            ("I have abandoned the search", false),
            ("", false),
            ("All tests pass now. Nothing remains.", true),
        ] {
            assert_eq!(claims_success(words), claims, "{words}");
        }
    }
}
