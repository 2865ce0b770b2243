//! Answers of many shapes, and what is read of them: all that is in `answers/`, as data.

#![expect(clippy::unwrap_used, reason = "a test may stop at the first thing that is wrong")]

#[path = "../../sandbox/tests/support/needs.rs"]
mod needs;

use std::collections::{BTreeMap, HashMap};
use std::fmt::Write as _;
use std::path::Path;
use std::process::{Command, Stdio};
use std::sync::atomic::{AtomicUsize, Ordering};
use std::sync::{Mutex, OnceLock};

use fairtrial_core::answer::{
    AnswerEnd, Reading, Role, SoundCheck, Unchecked, Wanted, WantedKind, read_answer,
};
use fairtrial_core::language::{Languages, fill};
use fairtrial_core::tree::{FileTree, RelPath};
use proptest::prelude::*;
use serde::Deserialize;

#[derive(Deserialize)]
struct Programs {
    program: Vec<Program>,
}

#[derive(Default, Deserialize)]
#[serde(deny_unknown_fields)]
struct Program {
    language: String,
    form: String,
    #[serde(default)]
    name: String,
    file: String,
    tag: String,
    comment: String,
    code: String,
    draft: String,
    usage: String,
    tests: String,
    stub: String,
    elided: String,
    imports: String,
    rest: String,
    helper: String,
    run: String,
    other_tag: String,
    other: String,
    broken: String,
}

#[derive(Deserialize)]
struct Shapes {
    shape: Vec<Shape>,
}

#[derive(Deserialize)]
struct Shape {
    name: String,
    text: String,
    reads: Option<String>,
    reason: Option<String>,
    deviations: Option<Vec<String>>,
    roles: Option<Vec<Role>>,
    #[serde(default)]
    further: Vec<String>,
    given: Option<String>,
    gaps: Option<bool>,
    #[serde(default)]
    only: Vec<String>,
    #[serde(default)]
    except: Vec<String>,
}

impl Program {
    fn is_named(&self, list: &[String]) -> bool {
        let both = format!("{} {}", self.language, self.form);
        list.iter().any(|it| *it == self.language || *it == self.form || *it == both)
    }

    fn kind(&self) -> WantedKind {
        match self.form.as_str() {
            "call" => WantedKind::Definition(self.name.clone()),
            "program" => WantedKind::Program,
            "tests" => WantedKind::Module,
            form => panic!("no form: {form}"),
        }
    }

    /// Fills the `{…}` places of a text.
    fn fill(&self, text: &str) -> String {
        let each = |make: &dyn Fn(&str) -> String| {
            self.code.lines().map(|line| make(line) + "\n").collect::<String>()
        };
        let mut number = 0;
        let numbered: String = self
            .code
            .lines()
            .map(|line| {
                number += 1;
                format!("{number:>3} | {line}\n")
            })
            .collect();
        let json = |value: serde_json::Value| value.to_string();
        let (code, file) = (&self.code, &self.file);
        let lines = code.lines().count();
        let curled = code
            .replacen('"', "\u{201c}", 1)
            .replacen('"', "\u{201d}", 1)
            .replace('\'', "\u{2019}");
        let arguments = json(serde_json::json!({ "path": file, "content": code }));
        let values: Vec<(&str, String)> = vec![
            ("{code}", code.clone()),
            ("{code_open}", code.trim_end().to_owned()),
            (
                "{code_in_list}",
                each(&|it| if it.is_empty() { String::new() } else { format!("   {it}") }),
            ),
            ("{crlf}", code.replace('\n', "\r\n")),
            (
                "{html}",
                code.replace('&', "&amp;")
                    .replace('<', "&lt;")
                    .replace('>', "&gt;")
                    .replace('"', "&quot;"),
            ),
            ("{quoted}", format!("> ```{}\n{}> ```\n", self.tag, each(&|it| format!("> {it}")))),
            (
                "{indented}",
                each(&|it| if it.is_empty() { String::new() } else { format!("    {it}") }),
            ),
            ("{numbered}", numbered),
            (
                "{prompted}",
                each(&|it| {
                    if it.starts_with(' ') { format!("... {it}") } else { format!(">>> {it}") }
                }),
            ),
            ("{coloured}", each(&|it| format!("\u{1b}[1m{it}\u{1b}[0m"))),
            ("{spaced}", code.replace("    ", "\u{a0}\u{a0}\u{a0} ")),
            ("{curled}", curled),
            ("{json}", json(serde_json::json!({ "language": self.tag, "code": code }))),
            (
                "{json_files}",
                json(serde_json::json!({ "files": [
                { "path": "notes.txt", "content": "alfa\nbravo\n" }, { "path": file, "content": code }] })),
            ),
            (
                "{json_call}",
                json(
                    serde_json::json!([{ "function": { "name": "write_file", "arguments": arguments } }]),
                ),
            ),
            ("{last}", format!("{},1", lines + 2)),
            ("{before_last}", format!("{},0", lines)),
            ("{draft}", self.draft.clone()),
            ("{usage}", self.usage.clone()),
            ("{tests}", self.tests.clone()),
            ("{stub}", self.stub.clone()),
            ("{elided}", self.elided.clone()),
            ("{imports}", self.imports.clone()),
            ("{rest}", self.rest.clone()),
            ("{helper}", self.helper.clone()),
            ("{broken}", self.broken.clone()),
            ("{other}", self.other.clone()),
            ("{other_tag}", self.other_tag.clone()),
            ("{tag}", self.tag.clone()),
            ("{TAG}", self.tag.to_uppercase()),
            ("{comment}", self.comment.clone()),
            ("{ext}", file.rsplit('.').next().unwrap().to_owned()),
            ("{file}", file.clone()),
            ("{run}", self.run.clone()),
        ];
        values.iter().fold(text.to_owned(), |text, (name, value)| text.replace(name, value))
    }
}

