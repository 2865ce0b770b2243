//! Running text around code: what it says of the code, and where it begins and ends.

use std::sync::LazyLock;

use regex::Regex;

/// Whether a line reads as a sentence of running text.
pub fn is_sentence(line: &str) -> bool {
    static SENTENCE: LazyLock<Regex> = LazyLock::new(|| {
        Regex::new(r"^(?:[-*] |\d+\. |#{2,} )?[\p{Lu}`*][\p{L}\d'’`*_(),-]*(?: \S+){2,}$")
            .expect("fixed")
    });
    static TAG: LazyLock<Regex> =
        LazyLock::new(|| Regex::new(r"^(?:\[/?[A-Za-z_]+\]|</?[A-Za-z_]+>)$").expect("fixed"));
    if TAG.is_match(line.trim()) {
        return true;
    }
    let ends_like_code = line.trim_end().ends_with([';', '{', '}', '(', '=', '\\']);
    !ends_like_code && SENTENCE.is_match(line.trim_end()) && !line.contains(" = ")
}

/// Whether code could end before `line`: a sentence, a heading, a list, a caption, a mark.
pub fn is_break(line: &str) -> bool {
    static BREAK: LazyLock<Regex> = LazyLock::new(|| {
        let kinds = [
            r"#{1,6} \p{L}",
            r"[-*•] \p{L}",
            r"\d+[.)] ",
            r"[\p{Lu}*_][\p{L}\d *_'’-]*:\**$",
            r"\*\*",
            r"-{3,}$",
            r"={5,}$",
            r"</?[a-zA-Z_|]",
            r"(?:`{3}|~{3})",
            r"\p{Lu}[\p{Ll} ]{2,30}: \p{L}\S* \p{L}",
            r"\p{Lu}\p{Ll}+(?: [\p{L}\d'’,()`.-]+)+[.:!]$",
        ];
        Regex::new(&format!("^(?:{})", kinds.join("|"))).expect("fixed")
    });
    !line.starts_with([' ', '\t']) && (BREAK.is_match(line) || is_sentence(line))
}

/// `code` without the running text that may stand behind it, at most `most` ways, the shortest last.
pub fn without_tail(code: &str, most: usize) -> Vec<String> {
    let mut at = 0;
    let mut ends = Vec::new();
    for line in code.split_inclusive('\n') {
        if at > 0 && is_break(line.trim_end()) {
            ends.push(at);
            if ends.len() == most {
                break;
            }
        }
        at += line.len();
    }
    ends.iter().map(|&end| format!("{}\n", code[..end].trim_end())).collect()
}

/// What the text before a block says of it.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Intro {
    /// Nothing in particular.
    Nothing,
    /// That it is what counts.
    Final,
    /// That it is not what counts: a first version, what was wrong, an alternative.
    Other,
    /// That it shows how to use or try the answer, or makes data for it.
    Usage,
}

/// What the last sentence before a block says of it, or else the comment with which it begins.
pub fn intro(before: &str, code: &str) -> Intro {
    let comment = code.lines().find(|it| !it.trim().is_empty()).map_or("", str::trim);
    let is_comment = ["#", "//", "/*", "--", "\"\"\""].iter().any(|it| comment.starts_with(it));
    let own = if is_comment { said(comment) } else { Intro::Nothing };
    match last_sentence(before).map_or(Intro::Nothing, said) {
        Intro::Nothing => own,
        found => found,
    }
}

/// The last sentence of some text; what ends with a colon introduces what follows.
fn last_sentence(text: &str) -> Option<&str> {
    let line =
        text.lines().rev().map(str::trim).find(|it| it.chars().any(char::is_alphanumeric))?;
    let body = line.trim_end_matches(['.', '!', '?', ':', '*', ' ', '_', '…']);
    let begin = body.rfind([". ", "! ", "? "].map(|it: &str| it.chars().next().unwrap_or('.')));
    let begin = begin.filter(|&at| body[at + 1..].starts_with(' ')).map_or(0, |at| at + 1);
    Some(&line[begin..])
}

