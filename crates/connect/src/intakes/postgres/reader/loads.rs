//! The rows that tables had before: where they enter the order of the log, and when a table counts as loaded.

use std::sync::Arc;

use crossbeam_channel::TryRecvError;
use sluice_core::change::ChangeKind;
use sluice_core::event::{Chunk, Position};
use sluice_core::fail_points::reach;
use sluice_core::failure::{Failure, Outcome};
use sluice_core::kinds::ReadLimit;
use sluice_core::names::shown;

use super::super::catalog::Catalog;
use super::super::load::{LoadTask, Loader, Portion};
use super::super::silent::{self, Form};
use super::super::whole::reading;
use super::{FeedReader, place};
use crate::intakes::feed::gather::Told;
use crate::intakes::feed::state::Load;
use crate::intakes::feed::whole::{Step, Taker, Wholes, read_at};

/// How many tables are loaded at once.
const AT_ONCE: usize = 2;

/// How many rows are read again by one question.
const MOST_AGAIN: usize = 5_000;

impl FeedReader {
    /// What is to be read of a table, where that is not all done.
    fn load_task(&self, number: u32) -> Option<LoadTask> {
        let feed = self.feed.tables.get(place(number))?.clone();
        let load = self.state.tables.get(&*feed.name)?.load.clone().filter(|l| !l.done && l.whole.is_none())?;
        let settings = self.feed.settings.get(place(number))?.clone();
        Some(LoadTask { table: number, feed, settings, load, seeing: self.seeing })
    }

    pub(super) fn begin_loads(&mut self) {
        let numbers = 0..u32::try_from(self.feed.tables.len()).unwrap_or(0);
        let tasks: Vec<LoadTask> = numbers.filter_map(|n| self.load_task(n)).collect();
        for task in &tasks {
            self.applier.recent.entry(task.table).or_default();
        }
        if !tasks.is_empty() {
            self.loader = Some(Loader::start(tasks, AT_ONCE));
        }
    }

    /// Has a table read anew whose rows have got values that the log does not tell.
    pub(super) fn refill(&mut self, table: &str) {
        let about = self.feed.catalog().and_then(|catalog| catalog.table(table)).ok().flatten().map_or(0, |t| t.about);
        if let Some(known) = self.state.tables.get_mut(table) {
            known.begin_anew(about);
        }
        // The transaction in hand is committed, and others may still not see it.
        self.seeing = self.applier.transaction();
        self.loader = None;
        self.portions.clear();
        self.asked.clear();
        self.ended.clear();
        self.wholes = Wholes::new(self.feed.whole_folder(), &self.feed.tables, &self.state);
        self.begin_loads();
    }

    /// Looks for tables whose rows are others now without a word in the log.
    pub(super) fn look_for_exchanged(&mut self, catalog: &Catalog) -> Outcome<()> {
        if self.exchanged.is_some() {
            return Ok(());
        }
        let numbers: Vec<u32> = self.state.tables.values().map(|t| t.id).filter(|id| *id != 0).collect();
        let mut forms = silent::forms(catalog, &numbers)?;
        let mut found = Vec::new();
        for (name, known) in &self.state.tables {
            let Some((before, now)) = known.form.as_ref().zip(forms.remove(&known.id)) else { continue };
            // One that is gone is noticed by its number.
            if !now.is_empty() && now != *before {
                found.push((name.clone(), now));
            }
        }
        if !found.is_empty() {
            self.exchanged = Some((catalog.log_end()?, found));
        }
        Ok(())
    }

    /// Loads tables again whose rows are others now, in the place of those that they had.
    pub(super) fn load_exchanged(&mut self, tables: Vec<(String, Form)>) {
        let mut any = false;
        for (name, form) in tables {
            let Some(known) = self.state.tables.get_mut(&name) else { continue };
            let differs = known.form.replace(form.clone()).is_some_and(|before| form.differs(&before));
            if !differs {
                continue;
            }
            if known.load.is_none() {
                let message =
                    format!("rows of {}, which is not loaded, were exchanged without a word in the log", shown(&name));
                self.halt = Some(Failure::findings(message).with_help(
                    "a partition was truncated, attached or detached, or `alter table` wrote the table anew; load = \"first\" has \
                     such a table loaded again",
                ));
                return;
            }
            any = true;
            self.refill(&name);
            if let Some(load) = self.state.tables.get_mut(&name).and_then(|t| t.load.as_mut()) {
                load.anew = true;
            }
        }
        if any {
            let names = self.feed.tables.iter().map(|t| Arc::clone(&t.name));
            self.applier.gather.tell_emptied(names, &mut self.state, &mut self.applier.at);
        }
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
        let begin = |table, settings| reading(feed.server.clone(), table, settings);
        let step = self.wholes.step(&mut taker, limit, begin)?;
        if step == Step::Rows {
            self.applier.read_at = read_at(&feed.tables, &self.state);
        }
        Ok(step)
    }

    /// Whether no transaction is being read.
    pub(super) fn is_between(&self) -> bool {
        !self.applier.is_within() && self.committed.is_none() && !self.torn
    }

    fn load_of(&mut self, table: u32) -> Option<&mut Load> {
        let name = &self.feed.tables.get(place(table))?.name;
        self.state.tables.get_mut(&**name)?.load.as_mut()
    }

