//! What a server lacks before its tables can be read, and how to fix it.

use sluice_core::contract::Contract;
use sluice_core::failure::{Failure, Outcome};
use sluice_core::kinds::Settings;
use sluice_core::names;
use sluice_core::problem::Problem;
use sluice_core::units::show_size;

use super::catalog::{Catalog, SourceTable};
use super::{silent, slot};
use crate::intakes::feed::identity as feed_identity;

pub(super) fn check(settings: &Settings) -> Vec<Problem> {
    let away = |failure: Failure| {
        let problem = Problem::error("place.missing", failure.message, settings.options.place_of("at"));
        match failure.help {
            Some(help) => problem.with_help(help),
            None => problem,
        }
    };
    let catalog = match Catalog::open(settings) {
        Ok(catalog) => catalog,
        Err(failure) => return vec![away(failure)],
    };
    let mut found = Vec::new();
    if let Err(failure) = all(&catalog, settings, &mut found) {
        found.push(away(failure));
    }
    found
}

fn all(catalog: &Catalog, settings: &Settings, found: &mut Vec<Problem>) -> Outcome<()> {
    server(catalog, settings, found)?;
    let name = settings.options.text("table").unwrap_or_default();
    let Some(table) = catalog.table(&name)? else {
        found.push(no_table(catalog, settings, &name)?);
        return Ok(());
    };
    identity(&table, settings, found);
    found.extend(feed_identity::problems(&table.full(), &table.key, settings));
    let publication =
        settings.options.text("publication").unwrap_or_else(|| slot::name(std::slice::from_ref(settings)));
    if let Some(failure) = silent::unlogged(catalog, &table, settings, &publication)? {
        let problem = Problem::error("feed.identity", failure.message, settings.options.place_of("table"));
        found.push(problem.with_help(failure.help.unwrap_or_default()));
    }
    if let Some(contract) = &settings.contract {
        columns(&table, contract, found);
        apart(&table, settings, found);
    }
    kept(catalog, settings, &table, found)
}

/// The problem of a name that binds to no table.
pub(super) fn no_table(catalog: &Catalog, settings: &Settings, name: &str) -> Outcome<Problem> {
    let there = catalog.tables()?;
    let message = format!("there is no table `{name}` at {}", catalog.shown);
    let problem = Problem::error("place.missing", message, settings.options.place_of("table"));
    let bare = |full: &String| full.strip_prefix("public.").map_or_else(|| full.clone(), str::to_string);
    let known: Vec<String> = there.iter().map(bare).collect();
    Ok(match names::remedy(name, "tables", known.iter().map(String::as_str)) {
        Some(help) => problem.with_label("binds to nothing").with_help(help),
        None => problem.with_help("the database has no table that the user may see"),
    })
}

fn server(catalog: &Catalog, settings: &Settings, found: &mut Vec<Problem>) -> Outcome<()> {
    let place = || settings.options.place_of("at");
    let level = catalog.setting("wal_level")?;
    if level != "logical" {
        let message = format!("{} does not log enough: wal_level is {level}", catalog.shown);
        found.push(
            Problem::error("feed.server", message, place())
                .with_help("alter system set wal_level = logical; then restart the server"),
        );
    }
    if !catalog.may_replicate()? {
        let message = format!("the user may not read the log of {}", catalog.shown);
        found.push(
            Problem::error("feed.server", message, place())
                .with_help("run as a superuser: alter role NAME replication;"),
        );
    }
    for setting in ["max_replication_slots", "max_wal_senders"] {
        if catalog.setting(setting)? == "0" {
            let message = format!("the log of {} cannot be read: {setting} is 0", catalog.shown);
            found.push(
                Problem::error("feed.server", message, place())
                    .with_help(format!("alter system set {setting} = 10; then restart the server")),
            );
        }
    }
    Ok(())
}

