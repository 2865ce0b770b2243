//! The languages that ship with the tool: one line for each.

use std::collections::BTreeMap;

use super::LanguageDefinition;
use crate::source::parse_toml;

/// A folder below `languages/`: its definition, and the names and texts of its further files.
struct Folder {
    name: &'static str,
    definition: &'static str,
    files: &'static [(&'static str, &'static str)],
}

macro_rules! folder {
    ($name:literal $(, $file:literal)*) => {
        Folder {
            name: $name,
            definition: include_str!(concat!("../../languages/", $name, "/definition.toml")),
            files: &[$(($file, include_str!(concat!("../../languages/", $name, "/", $file)))),*],
        }
    };
}

const FOLDERS: &[Folder] = &[
    folder!("c"),
    folder!("cpp"),
    folder!("go"),
    folder!("java"),
    folder!(
        "javascript",
        "apart.js",
        "apart_reporter.js",
        "call.js",
        "carried.js",
        "cleared.js",
        "closed.js",
        "reporter.js",
        "serve.js",
        "tests.js",
        "turns.js",
        "wire.js"
    ),
    folder!(
        "python",
        "apart.py",
        "call.py",
        "carried.py",
        "inspected.py",
        "packages.py",
        "program.py",
        "runners.py",
        "serve.py",
        "standins.py",
        "tests.py",
        "twins.py",
        "values.py",
        "wire.py"
    ),
    folder!("rust", "shim.rs"),
    folder!("shell"),
    folder!("typescript", "strip.js"),
];

/// Every shipped language by its name.
///
/// # Panics
/// Never: tests read all of them.
pub fn languages() -> BTreeMap<String, LanguageDefinition> {
    let mut all = BTreeMap::new();
    for folder in FOLDERS {
        let file = format!("{}/definition.toml", folder.name);
        let read: BTreeMap<String, LanguageDefinition> =
            parse_toml(&file, folder.definition).expect("the shipped definitions are well-formed");
        for (name, mut definition) in read {
            let own = folder.files.iter().map(|&(name, text)| (name.to_owned(), text.to_owned()));
            definition.files.extend(own);
            all.insert(name, definition);
        }
    }
    all
}
