//! The command line.

use std::path::PathBuf;

use clap::{Args, Parser, Subcommand, ValueEnum};
use clap_complete::engine::ArgValueCandidates;

use crate::names;

mod mend;
mod tryout;

pub(crate) use mend::{PositionsArgs, RejectsArgs, ReplayArgs};
pub(crate) use tryout::{BrokerArgs, DemoArgs, EmitArgs, EmitFormat, StandInArgs, StandInService};

/// How results are written.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, ValueEnum)]
pub(crate) enum OutputKind {
    /// For reading.
    #[default]
    Text,
    /// One JSON document in a versioned shape.
    Json,
}

/// Moves events from brokers, change feeds and files into storage, once each, and proves it.
///
/// Without a command: what is here, how is it, what next.
#[derive(Debug, Parser)]
#[command(name = "sluice", version, disable_help_subcommand = true, after_long_help = crate::exit::help())]
pub(crate) struct Arguments {
    /// The project's folder; without it, the nearest sluice.toml from here upwards
    #[arg(long, global = true, value_name = "DIR")]
    pub project: Option<PathBuf>,

    /// How results are written
    #[arg(long, global = true, value_enum, default_value_t, value_name = "FORM")]
    pub output: OutputKind,

    #[command(subcommand)]
    pub command: Option<Command>,
}

#[derive(Debug, Subcommand)]
pub(crate) enum Command {
    /// Start: make a project
    Init(InitArgs),
    /// Look: what do real events look like, and what has landed?
    Peek(PeekArgs),
    /// Write: a pipeline file drafted from real events
    Draft(DraftArgs),
    /// Write: is it right before it runs? Types, names, connections, folders
    Check(CheckArgs),
    /// Rehearse: what would land? Real events through the whole pipeline, nothing written
    Rehearse(RehearseArgs),
    /// Run: move data until caught up, for some batches, or for ever
    Run(RunArgs),
    /// See: is it moving, how far behind, since when, what holds it back?
    Status(StatusArgs),
    /// Verify: which batches, how big, how long
    Ledger(LedgerArgs),
    /// Verify: compare the mirrors of a pipeline with the tables that they follow
    ///
    /// Reads both sides at one place of the source's log: counts and checksums first, then the rows that differ. The pipeline
    /// may run meanwhile. Nothing is changed without --catch-up or --reload.
    Audit(AuditArgs),
    /// Mend: which events were rejected, and why; try them again
    Rejects(RejectsArgs),
    /// Mend: where are we in every partition, how far behind, and when does unread data expire?
    Positions(PositionsArgs),
    /// Mend: read a range again, without duplicates
    Replay(ReplayArgs),
    /// Write: what is each kind, option, type, function, reason and code?
    Manual(ManualArgs),
    /// Try out: the whole thing on sample data
    Demo(DemoArgs),
    /// Try out: invented events at a rate, into a topic, a folder or on standard output
    Emit(EmitArgs),
    /// Try out: a simulated outside service on this machine
    StandIn(StandInArgs),
    /// Completions for a shell, on standard output: source <(sluice completions bash)
    Completions(CompletionsArgs),
}

#[derive(Args, Debug)]
pub(crate) struct InitArgs {
    /// The folder; it is made if it is not there
    #[arg(default_value = ".", value_name = "DIR")]
    pub folder: PathBuf,

    /// The project's name; without it, the folder's
    #[arg(long)]
    pub name: Option<String>,
}

#[derive(Args, Debug)]
pub(crate) struct CheckArgs {
    /// The pipelines; without any, all
    #[arg(value_name = "PIPELINE", add = ArgValueCandidates::new(names::pipelines))]
    pub pipelines: Vec<String>,

    /// Read the files alone: look at no folder, no service and no event
    #[arg(long)]
    pub offline: bool,

    /// Look at this many real events of each arrival
    #[arg(long, value_name = "N", default_value_t = 1_000)]
    pub events: u64,

    /// Run the statements that mend the tables, after showing them; nothing is ever dropped or narrowed
    #[arg(long, conflicts_with = "offline")]
    pub apply: bool,

    /// Do not ask before --apply
    #[arg(long, requires = "apply")]
    pub yes: bool,
}

#[derive(Args, Debug)]
pub(crate) struct PeekArgs {
    /// A file, `-` for standard input, CONNECTION:PATTERN, PIPELINE.EVENT, or PIPELINE.EVENT.LANDING
    #[arg(value_name = "PLACE", required = true, num_args = 1..=2, add = ArgValueCandidates::new(names::places))]
    pub places: Vec<String>,

