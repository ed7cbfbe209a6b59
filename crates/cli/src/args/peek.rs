//! The arguments of `peek`.

use clap::Args;
use clap_complete::engine::ArgValueCandidates;

use crate::names;

pub(crate) const EXAMPLES: &str = "Examples:\n  sluice peek depots/arlen-basin/2026-04-01.jsonl\n  \
    sluice peek weighings.weighing --events 500 --show 2\n  \
    sluice peek weighings.weighing.desk --when \"gross_kg > 20000\"\n  \
    sluice peek lock-broker:lock.passages --since 2h";

#[derive(Args, Debug)]
pub(crate) struct PeekArgs {
    /// A file, `-` for standard input, CONNECTION:PATTERN, PIPELINE.EVENT, or PIPELINE.EVENT.LANDING
    #[arg(value_name = "PLACE", required = true, num_args = 1..=2, add = ArgValueCandidates::new(names::places))]
    pub places: Vec<String>,

    /// The file of the schema that messages of a topic are written with: of Avro as JSON; of Protobuf a .proto file, whose imports are
    /// looked for beside it, or a set of descriptors
    #[arg(long, value_name = "FILE", value_hint = clap::ValueHint::FilePath)]
    pub schema: Option<std::path::PathBuf>,

    /// The message type in a schema of Protobuf, such as tarrow.Passage [default: the only one that no other holds]
    #[arg(long, value_name = "NAME", requires = "schema")]
    pub message: Option<String>,

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
