//! The rows that tables had before: where they enter the order of the log.

use std::sync::Arc;

use sluice_core::change::ChangeKind;
use sluice_core::event::Position;
use sluice_core::fail_points::reach;
use sluice_core::failure::Outcome;
use sluice_core::kinds::ReadLimit;

use super::{FeedReader, Log, Reading};
use crate::intakes::feed::gather::ChangeDetails;
use crate::intakes::feed::index;
use crate::intakes::feed::order::Order;
use crate::intakes::feed::whole::{RowSink, WholeStep, read_at};

/// How many portions wait for their places at most.
const WAITING: usize = 2;

impl<L: Log> FeedReader<L> {
    /// Takes in rows of tables without a key, where some are to be read.
    pub(super) fn take_whole(&mut self, limit: ReadLimit) -> Outcome<WholeStep> {
        if !self.reading.order.is_between() || !self.is_empty() || !self.wholes.is_waiting() {
            return Ok(WholeStep::Done);
        }
        let log = &self.log;
        let Reading { order, state, .. } = &mut self.reading;
        let (gather, at) = (&mut order.gather, &mut order.at);
        let mut taker = RowSink { tables: log.tables(), settings: log.settings(), state, gather, at };
        let step = self.wholes.step(&mut taker, limit, |table, settings| log.read_whole(table, settings))?;
        if step == WholeStep::Rows {
            order.read_at = read_at(log.tables(), state);
            self.is_loading = self.reading.is_loading();
        }
        Ok(step)
    }

    /// Takes in the rows of a portion whose place in the log has been passed; whether there were any.
    pub(super) fn take_portion(&mut self, limit: ReadLimit) -> Outcome<bool> {
        if !self.is_loading {
            return Ok(false);
        }
        if self.portions.len() < WAITING
            && let Some(portion) = self.log.next_portion()?
        {
            self.log.ask();
            self.portions.push_back((portion, 0));
        }
        if !self.reading.order.is_between() || !self.is_empty() {
            return Ok(false);
        }
        let Some((portion, _)) = self.portions.front() else { return Ok(false) };
        let order = &mut self.reading.order;
        if !self.log.has_passed(order.seen, portion.mark) {
            return Ok(false);
        }
        // Rows stand directly before the place of their snapshot, where no transaction can stand that is still to come, or
        // behind the last change.
        let mark = Position::at(portion.mark.saturating_sub(1));
        order.at = order.at.max(mark);
        self.take_rows(limit);
        Ok(true)
    }

    /// Notes which tables are loaded; whether one was that had not been.
    pub(super) fn end_loads(&mut self) -> bool {
        let any = self.log.end_loads(&mut self.reading);
        let was_loading = std::mem::replace(&mut self.is_loading, self.reading.is_loading());
        if was_loading && !self.is_loading {
            self.log.end_loading();
        }
        any
    }

    /// The next rows of the first portion.
    fn take_rows(&mut self, limit: ReadLimit) {
        let Some((portion, from)) = self.portions.pop_front() else { return };
        let table = portion.table;
        let Order { gather, at, .. } = &mut self.reading.order;
        let outdated = self.log.outdated(&portion);
        let mut next = from;
        let count = usize::try_from(portion.rows.len()).unwrap_or(usize::MAX);
        while next < count && !gather.is_full(limit) {
            let row = next;
            next += 1;
            if outdated.contains(portion.rows.key(row)) {
                continue;
            }
            let reported =
                ChangeDetails { table, kind: ChangeKind::Loaded, position: *at, transaction: None, time: None };
            let (object, json) = (portion.rows.object(row), portion.rows.key_json(row));
            gather.add(reported, |out| out.extend_from_slice(object), |out| out.extend_from_slice(json), |_| {});
            at.minor += 1;
        }
        let is_done = next == count;
        let name = Arc::clone(&self.log.tables()[index(table)].name);
        if let Some(load) = self.reading.load_of(&name).filter(|_| self.log.counts(&portion)) {
            load.rows += (next - from) as u64;
            if let Some(last) = next.checked_sub(1) {
                self.log.advance(load, &portion, last);
            }
        }
        if is_done {
            self.log.end_portion(&mut self.reading, &portion);
            self.end_loads();
            reach("feed.portion");
        } else {
            self.portions.push_front((portion, next));
        }
    }
}
