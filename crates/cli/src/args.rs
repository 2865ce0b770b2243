//! What can be said on the command line.

use std::path::{Path, PathBuf};

use clap::{Parser, Subcommand};
use fairtrial_core::standings::{Dimension, Rule};
use fairtrial_core::verdict::{FailReason, VoidReason};
use fairtrial_report::{Only, RankingColumn, VerdictSource, legend};
use fairtrial_runner::{HeldAgain, UnknownAgain};

/// Put coding models and coding agents on trial.
///
/// Each candidate gets the same tasks under the same conditions; its code runs in a sandbox
/// against hidden tests; failures go back for repair; and the record becomes a ranking that says
/// how sure it is. Start with `fairtrial demo`.
#[derive(Debug, Parser)]
#[command(name = "fairtrial", version, max_term_width = 100)]
pub struct Args {
    /// What to do.
    #[command(subcommand)]
    pub command: Command,
}

/// The commands.
#[derive(Debug, Subcommand)]
pub enum Command {
    /// Run a complete example with simulated models, and leave it there to play with
    Demo(DemoArgs),
    /// Run the trials of a plan that are not over yet
    Run(RunArgs),
    /// Say what a plan will take, and how small a difference it can show
    Forecast(ForecastArgs),
    /// Show how far a run is that goes on elsewhere
    Watch(WatchArgs),
    /// Show the ranking, and what it is made of
    Standings(StandingsArgs),
    /// Compare two candidates of a record, or two records
    Compare(CompareArgs),
    /// Write a report to show to others: a page, a table, or plots
    Report(ReportArgs),
    /// Check rules, such as `petrel solved at least 0.8`; exit with 1 where one does not hold
    Gate(GateArgs),
    /// Show trials in full: prompt, answer, code, tests, feedback
    Show(ShowArgs),
    /// Show how a text would be read as an answer, without judging it
    Read(ReadArgs),
    /// Lay out what an attempt made of the files, in a folder
    Files(FilesArgs),
    /// Note that a person helped with a trial
    Note(NoteArgs),
    /// Judge the recorded answers again, without asking any model
    Regrade(RegradeArgs),
    /// Prove that the tests of a docket tell right answers from wrong ones
    Vet(VetArgs),
    /// Show what this machine can confine, and which languages it can run
    Doctor(DoctorArgs),
    /// Serve simulated models on loopback, to try a plan without a network
    Standin(StandinArgs),
}

/// `fairtrial demo`.
#[derive(Debug, clap::Args)]
pub struct DemoArgs {
    /// Folder to leave the docket, the plan and the record in
    #[arg(long, value_name = "DIR", default_value = "fairtrial-demo")]
    pub out: PathBuf,
    /// Seed of every random choice; the same seed gives the same standings
    #[arg(long, value_name = "N")]
    pub seed: Option<u64>,
    /// Go on where code cannot be confined: it can then do what you can do
    #[arg(long)]
    pub trust_code: bool,
}

