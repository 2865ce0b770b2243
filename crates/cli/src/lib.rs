//! The command line of Fair Trial: arguments, progress, wiring, exit codes.
//!
//! [`run`] does the work of the whole program on what it is given; nothing else ends the process.
//! Exit codes: 0 done, 1 the answer is "no", 2 called wrongly, 3 something outside failed.

mod args;
mod commands;
mod errors;
mod progress;
mod streams;
mod surroundings;

use std::ffi::OsString;
use std::io::Write;
use std::process::ExitCode;

use clap::Parser as _;

use crate::args::{Args, Command};
pub use crate::errors::Failure;
use crate::streams::Quiet;
pub use crate::surroundings::Surroundings;

/// Runs the program with the process's own arguments and streams.
#[must_use]
pub fn main() -> ExitCode {
    if fairtrial_sandbox::is_stage() {
        return fairtrial_sandbox::stage_main();
    }
    let surroundings = Surroundings::of_process();
    let mut out = Quiet::output(std::io::stdout().lock());
    let mut err = Quiet::notes(std::io::stderr());
    run(std::env::args_os(), &surroundings, &mut out, &mut err)
}

/// Runs the program: `args` with the program's name first.
pub fn run(
    args: impl IntoIterator<Item = OsString>,
    surroundings: &Surroundings,
    out: &mut dyn Write,
    err: &mut dyn Write,
) -> ExitCode {
    let args = match Args::try_parse_from(args) {
        Ok(args) => args,
        Err(error) => return errors::print_usage(&error, surroundings, out, err),
    };
    let result = match args.command {
        Command::Demo(args) => commands::demo::run(&args, surroundings, out, err),
        Command::Run(args) => commands::run::run(&args, surroundings, out, err),
        Command::Standings(args) => commands::standings::run(&args, surroundings, out),
        Command::Show(args) => commands::show::run(&args, surroundings, out),
        Command::Regrade(args) => commands::regrade::run(&args, surroundings, out, err),
        Command::Doctor(args) => commands::doctor::run(&args, surroundings, out, err),
        Command::Vet(args) => commands::vet::run(&args, surroundings, out, err),
        Command::Standin(args) => commands::standin::run(&args, surroundings, out, err),
    };
    match result.and_then(|code| out.flush().map(|()| code).map_err(Failure::from)) {
        Ok(code) => ExitCode::from(code),
        Err(failure) => errors::print(&failure, surroundings, err),
    }
}
