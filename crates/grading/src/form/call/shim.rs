//! The shim of a compiled language: a program around the candidate's file that serves calls.
//!
//! What is called is written into it, so that the compiler finds the types of parameters and of
//! what is returned. Names and counts of arguments are all that it says of the sealed part.

use std::collections::BTreeSet;
use std::fmt::Write as _;

use super::sealed::{Action, Call, CallSettings};
use fairtrial_core::tree::RelPath;

/// What every shim has in common.
const RUST: &str = include_str!("../../drivers/rust.rs");

/// The shim's own file, beside the candidate's.
pub const FILE: &str = "fairtrial_shim.rs";

/// The shim in Rust around a file, for these calls.
pub fn rust(settings: &CallSettings, calls: &[&Call]) -> String {
    let path = settings.name.replace('.', "::");
    let mut arms = BTreeSet::new();
    let mut has_object = false;
    for step in calls.iter().flat_map(|call| &call.steps) {
        let args: Vec<String> =
            (0..step.args.len()).map(|index| format!("arg(args, {index})")).collect();
        let args = args.join(", ");
        let arm = match &step.action {
            Action::Function => {
                format!("(\"function\", _) => candidate::{path}({args}).outcome()")
            }
            Action::New => {
                has_object = true;
                format!(
                    "(\"new\", _) => {{ *it = Some(candidate::{path}::new({args})); Ok(J::Null) }}"
                )
            }
            Action::Method(name) => {
                format!("(\"method\", \"{name}\") => object(it)?.{name}({args}).outcome()")
            }
            Action::Get(name) => format!("(\"get\", \"{name}\") => Ok(object(it)?.{name}.into_())"),
        };
        arms.insert(arm);
    }
    let kind = if has_object { format!("candidate::{path}") } else { "()".to_owned() };
    let mut made = format!(
        "type Object = {kind};\n\n\
         fn object(it: &mut Option<Object>) -> Result<&mut Object, (String, String)> {{\n    \
         it.as_mut().ok_or_else(|| (\"panic\".to_owned(), \"there is no object\".to_owned()))\n}}\n\n\
         fn act_on(it: &mut Option<Object>, act: &str, name: &str, args: &[J]) -> Result<J, (String, String)> {{\n    \
         match (act, name) {{\n"
    );
    for arm in arms {
        let _ = writeln!(made, "        {arm},");
    }
    made.push_str(
        "        _ => Err((\"panic\".to_owned(), format!(\"there is no {act} {name}\"))),\n    }\n}\n",
    );
    RUST.replace("{FILE}", settings.file.as_str()).replace("{OBJECT}", &made)
}

/// The path of the shim.
pub fn path() -> Option<RelPath> {
    RelPath::parse(FILE).ok()
}
