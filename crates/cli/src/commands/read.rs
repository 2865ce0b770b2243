//! `fairtrial read`: how a text would be read as an answer.

use std::fs::File;
use std::io::{self, Read as _, Write};
use std::path::Path;

use fairtrial_core::answer::AnswerEnd;
use fairtrial_report::{ReadingView, reading_json, reading_text};
use fairtrial_runner::{ReadOptions, read_text};

use crate::args::ReadArgs;
use crate::commands::run::{Readiness, with_prepare_options};
use crate::environment::Environment;
use crate::errors::{DIFFERS, Failure};

/// Longest text that is read, in bytes; answers of hosts are no longer.
const TEXT_MAX: u64 = 16 << 20;

/// Reads the text, and writes what its blocks were taken for.
pub fn run(args: &ReadArgs, environment: &Environment, out: &mut dyn Write) -> Result<u8, Failure> {
    let failed = |source| Failure::File { what: "read", path: args.file.clone(), source };
    let options = ReadOptions {
        task: args.task.clone(),
        text: text(&args.file).map_err(failed)?,
        end: if args.cut_off { AnswerEnd::CutOff } else { AnswerEnd::Complete },
        languages: args.languages.clone(),
    };
    let readiness = Readiness { trust_code: args.trust_code, fresh: false };
    let found =
        with_prepare_options(readiness, environment, |prepare| read_text(&options, prepare))?;
    let view = ReadingView {
        source: match args.file == Path::new("-") {
            true => "standard input".to_owned(),
            false => args.file.display().to_string(),
        },
        task: found.task,
        language: found.language,
        reading: found.reading,
    };
    if args.json {
        reading_json(out, &view)?;
    } else {
        reading_text(out, &view, environment.style())?;
    }
    let is_taken =
        if args.strict { view.reading.strict().is_some() } else { view.reading.lenient.is_ok() };
    Ok(if is_taken { 0 } else { DIFFERS })
}

fn text(file: &Path) -> io::Result<String> {
    let mut bytes = Vec::new();
    let most = TEXT_MAX + 1;
    if file == Path::new("-") {
        io::stdin().lock().take(most).read_to_end(&mut bytes)?;
    } else {
        File::open(file)?.take(most).read_to_end(&mut bytes)?;
    }
    if bytes.len() as u64 > TEXT_MAX {
        return Err(io::Error::other(format!("it is longer than {} MiB", TEXT_MAX >> 20)));
    }
    Ok(String::from_utf8_lossy(&bytes).into_owned())
}
