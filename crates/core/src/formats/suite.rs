//! What every format must do, whatever it is. The tests go over the table of all formats.

use std::sync::Arc;

use arrow_array::RecordBatch;
use rstest::rstest;

use super::recognise::recognise;
use super::{Format, FormatKind, JsonLines, KINDS};
use crate::columns::OutputColumn;
use crate::config::{ExtraFields, OptionValue, Options};
use crate::contract::{Contract, parse_fields};
use crate::event::{Chunk, Message, Messages, Position, RecordSpan};
use crate::problem::{Place, Problems, SourceText};
use crate::sql::tests::embed;

const FIELDS: &str =
    "t text, b boolean, i integer, l bigint, d double precision, n decimal(18,2), day date, at timestamptz, j json";

/// Texts with everything that a format has to keep apart, numbers at their bounds, and nulls.
const EVENTS: &str = concat!(
    r#"{"t":"plain","b":true,"i":1,"l":2,"d":0.5,"n":1.25,"day":"2026-04-01","at":"2026-04-01T08:00:00.000001Z","j":{"a":[1,null]}}"#,
    "\n",
    r#"{"t":"a \"quote\", a;delimiter\tand two\nlines\r\n","b":false,"i":-2147483648,"l":9223372036854775807,"d":-1e300}"#,
    "\n",
    r#"{"t":"","j":"a \"text\""}"#,
    "\n",
    r#"{"t":" 閘門 🚢 ","n":-9999999999999999.99,"day":"1969-12-31","at":"1960-01-01T00:00:00Z","j":[]}"#,
    "\n",
    r#"{"i":7}"#,
    "\n",
    r#"{"t":"\"","d":0.1,"j":"x,y"}"#,
    "\n",
);

fn contract() -> Contract {
    let mut problems = Problems::new();
    let fields = parse_fields(&embed(FIELDS), &mut problems);
    assert!(problems.is_empty(), "{:?}", problems.into_sorted());
    Contract { fields, extra: ExtraFields::Ignore, may_lack: false }
}

fn columns() -> Vec<OutputColumn> {
    let column = |f: &crate::contract::ContractField| OutputColumn {
        name: f.name.clone(),
        ty: f.ty,
        nullable: true,
        limit: None,
    };
    contract().fields.iter().map(column).collect()
}

/// A chunk of a partition from a byte on.
fn chunk(bytes: &[u8], from: usize, records: u64, head: Option<&[u8]>) -> Chunk {
    Chunk {
        partition: "a".into(),
        from: Position::at(from as u64),
        to: Position::at((from + bytes.len()) as u64),
        bytes: bytes.to_vec(),
        head: head.map(Arc::from),
        records,
        ..Chunk::default()
    }
}

fn events() -> RecordBatch {
    let decoded = JsonLines.decoder(&contract()).decode(&chunk(EVENTS.as_bytes(), 0, 6, None));
    assert_eq!((decoded.rejects.len(), decoded.rows.batch.num_rows()), (0, 6), "{:?}", decoded.rejects);
    decoded.rows.batch
}

/// A file of a format with the events in it.
fn file(kind: &dyn FormatKind) -> (Arc<dyn Format>, String) {
    let place = Place::new(&SourceText::new("", ""), 0..0);
    let writer = kind.writer(&Options::empty(vec![kind.landing_options()], place)).expect("it is written");
    let mut text = String::new();
    writer.write_head(&mut text, &columns());
    let mut rows = String::new();
    writer.write_rows(&mut rows, &events(), &columns());
    (writer.format(), text + &rows)
}

fn head_of<'b>(format: &dyn Format, bytes: &'b [u8]) -> Option<&'b [u8]> {
    format.has_head().then(|| &bytes[..format.cut(bytes, 1).bytes])
}

/// All rows and rejects of a file that is read so many bytes at a time, as texts.
fn read_in_pieces(format: &dyn Format, bytes: &[u8], piece: usize) -> (Vec<String>, Vec<String>) {
    let mut decoder = format.decoder(&contract());
    let head = head_of(format, bytes);
    let (mut rows, mut rejects) = (String::new(), Vec::new());
    let (mut at, mut seen) = (0, head.map_or(0, <[u8]>::len));
    while at < bytes.len() {
        seen = (seen + piece).min(bytes.len());
        let skipped = if at == 0 { head.map_or(0, <[u8]>::len) } else { 0 };
        let cut = format.cut(&bytes[at + skipped..seen], u64::MAX);
        let (mut end, mut records) = (at + skipped + cut.bytes, cut.records);
        if seen == bytes.len() && !bytes[end..].trim_ascii().is_empty() {
            (end, records) = (bytes.len(), records + 1);
        }
        if records == 0 && seen < bytes.len() {
            continue;
        }
        let part = chunk(&bytes[at..end], at, records, head);
        let decoded = decoder.decode(&part);
        assert_eq!((decoded.rows.spans.len() + decoded.rejects.len()) as u64, records, "{part:?}");
        crate::values::json::write_lines(&mut rows, &decoded.rows.batch, &columns());
        rejects.extend(decoded.rejects.iter().map(|r| format!("{} {} {}", r.position, r.reason.word(), r.message)));
        at = end;
        if records == 0 {
            break;
        }
    }
    (rows.lines().map(str::to_string).collect(), rejects)
}

