//! What of a plan must not change within one record, and what may, with what is said of it.

use fairtrial_core::plan::{Candidate, Plan, Price};
use fairtrial_record::{Manifest, TaskNote};
use serde::Serialize;
use serde_json::Value as Json;

/// What of a plan differs from the one that its record was begun with, and may.
#[derive(Debug, Default, PartialEq)]
pub struct PlanDifference {
    /// What bears on the equal footing, in words.
    pub notes: Vec<String>,
    /// Tasks that changed: their trials are to be set aside.
    pub changed_tasks: Vec<String>,
    /// Candidates with another price: what they cost is to be computed again.
    pub prices: Vec<(String, Price)>,
    /// Candidates that are no longer in the plan.
    pub dropped_candidates: Vec<String>,
    /// Tasks that are no longer in the dockets.
    pub dropped_tasks: Vec<String>,
}

/// Whether a task is what it was.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum TaskState {
    /// It is.
    Same,
    /// It changed.
    Changed,
    /// It is no longer there.
    Gone,
}

/// How a plan differs from the one that a record was begun with. More samples, candidates and tasks are no difference;
/// fewer are noted. `state` says what became of a task. `takes_changed`: trials of tasks that changed are held again.
///
/// # Errors
/// In words: what would make trials incomparable.
pub fn difference(
    known: &Manifest,
    wanted: &Manifest,
    state: impl Fn(&TaskNote) -> TaskState,
    takes_changed: bool,
) -> Result<PlanDifference, String> {
    let (old, new) = (&known.plan, &wanted.plan);
    let mut difference = PlanDifference::default();
    if let Some(what) = first_difference("", &settings(old), &settings(new)) {
        return Err(what);
    }
    if new.samples < old.samples {
        let (was, is) = (old.samples, new.samples);
        difference.notes.push(format!(
            "`samples` was {was}, now it is {is}: trials beyond that stay, and no more are held"
        ));
    }
    for was in &old.candidates {
        let name = was.name();
        match new.candidates.iter().find(|is| is.name() == name) {
            None => {
                difference.dropped_candidates.push(name.to_owned());
                if !known.dropped_candidates.iter().any(|it| it == name) {
                    let what = "is no longer in the plan: what it has stays, and no more is asked";
                    difference.notes.push(format!("the candidate `{name}` {what}"));
                }
            }
            Some(is) => compare_candidates(was, is, &mut difference)?,
        }
    }
    // Where its tool was never there, nothing was judged by it.
    let was_used = |name: &String| {
        let tools = || known.machines.iter().flat_map(|it| &it.tools);
        tools().any(|it| it.language == *name && it.found)
    };
    for (name, was) in known.languages.iter().filter(|it| was_used(it.0)) {
        if wanted.languages.get(name) != Some(was) {
            return Err(format!("the language `{name}` is defined otherwise"));
        }
    }
    for was in &known.tasks {
        let name = &was.name;
        match state(was) {
            TaskState::Same => {}
            TaskState::Gone => {
                difference.dropped_tasks.push(name.clone());
                if !known.dropped_tasks.contains(name) {
                    let what = "is no longer in the dockets: its trials stay, and no more are held";
                    difference.notes.push(format!("the task `{name}` {what}"));
                }
            }
            TaskState::Changed if takes_changed => {
                difference.changed_tasks.push(name.clone());
                let what = "was changed: its trials were set aside, and are held again by all";
                difference.notes.push(format!("the task `{name}` {what}"));
            }
            TaskState::Changed => return Err(format!("the task `{name}` has changed")),
        }
    }
    Ok(difference)
}

/// What of a plan must stay as it was, whoever stands trial.
fn settings(plan: &Plan) -> Json {
    serde_json::json!({
        "attempts": plan.attempts,
        "feedback": plan.feedback,
        "reading": plan.reading,
        "seed": plan.seed,
        "limits": plan.limits,
        "currency": plan.currency,
        "leave_out": plan.leave_out,
        "stop_when_stuck": plan.stop_when_stuck,
        "prompt": plan.prompt,
    })
}