/// `fairtrial run`.
#[derive(Debug, clap::Args)]
pub struct RunArgs {
    /// The plan
    #[arg(value_name = "PLAN")]
    pub plan: PathBuf,
    /// Folder of the record; an existing one is resumed [default: beside the plan, `record`
    /// for `plan.toml`, else `NAME.record`]
    #[arg(long, value_name = "DIR")]
    pub record: Option<PathBuf>,
    /// Show the trials and the first prompt of each task, when keys, names and tools have been checked; ask nobody
    #[arg(long)]
    pub dry_run: bool,
    /// Ask every candidate once, judge the answers, and stop: whether keys, models and settings are right
    #[arg(long = "try", conflicts_with = "dry_run")]
    pub trying: bool,
    /// Only trials of this task; may be given again
    #[arg(long = "task", value_name = "TASK")]
    pub tasks: Vec<String>,
    /// Only trials of this candidate; may be given again
    #[arg(long = "candidate", value_name = "CANDIDATE")]
    pub candidates: Vec<String>,
    /// Only the first N samples of each task
    #[arg(long, value_name = "N")]
    pub samples: Option<u32>,
    /// Hold again, and nothing else: `void`, `failed`, `changed` (trials of tasks that changed), or the number of a
    /// trial; may be given again. What there was is kept, and no longer counted
    #[arg(long, value_name = "WHAT", value_parser = parse_again)]
    pub again: Vec<HeldAgain>,
    /// Take answers over from another record where the request is the same to the letter, and do not pay for it again
    #[arg(long, value_name = "RECORD")]
    pub reuse: Option<PathBuf>,
    /// Write what happens to a file, as lines of JSON
    #[arg(long, value_name = "FILE")]
    pub events: Option<PathBuf>,
    /// Say on standard error what is done
    #[arg(long, short)]
    pub verbose: bool,
    /// Make repositories ready anew, although earlier runs did
    #[arg(long)]
    pub fresh: bool,
    /// Go on where code cannot be confined: it can then do what you can do
    #[arg(long)]
    pub trust_code: bool,
}

/// `fairtrial forecast`.
#[derive(Debug, clap::Args)]
pub struct ForecastArgs {
    /// The plan
    #[arg(value_name = "PLAN")]
    pub plan: PathBuf,
    /// An earlier record: candidates of the same names are taken to need what they needed there
    #[arg(long, value_name = "RECORD")]
    pub from: Option<PathBuf>,
    /// Folder of the plan's own record: what it has is not run again [default: as for `run`]
    #[arg(long, value_name = "DIR")]
    pub record: Option<PathBuf>,
    /// Write it as JSON
    #[arg(long)]
    pub json: bool,
    /// Go on where code cannot be confined
    #[arg(long)]
    pub trust_code: bool,
}

/// `fairtrial watch`.
#[derive(Debug, clap::Args)]
pub struct WatchArgs {
    /// The record that a run writes to
    #[arg(value_name = "RECORD")]
    pub record: PathBuf,
    /// Show it once, and do not wait for the end
    #[arg(long)]
    pub once: bool,
    /// Write it as JSON, once
    #[arg(long)]
    pub json: bool,
}

/// Reads what is to be held again.
fn parse_again(text: &str) -> Result<HeldAgain, UnknownAgain> {
    text.parse()
}

/// `fairtrial standings`.
#[derive(Debug, clap::Args)]
#[command(after_help = columns_help())]
pub struct StandingsArgs {
    /// The record, or several: their trials are put together, task by task
    #[arg(value_name = "RECORD", required = true)]
    pub records: Vec<PathBuf>,
    /// Slice by category, difficulty, language, form, tag, task, docket, reason (why trials failed) or
    /// label:NAME (a label of candidates)
    #[arg(long, value_name = "WHAT", conflicts_with_all = ["matrix", "pairs", "tasks", "alike", "frontier"])]
    pub by: Option<Dimension>,
    /// Only what has a value, such as `category=tides` or `candidate=petrel`; may be given again
    #[arg(long, value_name = "WHAT=VALUE", value_parser = parse_only)]
    pub only: Vec<Only>,
    /// Sort by a column
    #[arg(long, value_name = "COLUMN", conflicts_with_all = NO_RANKING)]
    pub sort: Option<RankingColumn>,
    /// Show these columns, separated by commas; see below
    #[arg(long, value_name = "COLUMNS", value_delimiter = ',', conflicts_with_all = NO_RANKING)]
    pub columns: Vec<RankingColumn>,
    /// Count as solved only what passed within so many attempts
    #[arg(long, value_name = "N", value_parser = clap::value_parser!(u32).range(1..))]
    pub at_attempt: Option<u32>,
    /// Use the verdicts of a grading that `fairtrial regrade` added: `latest`, or its number
    #[arg(long, value_name = "WHICH", value_parser = parse_grading)]
    pub grading: Option<VerdictSource>,
    /// Say who is best where a trial may cost so much
    #[arg(long, value_name = "AMOUNT", value_parser = parse_amount)]
    pub budget: Option<f64>,
    #[command(flatten)]
    pub part: StandingsPart,
    #[command(flatten)]
    pub format: GridFormat,
}

