//! JSON Lines under a contract.

use rstest::rstest;

use super::*;
use crate::columns::OutputColumn;
use crate::config::ExtraFields;
use crate::contract::parse_fields;
use crate::event::{Chunk, Position};
use crate::formats::Decoded;
use crate::problem::Problems;
use crate::sql::tests::embed;
use crate::values::json::write_lines;

fn contract(fields: &str, extra: ExtraFields) -> Contract {
    let mut problems = Problems::new();
    let fields = parse_fields(&embed(fields), &mut problems);
    assert!(problems.is_empty(), "{:?}", problems.into_sorted());
    Contract { fields, extra, may_lack: false }
}

fn chunk(bytes: &[u8]) -> Chunk {
    let cut = JsonLines.cut(bytes, u64::MAX);
    let tail = u64::from(!is_blank(&bytes[cut.bytes..]));
    Chunk {
        partition: "a.jsonl".into(),
        from: Position::at(1000),
        to: Position::at(1000 + bytes.len() as u64),
        bytes: bytes.to_vec(),
        records: cut.records + tail,
        ..Chunk::default()
    }
}

fn decode(contract: &Contract, bytes: &[u8]) -> Decoded {
    let chunk = chunk(bytes);
    let decoded = JsonLines.decoder(contract).decode(&chunk);
    let counted = decoded.rows.spans.len() + decoded.rejects.len();
    assert_eq!(counted as u64, chunk.records, "reader and decoder count alike");
    assert_eq!(decoded.rows.batch.num_rows(), decoded.rows.spans.len());
    decoded
}

fn lines(contract: &Contract, decoded: &Decoded) -> String {
    let mut columns: Vec<OutputColumn> = contract
        .fields
        .iter()
        .map(|f| OutputColumn { name: f.name.clone(), ty: f.ty, nullable: true, limit: None })
        .collect();
    if contract.extra == ExtraFields::Keep {
        columns.push(OutputColumn {
            name: "extra".into(),
            ty: crate::types::SqlType::Json,
            nullable: true,
            limit: None,
        });
    }
    let mut out = String::new();
    write_lines(&mut out, &decoded.rows.batch, &columns);
    out
}

const ALL: &str = "t text, b boolean, i integer, l bigint, d double precision, n decimal(6,2), day date,
    at timestamptz, j json, kind text from 'cargo.kind', deep integer from 'cargo.size.w'";

#[rstest]
#[case(r#"{"t":"x"}"#, r#""t":"x""#)]
#[case(r#"{"t":12.50}"#, r#""t":"12.50""#)]
#[case(r#"{"t":true}"#, r#""t":"true""#)]
#[case(r#"{"t":"a\"b\\\u00e9\ud83d\udea2\n"}"#, "\"t\":\"a\\\"b\\\\é🚢\\n\"")]
#[case(r#"{"t":"閘門 🚢"}"#, r#""t":"閘門 🚢""#)]
#[case(r#"{ "t" : "x" , "zz" : [1,{"a":"]"}] }"#, r#""t":"x""#)]
#[case(r#"{"b":false}"#, r#""b":false"#)]
#[case(r#"{"b":"true"}"#, r#""b":true"#)]
#[case(r#"{"i":-7}"#, r#""i":-7"#)]
#[case(r#"{"i":"7"}"#, r#""i":7"#)]
#[case(r#"{"i":7.0}"#, r#""i":7"#)]
#[case(r#"{"l":9223372036854775807}"#, r#""l":9223372036854775807"#)]
#[case(r#"{"d":1.5e3}"#, r#""d":1500"#)]
#[case(r#"{"n":12.3}"#, r#""n":12.30"#)]
#[case(r#"{"n":"12.34"}"#, r#""n":12.34"#)]
#[case(r#"{"day":"2026-04-01"}"#, r#""day":"2026-04-01""#)]
#[case(r#"{"at":"2026-04-01T08:15:00+02:00"}"#, r#""at":"2026-04-01T06:15:00Z""#)]
#[case(r#"{"j":{"a": [1, "x"]}}"#, r#""j":{"a": [1, "x"]}"#)]
#[case(r#"{"j":"text"}"#, r#""j":"text""#)]
#[case(r#"{"j":null}"#, r#""j":null"#)]
#[case(r#"{"cargo":{"kind":"ore","size":{"w":3}}}"#, r#""kind":"ore","deep":3"#)]
#[case(r#"{"cargo":null}"#, r#""kind":null"#)]
#[case(r#"{}"#, r#""t":null,"b":null"#)]
fn good_values(#[case] record: &str, #[case] expected: &str) {
    let contract = contract(ALL, ExtraFields::Ignore);
    let decoded = decode(&contract, record.as_bytes());
    assert!(decoded.rejects.is_empty(), "{:?}", decoded.rejects);
    let lines = lines(&contract, &decoded);
    assert!(lines.contains(expected), "{lines}");
}

