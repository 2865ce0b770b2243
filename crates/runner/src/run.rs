//! Runs the trials that have not been run: a session with a clock, a record and threads.

use std::collections::HashMap;
use std::path::PathBuf;
use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::mpsc::{RecvTimeoutError, SyncSender, channel, sync_channel};
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};
use std::thread;
use std::time::{Duration, Instant, SystemTime};

use fairtrial_candidates::{Ask, AskOutcome, AskReply, Reporter, RequestNote, StepNote, Workspace};
use fairtrial_core::answer::ReadingNotes;
use fairtrial_core::judgement::Judgement;
use fairtrial_core::plan::Candidate;
use fairtrial_core::schedule::{TrialKey, schedule};
use fairtrial_core::trouble::StepWatch;
use fairtrial_core::verdict::{Verdict, VoidReason};
use fairtrial_grading::{Judge, JudgeOptions, JudgedSubmission, Manner, Start};
use fairtrial_record::{Manifest, Record, RecordError, Selection, TrialSummary};

use crate::compatibility::incompatibility;
use crate::counter::Counter;
use crate::pool::{PANIC, Pool};
use crate::prepare::{PlannedTask, Preparation, lies_in};
use crate::scheduler::{Concurrency, Scheduler};
use crate::session::{Observer, RequestSpot, RunEvent, RunOrder, RunSpec, Session, Summary, World};
use crate::trial::{Unjudged, step_of};

/// Longest time between two looks at whether the run was stopped.
const POLL: Duration = Duration::from_millis(100);

/// Where and how to run.
#[derive(Debug, Clone)]
pub struct RunOptions {
    /// The folder of the record.
    pub record: PathBuf,
    /// Answers that are judged at the same time.
    pub judging: usize,
}

