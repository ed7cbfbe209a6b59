//! Messages of Avro: drafted with their schema, read bare and by fingerprint, bad ones kept and tried again.

use std::process::Stdio;
use std::time::Duration;

use crate::common::TestProject;
use crate::common::topics::{StandIn, project, rows};
use rdkafka::config::ClientConfig;
use rdkafka::producer::{BaseProducer, BaseRecord, Producer as _};
use serde_json::json;
use sluice_standin::registry::Registry;

const SCHEMA: &str = r#"{"type": "record", "name": "Passage", "fields": [
    {"name": "id", "type": "long"}, {"name": "lock", "type": ["null", "string"]},
    {"name": "passed_at", "type": {"type": "long", "logicalType": "timestamp-millis"}}]}"#;

/// A number of variable length, zigzag.
fn long(value: i64) -> Vec<u8> {
    varint(((value << 1) ^ (value >> 63)).cast_unsigned())
}

/// A number of variable length.
pub(super) fn varint(mut rest: u64) -> Vec<u8> {
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

pub(super) fn send(broker: &StandIn, values: impl Iterator<Item = Vec<u8>>) {
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
    // People see what a message says, not its bytes.
    assert!(out.contains(r#"{"id":0,"lock":"upper","passed_at":"2025-07-01T08:00:00Z"}"#), "{out}");
    let raw = ["peek", "lock-broker:lock.passages", "--schema", "schemas/passage.avsc", "--raw", "--events", "2"];
    let (out, _) = project.expect(0, &raw);
    assert_eq!(out.lines().last().unwrap(), r#"{"id":1,"lock":null,"passed_at":"2025-07-01T08:00:00.001Z"}"#);
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
        ("avro = { schema = \"schemas/passage.avsc\" }\ntombstones = \"null\"", "only where `format` is json"),
        ("avro = { framing = \"registry\" }", "names no schema registry"),
    ] {
        project.write("pipelines/passages.toml", pipeline(avro));
        let (out, err) = project.expect(3, &["check", "passages"]);
        assert!((out + &err).contains(expected), "{avro}: {expected}");
    }
    let (_, err) = project.expect(3, &["peek", "archive:*", "--schema", "schemas/passage.avsc"]);
    assert!(err.contains("--schema is for messages of a topic"), "{err}");
}

/// A message that names its schema by a number.
pub(super) fn numbered(schema: u32, value: Vec<u8>) -> Vec<u8> {
    [vec![0], schema.to_be_bytes().to_vec(), value].concat()
}

fn with_registry() -> (StandIn, Registry, TestProject) {
    let (broker, project) = set_up();
    let registry = Registry::start().unwrap();
    registry.add(1, SCHEMA);
    // Another order, and a field more.
    let later = r#"{"type": "record", "name": "Passage", "fields": [{"name": "fee", "type": "double"},
        {"name": "lock", "type": ["null", "string"]}, {"name": "id", "type": "int"},
        {"name": "passed_at", "type": {"type": "long", "logicalType": "timestamp-micros"}}]}"#;
    registry.add(70_000, later);
    project.append("sluice.toml", format!("registry = \"http://{}/\"\n", registry.address));
    (broker, registry, project)
}

/// A passage of the later schema.
fn later(id: i64) -> Vec<u8> {
    let value = [1.5_f64.to_le_bytes().to_vec(), long(0), long(id), long(1_751_356_800_000_000)].concat();
    numbered(70_000, value)
}

/// Drafts the pipeline from the topic, so that it lands lines of JSON.
fn draft(project: &TestProject) {
    project.expect(0, DRAFT);
    let text = std::fs::read_to_string(project.path("pipelines/passages.toml")).unwrap();
    assert!(text.contains("framing = \"registry\"") && text.contains("id         bigint not null"), "{text}");
    let text =
        text.replace("format  = \"parquet\"", "format  = \"jsonl\"").replace("path    = ", "path    = \"all\" # ");
    project.write("pipelines/passages.toml", &text);
}

const RUN: &[&str] = &["run", "passages", "--until-caught-up"];

#[test]
fn schemas_come_from_the_registry_and_may_change() {
    let (broker, registry, project) = with_registry();
    send(&broker, (0..200).map(|id| numbered(1, passage(id))));
    draft(&project);
    project.expect(0, &["check", "passages"]);
    project.expect(0, &["rehearse", "passages"]);
    send(&broker, (200..300).map(|id| if id % 3 == 0 { later(id) } else { numbered(1, passage(id)) }));
    send(&broker, [numbered(9, passage(300)), passage(301), later(302)].into_iter());
    let before = registry.asked().len();
    project.expect(0, RUN);
    let asked: Vec<String> = registry.asked().split_off(before);
    assert!(asked.iter().filter(|path| *path == "/schemas/ids/1").count() <= 1, "asked once: {asked:?}");
    let landed = rows(&project, "archive/all");
    assert_eq!(landed.len(), 301);
    assert!(landed.contains(&json!({ "id": 201, "lock": null, "passed_at": "2025-07-01T08:00:00Z" })), "{landed:?}");
    let rejects = project.json(&["rejects", "passages", "--show", "5"]);
    let text = rejects.to_string();
    assert!(text.contains("does not know schema 9") && text.contains("does not begin with a zero byte"), "{text}");
    // Once the registry knows it, what was rejected lands.
    registry.add(9, SCHEMA);
    project.expect(0, &["rejects", "passages", "--retry", "--yes"]);
    assert_eq!(rows(&project, "archive/all").len(), 302);
    let replay = project.json(&["replay", "passages", "--batches", "1-", "--yes"]);
    assert_eq!(replay["landed"], 302, "{replay}");
}

#[test]
fn a_registry_that_does_not_answer_is_waited_for() {
    let (broker, registry, project) = with_registry();
    send(&broker, (0..200).map(|id| numbered(1, passage(id))));
    draft(&project);
    registry.set_busy(true);
    let mut run = project.command(RUN).stdout(Stdio::null()).stderr(Stdio::null()).spawn().unwrap();
    std::thread::sleep(Duration::from_millis(2500));
    assert!(run.try_wait().unwrap().is_none(), "it waits");
    assert!(rows(&project, "archive/all").is_empty());
    registry.set_busy(false);
    assert!(run.wait().unwrap().success());
    assert_eq!(rows(&project, "archive/all").len(), 200);
    assert_eq!(project.json(&["rejects", "passages"])["total"], 0);
}

#[test]
fn a_registry_that_refuses_stops_the_run_and_check_says_it() {
    let (broker, registry, project) = with_registry();
    send(&broker, (0..20).map(|id| numbered(1, passage(id))));
    draft(&project);
    registry.want("gauge", "sécret");
    let (out, err) = project.expect(3, &["check", "passages"]);
    assert!((out + &err).contains("refuses: 401"), "check");
    let (_, err) = project.expect(5, RUN);
    assert!(err.contains("refuses: 401") && err.contains("registry_user"), "{err}");
    assert!(rows(&project, "archive/all").is_empty());
    project.append("sluice.toml", "registry_user = \"gauge\"\nregistry_password = { env = \"REGISTRY\" }\n");
    let output = project.command(RUN).env("REGISTRY", "sécret").output().unwrap();
    assert!(output.status.success(), "{output:?}");
    assert_eq!(rows(&project, "archive/all").len(), 20);
    // To another host a password is not sent without encryption.
    let text = std::fs::read_to_string(project.path("sluice.toml")).unwrap();
    project
        .write("sluice.toml", text.replace(&format!("http://{}/", registry.address), "http://registry.tarrow.example"));
    let output = project.command(RUN).env("REGISTRY", "sécret").output().unwrap();
    let err = String::from_utf8_lossy(&output.stderr);
    assert!(err.contains("registry_password would be sent to registry.tarrow.example without encryption"), "{err}");
}
