//! The command line.

use std::path::PathBuf;

use clap::{Args, Parser, Subcommand, ValueEnum};
use clap_complete::engine::ArgValueCandidates;

use crate::names;

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
    /// Verify: which batches, how big, how long
    Ledger(LedgerArgs),
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
pub(crate) struct RejectsArgs {
    /// The pipeline
    #[arg(value_name = "PIPELINE", add = ArgValueCandidates::new(names::pipelines))]
    pub pipeline: String,

    /// Show this many of the newest rejects
    #[arg(long, value_name = "N", default_value_t = 10)]
    pub last: usize,

    /// Only rejects with this reason
    #[arg(long, value_name = "WORD")]
    pub reason: Option<String>,

    /// Only rejects of the batches with this number
    #[arg(long, value_name = "NUMBER")]
    pub batch: Option<u64>,

    /// Write the rejected bytes as they were, a line each, and nothing else
    #[arg(long, conflicts_with = "retry")]
    pub raw: bool,

    /// Read the rejected events again, under the pipeline as it is now; what is good then lands
    #[arg(long)]
    pub retry: bool,

    /// Show rejects that were tried again, too
    #[arg(long, conflicts_with = "retry")]
    pub all: bool,

    /// Do not ask
    #[arg(long)]
    pub yes: bool,
}

#[derive(Args, Debug)]
pub(crate) struct PositionsArgs {
    /// The pipeline
    #[arg(value_name = "PIPELINE", add = ArgValueCandidates::new(names::pipelines))]
    pub pipeline: String,

    /// Set positions: earliest, latest, a moment, or PARTITION=POSITION; several, one after the other
    #[arg(long, value_name = "WHERE")]
    pub set: Vec<String>,

    /// With --set: only partitions whose names begin so
    #[arg(long, value_name = "NAME", requires = "set")]
    pub of: Option<String>,

    /// With --set: why; it is kept in the ledger
    #[arg(long, value_name = "TEXT")]
    pub reason: Option<String>,

    /// Show the positions that were set, and why
    #[arg(long, conflicts_with = "set")]
    pub changes: bool,

    /// Do not ask
    #[arg(long)]
    pub yes: bool,
}

#[derive(Args, Debug)]
pub(crate) struct ReplayArgs {
    /// The pipeline
    #[arg(value_name = "PIPELINE", add = ArgValueCandidates::new(names::pipelines))]
    pub pipeline: String,

    /// The batches with these numbers: 17, 12..18, 12.. or ..18
    #[arg(long, value_name = "NUMBERS")]
    pub batches: Option<String>,

    /// Only this lane
    #[arg(long, value_name = "LANE")]
    pub lane: Option<String>,

    /// Positions of a partition: PARTITION=FROM..TO, the last not included; several, one after the other
    #[arg(long, value_name = "RANGE")]
    pub range: Vec<String>,

    /// From this moment of the source on: RFC 3339, a day, or how long ago, such as 2h
    #[arg(long, value_name = "MOMENT", value_parser = crate::output::times::parse_moment)]
    pub since: Option<i64>,

    /// Before this moment of the source
    #[arg(long, value_name = "MOMENT", value_parser = crate::output::times::parse_moment)]
    pub until: Option<i64>,

    /// Only into this landing, beside what it holds: EVENT.LANDING, or LANDING
    #[arg(long, value_name = "LANDING", add = ArgValueCandidates::new(names::landings))]
    pub into: Option<String>,

    /// Why; it is kept in the ledger
    #[arg(long, value_name = "TEXT", default_value = "")]
    pub reason: String,

    /// Show what would be read again, and change nothing
    #[arg(long)]
    pub plan: bool,

    /// Do not ask
    #[arg(long)]
    pub yes: bool,
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
pub(crate) struct DemoArgs {
    /// The folder; it is made if it is not there
    #[arg(default_value = "tarrow", value_name = "DIR")]
    pub folder: PathBuf,
}

/// How invented events are written.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, ValueEnum)]
pub(crate) enum EmitFormat {
    /// One JSON object a line.
    #[default]
    Jsonl,
    /// CSV with a head.
    Csv,
}

#[derive(Args, Debug)]
pub(crate) struct EmitArgs {
    /// What they are like: passages, levels, tolls, a file of a shape, or `-` for lines of standard input
    #[arg(value_name = "SHAPE", add = ArgValueCandidates::new(names::shapes))]
    pub shape: String,

