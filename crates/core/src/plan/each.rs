//! Writes the groups of tables of a pipeline out into events, as their sources have them now.

use std::sync::Arc;

use super::Surroundings;
use crate::config::each::WriteOut;
use crate::config::{ConnectionConfig, EachConfig, Options, PipelineConfig};
use crate::failure::Outcome;
use crate::kinds::{IntakeKind, TableName};
use crate::names;
use crate::problem::{Problem, Problems, SourceText};

/// The text that a pipeline with groups of tables runs under. What does not bind is added to `problems`.
///
/// # Errors
/// Where a source cannot be reached.
pub fn write_out(config: &PipelineConfig, around: &Surroundings, problems: &mut Problems) -> Outcome<Arc<SourceText>> {
    let mut out = WriteOut::new(&config.source, &config.events);
    for group in &config.groups {
        let (Some(kind), Some(connection)) = (&group.kind, &group.connection) else { continue };
        let settings = around.settings(connection, &Options::empty(Vec::new(), group.place.clone()));
        let there = kind.tables(&settings)?;
        unbound(group, &there, problems);
        let by_hand = by_hand(config, kind, connection, &there);
        let chosen: Vec<TableName> = there
            .into_iter()
            .filter(|t| {
                group.takes(&t.schema, &t.name, &t.own) && !by_hand.contains(&(t.schema.clone(), t.name.clone()))
            })
            .collect();
        out.group(group, &kind.shapes(&settings, &chosen)?, problems);
    }
    Ok(out.finish())
}

/// Tables at the sources of groups that follow them which no event reads yet, as `SCHEMA.NAME`. `config` is the pipeline as
/// it was written out.
///
/// # Errors
/// Where a source cannot be reached.
pub fn new_tables(config: &PipelineConfig, around: &Surroundings) -> Outcome<Vec<String>> {
    let mut found = Vec::new();
    for group in config.groups.iter().filter(|g| g.follows()) {
        let (Some(kind), Some(connection)) = (&group.kind, &group.connection) else { continue };
        let settings = around.settings(connection, &Options::empty(Vec::new(), group.place.clone()));
        let there = kind.tables(&settings)?;
        let read = by_hand(config, kind, connection, &there);
        let is_new = |t: &&TableName| {
            group.takes(&t.schema, &t.name, &t.own) && !read.contains(&(t.schema.clone(), t.name.clone()))
        };
        found.extend(there.iter().filter(is_new).map(|t| format!("{}.{}", t.schema, t.name)));
    }
    Ok(found)
}

/// Tables that events of the file read themselves.
fn by_hand(
    config: &PipelineConfig,
    kind: &Arc<dyn IntakeKind>,
    connection: &ConnectionConfig,
    there: &[TableName],
) -> Vec<(String, String)> {
    let own = there.first().map_or("", |t| t.own.as_str());
    let arrivals = config.events.iter().flat_map(|e| &e.arrivals);
    let here = arrivals.filter(|a| {
        a.connection.as_ref().is_some_and(|c| c.name == connection.name)
            && a.kind.as_ref().is_some_and(|k| k.name() == kind.name())
    });
    let split = |table: String| match table.split_once('.') {
        Some((schema, name)) => (schema.to_string(), name.to_string()),
        None => (own.to_string(), table),
    };
    here.filter_map(|a| a.options.text("table")).map(split).collect()
}

/// Patterns that name no table.
fn unbound(group: &EachConfig, there: &[TableName], problems: &mut Problems) {
    for (list, key) in [(&group.tables, "tables"), (&group.except, "except")] {
        for pattern in &list.value {
            let one = EachConfig::one(pattern);
            if there.iter().any(|t| one(&t.schema, &t.name, &t.own)) {
                continue;
            }
            let full = |t: &TableName| match t.schema == t.own {
                true => t.name.clone(),
                false => format!("{}.{}", t.schema, t.name),
            };
            let known: Vec<String> = there.iter().map(full).collect();
            let message = format!("`{pattern}` in `{key}` names no table that is there");
            let problem = Problem::error("name.unknown", message, list.place.clone()).with_label("binds to nothing");
            problems.add(match names::remedy(pattern, "tables", known.iter().map(String::as_str)) {
                Some(help) => problem.with_help(help),
                None => problem.with_help("the database has no table that the user may see"),
            });
        }
    }
}
