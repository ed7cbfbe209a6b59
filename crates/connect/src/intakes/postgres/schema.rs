//! Notices that a table of the source has changed: columns that came, went or have another type, and another name.

use super::PostgresFeed;
use super::pgoutput::Relation;
use crate::intakes::feed::schema::differences;
use crate::intakes::feed::state::State;

/// A table that the log tells anew.
pub(super) struct Found {
    /// Its name in the pipeline.
    pub table: String,
    /// Its columns with their types.
    pub columns: Vec<String>,
    /// Its number in the feed, where it has another name now.
    pub bound_as: Option<u32>,
    /// What is different in a way that matters to the contract, in words.
    pub difference: Option<String>,
    /// Whether the run is to stop there.
    pub holds: bool,
}

/// Compares a table with what is known of it; None for one that nobody reads.
pub(super) fn compare(feed: &PostgresFeed, state: &State, relation: &Relation) -> Option<Found> {
    let name = format!("{}.{}", relation.schema, relation.name);
    let by_name = feed.tables.iter().position(|t| *t.name == *name);
    let by_id = || {
        let known = state.tables.iter().find(|(_, t)| t.id == relation.id && t.id != 0)?;
        feed.tables.iter().position(|t| *t.name == **known.0)
    };
    let number = by_name.or_else(by_id)?;
    let table = &feed.tables[number];
    let columns: Vec<String> = relation.columns.iter().map(|c| format!("{} {} {}", c.name, c.ty, c.modifier)).collect();
    let known = state.tables.get(&*table.name).map_or(&[][..], |t| &t.columns);
    let mut found = differences(known, &columns, table);
    if by_name.is_none() {
        found.insert(0, format!("it is called {name} now"));
    }
    let options = &feed.settings[number].options;
    Some(Found {
        table: table.name.to_string(),
        columns,
        bound_as: by_name.is_none().then(|| u32::try_from(number).unwrap_or(u32::MAX)),
        difference: (!found.is_empty()).then(|| found.join("; ")),
        holds: options.text("schema_change").as_deref() != Some("ignore"),
    })
}
