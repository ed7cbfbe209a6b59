//! Messages of Protobuf.

mod written;

use rstest::rstest;

use super::*;
use crate::config::ExtraFields;
use crate::contract::parse_fields;
use crate::event::SchemaLanguage;
use crate::formats::spelled::testing::{chunk, decoded, varint};
use crate::mutate::attack;
use crate::sql::tests::embed;

const SCHEMA: &str = r#"
syntax = "proto3";
package tarrow;
import "google/protobuf/duration.proto";
import "google/protobuf/struct.proto";
import "google/protobuf/timestamp.proto";
import "google/protobuf/wrappers.proto";

enum Direction { UPSTREAM = 0; DOWNSTREAM = 1; }

message Passage {
  message Vessel { string name = 1; optional double draught = 2; Passage last = 3; }
  int64 id = 1;
  string lock = 2;
  optional int32 lane = 3;
  Direction direction = 4;
  repeated sint32 levels = 5;
  map<string, uint64> tolls = 6;
  Vessel vessel = 7;
  google.protobuf.Timestamp passed_at = 8;
  google.protobuf.Duration took = 9;
  google.protobuf.StringValue note = 10;
  google.protobuf.Struct more = 11;
  oneof pilot { string pilot_name = 12; uint32 pilot_number = 13; }
  bytes seal = 14;
  float gauge = 15;
  bool tide = 16;
  repeated google.protobuf.Value values = 17;
  fixed64 mark = 18;
}
"#;

/// A field with a number as its value.
fn number(field: u64, value: u64) -> Vec<u8> {
    [varint(field << 3), varint(value)].concat()
}

/// A field with bytes as its value: a text, a message, or numbers together.
fn held(field: u64, value: &[u8]) -> Vec<u8> {
    [varint(field << 3 | 2), varint(value.len() as u64), value.to_vec()].concat()
}

fn format(text: &str, message: &str) -> Protobuf {
    Protobuf::of_schema(&[("s.proto".into(), text.into())], Some(message)).unwrap()
}

fn passages() -> Protobuf {
    format(SCHEMA, "tarrow.Passage")
}

/// What a message is as JSON.
fn json(format: &Protobuf, message: &[u8]) -> String {
    let spelled = format.spelled(&chunk(&[message.to_vec()])).unwrap();
    assert_eq!(spelled.records, 1, "{message:?}");
    String::from_utf8(spelled.bytes).unwrap().trim_end().to_string()
}

#[test]
fn every_kind_of_value_is_what_it_means() {
    let number_value = |value: f64| [vec![2 << 3 | 1], value.to_le_bytes().to_vec()].concat();
    let entry = |key: &str, value: &[u8]| held(1, &[held(1, key.as_bytes()), held(2, value)].concat());
    let list = held(6, &[held(1, &number(1, 0)), held(1, &number(4, 1))].concat());
    let more = [entry("z", &number_value(1.5)), entry("a", &list)].concat();
    let message = [
        number(1, (-7_i64).cast_unsigned()),
        held(2, "Ald\"er".as_bytes()),
        number(3, 0),
        number(4, 1),
        held(5, &[1, 2, 3]),
        held(6, &[held(1, b"day"), number(2, u64::MAX)].concat()),
        held(7, &[held(1, b"Petrel"), vec![2 << 3 | 1], 1.1_f64.to_le_bytes().to_vec()].concat()),
        held(8, &[number(1, 1_700_000_000), number(2, 120)].concat()),
        held(9, &[number(1, 90), number(2, 500_000_000)].concat()),
        held(10, &held(1, b"late")),
        held(11, &more),
        number(13, 4_000_000_000),
        held(14, &[0, 255]),
        [vec![15 << 3 | 5], 0.1_f32.to_le_bytes().to_vec()].concat(),
        number(16, 1),
        held(17, &number(1, 0)),
        held(17, &held(3, b"x")),
        [varint(18 << 3 | 1), 5_u64.to_le_bytes().to_vec()].concat(),
    ]
    .concat();
    let expected = concat!(
        r#"{"id":-7,"lock":"Ald\"er","lane":0,"direction":"DOWNSTREAM","levels":[-1,1,-2],"tolls":{"day":18446744073709551615},"#,
        r#""vessel":{"name":"Petrel","draught":1.1},"passed_at":"2023-11-14T22:13:20.00000012Z","took":"00:01:30.5","#,
        r#""note":"late","more":{"a":[null,true],"z":1.5},"pilot_number":4000000000,"seal":"\\x00ff","gauge":0.1,"#,
        r#""tide":true,"values":[null,"x"],"mark":5}"#
    );
    assert_eq!(json(&passages(), &message), expected);
}

