//! Reads a change feed: the row log, and between its transactions the rows that the tables had before.

mod loads;

use std::collections::VecDeque;
use std::sync::Arc;
use std::time::{Duration, Instant};

use crossbeam_channel::{RecvTimeoutError, TryRecvError};
use sluice_core::event::{Chunk, Position};
use sluice_core::failure::{Failure, Outcome};
use sluice_core::kinds::{LaneReader, Read, ReadLimit};

use super::MariadbFeed;
use super::applier::{Applied, Applier, Touched, file_number, file_place, parts};
use super::gtid::Gtids;
use super::load::{Loader, Portion};
use super::shapes::there;
use super::stream::{Received, Stream};
use crate::intakes::feed::live::Teller;
use crate::intakes::feed::schema::{Difference, Policy, Verdict};
use crate::intakes::feed::state::State;
use crate::intakes::feed::whole::{self, Wholes};

/// How long to wait for the log before saying that nothing is there.
const PAUSE: Duration = Duration::from_millis(20);

/// Where the first event of a file stands.
const FIRST: u64 = 4;

/// How long the log must be quiet before all of it counts as read.
const QUIET: Duration = Duration::from_millis(300);

/// How long to wait before connecting again.
const AGAIN: Duration = Duration::from_millis(500);

/// An idle log is noted as read when it has grown by so much, or after this time.
const IDLE_BYTES: u64 = 16 << 20;
const IDLE_TIME: Duration = Duration::from_secs(60);

/// What it says of a file that ends within a transaction: the server crashed while it wrote, and began another file.
const CUT: &str = "truncated in the middle of event";

/// What the server says when a file of the log is not there any more.
const PURGED: u16 = 1236;

pub(super) struct FeedReader {
    feed: Arc<MariadbFeed>,
    stream: Option<Stream>,
    applier: Applier,
    state: State,
    at: Position,
    /// Tables without a key.
    wholes: Wholes,
    loader: Option<Loader>,
    portions: VecDeque<(Portion, usize)>,
    target: u64,
    quiet_since: Instant,
    noted: Instant,
    away_since: Option<Instant>,
    /// Whether the last chunk ended within a transaction.
    last_within: bool,
    /// Why, in words.
    away: String,
    halt: Option<Failure>,
    /// Distributed transactions that have ended, with where they were prepared.
    ended: Vec<(String, u64)>,
    torn: bool,
    teller: Teller,
}

enum Step {
    GoOn,
    Flush,
}

impl FeedReader {
    pub(super) fn new(feed: Arc<MariadbFeed>, at: Position, state: State, target: u64) -> Outcome<Self> {
        let mut applier = Applier::new(feed.tables.clone(), feed.known.clone(), at, state.read);
        applier.gtids = state.gtid.as_deref().map(Gtids::parse).unwrap_or_default();
        let follows = (0..).zip(&feed.settings).filter(|(_, s)| Policy::of(s) == Policy::Follow);
        applier.follows = follows.map(|(number, _)| number).collect();
        let mut reader = Self {
            applier,
            teller: Teller::new(&feed.settings[0].work, feed.label()),
            wholes: Wholes::new(feed.whole_folder(), &feed.tables, &state),
            feed,
            stream: None,
            state,
            at,
            loader: None,
            portions: VecDeque::new(),
            target,
            quiet_since: Instant::now(),
            noted: Instant::now(),
            away_since: None,
            last_within: false,
            away: String::new(),
            halt: None,
            ended: Vec::new(),
            torn: false,
        };
        reader.connect()?;
        reader.applier.read_at = whole::read_at(&reader.feed.tables, &reader.state);
        let names = reader.feed.tables.iter().map(|t| Arc::clone(&t.name));
        reader.applier.gather.tell_emptied(names, &mut reader.state, &mut reader.applier.at);
        reader.begin_loads();
        Ok(reader)
    }

    fn connect(&mut self) -> Outcome<()> {
        let mut catalog = self.feed.catalog()?;
        let (number, at) = parts(self.state.read);
        let files = catalog.log_files()?;
        let file = files.iter().find(|(name, _)| file_number(name) == number);
        let Some((file, _)) = file.filter(|(_, size)| *size >= at) else {
            return Err(self.feed.lost(&catalog.shown, number, at, &files));
        };
        // Files have the same names after a server was set up again.
        if let (Some(ours), Some(theirs)) = (&self.state.gtid, catalog.gtid_at(file, at)?)
            && Gtids::parse(ours) != Gtids::parse(&theirs)
        {
            return Err(self.feed.rewritten(&catalog.shown, self.state.read, ours, &theirs));
        }
        self.stream = Some(Stream::start(catalog, self.feed.number(), file, at)?);
        Ok(())
    }

