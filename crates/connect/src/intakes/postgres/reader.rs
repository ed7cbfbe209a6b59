//! Reads a change feed: the log, and between its transactions the rows that the tables had before.

mod loads;

use std::collections::{HashMap, HashSet, VecDeque};
use std::sync::Arc;
use std::time::{Duration, Instant};

use bytes::Bytes;
use crossbeam_channel::{RecvTimeoutError, TryRecvError};
use sluice_core::event::{Chunk, Position};
use sluice_core::failure::{Failure, Outcome};
use sluice_core::kinds::{LaneReader, Read, ReadLimit};
use sluice_core::units::show_size;

use loads::passed;

use super::PostgresFeed;
use super::applier::{Applied, Applier};
use super::catalog::Catalog;
use super::load::{Loader, Portion};
use super::pgoutput::{self, Message, Relation};
use super::schema;
use super::silent::Form;
use super::slot::{self, HELD};
use super::stream::{Received, Stream};
use super::streamed::{Committed, Streamed};
use super::wire::{Said, WireError};
use crate::intakes::feed::live::Teller;
use crate::intakes::feed::schema::Verdict;
use crate::intakes::feed::state::State;
use crate::intakes::feed::whole::{self, Wholes};

/// How long to wait for the log before saying that nothing is there.
const PAUSE: Duration = Duration::from_millis(20);

/// How long the log must be quiet before all of it counts as read.
const QUIET: Duration = Duration::from_millis(300);

/// How long to wait before connecting again.
const AGAIN: Duration = Duration::from_millis(500);

/// How often is looked at what the log does not tell.
const MEASURE: Duration = Duration::from_secs(5);

/// An idle log is noted as read when it has grown by so much, or after this time, so that the source can forget it.
const IDLE_BYTES: u64 = 16 << 20;
const IDLE_TIME: Duration = Duration::from_secs(60);

pub(super) struct FeedReader {
    feed: Arc<PostgresFeed>,
    stream: Option<Stream>,
    received: Taken,
    applier: Applier,
    streamed: Streamed,
    /// A large transaction that is committed and being read.
    committed: Option<Committed>,
    state: State,
    /// After what was handed on.
    at: Position,
    /// Tables without a key.
    wholes: Wholes,
    loader: Option<Loader>,
    /// By table, the keys of rows that are being read again.
    asked: HashMap<u32, usize>,
    /// Tables that have been read to their end.
    ended: HashSet<u32>,
    portions: VecDeque<(Portion, usize)>,
    /// Where the server's log ends, as far as it has sent it.
    seen: u64,
    /// Where the log ended when the reader was opened: up to there it catches up.
    target: u64,
    quiet_since: Instant,
    noted: Instant,
    away_since: Option<Instant>,
    /// Whether the last chunk ended within a transaction.
    last_within: bool,
    /// Why, in words.
    away: String,
    halt: Option<Failure>,
    teller: Teller,
    /// What the server may keep of its log for us.
    limit: Option<u64>,
    /// When was looked at what the log does not tell.
    measured: Instant,
    /// Why the run is to stop, once the log has been seen to a place.
    parting: Option<(u64, Failure)>,
    /// Tables whose rows are others now, to be loaded again once the log has been seen to a place: what it tells before is
    /// of the rows that they had.
    exchanged: Option<(u64, Vec<(String, Form)>)>,
    /// Whether the connection was lost within a transaction whose rest comes again.
    torn: bool,
    /// A transaction that rows are to be read with: they would be older than what was taken in.
    seeing: Option<u32>,
}

/// Messages that were received and are to be read.
#[derive(Default)]
struct Taken {
    messages: std::vec::IntoIter<Bytes>,
    /// What they take up of the bound.
    room: u32,
}

/// What handling something received means for the reader.
enum Step {
    GoOn,
    /// Hand on what there is.
    Flush,
}

