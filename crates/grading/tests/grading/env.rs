//! What the tests of this folder share.

use std::collections::BTreeMap;
use std::path::PathBuf;
use std::sync::Mutex;

use fairtrial_core::judgement::Judgement;
use fairtrial_core::language::Languages;
use fairtrial_core::tree::{FileTree, RelPath};
use fairtrial_core::verdict::{FailReason, Verdict};
use fairtrial_grading::{Docket, Judge, PosedTask, Toolbox, limits_of};
use fairtrial_sandbox::{Demand, Sandbox};

pub const PASS: Verdict = Verdict::Pass;

pub fn fail(reason: FailReason) -> Verdict {
    Verdict::Fail(reason)
}

pub fn tree(files: &[(&str, &str)]) -> FileTree {
    files
        .iter()
        .map(|(path, text)| (RelPath::parse(path).unwrap(), text.as_bytes().to_vec()))
        .collect()
}

/// Tells a program that was started again where the helper is.
pub const HELPER: &str = "GRADING_HELPER";

pub fn helper() -> PathBuf {
    let given = std::env::var_os(HELPER).map(PathBuf::from);
    given.unwrap_or_else(|| env!("CARGO_BIN_EXE_grading-helper").into())
}

pub fn sandbox() -> Sandbox {
    Sandbox::open(&helper(), Demand::Confined).unwrap()
}

/// A task that is made on the spot.
#[derive(Clone, Default)]
pub struct TestTask<'a> {
    pub form: &'a str,
    pub language: &'a str,
    pub file: &'a str,
    /// Lines at the head of the brief.
    pub head: &'a str,
    /// Lines of the form's table.
    pub table: &'a str,
    /// Files below `sealed/`.
    pub sealed: &'a [(&'a str, &'a str)],
    /// Seconds of processor time; 0 for one.
    pub time: u32,
    /// Size of the work folder; empty for the built-in one.
    pub disk: &'a str,
}

impl TestTask<'_> {
    /// Judges an answer.
    pub fn judge(&self, answer: &[(&str, &str)]) -> Judgement {
        let TestTask { form, language, file, head, table, sealed, time, disk } = self;
        let disk = if disk.is_empty() { String::new() } else { format!("disk = \"{disk}\"\n") };
        let (time, memory) = ((*time).max(1), if *time > 1 { 1024 } else { 192 });
        let brief = format!(
            "+++\ntitle = \"T\"\nform = \"{form}\"\nlanguage = \"{language}\"\ncategory = \"c\"\n\
             difficulty = 1\n{head}\n[{form}]\nfile = \"{file}\"\n{table}\n[limits]\ntime = {time}\n\
             memory = {memory}\nprocesses = 96\n{disk}+++\nDo it.\n"
        );
        let sealed: Vec<(String, &str)> =
            sealed.iter().map(|(path, text)| (format!("t/sealed/{path}"), *text)).collect();
        let mut files = vec![
            ("docket.toml", "title = \"D\""),
            ("t/brief.md", brief.as_str()),
            ("t/given/depths.txt", "3\n5\n"),
        ];
        files.extend(sealed.iter().map(|(path, text)| (path.as_str(), *text)));
        let languages = Languages::shipped();
        let docket = Docket::parse("d", &tree(&files).into(), &languages).unwrap();
        let task = &docket.tasks[0];
        let sandbox = sandbox();
        let tools = tools_of(task, &languages, &sandbox);
        let limits = limits_of(&languages, &docket.settings, task, &Default::default());
        Judge::new(languages, tools, sandbox).judge_files(task, &tree(answer), limits, false)
    }
}

/// The tools of a task. Those of a language, runner and packages are looked for once.
fn tools_of(task: &PosedTask, languages: &Languages, sandbox: &Sandbox) -> Toolbox {
    static FOUND: Mutex<BTreeMap<String, Toolbox>> = Mutex::new(BTreeMap::new());
    let runner = task.form.runner();
    let key = format!("{} {runner:?} {:?}", task.task.language, task.task.packages);
    if let Some(known) = FOUND.lock().unwrap().get(&key) {
        return known.clone();
    }
    let language = task.task.language.as_str();
    let names = task.languages(languages);
    let mut tools = Toolbox::find(languages, names.into_iter(), sandbox);
    tools.get(language).unwrap();
    if let Some(runner) = runner {
        tools.find_runner(languages, language, runner, sandbox);
        tools.runner(language, runner).unwrap();
    }
    tools.find_packages(languages, task, runner, sandbox);
    FOUND.lock().unwrap().insert(key, tools.clone());
    tools
}

/// Judges an answer to a task of calls or cases.
pub fn judge(
    form: &str,
    language: &str,
    file: &str,
    sealed: &str,
    answer: &[(&str, &str)],
) -> Judgement {
    let (table, lines) =
        if form == "call" { ("name = \"f\"", "calls.jsonl") } else { ("", "cases.jsonl") };
    let sealed = &[(lines, sealed)];
    TestTask { form, language, file, table, sealed, ..TestTask::default() }.judge(answer)
}

pub fn python(sealed: &str, code: &str) -> Judgement {
    judge("call", "python", "a.py", sealed, &[("a.py", code)])
}

pub fn javascript(sealed: &str, code: &str) -> Judgement {
    judge("call", "javascript", "a.js", sealed, &[("a.js", code)])
}