    fn chunk(&mut self) -> Chunk {
        self.count_changes();
        self.state.time = self.applier.time.or(self.state.time);
        self.state.gtid = self.applier.gtids.show().or(self.state.gtid.take());
        let to = self.applier.at;
        let within = self.applier.is_within() || self.torn;
        self.state.read = if within { to.major } else { self.applier.seen.max(self.state.read) };
        self.last_within = within;
        self.forget_ended();
        let chunk = self.applier.gather.chunk(self.at, to, self.state.note(), within);
        self.at = to;
        self.noted = Instant::now();
        self.quiet_since = self.noted;
        chunk
    }

    fn receive(&mut self) -> Outcome<Step> {
        let Some(stream) = &self.stream else { return Ok(Step::Flush) };
        let received = match stream.received.try_recv() {
            Ok(received) => Ok(received),
            Err(TryRecvError::Empty) if self.has_whole() => return Ok(Step::Flush),
            Err(TryRecvError::Empty) => {
                let pause = if self.loader.is_some() { PAUSE / 10 } else { PAUSE };
                stream.received.recv_timeout(pause)
            }
            Err(TryRecvError::Disconnected) => Err(RecvTimeoutError::Disconnected),
        };
        match received {
            Ok(Received::Event(event)) => {
                stream.done(&event);
                let was_within = self.applier.is_within();
                let applied = self.applier.apply(&event, self.at).map_err(|what| self.feed.unreadable(what))?;
                self.take(applied)?;
                self.torn &= !was_within || self.applier.is_within();
                Ok(if self.halt.is_some() { Step::Flush } else { Step::GoOn })
            }
            Ok(Received::Away(Some(PURGED), what)) if what.contains(CUT) => self.cut_off(&what).map(|()| Step::Flush),
            Ok(Received::Away(Some(PURGED), what)) => Err(self.feed.gone(&what)),
            Ok(Received::Away(_, what)) => {
                self.lose(&what);
                Ok(Step::Flush)
            }
            Err(RecvTimeoutError::Disconnected) => {
                self.lose("the connection ended");
                Ok(Step::Flush)
            }
            Err(RecvTimeoutError::Timeout) => Ok(Step::Flush),
        }
    }

    /// Does what an event asks for beside its changes.
    fn take(&mut self, applied: Applied) -> Outcome<()> {
        match applied {
            Applied::Nothing => {}
            Applied::Table(table, columns) => self.told(table, columns)?,
            Applied::Statement(text, touched) => self.statement(&text, &touched)?,
            Applied::Prepared(name, start) => drop(self.state.prepared.insert(name, start)),
            Applied::Forgotten(name) => self.ended.extend(self.state.prepared.get(&name).map(|at| (name, *at))),
            Applied::Committed(name, end) => self.committed(name, end)?,
            Applied::Lost(why) => {
                // Nothing of the transaction in which it stands lands.
                self.applier.forget_rest(self.at);
                self.halt = Some(self.feed.untold(&why, self.applier.seen));
            }
        }
        Ok(())
    }

    /// A distributed transaction is committed: its rows stand in the log where it was prepared.
    fn committed(&mut self, name: String, end: u64) -> Outcome<()> {
        let Some(start) = self.state.prepared.get(&name).copied() else {
            let why = "a distributed transaction was committed that had been prepared before reading began";
            self.halt = Some(self.feed.untold(why, self.applier.seen));
            return Ok(());
        };
        let (number, at) = parts(start);
        let open = |feed: &MariadbFeed| -> Outcome<Option<Stream>> {
            let mut catalog = feed.catalog()?;
            let files = catalog.log_files()?;
            let file = files.iter().find(|(name, _)| file_number(name) == number);
            // A second reader has a number of its own.
            file.map(|(file, _)| Stream::start(catalog, feed.number() | 0x0100_0000, file, at)).transpose()
        };
        let stream = match open(&self.feed) {
            Ok(Some(stream)) => stream,
            Ok(None) => {
                return Err(self.feed.gone("a distributed transaction was prepared in a file that was thrown away"));
            }
            Err(failure) if failure.passing => {
                self.lose(&failure.message);
                return Ok(());
            }
            Err(failure) => return Err(failure),
        };
        loop {
            match stream.received.recv() {
                Ok(Received::Event(event)) => {
                    stream.done(&event);
                    let read = self.applier.apply_prepared(&event, self.at);
                    let (applied, is_last) = read.map_err(|what| self.feed.unreadable(what))?;
                    if is_last {
                        self.applier.commit(end);
                        self.ended.push((name, start));
                        return Ok(());
                    }
                    self.take(applied)?;
                    if self.halt.is_some() || self.away_since.is_some() {
                        return Ok(());
                    }
                }
                Ok(Received::Away(_, what)) => {
                    self.lose(&what);
                    return Ok(());
                }
                Err(_) => {
                    self.lose("the connection ended");
                    return Ok(());
                }
            }
        }
    }

