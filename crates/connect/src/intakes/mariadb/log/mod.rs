//! The row log of a MariaDB server, and what it means for the reader.

mod changed;
mod loads;

use std::path::PathBuf;
use std::sync::Arc;
use std::time::Duration;

use crossbeam_channel::{RecvTimeoutError, Select, TryRecvError};
use sluice_core::failure::Outcome;
use sluice_core::kinds::Settings;

use super::MariadbFeed;
use super::applier::{AppliedLog, LogApplier, file_number, file_place, parts};
use super::gtid::Gtids;
use super::load::LoadDetail;
use super::stream::{FromStream, LogStream};
use super::whole::reading as reading_whole;
use crate::intakes::feed::FeedTable;
use crate::intakes::feed::loader::{Loader, Outdated, Portion};
use crate::intakes::feed::order::Order;
use crate::intakes::feed::reader::{Log, Reading, Step};
use crate::intakes::feed::schema::Policy;
use crate::intakes::feed::state::{Load, State};
use crate::intakes::feed::whole::ReadTable;

/// Where the first event of a file stands.
const FIRST: u64 = 4;

/// What the server says of a file that ends within a transaction: it crashed while it wrote, and began another file.
const CUT: &str = "truncated in the middle of event";

/// What the server says when a file of the log is not there any more.
const PURGED: u16 = 1236;

/// A second connection has a server number of its own, with this bit set.
const SECOND: u32 = 0x0100_0000;

pub(super) struct MariadbLog {
    feed: Arc<MariadbFeed>,
    stream: Option<LogStream>,
    applier: LogApplier,
    loader: Option<Loader<LoadDetail>>,
    /// Distributed transactions that have ended, with where they were prepared.
    ended: Vec<(String, u64)>,
}

impl MariadbLog {
    pub(super) fn new(feed: Arc<MariadbFeed>, state: &State) -> Self {
        let mut applier = LogApplier::new(feed.tables.clone(), feed.known.clone(), state.read);
        applier.gtids = state.gtid.as_deref().map(Gtids::parse).unwrap_or_default();
        let follows = (0..).zip(&feed.settings).filter(|(_, s)| Policy::of(s) == Policy::Follow);
        applier.follows = follows.map(|(number, _)| number).collect();
        Self { feed, stream: None, applier, loader: None, ended: Vec::new() }
    }

    fn lose(&self, reading: &mut Reading, what: &str) -> Step {
        reading.lose(format!("{}: {what}", self.feed.settings[0].connection.name));
        Step::Flush
    }

    /// Does what an event asks for beside its changes.
    fn take(&mut self, reading: &mut Reading, applied: AppliedLog) -> Outcome<()> {
        match applied {
            AppliedLog::Nothing => {}
            AppliedLog::Table(table, columns) => self.announced(reading, table, columns)?,
            AppliedLog::Statement(text, touched) => self.statement(reading, &text, &touched)?,
            AppliedLog::Prepared(name, start) => drop(reading.state.prepared.insert(name, start)),
            AppliedLog::Forgotten(name) => self.ended.extend(reading.state.prepared.get(&name).map(|at| (name, *at))),
            AppliedLog::Committed(name, end) => self.committed(reading, name, end)?,
            AppliedLog::Lost(why) => {
                // Nothing of the transaction in which it stands lands.
                self.applier.forget_rest(&mut reading.order, reading.handed);
                reading.halt = Some(self.feed.unlogged(&why, reading.order.seen));
            }
        }
        Ok(())
    }