impl FeedReader {
    pub(super) fn new(feed: Arc<PostgresFeed>, at: Position, state: State, target: u64) -> Outcome<Self> {
        let folder = feed.folder();
        let options = &feed.settings[0].options;
        let limit = options.is_set("log_limit").then(|| options.size("log_limit"));
        let teller = Teller::new(&feed.settings[0].work, feed.label());
        let mut reader = Self {
            applier: Applier::new(feed.tables.clone(), at),
            streamed: Streamed::new(&folder)?,
            wholes: Wholes::new(feed.whole_folder(), &feed.tables, &state),
            feed,
            stream: None,
            received: Taken::default(),
            committed: None,
            state,
            at,
            loader: None,
            asked: HashMap::new(),
            ended: HashSet::new(),
            portions: VecDeque::new(),
            seen: 0,
            target,
            quiet_since: Instant::now(),
            noted: Instant::now(),
            away_since: None,
            last_within: false,
            away: String::new(),
            halt: None,
            teller,
            limit,
            measured: Instant::now(),
            parting: None,
            exchanged: None,
            torn: false,
            seeing: None,
        };
        reader.seen = reader.state.read;
        // A connection of a process that was killed may hold the slot for a moment.
        let opened = Instant::now();
        while let Err(failure) = reader.connect() {
            if !failure.passing || opened.elapsed() > HELD {
                return Err(failure);
            }
            std::thread::sleep(AGAIN);
        }
        reader.applier.read_at = whole::read_at(&reader.feed.tables, &reader.state);
        let names = reader.feed.tables.iter().map(|t| Arc::clone(&t.name));
        reader.applier.gather.tell_emptied(names, &mut reader.state, &mut reader.applier.at);
        reader.begin_loads();
        let catalog = reader.feed.catalog()?;
        reader.look_for_exchanged(&catalog)?;
        Ok(reader)
    }

    fn connect(&mut self) -> Outcome<()> {
        let from = self.state.read;
        let started = Stream::start(
            &self.feed.server,
            &self.state.slot,
            &self.feed.publication(&self.state),
            from,
            &self.feed.shared,
        );
        match started {
            Ok(stream) => {
                self.stream = Some(stream);
                Ok(())
            }
            Err(WireError::Refused(said)) => self.refused(&said),
            Err(WireError::Away(what)) => {
                Err(Failure::away(format!("{} does not answer: {what}", self.feed.server.shown())))
            }
        }
    }

    /// What a refusal to stream means: some pass, others need somebody.
    fn refused(&self, said: &Said) -> Outcome<()> {
        let shown = self.feed.server.shown();
        let lost = |what: String| {
            Failure::findings(what).with_help(format!(
                "changes since then cannot be read any more. `sluice positions {} --set earliest` begins anew: mirrors are \
                 emptied, and every table is loaded again",
                self.feed.pipeline()
            ))
        };
        match said.code.as_str() {
            "42704" => Err(lost(format!("{shown} has lost the slot {}: {}", self.state.slot, said.message))),
            "55000" | "58P01" => Err(lost(format!("{shown} has thrown away log that was not read: {}", said.message))),
            "28000" | "28P01" | "42501" => Err(super::wire::failed(&shown, WireError::Refused(said.clone()))),
            // Still in use by a connection that is going, starting up, shutting down.
            _ => Err(Failure::away(format!("{shown}: {}", said.message))),
        }
    }

    /// What was gathered, as a chunk.
    fn chunk(&mut self) -> Chunk {
        self.state.time = self.applier.time.or(self.state.time);
        self.read_again();
        let to = self.applier.at;
        let is_within = self.applier.is_within() || self.torn;
        self.state.read = if is_within { to.major } else { self.seen.max(self.state.read) };
        self.last_within = is_within;
        let chunk = self.applier.gather.chunk(self.at, to, self.state.note(), is_within);
        self.at = to;
        self.noted = Instant::now();
        self.quiet_since = self.noted;
        chunk
    }

    /// Takes what has been received, waiting for it only where nothing is gathered.
    fn receive(&mut self) -> Outcome<Step> {
        let Some(stream) = &self.stream else { return Ok(Step::Flush) };
        if let Some(message) = self.received.messages.next() {
            if self.received.messages.len() == 0 {
                stream.done(std::mem::take(&mut self.received.room));
            }
            return self.message(&message);
        }
        let received = match stream.received.try_recv() {
            Ok(received) => Ok(received),
            Err(TryRecvError::Empty) if !self.applier.gather.is_empty() => return Ok(Step::Flush),
            Err(TryRecvError::Empty) => {
                let pause = if self.loader.is_some() { PAUSE / 10 } else { PAUSE };
                stream.received.recv_timeout(pause)
            }
            Err(TryRecvError::Disconnected) => Err(RecvTimeoutError::Disconnected),
        };
        match received {
            Ok(Received::Messages(messages, room)) => {
                self.received = Taken { messages: messages.into_iter(), room };
                Ok(Step::GoOn)
            }
            Ok(Received::Alive(end)) => {
                self.seen = self.seen.max(end);
                Ok(Step::GoOn)
            }
            Ok(Received::Away(what)) => {
                self.lose(&what);
                Ok(Step::Flush)
            }
            Ok(Received::Refused(said)) => match said.code.as_str() {
                "57P01" | "57P02" | "57P03" | "57P05" => {
                    self.lose(&said.message);
                    Ok(Step::Flush)
                }
                _ => self.refused(&said).map(|()| Step::Flush),
            },
            Err(RecvTimeoutError::Timeout) => Ok(Step::Flush),
            Err(RecvTimeoutError::Disconnected) => {
                self.lose("the connection ended");
                Ok(Step::Flush)
            }
        }
    }

