//! The types of fields and expressions, and their form in Arrow.

use std::collections::HashMap;
use std::fmt;

use arrow_schema::{DataType, Field, IntervalUnit, TimeUnit};

/// The largest precision of a decimal.
pub const MAX_PRECISION: u8 = 38;

/// A type of our contracts and expressions. All of them admit null.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub enum SqlType {
    /// UTF-8 text of any length.
    Text,
    /// True or false.
    Boolean,
    /// A whole number of 32 bits.
    Integer,
    /// A whole number of 64 bits.
    Bigint,
    /// A floating-point number of 64 bits.
    Double,
    /// An exact number with a fixed count of digits.
    Decimal {
        /// Digits in all, 1 to 38.
        precision: u8,
        /// Digits after the point, 0 to `precision`.
        scale: u8,
    },
    /// A day of the Gregorian calendar.
    Date,
    /// A moment, kept in UTC with microseconds.
    Timestamptz,
    /// A JSON value, kept as it was spelled.
    Json,
    /// What clocks show, without a zone, in microseconds. Only within expressions.
    Timestamp,
    /// A length of time: months, days and microseconds. Only within expressions.
    Interval,
    /// The type of a bare `null`, which takes any other type.
    Null,
}

/// Every type that a contract can name, with its spelling and a line of help.
pub const TYPES: &[(&str, &str)] = &[
    ("text", "UTF-8 text; numbers and booleans of the source are taken in their own spelling"),
    ("boolean", "true or false"),
    ("integer", "a whole number from -2147483648 to 2147483647"),
    ("bigint", "a whole number of 64 bits"),
    ("double precision", "a floating-point number of 64 bits"),
    ("decimal(p, s)", "an exact number of p digits, s of them after the point; p up to 38"),
    ("date", "a day, as YYYY-MM-DD"),
    (
        "timestamptz",
        "a moment as RFC 3339, rounded to the microsecond; format 'epoch_ms' and others for more spellings",
    ),
    ("json", "any JSON value, kept as it was spelled"),
];

impl SqlType {
    /// The Arrow type that columns of this type have.
    pub fn arrow(self) -> DataType {
        match self {
            Self::Text | Self::Json => DataType::Utf8,
            Self::Boolean => DataType::Boolean,
            Self::Integer => DataType::Int32,
            Self::Bigint => DataType::Int64,
            Self::Double => DataType::Float64,
            Self::Decimal { precision, scale } => DataType::Decimal128(precision, i8::try_from(scale).unwrap_or(0)),
            Self::Date => DataType::Date32,
            Self::Timestamptz => DataType::Timestamp(TimeUnit::Microsecond, Some("UTC".into())),
            Self::Timestamp => DataType::Timestamp(TimeUnit::Microsecond, None),
            Self::Interval => DataType::Interval(IntervalUnit::MonthDayNano),
            Self::Null => DataType::Null,
        }
    }

    /// Whether values of it exist within expressions alone: no field and no column has it.
    pub fn is_within_expressions(self) -> bool {
        matches!(self, Self::Timestamp | Self::Interval)
    }

    /// Whether it is a date or a moment, with or without a zone.
    pub fn is_moment(self) -> bool {
        matches!(self, Self::Date | Self::Timestamp | Self::Timestamptz)
    }

    /// The type of contracts that takes the values of an Arrow field, and how they are spelled as text where the type does not say
    /// it. What we have no type for is text, nested values are JSON.
    pub fn of_arrow(field: &Field) -> (Self, Option<&'static str>) {
        let ty = match field.data_type() {
            DataType::Boolean => Self::Boolean,
            DataType::Int8 | DataType::Int16 | DataType::Int32 | DataType::UInt8 | DataType::UInt16 => Self::Integer,
            DataType::Int64 | DataType::UInt32 => Self::Bigint,
            DataType::UInt64 => Self::Decimal { precision: 20, scale: 0 },
            DataType::Float16 | DataType::Float32 | DataType::Float64 => Self::Double,
            DataType::Decimal32(p, scale) | DataType::Decimal64(p, scale) | DataType::Decimal128(p, scale) => {
                match u8::try_from(*scale) {
                    Ok(scale) if *p <= MAX_PRECISION && scale <= *p => Self::Decimal { precision: *p, scale },
                    _ => Self::Text,
                }
            }
            DataType::Date32 | DataType::Date64 => Self::Date,
            // Without a zone it is taken to be in UTC.
            DataType::Timestamp(_, None) => return (Self::Timestamptz, Some("%Y-%m-%dT%H:%M:%S%.f")),
            DataType::Timestamp(..) => Self::Timestamptz,
            DataType::List(_)
            | DataType::LargeList(_)
            | DataType::FixedSizeList(..)
            | DataType::ListView(_)
            | DataType::LargeListView(_)
            | DataType::Struct(_)
            | DataType::Map(..)
            | DataType::Union(..) => Self::Json,
            DataType::Dictionary(_, values) => {
                return Self::of_arrow(&field.clone().with_data_type(values.as_ref().clone()));
            }
            _ if field.metadata().contains_key(Self::JSON_KEY) => Self::Json,
            _ => Self::Text,
        };
        (ty, None)
    }

