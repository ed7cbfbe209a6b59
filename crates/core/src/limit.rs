//! The narrower types of SQL: `smallint`, `real`, `varchar(n)`, `char(n)`, `uuid`, `bytea`, `time` and lists such as
//! `text[]`.
//!
//! They are kept as the wider type below each of them: bytes and times of day as a text of one spelling, which sorts as they do, lists as
//! JSON of one spelling. What
//! narrows them is checked where a value comes in, and kept where it goes through unchanged, so that a column of a store has the
//! narrower type. Values of a type of its own kind ([`Limit::is_own`]) are no text for functions.

use std::borrow::Cow;
use std::fmt;
use std::io::Write as _;

use arrow_schema::{DataType, Field};
use uuid::Uuid;

use crate::types::SqlType;
use crate::values::bytes::{self, BytesSpelling};
use crate::values::clock::{parse_clock, show_clock};
use crate::values::list;

/// What narrows the values of a type.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub enum Limit {
    /// An integer of 16 bits.
    Smallint,
    /// A floating-point number of 32 bits. It is kept as the number of 64 bits that is spelled alike: 0.1, not
    /// 0.10000000149011612.
    Real,
    /// A text of at most so many characters.
    Varchar(u32),
    /// The same; blanks at its end do not count and are left out.
    Char(u32),
    /// A UUID in its usual spelling, with small letters.
    Uuid,
    /// Bytes: `\\x` and two hexadecimal digits for each.
    Bytea,
    /// A time of day, `08:05:09.5`, in microseconds.
    Time,
    /// A list of values of a type, as JSON.
    List(SqlType),
}

/// Every such type, with its spelling and a line of help.
pub const LIMITS: &[(&str, &str)] = &[
    ("smallint", "an integer from -32768 to 32767"),
    ("real", "a floating-point number of 32 bits, rounded to 6 to 9 digits"),
    ("varchar(n)", "text of at most n characters"),
    ("char(n)", "the same; blanks at its end do not count and are left out"),
    ("uuid", "a UUID in any of its spellings, kept in the usual one with small letters"),
    ("bytea", "bytes, in hexadecimal digits after \\x; format 'base64', 'hex' and 'text' for other spellings"),
    (
        "text[], integer[], …",
        "a list of values of a type, from a list of JSON, or a text such as {ore,\"rock salt\",NULL}",
    ),
    ("time", "a time of day, as 08:05 or 08:05:09.5, rounded to the microsecond"),
];

/// Characters of a UUID in its usual spelling.
pub const UUID_LENGTH: u32 = 36;

impl Limit {
    /// The type that it narrows.
    pub fn base(self) -> SqlType {
        match self {
            Self::Smallint => SqlType::Integer,
            Self::Real => SqlType::Double,
            Self::Varchar(_) | Self::Char(_) | Self::Uuid | Self::Bytea | Self::Time => SqlType::Text,
            Self::List(_) => SqlType::Json,
        }
    }

    /// The list of a type's values, where there is one.
    pub fn list_of(item: SqlType) -> Option<Self> {
        let is_single = !matches!(item, SqlType::Json | SqlType::Null) && !item.is_within_expressions();
        is_single.then_some(Self::List(item))
    }

    /// The narrower type of contracts that takes the values of an Arrow field, where they are bytes, times of day or UUIDs.
    pub fn of_arrow(field: &Field) -> Option<Self> {
        let is_uuid = field.extension_type_name() == Some("arrow.uuid")
            || field.metadata().get("logicalType").map(String::as_str) == Some("uuid");
        match field.data_type() {
            DataType::Utf8 | DataType::LargeUtf8 | DataType::Utf8View | DataType::FixedSizeBinary(16) if is_uuid => {
                Some(Self::Uuid)
            }
            DataType::Binary | DataType::LargeBinary | DataType::BinaryView | DataType::FixedSizeBinary(_) => {
                Some(Self::Bytea)
            }
            DataType::Time32(_) | DataType::Time64(_) => Some(Self::Time),
            DataType::List(item) | DataType::LargeList(item) | DataType::FixedSizeList(item, _) => {
                // Items that need a spelling of their own, or are lists, stay JSON.
                let is_plain = Self::of_arrow(item).is_none() && SqlType::of_arrow(item).1.is_none();
                Self::list_of(SqlType::of_arrow(item).0).filter(|_| is_plain)
            }
            _ => None,
        }
    }

    /// Whether its values are of another kind than those of the type below it: bytes are no text.
    pub fn is_own(self) -> bool {
        matches!(self, Self::Bytea | Self::Time | Self::List(_))
    }

