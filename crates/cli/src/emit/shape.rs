//! Shapes of invented events: which fields there are, and how their values are made.

use std::sync::Arc;

use sluice_core::config::reader::{TableReader, parse_toml};
use sluice_core::config::{OptionSpec, ValueKind};
use sluice_core::contract::split_path;
use sluice_core::problem::{Problem, Problems, SourceText};
use sluice_core::values::number::parse_decimal;
use sluice_core::values::time::TimeFormat;

/// The shapes that are always there: name, file, and a line on each.
pub(crate) const SHAPES: &[(&str, &str, &str)] = &[
    ("passages", include_str!("shapes/passages.toml"), "barge passages, as the locks report them"),
    ("levels", include_str!("shapes/levels.toml"), "water levels, as the gauges report them"),
    ("tolls", include_str!("shapes/tolls.toml"), "receipts of the toll office"),
];

const FILE_OPTIONS: &[OptionSpec] = &[
    OptionSpec::required("shape", ValueKind::Name, "the shape's name"),
    OptionSpec::required("field", ValueKind::Tables, "the fields, by path: [field] with a table for each"),
];

/// Keys of one field.
pub(crate) const FIELD_OPTIONS: &[OptionSpec] = &[
    OptionSpec::optional("number", ValueKind::Text, "counts the events: this text, then the number"),
    OptionSpec::optional("key", ValueKind::Text, "one of --keys different ones: this text, then a number"),
    OptionSpec::optional("pick", ValueKind::Texts, "one of some texts"),
    OptionSpec::optional(
        "between",
        ValueKind::Texts,
        "a number from the first to the second, with as many digits after the point as they have: [\"0.50\", \"27.99\"]",
    ),
    OptionSpec::optional(
        "time",
        ValueKind::Text,
        "the event time: rfc3339, epoch_s, epoch_ms, epoch_us, or a pattern such as \"%d.%m.%Y %H:%M\"",
    ),
    OptionSpec::with_default("null", ValueKind::Share, "0%", "the share of events in which it is null"),
];

/// How values are made.
#[derive(Clone, Debug)]
pub(crate) enum Maker {
    /// A text and the event's number.
    Number(String),
    /// A text and the number of a key.
    Key(String),
    /// One of some texts.
    Pick(Vec<String>),
    /// A number between two, in units of `10^-scale`.
    Between { low: i64, high: i64, scale: u8 },
    /// The event time.
    Time(TimeFormat),
}

/// One field.
#[derive(Clone, Debug)]
pub(crate) struct Field {
    /// Where it stands in the event.
    pub path: Vec<String>,
    pub maker: Maker,
    /// The share of nulls.
    pub null: f64,
}

/// A shape.
#[derive(Clone, Debug)]
pub(crate) struct Shape {
    pub name: String,
    /// The fields, in the order of the file.
    pub fields: Vec<Field>,
}

impl Shape {
    /// Reads a shape. What is wrong is added to `problems`.
    pub(crate) fn read(source: &Arc<SourceText>, problems: &mut Problems) -> Self {
        let table = parse_toml(source, problems);
        let mut reader = TableReader { source, problems, functions: Arc::default() };
        let top = reader.place(0..0);
        let options = reader.options(table.get_ref(), &top, &[FILE_OPTIONS], "the shape");
        let mut fields = Vec::new();
        let inner = table.get_ref().get("field").and_then(|v| v.get_ref().as_table());
        let mut tables: Vec<_> = inner.map(|t| t.iter().collect()).unwrap_or_default();
        tables.sort_by_key(|(name, _)| name.span().start);
        for (name, value) in tables {
            let (path, place) = (name.get_ref().to_string(), reader.place(name.span()));
            let Some(body) = value.get_ref().as_table() else {
                reader.problems.add(
                    Problem::error("value.type", format!("`{path}` must be a table"), place)
                        .with_help(format!("write: \"{path}\" = {{ pick = [\"a\", \"b\"] }}")),
                );
                continue;
            };
            let options = reader.options(body, &place, &[FIELD_OPTIONS], &format!("field `{path}`"));
            match maker(&options) {
                Ok(maker) => fields.push(Field { path: split_path(&path), maker, null: options.share("null") }),
                Err(reason) => reader.problems.add(
                    Problem::error("value.type", format!("field `{path}`: {reason}"), place)
                        .with_help("give it one of number, key, pick, between, time"),
                ),
            }
        }
        Self { name: options.text("shape").unwrap_or_default(), fields }
    }
}

fn maker(options: &sluice_core::config::Options) -> Result<Maker, String> {
    let mut makers = Vec::new();
    makers.extend(options.text("number").map(Maker::Number));
    makers.extend(options.text("key").map(Maker::Key));
    if options.is_set("pick") {
        match options.texts("pick") {
            texts if texts.is_empty() => return Err("there is nothing to pick from".into()),
            texts => makers.push(Maker::Pick(texts)),
        }
    }
    if options.is_set("between") {
        makers.push(between(&options.texts("between"))?);
    }
    if let Some(text) = options.text("time") {
        makers.push(Maker::Time(TimeFormat::parse(&text)?));
    }
    match makers.len() {
        1 => Ok(makers.swap_remove(0)),
        0 => Err("no key says how to make its values".into()),
        _ => Err("several keys say how to make its values".into()),
    }
}

fn between(bounds: &[String]) -> Result<Maker, String> {
    let [low, high] = bounds else { return Err("`between` takes two numbers".into()) };
    let digits = |text: &str| text.split_once('.').map_or(0, |(_, after)| after.len());
    let scale = u8::try_from(digits(low).max(digits(high))).unwrap_or(u8::MAX);
    let unit = |text: &str| {
        let value = if scale <= 9 { parse_decimal(text.as_bytes(), scale) } else { None };
        value.and_then(|v| i64::try_from(v).ok()).ok_or_else(|| format!("`{text}` is not a number"))
    };
    match (unit(low)?, unit(high)?) {
        (low, high) if low <= high => Ok(Maker::Between { low, high, scale }),
        _ => Err(format!("`{low}` is larger than `{high}`")),
    }
}
