//! Lists: what is read whole, again and again, so that its rows can be looked up. Rows that a later reading does not have are
//! gone.
//!
//! A reading has a number, which stands behind the place within it in positions: `1042.3`. Nothing of a list can be read
//! again as it was, and nothing needs to be: what is remembered of its rows is in the ledger. A reading that breaks off begins
//! from its beginning, under the next number.

pub(crate) mod query;
mod reader;
mod rows;

use std::sync::Arc;
use std::time::Duration;

use sluice_core::batch::Ranges;
use sluice_core::failure::{Failure, Outcome};
use sluice_core::kinds::{Behind, Intake, IntakeView, LaneReader, Mark, PartitionPosition, PartitionState};

pub(crate) use reader::ListReader;

/// A list may not be read more often than this.
pub(crate) const SHORTEST: Duration = Duration::from_secs(1);

/// What can be told of a list without reading it.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(crate) enum Version {
    /// It is not there, in words.
    Absent(String),
    /// It is being written.
    Unfinished,
    /// What tells it from an earlier or later one.
    Known(String),
    /// Nothing: it must be read to see whether it has changed.
    Unknown,
}

/// Where the rows of a list are.
pub(crate) trait ListSource: Send + Sync {
    /// What the list looks like now.
    ///
    /// # Errors
    /// Where it cannot be reached.
    fn version(&self) -> Outcome<Version>;

    /// Opens it, to be read from its beginning to its end.
    ///
    /// # Errors
    /// Where it cannot be reached.
    fn open(&self) -> Outcome<Box<dyn LaneReader>>;

    /// Opens it for looking at about so many events.
    ///
    /// # Errors
    /// Where it cannot be reached.
    fn sample(&self, events: u64) -> Outcome<Box<dyn LaneReader>>;
}

/// An arrival that is a list.
pub(crate) struct ListIntake {
    /// Its rows.
    pub source: Arc<dyn ListSource>,
    /// How often it is looked at.
    pub again: Duration,
}

impl Intake for ListIntake {
    fn lane(&self, _: u32, _: u32, positions: Vec<PartitionPosition>) -> Outcome<Box<dyn LaneReader>> {
        let read = positions.iter().map(|known| known.position.minor).max().unwrap_or(0);
        Ok(Box::new(ListReader::new(Arc::clone(&self.source), self.again, read)))
    }
}

impl IntakeView for ListIntake {
    fn sample(&self, events: u64) -> Outcome<Box<dyn LaneReader>> {
        self.source.sample(events)
    }

    fn states(&self, _: &[PartitionPosition]) -> Outcome<Vec<PartitionState>> {
        Ok(Vec::new())
    }

    fn find(&self, _: &Mark) -> Outcome<Option<Vec<PartitionPosition>>> {
        Ok(Some(Vec::new()))
    }

    fn guard(&self, _: PartitionPosition) -> Outcome<PartitionPosition> {
        Err(Failure::findings("a list has no positions that could be set: each run reads it whole"))
    }

    fn ranges(&self, _: &Ranges) -> Outcome<Box<dyn LaneReader>> {
        Ok(Box::new(Nothing))
    }

    fn behind(&self, _: &[PartitionPosition]) -> Outcome<Behind> {
        Ok(Behind::default())
    }
}

/// Rows of an earlier reading are not there any more, and nobody lands them.
struct Nothing;

impl LaneReader for Nothing {
    fn read(&mut self, _: sluice_core::kinds::ReadLimit) -> Outcome<sluice_core::kinds::Read> {
        Ok(sluice_core::kinds::Read::CaughtUp)
    }
}
