//! Answers as models send them, and what is read from them.

use super::*;

const GAP: &str = "def tide_gap(high, low):\n    return high - low\n";

fn read_as(text: &str, language: &str, file: &str, name: Option<&str>) -> Reading {
    let languages = Languages::shipped();
    let file = RelPath::parse(file).unwrap();
    read_answer(text, Wanted { file: &file, language, name, languages: &languages }, false)
}

fn read(text: &str) -> Reading {
    read_as(text, "python", "solution.py", Some("tide_gap"))
}

fn code(reading: &Reading) -> String {
    let files = reading.lenient.as_ref().unwrap();
    let main = files.iter().find(|(path, _)| path.stem() == "solution" || path.stem() == "main");
    String::from_utf8(main.unwrap().1.clone()).unwrap()
}

#[test]
fn exactly_what_was_asked_for_has_no_deviation() {
    for text in [
        format!("```python\n{GAP}```"),
        format!("\n```\n{GAP}```\n"),
        format!("~~~py\n{GAP}~~~"),
        format!("```python solution.py\n{GAP}```"),
    ] {
        let reading = read(&text);
        assert_eq!(reading.deviations, [], "{text}");
        assert_eq!(reading.strict.as_ref(), reading.lenient.as_ref().ok());
        assert_eq!(code(&reading), GAP);
    }
}

#[test]
fn what_surrounds_the_code_is_forgiven_and_named() {
    use Deviation::{NoFence, OtherFileName, SeveralBlocks, TextAround, UnclosedFence};
    let cases: &[(String, &[Deviation])] = &[
        (format!("Here it is:\n```python\n{GAP}```\nIt works."), &[TextAround]),
        (GAP.to_owned(), &[NoFence]),
        (
            format!("Sure, here is the code you want:\n\n{GAP}\nThis returns the gap."),
            &[TextAround, NoFence],
        ),
        (format!("```python\n{GAP}"), &[UnclosedFence]),
        (format!("```python\n{GAP}```\n```python\nprint(tide_gap(3, 1))\n```"), &[SeveralBlocks]),
        (
            format!("```python\n{GAP}```\nRun it:\n```bash\npython solution.py\n```"),
            &[TextAround, SeveralBlocks],
        ),
        (format!("**gap.py**\n```python\n{GAP}```"), &[OtherFileName]),
        (
            format!(
                "1. The file:\n   ```python\n{}   ```",
                GAP.replace("def", "   def").replace("    return", "       return")
            ),
            &[TextAround],
        ),
        (format!("\"\"\"\n{GAP}\"\"\""), &[NoFence]),
        (format!("python\n{GAP}"), &[NoFence]),
    ];
    for (text, expected) in cases {
        let reading = read(text);
        assert_eq!(code(&reading), GAP, "{text}");
        assert_eq!(&reading.deviations, expected, "{text}");
        assert_eq!(reading.strict, None, "{text}");
        assert_eq!(reading.judged(ReadingMode::Strict), Err(FailReason::NoCodeFound));
    }
}

#[test]
fn thoughts_tags_and_indentation_around_the_code_are_forgiven() {
    let indented: String = GAP.lines().map(|line| format!("    {line}\n")).collect();
    for text in [
        format!(
            "<think>First I try\n```python\ndef tide_gap(a, b):\n    return 0\n```\n</think>\n```python\n{GAP}```"
        ),
        format!("[PYTHON]\n{GAP}[/PYTHON]"),
        format!("<answer>\n{GAP}</answer>\n"),
        format!("Here is the code:\n\n{indented}\nIt gives back the gap."),
    ] {
        let reading = read(&text);
        assert_eq!(code(&reading), GAP, "{text}");
        assert_eq!(reading.strict, None, "{text}");
        assert!(reading.deviations.contains(&Deviation::TextAround), "{text}");
    }
}

