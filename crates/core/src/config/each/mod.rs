//! `[each.NAME]`: many tables of one change feed, each an event of its own, written out from a pattern and a template.
//!
//! A pipeline runs under the text that it is written out to: what the file says, and behind it one event for each table,
//! in the words in which it could have been written by hand. That text is sealed with each batch, so that finishing a
//! batch never asks the source which tables it has.

mod pattern;
mod write_out;

use std::ops::Range;
use std::sync::Arc;

use toml::de::{DeTable, DeValue};

use super::options::{Located, OptionSpec, ValueKind};
use super::pipeline::{ArrivalConfig, EventConfig};
use super::project::{ConnectionConfig, ProjectConfig};
use super::reader::TableReader;
use crate::kinds::{IntakeKind, Registry, TableShape};
use crate::problem::{Place, Problem, Problems};

pub(crate) use pattern::fits;
use pattern::matches;
pub use write_out::WriteOut;

/// Keys of `[each.NAME]`.
pub const EACH_OPTIONS: &[OptionSpec] = &[
    OptionSpec::required(
        "tables",
        ValueKind::Texts,
        "the tables: NAME or SCHEMA.NAME, where * matches any characters; each table becomes an event",
    )
    .with(&["except", "event"]),
    OptionSpec::optional("except", ValueKind::Texts, "which of them are left out, by name or with *").with(&["tables"]),
    OptionSpec::with_default(
        "event",
        ValueKind::Text,
        "{table}",
        "the event name of each table; {table} and {schema} are replaced by those of the table",
    )
    .with(&["tables"]),
    OptionSpec::required(
        "arrives",
        ValueKind::Tables,
        "where they arrive: [each.NAME.arrives] with the keys of a change feed, all but `table`",
    ),
    OptionSpec::required(
        "lands",
        ValueKind::Tables,
        "where each lands: [each.NAME.lands.LANDING] with {table} and {schema} in any text; in databases `table` is \
         \"{table}\" where it is not written",
    ),
];

/// One `[each.NAME]`.
#[derive(Clone)]
pub struct EachConfig {
    /// Its name.
    pub name: String,
    /// Where its name stands.
    pub place: Place,
    /// The connection of the change feed, where its name binds.
    pub connection: Option<ConnectionConfig>,
    /// The kind that reads it.
    pub kind: Option<Arc<dyn IntakeKind>>,
    /// Which tables.
    pub tables: Located<Vec<String>>,
    /// Which of them not.
    pub except: Located<Vec<String>>,
    event: Located<String>,
    arrives: Vec<Line>,
    lands: Vec<Template>,
}

/// The template of a landing.
#[derive(Clone)]
struct Template {
    name: String,
    place: Place,
    lines: Vec<Line>,
}

impl Template {
    fn read(name: String, place: Place, table: &DeTable<'_>, project: &ProjectConfig, registry: &Registry) -> Self {
        let mut lines = lines(table);
        let text = |key: &str| table.get(key).and_then(|v| v.get_ref().as_str());
        let connection = text("at").and_then(|at| project.connection(at));
        let kind = connection.and_then(|c| registry.landing(&c.scheme));
        let is_of_tables = kind.is_some_and(|k| k.options().iter().any(|o| o.key == "table"));
        if is_of_tables && !table.contains_key("table") {
            lines.push(Line { text: "table = \"{table}\"".into(), span: place.span.clone() });
        }
        Self { name, place, lines }
    }

    /// What finds rows by their keys: the line that says so.
    fn keyed(&self) -> Option<&Line> {
        self.lines.iter().find(|l| ["\"mode\" = \"mirror\"", "\"mode\" = \"upsert\""].contains(&l.text.as_str()))
    }

    /// The line of a key.
    fn line(&self, key: &str) -> Option<&Line> {
        let begin = format!("{} = ", quoted(key));
        self.lines.iter().find(|l| l.text.starts_with(&begin))
    }

