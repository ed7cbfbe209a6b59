//! CSV under a contract.

use rstest::rstest;

use super::*;
use crate::columns::OutputColumn;
use crate::config::ExtraFields;
use crate::contract::parse_fields;
use crate::event::{Chunk, Position};
use crate::formats::Decoded;
use crate::problem::Problems;
use crate::reject::Reason;
use crate::sql::tests::embed;
use crate::types::SqlType;
use crate::values::json::write_lines;

fn contract(fields: &str, extra: ExtraFields) -> Contract {
    let mut problems = Problems::new();
    let fields = parse_fields(&embed(fields), &mut problems);
    assert!(problems.is_empty(), "{:?}", problems.into_sorted());
    Contract { fields, extra, may_lack: false }
}

/// The first chunk of a file, cut as a reader does.
fn chunk(dialect: &Dialect, bytes: &[u8]) -> Chunk {
    let format = Csv::new(dialect.clone());
    let head = dialect.head.then(|| &bytes[..format.cut(bytes, 1).bytes]);
    let skipped = head.map_or(0, <[u8]>::len);
    let cut = format.cut(&bytes[skipped..], u64::MAX);
    let tail = &bytes[skipped + cut.bytes..];
    // A reader hands no blanks on as a last record.
    let tail = if tail.trim_ascii().is_empty() { &[] } else { tail };
    let bytes = &bytes[..skipped + cut.bytes + tail.len()];
    Chunk {
        partition: "a.csv".into(),
        from: Position::at(0),
        to: Position::at(bytes.len() as u64),
        bytes: bytes.to_vec(),
        head: head.map(Into::into),
        records: cut.records + u64::from(!tail.is_empty()),
        ..Chunk::default()
    }
}

fn decode(dialect: &Dialect, contract: &Contract, bytes: &[u8]) -> Decoded {
    let chunk = chunk(dialect, bytes);
    let decoded = Csv::new(dialect.clone()).decoder(contract).decode(&chunk);
    let counted = decoded.rows.spans.len() + decoded.rejects.len();
    assert_eq!(counted as u64, chunk.records, "reader and decoder count alike");
    decoded
}

fn lines(contract: &Contract, decoded: &Decoded) -> String {
    let column = |name: &str, ty| OutputColumn { name: name.into(), ty, nullable: true, limit: None };
    let mut columns: Vec<OutputColumn> = contract.fields.iter().map(|f| column(&f.name, f.ty)).collect();
    columns.extend((contract.extra == ExtraFields::Keep).then(|| column("extra", SqlType::Json)));
    let mut out = String::new();
    write_lines(&mut out, &decoded.rows.batch, &columns);
    out
}

#[rstest]
#[case("a,b\nx,1\n", "x", "1")]
#[case("a,b\r\nx,1\r\n", "x", "1")]
#[case("b,a\n1,x", "x", "1")]
#[case("\u{feff}a,b\nx,1\n", "x", "1")]
#[case("a , b\nx, 1 \n", "x", "1")]
#[case("a,b\n\"x\"\"y\",\"1\"\n", "x\\\"y", "1")]
#[case("a,b\n\"one\ntwo, three\",2\n", "one\\ntwo, three", "2")]
#[case("a,b\n5\" pipe,3\n", "5\\\" pipe", "3")]
#[case("\n\na,b\n\n閘門,4\n\n", "閘門", "4")]
fn spellings(#[case] csv: &str, #[case] a: &str, #[case] b: &str) {
    let contract = contract("a text, b integer", ExtraFields::Ignore);
    let decoded = decode(&Dialect::default(), &contract, csv.as_bytes());
    assert_eq!(decoded.rejects, []);
    assert_eq!(lines(&contract, &decoded), format!("{{\"a\":\"{a}\",\"b\":{b}}}\n"));
}

#[test]
fn an_empty_value_is_null_and_an_empty_text_is_not() {
    let contract = contract("a text, b text", ExtraFields::Ignore);
    let decoded = decode(&Dialect::default(), &contract, b"a,b\n,\"\"\n");
    assert_eq!(lines(&contract, &decoded), "{\"a\":null,\"b\":\"\"}\n");
}

