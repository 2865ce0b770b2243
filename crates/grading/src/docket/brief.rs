//! `brief.md`: settings in TOML between two lines of `+++`, then the statement.

use std::collections::BTreeMap;

use fairtrial_core::answer::Submission;
use fairtrial_core::digest::Digest;
use fairtrial_core::image::{IMAGE_MAX, Image};
use fairtrial_core::language::{LanguageDefinition, Languages};
use fairtrial_core::limits::LimitSettings;
use fairtrial_core::source::{SourceError, TomlParts, utf8};
use fairtrial_core::task::{Proof, Task};
use fairtrial_core::tree::{FileTree, RelPath, Snapshot};
use serde::Deserialize;

use super::PosedTask;
use crate::form::{FORMS, FormKind, FormSource};

/// The settings at the head of `brief.md` that every form has.
#[derive(Debug, Deserialize)]
#[serde(deny_unknown_fields)]
struct BriefSettings {
    title: String,
    language: String,
    category: String,
    difficulty: u8,
    #[serde(default = "one")]
    points: f64,
    #[serde(default)]
    tags: Vec<String>,
    #[serde(default)]
    example: Vec<toml::Value>,
    #[serde(default)]
    limits: LimitSettings,
    #[serde(default)]
    rerun_failures: u32,
    #[serde(default)]
    tell_passed: bool,
    #[serde(default)]
    packages: Vec<String>,
    #[serde(default)]
    images: Vec<String>,
}

/// Most images that a task shows.
const IMAGES_MAX: usize = 8;

/// Most runs of a failed attempt's tests beyond the first.
const RERUNS_MAX: u32 = 20;

const fn one() -> f64 {
    1.0
}

/// The line that stands above and below the settings of a brief.
const FENCE: &str = "+++";

/// Reads a task from the files of its folder, which people know as `place`.
pub fn parse_task(
    place: &str,
    name: &str,
    files: &Snapshot,
    languages: &Languages,
) -> Result<PosedTask, SourceError> {
    let file = format!("{place}/brief.md");
    let Some(bytes) = files.file("brief.md") else {
        return Err(SourceError::whole(&file, "it is missing; each task needs one"));
    };
    let (head, statement) = split_brief(&file, utf8(&file, bytes)?)?;
    let mut parts = TomlParts::parse(&file, head).map_err(|error| error.shifted(1))?;
    let kind = form_of(&file, &parts)?;
    drop(parts.take("form"));
    let table = parts.take(kind.name);
    let settings: BriefSettings = parts.read().map_err(|error| error.shifted(1))?;
    let Some(definition) = languages.find(&settings.language) else {
        let (language, names) = (&settings.language, languages.names());
        let message = format!("unknown language `{language}`; known are: {names}");
        return Err(SourceError::whole(&file, message));
    };
    check_settings(&file, &settings, definition)?;
    let given = files.below("given/");
    let images = images(&file, &settings.images, &given)?;
    let form = (kind.parse)(FormSource {
        place,
        brief: &file,
        table,
        examples: settings.example,
        files,
        language: &settings.language,
        definition,
        languages,
    })?;
    check_folder(place, files, form.beside())?;
    if form.is_prepared() && !images.is_empty() {
        let message = format!("`images` are not sent with the form `{}`", form.name());
        return Err(SourceError::whole(&file, message));
    }
    let task = Task {
        name: name.to_owned(),
        title: settings.title,
        language: settings.language,
        category: settings.category,
        difficulty: settings.difficulty,
        points: settings.points,
        tags: settings.tags,
        limits: settings.limits,
        rerun_failures: settings.rerun_failures,
        tell_passed: settings.tell_passed,
        packages: settings.packages,
        statement: statement.to_owned(),
        proofs: parse_proofs(place, files, form.answer().proof_file())?,
        given,
        images,
        digest: Digest::of_snapshot(&without_proofs(files)),
        whole_digest: Digest::of_snapshot(files),
    };
    Ok(PosedTask { task, form })
}

/// The given files that a brief shows as images.
fn images(file: &str, named: &[String], given: &Snapshot) -> Result<Vec<Image>, SourceError> {
    let fail = |message: String| Err(SourceError::whole(file, message));
    if named.len() > IMAGES_MAX {
        return fail(format!("`images` names {} files; at most {IMAGES_MAX}", named.len()));
    }
    let mut images: Vec<Image> = Vec::new();
    for path in named {
        let path = path.escape_debug().to_string();
        let Some(bytes) = given.file(&path) else {
            return fail(format!("`images`: there is no file `given/{path}`"));
        };
        if images.iter().any(|it| it.path == path) {
            return fail(format!("`images` names `{path}` twice"));
        }
        if bytes.len() > IMAGE_MAX {
            return fail(format!("`images`: `{path}` has more than {} MiB", IMAGE_MAX >> 20));
        }
        let Some(image) = Image::of_file(&path, bytes) else {
            let message = "is no PNG, JPEG, GIF or WebP file by its first bytes";
            return fail(format!("`images`: `given/{path}` {message}"));
        };
        images.push(image);
    }
    Ok(images)
}

/// Refuses what is no part of a task, since it would do nothing: most likely a name is misspelt.
fn check_folder(place: &str, files: &Snapshot, beside: Option<&str>) -> Result<(), SourceError> {
    for (path, _) in files.iter() {
        let name = path.as_str().split('/').next().unwrap_or_default();
        // Notes for people, and what editors and file managers leave.
        let is_file = !path.as_str().contains('/');
        let is_note = is_file && (name.ends_with('~') || name.ends_with(".md"));
        let is_part =
            super::is_part_of_task(path.as_str()) || beside.is_some_and(|it| lies_in(path, it));
        if !(is_part || is_note || name.starts_with('.')) {
            let message = "it is no part of a task, which has `brief.md`, `given/`, `sealed/` and \
                           `proofs/`; notes for people may stand beside them in `….md`";
            return Err(SourceError::whole(&format!("{place}/{name}"), message));
        }
    }
    Ok(())
}

