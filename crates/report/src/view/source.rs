//! What standings are made of: one record or several, put together.

use std::collections::{BTreeMap, HashMap, HashSet};
use std::thread;

use fairtrial_core::digest::Digest;
use fairtrial_core::plan::{Candidate, Feedback, PublishedFigure, ReadingMode};
use fairtrial_core::schedule::TrialKey;
use fairtrial_core::standings::{Dimension, Results, Scope, TrialFigures};
use fairtrial_record::{Manifest, Record, RecordError, RegradedTrial, TaskNote};

use super::join::{JoinNote, facts, joint_tasks, other_settings};

/// Most candidates that are ranked together: each is compared with every other.
const CANDIDATES_MAX: usize = 2000;

/// Most candidates times tasks.
const CELLS_MAX: usize = 4_000_000;

/// Most candidates times tasks times samples.
const TRIALS_MAX: usize = 100_000_000;

/// Whose verdicts count.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
pub enum VerdictSource {
    /// Those that were given when the answers came.
    #[default]
    First,
    /// Those of the newest grading.
    Latest,
    /// Those of the grading of this number.
    Grading(i64),
}

/// Why records cannot be put together, or sliced so.
#[derive(Debug, thiserror::Error)]
pub enum StandingsError {
    /// One of them cannot be read.
    #[error(transparent)]
    Record(#[from] RecordError),
    /// Their costs cannot be added up.
    #[error(
        "`{record}` counts in {found}, the first record in {first}: their costs cannot be added up"
    )]
    Currencies {
        /// The record's folder.
        record: String,
        /// Its currency.
        found: String,
        /// That of the first.
        first: String,
    },
    /// More than can be held and compared.
    #[error(
        "{candidates} candidates at {tasks} tasks with {samples} samples are more than can be ranked together: at most \
         {} candidates, {} of them at one task each, {} trials",
        CANDIDATES_MAX,
        CELLS_MAX,
        TRIALS_MAX
    )]
    TooMany {
        /// Candidates.
        candidates: usize,
        /// Tasks.
        tasks: usize,
        /// Samples of each.
        samples: usize,
    },
    /// There is no such grading.
    #[error("`{record}` has no grading {wanted}")]
    NoGrading {
        /// The record's folder.
        record: String,
        /// The number that was asked for, or `at all`.
        wanted: String,
    },
    /// Nothing is what was asked for.
    #[error("nothing in the record has the {what} `{wanted}`")]
    NothingSo {
        /// Of what.
        what: String,
        /// What was asked for.
        wanted: String,
        /// What there is.
        there: Vec<String>,
    },
}

/// Only some candidates or tasks.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Only {
    /// The candidate of this name.
    Candidate(String),
    /// Tasks, or candidates for labels, of this value.
    Of(Dimension, String),
}

/// One record or several, put together.
#[derive(Debug)]
pub struct StandingsSource<'a> {
    /// The records.
    pub records: Vec<&'a Record>,
    /// What became of every trial.
    pub results: Results,
    /// The labels of each candidate.
    pub labels: Vec<BTreeMap<String, String>>,
    /// The tasks that each candidate stands for.
    pub stands: Vec<Vec<usize>>,
    /// What does not fit.
    pub notes: Vec<JoinNote>,
    /// Trials that should be held.
    pub wanted: usize,
    /// Trials that keep their first verdict, although a grading's were asked for.
    pub not_regraded: usize,
    /// When the grading was begun whose verdicts count; `None`: the first ones do.
    pub grading: Option<String>,
    /// How each candidate is configured.
    pub candidates: Vec<Candidate>,
    /// The digest of each task.
    pub digests: Vec<Digest>,
    /// Trials that were set aside and held again: whose, why, and how many.
    pub held_again: Vec<(String, String, usize)>,
    /// Answers that were taken over from other records.
    pub reused: usize,
    /// What each is called here.
    names: Vec<String>,
    /// For each record, the places of its candidates by the names that they have there.
    places: Vec<HashMap<String, usize>>,
}

/// What each trial comes to by a grading.
type Regraded = HashMap<TrialKey, RegradedTrial>;

/// Trials from which on a record is large.
const LARGE: usize = 100_000;

/// Where the trials of one record go.
struct Placement {
    tasks: HashMap<String, usize>,
    /// Each candidate's place, and how many samples it has from records before.
    candidates: HashMap<String, (usize, u32)>,
}

impl<'a> StandingsSource<'a> {
    /// Puts records together, at least one. Tasks are the same where their digests are, candidates where they
    /// are configured alike; then their samples are taken as further ones.
    ///
    /// # Errors
    /// When one cannot be read, has not the grading, or counts in another currency.
    pub fn open(records: &'a [Record], verdicts: VerdictSource) -> Result<Self, StandingsError> {
        Self::open_some(records, verdicts, &[])
    }

