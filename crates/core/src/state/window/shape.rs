//! Where windows begin and end.

use super::groups::Group;
use crate::units::spell_micros;

/// Where windows begin and end.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum WindowShape {
    /// All are of one length.
    Fixed(FixedShape),
    /// They last as long as events follow each other.
    Session(SessionShape),
}

/// Windows of one length: one after the other, or overlapping.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct FixedShape {
    /// How long each one is, in microseconds.
    pub length: i64,
    /// How often one begins, in microseconds: at most `length`. Where both are the same, each event belongs to one.
    pub every: i64,
}

/// Windows of events that follow each other.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct SessionShape {
    /// An event that comes this long after the one before begins another session, in microseconds.
    pub gap: i64,
    /// How long a session may be, from its first event to its last, in microseconds.
    pub longest: i64,
}

impl WindowShape {
    /// Where the window of a group ends: the first moment that does not belong to it.
    pub(super) fn end_of(self, group: &Group) -> i64 {
        match self {
            Self::Fixed(shape) => group.start.saturating_add(shape.length),
            Self::Session(shape) => group.last.saturating_add(shape.gap),
        }
    }

    /// How long a window may be, in microseconds.
    pub(in crate::state) fn longest(self) -> i64 {
        match self {
            Self::Fixed(shape) => shape.length,
            Self::Session(shape) => shape.longest.saturating_add(shape.gap),
        }
    }

    /// In words.
    pub(super) fn manner(self) -> String {
        match self {
            Self::Fixed(FixedShape { length, every }) if length == every => {
                format!("windows of {}", spell_micros(length))
            }
            Self::Fixed(FixedShape { length, every }) => {
                format!("windows of {} every {}", spell_micros(length), spell_micros(every))
            }
            Self::Session(SessionShape { gap, longest }) => {
                format!("sessions with gaps of {}, {} at most", spell_micros(gap), spell_micros(longest))
            }
        }
    }
}

impl From<FixedShape> for WindowShape {
    fn from(shape: FixedShape) -> Self {
        Self::Fixed(shape)
    }
}

impl From<SessionShape> for WindowShape {
    fn from(shape: SessionShape) -> Self {
        Self::Session(shape)
    }
}

impl FixedShape {
    /// Where the windows begin that a moment belongs to, the latest first.
    pub(super) fn starts(self, time: i64) -> impl Iterator<Item = i64> {
        let latest = time.div_euclid(self.every).checked_mul(self.every);
        let before = move |start: &i64| start.checked_sub(self.every).filter(|s| s.saturating_add(self.length) > time);
        std::iter::successors(latest, before)
    }
}