/// What shows no ranking whose columns could be chosen.
const NO_RANKING: [&str; 7] = ["matrix", "pairs", "tasks", "alike", "frontier", "by", "json"];

/// What the columns of the ranking are.
fn columns_help() -> String {
    format!("Columns:\n{}", legend())
}

/// What of the standings is shown in place of the ranking.
#[derive(Debug, Clone, clap::Args)]
#[group(multiple = false)]
pub struct StandingsPart {
    /// Show tasks by candidates, the hardest task last
    #[arg(long)]
    pub matrix: bool,
    /// Show every pair of candidates: difference, interval, wins, ties and losses
    #[arg(long)]
    pub pairs: bool,
    /// Show the tasks: how hard they were found, how well they tell candidates apart, what looks wrong
    #[arg(long)]
    pub tasks: bool,
    /// Show which candidates fail alike, in the same tasks and with the same wrong values
    #[arg(long)]
    pub alike: bool,
    /// Show who is worth its price, and its time
    #[arg(long)]
    pub frontier: bool,
}

/// How tables are written.
#[derive(Debug, Clone, clap::Args)]
#[group(multiple = false)]
pub struct GridFormat {
    /// Write tables in Markdown
    #[arg(long)]
    pub markdown: bool,
    /// Write the first table as CSV, with raw numbers
    #[arg(long)]
    pub csv: bool,
    /// Write JSON
    #[arg(long)]
    pub json: bool,
}

/// Reads a reason of failed or void trials.
fn parse_reason(text: &str) -> Result<String, String> {
    let failed = FailReason::ALL.iter().map(|it| it.word());
    let all: Vec<&str> = failed.chain(VoidReason::ALL.iter().map(|it| it.word())).collect();
    match all.contains(&text) {
        true => Ok(text.to_owned()),
        false => Err(format!("reasons are: {}", all.join(", "))),
    }
}

/// Reads `WHAT=VALUE`.
fn parse_only(text: &str) -> Result<Only, String> {
    let Some((what, value)) = text.split_once('=') else {
        return Err("it is WHAT=VALUE, such as `category=tides`".to_owned());
    };
    if what == "candidate" {
        return Ok(Only::Candidate(value.to_owned()));
    }
    match what.parse::<Dimension>() {
        Ok(Dimension::Reason) => Err("reasons are shown by `--by reason`".to_owned()),
        Ok(dimension) => Ok(Only::Of(dimension, value.to_owned())),
        Err(error) => Err(format!("{error}, candidate")),
    }
}

/// Reads `latest` or the number of a grading.
fn parse_grading(text: &str) -> Result<VerdictSource, String> {
    match text.parse::<i64>() {
        _ if text == "latest" => Ok(VerdictSource::Latest),
        Ok(number) if number > 0 => Ok(VerdictSource::Grading(number)),
        _ => Err("it is `latest`, or the number of a grading".to_owned()),
    }
}

/// Reads an amount of money.
fn parse_amount(text: &str) -> Result<f64, String> {
    let amount = text.parse::<f64>().ok().filter(|it| it.is_finite() && *it >= 0.0);
    amount.ok_or_else(|| "it is a number of at least 0".to_owned())
}

