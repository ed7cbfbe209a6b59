//! The manual: every kind, option, type, function, reason and code, gathered from the tables in the code.
//!
//! The terminal, the JSON output and the pages under docs/reference all show these entries.

mod man;
mod pages;
mod search;

use sluice_connect::conversions::{TypeInFormat, types_in_formats};
use sluice_connect::landings::reference::{TypeInStore, types_in_stores};
use sluice_core::config::{OptionSpec, ValueKind, notice, pipeline, project};
use sluice_core::context::{CHANGE_COLUMNS, COLUMNS, ContextColumn, FILE_COLUMNS};
use sluice_core::expr::own::{FUNCTION_OPTIONS, OwnFunction};
use sluice_core::expr::secrets::SECRET_OPTIONS;
use sluice_core::expr::{DIFFERENCES, GROUPS, OPERATORS};
use sluice_core::limit::LIMITS;
use sluice_core::problem::CODES;
use sluice_core::reject::REASONS;
use sluice_core::state::AGGREGATES;
use sluice_core::types::TYPES;

use crate::exit;
use crate::project::Project;
use crate::watch::metrics::METRICS;

pub(crate) use man::man_pages;
pub(crate) use pages::{pages, schemas};
pub(crate) use search::{SearchFound, search};

/// The chapters, in the order of the manual: name and what it holds.
pub(crate) const CHAPTERS: &[(&str, &str)] = &[
    ("files", "the keys of sluice.toml and of pipeline files"),
    ("kinds", "intakes and landings: guarantees and options of each"),
    ("types", "the types of contracts and expressions"),
    ("origin", "columns beside the fields of an event that say where it comes from"),
    ("tables", "how types are stored in the tables of databases: of a new column, and which existing columns fit"),
    ("formats", "what the types of formats become where they are read, and what columns become in files"),
    ("functions", "the functions of columns and conditions"),
    ("differences", "where expressions differ from PostgreSQL, and why"),
    ("rejects", "why an event is rejected"),
    ("problems", "the problems that `check` finds in files"),
    ("metrics", "the metrics that running pipelines serve at the address `watch` of [project]"),
    ("exits", "exit codes"),
    ("words", "our words, and the words of the trade for the same things"),
];

/// One entry of the manual.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(crate) struct Entry {
    /// Its chapter, one of [`CHAPTERS`].
    pub chapter: &'static str,
    /// What stands before it, such as the table of a key: `[event.NAME]`.
    pub context: String,
    /// The word that is looked up.
    pub name: String,
    /// How it is written.
    pub form: String,
    /// What it is.
    pub about: String,
    /// More lines.
    pub notes: Vec<String>,
}

/// All entries, in the order of the chapters.
pub(crate) fn entries() -> Vec<Entry> {
    let mut all = Vec::new();
    option_tables(&mut all);
    kinds(&mut all);
    let entry = |chapter, name: &str, about: &str| Entry {
        chapter,
        context: String::new(),
        name: name.into(),
        form: name.into(),
        about: about.into(),
        notes: Vec::new(),
    };
    all.extend(TYPES.iter().chain(LIMITS).map(|(name, about)| entry("types", name, about)));
    for (from, columns) in [("files", FILE_COLUMNS), ("topics", COLUMNS), ("change feeds", CHANGE_COLUMNS)] {
        let one = |c: &ContextColumn| {
            let form = format!("{} {}", c.name, c.ty);
            Entry { form, context: format!("events from {from}"), ..entry("origin", c.name, c.about) }
        };
        all.extend(columns.iter().map(one));
    }
    all.extend(types_in_stores().into_iter().map(type_in_store));
    all.extend(types_in_formats().into_iter().map(type_in_format));
    for (group, functions) in GROUPS {
        all.extend(functions.iter().map(|f| Entry {
            form: f.signature.into(),
            context: (*group).into(),
            notes: vec![format!("{} gives {}", f.example, f.gives), f.nulls.into()],
            ..entry("functions", f.name, f.about)
        }));
    }
    all.extend(OPERATORS.iter().map(|o| Entry {
        context: search::OPERATORS.into(),
        notes: vec![format!("{} gives {}", o.example, o.gives)],
        ..entry("functions", o.form, o.about)
    }));
    all.extend(AGGREGATES.iter().map(|a| Entry {
        form: a.form.into(),
        context: "aggregate functions of windows".into(),
        notes: vec!["also with a condition: filter (where …)".into()],
        ..entry("functions", a.name, a.help)
    }));
    all.extend(DIFFERENCES.iter().map(|(name, about)| entry("differences", name, about)));
    all.extend(REASONS.iter().map(|(name, about)| entry("rejects", name, about)));
    all.extend(CODES.iter().map(|(name, about)| entry("problems", name, about)));
    all.extend(METRICS.iter().map(|metric| {
        let mut found = entry("metrics", &metric.full_name(), metric.about);
        found.form = format!("{} ({} by {})", found.name, metric.kind_word(), metric.labels);
        found
    }));
    all.extend(exit::CODES.iter().map(|(code, about)| entry("exits", &code.to_string(), about)));
    all.extend(glossary().map(|[word, meaning, others]| Entry {
        notes: vec![format!("also known as: {others}")],
        ..entry("words", word, meaning)
    }));
    all
}

/// The functions of a project.
pub(crate) fn own_functions(project: &Project) -> Vec<Entry> {
    let entry = |function: &OwnFunction| Entry {
        chapter: "functions",
        context: "functions of this project".into(),
        name: function.name.clone(),
        form: function.signature(),
        about: function.about.clone(),
        notes: Vec::new(),
    };
    project.config.functions.all().map(entry).collect()
}