    /// A distributed transaction is committed: its rows stand in the log where it was prepared.
    fn committed(&mut self, reading: &mut Reading, name: String, end: u64) -> Outcome<()> {
        let Some(start) = reading.state.prepared.get(&name).copied() else {
            let why = "a distributed transaction was committed that had been prepared before reading began";
            reading.halt = Some(self.feed.unlogged(why, reading.order.seen));
            return Ok(());
        };
        let Some(stream) = reading.unless_away(self.stream_at(start))? else { return Ok(()) };
        let Some(stream) = stream else {
            return Err(self.feed.gone("a distributed transaction was prepared in a log file that was deleted"));
        };
        loop {
            match stream.received.recv() {
                Ok(FromStream::Event(event)) => {
                    stream.done(&event);
                    let read = self.applier.apply_prepared(&mut reading.order, &event, reading.handed);
                    let (applied, is_last) = read.map_err(|what| self.feed.unreadable(what))?;
                    if is_last {
                        self.applier.commit(&mut reading.order, end);
                        self.ended.push((name, start));
                        return Ok(());
                    }
                    self.take(reading, applied)?;
                    if reading.halt.is_some() || reading.is_down() {
                        return Ok(());
                    }
                }
                Ok(FromStream::Away(_, what)) => {
                    self.lose(reading, &what);
                    return Ok(());
                }
                Err(_) => {
                    self.lose(reading, "the connection ended");
                    return Ok(());
                }
            }
        }
    }

    /// A second stream, from a place on; None where its file is not there any more.
    fn stream_at(&self, place: u64) -> Outcome<Option<LogStream>> {
        let (number, at) = parts(place);
        let mut catalog = self.feed.catalog()?;
        let files = catalog.log_files()?;
        let file = files.iter().find(|(name, _)| file_number(name) == number);
        file.map(|(file, _)| LogStream::start(catalog, self.feed.number() | SECOND, file, at)).transpose()
    }

    /// The file ends within a transaction that was never committed, since the server crashed: reading goes on with the next.
    fn cut_off(&mut self, reading: &mut Reading, what: &str) -> Outcome<Step> {
        let (number, _) = parts(reading.order.seen);
        let files = self.feed.catalog().and_then(|mut catalog| catalog.log_files());
        let Some(files) = reading.unless_away(files)? else { return Ok(Step::Flush) };
        let next = files.into_iter().map(|(name, _)| file_number(&name)).find(|n| *n > number);
        let next = next.ok_or_else(|| self.feed.gone(what))?;
        let next = file_place(next, FIRST);
        if !self.applier.forget_open(&mut reading.order, reading.handed, next) {
            return Err(self.feed.gone(&format!("a part of the last transaction has landed; {what}")));
        }
        reading.state.read = next;
        Ok(self.lose(reading, what))
    }

    /// Forgets distributed transactions that ended before the place from which the log would be read again.
    fn forget_ended(&mut self, reading: &mut Reading) {
        if !reading.order.is_between() {
            return;
        }
        let prepared = &mut reading.state.prepared;
        for (name, start) in std::mem::take(&mut self.ended) {
            if prepared.get(&name) == Some(&start) {
                prepared.remove(&name);
            }
        }
    }
}

impl Log for MariadbLog {
    type Detail = LoadDetail;

    const PATIENCE: Duration = Duration::ZERO;

    fn tables(&self) -> &[FeedTable] {
        &self.feed.tables
    }

    fn settings(&self) -> &[Settings] {
        &self.feed.settings
    }

    fn label(&self) -> &str {
        self.feed.label()
    }

    fn whole_folder(&self) -> PathBuf {
        self.feed.whole_folder()
    }

    fn connect(&mut self, reading: &mut Reading) -> Outcome<()> {
        let state = &reading.state;
        let mut catalog = self.feed.catalog()?;
        let (number, at) = parts(state.read);
        let files = catalog.log_files()?;
        let file = files.iter().find(|(name, _)| file_number(name) == number);
        let Some((file, _)) = file.filter(|(_, size)| *size >= at) else {
            return Err(self.feed.lost(&catalog.shown, number, at, &files));
        };
        // Files have the same names after a server was set up again.
        if let (Some(ours), Some(theirs)) = (&state.gtid, catalog.gtid_at(file, at)?)
            && Gtids::parse(ours) != Gtids::parse(&theirs)
        {
            return Err(self.feed.rewritten(&catalog.shown, state.read, ours, &theirs));
        }
        self.stream = Some(LogStream::start(catalog, self.feed.number(), file, at)?);
        Ok(())
    }

