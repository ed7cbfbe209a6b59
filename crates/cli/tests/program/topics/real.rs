//! Topics of a real broker, which `scripts/services` starts, with the client library of another language beside.

use std::os::unix::process::ExitStatusExt as _;
use std::process::{Command, Stdio};
use std::time::{Duration, Instant};

use crate::common::running::{Running, wait_for};
use crate::common::topics;
use crate::common::topics::{Random, admin};
use crate::common::{Expected, TestProject};
use rdkafka::config::ClientConfig;
use rdkafka::producer::{BaseProducer, BaseRecord, Producer as _};
use rstest::rstest;

/// Makes a topic and sends lines, by key, with each compression in turn.
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

const DELETE: &str = r#"
import sys
from confluent_kafka.admin import AdminClient
admin = AdminClient({"bootstrap.servers": sys.argv[1]})
for gone in admin.delete_topics([sys.argv[2]]).values():
    gone.result(20)
"#;

struct Real {
    address: String,
    python: String,
    topic: String,
}

impl Real {
    /// The broker; None, with a note on standard error, where there is none.
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

    fn project(&self) -> TestProject {
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
    project.expect(0, &["replay", "weighings", "--batches", "2-3", "--yes"]);
    assert_eq!(project.archived(), expected.archive);
    let (out, _) = project.expect(0, &["peek", &into, "--events", "100"]);
    assert!(out.contains("gross_kg") && out.contains("4 partitions"), "{out}");
}

/// This broker answers a fetch of a deleted topic with a leader and without the topic's id.
#[rstest]
#[case("real.gone", "")]
#[case("real.away", "*")]
fn a_topic_that_is_deleted_stops_the_run_and_not_the_process(#[case] topic: &str, #[case] more: &str) {
    let Some(real) = Real::find(topic) else { return };
    let pipeline = topics::pipeline(false).replace("depot.weighings", &format!("{}{more}", real.topic));
    let project = topics::project(&real.address, &pipeline);
    let mut expected = Expected::default();
    real.produce(&expected.lines(0, 400));
    let run = Running::start(&project, &["run", "weighings"]);
    wait_for(|| project.archived() == expected.archive);
    assert!(real.script(DELETE).status().unwrap().success());
    let (code, said) = run.end();
    assert_eq!(code, 6, "{said}");
    assert!(said.contains("no longer exists"), "{said}");
    assert_eq!(project.archived(), expected.archive);
}

/// Asked for the end of a partition, this broker counts the last batch of messages as one.
#[test]
fn a_partition_may_be_quiet_whatever_this_broker_says_of_its_end() {
    let Some(real) = Real::find("real.quiet") else { return };
    let project = real.project();
    let mut expected = Expected::default();
    real.produce(&expected.lines(0, 400));
    let mut run = Running::start(&project, &["run", "weighings"]);
    wait_for(|| project.archived() == expected.archive);
    std::thread::sleep(Duration::from_secs(7));
    assert!(run.goes_on(), "{}", run.said());
    real.produce(&expected.lines(400, 400));
    wait_for(|| project.archived() == expected.archive);
    let (code, said) = run.settle();
    assert_eq!(code, 0, "{said}");
}

const PARTITIONS: u32 = 2;

/// A day at random: messages come, the topic begins later, the run sleeps and is killed. The topic is not recreated: for a
/// moment this broker may then serve messages of the old one, which stops the run as it should.
struct Day {
    address: String,
    topic: String,
    project: TestProject,
    random: Random,
    run: Option<Running>,
    /// Numbers sent so far: each of them must land once.
    sent: u64,
    done: Vec<String>,
}

impl Day {
    fn produce(&mut self) {
        let mut config = ClientConfig::new();
        config.set("bootstrap.servers", &self.address).set("enable.idempotence", "true");
        let producer: BaseProducer = config.create().unwrap();
        for _ in 0..1 + self.random.below(200) {
            let value = format!("{{\"n\":{}}}", self.sent);
            let partition = i32::try_from(self.random.below(PARTITIONS.into())).unwrap();
            producer.send(BaseRecord::<str, str>::to(&self.topic).payload(&value).partition(partition)).unwrap();
            self.sent += 1;
        }
        producer.flush(Duration::from_secs(30)).unwrap();
    }

    fn step(&mut self) {
        let action = self.random.below(12);
        self.done.push(format!("action {action} after {} were sent", self.sent));
        match action {
            0..=3 => self.produce(),
            4 | 5 => {
                if let Some(run) = self.run.take() {
                    run.signal("KILL");
                    let _ = run.end();
                }
            }
            6 => {
                self.signal("STOP");
                self.produce();
                self.signal("CONT");
            }
            8 => {
                self.catch_up();
                let ends = topics::latest(&self.address, &self.topic, PARTITIONS);
                for (partition, end) in (0..).zip(ends) {
                    admin::delete_before(&self.address, &self.topic, partition, i64::try_from(end / 2).unwrap());
                }
            }
            _ => std::thread::sleep(Duration::from_millis(self.random.below(300))),
        }
        self.look_after();
    }

    fn signal(&self, name: &str) {
        if let Some(run) = &self.run {
            run.signal(name);
        }
    }

    fn landed(&self) -> Vec<u64> {
        topics::numbers(&self.project, "archive/all")
    }

    fn catch_up(&mut self) {
        let started = Instant::now();
        while (self.landed().len() as u64) < self.sent {
            self.look_after();
            if started.elapsed() > Duration::from_secs(180) {
                let (code, said) = self.run.take().unwrap().settle();
                panic!("{} of {} landed, exit {code}: {said}\n{:#?}", self.landed().len(), self.sent, self.done);
            }
            std::thread::sleep(Duration::from_millis(100));
        }
        self.look_after();
    }

    /// Starts the run if it is not running. A broker that is slow to answer at the start loses nothing.
    fn look_after(&mut self) {
        match self.run.take().map(Running::ended) {
            None => self.run = Some(Running::start(&self.project, &["run", "weighings"])),
            Some(Err(run)) => self.run = Some(run),
            Some(Ok((code, said))) => {
                assert_eq!(code, 5, "{said}\n{:#?}", self.done);
                self.done.push(said);
                self.run = Some(Running::start(&self.project, &["run", "weighings"]));
            }
        }
    }
}

#[rstest]
#[case(1)]
#[case(2)]
#[case(3)]
#[case(4)]
fn after_any_day_of_this_broker_everything_that_was_sent_has_landed_once(#[case] seed: u64) {
    let Some(real) = Real::find(&format!("real.day{seed}")) else { return };
    admin::make(&real.address, &real.topic, PARTITIONS.cast_signed());
    let pipeline = topics::simple("").replace("depot.weighings", &real.topic);
    let pipeline = pipeline.replace("batch = { rows = 100 }", "batch = { rows = 90, every = \"80ms\" }");
    let project = topics::project(&real.address, &pipeline);
    let (address, topic) = (real.address.clone(), real.topic.clone());
    let random = Random(seed.wrapping_mul(0x9e37_79b9_7f4a_7c15));
    let mut day = Day { address, topic, project, random, run: None, sent: 0, done: Vec::new() };
    day.produce();
    day.catch_up();
    for _ in 0..25 {
        day.step();
    }
    day.catch_up();
    let (code, said) = day.run.take().unwrap().settle();
    assert!(code == 0 || code == 130, "{said}");
    assert_eq!(day.landed(), (0..day.sent).collect::<Vec<u64>>(), "{:#?}", day.done);
}
