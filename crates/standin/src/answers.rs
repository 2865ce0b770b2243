//! What a simulated model says.

use fairtrial_core::answer::Submission;
use fairtrial_core::digest::unit;
use fairtrial_core::task::{Proof, Task};

use crate::models::Model;

/// How steeply success falls with difficulty.
const STEEPNESS: f64 = 1.5;

/// An answer, ready to be sent.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct SimulatedAnswer {
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
pub fn answer(moment: Moment<'_>) -> SimulatedAnswer {
    let proofs = |right: bool| -> Vec<&Proof> {
        moment.task.proofs.iter().filter(|proof| proof.right == right).collect()
    };
    let pick = |options: &[&Proof]| {
        let index = (moment.draw("which") * options.len() as f64) as usize;
        options.get(index).map(|proof| file_of(proof))
    };
    if moment.succeeds() {
        return match pick(&proofs(true)) {
            Some((file, code)) => dressed(moment, &file, &code),
            None => prose(moment),
        };
    }
    let (file, code) = pick(&proofs(true)).unwrap_or_default();
    match moment.draw("kind") {
        kind if kind < 0.58 => match pick(&proofs(false)) {
            Some((file, wrong)) => dressed(moment, &file, &wrong),
            None => prose(moment),
        },
        kind if kind < 0.70 => dressed(moment, &file, &crashing(&moment.task.language, &code)),
        kind if kind < 0.75 => dressed(moment, &file, &endless(&moment.task.language, &code)),
        kind if kind < 0.86 => prose(moment),
        kind if kind < 0.93 => cut_off(moment, &code),
        _ => other_language(moment),
    }
}

/// The proof that a model brings about which acts; `None`: it does nothing.
pub fn choice<'a>(moment: Moment<'a>) -> Option<&'a Proof> {
    let right = moment.succeeds();
    let options: Vec<&Proof> = moment.task.proofs.iter().filter(|it| it.right == right).collect();
    let index = (moment.draw("which") * options.len() as f64) as usize;
    let gives_up = !right && moment.draw("kind") > 0.8;
    options.get(index).copied().filter(|_| !gives_up)
}

/// The file of a proof that an answer is made of, and what is in it: the first by its path.
fn file_of(proof: &Proof) -> (String, String) {
    let text = |bytes: &[u8]| String::from_utf8_lossy(bytes).into_owned();
    match &proof.answer {
        Submission::Text(said) => (String::new(), said.clone()),
        Submission::Patch(patch) => ("change.patch".to_owned(), text(patch)),
        Submission::Files(files) => {
            files.iter().next().map_or_else(Default::default, |it| (it.0.to_string(), text(it.1)))
        }
    }
}

fn fenced(moment: Moment<'_>, code: &str) -> String {
    let is_patch = |it: &Proof| matches!(it.answer, Submission::Patch(_));
    let tag = match moment.task.language.as_str() {
        _ if moment.task.proofs.iter().any(is_patch) => "diff",
        "c++" => "cpp",
        "shell" => "sh",
        other => other,
    };
    format!("```{tag}\n{}\n```", code.trim_end())
}

/// Code as the model sends it: as asked for, or with something around it.
fn dressed(moment: Moment<'_>, file: &str, code: &str) -> SimulatedAnswer {
    let block = fenced(moment, code);
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
    SimulatedAnswer { text, cut_off: false }
}

fn prose(moment: Moment<'_>) -> SimulatedAnswer {
    let title = &moment.task.title;
    let text = format!(
        "To solve \"{title}\", first think about what the harbour office needs. Then go through \
         the input step by step, keep the intermediate results, and give back what is asked for. \
         Mind the edge cases, such as an empty list."
    );
    SimulatedAnswer { text, cut_off: false }
}

fn cut_off(moment: Moment<'_>, code: &str) -> SimulatedAnswer {
    let half: Vec<&str> = code.lines().take(code.lines().count().div_ceil(2)).collect();
    let block = fenced(moment, &half.join("\n"));
    SimulatedAnswer { text: block.trim_end_matches('`').trim_end().to_owned(), cut_off: true }
}