#[test]
fn the_last_whole_version_wins_and_tests_after_it_do_not() {
    let first = "```python\ndef tide_gap(a, b):\n    return b - a\n```\nNo, that is wrong:\n";
    let tests = "```python\nassert tide_gap(3, 1) == 2\n```";
    assert_eq!(code(&read(&format!("{first}```python\n{GAP}```\n{tests}"))), GAP);
    let stub = "```python\ndef tide_gap(high, low):\n    # rest as before\n```";
    let reading = read(&format!("```python\n{GAP}```\nIn short:\n{stub}"));
    assert_eq!(code(&reading), GAP);
    assert!(!reading.incomplete);
}

#[test]
fn a_block_that_needs_an_earlier_one_gets_it() {
    let text = "```python\ndef span(a, b):\n    return a - b\n```\nand\n\
                ```python\ndef tide_gap(high, low):\n    return span(high, low)\n```";
    let reading = read(text);
    assert!(code(&reading).starts_with("def span"));
    assert!(reading.deviations.contains(&Deviation::BlocksJoined));
}

#[test]
fn several_named_files_are_all_taken() {
    for named in [
        format!("### `tides/span.py`\n```python\nX = 1\n```\n### solution.py\n```python\n{GAP}```"),
        format!("```python tides/span.py\nX = 1\n```\n```python:solution.py\n{GAP}```"),
        format!("```python\n# tides/span.py\nX = 1\n```\n```python\n# solution.py\n{GAP}```"),
    ] {
        let reading = read(&named);
        let files: Vec<_> = reading.lenient.as_ref().unwrap().keys().map(RelPath::as_str).collect();
        assert_eq!(files, ["solution.py", "tides/span.py"], "{named}");
        assert!(reading.deviations.contains(&Deviation::ExtraFile));
    }
}

#[test]
fn a_file_name_cannot_lead_out_of_the_folder() {
    let reading = read(&format!("```python ../../etc/cron.py\nX = 1\n```\n```python\n{GAP}```"));
    assert_eq!(reading.lenient.unwrap().len(), 1);
}

#[test]
fn typographic_marks_are_mended_outside_of_strings_only() {
    let text = "```python\ndef tide_gap(high, low):\n    name = “it’s – fine”\n    \
                other = \"keep – ’this’\"  # and – this\n\u{a0}\u{a0}\u{a0} return high – low\n```";
    let mut reading = read(text);
    reading.take_mended();
    let expected = "def tide_gap(high, low):\n    name = \"it's - fine\"\n    \
                    other = \"keep – ’this’\"  # and – this\n    return high - low\n";
    assert_eq!(code(&reading), expected);
    assert_eq!(reading.deviations, [Deviation::TypographicMarks]);
    assert_ne!(reading.strict, reading.lenient.ok());
}

#[test]
fn no_code_and_wrong_language_have_their_own_reasons() {
    use FailReason::{NoCodeFound, WrongLanguage};
    for (text, reason) in [
        ("I am not sure how to do that. First, think about the tide.", NoCodeFound),
        ("", NoCodeFound),
        ("```text\n3 1 2\n```", NoCodeFound),
        ("```javascript\nfunction tide_gap(h, l) { return h - l; }\n```", WrongLanguage),
        ("```\nfunction tide_gap(h, l) {\n  const x = 1;\n  return h - l;\n}\n```", WrongLanguage),
        ("```typescript\nexport function f(): number { return 1 }\n```", WrongLanguage),
        ("#include <stdio.h>\nint main(void) {\n  printf(\"%d\", 2);\n}", WrongLanguage),
        (
            "1. Open the editor and write a function\n2. Then subtract the values\n3. Done",
            NoCodeFound,
        ),
    ] {
        assert_eq!(read(text).lenient, Err(reason), "{text}");
    }
}

#[test]
fn what_is_left_out_is_noticed() {
    for line in [
        "# ... rest of the code stays the same",
        "# rest as before",
        "    # (unchanged)",
        "...",
        "# Your code here",
        "// ... existing code ...",
        "/* remaining methods */",
        "# TODO: implement",
    ] {
        assert!(read(&format!("```python\n{GAP}{line}\n```")).incomplete, "{line}");
    }
    for line in [
        "# the remaining depth is what the rest of the fleet has",
        "x = [...]",
        "# previous tide minus this one",
        "# same as low, but later",
        "print('... the rest stays the same')",
    ] {
        let text = format!("```python\n{GAP}{line}\n```");
        let honest = !read(&text).incomplete;
        assert!(honest || line.contains("rest of"), "{line}");
    }
}