    fn lose(&mut self, what: &str) {
        let received = std::mem::take(&mut self.received);
        if let Some(stream) = self.stream.take() {
            stream.done(received.room);
        }
        self.away = format!("{}: {what}", self.feed.server.shown());
        self.away_since = Some(Instant::now());
        self.torn |= self.applier.is_within();
        // A committed transaction that is on our disk comes again too.
        self.committed = None;
        self.streamed.restart();
        self.applier.restart();
    }

    fn message(&mut self, bytes: &Bytes) -> Outcome<Step> {
        let within = self.streamed.is_within();
        let read = pgoutput::read(bytes.clone(), within);
        let (_, message) = read.ok_or_else(|| Failure::internal("a message of pgoutput is not understood"))?;
        match message {
            Message::StreamStart { xid } => self.streamed.start(xid)?,
            Message::StreamStop => self.streamed.stop(),
            Message::StreamAbort { xid, within } => self.streamed.abort(xid, within),
            Message::StreamCommit { xid, commit, end, time } => {
                self.committed = self.streamed.commit(xid, end)?;
                if self.committed.is_some() {
                    self.applier.begin(commit, time, xid);
                }
            }
            _ if within => self.streamed.keep(bytes)?,
            message => return self.apply(&message),
        }
        Ok(Step::GoOn)
    }

    fn apply(&mut self, message: &Message) -> Outcome<Step> {
        let applied = self.applier.apply(message);
        match applied.ok_or_else(|| Failure::internal("a change came of a table that was never told"))? {
            Applied::Nothing => Ok(Step::GoOn),
            Applied::Committed(_) => {
                self.torn = false;
                self.seen = self.seen.max(self.applier.end);
                Ok(Step::GoOn)
            }
            Applied::Relation(relation) => self.relation(&relation),
        }
    }

    /// A table is told anew: it may have changed.
    fn relation(&mut self, relation: &Relation) -> Outcome<Step> {
        let found = match schema::compare(&self.feed, &self.state, relation) {
            Ok(Some(found)) => found,
            Ok(None) => return Ok(Step::GoOn),
            // The transaction comes again, and the table with it.
            Err(failure) if failure.passing => {
                self.lose(&failure.message);
                return Ok(Step::Flush);
            }
            Err(failure) => return Err(failure),
        };
        if let Some(renamed) = found.bound_as {
            self.applier.bind_to(relation, Some(renamed));
        }
        let shown = super::catalog::show_lsn(self.applier.at.major);
        let changed = |words: &str| format!("{} changed at {shown} of the log: {words}", found.table);
        let refill = match &found.verdict {
            Verdict::GoOn { refill } => *refill,
            Verdict::Hold(words) => {
                let help = format!(
                    "what came before has been taken in. Change the contract and the tables that it lands in, and run \
                     again; or write schema_change = \"ignore\" into the arrival. Columns of {} then: {}",
                    found.table,
                    relation.columns.iter().map(|c| c.name.as_str()).collect::<Vec<_>>().join(", ")
                );
                self.halt = Some(Failure::findings(changed(words)).with_help(help));
                return Ok(Step::Flush);
            }
            Verdict::Renew(words) => {
                self.halt = Some(Failure::renewing(changed(words)));
                return Ok(Step::Flush);
            }
        };
        if let Some(table) = self.state.tables.get_mut(&found.table) {
            table.columns = found.columns;
            table.id = relation.id;
        }
        if refill {
            self.refill(&found.table);
        }
        Ok(Step::GoOn)
    }

