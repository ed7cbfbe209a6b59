//! A broker in memory for one test, and independent clients for it.

use std::collections::BTreeMap;
use std::io::{BufRead as _, BufReader, Write as _};
use std::process::{Child, ChildStdin, ChildStdout, Command, Stdio};
use std::sync::Mutex;
use std::time::Duration;

use crate::common::{PIPELINE, TestProject, visible_files};
use rdkafka::consumer::{BaseConsumer, Consumer as _};
use serde_json::Value;

/// The stand-in broker as a process of its own; it ends with the test.
pub struct StandIn {
    child: Child,
    /// Its commands and answers; one thread uses them at a time.
    talk: Mutex<(ChildStdin, BufReader<ChildStdout>)>,
    /// HOST:PORT.
    pub address: String,
}

impl StandIn {
    /// Starts one with topics such as `lock.passages:4`.
    pub fn start(arguments: &[&str]) -> Self {
        Self::start_at("127.0.0.1:0", arguments)
    }

    /// Starts one at an address.
    pub fn start_at(listen: &str, arguments: &[&str]) -> Self {
        let child = Command::new(assert_cmd::cargo::cargo_bin!("sluice"))
            .args(["stand-in", "broker", "--listen", listen])
            .args(arguments)
            .env("STAND_IN_PASSWORD", "gate-7")
            .stdin(Stdio::piped())
            .stdout(Stdio::piped())
            .spawn();
        let mut child = child.unwrap();
        let (input, output) = (child.stdin.take().unwrap(), child.stdout.take().unwrap());
        // From here on it ends with the test, however that ends.
        let mut broker = Self { child, talk: Mutex::new((input, BufReader::new(output))), address: String::new() };
        while broker.address.is_empty() {
            let mut line = String::new();
            let read = broker.talk.lock().unwrap().1.read_line(&mut line).unwrap();
            assert!(read > 0, "the broker did not start");
            if let Some((_, url)) = line.split_once("url = \"kafka://") {
                broker.address = url.trim_end().trim_end_matches('"').to_string();
            }
        }
        broker
    }

    /// Tells it to do something; gives its answer.
    pub fn command(&self, line: &str) -> String {
        let mut talk = self.talk.lock().unwrap();
        writeln!(talk.0, "{line}").unwrap();
        let mut answer = String::new();
        talk.1.read_line(&mut answer).unwrap();
        assert!(!answer.starts_with("no: "), "{line}: {answer}");
        answer.trim_end().to_string()
    }
}

impl Drop for StandIn {
    fn drop(&mut self) {
        let _ = self.child.kill();
        let _ = self.child.wait();
    }
}

/// Whether a program of the test's surroundings is there. Where everything must be, its absence is a failure.
pub fn has(program: &str) -> bool {
    let there = Command::new("sh").args(["-c", &format!("command -v {program}")]).output().unwrap().status.success();
    assert!(there || std::env::var_os("SLUICE_TEST_SERVICES").is_none(), "{program} is missing");
    if !there {
        eprintln!("skipped: {program} is not installed");
    }
    there
}

fn kcat(address: &str, arguments: &[&str]) -> Command {
    let mut command = Command::new("kcat");
    command.args(["-b", address]).args(arguments);
    command
}

/// Sends lines, each with a key before a tab, to all partitions by their keys. Where a busy machine loses the connection, kcat connects
/// again (`-E`), and the topic has a message that was sent twice only once.
pub fn produce(address: &str, topic: &str, lines: &str, arguments: &[&str]) {
    let mut command = kcat(address, &["-P", "-E", "-X", "enable.idempotence=true", "-t", topic, "-K", "\t"]);
    let mut child = command.args(arguments).stdin(Stdio::piped()).spawn().unwrap();
    child.stdin.take().unwrap().write_all(lines.as_bytes()).unwrap();
    assert!(child.wait().unwrap().success());
}

/// The lines of weighings, each with its ticket as the key.
pub fn keyed(lines: &str) -> String {
    let ticket = |line: &str| line.split('"').nth(3).unwrap_or_default().to_string();
    lines.lines().map(|line| format!("{}\t{line}\n", ticket(line))).collect()
}

