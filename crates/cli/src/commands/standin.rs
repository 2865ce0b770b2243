//! `fairtrial standin`: simulated models on loopback.

use std::fs::{self, OpenOptions};
use std::io::Write;
use std::path::Path;

use fairtrial_core::language::Languages;
use fairtrial_grading::read_docket;
use fairtrial_standin::{Log, StandinServer, parse_models, shipped_models, start};

use crate::args::StandinArgs;
use crate::environment::Environment;
use crate::errors::Failure;

/// Serves until the process is ended.
pub fn run(
    args: &StandinArgs,
    environment: &Environment,
    out: &mut dyn Write,
    err: &mut dyn Write,
) -> Result<u8, Failure> {
    let docket = read_docket(&args.docket, &Languages::shipped())?;
    let models = match &args.models {
        None => shipped_models(),
        Some(path) => {
            let text = fs::read_to_string(path).map_err(|source| Failure::File {
                what: "read",
                path: path.clone(),
                source,
            })?;
            parse_models(&path.display().to_string(), &text)?
        }
    };
    let key = match &args.key_env {
        None => None,
        Some(name) => match environment.variable(name) {
            Some(key) => Some(key),
            None => return Err(Failure::NoVariable(name.clone())),
        },
    };
    let log = args.log.as_deref().map(open_log).transpose()?;
    let names = models.iter().map(|it| it.name.clone()).collect::<Vec<_>>().join(", ");
    let handle = start(
        StandinServer {
            models,
            tasks: docket.tasks.into_iter().map(|it| it.task).collect(),
            seed: args.seed,
            key,
        },
        args.port,
        log,
    )?;
    writeln!(out, "{}", handle.endpoint())?;
    out.flush()?;
    writeln!(err, "serving {names}; interrupt to end")?;
    handle.wait();
    Ok(0)
}

fn open_log(path: &Path) -> Result<Log, Failure> {
    let file = OpenOptions::new().create(true).append(true).open(path);
    let failed = |source| Failure::File { what: "open", path: path.to_owned(), source };
    Ok(Box::new(file.map_err(failed)?))
}
