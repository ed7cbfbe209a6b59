//! The arguments of `emit`.

use clap::{Args, ValueEnum};
use clap_complete::engine::ArgValueCandidates;

use crate::names;

pub(crate) const EXAMPLES: &str = "Examples:\n  sluice emit passages --count 3\n  \
    sluice emit tolls --count 1000 --bad 1% --into tolls\n  \
    sluice emit levels --rate 100 --for 30s --into lock-broker:lock.levels";

/// How invented events are written.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, ValueEnum)]
pub(crate) enum EmitFormat {
    /// One JSON object a line.
    #[default]
    Jsonl,
    /// CSV with a header row.
    Csv,
}

#[derive(Args, Debug)]
pub(crate) struct EmitArgs {
    /// The kind of events: passages, levels, tolls, a shape file, or `-` for the lines of standard input
    #[arg(value_name = "SHAPE", add = ArgValueCandidates::new(names::shapes))]
    pub shape: String,

    /// A folder that gets a new file, CONNECTION:TOPIC, or CONNECTION:TABLE of a database; default: standard
    /// output
    #[arg(long, value_name = "PLACE", add = ArgValueCandidates::new(names::connections))]
    pub into: Option<String>,

    /// Topics: create the topic with this many partitions if it is missing
    #[arg(long, value_name = "N", value_parser = clap::value_parser!(u64).range(1..=10_000))]
    pub partitions: Option<u64>,

    /// Of a topic: the field whose value becomes the key; of a table: the column that names a row. Without it, the first
    /// field of the shape that is a key
    #[arg(long, value_name = "FIELD")]
    pub key: Option<String>,

    /// Tables: the share of changes that update a row written before, such as 30%
    #[arg(long, value_name = "SHARE", default_value = "0%", value_parser = sluice_core::units::parse_share)]
    pub updates: f64,

    /// Tables: the share of changes that delete a row written before, such as 10%
    #[arg(long, value_name = "SHARE", default_value = "0%", value_parser = sluice_core::units::parse_share)]
    pub deletes: f64,

    /// Stop after this many events
    #[arg(long, value_name = "N")]
    pub count: Option<u64>,

    /// Stop after this time, such as 30s
    #[arg(long = "for", value_name = "DURATION", value_parser = sluice_core::units::parse_duration)]
    pub lasting: Option<std::time::Duration>,

    /// Events per second [default: as fast as possible]
    #[arg(long, value_name = "N", value_parser = clap::value_parser!(u64).range(1..=10_000_000))]
    pub rate: Option<u64>,

    /// The same seed makes the same events
    #[arg(long, value_name = "N", default_value_t = 1)]
    pub seed: u64,

    /// The number of distinct keys
    #[arg(long, value_name = "N", default_value_t = 100, value_parser = clap::value_parser!(u64).range(1..))]
    pub keys: u64,

    /// The share of bad events, such as 1%
    #[arg(long, value_name = "SHARE", default_value = "0%", value_parser = sluice_core::units::parse_share)]
    pub bad: f64,

    /// The share of late events, such as 5%
    #[arg(long, value_name = "SHARE", default_value = "0%", value_parser = sluice_core::units::parse_share)]
    pub late: f64,

    /// The greatest delay of late events
    #[arg(long, value_name = "DURATION", default_value = "10m", value_parser = sluice_core::units::parse_duration)]
    pub late_by: std::time::Duration,

    /// The time of the first event, each later one a second after it, or by the rate; without it, now. In a topic it is the
    /// broker's time as well
    #[arg(long, value_name = "MOMENT", value_parser = crate::output::times::parse_moment)]
    pub starting: Option<i64>,

    /// The format of the events
    #[arg(long, value_enum, default_value_t, value_name = "FORM")]
    pub format: EmitFormat,
}
