//! Code that is quoted, numbered, indented, escaped or coloured: put back to what it was.
//!
//! Each way is taken only where the code is not sound as it stands, and is so afterwards.

use std::sync::LazyLock;

use regex::Regex;

use super::scan::{self, SpanKind};
use super::{Deviation, mend};
use crate::language::Syntax;

/// A way to put code back.
pub struct Mend {
    /// What it does, in words.
    pub what: &'static str,
    /// What that is noted as.
    pub deviation: Deviation,
    /// Does it; `None` where there is nothing to do.
    pub apply: fn(&str, &Syntax) -> Option<String>,
}

/// The ways, in the order in which they are tried.
pub const MENDS: &[Mend] = &[
    Mend {
        what: "took off an end-of-text mark",
        deviation: Deviation::EndMark,
        apply: |it, _| without_end_marks(it),
    },
    Mend {
        what: "took off a fence",
        deviation: Deviation::UnclosedFence,
        apply: |it, _| without_fences(it),
    },
    Mend {
        what: "took off colours of a terminal",
        deviation: Deviation::Wrapped,
        apply: |it, _| without_colours(it),
    },
    Mend {
        what: "took off the indentation",
        deviation: Deviation::Wrapped,
        apply: |it, _| dedented(it),
    },
    Mend {
        what: "took off line numbers",
        deviation: Deviation::Wrapped,
        apply: |it, _| without_numbers(it),
    },
    Mend {
        what: "took off prompts",
        deviation: Deviation::Wrapped,
        apply: |it, _| without_prompts(it),
    },
    Mend {
        what: "took off marks of quotation",
        deviation: Deviation::Wrapped,
        apply: |it, _| unquoted(it),
    },
    Mend {
        what: "put HTML back to characters",
        deviation: Deviation::Wrapped,
        apply: |it, _| unescaped(it),
    },
    Mend {
        what: "took off commands of a notebook",
        deviation: Deviation::Wrapped,
        apply: |it, _| without_magics(it),
    },
    Mend {
        what: "took off the language's name",
        deviation: Deviation::Wrapped,
        apply: |it, _| without_name(it),
    },
    Mend {
        what: "took the code out of its quotes",
        deviation: Deviation::Wrapped,
        apply: |it, _| out_of_quotes(it),
    },
    Mend {
        what: "put line breaks back",
        deviation: Deviation::Wrapped,
        apply: |it, _| with_line_breaks(it),
    },
    Mend {
        what: "put typographic marks back",
        deviation: Deviation::TypographicMarks,
        apply: typographic,
    },
    Mend {
        what: "put typographic marks back, in strings, too",
        deviation: Deviation::TypographicMarks,
        apply: |it, _| changed(it, mend::mend_all(it)),
    },
];

fn typographic(code: &str, syntax: &Syntax) -> Option<String> {
    changed(code, mend::mend(code, syntax))
}

fn changed(before: &str, after: String) -> Option<String> {
    (after != before && !after.trim().is_empty()).then_some(after)
}

static END_MARK: LazyLock<Regex> = LazyLock::new(|| {
    Regex::new(
        r"(?mi)(?:<[|｜][\w▁]{2,30}[|｜]>|</s>|<eo[st]>|<end_of_(?:turn|text)>|\[/?(?:EOS|EOT|END|INST)\])+[ \t]*(?:assistant|user)?[ \t]*$",
    )
    .expect("fixed")
});

/// Without marks that end a model's text; what stands behind one on lines of its own is gone with it.
pub fn without_end_marks(code: &str) -> Option<String> {
    let found = END_MARK.find(code)?;
    let kept = code[..found.start()].trim_end_matches([' ', '\t']);
    changed(
        code,
        if kept.ends_with('\n') || kept.is_empty() { kept.to_owned() } else { format!("{kept}\n") },
    )
}

/// Whether a line is a mark that ends a model's text, so that what follows was not said to anybody.
pub fn is_text_end(line: &str) -> bool {
    let line = line.to_lowercase();
    is_end_mark(&line)
        && ["end", "eot", "eos", "</s>", "return", "stop"].iter().any(|it| line.contains(it))
}

/// Whether a line is nothing but such a mark.
pub fn is_end_mark(line: &str) -> bool {
    END_MARK.find(line.trim()).is_some_and(|it| it.start() == 0)
}

/// Without a fence in its first or last line, or behind its last word.
fn without_fences(code: &str) -> Option<String> {
    let mut kept = code.trim_end();
    kept = kept.trim_end_matches(['`', '~']);
    if let Some((first, rest)) = kept.split_once('\n')
        && (first.starts_with("```") || first.starts_with("~~~"))
    {
        kept = rest;
    }
    changed(code, format!("{}\n", kept.trim_end())).filter(|it| it.trim_end() != code.trim_end())
}