    /// Looks now and then at what the log does not tell: how much of it is kept, and tables that are gone.
    fn watch(&mut self) -> Outcome<()> {
        if self.measured.elapsed() > MEASURE {
            self.measured = Instant::now();
            // A server that is away is noticed by the stream.
            if let Err(failure) = self.look()
                && !failure.passing
            {
                return Err(failure);
            }
        }
        // What changed before it went is taken in first.
        match self.parting.take() {
            Some((end, failure)) if self.is_between() && passed(end, self.seen) => {
                self.halt.get_or_insert(failure);
            }
            Some(parting) => {
                self.feed.shared.ask();
                self.parting = Some(parting);
            }
            None => {}
        }
        match self.exchanged.take() {
            Some((end, tables)) if self.is_between() && self.applier.gather.is_empty() && passed(end, self.seen) => {
                self.load_exchanged(tables);
            }
            Some(exchanged) => {
                self.feed.shared.ask();
                self.exchanged = Some(exchanged);
            }
            None => {}
        }
        Ok(())
    }

    fn look(&mut self) -> Outcome<()> {
        let Ok(catalog) = self.feed.catalog() else { return Ok(()) };
        // The place that is to be seen stays that of the first look: the log goes on growing.
        if self.parting.is_none() {
            self.parting = schema::gone(&self.feed, &catalog, &self.state)?;
        }
        self.look_for_exchanged(&catalog)?;
        self.bound_log(&catalog)
    }

    /// Gives the slot up where the server keeps more of its log for it than it may.
    fn bound_log(&mut self, catalog: &Catalog) -> Outcome<()> {
        let Some(limit) = self.limit else { return Ok(()) };
        let end = catalog.log_end()?;
        let kept = catalog.slot(&self.state.slot)?.map_or(0, |s| end.saturating_sub(s.restart));
        if kept <= limit {
            return Ok(());
        }
        self.stream = None;
        self.feed.give_up(&self.state.slot)?;
        let (kept, limit) = (show_size(kept), show_size(limit));
        let message = format!(
            "{} kept {kept} of its log for {}, more than the limit of {limit}",
            self.feed.server.shown(),
            self.state.slot
        );
        Err(Failure::findings(message).with_help(format!(
            "the slot was given up, so that the server's disk does not fill. `sluice positions {} --set earliest` begins anew: \
             mirrors are emptied, and every table is loaded again",
            self.feed.pipeline()
        )))
    }

    /// Tries to reach the server again.
    fn again(&mut self) -> Outcome<Option<Read>> {
        let Some(since) = self.away_since else { return Ok(None) };
        if since.elapsed() < AGAIN {
            std::thread::sleep(PAUSE);
            return Ok(Some(Read::Away(self.away.clone())));
        }
        // Another server may answer now, or a standby that took over.
        let verified = self.feed.catalog().and_then(|catalog| slot::verify(&self.feed, &catalog, &mut self.state));
        match verified.and_then(|()| self.connect()) {
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

    /// Nothing is there at present.
    fn idle(&mut self) -> Read {
        if self.end_loads() {
            // So that the ledger has it, and others see it.
            return Read::Chunk(self.chunk());
        }
        self.read_again();
        let is_whole = self.is_between() && self.stream.is_some();
        let grown = self.seen.saturating_sub(self.state.read);
        if is_whole
            && self.portions.is_empty()
            && (grown > IDLE_BYTES || (grown > 0 && self.noted.elapsed() > IDLE_TIME))
        {
            return Read::Chunk(self.chunk());
        }
        let is_read = is_whole && !self.is_loading() && self.exchanged.is_none() && passed(self.target, self.seen);
        if is_read && self.quiet_since.elapsed() > QUIET {
            return Read::CaughtUp;
        }
        if is_whole && (self.seen < self.target || !self.portions.is_empty() || self.exchanged.is_some()) {
            self.feed.shared.ask();
        }
        Read::Pending
    }
}

fn place(table: u32) -> usize {
    usize::try_from(table).unwrap_or(usize::MAX)
}

impl LaneReader for FeedReader {
    fn read(&mut self, limit: ReadLimit) -> Outcome<Read> {
        self.teller.tell(self.seen.max(self.applier.at.major), &self.state);
        self.watch()?;
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
            if let Some(committed) = &mut self.committed {
                let end = committed.end;
                match committed.next()? {
                    Some(message) => {
                        self.apply(&message)?;
                    }
                    None => {
                        self.committed = None;
                        self.torn = false;
                        self.applier.commit(end);
                        self.seen = self.seen.max(end);
                    }
                }
                continue;
            }
            match self.receive()? {
                Step::GoOn => {}
                Step::Flush if self.halt.is_some() => {}
                Step::Flush if !self.applier.gather.is_empty() => return Ok(Read::Chunk(self.chunk())),
                Step::Flush => return Ok(self.idle()),
            }
        }
    }
}
