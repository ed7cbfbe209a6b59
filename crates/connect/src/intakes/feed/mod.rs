//! What change feeds of all kinds share: records as JSON, chunks of them, and what the ledger keeps of a feed.

pub(crate) mod gather;
pub(crate) mod json;
pub(crate) mod live;
pub(crate) mod state;

use sluice_core::config::{OptionSpec, ValueKind};

/// The partition of every change feed: a log has one order.
pub(crate) const PARTITION: &str = "log";

/// Keys of arrivals from change feeds.
pub(crate) const TABLE_OPTIONS: &[OptionSpec] = &[
    OptionSpec::required("table", ValueKind::Text, "the table: NAME, or SCHEMA.NAME"),
    OptionSpec::with_default(
        "load",
        ValueKind::Choice(&["first", "never"]),
        "first",
        "whether the rows that are there already are read before what changes: first, or never",
    )
    .with(&["load_rows", "load_rate"]),
    OptionSpec::with_default(
        "load_rows",
        ValueKind::Integer { min: 1, max: 1_000_000 },
        "50_000",
        "how many rows of a table are read by one question",
    )
    .with(&["load", "load_rate"]),
    OptionSpec::optional(
        "load_rate",
        ValueKind::Integer { min: 1, max: u64::MAX },
        "at most about this many rows of a table are read in a second",
    )
    .with(&["load", "load_rows"]),
    OptionSpec::with_default(
        "schema_change",
        ValueKind::Choice(&["hold", "ignore"]),
        "hold",
        "what happens when a column comes, goes or changes its type: hold stops there and tells the difference, ignore \
         goes on with the columns that the contract names",
    ),
];
