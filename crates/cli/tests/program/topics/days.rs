//! Random days of a broker: messages come, connections break, data expires, a topic is recreated, the run is killed. After
//! each day three landings hold exactly what the broker's own record says, less what exit code 6 reported as lost.
//!
//! `SLUICE_TOPIC_DAYS` sets how many days are tried, `SLUICE_TOPIC_DAYS_SEED` the first one's seed.

use std::collections::{BTreeMap, BTreeSet};
use std::time::Duration;

use crate::common::TestProject;
use crate::common::running::{Running, wait_for};
use crate::common::topics;
use crate::common::topics::{Random, StandIn, has, project, simple};
use rdkafka::config::ClientConfig;
use rdkafka::producer::{BaseProducer, BaseRecord, Producer as _};

const PARTITIONS: i32 = 2;
const WATCH: &[&str] = &["run", "weighings"];
const RUN: &[&str] = &["run", "weighings", "--until-caught-up"];

/// What the broker took: for each life of the topic and each partition, the committed numbers by offset.
#[derive(Default)]
struct Record {
    lives: Vec<Vec<BTreeMap<u64, u64>>>,
    next: u64,
}

impl Record {
    fn partition(&mut self, partition: i32) -> &mut BTreeMap<u64, u64> {
        &mut self.lives.last_mut().unwrap()[usize::try_from(partition).unwrap()]
    }
}

struct Day {
    broker: StandIn,
    project: TestProject,
    random: Random,
    record: Record,
    run: Option<Running>,
    /// Numbers that a stop has reported as lost, by life and partition: those from the first offset to the second.
    lost: Vec<(usize, usize, u64, u64)>,
    /// The life that was there when reading last started over: the run may be slow to notice that others came after it.
    reading: usize,
    reported: Vec<String>,
}

fn pipeline() -> String {
    simple("").replace("batch = { rows = 100 }", "batch = { rows = 70, every = \"80ms\" }")
        + "[event.weighing.lands.desk]\nat = \"office\"\ntable = \"weighing\"\ncreate = true\n\
           [event.weighing.lands.onward]\nat = \"lock-broker\"\ntopic = \"depot.landed\"\n"
}

impl Day {
    fn new(seed: u64) -> Self {
        let broker = StandIn::start(&["--topic", "depot.weighings:2", "--topic", "depot.landed:2"]);
        let project = project(&broker.address, &pipeline());
        project.append("sluice.toml", "[connection.office]\nurl = \"sqlite:office.db\"\n");
        let mut record = Record::default();
        record.lives.push(vec![BTreeMap::new(); usize::try_from(PARTITIONS).unwrap()]);
        let (run, lost, reading, reported) = (None, Vec::new(), 0, Vec::new());
        Self { broker, project, random: Random(seed), record, run, lost, reading, reported }
    }

    fn end_of(&self, partition: i32) -> (u64, u64) {
        let reported = self.broker.command("ends depot.weighings");
        let one = reported.split(' ').nth(usize::try_from(partition).unwrap()).unwrap();
        let (start, end) = one.split_once("..").unwrap();
        (start.parse().unwrap(), end.parse().unwrap())
    }

    /// Sends messages, at times in a transaction, which may be taken back.
    fn produce(&mut self) {
        let partition = i32::try_from(self.random.below(2)).unwrap();
        let count = 1 + self.random.below(120);
        let kind = self.random.below(4);
        let mut config = ClientConfig::new();
        config.set("bootstrap.servers", &self.broker.address).set("enable.idempotence", "true");
        if kind > 1 {
            config.set("transactional.id", format!("writer-{}", self.record.next));
        }
        let producer: BaseProducer = config.create().unwrap();
        let patience = Duration::from_secs(120);
        if kind > 1 {
            producer.init_transactions(patience).unwrap();
            producer.begin_transaction().unwrap();
        }
        let first = self.end_of(partition).1;
        for i in 0..count {
            let value = format!("{{\"n\":{}}}", self.record.next + i);
            producer.send(BaseRecord::<str, str>::to("depot.weighings").payload(&value).partition(partition)).unwrap();
        }
        producer.flush(patience).unwrap();
        match kind {
            2 => producer.commit_transaction(patience).unwrap(),
            3 => producer.abort_transaction(patience).unwrap(),
            _ => {}
        }
        if kind != 3 {
            let next = self.record.next;
            self.record.partition(partition).extend((0..count).map(|i| (first + i, next + i)));
        }
        self.record.next += count;
    }

