//! The steps from staged to settled. See docs/architecture.md for why each comes where it does.

use std::collections::HashMap;

use super::{BatchIdentity, LaneId, Ranges, StationCount};
use crate::fail_points::reach;
use crate::failure::{Failure, Outcome};
use crate::kinds::{Landing, StagedWork};
use crate::ledger::Ledger;
use crate::plan::SealedTexts;

/// The work of one landing in a batch.
#[derive(Clone, Debug, PartialEq)]
pub struct TakenWork {
    /// The landing's name in the ledger.
    pub landing: String,
    /// What is staged.
    pub work: StagedWork,
    /// Whether it has been published.
    pub landed: bool,
}

/// A batch of an earlier reading in whose place another one lands.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Stead {
    /// The batch that read the events first.
    pub first: (LaneId, u64),
    /// The batch whose work has landed: the first one, or the last that took its place.
    pub last: (LaneId, u64),
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
    pub works: Vec<TakenWork>,
    /// The texts that it runs under.
    pub texts: SealedTexts,
    /// The batch whose place it takes.
    pub stead: Option<Stead>,
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
    pub works: Vec<TakenWork>,
}

/// A batch that every landing has published.
#[must_use = "a landed batch has to be settled"]
#[derive(Debug)]
pub struct Landed {
    identity: BatchIdentity,
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
        again: &dyn Fn(&Failure) -> bool,
    ) -> Outcome<Landed> {
        for taken in self.works.iter().filter(|w| !w.landed) {
            let landing = landings.get(&taken.landing).ok_or_else(|| {
                Failure::internal(format!(
                    "{} has work for the landing {}, which is not there",
                    self.identity, taken.landing
                ))
            })?;
            // Publishing may be tried again from any point.
            while let Err(failure) = landing.publish(&self.identity, &self.ranges, &taken.work) {
                if !failure.passing || !again(&failure) {
                    return Err(failure);
                }
            }
            reach("land.before");
            ledger.landed(&self.identity, &taken.landing)?;
            reach("land.after");
        }
        Ok(Landed { identity: self.identity })
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
