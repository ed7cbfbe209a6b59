//! CSV after RFC 4180, with the delimiter, quote and spellings of null that the arrival names. A value in quotes may
//! hold line ends; a quote within it is doubled. Blank lines are not records.

mod decoder;
mod profile;
mod recognise;
mod scan;
mod write;

use std::sync::Arc;

use super::recognise::{Recognised, Start};
use super::{BYTE_ORDER_MARK, Cut, Decoder, Format, FormatKind, RowWriter, Tail};
use crate::config::{OptionSpec, OptionValue, Options, ValueKind};
use crate::contract::Contract;
use crate::event::Chunk;
use crate::profile::Profile;

pub use scan::{Ending, Value, Walk};
pub use write::write_rows;

/// The kind.
pub const KIND: CsvKind = CsvKind;

/// CSV by name.
pub struct CsvKind;

impl FormatKind for CsvKind {
    fn names(&self) -> &'static [&'static str] {
        &["csv"]
    }

    fn title(&self) -> &'static str {
        "CSV"
    }

    fn options(&self) -> &'static [OptionSpec] {
        OPTIONS
    }

    fn landing_options(&self) -> &'static [OptionSpec] {
        LANDING_OPTIONS
    }

    fn open(&self, options: &Options) -> Arc<dyn Format> {
        Csv::shared(Dialect::read(options))
    }

    fn writer(&self, options: &Options) -> Option<Arc<dyn RowWriter>> {
        Some(Csv::writer(Dialect::read_landing(options)))
    }

    fn recognise(&self, start: &Start<'_>) -> Option<Recognised> {
        recognise::recognise(start)
    }
}

/// Keys of `csv` of an arrival.
pub const OPTIONS: &[OptionSpec] = &[
    OptionSpec::with_default("delimiter", ValueKind::Character, ",", "the character between values; a tab is \"\\t\"")
        .with(&["quote"]),
    OptionSpec::with_default(
        "quote",
        ValueKind::Character,
        "\"",
        "the character around values with special characters",
    )
    .with(&["delimiter"]),
    OptionSpec::with_default(
        "header",
        ValueKind::Flag,
        "true",
        "whether each file begins with a header row; without one, columns are named 1, 2, …",
    )
    .with(&["fields"]),
    OptionSpec::with_default("nulls", ValueKind::Texts, "", "spellings of null, for values without quotes")
        .with(&["fields"]),
];

/// Keys of `csv` of a landing.
pub const LANDING_OPTIONS: &[OptionSpec] = &[
    OptionSpec::with_default("delimiter", ValueKind::Character, ",", "the character between values; a tab is \"\\t\""),
    OptionSpec::with_default("header", ValueKind::Flag, "true", "whether each file begins with a header row"),
    OptionSpec::with_default(
        "null",
        ValueKind::Text,
        "",
        "how null is written; a text that is spelled alike is written in quotes",
    ),
];

/// How CSV is spelled.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Dialect {
    /// What stands between values.
    pub delimiter: u8,
    /// What stands around values with special characters.
    pub quote: u8,
    /// Whether the first record names the columns.
    pub head: bool,
    /// Spellings of null, for values without quotes.
    pub nulls: Vec<String>,
}

impl Default for Dialect {
    fn default() -> Self {
        Self { delimiter: b',', quote: b'"', head: true, nulls: vec![String::new()] }
    }
}

impl Dialect {
    /// The dialect that an arrival's `csv` names.
    pub fn read(options: &Options) -> Self {
        Self {
            delimiter: options.character("delimiter"),
            quote: options.character("quote"),
            head: options.flag("header"),
            nulls: options.texts("nulls"),
        }
    }

    /// The dialect that a landing's `csv` names.
    pub fn read_landing(options: &Options) -> Self {
        Self {
            delimiter: options.character("delimiter"),
            head: options.flag("header"),
            nulls: vec![options.text("null").unwrap_or_default()],
            ..Self::default()
        }
    }

    /// The names in a header row, without the byte order mark, blank lines before it and blanks around each.
    pub fn names(&self, head: &[u8]) -> Vec<String> {
        let head = head.strip_prefix(BYTE_ORDER_MARK).unwrap_or(head).trim_ascii_start();
        self.values(head).into_iter().map(|name| name.trim().to_string()).collect()
    }

    /// The values of the first record, as texts.
    pub fn values(&self, record: &[u8]) -> Vec<String> {
        let mut walk = Walk::new(record, self);
        let mut values = Vec::new();
        let mut text = Vec::new();
        while let Some(value) = walk.next() {
            text.clear();
            value.write(self.quote, &mut text);
            values.push(String::from_utf8_lossy(&text).into_owned());
            if value.ending != Ending::Delimiter {
                break;
            }
        }
        values
    }
}

