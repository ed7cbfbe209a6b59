//! `pipelines/*.toml`: one pipeline each, with its events, where they arrive and where they land.

use std::sync::Arc;
use std::time::Duration;

use toml::de::{DeTable, DeValue};

use super::EmbeddedText;
use super::each::EachConfig;
use super::options::{Located, OptionSpec, Options, ValueKind};
use super::project::{ConnectionConfig, ProjectConfig};
use super::reader::{TableReader, parse_toml};
use crate::kinds::{IntakeKind, LandingKind, Registry};
use crate::names;
use crate::problem::{Place, Problem, Problems, SourceText};

/// Keys of a pipeline file's top level.
pub const FILE_OPTIONS: &[OptionSpec] = &[
    OptionSpec::required("pipeline", ValueKind::Name, "the pipeline's name"),
    OptionSpec::optional("about", ValueKind::Text, "what it is for, in one line"),
    OptionSpec::optional("batch", ValueKind::Table(BATCH_OPTIONS), "when a batch is full"),
    OptionSpec::optional("rejects", ValueKind::Table(REJECT_OPTIONS), "how many rejects stop the run"),
    OptionSpec::optional("event", ValueKind::Tables, "the events, by name: [event.NAME]"),
    OptionSpec::optional("each", ValueKind::Tables, "tables of change feeds, many at once: [each.NAME]"),
];

/// Keys of `batch`: whichever is reached first closes the batch.
pub const BATCH_OPTIONS: &[OptionSpec] = &[
    OptionSpec::with_default(
        "rows",
        ValueKind::Integer { min: 1, max: 100_000_000 },
        "1_000_000",
        "a batch holds at most this many events",
    )
    .with(&["bytes", "every"]),
    OptionSpec::with_default("bytes", ValueKind::Size, "256MiB", "a batch holds at most this many bytes as read")
        .with(&["rows", "every"]),
    OptionSpec::with_default("every", ValueKind::Duration, "10s", "a batch is closed at the latest after this time")
        .with(&["rows", "bytes"]),
    OptionSpec::with_default(
        "transactions",
        ValueKind::Choice(&["split", "whole"]),
        "split",
        "change feeds: whether a transaction that alone reaches a limit is split over batches; a smaller one never is",
    )
    .with(&["rows", "bytes"]),
];

/// Keys of `rejects`.
pub const REJECT_OPTIONS: &[OptionSpec] = &[
    OptionSpec::with_default(
        "share",
        ValueKind::Share,
        "5%",
        "a run stops after a batch of whose events more than this share was rejected …",
    )
    .with(&["least"]),
    OptionSpec::with_default(
        "least",
        ValueKind::Integer { min: 1, max: u64::MAX },
        "100",
        "… and at least this many of them",
    )
    .with(&["share"]),
];

/// Keys of `[event.NAME]`.
pub const EVENT_OPTIONS: &[OptionSpec] = &[
    OptionSpec::optional("about", ValueKind::Text, "what the event is, in one line"),
    OptionSpec::optional("time", ValueKind::Text, "the field that holds the event time").with(&["fields", "path"]),
    OptionSpec::optional(
        "key",
        ValueKind::Texts,
        "the field or fields that identify an event; `check` tests on its sample that they are unique",
    ).with(&["fields"]),
    OptionSpec::with_default(
        "extra",
        ValueKind::Choice(&["ignore", "keep", "reject"]),
        "ignore",
        "fields that the contract does not name: pass them over, keep them as json in the column `extra`, or reject the event",
    ).with(&["fields"]),
    OptionSpec::optional(
        "fields",
        ValueKind::Sql,
        "the contract: SQL column definitions, with from 'path' and format '…'",
    ).with(&["extra", "time", "key"]),
    OptionSpec::optional("made", ValueKind::Table(MADE_OPTIONS), "for an event that is made of another"),
    OptionSpec::optional("arrives", ValueKind::Tables, "where it arrives: [event.NAME.arrives]"),
    OptionSpec::optional("lands", ValueKind::Tables, "where it lands: [event.NAME.lands.LANDING]"),
];