#[rstest]
#[case(r#"{"i":2147483648}"#, Reason::RANGE, Some("i"))]
#[case(r#"{"i":1.5}"#, Reason::RANGE, Some("i"))]
#[case(r#"{"i":"many"}"#, Reason::TYPE, Some("i"))]
#[case(r#"{"i":true}"#, Reason::TYPE, Some("i"))]
#[case(r#"{"i":[1]}"#, Reason::TYPE, Some("i"))]
#[case(r#"{"b":1}"#, Reason::TYPE, Some("b"))]
#[case(r#"{"n":12.345}"#, Reason::RANGE, Some("n"))]
#[case(r#"{"n":12345.6}"#, Reason::RANGE, Some("n"))]
#[case(r#"{"d":1e999}"#, Reason::RANGE, Some("d"))]
#[case(r#"{"day":"1.4.2026"}"#, Reason::FORMAT, Some("day"))]
#[case(r#"{"at":"2026-04-01T08:15:00"}"#, Reason::FORMAT, Some("at"))]
#[case(r#"{"at":1775024100}"#, Reason::TYPE, Some("at"))]
#[case(r#"{"t":{}}"#, Reason::TYPE, Some("t"))]
#[case(r#"{"cargo":"ore"}"#, Reason::TYPE, Some("cargo"))]
#[case(r#"{"t":"a","t":"b"}"#, Reason::TWICE, Some("t"))]
#[case(r#"{"t":"a""#, Reason::NOT_JSON, None)]
#[case(r#"{"t":"a"} x"#, Reason::NOT_JSON, None)]
#[case(r#"{"t":007}"#, Reason::NOT_JSON, None)]
#[case(r#"{"t":nul}"#, Reason::NOT_JSON, None)]
#[case(r#"{"t":"\x"}"#, Reason::NOT_JSON, None)]
#[case(r#"{"t":"\ud800"}"#, Reason::NOT_JSON, Some("t"))]
#[case(r#"["t"]"#, Reason::NOT_JSON, None)]
#[case(r#"{t:1}"#, Reason::NOT_JSON, None)]
#[case(r#"{"zz":[1,}"#, Reason::NOT_JSON, None)]
fn bad_values(#[case] record: &str, #[case] reason: Reason, #[case] field: Option<&str>) {
    let contract = contract(ALL, ExtraFields::Ignore);
    let text = format!("{{\"t\":\"before\",\"i\":1}}\n{record}\n{{\"t\":\"after\",\"i\":2}}\n");
    let decoded = decode(&contract, text.as_bytes());
    let reject = &decoded.rejects[0];
    assert_eq!((reject.reason, reject.field.as_deref()), (reason, field), "{}", reject.message);
    assert_eq!(reject.bytes, record.as_bytes());
    assert_eq!(reject.position, Position::at(1000 + 21));
    let lines = lines(&contract, &decoded);
    assert_eq!(lines.lines().count(), 2);
    assert!(lines.contains("before") && lines.contains("after"));
}

use crate::reject::Reason;

#[rstest]
#[case("{}", "missing")]
#[case(r#"{"a":null}"#, "null")]
fn what_must_be_there_is_asked_for(#[case] record: &str, #[case] word: &str) {
    let decoded = decode(&contract("a text not null", ExtraFields::Ignore), record.as_bytes());
    assert_eq!(decoded.rejects[0].reason, Reason::MISSING);
    assert!(decoded.rejects[0].message.contains(word));
}