    /// Whether rows of different tables, found by their keys, would meet in one table.
    fn mixes_keys(&self) -> Option<&Line> {
        self.keyed().and(self.line("table")).filter(|l| !l.text.contains("{table}"))
    }

    /// Whether rows of a table would be found by a key that it does not have.
    fn lacks_key(&self, table: &TableShape) -> Option<&Line> {
        self.keyed().filter(|_| table.key.is_empty() && self.line("key").is_none())
    }
}

/// One key with its value, as it is written out, and where it was written first.
#[derive(Clone)]
struct Line {
    text: String,
    span: Range<usize>,
}

impl EachConfig {
    /// Reads all `[each.NAME]` of a file.
    pub(super) fn read_all(
        reader: &mut TableReader<'_>,
        top: &DeTable<'_>,
        project: &ProjectConfig,
        registry: &Registry,
    ) -> Vec<Self> {
        let mut found = Vec::new();
        for (name, place, body, whole) in reader.named_tables(top, "each", "group of tables") {
            let options = reader.options(body, &whole, &[EACH_OPTIONS], &format!("each `{name}`"));
            let located = |key| Located { value: options.texts(key), place: options.place_of(key) };
            let event = Located { value: options.text("event").unwrap_or_default(), place: options.place_of("event") };
            let arrives = body.get("arrives").and_then(|v| v.get_ref().as_table());
            let connection = arrives.and_then(|table| connection(reader, table, project));
            let kind = connection.as_ref().and_then(|c| registry.intake(&c.scheme)).filter(|k| k.is_feed());
            if let (Some(connection), None, Some(table)) = (&connection, &kind, arrives) {
                no_feed(reader, connection, table);
            }
            if let Some((key, _)) = arrives.and_then(|t| t.get_key_value("table")) {
                let problem =
                    Problem::error("key.unknown", "the tables stand in `tables` here", reader.place(key.span()));
                reader.problems.add(problem.with_help("take `table` out; a table of its own is an [event.NAME]"));
            }
            let lands = reader.named_tables(body, "lands", "landing");
            found.push(Self {
                tables: located("tables"),
                except: located("except"),
                event,
                connection,
                kind,
                arrives: arrives.map_or_else(Vec::new, lines),
                lands: lands
                    .into_iter()
                    .map(|(name, place, table, _)| Template::read(name, place, table, project, registry))
                    .collect(),
                place,
                name,
            });
        }
        found
    }

    /// Whether a table fits a pattern.
    pub fn one(pattern: &str) -> impl Fn(&str, &str, &str) -> bool + '_ {
        move |schema, table, own| matches(pattern, schema, table, own)
    }

    /// Whether it takes up what changes at its source while it runs.
    pub fn follows(&self) -> bool {
        self.arrives.iter().any(|line| line.text == "\"schema_change\" = \"follow\"")
    }

    /// Whether a table is meant. `schema` is left out of a pattern for the connection's own.
    pub fn takes(&self, schema: &str, table: &str, own: &str) -> bool {
        let any = |patterns: &[String]| patterns.iter().any(|p| matches(p, schema, table, own));
        any(&self.tables.value) && !any(&self.except.value)
    }
}

fn connection(reader: &mut TableReader<'_>, table: &DeTable<'_>, project: &ProjectConfig) -> Option<ConnectionConfig> {
    let Some(value) = table.get("at") else {
        let place = reader.place(table.values().next().map_or(0..0, |v| v.span()));
        reader.problems.add(
            Problem::error("key.missing", "the arrival needs the key `at`", place)
                .with_help("the connection where the tables are"),
        );
        return None;
    };
    let name = value.get_ref().as_str()?;
    if let Some(connection) = project.connection(name) {
        return Some(connection.clone());
    }
    let problem = Problem::error(
        "name.unknown",
        format!("there is no connection `{name}` in sluice.toml"),
        reader.place(value.span()),
    );
    let known = project.connections.iter().map(|c| c.name.as_str());
    reader.problems.add(problem.with_label("binds to nothing").with_nearest(name, "connections", known));
    None
}