/// Keys of `made`.
pub const MADE_OPTIONS: &[OptionSpec] = &[
    OptionSpec::required("of", ValueKind::Name, "the event that it is made of"),
    OptionSpec::optional("when", ValueKind::Sql, "a SQL condition; only events that meet it are taken"),
    OptionSpec::optional(
        "columns",
        ValueKind::Sql,
        "a SQL select list; without it the fields are taken as they are. With a window it may name what `group` does, \
         window_start, window_end, and aggregate functions",
    )
    .with(&["when", "window", "group"]),
    OptionSpec::optional(
        "once",
        ValueKind::Table(ONCE_OPTIONS),
        "drop events that come twice: their key is remembered, also over restarts",
    )
    .with(&["idle", "ahead"]),
    OptionSpec::optional(
        "window",
        ValueKind::Table(WINDOW_OPTIONS),
        "gather events by their time: one row for each window and group, when the window closes",
    )
    .with(&["group", "columns", "late", "idle", "ahead", "gives", "close", "most"]),
    OptionSpec::optional(
        "join",
        ValueKind::Table(JOIN_OPTIONS),
        "pair each row with the rows of another event whose key is the same and whose time is near",
    )
    .with(&["columns", "late", "idle", "ahead", "close", "most"]),
    OptionSpec::optional(
        "reference",
        ValueKind::Table(REFERENCE_OPTIONS),
        "add columns of the latest row of another event that has the same key",
    )
    .with(&["columns", "most"]),
    OptionSpec::optional("group", ValueKind::Sql, "SQL expressions: a window has one row for each of their values")
        .with(&["window"]),
    OptionSpec::with_default(
        "late",
        ValueKind::Duration,
        "1m",
        "how far behind the newest event one may come and still count; what comes later is a reject",
    )
    .with(&["window", "join"]),
    OptionSpec::with_default(
        "idle",
        ValueKind::Duration,
        "1m",
        "a partition from which nothing has come for so long does not keep windows open",
    )
    .with(&["window", "join", "once"]),
    OptionSpec::with_default(
        "ahead",
        ValueKind::Duration,
        "1h",
        "an event whose time is further ahead of the clock is a reject: a wrong clock would close every window",
    )
    .with(&["window", "join", "once"]),
    OptionSpec::with_default(
        "gives",
        ValueKind::Choice(&["closed", "changes"]),
        "closed",
        "a row when its window closes, and never again; or with each batch the present values of the groups that it \
         changed, for landings in mode upsert",
    )
    .with(&["window"]),
    OptionSpec::with_default(
        "close",
        ValueKind::Choice(&["watermark", "caught_up"]),
        "watermark",
        "windows close when newer events have come; or also when a run with --until-caught-up has read all there is",
    )
    .with(&["window", "join"]),
    OptionSpec::with_default(
        "most",
        ValueKind::Integer { min: 1, max: 100_000_000 },
        "1_000_000",
        "so many groups of a window, or rows of a join or a reference, may be remembered at a time, in memory; an event that would be \
         one more is a reject",
    )
    .with(&["window", "join", "reference"]),
];

/// Keys of `once`.
pub const ONCE_OPTIONS: &[OptionSpec] = &[
    OptionSpec::required(
        "key",
        ValueKind::Sql,
        "SQL expressions: events with the same values are the same event; one with a null among them is never dropped",
    ),
    OptionSpec::required(
        "within",
        ValueKind::Duration,
        "for how long a key is remembered, by event time; by the time of reading where the event has none",
    ),
];

/// Keys of `join`.
pub const JOIN_OPTIONS: &[OptionSpec] = &[
    OptionSpec::required("event", ValueKind::Name, "the other event"),
    OptionSpec::required(
        "on",
        ValueKind::Sql,
        "a SQL condition with an equation between both events; columns are named EVENT.COLUMN",
    ),
    OptionSpec::optional("within", ValueKind::Duration, "how far apart the times of a pair may be, before and after")
        .with(&["from", "to", "window"]),
    OptionSpec::optional(
        "from",
        ValueKind::Text,
        "the time of the other event, less that of this one, at least: \"-2m\" is two minutes before",
    )
    .with(&["to"]),
    OptionSpec::optional("to", ValueKind::Text, "the same at most, such as \"10m\"").with(&["from"]),
    OptionSpec::optional(
        "window",
        ValueKind::Duration,
        "in place of `within`: both are in one window of this length, which follow each other",
    ),
    OptionSpec::with_default(
        "unmatched",
        ValueKind::Choice(&["none", "left", "right", "both"]),
        "none",
        "rows that are given although they met none, with nulls for the other event: left are those of `of`",
    ),
];

/// Keys of `reference`.
pub const REFERENCE_OPTIONS: &[OptionSpec] = &[
    OptionSpec::required("event", ValueKind::Name, "the event whose latest rows are looked up"),
    OptionSpec::required(
        "on",
        ValueKind::Sql,
        "equations between both events, joined by `and`; columns are named EVENT.COLUMN",
    ),
    OptionSpec::with_default(
        "missing",
        ValueKind::Choice(&["null", "reject"]),
        "null",
        "what becomes of an event whose key has no row: nulls for the other columns, or a reject",
    ),
    OptionSpec::optional(
        "deleted",
        ValueKind::Sql,
        "a SQL condition on the columns of the other event: a row that meets it removes its key",
    ),
];

