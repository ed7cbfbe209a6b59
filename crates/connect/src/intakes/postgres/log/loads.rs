//! When a table of PostgreSQL counts as loaded, and which of its rows are read again.

use sluice_core::failure::Outcome;

use super::super::load::{self, Detail};
use super::PostgresLog;
use crate::intakes::feed::index;
use crate::intakes::feed::loader::{Job, LoadTask, Loader, Portion};
use crate::intakes::feed::reader::Reading;
use crate::intakes::feed::state::{Load, State};

/// How many tables are loaded at once.
const AT_ONCE: usize = 2;

/// How many rows are read again by one query.
const MOST_AGAIN: usize = 5_000;

impl PostgresLog {
    /// What is to be read of a table, where that is not all done.
    fn load_task(&self, state: &State, number: u32) -> Option<LoadTask> {
        let feed = self.feed.tables.get(index(number))?.clone();
        let load = state.tables.get(&*feed.name)?.load.clone().filter(|l| !l.done && l.whole.is_none())?;
        let settings = self.feed.settings.get(index(number))?.clone();
        Some(LoadTask { table: number, feed, settings, load })
    }

    pub(super) fn start_loader(&mut self, state: &State) {
        self.loader = None;
        self.asked.clear();
        self.ended.clear();
        let numbers = 0..u32::try_from(self.feed.tables.len()).unwrap_or(0);
        let tasks: Vec<LoadTask> = numbers.filter_map(|n| self.load_task(state, n)).collect();
        for task in &tasks {
            self.applier.recent.entry(task.table).or_default();
        }
        let seeing = self.seeing;
        let job = |mut task: LoadTask| -> Job<Detail> { Box::new(move |sink| load::load(&mut task, seeing, sink)) };
        if !tasks.is_empty() {
            self.loader = Some(Loader::start(tasks.into_iter().map(job).collect(), AT_ONCE));
        }
    }

    /// Has a table loaded again whose rows have got values that the log does not report.
    pub(super) fn refill(&mut self, reading: &mut Reading, table: &str) {
        let about = self.feed.catalog().and_then(|catalog| catalog.table(table)).ok().flatten().map_or(0, |t| t.about);
        if let Some(known) = reading.state.tables.get_mut(table) {
            known.restart(about);
        }
        // The transaction in hand is committed, and others may still not see it.
        self.seeing = self.applier.transaction();
        reading.load_again();
    }

    fn load_of<'r>(&self, reading: &'r mut Reading, table: u32) -> Option<&'r mut Load> {
        reading.load_of(&self.feed.tables.get(index(table))?.name)
    }

    /// Notes rows that came without all values, and has them read again.
    pub(super) fn read_again(&mut self, reading: &mut Reading) {
        for (table, key) in std::mem::take(&mut self.applier.again) {
            if let Some(load) = self.load_of(reading, table) {
                load.again.push(key);
            }
        }
        let numbers: Vec<u32> = self.applier.recent.keys().copied().collect();
        for table in numbers.into_iter().filter(|t| !self.asked.contains_key(t)).collect::<Vec<_>>() {
            let task = self.load_task(&reading.state, table).filter(|t| !t.load.again.is_empty());
            let (Some(task), Some(loader)) = (task, &self.loader) else { continue };
            let keys: Vec<Vec<String>> = task.load.again.iter().take(MOST_AGAIN).cloned().collect();
            self.asked.insert(table, keys.len());
            loader.also(Box::new(move |sink| -> Outcome<()> { load::load_again(&task, &keys, sink) }));
        }
    }

    /// Notes a table as loaded once nothing is left to read of it; whether one was.
    pub(super) fn close_loads(&mut self, reading: &mut Reading) -> bool {
        self.read_again(reading);
        let ended: Vec<u32> = self.ended.iter().copied().filter(|t| !self.asked.contains_key(t)).collect();
        let mut any = false;
        for table in ended {
            if let Some(load) = self.load_of(reading, table).filter(|l| l.again.is_empty()) {
                load.done = true;
                any = true;
                self.ended.remove(&table);
                self.applier.recent.remove(&table);
            }
        }
        any
    }

    /// A portion has been taken in.
    pub(super) fn close_portion(&mut self, reading: &mut Reading, portion: &Portion<Detail>) {
        let table = portion.table;
        if portion.detail.again {
            let asked = self.asked.remove(&table).unwrap_or(0);
            if let Some(load) = self.load_of(reading, table) {
                load.again.drain(..asked.min(load.again.len()));
            }
        } else if !self.asked.contains_key(&table)
            && let Some(recent) = self.applier.recent.get_mut(&table)
        {
            // Later queries of this table see what this one saw.
            recent.retain(|r| !portion.detail.snapshot.sees(r.xid));
        }
        if portion.done {
            self.ended.insert(table);
        }
    }
}