fn no_feed(reader: &mut TableReader<'_>, connection: &ConnectionConfig, table: &DeTable<'_>) {
    let place = reader.place(table.get("at").map_or(0..0, toml::Spanned::span));
    reader.problems.add(
        Problem::error(
            "connection.kind",
            format!("`{}`, a `{}:` connection, has no tables that can be followed", connection.name, connection.scheme),
            place,
        )
        .with_help("choose a connection to a database whose log is read: `sluice manual intakes` lists the kinds"),
    );
}

fn lines(table: &DeTable<'_>) -> Vec<Line> {
    let mut entries: Vec<_> = table.iter().collect();
    entries.sort_by_key(|(key, _)| key.span().start);
    let line = |(key, value): (&toml::Spanned<std::borrow::Cow<'_, str>>, &toml::Spanned<DeValue<'_>>)| Line {
        text: format!("{} = {}", quoted(key.get_ref()), spelled(value.get_ref())),
        span: key.span().start..value.span().end,
    };
    entries.into_iter().map(line).collect()
}

/// Events that are written by hand and want to follow what they cannot: their columns are those of the file.
pub fn refuse_following(events: &[EventConfig], problems: &mut Problems) {
    let is_feed = |a: &&ArrivalConfig| a.kind.as_ref().is_some_and(|k| k.is_feed());
    for arrival in events.iter().flat_map(|e| &e.arrivals).filter(is_feed) {
        let Some(policy) = arrival.options.located_text("schema_change").filter(|p| p.value == "follow") else {
            continue;
        };
        problems.add(
            Problem::error("value.type", "the columns of this event are those that `fields` names", policy.place)
                .with_label("cannot follow")
                .with_help("[each.NAME] takes the columns from the table; or write stop or ignore here"),
        );
    }
}

/// A value on one line of TOML.
fn spelled(value: &DeValue<'_>) -> String {
    match value {
        DeValue::String(text) => quoted(text),
        DeValue::Integer(number) => number.to_string(),
        DeValue::Float(number) => number.to_string(),
        DeValue::Boolean(truth) => truth.to_string(),
        DeValue::Datetime(time) => time.to_string(),
        DeValue::Array(list) => {
            format!("[{}]", list.iter().map(|v| spelled(v.get_ref())).collect::<Vec<_>>().join(", "))
        }
        DeValue::Table(table) => {
            format!("{{ {} }}", lines(table).into_iter().map(|l| l.text).collect::<Vec<_>>().join(", "))
        }
    }
}