    /// A folder that gets a new file, or CONNECTION:TOPIC; without it, they go to standard output
    #[arg(long, value_name = "PLACE", add = ArgValueCandidates::new(names::connections))]
    pub into: Option<String>,

    /// Of a topic: make it where it is missing, with this many partitions
    #[arg(long, value_name = "N", value_parser = clap::value_parser!(u64).range(1..=10_000))]
    pub partitions: Option<u64>,

    /// Of a topic: the field whose value becomes the key; without it, the first field of the shape that is a key
    #[arg(long, value_name = "FIELD")]
    pub key: Option<String>,

    /// Stop after this many events
    #[arg(long, value_name = "N")]
    pub count: Option<u64>,

    /// Stop after this time, such as 30s
    #[arg(long = "for", value_name = "DURATION", value_parser = sluice_core::units::parse_duration)]
    pub lasting: Option<std::time::Duration>,

    /// Events a second; without it, as fast as can be
    #[arg(long, value_name = "N", value_parser = clap::value_parser!(u64).range(1..=10_000_000))]
    pub rate: Option<u64>,

    /// The same seed makes the same events
    #[arg(long, value_name = "N", default_value_t = 1)]
    pub seed: u64,

    /// How many different keys there are
    #[arg(long, value_name = "N", default_value_t = 100, value_parser = clap::value_parser!(u64).range(1..))]
    pub keys: u64,

    /// The share of bad events, such as 1%
    #[arg(long, value_name = "SHARE", default_value = "0%", value_parser = sluice_core::units::parse_share)]
    pub bad: f64,

    /// The share of late events, such as 5%
    #[arg(long, value_name = "SHARE", default_value = "0%", value_parser = sluice_core::units::parse_share)]
    pub late: f64,

    /// How late they are at most
    #[arg(long, value_name = "DURATION", default_value = "10m", value_parser = sluice_core::units::parse_duration)]
    pub late_by: std::time::Duration,

    /// The time of the first event, each later one a second after it, or by the rate; without it, now. In a topic it is the
    /// broker's time as well
    #[arg(long, value_name = "MOMENT", value_parser = crate::output::times::parse_moment)]
    pub since: Option<i64>,

    /// How they are written
    #[arg(long, value_enum, default_value_t, value_name = "FORM")]
    pub format: EmitFormat,
}

#[derive(Args, Debug)]
pub(crate) struct StandInArgs {
    #[command(subcommand)]
    pub service: StandInService,
}

#[derive(Debug, Subcommand)]
pub(crate) enum StandInService {
    /// A broker that speaks the Kafka protocol, in memory: one node, transactions, retention, no group members
    Broker(BrokerArgs),
}

#[derive(Args, Debug)]
pub(crate) struct BrokerArgs {
    /// Where it listens; port 0 takes a free one
    #[arg(long, value_name = "ADDRESS", default_value = "127.0.0.1:9092")]
    pub listen: std::net::SocketAddr,

    /// The address that clients are told, where that is another one
    #[arg(long, value_name = "HOST:PORT")]
    pub advertise: Option<String>,

    /// A topic that is there from the beginning: NAME, NAME:PARTITIONS or NAME:PARTITIONS:RETENTION; several, one after
    /// the other
    #[arg(long, value_name = "TOPIC")]
    pub topic: Vec<String>,

    /// Make topics that clients ask for, with this many partitions
    #[arg(long, value_name = "N", default_value_t = 0)]
    pub auto: u32,

    /// The name of its cluster
    #[arg(long, value_name = "NAME", default_value = "tarrow-stand-in")]
    pub cluster: String,

    /// Ask clients for this user, with the password in the variable STAND_IN_PASSWORD
    #[arg(long, value_name = "NAME")]
    pub user: Option<String>,
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
