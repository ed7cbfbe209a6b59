//! Reads a change feed of any kind: the log, and between its transactions the rows that the tables had before.

mod loads;
#[cfg(test)]
mod tests;

use std::collections::VecDeque;
use std::path::PathBuf;
use std::sync::Arc;
use std::time::{Duration, Instant};

use sluice_core::event::{Chunk, Position};
use sluice_core::failure::{Failure, Outcome};
use sluice_core::kinds::{LaneReader, Read, ReadLimit, Settings};

use super::FeedTable;
use super::gather::ChunkBuilder;
use super::live::StatePublisher;
use super::loader::{Outdated, Portion};
use super::order::Order;
use super::state::{Load, State};
use super::whole::{self, ReadTable, WholeTables};

/// How long to wait for the log before saying that nothing is there.
const PAUSE: Duration = Duration::from_millis(20);

/// The same while tables are loaded.
const SHORT_PAUSE: Duration = Duration::from_millis(2);

/// How long the log must be quiet before all of it counts as read.
const QUIET: Duration = Duration::from_millis(300);

/// How long to wait before connecting again.
const AGAIN: Duration = Duration::from_millis(500);

/// The end of an idle log is noted when it has grown by so much, or after this time, so that the source can forget it.
const IDLE_BYTES: u64 = 16 << 20;
const IDLE_TIME: Duration = Duration::from_secs(60);

/// What reading one thing of a log means for the reader.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum Step {
    /// Read on.
    GoOn,
    /// Nothing more is there at present.
    Flush,
}

/// The connection to the log.
enum Link {
    Up,
    /// Lost, since when and why.
    Down(Instant, String),
}

/// What the reader and its log share.
pub(crate) struct Reading {
    pub order: Order,
    pub state: State,
    /// Behind what was handed on.
    pub handed: Position,
    /// Why the run is to stop once what came before has been handed on.
    pub halt: Option<Failure>,
    link: Link,
    /// Whether tables are to be loaded that were not.
    loads: bool,
}

impl Reading {
    pub(super) fn new(tables: &[FeedTable], state: State, at: Position) -> Self {
        let gather = ChunkBuilder::new(tables.iter().map(|t| Arc::clone(&t.name)).collect());
        let order = Order::new(gather, at, state.read);
        Self { order, state, handed: at, halt: None, link: Link::Up, loads: false }
    }

    /// The connection is lost.
    pub(crate) fn lose(&mut self, why: String) {
        self.link = Link::Down(Instant::now(), why);
    }

    pub(crate) fn is_down(&self) -> bool {
        matches!(self.link, Link::Down(..))
    }

    /// Passes a failure on, but for one that passes: that counts as a lost connection, and None is given.
    pub(crate) fn unless_away<T>(&mut self, outcome: Outcome<T>) -> Outcome<Option<T>> {
        match outcome {
            Ok(value) => Ok(Some(value)),
            Err(failure) if failure.passing => {
                self.lose(failure.message);
                Ok(None)
            }
            Err(failure) => Err(failure),
        }
    }

    /// Begins to load the tables again that the state has as not loaded.
    pub(crate) fn load_again(&mut self) {
        self.loads = true;
    }

    pub(crate) fn load_of(&mut self, table: &str) -> Option<&mut Load> {
        self.state.tables.get_mut(table)?.load.as_mut()
    }

    pub(crate) fn is_loading(&self) -> bool {
        self.state.loading().next().is_some()
    }
}

/// A log of changes at a server, of one kind.
pub(crate) trait Log: Send {
    /// What this kind knows of a portion beside its rows.
    type Detail: Send + 'static;

    /// How long a server is waited for when reading begins.
    const PATIENCE: Duration;

    fn tables(&self) -> &[FeedTable];

    /// Of each table.
    fn settings(&self) -> &[Settings];

    /// The name of the arrival with its pipeline.
    fn label(&self) -> &str;

    /// Where the rows of tables without a key wait.
    fn whole_folder(&self) -> PathBuf;

    /// Begins to receive from where the state has read to.
    ///
    /// # Errors
    /// Where the server does not answer, or does not have the log.
    fn connect(&mut self, reading: &mut Reading) -> Outcome<()>;

    /// Makes sure, before connecting once more, that it is the server that was read.
    ///
    /// # Errors
    /// Where it is not.
    fn verify(&mut self, _reading: &mut Reading) -> Outcome<()> {
        Ok(())
    }

    /// Looks at what may have happened while nobody read.
    ///
    /// # Errors
    /// Where the server does not answer.
    fn opened(&mut self, _reading: &mut Reading) -> Outcome<()> {
        Ok(())
    }

    fn is_connected(&self) -> bool;

    /// Ends the connection. What was not handed on comes again.
    fn disconnect(&mut self, reading: &mut Reading);

    /// Whether what is gathered may be handed on before more comes.
    fn is_ready(&self, order: &Order) -> bool {
        !order.gather.is_empty()
    }

