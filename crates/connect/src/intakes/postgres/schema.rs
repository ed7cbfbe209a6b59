//! Notices that a table of the source has changed: columns that were added, dropped or retyped, and a table that was
//! renamed.

use sluice_core::failure::{Failure, Outcome};

use super::PostgresFeed;
use super::catalog::{Catalog, SourceTable};
use super::pgoutput::Relation;
use super::shapes::natural;
use crate::intakes::feed::FeedTable;
use crate::intakes::feed::schema::{CurrentColumn, Difference, Policy, SchemaVerdict, outdated};
use crate::intakes::feed::state::State;

/// A table that the log reports again.
pub(super) struct SchemaFound {
    /// Its name in the pipeline.
    pub table: String,
    /// Its columns with their types.
    pub columns: Vec<String>,
    /// Its number in the feed, where it has another name now.
    pub bound_as: Option<u32>,
    /// What is to be done.
    pub verdict: SchemaVerdict,
}

/// Compares a table with what is known of it; None for one that nobody reads.
pub(super) fn compare(feed: &PostgresFeed, state: &State, relation: &Relation) -> Outcome<Option<SchemaFound>> {
    let name = format!("{}.{}", relation.schema, relation.name);
    let by_name = feed.tables.iter().position(|t| *t.name == *name);
    let by_id = || {
        let known = state.tables.iter().find(|(_, t)| t.id == relation.id && t.id != 0)?;
        feed.tables.iter().position(|t| *t.name == **known.0)
    };
    let Some(number) = by_name.or_else(by_id) else { return Ok(None) };
    let (table, policy) = (&feed.tables[number], Policy::of(&feed.settings[number]));
    let columns: Vec<String> = relation.columns.iter().map(|c| format!("{} {} {}", c.name, c.ty, c.modifier)).collect();
    let known = state.tables.get(&*table.name).map_or(&[][..], |t| &t.columns);
    let difference = Difference::between(known, &columns);
    let mut verdict = SchemaVerdict::GoOn { refill: false };
    if !difference.is_empty() {
        // What is there now may be later than this place of the log.
        let there = feed.catalog()?.table(&name)?.as_ref().map_or_else(Vec::new, there);
        verdict = difference.judge(table, policy, &there);
    }
    if let Some(words) = other_key(table, relation) {
        verdict = if policy == Policy::Follow { SchemaVerdict::Renew(words) } else { SchemaVerdict::Stop(words) };
    }
    if by_name.is_none() && policy != Policy::Ignore {
        let more = match verdict {
            SchemaVerdict::Stop(words) | SchemaVerdict::Renew(words) => format!("; {words}"),
            SchemaVerdict::GoOn { .. } => String::new(),
        };
        let words = format!("it was renamed to {name}{more}");
        verdict = if policy == Policy::Follow { SchemaVerdict::Renew(words) } else { SchemaVerdict::Stop(words) };
    }
    let bound_as = by_name.is_none().then(|| u32::try_from(number).unwrap_or(u32::MAX));
    Ok(Some(SchemaFound { table: table.name.to_string(), columns, bound_as, verdict }))
}

/// Says that the log identifies rows by other columns than the primary key that is known.
fn other_key(table: &FeedTable, relation: &Relation) -> Option<String> {
    let flagged = relation.columns.iter().filter(|c| c.is_key);
    let columns: Vec<&str> = flagged.map(|c| c.name.as_str()).collect();
    // All columns are flagged with `replica identity full`, none where there is no identity.
    let is_other = !columns.is_empty()
        && columns.len() < relation.columns.len()
        && (columns.len() != table.key.len() || columns.iter().any(|c| !table.key.iter().any(|k| k == c)));
    is_other.then(|| format!("its primary key is now ({}); it was ({})", columns.join(", "), table.key.join(", ")))
}

/// Tables that are not there any more, of which the log says nothing: why the run stops, and the place in the log that is
/// to be seen before.
pub(super) fn gone(feed: &PostgresFeed, catalog: &Catalog, state: &State) -> Outcome<Option<(u64, Failure)>> {
    let there = catalog.numbers()?;
    for (table, settings) in feed.tables.iter().zip(&feed.settings) {
        let id = state.tables.get(&*table.name).map_or(0, |t| t.id);
        if id == 0 || there.values().any(|number| *number == id) {
            continue;
        }
        let failure = match (Policy::of(settings), there.contains_key(&*table.name)) {
            (Policy::Follow, true) => Failure::renewing(format!("{} was recreated at the source", table.name)),
            (Policy::Follow, false) => Failure::renewing(format!("{} was dropped at the source", table.name)),
            (_, true) => recreated(feed, &table.name),
            (_, false) => Failure::findings(format!("{} was dropped at the source", table.name)).with_help(
                "all changes before that have been read. Remove its event from the pipeline file; landed rows stay",
            ),
        };
        return Ok(Some((catalog.log_end()?, failure)));
    }
    Ok(None)
}

/// A table is another one than that which was read.
pub(super) fn recreated(feed: &PostgresFeed, table: &str) -> Failure {
    Failure::findings(format!("{table} was recreated at the source")).with_help(format!(
        "all earlier changes have been read. `sluice positions {} --set earliest` starts again: mirrors are emptied, \
         and every table is loaded again",
        feed.pipeline()
    ))
}

/// The columns that a table has now, in the words of contracts.
fn there(table: &SourceTable) -> Vec<CurrentColumn> {
    let sent = table.columns.iter().filter(|c| !c.is_computed);
    sent.map(|c| CurrentColumn { name: c.name.clone(), ty: natural(&c.ty).0, is_filled: c.is_filled }).collect()
}

/// Has tables loaded again whose rows have got values that the log does not report, since the last run.
///
/// # Errors
/// Where the pipeline has to be written out again first, since a table has other columns by now.
pub(super) fn refill(feed: &PostgresFeed, catalog: &Catalog, state: &mut State) -> Outcome<()> {
    for (table, settings) in feed.tables.iter().zip(&feed.settings) {
        let Some(now) = catalog.table(&table.name)? else { continue };
        if let Some(failure) = outdated(table, Policy::of(settings), &there(&now)) {
            return Err(failure);
        }
        let Some(known) = state.tables.get_mut(&*table.name) else { continue };
        let columns = now.sent();
        let difference = Difference::between(&known.columns, &columns);
        if difference.is_empty() {
            continue;
        }
        let verdict = difference.judge(table, Policy::of(settings), &there(&now));
        if verdict == (SchemaVerdict::GoOn { refill: true }) {
            known.restart(now.about);
            known.columns = columns;
        }
    }
    Ok(())
}
