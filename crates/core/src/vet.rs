//! Do a task's tests tell right answers from wrong ones, every time? Computed from how its proofs were
//! judged.

use crate::judgement::Judgement;
use crate::task::Task;
use crate::verdict::{FailReason, Verdict};

/// What was found of a task.
#[derive(Debug, Clone, PartialEq)]
pub struct VettedTask {
    /// Its name.
    pub name: String,
    /// Its form, in a word.
    pub form: &'static str,
    /// Its language.
    pub language: String,
    /// Sealed tests.
    pub sealed: usize,
    /// The proofs, in the order of their names; last the given files alone.
    pub proofs: Vec<VettedProof>,
    /// Sealed tests that no wrong proof fails: nothing shows that they can.
    pub never_failed: Vec<String>,
    /// Sealed tests that are visible examples, too.
    pub also_visible: Vec<String>,
    /// Sealed unit tests that share a process with the answer and are run as they stand each time.
    pub without_twins: Vec<String>,
    /// Where its sealed unit tests run; `None` where there is no choice.
    pub process: Option<ProcessChoice>,
    /// What is wrong.
    pub faults: Vec<String>,
}

/// Where sealed unit tests run, and what came of running them elsewhere.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct ProcessChoice {
    /// `apart` or `shared`, as a brief has it.
    pub is: &'static str,
    /// The other of the two.
    pub other: &'static str,
    /// Whether every right proof passes there.
    pub holds_there: bool,
}

/// What came of one answer that is known to be right or wrong.
#[derive(Debug, Clone, PartialEq)]
pub struct VettedProof {
    /// The proof's name; empty for the given files alone.
    pub name: String,
    /// Whether it must pass.
    pub right: bool,
    /// What it came to.
    pub verdict: Verdict,
    /// Sealed tests that failed, by name.
    pub failed_by: Vec<String>,
    /// Whether it came to the same, test by test, a second time.
    pub stable: bool,
}

impl VettedTask {
    /// Whether all of it holds.
    #[must_use]
    pub fn holds(&self) -> bool {
        self.faults.is_empty()
    }
}

/// An answer that is known to be right or wrong, judged twice.
#[derive(Debug)]
pub struct JudgedProof<'a> {
    /// The proof's name; empty for the given files alone.
    pub name: &'a str,
    /// Whether it must pass.
    pub right: bool,
    /// Both judgements; `None` when our own code went wrong.
    pub twice: Option<(Judgement, Judgement)>,
}

/// What a task's form says of its sealed part.
#[derive(Debug, Clone, PartialEq)]
pub struct SealedPart {
    /// The form's name.
    pub form: &'static str,
    /// The names of all sealed tests.
    pub tests: Vec<String>,
    /// Of these, those that are visible examples, too.
    pub also_visible: Vec<String>,
    /// Of these, those that need no wrong proof to fail them: they were seen red, or are there to stay green.
    pub proved: Vec<String>,
    /// Of these, those that share a process with the answer and are run as they stand each time.
    pub without_twins: Vec<String>,
    /// What of it can be read in what candidates get, in words.
    pub shown: Vec<String>,
    /// Where its unit tests run.
    pub process: Option<ProcessChoice>,
}