/// Without the codes by which a terminal colours.
pub fn without_colours(code: &str) -> Option<String> {
    static CODES: LazyLock<Regex> = LazyLock::new(|| {
        Regex::new(r"\x1b\[[0-9;?]*[A-Za-z]|\x1b\][^\x07\x1b]*(?:\x07|\x1b\\)").expect("fixed")
    });
    if !code.contains('\x1b') {
        return None;
    }
    changed(code, CODES.replace_all(code, "").into_owned())
}

/// Without the indentation that all lines have in common.
fn dedented(code: &str) -> Option<String> {
    let lines = || code.lines().filter(|it| !it.trim().is_empty());
    let depth = |line: &str| line.len() - line.trim_start_matches([' ', '\t']).len();
    // A first line that is not indented while all others are: it was cut out so.
    let all = lines().map(depth).min()?;
    let others = lines().skip(1).map(depth).min().unwrap_or(0);
    let from_second = all == 0
        && others > 0
        && lines().next().is_some_and(|it| !it.trim_end().ends_with([':', '{', '(']));
    let least = if from_second { others } else { all };
    if least == 0 {
        return None;
    }
    let text: Vec<&str> = code
        .lines()
        .map(|line| if depth(line) >= least { &line[least..] } else { line.trim_start() })
        .collect();
    changed(code, text.join("\n") + "\n")
}

/// Without numbers that count the lines.
fn without_numbers(code: &str) -> Option<String> {
    static NUMBER: LazyLock<Regex> =
        LazyLock::new(|| Regex::new(r"^\s*(\d+)(?:\s?[|:│.)]\s?|\s)?").expect("fixed"));
    let mut expected = None;
    let mut counted = 0;
    let mut out = String::with_capacity(code.len());
    for line in code.lines() {
        if line.trim().is_empty() {
            out.push('\n');
            expected = expected.map(|it: u64| it + 1);
            continue;
        }
        let found = NUMBER.captures(line)?;
        let number: u64 = found[1].parse().ok()?;
        if expected.is_some_and(|it| number != it && number + 1 != it) {
            return None;
        }
        expected = Some(number + 1);
        counted += 1;
        out.push_str(&line[found[0].len()..]);
        out.push('\n');
    }
    // `1    def` stands one space behind the number, or as many as its widest has.
    (counted > 1).then(|| dedented(&out).unwrap_or(out))
}

/// Without the prompts of an interpreter; its output is left away.
fn without_prompts(code: &str) -> Option<String> {
    static PROMPT: LazyLock<Regex> = LazyLock::new(|| {
        Regex::new(r"^\s{0,3}(?:>>>(?: |$)|\.\.\.(?: |$)|In \[\d+\]: ?|\s*\.\.\.: ?|\$ |> |❯ )")
            .expect("fixed")
    });
    if !code.lines().any(|it| PROMPT.is_match(it)) {
        return None;
    }
    let lines = code.lines().filter_map(|line| PROMPT.find(line).map(|it| &line[it.end()..]));
    changed(code, lines.collect::<Vec<_>>().join("\n") + "\n")
}

/// Without a mark of quotation before each line.
pub fn unquoted(code: &str) -> Option<String> {
    let is_quoted = |line: &str| line.trim_start().starts_with('>');
    let mut lines = code.lines().filter(|it| !it.trim().is_empty()).peekable();
    lines.peek()?;
    if !lines.all(is_quoted) {
        return None;
    }
    let plain = |line: &str| {
        let rest = line.trim_start().strip_prefix('>').unwrap_or("");
        rest.strip_prefix(' ').unwrap_or(rest).to_owned()
    };
    changed(code, code.lines().map(plain).collect::<Vec<_>>().join("\n") + "\n")
}

/// The lines that are quoted, without their marks; the others as they are.
pub fn partly_unquoted(text: &str) -> Option<String> {
    let quoted = text.lines().filter(|it| it.starts_with('>')).count();
    if quoted < 2 {
        return None;
    }
    let plain = |line: &str| match line.strip_prefix('>') {
        Some(rest) => rest.strip_prefix(' ').unwrap_or(rest).to_owned(),
        None => line.to_owned(),
    };
    changed(text, text.lines().map(plain).collect::<Vec<_>>().join("\n") + "\n")
}