/// Compares how a candidate is asked. Where it is asked, how long is waited for it and how often, what it may spend,
/// where its key comes from and what people call it may change; so may its price, which is noted.
fn compare_candidates(
    was: &Candidate,
    is: &Candidate,
    difference: &mut PlanDifference,
) -> Result<(), String> {
    const FREE: &[&str] = &[
        "endpoint",
        "key_env",
        "headers",
        "timeout",
        "patience",
        "longest_answer",
        "trust",
        "retries",
        "budget",
        "labels",
        "price",
        "tasks",
    ];
    let name = was.name();
    let kept = |candidate: &Candidate| {
        let mut value = json(candidate);
        if let Json::Object(keys) = &mut value {
            keys.retain(|key, _| !FREE.contains(&key.as_str()));
        }
        value
    };
    if let Some(what) = first_difference("", &kept(was), &kept(is)) {
        return Err(format!("the candidate `{name}` is configured otherwise: {what}"));
    }
    let (old, new) = (was.price(), is.price());
    if old != new {
        let words = |it: Price| match it.cached_input {
            Some(cached) => format!("{} in, {cached} cached, {} out", it.input, it.output),
            None => format!("{} in, {} out", it.input, it.output),
        };
        difference.notes.push(format!(
            "the price of `{name}` was {}, now it is {}: what it cost was computed again",
            words(old),
            words(new)
        ));
        difference.prices.push((name.to_owned(), new));
    }
    Ok(())
}

fn json(value: &impl Serialize) -> Json {
    serde_json::to_value(value).unwrap_or_default()
}

/// The first key whose values differ, with both.
fn first_difference(place: &str, was: &Json, is: &Json) -> Option<String> {
    if was == is {
        return None;
    }
    if let (Json::Object(old), Json::Object(new)) = (was, is) {
        let keys = old.keys().chain(new.keys().filter(|it| !old.contains_key(*it)));
        return keys.into_iter().find_map(|key| {
            let place = if place.is_empty() { key.clone() } else { format!("{place}.{key}") };
            let of = |it: &serde_json::Map<String, Json>| it.get(key).cloned().unwrap_or_default();
            first_difference(&place, &of(old), &of(new))
        });
    }
    let words = |value: &Json| match value {
        Json::Null => "not set".to_owned(),
        Json::String(text) => text.clone(),
        Json::Array(items) if items.is_empty() => "none".to_owned(),
        Json::Array(items) if items.iter().all(Json::is_string) => {
            items.iter().filter_map(Json::as_str).collect::<Vec<_>>().join(", ")
        }
        other => other.to_string(),
    };
    Some(format!("`{place}` was {}, now it is {}", words(was), words(is)))
}

#[cfg(test)]
mod tests {
    use fairtrial_core::digest::Digest;
    use fairtrial_record::FORMAT_VERSION;

    use super::*;

    const PLAN: &str = "docket = \"d\"\nsamples = 2\n[[candidate]]\nname = \"auk\"\n\
        kind = \"chat\"\nmodel = \"m\"\nendpoint = \"http://a\"\n";

    fn manifest(plan: &str, tasks: &[(&str, &str)]) -> Manifest {
        let note = |(name, content): &(&str, &str)| TaskNote {
            name: (*name).to_owned(),
            title: "T".into(),
            docket: "D".into(),
            docket_version: "1".into(),
            category: "c".into(),
            difficulty: 1,
            language: "python".into(),
            form: "call".into(),
            tags: vec![],
            points: 1.0,
            weight: None,
            digest: Digest::of(content.as_bytes()),
        };
        Manifest {
            format_version: FORMAT_VERSION,
            created: String::new(),
            plan: Plan::parse("plan.toml", plan).unwrap(),
            tasks: tasks.iter().map(note).collect(),
            languages: Default::default(),
            machines: Vec::new(),
            changes: Vec::new(),
            dropped_candidates: Vec::new(),
            dropped_tasks: Vec::new(),
        }
    }

