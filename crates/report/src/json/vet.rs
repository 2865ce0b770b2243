//! Whether the tasks of a docket are sound, for programs.

use std::io::{self, Write};

use fairtrial_core::vet::{VettedProof, VettedTask};
use serde::Serialize;

use super::write_json;

/// The version of this output.
const FORMAT_VERSION: u32 = 1;

#[derive(Serialize)]
struct VetOutput<'a> {
    format_version: u32,
    holds: bool,
    tasks: Vec<TaskOutput<'a>>,
}

#[derive(Serialize)]
struct TaskOutput<'a> {
    task: &'a str,
    form: &'a str,
    /// Where its unit tests run, where there is a choice.
    #[serde(skip_serializing_if = "Option::is_none")]
    process: Option<&'static str>,
    language: &'a str,
    holds: bool,
    tests: usize,
    proofs: Vec<ProofOutput<'a>>,
    never_failed: &'a [String],
    also_visible: &'a [String],
    #[serde(skip_serializing_if = "<[_]>::is_empty")]
    without_twins: &'a [String],
    faults: &'a [String],
}

#[derive(Serialize)]
struct ProofOutput<'a> {
    /// Empty for the given files alone.
    name: &'a str,
    right: bool,
    verdict: &'static str,
    reason: Option<&'static str>,
    failed_by: &'a [String],
    stable: bool,
}

/// Writes everything as JSON.
///
/// # Errors
/// When the writer fails.
pub fn vet_json(out: &mut dyn Write, tasks: &[VettedTask]) -> io::Result<()> {
    let proof = |it: &'_ VettedProof| -> (&'static str, Option<&'static str>) {
        (it.verdict.word(), it.verdict.reason())
    };
    let tasks_out = tasks.iter().map(|task| TaskOutput {
        task: &task.name,
        form: task.form,
        process: task.process.map(|it| it.is),
        language: &task.language,
        holds: task.holds(),
        tests: task.sealed,
        proofs: task
            .proofs
            .iter()
            .map(|it| {
                let (verdict, reason) = proof(it);
                ProofOutput {
                    name: &it.name,
                    right: it.right,
                    verdict,
                    reason,
                    failed_by: &it.failed_by,
                    stable: it.stable,
                }
            })
            .collect(),
        never_failed: &task.never_failed,
        also_visible: &task.also_visible,
        without_twins: &task.without_twins,
        faults: &task.faults,
    });
    let holds = tasks.iter().all(VettedTask::holds);
    let output = VetOutput { format_version: FORMAT_VERSION, holds, tasks: tasks_out.collect() };
    write_json(out, &output)
}