#[test]
fn a_missing_field_is_led_to_the_key_that_is_probably_meant() {
    let contract = contract("ticket text not null, depot text", ExtraFields::Ignore);
    let message = |record: &str| decode(&contract, record.as_bytes()).rejects[0].message.clone();
    assert_eq!(message(r#"{"depot":"x","tikcet":"y"}"#), "the field is missing; the record has `tikcet`");
    assert_eq!(message(r#"{"depot":"x","zzz":"y"}"#), "the field is missing");
}

#[test]
fn only_the_record_that_is_not_utf8_is_rejected() {
    let decoded = decode(&contract("a text", ExtraFields::Ignore), b"{\"a\":\"x\"}\n{\"a\":\"\xff\"}\n{\"a\":\"y\"}\n");
    assert_eq!(decoded.rows.spans.len(), 2);
    assert_eq!(decoded.rejects[0].reason, Reason::NOT_UTF8);
}

#[rstest]
#[case(ExtraFields::Ignore, Some("{\"a\":\"x\"}\n"))]
#[case(ExtraFields::Keep, Some("{\"a\":\"x\",\"extra\":{\"b\":[1, 2],\"c.d\":\"y\"}}\n"))]
#[case(ExtraFields::Reject, None)]
fn extra_fields(#[case] extra: ExtraFields, #[case] expected: Option<&str>) {
    let contract = contract("a text, e text from 'c.e'", extra);
    let decoded = decode(&contract, br#"{"a":"x","b":[1, 2],"c":{"d":"y"}}"#);
    match expected {
        Some(text) => {
            assert_eq!(lines(&contract, &decoded).replace("\"e\":null,", "").replace(",\"e\":null", ""), text)
        }
        None => assert_eq!(decoded.rejects[0].field.as_deref(), Some("b")),
    }
}

#[rstest]
#[case("at timestamptz format 'epoch_ms'", r#"{"at":1775024100250}"#, "2026-04-01T06:15:00.250Z")]
#[case("at timestamptz format 'epoch_s'", r#"{"at":"1775024100.25"}"#, "2026-04-01T06:15:00.250Z")]
#[case("at timestamptz format '%d.%m.%Y %H:%M'", r#"{"at":"01.04.2026 06:15"}"#, "2026-04-01T06:15:00Z")]
fn time_formats(#[case] fields: &str, #[case] record: &str, #[case] expected: &str) {
    let contract = contract(fields, ExtraFields::Ignore);
    let decoded = decode(&contract, record.as_bytes());
    assert!(lines(&contract, &decoded).contains(expected), "{:?}", decoded.rejects);
}

#[test]
fn one_value_can_feed_two_fields() {
    let contract = contract("c json from 'cargo', kind text from 'cargo.kind'", ExtraFields::Ignore);
    let decoded = decode(&contract, br#"{"cargo":{"kind":"ore"}}"#);
    assert_eq!(lines(&contract, &decoded), "{\"c\":{\"kind\":\"ore\"},\"kind\":\"ore\"}\n");
}

#[test]
fn keys_may_change_their_order_and_be_escaped() {
    let contract = contract("a integer, b integer", ExtraFields::Ignore);
    let text = b"{\"a\":1,\"b\":2}\n{\"b\":4,\"a\":3}\n{\"x\":0,\"\\u0061\":5,\"b\":6}\n";
    assert_eq!(lines(&contract, &decode(&contract, text)), "{\"a\":1,\"b\":2}\n{\"a\":3,\"b\":4}\n{\"a\":5,\"b\":6}\n");
}

#[rstest]
#[case("{\"a\":1}\n{\"a\":2}\n{\"a\"", u64::MAX, 16, 2)]
#[case("{\"a\":1}\n{\"a\":2}\n", 1, 8, 1)]
#[case("\n \r\n{\"a\":1}\r\n\n", u64::MAX, 14, 1)]
#[case("{\"a\":1}", u64::MAX, 0, 0)]
fn cutting_whole_records(#[case] text: &str, #[case] limit: u64, #[case] bytes: usize, #[case] records: u64) {
    assert_eq!(JsonLines.cut(text.as_bytes(), limit), Cut { bytes, records });
}

#[rstest]
#[case("{\"a\":{\"b\":\"}\"}}", true)]
#[case(" {\"a\":1} ", true)]
#[case("{\"a\":1", false)]
#[case("12", false)]
#[case("", false)]
fn an_object_ends_by_itself(#[case] tail: &str, #[case] whole: bool) {
    assert_eq!(JsonLines.is_whole(tail.as_bytes(), None) == Tail::Whole, whole);
}

#[test]
fn deep_nesting_is_refused_without_harm() {
    let deep = format!("{{\"z\":{}{}}}", "[".repeat(100_000), "]".repeat(100_000));
    let decoded = decode(&contract("a text", ExtraFields::Ignore), deep.as_bytes());
    assert_eq!(decoded.rejects[0].reason, Reason::NOT_JSON);
}

#[rstest]
#[case(b"\x0c\t")]
#[case(b" \x0c\n\t\r\n\x0c")]
fn lines_of_blanks_are_no_records(#[case] bytes: &[u8]) {
    assert_eq!(decode(&contract("a text", ExtraFields::Ignore), bytes).rejects.len(), 0);
}

proptest::proptest! {
    #[test]
    fn any_bytes_are_decoded_without_panic_and_all_are_counted(bytes: Vec<u8>) {
        decode(&contract(ALL, ExtraFields::Keep), &bytes);
    }

    #[test]
    fn any_text_survives(text: String) {
        let contract = contract("t text", ExtraFields::Ignore);
        let mut record = String::from("{\"t\":");
        crate::values::json::write_string(&mut record, &text);
        record.push('}');
        let decoded = decode(&contract, record.as_bytes());
        let line = lines(&contract, &decoded);
        let value: serde_json::Value = serde_json::from_str(&line).unwrap();
        proptest::prop_assert_eq!(value["t"].as_str().unwrap(), text);
    }
}

#[test]
fn a_mark_of_the_byte_order_is_passed_over_at_the_beginning_alone() {
    let contract = contract("t text not null", ExtraFields::Ignore);
    let mut start = chunk(b"\xef\xbb\xbf{\"t\":\"x\"}\n");
    start.from = Position::at(0);
    assert_eq!(JsonLines.decoder(&contract).decode(&start).rows.spans.len(), 1);
    start.from = Position::at(7);
    assert_eq!(JsonLines.decoder(&contract).decode(&start).rejects.len(), 1);
}

/// The chunk of messages with these values.
fn messages(values: &[&str]) -> Chunk {
    use crate::event::{Message, Messages, RecordSpan};
    let (mut bytes, mut each) = (Vec::new(), Vec::new());
    for (offset, value) in (40..).zip(values) {
        let at = |n: usize| u32::try_from(n).unwrap();
        let span = RecordSpan { start: at(bytes.len()), end: at(bytes.len() + value.len()) };
        each.push(Message { span, offset, time: None, key: None, headers: None });
        bytes.extend_from_slice(value.as_bytes());
        bytes.push(b'\n');
    }
    let records = values.len() as u64;
    let messages = Some(std::sync::Arc::new(Messages { each, ..Messages::default() }));
    Chunk { bytes, records, messages, from: Position::at(40), ..chunk(b"") }
}

#[test]
fn a_message_is_one_record_whatever_stands_in_it() {
    let contract = contract("i integer not null, j json", ExtraFields::Ignore);
    let chunk = messages(&["{\n  \"i\": 1,\n  \"j\": {\n    \"a\": 2 }\n}", "", "{\"i\":2}\n{\"i\":3}", "{\"i\":4}  "]);
    let decoded = JsonLines.decoder(&contract).decode(&chunk);
    // A line end within a value of JSON does not break the line that it lands in.
    assert_eq!(lines(&contract, &decoded), "{\"i\":1,\"j\":{     \"a\": 2 }}\n{\"i\":4,\"j\":null}\n");
    let offsets: Vec<u64> = decoded.rejects.iter().map(|r| r.position.major).collect();
    assert_eq!(offsets, [41, 42]);
    assert!(decoded.rejects.iter().all(|r| r.reason == Reason::NOT_JSON));
}

/// Whatever becomes of them: fields that a contract does not name are counted, with their paths and the first place.
#[rstest]
fn fields_that_no_contract_names_are_counted(
    #[values(ExtraFields::Ignore, ExtraFields::Keep, ExtraFields::Reject)] extra: ExtraFields,
) {
    let contract = contract("n integer, kind text from 'cargo.kind'", extra);
    let lines = concat!(
        "{\"n\":1,\"cargo\":{\"kind\":\"salt\"}}\n",
        "{\"n\":2,\"x\\u00e9\":[1,2],\"cargo\":{\"kind\":\"salt\",\"kg\":7.5}}\n",
        "{\"n\":3,\"cargo\":{\"kg\":8}}\n",
    );
    let decoded = decode(&contract, lines.as_bytes());
    let mut found: Vec<(&str, u64, u64, &str)> =
        decoded.unknown.iter().map(|f| (f.name.as_str(), f.records, f.first.major, f.example.as_str())).collect();
    found.sort_unstable();
    let second = 1000 + lines.find('\n').unwrap() as u64 + 1;
    match extra {
        // A record is rejected at the first of them.
        ExtraFields::Reject => assert_eq!(found.last().unwrap(), &("x\u{e9}", 1, second, "[1,2]")),
        _ => assert_eq!(found, [("cargo.kg", 2, second, "7.5"), ("x\u{e9}", 1, second, "[1,2]")]),
    }
}

/// Narrower types are checked, and what is spelled otherwise is kept in one spelling.
#[test]
fn narrower_types_are_checked_where_values_arrive() {
    let fields = "a smallint, b real, c varchar(3), d char(2), e uuid not null";
    let contract = contract(fields, ExtraFields::Keep);
    let id = "a0eebc99-9c0b-4ef8-bb6d-6bb9bd380a11";
    let good =
        format!("{{\"a\":-7,\"b\":0.1234567891,\"c\":\"äöü\",\"d\":\"x   \",\"e\":\"{}\"}}\n", id.to_uppercase());
    let bad = [
        ("\"a\":32768", "32768 does not fit smallint"),
        ("\"b\":1e39", "does not fit real"),
        ("\"c\":\"lock\"", "a text of 4 characters does not fit varchar(3): `lock`"),
        ("\"d\":\"abc\"", "a text of 3 characters does not fit char(2): `abc`"),
        ("\"x\":1,\"e\":\"no\"", "`no` is no uuid"),
    ];
    let with = |part: &str| match part.contains("\"e\"") {
        true => format!("{{{part}}}\n"),
        false => format!("{{{part},\"e\":\"{id}\"}}\n"),
    };
    let text =
        bad.iter().map(|(part, _)| with(part) + &good).collect::<String>() + &format!("{{\"a\":null,\"e\":\"{id}\"}}");
    let decoded = decode(&contract, text.as_bytes());
    let said: Vec<&str> = decoded.rejects.iter().map(|r| r.message.as_str()).collect();
    assert_eq!(said.len(), bad.len(), "{said:?}");
    said.iter().zip(bad).for_each(|(said, (_, expected))| assert!(said.ends_with(expected), "{said}"));
    let rows = lines(&contract, &decoded);
    let expected = format!("\"a\":-7,\"b\":0.12345679,\"c\":\"äöü\",\"d\":\"x\",\"e\":\"{id}\"");
    assert_eq!((rows.lines().count(), rows.matches(&expected).count()), (6, 5), "{rows}");
}

/// A name with half of a surrogate pair is that of no other field, however it begins.
#[rstest]
#[case(r#"{"t":"a","t\ud800":"b","i":1}"#, "a")]
#[case(r#"{"t\ud800":"b","t":"a","i":1}"#, "a")]
#[case(r#"{"t\udc00x":"b","t":"a","i":1}"#, "a")]
fn half_a_surrogate_pair_makes_another_name(#[case] record: &str, #[case] expected: &str) {
    let contract = contract(ALL, ExtraFields::Ignore);
    let decoded = decode(&contract, format!("{record}\n").as_bytes());
    assert_eq!(decoded.rejects.len(), 0, "{:?}", decoded.rejects.first().map(|r| &r.message));
    assert!(lines(&contract, &decoded).contains(&format!("\"t\":\"{expected}\"")));
    // Alone it gives the field no value.
    let decoded = decode(&contract, b"{\"t\\ud800\":\"zed\",\"i\":1}\n");
    assert!(lines(&contract, &decoded).contains("\"t\":null"), "{}", lines(&contract, &decoded));
}