    /// Takes in what comes next. Only where nothing is ready it waits for that, up to a pause.
    ///
    /// # Errors
    /// Where the log cannot be read on.
    fn receive(&mut self, reading: &mut Reading, pause: Duration) -> Outcome<Step>;

    /// Waits until something has come, at most so long.
    fn wait(&self, at_most: Duration);

    /// Looks at what the log does not report.
    ///
    /// # Errors
    /// Where that stops the run.
    fn watch(&mut self, _reading: &mut Reading) -> Outcome<()> {
        Ok(())
    }

    /// Brings the state up to date before it is handed on with a chunk.
    fn note(&mut self, _reading: &mut Reading) {}

    /// Whether a log that has been seen to one place has been read to another.
    fn has_passed(&self, seen: u64, place: u64) -> bool {
        place <= seen
    }

    /// Whether something is awaited that may change what was read.
    fn is_expecting(&self) -> bool {
        false
    }

    /// Asks the server how far its log goes, where it does not say so by itself.
    fn ask(&self) {}

    /// Begins to load the tables that the state has as not loaded, in the place of what is being loaded now.
    fn begin_loads(&mut self, state: &State);

    /// Ends loading: every table is loaded.
    fn end_loading(&mut self);

    /// The next portion that was read.
    ///
    /// # Errors
    /// Where a table cannot be read.
    fn next_portion(&mut self) -> Outcome<Option<Portion<Self::Detail>>>;

    /// Which rows of a portion are older than what the log reported before its place.
    fn outdated<'s>(&'s self, portion: &'s Portion<Self::Detail>) -> Outdated<'s>;

    /// Notes how far a load is, after the row `last` of a portion.
    fn advance(&self, load: &mut Load, portion: &Portion<Self::Detail>, last: usize);

    /// Whether the rows of a portion count as new ones of its table.
    fn counts(&self, _portion: &Portion<Self::Detail>) -> bool {
        true
    }

    /// A portion has been taken in.
    fn end_portion(&mut self, reading: &mut Reading, portion: &Portion<Self::Detail>);

    /// Whether tables count as loaded now, of which rows were awaited that are read again.
    fn end_loads(&mut self, _reading: &mut Reading) -> bool {
        false
    }

    /// What reads a table without a key.
    fn read_whole(&self, table: FeedTable, settings: Settings) -> ReadTable;
}

/// Reads a log and loads its tables.
pub(crate) struct FeedReader<L: Log> {
    log: L,
    reading: Reading,
    /// Tables without a key.
    wholes: WholeTables,
    /// Portions, each with the number of its rows that were taken in.
    portions: VecDeque<(Portion<L::Detail>, usize)>,
    is_loading: bool,
    /// Where the log ended when reading began: up to there it catches up.
    target: u64,
    quiet_since: Instant,
    noted: Instant,
    /// Whether the last chunk ended within a transaction.
    last_within: bool,
    publisher: StatePublisher,
}

impl<L: Log> FeedReader<L> {
    /// Reads on from a position and what the ledger has beside it.
    ///
    /// # Errors
    /// Where the server does not answer, or does not have the log any more.
    pub(crate) fn new(log: L, at: Position, state: State, target: u64) -> Outcome<Self> {
        let publisher = StatePublisher::new(&log.settings()[0].work, log.label());
        let wholes = WholeTables::new(log.whole_folder(), log.tables(), &state);
        let mut reading = Reading::new(log.tables(), state, at);
        reading.order.read_at = whole::read_at(log.tables(), &reading.state);
        let mut reader = Self {
            log,
            reading,
            wholes,
            portions: VecDeque::new(),
            is_loading: false,
            target,
            quiet_since: Instant::now(),
            noted: Instant::now(),
            last_within: false,
            publisher,
        };
        // A connection of a process that was killed may use the log for a moment.
        let opened = Instant::now();
        while let Err(failure) = reader.log.connect(&mut reader.reading) {
            if !failure.passing || opened.elapsed() >= L::PATIENCE {
                return Err(failure);
            }
            std::thread::sleep(AGAIN);
        }
        reader.emit_truncates();
        reader.begin_loads();
        reader.log.opened(&mut reader.reading)?;
        Ok(reader)
    }

    fn begin_loads(&mut self) {
        self.portions.clear();
        self.log.begin_loads(&self.reading.state);
        self.is_loading = self.reading.is_loading();
    }

    /// Says that a table is empty, for each whose rows take the place of others.
    fn emit_truncates(&mut self) {
        let names = self.log.tables().iter().map(|t| Arc::clone(&t.name));
        let Order { gather, at, .. } = &mut self.reading.order;
        gather.emit_truncates(names, &mut self.reading.state, at);
    }