/// Keys of `window`.
pub const WINDOW_OPTIONS: &[OptionSpec] = &[
    OptionSpec::optional("length", ValueKind::Duration, "how long each window is; or write `gap` for sessions")
        .with(&["every"]),
    OptionSpec::optional(
        "every",
        ValueKind::Duration,
        "how often a window begins: shorter than `length`, windows overlap, and an event counts in several",
    )
    .with(&["length"]),
    OptionSpec::optional(
        "gap",
        ValueKind::Duration,
        "a window is a session: it ends when no event of its group has come for so long",
    )
    .with(&["longest"]),
    OptionSpec::with_default(
        "longest",
        ValueKind::Duration,
        "24h",
        "how long a session may be, from its first event to its last; what comes after begins another one",
    )
    .with(&["gap"]),
];

/// Keys of `made` that belong to a window alone.
pub const OF_WINDOWS: &[&str] = &["group", "gives"];

/// Keys of `made` that belong to windows and joins.
pub const OF_CLOSING: &[&str] = &["late", "close"];

/// Keys that every arrival has, before those of its kind.
pub const ARRIVAL_OPTIONS: &[OptionSpec] = &[
    OptionSpec::required("at", ValueKind::Name, "the connection where it arrives"),
    OptionSpec::with_default(
        "format",
        ValueKind::Choice(crate::formats::NAMES),
        "jsonl",
        "how an event is written in bytes",
    )
    .with(&["csv"]),
    OptionSpec::with_default(
        "max_record",
        ValueKind::Size,
        "16MiB",
        "a longer record is rejected, so that a missing line end cannot fill the memory",
    ),
    OptionSpec::with_default(
        "lanes",
        ValueKind::Integer { min: 1, max: 64 },
        "1",
        "how many groups the partitions are spread over, each with its own sequence of batches",
    ),
];

/// Keys that every landing has, before those of its kind.
pub const LANDING_OPTIONS: &[OptionSpec] = &[
    OptionSpec::required("at", ValueKind::Name, "the connection where it lands"),
    OptionSpec::optional("when", ValueKind::Sql, "a SQL condition; only events that meet it land"),
    OptionSpec::optional("columns", ValueKind::Sql, "a SQL select list; without it the fields land as they are"),
];

/// What becomes of fields that the contract does not name.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum ExtraFields {
    /// They are passed over.
    Ignore,
    /// They are kept as one JSON object in the column `extra`.
    Keep,
    /// The event is rejected.
    Reject,
}

/// One place where an event arrives.
#[derive(Clone)]
pub struct ArrivalConfig {
    /// The connection, where its name binds.
    pub connection: Option<ConnectionConfig>,
    /// The kind that reads it, where there is one.
    pub kind: Option<Arc<dyn IntakeKind>>,
    /// The keys.
    pub options: Options,
}

/// One landing of an event.
#[derive(Clone)]
pub struct LandingConfig {
    /// Its name within the event.
    pub name: String,
    /// The connection, where its name binds.
    pub connection: Option<ConnectionConfig>,
    /// The kind that writes it, where there is one.
    pub kind: Option<Arc<dyn LandingKind>>,
    /// The keys.
    pub options: Options,
    /// Where its name stands.
    pub place: Place,
}

/// How an event is made of another.
#[derive(Clone)]
pub struct MadeConfig {
    /// The other event.
    pub of: Located<String>,
    /// The condition.
    pub when: Option<EmbeddedText>,
    /// The select list.
    pub columns: Option<EmbeddedText>,
    /// All keys.
    pub options: Options,
    /// How what comes twice is dropped.
    pub once: Option<Options>,
    /// How events are gathered.
    pub window: Option<Options>,
    /// The other event that it is joined with.
    pub join: Option<JoinConfig>,
    /// The other event whose latest rows are looked up.
    pub reference: Option<JoinConfig>,
}

/// How an event is joined with another one, or looks its rows up.
#[derive(Clone)]
pub struct JoinConfig {
    /// The other event.
    pub event: Located<String>,
    /// The condition.
    pub on: EmbeddedText,
    /// All keys.
    pub options: Options,
}

impl MadeConfig {
    /// The events that it is made of.
    pub fn parents(&self) -> impl Iterator<Item = &Located<String>> {
        let other = self.join.as_ref().or(self.reference.as_ref());
        std::iter::once(&self.of).chain(other.map(|other| &other.event))
    }
}