#[test]
fn an_answer_cut_off_by_the_host_is_incomplete() {
    let languages = Languages::shipped();
    let file = RelPath::parse("solution.py").unwrap();
    let wanted = Wanted { file: &file, language: "python", name: None, languages: &languages };
    assert_eq!(read_answer("Let me think", wanted, true).lenient, Err(FailReason::Incomplete));
    assert!(read_answer("```python\ndef t(", wanted, true).incomplete);
    // A block that does not end is no gap by itself, unless the code does not build.
    let unclosed = read("```python\ndef tide_gap(high, low):\n    return (high -");
    let fail = |reason| Verdict::Fail(reason);
    assert_eq!(unclosed.explained(fail(FailReason::DidNotBuild)), fail(FailReason::Incomplete));
    assert_eq!(unclosed.explained(fail(FailReason::WrongResult)), fail(FailReason::WrongResult));
    assert_eq!(unclosed.explained(Verdict::Pass), Verdict::Pass);
}

#[test]
fn whole_programs_are_told_from_how_to_run_them() {
    let c = "#include <stdio.h>\nint main(void) {\n    puts(\"x\");\n    return 0;\n}\n";
    let text =
        format!("Compile:\n```bash\ncc main.c\n```\nThe code:\n```c\n{c}```\nPrints:\n```\nx\n```");
    assert_eq!(code(&read_as(&text, "c", "main.c", None)), c);
    let tagged = format!("```cpp\n{c}```");
    let reading = read_as(&tagged, "c", "main.c", None);
    assert_eq!(reading.deviations, [Deviation::OtherTag]);
    let sh = "#!/bin/sh\nwhile read -r line; do\n  echo \"$line\"\ndone\n";
    assert_eq!(code(&read_as(&format!("```bash\n{sh}```"), "shell", "main.sh", None)), sh);
    let rust = "use std::io;\n\nfn main() {\n    println!(\"x\");\n}\n";
    assert_eq!(code(&read_as(&format!("Here you go:\n\n{rust}"), "rust", "main.rs", None)), rust);
}

#[test]
fn an_answer_made_to_keep_the_reader_busy_is_read_all_the_same() {
    // Each of these took minutes when something was done for every pair of blocks or names.
    let labelled: String =
        (0..8_000).map(|i| format!("prose {i}\n``` f{i}.py\ndef n{i}(): pass\n```\n")).collect();
    assert_eq!(read(&labelled).lenient.map(|files| files.len()), Ok(8_000));
    let names: String = (0..8_000).map(|i| format!("def n{i}(): pass\n")).collect();
    let blocks = format!("```python\n{names}```\n").repeat(30) + &format!("```python\n{GAP}```");
    assert_eq!(code(&read(&blocks)), GAP);
    assert!(read(&"```\n".repeat(50_001)).lenient.is_err());
}

#[test]
fn marks_of_a_typesetter_are_left_and_a_mended_version_is_there_for_code_that_is_not_sound() {
    for (language, code) in [
        ("rust", "fn main() {\n    let c = '\u{2019}';\n    println!(\"{c}\");\n}\n"),
        ("shell", "cat <<END\nit\u{2019}s \u{201c}fair\u{201d}\nEND\n"),
        ("java", "class A { String s = \"\"\"\n    \u{201c}fair\u{201d}\n    \"\"\"; }\n"),
    ] {
        let file = if language == "java" { "solution.java" } else { "solution.x" };
        let reading = read_as(&format!("```{language}\n{code}```"), language, file, None);
        assert_eq!(super::tests::code(&reading), code);
        assert_eq!((reading.deviations.len(), reading.strict.is_some()), (0, true));
    }
    let mut reading =
        read("```python\ndef tide_gap(high, low):\n    return high \u{2212} low\n```");
    assert!(reading.mended.is_some());
    reading.take_mended();
    assert_eq!(code(&reading), GAP);
    assert_eq!(reading.deviations, [Deviation::TypographicMarks]);
}

