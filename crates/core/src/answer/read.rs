//! Reading an answer that is one file, perhaps with others beside it.

use std::collections::BTreeMap;

use super::choose::{self, ChosenFile};
use super::fence::{self, Block, Parts};
use super::sound::{SoundCheck, SoundChecks};
use super::unwrap::{self, MENDS};
use super::{
    AnswerEnd, BlockNote, CodeFacts, Deviation, Gaps, Reading, ReadingNotes, Role, Wanted,
    WantedKind, bare, edits, elision, inner, prose,
};
use crate::tree::{FileTree, RelPath};
use crate::verdict::FailReason;

/// Reads an answer, which ended as `end` says. What is found is looked at by `check` only where there is a choice, or where the code has marks of a kind that could be mended.
#[must_use]
pub fn read_answer(
    text: &str,
    wanted: Wanted<'_>,
    end: AnswerEnd,
    check: &dyn SoundCheck,
) -> Reading {
    let text = text.strip_prefix('\u{feff}').unwrap_or(text).replace("\r\n", "\n");
    let reader = Reader { wanted, checks: SoundChecks::new(check, wanted) };
    let plain = reader.read(&text);
    let mut found = if plain.is_good() { plain } else { reader.otherwise(&text, plain) };
    if let Err(reason @ FailReason::NoCodeFound) = &mut found.files {
        *reason = match end {
            AnswerEnd::Complete => *reason,
            AnswerEnd::CutOff => FailReason::Incomplete,
            AnswerEnd::Refused => FailReason::Refused,
        };
    }
    reader.finish(found, end)
}

/// Files that came as files, not as text: nothing has to be found.
#[must_use]
pub fn read_files(files: FileTree, wanted: Wanted<'_>) -> Reading {
    let gaps = |bytes: &Vec<u8>| {
        let code = String::from_utf8_lossy(bytes);
        elision::gaps(&code, wanted, None)
    };
    let gaps = files.get(wanted.file).map_or(Gaps::None, gaps);
    Reading { gaps, ..Reading::plain(files) }
}

struct Reader<'a> {
    wanted: Wanted<'a>,
    checks: SoundChecks<'a>,
}

/// What one way of reading an answer came to.
struct Found {
    files: Result<FoundFiles, FailReason>,
    deviations: Vec<Deviation>,
    notes: Vec<BlockNote>,
    mends: Vec<String>,
    /// Whether the code is sound; `None` where that was not asked, or cannot be told.
    sound: Option<bool>,
    fault: Option<String>,
}

struct FoundFiles {
    code: String,
    further: BTreeMap<RelPath, Vec<u8>>,
}

impl Found {
    fn with(files: FoundFiles, deviations: Vec<Deviation>, notes: Vec<BlockNote>) -> Self {
        let files = Ok(files);
        Self { files, deviations, notes, mends: Vec::new(), sound: None, fault: None }
    }

    fn nothing(reason: FailReason, notes: Vec<BlockNote>) -> Self {
        Self {
            files: Err(reason),
            deviations: vec![Deviation::NothingFound],
            notes,
            mends: Vec::new(),
            sound: None,
            fault: None,
        }
    }

    fn is_good(&self) -> bool {
        self.files.is_ok() && self.sound != Some(false)
    }
}