    fn check(
        plan: &str,
        tasks: &[(&str, &str)],
        takes_changed: bool,
    ) -> Result<PlanDifference, String> {
        let wanted = manifest(plan, tasks);
        let state = |was: &TaskNote| match wanted.tasks.iter().find(|it| it.name == was.name) {
            None => TaskState::Gone,
            Some(is) if is.digest == was.digest => TaskState::Same,
            Some(_) => TaskState::Changed,
        };
        difference(&manifest(PLAN, &[("gap", "1")]), &wanted, state, takes_changed)
    }

    #[test]
    fn a_plan_may_grow_and_a_host_may_move() {
        let same = [("gap", "1")];
        let none = Ok(PlanDifference::default());
        assert_eq!(check(PLAN, &same, false), none);
        assert_eq!(check(PLAN, &[("gap", "1"), ("berth", "2")], false), none);
        let more = PLAN.replace("samples = 2", "samples = 5\nparallel = 9");
        assert_eq!(check(&more, &same, false), none);
        let second =
            format!("{PLAN}[[candidate]]\nname = \"tern\"\nkind = \"recorded\"\npath = \"a\"");
        assert_eq!(check(&second, &same, false), none);
        let moved =
            PLAN.replace("http://a", "http://b") + "retries = 9\ntimeout = 5\nkey_env = \"K\"\n";
        assert_eq!(check(&moved, &same, false), none);
    }

    #[test]
    fn what_is_dropped_or_corrected_is_a_way_on_that_is_noted() {
        let same: &[(&str, &str)] = &[("gap", "1")];
        for (plan, tasks, part) in [
            (PLAN.replace("samples = 2", "samples = 1"), same, "`samples` was 2, now it is 1"),
            (PLAN.replace("\"auk\"", "\"tern\""), same, "`auk` is no longer in the plan"),
            (
                PLAN.to_owned() + "price = { input = 2.5 }\n",
                same,
                "the price of `auk` was 0 in, 0 out, now it is 2.5 in, 0 out",
            ),
            (PLAN.to_owned(), &[("berth", "1")], "the task `gap` is no longer in the dockets"),
            (PLAN.to_owned(), &[("gap", "2")], "the task `gap` was changed"),
        ] {
            let found = check(&plan, tasks, true).unwrap();
            assert!(found.notes.iter().any(|it| it.contains(part)), "{part}: {found:?}");
        }
    }

    #[test]
    fn what_spoils_the_equal_footing_is_told() {
        let same: &[(&str, &str)] = &[("gap", "1")];
        let with = |head: &str| format!("{head}\n{PLAN}");
        for (plan, tasks, part) in [
            (with("attempts = 2"), same, "`attempts` was 1, now it is 2"),
            (with("feedback = \"verdict\""), same, "`feedback` was examples"),
            (with("reading = \"strict\""), same, "`reading` was lenient"),
            (with("limits = { time = 1 }"), same, "`limits.time` was not set, now it is 1"),
            (with("currency = \"EUR\""), same, "`currency` was USD"),
            (PLAN.replace("\"m\"", "\"n\""), same, "`model` was m, now it is n"),
            (PLAN.to_owned() + "system = \"s\"\n", same, "`system` was not set, now it is s"),
            (
                PLAN.to_owned() + "sampling = { temperature = 0.5 }\n",
                same,
                "`sampling.temperature` was not set, now it is 0.5",
            ),
            (PLAN.to_owned(), &[("gap", "2")], "the task `gap` has changed"),
        ] {
            let what = check(&plan, tasks, false).unwrap_err();
            assert!(what.contains(part), "{part}: {what}");
        }
    }
}