/// `fairtrial compare`.
#[derive(Debug, clap::Args)]
pub struct CompareArgs {
    /// The record; of two, the older one
    #[arg(value_name = "RECORD")]
    pub record: PathBuf,
    /// A candidate; or the newer record
    #[arg(value_name = "FIRST")]
    pub first: String,
    /// The candidate that it is compared with; without it, two records are compared
    #[arg(value_name = "SECOND")]
    pub second: Option<String>,
    /// Show one task side by side: what each answered, and what came of it
    #[arg(long, value_name = "NAME", requires = "second", conflicts_with_all = ["markdown", "csv", "json"])]
    pub task: Option<String>,
    /// Which sample of the task
    #[arg(long, value_name = "N", requires = "task", default_value_t = 1)]
    pub sample: u32,
    /// Use the verdicts of a grading that `fairtrial regrade` added: `latest`, or its number
    #[arg(long, value_name = "WHICH", value_parser = parse_grading)]
    pub grading: Option<VerdictSource>,
    #[command(flatten)]
    pub format: GridFormat,
}

/// `fairtrial report`.
#[derive(Debug, clap::Args)]
pub struct ReportArgs {
    /// The record, or several: their trials are put together, task by task
    #[arg(value_name = "RECORD", required = true)]
    pub records: Vec<PathBuf>,
    /// File to write; `-` for standard output
    #[arg(short, long, value_name = "FILE", required_unless_present = "plots")]
    pub out: Option<PathBuf>,
    /// What to write [default: as the file's ending says]
    #[arg(long, value_name = "FORMAT")]
    pub format: Option<ReportFormat>,
    /// Folder to write each plot to as SVG
    #[arg(long, value_name = "DIR")]
    pub plots: Option<PathBuf>,
    /// Write plots as PNG instead
    #[arg(long, requires = "plots")]
    pub png: bool,
    /// Put in what is sealed, too: inputs, expectations, results
    #[arg(long)]
    pub unseal: bool,
    /// Only what has a value, such as `category=tides` or `candidate=petrel`; may be given again
    #[arg(long, value_name = "WHAT=VALUE", value_parser = parse_only)]
    pub only: Vec<Only>,
    /// Count as solved only what passed within so many attempts
    #[arg(long, value_name = "N", value_parser = clap::value_parser!(u32).range(1..))]
    pub at_attempt: Option<u32>,
    /// Use the verdicts of a grading that `fairtrial regrade` added: `latest`, or its number
    #[arg(long, value_name = "WHICH", value_parser = parse_grading)]
    pub grading: Option<VerdictSource>,
}

/// What a report is written as.
#[derive(Debug, Clone, Copy, PartialEq, Eq, clap::ValueEnum)]
pub enum ReportFormat {
    /// One page that holds everything
    Html,
    /// Tables and notes
    Markdown,
    /// Tasks by candidates
    Csv,
    /// What `standings --json` says, with tasks by candidates
    Json,
    /// Every trial as a test case, in JUnit's XML
    Junit,
}

impl ReportFormat {
    /// What a file's ending says.
    #[must_use]
    pub fn of(file: &Path) -> Option<Self> {
        match file.extension()?.to_str()? {
            "html" | "htm" => Some(Self::Html),
            "md" | "markdown" => Some(Self::Markdown),
            "csv" => Some(Self::Csv),
            "json" => Some(Self::Json),
            "xml" => Some(Self::Junit),
            _ => None,
        }
    }
}

/// `fairtrial gate`.
#[derive(Debug, clap::Args)]
#[command(after_help = RULES)]
pub struct GateArgs {
    /// The record, or several: their trials are put together, task by task
    #[arg(value_name = "RECORD", required = true)]
    pub records: Vec<PathBuf>,
    /// A rule, in quotes; may be given again
    #[arg(long = "rule", value_name = "RULE", required = true)]
    pub rules: Vec<Rule>,
    /// Only what has a value, such as `category=tides`; may be given again
    #[arg(long, value_name = "WHAT=VALUE", value_parser = parse_only)]
    pub only: Vec<Only>,
    /// Use the verdicts of a grading that `fairtrial regrade` added: `latest`, or its number
    #[arg(long, value_name = "WHICH", value_parser = parse_grading)]
    pub grading: Option<VerdictSource>,
    /// Write JSON
    #[arg(long)]
    pub json: bool,
}

