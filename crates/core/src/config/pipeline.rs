//! `pipelines/*.toml`: one pipeline each, with its events, where they arrive and where they land.

use std::sync::Arc;
use std::time::Duration;

use toml::de::{DeTable, DeValue};

use super::EmbeddedText;
use super::each::EachConfig;
use super::made::{MADE_OPTIONS, MadeConfig};
use super::options::{Located, OptionSpec, Options, ValueKind};
use super::project::{ConnectionConfig, ProjectConfig};
use super::reader::{TableReader, parse_toml};
use crate::expr::own::OwnFunctions;
use crate::kinds::{IntakeKind, LandingKind, Registry};
use crate::names;
use crate::problem::{Place, Problem, Problems, SourceText};
use crate::schedule::{SCHEDULE_OPTIONS, Schedule};
use crate::throttle::{RATE_BYTES, RATE_EVENTS, ReadRate};

/// Keys of a pipeline file's top level.
pub const FILE_OPTIONS: &[OptionSpec] = &[
    OptionSpec::required("pipeline", ValueKind::Name, "the pipeline's name"),
    OptionSpec::optional("about", ValueKind::Text, "what it is for, in one line"),
    OptionSpec::optional("batch", ValueKind::Table(BATCH_OPTIONS), "when a batch is full"),
    OptionSpec::optional("rejects", ValueKind::Table(REJECT_OPTIONS), "how many rejects stop the run"),
    OptionSpec::optional(
        "schedule",
        ValueKind::Table(SCHEDULE_OPTIONS),
        "when it runs: each run ends when it has caught up; without a schedule it runs all the time",
    ),
    OptionSpec::optional(
        "at_most",
        ValueKind::Table(LIMIT_OPTIONS),
        "limits on how fast it reads and how many cores it uses",
    ),
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

/// Keys of `at_most`.
pub const LIMIT_OPTIONS: &[OptionSpec] = &[
    RATE_EVENTS,
    RATE_BYTES,
    OptionSpec::optional(
        "cores",
        ValueKind::Integer { min: 1, max: 1024 },
        "threads per lane that decode and transform; without it, one per core",
    ),
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

/// Keys that every arrival has, before those of its kind.
pub const ARRIVAL_OPTIONS: &[OptionSpec] = &[
    OptionSpec::required("at", ValueKind::Name, "the connection where it arrives"),
    OptionSpec::with_default(
        "format",
        ValueKind::Choice(crate::formats::NAMES),
        "jsonl",
        "how an event is written in bytes",
    )
    .with(&["avro", "bytes", "csv", "protobuf", "text"]),
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
    /// When it runs, where it does not run all the time.
    pub schedule: Option<Schedule>,
    /// How much is read in a second.
    pub rate: ReadRate,
    /// How many threads of a lane decode and transform.
    pub cores: Option<usize>,
    /// The events, in the order of the file.
    pub events: Vec<EventConfig>,
    /// Groups of tables that are events of their own once they are written out.
    pub groups: Vec<EachConfig>,
    /// What its expressions can call and use.
    pub(crate) functions: Arc<OwnFunctions>,
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
        let functions = Arc::new(project.functions.for_pipeline());
        let mut reader = TableReader { source, problems, functions: Arc::clone(&functions) };
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
        let schedule = match options.is_set("schedule") {
            true => Schedule::read(&options.table("schedule"), reader.problems),
            false => None,
        };
        let at_most = options.table("at_most");
        let mut events = Vec::new();
        for (name, name_place, body, place) in reader.named_tables(table.get_ref(), "event", "event") {
            let mut context = EventReader { reader: &mut reader, project, registry };
            events.push(context.event(name, name_place, body, &place));
        }
        Self {
            functions,
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
            schedule,
            rate: ReadRate::read(&at_most),
            cores: at_most.is_set("cores").then(|| usize::try_from(at_most.integer("cores")).unwrap_or(usize::MAX)),
            events,
            groups,
        }
    }
}

struct EventReader<'r, 'a> {
    reader: &'r mut TableReader<'a>,
    project: &'r ProjectConfig,
    registry: &'r Registry,
}

impl EventReader<'_, '_> {
    fn event(&mut self, name: String, name_place: Place, body: &DeTable<'_>, place: &Place) -> EventConfig {
        let options = self.reader.options(body, place, &[EVENT_OPTIONS], &format!("event `{name}`"));
        let made = options.is_set("made").then(|| options.table("made")).and_then(MadeConfig::read);
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
        let has = |key: &str| table.get(key).is_some();
        let kind = meant.as_ref().and_then(|c| self.registry.intake_with(&c.scheme, has));
        if let (Some(connection), None) = (&connection, &kind) {
            self.cannot(table, &connection.name, &connection.scheme, "arrive from");
        }
        let mut specs = vec![ARRIVAL_OPTIONS, crate::formats::OPTIONS];
        let mut possible = Vec::new();
        match &kind {
            Some(kind) => specs.push(kind.options()),
            None => possible.extend(self.registry.intakes().map(|k| k.options())),
        }
        let options = self.reader.options_of_any(table, place, (&specs, &possible), "the arrival");
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
            let mut possible = Vec::new();
            match &kind {
                Some(kind) => specs.push(kind.options()),
                None => possible.extend(self.registry.landings().map(|k| k.options())),
            }
            let what = format!("landing `{event}.{name}`");
            let options = self.reader.options_of_any(table, &place, (&specs, &possible), &what);
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
