//! From source files to something that can be run: once for all cases of an attempt.

use std::sync::Arc;

use fairtrial_core::digest::Digest;
use fairtrial_core::judgement::Judgement;
use fairtrial_core::text::head_and_tail;
use fairtrial_core::tree::{RelPath, Snapshot};
use fairtrial_core::verdict::FailReason;
use fairtrial_sandbox::{Archive, Collect, Ending, Job, LimitHit, Outcome};

use crate::context::{JudgeContext, JudgeError};
use crate::outcome::nothing_run;

/// Longest compiler message that is kept, in bytes.
const MESSAGE_MAX: usize = 8 << 10;

/// What building came to.
pub enum Built {
    /// The work folder that every run starts from.
    Ready(Arc<Archive>),
    /// It did not build.
    Failed(Judgement),
}

/// Builds an answer by these commands, which are about `file`. Without any, it is ready as it is.
pub fn build(
    context: &JudgeContext<'_>,
    commands: &[Vec<String>],
    file: &RelPath,
    files: &Snapshot,
) -> Result<Built, JudgeError> {
    let mut layer = Arc::new(Archive::of_snapshot(files)?);
    if commands.is_empty() {
        return Ok(Built::Ready(layer));
    }
    let tools = context.driver(&context.definition.drivers.build)?;
    let list = commands;
    let commands = format!("{list:?} {}", context.tool.program.display());
    let key = Digest::of(format!("{commands} {}", Digest::of_snapshot(files)).as_bytes());
    if let Some(layer) = context.shared.builds.find(&key) {
        return Ok(Built::Ready(layer));
    }
    let sources = sources(context, file, files);
    for command in list {
        let command = &with_sources(command, &sources);
        let base = context.job(command, file, context.build_caps(), vec![&layer]);
        let job = Job { collect: Collect::All, driver: tools.as_ref(), ..base };
        let outcome = context.sandbox().run(&job)?;
        if outcome.limit.is_some() || outcome.ending != Ending::Exited(0) {
            return Ok(Built::Failed(failed(context, &outcome)));
        }
        if let Some(collected) = outcome.collected {
            layer = Arc::new(collected);
        }
    }
    context.shared.builds.keep(key, &layer);
    Ok(Built::Ready(layer))
}

/// The file, and the others of its language that are built with it: not those that are only included, nor
/// those that could be run by themselves.
fn sources(context: &JudgeContext<'_>, file: &RelPath, files: &Snapshot) -> Vec<String> {
    let definition = context.definition;
    let is_with = |path: &RelPath, bytes: &[u8]| {
        definition.is_source(path.extension())
            && path != file
            && !definition.syntax.has_entry(&String::from_utf8_lossy(bytes))
    };
    let others = files.files().filter(|it| is_with(it.0, it.1)).map(|it| it.0);
    // Whatever it is called, it is no option.
    std::iter::once(file).chain(others).map(|it| format!("./{it}")).collect()
}

fn with_sources(command: &[String], sources: &[String]) -> Vec<String> {
    let parts = command.iter().flat_map(|part| match part.as_str() {
        "{sources}" => sources.to_vec(),
        _ => vec![part.clone()],
    });
    parts.collect()
}

fn failed(context: &JudgeContext<'_>, outcome: &Outcome) -> Judgement {
    let message = said(context, outcome);
    nothing_run(context.sealed, FailReason::DidNotBuild, Some(message))
}

/// What a command of a build came to, as it may be reported to the candidate.
pub fn said(context: &JudgeContext<'_>, outcome: &Outcome) -> String {
    context.doubts.note(outcome, context.limits.build_time);
    let text = if outcome.stderr.bytes.is_empty() { &outcome.stdout } else { &outcome.stderr };
    let said = String::from_utf8_lossy(&text.bytes);
    let message = match outcome.limit {
        Some(LimitHit::Memory) => "the compiler ran out of memory".to_owned(),
        Some(LimitHit::Output) => format!("the compiler wrote too much:\n{said}"),
        Some(_) => "the compiler ran out of time".to_owned(),
        None => said.into_owned(),
    };
    head_and_tail(&message, MESSAGE_MAX)
}
