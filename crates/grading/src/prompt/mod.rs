//! What candidates read: the first prompt, and the feedback after a failure.
//!
//! Every candidate reads the same, to the letter. Feedback tells nothing of a sealed test but the
//! kind of failure, and, where the task says so, how many passed: whatever an answer can put into a
//! message while a sealed test runs could carry that test back. Only [`Feedback::Open`] tells more.

mod templates;

use std::fmt::Write as _;

use fairtrial_core::judgement::{Judgement, TestOutcome};
use fairtrial_core::language::LanguageDefinition;
use fairtrial_core::limits::Limits;
use fairtrial_core::plan::Feedback;
use fairtrial_core::text::{fence_for, head_and_tail};
use fairtrial_core::tree::{Node, WorkTree};
use fairtrial_core::verdict::{FailReason, Verdict};

use crate::docket::PosedTask;
use crate::form::Start;

pub use templates::{PromptParts, PromptTemplates, RepairParts, TemplateError};

/// Given files longer than this are named, not shown, in bytes.
const SHOWN_MAX: usize = 32 << 10;

/// Longest error message in feedback, in bytes.
const MESSAGE_MAX: usize = 2000;

/// How a candidate answers.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Manner {
    /// By what it says.
    Says,
    /// By what it makes of the files.
    Acts,
}

/// What becomes of the images that a task shows.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Images {
    /// They go with the first message.
    Sent,
    /// They are named, as other files that are no text.
    Named,
}

/// What the first prompt of a trial is made of. `version` is what the language's tool says of itself; `start` is what the
/// answer starts from, where that had to be made ready.
#[must_use]
pub fn prompt_parts(
    task: &PosedTask,
    start: Option<&Start>,
    definition: &LanguageDefinition,
    version: &str,
    limits: &Limits,
    manner: Manner,
    images: Images,
) -> PromptParts {
    // Who acts finds them in its folder.
    let files = match manner {
        Manner::Says => shown_files(task, start),
        Manner::Acts => WorkTree::new(),
    };
    let mut shown = String::new();
    for (path, node) in files.iter() {
        let bytes = match node {
            Node::File { bytes, .. } => bytes,
            Node::Link { to } => {
                let to = String::from_utf8_lossy(to);
                let _ = write!(shown, "\n`{path}` (a link to `{to}`)\n");
                continue;
            }
        };
        let is_sent = images == Images::Sent
            && task.images.iter().any(|it| it.path.as_bytes() == path.as_bytes());
        match std::str::from_utf8(bytes) {
            _ if is_sent => {
                let _ = write!(shown, "\n`{path}` (an image, {} bytes, sent along)\n", bytes.len());
            }
            Ok(text) if text.len() <= SHOWN_MAX => {
                let fence = fence_for(text);
                let text = text.trim_end_matches('\n');
                let _ = write!(shown, "\n`{path}`:\n\n{fence}\n{text}\n{fence}\n");
            }
            _ => {
                let _ = write!(shown, "\n`{path}` ({} bytes, not shown)\n", bytes.len());
            }
        }
    }
    PromptParts {
        statement: task.statement.clone(),
        files: shown,
        examples: task.form.examples(definition.dialect()),
        answer: instructions(task, definition, version, limits, manner),
        language: definition.title.clone(),
        title: task.title.clone(),
    }
}

/// The files that stand in a prompt: those that are given, or those of a repository that the task names.
fn shown_files(task: &PosedTask, start: Option<&Start>) -> WorkTree {
    let Some(Start::Prepared(prepared)) = start else { return task.given.to_work_tree() };
    let named = task.form.context_files().iter();
    named.filter_map(|path| Some((path.clone(), prepared.base().get(path)?.clone()))).collect()
}

fn instructions(
    task: &PosedTask,
    definition: &LanguageDefinition,
    version: &str,
    limits: &Limits,
    manner: Manner,
) -> String {
    let language = match version {
        "" => definition.title.clone(),
        version if version.starts_with(&definition.title) => version.to_owned(),
        version => format!("{} (here: {version})", definition.title),
    };
    let packages = match task.packages.as_slice() {
        _ if task.form.brings_packages() => String::new(),
        [] => "Use nothing but the standard library. ".to_owned(),
        some => format!("Use nothing but the standard library and {}. ", some.join(", ")),
    };
    let told = ["*", task.form.name()].into_iter().filter_map(|it| definition.told.get(it));
    let stem = task.form.answer().proof_file().map_or("", |it| it.stem());
    let told: String = told.map(|it| format!("\n{}", it.replace("{stem}", stem))).collect();
    let tag = definition.tags.first().map_or("", String::as_str);
    format!(
        "{}{told}\n{packages}There is no network.\nEach run may use {} s of processor time and {} MiB of \
         memory.\n{}\n",
        task.form.instructions(&language),
        limits.time.as_secs_f64(),
        limits.memory.0 >> 20,
        match manner {
            Manner::Says => task.form.answer().reply(tag),
            Manner::Acts => ACTING.to_owned(),
        },
    )
}

/// How a candidate that acts gives its answer.
const ACTING: &str = "You are in the folder of the files. Change them there: what they are when you end is your \
                      answer, and what you say does not count. Let the last line that you write be `finished` where all of it \
                      is done, and `not finished` where it is not.";

/// How it gives a corrected one.
const ACTING_AGAIN: &str = "The files are as you left them. Correct them there.";

