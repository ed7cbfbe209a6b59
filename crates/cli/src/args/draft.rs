//! The arguments of `draft`.

use clap::Args;
use clap_complete::engine::ArgValueCandidates;

use crate::names;

pub(crate) const EXAMPLES: &str = "Examples:\n  sluice draft tickets depots:arlen-basin/*.jsonl --print\n  \
    sluice draft passages lock-broker:lock.passages --land-in archive";

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

    /// The file of the schema that messages of a topic are written with: of Avro as JSON; of Protobuf a .proto file, whose imports are
    /// looked for beside it, or a set of descriptors
    #[arg(long, value_name = "FILE", value_hint = clap::ValueHint::FilePath)]
    pub schema: Option<std::path::PathBuf>,

    /// The message type in a schema of Protobuf, such as tarrow.Passage [default: the only one that no other holds]
    #[arg(long, value_name = "NAME", requires = "schema")]
    pub message: Option<String>,

    /// Count the events per time, too: an event with windows of this length, such as 5m
    #[arg(long, value_name = "LENGTH")]
    pub window: Option<String>,

    /// How many events are sampled
    #[arg(long, value_name = "N", default_value_t = 100_000)]
    pub events: u64,

    /// Print the file, and write nothing into the project
    #[arg(long)]
    pub print: bool,
}
