//! Whether the tasks of a docket are sound.

use std::io::{self, Write};

use fairtrial_core::vet::{VettedProof, VettedTask};

use super::table::layout;
use super::{first_few, wrap};
use crate::figures::count;
use crate::safe::safe;
use crate::style::Style;

/// Writes a row for each task, then what does not hold.
///
/// # Errors
/// When the writer fails.
pub fn vet_table(out: &mut dyn Write, tasks: &[VettedTask], style: Style) -> io::Result<()> {
    let header =
        ["task", "form", "right", "wrong", "given", "stable", "tests", "never failed", "holds"];
    let rows: Vec<_> = tasks.iter().map(row).collect();
    for (index, line) in layout(&header, &rows, &[0, 1]).iter().enumerate() {
        writeln!(out, "{}", if index == 0 { style.dim(line) } else { line.clone() })?;
    }
    writeln!(out)?;
    let mut tell = |text: String| -> io::Result<()> {
        for line in wrap(&safe(&text), style.width) {
            writeln!(out, "{line}")?;
        }
        Ok(())
    };
    for task in tasks {
        for fault in &task.faults {
            tell(format!("{}: {fault}.", task.name))?;
        }
    }
    remarks(tasks).into_iter().try_for_each(tell)?;
    let passed = tasks.iter().filter(|it| it.holds()).count();
    let verb = if tasks.len() == 1 { "holds" } else { "hold" };
    writeln!(out, "{passed} of {} {verb} up.", count(tasks.len(), "task"))
}

/// Tasks of which a table names what is worth a look, and does not only count it.
const NAMED_TASKS: usize = 3;

/// What holds, and is worth a look all the same.
fn remarks(tasks: &[VettedTask]) -> Vec<String> {
    let unfailed: Vec<_> = tasks.iter().filter(|it| !it.never_failed.is_empty()).collect();
    let visible: Vec<_> = tasks.iter().filter(|it| !it.also_visible.is_empty()).collect();
    let mut out = Vec::new();
    let shared: Vec<_> = tasks
        .iter()
        .filter(|task| task.process.is_some_and(|it| it.is == "shared" && it.holds_there))
        .filter(|task| task.proofs.iter().filter(|it| it.right).all(|it| it.verdict.is_pass()))
        .map(|task| format!("`{}`", task.name))
        .collect();
    if !shared.is_empty() {
        out.push(format!(
            "The right proofs of {} pass apart, too: without `process = \"shared\"` no answer comes near the tests.",
            first_few(shared)
        ));
    }
    let names = |all: &[String]| first_few(all.iter().map(|it| format!("`{it}`")).collect());
    for task in tasks.iter().filter(|it| !it.without_twins.is_empty()) {
        out.push(format!(
            "{}: no twins are made of {}; without them a test is run as it stands, in the answer's process.",
            task.name,
            names(&task.without_twins)
        ));
    }
    if tasks.len() > NAMED_TASKS {
        if !unfailed.is_empty() {
            let tasks = count(unfailed.len(), "task");
            out.push(format!(
                "Of {tasks}, some tests are failed by no wrong proof (`never failed`): nothing shows that \
                 they can fail. `--task NAME` names them."
            ));
        }
        if !visible.is_empty() {
            let tasks = count(visible.len(), "task");
            out.push(format!("Of {tasks}, some sealed tests are visible examples, too."));
        }
        return out;
    }
    for task in unfailed {
        out.push(format!("{}: no wrong proof fails {}.", task.name, names(&task.never_failed)));
    }
    for task in visible {
        let names = names(&task.also_visible);
        out.push(format!("{}: visible examples, too, are the sealed {names}.", task.name));
    }
    out
}

fn row(task: &VettedTask) -> Vec<String> {
    let proofs =
        |right| task.proofs.iter().filter(move |it| !it.name.is_empty() && it.right == right);
    let passed = |it: &&VettedProof| it.verdict.is_pass();
    let as_wanted = |right: bool| {
        let all = proofs(right).count();
        let kept = proofs(right).filter(|it| !it.verdict.is_void() && passed(it) == right).count();
        format!("{kept}/{all}")
    };
    let given = task.proofs.iter().find(|it| it.name.is_empty());
    let given = given.map_or("–", |it| if it.verdict.is_pass() { "passes" } else { "fails" });
    let stable = task.proofs.iter().all(|it| it.stable);
    let yes = |it: bool| if it { "yes" } else { "NO" }.to_owned();
    vec![
        safe(&task.name).into_owned(),
        task.process.map_or_else(|| task.form.to_owned(), |it| format!("{}, {}", task.form, it.is)),
        as_wanted(true),
        as_wanted(false),
        given.to_owned(),
        yes(stable),
        task.sealed.to_string(),
        task.never_failed.len().to_string(),
        yes(task.holds()),
    ]
}
