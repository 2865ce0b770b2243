//! What a block of code is made of, as far as its reader can see.

use std::collections::HashSet;
use std::sync::LazyLock;

use regex::Regex;

use super::scan::{self, SpanKind};
use super::{Wanted, WantedKind};
use crate::language::Syntax;

/// What is known of one block of code in the wanted language.
pub struct CodeFacts<'a> {
    /// The code.
    pub code: &'a str,
    /// It without comments and what stands in strings.
    pub bare: String,
    /// The names that it defines at its top level.
    pub defines: HashSet<String>,
    /// Whether the wanted name is among them, not only given a new value that is made of the old one.
    pub defines_wanted: bool,
    /// Whether of the wanted name there is only an outline.
    pub is_outline: bool,
    /// Whether it is tests, or has them.
    pub has_tests: bool,
    /// Whether it loads, includes or starts the answer's own file.
    pub loads_own: bool,
    /// Whether it does something when it is run.
    pub runs: bool,
    /// Whether it reads what it is given.
    pub reads_input: bool,
    /// Whether it only loads things.
    pub only_imports: bool,
    /// Whether it only loads, defines and sets constants.
    pub only_declares: bool,
    words: HashSet<&'a str>,
    bound: HashSet<&'a str>,
    lines: HashSet<&'a str>,
}

/// Names of one block that are looked at. An answer with more is no honest one, and must not keep the
/// reader busy.
const NAMES_MAX: usize = 300;

impl<'a> CodeFacts<'a> {
    /// What is known of `code`.
    pub fn of(code: &'a str, wanted: Wanted<'_>) -> Self {
        let syntax = wanted.syntax();
        let spans = scan::spans(code, syntax);
        let bare = scan::bare_code(code, &spans);
        let defines: HashSet<String> =
            syntax.definitions(code).into_iter().take(NAMES_MAX).collect();
        let defines_wanted = wanted.name().is_some_and(|name| {
            defines.contains(name) && !definitions_of(code, name, syntax).is_empty()
        });
        let has_no_body = |name: &str| is_outline(code, &bare, name, syntax);
        let is_outline = match wanted.name() {
            Some(name) => defines_wanted && has_no_body(name),
            None => !defines.is_empty() && defines.iter().all(|name| has_no_body(name)),
        };
        let only_declares = only_declares(&bare, wanted);
        let runs = syntax.has_entry(code) && (syntax.declares.is_none() || !only_declares);
        let import = syntax.imports.as_ref();
        let mut top = bare
            .lines()
            .filter(|it| !it.trim().is_empty() && !it.starts_with([' ', '\t', ')', '}']));
        let only_imports = import.is_some_and(|it| {
            bare.lines().any(|line| it.regex().is_match(line))
                && top.all(|line| it.regex().is_match(line))
        });
        Self {
            code,
            defines_wanted,
            is_outline,
            has_tests: syntax.has_tests(code),
            loads_own: loads_own(code, &spans, wanted),
            runs,
            reads_input: syntax.input.as_ref().is_some_and(|it| it.regex().is_match(code)),
            only_imports,
            only_declares,
            words: scan::words(code, &spans),
            bound: syntax.bound_names(code).collect(),
            lines: code.lines().map(str::trim).filter(|it| !it.is_empty()).collect(),
            defines,
            bare,
        }
    }

    /// Whether it uses `name` without giving it a meaning.
    pub fn lacks(&self, name: &str) -> bool {
        self.words.contains(name) && !self.defines.contains(name) && !self.bound.contains(name)
    }

    /// Whether it defines no function and no class but those in which a demonstration is written.
    pub fn defines_nothing(&self) -> bool {
        const FRAMES: &[&str] = &[
            "main", "Main", "Demo", "Example", "Usage", "App", "Runner", "demo", "example", "run",
        ];
        inner_definitions(&self.bare).iter().all(|it| FRAMES.contains(it))
    }

    /// The names that it gives others: what it defines, and what it loads.
    pub fn gives(&self, syntax: &Syntax) -> HashSet<String> {
        let mut names = self.defines.clone();
        let Some(imports) = &syntax.imports else { return names };
        for found in imports.regex().captures_iter(&self.bare) {
            let Some(list) = found.iter().skip(1).flatten().next() else { continue };
            let is_word = |c: char| c.is_alphanumeric() || c == '_';
            let words = list.as_str().split(|c| !is_word(c)).filter(|it| !it.is_empty());
            names.extend(words.take(NAMES_MAX).map(str::to_owned));
        }
        names
    }