/// The format `csv`.
#[derive(Clone, Debug)]
pub struct Csv {
    dialect: Dialect,
}

impl Csv {
    /// CSV of a dialect.
    pub fn new(dialect: Dialect) -> Self {
        Self { dialect }
    }

    /// Writes CSV of a dialect.
    pub fn writer(dialect: Dialect) -> Arc<dyn RowWriter> {
        Arc::new(write::CsvWriter(dialect))
    }

    fn shared(dialect: Dialect) -> Arc<dyn Format> {
        Arc::new(Self { dialect })
    }
}

impl Format for Csv {
    fn kind(&self) -> &'static dyn FormatKind {
        &KIND
    }

    fn describe(&self) -> String {
        let shown = |c: u8| match c {
            b'\t' => "tab".to_string(),
            other => format!("`{}`", char::from(other)),
        };
        let Dialect { delimiter, quote, head, .. } = &self.dialect;
        let quote = if *quote == b'"' { String::new() } else { format!(", quote {}", shown(*quote)) };
        let header = if *head { "with a header row" } else { "without a header row" };
        format!("CSV, delimiter {}{quote}, {header}", shown(*delimiter))
    }

    fn spelling(&self) -> Vec<(&'static str, OptionValue)> {
        let Dialect { delimiter, quote, head, nulls } = &self.dialect;
        let usual = Dialect::default();
        let character = |c: u8| OptionValue::Text(char::from(c).to_string());
        let mut keys = Vec::new();
        if *delimiter != usual.delimiter {
            keys.push(("delimiter", character(*delimiter)));
        }
        if *quote != usual.quote {
            keys.push(("quote", character(*quote)));
        }
        if *head != usual.head {
            keys.push(("header", OptionValue::Flag(*head)));
        }
        if *nulls != usual.nulls {
            keys.push(("nulls", OptionValue::Texts(nulls.clone())));
        }
        keys
    }

    fn cut(&self, bytes: &[u8], limit: u64) -> Cut {
        let mut cut = Cut::default();
        while cut.records < limit {
            let Some(end) = scan::record_end(bytes, cut.bytes, &self.dialect) else { break };
            cut.records += u64::from(!scan::is_blank(&bytes[cut.bytes..end]));
            cut.bytes = end;
        }
        cut
    }

    fn has_head(&self) -> bool {
        self.dialect.head
    }

    fn may_grow(&self) -> bool {
        true
    }

    fn is_whole(&self, tail: &[u8], head: Option<&[u8]>) -> Tail {
        let mut walk = Walk::new(tail, &self.dialect);
        let (mut count, mut ending) = (0, Ending::Delimiter);
        while ending == Ending::Delimiter {
            let Some(value) = walk.next() else { break };
            (count, ending) = (count + 1, value.ending);
        }
        let full = head.is_none_or(|head| count >= self.dialect.names(head).len());
        if full && ending == Ending::Bytes { Tail::Perhaps } else { Tail::Part }
    }

    fn give_up(&self, bytes: &[u8]) -> Option<usize> {
        // A quote that is never closed swallows what follows: only the line in which it stands is given up.
        memchr::memchr(b'\n', bytes).map(|end| end + 1)
    }

    fn decoder(&self, contract: &Contract) -> Box<dyn Decoder> {
        Box::new(decoder::CsvDecoder::new(self.dialect.clone(), contract))
    }

    fn fault_in_messages(&self) -> Option<(&'static str, &'static str)> {
        let help = "write csv = { header = false }; fields then come from '1', from '2', …";
        self.has_head().then_some(("a message has no header row", help))
    }

    fn of_messages(&self) -> Arc<dyn Format> {
        Self::shared(Dialect { head: false, ..self.dialect.clone() })
    }

    fn profile(&self, chunk: &Chunk, profile: &mut Profile) {
        profile::add_chunk(profile, chunk, &self.dialect);
    }

    fn header_names(&self, head: &[u8]) -> Vec<String> {
        self.dialect.names(head)
    }

    fn fitted(&self, profile: &Profile) -> Arc<dyn Format> {
        let mut dialect = self.dialect.clone();
        for word in profile.null_words() {
            if !dialect.nulls.iter().any(|n| n == word) {
                dialect.nulls.push(word.to_string());
            }
        }
        Self::shared(dialect)
    }

    fn path(&self, index: usize, name: &str) -> Vec<String> {
        vec![if self.dialect.head { name.to_string() } else { (index + 1).to_string() }]
    }

    fn takes_path(&self, path: &[String]) -> bool {
        // Without a header row, numbers are the names of the columns.
        self.dialect.head || matches!(path, [one] if one.parse::<usize>().is_ok_and(|n| n > 0))
    }
}

#[cfg(test)]
mod tests;
