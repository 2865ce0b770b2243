//! What a piece of code looks like: its language, the names that it defines.

use std::sync::LazyLock;

use regex::Regex;

/// Patterns of one language.
struct Marks {
    language: &'static str,
    /// A line with which code of this language begins.
    begins: Regex,
    /// Lines that are typical of it.
    typical: Regex,
    /// A top-level definition; the first group is the name.
    defines: Regex,
}

static MARKS: LazyLock<Vec<Marks>> = LazyLock::new(|| {
    let marks = |language, begins: &str, typical: &str, defines: &str| Marks {
        language,
        begins: Regex::new(begins).expect("fixed"),
        typical: Regex::new(typical).expect("fixed"),
        defines: Regex::new(defines).expect("fixed"),
    };
    vec![
        marks(
            "python",
            r"^(?:import \w[\w.]*(?: as \w+)?(?:\s*,\s*\w[\w.]*)*\s*(?:#.*)?$|from [\w.]+ import |(?:async )?def \w+\(|class \w+.*:|@\w+|#!.*python|if __name__)",
            r"(?m)^\s*(?:(?:async )?def \w+\(.*\).*:|(?:el)?if .+:|else:|for .+ in .+:|while .+:|import \w+|from [\w.]+ import |try:|except.*:|with .+:|return\b.*[^;{]$|print\(.*\)$|\w+ = .*[^;{]$)",
            r"(?m)^(?:(?:async )?def|class)\s+(\w+)|^(\w+)\s*(?::[^=\n]+)?=[^=]",
        ),
        marks(
            "javascript",
            r#"^(?:(?:export )?(?:default )?(?:async )?function\b|(?:const|let|var) [\w{\[]|import .+ from ['"]|['"]use strict|class \w+ (?:extends \w+ )?\{|export |module\.exports|process\.|#!.*node)"#,
            r"(?m)^\s*(?:(?:export )?(?:async )?function\b.*\{|(?:const|let) .+|.*=> ?[\{(\w].*|console\.log\(.*|.*require\(.*|module\.exports.*|process\.\w+.*)",
            r"(?m)^(?:export\s+)?(?:default\s+)?(?:async\s+)?(?:function\*?|class|const|let|var)\s+(\w+)|^(?:module\.)?exports\.(\w+)\s*=",
        ),
        marks(
            "c++",
            r"^(?:#include\s*<(?:iostream|vector|string|map|algorithm|set|bits/stdc\+\+\.h|sstream|cstdio|unordered_map|iomanip|fstream|queue)>|using namespace|template\s*<)",
            r"(?m)^\s*(?:#include\s*<(?:iostream|vector|string|map|algorithm|set|bits/stdc\+\+\.h|sstream|unordered_map)>|using (?:namespace )?std|.*std::\w+|.*\bcout\b.*<<|.*\bcin\b.*>>|template\s*<)",
            r"(?m)^(?:class|struct)\s+(\w+)|^[\w:<>,*& ]+\s[*&]?(\w+)\s*\([^;]*\)\s*\{",
        ),
        marks(
            "c",
            r"^(?:#include\s*[<\x22]\w+\.h[>\x22]|#define |int main\s*\(|static |typedef |struct \w+ \{)",
            r"(?m)^\s*(?:#include\s*[<\x22]\w+\.h[>\x22]|int main\s*\(.*|.*\bprintf\(.*\);|.*\bscanf\(.*\);|typedef struct.*)",
            r"(?m)^[\w* ]+\s\*?(\w+)\s*\([^;]*\)\s*\{",
        ),
        marks(
            "rust",
            r"^(?:use (?:std|core|crate|super)::|(?:pub )?fn \w+|(?:pub )?(?:struct|enum|impl|trait|mod) |#!?\[)",
            r"(?m)^\s*(?:(?:pub )?fn \w+.*\{|let (?:mut )?\w+.*|use \w+::.*;|.*println!\(.*|impl\b.*\{|match .+\{|#\[derive.*)",
            r"(?m)^(?:pub(?:\([^)]*\))?\s+)?(?:async\s+)?(?:fn|struct|enum|trait|const|static|type|mod)\s+(\w+)",
        ),
        marks(
            "java",
            r"^(?:import java|package [\w.]+;|public (?:final |abstract )?(?:class|interface|enum|record)|(?:final |abstract )?class \w+(?: extends \w+)?(?: implements .+)? ?\{)",
            r"(?m)^\s*(?:import java.*;|public (?:static |final )*[\w<>\[\]]+ .*\{|.*System\.(?:out|in|err)\b.*|public static void main.*|private .*;)",
            r"(?m)^(?:public |final |abstract )*(?:class|interface|enum|record)\s+(\w+)",
        ),
        marks(
            "shell",
            r"^(?:#!.*\bsh\b|#!.*\b(?:ba|da|k|z)sh\b|set -|while (?:IFS=\S* )?read |for \w+ in |if \[|case .+ in$|awk |sed |sort\b|grep |cut |tr |echo |printf |\w+=\S*$|\w+\(\) ?\{)",
            r"(?m)^\s*(?:#!.*sh$|(?:el)?if \[.*|then$|fi$|done.*|do$|esac$|while .*\bread\b.*|echo .*|printf .*[^;)]$|.*\$\{?\w+.*)",
            r"(?m)^(?:function )?(\w+)\s*\(\)\s*\{",
        ),
    ]
});

