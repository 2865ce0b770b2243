//! What a language brings along of programs of ours: drivers, and the shim of a compiled one.

use std::collections::BTreeMap;

use serde::{Deserialize, Serialize};

/// Files that are put into the driver's folder, each made of files of the language, one after the other.
/// `LANGUAGE/FILE` is a file of another language. The first is the driver itself.
pub type DriverSet = BTreeMap<String, Vec<String>>;

/// The drivers of a language.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields, default)]
pub struct Drivers {
    /// Serves calls.
    pub call: DriverSet,
    /// Put beside it where a task names packages.
    pub packages: DriverSet,
    /// Runs whole programs, where the tool alone does not.
    pub program: DriverSet,
    /// Runs sealed unit tests and reports them by lines.
    pub tests: DriverSet,
    /// Serves an answer's modules to sealed unit tests that run apart from it.
    pub serve: DriverSet,
    /// Runs sealed unit tests apart from the answer.
    pub apart: DriverSet,
    /// What builds find.
    pub build: DriverSet,
    /// Whether the driver of calls can serve each by a copy of itself in which nothing else has
    /// happened.
    pub forks: bool,
    /// How the driver of calls is compiled ahead.
    pub precompile: Option<Precompile>,
}

/// How the tool compiles a driver ahead.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Precompile {
    /// Arguments with which the tool writes what it compiled of the source on standard input.
    pub args: Vec<String>,
    /// What the file's name is followed by.
    pub suffix: String,
}

/// How a program is written around an answer that serves calls. Names and counts of arguments are all
/// that it says of them. Places to fill: `{path}`, the function or class; `{args}`; `{name}`, the
/// method or property; `{index}`, the place of an argument.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Shim {
    /// Its path, beside the answer.
    pub file: String,
    /// The file of the language that it is made of. There, `{FILE}` is the answer's file, `{OBJECT}`
    /// the type of the object that calls are made on, `{CALLS}` the lines for each call.
    pub template: String,
    /// What separates the parts of a path, which tasks write with dots.
    pub path_separator: String,
    /// One argument.
    pub argument: String,
    /// The line that calls a function.
    pub function: String,
    /// The line that makes an object.
    pub new: String,
    /// The line that calls a method.
    pub method: String,
    /// The line that reads a property.
    pub get: String,
    /// The type of the object.
    pub object: String,
    /// The type where there is none.
    pub no_object: String,
}