    /// Look at this many events; of a landing, at this many rows for the table of columns
    #[arg(long, value_name = "N")]
    pub events: Option<u64>,

    /// Show this many of the first ones
    #[arg(long, value_name = "N", default_value_t = 5)]
    pub show: usize,

    /// Only events from this moment on: RFC 3339, a day, or how long ago, such as 2h
    #[arg(long, value_name = "MOMENT", value_parser = crate::output::times::parse_moment)]
    pub since: Option<i64>,

    /// Only events before this moment
    #[arg(long, value_name = "MOMENT", value_parser = crate::output::times::parse_moment)]
    pub until: Option<i64>,

    /// Of topics: the last events instead of the first
    #[arg(long, conflicts_with_all = ["since", "live"])]
    pub last: bool,

    /// Of topics: show each event as it arrives, from now on, until Ctrl-C or --events
    #[arg(long, conflicts_with_all = ["since", "until", "when", "columns", "key"])]
    pub live: bool,

    /// Write the events as they are, a line each, and nothing else
    #[arg(long, conflicts_with_all = ["when", "columns", "key"])]
    pub raw: bool,

    /// Only rows that meet a SQL condition
    #[arg(long, value_name = "SQL")]
    pub when: Option<String>,

    /// Show these columns: a SQL select list
    #[arg(long, value_name = "SQL")]
    pub columns: Option<String>,

    /// Two places: the columns by which their rows are matched, separated by commas
    #[arg(long, value_name = "NAMES", value_delimiter = ',')]
    pub key: Vec<String>,
}

#[derive(Args, Debug)]
pub(crate) struct DraftArgs {
    /// The new pipeline's name
    #[arg(value_name = "PIPELINE")]
    pub pipeline: String,

    /// Where its events are: a file, or CONNECTION:PATTERN; of a broker, CONNECTION:TOPIC
    #[arg(value_name = "PLACE", add = ArgValueCandidates::new(names::connections))]
    pub place: String,

    /// The event's name; without it, the pipeline's, in the singular where it ends in s
    #[arg(long, value_name = "NAME")]
    pub event: Option<String>,

    /// The connection where it lands; without it, `archive`, or the first that is not where it arrives
    #[arg(long, value_name = "CONNECTION", add = ArgValueCandidates::new(names::connections))]
    pub into: Option<String>,

    /// Look at this many events
    #[arg(long, value_name = "N", default_value_t = 100_000)]
    pub events: u64,

    /// Write the file on standard output, and nothing into the project
    #[arg(long)]
    pub print: bool,
}

/// Where the events of a rehearsal come from.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(crate) enum Events {
    /// So many of each arrival.
    Count(u64),
    /// Those that were kept.
    Kept(PathBuf),
}

impl std::str::FromStr for Events {
    type Err = std::convert::Infallible;

    fn from_str(text: &str) -> Result<Self, Self::Err> {
        Ok(text.replace('_', "").parse().map_or_else(|_| Self::Kept(text.into()), Self::Count))
    }
}

#[derive(Args, Debug)]
pub(crate) struct RehearseArgs {
    /// The pipeline
    #[arg(value_name = "PIPELINE", add = ArgValueCandidates::new(names::pipelines))]
    pub pipeline: String,

    /// Take this many events of each arrival (1000 without this), or those of a kept file
    #[arg(long, value_name = "N|FILE")]
    pub events: Option<Events>,

    /// Show this many rows of each landing
    #[arg(long, value_name = "N", default_value_t = 5)]
    pub show: usize,

    /// Only this landing: EVENT.LANDING, or LANDING
    #[arg(long, value_name = "LANDING", add = ArgValueCandidates::new(names::landings))]
    pub landing: Option<String>,

    /// Only events from this moment on: RFC 3339, a day, or how long ago, such as 2h
    #[arg(long, value_name = "MOMENT", value_parser = crate::output::times::parse_moment)]
    pub since: Option<i64>,

    /// Only events before this moment
    #[arg(long, value_name = "MOMENT", value_parser = crate::output::times::parse_moment)]
    pub until: Option<i64>,

    /// Of topics: the last events instead of the first
    #[arg(long, conflicts_with = "since")]
    pub last: bool,

    /// Watch the project's files, and show the new result on the same events at each save
    #[arg(long, conflicts_with_all = ["trace", "keep", "expect"])]
    pub follow: bool,