/// Why a run had to stop. What was committed is safe.
#[derive(Debug, thiserror::Error)]
pub enum RunError {
    /// The record.
    #[error(transparent)]
    Record(#[from] RecordError),
    /// The record would lie where it could be read by those it is kept from.
    #[error("the record `{0}` lies in a folder that code under trial can read")]
    Exposed(PathBuf),
    /// The plan is not the one that the record was begun with.
    #[error("the plan does not fit the record `{record}`: {what}")]
    OtherPlan {
        /// The record.
        record: PathBuf,
        /// What differs.
        what: String,
    },
}

/// What threads have to say.
enum Heard {
    /// A request is about to be sent; it is when `recorded` says where it stands.
    Requested { key: TrialKey, recorded: SyncSender<Option<RequestSpot>> },
    /// What an order came to.
    Done(RunEvent),
}

/// Runs every trial of a plan that the record does not have. `stop` ends it early: what is under
/// way is still waited for.
///
/// # Errors
/// When the record cannot be written, or belongs to another plan.
pub fn run_trials(
    preparation: &Preparation,
    options: &RunOptions,
    stop: &AtomicBool,
    observer: &mut dyn Observer,
) -> Result<Summary, RunError> {
    let mut record = open(preparation, options)?;
    let plan = &preparation.plan;
    let names: Vec<&str> = plan.candidates.iter().map(Candidate::name).collect();
    let TrialOrder { order, known, waiting } = TrialOrder::new(preparation, Some(&record))?;
    let mut counter = Counter::new(&names, &order, &known, &waiting);
    let is_unanswered = |key: &&TrialKey| {
        let void = known.get(key).and_then(|it| it.verdict).is_some_and(Verdict::is_void);
        void && !preparation.has_answer(key)
    };
    counter.unanswered = order.iter().filter(is_unanswered).count();
    let limits = Concurrency { asking: plan.parallel as usize, judging: options.judging };
    let scheduler = Scheduler::new(waiting, limits);
    let spec = RunSpec { plan, tasks: &preparation.tasks, world: preparation };
    let session = Session::new(spec, &mut record, scheduler, known, counter, observer);
    Ok(drive(session, preparation, limits, stop)?)
}

/// The trials of a plan.
pub(crate) struct TrialOrder {
    /// All, in the order in which they are begun.
    pub order: Vec<TrialKey>,
    /// What is known of those that were begun before.
    pub known: HashMap<TrialKey, TrialSummary>,
    /// Those that are still to be run.
    pub waiting: Vec<TrialKey>,
}

impl TrialOrder {
    /// The trials of what was prepared, with what a record knows of them.
    ///
    /// # Errors
    /// When the record cannot be read.
    pub fn new(preparation: &Preparation, record: Option<&Record>) -> Result<Self, RecordError> {
        let plan = &preparation.plan;
        let names: Vec<&str> = plan.candidates.iter().map(Candidate::name).collect();
        let tasks: Vec<&str> = preparation.tasks.keys().map(String::as_str).collect();
        let mut order = schedule(&names, &tasks, plan.samples, plan.seed);
        let takes = |key: &TrialKey| {
            let candidate = plan.candidates.iter().find(|it| it.name() == key.candidate);
            candidate.is_some_and(|it| it.takes(&key.task))
        };
        order.retain(takes);
        let summaries = record.map(|it| it.summaries(&Selection::default())).transpose()?;
        let known: HashMap<TrialKey, TrialSummary> =
            summaries.into_iter().flatten().map(|it| (it.key.clone(), it)).collect();
        let is_waiting = |key: &&TrialKey| is_to_be_run(preparation, known.get(key));
        let waiting = order.iter().filter(is_waiting).cloned().collect();
        Ok(Self { order, known, waiting })
    }
}

/// Carries out a session's orders on threads, and tells it what happens.
fn drive(
    mut session: Session<'_>,
    preparation: &Preparation,
    limits: Concurrency,
    stop: &AtomicBool,
) -> Result<Summary, RecordError> {
    let began = Instant::now();
    let (heard_in, heard) = channel();
    thread::scope(|scope| {
        let hear = heard_in.clone();
        let stopping = Arc::new(AtomicBool::new(false));
        let is_stopping = Arc::clone(&stopping);
        let ask_one = move |(key, ask): &(TrialKey, Ask)| {
            let reporter = ToSession {
                key: key.clone(),
                hear: hear.clone(),
                stopping: Arc::clone(&is_stopping),
                spots: Mutex::default(),
                watch: preparation.plan.stop_when_stuck.map(|most| (most, Mutex::default())),
            };
            let reply = ask_candidate(preparation, key, ask, Arc::new(reporter));
            Heard::Done(RunEvent::Asked(key.clone(), Box::new(reply)))
        };
        let void = AskOutcome::Void(VoidReason::SandboxError, PANIC.to_owned());
        let lost = AskReply::bare(void);
        let ask_panicked = move |(key, _): &(TrialKey, Ask)| {
            Heard::Done(RunEvent::Asked(key.clone(), Box::new(lost.clone())))
        };
        // Whoever answers by itself takes no thread.
        let by_thread = preparation.askers.values().any(|it| !it.answers_by_itself());
        let threads = if by_thread { limits.asking } else { 1 };
        let askers = Pool::start(scope, threads, &heard_in, ask_one, ask_panicked);
        let judge_one = move |(key, answer, examples): &(TrialKey, Unjudged, bool)| {
            let judged = judge_answer(preparation, key, answer, *examples);
            Heard::Done(RunEvent::Judged(key.clone(), Box::new(judged)))
        };
        let judge_panicked = |(key, ..): &(TrialKey, Unjudged, bool)| {
            Heard::Done(RunEvent::Judged(key.clone(), Box::new(not_judged(PANIC))))
        };
        let judges = Pool::start(scope, limits.judging, &heard_in, judge_one, judge_panicked);
        let mut is_stopped = false;
        // Returning drops `heard`: who waits for a request to be recorded does not send it then.
        loop {
            if stop.load(Ordering::Relaxed) && !is_stopped {
                is_stopped = true;
                stopping.store(true, Ordering::Relaxed);
                session.handle(RunEvent::Stop, began.elapsed())?;
            }
            for order in session.orders(began.elapsed())? {
                match order {
                    RunOrder::Ask { key, ask } => match preparation.askers.get(&key.candidate) {
                        Some(asker) if asker.answers_by_itself() => {
                            if asker.host().is_some() {
                                session.requested(&key)?;
                            }
                            let hear = heard_in.clone();
                            let answered = move |reply| {
                                let asked = RunEvent::Asked(key, Box::new(reply));
                                let _ = hear.send(Heard::Done(asked));
                            };
                            asker.begin(&ask, Box::new(answered));
                        }
                        _ => askers.submit((key, ask)),
                    },
                    RunOrder::Judge { key, answer, examples } => {
                        judges.submit((key, answer, examples))
                    }
                }
            }
            if session.is_over() {
                return Ok(session.summary());
            }
            let now = began.elapsed();
            let wait = session.wakes_at(now).map_or(POLL, |it| (it - now).min(POLL));
            match heard.recv_timeout(wait) {
                Ok(Heard::Requested { recorded, .. }) if is_stopped => {
                    let _ = recorded.send(None);
                }
                Ok(Heard::Requested { key, recorded }) => {
                    let spot = session.requested(&key)?;
                    let _ = recorded.send(spot);
                }
                Ok(Heard::Done(event)) => session.handle(event, began.elapsed())?,
                // The threads end only after the pools are gone.
                Err(RecvTimeoutError::Timeout | RecvTimeoutError::Disconnected) => {}
            }
        }
    })
}

/// Tells the session what a candidate does, and waits until that is recorded where it must be.
struct ToSession {
    key: TrialKey,
    hear: std::sync::mpsc::Sender<Heard>,
    stopping: Arc<AtomicBool>,
    /// Where requests stand that are under way.
    spots: Mutex<Vec<RequestSpot>>,
    /// Looks for trouble in the steps; `None`: as often as it likes.
    watch: Option<(u32, Mutex<StepWatch>)>,
}

impl ToSession {
    fn spots(&self) -> MutexGuard<'_, Vec<RequestSpot>> {
        self.spots.lock().unwrap_or_else(PoisonError::into_inner)
    }
}

