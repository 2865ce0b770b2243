//! What a simulated model says.

use fairtrial_core::digest::unit;
use fairtrial_core::docket::{Proof, Task};

use crate::models::Model;

/// How steeply success falls with difficulty.
const STEEPNESS: f64 = 1.5;

/// An answer, ready to be sent.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Said {
    /// The text.
    pub text: String,
    /// Whether it was cut off at a length limit.
    pub cut_off: bool,
}

/// Everything that an answer depends on.
#[derive(Debug, Clone, Copy)]
pub struct Moment<'a> {
    /// The seed of the stand-in.
    pub seed: u64,
    /// The seed of the request; 0 without one.
    pub request_seed: u64,
    /// Which answer of the conversation this is, from 1.
    pub attempt: usize,
    /// Who answers.
    pub model: &'a Model,
    /// What is asked.
    pub task: &'a Task,
}

impl Moment<'_> {
    /// A number in [0, 1) for one purpose.
    fn draw(&self, what: &str) -> f64 {
        let (seed, request) = (self.seed.to_string(), self.request_seed.to_string());
        let attempt = self.attempt.to_string();
        unit(&[what, &seed, &self.model.name, &self.task.name, &request, &attempt])
    }

    fn succeeds(&self) -> bool {
        let gap = self.model.skill - f64::from(self.task.difficulty);
        let at_first = 1.0 / (1.0 + (-STEEPNESS * gap).exp());
        let chance = if self.attempt == 1 { at_first } else { self.model.repair };
        self.draw("success") < chance
    }
}

/// Says something.
pub fn answer(moment: Moment<'_>) -> Said {
    let proofs = |right: bool| -> Vec<&Proof> {
        moment.task.proofs.iter().filter(|proof| proof.right == right).collect()
    };
    let pick = |options: &[&Proof]| {
        let index = (moment.draw("which") * options.len() as f64) as usize;
        options.get(index).map(|proof| code_of(moment.task, proof))
    };
    if moment.succeeds() {
        return match pick(&proofs(true)) {
            Some(code) => dressed(moment, &code),
            None => prose(moment),
        };
    }
    let code = pick(&proofs(true)).unwrap_or_default();
    match moment.draw("kind") {
        kind if kind < 0.58 => match pick(&proofs(false)) {
            Some(wrong) => dressed(moment, &wrong),
            None => prose(moment),
        },
        kind if kind < 0.70 => dressed(moment, &crashing(&moment.task.language, &code)),
        kind if kind < 0.75 => dressed(moment, &endless(&moment.task.language, &code)),
        kind if kind < 0.86 => prose(moment),
        kind if kind < 0.93 => cut_off(moment, &code),
        _ => other_language(moment),
    }
}

fn code_of(task: &Task, proof: &Proof) -> String {
    let bytes = proof.files.get(task.file()).map(Vec::as_slice).unwrap_or_default();
    String::from_utf8_lossy(bytes).into_owned()
}

fn fenced(moment: Moment<'_>, code: &str) -> String {
    let tag = match moment.task.language.as_str() {
        "c++" => "cpp",
        "shell" => "sh",
        other => other,
    };
    format!("```{tag}\n{}\n```", code.trim_end())
}

/// Code as the model sends it: as asked for, or with something around it.
fn dressed(moment: Moment<'_>, code: &str) -> Said {
    let block = fenced(moment, code);
    let file = moment.task.file();
    let text = if moment.draw("tidy") < moment.model.tidy {
        block
    } else {
        match (moment.draw("dress") * 4.0) as u32 {
            0 => format!("Here is the file you asked for:\n\n{block}\n\nIt covers the edge cases."),
            1 => code.to_owned(),
            2 => format!("**{file}**\n\n{block}\n\nTo try it:\n\n```text\n(run {file})\n```"),
            _ => block.trim_end_matches('`').to_owned(),
        }
    };
    Said { text, cut_off: false }
}

fn prose(moment: Moment<'_>) -> Said {
    let title = &moment.task.title;
    let text = format!(
        "To solve \"{title}\", first think about what the harbour office needs. Then go through \
         the input step by step, keep the intermediate results, and give back what is asked for. \
         Mind the edge cases, such as an empty list."
    );
    Said { text, cut_off: false }
}

fn cut_off(moment: Moment<'_>, code: &str) -> Said {
    let half: Vec<&str> = code.lines().take(code.lines().count().div_ceil(2)).collect();
    let block = fenced(moment, &half.join("\n"));
    Said { text: block.trim_end_matches('`').trim_end().to_owned(), cut_off: true }
}

fn other_language(moment: Moment<'_>) -> Said {
    let text = if moment.task.language == "python" {
        "```javascript\nfunction solve(input) {\n  const parts = input.split(' ');\n  \
         return parts.length;\n}\nmodule.exports = { solve };\n```"
    } else {
        "```python\nimport sys\n\ndef solve(text):\n    return len(text.split())\n\n\
         print(solve(sys.stdin.read()))\n```"
    };
    Said { text: text.to_owned(), cut_off: false }
}

/// The code, made to crash when it is used.
fn crashing(language: &str, code: &str) -> String {
    match language {
        "python" => format!("{code}\n\nraise RuntimeError('the tide tables are missing')\n"),
        "javascript" => format!("{code}\n\nthrow new Error('the tide tables are missing');\n"),
        "c" | "c++" => "#include <stdlib.h>\nint main(void) { abort(); }\n".to_owned(),
        "rust" => "fn main() {\n    panic!(\"the tide tables are missing\");\n}\n".to_owned(),
        "java" => "public class Main {\n    public static void main(String[] args) {\n        \
                   throw new IllegalStateException(\"the tide tables are missing\");\n    }\n}\n"
            .to_owned(),
        _ => "#!/bin/sh\necho 'the tide tables are missing' >&2\nexit 4\n".to_owned(),
    }
}

/// The code, made to run for ever.
fn endless(language: &str, code: &str) -> String {
    match language {
        "python" => format!("{code}\n\nwhile True:\n    pass\n"),
        "javascript" => format!("{code}\n\nwhile (true) {{}}\n"),
        "c" | "c++" => "int main(void) { volatile int i = 0; for (;;) i = i + 1; }\n".to_owned(),
        "rust" => "fn main() {\n    loop {\n        std::hint::spin_loop();\n    }\n}\n".to_owned(),
        "java" => "public class Main {\n    public static void main(String[] args) {\n        \
                   while (true) {\n        }\n    }\n}\n"
            .to_owned(),
        _ => "#!/bin/sh\nwhile :; do\n  :\ndone\n".to_owned(),
    }
}
