//! `[each.NAME]`: many tables of one change feed, each an event of its own, written out from a pattern and a template.
//!
//! A pipeline runs under the text that it is written out to: what the file says, and behind it one event for each table,
//! in the words in which it could have been written by hand. That text is sealed with each batch, so that finishing a
//! batch never asks the source which tables it has.

use std::collections::HashMap;
use std::ops::Range;
use std::sync::Arc;

use toml::de::{DeTable, DeValue};

use super::options::{Located, OptionSpec, ValueKind};
use super::pipeline::EventConfig;
use super::project::{ConnectionConfig, ProjectConfig};
use super::reader::TableReader;
use crate::kinds::{IntakeKind, Registry, TableShape};
use crate::names;
use crate::problem::{Moved, Place, Problem, Problems, SourceText};

/// Keys of `[each.NAME]`.
pub const EACH_OPTIONS: &[OptionSpec] = &[
    OptionSpec::required(
        "tables",
        ValueKind::Texts,
        "which tables: NAME or SCHEMA.NAME, where * stands for any letters; each becomes an event",
    )
    .with(&["except", "event"]),
    OptionSpec::optional("except", ValueKind::Texts, "which of them are left out, by name or with *").with(&["tables"]),
    OptionSpec::with_default(
        "event",
        ValueKind::Text,
        "{table}",
        "the name of each table's event; {table} and {schema} stand for those of the table",
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

    /// Whether rows of different tables, found by their keys, would meet in one table.
    fn mixes_keys(&self) -> Option<&Line> {
        let is = |key: &str, value: &str| self.lines.iter().any(|l| l.text == format!("\"{key}\" = \"{value}\""));
        let is_keyed = is("mode", "mirror") || is("mode", "upsert");
        self.lines.iter().find(|l| is_keyed && l.text.starts_with("\"table\" = ") && !l.text.contains("{table}"))
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

    /// Whether a table is meant. `schema` is left out of a pattern for the connection's own.
    pub fn takes(&self, schema: &str, table: &str, own: &str) -> bool {
        let any = |patterns: &[String]| patterns.iter().any(|p| matches(p, schema, table, own));
        any(&self.tables.value) && !any(&self.except.value)
    }
}

/// Whether a pattern names a table.
fn matches(pattern: &str, schema: &str, table: &str, own: &str) -> bool {
    match pattern.split_once('.') {
        Some((of_schema, of_table)) => fits(of_schema.as_bytes(), schema.as_bytes()) && fits_text(of_table, table),
        None => schema == own && fits_text(pattern, table),
    }
}

fn fits_text(pattern: &str, text: &str) -> bool {
    fits(pattern.as_bytes(), text.as_bytes())
}

/// Whether a text has the form of a pattern, in which `*` stands for any bytes.
fn fits(pattern: &[u8], text: &[u8]) -> bool {
    let (mut p, mut t) = (0, 0);
    // After the last star: where the pattern goes on, and where the text was then.
    let mut star: Option<(usize, usize)> = None;
    while t < text.len() {
        match pattern.get(p) {
            Some(b'*') => {
                star = Some((p + 1, t));
                p += 1;
            }
            Some(byte) if *byte == text[t] => (p, t) = (p + 1, t + 1),
            _ => match star {
                Some((after, from)) => {
                    star = Some((after, from + 1));
                    (p, t) = (after, from + 1);
                }
                None => return false,
            },
        }
    }
    pattern[p..].iter().all(|b| *b == b'*')
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
    for arrival in events.iter().flat_map(|e| &e.arrivals) {
        let Some(policy) = arrival.options.located_text("schema_change").filter(|p| p.value == "follow") else {
            continue;
        };
        problems.add(
            Problem::error("value.type", "the columns of this event are those that `fields` names", policy.place)
                .with_label("cannot follow")
                .with_help("[each.NAME] takes the columns from the table; or write hold or ignore here"),
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

/// Writes events out from groups of tables, behind the text of the file.
pub struct WriteOut<'a> {
    source: &'a Arc<SourceText>,
    text: String,
    moved: Vec<Moved>,
    /// By the name of the event, the table that has it.
    taken: HashMap<String, String>,
}

impl<'a> WriteOut<'a> {
    /// Begins with a file and the events that it names itself.
    pub fn new(source: &'a Arc<SourceText>, events: &[EventConfig]) -> Self {
        let taken = events.iter().map(|e| (e.name.clone(), format!("[event.{}]", e.name))).collect();
        Self { source, text: head(&source.text), moved: Vec::new(), taken }
    }

    /// Whether a text was written out from this very file.
    pub fn is_from(text: &str, source: &SourceText) -> bool {
        text.starts_with(&head(&source.text))
    }

    /// Adds an event for each table of a group.
    pub fn group(&mut self, group: &EachConfig, tables: &[TableShape], problems: &mut Problems) {
        for template in group.lands.iter().filter(|_| tables.len() > 1) {
            let Some(line) = template.mixes_keys() else { continue };
            let message = format!("the {} tables of each.{} would be kept in one and the same", tables.len(), group.name);
            problems.add(
                Problem::error("landing.overlap", message, Place::new(self.source, line.span.clone()))
                    .with_label("the same for all")
                    .with_help("table = \"{table}\" gives each its own; so does leaving the key out"),
            );
        }
        for table in tables {
            let full = format!("{}.{}", table.schema, table.name);
            let plain = |c: char| if c.is_ascii_alphanumeric() || c == '-' { c } else { '_' };
            let event: String = fill(&group.event.value, table, |t| t.to_string()).chars().map(plain).collect();
            if !names::is_valid(&event) {
                let message = format!("the table {full} would give an event `{event}`, which is no name");
                problems.add(
                    Problem::error("name.form", message, group.event.place.clone())
                        .with_help("event = \"t_{table}\" puts letters before it, 63 at most"),
                );
                continue;
            }
            if let Some(other) = self.taken.insert(event.clone(), full.clone()) {
                let message = format!("{other} and the table {full} would both be the event `{event}`");
                problems.add(
                    Problem::error("name.taken", message, group.event.place.clone())
                        .with_help("event = \"{schema}_{table}\" tells them apart"),
                );
                continue;
            }
            self.event(group, table, &event);
        }
    }

    fn event(&mut self, group: &EachConfig, table: &TableShape, event: &str) {
        let full = format!("{}.{}", table.schema, table.name);
        let of: Arc<str> = full.as_str().into();
        let here = &group.place.span;
        self.line(&of, here, &format!("\n# each.{}\n[event.{event}]", group.name));
        if !table.key.is_empty() {
            let key: Vec<String> = table.key.iter().map(|k| quoted(k)).collect();
            self.line(&of, here, &format!("key = [{}]", key.join(", ")));
        }
        let fields: Vec<String> = table.columns.iter().map(|c| c.definition(&table.key)).collect();
        self.line(&of, here, &format!("fields = {}", quoted(&fields.join(", "))));
        self.line(&of, here, &format!("[event.{event}.arrives]\ntable = {}", quoted(&full)));
        // In texts of the template the names stand between quotes already.
        let inner = |name: &str| {
            let quoted = quoted(name);
            quoted[1..quoted.len() - 1].to_string()
        };
        for line in &group.arrives {
            self.line(&of, &line.span, &fill(&line.text, table, inner));
        }
        for Template { name, place, lines } in &group.lands {
            self.line(&of, &place.span, &format!("[event.{event}.lands.{name}]"));
            for line in lines {
                self.line(&of, &line.span, &fill(&line.text, table, inner));
            }
        }
    }

    /// Writes a line, or some, that come from one place.
    fn line(&mut self, of: &Arc<str>, from: &Range<usize>, text: &str) {
        let begin = self.text.len();
        self.text.push_str(text);
        self.text.push('\n');
        self.moved.push(Moved { to: begin..self.text.len(), from: from.clone(), of: Arc::clone(of) });
    }

    /// The text that runs.
    pub fn finish(self) -> Arc<SourceText> {
        SourceText::written_out(Arc::clone(self.source), self.text, self.moved)
    }
}

/// The text of a file with what parts it from the events behind it.
fn head(text: &str) -> String {
    format!("{text}\n# written out from the tables of the source\n")
}

fn fill(template: &str, table: &TableShape, spell: impl Fn(&str) -> String) -> String {
    template.replace("{table}", &spell(&table.name)).replace("{schema}", &spell(&table.schema))
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::kinds::ColumnShape;
    use rstest::rstest;

    #[rstest]
    #[case("permit", "office", "permit", true)]
    #[case("permit", "public", "permit", false)]
    #[case("public.permit", "public", "permit", true)]
    #[case("*", "office", "permit", true)]
    #[case("*", "public", "permit", false)]
    #[case("*.*", "public", "permit", true)]
    #[case("office.toll_*", "office", "toll_due", true)]
    #[case("office.toll_*", "office", "toll", false)]
    #[case("*.*_old", "office", "old_permit_old", true)]
    #[case("*.a*b*c", "office", "a_b_b_c", true)]
    #[case("*.a*b*c", "office", "a_c_b", false)]
    fn patterns_name_tables(#[case] pattern: &str, #[case] schema: &str, #[case] table: &str, #[case] takes: bool) {
        assert_eq!(matches(pattern, schema, table, "office"), takes);
    }

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
        let mut reader = TableReader { source: &source, problems: &mut problems };
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
    fn events_of_one_name_are_told() {
        let (source, groups) = groups(FILE);
        let mut problems = Problems::new();
        let mut out = WriteOut::new(&source, &[]);
        out.group(&groups[0], &[shape("a b"), shape("a_b"), shape("7")], &mut problems);
        let found: Vec<&str> = problems.iter().map(|p| p.code).collect();
        assert_eq!(found, ["name.taken", "name.form"]);
    }
}