    /// Whether it loads everything of something, so that it cannot be told which names it gives.
    pub fn loads_all(&self) -> bool {
        self.only_imports
            && self.bare.lines().any(|it| {
                it.contains('*')
                    || it.trim_start().starts_with("#include")
                    || it.contains("using namespace")
            })
    }

    /// Whether each of its lines is in a longer one.
    pub fn is_within(&self, whole: &Self) -> bool {
        whole.code.len() > self.code.len() && self.lines.is_subset(&whole.lines)
    }

    /// Whether it is a stretch of a longer one, to the letter.
    pub fn is_stretch_of(&self, whole: &str) -> bool {
        let own = self.code.trim();
        whole.len() > own.len() && !own.is_empty() && whole.contains(own)
    }

    /// Functions that it calls although nothing gives them a meaning; always empty where it is not known
    /// what is built in.
    pub fn unknown_calls(&self, syntax: &Syntax) -> Vec<String> {
        static CALL: LazyLock<Regex> =
            LazyLock::new(|| Regex::new(r"(?:^|[^\w.$@])([A-Za-z_]\w*)\(").expect("fixed"));
        if syntax.built_in.is_empty() || self.loads_all() || self.bare.contains("import *") {
            return Vec::new();
        }
        let defined = inner_definitions(&self.bare);
        let is_known = |name: &str| {
            self.defines.contains(name)
                || self.bound.contains(name)
                || defined.contains(name)
                || syntax.built_in.iter().any(|it| it == name)
        };
        let calls = CALL.captures_iter(&self.bare).filter_map(|it| it.get(1));
        let mut unknown: Vec<String> =
            calls.map(|it| it.as_str()).filter(|it| !is_known(it)).map(str::to_owned).collect();
        unknown.sort_unstable();
        unknown.dedup();
        unknown
    }
}

/// Names that are defined anywhere, methods among them.
fn inner_definitions(bare: &str) -> HashSet<&str> {
    static DEFINITION: LazyLock<Regex> = LazyLock::new(|| {
        Regex::new(r"(?m)\b(?:def|class|function\*?|fn|func)\s+(\w+)|^\s*(?:async |static |get |set |#)*(\w+)\([^)]*\)\s*\{")
            .expect("fixed")
    });
    DEFINITION
        .captures_iter(bare)
        .filter_map(|it| it.get(1).or_else(|| it.get(2)).map(|name| name.as_str()))
        .collect()
}

/// Where the definitions of `name` begin, but for lines that only give it a new value made of the old one.
fn definitions_of(code: &str, name: &str, syntax: &Syntax) -> Vec<usize> {
    let Some(pattern) = &syntax.defines else { return Vec::new() };
    let found = pattern.regex().captures_iter(code).filter_map(|it| {
        let group = it.iter().skip(1).flatten().next()?;
        (group.as_str() == name).then(|| (it.get(0).map_or(0, |all| all.start()), group.end()))
    });
    let is_new = |&(begin, end): &(usize, usize)| {
        let line_begins = begin;
        let line_end = code[end..].find('\n').map_or(code.len(), |it| end + it);
        let value = &code[end..line_end];
        let is_assigned = code[line_begins..end].trim_start().starts_with(name)
            || code[line_begins..end].contains("exports.");
        !(is_assigned && mentions(value, name))
    };
    found.filter(is_new).map(|it| it.0).collect()
}

/// Whether `name` occurs in `code` as a word of its own.
pub fn mentions(code: &str, name: &str) -> bool {
    let is_word = |c: char| c.is_alphanumeric() || c == '_';
    code.match_indices(name).any(|(at, _)| {
        !code[..at].ends_with(is_word) && !code[at + name.len()..].starts_with(is_word)
    })
}

/// Whether every definition of `name` has no body, or one in which nothing is written.
fn is_outline(code: &str, bare: &str, name: &str, syntax: &Syntax) -> bool {
    if definitions_of(code, name, syntax).is_empty() {
        return false;
    }
    let Some(pattern) = &syntax.defines else { return false };
    let mut begins = pattern.regex().captures_iter(bare).filter_map(|it| {
        let group = it.iter().skip(1).flatten().next()?;
        (group.as_str() == name).then(|| it.get(0).map_or(0, |all| all.start()))
    });
    let is_hollow = |begin: usize| {
        let body = if syntax.indented {
            indented_body(&bare[begin..])
        } else {
            braced_body(&bare[begin..])
        };
        body.is_some_and(|it| is_hollow(&it, syntax))
    };
    begins.all(is_hollow)
}