/// Each format of the table that is written; those that are only read have tests of their own.
fn each(test: impl Fn(&dyn FormatKind)) {
    let place = Place::new(&SourceText::new("", ""), 0..0);
    let is_written =
        |kind: &&&dyn FormatKind| kind.writer(&Options::empty(vec![kind.landing_options()], place.clone())).is_some();
    KINDS.iter().filter(is_written).for_each(|kind| test(*kind));
}

#[test]
fn what_is_written_is_read_again() {
    each(|kind| {
        let (format, text) = file(kind);
        let head = head_of(format.as_ref(), text.as_bytes());
        let decoded = format.decoder(&contract()).decode(&chunk(text.as_bytes(), 0, 6, head));
        assert!(decoded.rejects.is_empty(), "{}: {:?}", kind.title(), decoded.rejects);
        assert_eq!(decoded.rows.batch, events(), "{}:\n{text}", kind.title());
    });
}

/// Good records, and ones that are broken in different ways, cut off at the end as well.
#[rstest]
#[case::good(|text: String| text)]
#[case::bad_values(|text: String| text.replace("2147483648", "2147483649").replace("-1e300", "x"))]
#[case::without_a_last_line_end(|text: String| text.trim_end().to_string())]
#[case::with_blank_lines(|text: String| text.replace("\n{", "\n\n{").replace("\n\"", "\n\n\""))]
fn the_size_of_chunks_changes_nothing(#[case] change: fn(String) -> String) {
    each(|kind| {
        let (format, text) = file(kind);
        let bytes = change(text).into_bytes();
        let whole = read_in_pieces(format.as_ref(), &bytes, bytes.len());
        assert!(!whole.0.is_empty());
        for piece in 1..=bytes.len() {
            assert_eq!(read_in_pieces(format.as_ref(), &bytes, piece), whole, "{} by {piece} bytes", kind.title());
        }
    });
}

#[test]
fn what_is_written_is_recognised() {
    each(|kind| {
        let (format, text) = file(kind);
        let found = recognise(text.as_bytes(), true, "");
        assert_eq!(found.describe(), format.describe());
    });
}

/// Each row written as a message of its own is the same row.
#[test]
fn messages_hold_one_event_each() {
    each(|kind| {
        let place = Place::new(&SourceText::new("", ""), 0..0);
        let writer = kind.writer(&Options::empty(vec![kind.landing_options()], place)).expect("it is written");
        // What stands before them counts as well.
        let mut text = String::from("earlier\n");
        let mut start = text.len();
        let ends = writer.write_messages(&mut text, &events(), &columns());
        let mut one = |end: usize| {
            let span = RecordSpan { start: u32::try_from(start).unwrap(), end: u32::try_from(end).unwrap() };
            start = end + 1;
            Message { span, offset: u64::from(span.start), time: None, key: None, headers: None }
        };
        let each: Vec<Message> = ends.into_iter().map(&mut one).collect();
        let messages = Messages { topic: "t".into(), partition: 0, each, side: Vec::new(), left_out: 0 };
        let chunk = Chunk { messages: Some(Arc::new(messages)), ..chunk(text.as_bytes(), 0, 6, None) };
        let mut contract = contract();
        let format = writer.format().of_messages();
        for (i, field) in contract.fields.iter_mut().enumerate() {
            field.path = format.path(i, &field.name);
        }
        let decoded = format.decoder(&contract).decode(&chunk);
        assert!(decoded.rejects.is_empty(), "{}: {:?}", kind.title(), decoded.rejects);
        assert_eq!(decoded.rows.batch, events(), "{}:\n{text}", kind.title());
    });
}

/// The options that spell a format lead back to it.
#[rstest]
#[case("{\"a\":1}\n")]
#[case("id,name\n1,x\n")]
#[case("1\tx\n2\ty\n")]
#[case("id;name\n1;'a;b'\n2;'c'\n")]
#[case("level=info lock=low\n")]
#[case("Jul  1 08:05:09 low gate[12]: opened\n")]
fn a_spelling_leads_back_to_its_format(#[case] text: &str) {
    let found = recognise(text.as_bytes(), true, "");
    let format = found.format().unwrap();
    let kind = format.kind();
    let place = Place::new(&SourceText::new("", ""), 0..0);
    let mut options = Options::empty(vec![kind.options()], place.clone());
    for (key, value) in format.spelling() {
        assert!(
            matches!(value, OptionValue::Text(_) | OptionValue::Texts(_) | OptionValue::Flag(_)),
            "a draft cannot write {key}"
        );
        options.set(key, value, place.clone());
    }
    assert_eq!(kind.open(&options).describe(), format.describe());
}

/// What a profile of written events says agrees with what was written.
#[test]
fn a_profile_counts_what_is_there() {
    each(|kind| {
        let (format, text) = file(kind);
        let mut profile = crate::profile::Profile::default();
        profile.add_chunk(&chunk(text.as_bytes(), 0, 6, head_of(format.as_ref(), text.as_bytes())), format.as_ref());
        assert_eq!((profile.events, profile.broken_count), (6, 0), "{}: {:?}", kind.title(), profile.broken);
        let types: Vec<(String, String)> =
            profile.guesses().iter().map(|g| (g.name.clone(), g.guess.ty.to_string())).collect();
        for (name, ty) in [("b", "boolean"), ("l", "bigint"), ("day", "date"), ("at", "timestamptz")] {
            assert!(types.contains(&(name.into(), ty.into())), "{}: {name} in {types:?}", kind.title());
        }
    });
}
