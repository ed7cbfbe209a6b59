//! What a server lacks before its tables can be read, and how to fix it.

use sluice_core::failure::{Failure, FailureKind, Outcome};
use sluice_core::kinds::Settings;
use sluice_core::names;
use sluice_core::problem::Problem;

use super::catalog::{MariadbCatalog, MariadbTable};
use super::characters::Characters;
use crate::databases::mariadb::quote;
use crate::intakes::feed::identity;

pub(super) fn check(settings: &Settings) -> Vec<Problem> {
    let away = |failure: Failure| {
        let problem = Problem::error("place.missing", failure.message, settings.options.place_of("at"));
        match failure.help {
            Some(help) => problem.with_help(help),
            None => problem,
        }
    };
    let mut catalog = match MariadbCatalog::open(settings) {
        Ok(catalog) => catalog,
        Err(failure) => return vec![away(failure)],
    };
    let mut found = Vec::new();
    if let Err(failure) = all(&mut catalog, settings, &mut found) {
        found.push(away(failure));
    }
    found
}

fn all(catalog: &mut MariadbCatalog, settings: &Settings, found: &mut Vec<Problem>) -> Outcome<()> {
    let place = || settings.options.place_of("at");
    for (setting, wanted, how) in [
        ("log_bin", "ON", "start the server with log_bin"),
        ("binlog_format", "ROW", "set global binlog_format = row"),
        ("binlog_row_image", "FULL", "set global binlog_row_image = full"),
        ("binlog_row_metadata", "FULL", "set global binlog_row_metadata = full"),
    ] {
        let value = catalog.setting(setting)?;
        if !value.eq_ignore_ascii_case(wanted) {
            let message = format!("{} does not log enough: {setting} is {value}", catalog.shown);
            let problem = match setting {
                // Names can be guessed from the table as it is.
                "binlog_row_metadata" => Problem::warning("feed.server", message, place()),
                _ => Problem::error("feed.server", message, place()),
            };
            found.push(problem.with_help(format!("{how}; it applies to sessions that begin after it")));
        }
    }
    if catalog.setting("log_bin_compress")?.eq_ignore_ascii_case("on") {
        let message = format!("{} compresses its log; Sluice cannot read compressed events", catalog.shown);
        found.push(Problem::error("feed.server", message, place()).with_help("set global log_bin_compress = off"));
    }
    if let Err(failure) = catalog.log_end() {
        let message = format!("the user may not read the log of {}: {}", catalog.shown, failure.message);
        found.push(
            Problem::error("feed.server", message, place())
                .with_help("grant replication slave, binlog monitor on *.* to USER"),
        );
    }
    table(catalog, settings, found)
}

fn table(catalog: &mut MariadbCatalog, settings: &Settings, found: &mut Vec<Problem>) -> Outcome<()> {
    let name = settings.options.text("table").unwrap_or_default();
    let Some(table) = catalog.table(&name)? else {
        found.push(no_table(catalog, settings, &name)?);
        return Ok(());
    };
    let place = || settings.options.place_of("table");
    if table.key.is_empty() && settings.options.text("load").as_deref() != Some("never") {
        found.push(crate::intakes::feed::whole::warning(&table.full(), place()));
    }
    found.extend(identity::problems(&table.full(), &table.key, settings));
    if let Some(failure) = silent_changes(catalog, &table)? {
        let problem = Problem::error("feed.identity", failure.message, place());
        found.push(problem.with_help(failure.help.unwrap_or_default()));
    }
    let Some(contract) = &settings.contract else { return Ok(()) };
    for field in &contract.fields {
        let name = field.path.first().cloned().unwrap_or_default();
        let Some(column) = table.column(&name) else {
            let message = format!("{} has no column `{name}`", table.full());
            let there = table.columns.iter().map(|c| c.name.as_str());
            found.push(
                Problem::error("name.unknown", message, field.place.clone())
                    .with_label("binds to nothing")
                    .with_nearest(&name, "columns", there),
            );
            continue;
        };
        if let Some(set) = column.characters.as_ref().filter(|set| !Characters::of(set).is_read()) {
            let message = format!("the log has {name} in the character set {set}; Sluice reads only ASCII of it");
            found.push(
                Problem::warning("feed.server", message, field.place.clone())
                    .with_help(format!("alter table {} modify {name} … character set utf8mb4", table.quoted())),
            );
        }
    }
    Ok(())
}

/// Why a table cannot be followed: the server changes its rows by foreign keys, which the log does not contain.
pub(super) fn silent_changes(catalog: &mut MariadbCatalog, table: &MariadbTable) -> Outcome<Option<Failure>> {
    let Some((key, rules, parent)) = catalog.cascades(&table.database, &table.name)?.into_iter().next() else {
        return Ok(None);
    };
    let (full, shown) = (names::shown(&table.full()), names::shown(&key));
    let message = format!(
        "rows of {full} change with {} by the foreign key {shown} ({rules}), and the log does not report it",
        names::shown(&parent)
    );
    let remedy = format!(
        "alter table {} drop foreign key {}, and add it again without such a rule; or leave the table out: except = \"{full}\"",
        table.quoted(),
        quote(&key)
    );
    Ok(Some(Failure::new(FailureKind::Configuration, message).with_help(remedy)))
}

/// The problem of a name that binds to no table.
pub(super) fn no_table(catalog: &mut MariadbCatalog, settings: &Settings, name: &str) -> Outcome<Problem> {
    let there = catalog.tables()?;
    let message = format!("there is no table `{name}` at {}", catalog.shown);
    let problem = Problem::error("place.missing", message, settings.options.place_of("table"));
    Ok(match names::remedy(name, "tables", there.iter().map(String::as_str)) {
        Some(help) => problem.with_label("binds to nothing").with_help(help),
        None => problem.with_help("the database has no table that the user may see"),
    })
}