    /// Does what the log asked for while it was read.
    fn follow_up(&mut self) {
        if self.reading.is_down() && self.log.is_connected() {
            self.log.disconnect(&mut self.reading);
            self.reading.order.lose();
        }
        if std::mem::take(&mut self.reading.loads) {
            self.emit_truncates();
            self.wholes = WholeTables::new(self.log.whole_folder(), self.log.tables(), &self.reading.state);
            self.begin_loads();
        }
    }

    /// What was gathered, as a chunk.
    fn chunk(&mut self) -> Read {
        self.log.note(&mut self.reading);
        let Reading { order, state, handed, .. } = &mut self.reading;
        let (to, is_between) = (order.at, order.is_between());
        state.time = order.time.or(state.time);
        state.read = order.unfinished().unwrap_or_else(|| order.seen.max(state.read));
        let chunk: Chunk = order.gather.chunk(*handed, to, state.note(), !is_between);
        self.last_within = !is_between;
        *handed = to;
        self.noted = Instant::now();
        self.quiet_since = self.noted;
        Read::Chunk(chunk)
    }

    /// Tries to reach the server again; None where it is reached.
    fn reconnect(&mut self) -> Outcome<Option<Read>> {
        let Link::Down(since, why) = &self.reading.link else { return Ok(None) };
        if since.elapsed() < AGAIN {
            std::thread::sleep(PAUSE);
            return Ok(Some(Read::Away(why.clone())));
        }
        let reached = self.log.verify(&mut self.reading).and_then(|()| self.log.connect(&mut self.reading));
        match reached {
            Ok(()) => {
                self.reading.link = Link::Up;
                Ok(None)
            }
            Err(failure) if failure.passing => {
                self.reading.lose(failure.message.clone());
                Ok(Some(Read::Away(failure.message)))
            }
            Err(failure) => Err(failure),
        }
    }

    /// Nothing is there at present.
    fn idle(&mut self) -> Read {
        if self.end_loads() {
            // So that the ledger has it, and others see it.
            return self.chunk();
        }
        let order = &self.reading.order;
        if !order.is_between() || !self.log.is_connected() {
            return Read::Pending;
        }
        let grown = order.seen.saturating_sub(self.reading.state.read);
        let is_due = grown > IDLE_BYTES || (grown > 0 && self.noted.elapsed() > IDLE_TIME);
        if is_due && self.portions.is_empty() {
            return self.chunk();
        }
        let is_expecting = self.log.is_expecting();
        let is_read = !self.reading.is_loading() && !is_expecting && self.log.has_passed(order.seen, self.target);
        if is_read && self.quiet_since.elapsed() > QUIET {
            return Read::CaughtUp;
        }
        if is_expecting || !self.portions.is_empty() || !self.log.has_passed(order.seen, self.target) {
            self.log.ask();
        }
        Read::Pending
    }

    fn is_empty(&self) -> bool {
        self.reading.order.gather.is_empty()
    }
}

impl<L: Log> LaneReader for FeedReader<L> {
    fn read(&mut self, limit: ReadLimit) -> Outcome<Read> {
        let order = &self.reading.order;
        self.publisher.publish(order.seen.max(order.at.major), &self.reading.state);
        self.log.watch(&mut self.reading)?;
        self.follow_up();
        if let Some(away) = self.reconnect()? {
            return Ok(if self.is_empty() { away } else { self.chunk() });
        }
        loop {
            let order = &self.reading.order;
            // A batch may end here.
            let is_end = self.last_within && order.is_between() && order.gather.is_empty();
            let ends = limit.ends && order.is_between() && !order.gather.is_empty();
            if is_end || ends || order.gather.is_full(limit) {
                return Ok(self.chunk());
            }
            if self.reading.halt.is_some() {
                if !self.is_empty() || self.reading.handed < self.reading.order.at {
                    return Ok(self.chunk());
                }
                return Ok(self.reading.halt.take().map_or(Read::Pending, Read::Halt));
            }
            match self.take_whole(limit)? {
                whole::WholeStep::Done => {}
                whole::WholeStep::Rows => return Ok(self.chunk()),
                whole::WholeStep::Wait => {
                    std::thread::sleep(PAUSE);
                    return Ok(Read::Pending);
                }
            }
            if self.take_portion(limit)? {
                return Ok(self.chunk());
            }
            let step = if self.log.is_connected() {
                let pause = if self.is_loading { SHORT_PAUSE } else { PAUSE };
                self.log.receive(&mut self.reading, pause)?
            } else {
                Step::Flush
            };
            self.follow_up();
            match step {
                Step::GoOn => {}
                Step::Flush if self.reading.halt.is_some() => {}
                Step::Flush if self.log.is_ready(&self.reading.order) => return Ok(self.chunk()),
                Step::Flush => return Ok(self.idle()),
            }
        }
    }

    fn wait(&mut self, at_most: Duration) -> bool {
        if self.reading.is_down() || self.is_loading {
            return false;
        }
        self.log.wait(at_most);
        true
    }
}
