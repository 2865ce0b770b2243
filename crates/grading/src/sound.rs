//! Does an answer parse or build as it stands? Asked only of one that could be mended.

use fairtrial_core::docket::Proceedings;
use fairtrial_core::tree::FileTree;
use fairtrial_sandbox::{Archive, Ending};

use crate::bench::{Bench, JudgeError};
use crate::build::{Builds, Built, build};
use crate::call;

/// Whether the answer's file parses, or, where its language has no command for that, builds.
pub fn is_sound(bench: &Bench<'_>, builds: &Builds, files: &FileTree) -> Result<bool, JudgeError> {
    if !bench.recipe.parse.is_empty() {
        let layer = Archive::of(files)?;
        let job = bench.job(&bench.recipe.parse, bench.build_caps(), vec![&layer]);
        let outcome = bench.sandbox.run(&job)?;
        return Ok(outcome.limit.is_none() && outcome.ending == Ending::Exited(0));
    }
    let built = match &bench.task.proceedings {
        Proceedings::Call { settings, examples, .. } => {
            call::build_for(bench, builds, settings, &examples.iter().collect::<Vec<_>>(), files)?
        }
        Proceedings::Program { .. } => build(bench, builds, &bench.recipe.build, files)?,
        Proceedings::Tests { settings, .. } => {
            let runner = bench.recipe.runners.get(&settings.runner);
            return match runner {
                Some(runner) => Ok(crate::unit::check(bench, settings, runner, files)?.is_none()),
                None => Ok(true),
            };
        }
    };
    Ok(matches!(built, Built::Ready(_)))
}
