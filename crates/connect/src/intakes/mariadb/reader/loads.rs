//! The rows that tables had before: where they enter the order of the log.

use std::collections::HashSet;

use sluice_core::change::ChangeKind;
use sluice_core::event::{Chunk, Position};
use sluice_core::fail_points::reach;
use sluice_core::failure::{Failure, Outcome};
use sluice_core::kinds::ReadLimit;
use sluice_core::units::show_count;

use super::super::load::{LoadTask, Loader, Portion};
use super::super::whole::reading;
use super::{FeedReader, place};
use crate::intakes::feed::gather::Told;
use crate::intakes::feed::state::Load;
use crate::intakes::feed::whole::{Step, Taker, read_at};

/// How many tables are loaded at once.
const AT_ONCE: usize = 2;

impl FeedReader {
    pub(super) fn begin_loads(&mut self) {
        let mut tasks = Vec::new();
        for (number, feed) in self.feed.tables.iter().enumerate() {
            let load = self.state.tables.get(&*feed.name).and_then(|t| t.load.clone()).filter(|l| !l.done);
            let Some(load) = load.filter(|l| l.whole.is_none()) else { continue };
            let table = u32::try_from(number).unwrap_or(u32::MAX);
            self.applier.recent.entry(table).or_default();
            tasks.push(LoadTask { table, feed: feed.clone(), settings: self.feed.settings[number].clone(), load });
        }
        if !tasks.is_empty() {
            self.loader = Some(Loader::start(tasks, AT_ONCE));
        }
    }

    fn load_of(&mut self, table: u32) -> Option<&mut Load> {
        let name = &self.feed.tables.get(place(table))?.name;
        self.state.tables.get_mut(&**name)?.load.as_mut()
    }

    /// Takes in rows of tables without a key, where some are to be read.
    pub(super) fn take_whole(&mut self, limit: ReadLimit) -> Outcome<Step> {
        if !self.is_between() || !self.applier.gather.is_empty() {
            return Ok(Step::Done);
        }
        let feed = &self.feed;
        let mut taker = Taker {
            tables: &feed.tables,
            settings: &feed.settings,
            state: &mut self.state,
            gather: &mut self.applier.gather,
            at: &mut self.applier.at,
        };
        let step = self.wholes.step(&mut taker, limit, reading)?;
        if step == Step::Rows {
            self.applier.read_at = read_at(&feed.tables, &self.state);
        }
        Ok(step)
    }

    /// Whether no transaction is being read.
    fn is_between(&self) -> bool {
        !self.applier.is_within() && !self.torn
    }

    pub(super) fn take_portion(&mut self, limit: ReadLimit) -> Outcome<Option<Chunk>> {
        if let Some(loader) = &self.loader
            && self.portions.len() < 2
            && let Ok(portion) = loader.portions.try_recv()
        {
            self.portions.push_back((portion?, 0));
        }
        if !self.is_between() || !self.applier.gather.is_empty() {
            return Ok(None);
        }
        let seen = self.applier.seen;
        let Some((portion, _)) = self.portions.front().filter(|(p, _)| p.mark <= seen) else { return Ok(None) };
        // Directly before the place of the snapshot no transaction begins.
        self.applier.at = self.applier.at.max(Position::at(portion.mark.saturating_sub(1)));
        Ok(Some(self.portion_chunk(limit)))
    }

    fn portion_chunk(&mut self, limit: ReadLimit) -> Chunk {
        let Some((portion, from)) = self.portions.pop_front() else { return self.chunk() };
        let recent = self.applier.recent.get(&portion.table).map_or(&[][..], Vec::as_slice);
        // Changes after the place of the snapshot have been taken in already; an emptied table has none of these rows.
        let later = || recent.iter().filter(|(end, _)| *end > portion.mark);
        let emptied = later().any(|(_, key)| key.is_none());
        let outdated: HashSet<&[u8]> = later().filter_map(|(_, key)| key.as_deref()).collect();
        let (table, mut at, mut next) = (portion.table, self.applier.at, from);
        let count = usize::try_from(portion.rows.len()).unwrap_or(usize::MAX);
        while next < count && !self.applier.gather.is_full(limit) {
            let row = next;
            next += 1;
            if emptied || outdated.contains(portion.rows.key(row)) {
                continue;
            }
            let told = Told { table, kind: ChangeKind::Loaded, position: at, transaction: None, time: None };
            let (object, json) = (portion.rows.object(row), portion.rows.key_json(row));
            self.applier.gather.add(
                told,
                |out| out.extend_from_slice(object),
                |out| out.extend_from_slice(json),
                |_| {},
            );
            at.minor += 1;
        }
        self.applier.at = at;
        let is_done = next == count;
        if let Some(load) = self.load_of(table) {
            load.rows += (next - from) as u64;
            if let Some(last) = next.checked_sub(1) {
                load.cursor = portion.cursors.get(last);
            }
            load.done = is_done && portion.done;
        }
        match is_done {
            true => self.end_portion(&portion),
            false => self.portions.push_front((portion, next)),
        }
        self.chunk()
    }

    /// Notes with the tables that are being loaded how much of them changed.
    pub(super) fn count_changes(&mut self) {
        for (table, count) in std::mem::take(&mut self.applier.changed) {
            if let Some(load) = self.load_of(table) {
                load.changed = load.changed.saturating_add(count);
            }
        }
    }

    /// Compares what was read of a table with what it has, once all was read: they differ by what changed meanwhile.
    fn compare_count(&mut self, portion: &Portion) {
        self.count_changes();
        let Some(count) = portion.count else { return };
        let Some(load) = self.load_of(portion.table) else { return };
        if load.rows.abs_diff(count) <= load.changed {
            return;
        }
        // The next run says so again.
        load.done = false;
        let (read, changed) = (show_count(load.rows), show_count(load.changed));
        let name = &self.feed.tables[place(portion.table)].name;
        let message = format!(
            "{name} was not loaded whole: {read} rows were read, it has {}, and {changed} changed meanwhile",
            show_count(count)
        );
        self.halt = Some(Failure::findings(message).with_help(format!(
            "its mirror differs from it; `load = \"never\"` or `except` leaves the table out, and `sluice positions {} --set \
             earliest` loads every table again",
            self.feed.pipeline()
        )));
    }

    fn end_portion(&mut self, portion: &Portion) {
        if let Some(recent) = self.applier.recent.get_mut(&portion.table) {
            recent.retain(|(end, _)| *end > portion.mark);
        }
        if portion.done {
            self.compare_count(portion);
            self.applier.recent.remove(&portion.table);
            if self.state.loading().next().is_none() {
                self.loader = None;
            }
        }
        reach("feed.portion");
    }
}