fn other_language(moment: Moment<'_>) -> SimulatedAnswer {
    let text = if moment.task.language == "python" {
        "```javascript\nfunction solve(input) {\n  const parts = input.split(' ');\n  \
         return parts.length;\n}\nmodule.exports = { solve };\n```"
    } else {
        "```python\nimport sys\n\ndef solve(text):\n    return len(text.split())\n\n\
         print(solve(sys.stdin.read()))\n```"
    };
    SimulatedAnswer { text: text.to_owned(), cut_off: false }
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

#[cfg(test)]
mod tests {
    use fairtrial_core::digest::Digest;
    use fairtrial_core::limits::LimitSettings;
    use fairtrial_core::tree::{FileTree, RelPath, Snapshot};

    use super::*;
    use crate::models::parse_models;

    fn proof(name: &str, code: &str) -> Proof {
        let file = RelPath::parse("a.py").unwrap();
        let files = FileTree::from([(file, code.as_bytes().to_vec())]);
        Proof { name: name.to_owned(), right: name == "right", answer: Submission::Files(files) }
    }

    fn task(difficulty: u8) -> Task {
        Task {
            name: "gap".into(),
            title: "Gap".into(),
            language: "python".into(),
            category: "c".into(),
            difficulty,
            points: 1.0,
            tags: Vec::new(),
            limits: LimitSettings::default(),
            rerun_failures: 0,
            tell_passed: false,
            packages: Vec::new(),
            statement: "Say it.".into(),
            given: Snapshot::new(),
            images: Vec::new(),
            proofs: vec![proof("right", "RIGHT = 1\nMORE = 2\n"), proof("wrong", "WRONG = 1\n")],
            digest: Digest::of(b""),
            whole_digest: Digest::of(b""),
        }
    }

    fn model(skill: f64, tidy: f64) -> Model {
        let text = format!(
            "[[model]]\nname = \"auk\"\nskill = {skill:?}\nrepair = 0.5\ntidy = {tidy:?}\n\
             tokens_per_second = 1\n"
        );
        parse_models("m.toml", &text).unwrap().remove(0)
    }

    fn many(model: &Model, task: &Task, attempt: usize) -> Vec<SimulatedAnswer> {
        let say = |request_seed| answer(Moment { seed: 1, request_seed, attempt, model, task });
        (0..400).map(say).collect()
    }

    /// The share of answers that are the right code and nothing else.
    fn right(said: &[SimulatedAnswer]) -> f64 {
        let whole = said.iter().filter(|it| it.text == "```python\nRIGHT = 1\nMORE = 2\n```");
        whole.count() as f64 / said.len() as f64
    }

    #[test]
    fn skill_decides_how_often_a_first_answer_is_right() {
        let shares: Vec<f64> =
            (1..=5).map(|it| right(&many(&model(3.0, 1.0), &task(it), 1))).collect();
        assert!(shares.windows(2).all(|pair| pair[0] > pair[1]), "{shares:?}");
        assert!((shares[2] - 0.5).abs() < 0.08, "{shares:?}");
        let repaired = right(&many(&model(-9.0, 1.0), &task(5), 2));
        assert!((repaired - 0.5).abs() < 0.08, "{repaired}");
    }

    #[test]
    fn the_same_moment_gets_the_same_answer() {
        let (model, task) = (model(3.0, 0.5), task(3));
        assert_eq!(many(&model, &task, 1), many(&model, &task, 1));
        assert_ne!(many(&model, &task, 1), many(&model, &task, 2));
    }

    #[test]
    fn there_are_many_ways_to_go_wrong_and_to_be_untidy() {
        let wrong = many(&model(-9.0, 1.0), &task(3), 1);
        let some = |test: &dyn Fn(&SimulatedAnswer) -> bool| assert!(wrong.iter().any(test));
        some(&|it| it.text.contains("WRONG"));
        some(&|it| it.text.contains("raise RuntimeError"));
        some(&|it| it.text.contains("while True"));
        some(&|it| !it.text.contains("```"));
        some(&|it| it.cut_off);
        some(&|it| it.text.starts_with("```javascript"));
        assert_eq!(right(&wrong), 0.0);
        let untidy = many(&model(99.0, 0.0), &task(3), 1);
        assert_eq!(right(&untidy), 0.0);
        assert!(untidy.iter().all(|it| it.text.contains("RIGHT = 1\nMORE = 2")));
    }
}