/// A text as TOML spells it; JSON's escapes are among TOML's.
fn quoted(text: &str) -> String {
    let json = serde_json::to_string(text).unwrap_or_default();
    json.replace('\u{7f}', "\\u007f")
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::kinds::ColumnShape;
    use crate::problem::SourceText;

    const FILE: &str = "\
pipeline = \"office\"
[each.office]
tables = \"office.*\"
[each.office.arrives]
at = \"toll-office\"
load_rows = 1_000
[each.office.lands.copy]
at = \"warehouse\"
table = \"{schema}_{table}\"
key = [\"a\", \"b\"]
colums = \"*\"
";

    fn shape(name: &str) -> TableShape {
        let column = |name: &str, ty: &str| ColumnShape { name: name.into(), ty: ty.into(), format: None };
        TableShape {
            schema: "office".into(),
            name: name.into(),
            columns: vec![column("id", "integer"), column("of \"it\"", "text")],
            key: vec!["id".into()],
        }
    }

    fn groups(text: &str) -> (Arc<SourceText>, Vec<EachConfig>) {
        let source = SourceText::new("office.toml", text);
        let mut problems = Problems::new();
        let table = super::super::reader::parse_toml(&source, &mut problems);
        let project = ProjectConfig::read(&SourceText::new("sluice.toml", ""), &Registry::default(), &mut problems);
        let mut reader = TableReader { source: &source, problems: &mut problems, functions: Arc::default() };
        let groups = EachConfig::read_all(&mut reader, table.get_ref(), &project, &Registry::default());
        drop(table);
        (source, groups)
    }

    #[test]
    fn each_table_becomes_an_event_as_if_written_by_hand() {
        let (source, groups) = groups(FILE);
        let mut problems = Problems::new();
        let mut out = WriteOut::new(&source, &[]);
        out.group(&groups[0], &[shape("permit"), shape("toll \"due\"")], &mut problems);
        let text = out.finish();
        assert!(!problems.has_errors());
        assert!(WriteOut::is_from(&text.text, &source));
        let shorter = SourceText::new("office.toml", &FILE[..FILE.len() - 3]);
        assert!(!WriteOut::is_from(&text.text, &shorter));
        let permit = text.text.find("[event.permit]").unwrap();
        let toll = text.text.find("[event.toll__due_]").unwrap();
        assert_eq!(
            &text.text[permit..toll - "\n# each.office\n".len()],
            "[event.permit]\nkey = [\"id\"]\n\
             fields = \"\\\"id\\\" integer not null, \\\"of \\\"\\\"it\\\"\\\"\\\" text\"\n\
             [event.permit.arrives]\ntable = \"office.permit\"\n\"at\" = \"toll-office\"\n\"load_rows\" = 1000\n\
             [event.permit.lands.copy]\n\"at\" = \"warehouse\"\n\"table\" = \"office_permit\"\n\
             \"key\" = [\"a\", \"b\"]\n\"colums\" = \"*\"\n"
        );
        assert!(text.text[toll..].contains("\"table\" = \"office_toll \\\"due\\\"\""));
        let (again, errors) = DeTable::parse_recoverable(&text.text);
        assert_eq!(errors, []);
        assert_eq!(again.get_ref()["event"].get_ref().as_table().unwrap().len(), 2);
    }

    #[test]
    fn a_mistake_in_the_template_is_shown_where_it_was_written() {
        let (source, groups) = groups(FILE);
        let mut out = WriteOut::new(&source, &[]);
        out.group(&groups[0], &[shape("permit")], &mut Problems::new());
        let text = out.finish();
        let at = text.text.rfind("\"colums\"").unwrap();
        let shown = Place::new(&text, at..at + 8).shown();
        assert_eq!(&shown.source.text[shown.span.clone()], "colums = \"*\"");
        assert_eq!(shown.source.line_column(shown.span.start), (11, 1));
        let own = Place::new(&text, 0..8).shown();
        assert_eq!((own.source.text.len(), own.span), (FILE.len(), 0..8));
        let fields = text.text.rfind("fields").unwrap();
        let shown = Place::new(&text, fields..fields + 6).shown();
        assert_eq!(&shown.source.text[shown.span], "office");
    }

    #[test]
    fn names_of_tables_that_begin_with_no_letter_get_one() {
        let (source, groups) = groups(FILE);
        let mut problems = Problems::new();
        let mut out = WriteOut::new(&source, &[]);
        out.group(&groups[0], &[shape("_t_old"), shape("7"), shape("ä")], &mut problems);
        let text = out.finish();
        assert!(!problems.has_errors());
        for event in ["[event.t_t_old]", "[event.t_7]", "[event.t_]"] {
            assert!(text.text.contains(event), "{}", text.text);
        }
        assert!(text.text.contains("\"table\" = \"office__t_old\""));
    }

    #[test]
    fn events_of_one_name_are_reported() {
        let (source, groups) = groups(FILE);
        let mut problems = Problems::new();
        let mut out = WriteOut::new(&source, &[]);
        out.group(&groups[0], &[shape("a b"), shape("a_b"), shape(&"x".repeat(64))], &mut problems);
        let found: Vec<&str> = problems.iter().map(|p| p.code).collect();
        assert_eq!(found, ["name.taken", "name.form"]);
    }
}
