//! Messages of Avro.

use rstest::rstest;

use super::*;
use crate::config::ExtraFields;
use crate::contract::parse_fields;
use crate::formats::spelled::testing::{self, chunk};
use crate::reject::Reject;
use crate::sql::tests::embed;

const SCHEMA: &str = r#"{"type": "record", "name": "Passage", "namespace": "tarrow", "fields": [
    {"name": "id", "type": "long"}, {"name": "lock", "type": ["null", "string"]}]}"#;

const WIDER: &str = r#"{"type": "record", "name": "Passage", "namespace": "tarrow", "fields": [
    {"name": "id", "type": "long"}, {"name": "lock", "type": ["null", "string"]}, {"name": "fee", "type": "double"}]}"#;

/// A number of variable length, zigzag.
fn long(value: i64) -> Vec<u8> {
    testing::varint(((value << 1) ^ (value >> 63)).cast_unsigned())
}

fn passage(id: i64, lock: Option<&str>) -> Vec<u8> {
    let mut out = long(id);
    match lock {
        None => out.extend(long(0)),
        Some(lock) => {
            out.extend(long(1));
            out.extend(long(i64::try_from(lock.len()).unwrap()));
            out.extend_from_slice(lock.as_bytes());
        }
    }
    out
}

fn framed(schema: &str, value: &[u8]) -> Vec<u8> {
    use arrow_avro::schema::{AvroSchema, Fingerprint, FingerprintAlgorithm};
    let digest = AvroSchema::new(schema.into()).fingerprint(FingerprintAlgorithm::Rabin).unwrap();
    let Fingerprint::Rabin(digest) = digest else { unreachable!() };
    [&[0xc3, 0x01], &digest.to_le_bytes()[..], value].concat()
}

fn contract() -> Contract {
    let mut problems = Problems::new();
    let fields = parse_fields(&embed("id integer not null, lock text, fee double precision"), &mut problems);
    assert!(problems.is_empty());
    Contract { fields, extra: ExtraFields::Ignore, may_lack: false }
}

/// The rows as JSON, with the messages that they came from, and the rejects.
fn decoded(format: &Avro, values: &[Vec<u8>]) -> (Vec<String>, Vec<Vec<u8>>, Vec<Reject>) {
    testing::decoded(format, &contract(), values)
}

fn of(schemas: &[&str], framing: Framing) -> Avro {
    Avro { schemas: schemas.iter().map(|s| ("s.avsc".to_string(), (*s).to_string())).collect(), framing }
}

#[test]
fn messages_are_values_of_the_schema() {
    let values = [passage(1, Some("upper")), passage(-70_000, None), passage(3, Some("閘門\n"))];
    let (rows, origins, rejects) = decoded(&of(&[SCHEMA], Framing::Bare), &values);
    let expected = [
        r#"{"id":1,"lock":"upper","fee":null}"#,
        r#"{"id":-70000,"lock":null,"fee":null}"#,
        r#"{"id":3,"lock":"閘門\n","fee":null}"#,
    ];
    assert_eq!((rows, origins, rejects.len()), (expected.map(String::from).to_vec(), values.to_vec(), 0));
}