fn marks(language: &str) -> Option<&'static Marks> {
    MARKS.iter().find(|it| it.language == language)
}

/// Whether anything is known here of `language`; a user's own languages are not.
pub fn is_known(language: &str) -> bool {
    marks(language).is_some()
}

/// Whether `line` could be the first of a piece of code in `language`. A language that is not
/// known here begins with any line.
pub fn begins(language: &str, line: &str) -> bool {
    marks(language).is_none_or(|it| it.begins.is_match(line))
}

/// How many lines are typical of `language`, from 0 to 1.
pub fn likeness(language: &str, code: &str) -> f64 {
    let lines = code.lines().filter(|line| !line.trim().is_empty()).count().max(1);
    marks(language).map_or(0.0, |it| it.typical.find_iter(code).count() as f64 / lines as f64)
}

/// The language that `code` looks like most; `None` when it looks like none.
pub fn guess(code: &str) -> Option<&'static str> {
    let scored = MARKS.iter().map(|it| (it.language, likeness(it.language, code)));
    scored.filter(|it| it.1 >= 0.2).max_by(|a, b| a.1.total_cmp(&b.1)).map(|it| it.0)
}

/// Whether `code` defines `name` at its top level. `Class.method` asks for the class.
pub fn defines(language: &str, code: &str, name: &str) -> bool {
    let name = name.split('.').next().unwrap_or(name);
    definitions(language, code).iter().any(|it| it == name)
}

/// The names that `code` defines at its top level; empty for a language that is not known here.
pub fn definitions(language: &str, code: &str) -> Vec<String> {
    let Some(marks) = marks(language) else {
        return Vec::new();
    };
    let names = marks.defines.captures_iter(code);
    names
        .filter_map(|found| found.iter().skip(1).flatten().next())
        .map(|name| name.as_str().to_owned())
        .collect()
}

/// What a whole program has that is run, by language.
static ENTRIES: LazyLock<Vec<(&str, Regex)>> = LazyLock::new(|| {
    let main = r"\bmain\s*\(";
    let python = r"(?m)^if\s+__name__|\b(?:input|print)\(|\bsys\.(?:stdin|argv|stdout)|^main\(";
    [
        ("c", main),
        ("c++", main),
        ("rust", r"\bfn\s+main\s*\("),
        ("java", r"\bvoid\s+main\s*\("),
        ("python", python),
        ("javascript", r"console\.log|process\.|require\("),
    ]
    .map(|(language, mark)| (language, Regex::new(mark).expect("fixed")))
    .into()
});

/// Whether `code` has what a whole program of `language` starts with when it is run.
pub fn has_entry(language: &str, code: &str) -> bool {
    let mark = ENTRIES.iter().find(|it| it.0 == language);
    mark.is_none_or(|it| it.1.is_match(code))
}

/// Whether `name` occurs in `code` as a word of its own.
pub fn mentions(code: &str, name: &str) -> bool {
    let is_word = |c: char| c.is_alphanumeric() || c == '_';
    code.match_indices(name).any(|(at, _)| {
        !code[..at].ends_with(is_word) && !code[at + name.len()..].starts_with(is_word)
    })
}
