//! What is fixed.

use clap::Args;
use clap_complete::engine::ArgValueCandidates;

use crate::names;

#[derive(Args, Debug)]
pub(crate) struct RejectsArgs {
    /// The pipeline
    #[arg(value_name = "PIPELINE", add = ArgValueCandidates::new(names::pipelines))]
    pub pipeline: String,

    /// How many of the newest rejects are shown
    #[arg(long, value_name = "N", default_value_t = 10)]
    pub show: usize,

    /// Only rejects with this reason, such as not_json
    #[arg(long, value_name = "REASON")]
    pub only: Option<String>,

    /// Only rejects of the batches with this number
    #[arg(long, value_name = "NUMBER")]
    pub batch: Option<u64>,

    /// Print the rejected bytes as they were, one line each, and nothing else
    #[arg(long, conflicts_with = "retry")]
    pub raw: bool,

    /// Read the rejected events again with the current pipeline file; good ones land
    #[arg(long)]
    pub retry: bool,

    /// Include rejects that were retried
    #[arg(long, conflicts_with = "retry")]
    pub all: bool,

    /// Reject the events of sealed batches that cannot be finished, so that the pipeline can continue
    #[arg(long, conflicts_with_all = ["retry", "raw", "all", "only"])]
    pub unfinished: bool,

    /// Do not ask for confirmation
    #[arg(long)]
    pub yes: bool,
}

#[derive(Args, Debug)]
pub(crate) struct PositionsArgs {
    /// The pipeline
    #[arg(value_name = "PIPELINE", add = ArgValueCandidates::new(names::pipelines))]
    pub pipeline: String,

    /// Set positions: earliest, latest, a moment, or PARTITION=POSITION; can be repeated
    #[arg(long, value_name = "WHERE")]
    pub set: Vec<String>,

    /// With --set: only partitions whose name starts with this
    #[arg(long, value_name = "NAME", requires = "set")]
    pub of: Option<String>,

    /// Continue at the positions of another arrival: OLD=NEW, its name in the ledger and its name now
    #[arg(long, value_name = "OLD=NEW", conflicts_with_all = ["set", "changes"])]
    pub take_over: Option<String>,

    /// Treat an arrival as a new one: it starts where its keys say, and leaves the positions under its name unused
    #[arg(long, value_name = "NEW", conflicts_with_all = ["set", "changes", "take_over"])]
    pub as_new: Option<String>,

    /// The reason, kept in the ledger; required with --set, --take-over and --as-new
    #[arg(long, value_name = "TEXT")]
    pub reason: Option<String>,

    /// Show the positions that were set, and why
    #[arg(long, conflicts_with = "set")]
    pub changes: bool,

    /// Do not ask for confirmation
    #[arg(long)]
    pub yes: bool,
}

#[derive(Args, Debug)]
pub(crate) struct ReplayArgs {
    /// The pipeline
    #[arg(value_name = "PIPELINE", add = ArgValueCandidates::new(names::pipelines))]
    pub pipeline: String,

    /// The batches with these numbers, both ends included: 17, 12-18, or 12- for all from 12 on
    #[arg(long, value_name = "NUMBERS")]
    pub batches: Option<String>,

    /// Only batches of this lane
    #[arg(long, value_name = "LANE")]
    pub lane: Option<String>,

    /// Positions of a partition: PARTITION=FROM..TO, up to but without TO; can be repeated
    #[arg(long, value_name = "RANGE")]
    pub range: Vec<String>,

    /// Only events at or after this time of the source: RFC 3339, a day, or how long ago, such as 2h
    #[arg(long, value_name = "MOMENT", value_parser = crate::output::times::parse_moment)]
    pub since: Option<i64>,

    /// Only events before this time of the source, written as for --since
    #[arg(long, value_name = "MOMENT", value_parser = crate::output::times::parse_moment)]
    pub until: Option<i64>,

    /// Only into this landing; what it holds of the batches is replaced: EVENT.LANDING, or LANDING
    #[arg(long, value_name = "LANDING", add = ArgValueCandidates::new(names::landings))]
    pub landing: Option<String>,

    /// The reason, kept in the ledger
    #[arg(long, value_name = "TEXT", default_value = "")]
    pub reason: String,

    /// Show what would be read again; change nothing
    #[arg(long)]
    pub plan: bool,

    /// Do not ask for confirmation
    #[arg(long)]
    pub yes: bool,
}