    /// Forgets distributed transactions that ended before the place from which the log would be read again.
    fn forget_ended(&mut self) {
        if self.applier.is_within() || self.torn {
            return;
        }
        for (name, start) in std::mem::take(&mut self.ended) {
            if self.state.prepared.get(&name) == Some(&start) {
                self.state.prepared.remove(&name);
            }
        }
    }

    /// The file ends within a transaction that was never committed, since the server crashed: reading goes on with the next.
    fn cut_off(&mut self, what: &str) -> Outcome<()> {
        let (number, _) = parts(self.applier.seen);
        let files = self.feed.catalog().and_then(|mut catalog| catalog.log_files());
        let next = match files {
            Ok(files) => files.into_iter().map(|(name, _)| file_number(&name)).find(|n| *n > number),
            Err(failure) if failure.passing => {
                self.lose(&failure.message);
                return Ok(());
            }
            Err(failure) => return Err(failure),
        };
        let Some(next) = next else { return Err(self.feed.gone(what)) };
        let next = file_place(next, FIRST);
        if !self.applier.forget_open(self.at, next) {
            return Err(self.feed.gone(&format!("a part of the last transaction has landed; {what}")));
        }
        self.stream = None;
        self.torn = false;
        self.state.read = next;
        self.away_since = Some(Instant::now());
        self.away = format!("{}: {what}", self.feed.settings[0].connection.name);
        Ok(())
    }

    /// Whether whole transactions are gathered.
    fn has_whole(&self) -> bool {
        !self.applier.gather.is_empty() && !self.applier.is_within()
    }

    fn lose(&mut self, what: &str) {
        // The open transaction comes again, from its beginning or from what was handed on of it.
        self.applier.forget_rest(self.at);
        self.stream = None;
        self.away_since = Some(Instant::now());
        self.away = format!("{}: {what}", self.feed.settings[0].connection.name);
        self.torn |= self.applier.is_within();
        self.applier.restart();
    }

    /// A table that is read is told: it may have changed.
    fn told(&mut self, table: u32, columns: Vec<String>) -> Outcome<()> {
        let feed = &self.feed.tables[place(table)];
        let Some(known) = self.state.tables.get_mut(&*feed.name) else { return Ok(()) };
        let mut refill = false;
        let difference = Difference::between(&known.columns, &columns);
        if !difference.is_empty() {
            // What is there now may be later than this place of the log.
            let now = match self.feed.catalog().and_then(|mut catalog| catalog.table(&feed.name)) {
                Ok(now) => now,
                // The transaction comes again, and the table with it.
                Err(failure) if failure.passing => {
                    self.lose(&failure.message);
                    return Ok(());
                }
                Err(failure) => return Err(failure),
            };
            let policy = Policy::of(&self.feed.settings[place(table)]);
            match difference.judge(feed, policy, &now.as_ref().map_or_else(Vec::new, there)) {
                Verdict::GoOn { refill: anew } => refill = anew,
                Verdict::Hold(words) => {
                    self.halt = Some(self.feed.changed(&feed.name, &words, self.applier.at));
                    return Ok(());
                }
                Verdict::Renew(words) => {
                    let Failure { message, .. } = self.feed.changed(&feed.name, &words, self.applier.at);
                    self.halt = Some(Failure::renewing(message));
                    return Ok(());
                }
            }
            if refill {
                known.begin_anew(now.map_or(0, |n| n.about));
            }
        }
        known.columns = columns;
        if refill {
            self.load_again();
        }
        Ok(())
    }

    fn load_again(&mut self) {
        self.loader = None;
        self.portions.clear();
        self.wholes = Wholes::new(self.feed.whole_folder(), &self.feed.tables, &self.state);
        self.begin_loads();
    }

    /// A statement changed tables that are read.
    fn statement(&mut self, text: &str, touched: &Touched) -> Outcome<()> {
        for table in &touched.lost {
            let feed = &self.feed.tables[place(*table)];
            let changed = self.feed.changed(&feed.name, text, self.applier.at);
            match Policy::of(&self.feed.settings[place(*table)]) {
                Policy::Ignore => {}
                Policy::Hold => self.halt = Some(changed),
                Policy::Follow => match self.feed.catalog().and_then(|mut catalog| catalog.table(&feed.name)) {
                    // It was made anew, as the log goes on to tell, or another one has its name and is read again.
                    Ok(Some(_)) => {}
                    Ok(None) => self.halt = Some(Failure::renewing(changed.message)),
                    Err(failure) if failure.passing => {
                        self.lose(&failure.message);
                        return Ok(());
                    }
                    Err(failure) => return Err(failure),
                },
            }
        }
        for table in &touched.keyed {
            let feed = &self.feed.tables[place(*table)];
            let there = match self.feed.catalog().and_then(|mut catalog| catalog.table(&feed.name)) {
                Ok(there) => there,
                Err(failure) if failure.passing => {
                    self.lose(&failure.message);
                    return Ok(());
                }
                Err(failure) => return Err(failure),
            };
            if there.is_some_and(|t| t.key != feed.key) {
                let changed =
                    self.feed.changed(&feed.name, &format!("it has another primary key ({text})"), self.applier.at);
                self.halt = Some(match Policy::of(&self.feed.settings[place(*table)]) {
                    Policy::Follow => Failure::renewing(changed.message),
                    Policy::Hold | Policy::Ignore => changed,
                });
            }
        }
        self.read_again(text, &touched.replaced)
    }

