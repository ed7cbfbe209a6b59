//! An order by ends: keys beside those of what ends, by which it is found when time has come so far.
//!
//! What goes on keeps its place in that order until time passes it, and gets the one of its new end then: most of what is asked for
//! again and again never has to move. So its value says both, in the order of bytes: after a first byte the end by which it stands in
//! the order, and the end that it has.

use super::Changed;

/// Bytes of a moment in the order.
pub(crate) const MOMENT: usize = 8;

/// A moment in bytes whose order is that of time.
pub(crate) fn in_order(moment: i64) -> [u8; MOMENT] {
    (moment ^ i64::MIN).to_be_bytes()
}

/// The moment of bytes in order.
pub(crate) fn of_order(bytes: [u8; MOMENT]) -> i64 {
    i64::from_be_bytes(bytes) ^ i64::MIN
}

/// What the ledger does with an entry whose place in the order has been passed.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Passed {
    /// It has ended.
    Over,
    /// It ends later: its key in the order and its value from now on.
    Later(Vec<u8>, Vec<u8>),
    /// It stands elsewhere in the order by now.
    Elsewhere,
}

impl Changed {
    /// Bytes before the name in a key of an order by ends.
    pub const BEFORE_NAME: usize = 1 + MOMENT;

    /// What a key that is named in an order by ends begins with.
    pub const NAMED: u8 = 1;

    /// The first byte of values that earlier versions wrote: these have the end alone by which they stand in the order.
    pub const WITHOUT_ENDS: u8 = 1;

    /// The key that one of an order by ends names.
    pub fn named_by(key: &[u8]) -> Vec<u8> {
        [&[Self::NAMED], key.get(Self::BEFORE_NAME..).unwrap_or_default()].concat()
    }

    /// Decides what happens to the entry that `by_end` names and whose value is `value`. `to` is the first key that has not been
    /// passed.
    pub fn passed(by_end: &[u8], value: &[u8], to: Option<&[u8]>) -> Passed {
        let (standing, end) = (value.get(1..1 + MOMENT), value.get(1 + MOMENT..1 + 2 * MOMENT));
        let (Some(standing), Some(end)) = (standing, end) else { return Passed::Over };
        if value[0] == Self::WITHOUT_ENDS {
            return Passed::Over;
        }
        let (Some(first), Some(name)) = (by_end.first(), by_end.get(Self::BEFORE_NAME..)) else { return Passed::Over };
        if by_end.get(1..Self::BEFORE_NAME) != Some(standing) {
            return Passed::Elsewhere;
        }
        let later = [&[*first], end, name].concat();
        match to.is_some_and(|to| later.as_slice() >= to) {
            true => Passed::Later(later, [&value[..1], end, &value[1 + MOMENT..]].concat()),
            false => Passed::Over,
        }
    }
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    proptest! {
        #[test]
        fn moments_are_in_order(a in any::<i64>(), b in any::<i64>()) {
            prop_assert_eq!(a.cmp(&b), in_order(a).cmp(&in_order(b)));
            prop_assert_eq!(of_order(in_order(a)), a);
        }
    }

    #[test]
    fn what_has_ended_goes_and_what_goes_on_moves() {
        let key = |end: i64| [&[2][..], &in_order(end), b"name"].concat();
        let value = |standing: i64, end: i64| [&[2][..], &in_order(standing), &in_order(end), b"rest"].concat();
        let passed = |by_end: i64, value: &[u8], to: i64| Changed::passed(&key(by_end), value, Some(&key(to)[..9]));
        assert_eq!(passed(5, &value(5, 5), 9), Passed::Over);
        assert_eq!(passed(5, &value(5, 8), 9), Passed::Over);
        assert_eq!(passed(5, &value(5, 9), 9), Passed::Later(key(9), value(9, 9)));
        assert_eq!(passed(5, &value(-3, 9), 9), Passed::Elsewhere);
        assert_eq!(passed(5, &[&[1][..], &[0; 20]].concat(), 9), Passed::Over, "an earlier version");
        assert_eq!(passed(5, b"", 9), Passed::Over);
        assert_eq!(Changed::passed(&key(5), &value(5, 9), None), Passed::Over);
    }
}