/// Parses code by the languages' own tools, as it is judged with them.
struct ByTools<'a> {
    languages: &'a Languages,
    language: &'a str,
    file: &'a str,
}

impl SoundCheck for ByTools<'_> {
    fn is_sound(&self, files: &FileTree) -> Option<bool> {
        type Known = Mutex<HashMap<(String, FileTree), bool>>;
        static KNOWN: OnceLock<Known> = OnceLock::new();
        let known = KNOWN.get_or_init(Known::default);
        let key = (self.language.to_owned(), files.clone());
        if let Some(&found) = known.lock().unwrap().get(&key) {
            return Some(found);
        }
        let found = parses(self.languages, self.language, self.file, files);
        known.lock().unwrap().insert(key, found);
        Some(found)
    }
}

fn parses(languages: &Languages, language: &str, file: &str, files: &FileTree) -> bool {
    static FOLDERS: AtomicUsize = AtomicUsize::new(0);
    let number = FOLDERS.fetch_add(1, Ordering::Relaxed);
    let folder = Path::new(env!("CARGO_TARGET_TMPDIR"))
        .join(format!("parse-{}-{number}", std::process::id()));
    std::fs::create_dir_all(&folder).unwrap();
    let definition = languages.find(language).unwrap();
    for (path, bytes) in files {
        let at = folder.join(path.as_str());
        std::fs::create_dir_all(at.parent().unwrap()).unwrap();
        let before = if path.as_str() == file { definition.parse_before.as_bytes() } else { b"" };
        std::fs::write(at, [before, bytes].concat()).unwrap();
    }
    let also = definition.also.iter().map(|it| (it.as_str(), it.as_str()));
    let values: Vec<(&str, &str)> =
        [("tool", definition.tool[0].as_str()), ("file", file), ("heap_mib", "200")]
            .into_iter()
            .chain(also)
            .collect();
    let command = fill(&definition.parse, &values);
    let (stdin, out, err) = (Stdio::null(), Stdio::null(), Stdio::null());
    let mut run = Command::new(&command[0]);
    let run = run.args(&command[1..]).current_dir(&folder).stdin(stdin).stdout(out).stderr(err);
    let found = run.status().unwrap().success();
    std::fs::remove_dir_all(&folder).unwrap();
    found
}

fn programs() -> Vec<Program> {
    toml::from_str::<Programs>(include_str!("answers/programs.toml")).unwrap().program
}

fn read(
    program: &Program,
    text: &str,
    given: Option<&str>,
    languages: &Languages,
    check: &dyn SoundCheck,
) -> Reading {
    let file = RelPath::parse(&program.file).unwrap();
    let given = given
        .map(|it| FileTree::from([(file.clone(), program.fill(it).into_bytes())]))
        .unwrap_or_default();
    let wanted = Wanted {
        file: &file,
        language: &program.language,
        kind: &program.kind(),
        languages,
        given: &given,
        packages: &[],
    };
    read_answer(text, wanted, AnswerEnd::Complete, check)
}

