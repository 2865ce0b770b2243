//! Do a task's tests tell right answers from wrong ones, every time? Computed from how its proofs were
//! judged.

use std::collections::BTreeSet;

use crate::docket::{Proceedings, Task};
use crate::form::program::Case;
use crate::judgement::Judgement;
use crate::verdict::Verdict;

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
    /// What is wrong.
    pub faults: Vec<String>,
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

/// What the judgements of all its proofs, and of its given files alone, say of a task.
#[must_use]
pub fn vetted(task: &Task, judged: Vec<JudgedProof<'_>>) -> VettedTask {
    let mut faults = Vec::new();
    if !task.proofs.iter().any(|it| it.right) {
        faults.push("there is no right proof".to_owned());
    }
    if !task.proofs.iter().any(|it| !it.right) {
        faults.push("there is no wrong proof".to_owned());
    }
    let mut sealed: Vec<String> = sealed_names(task);
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
        sealed.retain(|name| item.right || item.name.is_empty() || !failed_by.contains(name));
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
    faults.extend(shown_lines(task));
    let also_visible = also_visible(task);
    if !also_visible.is_empty() && also_visible.len() == task.sealed_count() {
        faults.push("every sealed test is a visible example, too".to_owned());
    }
    VettedTask {
        also_visible,
        name: task.name.clone(),
        form: task.form().word(),
        language: task.language.clone(),
        sealed: task.sealed_count(),
        proofs,
        never_failed: sealed,
        faults,
    }
}

fn sealed_names(task: &Task) -> Vec<String> {
    match &task.proceedings {
        Proceedings::Call { sealed, .. } => sealed.iter().map(|it| it.name.clone()).collect(),
        Proceedings::Program { sealed, .. } => sealed.iter().map(|it| it.name.clone()).collect(),
        Proceedings::Tests { sealed, .. } => sealed.names.clone(),
    }
}

/// Sealed tests that were run and failed.
fn failed_by(judgement: &Judgement) -> Vec<String> {
    let failed = judgement.tests.iter().filter(|it| it.failed.is_some() && !it.visible);
    failed.filter(|it| !it.summary.starts_with("not run")).map(|it| it.name.clone()).collect()
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

/// A line shorter than this says too little to give anything away.
const LINE_MIN: usize = 24;

/// Sealed tests that are visible examples, too. A few are common, and tell nothing of the others.
fn also_visible(task: &Task) -> Vec<String> {
    match &task.proceedings {
        Proceedings::Call { examples, sealed, .. } => {
            let seen = sealed.iter().filter(|it| examples.iter().any(|e| e.steps == it.steps));
            seen.map(|it| it.name.clone()).collect()
        }
        Proceedings::Program { examples, sealed, .. } => {
            let given = |it: &Case| (it.args.clone(), it.stdin.clone(), it.files.clone());
            let seen = sealed.iter().filter(|it| examples.iter().any(|e| given(e) == given(it)));
            seen.map(|it| it.name.clone()).collect()
        }
        Proceedings::Tests { .. } => Vec::new(),
    }
}

/// Files of sealed unit tests of which a line that asserts something can be read in what candidates get.
fn shown_lines(task: &Task) -> Vec<String> {
    let Proceedings::Tests { sealed, .. } = &task.proceedings else { return Vec::new() };
    let shown: BTreeSet<&str> = std::iter::once(task.statement.as_str())
        .chain(task.given.values().filter_map(|it| std::str::from_utf8(it).ok()))
        .flat_map(str::lines)
        .map(str::trim)
        .filter(|it| it.len() >= LINE_MIN && it.to_lowercase().contains("assert"))
        .collect();
    let shows = |bytes: &[u8]| {
        let text = String::from_utf8_lossy(bytes).into_owned();
        text.lines().map(str::trim).find(|it| shown.contains(it)).map(str::to_owned)
    };
    let files = sealed.files.iter().filter_map(|(path, bytes)| Some((path, shows(bytes)?)));
    files.map(|(path, line)| format!("a line of `sealed/{path}` is shown: {line}")).collect()
}
