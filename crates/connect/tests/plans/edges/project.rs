//! A project in memory, and what its user does.

use std::path::PathBuf;
use std::sync::Arc;

use sluice_connect::ledgers::sqlite::SqliteLedger;
use sluice_core::batch::LaneId;
use sluice_core::failure::{Failure, FailureKind, Outcome};
use sluice_core::ledger::{BatchQuery, BatchRecord, BatchState, Ledger};
use sluice_core::plan::{self, ArrivalChoice, LedgerNameKind, Plan, Surroundings};
use sluice_core::problem::{Problems, SourceText};
use sluice_core::reject::REJECTS;
use sluice_core::run::replay::{Portion, ReplayWork, replay};
use sluice_core::run::retry::{RejectRecord, Rejected, portions};
use sluice_core::run::{self, RunLimit, Stop};
use sluice_core::secret::{Secret, SecretRef, SecretStore};

use super::crashing;
use super::memory::{lock, registry, world};

/// A generator of numbers that a seed repeats.
pub(crate) struct Random(pub(crate) u64);

impl Random {
    pub(crate) fn below(&mut self, bound: u64) -> u64 {
        self.0 ^= self.0 << 13;
        self.0 ^= self.0 >> 7;
        self.0 ^= self.0 << 17;
        (self.0 >> 11) % bound.max(1)
    }
}

struct NoSecrets;

impl SecretStore for NoSecrets {
    fn read(&self, _: &SecretRef) -> Result<Secret, String> {
        Err("no secrets here".into())
    }
}

/// The content of the files of the project.
#[derive(Clone)]
struct Files {
    event: &'static str,
    /// Whether the second arrival comes first in the file.
    swapped: bool,
    lanes: u64,
    /// Whether the contract takes every event, and the landing computes every row.
    fixed: bool,
    /// Whether there is a third landing.
    third: bool,
}

pub(crate) struct Project {
    root: tempfile::TempDir,
    seed: u64,
    files: Files,
    ledger: PathBuf,
    /// A copy of the ledger from before.
    backup: Option<PathBuf>,
    produced: u64,
    /// Whether adopting found the arrivals in another order than they had.
    mixed_up: bool,
    /// Whether a new ledger found landings under other names.
    renamed: bool,
    trace: Vec<String>,
}

impl Drop for Project {
    fn drop(&mut self) {
        if std::thread::panicking() {
            eprintln!("sequence {} (repeat it with SLUICE_EDGES_SEED={} SLUICE_EDGES=1):", self.seed, self.seed);
            self.trace.iter().for_each(|line| eprintln!("  {line}"));
            for batch in self.open().batches("p", BatchQuery::default()).unwrap_or_default() {
                let of = batch.first.as_ref().map_or(String::new(), |(lane, n)| format!(" of {lane}.{n}"));
                let read: Vec<String> =
                    batch.ranges.0.iter().map(|r| format!("{} {}..{}", r.partition, r.from, r.to)).collect();
                let landings: Vec<String> = batch
                    .landings
                    .iter()
                    .map(|l| format!("{}{}", l.landing, if l.landed_at.is_some() { "" } else { " not" }))
                    .collect();
                let (lane, number, state) = (&batch.lane, batch.number, batch.state.word());
                eprintln!("  {lane}.{number}{of} {state}: {} into {}", read.join(", "), landings.join(", "));
            }
            let world = world(self.root.path());
            for (name, store) in &lock(&world).stores {
                eprintln!("  {name}: {:?}", store.visible());
            }
        }
    }
}

