//! Rows as messages, and read again.

use arrow_array::{
    ArrayRef, BooleanArray, Date32Array, Decimal128Array, Float64Array, Int32Array, Int64Array, RecordBatch,
    StringArray, TimestampMicrosecondArray,
};
use arrow_schema::Schema as ArrowSchema;
use std::sync::Arc;

use super::*;
use crate::columns::OutputColumn;
use crate::limit::Limit;
use crate::types::SqlType;

fn column(name: &str, ty: SqlType, limit: Option<Limit>, nullable: bool) -> OutputColumn {
    OutputColumn { name: name.into(), ty, nullable, limit }
}

fn column_of(name: &str, ty: SqlType) -> OutputColumn {
    column(name, ty, None, true)
}

fn batch(columns: &[OutputColumn], arrays: Vec<ArrayRef>) -> RecordBatch {
    let fields: Vec<_> = columns.iter().map(OutputColumn::field).collect();
    RecordBatch::try_new(Arc::new(ArrowSchema::new(fields)), arrays).unwrap()
}

fn texts(values: &[Option<&str>]) -> ArrayRef {
    Arc::new(StringArray::from(values.to_vec()))
}

/// What our own reader makes of messages.
fn read_back(format: &Protobuf, written: &WrittenMessages) -> Vec<String> {
    let mut from = 0;
    let messages: Vec<Vec<u8>> =
        written.ends.iter().map(|end| written.bytes[std::mem::replace(&mut from, *end)..*end].to_vec()).collect();
    let spelled = format.spelled(&chunk(&messages)).unwrap();
    String::from_utf8(spelled.bytes).unwrap().lines().map(str::to_string).collect()
}

#[test]
fn rows_are_read_as_they_were() {
    let columns = [
        column("id", SqlType::Bigint, None, false),
        column("lock", SqlType::Text, None, false),
        column("lane", SqlType::Integer, None, true),
        column("direction", SqlType::Text, None, false),
        column("levels", SqlType::Json, Some(Limit::List(SqlType::Integer)), false),
        column("tolls", SqlType::Json, None, false),
        column("vessel", SqlType::Json, None, true),
        column("passed_at", SqlType::Timestamptz, None, true),
        column("note", SqlType::Text, None, true),
        column("more", SqlType::Json, None, true),
        column("seal", SqlType::Text, Some(Limit::Bytea), false),
        column("gauge", SqlType::Double, Some(Limit::Real), false),
        column("tide", SqlType::Boolean, None, false),
        column("mark", SqlType::Decimal { precision: 20, scale: 0 }, None, false),
    ];
    let moments =
        TimestampMicrosecondArray::from(vec![Some(-1), None, Some(1_751_346_367_000_008)]).with_timezone("UTC");
    let marks = Decimal128Array::from(vec![0, i128::from(u64::MAX), 7]).with_data_type(columns[13].ty.arrow());
    let rows = batch(
        &columns,
        vec![
            Arc::new(Int64Array::from(vec![i64::MIN, 0, 7])),
            texts(&[Some("upper ä\0"), Some(""), Some("lower")]),
            Arc::new(Int32Array::from(vec![Some(0), None, Some(-3)])),
            texts(&[Some("UPSTREAM"), Some("DOWNSTREAM"), Some("UPSTREAM")]),
            texts(&[Some("[]"), Some("[1,-2]"), Some("[2147483647]")]),
            texts(&[Some("{}"), Some("{\"b\":18446744073709551615,\"a\":1}"), Some("{\"\":0}")]),
            texts(&[None, Some("{\"name\":\"Teal\",\"draught\":1.5}"), Some("{}")]),
            Arc::new(moments),
            texts(&[Some(""), None, Some("n")]),
            texts(&[None, Some("{\"a\":[1,null,{\"b\":true}]}"), Some("{}")]),
            texts(&[Some("\\x"), Some("\\x00ff"), Some("\\x41")]),
            Arc::new(Float64Array::from(vec![0.1, f64::NAN, f64::NEG_INFINITY])),
            Arc::new(BooleanArray::from(vec![true, false, true])),
            Arc::new(marks),
        ],
    );
    let format = passages();
    let writer = MessageWriter::new(&format, &columns).unwrap();
    assert!(writer.may_refuse());
    let written = writer.write(&rows, &[]);
    assert_eq!(written.refused, []);
    let back = read_back(&format, &written);
    let of = |text: &str| serde_json::from_str::<serde_json::Value>(text).unwrap();
    let expected = [
        r#"{"id":-9223372036854775808,"lock":"upper ä\u0000","lane":0,"direction":"UPSTREAM","levels":[],"tolls":{},
            "passed_at":"1969-12-31T23:59:59.999999Z","note":"","seal":"\\x","gauge":0.1,"tide":true,"values":[],"mark":0}"#,
        r#"{"id":0,"lock":"","direction":"DOWNSTREAM","levels":[1,-2],"tolls":{"a":1,"b":18446744073709551615},
            "vessel":{"name":"Teal","draught":1.5},"more":{"a":[1,null,{"b":true}]},"seal":"\\x00ff","gauge":"NaN","tide":false,
            "values":[],"mark":18446744073709551615}"#,
        r#"{"id":7,"lock":"lower","lane":-3,"direction":"UPSTREAM","levels":[2147483647],"tolls":{"":0},"vessel":{"name":""},
            "passed_at":"2025-07-01T05:06:07.000008Z","note":"n","more":{},"seal":"\\x41","gauge":"-Infinity","tide":true,
            "values":[],"mark":7}"#,
    ];
    for (found, expected) in back.iter().zip(expected) {
        assert_eq!(of(found), of(expected), "{found}");
    }
    assert_eq!(back.len(), 3);
}

