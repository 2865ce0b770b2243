//! Reading answers: what a common one takes, and whether a long one takes no more than its length.

use std::hint::black_box;

use fairtrial_benches::pair;
use fairtrial_core::answer::{AnswerEnd, Unchecked, Wanted, WantedKind, read_answer};
use fairtrial_core::digest::Digest;
use fairtrial_core::language::Languages;
use fairtrial_core::tree::{FileTree, RelPath};

const ROUNDS: usize = 200;

/// What answers that are made to keep a reader busy are made of.
const UNITS: &[&str] = &[
    "```\n",
    "```python\n",
    "~~~\n```a\n",
    "```python\ndef tide_gap(x):\n    return x\n```\n",
    "<think>\n",
    "</think>\n",
    "**Analysis**\n",
    "# a.py\n```\n",
    "> ```\n",
    "\u{201c}x\u{201d}\n",
    "{\"code\": [\n",
    "cat <<EOF\n",
    "\"\"\"\n",
    "@@ -1 +1 @@\n",
    "<<<<<<< SEARCH\n",
    "def tide_gap(x):\n",
    "# ... rest\n",
    "<file path=\"a.py\">\n",
    "import a\n",
    "a = b(\n",
    "x```\n",
    "```md\n```python\n",
    "<|end|>\n",
    "    x\n",
    "```json\n{}\n```\n",
    "`",
    "é",
    "\u{1b}[1m",
    "&lt;",
    "'",
];

#[expect(clippy::print_stdout, reason = "a benchmark's figures are its output")]
fn main() {
    let body = "    total = total + depth  # in decimetres\n".repeat(90);
    let code =
        format!("def tide_gap(high, low):\n    total, depth = high, low\n{body}    return total\n");
    let clean = format!("```python\n{code}```\n");
    let several = format!(
        "Here is the code:\n\n```python\n{code}```\n\nTry it:\n\n```python\nprint(tide_gap(3, 1))\n```\n\nIt \
         prints\n\n```\n3\n```\n"
    );
    let (languages, file) = (Languages::shipped(), RelPath::parse("solution.py").expect("a path"));
    let (kind, given) = (WantedKind::Definition("tide_gap".to_owned()), FileTree::new());
    let wanted = Wanted {
        file: &file,
        language: "python",
        kind: &kind,
        languages: &languages,
        given: &given,
        packages: &[],
    };
    let read = |text: &str| {
        let _ = black_box(read_answer(black_box(text), wanted, AnswerEnd::Complete, &Unchecked));
    };
    for (what, text) in [("one clean block", &clean), ("three blocks and text", &several)] {
        let hash = || {
            let _ = black_box(Digest::of(black_box(text.as_bytes())));
        };
        let found = pair(ROUNDS, || read(text), hash);
        println!(
            "{what}, {} bytes: {:.3} ms, {:.1} times hashing it",
            text.len(),
            found.ours.as_secs_f64() * 1e3,
            found.ratio
        );
    }
    let mut worst = (0.0, "");
    for unit in UNITS {
        let text = |bytes: usize| unit.repeat(bytes / unit.len());
        let (short, long) = (text(100_000), text(1_000_000));
        let found = pair(3, || read(&long), || read(&short));
        println!(
            "{unit:?}: 1 MB {:.0} ms, {:.1} times 0.1 MB",
            found.ours.as_secs_f64() * 1e3,
            found.ratio
        );
        if found.ratio > worst.0 {
            worst = (found.ratio, unit);
        }
    }
    println!("at most {:.1} times as long for ten times the length ({:?})", worst.0, worst.1);
}