/// What an independent client reads of a topic, as kcat's format says; only committed messages.
pub fn consume(address: &str, topic: &str, format: &str) -> Vec<String> {
    let arguments =
        ["-C", "-t", topic, "-e", "-q", "-o", "beginning", "-X", "isolation.level=read_committed", "-f", format];
    let output = kcat(address, &arguments).output().unwrap();
    assert!(output.status.success(), "{output:?}");
    String::from_utf8(output.stdout).unwrap().lines().map(str::to_string).collect()
}

/// How often each ticket is in a topic.
pub fn tickets(address: &str, topic: &str) -> BTreeMap<String, u32> {
    let mut found = BTreeMap::new();
    for line in consume(address, topic, "%s\\n") {
        let value: Value = serde_json::from_str(&line).unwrap();
        *found.entry(value["ticket"].as_str().unwrap().to_string()).or_default() += 1;
    }
    found
}

/// The latest offset of each partition. Not every build of kcat understands the real broker's list of versions.
pub fn latest(address: &str, topic: &str, partitions: u32) -> Vec<u64> {
    let mut config = rdkafka::ClientConfig::new();
    let client: BaseConsumer = config.set("bootstrap.servers", address).create().unwrap();
    let one = |p: u32| {
        let (_, latest) = client.fetch_watermarks(topic, p.cast_signed(), Duration::from_secs(10)).unwrap();
        u64::try_from(latest).unwrap()
    };
    (0..partitions).map(one).collect()
}

/// A pipeline from the topic `depot.weighings` into files and, with `into_topic`, into `depot.landed` as well.
pub fn pipeline(into_topic: bool) -> String {
    let mut text = PIPELINE.replace(
        "at    = \"depots\"\nmatch = \"*.jsonl\"",
        "at    = \"lock-broker\"\ntopic = \"depot.weighings\"\nformat = \"json\"",
    );
    if into_topic {
        text.push_str(
            "\n[event.weighing.lands.onward]\nat = \"lock-broker\"\ntopic = \"depot.landed\"\nkey = \"ticket\"\n\
             headers = \"day\"\ncolumns = \"ticket, gross_kg, origin.partition as part, origin.offset as at\"\n",
        );
    }
    text
}

/// A project with a connection to a broker.
pub fn project(address: &str, pipeline: &str) -> TestProject {
    let project = TestProject::new(pipeline);
    project.append("sluice.toml", format!("[connection.lock-broker]\nurl = \"kafka://{address}\"\n"));
    project
}

/// A pipeline of one event with a number, into JSON Lines.
pub fn simple(more: &str) -> String {
    format!(
        "pipeline = \"weighings\"\nbatch = {{ rows = 100 }}\n[event.weighing]\nfields = \"n integer not null\"\n\
         [event.weighing.arrives]\nat = \"lock-broker\"\ntopic = \"depot.weighings\"\nformat = \"json\"\n{more}\n\
         [event.weighing.lands.archive]\nat = \"archive\"\npath = \"all\"\nformat = \"jsonl\"\n"
    )
}

/// The values of the committed messages of a topic.
pub fn values(address: &str, topic: &str, partitions: i32) -> Vec<Vec<u8>> {
    use rdkafka::consumer::{BaseConsumer, Consumer as _};
    use rdkafka::message::Message as _;
    use rdkafka::topic_partition_list::{Offset, TopicPartitionList};
    let consumer: BaseConsumer = rdkafka::config::ClientConfig::new()
        .set("bootstrap.servers", address)
        .set("group.id", "values")
        .set("isolation.level", "read_committed")
        .set("enable.partition.eof", "true")
        .create()
        .unwrap();
    let mut all = TopicPartitionList::new();
    for partition in 0..partitions {
        all.add_partition_offset(topic, partition, Offset::Beginning).unwrap();
    }
    consumer.assign(&all).unwrap();
    let (mut found, mut ended) = (Vec::new(), 0);
    while ended < partitions {
        match consumer.poll(std::time::Duration::from_secs(20)).expect("messages or ends") {
            Ok(message) => found.push(message.payload().unwrap_or_default().to_vec()),
            Err(rdkafka::error::KafkaError::PartitionEOF(_)) => ended += 1,
            Err(error) => panic!("{error}"),
        }
    }
    found
}

