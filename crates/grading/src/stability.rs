//! Failed tests that were run again: which of them do not always fail.
//!
//! The first run decides. What differs is written down beside it, never in its place.

use fairtrial_core::judgement::{Judgement, Unstable};

/// Marks the tests of `first` that came to something else in one of the runs in `again`.
pub fn compare(first: &mut Judgement, again: &[Judgement]) {
    let runs = again.len() as u32 + 1;
    for (place, test) in first.tests.iter_mut().enumerate() {
        let others = again.iter().filter_map(|it| it.tests.get(place));
        let failed_again = others.filter(|it| it.name == test.name && it.failed.is_some()).count();
        let failed = failed_again as u32 + u32::from(test.failed.is_some());
        if failed > 0 && failed < runs {
            test.unstable = Some(Unstable { failed, runs });
            let name = &test.name;
            first.notes.push(format!("unstable: `{name}` failed in {failed} of {runs} runs"));
        }
    }
}
