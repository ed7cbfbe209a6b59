//! Lines of text: as they are, cut by a regular expression with named groups, as pairs `key=value`, or at fixed widths. Blank lines
//! are not records.

mod decoder;
mod layout;
mod profile;
mod recognise;

use std::sync::Arc;

use super::recognise::{Recognised, Start};
use super::{BYTE_ORDER_MARK, Cut, Decoder, Format, FormatKind, RowWriter, Tail};
use crate::config::{OptionSpec, OptionValue, Options, ValueKind};
use crate::contract::Contract;
use crate::event::Chunk;
use crate::problem::{Problem, Problems};
use crate::profile::Profile;
use layout::Layout;

/// The kind.
pub const KIND: TextKind = TextKind;

/// Lines of text by name.
pub struct TextKind;

/// The field that is the whole line.
pub const LINE: &str = "line";

/// Keys of `text` of an arrival.
pub const OPTIONS: &[OptionSpec] = &[
    OptionSpec::optional(
        "pattern",
        ValueKind::Text,
        "a regular expression of the whole line; its named groups, (?P<name>…), are the fields, beside `line`",
    )
    .with(&["nulls"]),
    OptionSpec::with_default(
        "pairs",
        ValueKind::Flag,
        "false",
        "whether each line is key=value pairs with blanks between them; a value may stand in double quotes",
    )
    .with(&["nulls"]),
    OptionSpec::optional(
        "widths",
        ValueKind::Text,
        "names and widths of columns in characters, in order: \"gauge 8, level_cm 6\"; `_` skips some",
    )
    .with(&["nulls"]),
    OptionSpec::with_default("nulls", ValueKind::Texts, "", "spellings of null: [\"\", \"-\"]").with(&["fields"]),
];

impl FormatKind for TextKind {
    fn names(&self) -> &'static [&'static str] {
        &["text"]
    }

    fn title(&self) -> &'static str {
        "lines of text"
    }

    fn options(&self) -> &'static [OptionSpec] {
        OPTIONS
    }

    fn open(&self, options: &Options) -> Arc<dyn Format> {
        // What is wrong was reported by `check`.
        let layout = Layout::read(options).unwrap_or(Layout::Line);
        Arc::new(Text { layout: Arc::new(layout), nulls: options.texts("nulls") })
    }

    fn check(&self, options: &Options, problems: &mut Problems) {
        if let Err((key, message, help)) = Layout::read(options) {
            problems.add(Problem::error("value.type", message, options.place_of(key)).with_help(help));
        }
    }

    fn writer(&self, _: &Options) -> Option<Arc<dyn RowWriter>> {
        None
    }

    fn recognise(&self, start: &Start<'_>) -> Option<Recognised> {
        recognise::recognise(start)
    }
}

/// The format `text`.
#[derive(Clone, Debug)]
pub struct Text {
    layout: Arc<Layout>,
    /// Spellings of null.
    nulls: Vec<String>,
}

impl Text {
    /// Lines of a layout.
    fn of(layout: Layout, nulls: &[&str]) -> Self {
        Self { layout: Arc::new(layout), nulls: nulls.iter().map(|n| (*n).to_string()).collect() }
    }

    fn is_null(&self, value: &str) -> bool {
        self.nulls.iter().any(|null| null == value)
    }
}

impl Format for Text {
    fn kind(&self) -> &'static dyn FormatKind {
        &KIND
    }

    fn describe(&self) -> String {
        self.layout.describe()
    }

    fn spelling(&self) -> Vec<(&'static str, OptionValue)> {
        let mut keys = self.layout.spelling();
        if self.nulls != [""] {
            keys.push(("nulls", OptionValue::Texts(self.nulls.clone())));
        }
        keys
    }

    fn cut(&self, bytes: &[u8], limit: u64) -> Cut {
        let mut cut = Cut::default();
        for end in memchr::memchr_iter(b'\n', bytes) {
            if cut.records == limit {
                return cut;
            }
            cut.records += u64::from(!is_blank(&bytes[cut.bytes..end]));
            cut.bytes = end + 1;
        }
        cut
    }

    fn of_messages(&self) -> Arc<dyn Format> {
        Arc::new(self.clone())
    }

    fn is_whole(&self, _: &[u8], _: Option<&[u8]>) -> Tail {
        // Nothing shows where a line of text ends but its end.
        Tail::Perhaps
    }

    fn may_grow(&self) -> bool {
        true
    }

    fn decoder(&self, contract: &Contract) -> Box<dyn Decoder> {
        Box::new(decoder::TextDecoder::new(self.clone(), contract))
    }

    fn profile(&self, chunk: &Chunk, profile: &mut Profile) {
        profile::add_chunk(profile, chunk, self);
    }

    fn fitted(&self, profile: &Profile) -> Arc<dyn Format> {
        let mut nulls = self.nulls.clone();
        for word in profile.null_words() {
            if !nulls.iter().any(|n| n == word) {
                nulls.push(word.to_string());
            }
        }
        Arc::new(Self { nulls, layout: Arc::clone(&self.layout) })
    }

    fn field_names(&self) -> Option<Vec<String>> {
        self.layout.names()
    }

    fn takes_path(&self, path: &[String]) -> bool {
        match (path, self.layout.names()) {
            ([one], Some(names)) => names.contains(one),
            ([_], None) => true,
            _ => false,
        }
    }
}

/// Blank lines are not records.
fn is_blank(line: &[u8]) -> bool {
    line.trim_ascii().is_empty()
}

/// A line without its end.
fn without_end(line: &[u8]) -> &[u8] {
    let line = line.strip_suffix(b"\n").unwrap_or(line);
    line.strip_suffix(b"\r").unwrap_or(line)
}

/// The lines of a chunk that are records, each with the byte where it begins.
fn lines(chunk: &Chunk) -> impl Iterator<Item = (usize, &[u8])> {
    let bytes = &chunk.bytes;
    let has_mark = chunk.from.major == 0 && bytes.starts_with(BYTE_ORDER_MARK);
    let mut start = if has_mark { BYTE_ORDER_MARK.len() } else { 0 };
    std::iter::from_fn(move || {
        while start < bytes.len() {
            let end = memchr::memchr(b'\n', &bytes[start..]).map_or(bytes.len(), |i| start + i);
            let (begin, line) = (start, without_end(&bytes[start..end]));
            start = end + 1;
            if !is_blank(line) {
                return Some((begin, line));
            }
        }
        None
    })
}

#[cfg(test)]
pub(super) mod tests;
