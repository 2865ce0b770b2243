//! `fairtrial regrade`: judges the recorded answers again.

use std::io::Write;

use fairtrial_record::{Record, Selection};
use fairtrial_report::{regrade_json, regrade_table};
use fairtrial_runner::{RegradeOptions, regrade};

use crate::args::RegradeArgs;
use crate::bars::BarRows;
use crate::commands::run::{Readiness, with_prepare_options};
use crate::environment::Environment;
use crate::errors::{DIFFERS, Failure, OUTSIDE};
use crate::progress::RegradeLines;
use crate::signals::StopSignal;

/// Judges, adds the grading to the record, and writes where it differs from the first verdicts.
pub fn run(
    args: &RegradeArgs,
    environment: &Environment,
    out: &mut dyn Write,
    err: &mut dyn Write,
) -> Result<u8, Failure> {
    let options = RegradeOptions {
        dockets: args.docket.clone(),
        languages: args.languages.clone(),
        judging: std::thread::available_parallelism().map_or(1, usize::from),
    };
    let mut lines = match environment.err_is_terminal() {
        true => {
            let record = Record::open(&args.record)?;
            let names = record.manifest().plan.candidates.iter().map(|it| it.name());
            let columns = environment.err_columns();
            RegradeLines::Bars(BarRows::new(names, environment.err_colour(), columns))
        }
        false => RegradeLines::Plain(err, None),
    };
    let stop = StopSignal::new();
    let readiness = Readiness { trust_code: args.trust_code, fresh: false };
    let regraded = with_prepare_options(readiness, environment, |prepare| {
        regrade(&args.record, &options, prepare, stop.flag(), &mut |it| lines.progress(it))
    })?;
    drop(lines);
    let record = Record::open(&args.record)?;
    let gradings = record.gradings(&Selection::default())?;
    let Some(grading) = gradings.iter().find(|it| it.id == regraded.grading) else {
        return Ok(0);
    };
    if args.json {
        regrade_json(out, grading)?;
    } else {
        regrade_table(out, grading, environment.style())?;
    }
    out.flush()?;
    writeln!(err, "record: {}", args.record.display())?;
    if regraded.stopped {
        let (done, wanted) = (grading.answers.len(), regraded.wanted);
        writeln!(err, "stopped: {done} of {wanted} answers were judged again")?;
        return Ok(stop.exit_code().unwrap_or(OUTSIDE));
    }
    let same = grading.answers.iter().all(|it| it.cause.is_none());
    Ok(if same { 0 } else { DIFFERS })
}