impl Project {
    pub(crate) fn new(seed: u64) -> Self {
        // A file system in memory makes thousands of ledgers cheap.
        let shm = PathBuf::from("/dev/shm");
        let folder = if shm.is_dir() { shm } else { std::env::temp_dir() };
        let root = tempfile::Builder::new().prefix("edges").tempdir_in(folder).unwrap();
        let ledger = root.path().join("ledger.db");
        let files = Files { event: "passage", swapped: false, lanes: 1 + seed % 3, fixed: false, third: false };
        let project = Self {
            root,
            seed,
            files,
            ledger,
            backup: None,
            produced: 0,
            mixed_up: false,
            renamed: false,
            trace: Vec::new(),
        };
        for partition in ["upper/a", "upper/b", "lower/c"] {
            lock(&world(project.root.path())).partitions.insert(partition.into(), Vec::new());
        }
        project
    }

    fn note(&mut self, what: String) {
        self.trace.push(what);
    }

    fn around(&self) -> Surroundings {
        Surroundings {
            root: self.root.path().into(),
            work: self.root.path().into(),
            secrets: Arc::new(NoSecrets),
            registry: registry(),
            throttles: Arc::default(),
            stop: Arc::default(),
        }
    }

    /// The plan of the files as they are, its names as the ledger knows them.
    fn plan(&self, ledger: &dyn Ledger) -> Outcome<Plan> {
        let Files { event, swapped, lanes, fixed, third } = &self.files;
        let (one, two) = if *swapped { ("lower", "upper") } else { ("upper", "lower") };
        let project = "[project]\nname = \"tarrow\"\n[connection.upper]\nurl = \"mem:upper\"\n[connection.lower]\nurl = \
                       \"mem:lower\"\n[connection.x]\nurl = \"mem:x\"\n[connection.y]\nurl = \"mem:y\"\n[connection.z]\n\
                       url = \"mem:z\"\n";
        // A bad event is a text where a number is expected; y divides by zero for some.
        let ty = if *fixed { "text" } else { "integer" };
        let divided = if *fixed { "id" } else { "case when 10 / d > 0 then id else id end as id" };
        let lanes = format!("lanes = {lanes}");
        let mut pipeline = format!(
            "pipeline = \"p\"\nbatch = {{ rows = 4 }}\nrejects = {{ share = \"100%\", least = 1000000 }}\n[event.{event}]\n\
             fields = \"id text not null, v {ty} not null, d integer not null\"\n\
             [[event.{event}.arrives]]\nat = \"{one}\"\n{lanes}\n[[event.{event}.arrives]]\nat = \"{two}\"\n{lanes}\n\
             [event.{event}.lands.x]\nat = \"x\"\ncolumns = \"id\"\n\
             [event.{event}.lands.y]\nat = \"y\"\ncolumns = \"{divided}\"\n"
        );
        if *third {
            pipeline.push_str(&format!("[event.{event}.lands.z]\nat = \"z\"\ncolumns = \"id\"\n"));
        }
        let mut problems = Problems::new();
        let texts = [SourceText::new("sluice.toml", project), SourceText::new("p.toml", pipeline)];
        let mut plan = plan::load(&texts[0], &texts[1], &registry(), &mut problems);
        assert!(!problems.has_errors(), "{:?}", problems.into_sorted());
        plan.recognise(&ledger.known("p")?)?;
        Ok(plan)
    }

    fn open(&self) -> SqliteLedger {
        SqliteLedger::open(&self.ledger).unwrap()
    }

    /// One thing that a user may do.
    pub(crate) fn step(&mut self, random: &mut Random, fuse: Option<i64>) {
        match random.below(15) {
            0..=2 => self.produce(random),
            3..=5 => self.run(random, fuse, false),
            6 => {
                self.files.fixed = !self.files.fixed;
                self.note(format!("fixed: {}", self.files.fixed));
            }
            7 | 8 => self.retry(random, fuse),
            9 => self.replay(random, fuse, None),
            10 => {
                self.files.third |= random.below(2) == 0;
                let into = ["x", "y", "z"][usize::try_from(random.below(2 + u64::from(self.files.third))).unwrap()];
                self.replay(random, fuse, Some(into));
            }
            11 => match random.below(2) {
                0 => {
                    self.files.event = if self.files.event == "passage" { "lock_passage" } else { "passage" };
                    self.note(format!("the event is called {}", self.files.event));
                }
                _ => {
                    self.files.swapped = !self.files.swapped;
                    self.note("the arrivals change places".into());
                }
            },
            12 => {
                self.files.lanes = 1 + random.below(3);
                self.note(format!("{} lanes", self.files.lanes));
            }
            13 => self.lose_or_restore(random, fuse),
            _ => self.second_checkout(),
        }
    }