/// The rows that landed, in order of their text.
pub fn rows(project: &TestProject, folder: &str) -> Vec<Value> {
    let mut lines: Vec<String> = visible_files(&project.path(folder))
        .iter()
        .flat_map(|p| std::fs::read_to_string(p).unwrap().lines().map(str::to_string).collect::<Vec<_>>())
        .collect();
    lines.sort();
    lines.iter().map(|line| serde_json::from_str(line).unwrap()).collect()
}

pub fn numbers(project: &TestProject, folder: &str) -> Vec<u64> {
    let mut found: Vec<u64> = rows(project, folder).iter().map(|row| row["n"].as_u64().unwrap()).collect();
    found.sort_unstable();
    found
}

pub fn lines(from: u64, to: u64) -> String {
    (from..to).map(|n| format!("k{n}\t{{\"n\":{n}}}\n")).collect()
}

/// A broker with `depot.weighings`, and a project that reads it; None where kcat is not there.
pub fn set_up(topic: &str, pipeline: &str) -> Option<(StandIn, TestProject)> {
    has("kcat").then(|| {
        let broker = StandIn::start(&["--topic", topic, "--topic", "depot.landed:2"]);
        let project = project(&broker.address, pipeline);
        (broker, project)
    })
}

/// A small generator, so that a seed gives the same day everywhere.
pub struct Random(pub u64);

impl Random {
    pub fn below(&mut self, n: u64) -> u64 {
        self.0 = self.0.wrapping_mul(6_364_136_223_846_793_005).wrapping_add(1_442_695_040_888_963_407);
        (self.0 >> 33) % n
    }
}

/// What only an administrator does.
pub mod admin {
    use std::future::Future;
    use std::sync::Arc;
    use std::task::{Context, Poll, Wake, Waker};
    use std::time::Duration;

    use rdkafka::ClientConfig;
    use rdkafka::admin::{AdminClient, AdminOptions, NewPartitions, NewTopic, TopicReplication};
    use rdkafka::client::DefaultClientContext;
    use rdkafka::consumer::{BaseConsumer, Consumer as _};
    use rdkafka::producer::{BaseProducer, BaseRecord, Producer as _};
    use rdkafka::topic_partition_list::{Offset, TopicPartitionList};

    struct Nobody;

    impl Wake for Nobody {
        fn wake(self: Arc<Self>) {}
    }

    fn wait<T>(question: impl Future<Output = T>) -> T {
        let mut question = std::pin::pin!(question);
        let waker = Waker::from(Arc::new(Nobody));
        loop {
            if let Poll::Ready(answer) = question.as_mut().poll(&mut Context::from_waker(&waker)) {
                return answer;
            }
            std::thread::sleep(Duration::from_millis(5));
        }
    }

    fn client(address: &str) -> AdminClient<DefaultClientContext> {
        ClientConfig::new().set("bootstrap.servers", address).create().unwrap()
    }

    pub fn add_partitions(address: &str, topic: &str, count: usize) {
        let asked = [NewPartitions::new(topic, count)];
        wait(client(address).create_partitions(&asked, &AdminOptions::new())).unwrap()[0].as_ref().unwrap();
    }

    pub fn make(address: &str, topic: &str, partitions: i32) {
        let asked = [NewTopic::new(topic, partitions, TopicReplication::Fixed(1))];
        wait(client(address).create_topics(&asked, &AdminOptions::new())).unwrap()[0].as_ref().unwrap();
    }

    /// A transaction that waits for its end.
    pub struct Open(BaseProducer);

    impl Open {
        pub fn commit(self) {
            self.0.commit_transaction(Duration::from_secs(60)).unwrap();
        }
    }

    pub fn open_transaction(address: &str, topic: &str, values: &[&str]) -> Open {
        open_transaction_with(&[("bootstrap.servers", address)], topic, values)
    }

    /// The same with a client that is set up in another way.
    pub fn open_transaction_with(options: &[(&str, &str)], topic: &str, values: &[&str]) -> Open {
        let mut config = ClientConfig::new();
        config.set("transactional.id", "stays-open");
        for (name, value) in options {
            config.set(*name, *value);
        }
        let producer: BaseProducer = config.create().unwrap();
        producer.init_transactions(Duration::from_secs(60)).unwrap();
        producer.begin_transaction().unwrap();
        for value in values {
            producer.send(BaseRecord::<str, str>::to(topic).payload(*value).partition(0)).unwrap();
        }
        producer.flush(Duration::from_secs(60)).unwrap();
        Open(producer)
    }