/// How rules are written.
const RULES: &str = "Rules:
  petrel solved at least 0.8                      a figure; shares are from 0 to 1
  petrel surely solved at least 0.7               its whole 95 % interval
  petrel cost at most 0.01                        for each trial
  petrel better than puffin                       established, on the tasks that both did
  petrel not worse than puffin                    not established worse
  petrel not worse than puffin by more than 0.05  the interval of the difference
In place of the second name, the folder of another record stands for the same candidate there.
Measures: solved, first-try, points, all-of-k, cost, time (seconds), void (trials).";

/// `fairtrial show`.
#[derive(Debug, clap::Args)]
pub struct ShowArgs {
    /// The record
    #[arg(value_name = "RECORD")]
    pub record: PathBuf,
    /// Only trials of this task
    #[arg(long, value_name = "NAME")]
    pub task: Option<String>,
    /// Only trials of this candidate
    #[arg(long, value_name = "NAME")]
    pub candidate: Option<String>,
    /// Only the trial of this number
    #[arg(long, value_name = "N")]
    pub trial: Option<i64>,
    /// Only trials that failed
    #[arg(long, conflicts_with = "verdict")]
    pub failed: bool,
    /// Only trials of this verdict
    #[arg(long, value_name = "VERDICT", value_parser = ["pass", "fail", "void"])]
    pub verdict: Option<String>,
    /// Only trials that failed or are void for this reason, such as `wrong result`
    #[arg(long, value_name = "REASON", value_parser = parse_reason)]
    pub reason: Option<String>,
    /// Only trials at tasks of this category
    #[arg(long, value_name = "NAME")]
    pub category: Option<String>,
    /// Of each trial only the last attempt
    #[arg(long)]
    pub last: bool,
    /// Only this attempt, for `--diff` [default: the last one]
    #[arg(long, value_name = "N")]
    pub attempt: Option<u32>,
    /// Write the change to the repository as a patch, and nothing else; takes `--trial`
    #[arg(long, requires = "trial", conflicts_with_all = ["json", "unseal"])]
    pub diff: bool,
    /// Show what is sealed, too: inputs, expectations, results
    #[arg(long)]
    pub unseal: bool,
    /// Write JSON
    #[arg(long)]
    pub json: bool,
}

/// `fairtrial read`.
#[derive(Debug, clap::Args)]
pub struct ReadArgs {
    /// File with the text; `-` for standard input
    #[arg(value_name = "FILE")]
    pub file: PathBuf,
    /// Folder of the task that it is to answer, in its docket's
    #[arg(long, value_name = "DIR")]
    pub task: PathBuf,
    /// Exit with 1 unless the strict reader takes it, too
    #[arg(long)]
    pub strict: bool,
    /// The text was cut off by the host
    #[arg(long)]
    pub cut_off: bool,
    /// File with languages that do not ship with the tool, may be given again
    #[arg(long, value_name = "FILE")]
    pub languages: Vec<PathBuf>,
    /// Go on where code cannot be confined: it can then do what you can do
    #[arg(long)]
    pub trust_code: bool,
    /// Write JSON
    #[arg(long)]
    pub json: bool,
}

/// `fairtrial files`.
#[derive(Debug, clap::Args)]
pub struct FilesArgs {
    /// The record
    #[arg(value_name = "RECORD")]
    pub record: PathBuf,
    /// The trial's number
    #[arg(long, value_name = "N")]
    pub trial: i64,
    /// The attempt [default: the last one]
    #[arg(long, value_name = "N")]
    pub attempt: Option<u32>,
    /// Folder to lay them out in; it is made, or empty
    #[arg(long, value_name = "DIR")]
    pub into: PathBuf,
    /// Folder of a docket that has the task, may be given again [default: those of the plan, beside the
    /// record]
    #[arg(long, value_name = "DIR")]
    pub docket: Vec<PathBuf>,
    /// File with languages that do not ship with the tool, may be given again
    #[arg(long, value_name = "FILE")]
    pub languages: Vec<PathBuf>,
    /// Go on where code cannot be confined: it can then do what you can do
    #[arg(long)]
    pub trust_code: bool,
}