#[test]
fn rows_that_are_no_messages_are_refused_and_the_others_stay() {
    let columns = [
        column("lane", SqlType::Bigint, None, true),
        column("direction", SqlType::Text, None, false),
        column("levels", SqlType::Json, Some(Limit::List(SqlType::Bigint)), false),
        column("vessel", SqlType::Json, None, true),
        column("passed_at", SqlType::Timestamptz, None, true),
        column("mark", SqlType::Bigint, None, false),
    ];
    let far = 253_402_300_800_000_000;
    let rows = batch(
        &columns,
        vec![
            Arc::new(Int64Array::from(vec![Some(1), Some(3_000_000_000), None, None, None, None, None, None])),
            texts(&[
                Some("UPSTREAM"),
                Some("UPSTREAM"),
                Some("up\u{1b}[31m"),
                Some("UPSTREAM"),
                Some("UPSTREAM"),
                Some("UPSTREAM"),
                Some("UPSTREAM"),
                Some("UPSTREAM"),
            ]),
            texts(&[
                Some("[1]"),
                Some("[1]"),
                Some("[1]"),
                Some("[1,null]"),
                Some("[2147483648]"),
                Some("[1]"),
                Some("[1]"),
                Some("[1]"),
            ]),
            texts(&[None, None, None, None, None, Some("{\"nam\":\"Teal\"}"), None, None]),
            Arc::new(
                TimestampMicrosecondArray::from(vec![None, None, None, None, None, None, Some(far), Some(far - 1)])
                    .with_timezone("UTC"),
            ),
            Arc::new(Int64Array::from(vec![1, 1, 1, 1, 1, 1, 1, -1])),
        ],
    );
    let format = passages();
    let written = MessageWriter::new(&format, &columns).unwrap().write(&rows, &[9, 9]);
    let said: Vec<(usize, &str)> = written.refused.iter().map(|r| (r.row, r.column.as_str())).collect();
    let expected =
        [(1, "lane"), (2, "direction"), (3, "levels"), (4, "levels"), (5, "vessel"), (6, "passed_at"), (7, "mark")];
    assert_eq!(said, expected);
    assert!(written.refused.iter().all(|r| !r.message.contains('\u{1b}')), "{:?}", written.refused);
    assert!(written.bytes.starts_with(&[9, 9]) && written.ends.iter().all(|end| *end == written.bytes.len()));
}

#[rstest]
#[case::unknown(column("loc", SqlType::Text, None, false), "no field `loc`", "`lock`")]
#[case::null(column("lock", SqlType::Text, None, true), "may be null", "optional")]
#[case::null_list(
    column("levels", SqlType::Json, Some(Limit::List(SqlType::Integer)), true),
    "an empty one",
    "coalesce"
)]
#[case::double(column("gauge", SqlType::Double, None, false), "the field is float", "::real")]
#[case::text(column("seal", SqlType::Text, None, false), "the field is bytes", "::bytea")]
#[case::decimal(column("id", SqlType::Decimal { precision: 5, scale: 2 }, None, false), "is decimal(5,2)", "string")]
#[case::list(column("levels", SqlType::Json, Some(Limit::List(SqlType::Text)), false), "is text[]", "string")]
#[case::message(column("vessel", SqlType::Text, None, true), "tarrow.Passage.Vessel", "::json")]
fn what_does_not_go_together_is_said(#[case] column: OutputColumn, #[case] why: &str, #[case] help: &str) {
    let misfits = MessageWriter::new(&passages(), &[column, column_of("more", SqlType::Date)]).unwrap_err();
    assert!(misfits[0].message.contains(why) && misfits[0].help.contains(help), "{misfits:?}");
    assert_eq!(misfits.len(), 2, "all is said at once");
}

