//! `fairtrial doctor`: what this machine can confine, and which languages it can run.

use std::io::Write;
use std::path::Path;

use fairtrial_core::language::Languages;
use fairtrial_core::source::utf8;
use fairtrial_grading::{Judge, Toolbox, check, read_file};
use fairtrial_report::{DoctorView, LanguageView, LayerView, doctor_json, doctor_table};
use fairtrial_sandbox::{Demand, Layer, LayerState, Sandbox, Tier};

use crate::args::DoctorArgs;
use crate::environment::Environment;
use crate::errors::{DIFFERS, Failure};

/// The program that is the sandbox's helper: this one, started again.
const HELPER: &str = "/proc/self/exe";

/// Longest file of languages, in bytes.
const LANGUAGES_MAX: u64 = 16 << 20;

/// Opens the sandbox, tries every language in it, and writes what came of it. The exit code says
/// whether code can be confined.
pub fn run(
    args: &DoctorArgs,
    environment: &Environment,
    out: &mut dyn Write,
    err: &mut dyn Write,
) -> Result<u8, Failure> {
    let mut languages = Languages::shipped();
    for file in &args.languages {
        let bytes = read_file(file, LANGUAGES_MAX)?;
        let place = file.display().to_string();
        languages.add(&place, utf8(&place, &bytes)?)?;
    }
    let names: Vec<String> = match args.names.as_slice() {
        [] => languages.iter().map(|it| it.0.to_owned()).collect(),
        some => some.to_vec(),
    };
    if let Some(unknown) = names.iter().find(|name| languages.find(name).is_none()) {
        return Err(Failure::UnknownLanguage { name: unknown.clone(), known: languages.names() });
    }
    let sandbox = match Sandbox::open(Path::new(HELPER), Demand::Confined) {
        Ok(sandbox) => sandbox,
        Err(error) => {
            // Nothing is run: what would be, would not be confined.
            let doctor = DoctorView { tier: None, why: error.to_string(), ..DoctorView::default() };
            write(&doctor, args, environment, out)?;
            return Ok(DIFFERS);
        }
    };
    let mut doctor = DoctorView {
        tier: Some(sandbox.tier().word().to_owned()),
        why: sandbox.why_not_full().unwrap_or_default().to_owned(),
        layers: sandbox.layers().iter().map(finding).collect(),
        languages: Vec::new(),
    };
    let mut tools = Toolbox::find(&languages, names.iter().map(String::as_str), &sandbox);
    for name in &names {
        for runner in languages.find(name).into_iter().flat_map(|it| it.runners.keys()) {
            tools.find_runner(&languages, name, runner, &sandbox);
        }
    }
    let judge = Judge::new(languages.clone(), tools, sandbox);
    let on_terminal = environment.err_is_terminal();
    for name in &names {
        let Some(definition) = languages.find(name) else { continue };
        if on_terminal {
            write!(err, "\r\x1b[Ktrying {name} …")?;
            err.flush()?;
        }
        let checkup = check(&judge, name, definition);
        doctor.languages.push(LanguageView {
            language: checkup.language,
            tool: checkup.tool,
            trials: checkup.trials,
        });
    }
    if on_terminal {
        write!(err, "\r\x1b[K")?;
    }
    write(&doctor, args, environment, out)?;
    Ok(if judge.sandbox().tier() >= Tier::Plain { 0 } else { DIFFERS })
}

fn write(
    doctor: &DoctorView,
    args: &DoctorArgs,
    environment: &Environment,
    out: &mut dyn Write,
) -> Result<(), Failure> {
    if args.json {
        doctor_json(out, doctor)?;
    } else {
        doctor_table(out, doctor, environment.style())?;
    }
    Ok(())
}

fn finding(layer: &Layer) -> LayerView {
    LayerView {
        layer: layer.name.clone(),
        state: match layer.state {
            LayerState::Active => "active",
            LayerState::Partly => "partly",
            LayerState::Missing => "missing",
        },
        found: layer.found.clone(),
        advice: layer.advice.clone(),
    }
}
