//! The log of a PostgreSQL server, as its plugin sends it, and what it means for the reader.

mod loads;
mod watch;

use std::collections::{HashMap, HashSet};
use std::path::PathBuf;
use std::sync::Arc;
use std::time::{Duration, Instant};

use bytes::Bytes;
use crossbeam_channel::{RecvTimeoutError, Select, TryRecvError};
use sluice_core::failure::{Failure, Outcome};
use sluice_core::kinds::Settings;

use super::PostgresFeed;
use super::applier::{Applied, Applier};
use super::load::Detail;
use super::pgoutput::{self, LogMessage, Relation};
use super::schema;
use super::silent::TableStorage;
use super::slot::{self, HELD};
use super::stream::{Received, Stream};
use super::streamed::{Committed, Streamed};
use super::whole::reading;
use super::wire::{ServerReply, WireError};
use crate::intakes::feed::FeedTable;
use crate::intakes::feed::loader::{Loader, Outdated, Portion};
use crate::intakes::feed::reader::{Log, Reading, Step};
use crate::intakes::feed::schema::SchemaVerdict;
use crate::intakes::feed::state::{Load, State};
use crate::intakes::feed::whole::ReadTable;

pub(super) struct PostgresLog {
    feed: Arc<PostgresFeed>,
    stream: Option<Stream>,
    received: ReceivedMessages,
    applier: Applier,
    streamed: Streamed,
    /// A large transaction that is committed and being read.
    committed: Option<Committed>,
    loader: Option<Loader<Detail>>,
    /// By table, the number of keys whose rows are being read again.
    asked: HashMap<u32, usize>,
    /// Tables that have been read to their end.
    ended: HashSet<u32>,
    /// When the log was last asked for what it does not report.
    measured: Instant,
    /// What the server may keep of its log for us.
    limit: Option<u64>,
    /// Why the run is to stop, once the log has been seen to a place.
    parting: Option<(u64, Failure)>,
    /// Tables whose rows were replaced, to be loaded again once the log has been seen to a place: what it reports before
    /// that is about the rows that they had.
    exchanged: Option<(u64, Vec<(String, TableStorage)>)>,
    /// A transaction that tables are to be read with: their rows would be older than what was taken in.
    seeing: Option<u32>,
}

/// Messages that were received and are to be read.
#[derive(Default)]
struct ReceivedMessages {
    messages: std::vec::IntoIter<Bytes>,
    /// What they take up of the bound.
    room: u32,
}

impl PostgresLog {
    pub(super) fn new(feed: Arc<PostgresFeed>) -> Outcome<Self> {
        let options = &feed.settings[0].options;
        Ok(Self {
            applier: Applier::new(feed.tables.clone()),
            streamed: Streamed::new(&feed.folder())?,
            limit: options.is_set("log_limit").then(|| options.size("log_limit")),
            feed,
            stream: None,
            received: ReceivedMessages::default(),
            committed: None,
            loader: None,
            asked: HashMap::new(),
            ended: HashSet::new(),
            measured: Instant::now(),
            parting: None,
            exchanged: None,
            seeing: None,
        })
    }

    /// What a refusal to stream means: some pass, others need somebody.
    fn refused(&self, state: &State, said: &ServerReply) -> Failure {
        let shown = self.feed.server.shown();
        let lost = |what: String| {
            Failure::findings(what).with_help(format!(
                "changes since then can no longer be read. `sluice positions {} --set earliest` starts again: mirrors \
                 are emptied, and every table is loaded again",
                self.feed.pipeline()
            ))
        };
        match said.code.as_str() {
            "42704" => lost(format!("{shown} has lost the slot {}: {}", state.slot, said.message)),
            "55000" | "58P01" => lost(format!("{shown} deleted unread log: {}", said.message)),
            "28000" | "28P01" | "42501" => super::wire::failed(&shown, WireError::Answer(said.clone())),
            // Still in use by a connection that is going, starting up, shutting down.
            _ => Failure::away(format!("{shown}: {}", said.message)),
        }
    }

    fn lose(&self, reading: &mut Reading, what: &str) -> Step {
        reading.lose(format!("{}: {what}", self.feed.server.shown()));
        Step::Flush
    }

