//! What is kept of the events of one group, and its bytes in the ledger.

use super::cell::{Cell, take};
use super::shares::Shares;
use crate::distinct::Distinct;

/// What is kept of the events of one group for one call.
#[derive(Clone, Debug, PartialEq)]
pub(super) enum Partial {
    Count(u64),
    /// The exact sum; None once it was too large for 128 bits.
    Exact {
        total: Option<i128>,
        count: u64,
    },
    Double {
        total: f64,
        count: u64,
    },
    One(Cell),
    Timed {
        time: i64,
        cell: Cell,
    },
    /// The number of values, their mean, and the sum of their squared distances from it.
    Spread {
        count: u64,
        mean: f64,
        squares: f64,
    },
    Distinct(Distinct),
    Shares(Shares),
    /// Values with their event times.
    List(Vec<(i64, Cell)>),
}

impl Partial {
    /// Appends it as bytes; [`Partial::read`] reads them.
    pub(super) fn write(&self, bytes: &mut Vec<u8>) {
        match self {
            Self::Count(count) => bytes.extend(count.to_le_bytes()),
            Self::Exact { total, count } => {
                bytes.extend(count.to_le_bytes());
                total.map_or(Cell::Null, Cell::Decimal).write(bytes);
            }
            Self::Double { total, count } => {
                bytes.extend(count.to_le_bytes());
                bytes.extend(total.to_bits().to_le_bytes());
            }
            Self::One(cell) => cell.write(bytes),
            Self::Timed { time, cell } => {
                bytes.extend(time.to_le_bytes());
                cell.write(bytes);
            }
            Self::Spread { count, mean, squares } => {
                bytes.extend(count.to_le_bytes());
                bytes.extend(mean.to_bits().to_le_bytes());
                bytes.extend(squares.to_bits().to_le_bytes());
            }
            Self::Distinct(distinct) => distinct.write(bytes),
            Self::Shares(shares) => shares.write(bytes),
            Self::List(values) => {
                bytes.extend(u32::try_from(values.len()).unwrap_or(u32::MAX).to_le_bytes());
                for (time, cell) in values {
                    bytes.extend(time.to_le_bytes());
                    cell.write(bytes);
                }
            }
        }
    }

    /// Reads what was kept in the place of this; None where the bytes are damaged.
    pub(super) fn read(&mut self, bytes: &mut &[u8]) -> Option<()> {
        let double = |bytes: &mut &[u8]| Some(f64::from_bits(u64::from_le_bytes(take(bytes)?)));
        match self {
            Self::Count(count) => *count = u64::from_le_bytes(take(bytes)?),
            Self::Exact { total, count } => {
                *count = u64::from_le_bytes(take(bytes)?);
                *total = match Cell::read(bytes)? {
                    Cell::Decimal(total) => Some(total),
                    Cell::Null => None,
                    _ => return None,
                };
            }
            Self::Double { total, count } => {
                *count = u64::from_le_bytes(take(bytes)?);
                *total = double(bytes)?;
            }
            Self::One(cell) => *cell = Cell::read(bytes)?,
            Self::Timed { time, cell } => {
                *time = i64::from_le_bytes(take(bytes)?);
                *cell = Cell::read(bytes)?;
            }
            Self::Spread { count, mean, squares } => {
                *count = u64::from_le_bytes(take(bytes)?);
                *mean = double(bytes)?;
                *squares = double(bytes)?;
            }
            Self::Distinct(distinct) => *distinct = Distinct::read(bytes)?,
            Self::Shares(shares) => *shares = Shares::read(bytes)?,
            Self::List(values) => {
                let count = u32::from_le_bytes(take(bytes)?);
                let one = |bytes: &mut &[u8]| Some((i64::from_le_bytes(take(bytes)?), Cell::read(bytes)?));
                *values = (0..count).map(|_| one(bytes)).collect::<Option<_>>()?;
            }
        }
        Some(())
    }
}