#[test]
fn an_empty_value_in_quotes_is_null_where_it_cannot_be_a_text() {
    let contract = contract("a text, n integer, at timestamptz", ExtraFields::Ignore);
    let decoded = decode(&Dialect::default(), &contract, b"a,n,at\n\"\",\"\",\"\"\n");
    assert_eq!(lines(&contract, &decoded), "{\"a\":\"\",\"n\":null,\"at\":null}\n");
}

#[test]
fn a_dialect_of_its_own() {
    let dialect = Dialect { delimiter: b';', quote: b'\'', head: false, nulls: vec!["NULL".into(), "-".into()] };
    let contract = contract("a text from '1', b boolean from '3', c decimal(6,2) from '2'", ExtraFields::Ignore);
    let decoded = decode(&dialect, &contract, b"'x;y';-;TRUE\nNULL;1.50;False\n");
    assert_eq!(decoded.rejects, []);
    let expected = "{\"a\":\"x;y\",\"b\":true,\"c\":null}\n{\"a\":null,\"b\":false,\"c\":1.50}\n";
    assert_eq!(lines(&contract, &decoded), expected);
}

#[rstest]
#[case("x", Reason::NOT_CSV, "1 values where the header row names 2")]
#[case("x,1,2", Reason::NOT_CSV, "3 values where the header row names 2")]
#[case("\"x\"y,1", Reason::NOT_CSV, "between the closing quote")]
#[case("x,\"1", Reason::NOT_CSV, "never closed")]
#[case("x,much", Reason::TYPE, "much")]
#[case("x,99999999999", Reason::RANGE, "99999999999")]
#[case(",1", Reason::MISSING, "null")]
fn bad_records(#[case] record: &str, #[case] reason: Reason, #[case] message: &str) {
    let contract = contract("a text not null, b integer", ExtraFields::Ignore);
    let decoded = decode(&Dialect::default(), &contract, format!("a,b\nok,7\n{record}").as_bytes());
    assert_eq!(decoded.rows.spans.len(), 1, "the neighbour lands");
    let reject = &decoded.rejects[0];
    assert_eq!(reject.reason, reason);
    assert!(reject.message.contains(message), "{}", reject.message);
    assert_eq!(reject.bytes, record.as_bytes());
    assert_eq!(reject.position, Position::at(9));
}

#[test]
fn a_missing_column_leads_to_the_near_one() {
    let contract = contract("ticket text not null", ExtraFields::Ignore);
    let decoded = decode(&Dialect::default(), &contract, b"tikcet\nx\n");
    assert_eq!(decoded.rejects[0].message, "the field is missing; the header row names `tikcet`");
}

#[test]
fn a_column_that_the_head_names_twice_is_not_guessed() {
    let contract = contract("a text", ExtraFields::Ignore);
    let decoded = decode(&Dialect::default(), &contract, b"a,a\nx,y\n");
    assert_eq!(decoded.rejects[0].reason, Reason::TWICE);
}

#[rstest]
#[case(ExtraFields::Keep, "{\"a\":\"x\",\"extra\":{\"b\":\"q\\\"\",\"c\":null}}\n")]
#[case(ExtraFields::Ignore, "{\"a\":\"x\"}\n")]
#[case(ExtraFields::Reject, "")]
fn columns_that_the_contract_does_not_name(#[case] extra: ExtraFields, #[case] expected: &str) {
    let contract = contract("a text", extra);
    let decoded = decode(&Dialect::default(), &contract, b"a,b,c\nx,\"q\"\"\",\n");
    assert_eq!(lines(&contract, &decoded), expected);
    assert_eq!(decoded.rejects.len(), usize::from(extra == ExtraFields::Reject));
}

#[rstest]
#[case("x,1", Tail::Perhaps)]
#[case("x", Tail::Part)]
#[case("x,\"1", Tail::Part)]
#[case("x,\"1\"", Tail::Perhaps)]
fn the_last_record_without_a_line_end(#[case] tail: &str, #[case] expected: Tail) {
    assert_eq!(Csv::new(Dialect::default()).is_whole(tail.as_bytes(), Some(b"a,b\n")), expected);
}