/// One event with all that the file says of it.
#[derive(Clone)]
pub struct EventConfig {
    /// Its name.
    pub name: String,
    /// Where its name stands.
    pub place: Place,
    /// The column definitions.
    pub fields: Option<EmbeddedText>,
    /// The field with the event time.
    pub time: Option<Located<String>>,
    /// The fields that tell one event from every other.
    pub key: Located<Vec<String>>,
    /// What becomes of other fields.
    pub extra: ExtraFields,
    /// How it is made of another event.
    pub made: Option<MadeConfig>,
    /// Where it arrives.
    pub arrivals: Vec<ArrivalConfig>,
    /// Where it lands.
    pub landings: Vec<LandingConfig>,
}

/// One checked pipeline file; names inside SQL are bound later, by [`crate::plan`].
#[derive(Clone)]
pub struct PipelineConfig {
    /// The file.
    pub source: Arc<SourceText>,
    /// The pipeline's name.
    pub name: String,
    /// Where its name stands.
    pub name_place: Place,
    /// What it is for.
    pub about: Option<String>,
    /// A batch holds at most this many events.
    pub batch_rows: u64,
    /// A batch holds at most this many bytes as read.
    pub batch_bytes: u64,
    /// A batch is closed at the latest after this time.
    pub batch_every: Duration,
    /// Whether a source's transaction that alone reaches a limit is split.
    pub batch_may_split: bool,
    /// More than this share of rejects in a batch stops the run …
    pub reject_share: f64,
    /// … if there are at least so many.
    pub reject_least: u64,
    /// The events, in the order of the file.
    pub events: Vec<EventConfig>,
    /// Groups of tables that are events of their own once they are written out.
    pub groups: Vec<EachConfig>,
}

impl PipelineConfig {
    /// Reads a file. What is wrong is added to `problems`; what could be read is returned.
    pub fn read(
        source: &Arc<SourceText>,
        project: &ProjectConfig,
        registry: &Registry,
        problems: &mut Problems,
    ) -> Self {
        let table = parse_toml(source, problems);
        let mut reader = TableReader { source, problems };
        let top = reader.place(0..0);
        let options = reader.options(table.get_ref(), &top, &[FILE_OPTIONS], "the pipeline");
        if !["event", "each"].iter().any(|key| table.get_ref().contains_key(*key)) {
            reader.problems.add(
                Problem::error("key.missing", "the pipeline needs the key `event`", top)
                    .with_label("`event` is missing")
                    .with_help("a table: the events, by name: [event.NAME]"),
            );
        }
        let groups = EachConfig::read_all(&mut reader, table.get_ref(), project, registry);
        let (batch, rejects) = (options.table("batch"), options.table("rejects"));
        let mut events = Vec::new();
        for (name, name_place, body, place) in reader.named_tables(table.get_ref(), "event", "event") {
            let mut context = EventReader { reader: &mut reader, project, registry };
            events.push(context.event(name, name_place, body, &place));
        }
        Self {
            source: Arc::clone(source),
            name: options.text("pipeline").unwrap_or_default(),
            name_place: options.place_of("pipeline"),
            about: options.text("about"),
            batch_rows: batch.integer("rows"),
            batch_bytes: batch.size("bytes").max(1),
            batch_every: batch.duration("every"),
            batch_may_split: batch.text("transactions").as_deref() != Some("whole"),
            reject_share: rejects.share("share"),
            reject_least: rejects.integer("least"),
            events,
            groups,
        }
    }
}

fn other_event(made: &Options, key: &str) -> Option<JoinConfig> {
    let options = made.is_set(key).then(|| made.table(key))?;
    Some(JoinConfig { event: options.located_text("event")?, on: options.sql("on")?.clone(), options })
}

struct EventReader<'r, 'a> {
    reader: &'r mut TableReader<'a>,
    project: &'r ProjectConfig,
    registry: &'r Registry,
}

impl EventReader<'_, '_> {
    fn event(&mut self, name: String, name_place: Place, body: &DeTable<'_>, place: &Place) -> EventConfig {
        let options = self.reader.options(body, place, &[EVENT_OPTIONS], &format!("event `{name}`"));
        let made = options.is_set("made").then(|| options.table("made")).and_then(|made| {
            Some(MadeConfig {
                of: made.located_text("of")?,
                when: made.sql("when").cloned(),
                columns: made.sql("columns").cloned(),
                once: made.is_set("once").then(|| made.table("once")),
                window: made.is_set("window").then(|| made.table("window")),
                join: other_event(&made, "join"),
                reference: other_event(&made, "reference"),
                options: made,
            })
        });
        let extra = match options.text("extra").as_deref() {
            Some("keep") => ExtraFields::Keep,
            Some("reject") => ExtraFields::Reject,
            _ => ExtraFields::Ignore,
        };
        EventConfig {
            arrivals: self.arrivals(&name, body),
            landings: self.landings(&name, body),
            fields: options.sql("fields").cloned(),
            time: options.located_text("time"),
            key: Located { value: options.texts("key"), place: options.place_of("key") },
            place: name_place,
            name,
            extra,
            made,
        }
    }