#[test]
fn three_dots_that_the_language_accepts_leave_nothing_out() {
    let draft = "def tide_gap(high, low):\n    return low - high\n";
    let protocol = "from typing import Protocol\n\nclass Tide(Protocol):\n    def height(self) -> float:\n        ...\n\n";
    for last in [format!("{protocol}{GAP}"), format!("{GAP}\n\nclass Unknown:\n    ...\n")] {
        let text = format!("A draft:\n```python\n{draft}```\nBetter:\n```python\n{last}```\n");
        let reading = read(&text);
        assert_eq!((code(&reading), reading.incomplete), (last, false));
    }
    // But a stub of what is wanted is no answer, nor is a file with a part left out.
    for stub in [
        "def tide_gap(high, low):\n    ...\n",
        "import math\n...\ndef tide_gap(high, low): return 0\n",
    ] {
        let reading = read(&format!("```python\n{GAP}```\nIn short:\n```python\n{stub}```\n"));
        assert_eq!(code(&reading), GAP, "{stub}");
    }
    assert!(!elision::leaves_out("int say(const char *form,\n    ...\n);\n", &syntax("c"), None));
    assert!(elision::leaves_out("int a;\n...\nint b;\n", &syntax("c"), None));
}

#[test]
fn blocks_are_not_joined_for_names_that_the_code_binds_itself() {
    let cases = [
        ("high = int(input())\nlow = 3\n", GAP),
        ("depth = 7\n", "def tide_gap(high, low):\n    depth = high - low\n    return depth\n"),
        (
            "row = [1, 2]\n",
            "def tide_gap(high, low):\n    return sum(row for row in (high, -low))\n",
        ),
    ];
    for (earlier, own) in cases {
        let reading = read(&format!("```python\n{earlier}```\n```python\n{own}```\n"));
        assert_eq!(code(&reading), own, "{earlier}");
    }
    let helper = "def less(a, b):\n    return a - b\n";
    let own = "def tide_gap(high, low):\n    return less(high, low)\n";
    let reading = read(&format!("```python\n{helper}```\n```python\n{own}```\n"));
    assert_eq!(code(&reading), format!("{helper}\n{own}"));
}

#[test]
fn tests_and_demonstrations_are_not_taken_for_the_program() {
    let program = "import sys\n\ndef gap(a, b):\n    return a - b\n\nprint(gap(*map(int, sys.stdin.read().split())))\n";
    let others = [
        "import unittest\nfrom solution import gap\n\nclass Gap(unittest.TestCase):\n    def test_one(self):\n        self.assertEqual(gap(3, 1), 2)\n    def test_two(self):\n        self.assertEqual(gap(5, 8), -3)\n\nif __name__ == '__main__':\n    unittest.main()\n",
        "import subprocess, sys\n\nfor case in [('3 1', '2'), ('5 8', '-3'), ('9 9', '0')]:\n    out = subprocess.run([sys.executable, 'solution.py'], input=case[0], capture_output=True, text=True).stdout\n    print(case, out.strip() == case[1], sys.argv)\n",
        "print(gap(3, 1))\nprint(gap(5, 8))\n",
        "def gap(a, b):\n    return a - b\n",
    ];
    for other in others {
        for text in [
            format!("```python\n{program}```\n```python\n{other}```\n"),
            format!("```python\n{other}```\n```python\n{program}```\n"),
        ] {
            let reading = read_as(&text, "python", "solution.py", None);
            assert!(code(&reading).ends_with(program), "{text}\n{}", code(&reading));
        }
    }
    // A later version wins over a longer draft.
    let draft = format!("# first try\n{}", program.replace("a - b", "b - a - 0 + 0 * (a + b)"));
    let reading = read_as(
        &format!("```python\n{draft}```\n```python\n{program}```"),
        "python",
        "solution.py",
        None,
    );
    assert_eq!(code(&reading), program);
}

fn syntax(language: &str) -> crate::language::Syntax {
    Languages::shipped().find(language).unwrap().syntax.clone()
}
