//! What a run would do, without doing it.

/// The trials of a plan, and what is asked first.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct DryRun {
    /// Every candidate, in the order of the plan.
    pub candidates: Vec<CandidateTrials>,
    /// Every first prompt, by task.
    pub prompts: Vec<FirstPrompt>,
    /// Samples of each task.
    pub samples: u32,
    /// Most attempts of a trial.
    pub attempts: u32,
    /// What differs from the plan that the record was begun with, as far as it may.
    pub notes: Vec<String>,
}

/// The trials of one candidate.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct CandidateTrials {
    /// Its name.
    pub name: String,
    /// Tasks that it stands for.
    pub tasks: usize,
    /// Its trials.
    pub trials: usize,
    /// Those that would be run now: not run yet, or void and to be held again.
    pub waiting: usize,
    /// The system message that goes with each prompt.
    pub system: Option<String>,
}

/// The first prompt of a task.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct FirstPrompt {
    /// The task.
    pub task: String,
    /// Whether it is the one for candidates that act.
    pub acts: bool,
    /// The candidate whose wording is its own; `None`: it is everybody else's.
    pub candidate: Option<String>,
    /// The prompt, to the letter.
    pub text: String,
    /// Why trials of the task would be void on this machine.
    pub unfit: Option<String>,
}