/// With references to characters, as HTML has them, put back.
pub fn unescaped(code: &str) -> Option<String> {
    if !code.contains('&') {
        return None;
    }
    let plain = [
        ("&lt;", "<"),
        ("&gt;", ">"),
        ("&quot;", "\""),
        ("&#39;", "'"),
        ("&#x27;", "'"),
        ("&apos;", "'"),
        ("&#34;", "\""),
        ("&nbsp;", " "),
        ("&#60;", "<"),
        ("&#62;", ">"),
        ("&#47;", "/"),
        ("&#x2F;", "/"),
        ("&amp;", "&"),
        ("&#38;", "&"),
    ];
    let text = plain.iter().fold(code.to_owned(), |text, (from, to)| text.replace(from, to));
    changed(code, text)
}

/// Whether references to characters, as HTML has them, stand in code outside of strings and comments, and are
/// no names with a sign before them.
pub fn is_escaped(code: &str, syntax: &Syntax) -> bool {
    let names = ["lt", "gt", "amp", "quot"];
    let spans = scan::spans(code, syntax);
    let parts =
        spans.iter().filter(|it| it.kind == SpanKind::Code).map(|it| &code[it.range.clone()]);
    let found = |name: &str| parts.clone().any(|it| it.contains(&format!("&{name};")));
    let is_given = |name: &str| syntax.bound_names(code).any(|it| it == name);
    names.iter().any(|name| found(name) && !is_given(name))
}

/// Without lines that are commands to a notebook or to its shell.
fn without_magics(code: &str) -> Option<String> {
    static MAGIC: LazyLock<Regex> = LazyLock::new(|| {
        Regex::new(r"^\s*(?:%{1,2}[A-Za-z]\w*|![A-Za-z]|\?\w+$|\w+\?$)").expect("fixed")
    });
    let kept: Vec<&str> = code.lines().filter(|it| !MAGIC.is_match(it)).collect();
    changed(code, kept.join("\n") + "\n").filter(|it| it.trim_end() != code.trim_end())
}

/// Without a first line that only names the language, or a key.
fn without_name(code: &str) -> Option<String> {
    let (first, rest) = code.trim_start_matches('\n').split_once('\n')?;
    let name = first.trim().trim_end_matches(':');
    let is_name = !name.is_empty()
        && name.len() < 16
        && name.chars().all(|c| c.is_alphanumeric() || matches!(c, '+' | '#' | '.' | ' '));
    is_name.then(|| rest.to_owned()).filter(|it| !it.trim().is_empty())
}

/// Without quotes around the whole.
pub fn out_of_quotes(code: &str) -> Option<String> {
    let text = code.trim();
    for quote in ["\"\"\"", "'''", "\"", "'", "“", "`"] {
        let close = if quote == "“" { "”" } else { quote };
        let inner = text.strip_prefix(quote).and_then(|it| it.strip_suffix(close));
        if let Some(inner) = inner.filter(|it| it.contains('\n') || it.contains("\\n")) {
            return changed(code, format!("{}\n", inner.trim_matches('\n')));
        }
    }
    None
}

/// With `\n` and the like, as they stand in a string of another language, put back to what they mean.
fn with_line_breaks(code: &str) -> Option<String> {
    if code.trim().contains('\n') || code.matches("\\n").count() < 2 {
        return None;
    }
    let text = code.trim().trim_matches('"');
    serde_json::from_str::<String>(&format!("\"{text}\"")).ok().filter(|it| it.contains('\n'))
}

/// What stands in the one fence of a text.
pub fn fenced(text: &str) -> Option<String> {
    let rest = text.trim().strip_prefix("```")?;
    let (_, rest) = rest.split_once('\n')?;
    let code = rest.strip_suffix("```")?;
    (!code.contains("```")).then(|| code.to_owned())
}

/// Whether code has anything that one of the ways could take off. Cheap; said of nearly no code.
pub fn has_marks(code: &str) -> bool {
    let begins = code.trim_start_matches('\n');
    mend::has_marks(code)
        || code.contains('\x1b')
        || begins.starts_with([' ', '\t', '>', '"', '\'', '`', '“'])
        || begins.starts_with("In [")
        || begins.trim_start().starts_with(|c: char| c.is_ascii_digit())
        || code.contains("&lt;")
        || code.contains("&gt;")
        || code.contains("&quot;")
        || code.contains("&amp;")
        || code.contains("&#")
        || code.contains("|>")
        || code.contains("｜>")
        || code.contains("</s>")
        || code.contains("<e")
        || code.contains("<EOT")
        || code.contains("[E")
        || code.contains("[/INST]")
        || code.contains("```")
        || code.lines().any(|it| it.starts_with(['%', '!', '?', '$']))
        || without_name(code).is_some()
}
