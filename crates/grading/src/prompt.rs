//! What candidates read: the first prompt, and the feedback after a failure.
//!
//! Every candidate reads the same, to the letter. Feedback tells nothing of a sealed test but the
//! kind of failure, and, where the task says so, how many passed: whatever an answer can put into a
//! message while a sealed test runs could carry that test back. Only [`Feedback::Open`] tells more.

use std::fmt::Write as _;

use crate::docket::{Proceedings, Task};
use crate::form::Form;
use crate::form::call::{Action, Call, Expected, Step};
use crate::form::program::Case;
use crate::judgement::{Judgement, TestOutcome};
use crate::language::LanguageDefinition;
use crate::limits::Limits;
use crate::plan::Feedback;
use crate::value::{Dialect, Value};
use crate::verdict::{FailReason, Verdict};

/// Given files longer than this are named, not shown, in bytes.
const SHOWN_MAX: usize = 32 << 10;

/// Longest error message in feedback, in bytes.
const MESSAGE_MAX: usize = 2000;

/// The first prompt of a trial. `version` is what the language's tool says of itself.
#[must_use]
pub fn first_prompt(
    task: &Task,
    definition: &LanguageDefinition,
    version: &str,
    limits: &Limits,
) -> String {
    let mut out = format!("{}\n", task.statement);
    if !task.given.is_empty() {
        out.push_str("\n## Files that are there\n");
        for (path, bytes) in &task.given {
            match std::str::from_utf8(bytes) {
                Ok(text) if text.len() <= SHOWN_MAX => {
                    let fence = fence_for(text);
                    let text = text.trim_end_matches('\n');
                    let _ = write!(out, "\n`{path}`:\n\n{fence}\n{text}\n{fence}\n");
                }
                _ => {
                    let _ = write!(out, "\n`{path}` ({} bytes, not shown)\n", bytes.len());
                }
            }
        }
    }
    let shown = examples(task);
    if !shown.is_empty() {
        let between = if task.form() == Form::Call { "" } else { "\n" };
        let _ = write!(out, "\n## Examples\n\n{}", shown.join(between));
    }
    let _ = write!(out, "\n## Your answer\n\n{}", instructions(task, definition, version, limits));
    out
}

fn instructions(
    task: &Task,
    definition: &LanguageDefinition,
    version: &str,
    limits: &Limits,
) -> String {
    let file = task.file();
    let language = match version {
        "" => definition.title.clone(),
        version if version.starts_with(&definition.title) => version.to_owned(),
        version => format!("{} (here: {version})", definition.title),
    };
    let what = match &task.proceedings {
        Proceedings::Call { settings, .. } => format!(
            "Write the file `{file}` in {language}. It defines `{}`,\n\
             which is called with other arguments than those shown.",
            settings.name
        ),
        Proceedings::Program { .. } => format!(
            "Write a whole program, the file `{file}`, in {language}.\n\
             It is run with other input than shown."
        ),
        Proceedings::Tests { .. } => format!(
            "Write the file `{file}` in {language}.\n\
             Unit tests that you do not see are run against it."
        ),
    };
    let packages = match task.packages.as_slice() {
        [] => String::new(),
        some => format!(" and {}", some.join(", ")),
    };
    let tag = definition.tags.first().map_or("", String::as_str);
    format!(
        "{what}\nUse nothing but the standard library{packages}. There is no network.\nEach run may use {} s \
         of processor time and {} MiB of memory.\nReply with the whole file in one code block \
         tagged `{tag}`, and nothing else.\n",
        limits.time.as_secs_f64(),
        limits.memory.0 >> 20,
    )
}

fn examples(task: &Task) -> Vec<String> {
    match &task.proceedings {
        Proceedings::Call { settings, examples, .. } => {
            let dialect = Dialect::of(&task.language);
            examples.iter().map(|call| call_example(&settings.name, call, dialect)).collect()
        }
        Proceedings::Program { examples, .. } => examples.iter().map(case_example).collect(),
        Proceedings::Tests { .. } => Vec::new(),
    }
}

fn call_example(name: &str, call: &Call, dialect: Dialect) -> String {
    if let [Step { action: Action::Function, .. }] = &call.steps[..] {
        let step = &call.steps[0];
        let in_words = step_in_words(step, dialect, call.prints.as_deref());
        return format!("- `{name}({})` {in_words}\n", step_input(step, dialect));
    }
    let mut text = format!("- {}:\n", call.name);
    for step in &call.steps {
        let _ = writeln!(
            text,
            "  - `{}` {}",
            step_text(name, step, dialect),
            step_in_words(step, dialect, None)
        );
    }
    if let Some(prints) = &call.prints {
        let _ = writeln!(text, "  - in all, it prints `{}`", prints.trim_end());
    }
    text
}