#[test]
fn what_is_written_is_read_again() {
    let contract = contract("a text, b integer, at timestamptz, j json", ExtraFields::Ignore);
    let csv = "a,b,at,j\n\"x, \"\"y\"\"\nz\",1,2026-04-01T08:00:00Z,\"{\"\"k\"\":1}\"\n,,,\n\"\",2,,\n";
    let decoded = decode(&Dialect::default(), &contract, csv.as_bytes());
    assert_eq!(decoded.rejects, []);
    let columns: Vec<OutputColumn> = contract
        .fields
        .iter()
        .map(|f| OutputColumn { name: f.name.clone(), ty: f.ty, nullable: true, limit: None })
        .collect();
    let mut out = String::new();
    write::write_head(&mut out, &columns, &Dialect::default());
    write_rows(&mut out, &decoded.rows.batch, &Dialect::default());
    assert_eq!(out, csv);
}

proptest::proptest! {
    /// Whatever is written is read again as it was, and the reader cuts where the decoder does.
    #[test]
    fn any_texts_survive(values: Vec<(String, Option<String>)>) {
        use arrow_array::{ArrayRef, StringArray};
        let contract = contract("a text not null, b text", ExtraFields::Ignore);
        let a: ArrayRef = std::sync::Arc::new(StringArray::from_iter_values(values.iter().map(|v| &v.0)));
        let b: ArrayRef = std::sync::Arc::new(StringArray::from_iter(values.iter().map(|v| v.1.as_ref())));
        let batch = arrow_array::RecordBatch::try_new(contract.schema(), vec![a, b]).unwrap();
        let mut out = String::from("a,b\n");
        write_rows(&mut out, &batch, &Dialect::default());
        let decoded = decode(&Dialect::default(), &contract, out.as_bytes());
        proptest::prop_assert_eq!(decoded.rejects, []);
        proptest::prop_assert_eq!(decoded.rows.batch, batch);
    }

    /// No bytes make the decoder panic, and both count the same records.
    #[test]
    fn any_bytes_are_decoded_or_rejected(bytes: Vec<u8>) {
        let contract = contract("a text from '1', b integer from '2'", ExtraFields::Keep);
        let dialect = Dialect { head: false, ..Dialect::default() };
        decode(&dialect, &contract, &bytes);
    }
}

#[test]
fn a_message_with_an_open_quote_or_two_lines_is_a_reject_and_spoils_no_other() {
    use crate::event::{Message, Messages, RecordSpan};
    let dialect = Dialect { head: false, ..Dialect::default() };
    let contract = contract("id integer not null from '1', note text from '2'", ExtraFields::Ignore);
    let (mut bytes, mut each) = (Vec::new(), Vec::new());
    for (offset, value) in (7..).zip(["1,\"two\nlines\"", "2,\"open", "3,closed\r\n\n", "4,one\n5,two", "\n6,x"]) {
        let at = |n: usize| u32::try_from(n).unwrap();
        let span = RecordSpan { start: at(bytes.len()), end: at(bytes.len() + value.len()) };
        each.push(Message { span, offset, time: None, key: None, headers: None });
        bytes.extend_from_slice(value.as_bytes());
        bytes.push(b'\n');
    }
    let messages = Some(std::sync::Arc::new(Messages { each, ..Messages::default() }));
    let chunk = Chunk { bytes, records: 5, messages, from: Position::at(7), ..chunk(&dialect, b"") };
    let decoded = Csv::new(dialect).decoder(&contract).decode(&chunk);
    assert_eq!(lines(&contract, &decoded), "{\"id\":1,\"note\":\"two\\nlines\"}\n{\"id\":3,\"note\":\"closed\"}\n");
    assert_eq!(decoded.rejects.iter().map(|r| r.position.major).collect::<Vec<_>>(), [8, 10, 11]);
}

/// Columns that a contract does not name are counted where they have a value.
#[test]
fn columns_that_no_contract_names_are_counted() {
    let contract = contract("n integer", ExtraFields::Ignore);
    let decoded = decode(&Dialect::default(), &contract, b"n,mass,note\n1,,\n2,7.5,\"a \"\"b\"\"\"\n3,8,\n");
    let found: Vec<(&str, u64, &str)> =
        decoded.unknown.iter().map(|f| (f.name.as_str(), f.records, f.example.as_str())).collect();
    assert_eq!(found[0], ("mass", 2, "7.5"));
    assert_eq!((found[1].0, found[1].1), ("note", 1));
}