impl Reader<'_> {
    /// Reads a text as it stands.
    fn read(&self, text: &str) -> Found {
        let wanted = self.wanted;
        let probe = |language: Option<&str>, code: &str| {
            let could_be = match language {
                Some(language) => language == wanted.language,
                None => wanted.languages.guess(code) == Some(wanted.language),
            };
            if could_be { self.checks.of(code) } else { None }
        };
        let mut parts = fence::split(text, wanted.languages, &probe);
        if let [block] = parts.blocks.as_slice()
            && self.is_clean(block, &parts)
        {
            return self.clean(&parts);
        }
        inner::expand(&mut parts, wanted, &probe);
        self.read_parts(parts)
    }

    /// Whether the one block of an answer can only be what was asked for.
    fn is_clean(&self, block: &Block, parts: &Parts) -> bool {
        let wanted = self.wanted;
        let is_enough = || {
            parts.prose.trim().is_empty()
                || wanted.name().is_none_or(|name| wanted.syntax().defines(&block.code, name))
        };
        block.closed
            && !block.is_thought
            && !block.fence_inside
            && block.language.as_deref() == Some(wanted.language)
            && !block.code.trim().is_empty()
            && !edits::is_edit_block(block)
            && is_enough()
    }

    /// The answer in one block, to the letter unless it has marks that can be mended.
    fn clean(&self, parts: &Parts) -> Found {
        let block = &parts.blocks[0];
        let mut deviations = choose::forgiven(block, &parts.blocks, self.wanted);
        deviations.extend(around(parts));
        let note = BlockNote {
            lines: block.lines,
            tag: block.tag.clone(),
            file: block.label.as_ref().map_or_else(String::new, |it| it.path.to_string()),
            role: Role::Answer,
            why: "it is the only block".to_owned(),
        };
        let files = FoundFiles { code: block.code.clone(), further: BTreeMap::new() };
        self.mended(Found::with(files, deviations, vec![note]))
    }

    fn read_parts(&self, mut parts: Parts) -> Found {
        let wanted = self.wanted;
        if let Some(text) = self.unopened(&parts) {
            parts = Parts { prose: text, has_thought: parts.has_thought, blocks: Vec::new() };
        }
        let (mut choice, mut notes) = choose::choose(&parts, wanted, &self.checks);
        if choice.as_ref().is_none_or(|it| !it.is_whole) && !parts.prose.trim().is_empty() {
            let tagged = inner::in_tags(&parts.prose, wanted);
            if !tagged.is_empty() {
                parts.blocks.extend(tagged);
                (choice, notes) = choose::choose(&parts, wanted, &self.checks);
            }
        }
        if let Some(choice) = choice {
            // Where no block is whole, the code may stand outside of them.
            let outside = || {
                let outside = self.without_block(&parts, notes.clone());
                let code = &outside.files.as_ref().ok()?.code;
                let facts = CodeFacts::of(code, wanted);
                let is_whole = match wanted.kind {
                    WantedKind::Definition(_) => facts.defines_wanted,
                    WantedKind::Program => facts.runs,
                    WantedKind::Module => !facts.defines.is_empty(),
                };
                (is_whole && outside.sound == Some(true)).then_some(outside)
            };
            if !choice.is_whole
                && let Some(outside) = outside()
            {
                return outside;
            }
            return self.chosen(choice, &parts, notes);
        }
        self.patched(&parts, &notes).unwrap_or_else(|| self.without_block(&parts, notes))
    }

    /// The text before and behind a fence that closes what nothing opened.
    fn unopened(&self, parts: &Parts) -> Option<String> {
        let [block] = parts.blocks.as_slice() else { return None };
        let syntax = self.wanted.syntax();
        let begins =
            |text: &str| text.lines().any(|it| syntax.begins(it) && !prose::is_sentence(it));
        let is_unopened = !block.closed
            && !block.is_thought
            && block.tag.is_empty()
            && syntax.begins.is_some()
            && begins(&block.before)
            && !begins(&block.code);
        is_unopened.then(|| format!("{}\n\n{}", parts.prose, block.code))
    }

    fn chosen(&self, choice: ChosenFile, parts: &Parts, notes: Vec<BlockNote>) -> Found {
        let mut deviations = choice.deviations;
        deviations.extend(around(parts));
        let further = choice.further.into_iter().map(|(path, code)| (path, code.into_bytes()));
        let files = FoundFiles { code: choice.code, further: further.collect() };
        let sole = parts.blocks.len() == 1 && parts.blocks[choice.main].closed;
        let sound = if sole { None } else { self.checks.of(&files.code) };
        self.mended(Found { sound, ..Found::with(files, deviations, notes) })
    }

    /// What patches in the answer make of the given files; `None` where there are none.
    fn patched(&self, parts: &Parts, notes: &[BlockNote]) -> Option<Found> {
        let wanted = self.wanted;
        let mut blocks: Vec<&Block> =
            parts.blocks.iter().filter(|it| !it.is_thought && edits::is_edit_block(it)).collect();
        let bare = Block { code: parts.prose.clone(), ..Block::default() };
        let is_bare = blocks.is_empty() && edits::is_edit(&bare.code);
        if is_bare {
            blocks.push(&bare);
        }
        if blocks.is_empty() {
            return None;
        }
        let mut notes = notes.to_vec();
        let found = match edits::apply(&blocks, wanted) {
            Err(why) => {
                let why = if wanted.given.is_empty() {
                    "it is a patch, and no file was given that it could be for; send the whole file"
                        .to_owned()
                } else {
                    format!("the patch does not apply: {why}")
                };
                let nothing = Found::nothing(FailReason::PatchDoesNotApply, notes);
                return Some(Found { fault: Some(why), ..nothing });
            }
            Ok(found) => found,
        };
        let (mut files, mut deviations) = found;
        for (block, note) in parts.blocks.iter().zip(&mut notes) {
            if edits::is_edit_block(block) && !block.is_thought {
                note.why = "it was put on the given files".to_owned();
            }
        }
        deviations.extend(is_bare.then_some(Deviation::NoFence));
        deviations.extend(around(parts).filter(|_| !is_bare));
        deviations.extend((parts.blocks.len() > 1).then_some(Deviation::SeveralBlocks));
        let given = || wanted.given.get(wanted.file).cloned();
        let code = files.remove(wanted.file).or_else(given).unwrap_or_default();
        let code = String::from_utf8_lossy(&code).into_owned();
        let files = FoundFiles { code, further: files };
        Some(Found::with(files, deviations, notes))
    }

    /// Code that stands outside of blocks.
    fn without_block(&self, parts: &Parts, mut notes: Vec<BlockNote>) -> Found {
        let bare = match bare::find(&parts.prose, self.wanted, &self.checks) {
            Ok(bare) => bare,
            Err(reason) => return Found::nothing(self.reason(reason, parts, &notes), notes),
        };
        let mut deviations = vec![Deviation::NoFence];
        if bare.text_around || parts.has_thought {
            deviations.push(Deviation::TextAround);
        }
        if parts.blocks.iter().any(|it| !it.is_thought) {
            deviations.push(Deviation::SeveralBlocks);
        }
        notes.push(BlockNote {
            // Without blocks the lines are those of the answer.
            lines: if parts.blocks.is_empty() && !parts.has_thought { bare.lines } else { (0, 0) },
            tag: String::new(),
            file: String::new(),
            role: Role::Answer,
            why: "it stands without a fence".to_owned(),
        });
        let sound = self.checks.of(&bare.code);
        let files = FoundFiles { code: bare.code, further: BTreeMap::new() };
        self.mended(Found { sound, ..Found::with(files, deviations, notes) })
    }

    /// Why nothing was found.
    fn reason(&self, of_prose: FailReason, parts: &Parts, notes: &[BlockNote]) -> FailReason {
        let is_script = |it: &Block| wanted_script(it, self.wanted);
        let is_other = |(note, block): (&BlockNote, &Block)| {
            note.role == Role::OtherLanguage || (note.role == Role::Commands && is_script(block))
        };
        if notes.iter().zip(&parts.blocks).any(is_other) || of_prose == FailReason::WrongLanguage {
            return FailReason::WrongLanguage;
        }
        let is_bare = parts.blocks.iter().all(|it| it.is_thought);
        if is_bare && prose::is_refusal(&parts.prose) { FailReason::Refused } else { of_prose }
    }

    /// The code with what stands in the way of its being sound taken off, where that makes it so.
    fn mended(&self, mut found: Found) -> Found {
        let Ok(files) = &mut found.files else { return found };
        if !unwrap::has_marks(&files.code) {
            return found;
        }
        let syntax = self.wanted.syntax();
        let sound = match self.checks.of(&files.code) {
            // `a &lt; b` parses: as a name that nobody gave a meaning, and what follows.
            Some(true) if unwrap::is_escaped(&files.code, syntax) => Some(false),
            sound => sound,
        };
        found.sound = sound;
        if sound != Some(false) {
            return found;
        }
        let ways = MENDS.iter().filter_map(|it| Some((vec![it], (it.apply)(&files.code, syntax)?)));
        // Each by itself, then all that there is to do, one after the other.
        let mut all = (Vec::new(), files.code.clone());
        for way in MENDS {
            if let Some(code) = (way.apply)(&all.1, syntax) {
                all.0.push(way);
                all.1 = code;
            }
        }
        let mut tries = ways.chain(std::iter::once(all).filter(|it| it.0.len() > 1));
        if let Some((ways, code)) = tries.find(|it| self.checks.of(&it.1) == Some(true)) {
            files.code = code;
            found.sound = Some(true);
            found.deviations.extend(ways.iter().map(|it| it.deviation));
            found.mends.extend(ways.iter().map(|it| it.what.to_owned()));
        }
        found
    }

    /// Other ways of reading a text in which nothing was found, or nothing that is sound.
    fn otherwise(&self, text: &str, plain: Found) -> Found {
        type Way = fn(&str) -> Option<String>;
        let ways: [(&str, Way); 7] = [
            ("took off colours of a terminal", unwrap::without_colours),
            ("took off marks of quotation", unwrap::unquoted),
            ("took off marks of quotation", unwrap::partly_unquoted),
            ("put HTML back to characters", unwrap::unescaped),
            ("left away all up to the end of what was thought", behind_thought),
            ("took the text before a fence for the code", before_fence),
            ("left away all from an end-of-text mark on", unwrap::without_end_marks),
        ];
        let mut tried = vec![];
        for (what, way) in ways {
            let Some(other) = way(text) else { continue };
            tried.push((what, self.read(&other)));
        }
        let json = inner::in_json(json_part(text), self.wanted);
        if !json.is_empty() {
            let prose = if json_part(text).len() < text.trim().len() {
                text.to_owned()
            } else {
                String::new()
            };
            let parts = Parts { blocks: json, prose, has_thought: false };
            tried.push(("took it out of JSON", self.read_parts(parts)));
        }
        let is_better = |found: &Found| {
            let code = found.files.as_ref().ok().map(|it| it.code.as_str());
            match code.map(|it| self.checks.of(it)) {
                Some(Some(true)) => true,
                Some(None) => plain.files.is_err(),
                _ => false,
            }
        };
        match tried.into_iter().find(|it| is_better(&it.1)) {
            Some((what, mut found)) => {
                found.deviations.push(Deviation::Wrapped);
                found.mends.insert(0, what.to_owned());
                found
            }
            None => plain,
        }
    }

    fn finish(&self, found: Found, end: AnswerEnd) -> Reading {
        let gaps = |files: &FoundFiles| elision::gaps(&files.code, self.wanted, found.sound);
        let gaps = if end == AnswerEnd::CutOff {
            Gaps::Shown
        } else {
            found.files.as_ref().map_or(Gaps::None, gaps)
        };
        let lenient = found.files.map(|files| {
            let mut tree: FileTree = files.further;
            tree.insert(self.wanted.file.clone(), files.code.into_bytes());
            tree
        });
        let reading = Reading {
            lenient,
            deviations: Vec::new(),
            gaps,
            notes: ReadingNotes::new(found.notes, found.mends),
            fault: found.fault,
        };
        reading.with(found.deviations)
    }
}

