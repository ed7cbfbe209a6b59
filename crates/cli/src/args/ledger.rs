//! The arguments of `ledger`.

use std::path::PathBuf;

use clap::Args;
use clap_complete::engine::ArgValueCandidates;

use crate::names;

pub(crate) const EXAMPLES: &str = "Examples:\n  sluice ledger weighings --show 5\n  sluice ledger weighings --batch 1\n  sluice ledger weighings --fields\n  \
    sluice ledger weighings --by hour\n  sluice ledger weighings --slowest 5\n  sluice ledger weighings --failures\n  \
    sluice ledger weighings --export batches.csv";

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

    /// Show totals per hour or day (UTC) instead of single batches; --show is the number of periods
    #[arg(long, value_name = "PERIOD", value_enum, conflicts_with_all = ["batch", "state", "fields", "slowest", "largest"])]
    pub by: Option<Period>,

    /// Show the N batches that took the longest
    #[arg(long, value_name = "N", value_parser = clap::value_parser!(u64).range(1..), conflicts_with_all = ["batch", "show", "state", "fields", "largest"])]
    pub slowest: Option<u64>,

    /// Show the N batches with the most bytes
    #[arg(long, value_name = "N", value_parser = clap::value_parser!(u64).range(1..), conflicts_with_all = ["batch", "show", "state", "fields"])]
    pub largest: Option<u64>,

    /// Show why runs have failed, the newest last; --show is how many
    #[arg(long, conflicts_with_all = ["batch", "by", "slowest", "largest", "state", "fields"])]
    pub failures: bool,

    /// Write all batches to a file: FILE.csv, FILE.jsonl or FILE.parquet, one row a batch
    #[arg(long, value_name = "FILE", conflicts_with_all = ["batch", "by", "slowest", "largest", "state", "fields", "failures", "show"])]
    pub export: Option<PathBuf>,

    /// Show how much windows and other stations remember
    #[arg(long, conflicts_with_all = ["batch", "show"])]
    pub state: bool,

    /// Show which fields events have had, and which have come, gone, or changed their type
    #[arg(long, conflicts_with_all = ["batch", "show", "state"])]
    pub fields: bool,
}

/// The length of a period of totals.
#[derive(Clone, Copy, Debug, PartialEq, Eq, clap::ValueEnum)]
pub(crate) enum Period {
    /// An hour
    Hour,
    /// A day
    Day,
}
