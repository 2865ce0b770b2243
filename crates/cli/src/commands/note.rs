//! `fairtrial note`: that a person helped with a trial.

use std::io::Write;

use fairtrial_record::{Record, Selection};

use crate::args::NoteArgs;
use crate::commands::show::no_such_trial;
use crate::errors::Failure;

/// Writes the note into the record.
pub fn run(args: &NoteArgs, err: &mut dyn Write) -> Result<u8, Failure> {
    let how = args.text.as_deref().map(str::trim);
    if how.is_some_and(str::is_empty) {
        return Err(Failure::EmptyNote);
    }
    // What is not there is not opened for writing either.
    let selection = Selection { number: Some(args.trial), ..Selection::default() };
    let looked = Record::open(&args.record)?;
    let Some(trial) = looked.summaries(&selection)?.pop() else {
        return Err(no_such_trial(&looked, &args.record, args.trial)?);
    };
    drop(looked);
    Record::open_to_add(&args.record)?.set_helped(&trial.key, how)?;
    let said = if how.is_some() { "helped by a person" } else { "helped by nobody" };
    writeln!(err, "trial {} is noted as {said}", args.trial)?;
    Ok(0)
}