    fn message(&mut self, reading: &mut Reading, bytes: &Bytes) -> Outcome<Step> {
        let within = self.streamed.is_within();
        let read = pgoutput::read(bytes.clone(), within);
        let (_, message) = read.ok_or_else(|| Failure::internal("a message of pgoutput cannot be decoded"))?;
        match message {
            LogMessage::StreamStart { xid } => self.streamed.start(xid)?,
            LogMessage::StreamStop => self.streamed.stop(),
            LogMessage::StreamAbort { xid, within } => self.streamed.abort(xid, within),
            LogMessage::StreamCommit { xid, commit, end, time } => {
                self.committed = self.streamed.commit(xid, end)?;
                if self.committed.is_some() {
                    self.applier.begin(&mut reading.order, commit, time, xid);
                }
            }
            _ if within => self.streamed.keep(bytes)?,
            message => return self.apply(reading, &message),
        }
        Ok(Step::GoOn)
    }

    /// The next message of a large transaction.
    fn large(&mut self, reading: &mut Reading) -> Outcome<Option<Step>> {
        let Some(committed) = &mut self.committed else { return Ok(None) };
        let end = committed.end;
        let Some(message) = committed.next()? else {
            self.committed = None;
            self.applier.commit(&mut reading.order, end);
            return Ok(Some(Step::GoOn));
        };
        self.apply(reading, &message).map(Some)
    }

    fn apply(&mut self, reading: &mut Reading, message: &LogMessage) -> Outcome<Step> {
        let applied = self.applier.apply(&mut reading.order, message);
        match applied.ok_or_else(|| Failure::internal("the log has a change of a table that it did not describe"))? {
            Applied::Nothing | Applied::Committed(_) => Ok(Step::GoOn),
            Applied::Relation(relation) => self.relation(reading, &relation),
        }
    }

    /// A table is announced again: it may have changed.
    fn relation(&mut self, reading: &mut Reading, relation: &Relation) -> Outcome<Step> {
        // Where the server does not answer, the transaction comes again, and the table with it.
        let compared = schema::compare(&self.feed, &reading.state, relation);
        let Some(found) = reading.unless_away(compared)? else { return Ok(Step::Flush) };
        let Some(found) = found else { return Ok(Step::GoOn) };
        if let Some(renamed) = found.bound_as {
            self.applier.bind_to(relation, Some(renamed));
        }
        let shown = super::catalog::show_lsn(reading.order.at.major);
        let changed = |words: &str| format!("{} changed at {shown} of the log: {words}", found.table);
        let refill = match &found.verdict {
            SchemaVerdict::GoOn { refill } => *refill,
            SchemaVerdict::Stop(words) => {
                let help = format!(
                    "all earlier changes have been read. Change the contract and the target tables, and run again; or \
                     write schema_change = \"ignore\" into the arrival. Columns of {} at that point: {}",
                    found.table,
                    relation.columns.iter().map(|c| c.name.as_str()).collect::<Vec<_>>().join(", ")
                );
                reading.halt = Some(Failure::findings(changed(words)).with_help(help));
                return Ok(Step::Flush);
            }
            SchemaVerdict::Renew(words) => {
                reading.halt = Some(Failure::renewing(changed(words)));
                return Ok(Step::Flush);
            }
        };
        if let Some(table) = reading.state.tables.get_mut(&found.table) {
            table.columns = found.columns;
            table.id = relation.id;
        }
        if refill {
            self.refill(reading, &found.table);
        }
        Ok(Step::GoOn)
    }
}

impl Log for PostgresLog {
    type Detail = Detail;