#[test]
fn a_message_has_one_field_of_a_group() {
    let columns =
        [column("pilot_name", SqlType::Text, None, true), column("pilot_number", SqlType::Bigint, None, true)];
    let rows = batch(
        &columns,
        vec![
            texts(&[Some("Ada"), None, Some("Ada"), None]),
            Arc::new(Int64Array::from(vec![None, Some(7), Some(7), None])),
        ],
    );
    let written = MessageWriter::new(&passages(), &columns).unwrap().write(&rows, &[]);
    assert_eq!(written.refused.iter().map(|r| r.row).collect::<Vec<_>>(), [2]);
    assert!(written.refused[0].message.contains("`pilot_name`"), "{:?}", written.refused);
}

#[test]
fn required_fields_need_a_column() {
    let old = format("syntax = \"proto2\"; message Toll { required int64 id = 1; optional string lock = 2; }", "Toll");
    let misfits = MessageWriter::new(&old, &[column("lock", SqlType::Text, None, true)]).unwrap_err();
    assert!(misfits[0].message.contains("requires `id`"), "{misfits:?}");
    assert!(MessageWriter::new(&old, &[column("id", SqlType::Bigint, None, true)]).is_err());
    assert!(MessageWriter::new(&old, &[column("id", SqlType::Bigint, None, false)]).is_ok());
}

/// The place that is written is the one that is read.
#[rstest]
#[case("tarrow.Passage", &[0])]
#[case("tarrow.Passage.Vessel", &[4, 0, 0])]
fn the_place_of_a_type(#[case] message: &str, #[case] expected: &[u8]) {
    let writer = MessageWriter::new(&format(SCHEMA, message), &[]).unwrap();
    assert_eq!(writer.place(), expected);
    let text = format!("syntax = \"proto3\";\n{}", (0..70).map(|n| format!("message M{n} {{}}\n")).collect::<String>());
    assert_eq!(MessageWriter::new(&format(&text, "M69"), &[]).unwrap().place(), [2, 0x8a, 1]);
}

/// The schema that is drawn of columns takes their rows.
#[test]
fn a_drawn_schema_takes_every_column() {
    let columns = [
        column("id", SqlType::Bigint, None, false),
        column("lock", SqlType::Text, None, true),
        column("lane", SqlType::Integer, None, true),
        column("tide", SqlType::Boolean, None, true),
        column("gauge", SqlType::Double, None, true),
        column("narrow", SqlType::Double, Some(Limit::Real), true),
        column("toll", SqlType::Decimal { precision: 8, scale: 2 }, None, true),
        column("day", SqlType::Date, None, true),
        column("passed_at", SqlType::Timestamptz, None, true),
        column("more", SqlType::Json, None, true),
        column("raw", SqlType::Text, Some(Limit::Bytea), true),
        column("opens", SqlType::Text, Some(Limit::Time), true),
        column("tags", SqlType::Json, Some(Limit::List(SqlType::Decimal { precision: 5, scale: 2 })), false),
    ];
    let text = message_of("Passage", &columns);
    assert!(text.contains("  optional google.protobuf.Timestamp passed_at = 9;\n"), "{text}");
    let format = format(&text, "Passage");
    let writer = MessageWriter::new(&format, &columns).unwrap();
    let tolls = Decimal128Array::from(vec![-105]).with_data_type(columns[6].ty.arrow());
    let rows = batch(
        &columns,
        vec![
            Arc::new(Int64Array::from(vec![1])),
            texts(&[Some("upper")]),
            Arc::new(Int32Array::from(vec![2])),
            Arc::new(BooleanArray::from(vec![true])),
            Arc::new(Float64Array::from(vec![0.5])),
            Arc::new(Float64Array::from(vec![0.1])),
            Arc::new(tolls),
            Arc::new(Date32Array::from(vec![0])),
            Arc::new(TimestampMicrosecondArray::from(vec![0]).with_timezone("UTC")),
            texts(&[Some("{\"a\":1}")]),
            texts(&[Some("\\x00")]),
            texts(&[Some("08:05:00")]),
            texts(&[Some("[1.50]")]),
        ],
    );
    let back = read_back(&format, &writer.write(&rows, &[]));
    assert_eq!(
        back,
        [
            "{\"id\":1,\"lock\":\"upper\",\"lane\":2,\"tide\":true,\"gauge\":0.5,\"narrow\":0.1,\"toll\":\"-1.05\",\"day\":\"1970-01-01\",\
          \"passed_at\":\"1970-01-01T00:00:00Z\",\"more\":\"{\\\"a\\\":1}\",\"raw\":\"\\\\x00\",\"opens\":\"08:05:00\",\"tags\":[\"1.50\"]}"
        ]
    );
}