    fn produce(&mut self, random: &mut Random) {
        let world = world(self.root.path());
        let count = 1 + random.below(9);
        for _ in 0..count {
            self.produced += 1;
            let partition = ["upper/a", "upper/b", "lower/c"][usize::try_from(random.below(3)).unwrap()];
            let value = if random.below(4) == 0 { "\"bad\"" } else { "7" };
            let divisor = u64::from(random.below(4) != 0);
            let line = format!("{{\"id\":\"{:05}\",\"v\":{value},\"d\":{divisor}}}\n", self.produced);
            lock(&world).partitions.get_mut(partition).unwrap().extend(line.as_bytes());
        }
        self.note(format!("{count} events come"));
    }

    fn run(&mut self, random: &mut Random, fuse: Option<i64>, adopt: bool) {
        let broken = (random.below(5) == 0).then(|| "y".to_string());
        let batches = (random.below(3) == 0).then(|| 1 + random.below(2));
        self.note(format!("run, {batches:?} batches, breaks after {fuse:?}, without {broken:?}, adopt {adopt}"));
        lock(&world(self.root.path())).broken = broken.clone();
        let done = crashing(fuse, || self.try_run(RunLimit { caught_up: true, batches, adopt }));
        lock(&world(self.root.path())).broken = None;
        match done {
            None => self.note("  broke down".into()),
            Some(Ok(())) => {}
            // A crash of one thread is an internal failure to the others.
            Some(Err(failure)) if fuse.is_some() && failure.kind == FailureKind::Internal => {
                self.note("  broke down".into());
            }
            Some(Err(failure)) if broken.is_some() && failure.message.contains("takes nothing now") => {
                self.note("  y was away".into());
            }
            Some(Err(failure)) => self.expected(&failure),
        }
    }

    fn try_run(&self, until: RunLimit) -> Outcome<()> {
        let ledger = self.open();
        let plan = self.plan(&ledger)?;
        let _lock = ledger.lock("p")?;
        run::run(&plan, &self.around(), &ledger, until, &Stop::new(), &())?;
        Ok(())
    }

    /// A failure that a user meets in such a sequence, with what is done about it.
    fn expected(&mut self, failure: &Failure) {
        self.note(format!("  {}", failure.message));
        self.renamed |= failure.message.contains("may be the same landing under a new name");
        self.mixed_up |= failure.help.as_ref().is_some_and(|help| help.contains("have changed places"));
        let known = [
            "may be the same landing under a new name",
            "reads now",
            "the ledger does not know batch",
            "is not certain",
            "of another ledger",
            "but the ledger ends at",
            "is not settled",
            "that the ledger does not know",
            "which was adopted",
            "has none of the landings",
        ];
        assert!(known.iter().any(|words| failure.message.contains(words)), "{failure} {:?}", failure.help);
    }

    fn rejects(&self) -> Vec<Rejected> {
        let world = world(self.root.path());
        let world = lock(&world);
        let lines = world.stores.get("p.rejects").map_or_else(Vec::new, |s| s.visible());
        let one = |line: &String| {
            let value: serde_json::Value = serde_json::from_str(line).unwrap();
            let text = |key: &str| value[key].as_str().unwrap().to_string();
            Rejected {
                lane: LaneId::named(text("lane")),
                batch: value["batch"].as_u64().unwrap(),
                station: text("station"),
                partition: text("partition").into(),
                position: value["position"].as_u64().unwrap(),
                length: value["length"].as_u64().unwrap(),
            }
        };
        lines.iter().map(one).collect()
    }

