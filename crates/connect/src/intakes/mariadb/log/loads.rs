//! When a table of MariaDB counts as loaded: its rows are counted beside those of the source.

use sluice_core::failure::Failure;
use sluice_core::units::show_count;

use super::super::load::{self, LoadDetail};
use super::MariadbLog;
use crate::intakes::feed::index;
use crate::intakes::feed::loader::{Job, LoadTask, Loader, Portion};
use crate::intakes::feed::reader::Reading;
use crate::intakes::feed::state::{Load, State};

/// How many tables are loaded at once.
const AT_ONCE: usize = 2;

impl MariadbLog {
    pub(super) fn start_loader(&mut self, state: &State) {
        self.loader = None;
        let mut jobs: Vec<Job<LoadDetail>> = Vec::new();
        for ((table, feed), settings) in (0..).zip(&self.feed.tables).zip(&self.feed.settings) {
            let load = state.tables.get(&*feed.name).and_then(|t| t.load.clone()).filter(|l| !l.done);
            let Some(load) = load.filter(|l| l.whole.is_none()) else { continue };
            self.applier.recent.entry(table).or_default();
            let mut task = LoadTask { table, feed: feed.clone(), settings: settings.clone(), load };
            // Rows that are read again are of a table that had been read whole.
            jobs.push(match task.load.again.is_empty() {
                true => Box::new(move |sink| load::load(&mut task, sink)),
                false => Box::new(move |sink| load::load_again(&task, sink)),
            });
        }
        if !jobs.is_empty() {
            self.loader = Some(Loader::start(jobs, AT_ONCE));
        }
    }

    fn load_of<'r>(&self, reading: &'r mut Reading, table: u32) -> Option<&'r mut Load> {
        reading.load_of(&self.feed.tables.get(index(table))?.name)
    }

    /// Notes with the tables that are being loaded how much of them changed.
    pub(super) fn count_changes(&mut self, reading: &mut Reading) {
        for (table, count) in std::mem::take(&mut self.applier.changed) {
            if let Some(load) = self.load_of(reading, table) {
                load.changed = load.changed.saturating_add(count);
            }
        }
    }

    /// Compares what was read of a table with what it has, once all was read: they differ by what changed meanwhile.
    fn compare_count(&mut self, reading: &mut Reading, portion: &Portion<LoadDetail>) {
        self.count_changes(reading);
        let Some(count) = portion.detail.count else { return };
        let Some(load) = self.load_of(reading, portion.table) else { return };
        if load.rows.abs_diff(count) <= load.changed {
            return;
        }
        // The next run says so again.
        load.done = false;
        let (read, changed) = (show_count(load.rows), show_count(load.changed));
        let name = &self.feed.tables[index(portion.table)].name;
        let message = format!(
            "{name} was not loaded whole: {read} rows were read, it has {}, and {changed} changed meanwhile",
            show_count(count)
        );
        reading.halt = Some(Failure::findings(message).with_help(format!(
            "its mirror differs from it; `load = \"never\"` or `except` leaves the table out, and `sluice positions {} --set \
             earliest` loads every table again",
            self.feed.pipeline()
        )));
    }

    pub(super) fn close_portion(&mut self, reading: &mut Reading, portion: &Portion<LoadDetail>) {
        if let Some(recent) = self.applier.recent.get_mut(&portion.table) {
            recent.retain(|(end, _)| *end > portion.mark);
        }
        if portion.done {
            if let Some(load) = self.load_of(reading, portion.table) {
                load.done = true;
                load.again.clear();
            }
            if !portion.detail.again {
                self.compare_count(reading, portion);
            }
            self.applier.recent.remove(&portion.table);
        }
    }
}