/// A step as people write it: `Hold(3)`, `.put("a")`, `.size`.
fn step_text(name: &str, step: &Step, dialect: Dialect) -> String {
    let input = step_input(step, dialect);
    match &step.action {
        Action::Function | Action::New => format!("{name}({input})"),
        Action::Method(method) => format!(".{method}({input})"),
        Action::Get(property) => format!(".{property}"),
    }
}

/// What must come of a step, in words.
fn step_in_words(step: &Step, dialect: Dialect, prints: Option<&str>) -> String {
    let plain = |value: &Value| dialect.write(value);
    let outcome = match &step.expected {
        Expected::OneOf(options) => {
            let options: Vec<_> = options.iter().map(|it| format!("`{}`", plain(it))).collect();
            format!("returns {}", options.join(" or "))
        }
        Expected::Raises(kind) => format!("raises `{kind}`"),
        Expected::AnyValue => match (&step.args_after, prints, &step.action) {
            (Some(_), _, _) => "changes its arguments".to_owned(),
            (None, Some(prints), _) => format!("prints `{}`", prints.trim_end()),
            (None, None, Action::New) => "makes an object".to_owned(),
            (None, None, _) => "does its work".to_owned(),
        },
    };
    let after = step.args_after.as_ref().map_or(String::new(), |args| {
        let args: Vec<_> = args.iter().map(&plain).collect();
        format!("; the arguments are then `{}`", args.join(", "))
    });
    format!("{outcome}{after}")
}

/// The arguments of a call, or its steps, as people write them.
#[must_use]
pub fn call_input(call: &Call, dialect: Dialect) -> String {
    match &call.steps[..] {
        [step] if step.action == Action::Function => step_input(step, dialect),
        steps => {
            let steps = steps.iter().map(|step| step_text("", step, dialect));
            steps.collect::<Vec<_>>().join("; ")
        }
    }
}

fn step_input(step: &Step, dialect: Dialect) -> String {
    let plain = |value: &Value| dialect.write(value);
    let named = step.kwargs.iter().map(|(key, value)| format!("{key}={}", plain(value)));
    step.args.iter().map(&plain).chain(named).collect::<Vec<_>>().join(", ")
}

fn case_example(case: &Case) -> String {
    let mut out = format!("{}:\n", case.name);
    let mut block = |title: &str, bytes: &[u8]| {
        let text = String::from_utf8_lossy(bytes);
        let fence = fence_for(&text);
        let _ = write!(out, "\n{title}:\n\n{fence}\n{}\n{fence}\n", text.trim_end_matches('\n'));
    };
    if !case.args.is_empty() {
        block("Arguments, one a line", case.args.join("\n").as_bytes());
    }
    for (path, bytes) in &case.files {
        block(&format!("File `{path}`"), bytes);
    }
    if !case.stdin.is_empty() {
        block("Standard input", &case.stdin);
    }
    if let Some(stdout) = &case.stdout {
        block("Standard output", stdout);
    }
    for (path, bytes) in &case.files_after {
        block(&format!("File `{path}` afterwards"), bytes);
    }
    if case.status != 0 {
        let _ = write!(out, "\nExit status {}\n", case.status);
    }
    out
}

/// A fence longer than any run of backticks in the text.
fn fence_for(text: &str) -> String {
    let longest = text.split(|c| c != '`').map(str::len).max().unwrap_or(0);
    "`".repeat(longest.max(2) + 1)
}

/// What goes back to a candidate whose answer failed.
#[must_use]
pub fn feedback(mode: Feedback, judgement: &Judgement, task: &Task) -> String {
    let mut out = format!("Your answer did not pass: {}.\n", explain(judgement.verdict));
    let (passed, total) = judgement.counts();
    if task.tell_passed && total > 0 {
        let _ = writeln!(out, "Of {total} hidden tests, {passed} passed.");
    }
    if mode != Feedback::Verdict
        && let Some(message) = &judgement.message
    {
        let text = head_and_tail(message, MESSAGE_MAX);
        let fence = fence_for(&text);
        let _ = write!(out, "\nWhat was reported:\n\n{fence}\n{}\n{fence}\n", text.trim_end());
    }
    let failed = |visible| {
        judgement.tests.iter().filter(move |it| it.visible == visible && it.failed.is_some())
    };
    if mode != Feedback::Verdict {
        for test in failed(true) {
            out.push_str(&failed_test("visible example", test));
        }
    }
    if mode == Feedback::Open
        && let Some(test) = failed(false).next()
    {
        out.push_str(&failed_test("hidden test", test));
    }
    let _ =
        write!(out, "\nReply with the whole corrected file `{}` in one code block.\n", task.file());
    out
}

fn failed_test(what: &str, test: &TestOutcome) -> String {
    let mut out = format!("\nA {what} fails ({}): {}.\n", test.name, test.summary);
    for (title, text) in
        [("It was given", &test.input), ("Expected", &test.expected), ("Found", &test.found)]
    {
        if !text.is_empty() {
            let text = head_and_tail(text, MESSAGE_MAX);
            let fence = fence_for(&text);
            let _ = write!(out, "{title}:\n\n{fence}\n{}\n{fence}\n", text.trim_end());
        }
    }
    out
}

