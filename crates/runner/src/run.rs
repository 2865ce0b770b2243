//! Runs the trials that have not been run: a session with a clock, a record and threads.

use std::collections::HashMap;
use std::path::{Path, PathBuf};
use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::mpsc::{RecvTimeoutError, SyncSender, channel, sync_channel};
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};
use std::thread;
use std::time::{Duration, Instant, SystemTime};

use fairtrial_candidates::{Ask, AskOutcome, AskReply, Reporter, RequestNote, StepNote, Workspace};
use fairtrial_core::answer::ReadingNotes;
use fairtrial_core::judgement::Judgement;
use fairtrial_core::plan::Candidate;
use fairtrial_core::schedule::TrialKey;
use fairtrial_core::trouble::StepWatch;
use fairtrial_core::verdict::{Verdict, VoidReason};
use fairtrial_grading::{Judge, JudgeOptions, JudgedSubmission, Manner, Start};
use fairtrial_record::{Manifest, PlanChange, Record, RecordError, Selection, TaskNote};

use crate::budget::time_under_way;
use crate::compatibility::{PlanDifference, TaskState, difference};
use crate::counter::Counter;
use crate::news::RunNews;
use crate::order::{ChoiceError, HeldAgain, TrialChoice, TrialOrder};
use crate::pool::{PANIC, Pool};
use crate::prepare::{PlannedTask, Preparation, lies_in};
use crate::reuse::ReusedRecord;
use crate::scheduler::{CandidateHost, Concurrency, PastRequest, Scheduler};
use crate::session::{
    Observer, RequestSpot, RunEvent, RunOrder, RunSpec, Session, SessionStart, Summary, World,
};
use crate::trial::{Unjudged, step_of};

/// A day: what a host was asked in the last one counts for its limits.
const DAY: Duration = Duration::from_secs(24 * 3600);

/// How often somebody who watches is told how far the run is although no trial is over.
const TICK: Duration = Duration::from_secs(1);

/// Longest time between two looks at whether the run was stopped.
const POLL: Duration = Duration::from_millis(100);

/// Where and how to run.
#[derive(Debug, Clone)]
pub struct RunOptions {
    /// The folder of the record.
    pub record: PathBuf,
    /// Answers that are judged at the same time.
    pub judging: usize,
    /// Which trials are run.
    pub choice: TrialChoice,
    /// Only the first trial of each candidate, and of that the first answer.
    pub trying: bool,
    /// A record whose answers are taken over where the request is the same.
    pub reuse: Option<PathBuf>,
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
    /// Trials were chosen that there are not.
    #[error(transparent)]
    Choice(#[from] ChoiceError),
}

/// What threads have to say.
enum Heard {
    /// A request is about to be sent by a candidate that acts; it is when `recorded` says where it stands.
    Requested { key: TrialKey, recorded: SyncSender<Option<RequestSpot>> },
    /// What an order came to.
    Done(RunEvent),
}

/// Runs every trial of a plan that was chosen and that the record does not have. `stop` ends it early: what is under
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
    let reused = options.reuse.as_deref().map(Record::open).transpose()?;
    let reused = reused.map(|it| ReusedRecord::new(it, &preparation.plan));
    let OpenedRecord { mut record, notes, set_aside } = open(preparation, options)?;
    for note in &notes {
        observer.happened(&RunNews::Changed { what: note });
    }
    let plan = &preparation.plan;
    let names: Vec<&str> = plan.candidates.iter().map(Candidate::name).collect();
    let mut trials = TrialOrder::new(preparation, Some(&record), &options.choice, &set_aside)?;
    if options.trying {
        trials.keep_first();
    }
    let TrialOrder { order, known, waiting, left_out } = trials;
    let mut counter = Counter::new(&names, &order, &known, &waiting);
    let is_unanswered = |key: &&TrialKey| {
        let void = known.get(key).and_then(|it| it.verdict).is_some_and(Verdict::is_void);
        void && !preparation.has_answer(key)
    };
    counter.unanswered = order.iter().filter(is_unanswered).count();
    counter.left_out = left_out;
    let limits = Concurrency { asking: plan.parallel as usize, judging: options.judging };
    let scheduler = scheduler(preparation, &record, waiting, limits)?;
    let (tasks, templates) = (&preparation.tasks, &preparation.templates);
    let spec = RunSpec { plan, tasks, templates, world: preparation };
    let before = match plan.budget.run().time {
        Some(_) => time_before(&record)?,
        None => Duration::ZERO,
    };
    let start = SessionStart { scheduler, known, counter, trying: options.trying, before };
    let session = Session::new(spec, &mut record, start, observer);
    let doing = Doing { preparation, reused: reused.as_ref() };
    Ok(drive(session, doing, limits, stop)?)
}