    const PATIENCE: Duration = HELD;

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
        let started =
            Stream::start(&self.feed.server, &state.slot, &self.feed.publication(state), state.read, &self.feed.shared);
        match started {
            Ok(stream) => {
                self.stream = Some(stream);
                Ok(())
            }
            Err(WireError::Answer(said)) => Err(self.refused(state, &said)),
            Err(WireError::Away(what)) => {
                Err(Failure::away(format!("{} does not answer: {what}", self.feed.server.shown())))
            }
        }
    }

    /// Another server may answer now, or a standby that took over.
    fn verify(&mut self, reading: &mut Reading) -> Outcome<()> {
        slot::verify(&self.feed, &self.feed.catalog()?, &mut reading.state)
    }

    fn opened(&mut self, reading: &mut Reading) -> Outcome<()> {
        let catalog = self.feed.catalog()?;
        self.look_for_exchanged(reading, &catalog)
    }

    fn is_connected(&self) -> bool {
        self.stream.is_some()
    }

    fn disconnect(&mut self, _: &mut Reading) {
        let received = std::mem::take(&mut self.received);
        if let Some(stream) = self.stream.take() {
            stream.done(received.room);
        }
        // A committed transaction that is on our disk comes again too.
        self.committed = None;
        self.streamed.restart();
        self.applier.restart();
    }

    fn receive(&mut self, reading: &mut Reading, pause: Duration) -> Outcome<Step> {
        if let Some(step) = self.large(reading)? {
            return Ok(step);
        }
        let Some(stream) = &self.stream else { return Ok(Step::Flush) };
        if let Some(message) = self.received.messages.next() {
            if self.received.messages.len() == 0 {
                stream.done(std::mem::take(&mut self.received.room));
            }
            return self.message(reading, &message);
        }
        let received = match stream.received.try_recv() {
            Ok(received) => Ok(received),
            Err(TryRecvError::Empty) if !reading.order.gather.is_empty() => return Ok(Step::Flush),
            Err(TryRecvError::Empty) => stream.received.recv_timeout(pause),
            Err(TryRecvError::Disconnected) => Err(RecvTimeoutError::Disconnected),
        };
        match received {
            Ok(Received::Messages(messages, room)) => {
                self.received = ReceivedMessages { messages: messages.into_iter(), room };
                Ok(Step::GoOn)
            }
            Ok(Received::Alive(end)) => {
                reading.order.see(end);
                Ok(Step::GoOn)
            }
            Ok(Received::Away(what)) => Ok(self.lose(reading, &what)),
            Ok(Received::Refused(said)) => match said.code.as_str() {
                "57P01" | "57P02" | "57P03" | "57P05" => Ok(self.lose(reading, &said.message)),
                _ => reading.unless_away(Err(self.refused(&reading.state, &said))).map(|_: Option<()>| Step::Flush),
            },
            Err(RecvTimeoutError::Timeout) => Ok(Step::Flush),
            Err(RecvTimeoutError::Disconnected) => Ok(self.lose(reading, "the connection ended")),
        }
    }

    fn wait(&self, at_most: Duration) {
        match &self.stream {
            Some(stream) if self.received.messages.len() == 0 => {
                let mut select = Select::new();
                select.recv(&stream.received);
                let _ = select.ready_timeout(at_most);
            }
            _ => {}
        }
    }

    fn watch(&mut self, reading: &mut Reading) -> Outcome<()> {
        self.look_around(reading)
    }

    fn note(&mut self, reading: &mut Reading) {
        self.read_again(reading);
    }

    fn has_passed(&self, seen: u64, place: u64) -> bool {
        watch::passed(place, seen)
    }

    fn is_expecting(&self) -> bool {
        self.exchanged.is_some()
    }

    fn ask(&self) {
        self.feed.shared.ask();
    }

    fn begin_loads(&mut self, state: &State) {
        self.start_loader(state);
    }

    fn end_loading(&mut self) {
        self.loader = None;
    }

    fn next_portion(&mut self) -> Outcome<Option<Portion<Detail>>> {
        self.loader.as_ref().map_or(Ok(None), Loader::next)
    }

    fn outdated<'s>(&'s self, portion: &'s Portion<Detail>) -> Outdated<'s> {
        let recent = self.applier.recent.get(&portion.table).map_or(&[][..], Vec::as_slice);
        portion.detail.outdated(recent)
    }

    fn advance(&self, load: &mut Load, portion: &Portion<Detail>, last: usize) {
        load.after = Some(portion.rows.key_parts(last));
    }

    fn counts(&self, portion: &Portion<Detail>) -> bool {
        !portion.detail.again
    }

    fn end_portion(&mut self, reading: &mut Reading, portion: &Portion<Detail>) {
        self.close_portion(reading, portion);
    }

    fn end_loads(&mut self, reading: &mut Reading) -> bool {
        self.close_loads(reading)
    }

    fn read_whole(&self, table: FeedTable, settings: Settings) -> ReadTable {
        reading(self.feed.server.clone(), table, settings)
    }
}
