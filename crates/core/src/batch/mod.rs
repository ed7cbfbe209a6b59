//! Batches and the commit protocol.
//!
//! A batch moves through types, so that no step can be skipped: *open* while it is read and staged, [`Staged`],
//! [`Sealed`], [`Landed`], [`Settled`]. Each step consumes the one before.

mod commit;
mod counts;
mod identity;

pub use commit::{Landed, Sealed, Settled, Staged, Stead, TakenWork};
pub use counts::StationCount;
pub use identity::{BatchIdentity, LaneId, Range, Ranges};
