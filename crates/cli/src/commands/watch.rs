//! `fairtrial watch`: how far a run is that goes on elsewhere.

use std::io::Write;
use std::path::Path;
use std::thread;
use std::time::Duration;

use fairtrial_record::is_being_written;
use fairtrial_report::safe;

use crate::args::WatchArgs;
use crate::environment::Environment;
use crate::errors::Failure;
use crate::progress::status_lines;
use crate::signals::StopSignal;
use crate::status::RunStatus;

/// How often is looked.
const PAUSE: Duration = Duration::from_millis(500);

/// Shows how far a run is, until it is over or the one who watches has seen enough.
pub fn run(
    args: &WatchArgs,
    environment: &Environment,
    out: &mut dyn Write,
) -> Result<u8, Failure> {
    let record = args.record.as_path();
    let mut status = read(record)?;
    if args.json {
        serde_json::to_writer_pretty(&mut *out, &status).map_err(std::io::Error::from)?;
        writeln!(out)?;
        return Ok(0);
    }
    let style = environment.style();
    let lives = args.once || !environment.out_is_terminal();
    if lives {
        return show(out, &status, record, style.width);
    }
    let (stop, terminal) = (StopSignal::new(), console::Term::stdout());
    let mut drawn = 0;
    while !stop.flag().load(std::sync::atomic::Ordering::Relaxed) {
        let lines = status_lines(&status, style.width);
        let _ = terminal.clear_last_lines(drawn);
        drawn = lines.len();
        for line in &lines {
            writeln!(out, "{line}")?;
        }
        out.flush()?;
        if status.over || !is_being_written(record)? {
            break;
        }
        thread::sleep(PAUSE);
        status = read(record)?;
    }
    let _ = terminal.clear_last_lines(drawn);
    show(out, &status, record, style.width)
}

fn show(
    out: &mut dyn Write,
    status: &RunStatus,
    record: &Path,
    width: usize,
) -> Result<u8, Failure> {
    for line in status_lines(status, width) {
        writeln!(out, "{line}")?;
    }
    let folder = record.display().to_string();
    match (status.over, is_being_written(record)?) {
        (false, true) => {}
        (true, _) => writeln!(out, "the run is over: fairtrial standings {}", safe(&folder))?,
        (false, false) => writeln!(
            out,
            "nobody writes to it any more, and the run had not come to its end: the last word is from {}",
            safe(&status.at)
        )?,
    }
    Ok(0)
}

fn read(record: &Path) -> Result<RunStatus, Failure> {
    let failed =
        |source| Failure::File { what: "read the progress in", path: record.to_owned(), source };
    match RunStatus::read(record).map_err(failed)? {
        Some(status) => Ok(status),
        None => Err(Failure::NoRun(record.to_owned())),
    }
}
