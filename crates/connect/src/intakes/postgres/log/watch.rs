//! What the log does not report and is looked at every few seconds: tables that were dropped, tables whose rows were
//! replaced, and how much of its log the server keeps.

use std::time::{Duration, Instant};

use sluice_core::failure::{Failure, Outcome};
use sluice_core::names::shown;
use sluice_core::units::show_size;

use super::super::catalog::Catalog;
use super::super::schema;
use super::super::silent::{self, TableStorage};
use super::PostgresLog;
use crate::intakes::feed::reader::Reading;

/// How often it is looked at.
const MEASURE: Duration = Duration::from_secs(5);

impl PostgresLog {
    pub(super) fn look_around(&mut self, reading: &mut Reading) -> Outcome<()> {
        if self.measured.elapsed() > MEASURE {
            self.measured = Instant::now();
            // A server that is away is noticed by the stream.
            if let Err(failure) = self.look(reading)
                && !failure.passing
            {
                return Err(failure);
            }
        }
        // What changed before a table was dropped is taken in first.
        let order = &reading.order;
        let (is_between, is_empty, seen) = (order.is_between(), order.gather.is_empty(), order.seen);
        match self.parting.take() {
            Some((end, failure)) if is_between && passed(end, seen) => {
                reading.halt.get_or_insert(failure);
            }
            Some(parting) => {
                self.feed.shared.ask();
                self.parting = Some(parting);
            }
            None => {}
        }
        match self.exchanged.take() {
            Some((end, tables)) if is_between && is_empty && passed(end, seen) => {
                self.load_exchanged(reading, tables);
            }
            Some(exchanged) => {
                self.feed.shared.ask();
                self.exchanged = Some(exchanged);
            }
            None => {}
        }
        Ok(())
    }

    fn look(&mut self, reading: &mut Reading) -> Outcome<()> {
        let Ok(catalog) = self.feed.catalog() else { return Ok(()) };
        // The place that is to be seen stays that of the first look: the log goes on growing.
        if self.parting.is_none() {
            self.parting = schema::gone(&self.feed, &catalog, &reading.state)?;
        }
        self.look_for_exchanged(reading, &catalog)?;
        self.bound_log(reading, &catalog)
    }

    /// Gives the slot up where the server keeps more of its log for it than it may.
    fn bound_log(&mut self, reading: &Reading, catalog: &Catalog) -> Outcome<()> {
        let Some(limit) = self.limit else { return Ok(()) };
        let slot = &reading.state.slot;
        let end = catalog.log_end()?;
        let kept = catalog.slot(slot)?.map_or(0, |s| end.saturating_sub(s.restart));
        if kept <= limit {
            return Ok(());
        }
        self.stream = None;
        self.feed.give_up(slot)?;
        let (kept, limit) = (show_size(kept), show_size(limit));
        let shown = self.feed.server.shown();
        let message = format!("{shown} kept {kept} of its log for {slot}, more than the limit of {limit}");
        Err(Failure::findings(message).with_help(format!(
            "the slot was dropped, so that the server's disk does not fill. `sluice positions {} --set earliest` starts over: \
             mirrors are emptied, and every table is loaded again",
            self.feed.pipeline()
        )))
    }

    /// Looks for tables whose rows were replaced without a word in the log.
    pub(super) fn look_for_exchanged(&mut self, reading: &Reading, catalog: &Catalog) -> Outcome<()> {
        if self.exchanged.is_some() {
            return Ok(());
        }
        let tables = &reading.state.tables;
        let numbers: Vec<u32> = tables.values().map(|t| t.id).filter(|id| *id != 0).collect();
        let mut forms = silent::forms(catalog, &numbers)?;
        let mut found = Vec::new();
        for (name, known) in tables {
            let Some((before, now)) = known.form.as_ref().zip(forms.remove(&known.id)) else { continue };
            // One that was dropped is noticed by its number.
            if !now.is_empty() && now != *before {
                found.push((name.clone(), now));
            }
        }
        if !found.is_empty() {
            self.exchanged = Some((catalog.log_end()?, found));
        }
        Ok(())
    }

    /// Loads tables again whose rows were replaced, in the place of those that they had.
    fn load_exchanged(&mut self, reading: &mut Reading, tables: Vec<(String, TableStorage)>) {
        for (name, form) in tables {
            let Some(known) = reading.state.tables.get_mut(&name) else { continue };
            let differs = known.form.replace(form.clone()).is_some_and(|before| form.differs(&before));
            if !differs {
                continue;
            }
            if known.load.is_none() {
                let message =
                    format!("rows of {}, which is not loaded, were replaced without a log entry", shown(&name));
                reading.halt = Some(Failure::findings(message).with_help(
                    "a partition was truncated, attached or detached, or `alter table` rewrote the table; with \
                     load = \"first\" such a table is loaded again",
                ));
                return;
            }
            self.refill(reading, &name);
            if let Some(load) = reading.load_of(&name) {
                load.replaces = true;
            }
        }
    }
}

/// Whether the log has been seen to a place. A place at the very beginning of a page stands behind the page's header, which
/// is not a record.
pub(super) fn passed(place: u64, seen: u64) -> bool {
    const PAGE: u64 = 8192;
    const HEADER: u64 = 40;
    seen >= place || (seen.is_multiple_of(PAGE) && place - seen <= HEADER)
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
    fn the_header_of_a_page_is_not_a_record(#[case] place: u64, #[case] seen: u64, #[case] expected: bool) {
        assert_eq!(passed(place, seen), expected);
    }
}
