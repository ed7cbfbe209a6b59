//! How an event is made of others: the keys of `made`.

use super::{EmbeddedText, Located, OptionSpec, Options, ValueKind};

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
    .with(&["group", "columns", "late", "idle", "ahead", "gives", "close", "most", "memory"]),
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
    .with(&["columns", "most", "memory"]),
    OptionSpec::optional(
        "unfold",
        ValueKind::Sql,
        "a SQL expression of the type json and a name: \"items as item\"; each element of the list becomes an event, with the columns \
         item, item_number (from 1) and item_name (of an object's members). A list without elements gives none",
    )
    .with(&["when", "columns"]),
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
    .with(&["window", "join", "once", "reference"]),
    OptionSpec::with_default(
        "ahead",
        ValueKind::Duration,
        "1h",
        "an event whose time is further ahead of the clock is a reject: a wrong clock would close every window",
    )
    .with(&["window", "join", "once", "reference"]),
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
        "so many groups of a window, or rows of a join or a reference, may be remembered at a time; an event that would be one \
         more is a reject",
    )
    .with(&["window", "join", "reference"]),
    OptionSpec::with_default(
        "memory",
        ValueKind::Size,
        "256MiB",
        "so much memory, about, for the groups of a window, or the rows of a reference: those that have no room are looked up \
         in the ledger",
    )
    .with(&["window", "reference"]),
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
        "how an event whose key has no row is treated: nulls for the other columns, or a reject",
    ),
    OptionSpec::optional(
        "deleted",
        ValueKind::Sql,
        "a SQL condition on the columns of the other event: a row that meets it removes its key",
    ),
    OptionSpec::optional(
        "wait",
        ValueKind::Duration,
        "an event whose key has no row yet waits for it, for so long by event time; only then `missing` says how it is treated",
    ),
    OptionSpec::optional(
        "history",
        ValueKind::Duration,
        "take the row that was the latest at the event's own time; a row is remembered for so long after a later one of its key",
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
    /// The list whose elements become events.
    pub unfold: Option<EmbeddedText>,
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
    /// What the checked keys say; None without the event that it is made of.
    pub(super) fn read(made: Options) -> Option<Self> {
        Some(Self {
            of: made.located_text("of")?,
            when: made.sql("when").cloned(),
            columns: made.sql("columns").cloned(),
            unfold: made.sql("unfold").cloned(),
            once: made.is_set("once").then(|| made.table("once")),
            window: made.is_set("window").then(|| made.table("window")),
            join: other_event(&made, "join"),
            reference: other_event(&made, "reference"),
            options: made,
        })
    }

    /// The events that it is made of.
    pub fn parents(&self) -> impl Iterator<Item = &Located<String>> {
        let other = self.join.as_ref().or(self.reference.as_ref());
        std::iter::once(&self.of).chain(other.map(|other| &other.event))
    }
}

fn other_event(made: &Options, key: &str) -> Option<JoinConfig> {
    let options = made.is_set(key).then(|| made.table(key))?;
    Some(JoinConfig { event: options.located_text("event")?, on: options.sql("on")?.clone(), options })
}