/// Whether text stands around the blocks.
fn around(parts: &Parts) -> impl Iterator<Item = Deviation> {
    let is_around = parts.has_thought || !parts.prose.trim().is_empty();
    is_around.then_some(Deviation::TextAround).into_iter()
}

/// Whether commands are a program of their own, and not only how to run one.
fn wanted_script(block: &Block, wanted: Wanted<'_>) -> bool {
    wanted.languages.guess(&block.code) == Some("shell")
        && block.code.lines().count() > 3
        && *wanted.kind != WantedKind::Module
}

/// What stands behind the last line in which thinking ends, wherever that line stands.
fn behind_thought(text: &str) -> Option<String> {
    let mut at = 0;
    let mut behind = None;
    for line in text.split_inclusive('\n') {
        if line.len() < 40
            && let Some(end) = super::thought::end(line)
        {
            behind = Some(at + end);
        }
        at += line.len();
    }
    behind.map(|it| text[it..].to_owned())
}

/// What stands before the only fence of a text, where that is the end of a block without a begin.
fn before_fence(text: &str) -> Option<String> {
    let mut fences = text.match_indices("```");
    let (at, _) = fences.next()?;
    let is_line = text[..at].is_empty() || text[..at].ends_with('\n');
    let alone = fences.next().is_none();
    (alone && is_line && at > 0).then(|| text[..at].to_owned())
}

/// The part of a text that could be JSON.
fn json_part(text: &str) -> &str {
    let begin = text.find(['{', '[']).unwrap_or(text.len());
    let end = text.rfind(['}', ']']).map_or(begin, |it| it + 1).max(begin);
    &text[begin..end]
}