/// The time that earlier sessions took: that in which a request was under way.
fn time_before(record: &Record) -> Result<Duration, RecordError> {
    let spans = record.request_spans()?.into_iter().filter_map(|(sent, seconds)| {
        let sent = humantime::parse_rfc3339(&sent).ok()?;
        let from = sent.duration_since(SystemTime::UNIX_EPOCH).ok()?;
        Some((from, Duration::try_from_secs_f64(seconds).ok()?))
    });
    Ok(time_under_way(spans.collect()))
}

/// A scheduler over trials, that knows where candidates are asked and what their hosts were asked in the last day.
fn scheduler(
    preparation: &Preparation,
    record: &Record,
    waiting: Vec<TrialKey>,
    limits: Concurrency,
) -> Result<Scheduler, RecordError> {
    let plan = &preparation.plan;
    let host = |name: &str| preparation.askers.get(name).and_then(|it| it.host()).unwrap_or("");
    let candidates = plan.candidates.iter().map(|candidate| CandidateHost {
        candidate: candidate.name().to_owned(),
        host: host(candidate.name()).trim_end_matches('/').to_owned(),
        is_request: preparation
            .askers
            .get(candidate.name())
            .is_some_and(|it| it.answers_by_itself()),
    });
    let candidates: Vec<CandidateHost> = candidates.collect();
    let mut scheduler = Scheduler::new(waiting, limits, candidates.clone());
    let now = SystemTime::now();
    for settings in &plan.hosts {
        let host = settings.endpoint.trim_end_matches('/');
        let own = candidates.iter().filter(|it| it.host == host);
        let own: Vec<&str> = own.map(|it| it.candidate.as_str()).collect();
        let sent = record.requests_sent(&own, &utc(now - DAY))?;
        let past = sent.into_iter().filter_map(|(at, tokens)| {
            let at = humantime::parse_rfc3339(&at).ok()?;
            Some(PastRequest { ago: now.duration_since(at).unwrap_or_default(), tokens })
        });
        let past: Vec<PastRequest> = past.collect();
        scheduler = scheduler.with_host(host, settings.clone(), &past);
    }
    Ok(scheduler.with_first_look())
}

/// What a session is carried out with.
#[derive(Clone, Copy)]
struct Doing<'a> {
    preparation: &'a Preparation,
    reused: Option<&'a ReusedRecord>,
}

impl Doing<'_> {
    /// The answer that another record has; whatever is wrong with that one, the request can be made.
    fn reused(&self, key: &TrialKey, ask: &Ask) -> Option<AskReply> {
        let candidates = &self.preparation.plan.candidates;
        let candidate = candidates.iter().find(|it| it.name() == key.candidate)?;
        self.reused?.answer(candidate, ask).ok().flatten()
    }
}