    /// The rejects that have not been retried.
    fn standing(&self, ledger: &dyn Ledger) -> Vec<Rejected> {
        let record = RejectRecord::read(ledger, "p").unwrap();
        let standing = record.standing();
        self.rejects().into_iter().filter(|r| !standing.is_over(r)).collect()
    }

    fn retry(&mut self, random: &mut Random, fuse: Option<i64>) {
        let ledger = self.open();
        let keep = 1 + random.below(3);
        let rejects: Vec<Rejected> = self.standing(&ledger).into_iter().filter(|_| random.below(keep) == 0).collect();
        self.note(format!("{} rejects are read again, breaks after {fuse:?}", rejects.len()));
        let done = crashing(fuse, || self.try_retry(&rejects));
        self.noted(done);
    }

    fn try_retry(&self, rejects: &[Rejected]) -> Outcome<()> {
        let ledger = self.open();
        let plan = self.plan(&ledger)?;
        let record = RejectRecord::read(&ledger, "p")?;
        let portions = portions(&plan, rejects, &record.standing())?;
        self.read_again(&plan, &ledger, &portions, &[], "rejects")
    }

    fn read_again(
        &self,
        plan: &Plan,
        ledger: &SqliteLedger,
        portions: &[Portion],
        into: &[usize],
        what: &str,
    ) -> Outcome<()> {
        let work = ReplayWork { portions, into, what, reason: "" };
        replay(plan, &self.around(), ledger, &work, &Stop::new(), &()).map(|_| ())
    }

    fn noted(&mut self, done: Option<Outcome<()>>) {
        match done {
            None => self.note("  broke down".into()),
            Some(Ok(())) => {}
            Some(Err(failure)) => self.expected(&failure),
        }
    }

    fn replay(&mut self, random: &mut Random, fuse: Option<i64>, into: Option<&str>) {
        let first = 1 + random.below(3);
        let last = first + random.below(4);
        self.note(format!("batches {first} to {last} are read again into {into:?}, breaks after {fuse:?}"));
        let done = crashing(fuse, || self.try_replay(first..=last, into));
        self.noted(done);
    }

    fn try_replay(&self, numbers: std::ops::RangeInclusive<u64>, into: Option<&str>) -> Outcome<()> {
        let ledger = self.open();
        let plan = self.plan(&ledger)?;
        let batches: Vec<BatchRecord> = ledger.batches("p", BatchQuery::default())?;
        let done = |b: &&BatchRecord| matches!(b.state, BatchState::Settled | BatchState::Adopted);
        let main = batches.iter().filter(|b| !b.lane.is_out_of_order() && numbers.contains(&b.number)).filter(done);
        let portions: Vec<Portion> = main.map(|batch| Portion::of_batch(&plan, batch)).collect();
        let into: Vec<usize> = match into {
            None => (0..plan.landings.len()).collect(),
            Some(name) => plan.landings.iter().position(|l| l.name == name).into_iter().collect(),
        };
        self.read_again(&plan, &ledger, &portions, &into, "batches")
    }

    /// How the file stood when the batches were read that are not whole yet; None where all are.
    fn unfinished_fixed(&self) -> Option<bool> {
        let ledger = self.open();
        let sealed = ledger.unfinished("p").unwrap().into_iter().next().map(|(_, texts)| texts);
        let adopted = ledger
            .batches("p", BatchQuery::default())
            .unwrap()
            .into_iter()
            .find(|b| b.state == BatchState::Adopted && b.landings.iter().any(|l| l.landed_at.is_none()));
        let texts = sealed.or_else(|| ledger.texts(&adopted?.texts?).ok())?;
        Some(texts.pipeline.contains("v text"))
    }