fn said(sentence: &str) -> Intro {
    static FINAL: LazyLock<Regex> = LazyLock::new(|| {
        Regex::new(
            r"(?i)\b(?:correct(?:ed|ion|ly)?|fix(?:ed)?|final(?:ly)?|updated?|revised|improved|complete|full|whole|better|faster|proper|right (?:one|version|code|answer)|works|instead|solution is|my answer)\b",
        )
        .expect("fixed")
    });
    static OTHER: LazyLock<Regex> = LazyLock::new(|| {
        let words = [
            r"before",
            r"naive",
            r"original(?:ly)?",
            r"old(?:er)?",
            r"previous(?:ly)?",
            r"initial(?:ly)?",
            r"first (?:try|attempt|version|draft|idea|cut|thought)",
            r"drafts?",
            r"wrong",
            r"incorrect",
            r"bug(?:gy)?",
            r"broken",
            r"slow(?:er)?",
            r"brute[- ]force",
            r"alternatives?",
            r"alternatively",
            r"variants?",
            r"another (?:way|approach|version|option)",
            r"optional(?:ly)?",
            r"bonus",
            r"if you (?:prefer|want|need|like|use|have)",
            r"could also",
            r"(?:for|in) comparison",
            r"compared? (?:to|with)",
            r"avoid",
            r"do(?:n['’]t| not) (?:do|use|write)",
            r"not recommended",
            r"the given (?:file|code|function|version)",
            r"as (?:it was )?given",
            r"you (?:gave|had|sent|wrote)",
            r"was:?$",
            r"async(?:hronous)?(?: version)?",
            r"for (?:reference|context)",
            r"recap",
        ];
        Regex::new(&format!(r"(?i)\b(?:{})", words.join("|"))).expect("fixed")
    });
    static USAGE: LazyLock<Regex> = LazyLock::new(|| {
        Regex::new(
            r"(?i)\b(?:usage|(?:for|an?) example\b|examples?:?\W*$|example (?:of|run|call|input|output|session)|to (?:run|try|use|test|execute|compile) it|run it|try it|how to (?:use|run|call|test)|you can (?:call|use|run|test|try)|demo(?:nstration)?|set ?up|sample (?:data|input|run)|generat\w+ (?:some |the |test |sample |an? )*(?:data|input|file)|test (?:it|data|script|harness)|quick (?:test|check)|sanity check|driver)\b",
        )
        .expect("fixed")
    });
    let first = |it: &Regex| it.find(sentence).map_or(usize::MAX, |found| found.start());
    let (last_word, other, usage) = (first(&FINAL), first(&OTHER), first(&USAGE));
    // Which comes first is what is introduced: "the corrected version of the original".
    match last_word.min(other).min(usage) {
        usize::MAX => Intro::Nothing,
        at if at == last_word => Intro::Final,
        at if at == other => Intro::Other,
        _ => Intro::Usage,
    }
}

/// Whether a text without code declines to answer.
pub fn is_refusal(text: &str) -> bool {
    static REFUSAL: LazyLock<Regex> = LazyLock::new(|| {
        let ways = [
            r"\bI(?:'|’)?(?: a)?m (?:so |very |really )?(?:sorry|afraid)\b[^.]*\b(?:can(?:no|'|’)?t|can not|not able|unable|won(?:'|’)t|will not)\b",
            r"\b(?:sorry|apolog\w+)\b[^.]{0,40}\bI (?:can(?:no|'|’)t|can not|am (?:not able|unable)|won(?:'|’)t|will not)\b",
            r"\bI (?:can(?:no|'|’)t|can not|won(?:'|’)t|will not|must|have to) (?:help|assist|do (?:that|this|so)|comply|provide|fulfil\w*|write (?:that|this|such)|answer (?:that|this)|continue|decline|refuse|support)\b",
            r"\bI(?:'|’| a)m (?:not able|unable|not allowed|not permitted|not willing) to\b",
            r"\bagainst (?:my|the) (?:policy|policies|guidelines|principles|rules)\b",
            r"\bI (?:decline|refuse) to\b",
        ];
        Regex::new(&format!("(?i){}", ways.join("|"))).expect("fixed")
    });
    // A long text that says so somewhere is a discussion.
    text.len() < 3000 && REFUSAL.is_match(text)
}
