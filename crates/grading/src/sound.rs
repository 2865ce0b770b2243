//! Does an answer parse or build as it stands? Asked only of one that could be mended.

use fairtrial_core::docket::Proceedings;
use fairtrial_core::tree::FileTree;
use fairtrial_sandbox::{Archive, Ending};

use crate::build::{Builds, Built, build};
use crate::call;
use crate::context::{JudgeContext, JudgeError};

/// Whether the answer's file parses, or, where its language has no command for that, builds.
pub fn is_sound(
    context: &JudgeContext<'_>,
    builds: &Builds,
    files: &FileTree,
) -> Result<bool, JudgeError> {
    if !context.definition.parse.is_empty() {
        let layer = Archive::of(files)?;
        let job = context.job(&context.definition.parse, context.build_caps(), vec![&layer]);
        let outcome = context.sandbox.run(&job)?;
        return Ok(outcome.limit.is_none() && outcome.ending == Ending::Exited(0));
    }
    let built = match &context.task.proceedings {
        Proceedings::Call { settings, examples, .. } => {
            call::build_for(context, builds, settings, &examples.iter().collect::<Vec<_>>(), files)?
        }
        Proceedings::Program { .. } => build(context, builds, &context.definition.build, files)?,
        Proceedings::Tests { settings, .. } => {
            let runner = context.definition.runners.get(&settings.runner);
            return match runner {
                Some(runner) => Ok(crate::unit::check(context, settings, runner, files)?.is_none()),
                None => Ok(true),
            };
        }
    };
    Ok(matches!(built, Built::Ready(_)))
}