    /// Notes rows that came without all values, and has them read again.
    pub(super) fn read_again(&mut self) {
        for (table, key) in std::mem::take(&mut self.applier.again) {
            if let Some(load) = self.load_of(table) {
                load.again.push(key);
            }
        }
        let numbers: Vec<u32> = self.applier.recent.keys().copied().collect();
        for table in numbers.into_iter().filter(|t| !self.asked.contains_key(t)).collect::<Vec<_>>() {
            let Some(task) = self.load_task(table).filter(|t| !t.load.again.is_empty()) else { continue };
            let keys: Vec<Vec<String>> = task.load.again.iter().take(MOST_AGAIN).cloned().collect();
            self.asked.insert(table, keys.len());
            if let Some(loader) = &self.loader {
                loader.again(task, keys);
            }
        }
    }

    /// Notes a table as loaded once nothing is left to read of it; whether one was.
    pub(super) fn end_loads(&mut self) -> bool {
        let ended: Vec<u32> = self.ended.iter().copied().filter(|t| !self.asked.contains_key(t)).collect();
        let mut any = false;
        for table in ended {
            if let Some(load) = self.load_of(table).filter(|l| l.again.is_empty()) {
                load.done = true;
                any = true;
                self.ended.remove(&table);
                self.applier.recent.remove(&table);
            }
        }
        if any && !self.is_loading() {
            self.loader = None;
        }
        any
    }

    pub(super) fn is_loading(&self) -> bool {
        self.state.loading().next().is_some()
    }

    /// Takes in the rows of portions whose place in the log has been passed.
    pub(super) fn take_portion(&mut self, limit: ReadLimit) -> Outcome<Option<Chunk>> {
        if let Some(loader) = &self.loader
            && self.portions.len() < 2
        {
            match loader.portions.try_recv() {
                Ok(portion) => {
                    let portion = portion?;
                    self.feed.shared.ask();
                    self.portions.push_back((portion, 0));
                }
                Err(TryRecvError::Disconnected | TryRecvError::Empty) => {}
            }
        }
        if !self.is_between() || !self.applier.gather.is_empty() {
            return Ok(None);
        }
        let seen = self.seen.max(self.applier.at.major);
        let Some((portion, _)) = self.portions.front().filter(|(p, _)| passed(p.mark, seen)) else { return Ok(None) };
        // Rows stand directly before the place that the question saw, where no transaction can stand that is still to
        // come, or behind the last change.
        let mark = Position::at(portion.mark.saturating_sub(1));
        if self.applier.at < mark {
            self.applier.at = mark;
        }
        Ok(Some(self.portion_chunk(limit)))
    }

    /// The next rows of the first portion.
    fn portion_chunk(&mut self, limit: ReadLimit) -> Chunk {
        let Some((portion, from)) = self.portions.pop_front() else { return self.chunk() };
        let recent = self.applier.recent.get(&portion.table).map_or(&[][..], Vec::as_slice);
        let outdated = portion.outdated(recent);
        let table = portion.table;
        let mut at = self.applier.at;
        let mut next = from;
        let count = usize::try_from(portion.rows.len()).unwrap_or(usize::MAX);
        while next < count && !self.applier.gather.is_full(limit) {
            let row = next;
            next += 1;
            if outdated.as_ref().is_none_or(|keys| keys.contains(portion.rows.key(row))) {
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
        if let Some(load) = self.load_of(table).filter(|_| !portion.again) {
            load.rows += (next - from) as u64;
            if let Some(last) = next.checked_sub(1) {
                load.after = Some(portion.rows.key_parts(last));
            }
        }
        if is_done {
            self.end_portion(&portion);
        } else {
            self.portions.push_front((portion, next));
        }
        self.chunk()
    }

    /// A portion has been taken in.
    fn end_portion(&mut self, portion: &Portion) {
        let table = portion.table;
        if portion.again {
            let asked = self.asked.remove(&table).unwrap_or(0);
            if let Some(load) = self.load_of(table) {
                load.again.drain(..asked.min(load.again.len()));
            }
        } else if !self.asked.contains_key(&table)
            && let Some(recent) = self.applier.recent.get_mut(&table)
        {
            // Later questions of this table see what this one saw.
            recent.retain(|r| !portion.snapshot.sees(r.xid));
        }
        if portion.done {
            self.ended.insert(table);
        }
        self.end_loads();
        reach("feed.portion");
    }
}

/// Whether the log has been seen to a place. A place at the very beginning of a page stands behind the page's head, which
/// is no record.
pub(super) fn passed(mark: u64, seen: u64) -> bool {
    const PAGE: u64 = 8192;
    const HEAD: u64 = 40;
    seen >= mark || (seen.is_multiple_of(PAGE) && mark - seen <= HEAD)
}

#[cfg(test)]
mod tests {
    use super::passed;
    use rstest::rstest;

    #[rstest]
    #[case(100, 100, true)]
    #[case(101, 100, false)]
    #[case(8192 * 5 + 40, 8192 * 5, true)]
    #[case(8192 * 5 + 41, 8192 * 5, false)]
    fn the_head_of_a_page_is_no_record(#[case] mark: u64, #[case] seen: u64, #[case] expected: bool) {
        assert_eq!(passed(mark, seen), expected);
    }
}