/// Whether a path is that of a file or a folder, or lies in it.
fn lies_in(path: &RelPath, place: &str) -> bool {
    path.as_str().strip_prefix(place).is_some_and(|it| it.is_empty() || it.starts_with('/'))
}

/// What makes a task what it is: proofs only prove it.
fn without_proofs(files: &Snapshot) -> Snapshot {
    let own = files.iter().filter(|it| !it.0.as_str().starts_with("proofs/"));
    own.map(|(path, node)| (path.clone(), node.clone())).collect()
}

/// The form that a brief names, which may have no other form's table.
fn form_of(file: &str, parts: &TomlParts<'_>) -> Result<FormKind, SourceError> {
    let names = || FORMS.iter().map(|it| it.name).collect::<Vec<_>>().join(", ");
    let Some((name, at)) = parts.word("form") else {
        let message = format!("`form` is missing, a word; the forms are {}", names());
        return Err(SourceError::whole(file, message));
    };
    let Some(kind) = FORMS.iter().find(|it| it.name == name) else {
        let message = format!("unknown form `{name}`; the forms are {}", names());
        return Err(at(message).shifted(1));
    };
    if !parts.has(kind.name) || FORMS.iter().any(|it| it.name != kind.name && parts.has(it.name)) {
        let message = format!("the form `{name}` needs a table `[{name}]`, and no other form's");
        return Err(SourceError::whole(file, message));
    }
    Ok(*kind)
}

fn split_brief<'a>(file: &str, text: &'a str) -> Result<(&'a str, &'a str), SourceError> {
    let text = text.strip_prefix('\u{feff}').unwrap_or(text);
    let wrong = || {
        let message = "it must begin with settings in TOML between two lines of `+++`";
        SourceError::at_line(file, 1, message)
    };
    let (first, rest) = text.split_once('\n').ok_or_else(wrong)?;
    if first.trim_end() != FENCE {
        return Err(wrong());
    }
    let mut offset = 0;
    for line in rest.split_inclusive('\n') {
        if line.trim_end() == FENCE {
            let statement = rest[offset + line.len()..].trim();
            if statement.is_empty() {
                let message = "there is no statement below the settings";
                return Err(SourceError::whole(file, message));
            }
            return Ok((&rest[..offset], statement));
        }
        offset += line.len();
    }
    Err(wrong())
}

fn check_settings(
    file: &str,
    settings: &BriefSettings,
    definition: &LanguageDefinition,
) -> Result<(), SourceError> {
    let fail = |message: String| Err(SourceError::whole(file, message));
    if !(1..=5).contains(&settings.difficulty) {
        return fail(format!("`difficulty` is 1 to 5, not {}", settings.difficulty));
    }
    if !(settings.points > 0.0 && settings.points.is_finite()) {
        return fail("`points` is a number above 0".to_owned());
    }
    if settings.rerun_failures > RERUNS_MAX {
        return fail(format!("`rerun_failures` is at most {RERUNS_MAX}"));
    }
    let is_name = |it: &String| {
        let is_word = |c: char| c.is_ascii_alphanumeric() || "-_.".contains(c);
        !it.is_empty() && it.chars().all(is_word) && !it.starts_with('-')
    };
    if let Some(odd) = settings.packages.iter().find(|it| !is_name(it)) {
        return fail(format!("`{}` is no name of a package", odd.escape_debug()));
    }
    settings.limits.check("`limits`").or_else(fail)?;
    if !settings.packages.is_empty() && definition.packages.is_empty() {
        return fail(format!("answers in `{}` can use no packages", settings.language));
    }
    Ok(())
}

/// Proofs: `proofs/right.py` is the answer's file, or `proofs/right.patch` a patch where an answer is no
/// single file; `proofs/right/…` is a folder with files.
fn parse_proofs(
    place: &str,
    files: &Snapshot,
    answer_file: Option<&RelPath>,
) -> Result<Vec<Proof>, SourceError> {
    let mut proofs = BTreeMap::<String, Submission>::new();
    for (path, bytes) in files.below("proofs/").to_files() {
        let file = format!("{place}/proofs/{path}");
        let fail = |message: &str| Err(SourceError::whole(&file, message));
        let (name, inner) = match (path.as_str().split_once('/'), answer_file) {
            (Some((folder, rest)), _) => (folder.to_owned(), Some(RelPath::parse(rest))),
            (None, Some(answer)) => (path.stem().to_owned(), Some(Ok(answer.clone()))),
            (None, None) if path.extension() == "patch" => (path.stem().to_owned(), None),
            (None, None) => return fail("a proof that is a single file is a patch, `….patch`"),
        };
        if !name.starts_with("right") && !name.starts_with("wrong") {
            return fail("a proof's name begins with `right` or `wrong`");
        }
        let known = proofs.remove(&name);
        let submission = match (inner, known) {
            (None, None) => Submission::Patch(bytes),
            (Some(inner), known @ (None | Some(Submission::Files(_)))) => {
                let inner = inner.map_err(|error| SourceError::whole(&file, error.to_string()))?;
                let mut files = match known {
                    Some(Submission::Files(files)) => files,
                    _ => FileTree::new(),
                };
                files.insert(inner, bytes);
                Submission::Files(files)
            }
            _ => return fail("there are a patch and a folder of this name"),
        };
        proofs.insert(name, submission);
    }
    let proof = |(name, answer): (String, Submission)| Proof {
        right: name.starts_with("right"),
        name,
        answer,
    };
    Ok(proofs.into_iter().map(proof).collect())
}
