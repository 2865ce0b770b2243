//! The shim of a compiled language: a program around the candidate's file that serves calls.
//!
//! What is called is written into it, so that the compiler finds the types of parameters and of
//! what is returned. Names and counts of arguments are all that it says of the sealed part.

use std::collections::BTreeSet;

use fairtrial_core::language::{Shim, fill};

use super::sealed::{Action, Call, CallSettings, Step};

/// The shim around a file, for these calls. `template` is the text of [`Shim::template`].
pub fn write(shim: &Shim, template: &str, settings: &CallSettings, calls: &[&Call]) -> String {
    let path = settings.name.replace('.', &shim.path_separator);
    let steps = || calls.iter().flat_map(|call| &call.steps);
    let lines: BTreeSet<String> = steps().map(|step| line(shim, &path, step)).collect();
    let lines: Vec<String> = lines.into_iter().map(|it| format!("        {it},")).collect();
    let has_object = steps().any(|step| step.action == Action::New);
    let object = if has_object { &shim.object } else { &shim.no_object };
    template
        .replace("{FILE}", settings.file.as_str())
        .replace("{OBJECT}", &object.replace("{path}", &path))
        .replace("{CALLS}", &lines.join("\n"))
}

/// The line for one step.
fn line(shim: &Shim, path: &str, step: &Step) -> String {
    let arg = |index: usize| shim.argument.replace("{index}", &index.to_string());
    let args = (0..step.args.len()).map(arg).collect::<Vec<_>>().join(", ");
    let (template, name) = match &step.action {
        Action::Function => (&shim.function, ""),
        Action::New => (&shim.new, ""),
        Action::Method(name) => (&shim.method, name.as_str()),
        Action::Get(name) => (&shim.get, name.as_str()),
    };
    let values = [("path", path), ("args", &args), ("name", name)];
    fill(std::slice::from_ref(template), &values).concat()
}