    /// Has tables loaded again whose rows are others now.
    fn read_again(&mut self, text: &str, tables: &[u32]) -> Outcome<()> {
        if tables.is_empty() || self.halt.is_some() {
            return Ok(());
        }
        for table in tables {
            let name = &self.feed.tables[place(*table)].name;
            let Some(known) = self.state.tables.get_mut(&**name) else { continue };
            if known.load.is_none() {
                let why = format!("rows of {name}, which is not loaded, are others now: {text}");
                self.halt = Some(self.feed.untold(&why, self.applier.seen));
                return Ok(());
            }
            known.begin_anew(0);
        }
        self.load_again();
        Ok(())
    }

    fn again(&mut self) -> Outcome<Option<Read>> {
        let Some(since) = self.away_since else { return Ok(None) };
        if since.elapsed() < AGAIN {
            std::thread::sleep(PAUSE);
            return Ok(Some(Read::Away(self.away.clone())));
        }
        match self.connect() {
            Ok(()) => {
                self.away_since = None;
                Ok(None)
            }
            Err(failure) if failure.passing => {
                self.away_since = Some(Instant::now());
                self.away.clone_from(&failure.message);
                Ok(Some(Read::Away(failure.message)))
            }
            Err(failure) => Err(failure),
        }
    }

    fn idle(&mut self) -> Read {
        let seen = self.applier.seen;
        let is_whole = !self.applier.is_within() && !self.torn && self.stream.is_some();
        let grown = seen.saturating_sub(self.state.read);
        if is_whole
            && self.portions.is_empty()
            && (grown > IDLE_BYTES || (grown > 0 && self.noted.elapsed() > IDLE_TIME))
        {
            return Read::Chunk(self.chunk());
        }
        let is_loading = self.state.loading().next().is_some();
        let is_read = is_whole && !is_loading && seen >= self.target;
        if is_read && self.quiet_since.elapsed() > QUIET { Read::CaughtUp } else { Read::Pending }
    }
}

fn place(table: u32) -> usize {
    usize::try_from(table).unwrap_or(usize::MAX)
}

impl LaneReader for FeedReader {
    fn read(&mut self, limit: ReadLimit) -> Outcome<Read> {
        self.teller.tell(self.applier.seen, &self.state);
        if let Some(read) = self.again()? {
            if !self.applier.gather.is_empty() {
                return Ok(Read::Chunk(self.chunk()));
            }
            return Ok(read);
        }
        loop {
            // A batch may end here.
            let is_end = self.last_within && !self.torn && !self.applier.is_within() && self.applier.gather.is_empty();
            let ends = limit.ends && !self.applier.is_within() && !self.applier.gather.is_empty();
            if is_end || ends || self.applier.gather.is_full(limit) {
                return Ok(Read::Chunk(self.chunk()));
            }
            if self.halt.is_some() {
                if !self.applier.gather.is_empty() || self.at < self.applier.at {
                    return Ok(Read::Chunk(self.chunk()));
                }
                return Ok(self.halt.take().map_or(Read::Pending, Read::Halt));
            }
            match self.take_whole(limit)? {
                whole::Step::Done => {}
                whole::Step::Rows => return Ok(Read::Chunk(self.chunk())),
                whole::Step::Wait => {
                    std::thread::sleep(PAUSE);
                    return Ok(Read::Pending);
                }
            }
            if let Some(chunk) = self.take_portion(limit)? {
                return Ok(Read::Chunk(chunk));
            }
            match self.receive()? {
                Step::GoOn => {}
                Step::Flush if self.halt.is_some() => {}
                Step::Flush if self.has_whole() => return Ok(Read::Chunk(self.chunk())),
                // What a transaction has done so far may be rolled back: it waits for its end, unless it is large.
                Step::Flush if self.applier.is_within() => return Ok(Read::Pending),
                Step::Flush => return Ok(self.idle()),
            }
        }
    }
}
