//! What a landing in a table writes: its mode, its key, and the columns that a mode adds.

use sluice_core::columns::OutputColumn;
use sluice_core::config::{OptionSpec, Options, ValueKind};
use sluice_core::names;
use sluice_core::plan::FEED;
use sluice_core::problem::Problem;
use sluice_core::table::Wanted;
use sluice_core::types::SqlType;

/// The batch of a row, as a number of the store's own record of batches.
pub(crate) const BATCH: &str = "_batch";
/// The partition of a row's event.
pub(crate) const SOURCE: &str = "_source";
/// The position of a row's event in its partition.
pub(crate) const POSITION: &str = "_position";
/// The kind of a change.
pub(crate) const CHANGE: &str = "_change";
/// The source's time of a change.
pub(crate) const TIME: &str = "_time";
/// While loading: whether the row is a delete.
pub(crate) const DELETED: &str = "_deleted";

/// Of a change: its place within its transaction.
pub(crate) const WITHIN: &str = "_within";
/// Of a change: the columns whose values the source did not send.
pub(crate) const ABSENT: &str = "_absent";
/// While loading: for each landed column `1` where its value is the one that the table has.
pub(crate) const LACKS: &str = "_lacks";
/// While loading: begins the names of the columns with the key under which the table has those values.
pub(crate) const WAS: &str = "_was_";

/// The words for kinds of changes.
pub(crate) const CHANGES: &[&str] = &["inserted", "updated", "deleted", "loaded"];

const TABLE: OptionSpec = OptionSpec::required("table", ValueKind::Text, "the table: NAME, or SCHEMA.NAME");

const LINEAGE: OptionSpec = OptionSpec::with_default(
    "lineage",
    ValueKind::Flag,
    "false",
    "whether each row has its batch, partition and position, in the columns _batch, _source and _position",
);

const CREATE: OptionSpec = OptionSpec::with_default(
    "create",
    ValueKind::Flag,
    "false",
    "whether `run` creates a missing table, and adds missing columns",
);

/// The options of stores with keys.
pub(crate) const OPTIONS: &[OptionSpec] = &[
    TABLE,
    OptionSpec::with_default(
        "mode",
        ValueKind::Choice(&["append", "upsert", "mirror", "changes"]),
        "append",
        "append adds each row; upsert keeps the last row of a key; mirror also deletes; changes adds each change with \
         its kind, position and time",
    )
    .with(&["key", "version", "change"]),
    OptionSpec::optional(
        "key",
        ValueKind::Texts,
        "upsert, mirror: the columns that identify a row; default: those of the event's key",
    )
    .with(&["mode"]),
    OptionSpec::optional(
        "version",
        ValueKind::Name,
        "upsert, mirror: the column that grows with each change of a row; default: the position in the source decides",
    )
    .with(&["mode", "key"]),
    OptionSpec::optional(
        "change",
        ValueKind::Sql,
        "mirror, changes: an expression for the kind of change: 'inserted', 'updated', 'deleted' or 'loaded'",
    )
    .with(&["mode"]),
    LINEAGE,
    CREATE,
    OptionSpec::optional(
        "refused",
        ValueKind::Choice(&["skip", "stop"]),
        "what happens to a row that the store refuses: skip makes it a reject, stop ends the run before its batch; default: \
         stop for mirrors, skip for other modes",
    ),
];

/// The options of stores without keys: rows are only added.
pub(crate) const ADDING_OPTIONS: &[OptionSpec] = &[
    TABLE,
    OptionSpec::with_default(
        "mode",
        ValueKind::Choice(&["append", "changes"]),
        "append",
        "append adds each row; changes adds each change with its kind, position and time",
    )
    .with(&["change"]),
    OptionSpec::optional(
        "change",
        ValueKind::Sql,
        "changes: an expression for the kind of change: 'inserted', 'updated', 'deleted' or 'loaded'",
    )
    .with(&["mode"]),
    LINEAGE,
    CREATE,
    OptionSpec::optional(
        "refused",
        ValueKind::Choice(&["skip", "stop"]),
        "what happens to a row that the store refuses: skip makes it a reject, stop ends the run before its batch; default: skip",
    ),
];

/// What becomes of the rows that are there.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum Mode {
    Append,
    Upsert,
    Mirror,
    Changes,
}

impl Mode {
    pub(crate) fn read(options: &Options) -> Self {
        match options.text("mode").as_deref() {
            Some("upsert") => Self::Upsert,
            Some("mirror") => Self::Mirror,
            Some("changes") => Self::Changes,
            _ => Self::Append,
        }
    }

