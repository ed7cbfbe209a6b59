//! The command line.

use std::path::PathBuf;

use clap::{Args, Parser, Subcommand, ValueEnum};
use clap_complete::engine::ArgValueCandidates;

use crate::log::{LogForm, LogLevel};
use crate::names;

mod examples;
mod repair;
mod tryout;

pub(crate) use repair::{PositionsArgs, RejectsArgs, ReplayArgs};
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

/// The heading of options that every command has.
const EVERYWHERE: &str = "Options of every command";

/// Move events from brokers, change feeds and files into storage, once each, and prove it
///
/// Without a command: show the pipelines of this project, their state, and what to do next.
#[derive(Debug, Parser)]
#[command(name = "sluice", version, disable_help_subcommand = true, after_long_help = crate::exit::help())]
pub(crate) struct Arguments {
    /// The project's folder [default: the nearest folder with a sluice.toml, from here upwards]
    #[arg(long, global = true, value_name = "DIR", help_heading = EVERYWHERE)]
    pub project: Option<PathBuf>,

    /// How results are printed
    #[arg(long, global = true, value_enum, default_value_t, value_name = "FORM", help_heading = EVERYWHERE)]
    pub output: OutputKind,

    #[command(subcommand)]
    pub command: Option<Command>,
}

#[derive(Debug, Subcommand)]
pub(crate) enum Command {
    /// Make a new project
    #[command(after_help = examples::INIT)]
    Init(InitArgs),
    /// Show what events look like, and what has landed
    #[command(after_help = examples::PEEK)]
    Peek(PeekArgs),
    /// Write a first pipeline file from real events
    #[command(after_help = examples::DRAFT)]
    Draft(DraftArgs),
    /// Check pipeline files, connections and tables before anything runs
    #[command(after_help = examples::CHECK)]
    Check(CheckArgs),
    /// Show what would land: take real events through the whole pipeline, and write nothing
    #[command(after_help = examples::REHEARSE)]
    Rehearse(RehearseArgs),
    /// Move data: until caught up, for a number of batches, or until stopped
    #[command(after_help = examples::RUN)]
    Run(RunArgs),
    /// Show whether pipelines run, how far behind they are, and what holds them up
    #[command(after_help = examples::STATUS)]
    Status(StatusArgs),
    /// Show the batches of a pipeline: their size, duration and counts
    #[command(after_help = examples::LEDGER)]
    Ledger(LedgerArgs),
    /// Compare the mirrors of a pipeline with the tables that they follow
    ///
    /// Reads both sides at one place of the source's log: counts and checksums first, then the rows that differ. The pipeline
    /// may run meanwhile. Nothing is changed without --catch-up or --reload.
    #[command(after_help = examples::AUDIT)]
    Audit(AuditArgs),
    /// Show which events were rejected, and why; retry them
    #[command(after_help = examples::REJECTS)]
    Rejects(RejectsArgs),
    /// Show the position and lag of every partition, and when unread data expires; set positions
    #[command(after_help = examples::POSITIONS)]
    Positions(PositionsArgs),
    /// Read batches or ranges again, without duplicates
    #[command(after_help = examples::REPLAY)]
    Replay(ReplayArgs),
    /// Look up kinds, options, types, functions, reasons and codes
    #[command(after_help = examples::MANUAL)]
    Manual(ManualArgs),
    /// Try everything on sample data
    #[command(after_help = examples::DEMO)]
    Demo(DemoArgs),
    /// Write invented events to a topic, a table, a folder or standard output
    #[command(after_help = examples::EMIT)]
    Emit(EmitArgs),
    /// Start a simulated service on this machine
    #[command(after_help = examples::STAND_IN)]
    StandIn(StandInArgs),
    /// Print completions for a shell
    #[command(after_help = examples::COMPLETIONS)]
    Completions(CompletionsArgs),
}

#[derive(Args, Debug)]
pub(crate) struct InitArgs {
    /// The folder; it is created if it does not exist
    #[arg(default_value = ".", value_name = "DIR")]
    pub folder: PathBuf,

    /// The project's name [default: the name of the folder]
    #[arg(long)]
    pub name: Option<String>,
}

