//! The arguments of `stand-in`.

use clap::{Args, Subcommand};

pub(crate) const EXAMPLES: &str = "Examples:\n  sluice stand-in broker\n  \
    sluice stand-in broker --listen 127.0.0.1:9092 --topic lock.passages:4:7d";

#[derive(Args, Debug)]
pub(crate) struct StandInArgs {
    #[command(subcommand)]
    pub service: StandInService,
}

#[derive(Debug, Subcommand)]
pub(crate) enum StandInService {
    /// A broker that speaks the Kafka protocol, in memory: one node, transactions, retention, no group members. It reads
    /// commands such as `recreate TOPIC` from standard input; `help` lists them
    Broker(BrokerArgs),
}

#[derive(Args, Debug)]
pub(crate) struct BrokerArgs {
    /// Where it listens; port 0 takes a free one
    #[arg(long, value_name = "ADDRESS", default_value = "127.0.0.1:9092")]
    pub listen: std::net::SocketAddr,

    /// The address that clients get, if it is a different one
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
