//! Calls as people write them, for prompts and for what is kept of a test.

use std::fmt::Write as _;

use fairtrial_core::language::Dialect;
use fairtrial_core::value::Value;

use super::sealed::{Action, Call, Expected, Step};

/// One visible example.
pub fn example(name: &str, call: &Call, dialect: Dialect<'_>) -> String {
    if let [Step { action: Action::Function, .. }] = &call.steps[..] {
        let step = &call.steps[0];
        let in_words = step_in_words(step, dialect, call.prints.as_deref());
        return format!("- `{name}({})` {in_words}\n", step_input(step, dialect));
    }
    let mut text = format!("- {}:\n", call.name);
    for step in &call.steps {
        let _ = writeln!(
            text,
            "  - `{}` {}",
            step_text(name, step, dialect),
            step_in_words(step, dialect, None)
        );
    }
    if let Some(prints) = &call.prints {
        let _ = writeln!(text, "  - in all, it prints `{}`", prints.trim_end());
    }
    text
}

/// A step as people write it: `Hold(3)`, `.put("a")`, `.size`.
fn step_text(name: &str, step: &Step, dialect: Dialect<'_>) -> String {
    let input = step_input(step, dialect);
    match &step.action {
        Action::Function | Action::New => format!("{name}({input})"),
        Action::Method(method) => format!(".{method}({input})"),
        Action::Get(property) => format!(".{property}"),
    }
}

/// What must come of a step, in words.
fn step_in_words(step: &Step, dialect: Dialect<'_>, prints: Option<&str>) -> String {
    let plain = |value: &Value| dialect.write(value);
    let outcome = match &step.expected {
        Expected::OneOf(options) => {
            let options: Vec<_> = options.iter().map(|it| format!("`{}`", plain(it))).collect();
            format!("returns {}", options.join(" or "))
        }
        Expected::Raises(kind) => format!("raises `{kind}`"),
        Expected::AnyValue => match (&step.args_after, prints, &step.action) {
            (Some(_), _, _) => "changes its arguments".to_owned(),
            (None, Some(prints), _) => format!("prints `{}`", prints.trim_end()),
            (None, None, Action::New) => "makes an object".to_owned(),
            (None, None, _) => "does its work".to_owned(),
        },
    };
    let after = step.args_after.as_ref().map_or(String::new(), |args| {
        let args: Vec<_> = args.iter().map(&plain).collect();
        format!("; the arguments are then `{}`", args.join(", "))
    });
    format!("{outcome}{after}")
}

/// The arguments of a call, or its steps, as people write them.
pub fn input(call: &Call, dialect: Dialect<'_>) -> String {
    match &call.steps[..] {
        [step] if step.action == Action::Function => step_input(step, dialect),
        steps => {
            let steps = steps.iter().map(|step| step_text("", step, dialect));
            steps.collect::<Vec<_>>().join("; ")
        }
    }
}

fn step_input(step: &Step, dialect: Dialect<'_>) -> String {
    let plain = |value: &Value| dialect.write(value);
    let named = step.kwargs.iter().map(|(key, value)| format!("{key}={}", plain(value)));
    step.args.iter().map(&plain).chain(named).collect::<Vec<_>>().join(", ")
}