    fn is_connected(&self) -> bool {
        self.stream.is_some()
    }

    fn disconnect(&mut self, reading: &mut Reading) {
        // The open transaction comes again, from its beginning or from what was handed on of it.
        self.applier.forget_rest(&mut reading.order, reading.handed);
        self.applier.restart();
        self.stream = None;
    }

    /// What an open transaction has done so far may be rolled back: it waits for its end, unless it is large.
    fn is_ready(&self, order: &Order) -> bool {
        !order.gather.is_empty() && !order.is_within()
    }

    fn receive(&mut self, reading: &mut Reading, pause: Duration) -> Outcome<Step> {
        let Some(stream) = &self.stream else { return Ok(Step::Flush) };
        let received = match stream.received.try_recv() {
            Ok(received) => Ok(received),
            Err(TryRecvError::Empty) if self.is_ready(&reading.order) => return Ok(Step::Flush),
            Err(TryRecvError::Empty) => stream.received.recv_timeout(pause),
            Err(TryRecvError::Disconnected) => Err(RecvTimeoutError::Disconnected),
        };
        match received {
            Ok(FromStream::Event(event)) => {
                stream.done(&event);
                let applied = self.applier.apply(&mut reading.order, &event, reading.handed);
                self.take(reading, applied.map_err(|what| self.feed.unreadable(what))?)?;
                Ok(if reading.halt.is_some() { Step::Flush } else { Step::GoOn })
            }
            Ok(FromStream::Away(Some(PURGED), what)) if what.contains(CUT) => self.cut_off(reading, &what),
            Ok(FromStream::Away(Some(PURGED), what)) => Err(self.feed.gone(&what)),
            Ok(FromStream::Away(_, what)) => Ok(self.lose(reading, &what)),
            Err(RecvTimeoutError::Disconnected) => Ok(self.lose(reading, "the connection ended")),
            Err(RecvTimeoutError::Timeout) => Ok(Step::Flush),
        }
    }

    fn wait(&self, at_most: Duration) {
        let Some(stream) = &self.stream else { return };
        let mut select = Select::new();
        select.recv(&stream.received);
        let _ = select.ready_timeout(at_most);
    }

    fn note(&mut self, reading: &mut Reading) {
        self.count_changes(reading);
        reading.state.gtid = self.applier.gtids.show().or(reading.state.gtid.take());
        self.forget_ended(reading);
    }

    fn begin_loads(&mut self, state: &State) {
        self.start_loader(state);
    }

    fn end_loading(&mut self) {
        self.loader = None;
    }

    fn next_portion(&mut self) -> Outcome<Option<Portion<LoadDetail>>> {
        self.loader.as_ref().map_or(Ok(None), Loader::next)
    }

    fn outdated<'s>(&'s self, portion: &'s Portion<LoadDetail>) -> Outdated<'s> {
        let recent = self.applier.recent.get(&portion.table).map_or(&[][..], Vec::as_slice);
        // Changes after the place of the snapshot have been taken in already; an emptied table has none of these rows.
        let later = recent.iter().filter(|(end, _)| *end > portion.mark);
        let keys: Option<_> = later.map(|(_, key)| key.as_deref()).collect();
        keys.map_or(Outdated::All, Outdated::Keys)
    }

    fn advance(&self, load: &mut Load, portion: &Portion<LoadDetail>, last: usize) {
        load.cursor = portion.detail.cursors.get(last);
    }

    fn counts(&self, portion: &Portion<LoadDetail>) -> bool {
        !portion.detail.again
    }

    fn end_portion(&mut self, reading: &mut Reading, portion: &Portion<LoadDetail>) {
        self.close_portion(reading, portion);
    }

    fn read_whole(&self, table: FeedTable, settings: Settings) -> ReadTable {
        reading_whole(table, settings)
    }
}
