//! Tables that changed their form, or whose rows were replaced by a statement.

use sluice_core::failure::{Failure, Outcome};

use super::super::applier::TouchedTables;
use super::super::catalog::MariadbTable;
use super::super::shapes::there;
use super::MariadbLog;
use crate::intakes::feed::index;
use crate::intakes::feed::reader::Reading;
use crate::intakes::feed::schema::{Difference, Policy, SchemaVerdict};

impl MariadbLog {
    fn policy(&self, table: u32) -> Policy {
        Policy::of(&self.feed.settings[index(table)])
    }

    /// The table as it is at the source now; None where the server does not answer: the transaction comes again, and the
    /// table with it.
    fn now(&self, reading: &mut Reading, table: u32) -> Outcome<Option<Option<MariadbTable>>> {
        let name = &self.feed.tables[index(table)].name;
        reading.unless_away(self.feed.catalog().and_then(|mut catalog| catalog.table(name)))
    }

    /// A table that is read is announced: it may have changed.
    pub(super) fn announced(&mut self, reading: &mut Reading, table: u32, columns: Vec<String>) -> Outcome<()> {
        let feed = &self.feed.tables[index(table)];
        let Some(known) = reading.state.tables.get(&*feed.name) else { return Ok(()) };
        let mut refill = false;
        let difference = Difference::between(&known.columns, &columns);
        if !difference.is_empty() {
            // What is there now may be later than this place of the log.
            let Some(now) = self.now(reading, table)? else { return Ok(()) };
            match difference.judge(feed, self.policy(table), &now.as_ref().map_or_else(Vec::new, there)) {
                SchemaVerdict::GoOn { refill: again } => refill = again,
                SchemaVerdict::Stop(words) => {
                    reading.halt = Some(self.feed.changed(&feed.name, &words, reading.order.at));
                    return Ok(());
                }
                SchemaVerdict::Renew(words) => {
                    let Failure { message, .. } = self.feed.changed(&feed.name, &words, reading.order.at);
                    reading.halt = Some(Failure::renewing(message));
                    return Ok(());
                }
            }
            if refill && let Some(known) = reading.state.tables.get_mut(&*feed.name) {
                known.restart(now.map_or(0, |n| n.about));
            }
        }
        if let Some(known) = reading.state.tables.get_mut(&*feed.name) {
            known.columns = columns;
        }
        if refill {
            reading.load_again();
        }
        Ok(())
    }

    /// A statement changed tables that are read.
    pub(super) fn statement(&mut self, reading: &mut Reading, text: &str, touched: &TouchedTables) -> Outcome<()> {
        for table in &touched.lost {
            let changed = self.feed.changed(&self.feed.tables[index(*table)].name, text, reading.order.at);
            match self.policy(*table) {
                Policy::Ignore => {}
                Policy::Stop => reading.halt = Some(changed),
                Policy::Follow => match self.now(reading, *table)? {
                    None => return Ok(()),
                    // It was recreated, as the log goes on to report, or another one has its name and is read again.
                    Some(Some(_)) => {}
                    Some(None) => reading.halt = Some(Failure::renewing(changed.message)),
                },
            }
        }
        for table in &touched.keyed {
            let feed = &self.feed.tables[index(*table)];
            let Some(now) = self.now(reading, *table)? else { return Ok(()) };
            if now.is_some_and(|t| t.key != feed.key) {
                let what = format!("it has another primary key ({text})");
                let changed = self.feed.changed(&feed.name, &what, reading.order.at);
                reading.halt = Some(match self.policy(*table) {
                    Policy::Follow => Failure::renewing(changed.message),
                    Policy::Stop | Policy::Ignore => changed,
                });
            }
        }
        self.load_replaced(reading, text, &touched.replaced);
        Ok(())
    }

    /// Has tables loaded again whose rows were replaced.
    fn load_replaced(&self, reading: &mut Reading, text: &str, tables: &[u32]) {
        if tables.is_empty() || reading.halt.is_some() {
            return;
        }
        for table in tables {
            let name = &self.feed.tables[index(*table)].name;
            let Some(known) = reading.state.tables.get_mut(&**name) else { continue };
            if known.load.is_none() {
                let why = format!("rows of {name}, which is not loaded, were replaced: {text}");
                reading.halt = Some(self.feed.unlogged(&why, reading.order.seen));
                return;
            }
            known.restart(0);
        }
        reading.load_again();
    }
}
