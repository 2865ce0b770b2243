//! The command line of Fair Trial: arguments, progress, wiring, exit codes.
//!
//! [`run`] does the work of the whole program on what it is given; nothing else ends the process.
//! Exit codes: 0 done, 1 the answer is "no", 2 called wrongly, 3 something outside failed.

mod args;
mod bars;
mod commands;
mod environment;
mod errors;
mod event_log;
mod progress;
mod signals;
mod status;
mod streams;
mod watchers;

use std::ffi::OsString;
use std::io::Write;
use std::process::ExitCode;

use clap::Parser as _;

use crate::args::{Args, Command};
pub use crate::environment::Environment;
pub use crate::errors::Failure;
use crate::streams::Quiet;

/// Runs the program with the process's own arguments and streams.
#[must_use]
pub fn main() -> ExitCode {
    if fairtrial_sandbox::is_helper() {
        return fairtrial_sandbox::helper_main();
    }
    if fairtrial_candidates::is_acp_client() {
        return fairtrial_candidates::acp_client_main();
    }
    if fairtrial_candidates::is_leash() {
        return fairtrial_candidates::leash_main();
    }
    let environment = Environment::of_process();
    let mut out = Quiet::output(std::io::stdout().lock());
    let mut err = Quiet::notes(std::io::stderr());
    run(std::env::args_os(), &environment, &mut out, &mut err)
}

/// Runs the program: `args` with the program's name first.
pub fn run(
    args: impl IntoIterator<Item = OsString>,
    environment: &Environment,
    out: &mut dyn Write,
    err: &mut dyn Write,
) -> ExitCode {
    let args = match Args::try_parse_from(args) {
        Ok(args) => args,
        Err(error) => return errors::print_usage(&error, environment, out, err),
    };
    let result = match args.command {
        Command::Demo(args) => commands::demo::run(&args, environment, out, err),
        Command::Run(args) => commands::run::run(&args, environment, out, err),
        Command::Forecast(args) => commands::forecast::run(&args, environment, out, err),
        Command::Watch(args) => commands::watch::run(&args, environment, out),
        Command::Standings(args) => commands::standings::run(&args, environment, out),
        Command::Compare(args) => commands::compare::run(&args, environment, out),
        Command::Report(args) => commands::report::run(&args, out, err),
        Command::Gate(args) => commands::gate::run(&args, environment, out, err),
        Command::Show(args) => commands::show::run(&args, environment, out),
        Command::Read(args) => commands::read::run(&args, environment, out),
        Command::Files(args) => commands::files::run(&args, environment, err),
        Command::Note(args) => commands::note::run(&args, err),
        Command::Regrade(args) => commands::regrade::run(&args, environment, out, err),
        Command::Doctor(args) => commands::doctor::run(&args, environment, out, err),
        Command::Vet(args) => commands::vet::run(&args, environment, out, err),
        Command::Standin(args) => commands::standin::run(&args, environment, out, err),
    };
    match result.and_then(|code| out.flush().map(|()| code).map_err(Failure::from)) {
        Ok(code) => ExitCode::from(code),
        Err(failure) => errors::print(&failure, environment, err),
    }
}