    /// The key of a field's metadata that marks text as JSON.
    pub const JSON_KEY: &str = "sluice.json";

    /// An Arrow field of this type.
    pub fn field(self, name: &str, nullable: bool) -> Field {
        let field = Field::new(name, self.arrow(), nullable);
        match self {
            Self::Json => {
                let mark: HashMap<String, String> = [(Self::JSON_KEY.into(), "true".into())].into();
                field.with_metadata(mark)
            }
            _ => field,
        }
    }

    /// Whether it is a number.
    pub fn is_numeric(self) -> bool {
        matches!(self, Self::Integer | Self::Bigint | Self::Double | Self::Decimal { .. })
    }

    /// Whether it is a whole number.
    pub fn is_whole(self) -> bool {
        matches!(self, Self::Integer | Self::Bigint)
    }

    /// The decimal that holds every value of a whole type or decimal.
    pub fn as_decimal(self) -> Option<(u8, u8)> {
        match self {
            Self::Integer => Some((10, 0)),
            Self::Bigint => Some((19, 0)),
            Self::Decimal { precision, scale } => Some((precision, scale)),
            _ => None,
        }
    }

    /// The type in which values of both can stand side by side without loss, if there is one.
    pub fn common(self, other: Self) -> Option<Self> {
        use SqlType::{Bigint, Decimal, Double, Integer, Null};
        match (self, other) {
            (a, b) if a == b => Some(a),
            (Null, t) | (t, Null) => Some(t),
            (Integer, Bigint) | (Bigint, Integer) => Some(Bigint),
            (a, Double) | (Double, a) if a.is_numeric() => Some(Double),
            (a, b) => {
                let ((p1, s1), (p2, s2)) = (a.as_decimal()?, b.as_decimal()?);
                let scale = s1.max(s2);
                let precision = (p1 - s1).max(p2 - s2) + scale;
                Some(Decimal { precision: precision.min(MAX_PRECISION), scale })
            }
        }
    }

    /// Whether every value of `self` has an equal one in `to`.
    pub fn fits_into(self, to: Self) -> bool {
        match (self, to) {
            (a, b) if a == b => true,
            (Self::Null, _) | (Self::Integer, Self::Bigint | Self::Double) => true,
            (_, Self::Text) => true,
            (a, Self::Decimal { precision, scale }) => {
                a.as_decimal().is_some_and(|(p, s)| p - s <= precision - scale && s <= scale)
            }
            (Self::Decimal { precision, scale: 0 }, Self::Integer) => precision <= 9,
            (Self::Decimal { precision, scale: 0 }, Self::Bigint) => precision <= 18,
            (Self::Date, Self::Timestamptz) => true,
            _ => false,
        }
    }
}

impl fmt::Display for SqlType {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Text => f.write_str("text"),
            Self::Boolean => f.write_str("boolean"),
            Self::Integer => f.write_str("integer"),
            Self::Bigint => f.write_str("bigint"),
            Self::Double => f.write_str("double precision"),
            Self::Decimal { precision, scale } => write!(f, "decimal({precision},{scale})"),
            Self::Date => f.write_str("date"),
            Self::Timestamptz => f.write_str("timestamptz"),
            Self::Json => f.write_str("json"),
            Self::Timestamp => f.write_str("timestamp"),
            Self::Interval => f.write_str("interval"),
            Self::Null => f.write_str("null"),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::SqlType::{self, *};
    use rstest::rstest;

    const D62: SqlType = Decimal { precision: 6, scale: 2 };

    #[rstest]
    #[case(Integer, Bigint, Some(Bigint))]
    #[case(Integer, D62, Some(Decimal { precision: 12, scale: 2 }))]
    #[case(D62, Double, Some(Double))]
    #[case(Null, Text, Some(Text))]
    #[case(Text, Integer, None)]
    #[case(Date, Timestamptz, None)]
    fn common_types(#[case] a: SqlType, #[case] b: SqlType, #[case] expected: Option<SqlType>) {
        assert_eq!(a.common(b), expected);
        assert_eq!(b.common(a), expected);
    }

    #[rstest]
    #[case(Integer, Bigint, true)]
    #[case(Bigint, Integer, false)]
    #[case(Bigint, Double, false)]
    #[case(Integer, D62, false)]
    #[case(D62, Decimal { precision: 8, scale: 3 }, true)]
    #[case(D62, Decimal { precision: 6, scale: 3 }, false)]
    #[case(Decimal { precision: 9, scale: 0 }, Integer, true)]
    fn lossless_casts(#[case] from: SqlType, #[case] to: SqlType, #[case] fits: bool) {
        assert_eq!(from.fits_into(to), fits);
    }
}
