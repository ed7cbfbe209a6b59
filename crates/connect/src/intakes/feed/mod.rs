//! What change feeds of all kinds share: records as JSON, chunks of them, and what the ledger keeps of a feed.

pub(crate) mod gather;
pub(crate) mod identity;
pub(crate) mod json;
pub(crate) mod live;
pub(crate) mod loader;
pub(crate) mod order;
pub(crate) mod reader;
pub(crate) mod rows;
pub(crate) mod sample;
pub(crate) mod schema;
pub(crate) mod snapshot;
pub(crate) mod state;
#[cfg(test)]
pub(crate) mod trial;
pub(crate) mod whole;

use std::collections::BTreeSet;
use std::sync::Arc;

use sluice_core::config::{ExtraFields, OptionSpec, ValueKind};
use sluice_core::contract::Contract;
use sluice_core::failure::{Failure, FailureKind, Outcome};

/// The partition of every change feed: a log has one order.
pub(crate) const PARTITION: &str = "log";

/// The number of a table as an index.
pub(crate) fn index(table: u32) -> usize {
    usize::try_from(table).unwrap_or(usize::MAX)
}

/// Keys of arrivals from change feeds.
pub(crate) const TABLE_OPTIONS: &[OptionSpec] = &[
    OptionSpec::required("table", ValueKind::Text, "the table: NAME, or SCHEMA.NAME"),
    OptionSpec::with_default(
        "load",
        ValueKind::Choice(&["first", "never"]),
        "first",
        "whether existing rows are loaded before changes are followed: first, or never",
    )
    .with(&["load_rows", "load_rate"]),
    OptionSpec::with_default(
        "load_rows",
        ValueKind::Integer { min: 1, max: 1_000_000 },
        "50_000",
        "how many rows of a table are read by one query",
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
        ValueKind::Choice(&["stop", "follow", "ignore"]),
        "stop",
        "what happens when a column is added, dropped or retyped: stop ends the run there and shows the difference; follow, \
         in [each.NAME], continues with the new columns; ignore continues with the columns of the contract",
    ),
];

/// A table that is read.
#[derive(Clone)]
pub(crate) struct FeedTable {
    /// Schema and name.
    pub name: Arc<str>,
    /// The columns of its primary key.
    pub key: Vec<String>,
    /// What is read of it; all where there is none.
    pub contract: Option<Arc<Contract>>,
}

/// Refuses a table that several events are read from, under whatever names: each change of it comes once.
///
/// # Errors
/// Where there is one.
pub(crate) fn refuse_twice(tables: &[FeedTable]) -> Outcome<()> {
    let twice = tables.iter().enumerate().find(|(i, table)| tables[..*i].iter().any(|other| other.name == table.name));
    let Some((_, table)) = twice else { return Ok(()) };
    Err(Failure::new(FailureKind::Configuration, format!("two events are read from the table {}", table.name))
        .with_help("each change comes once: make the second event of the first one"))
}

impl FeedTable {
    /// Whether a column is read.
    pub(crate) fn takes(&self, column: &str) -> bool {
        let Some(contract) = &self.contract else { return true };
        contract.extra != ExtraFields::Ignore
            || contract.fields.iter().any(|f| f.path.first().is_some_and(|name| name == column))
            || self.key.iter().any(|k| k == column)
    }

    /// The members of rows that the contract reads and that are not among the source's columns: the table does not have
    /// them yet, or any more. A new row has null there, and does not leave them as they were. Fields that are `not null`
    /// are left out.
    pub(crate) fn missing<'c>(&self, columns: impl Iterator<Item = &'c str>) -> Vec<Vec<u8>> {
        let columns: BTreeSet<&str> = columns.collect();
        let fields = self.contract.iter().flat_map(|contract| &contract.fields).filter(|field| !field.not_null);
        let names = fields.filter_map(|field| field.path.first()).filter(|name| !columns.contains(name.as_str()));
        names.map(String::as_str).collect::<BTreeSet<_>>().into_iter().map(json::member_name).collect()
    }
}