    /// The same with the trials of some candidates alone, where any are named: the others have none. A large
    /// record has two compared in a moment.
    ///
    /// # Errors
    /// As [`Self::open`].
    pub fn open_some(
        records: &'a [Record],
        verdicts: VerdictSource,
        candidates: &[String],
    ) -> Result<Self, StandingsError> {
        let manifests: Vec<&Manifest> = records.iter().map(Record::manifest).collect();
        let mut notes = Vec::new();
        let tasks = joint_tasks(&manifests, &mut notes);
        notes.extend(other_settings(&manifests));
        let mut source = Self {
            records: records.iter().collect(),
            results: Results::default(),
            labels: Vec::new(),
            stands: Vec::new(),
            notes,
            wanted: 0,
            not_regraded: 0,
            grading: None,
            candidates: Vec::new(),
            held_again: Vec::new(),
            reused: 0,
            digests: tasks.iter().map(|it| it.digest.clone()).collect(),
            names: Vec::new(),
            places: Vec::new(),
        };
        for (record, manifest) in records.iter().zip(&manifests) {
            let (found, first) = (&manifest.plan.currency, &manifests[0].plan.currency);
            if found != first {
                let record = record.folder().display().to_string();
                let (found, first) = (found.clone(), first.clone());
                return Err(StandingsError::Currencies { record, found, first });
            }
        }
        let placements = source.place(&manifests, &tasks);
        let places =
            |it: &Placement| it.candidates.iter().map(|(name, it)| (name.clone(), it.0)).collect();
        source.places = placements.iter().map(places).collect();
        let samples = manifests.iter().map(|it| it.plan.samples as usize).sum();
        check_size(source.candidates.len(), tasks.len(), samples)?;
        let names = source.names.clone();
        source.results = Results::new(names, tasks.iter().map(|it| facts(it)).collect(), samples);
        for (record, placement) in records.iter().zip(&placements) {
            let regraded = source.regraded(record, verdicts)?;
            source.read(record, placement, regraded.as_ref(), candidates)?;
            source.wanted += record.dropped_over()?;
            source.held_again.extend(record.held_again()?);
            source.reused += record.reused_answers()?;
        }
        Ok(source)
    }

    /// Gives every candidate of every record its place.
    fn place(&mut self, manifests: &[&Manifest], tasks: &[&TaskNote]) -> Vec<Placement> {
        let mut samples = Vec::<u32>::new();
        let mut placements = Vec::new();
        for manifest in manifests {
            let names: HashSet<&str> = manifest.tasks.iter().map(|it| it.name.as_str()).collect();
            let own: HashMap<String, usize> = tasks
                .iter()
                .enumerate()
                .filter(|(_, task)| names.contains(task.name.as_str()))
                .map(|(place, task)| (task.name.clone(), place))
                .collect();
            let mut candidates = HashMap::new();
            for candidate in &manifest.plan.candidates {
                let known = self.candidates.iter().position(|it| it == candidate);
                let place = known.unwrap_or_else(|| {
                    samples.push(0);
                    self.add_candidate(candidate)
                });
                let some: HashSet<&str> = candidate.tasks().iter().map(String::as_str).collect();
                let takes = |it: &&String| some.is_empty() || some.contains(it.as_str());
                let stands: Vec<usize> =
                    own.iter().filter(|it| takes(&it.0)).map(|it| *it.1).collect();
                // Of what is no longer in the plan nothing more is wanted.
                let is_kept = |it: &&usize| !manifest.dropped_tasks.contains(&tasks[**it].name);
                if !manifest.dropped_candidates.iter().any(|it| it == candidate.name()) {
                    let kept = stands.iter().filter(is_kept).count();
                    self.wanted += kept * manifest.plan.samples as usize;
                }
                self.stands[place].extend(stands);
                self.stands[place].sort_unstable();
                self.stands[place].dedup();
                candidates.insert(candidate.name().to_owned(), (place, samples[place]));
                samples[place] += manifest.plan.samples;
            }
            placements.push(Placement { tasks: own, candidates });
        }
        placements
    }

    fn add_candidate(&mut self, candidate: &Candidate) -> usize {
        let mut name = candidate.name().to_owned();
        if self.names.contains(&name) {
            let numbered = (2..).map(|number| format!("{name} ({number})"));
            name = numbered.into_iter().find(|it| !self.names.contains(it)).unwrap_or_default();
            self.notes.push(JoinNote::OtherCandidate { name: name.clone() });
        }
        self.names.push(name);
        self.labels.push(candidate.labels().clone());
        self.stands.push(Vec::new());
        self.candidates.push(candidate.clone());
        self.candidates.len() - 1
    }