    /// Show the way of event number N, step by step
    #[arg(long, value_name = "N", value_parser = clap::value_parser!(u64).range(1..))]
    pub trace: Option<u64>,

    /// Write the events and what became of them into a file
    #[arg(long, value_name = "FILE")]
    pub keep: Option<PathBuf>,

    /// Compare with the outcome of a kept file, on its events unless others are named; fail where it differs
    #[arg(long, value_name = "FILE", conflicts_with_all = ["since", "until"])]
    pub expect: Option<PathBuf>,

    /// Replace the file of --keep where it is there already
    #[arg(long)]
    pub yes: bool,
}

#[derive(Args, Debug)]
pub(crate) struct RunArgs {
    /// The pipeline
    #[arg(value_name = "PIPELINE", add = ArgValueCandidates::new(names::pipelines))]
    pub pipeline: String,

    /// Stop when everything there is has been read; without it, wait for more
    #[arg(long)]
    pub until_caught_up: bool,

    /// Stop after this many batches
    #[arg(long, value_name = "N", value_parser = clap::value_parser!(u64).range(1..))]
    pub batches: Option<u64>,

    /// Go on after what a landing holds beyond the ledger, instead of refusing
    #[arg(long)]
    pub adopt: bool,
}

/// Compare every mirror of a pipeline with the table that it follows: counts and checksums first, then the rows that
/// differ. The pipeline may run meanwhile; nothing is changed without --catch-up or --reload.
#[derive(Args, Debug)]
#[command(
    after_help = "Examples:\n  sluice audit permits\n  sluice audit permits --landing permit.desk --catch-up\n  \
                        sluice audit permits --catch-up --reload"
)]
pub(crate) struct AuditArgs {
    /// The pipeline
    #[arg(value_name = "PIPELINE", add = ArgValueCandidates::new(names::pipelines))]
    pub pipeline: String,

    /// Compare only this landing, EVENT.LANDING; several, one after the other
    #[arg(long, value_name = "NAME")]
    pub landing: Vec<String>,

    /// Show at most N of the rows that differ in each mirror
    #[arg(long, value_name = "N", default_value_t = 10)]
    pub rows: usize,

    /// Where the pipeline does not run and rows differ: run it until it has caught up, then compare again
    #[arg(long)]
    pub catch_up: bool,

    /// Where the pipeline runs: wait at most this many seconds for what the source has already to land
    #[arg(long, value_name = "SECONDS", default_value_t = 60)]
    pub wait: u64,

    /// Have the next run load the rows that differ again; the pipeline must not run meanwhile
    #[arg(long)]
    pub reload: bool,

    /// Do not ask before --reload
    #[arg(long, requires = "reload")]
    pub yes: bool,
}

#[derive(Args, Debug)]
pub(crate) struct StatusArgs {
    /// The pipeline; without it, all
    #[arg(value_name = "PIPELINE", add = ArgValueCandidates::new(names::pipelines))]
    pub pipeline: Option<String>,

    /// Show it again every second
    #[arg(long)]
    pub follow: bool,
}

#[derive(Args, Debug)]
pub(crate) struct LedgerArgs {
    /// The pipeline
    #[arg(value_name = "PIPELINE", add = ArgValueCandidates::new(names::pipelines))]
    pub pipeline: String,

    /// Show only the newest N batches
    #[arg(long, value_name = "N", default_value_t = 20)]
    pub last: u64,

    /// Show all of the batches with this number: ranges, counts, files
    #[arg(long, value_name = "NUMBER")]
    pub batch: Option<u64>,
}

#[derive(Args, Debug)]
pub(crate) struct ManualArgs {
    /// A chapter, a name, or any word; without it, the chapters
    #[arg(value_name = "WORD")]
    pub words: Vec<String>,

    /// Write the manual as pages of Markdown into a folder
    #[arg(long, value_name = "DIR", conflicts_with = "words")]
    pub pages: Option<PathBuf>,

    /// Write the manual as man pages into a folder: man -l DIR/sluice-run.1
    #[arg(long, value_name = "DIR", conflicts_with_all = ["words", "pages"])]
    pub man: Option<PathBuf>,
}

#[derive(Args, Debug)]
pub(crate) struct CompletionsArgs {
    /// The shell
    #[arg(value_enum)]
    pub shell: clap_complete::Shell,
}

#[cfg(test)]
mod tests {
    use clap::CommandFactory as _;

    #[test]
    fn the_command_line_is_sound() {
        super::Arguments::command().debug_assert();
    }
}