impl Reporter for ToSession {
    fn requested(&self) -> Option<u32> {
        let (recorded, answer) = sync_channel(1);
        let requested = Heard::Requested { key: self.key.clone(), recorded };
        self.hear.send(requested).ok()?;
        let spot = answer.recv().ok()??;
        self.spots().push(spot);
        Some(spot.number)
    }

    fn request_over(&self, number: u32, note: RequestNote) {
        let mut spots = self.spots();
        if let Some(at) = spots.iter().position(|it| it.number == number) {
            let spot = spots.swap_remove(at);
            // A session that is over has ended its record, too: the request stays `under way` in it.
            let over = RunEvent::RequestOver(self.key.clone(), spot, note);
            let _ = self.hear.send(Heard::Done(over));
        }
    }

    fn step(&self, step: StepNote) {
        if let Some((_, watch)) = &self.watch {
            watch.lock().unwrap_or_else(PoisonError::into_inner).take(&step_of(&step));
        }
        // After a session is over, nothing more is written.
        let _ = self.hear.send(Heard::Done(RunEvent::Step(self.key.clone(), step)));
    }

    fn is_stopping(&self) -> bool {
        self.stopping.load(Ordering::Relaxed)
    }

    fn is_stuck(&self) -> bool {
        self.watch.as_ref().is_some_and(|(most, watch)| {
            let found = watch.lock().unwrap_or_else(PoisonError::into_inner).trouble();
            found.most() >= *most
        })
    }
}

fn ask_candidate(
    preparation: &Preparation,
    key: &TrialKey,
    ask: &Ask,
    reporter: Arc<dyn Reporter>,
) -> AskReply {
    let asker = preparation.askers.get(&key.candidate);
    let (Some(asker), Some(entry)) = (asker, preparation.tasks.get(&key.task)) else {
        return AskReply::bare(AskOutcome::Cancelled);
    };
    if !asker.acts() {
        return asker.ask(ask, None, &reporter);
    }
    match workspace(&preparation.judge, entry) {
        Ok(workspace) => asker.ask(ask, Some(&workspace), &reporter),
        Err(why) => AskReply::bare(AskOutcome::Void(VoidReason::Preflight, why)),
    }
}

/// What a candidate that acts on a task finds.
fn workspace<'a>(judge: &'a Judge, entry: &PlannedTask) -> Result<Workspace<'a>, String> {
    let PlannedTask { task, limits, .. } = entry;
    let start = judge.start(task, *limits).map_err(|error| error.to_string())?;
    let around = judge.surroundings(task, *limits).map_err(|error| error.to_string())?;
    let prepared = match &start {
        Start::Prepared(prepared) => Some(Arc::clone(prepared)),
        Start::Given(_) => None,
    };
    Ok(Workspace {
        sandbox: judge.sandbox(),
        prepared,
        given: task.given.to_work_tree(),
        show: around.show,
        env: around.env,
        disk: limits.disk.0,
        patch: limits.patch.0,
    })
}