/// What is wrong with a reading.
fn faults(program: &Program, shape: &Shape, reading: &Reading) -> Vec<String> {
    let mut faults = Vec::new();
    let mut differ = |what: &str, found: String, expected: String| {
        if found != expected {
            faults.push(format!("{what}: {found} and not {expected}"));
        }
    };
    let file = RelPath::parse(&program.file).unwrap();
    match (&reading.lenient, &shape.reason) {
        (Ok(files), None) => {
            let code = String::from_utf8(files[&file].clone()).unwrap();
            let expected = program.fill(shape.reads.as_deref().unwrap_or("{code}"));
            // A blank line at either end is nothing that a program is told from another by.
            if code.trim() != expected.trim() {
                differ("code", format!("\n{code}"), format!("\n{expected}"));
            }
            let further: Vec<&str> =
                files.keys().map(RelPath::as_str).filter(|it| *it != file.as_str()).collect();
            differ("further files", format!("{further:?}"), format!("{:?}", shape.further));
        }
        (found, expected) => {
            let word = |it: &Option<String>| it.clone().unwrap_or("code".to_owned());
            let found = found.as_ref().err().map(|it| it.word().to_owned());
            differ("reason", word(&found), word(expected));
        }
    }
    let deviations: Vec<String> =
        reading.deviations.iter().map(|it| it.word().to_owned()).collect();
    if let Some(expected) = &shape.deviations {
        differ("deviations", deviations.join(", "), expected.join(", "));
    }
    let roles: Vec<&str> = reading.notes.blocks.iter().map(|it| it.role.word()).collect();
    if let Some(expected) = &shape.roles {
        let expected: Vec<&str> = expected.iter().map(|it| it.word()).collect();
        differ("roles", roles.join(", "), expected.join(", "));
    }
    if let Some(expected) = shape.gaps {
        differ(
            "gaps",
            (reading.gaps > fairtrial_core::answer::Gaps::Hinted).to_string(),
            expected.to_string(),
        );
    }
    faults
}

/// One text of its own, with what it is to be read as.
#[derive(Deserialize)]
struct Case {
    language: String,
    form: String,
    #[serde(default)]
    wants: String,
    #[serde(default)]
    file: String,
    #[serde(flatten)]
    shape: Shape,
}

#[derive(Deserialize)]
struct Cases {
    case: Vec<Case>,
}

impl Case {
    /// A program to be filled in of which only the frame counts.
    fn program(&self) -> Program {
        let ending = [
            ("python", "py"),
            ("javascript", "js"),
            ("rust", "rs"),
            ("c++", "cpp"),
            ("java", "java"),
            ("shell", "sh"),
        ];
        let ending = ending.iter().find(|it| it.0 == self.language).unwrap().1;
        let stem = match self.language.as_str() {
            "java" => "Main",
            "rust" | "c++" if self.form == "program" => "main",
            _ => "solution",
        };
        let file =
            if self.file.is_empty() { format!("{stem}.{ending}") } else { self.file.clone() };
        let (language, form, name) = (self.language.clone(), self.form.clone(), self.wants.clone());
        Program { language, form, name, file, ..Program::default() }
    }
}

/// Whether the language's own tools are here, which say what parses.
fn has_tools(program: &Program, languages: &Languages) -> bool {
    let definition = languages.find(&program.language).unwrap();
    let tools = definition.tool.iter().take(1).chain(&definition.also);
    needs::there(&tools.map(String::as_str).collect::<Vec<_>>())
}

/// Reads each text, and gives those that are read otherwise than they should, with what is wrong.
fn wrong(cases: &[(&Program, &Shape)], languages: &Languages) -> Vec<String> {
    let (next, wrong) = (AtomicUsize::new(0), Mutex::new(BTreeMap::new()));
    std::thread::scope(|scope| {
        for _ in 0..2 {
            scope.spawn(|| {
                loop {
                    let number = next.fetch_add(1, Ordering::Relaxed);
                    let Some((program, shape)) = cases.get(number) else { break };
                    let (language, file) = (&program.language, &program.file);
                    let check = ByTools { languages, language, file };
                    let text = program.fill(&shape.text);
                    let reading = read(program, &text, shape.given.as_deref(), languages, &check);
                    let faults = faults(program, shape, &reading);
                    if faults.is_empty() {
                        continue;
                    }
                    let mut told =
                        format!("\n{} in {} for {}\n", shape.name, program.language, program.form);
                    faults.iter().for_each(|it| told.push_str(&format!("  {it}\n")));
                    for it in &reading.notes.blocks {
                        let _ = writeln!(
                            told,
                            "  lines {}-{}: {}, since {}",
                            it.lines.0, it.lines.1, it.role, it.why
                        );
                    }
                    wrong.lock().unwrap().insert(number, told);
                }
            });
        }
    });
    wrong.into_inner().unwrap().into_values().collect()
}

#[test]
fn every_shape_is_read_as_a_careful_person_would() {
    let languages = Languages::shipped();
    let (programs, shapes) =
        (programs(), toml::from_str::<Shapes>(include_str!("answers/shapes.toml")).unwrap().shape);
    let cases: Vec<(&Program, &Shape)> = programs
        .iter()
        .filter(|it| has_tools(it, &languages))
        .flat_map(|program| shapes.iter().map(move |shape| (program, shape)))
        .filter(|(program, shape)| shape.only.is_empty() || program.is_named(&shape.only))
        .filter(|(program, shape)| !program.is_named(&shape.except))
        .collect();
    let wrong = wrong(&cases, &languages);
    println!("{} shapes, of which {} are read right", cases.len(), cases.len() - wrong.len());
    assert!(shapes.len() * programs.len() >= 400);
    assert!(
        wrong.is_empty(),
        "{} of {} shapes are read wrongly:\n{}",
        wrong.len(),
        cases.len(),
        wrong.concat()
    );
}