    /// Whether constants beside a value of it are read as it.
    pub fn reads_constants(self) -> bool {
        self.is_own() || self == Self::Uuid
    }

    /// Whether every value of `self` is one of `to` as well.
    pub fn fits_into(self, to: Option<Self>) -> bool {
        match (self, to) {
            (a, Some(b)) if a == b => true,
            (Self::Varchar(a) | Self::Char(a), Some(Self::Varchar(b))) => a <= b,
            (_, None) => true,
            _ => false,
        }
    }

    /// A text as it is kept; None where it does not fit.
    pub fn text(self, text: &str) -> Option<Cow<'_, str>> {
        match self {
            Self::Varchar(most) => is_within(text, most).then_some(Cow::Borrowed(text)),
            Self::Char(most) => {
                let text = text.trim_end_matches(' ');
                is_within(text, most).then_some(Cow::Borrowed(text))
            }
            Self::Uuid => parse_uuid(text).map(|id| if id == text { Cow::Borrowed(text) } else { Cow::Owned(id) }),
            Self::Bytea => BytesSpelling::Marked.kept(text).map(Cow::Owned),
            Self::Time => parse_clock(text).map(|time| Cow::Owned(show_clock(time))),
            Self::List(item) => list::kept(text, item).map(Cow::Owned),
            Self::Smallint | Self::Real => Some(Cow::Borrowed(text)),
        }
    }

    /// A text as a cast gives it: what is too long is cut, as SQL wants it.
    pub fn cast_text(self, text: &str) -> Option<Cow<'_, str>> {
        match self {
            Self::Varchar(most) | Self::Char(most) => {
                let end =
                    text.char_indices().nth(usize::try_from(most).unwrap_or(usize::MAX)).map_or(text.len(), |c| c.0);
                let cut = &text[..end];
                Some(Cow::Borrowed(if matches!(self, Self::Char(_)) { cut.trim_end_matches(' ') } else { cut }))
            }
            Self::Bytea => bytes::from_sql(text).map(|bytes| Cow::Owned(bytes::shown(&bytes))),
            _ => self.text(text),
        }
    }

    /// Whether a whole number fits.
    pub fn takes_whole(self, number: i32) -> bool {
        self != Self::Smallint || i16::try_from(number).is_ok()
    }

    /// A floating-point number as it is kept; None where it is too large.
    pub fn double(self, number: f64) -> Option<f64> {
        if self != Self::Real || !number.is_finite() || number == 0.0 {
            return Some(number);
        }
        #[expect(clippy::cast_possible_truncation, reason = "rounding to 32 bits is what it is for")]
        let single = number as f32;
        if single.is_infinite() || single == 0.0 {
            return None;
        }
        // This is computed for each event: nothing is kept for it.
        let mut text = [0_u8; 32];
        let mut rest = &mut text[..];
        write!(rest, "{single:e}").ok()?;
        let length = 32 - rest.len();
        std::str::from_utf8(&text[..length]).ok()?.parse().ok()
    }
}

fn is_within(text: &str, most: u32) -> bool {
    let most = usize::try_from(most).unwrap_or(usize::MAX);
    text.len() <= most || text.chars().nth(most).is_none()
}

/// The usual spelling of a UUID that may be in braces, in capitals, or have its hyphens elsewhere, as PostgreSQL takes it: 32 digits,
/// with a hyphen after any group of four but the last.
fn parse_uuid(text: &str) -> Option<String> {
    let inner = text.strip_prefix('{').map_or(Some(text), |rest| rest.strip_suffix('}'))?;
    let mut digits = String::with_capacity(32);
    let mut may_part = false;
    for c in inner.chars() {
        if c == '-' && !std::mem::take(&mut may_part) {
            return None;
        }
        if c != '-' {
            digits.push(c);
            may_part = digits.len().is_multiple_of(4) && digits.len() < 32;
        }
    }
    let id = Uuid::try_parse(&digits).ok().filter(|_| digits.len() == 32)?;
    Some(id.hyphenated().to_string())
}

impl fmt::Display for Limit {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Smallint => f.write_str("smallint"),
            Self::Real => f.write_str("real"),
            Self::Varchar(most) => write!(f, "varchar({most})"),
            Self::Char(most) => write!(f, "char({most})"),
            Self::Uuid => f.write_str("uuid"),
            Self::Bytea => f.write_str("bytea"),
            Self::Time => f.write_str("time"),
            Self::List(item) => write!(f, "{item}[]"),
        }
    }
}