    fn step(&mut self) {
        match self.random.below(16) {
            0..=5 => self.produce(),
            6 => self.say("cut"),
            7 => self.say("refuse 2"),
            8 => self.say("twice 3"),
            9 => {
                self.say("silence");
                std::thread::sleep(Duration::from_millis(600));
                self.say("speak");
            }
            10 => {
                self.say("move depot.weighings 0");
                std::thread::sleep(Duration::from_millis(300));
                self.say("moved depot.weighings 0");
            }
            11 => {
                self.say("delay 30");
                self.produce();
                self.say("delay 0");
            }
            12 => {
                let partition = i32::try_from(self.random.below(2)).unwrap();
                let (start, end) = self.end_of(partition);
                let to = start + self.random.below(end - start + 1);
                self.say(&format!("expire depot.weighings {partition} {to}"));
            }
            13 if self.random.below(3) == 0 => {
                self.say("recreate depot.weighings");
                self.record.lives.push(vec![BTreeMap::new(); usize::try_from(PARTITIONS).unwrap()]);
                for _ in 0..3 {
                    self.produce();
                }
                self.wait_for_stop();
            }
            13 | 14 => {
                if let Some(run) = self.run.take() {
                    run.signal("KILL");
                    let _ = run.end();
                }
            }
            _ => std::thread::sleep(Duration::from_millis(self.random.below(400))),
        }
        self.look_after();
    }

    /// Waits until the run has noticed that the topic was recreated: it asks the broker several times before it stops. If the topic
    /// changed again meanwhile, the message of the run would not say which of the topics it is about.
    fn wait_for_stop(&mut self) {
        for _ in 0..60 {
            match self.run.take().map(Running::ended) {
                None => return,
                Some(Ok((code, said))) => return self.stopped(code, &said),
                Some(Err(run)) => self.run = Some(run),
            }
            std::thread::sleep(Duration::from_millis(100));
        }
    }

    fn say(&mut self, word: &str) {
        self.reported.push(word.to_string());
        self.broker.command(word);
    }

    /// Starts the run if it is not running, and restarts it after a stop with a reason.
    fn look_after(&mut self) {
        match self.run.take().map(Running::ended) {
            None => self.run = Some(Running::start(&self.project, WATCH)),
            Some(Err(run)) => self.run = Some(run),
            Some(Ok((code, said))) => self.stopped(code, &said),
        }
    }

    /// Records what is reported as lost, and follows the remedy of the message.
    fn stopped(&mut self, code: i32, said: &str) {
        self.reported.push(format!("exit {code}: {said}"));
        // A broker that does not answer at the start of a run loses nothing.
        if code == 5 || code == -1 {
            return;
        }
        assert_eq!(code, 6, "{said}\n{:#?}", self.reported);
        let partition = usize::from(said.contains("depot.weighings/1"));
        let number = |before: &str| -> u64 {
            let (_, rest) = said.split_once(before).unwrap_or_else(|| panic!("{before}: {said}"));
            rest.chars().take_while(|c| c.is_ascii_digit()).collect::<String>().parse().unwrap()
        };
        let life = self.record.lives.len() - 1;
        let set = match said.contains("was recreated or has lost data") {
            true => {
                let from = number("was read up to offset ");
                let positions = self.project.json(&["positions", "weighings"])["arrivals"][0]["partitions"].clone();
                let other = positions[1 - partition]["ledger"].as_u64().unwrap_or(0);
                for (partition, from) in [(partition, from), (1 - partition, other)] {
                    // Of the life that was read, everything from there on is lost. Each partition may have been read of another
                    // one: where nothing had been read before, it was read as it is. Of later ones nothing was read.
                    let read = self.last_read(life, partition);
                    self.lost.push((read, partition, from, u64::MAX));
                    self.lost.extend((read + 1..life).map(|later| (later, partition, 0, u64::MAX)));
                }
                self.reading = life;
                vec!["earliest".to_string()]
            }
            false => {
                let (from, to) = (number("from offset "), number("now begins at offset "));
                self.lost.push((life, partition, from, to));
                vec![format!("depot.weighings/{partition}={to}")]
            }
        };
        for set in set {
            let command = ["positions", "weighings", "--set", &set, "--reason", "lost", "--yes"];
            let output = self.project.run(&command);
            assert!(output.status.success(), "{output:?}\n{:#?}", self.reported);
        }
    }

    /// The last life before one of whose partition something has landed, among those that can have been read.
    fn last_read(&self, before: usize, partition: usize) -> usize {
        let landed: BTreeSet<u64> = topics::numbers(&self.project, "archive/all").into_iter().collect();
        let has_landed =
            |life: &usize| self.record.lives[*life][partition].values().any(|number| landed.contains(number));
        (self.reading..before).rev().find(has_landed).unwrap_or(self.reading)
    }