    fn regraded(
        &mut self,
        record: &Record,
        verdicts: VerdictSource,
    ) -> Result<Option<Regraded>, StandingsError> {
        if verdicts == VerdictSource::First {
            return Ok(None);
        }
        let gradings = record.grading_notes()?;
        let found = match verdicts {
            VerdictSource::Grading(id) => gradings.iter().find(|it| it.id == id),
            _ => gradings.last(),
        };
        let Some(grading) = found else {
            let wanted = match verdicts {
                VerdictSource::Grading(id) => id.to_string(),
                _ => "at all".to_owned(),
            };
            let record = record.folder().display().to_string();
            return Err(StandingsError::NoGrading { record, wanted });
        };
        self.grading = Some(grading.begun.clone());
        Ok(Some(record.regraded(grading.id)?))
    }

    /// Reads the trials of a record: those of some candidates, where any are named. A large one is read by two
    /// threads, each with a connection of its own.
    fn read(
        &mut self,
        record: &Record,
        placement: &Placement,
        regraded: Option<&Regraded>,
        candidates: &[String],
    ) -> Result<(), StandingsError> {
        let mut names: Vec<String> = placement.candidates.keys().cloned().collect();
        names.sort();
        let trials = names.len() * self.results.tasks().len() * self.results.samples();
        if trials < LARGE || names.len() < 2 || !candidates.is_empty() {
            self.not_regraded += read(record, placement, regraded, candidates, &mut self.results)?;
            return Ok(());
        }
        let (first, second) = names.split_at(names.len() / 2);
        let folder = record.folder().to_owned();
        let mut others = Results::new(
            self.results.candidates().to_vec(),
            self.results.tasks().to_vec(),
            self.results.samples(),
        );
        let results = &mut self.results;
        let (own, other) = thread::scope(|scope| {
            let other = scope.spawn(|| {
                let again = Record::open(&folder)?;
                read(&again, placement, regraded, second, &mut others)
            });
            (read(record, placement, regraded, first, results), other.join())
        });
        self.not_regraded += own?;
        match other {
            Ok(Ok(not_regraded)) => {
                self.not_regraded += not_regraded;
                let of = |name: &String| placement.candidates.get(name).map(|it| it.0);
                let places: Vec<usize> = second.iter().filter_map(of).collect();
                self.results.take(&places, &others);
            }
            // Whatever kept the other thread from it may not keep this one.
            _ => {
                self.not_regraded += read(record, placement, regraded, second, &mut self.results)?;
            }
        }
        Ok(())
    }

    /// The records, each with what its candidates are called here.
    #[must_use]
    pub fn named_records(&self) -> Vec<(&Record, HashMap<&str, &str>)> {
        let mut all = Vec::new();
        for (record, places) in self.records.iter().zip(&self.places) {
            let names = places.iter().map(|(own, &it)| (own.as_str(), self.names[it].as_str()));
            all.push((*record, names.collect()));
        }
        all
    }

    /// The first record's plan, after which the standings are called.
    #[must_use]
    pub fn first(&self) -> &Manifest {
        self.records[0].manifest()
    }

    /// What the standings are called; may be empty.
    #[must_use]
    pub fn title(&self) -> String {
        let mut titles: Vec<&str> = Vec::new();
        for record in &self.records {
            let title = record.manifest().plan.title.as_str();
            if !title.is_empty() && !titles.contains(&title) {
                titles.push(title);
            }
        }
        titles.join(" + ")
    }

    /// The most attempts that a trial may have in any of the records.
    #[must_use]
    pub fn attempts(&self) -> u32 {
        self.records.iter().map(|it| it.manifest().plan.attempts).max().unwrap_or(1)
    }

    /// Whether any record judged the lenient reading.
    #[must_use]
    pub fn reading(&self) -> ReadingMode {
        self.first().plan.reading
    }

    /// Whether candidates of any record were shown sealed tests.
    #[must_use]
    pub fn has_open_feedback(&self) -> bool {
        self.records.iter().any(|it| it.manifest().plan.feedback == Feedback::Open)
    }

    /// Figures that others published.
    #[must_use]
    pub fn published(&self) -> Vec<PublishedFigure> {
        let mut all: Vec<PublishedFigure> = Vec::new();
        for figure in self.records.iter().flat_map(|it| &it.manifest().plan.published) {
            if !all.contains(figure) {
                all.push(figure.clone());
            }
        }
        all
    }

