//! Several who watch the same run.

use fairtrial_runner::{Observer, Progress, RunNews};

/// Several who watch the same run, each told what the others are.
#[derive(Default)]
pub struct Watchers<'a>(Vec<Box<dyn Observer + 'a>>);

impl<'a> Watchers<'a> {
    /// Adds one.
    pub fn add(&mut self, watcher: impl Observer + 'a) {
        self.0.push(Box::new(watcher));
    }
}

impl Observer for Watchers<'_> {
    fn progress(&mut self, progress: &Progress) {
        self.0.iter_mut().for_each(|it| it.progress(progress));
    }

    fn happened(&mut self, what: &RunNews<'_>) {
        self.0.iter_mut().for_each(|it| it.happened(what));
    }
}