fn judge_answer(
    preparation: &Preparation,
    key: &TrialKey,
    answer: &Unjudged,
    examples: bool,
) -> JudgedSubmission {
    let Some(entry) = preparation.tasks.get(&key.task) else {
        return not_judged("the task is gone");
    };
    let options = JudgeOptions {
        limits: entry.limits,
        reading: preparation.plan.reading,
        end: answer.end,
        examples,
    };
    preparation.judge.judge_submission(&entry.task, &answer.submission, options)
}

/// What comes of an answer that our own part did not judge.
fn not_judged(why: &str) -> JudgedSubmission {
    let bare = Judgement::bare(Verdict::Void(VoidReason::SandboxError));
    let judgement = Judgement { notes: vec![why.to_owned()], ..bare };
    JudgedSubmission {
        judgement,
        deviations: Vec::new(),
        reading: ReadingNotes::default(),
        code: None,
        took: Duration::ZERO,
    }
}

impl World for Preparation {
    fn has_answer(&self, key: &TrialKey) -> bool {
        self.askers.get(&key.candidate).is_some_and(|it| it.has(&key.task, key.sample))
    }

    fn manner(&self, candidate: &str) -> Manner {
        let acts = self.askers.get(candidate).is_some_and(|it| it.acts());
        if acts { Manner::Acts } else { Manner::Says }
    }

    fn host(&self, candidate: &str) -> &str {
        self.askers.get(candidate).and_then(|it| it.host()).unwrap_or_default()
    }

    fn leave(&self, key: &TrialKey) {
        if let Some(asker) = self.askers.get(&key.candidate) {
            asker.leave(&key.task, key.sample);
        }
    }

    fn unfit(&self, task: &PlannedTask) -> Option<VoidReason> {
        let tools = self.judge.tools().of_task(&task.task, task.task.form.runner());
        let preflight = task.unfit.as_ref().map(|_| VoidReason::Preflight);
        tools.is_err().then_some(VoidReason::ToolMissing).or(preflight)
    }

    fn now(&self) -> String {
        now()
    }
}

fn open(preparation: &Preparation, options: &RunOptions) -> Result<Record, RunError> {
    let mut wanted = preparation.manifest.clone();
    wanted.created = now();
    for machine in &mut wanted.machines {
        machine.since = now();
    }
    let is_shown = |it: &PlannedTask| lies_in(&options.record, it.task.form.folders());
    if preparation.judge.tools().shows(&options.record) || preparation.tasks.values().any(is_shown)
    {
        return Err(RunError::Exposed(options.record.clone()));
    }
    let mut record = Record::open_for_run(&options.record, &wanted)?;
    let known = record.manifest().clone();
    if let Some(what) = incompatibility(&known, &wanted) {
        return Err(RunError::OtherPlan { record: options.record.clone(), what });
    }
    let mut merged = Manifest { created: known.created.clone(), ..wanted.clone() };
    merged.machines.clone_from(&known.machines);
    for machine in wanted.machines {
        if !merged.machines.last().is_some_and(|last| last.is_like(&machine)) {
            merged.machines.push(machine);
        }
    }
    if merged != known {
        record.set_manifest(merged)?;
    }
    Ok(record)
}

fn is_to_be_run(preparation: &Preparation, known: Option<&TrialSummary>) -> bool {
    match known.map(|it| (it, it.verdict)) {
        Some((known, Some(Verdict::Void(VoidReason::ToolMissing | VoidReason::Preflight)))) => {
            let task = preparation.tasks.get(&known.key.task);
            task.is_some_and(|it| preparation.unfit(it).is_none())
        }
        Some((known, Some(verdict))) => verdict.is_void() && preparation.has_answer(&known.key),
        Some((_, None)) | None => true,
    }
}

/// The time of day, in UTC, RFC 3339, to the millisecond.
pub(crate) fn now() -> String {
    humantime::format_rfc3339_millis(SystemTime::now().max(SystemTime::UNIX_EPOCH)).to_string()
}