    /// The candidates and tasks that were asked for.
    ///
    /// # Errors
    /// When nothing is as it was asked for.
    pub fn scope(&self, only: &[Only], within: Option<u32>) -> Result<Scope, StandingsError> {
        let mut scope = Scope { within, ..Scope::all(&self.results) };
        let names = self.results.candidates();
        let wanted: Vec<&str> = only.iter().filter_map(Only::candidate).collect();
        if let Some(unknown) = wanted.iter().find(|it| !names.iter().any(|name| name == *it)) {
            return Err(StandingsError::NothingSo {
                what: "candidate".to_owned(),
                wanted: (*unknown).to_owned(),
                there: names.to_vec(),
            });
        }
        if !wanted.is_empty() {
            scope.candidates.retain(|&it| wanted.contains(&names[it].as_str()));
        }
        let mut by_dimension = Vec::<(&Dimension, Vec<&str>)>::new();
        for (dimension, value) in only.iter().filter_map(Only::dimension) {
            match by_dimension.iter_mut().find(|it| it.0 == dimension) {
                Some(known) => known.1.push(value),
                None => by_dimension.push((dimension, vec![value])),
            }
        }
        for (dimension, values) in by_dimension {
            scope = self.narrowed(&scope, dimension, &values)?;
        }
        Ok(scope)
    }

    /// What of a scope has any of some values.
    fn narrowed(
        &self,
        scope: &Scope,
        by: &Dimension,
        values: &[&str],
    ) -> Result<Scope, StandingsError> {
        let slices = scope.slices(by, &self.results, &self.labels);
        let mut joint = Scope { candidates: vec![], tasks: vec![], within: scope.within };
        for value in values {
            let Some((_, slice)) = slices.iter().find(|it| it.0 == *value) else {
                return Err(StandingsError::NothingSo {
                    what: by.word(),
                    wanted: (*value).to_owned(),
                    there: slices.into_iter().map(|it| it.0).collect(),
                });
            };
            joint.candidates.extend(&slice.candidates);
            joint.tasks.extend(&slice.tasks);
        }
        for list in [&mut joint.candidates, &mut joint.tasks] {
            list.sort_unstable();
            list.dedup();
        }
        Ok(joint)
    }
}

impl Only {
    fn candidate(&self) -> Option<&str> {
        match self {
            Self::Candidate(name) => Some(name),
            Self::Of(..) => None,
        }
    }

    fn dimension(&self) -> Option<(&Dimension, &str)> {
        match self {
            Self::Candidate(_) => None,
            Self::Of(dimension, value) => Some((dimension, value)),
        }
    }
}

/// Reads the trials of some candidates, or of all where none is named; gives how many of them a grading was asked
/// for and did not judge.
fn read(
    record: &Record,
    placement: &Placement,
    regraded: Option<&Regraded>,
    candidates: &[String],
    results: &mut Results,
) -> Result<usize, RecordError> {
    // Rows come in the order of their names, so that each name is looked for once.
    let (mut candidate, mut task) = ((String::new(), None), (String::new(), None));
    let mut not_regraded = 0;
    record.each_figures(candidates, |name, task_name, sample, figures| {
        if candidate.0 != name || candidate.1.is_none() {
            candidate = (name.to_owned(), placement.candidates.get(name).copied());
        }
        if task.0 != task_name || task.1.is_none() {
            task = (task_name.to_owned(), placement.tasks.get(task_name).copied());
        }
        let (Some((who, before)), Some(what)) = (candidate.1, task.1) else { return };
        let mut figures = *figures;
        if let Some(regraded) = regraded {
            let key = TrialKey { candidate: name.to_owned(), task: task_name.to_owned(), sample };
            match regraded.get(&key) {
                Some(again) => overrule(&mut figures, again),
                None => not_regraded += usize::from(!figures.verdict.is_void()),
            }
        }
        results.add(who, what, (before + sample) as usize, &figures);
    })?;
    Ok(not_regraded)
}

fn overrule(figures: &mut TrialFigures, again: &RegradedTrial) {
    figures.verdict = again.verdict;
    figures.answers = again.answers;
    figures.strict = again.strict;
    figures.credit = again.credit;
}

/// Whether so much can be held: a stranger's manifest may say anything.
fn check_size(candidates: usize, tasks: usize, samples: usize) -> Result<(), StandingsError> {
    let cells = candidates.saturating_mul(tasks);
    let fits = candidates <= CANDIDATES_MAX
        && cells <= CELLS_MAX
        && cells.saturating_mul(samples) <= TRIALS_MAX;
    if fits { Ok(()) } else { Err(StandingsError::TooMany { candidates, tasks, samples }) }
}