    fn arrivals(&mut self, event: &str, body: &DeTable<'_>) -> Vec<ArrivalConfig> {
        let Some(value) = body.get("arrives") else { return Vec::new() };
        let place = self.reader.place(value.span());
        let tables: Vec<(&DeTable<'_>, Place)> = match value.get_ref() {
            DeValue::Table(table) => vec![(table, place.clone())],
            DeValue::Array(list) => list
                .iter()
                .filter_map(|item| Some((item.get_ref().as_table()?, self.reader.place(item.span()))))
                .collect(),
            _ => Vec::new(),
        };
        if tables.is_empty() {
            self.reader.problems.add(
                Problem::error("value.type", "`arrives` is a table, or a list of tables", place)
                    .with_help(format!("write [event.{event}.arrives], or [[event.{event}.arrives]] for several")),
            );
        }
        tables.into_iter().map(|(table, place)| self.arrival(table, &place)).collect()
    }

    fn arrival(&mut self, table: &DeTable<'_>, place: &Place) -> ArrivalConfig {
        let (connection, meant) = self.connection(table);
        let kind = meant.as_ref().and_then(|c| self.registry.intake(&c.scheme));
        if let (Some(connection), None) = (&connection, &kind) {
            self.cannot(table, &connection.name, &connection.scheme, "arrive from");
        }
        let mut specs = vec![ARRIVAL_OPTIONS, crate::formats::OPTIONS];
        match &kind {
            Some(kind) => specs.push(kind.options()),
            None => specs.extend(self.registry.intakes().map(|k| k.options())),
        }
        let options = self.reader.options(table, place, &specs, "the arrival");
        ArrivalConfig { connection, kind, options }
    }

    fn landings(&mut self, event: &str, body: &DeTable<'_>) -> Vec<LandingConfig> {
        let mut landings = Vec::new();
        for (name, name_place, table, place) in self.reader.named_tables(body, "lands", "landing") {
            let (connection, meant) = self.connection(table);
            let kind = meant.as_ref().and_then(|c| self.registry.landing(&c.scheme));
            if let (Some(connection), None) = (&connection, &kind) {
                self.cannot(table, &connection.name, &connection.scheme, "land in");
            }
            let mut specs = vec![LANDING_OPTIONS];
            match &kind {
                Some(kind) => specs.push(kind.options()),
                None => specs.extend(self.registry.landings().map(|k| k.options())),
            }
            let options = self.reader.options(table, &place, &specs, &format!("landing `{event}.{name}`"));
            landings.push(LandingConfig { name, connection, kind, options, place: name_place });
        }
        landings
    }

    /// The connection that `at` names, and the one that it probably means where the name binds to nothing: with it
    /// the other keys of the table can still be checked in the same run.
    fn connection(&mut self, table: &DeTable<'_>) -> (Option<ConnectionConfig>, Option<ConnectionConfig>) {
        let Some(value) = table.get("at") else { return (None, None) };
        let Some(name) = value.get_ref().as_str() else { return (None, None) };
        if let Some(connection) = self.project.connection(name) {
            return (Some(connection.clone()), Some(connection.clone()));
        }
        let known = || self.project.connections.iter().map(|c| c.name.as_str());
        let place = self.reader.place(value.span());
        self.reader.problems.add(
            Problem::error("name.unknown", format!("there is no connection `{name}` in sluice.toml"), place)
                .with_label("binds to nothing")
                .with_nearest(name, "connections", known()),
        );
        let meant = names::nearest(name, known()).and_then(|n| self.project.connection(n)).cloned();
        (None, meant)
    }

    fn cannot(&mut self, table: &DeTable<'_>, name: &str, scheme: &str, verb: &str) {
        let Some(value) = table.get("at") else { return };
        // A connection of an unknown kind has its own problem in sluice.toml.
        if self.registry.connection(scheme).is_none() {
            return;
        }
        let place = self.reader.place(value.span());
        self.reader.problems.add(
            Problem::error(
                "connection.kind",
                format!("events cannot {verb} `{name}`, a `{scheme}:` connection"),
                place,
            )
            .with_help("choose another connection"),
        );
    }
}