    pub(crate) fn is_keyed(self) -> bool {
        matches!(self, Self::Upsert | Self::Mirror)
    }
}

/// A landing's shape.
#[derive(Clone, Debug)]
pub(crate) struct Shape {
    pub mode: Mode,
    /// The columns of the pipeline, without those beside them.
    pub lands: Vec<OutputColumn>,
    pub key: Vec<String>,
    pub version: Option<String>,
    pub lineage: bool,
    pub stops: bool,
    /// Whether the rows are changes of a feed.
    pub from_feed: bool,
}

/// Whether a refused row stops the run before its batch.
pub(crate) fn stops(options: &Options, mode: Mode) -> bool {
    options.text("refused").map_or(mode == Mode::Mirror, |word| word == "stop")
}

impl Shape {
    pub(crate) fn read(options: &Options, columns: &[OutputColumn]) -> Self {
        let mode = Mode::read(options);
        let version = if mode.is_keyed() { options.text("version") } else { None };
        Self {
            mode,
            lands: columns.iter().filter(|c| !c.name.starts_with('@')).cloned().collect(),
            key: if mode.is_keyed() { options.texts("key") } else { Vec::new() },
            lineage: options.flag("lineage") || (mode.is_keyed() && version.is_none()),
            version,
            from_feed: columns.iter().any(|c| c.name == FEED),
            stops: stops(options, mode),
        }
    }

    /// The columns that the mode adds, and which key wants them.
    pub(crate) fn added(&self) -> Vec<Wanted> {
        let column = |name: &str, ty, nullable, by| Wanted {
            column: OutputColumn { name: name.into(), ty, nullable, limit: None },
            added_by: Some(by),
        };
        let mut added = Vec::new();
        if self.mode == Mode::Changes {
            added.push(column(CHANGE, SqlType::Text, false, "mode = \"changes\""));
        }
        if self.lineage || self.mode == Mode::Changes {
            let by = match self.mode {
                Mode::Changes => "mode = \"changes\"",
                Mode::Upsert | Mode::Mirror if self.version.is_none() => "a keyed mode without `version`",
                _ => "lineage = true",
            };
            added.push(column(SOURCE, SqlType::Text, true, by));
            added.push(column(POSITION, SqlType::Bigint, true, by));
            if self.mode == Mode::Changes {
                added.push(column(TIME, SqlType::Timestamptz, true, by));
            }
            if self.mode == Mode::Changes && self.from_feed {
                added.push(column(WITHIN, SqlType::Bigint, true, by));
                added.push(column(ABSENT, SqlType::Text, true, by));
            }
            if self.lineage {
                added.push(column(BATCH, SqlType::Bigint, true, by));
            }
        }
        added
    }

    /// All columns of the table that are written.
    pub(crate) fn wanted(&self) -> Vec<Wanted> {
        // A feed's rows have their keys: what has none, a truncate, is not a row of a mirror.
        let has_value = |c: &OutputColumn| self.from_feed && self.mode == Mode::Mirror && self.key.contains(&c.name);
        let column = |c: &OutputColumn| OutputColumn { nullable: c.nullable && !has_value(c), ..c.clone() };
        let own = self.lands.iter().map(|c| Wanted { column: column(c), added_by: None });
        own.chain(self.added()).collect()
    }

    /// The columns that stand beside a mirror's rows while they are loaded, after whether they are deletes.
    pub(crate) fn hidden(&self) -> Vec<(String, SqlType)> {
        if !(self.from_feed && self.mode == Mode::Mirror) {
            return Vec::new();
        }
        let ty = |key: &String| self.lands.iter().find(|c| c.name == *key).map_or(SqlType::Text, |c| c.ty);
        let was = self.key.iter().map(|key| (format!("{WAS}{key}"), ty(key)));
        std::iter::once((LACKS.to_string(), SqlType::Text)).chain(was).collect()
    }

    /// Their names with their types, in the order in which rows are loaded.
    pub(crate) fn columns(&self) -> Vec<(String, SqlType)> {
        self.wanted().into_iter().map(|w| (w.column.name, w.column.ty)).collect()
    }
}

