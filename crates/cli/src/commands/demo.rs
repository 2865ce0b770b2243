//! `fairtrial demo`: a complete example, on data that ships with the program.

use std::fs;
use std::io::Write;
use std::path::{Path, PathBuf};

use fairtrial_core::language::Languages;
use fairtrial_grading::read_docket;
use fairtrial_standin::{StandinServer, shipped_models, start};
use include_dir::{Dir, include_dir};

use crate::args::DemoArgs;
use crate::commands::report::write_page;
use crate::commands::run::{Readiness, RunManner, prepared, run_all};
use crate::environment::Environment;
use crate::errors::Failure;

/// The demo's docket and plan.
static DEMO: Dir<'_> = include_dir!("$CARGO_MANIFEST_DIR/../../demo");

/// Lays out the demo, serves the simulated models, runs the plan, and says where to look next.
pub fn run(
    args: &DemoArgs,
    environment: &Environment,
    out: &mut dyn Write,
    err: &mut dyn Write,
) -> Result<u8, Failure> {
    let folder = &args.out;
    prepare(folder, args.seed)?;
    let plan = folder.join("plan.toml");
    let readiness = Readiness { trust_code: args.trust_code, fresh: false };
    let mut preparation = prepared(&plan, readiness, environment)?;
    let docket = read_docket(&folder.join("docket"), &Languages::shipped())?;
    let standin = StandinServer {
        models: shipped_models(),
        tasks: docket.tasks.into_iter().map(|it| it.task).collect(),
        seed: preparation.plan.seed,
        key: None,
    };
    let models = standin.models.len();
    let handle = start(standin, 0, None)?;
    preparation.redirect(&handle.endpoint())?;
    writeln!(err, "{models} simulated models answer at {}", handle.endpoint())?;
    let record = folder.join("record");
    let code = run_all(&preparation, &record, RunManner::default(), environment, out, err)?;
    let page = folder.join("report.html");
    write_page(&record, &page)?;
    writeln!(out, "\nA page to look at: {}", page.display())?;
    let (shown, record) = (folder.display(), record.display());
    let program = environment.program();
    writeln!(
        out,
        "\nLook next:\n  {program} standings {record} --by category\n  {program} compare {record} \
         guillemot petrel\n  {program} show {record} --task tide-windows --candidate puffin\nRun it \
         yourself, in two terminals:\n  {program} standin {shown}/docket\n  {program} run \
         {shown}/plan.toml --record {shown}/my-record"
    )?;
    Ok(code)
}

/// Writes the demo's files. A folder that holds anything else is left alone; a file that is there
/// already is kept as the user has it.
fn prepare(folder: &Path, seed: Option<u64>) -> Result<(), Failure> {
    let known = ["agents", "docket", "plan.toml", "record", "my-record", "report.html"];
    if let Ok(entries) = fs::read_dir(folder) {
        for entry in entries.flatten() {
            if !known.iter().any(|name| entry.file_name() == *name) {
                return Err(Failure::OutTaken(folder.to_owned()));
            }
        }
    }
    write_folder(&DEMO, folder, seed)
}

fn write_folder(from: &Dir<'_>, to: &Path, seed: Option<u64>) -> Result<(), Failure> {
    let failed = |path: PathBuf| move |source| Failure::File { what: "write", path, source };
    fs::create_dir_all(to).map_err(failed(to.to_owned()))?;
    for dir in from.dirs() {
        let name = dir.path().file_name().unwrap_or_default();
        write_folder(dir, &to.join(name), seed)?;
    }
    for file in from.files() {
        let path = to.join(file.path().file_name().unwrap_or_default());
        if path.exists() {
            continue;
        }
        let mut bytes = file.contents().to_vec();
        if let (Some(seed), true) = (seed, path.ends_with("plan.toml"))
            && let Ok(text) = std::str::from_utf8(&bytes)
        {
            bytes = with_seed(text, seed).into_bytes();
        }
        fs::write(&path, bytes).map_err(failed(path.clone()))?;
    }
    Ok(())
}

fn with_seed(plan: &str, seed: u64) -> String {
    let line = |line: &str| {
        if line.starts_with("seed = ") { format!("seed = {seed}\n") } else { format!("{line}\n") }
    };
    plan.lines().map(line).collect()
}