#[derive(Args, Debug)]
pub(crate) struct CheckArgs {
    /// The pipelines [default: all]
    #[arg(value_name = "PIPELINE", add = ArgValueCandidates::new(names::pipelines))]
    pub pipelines: Vec<String>,

    /// Check the files only; contact nothing
    #[arg(long)]
    pub offline: bool,

    /// How many real events of each arrival are sampled
    #[arg(long, value_name = "N", default_value_t = 1_000)]
    pub events: u64,

    /// Run the statements that fix the tables, after showing them; nothing is ever dropped or narrowed
    #[arg(long, conflicts_with = "offline")]
    pub apply: bool,

    /// Do not ask for confirmation of --apply
    #[arg(long, requires = "apply")]
    pub yes: bool,
}

#[derive(Args, Debug)]
pub(crate) struct PeekArgs {
    /// A file, `-` for standard input, CONNECTION:PATTERN, PIPELINE.EVENT, or PIPELINE.EVENT.LANDING
    #[arg(value_name = "PLACE", required = true, num_args = 1..=2, add = ArgValueCandidates::new(names::places))]
    pub places: Vec<String>,

    /// How many events, or rows of a landing, are sampled [default: 1000; with --raw 10]
    #[arg(long, value_name = "N")]
    pub events: Option<u64>,

    /// How many events or rows are printed
    #[arg(long, value_name = "N", default_value_t = 5)]
    pub show: usize,

    /// Only events at or after this time: RFC 3339, a day, or how long ago, such as 2h
    #[arg(long, value_name = "MOMENT", value_parser = crate::output::times::parse_moment)]
    pub since: Option<i64>,

    /// Only events before this time, written as for --since
    #[arg(long, value_name = "MOMENT", value_parser = crate::output::times::parse_moment)]
    pub until: Option<i64>,

    /// Topics: sample the newest events instead of the oldest
    #[arg(long, conflicts_with_all = ["since", "live"])]
    pub newest: bool,

    /// Topics: print each event as it arrives, until Ctrl-C or the number of --events
    #[arg(long, conflicts_with_all = ["since", "until", "when", "columns", "key"])]
    pub live: bool,

    /// Print the bytes of the events as they are, one line each, and nothing else
    #[arg(long, conflicts_with_all = ["when", "columns", "key"])]
    pub raw: bool,

    /// Only rows that meet this SQL condition, such as "gross_kg > 5"
    #[arg(long, value_name = "SQL")]
    pub when: Option<String>,

    /// Print these columns: a SQL select list, such as "ticket, upper(depot) as depot"
    #[arg(long, value_name = "SQL")]
    pub columns: Option<String>,

    /// Two places: the columns that match their rows, separated by commas
    #[arg(long, value_name = "NAMES", value_delimiter = ',')]
    pub key: Vec<String>,
}

#[derive(Args, Debug)]
pub(crate) struct DraftArgs {
    /// The name of the new pipeline
    #[arg(value_name = "PIPELINE")]
    pub pipeline: String,

    /// Where its events are: a file, CONNECTION:PATTERN, or CONNECTION:TOPIC of a broker
    #[arg(value_name = "PLACE", add = ArgValueCandidates::new(names::connections))]
    pub place: String,

    /// The event's name [default: the pipeline's name, without a final s]
    #[arg(long, value_name = "NAME")]
    pub event: Option<String>,

    /// The connection where it lands [default: `archive`, else the first one that it does not arrive from]
    #[arg(long, value_name = "CONNECTION", add = ArgValueCandidates::new(names::connections))]
    pub land_in: Option<String>,

    /// How many events are sampled
    #[arg(long, value_name = "N", default_value_t = 100_000)]
    pub events: u64,

    /// Print the file, and write nothing into the project
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

    /// How many events of each arrival are taken, or a kept file whose events are taken [default: 1000]
    #[arg(long, value_name = "N|FILE")]
    pub events: Option<Events>,

    /// How many rows of each landing are printed
    #[arg(long, value_name = "N", default_value_t = 5)]
    pub show: usize,

    /// Only this landing: EVENT.LANDING, or LANDING
    #[arg(long, value_name = "LANDING", add = ArgValueCandidates::new(names::landings))]
    pub landing: Option<String>,

