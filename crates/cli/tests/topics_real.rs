//! Topics of a real broker, which `scripts/services` starts, with the client library of another language beside.
#![allow(clippy::unwrap_used, clippy::panic, reason = "a test that cannot go on has failed")]

mod common;
#[path = "common/topics.rs"]
mod topics;

use std::os::unix::process::ExitStatusExt as _;
use std::process::{Command, Stdio};
use std::time::Duration;

use common::Expected;

/// Makes a topic and sends lines, by key, packed in turn by each way there is.
const PRODUCE: &str = r#"
import sys
from confluent_kafka import Producer
from confluent_kafka.admin import AdminClient, NewTopic
address, topic, partitions = sys.argv[1:4]
admin = AdminClient({"bootstrap.servers": address})
if topic not in admin.list_topics(timeout=10).topics:
    for made in admin.create_topics([NewTopic(topic, int(partitions), 1)]).values():
        made.result(20)
lines = sys.stdin.read().splitlines()
ways = ["none", "gzip", "snappy", "lz4", "zstd"]
for place, way in enumerate(ways):
    producer = Producer({"bootstrap.servers": address, "compression.type": way, "linger.ms": 5})
    for line in lines[place::len(ways)]:
        key, value = line.split("\t", 1)
        producer.produce(topic, key=key, value=value)
        producer.poll(0)
    assert producer.flush(30) == 0
"#;

/// Prints the value of every message, and the end of each partition as fetching finds it.
const CONSUME: &str = r#"
import sys
from confluent_kafka import Consumer, TopicPartition, KafkaError
address, topic, partitions = sys.argv[1], sys.argv[2], int(sys.argv[3])
consumer = Consumer({"bootstrap.servers": address, "group.id": "other", "enable.partition.eof": True})
consumer.assign([TopicPartition(topic, p, 0) for p in range(partitions)])
ends = 0
while ends < partitions:
    message = consumer.poll(10)
    if message is None:
        sys.exit("nothing came")
    if message.error():
        ends += message.error().code() == KafkaError._PARTITION_EOF
    else:
        print(message.value().decode())
"#;

struct Real {
    address: String,
    python: String,
    topic: String,
}

impl Real {
    /// The broker; None, and a word about it, where there is none.
    fn find(topic: &str) -> Option<Self> {
        let place = std::env::var("SLUICE_TEST_BROKER").ok().zip(std::env::var("SLUICE_TEST_PYTHON").ok());
        if place.is_none() {
            assert!(std::env::var_os("SLUICE_TEST_SERVICES").is_none(), "the broker is missing");
            eprintln!("skipped: no broker; scripts/services run starts one");
        }
        let (address, python) = place?;
        Some(Self { address, python, topic: format!("{topic}.{}", std::process::id()) })
    }

    fn script(&self, script: &str) -> Command {
        let mut command = Command::new(&self.python);
        command.args(["-c", script, &self.address, &self.topic, "4"]);
        command
    }

    fn produce(&self, lines: &str) {
        let mut child = self.script(PRODUCE).stdin(Stdio::piped()).spawn().unwrap();
        std::io::Write::write_all(&mut child.stdin.take().unwrap(), topics::keyed(lines).as_bytes()).unwrap();
        assert!(child.wait().unwrap().success());
    }

    fn consume(&self) -> Vec<String> {
        let output = self.script(CONSUME).stderr(Stdio::inherit()).output().unwrap();
        assert!(output.status.success());
        String::from_utf8(output.stdout).unwrap().lines().map(str::to_string).collect()
    }

    fn project(&self) -> common::TestProject {
        let pipeline = topics::pipeline(false).replace("depot.weighings", &self.topic);
        topics::project(&self.address, &pipeline)
    }
}

const RUN: &[&str] = &["run", "weighings", "--until-caught-up"];

#[test]
fn everything_that_another_client_sent_lands_once_although_it_is_killed() {
    let Some(real) = Real::find("real.weighings") else { return };
    let project = real.project();
    let mut expected = Expected::default();
    real.produce(&expected.lines(0, 2_000));
    let (mut killed, mut round) = (0, 0);
    while killed < 12 {
        round += 1;
        assert!(round <= 150, "only {killed} were killed while they worked");
        let mut child = project.command(RUN).stdout(Stdio::null()).stderr(Stdio::null()).spawn().unwrap();
        if round % 5 == 0 {
            real.produce(&expected.lines(round * 1_000 + 2_000, 900));
        }
        std::thread::sleep(Duration::from_millis(u64::from(round * 37 % 150)));
        let _ = child.kill();
        killed += u32::from(child.wait().unwrap().signal() == Some(9));
    }
    project.expect(0, RUN);
    expected.check(&project);
    let standing = project.json(&["positions", "weighings"])["arrivals"][0].clone();
    let read: u64 = standing["partitions"].as_array().unwrap().iter().map(|p| p["ledger"].as_u64().unwrap()).sum();
    assert_eq!(read, real.consume().len() as u64, "each partition was read to the end that fetching finds");
    assert_eq!(standing["behind"]["events"], 0);
}

#[test]
fn another_client_reads_what_was_emitted_and_a_replay_reads_it_again() {
    let Some(real) = Real::find("real.emitted") else { return };
    let project = real.project();
    let mut expected = Expected::default();
    project.write("lines.jsonl", expected.lines(0, 400));
    let into = format!("lock-broker:{}", real.topic);
    let emitted = project
        .command(&["emit", "-", "--into", &into, "--partitions", "4", "--key", "ticket"])
        .stdin(std::fs::File::open(project.path("lines.jsonl")).unwrap())
        .output()
        .unwrap();
    assert!(emitted.status.success(), "{emitted:?}");
    let mut found = real.consume();
    let mut sent: Vec<String> =
        std::fs::read_to_string(project.path("lines.jsonl")).unwrap().lines().map(str::to_string).collect();
    found.sort();
    sent.sort();
    assert_eq!(found, sent);
    project.expect(0, RUN);
    project.expect(0, &["replay", "weighings", "--batches", "2..3", "--yes"]);
    assert_eq!(project.archived(), expected.archive);
    let (out, _) = project.expect(0, &["peek", &into, "--events", "100"]);
    assert!(out.contains("gross_kg") && out.contains("4 partitions"), "{out}");
}