fn explain(verdict: Verdict) -> &'static str {
    match verdict {
        Verdict::Fail(FailReason::WrongResult) => "a hidden test got a wrong result",
        Verdict::Fail(FailReason::Crashed) => "it ended with an error",
        Verdict::Fail(FailReason::TimedOut) => "it used up its time",
        Verdict::Fail(FailReason::OutOfMemory) => "it used up its memory",
        Verdict::Fail(FailReason::TooMuchOutput) => "it wrote too much output",
        Verdict::Fail(FailReason::DidNotBuild) => "it did not build or load",
        Verdict::Fail(FailReason::NoCodeFound) => "no code was found in it",
        Verdict::Fail(FailReason::WrongLanguage) => "the code is in the wrong language",
        Verdict::Fail(FailReason::Incomplete) => "it is incomplete",
        Verdict::Fail(FailReason::PatchDoesNotApply) => "the patch does not apply",
        Verdict::Fail(reason) => reason.word(),
        Verdict::Pass | Verdict::Void(_) => "it was not judged",
    }
}

/// `text` if it is short enough, else its beginning and its end with a mark between.
#[must_use]
pub fn head_and_tail(text: &str, most: usize) -> String {
    if text.len() <= most {
        return text.to_owned();
    }
    let head = text.floor_char_boundary(most / 2);
    let tail = text.ceil_char_boundary(text.len() - most / 2);
    format!("{}\n[… {} bytes left out …]\n{}", &text[..head], tail - head, &text[tail..])
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::docket::Docket;
    use crate::language::Languages;
    use crate::tree::RelPath;

    fn task() -> Task {
        let brief = "+++\ntitle = \"Tide gap\"\nform = \"call\"\nlanguage = \"python\"\n\
            category = \"basics\"\ndifficulty = 1\n[call]\nfile = \"solution.py\"\n\
            name = \"tide_gap\"\n[[example]]\nargs = [3, 1]\nreturns = 2\n\
            [[example]]\nargs = [1]\nraises = \"ValueError\"\n+++\nSay how far.\n";
        let files = [
            ("docket.toml", "title = \"T\""),
            ("gap/brief.md", brief),
            ("gap/given/tides.csv", "high,low\n```\n"),
            ("gap/sealed/calls.jsonl", "{\"args\": [987], \"returns\": 654}"),
        ];
        let tree = files.iter().map(|(p, b)| (RelPath::parse(p).unwrap(), b.as_bytes().to_vec()));
        Docket::parse("d", &tree.collect(), &Languages::shipped()).unwrap().tasks.remove(0)
    }

    #[test]
    fn the_prompt_has_all_a_candidate_needs_and_nothing_sealed() {
        let languages = Languages::shipped();
        let python = languages.find("python").unwrap();
        let prompt = first_prompt(&task(), python, "Python 3.11.7", &Limits::default());
        insta::assert_snapshot!(prompt);
        assert!(!prompt.contains("987") && !prompt.contains("654"));
    }

    #[test]
    fn each_mode_of_feedback_tells_more() {
        let test = |visible, input: &str, expected: &str| TestOutcome {
            name: "example 1".into(),
            visible,
            failed: Some(FailReason::WrongResult),
            summary: "returned another value".into(),
            input: input.into(),
            expected: expected.into(),
            found: "5".into(),
            points: 1.0,
            share: None,
            unstable: None,
            usage: None,
        };
        let judgement = Judgement {
            verdict: Verdict::Fail(FailReason::WrongResult),
            tests: vec![test(false, "987", "654"), test(true, "3, 1", "2")],
            message: Some("ValueError: no".into()),
            notes: vec![],
        };
        let text = |mode| feedback(mode, &judgement, &task());
        assert!(!text(Feedback::Verdict).contains("ValueError"));
        assert!(!text(Feedback::Verdict).contains("3, 1"));
        assert!(text(Feedback::Examples).contains("ValueError"));
        assert!(text(Feedback::Examples).contains("3, 1"));
        for mode in [Feedback::Verdict, Feedback::Examples] {
            assert!(!text(mode).contains("654") && !text(mode).contains("987"));
        }
        assert!(text(Feedback::Open).contains("654") && text(Feedback::Open).contains("987"));
        let counting = Task { tell_passed: true, ..task() };
        let text = feedback(Feedback::Verdict, &judgement, &counting);
        assert!(text.contains("Of 1 hidden tests, 0 passed."), "{text}");
    }

    #[test]
    fn long_messages_keep_both_ends() {
        let text = format!("{}é{}", "a".repeat(50), "z".repeat(50));
        let short = head_and_tail(&text, 20);
        assert!(short.starts_with("aaaaaaaaaa\n[… ") && short.ends_with("zzzzzzzzzz"));
    }
}