    /// Only events at or after this time: RFC 3339, a day, or how long ago, such as 2h
    #[arg(long, value_name = "MOMENT", value_parser = crate::output::times::parse_moment)]
    pub since: Option<i64>,

    /// Only events before this time, written as for --since
    #[arg(long, value_name = "MOMENT", value_parser = crate::output::times::parse_moment)]
    pub until: Option<i64>,

    /// Topics: sample the newest events instead of the oldest
    #[arg(long, conflicts_with = "since")]
    pub newest: bool,

    /// Watch the project's files, and print the new result on the same events after each save
    #[arg(long, conflicts_with_all = ["trace", "keep", "expect"])]
    pub follow: bool,

    /// Print the way of event number N, step by step
    #[arg(long, value_name = "N", value_parser = clap::value_parser!(u64).range(1..))]
    pub trace: Option<u64>,

    /// Write the events, and what became of them, to a file
    #[arg(long, value_name = "FILE")]
    pub keep: Option<PathBuf>,

    /// Compare with a kept file, on its events unless --events names others; exit with 6 where the outcome differs
    #[arg(long, value_name = "FILE", conflicts_with_all = ["since", "until"])]
    pub expect: Option<PathBuf>,

    /// Replace the file of --keep if it exists
    #[arg(long)]
    pub yes: bool,
}

#[derive(Args, Debug)]
pub(crate) struct RunArgs {
    /// The pipeline
    #[arg(value_name = "PIPELINE", add = ArgValueCandidates::new(names::pipelines))]
    pub pipeline: String,

    /// Stop when all data that exists has been read [default: wait for more]
    #[arg(long)]
    pub until_caught_up: bool,

    /// Stop after this many batches
    #[arg(long, value_name = "N", value_parser = clap::value_parser!(u64).range(1..))]
    pub stop_after: Option<u64>,

    /// Continue after what a landing holds beyond the ledger, instead of refusing to run
    #[arg(long)]
    pub adopt: bool,

    /// The log of the run.
    #[command(flatten)]
    pub log: LogArgs,
}

/// How a run is logged.
#[derive(Args, Debug)]
pub(crate) struct LogArgs {
    /// Write what happens to standard error [default: text where that is not a terminal, else off]
    #[arg(long, value_name = "FORM", value_enum)]
    pub log: Option<LogForm>,

    /// Log events of this severity and above; the variable SLUICE_LOG_LEVEL sets the default
    #[arg(long, value_name = "LEVEL", value_enum, default_value_t = LogLevel::Info, env = "SLUICE_LOG_LEVEL", hide_env = true)]
    pub log_level: LogLevel,
}

/// Compare every mirror of a pipeline with the table that it follows: counts and checksums first, then the rows that
/// differ. The pipeline may run meanwhile; nothing is changed without --catch-up or --reload.
#[derive(Args, Debug)]
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
    /// The pipeline [default: all]
    #[arg(value_name = "PIPELINE", add = ArgValueCandidates::new(names::pipelines))]
    pub pipeline: Option<String>,

    /// Print it again every second
    #[arg(long)]
    pub follow: bool,
}

#[derive(Args, Debug)]
pub(crate) struct LedgerArgs {
    /// The pipeline
    #[arg(value_name = "PIPELINE", add = ArgValueCandidates::new(names::pipelines))]
    pub pipeline: String,

    /// How many of the newest batches are shown
    #[arg(long, value_name = "N", default_value_t = 20)]
    pub show: u64,

    /// Show everything about the batches with this number: ranges, counts, files
    #[arg(long, value_name = "NUMBER")]
    pub batch: Option<u64>,
}

#[derive(Args, Debug)]
pub(crate) struct ManualArgs {
    /// A chapter, a name, or any word [default: list the chapters]
    #[arg(value_name = "WORD")]
    pub words: Vec<String>,

    /// Write the manual as Markdown pages to a folder
    #[arg(long, value_name = "DIR", conflicts_with = "words")]
    pub pages: Option<PathBuf>,

    /// Write the manual as man pages to a folder: man -l DIR/sluice-run.1
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