    /// The broker works again: the remaining messages land.
    fn finish(&mut self) {
        if let Some(run) = self.run.take() {
            let (code, said) = run.settle();
            if code != 0 && code != 130 {
                self.stopped(code, &said);
            }
        }
        for _ in 0..8 {
            let output = self.project.run(RUN);
            let said = String::from_utf8_lossy(&output.stdout).into_owned() + &String::from_utf8_lossy(&output.stderr);
            match output.status.code() {
                Some(0) => return,
                code => self.stopped(code.unwrap_or(-1), &said),
            }
        }
        panic!("it does not come to rest: {:#?}", self.reported);
    }

    fn check(&self) {
        let mut expected: BTreeSet<u64> = BTreeSet::new();
        let landed: BTreeSet<u64> = topics::numbers(&self.project, "archive/all").into_iter().collect();
        let last = self.record.lives.len() - 1;
        for (life, partitions) in self.record.lives.iter().enumerate() {
            for (partition, numbers) in partitions.iter().enumerate() {
                // A partition of a topic that was recreated before any of it was read leaves no trace.
                if life < last && numbers.values().all(|n| !landed.contains(n)) {
                    continue;
                }
                let is_lost = |offset: u64| {
                    self.lost
                        .iter()
                        .any(|(l, p, from, to)| (*l, *p) == (life, partition) && (*from..*to).contains(&offset))
                };
                expected.extend(numbers.iter().filter(|(offset, _)| !is_lost(**offset)).map(|(_, n)| *n));
            }
        }
        let expected: Vec<u64> = expected.into_iter().collect();
        self.equal("files", &expected, &topics::numbers(&self.project, "archive/all"));
        let database = rusqlite::Connection::open(self.project.path("office.db")).unwrap();
        let mut statement = database.prepare("select n from weighing order by n").unwrap();
        let rows = statement.query_map([], |row| row.get::<_, u64>(0)).unwrap();
        self.equal("table", &expected, &rows.map(Result::unwrap).collect::<Vec<u64>>());
        let value = |line: &String| serde_json::from_str::<serde_json::Value>(line).unwrap()["n"].as_u64().unwrap();
        let mut sent: Vec<u64> =
            topics::consume(&self.broker.address, "depot.landed", "%s\\n").iter().map(value).collect();
        sent.sort_unstable();
        self.equal("topic", &expected, &sent);
    }

    fn equal(&self, what: &str, expected: &[u64], found: &[u64]) {
        let (wanted, there): (BTreeSet<u64>, BTreeSet<u64>) =
            (expected.iter().copied().collect(), found.iter().copied().collect());
        let missing: Vec<_> = wanted.difference(&there).take(9).collect();
        let strange: Vec<_> = there.difference(&wanted).take(9).collect();
        assert!(
            missing.is_empty() && strange.is_empty() && found.len() == there.len(),
            "{what}: missing {missing:?}, not reported as there {strange:?}, {} doubled\n{:#?}\nlost (life, partition, from, to): \
             {:?}\nmissing (life, partition, offset): {:?}",
            found.len() - there.len(),
            self.reported,
            self.lost,
            missing.iter().flat_map(|number| self.places_of(**number)).collect::<Vec<_>>()
        );
    }

    /// Where a number was taken: the life of the topic, the partition, and the offset.
    fn places_of(&self, number: u64) -> Vec<(usize, usize, u64)> {
        let lives = self.record.lives.iter().enumerate();
        let partitions =
            lives.flat_map(|(life, all)| all.iter().enumerate().map(move |(p, numbers)| (life, p, numbers)));
        let one = |(life, p, numbers): (usize, usize, &BTreeMap<u64, u64>)| {
            let found = numbers.iter().filter(|(_, n)| **n == number);
            found.map(|(offset, _)| (life, p, *offset)).collect::<Vec<_>>()
        };
        partitions.flat_map(one).collect()
    }
}

#[test]
fn after_any_day_of_a_broker_landings_hold_what_it_took_less_what_was_reported_as_lost() {
    if !has("kcat") {
        return;
    }
    let number = |name: &str, default: u64| std::env::var(name).ok().and_then(|n| n.parse().ok()).unwrap_or(default);
    let (days, seed) = (number("SLUICE_TOPIC_DAYS", 4), number("SLUICE_TOPIC_DAYS_SEED", 1));
    for seed in seed..seed + days {
        eprintln!("day {seed}");
        let mut day = Day::new(seed.wrapping_mul(0x9e37_79b9_7f4a_7c15));
        // What expires before the first start is not lost: reading starts with what is there.
        while day.record.lives[0].iter().all(BTreeMap::is_empty) {
            day.produce();
        }
        day.look_after();
        wait_for(|| !topics::numbers(&day.project, "archive/all").is_empty());
        for _ in 0..30 {
            day.step();
        }
        day.finish();
        day.check();
    }
}