/// What was not sent has its default, unless the schema can tell that it was not sent.
#[test]
fn what_was_not_sent() {
    let expected = concat!(
        r#"{"id":0,"lock":"","direction":"UPSTREAM","levels":[],"tolls":{},"seal":"\\x","gauge":0,"tide":false,"values":[],"#,
        r#""mark":0}"#
    );
    assert_eq!(json(&passages(), b""), expected);
    let older = r#"syntax = "proto2"; message Gauge { required int32 id = 1; optional int32 level = 2; optional string unit = 3 [default = "cm"]; }"#;
    let older = format(older, "Gauge");
    assert_eq!(json(&older, &number(1, 3)), r#"{"id":3,"unit":"cm"}"#);
    assert_eq!(json(&older, &[number(1, 3), held(3, b"m")].concat()), r#"{"id":3,"unit":"m"}"#);
}

#[test]
fn what_a_later_schema_sends_is_kept_or_passed_over() {
    let message = [number(1, 1), number(4, 9), held(99, b"new")].concat();
    assert!(json(&passages(), &message).starts_with(r#"{"id":1,"lock":"","direction":"9","#));
    // The last of several values counts, and messages are put together.
    let twice = [number(1, 1), number(1, 2), held(7, &held(1, b"a")), held(7, &[17, 0, 0, 0, 0, 0, 0, 0, 0])].concat();
    assert!(json(&passages(), &twice).contains(r#""id":2"#));
    assert!(json(&passages(), &twice).contains(r#""vessel":{"name":"a","draught":0}"#));
}

fn contract(fields: &str) -> Contract {
    let mut problems = Problems::new();
    let fields = parse_fields(&embed(fields), &mut problems);
    assert!(problems.is_empty(), "{:?}", problems.into_sorted());
    Contract { fields, extra: ExtraFields::Ignore, may_lack: false }
}

/// A bad message costs itself alone, wherever it stands, and is kept as it was.
#[rstest]
#[case::cut(number(1, 300)[..2].to_vec(), "not_protobuf")]
#[case::wrong_wire_type(held(1, b"xx"), "not_protobuf")]
#[case::not_utf8(held(2, &[0xff, 0xfe]), "not_protobuf")]
#[case::field_zero(vec![0, 0], "not_protobuf")]
#[case::endless(vec![0xff; 12], "not_protobuf")]
#[case::huge_length([varint(2 << 3 | 2), varint(u64::MAX)].concat(), "not_protobuf")]
#[case::another_type(held(99, b"other"), "not_protobuf")]
#[case::too_large_for_the_contract(number(1, 1 << 40), "range")]
fn a_bad_message_costs_itself_alone(#[case] bad: Vec<u8>, #[case] reason: &str) {
    let contract = contract("id integer not null, lock text");
    let passage = |id: u64| [number(1, id), held(2, b"Alder")].concat();
    for places in [vec![0], vec![3], vec![6], vec![0, 1, 5], (0..7).collect()] {
        let values: Vec<Vec<u8>> = (0..7).map(|n| if places.contains(&n) { bad.clone() } else { passage(n) }).collect();
        let (rows, origins, rejects) = decoded(&passages(), &contract, &values);
        let good: Vec<u64> = (0..7).filter(|n| !places.contains(n)).collect();
        assert_eq!(rows, good.iter().map(|n| format!(r#"{{"id":{n},"lock":"Alder"}}"#)).collect::<Vec<_>>());
        assert_eq!(origins, good.iter().map(|n| passage(*n)).collect::<Vec<_>>());
        let seen: Vec<_> = rejects.iter().map(|r| (r.position.major, r.reason.word(), r.bytes.as_slice())).collect();
        assert_eq!(seen, places.iter().map(|p| (10 + 2 * p, reason, bad.as_slice())).collect::<Vec<_>>());
    }
}

/// Messages that hold their own kind again and again go no deeper than is safe.
#[test]
fn messages_without_end_are_bad() {
    let mut message = number(1, 1);
    for _ in 0..5_000 {
        message = held(7, &held(3, &message));
    }
    let (rows, _, rejects) = decoded(&passages(), &contract("id bigint"), &[message, number(1, 2)]);
    assert_eq!((rows, rejects.len()), (vec![r#"{"id":2}"#.to_string()], 1));
}

#[rstest]
#[case("message A {}", None, "A")]
#[case("message A { B b = 1; } message B {}", None, "A")]
#[case("message A { map<string, B> b = 1; A a = 2; } message B {}", None, "A")]
#[case("message A {} message B {}", None, "several messages: A, B")]
#[case("message A { B b = 1; } message B { A a = 1; }", None, "several messages: A, B")]
#[case("message A {} message B {}", Some("B"), "B")]
#[case("message A { message C {} } message B {}", Some("A.C"), "A.C")]
#[case("message Passage {}", Some("Pasage"), "did you mean Passage?")]
#[case("message A {}", Some("tarrow.B"), "there is no message tarrow.B, but A")]
#[case("enum E { X = 0; }", None, "declares no message")]
#[case("message A { Q q = 1; }", None, "Q")]
#[case("message A { ", None, "s.proto")]
#[case("import \"gone.proto\"; message A {}", None, "gone.proto")]
fn the_message_is_found_or_the_reason_is_said(#[case] text: &str, #[case] name: Option<&str>, #[case] expected: &str) {
    let files = [("s.proto".to_string(), format!("syntax = \"proto3\"; {text}").into_bytes())];
    let found = Protobuf::of_schema(&files, name).map(|format| format.message.unwrap());
    match found {
        Ok(found) => assert_eq!(found, expected),
        Err(why) => assert!(why.contains(expected) && !why.contains('\n'), "{why}"),
    }
}

#[test]
fn files_import_each_other_in_any_order_and_stand_in_a_set_of_descriptors() {
    let files = |order: [usize; 3]| -> Vec<(String, Vec<u8>)> {
        let all = [
            (
                "schemas/tarrow/passage.proto",
                "import \"tarrow/lock.proto\"; package tarrow; message Passage { Lock lock = 1; }",
            ),
            (
                "schemas/tarrow/lock.proto",
                "import \"tarrow/units.proto\"; package tarrow; message Lock { Unit unit = 1; }",
            ),
            ("schemas/tarrow/units.proto", "package tarrow; enum Unit { CM = 0; } message Scale {}"),
        ];
        order.map(|i| (all[i].0.into(), format!("syntax = \"proto3\"; {}", all[i].1).into_bytes())).to_vec()
    };
    let message = held(1, &number(1, 0));
    for order in [[0, 1, 2], [2, 1, 0], [1, 2, 0]] {
        let found = Protobuf::of_schema(&files(order), None).unwrap();
        assert_eq!(found.message_name(), Some("tarrow.Passage"));
        assert_eq!(json(&found, &message), r#"{"lock":{"unit":"CM"}}"#);
    }
    let schema = Schema::new(&files([0, 1, 2])).unwrap();
    let set = ("passage.desc".to_string(), schema.descriptors());
    let found = Protobuf::of_schema(std::slice::from_ref(&set), None).unwrap();
    assert_eq!(
        (found.message_name(), json(&found, &message).as_str()),
        (Some("tarrow.Passage"), r#"{"lock":{"unit":"CM"}}"#)
    );
    assert!(Schema::new(&[set.clone(), set.clone()]).unwrap_err().contains("stands by itself"));
    assert!(Schema::new(&[("a.desc".into(), b"\xff\xff".to_vec())]).is_err());
    assert!(Schema::new(&[("a.desc".into(), Vec::new())]).unwrap_err().contains("describes nothing"));
}

/// A file that would take a reader down with it, and files that were damaged.
#[test]
fn schemas_from_outside_are_read_or_refused() {
    let deep = format!("syntax = \"proto3\"; {} {}", "message A { ".repeat(50_000), "} ".repeat(50_000));
    assert!(Schema::new(&[("s.proto".into(), deep.into_bytes())]).unwrap_err().contains("too deep"));
    let set = Schema::new(&[("s.proto".into(), SCHEMA.into())]).unwrap().descriptors();
    attack(&[SCHEMA.as_bytes().to_vec()], |bytes| drop(Schema::new(&[("s.proto".into(), bytes.to_vec())])));
    attack(&[set], |bytes| drop(Schema::new(&[("s.desc".into(), bytes.to_vec())]).map(|s| s.messages())));
}

#[test]
fn the_types_are_those_of_the_schema() {
    let declared = passages().declared();
    let shown: Vec<String> = declared
        .iter()
        .map(|d| {
            format!(
                "{} {}{}{}",
                d.path.join("."),
                d.ty,
                if d.nullable { "" } else { " !" },
                if d.is_map { " map" } else { "" }
            )
        })
        .collect();
    let expected = [
        "id bigint !",
        "lock text !",
        "lane integer",
        "direction text !",
        "levels json !",
        "tolls json ! map",
        "vessel json",
        "vessel.name text !",
        "vessel.draught double precision",
        "vessel.last json",
        "passed_at timestamptz",
        "took text",
        "note text",
        "more json",
        "pilot_name text",
        "pilot_number bigint",
        "seal text !",
        "gauge double precision !",
        "tide boolean !",
        "values json !",
        "mark decimal(20,0) !",
    ];
    assert_eq!(shown, expected);
}

fn framed(number: u32, place: &[u8], value: &[u8]) -> Vec<u8> {
    [&[0], &number.to_be_bytes()[..], place, value].concat()
}

/// Versions of one message type, told apart by the numbers of their schemas.
#[test]
fn a_registry_names_the_schema_and_the_place_of_the_type() {
    let schema = |text: &str, references: &[(&str, &str)]| {
        let references = references.iter().map(|(n, t)| ((*n).to_string(), (*t).to_string())).collect();
        let text = format!("syntax = \"proto3\"; package tarrow; {text}");
        Ok(Arc::new(RegisteredSchema { language: SchemaLanguage::Protobuf, text, references }))
    };
    let lock = "syntax = \"proto3\"; package tarrow; message Lock { string name = 1; }";
    let schemas = [
        (
            1,
            schema(
                "message Passage { int32 id = 1; message Stop { int32 at = 1; } } message Toll { int32 id = 2; }",
                &[],
            ),
        ),
        (
            2,
            schema(
                "import \"lock.proto\"; message Passage { int64 number = 1; Lock lock = 2; }",
                &[("lock.proto", lock)],
            ),
        ),
        (3, Err("it does not answer".to_string())),
        (4, schema("message {", &[])),
    ];
    let values = [
        framed(1, &[0], &number(1, 5)),
        framed(2, &[0], &[number(1, 6), held(2, &held(1, b"Alder"))].concat()),
        framed(1, &[2, 2], &number(2, 7)),
        framed(1, &[4, 0, 0], &number(1, 8)),
        framed(1, &[2, 6], &number(1, 9)),
        framed(3, &[0], &number(1, 9)),
        framed(4, &[0], &number(1, 9)),
        framed(5, &[0], &number(1, 9)),
        framed(1, &[], b""),
        number(1, 9),
    ];
    let mut chunk = chunk(&values);
    chunk.schemas = Some(Arc::new(schemas.into_iter().collect()));
    let (rows, rejects) = Messages::new(&Protobuf::of_registry()).as_json(&chunk);
    let expected = "{\"id\":5}\n{\"number\":6,\"lock\":{\"name\":\"Alder\"}}\n{\"id\":7}\n{\"at\":8}\n";
    assert_eq!(String::from_utf8(rows.bytes).unwrap(), expected);
    let why: Vec<&str> = rejects.iter().map(|r| r.message.as_str()).collect();
    for (why, expected) in why.iter().zip([
        "no message at the place [3]",
        "does not answer",
        "schema 4 cannot be read: schema 4:",
        "schema 5 was not asked for",
        "not followed by the place",
        "does not begin with a zero byte",
    ]) {
        assert!(why.contains(expected), "{why}: {expected}");
    }
    assert_eq!(why.len(), 6);
}

/// Bytes of every kind end in rows or rejects, one for each message.
#[test]
fn random_and_damaged_messages() {
    let contract =
        contract("id bigint, lock text, direction text, levels json, tolls json, passed_at timestamptz, more json");
    let good = [
        number(1, 5),
        held(2, b"Alder"),
        held(5, &[1, 2]),
        held(8, &number(1, 1_700_000_000)),
        held(11, &held(1, b"")),
    ];
    attack(&[good.concat()], |bytes| drop(decoded(&passages(), &contract, &[bytes.to_vec(), good.concat()])));
}