/// What goes back to a candidate whose answer failed is made of this.
#[must_use]
pub fn repair_parts(
    mode: Feedback,
    judgement: &Judgement,
    task: &PosedTask,
    manner: Manner,
) -> RepairParts {
    let (passed, total) = judgement.counts();
    let counts = match task.tell_passed && total > 0 {
        true => format!("Of {total} hidden tests, {passed} passed."),
        false => String::new(),
    };
    let message = judgement.message.as_deref().filter(|_| mode != Feedback::Verdict);
    let message = message.map(|message| {
        let text = head_and_tail(message, MESSAGE_MAX);
        let fence = fence_for(&text);
        format!("{fence}\n{}\n{fence}", text.trim_end())
    });
    let failed = |visible| {
        judgement.tests.iter().filter(move |it| it.visible == visible && it.failed.is_some())
    };
    let mut tests = String::new();
    if mode != Feedback::Verdict {
        for test in failed(true) {
            tests.push_str(&failed_test("visible example", test));
        }
    }
    if mode == Feedback::Open
        && let Some(test) = failed(false).next()
    {
        tests.push_str(&failed_test("hidden test", test));
    }
    RepairParts {
        verdict: explain(judgement.verdict).to_owned(),
        counts,
        message: message.unwrap_or_default(),
        tests,
        again: match manner {
            Manner::Says => task.form.answer().repair(),
            Manner::Acts => ACTING_AGAIN.to_owned(),
        },
    }
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

#[cfg(test)]
mod tests {
    use super::*;
    use fairtrial_core::language::Languages;
    use fairtrial_core::tree::RelPath;

    use crate::docket::Docket;

    fn task() -> PosedTask {
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

    fn first_prompt(
        task: &PosedTask,
        start: Option<&Start>,
        definition: &LanguageDefinition,
        version: &str,
        limits: &Limits,
        manner: Manner,
    ) -> String {
        let parts = prompt_parts(task, start, definition, version, limits, manner, Images::Sent);
        PromptTemplates::shipped().first(None, &parts)
    }

    fn feedback(mode: Feedback, judgement: &Judgement, task: &PosedTask, manner: Manner) -> String {
        PromptTemplates::shipped().repair("auk", &repair_parts(mode, judgement, task, manner))
    }

    /// docs/plan.md shows the wording that ships.
    #[test]
    fn the_shipped_templates_stand_in_the_guide() {
        let guide = include_str!("../../../../docs/plan.md");
        for shipped in [templates::FIRST, templates::REPAIR] {
            assert!(guide.contains(shipped.trim_end()), "{shipped}");
        }
    }

    #[test]
    fn the_prompt_has_all_a_candidate_needs_and_nothing_sealed() {
        let languages = Languages::shipped();
        let python = languages.find("python").unwrap();
        let prompt =
            first_prompt(&task(), None, python, "Python 3.11.7", &Limits::default(), Manner::Says);
        insta::assert_snapshot!(prompt);
        assert!(!prompt.contains("987") && !prompt.contains("654"));
    }

    #[test]
    fn a_prompt_says_how_answers_are_built_and_loaded() {
        let languages = Languages::shipped();
        let told = |language: &str, form: &str| {
            let definition = languages.find(language).unwrap();
            let told = ["*", form].into_iter().filter_map(|it| definition.told.get(it));
            told.cloned().collect::<Vec<_>>().join(" ")
        };
        for (language, form, part) in [
            ("rust", "call", "must be `pub`"),
            ("rust", "program", "edition is 2021"),
            ("c++", "program", "C++20"),
            ("c", "program", "C17"),
            ("java", "program", "`{stem}`"),
            ("javascript", "call", "CommonJS"),
        ] {
            assert!(told(language, form).contains(part), "{language} {form}");
        }
        let mut awaiting = definition_that_tells("The file is `{stem}`.");
        awaiting.title = "Python".to_owned();
        let prompt = first_prompt(&task(), None, &awaiting, "", &Limits::default(), Manner::Says);
        assert!(prompt.contains("than those shown.\nThe file is `solution`.\n"), "{prompt}");
    }

    fn definition_that_tells(text: &str) -> LanguageDefinition {
        let mut definition = Languages::shipped().find("python").unwrap().clone();
        definition.told.insert("call".to_owned(), text.to_owned());
        definition
    }

    #[test]
    fn each_mode_of_feedback_tells_more() {
        let test = |visible, input: &str, expected: &str| TestOutcome {
            name: "example 1".into(),
            visible,
            role: String::new(),
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
            change: None,
        };
        let text = |mode| feedback(mode, &judgement, &task(), Manner::Says);
        assert!(!text(Feedback::Verdict).contains("ValueError"));
        assert!(!text(Feedback::Verdict).contains("3, 1"));
        assert!(text(Feedback::Examples).contains("ValueError"));
        assert!(text(Feedback::Examples).contains("3, 1"));
        for mode in [Feedback::Verdict, Feedback::Examples] {
            assert!(!text(mode).contains("654") && !text(mode).contains("987"));
        }
        assert!(text(Feedback::Open).contains("654") && text(Feedback::Open).contains("987"));
        let mut counting = task();
        counting.task.tell_passed = true;
        let text = feedback(Feedback::Verdict, &judgement, &counting, Manner::Says);
        assert!(text.contains("Of 1 hidden tests, 0 passed."), "{text}");
    }
}
