//! What of a plan must not change within one record.

use fairtrial_core::plan::{Candidate, Plan};
use fairtrial_record::Manifest;

/// What of a plan would make trials incomparable if it changed within one record. More samples,
/// more candidates and more tasks do not.
pub fn incompatibility(known: &Manifest, wanted: &Manifest) -> Option<String> {
    let (old, new) = (&known.plan, &wanted.plan);
    let settings = |plan: &Plan| {
        [
            ("attempts", plan.attempts.to_string()),
            ("feedback", plan.feedback.to_string()),
            ("reading", plan.reading.to_string()),
            ("seed", plan.seed.to_string()),
            ("limits", format!("{:?}", plan.limits)),
            ("currency", plan.currency.clone()),
            ("leave_out", plan.leave_out.join(", ")),
            ("stop_when_stuck", plan.stop_when_stuck.map_or("none".into(), |it| it.to_string())),
        ]
    };
    for ((key, was), (_, is)) in settings(old).into_iter().zip(settings(new)) {
        if was != is {
            return Some(format!("`{key}` was {was}, now it is {is}"));
        }
    }
    if new.samples < old.samples {
        return Some(format!("`samples` was {}, now it is only {}", old.samples, new.samples));
    }
    for was in &old.candidates {
        match new.candidates.iter().find(|is| is.name() == was.name()) {
            None => return Some(format!("the candidate `{}` is no longer in it", was.name())),
            Some(is) if !is_same_candidate(was, is) => {
                return Some(format!("the candidate `{}` is configured otherwise", was.name()));
            }
            Some(_) => {}
        }
    }
    // Where its tool was never there, nothing was judged by it.
    let was_used = |name: &String| {
        let tools = || known.machines.iter().flat_map(|it| &it.tools);
        tools().any(|it| it.language == *name && it.found)
    };
    for (name, was) in known.languages.iter().filter(|it| was_used(it.0)) {
        if wanted.languages.get(name) != Some(was) {
            return Some(format!("the language `{name}` is defined otherwise"));
        }
    }
    for was in &known.tasks {
        match wanted.tasks.iter().find(|is| is.name == was.name) {
            None => {
                return Some(format!("the task `{}` is no longer in its dockets", was.name));
            }
            Some(is) if is.digest != was.digest => {
                return Some(format!("the task `{}` has changed", was.name));
            }
            Some(_) => {}
        }
    }
    None
}

/// Whether a candidate is asked in the same way. Where it is asked, how long is waited for it and
/// how often, and where its key comes from may change.
fn is_same_candidate(was: &Candidate, is: &Candidate) -> bool {
    match (was, is) {
        (Candidate::Chat(was), Candidate::Chat(is)) => {
            let mut is = is.clone();
            is.endpoint.clone_from(&was.endpoint);
            is.key_env.clone_from(&was.key_env);
            is.headers.clone_from(&was.headers);
            is.timeout = was.timeout;
            is.retries = was.retries;
            *was == is
        }
        (Candidate::Agent(was), Candidate::Agent(is))
        | (Candidate::Acp(was), Candidate::Acp(is)) => {
            let mut is = is.clone();
            is.endpoint.clone_from(&was.endpoint);
            is.key_env.clone_from(&was.key_env);
            is.headers.clone_from(&was.headers);
            is.timeout = was.timeout;
            *was == is
        }
        (was, is) => was == is,
    }
}

#[cfg(test)]
mod tests {
    use fairtrial_core::digest::Digest;
    use fairtrial_record::{FORMAT_VERSION, TaskNote};

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
        }
    }

    fn check(plan: &str, tasks: &[(&str, &str)]) -> Option<String> {
        incompatibility(&manifest(PLAN, &[("gap", "1")]), &manifest(plan, tasks))
    }

    #[test]
    fn a_plan_may_grow_and_a_host_may_move() {
        let same = [("gap", "1")];
        assert_eq!(check(PLAN, &same), None);
        assert_eq!(check(PLAN, &[("gap", "1"), ("berth", "2")]), None);
        assert_eq!(check(&PLAN.replace("samples = 2", "samples = 5\nparallel = 9"), &same), None);
        let second =
            format!("{PLAN}[[candidate]]\nname = \"tern\"\nkind = \"recorded\"\npath = \"a\"");
        assert_eq!(check(&second, &same), None);
        let moved =
            PLAN.replace("http://a", "http://b") + "retries = 9\ntimeout = 5\nkey_env = \"K\"\n";
        assert_eq!(check(&moved, &same), None);
    }

    #[test]
    fn what_spoils_the_equal_footing_is_told() {
        let same: &[(&str, &str)] = &[("gap", "1")];
        let with = |head: &str| format!("{head}\n{PLAN}");
        for (plan, tasks, part) in [
            (with("attempts = 2"), same, "`attempts` was 1, now it is 2"),
            (with("feedback = \"verdict\""), same, "`feedback` was examples"),
            (with("reading = \"strict\""), same, "`reading` was lenient"),
            (with("limits = { time = 1 }"), same, "`limits`"),
            (with("currency = \"EUR\""), same, "`currency` was USD"),
            (PLAN.replace("samples = 2", "samples = 1"), same, "now it is only 1"),
            (PLAN.replace("\"auk\"", "\"tern\""), same, "`auk` is no longer in it"),
            (PLAN.replace("\"m\"", "\"n\""), same, "`auk` is configured otherwise"),
            (PLAN.to_owned() + "system = \"s\"\n", same, "`auk` is configured otherwise"),
            (PLAN.to_owned(), &[("gap", "2")], "the task `gap` has changed"),
            (PLAN.to_owned(), &[("berth", "1")], "the task `gap` is no longer"),
        ] {
            let what = check(&plan, tasks).unwrap_or_default();
            assert!(what.contains(part), "{part}: {what}");
        }
    }
}
