//! SQL texts inside TOML strings, whose offsets lead back to the file.

use std::ops::Range;
use std::sync::Arc;

use crate::expr::own::OwnFunctions;
use crate::problem::{Place, SourceText};

/// The value of a TOML string with, for each of its bytes, the byte of the file that it came from.
#[derive(Clone, Debug)]
pub struct EmbeddedText {
    /// The string's value.
    pub text: String,
    source: Arc<SourceText>,
    /// One entry per byte of `text`, and one for its end.
    offsets: Vec<usize>,
    /// The functions that the project declares.
    functions: Arc<OwnFunctions>,
}

impl EmbeddedText {
    /// Follows the spelling of a TOML string at `span` of `source`, whose decoded value is `value`.
    pub fn new(source: &Arc<SourceText>, span: Range<usize>, value: &str) -> Self {
        let raw = &source.text[span.clone()];
        let (quote, literal) = match raw.as_bytes() {
            [b'"', b'"', b'"', ..] => (3, false),
            [b'\'', b'\'', b'\'', ..] => (3, true),
            [b'\'', ..] => (1, true),
            [b'"', ..] => (1, false),
            _ => (0, true),
        };
        let body = &raw[quote..];
        let newline = if quote == 3 { leading_newline(body) } else { 0 };
        // A text that is never closed has no quotes at its end.
        let inside = |at: usize| source.text.floor_char_boundary(at);
        let end = inside(span.end.saturating_sub(quote));
        let mut at = inside((span.start + quote + newline).min(end));
        let mut offsets = Vec::with_capacity(value.len() + 1);
        for c in value.chars() {
            if !literal {
                at = skip_folded_lines(&source.text, at);
            }
            let width = if literal { c.len_utf8() } else { spelled_width(&source.text[at..], c) };
            offsets.extend(std::iter::repeat_n(at, c.len_utf8()));
            at = inside((at + width).min(end));
        }
        offsets.push(at.min(end));
        Self { text: value.to_string(), source: Arc::clone(source), offsets, functions: Arc::default() }
    }

    /// The same text, in which functions of the project can be called.
    #[must_use]
    pub(crate) fn with_functions(self, functions: &Arc<OwnFunctions>) -> Self {
        Self { functions: Arc::clone(functions), ..self }
    }

    /// The functions that can be called in it beside the built-in ones.
    pub(crate) fn functions(&self) -> &OwnFunctions {
        &self.functions
    }

    /// The place in the file of a byte range of the text.
    pub fn place(&self, range: Range<usize>) -> Place {
        let last = self.offsets.len() - 1;
        let start = self.offsets[range.start.min(last)];
        let end = self.offsets[range.end.min(last)].max(start + 1);
        Place::new(&self.source, start..end.min(self.source.text.len()))
    }

    /// The place of the whole text.
    pub fn whole(&self) -> Place {
        let trimmed_start = self.text.len() - self.text.trim_start().len();
        self.place(trimmed_start..self.text.trim_end().len().max(trimmed_start))
    }
}

fn leading_newline(body: &str) -> usize {
    if body.starts_with("\r\n") { 2 } else { usize::from(body.starts_with('\n')) }
}

/// A backslash at the end of a line swallows the line's end and the white space that follows.
fn skip_folded_lines(text: &str, at: usize) -> usize {
    let rest = &text[at..];
    let Some(after) = rest.strip_prefix('\\') else { return at };
    let blank = after.len() - after.trim_start().len();
    if after[..blank].contains('\n') { skip_folded_lines(text, at + 1 + blank) } else { at }
}

fn spelled_width(raw: &str, decoded: char) -> usize {
    match raw.as_bytes() {
        [b'\\', b'u', ..] => 6,
        [b'\\', b'U', ..] => 10,
        [b'\\', b'x', ..] => 4,
        [b'\\', ..] => 2,
        _ => decoded.len_utf8(),
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    fn embedded(toml: &str) -> EmbeddedText {
        let source = SourceText::new("t.toml", toml);
        let table = toml::de::DeTable::parse(&source.text).unwrap();
        let value = table.get_ref().values().next().unwrap();
        EmbeddedText::new(&source, value.span(), value.get_ref().as_str().unwrap())
    }

    #[rstest]
    #[case::basic("k = \"lower(naem)\"")]
    #[case::literal("k = 'lower(naem)'")]
    #[case::lines("k = \"\"\"\nid,\nlower(naem)\n\"\"\"")]
    #[case::literal_lines("k = '''\nid, naem\n'''")]
    #[case::escapes("k = \"\\\"ü\\\" = \\u00e9 and naem\"")]
    #[case::folded("k = \"\"\"\nid, \\\n   naem\"\"\"")]
    #[case::windows_line_ends("k = \"\"\"\r\nid,\r\nlower(naem)\r\n\"\"\"")]
    #[case::other_script("k = \"'閘門', naem\"")]
    fn a_range_leads_back_to_the_file(#[case] toml: &str) {
        let text = embedded(toml);
        let start = text.text.find("naem").unwrap();
        let place = text.place(start..start + 4);
        assert_eq!(&place.source.text[place.span], "naem");
    }

    #[test]
    fn ranges_past_the_end_stay_inside() {
        let text = embedded("k = \"ab\"");
        let place = text.place(2..99);
        assert!(place.span.end <= place.source.text.len());
    }
}