/// The rows of docs/glossary.md: a word, its meaning, and the trade's other words for it.
fn glossary() -> impl Iterator<Item = [&'static str; 3]> {
    let rows = include_str!("../../../../docs/glossary.md").lines().filter(|line| line.starts_with("| "));
    let cells =
        |line: &'static str| line.trim_matches('|').split(" | ").map(str::trim).collect::<Vec<_>>().try_into().ok();
    // The header row and the line below it.
    rows.filter_map(cells).skip(1).filter(|[word, ..]: &[&str; 3]| !word.starts_with("--"))
}

fn type_in_format(one: TypeInFormat) -> Entry {
    let TypeInFormat { format, from, to, is_written, remark } = one;
    let form = match is_written {
        true => format!("{from} is written as {to}"),
        false => format!("{from} is read as {to}"),
    };
    let context = if is_written { format!("into {format}") } else { format!("from {format}") };
    let about = if remark.is_empty() { "every value" } else { remark };
    Entry { chapter: "formats", context, name: from, form, about: about.into(), notes: Vec::new() }
}

fn type_in_store(one: TypeInStore) -> Entry {
    let mut notes = Vec::new();
    if !one.whole.is_empty() {
        notes.push(format!("lands whole in: {}", one.whole.join(", ")));
    }
    notes.extend(one.refuse.iter().map(|(column, why)| format!("in {column}, as rejects where need be: {why}")));
    notes.extend(one.lose.iter().map(|(column, how)| format!("never in {column}: {how}")));
    Entry {
        chapter: "tables",
        context: one.kind.into(),
        form: format!("{} in {} is {}", one.ours, one.kind, one.becomes),
        name: one.ours,
        about: one.remark.into(),
        notes,
    }
}

fn option_tables(all: &mut Vec<Entry>) {
    options(all, "files", "sluice.toml", project::FILE_OPTIONS);
    options(all, "files", "[connection.NAME]", project::CONNECTION_OPTIONS);
    options(all, "files", "[secret.NAME]", SECRET_OPTIONS);
    options(all, "files", "[function.NAME]", FUNCTION_OPTIONS);
    options(all, "files", "[notice.NAME]", notice::NOTICE_OPTIONS);
    options(all, "files", "[recipient.NAME]", notice::RECIPIENT_OPTIONS);
    options(all, "files", "pipelines/NAME.toml", pipeline::FILE_OPTIONS);
    options(all, "files", "[event.NAME]", pipeline::EVENT_OPTIONS);
    options(all, "files", "[each.NAME]", sluice_core::config::each::EACH_OPTIONS);
    options(all, "files", "[event.NAME.arrives]", pipeline::ARRIVAL_OPTIONS);
    options(all, "files", "[event.NAME.arrives]", sluice_core::formats::OPTIONS);
    options(all, "files", "[event.NAME.lands.LANDING]", pipeline::LANDING_OPTIONS);
    options(all, "files", "a shape for emit: [field]", crate::emit::FIELD_OPTIONS);
}

fn options(all: &mut Vec<Entry>, chapter: &'static str, context: &str, specs: &'static [OptionSpec]) {
    for spec in specs {
        let mut notes = Vec::new();
        match spec.default {
            Some(default) => notes.push(format!("default: {default}")),
            None if spec.required => notes.push("needed".into()),
            None => {}
        }
        if !spec.goes_with.is_empty() {
            notes.push(format!("goes with: {}", spec.goes_with.join(", ")));
        }
        all.push(Entry {
            chapter,
            context: context.into(),
            name: spec.key.into(),
            form: format!("{} = {}", spec.key, spec.value.describe()),
            about: spec.help.into(),
            notes,
        });
    }
    for spec in specs {
        if let ValueKind::Table(inner) = spec.value {
            options(all, chapter, &format!("{context} {}", spec.key), inner);
        }
    }
}

fn kinds(all: &mut Vec<Entry>) {
    let registry = sluice_connect::registry();
    let kind = |name: &str, what: &str, scheme: &str, about: &str, notes: Vec<String>| Entry {
        chapter: "kinds",
        context: what.into(),
        name: name.into(),
        form: format!("{what} {name}, for connections with url = \"{scheme}:…\""),
        about: about.into(),
        notes,
    };
    for connection in registry.connections() {
        let entry = kind(connection.scheme, "connection", connection.scheme, connection.about, Vec::new());
        all.push(Entry { form: format!("connection with url = \"{}:…\"", connection.scheme), ..entry });
        options(all, "kinds", &format!("[connection.NAME] with url = \"{}:…\"", connection.scheme), connection.options);
    }
    for intake in registry.intakes() {
        all.push(kind(intake.name(), "intake", intake.scheme(), intake.about(), Vec::new()));
        options(all, "kinds", &format!("[event.NAME.arrives] of intake {}", intake.name()), intake.options());
    }
    for landing in registry.landings() {
        let guarantee = vec![format!("guarantee: {}", landing.guarantee())];
        all.push(kind(landing.name(), "landing", landing.scheme(), landing.about(), guarantee));
        options(all, "kinds", &format!("[event.NAME.lands.LANDING] of landing {}", landing.name()), landing.options());
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn every_chapter_has_entries_and_every_entry_a_chapter() {
        let all = entries();
        for (chapter, _) in CHAPTERS {
            assert!(all.iter().any(|e| e.chapter == *chapter), "{chapter} is empty");
        }
        assert!(all.iter().all(|e| CHAPTERS.iter().any(|(c, _)| *c == e.chapter)));
        assert!(all.iter().all(|e| !e.about.is_empty() && !e.name.is_empty()));
    }

    #[test]
    fn nested_keys_are_there() {
        let all = entries();
        let every = all.iter().find(|e| e.name == "every").unwrap();
        assert_eq!(every.context, "pipelines/NAME.toml batch");
        assert!(every.notes.contains(&"default: 10s".to_string()));
    }
}