/// What the judgements of all its proofs, and of its given files alone, say of a task.
#[must_use]
pub fn vetted(task: &Task, part: SealedPart, judged: Vec<JudgedProof<'_>>) -> VettedTask {
    let mut faults = Vec::new();
    if !task.proofs.iter().any(|it| it.right) {
        faults.push("there is no right proof".to_owned());
    }
    if !task.proofs.iter().any(|it| !it.right) {
        faults.push("there is no wrong proof".to_owned());
    }
    let mut never_failed = part.tests.clone();
    never_failed.retain(|name| !part.proved.contains(name));
    let mut proofs = Vec::new();
    for item in judged {
        let called = match item.name {
            "" => "the given files alone".to_owned(),
            name => format!("the proof `{name}`"),
        };
        let Some((first, second)) = item.twice else {
            faults.push(format!("{called}: judging went wrong; please report it"));
            continue;
        };
        let failed_by = failed_by(&first);
        never_failed.retain(|name| item.right || item.name.is_empty() || !failed_by.contains(name));
        let stable = outcome(&first) == outcome(&second);
        if !stable {
            faults.push(format!(
                "{called}: {}, then {}: not the same every time",
                in_short(&first),
                in_short(&second)
            ));
        }
        match first.verdict {
            Verdict::Void(reason) => {
                let why = first.notes.first().map_or(String::new(), |it| format!(": {it}"));
                faults.push(format!("{called}: void ({reason}){why}"));
            }
            Verdict::Pass if !item.right => faults.push(format!("{called} passes")),
            // What cannot be read or put on says nothing about the tests.
            Verdict::Fail(
                reason @ (FailReason::NoCodeFound
                | FailReason::NotAsAsked
                | FailReason::PatchDoesNotApply),
            ) if !item.name.is_empty() => {
                let message = first.message.as_deref();
                let why = first.notes.first().map(String::as_str).or(message);
                let why = why.map_or(String::new(), |it| format!(": {it}"));
                faults.push(format!("{called} proves nothing: {reason}{why}"));
            }
            Verdict::Fail(_) if item.right => {
                faults.push(format!("{called} does not pass: {}", in_short(&first)));
                faults.extend(unlike_list(&first));
            }
            _ => {}
        }
        proofs.push(VettedProof {
            name: item.name.to_owned(),
            right: item.right,
            verdict: first.verdict,
            failed_by,
            stable,
        });
    }
    let all_right = proofs.iter().filter(|it| it.right).all(|it| it.verdict.is_pass());
    if let Some(choice) = part.process.filter(|it| it.holds_there && !all_right) {
        let why = if choice.is == "apart" {
            "the tests need something of the answer's process"
        } else {
            "in one process with the tests, what looks into it, such as `ctypes`, is closed, and what they assert \
             is changed"
        };
        faults.push(format!("its right proofs pass with `process = \"{}\"`: {why}", choice.other));
    }
    faults.extend(part.shown);
    if !part.also_visible.is_empty() && part.also_visible.len() == part.tests.len() {
        faults.push("every sealed test is a visible example, too".to_owned());
    }
    VettedTask {
        name: task.name.clone(),
        form: part.form,
        language: task.language.clone(),
        sealed: part.tests.len(),
        proofs,
        never_failed,
        also_visible: part.also_visible,
        without_twins: part.without_twins,
        process: part.process,
        faults,
    }
}

/// Sealed tests that were run and failed.
fn failed_by(judgement: &Judgement) -> Vec<String> {
    let failed = judgement.tests.iter().filter(|it| it.failed.is_some() && !it.visible);
    failed.filter(|it| it.was_run()).map(|it| it.name.clone()).collect()
}

/// What must be the same every time.
fn outcome(judgement: &Judgement) -> (Verdict, Vec<(&str, bool)>) {
    let tests = judgement.tests.iter().map(|it| (it.name.as_str(), it.failed.is_some()));
    (judgement.verdict, tests.collect())
}

fn in_short(judgement: &Judgement) -> String {
    let (passed, total) = judgement.counts();
    let first = judgement.tests.iter().find(|it| it.failed.is_some());
    let by = first.map_or(String::new(), |it| format!(", first by `{}`: {}", it.name, it.summary));
    format!("{}, {passed} of {total} tests{by}", judgement.verdict)
}

/// Where the names of sealed tests are not those that the runner reports.
fn unlike_list(judgement: &Judgement) -> Vec<String> {
    let of = |summary: &str| -> Vec<String> {
        let tests = judgement.tests.iter().filter(|it| it.summary == summary);
        tests.map(|it| format!("`{}`", it.name)).collect()
    };
    let fault = |what: &str, names: Vec<String>| {
        (!names.is_empty()).then(|| format!("{what}: {}", names.join(", ")))
    };
    let missing = fault("in `tests.list`, but not reported", of("was not run"));
    let extra = fault("reported, but not in `tests.list`", of("is not among the sealed tests"));
    missing.into_iter().chain(extra).collect()
}