/// What distinguishes a row of the table from others in the log.
fn identity(table: &SourceTable, settings: &Settings, found: &mut Vec<Problem>) {
    let place = || settings.options.place_of("table");
    let full = table.quoted();
    if table.key.is_empty() {
        let loads = settings.options.text("load").as_deref() != Some("never");
        if loads {
            found.push(crate::intakes::feed::whole::warning(&table.full(), place()));
        }
    }
    let lacks = match table.identity {
        'n' => Some("its replica identity is nothing"),
        'd' if table.key.is_empty() => Some("it has no primary key and no replica identity"),
        _ => None,
    };
    if let Some(why) = lacks {
        let message = format!("the server refuses updates and deletes of {} once it is published: {why}", table.full());
        found.push(
            Problem::error("feed.identity", message, place())
                .with_help(format!("alter table {full} replica identity full;")),
        );
    }
}

/// Every field must be a column.
fn columns(table: &SourceTable, contract: &Contract, found: &mut Vec<Problem>) {
    for field in &contract.fields {
        let name = field.path.first().cloned().unwrap_or_default();
        match table.column(&name) {
            Some(column) if !column.is_computed => {}
            Some(_) => {
                let message = format!("{}.{name} is a generated column; the log does not hold it", table.full());
                found.push(
                    Problem::error("name.unknown", message, field.place.clone())
                        .with_help("remove the field, and compute it in `columns`"),
                );
            }
            None => {
                let problem = Problem::error(
                    "name.unknown",
                    format!("{} has no column `{name}`", table.full()),
                    field.place.clone(),
                );
                let there = table.columns.iter().map(|c| c.name.as_str());
                found.push(problem.with_label("binds to nothing").with_nearest(&name, "columns", there));
            }
        }
    }
}

/// Expressions over values that may be absent.
fn apart(table: &SourceTable, settings: &Settings, found: &mut Vec<Problem>) {
    if table.identity == 'f' {
        return;
    }
    for read in &settings.computed {
        let Some(column) = table.column(&read.column).filter(|c| c.may_be_apart && !table.key.contains(&c.name)) else {
            continue;
        };
        let message = format!(
            "`{}` is computed from {} and other values; where a large value of it does not change, the log leaves it out",
            read.text, column.name
        );
        found.push(Problem::warning("feed.identity", message, read.place.clone()).with_help(format!(
            "such rows are rejected, and stop a mirror; with `alter table {} replica identity full` the log has every value",
            table.quoted()
        )));
    }
}

/// Slot and publication, and how much log is kept.
fn kept(catalog: &Catalog, settings: &Settings, table: &SourceTable, found: &mut Vec<Problem>) -> Outcome<()> {
    let name = slot::name(std::slice::from_ref(settings));
    if let Some(publication) = settings.options.text("publication") {
        let place = settings.options.place_of("publication");
        match catalog.published(&publication)? {
            None => found.push(
                Problem::error("place.missing", format!("there is no publication `{publication}`"), place)
                    .with_help(format!("create publication {publication} for table {};", table.quoted())),
            ),
            Some(tables) if !tables.contains(&table.full()) => found.push(
                Problem::error(
                    "place.missing",
                    format!("the publication `{publication}` does not include {}", table.full()),
                    place,
                )
                .with_help(format!("alter publication {publication} add table {};", table.quoted())),
            ),
            Some(_) => {}
        }
    }
    let Some(slot) = catalog.slot(&name)? else { return Ok(()) };
    let place = || settings.options.place_of("table");
    if slot.lost {
        let message = format!("{} deleted unread log: the slot {name} is lost", catalog.shown);
        found.push(Problem::error("feed.log", message, place()).with_help("its tables must be loaded again"));
        return Ok(());
    }
    let kept = catalog.log_end()?.saturating_sub(slot.restart);
    if kept > settings.options.size("log_warning") {
        let message = format!("{} keeps {} of its log for the slot {name}", catalog.shown, show_size(kept));
        found.push(
            Problem::warning("feed.log", message, place())
                .with_help("run the pipeline, or drop the slot before the server's disk is full"),
        );
    }
    Ok(())
}