/// Carries out a session's orders, on threads where they take some, and tells it what happens.
fn drive(
    mut session: Session<'_>,
    doing: Doing<'_>,
    limits: Concurrency,
    stop: &AtomicBool,
) -> Result<Summary, RecordError> {
    let (began, preparation) = (Instant::now(), doing.preparation);
    let (heard_in, heard) = channel();
    thread::scope(|scope| {
        let hear = heard_in.clone();
        let ask_one = move |(key, ask, ends): &(TrialKey, Ask, Arc<AtomicBool>)| {
            let reporter = ToSession {
                key: key.clone(),
                hear: hear.clone(),
                stopping: Arc::clone(ends),
                spots: Mutex::default(),
                watch: preparation.plan.stop_when_stuck.map(|most| (most, Mutex::default())),
            };
            let reply = ask_candidate(preparation, key, ask, Arc::new(reporter));
            Heard::Done(RunEvent::Asked(key.clone(), Box::new(reply)))
        };
        let void = AskOutcome::Void(VoidReason::SandboxError, PANIC.to_owned());
        let lost = AskReply::bare(void);
        let ask_panicked = move |(key, ..): &(TrialKey, Ask, Arc<AtomicBool>)| {
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
        // Those who act: whether each is to end, and requests that they want to send.
        let mut ends = HashMap::<TrialKey, Arc<AtomicBool>>::new();
        let mut wanted = HashMap::<u64, SyncSender<Option<RequestSpot>>>::new();
        let (mut next_id, mut is_stopped, mut told) = (0, false, Duration::ZERO);
        // Returning drops `heard` and `wanted`: who waits for a request to be recorded does not send it then.
        loop {
            let now = began.elapsed();
            if stop.load(Ordering::Relaxed) && !is_stopped {
                is_stopped = true;
                session.handle(RunEvent::Stop, now)?;
            }
            for order in session.orders(now)? {
                match order {
                    RunOrder::Ask { key, ask } => {
                        let asker = preparation.askers.get(&key.candidate);
                        let Some(asker) = asker.filter(|it| it.answers_by_itself()) else {
                            let end = Arc::new(AtomicBool::new(false));
                            ends.insert(key.clone(), Arc::clone(&end));
                            askers.submit((key, ask, end));
                            continue;
                        };
                        let hear = heard_in.clone();
                        if let Some(reply) = doing.reused(&key, &ask) {
                            let _ = hear.send(Heard::Done(RunEvent::Asked(key, Box::new(reply))));
                            continue;
                        }
                        if asker.makes_requests_for(&ask) {
                            session.requested(&key, None)?;
                        }
                        let answered = move |reply| {
                            let _ = hear.send(Heard::Done(RunEvent::Asked(key, Box::new(reply))));
                        };
                        asker.begin(&ask, Box::new(answered));
                    }
                    RunOrder::Send { key, id } => {
                        let Some(recorded) = wanted.remove(&id) else { continue };
                        let _ = recorded.send(session.requested(&key, Some(id))?);
                    }
                    RunOrder::Deny { id } => {
                        if let Some(recorded) = wanted.remove(&id) {
                            let _ = recorded.send(None);
                        }
                    }
                    RunOrder::End { key } => {
                        if let Some(end) = ends.get(&key) {
                            end.store(true, Ordering::Relaxed);
                        }
                    }
                    RunOrder::Judge { key, answer, examples } => {
                        judges.submit((key, answer, examples));
                    }
                }
            }
            if session.is_over() {
                return Ok(session.summary(began.elapsed()));
            }
            let now = began.elapsed();
            if now >= told + TICK {
                told = now;
                session.tell(now);
            }
            let wait = session.wakes_at(now).map_or(POLL, |it| it.saturating_sub(now).min(POLL));
            match heard.recv_timeout(wait) {
                Ok(Heard::Requested { key, recorded }) => {
                    next_id += 1;
                    wanted.insert(next_id, recorded);
                    session.handle(RunEvent::Wanted(key, next_id), began.elapsed())?;
                }
                Ok(Heard::Done(event)) => {
                    if let RunEvent::Asked(key, _) = &event {
                        ends.remove(key);
                    }
                    session.handle(event, began.elapsed())?;
                }
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

/// A record that is ready for a session.
struct OpenedRecord {
    record: Record,
    /// What was changed since it was begun that bears on the equal footing.
    notes: Vec<String>,
    /// Trials that were set aside, to be held again.
    set_aside: Vec<TrialKey>,
}

fn open(preparation: &Preparation, options: &RunOptions) -> Result<OpenedRecord, RunError> {
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
    options.choice.check(preparation)?;
    let mut record = Record::open_for_run(&options.record, &wanted)?;
    let known = record.manifest().clone();
    let difference = differ(preparation, &known, &wanted, &options.choice, &options.record)?;
    let set_aside = set_aside(preparation, &mut record, &difference, &options.choice)?;
    for (candidate, price) in &difference.prices {
        record.correct_price(candidate, price)?;
    }
    let merged = merged(&known, wanted, &difference);
    if merged != known {
        record.set_manifest(merged)?;
    }
    Ok(OpenedRecord { record, notes: difference.notes, set_aside })
}

/// How what was prepared differs from what a record was begun with.
pub(crate) fn differ(
    preparation: &Preparation,
    known: &Manifest,
    wanted: &Manifest,
    choice: &TrialChoice,
    record: &Path,
) -> Result<PlanDifference, RunError> {
    let state = |was: &TaskNote| match preparation.tasks.get(&was.name) {
        None => TaskState::Gone,
        Some(entry) if entry.task.is_of(&was.digest) => TaskState::Same,
        Some(_) => TaskState::Changed,
    };
    let other = |what| RunError::OtherPlan { record: record.to_owned(), what };
    difference(known, wanted, state, choice.takes_changed()).map_err(other)
}

/// Sets trials aside that are to be held again, and gives them.
fn set_aside(
    preparation: &Preparation,
    record: &mut Record,
    difference: &PlanDifference,
    choice: &TrialChoice,
) -> Result<Vec<TrialKey>, RunError> {
    let known = record.summaries(&Selection::default())?;
    let mut aside: Vec<(TrialKey, &str)> = choice.set_aside(&known)?;
    let of_changed = known.iter().filter(|it| difference.changed_tasks.contains(&it.key.task));
    let of_changed = of_changed.filter(|it| it.verdict.is_some());
    aside.extend(of_changed.map(|it| (it.key.clone(), HeldAgain::Changed.why())));
    aside.retain(|it| preparation.tasks.contains_key(&it.0.task));
    aside.retain(|it| preparation.askers.contains_key(&it.0.candidate));
    aside.dedup_by(|a, b| a.0 == b.0);
    let at = now();
    let mut whys: Vec<&str> = aside.iter().map(|it| it.1).collect();
    whys.sort_unstable();
    whys.dedup();
    for why in whys {
        let own = aside.iter().filter(|it| it.1 == why);
        let rows: Vec<(TrialKey, &str)> = own
            .map(|(key, _)| {
                let entry = &preparation.tasks[&key.task];
                let manner = preparation.manner(&key.candidate);
                (key.clone(), entry.first_prompt(&key.candidate, manner))
            })
            .collect();
        record.set_aside(&rows, why, &at)?;
    }
    Ok(aside.into_iter().map(|it| it.0).collect())
}

/// What a record says of its run, with what this session adds.
fn merged(known: &Manifest, wanted: Manifest, difference: &PlanDifference) -> Manifest {
    let mut merged = Manifest { created: known.created.clone(), ..wanted };
    let machines = std::mem::replace(&mut merged.machines, known.machines.clone());
    for machine in machines {
        if !merged.machines.last().is_some_and(|last| last.is_like(&machine)) {
            merged.machines.push(machine);
        }
    }
    merged.plan.samples = merged.plan.samples.max(known.plan.samples);
    let dropped = known.plan.candidates.iter();
    let dropped =
        dropped.filter(|it| difference.dropped_candidates.iter().any(|name| name == it.name()));
    merged.plan.candidates.extend(dropped.cloned());
    let dropped = known.tasks.iter().filter(|it| difference.dropped_tasks.contains(&it.name));
    merged.tasks.extend(dropped.cloned());
    for (name, language) in &known.languages {
        merged.languages.entry(name.clone()).or_insert_with(|| language.clone());
    }
    merged.dropped_candidates.clone_from(&difference.dropped_candidates);
    merged.dropped_tasks.clone_from(&difference.dropped_tasks);
    merged.changes.clone_from(&known.changes);
    // What was noted by an earlier session needs not be again.
    let is_new = |what: &&String| !known.changes.iter().any(|it| it.what == **what);
    let change = |what: &String| PlanChange { at: now(), what: what.clone() };
    merged.changes.extend(difference.notes.iter().filter(is_new).map(change));
    merged
}

/// The time of day, in UTC, RFC 3339, to the millisecond.
pub(crate) fn now() -> String {
    utc(SystemTime::now())
}

fn utc(at: SystemTime) -> String {
    humantime::format_rfc3339_millis(at.max(SystemTime::UNIX_EPOCH)).to_string()
}
