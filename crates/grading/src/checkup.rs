//! Whether a language can be built, run, called and tested on this machine: by doing it.

use std::fmt::Write as _;
use std::time::{Duration, Instant};

use fairtrial_core::language::{LanguageDefinition, TestRunner};
use fairtrial_core::limits::{Bytes, Limits};
use fairtrial_core::tree::{FileTree, RelPath};

use crate::docket::Docket;
use crate::judge::Judge;

/// What was tried for a language.
#[derive(Debug, Clone, PartialEq)]
pub struct Checkup {
    /// The language.
    pub language: String,
    /// The tool's version, or why there is none.
    pub tool: Result<String, String>,
    /// What was tried, by name: a whole program, single calls, each runner.
    pub trials: Vec<(String, Result<Duration, String>)>,
}

/// What a sample may use: compilers are slow on a machine that is busy.
const LIMITS: Limits = Limits {
    time: Duration::from_secs(60),
    memory: Bytes::mib(2048),
    output: Bytes::mib(4),
    processes: 256,
    disk: Bytes::mib(64),
    build_time: Duration::from_secs(120),
    build_memory: Bytes::mib(2048),
    build_disk: Bytes::mib(256),
    patch: Bytes::mib(16),
};

/// Tries a language.
#[must_use]
pub fn check(judge: &Judge, language: &str, definition: &LanguageDefinition) -> Checkup {
    let tool = match judge.tools().get(language) {
        Ok(tool) => Ok(tool.version.clone()),
        Err(missing) => Err(missing.why),
    };
    let mut trials = Vec::new();
    if tool.is_ok() {
        let file = file_of(definition, "main");
        if !definition.sample.is_empty() {
            let sealed = [("cases.jsonl", "{\"stdout\": \"fair\\n\"}")];
            let table = format!("[program]\nfile = \"{file}\"\n");
            let answer = [(file.as_str(), definition.sample.as_str())];
            trials.push((
                "program".into(),
                run_tests(judge, language, "program", &table, &sealed, &answer),
            ));
        }
        if !definition.sample_call.is_empty() {
            let sealed = [("calls.jsonl", "{\"args\": [7], \"returns\": 7}")];
            let table = format!("[call]\nfile = \"{file}\"\nname = \"same\"\n");
            let answer = [(file.as_str(), definition.sample_call.as_str())];
            trials.push((
                "call".into(),
                run_tests(judge, language, "call", &table, &sealed, &answer),
            ));
        }
        for (name, runner) in &definition.runners {
            if let Some(result) = check_runner(judge, language, name, runner) {
                trials.push((name.clone(), result));
            }
        }
    }
    Checkup { language: language.to_owned(), tool, trials }
}

fn file_of(definition: &LanguageDefinition, stem: &str) -> String {
    format!("{stem}.{}", definition.extensions.first().map_or("txt", String::as_str))
}

fn check_runner(
    judge: &Judge,
    language: &str,
    name: &str,
    runner: &TestRunner,
) -> Option<Result<Duration, String>> {
    let sample = runner.sample.as_ref()?;
    if let Err(missing) = judge.tools().runner(language, name) {
        return Some(Err(missing.why));
    }
    let list = format!("{}\n", sample.name);
    let sealed = [(sample.test.as_str(), sample.code.as_str()), ("tests.list", list.as_str())];
    let table = format!("[tests]\nfile = \"{}\"\nrunner = \"{name}\"\n", sample.file);
    let answer = [(sample.file.as_str(), sample.answer.as_str())];
    Some(run_tests(judge, language, "tests", &table, &sealed, &answer))
}

/// Judges an answer to a task that is made for it, and says how long that took.
fn run_tests(
    judge: &Judge,
    language: &str,
    form: &str,
    table: &str,
    sealed: &[(&str, &str)],
    answer: &[(&str, &str)],
) -> Result<Duration, String> {
    let brief = format!(
        "+++\ntitle = \"Checkup\"\nform = \"{form}\"\nlanguage = \"{language}\"\n\
         category = \"checkup\"\ndifficulty = 1\n{table}+++\nSay fair.\n"
    );
    let mut files = FileTree::new();
    let mut put = |path: &str, text: &str| {
        if let Ok(path) = RelPath::parse(path) {
            files.insert(path, text.as_bytes().to_vec());
        }
    };
    put("docket.toml", "title = \"Checkup\"\n");
    put("checkup/brief.md", &brief);
    for (path, text) in sealed {
        put(&format!("checkup/sealed/{path}"), text);
    }
    let docket = Docket::parse("checkup", &files.into(), judge.languages());
    let docket = docket.map_err(|error| error.to_string())?;
    let pairs = answer
        .iter()
        .filter_map(|(path, text)| Some((RelPath::parse(path).ok()?, text.as_bytes().to_vec())));
    let began = Instant::now();
    let judged = judge.judge_files(&docket.tasks[0], &pairs.collect(), LIMITS, false);
    if judged.verdict.is_pass() {
        return Ok(began.elapsed());
    }
    let mut why = judged.verdict.to_string();
    let of_test = || judged.tests.first().map(|it| format!("{}\n{}", it.summary, it.found));
    let said = judged.message.or_else(|| judged.notes.first().cloned()).or_else(of_test);
    let said = said.unwrap_or_default();
    for line in said.lines().filter(|line| !line.trim().is_empty()).take(2) {
        let _ = write!(why, "; {}", line.trim());
    }
    Err(why)
}