/// The lines of a definition that `text` begins with, behind the colon that ends its head.
fn indented_body(text: &str) -> Option<String> {
    let mut lines = text.lines();
    let mut head = String::new();
    for line in lines.by_ref() {
        head.push_str(line);
        if line.trim_end().ends_with(':') {
            break;
        }
        // `def f(): pass`, or no definition that has a body.
        let open = head.matches(['(', '[']).count() > head.matches([')', ']']).count();
        if !open {
            let (_, body) = head.split_once("):").or_else(|| head.rsplit_once(": "))?;
            return Some(body.to_owned());
        }
    }
    let is_inside = |line: &&str| line.trim().is_empty() || line.starts_with([' ', '\t']);
    Some(lines.take_while(is_inside).collect::<Vec<_>>().join("\n"))
}

/// What stands between the braces of a definition that `text` begins with; empty where it ends before one.
fn braced_body(text: &str) -> Option<String> {
    let open = text.find('{');
    let ends = text.find(';');
    let Some(open) = open.filter(|it| ends.is_none_or(|end| end > *it)) else {
        let head = &text[..ends.unwrap_or(text.len())];
        return (!head.contains('=')).then(String::new);
    };
    // An arrow or a value before the brace is what is defined.
    if text[..open].contains("= (") && !text[..open].trim_end().ends_with("=>") {
        return None;
    }
    let mut depth = 0_i32;
    for (at, c) in text[open..].char_indices() {
        depth += i32::from(c == '{') - i32::from(c == '}');
        if depth == 0 {
            return Some(text[open + 1..open + at].to_owned());
        }
    }
    None
}

/// Whether nothing is written in a body: no statement, or only such that stand for one. The heads of
/// methods are no statements.
fn is_hollow(body: &str, syntax: &Syntax) -> bool {
    let hollow = syntax.hollow.as_ref();
    body.lines().map(str::trim).filter(|it| !it.is_empty()).all(|line| {
        let is_head = line.ends_with('{')
            || line.starts_with('@')
            || line.starts_with('}')
            || syntax.indented
                && line.ends_with(':')
                && (line.starts_with("def ") || line.starts_with("async def "));
        let one_line = line.split_once("): ").map_or(line, |it| it.1);
        is_head || one_line == "\"\"" || hollow.is_some_and(|it| it.regex().is_match(one_line))
    })
}

/// Whether each line at the top level only loads, defines or sets a constant.
fn only_declares(bare: &str, wanted: Wanted<'_>) -> bool {
    static ASSIGNED: LazyLock<Regex> = LazyLock::new(|| {
        Regex::new(r"^(?:(?:const|let|var)\s+)?[\w,. ]+(?::[^=]+)?=[^=](.*)$").expect("fixed")
    });
    static CALLED: LazyLock<Regex> =
        LazyLock::new(|| Regex::new(r"(?:^|[^\w.])([a-z_]\w*)\(").expect("fixed"));
    let syntax = wanted.syntax();
    let Some(declares) = &syntax.declares else { return true };
    let reads = |value: &str| syntax.input.as_ref().is_some_and(|it| it.regex().is_match(value));
    let is_built_in = |name: &str| {
        syntax.built_in.iter().any(|it| it == name) && !matches!(name, "input" | "open" | "print")
    };
    let top = bare.lines().filter(|it| !it.trim().is_empty() && !it.starts_with([' ', '\t']));
    top.into_iter().all(|line| {
        if let Some(found) = ASSIGNED.captures(line) {
            let value = found.get(1).map_or("", |it| it.as_str());
            let calls = CALLED.captures_iter(value).all(|it| is_built_in(&it[1]));
            let is_function =
                line.contains("=>") || value.contains("function") || line.contains("require(");
            return is_function
                || (calls && !reads(line) && !wanted.name().is_some_and(|it| mentions(value, it)));
        }
        declares.regex().is_match(line)
    })
}

