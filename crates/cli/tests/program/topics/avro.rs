//! Messages of Avro: drafted with their schema, read bare and by fingerprint, bad ones kept and tried again.

use std::time::Duration;

use crate::common::TestProject;
use crate::common::topics::{StandIn, project, rows};
use rdkafka::config::ClientConfig;
use rdkafka::producer::{BaseProducer, BaseRecord, Producer as _};
use serde_json::json;

const SCHEMA: &str = r#"{"type": "record", "name": "Passage", "fields": [
    {"name": "id", "type": "long"}, {"name": "lock", "type": ["null", "string"]},
    {"name": "passed_at", "type": {"type": "long", "logicalType": "timestamp-millis"}}]}"#;

/// A number of variable length, zigzag.
fn long(value: i64) -> Vec<u8> {
    let mut rest = u64::from_ne_bytes(((value << 1) ^ (value >> 63)).to_ne_bytes());
    let mut out = Vec::new();
    while rest >= 0x80 {
        out.push(u8::try_from(rest & 0x7f).unwrap() | 0x80);
        rest >>= 7;
    }
    out.push(u8::try_from(rest).unwrap());
    out
}

fn passage(id: i64) -> Vec<u8> {
    let lock = if id % 2 == 0 { [long(1), long(5), b"upper".to_vec()].concat() } else { long(0) };
    [long(id), lock, long(1_751_356_800_000 + id)].concat()
}

fn send(broker: &StandIn, values: impl Iterator<Item = Vec<u8>>) {
    let producer: BaseProducer = ClientConfig::new().set("bootstrap.servers", &broker.address).create().unwrap();
    for value in values {
        producer.send(BaseRecord::<[u8], [u8]>::to("lock.passages").payload(&value)).map_err(|(e, _)| e).unwrap();
    }
    producer.flush(Duration::from_secs(60)).unwrap();
}

fn set_up() -> (StandIn, TestProject) {
    let broker = StandIn::start(&["--topic", "lock.passages:1"]);
    let project = project(&broker.address, "");
    std::fs::remove_file(project.path("pipelines/weighings.toml")).unwrap();
    project.write("schemas/passage.avsc", SCHEMA);
    (broker, project)
}

const DRAFT: &[&str] = &["draft", "passages", "lock-broker:lock.passages", "--land-in", "archive"];

#[test]
fn a_topic_of_avro_is_drafted_with_its_schema_and_lands() {
    let (broker, project) = set_up();
    send(&broker, (0..300).map(passage));
    let (_, err) = project.expect(3, DRAFT);
    assert!(err.contains("--schema FILE"), "{err}");
    let (out, _) = project.expect(0, &["peek", "lock-broker:lock.passages", "--schema", "schemas/passage.avsc"]);
    assert!(out.contains("messages of Avro") && out.contains("passed_at  timestamptz"), "{out}");
    project.expect(0, &[DRAFT, &["--schema", "schemas/passage.avsc"]].concat());
    let text = std::fs::read_to_string(project.path("pipelines/passages.toml")).unwrap();
    for part in ["format = \"avro\"", "schema = [\"schemas/passage.avsc\"]", "id         bigint not null"] {
        assert!(text.contains(part), "{part} in {text}");
    }
    let text =
        text.replace("format  = \"parquet\"", "format  = \"jsonl\"").replace("path    = ", "path    = \"all\" # ");
    project.write("pipelines/passages.toml", &text);
    project.expect(0, &["check", "passages"]);
    // One that is cut off, and one of another schema.
    send(&broker, [passage(300)[..3].to_vec(), passage(301), [passage(302), vec![9]].concat()].into_iter());
    project.expect(0, &["run", "passages", "--until-caught-up"]);
    let landed = rows(&project, "archive/all");
    assert_eq!(landed.len(), 301);
    assert!(landed.contains(&json!({ "id": 7, "lock": null, "passed_at": "2025-07-01T08:00:00.007Z" })), "{landed:?}");
    let rejects = project.json(&["rejects", "passages"]);
    assert_eq!((&rejects["total"], &rejects["groups"][0]["reason"]), (&2.into(), &"not_avro".into()), "{rejects}");

    // With the schema that they were written with, what was rejected lands.
    let wider = SCHEMA
        .replace("]}\"#", "")
        .replace("\"timestamp-millis\"}}]}", "\"timestamp-millis\"}}, {\"name\": \"more\", \"type\": \"int\"}]}");
    project.write("schemas/passage.avsc", wider);
    project.expect(0, &["rejects", "passages", "--retry", "--yes"]);
    assert_eq!(rows(&project, "archive/all").len(), 302);
}

#[test]
fn what_is_missing_is_said_before_the_run() {
    let (_broker, project) = set_up();
    let pipeline = |avro: &str| {
        format!(
            "pipeline = \"passages\"\n[event.passage]\nfields = \"id bigint not null\"\n[event.passage.arrives]\nat = \
             \"lock-broker\"\ntopic = \"lock.passages\"\nformat = \"avro\"\n{avro}\n[event.passage.lands.archive]\nat = \
             \"archive\"\npath = \"all\"\n"
        )
    };
    for (avro, expected) in [
        ("", "a message does not say which schema it has"),
        ("avro = { schema = \"schemas/none.avsc\" }", "schemas/none.avsc: No such file"),
        ("avro = { schema = \"sluice.toml\" }", "sluice.toml is not an Avro schema"),
        ("avro = { schema = [\"schemas/passage.avsc\", \"schemas/passage.avsc\"] }", "framed bare have one schema"),
        ("avro = { schema = \"schemas/passage.avsc\", framing = \"other\" }", "framing"),
    ] {
        project.write("pipelines/passages.toml", pipeline(avro));
        let (out, err) = project.expect(3, &["check", "passages"]);
        assert!((out + &err).contains(expected), "{avro}: {expected}");
    }
    let (_, err) = project.expect(3, &["peek", "archive:*", "--schema", "schemas/passage.avsc"]);
    assert!(err.contains("--schema is for messages of a topic"), "{err}");
}
