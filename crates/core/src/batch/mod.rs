//! Batches and the commit protocol.
//!
//! A batch moves through types, so that no step can be skipped: *open* while it is read and staged, [`Staged`],
//! [`Sealed`], [`Landed`], [`Settled`]. Each step consumes the one before.

mod commit;
mod counts;
mod identity;
mod marks;
mod readings;

pub use commit::{Landed, LandingWork, Reread, Sealed, Settled, Staged};
pub use counts::StationCount;
pub use identity::{BatchIdentity, BatchName, LaneId, Range, Ranges, arrival_in, own_partition};
pub use marks::{BatchMarks, StationMark};
pub use readings::{Readings, first_of};