    /// The ledger is lost, or an older copy takes its place; then the run refuses, and adopts.
    fn lose_or_restore(&mut self, random: &mut Random, fuse: Option<i64>) {
        let fixed = self.unfinished_fixed();
        match (random.below(3), self.backup.take()) {
            (0, Some(backup)) => {
                self.note("an older ledger is restored".into());
                self.ledger = backup;
            }
            (1, _) => {
                // Its other names are lost with it: landings know only the first one.
                let known = self.open().known("p").unwrap();
                let mut first =
                    known.iter().filter(|k| k.kind == LedgerNameKind::Landing).map(|k| k.name.starts_with("passage."));
                match (first.next(), first.next(), first.next()) {
                    (Some(a), Some(b), c) if a == b && c.is_none_or(|c| c == a) => {
                        self.files.event = if a { "lock_passage" } else { "passage" };
                        if random.below(2) == 0 {
                            self.files.event = if a { "passage" } else { "lock_passage" };
                        }
                    }
                    // No file could have all of those names.
                    (Some(_), ..) => return,
                    (None, ..) => {}
                }
                self.note(format!("the ledger is lost, the event is called {}", self.files.event));
                self.ledger = self.root.path().join(format!("ledger-{}.db", self.trace.len()));
            }
            _ => {
                let backup = self.root.path().join(format!("backup-{}.db", self.trace.len()));
                if self.ledger.exists() {
                    let ledger = rusqlite::Connection::open(&self.ledger).unwrap();
                    ledger.execute("vacuum into ?1", [backup.to_str().unwrap()]).unwrap();
                    self.backup = Some(backup);
                    self.note("the ledger is copied".into());
                }
                return;
            }
        }
        // What is not whole is taken over under the file that it was read with.
        if let Some(fixed) = fixed {
            self.files.fixed = fixed;
        }
        self.run(random, None, false);
        if self.renamed {
            self.note("the event gets its old name".into());
            self.files.event = if self.files.event == "passage" { "lock_passage" } else { "passage" };
            self.renamed = false;
        }
        if self.mixed_up {
            self.note("the arrivals go back to the order that they had".into());
            (self.files.swapped, self.mixed_up) = (!self.files.swapped, false);
        }
        self.run(random, fuse, true);
        if self.mixed_up {
            self.note("the arrivals go back to the order that they had".into());
            (self.files.swapped, self.mixed_up) = (!self.files.swapped, false);
            self.run(random, fuse, true);
        }
    }

    /// Another folder with a ledger of its own writes to the same places: it must refuse before it touches anything.
    fn second_checkout(&mut self) {
        self.note("a second checkout runs".into());
        let before = self.seen();
        let second = self
            .root
            .path()
            .parent()
            .unwrap()
            .join(format!("{}-second", self.root.path().file_name().unwrap().to_string_lossy()));
        std::fs::create_dir_all(&second).unwrap();
        let landed = lock(&world(self.root.path())).stores.values().any(|s| !s.visible().is_empty());
        if landed {
            let ledger = SqliteLedger::open(&second.join("ledger.db")).unwrap();
            let around = Surroundings { root: second.clone(), ..self.around() };
            let plan = self.plan(&ledger).unwrap();
            let until = RunLimit { caught_up: true, ..RunLimit::default() };
            // A checkout with lanes or names that nothing has landed under may start; this test does not cover it.
            let sees = plan.landings.iter().any(|l| {
                let world = world(self.root.path());
                let world = lock(&world);
                world.stores.get(&format!("p.{}", l.label)).is_some_and(|s| !s.visible().is_empty())
            });
            if sees {
                let refused = run::run(&plan, &around, &ledger, until, &Stop::new(), &()).unwrap_err();
                let said = ["of another ledger", "may be the same landing under a new name"];
                assert!(said.iter().any(|words| refused.message.contains(words)), "{refused}");
                assert_eq!(self.seen(), before);
            }
        }
        std::fs::remove_dir_all(&second).unwrap();
    }

