//! The steps from staged to settled. See docs/architecture.md for why each comes where it does.

use std::collections::HashMap;
use std::time::{Duration, Instant};

use super::{BatchIdentity, BatchMarks, BatchName, Ranges, StationCount};
use crate::drift::SeenFields;
use crate::fail_points::reach;
use crate::failure::{Failure, Outcome};
use crate::kinds::{Landing, RefusedRow, StagedWork};
use crate::ledger::Ledger;
use crate::plan::SealedTexts;
use crate::reject::{self, Reason};
use crate::state::StationChanges;

/// The work of one landing in a batch.
#[derive(Clone, Debug, PartialEq)]
pub struct LandingWork {
    /// The landing's name in the ledger.
    pub landing: String,
    /// What is staged.
    pub work: StagedWork,
    /// Whether it has been published.
    pub landed: bool,
}

/// What a batch reads that another one had read before.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Reread {
    /// The batch that read the events first.
    pub first: BatchName,
    /// Whether it reads all of that batch, so that its rows replace what stands in the landings that it writes. If
    /// not, it reads events that had been rejected, and its rows are added.
    pub whole: bool,
}

/// A batch that is read and durably staged, and that nobody knows of yet.
#[must_use = "a staged batch that is not sealed is forgotten"]
#[derive(Debug)]
pub struct Staged {
    /// Its name.
    pub identity: BatchIdentity,
    /// What was read.
    pub ranges: Ranges,
    /// What each station did.
    pub counts: Vec<StationCount>,
    /// Events read.
    pub read: u64,
    /// Bytes read.
    pub bytes: u64,
    /// Events rejected.
    pub rejected: u64,
    /// When it was opened, in microseconds since 1970.
    pub opened_at: i64,
    /// The work of each landing.
    pub works: Vec<LandingWork>,
    /// The texts that it runs under.
    pub texts: SealedTexts,
    /// Set where it reads events again.
    pub reread: Option<Reread>,
    /// What stations that remember changed.
    pub state: Vec<StationChanges>,
    /// Where they stood at its end; None where there are none.
    pub marks: Option<BatchMarks>,
    /// Which fields the events had, by the event's name.
    pub fields: Vec<(String, SeenFields)>,
}

/// A batch that the ledger has sealed: it will land, whole, whatever happens.
#[must_use = "sealed work has to be landed"]
#[derive(Debug)]
pub struct Sealed {
    /// Its name.
    pub identity: BatchIdentity,
    /// What was read.
    pub ranges: Ranges,
    /// The work of each landing.
    pub works: Vec<LandingWork>,
}

/// A batch that every landing has published.
#[must_use = "a landed batch has to be settled"]
#[derive(Debug)]
pub struct Landed {
    identity: BatchIdentity,
    /// Rows that stores refused: the landing, the column, and how many.
    pub refused: Vec<(String, Option<String>, u64)>,
}

/// A batch that is done.
#[derive(Debug)]
pub struct Settled {
    /// Its name.
    pub identity: BatchIdentity,
}

impl Staged {
    /// Seals the batch in one transaction of the ledger, which checks the lane's epoch: a worker that lost its lane
    /// cannot seal. A batch that does not balance is not sealed.
    ///
    /// # Errors
    /// Where the counts do not balance, the lane was taken over, or the ledger cannot be written.
    pub fn seal(self, ledger: &dyn Ledger, epoch: u64) -> Outcome<Sealed> {
        for count in &self.counts {
            count.check().map_err(|off| {
                Failure::internal(format!("{}: {off}", self.identity))
                    .with_help("nothing of this batch has landed; this is a fault of the program, please report it")
            })?;
        }
        reach("seal.before");
        ledger.seal(&self, epoch)?;
        reach("seal.after");
        Ok(Sealed { identity: self.identity, ranges: self.ranges, works: self.works })
    }
}

impl Sealed {
    /// Publishes what is not yet published, landing by landing.
    ///
    /// # Errors
    /// Where a store cannot be reached and `again` does not want to wait for it. The batch stays sealed and is finished
    /// later.
    pub fn land(
        self,
        ledger: &dyn Ledger,
        landings: &HashMap<String, Box<dyn Landing>>,
        again: &dyn Fn(&str, &Failure) -> bool,
        spent: &dyn Fn(&str, Duration),
    ) -> Outcome<Landed> {
        let mut all_refused = Vec::new();
        for taken in self.works.iter().filter(|w| !w.landed) {
            let landing = landings.get(&taken.landing).ok_or_else(|| {
                Failure::internal(format!(
                    "{} has sealed rows for the landing {}, which no longer exists",
                    self.identity, taken.landing
                ))
            })?;
            // Publishing may be tried again from any point.
            let started = Instant::now();
            let published = loop {
                match landing.publish(&self.identity, &self.ranges, &taken.work) {
                    Ok(published) => break published,
                    Err(failure) if failure.passing && again(&taken.landing, &failure) => {}
                    Err(failure) => return Err(failure),
                }
            };
            spent(&taken.landing, started.elapsed());
            reach("land.before");
            self.keep_refused(landings, &taken.landing, &published.refused, &mut all_refused)?;
            let refused = published.refused.len() as u64;
            ledger.landed(&self.identity, &taken.landing, refused, published.unmerged)?;
            reach("land.after");
        }
        Ok(Landed { identity: self.identity, refused: all_refused })
    }

    /// Rows that a store refused become rejects, durable before the ledger counts them.
    fn keep_refused(
        &self,
        landings: &HashMap<String, Box<dyn Landing>>,
        landing: &str,
        refused: &[RefusedRow],
        all: &mut Vec<(String, Option<String>, u64)>,
    ) -> Outcome<()> {
        if refused.is_empty() {
            return Ok(());
        }
        let rejects = landings
            .get(reject::REJECTS)
            .ok_or_else(|| Failure::internal("rows were refused, and there is no place for rejects"))?;
        let event = landing.split('.').next().unwrap_or_default();
        let lines = reject::lines_of(refused, (event, landing), &self.identity, Reason::REFUSED);
        for row in refused {
            let is_known = |a: &&mut (String, Option<String>, u64)| a.0 == landing && a.1 == row.column;
            match all.iter_mut().find(is_known) {
                Some(known) => known.2 += 1,
                None => all.push((landing.to_string(), row.column.clone(), 1)),
            }
        }
        reach("refused.before");
        rejects.keep_refused(&self.identity, landing, &lines)?;
        reach("refused.kept");
        Ok(())
    }
}

impl Landed {
    /// Marks the batch as done.
    ///
    /// # Errors
    /// Where the ledger cannot be written. Settling again later does no harm.
    pub fn settle(self, ledger: &dyn Ledger) -> Outcome<Settled> {
        reach("settle.before");
        ledger.settle(&self.identity)?;
        reach("settle.after");
        Ok(Settled { identity: self.identity })
    }
}