/// A type as it is shown: the narrower one, where there is one.
pub fn shown(ty: SqlType, limit: Option<Limit>) -> String {
    limit.map_or_else(|| ty.to_string(), |limit| limit.to_string())
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    const ID: &str = "a0eebc99-9c0b-4ef8-bb6d-6bb9bd380a11";

    #[rstest]
    #[case(Limit::Varchar(4), "lock", Some("lock"))]
    #[case(Limit::Varchar(4), "löck", Some("löck"))]
    #[case(Limit::Varchar(4), "locks", None)]
    #[case(Limit::Varchar(4), "lock ", None)]
    #[case(Limit::Char(4), "lock  ", Some("lock"))]
    #[case(Limit::Char(4), " lock", None)]
    #[case(Limit::Uuid, ID, Some(ID))]
    #[case(Limit::Uuid, "A0EEBC99-9C0B-4EF8-BB6D-6BB9BD380A11", Some(ID))]
    #[case(Limit::Uuid, "{a0eebc99-9c0b4ef8-bb6d6bb9-bd380a11}", Some(ID))]
    #[case(Limit::Uuid, "a0eebc999c0b4ef8bb6d6bb9bd380a11", Some(ID))]
    #[case(Limit::Uuid, "a0ee-bc99-9c0b-4ef8-bb6d-6bb9-bd38-0a11", Some(ID))]
    #[case(Limit::Uuid, "a0eebc99-9c0b-4ef8-bb6d-6bb9bd380a1", None)]
    #[case(Limit::Uuid, "a0eebc99-9c0b-4ef8-bb6d-6bb9bd380a11-", None)]
    #[case(Limit::Uuid, "a0eebc99--9c0b4ef8-bb6d6bb9-bd380a11", None)]
    #[case(Limit::Uuid, "{a0eebc99-9c0b-4ef8-bb6d-6bb9bd380a11", None)]
    #[case(Limit::Uuid, "g0eebc99-9c0b-4ef8-bb6d-6bb9bd380a11", None)]
    #[case(Limit::Uuid, "", None)]
    #[case(Limit::Bytea, "\\x0A", Some("\\x0a"))]
    #[case(Limit::Bytea, "0A", None)]
    #[case(Limit::Time, "8:05", Some("08:05:00"))]
    #[case(Limit::Time, "25:00", None)]
    fn texts(#[case] limit: Limit, #[case] text: &str, #[case] expected: Option<&str>) {
        assert_eq!(limit.text(text).as_deref(), expected);
    }

    #[rstest]
    #[case(Limit::Varchar(4), "locks", Some("lock"))]
    #[case(Limit::Varchar(2), "äöü", Some("äö"))]
    #[case(Limit::Char(4), "a  b", Some("a  b"))]
    #[case(Limit::Char(3), "a  b", Some("a"))]
    #[case(Limit::Uuid, "no", None)]
    #[case(Limit::Bytea, "0A", Some("\\x3041"))]
    fn casts_cut_texts(#[case] limit: Limit, #[case] text: &str, #[case] expected: Option<&str>) {
        assert_eq!(limit.cast_text(text).as_deref(), expected);
    }

    #[rstest]
    #[case(0.1, Some(0.1))]
    #[case(0.123_456_789_123, Some(0.123_456_79))]
    #[case(-0.0, Some(-0.0))]
    #[case(-3.402_823_466_385_288_6e38, Some(-3.402_823_5e38))]
    #[case(1.175_494_350_822_287_5e-38, Some(1.175_494_4e-38))]
    #[case(f64::INFINITY, Some(f64::INFINITY))]
    #[case(1e39, None)]
    #[case(1e-50, None)]
    fn reals_are_rounded_and_spelled_alike(#[case] number: f64, #[case] expected: Option<f64>) {
        assert_eq!(Limit::Real.double(number), expected);
    }

    #[test]
    fn what_fits_into_what() {
        assert!(Limit::Smallint.takes_whole(-32_768) && !Limit::Smallint.takes_whole(32_768));
        assert!(
            Limit::Varchar(3).fits_into(Some(Limit::Varchar(4)))
                && !Limit::Varchar(5).fits_into(Some(Limit::Varchar(4)))
        );
        assert!(Limit::Char(3).fits_into(Some(Limit::Varchar(3))) && Limit::Uuid.fits_into(None));
        assert!(!Limit::Uuid.fits_into(Some(Limit::Varchar(36))));
    }
}