    /// What is in all stores, staged work included.
    fn seen(&self) -> Vec<(String, Vec<String>, usize)> {
        let world = world(self.root.path());
        let world = lock(&world);
        let all = world.stores.iter().map(|(name, s)| (name.clone(), s.visible(), s.staged_by().len()));
        all.filter(|(_, rows, staged)| !rows.is_empty() || *staged > 0).collect()
    }

    /// Rows of a landing, under whichever of its names.
    fn rows(&self, landing: &str) -> Vec<String> {
        let world = world(self.root.path());
        let world = lock(&world);
        let is_it = |name: &&String| name.ends_with(&format!(".{landing}")) && !name.ends_with(REJECTS);
        let names: Vec<&String> = world.stores.keys().filter(is_it).collect();
        let mut rows: Vec<String> = names.iter().flat_map(|name| world.stores[*name].visible()).collect();
        rows.sort();
        rows
    }

    pub(crate) fn check_no_doubles(&self) {
        for landing in ["x", "y", "z"] {
            let rows = self.rows(landing);
            let double = rows.windows(2).find(|two| two[0] == two[1]);
            assert_eq!(double, None, "{landing} has an event twice");
        }
    }

    /// The end without faults: everything runs, every event is good, every reject is retried, the third landing is filled.
    pub(crate) fn settle(&mut self) {
        self.note("the end: fixed, run until caught up, rejects read again".into());
        self.files.fixed = true;
        let all = RunLimit { caught_up: true, batches: None, adopt: true };
        if let Err(failure) = self.try_run(all) {
            // Somebody renamed what a lost or restored ledger does not know: the choice is made for what lands now.
            self.expected(&failure);
            if self.mixed_up {
                self.files.swapped = !self.files.swapped;
            }
            self.choose();
            self.try_run(all).unwrap();
        }
        for _ in 0..3 {
            let rejects = self.standing(&self.open());
            self.try_retry(&rejects).unwrap();
        }
        let ledger = self.open();
        assert_eq!(self.standing(&ledger), []);
        if self.files.third {
            self.fill_third();
        }
    }

    /// Takes over whatever the ledger has, in the order of the names.
    fn choose(&self) {
        let ledger = self.open();
        for _ in 0..4 {
            let known = ledger.known("p").unwrap();
            let Err(failure) = self.plan(&ledger) else { return };
            let help = failure.help.unwrap();
            let pair = help.split("--take-over ").nth(1).unwrap().split_whitespace().next().unwrap();
            let (old, new) = pair.split_once('=').unwrap();
            let plan = self.plan_unnamed();
            let kept = plan.choose(new, &ArrivalChoice::TakeOver(old.into()), &known).unwrap();
            ledger.note_known("p", &kept, Some("the test's")).unwrap();
        }
    }

    fn plan_unnamed(&self) -> Plan {
        let nothing = SqliteLedger::open(&self.root.path().join("nothing.db")).unwrap();
        self.plan(&nothing).unwrap()
    }

    /// Batch by batch what the third landing has not had.
    fn fill_third(&mut self) {
        for number in 1..200 {
            let before = self.open().batches("p", BatchQuery { number: Some(number), last: None }).unwrap();
            if before.is_empty() {
                break;
            }
            // It keeps its rows of an adopted batch.
            if let Err(failure) = self.try_replay(number..=number, Some("z")) {
                self.expected(&failure);
            }
        }
    }

    /// Every landing holds each event once.
    pub(crate) fn check_whole(&self) {
        let expected: Vec<String> = (1..=self.produced).map(|n| format!("{n:05}")).collect();
        for landing in ["x", "y"] {
            assert_eq!(self.rows(landing), expected, "{landing}");
        }
        self.check_no_doubles();
        if self.files.third && !self.trace.iter().any(|t| t.contains("adopted") || t.contains("adopt true")) {
            assert_eq!(self.rows("z"), expected, "z");
        }
    }
}
