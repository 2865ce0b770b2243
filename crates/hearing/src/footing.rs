//! Equal footing: what must not change within one record.

use fairtrial_core::plan::{Candidate, Plan};
use fairtrial_record::Manifest;

/// What of a plan would spoil the equal footing if it changed within one record. More samples,
/// more candidates and more tasks do not.
pub fn conflict(known: &Manifest, wanted: &Manifest) -> Option<String> {
    let (old, new) = (&known.plan, &wanted.plan);
    let settings = |plan: &Plan| {
        [
            ("attempts", plan.attempts.to_string()),
            ("feedback", plan.feedback.to_string()),
            ("reading", plan.reading.to_string()),
            ("seed", plan.seed.to_string()),
            ("limits", format!("{:?}", plan.limits)),
            ("currency", plan.currency.clone()),
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
        (was, is) => was == is,
    }
}
