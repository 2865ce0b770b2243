//! Trials as JUnit XML, for systems that show test results: a suite for each candidate, a case for each trial.

use std::io::Write;

use fairtrial_core::verdict::Verdict;
use fairtrial_record::TrialSummary;
use quick_xml::Writer;
use quick_xml::events::{BytesDecl, Event};

use crate::safe::safe;

/// Writes trials. What failed is a failure, what is void is skipped, each with its reason.
///
/// # Errors
/// When the writer fails.
pub fn junit_xml(out: &mut dyn Write, title: &str, trials: &[TrialSummary]) -> std::io::Result<()> {
    let mut writer = Writer::new_with_indent(out, b' ', 2);
    writer.write_event(Event::Decl(BytesDecl::new("1.0", Some("UTF-8"), None)))?;
    let mut names: Vec<&str> = Vec::new();
    for trial in trials {
        if !names.contains(&trial.key.candidate.as_str()) {
            names.push(&trial.key.candidate);
        }
    }
    let suites = writer.create_element("testsuites").with_attribute(("name", &*safe(title)));
    suites.write_inner_content(|writer| {
        for name in names {
            let own: Vec<&TrialSummary> =
                trials.iter().filter(|it| it.key.candidate == name).collect();
            suite(writer, name, &own)?;
        }
        Ok(())
    })?;
    writeln!(writer.into_inner())
}

fn suite<W: Write>(
    writer: &mut Writer<W>,
    name: &str,
    trials: &[&TrialSummary],
) -> std::io::Result<()> {
    let count = |of: fn(&Verdict) -> bool| {
        trials.iter().filter(|it| it.verdict.as_ref().is_some_and(of)).count().to_string()
    };
    let seconds: f64 = trials.iter().map(|it| it.seconds).sum();
    writer
        .create_element("testsuite")
        .with_attribute(("name", &*safe(name)))
        .with_attribute(("tests", trials.len().to_string().as_str()))
        .with_attribute(("failures", count(|it| matches!(it, Verdict::Fail(_))).as_str()))
        .with_attribute(("errors", "0"))
        .with_attribute(("skipped", count(|it| it.is_void()).as_str()))
        .with_attribute(("time", format!("{seconds:.3}").as_str()))
        .write_inner_content(|writer| trials.iter().try_for_each(|it| case(writer, it)))?;
    Ok(())
}

fn case<W: Write>(writer: &mut Writer<W>, trial: &TrialSummary) -> std::io::Result<()> {
    let key = &trial.key;
    let name = format!("{} sample {}", key.task, key.sample);
    let element = writer
        .create_element("testcase")
        .with_attribute(("classname", &*safe(&key.candidate)))
        .with_attribute(("name", &*safe(&name)))
        .with_attribute(("time", format!("{:.3}", trial.seconds).as_str()));
    let reason = trial.verdict.and_then(Verdict::reason).unwrap_or("under way");
    let tests =
        format!("{} of {} tests in attempt {}", trial.tests.0, trial.tests.1, trial.attempts);
    match trial.verdict {
        Some(Verdict::Pass) => element.write_empty()?,
        Some(Verdict::Fail(_)) => element.write_inner_content(|writer| {
            let failure = writer.create_element("failure").with_attribute(("type", reason));
            failure.with_attribute(("message", tests.as_str())).write_empty()?;
            Ok(())
        })?,
        Some(Verdict::Void(_)) | None => element.write_inner_content(|writer| {
            writer.create_element("skipped").with_attribute(("message", reason)).write_empty()?;
            Ok(())
        })?,
    };
    Ok(())
}