/// `fairtrial note`.
#[derive(Debug, clap::Args)]
pub struct NoteArgs {
    /// The record
    #[arg(value_name = "RECORD")]
    pub record: PathBuf,
    /// The trial's number
    #[arg(long, value_name = "N")]
    pub trial: i64,
    /// How it was helped; in place of what was said before
    #[arg(value_name = "TEXT", required_unless_present = "forget")]
    pub text: Option<String>,
    /// Nobody helped, after all
    #[arg(long, conflicts_with = "text")]
    pub forget: bool,
}

/// `fairtrial regrade`.
#[derive(Debug, clap::Args)]
pub struct RegradeArgs {
    /// The record
    #[arg(value_name = "RECORD")]
    pub record: PathBuf,
    /// Folder of a docket to judge by, may be given again [default: those of the plan, beside the
    /// record]
    #[arg(long, value_name = "DIR")]
    pub docket: Vec<PathBuf>,
    /// File with languages that do not ship with the tool, may be given again; a record's own are
    /// never used
    #[arg(long, alias = "recipes", value_name = "FILE")]
    pub languages: Vec<PathBuf>,
    /// Go on where code cannot be confined: it can then do what you can do
    #[arg(long)]
    pub trust_code: bool,
    /// Write JSON
    #[arg(long)]
    pub json: bool,
}

/// `fairtrial vet`.
#[derive(Debug, clap::Args)]
pub struct VetArgs {
    /// The docket
    #[arg(value_name = "DOCKET")]
    pub docket: PathBuf,
    /// Only this task, may be given again [default: all]
    #[arg(long, value_name = "NAME")]
    pub task: Vec<String>,
    /// File with languages that do not ship with the tool, may be given again
    #[arg(long, alias = "recipes", value_name = "FILE")]
    pub languages: Vec<PathBuf>,
    /// Go on where code cannot be confined: it can then do what you can do
    #[arg(long)]
    pub trust_code: bool,
    /// Write JSON
    #[arg(long)]
    pub json: bool,
}

/// `fairtrial doctor`.
#[derive(Debug, clap::Args)]
pub struct DoctorArgs {
    /// Only these languages [default: all that are known]
    #[arg(value_name = "LANGUAGE")]
    pub names: Vec<String>,
    /// File with further languages, may be given again
    #[arg(long, alias = "recipes", value_name = "FILE")]
    pub languages: Vec<PathBuf>,
    /// Write JSON
    #[arg(long)]
    pub json: bool,
}

/// `fairtrial standin`.
#[derive(Debug, clap::Args)]
pub struct StandinArgs {
    /// The docket whose proofs are the answers
    #[arg(value_name = "DOCKET")]
    pub docket: PathBuf,
    /// File with `[[model]]` tables [default: the models of the demo]
    #[arg(long, value_name = "FILE")]
    pub models: Option<PathBuf>,
    /// Port of the loopback address; 0 takes any that is free
    #[arg(long, value_name = "N", default_value_t = 8474)]
    pub port: u16,
    /// Seed of what the models say
    #[arg(long, value_name = "N", default_value_t = 1)]
    pub seed: u64,
    /// File to add a line of JSON to for each request that is answered
    #[arg(long, value_name = "FILE")]
    pub log: Option<PathBuf>,
    /// Environment variable with the key that requests must bring
    #[arg(long, value_name = "NAME")]
    pub key_env: Option<String>,
}

#[cfg(test)]
mod tests {
    use clap::CommandFactory as _;

    #[test]
    fn the_arguments_are_consistent() {
        super::Args::command().debug_assert();
    }
}