    pub fn recreate(address: &str, topic: &str, partitions: i32) {
        let client = client(address);
        wait(client.delete_topics(&[topic], &AdminOptions::new())).unwrap()[0].as_ref().unwrap();
        let asked = [NewTopic::new(topic, partitions, TopicReplication::Fixed(1))];
        wait(client.create_topics(&asked, &AdminOptions::new())).unwrap()[0].as_ref().unwrap();
    }

    pub fn delete_before(address: &str, topic: &str, partition: i32, offset: i64) {
        let mut asked = TopicPartitionList::new();
        asked.add_partition_offset(topic, partition, Offset::Offset(offset)).unwrap();
        wait(client(address).delete_records(&asked, &AdminOptions::new())).unwrap();
    }

    /// Writes in transactions: the values of each, and whether it is committed.
    pub fn transactions(address: &str, topic: &str, all: &[(&[&str], bool)]) {
        let producer: BaseProducer = ClientConfig::new()
            .set("bootstrap.servers", address)
            .set("transactional.id", "elsewhere")
            .create()
            .unwrap();
        let patience = Duration::from_secs(60);
        producer.init_transactions(patience).unwrap();
        for (values, committed) in all {
            producer.begin_transaction().unwrap();
            for value in *values {
                producer.send(BaseRecord::<str, str>::to(topic).payload(*value).partition(0)).unwrap();
            }
            producer.flush(patience).unwrap();
            match committed {
                true => producer.commit_transaction(patience).unwrap(),
                false => producer.abort_transaction(patience).unwrap(),
            }
        }
    }

    /// The offset that a group has committed.
    pub fn committed(address: &str, group: &str, topic: &str, partition: i32) -> Offset {
        let consumer: BaseConsumer =
            ClientConfig::new().set("bootstrap.servers", address).set("group.id", group).create().unwrap();
        let mut asked = TopicPartitionList::new();
        asked.add_partition(topic, partition);
        consumer.committed_offsets(asked, Duration::from_secs(10)).unwrap().elements()[0].offset()
    }
}

/// A way to a broker that can be cut.
pub struct Proxy {
    pub address: String,
    open: std::sync::Arc<std::sync::atomic::AtomicBool>,
}

impl Proxy {
    /// Listens at an address of its own and leads to another one.
    pub fn start(listener: std::net::TcpListener, to: String) -> Self {
        use std::sync::atomic::Ordering;
        let address = listener.local_addr().unwrap().to_string();
        let open = std::sync::Arc::new(std::sync::atomic::AtomicBool::new(true));
        let is_open = std::sync::Arc::clone(&open);
        std::thread::spawn(move || {
            for client in listener.incoming().flatten() {
                let Ok(server) = std::net::TcpStream::connect(&to) else { continue };
                if !is_open.load(Ordering::SeqCst) {
                    continue;
                }
                for (mut from, mut into) in
                    [(client.try_clone().unwrap(), server.try_clone().unwrap()), (server, client)]
                {
                    let is_open = std::sync::Arc::clone(&is_open);
                    from.set_read_timeout(Some(std::time::Duration::from_millis(50))).unwrap();
                    std::thread::spawn(move || {
                        let mut bytes = vec![0; 1 << 16];
                        while is_open.load(Ordering::SeqCst) {
                            match std::io::Read::read(&mut from, &mut bytes) {
                                Ok(0) => break,
                                Ok(n) if into.write_all(&bytes[..n]).is_ok() => {}
                                Ok(_) => break,
                                Err(e)
                                    if matches!(
                                        e.kind(),
                                        std::io::ErrorKind::WouldBlock | std::io::ErrorKind::TimedOut
                                    ) => {}
                                Err(_) => break,
                            }
                        }
                        let _ = into.shutdown(std::net::Shutdown::Both);
                        let _ = from.shutdown(std::net::Shutdown::Both);
                    });
                }
            }
        });
        Self { address, open }
    }

    pub fn cut(&self) {
        self.open.store(false, std::sync::atomic::Ordering::SeqCst);
    }

    pub fn fix(&self) {
        self.open.store(true, std::sync::atomic::Ordering::SeqCst);
    }
}