/// Whether code loads, includes or starts the answer's own file. What it says of its use does not count.
fn loads_own(code: &str, spans: &[scan::CodeSpan], wanted: Wanted<'_>) -> bool {
    let (stem, name) = (wanted.file.stem(), wanted.file.file_name());
    if !code.contains(stem) {
        return false;
    }
    let comments: Vec<&scan::CodeSpan> =
        spans.iter().filter(|it| it.kind == SpanKind::Comment).collect();
    let mut at = 0;
    code.split_inclusive('\n').any(|line| {
        let begin = at;
        at += line.len();
        let first = begin + line.len() - line.trim_start().len();
        let in_comment = comments.partition_point(|it| it.range.end <= first);
        let is_comment = comments.get(in_comment).is_some_and(|it| it.range.contains(&first));
        !is_comment && line.contains(stem) && line_loads(line.trim(), stem, name, wanted)
    })
}

fn line_loads(line: &str, stem: &str, name: &str, wanted: Wanted<'_>) -> bool {
    static STARTS: LazyLock<Regex> = LazyLock::new(|| {
        Regex::new(r#"(?:\b(?:python[\d.]*|node|sh|bash|dash|ksh|zsh|source|deno|tsx|run)\s+(?:-\w+\s+)*|(?:^|[\s;|&(])\.\s+|["'/ ]\./|^\./|[(|]\s*\./)$"#)
            .expect("fixed")
    });
    static RUNS: LazyLock<Regex> = LazyLock::new(|| {
        Regex::new(r"(?i)run|popen|spawn|exec|system|call|check_output|command|fork|import|require|load|open|source")
            .expect("fixed")
    });
    let is_word = |c: char| c.is_alphanumeric() || c == '_';
    let loads = ["import ", "from ", "#include \"", "mod ", "use ", "pub mod ", "export * from "];
    let is_loaded = loads.iter().any(|it| {
        line.strip_prefix(it).is_some_and(|rest| {
            let rest = rest.trim_start_matches("crate::").trim_start_matches('.');
            rest.strip_prefix(stem).is_some_and(|rest| !rest.starts_with(is_word))
        })
    });
    // A program that says how it is used names itself.
    let says = line.to_lowercase().contains("usage")
        || line.starts_with("echo ")
        || line.starts_with("printf ");
    let is_started = || {
        line.match_indices(name).any(|(at, _)| {
            let (before, behind) = (&line[..at], &line[at + name.len()..]);
            let is_quoted =
                ['"', '\'', '`'].iter().any(|it| before.ends_with(*it) && behind.starts_with(*it));
            !behind.starts_with(|c: char| is_word(c) || c == '.')
                && (STARTS.is_match(before) || is_quoted && RUNS.is_match(line))
        })
    };
    let is_required = || {
        ["'", "\"", "`"].iter().any(|quote| {
            let (plain, module) =
                (format!("./{stem}{quote}"), format!("require({quote}{stem}{quote}"));
            line.contains(&plain) || line.contains(&module)
        }) || line.contains(&format!("import_module(\"{stem}\""))
            || line.contains(&format!("import_module('{stem}'"))
            || line.contains(&format!("__import__('{stem}'"))
            || line.contains(&format!("__import__(\"{stem}\""))
    };
    let is_java = wanted.file.extension() == "java";
    is_loaded || (!says && (is_started() || (!is_java && is_required())))
}

/// Whether `code` loads a package that neither comes with the language nor was allowed nor is a file of
/// the answer's.
pub fn foreign_package(bare: &str, wanted: Wanted<'_>, files: &HashSet<String>) -> Option<String> {
    let syntax = wanted.syntax();
    let package = syntax.package.as_ref()?;
    let is_known = |name: &str| {
        syntax.own_packages.iter().any(|it| it == name)
            || wanted.packages.iter().any(|it| it.replace('-', "_") == name.replace('-', "_"))
            || files.contains(name)
            || wanted
                .given
                .keys()
                .any(|it| it.stem() == name || it.as_str().starts_with(&format!("{name}/")))
    };
    let found = package
        .regex()
        .captures_iter(bare)
        .filter_map(|it| it.get(1).map(|it| it.as_str().to_owned()));
    found.into_iter().find(|it| !it.is_empty() && !is_known(it))
}

/// Whether the wanted definition is asynchronous.
pub fn is_async(code: &str, wanted: Wanted<'_>) -> bool {
    let WantedKind::Definition(_) = wanted.kind else { return false };
    let Some(name) = wanted.name() else { return false };
    ["async def ", "async function ", "async fn "]
        .iter()
        .any(|it| mentions(code, &format!("{it}{name}")))
        || code.contains(&format!("{name} = async"))
}