/// Checks the keys of a landing against each other and its columns.
pub(crate) fn check_keys(options: &Options, columns: &[OutputColumn]) -> Vec<Problem> {
    let mut found = Vec::new();
    let shape = Shape::read(options, columns);
    let place = |key: &str| options.place_of(key);
    let mode = options.text("mode").unwrap_or_default();
    if shape.mode.is_keyed() && shape.key.is_empty() {
        found.push(
            Problem::error("key.missing", format!("mode = \"{mode}\" needs the key `key`"), place("mode"))
                .with_help("the columns that name a row: key = \"passage_id\", or key = [\"lock_id\", \"passed_at\"]"),
        );
    }
    for key in ["key", "version"] {
        if !shape.mode.is_keyed() && options.knows(key) && options.is_set(key) {
            let message = format!("`{key}` does nothing in mode = \"{mode}\"");
            found.push(Problem::error("key.unknown", message, place(key)).with_help("it belongs to upsert and mirror"));
        }
    }
    let is_known = |name: &String| shape.lands.iter().any(|c| c.name == *name);
    let named = shape.key.iter().map(|k| ("key", k)).chain(shape.version.iter().map(|v| ("version", v)));
    for (key, name) in named.filter(|(_, name)| !is_known(name)) {
        let problem = Problem::error("name.unknown", format!("no column `{name}` lands"), place(key));
        let names = shape.lands.iter().map(|c| c.name.as_str());
        found.push(problem.with_label("binds to nothing").with_nearest(name, "columns", names));
    }
    if let Some(column) = shape.lands.iter().find(|c| Some(&c.name) == shape.version.as_ref()) {
        let grows = [SqlType::Integer, SqlType::Bigint, SqlType::Timestamptz, SqlType::Date].contains(&column.ty);
        if !grows {
            let message =
                format!("a version is a whole number, a date or a timestamptz; `{}` is {}", column.name, column.ty);
            found.push(Problem::error("type.mismatch", message, place("version")));
        }
    }
    if shape.mode == Mode::Mirror && !shape.from_feed && !options.is_set("change") {
        found.push(
            Problem::error("key.missing", "a mirror needs to know the kind of each change", place("mode")).with_help(
                "change = \"case action when 'gone' then 'deleted' else 'updated' end\"; without deletes, take upsert",
            ),
        );
    }
    if !matches!(shape.mode, Mode::Mirror | Mode::Changes) && options.is_set("change") {
        let message = format!("`change` does nothing in mode = \"{mode}\"");
        found.push(
            Problem::error("key.unknown", message, place("change")).with_help("it belongs to mirror and changes"),
        );
    }
    if let Some(column) = columns.iter().find(|c| c.name == "@change" && !matches!(c.ty, SqlType::Text | SqlType::Null))
    {
        let message = format!("the kind of a change is text, this is {}", column.ty);
        found.push(Problem::error("type.mismatch", message, place("change")));
    }
    for added in shape.added() {
        if shape.lands.iter().any(|c| c.name == added.column.name) {
            let message = format!("{} adds the column `{}`", added.added_by.unwrap_or_default(), added.column.name);
            let place = if options.is_set("columns") { place("columns") } else { place("table") };
            found.push(
                Problem::error("name.taken", message, place)
                    .with_help(format!("name yours otherwise: … as {}", names_free(&shape, &added.column.name))),
            );
        }
    }
    found
}

fn names_free(shape: &Shape, name: &str) -> String {
    let bare = name.trim_start_matches('_');
    if shape.lands.iter().any(|c| c.name == bare) { format!("{bare}_of_event") } else { bare.to_string() }
}

/// A table with its schema.
#[derive(Clone, Debug, PartialEq, Eq, Hash)]
pub(crate) struct TableName {
    pub schema: Option<String>,
    pub name: String,
}

impl TableName {
    pub(crate) fn read(options: &Options) -> Self {
        let text = options.text("table").unwrap_or_default();
        match text.split_once('.') {
            Some((schema, name)) => Self { schema: Some(schema.into()), name: name.into() },
            None => Self { schema: None, name: text },
        }
    }

    /// Another table beside it.
    pub(crate) fn beside(&self, name: impl Into<String>) -> Self {
        Self { schema: self.schema.clone(), name: name.into() }
    }

    /// The name within a statement.
    pub(crate) fn quoted(&self, quote: &dyn Fn(&str) -> String) -> String {
        match &self.schema {
            Some(schema) => format!("{}.{}", quote(schema), quote(&self.name)),
            None => quote(&self.name),
        }
    }
}

/// The nearest of the tables that are there.
pub(crate) fn nearest_table(name: &str, there: &[String]) -> Option<String> {
    names::nearest(name, there.iter().map(String::as_str)).map(str::to_string)
}