#[test]
fn every_odd_answer_is_read_as_a_careful_person_would() {
    let languages = Languages::shipped();
    let cases = toml::from_str::<Cases>(include_str!("answers/cases.toml")).unwrap().case;
    let programs: Vec<Program> = cases.iter().map(Case::program).collect();
    let cases: Vec<(&Program, &Shape)> = programs
        .iter()
        .zip(cases.iter().map(|it| &it.shape))
        .filter(|it| has_tools(it.0, &languages))
        .collect();
    let wrong = wrong(&cases, &languages);
    println!("{} answers, of which {} are read right", cases.len(), cases.len() - wrong.len());
    assert!(
        wrong.is_empty(),
        "{} of {} answers are read wrongly:\n{}",
        wrong.len(),
        cases.len(),
        wrong.concat()
    );
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 60, ..ProptestConfig::default() })]

    /// Text around one clean block never changes its code, and is all that the strict reader minds.
    #[test]
    fn a_right_program_in_one_block_is_taken_to_the_letter(
        before in "(?:[^`~<\\[◁>|\u{1b}]{0,60}\n){0,4}",
        behind in "(?:\n[^`~<\\[◁>|\u{1b}]{0,60}){0,4}",
        which in 0_usize..13,
    ) {
        let languages = Languages::shipped();
        let program = &programs()[which];
        let is_fence = |line: &str| line.trim_start().starts_with("```") || line.trim_start().starts_with("~~~");
        prop_assume!(!before.lines().chain(behind.lines()).any(is_fence));
        let text = format!("{before}```{}\n{}```\n{behind}", program.tag, program.code);
        let reading = read(program, &text, None, &languages, &Unchecked);
        let files = reading.lenient.as_ref().unwrap();
        let code = String::from_utf8(files.values().next().unwrap().clone()).unwrap();
        prop_assert_eq!(&code, &program.code);
        let is_bare = before.trim_matches(['\u{feff}']).trim().is_empty() && behind.trim().is_empty();
        prop_assert!(reading.strict().is_none() || reading.strict() == Some(files));
        prop_assert!(!is_bare || reading.strict().is_some());
    }

    /// Whatever is sent is read, without a panic.
    #[test]
    fn any_text_is_read(parts in prop::collection::vec(prop_oneof![
        "[ -~]{0,12}", "\\PC{0,6}", Just("```".to_owned()), Just("~~~python".to_owned()), Just("\n".to_owned()),
        Just("<think>".to_owned()), Just("</think>".to_owned()), Just("def tide_gap(".to_owned()),
        Just("):\n    ".to_owned()), Just("'''".to_owned()), Just("{\"code\": \"".to_owned()),
        Just("<<EOF\n".to_owned()), Just("@@ -1 +1 @@\n".to_owned()), Just("> ".to_owned()), Just("\u{1b}[1m".to_owned()),
    ], 0..40)) {
        let languages = Languages::shipped();
        let text = parts.concat();
        for program in programs() {
            let reading = read(&program, &text, Some(&text), &languages, &Unchecked);
            prop_assert_eq!(reading.strict().is_some(), reading.lenient.is_ok() && reading.deviations.is_empty());
        }
    }
}

/// An answer made to keep the reader busy is read all the same: what grows faster than its length would not
/// end.
#[test]
fn an_answer_made_to_keep_the_reader_busy_is_read() {
    let languages = Languages::shipped();
    let program = &programs()[0];
    let fences = "```\n".repeat(5 << 18);
    assert!(read(program, &fences, None, &languages, &Unchecked).lenient.is_err());
    let labelled: String =
        (0..8_000).map(|i| format!("prose {i}\n``` f{i}.py\ndef n{i}(): pass\n```\n")).collect();
    let labelled = format!("{labelled}```python\n{}```\n", program.code);
    assert_eq!(
        read(program, &labelled, None, &languages, &Unchecked).lenient.map(|it| it.len()),
        Ok(8_001)
    );
    for unit in [
        "```python\n",
        "~~~\n```a\n",
        "</think>\n",
        "**Analysis**\n",
        "\u{201c}x\u{201d}\n",
        "cat <<EOF\n",
        "<file path=\"a.py\">\n",
        "def tide_gap(x):\n",
        "x```\n",
        "> ```\n",
        "```json\n{}\n```\n",
        "```md\n```python\n",
    ] {
        let text = unit.repeat((120 << 10) / unit.len());
        let _ = read(program, &text, None, &languages, &Unchecked);
    }
}
