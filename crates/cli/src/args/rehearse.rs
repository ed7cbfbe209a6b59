//! The arguments of `rehearse`.

use std::path::PathBuf;

use clap::Args;
use clap_complete::engine::ArgValueCandidates;

use crate::names;

pub(crate) const EXAMPLES: &str = "Examples:\n  sluice rehearse weighings --events 200\n  \
    sluice rehearse weighings --trace 3\n  sluice rehearse weighings --keep kept.jsonl --yes\n  \
    sluice rehearse weighings --expect kept.jsonl\n  sluice rehearse weighings --since 7d --against landed";

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

/// What an edited file is compared with.
#[derive(Clone, Copy, Debug, PartialEq, Eq, clap::ValueEnum)]
pub(crate) enum Against {
    /// What has landed
    Landed,
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

    /// Read again what has landed, and compare it with what the edited file would land, row by row; --since and --until choose
    /// batches by the time when they were opened [default: all]; exit with 6 where rows would differ
    #[arg(long, value_name = "WHAT", value_enum, conflicts_with_all = ["events", "newest", "follow", "trace", "keep", "expect"])]
    pub against: Option<Against>,

    /// Replace the file of --keep if it exists
    #[arg(long)]
    pub yes: bool,
}