/// A bad message costs itself alone, wherever it stands, and is kept as it was.
#[rstest]
#[case::cut(passage(2, Some("lower"))[..4].to_vec(), "not_avro")]
#[case::empty(Vec::new(), "not_avro")]
#[case::longer([passage(2, None), vec![0]].concat(), "not_avro")]
#[case::no_such_branch([long(2), long(5)].concat(), "not_avro")]
#[case::not_utf8([long(2), long(1), long(2), vec![0xff, 0xfe]].concat(), "not_avro")]
#[case::endless(vec![0xff; 12], "not_avro")]
#[case::negative_length([long(2), long(1), long(-3)].concat(), "not_avro")]
#[case::huge_length([long(2), long(1), long(i64::MAX)].concat(), "not_avro")]
#[case::too_large_for_the_contract(passage(1 << 40, None), "range")]
fn a_bad_message_costs_itself_alone(#[case] bad: Vec<u8>, #[case] reason: &str) {
    let format = of(&[SCHEMA], Framing::Bare);
    for places in [vec![0], vec![3], vec![6], vec![0, 1, 5], (0..7).collect()] {
        let values: Vec<Vec<u8>> =
            (0..7).map(|n| if places.contains(&n) { bad.clone() } else { passage(n, Some("upper")) }).collect();
        let (rows, origins, rejects) = decoded(&format, &values);
        let good: Vec<i64> = (0..7).filter(|n| !places.contains(n)).collect();
        assert_eq!(rows, good.iter().map(|n| format!(r#"{{"id":{n},"lock":"upper","fee":null}}"#)).collect::<Vec<_>>());
        assert_eq!(origins, good.iter().map(|n| passage(*n, Some("upper"))).collect::<Vec<_>>());
        let seen: Vec<(u64, &str, &[u8])> =
            rejects.iter().map(|r| (r.position.major, r.reason.word(), r.bytes.as_slice())).collect();
        let offset = |place: &i64| 10 + 2 * u64::try_from(*place).unwrap();
        assert_eq!(seen, places.iter().map(|p| (offset(p), reason, bad.as_slice())).collect::<Vec<_>>());
    }
}

#[test]
fn messages_that_name_their_schema_may_change_it() {
    let format = of(&[SCHEMA, WIDER], Framing::SingleObject);
    let wide = [passage(2, None), 1.5_f64.to_le_bytes().to_vec()].concat();
    let unknown = WIDER.replace("fee", "toll");
    let values = [
        framed(SCHEMA, &passage(1, Some("upper"))),
        framed(WIDER, &wide),
        framed(SCHEMA, &passage(3, None)),
        framed(&unknown, &wide),
        passage(5, None),
    ];
    let (rows, _, rejects) = decoded(&format, &values);
    let expected = [
        r#"{"id":1,"lock":"upper","fee":null}"#,
        r#"{"id":2,"lock":null,"fee":1.5}"#,
        r#"{"id":3,"lock":null,"fee":null}"#,
    ];
    assert_eq!(rows, expected);
    let messages: Vec<&str> = rejects.iter().map(|r| r.message.as_str()).collect();
    assert!(messages[0].starts_with("no schema of `avro.schema` has the fingerprint"), "{messages:?}");
    assert!(messages[1].contains("does not begin with the bytes C3 01"), "{messages:?}");
}

#[test]
fn a_profile_counts_messages_and_takes_declared_types() {
    let format = of(&[WIDER], Framing::Bare);
    let wide = |n| [passage(n, Some("upper")), 1.5_f64.to_le_bytes().to_vec()].concat();
    let mut profile = Profile { declared: format.declared(), ..Profile::default() };
    profile.add_chunk(&chunk(&[wide(1), vec![1], wide(2)]), &format);
    assert_eq!((profile.events, profile.broken_count), (2, 1));
    let types: Vec<String> = profile.guesses().iter().map(|g| format!("{} {}", g.name, g.guess.ty)).collect();
    assert_eq!(types, ["id bigint", "lock text", "fee double precision"]);
}

/// Bytes of every kind end in rows or rejects, one for each message.
#[test]
fn random_messages() {
    let format = of(&[WIDER], Framing::Bare);
    let mut state = 1_u64;
    let mut byte = || {
        state = state.wrapping_mul(6_364_136_223_846_793_005).wrapping_add(1_442_695_040_888_963_407);
        u8::try_from(state >> 56).unwrap()
    };
    for _ in 0..200 {
        let values: Vec<Vec<u8>> = (0..20).map(|_| (0..byte() % 24).map(|_| byte()).collect()).collect();
        decoded(&format, &values);
    }
}
