//! `fairtrial files`: what an attempt made of the files, in a folder.

use std::io::Write;

use fairtrial_report::safe;
use fairtrial_runner::{FilesOptions, attempt_files};
use fairtrial_worktree::write_tree;

use crate::args::FilesArgs;
use crate::commands::run::{Readiness, with_prepare_options};
use crate::environment::Environment;
use crate::errors::Failure;

/// Lays the files out.
pub fn run(
    args: &FilesArgs,
    environment: &Environment,
    err: &mut dyn Write,
) -> Result<u8, Failure> {
    let options = FilesOptions {
        trial: args.trial,
        attempt: args.attempt,
        dockets: args.docket.clone(),
        languages: args.languages.clone(),
    };
    let readiness = Readiness { trust_code: args.trust_code, fresh: false };
    let tree = with_prepare_options(readiness, environment, |prepare| {
        attempt_files(&args.record, &options, prepare)
    })?;
    let failed =
        |source| Failure::File { what: "lay out the files in", path: args.into.clone(), source };
    let left_out = write_tree(&tree, &args.into).map_err(failed)?;
    for path in &left_out {
        writeln!(
            err,
            "left out: the link `{}`, which may lead elsewhere",
            safe(&path.to_string())
        )?;
    }
    writeln!(err, "{} files are in {}", tree.len() - left_out.len(), args.into.display())?;
    Ok(0)
}
