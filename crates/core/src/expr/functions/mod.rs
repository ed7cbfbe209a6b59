//! The functions of expressions: one table of names, signatures, help and implementations.
//!
//! Checks, suggestions and the reference all read [`FUNCTIONS`].

mod hash;
mod number;
mod text;
mod time;

use super::column::Column;
use crate::types::SqlType;
pub(super) use text::join;

/// What a parameter takes.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Parameter {
    /// Text; other types are cast to it.
    Text,
    /// Any number.
    Number,
    /// A whole number.
    Whole,
    /// A timestamp or date.
    Time,
    /// A constant text, one of some words.
    Word(&'static [&'static str]),
    /// Any type.
    Any,
}

/// A function of the table.
#[derive(Debug)]
pub struct Function {
    /// Its name, in lower case.
    pub name: &'static str,
    /// Its parameters and result, as shown to people.
    pub signature: &'static str,
    /// One line on what it gives.
    pub about: &'static str,
    /// A call.
    pub example: &'static str,
    /// What that call gives, as text.
    pub gives: &'static str,
    /// What becomes of nulls.
    pub nulls: &'static str,
    /// The parameters that must be given.
    pub parameters: &'static [Parameter],
    /// Parameters that may follow.
    pub optional: &'static [Parameter],
    /// Whether the last parameter may be repeated.
    pub repeats: bool,
    /// The type of the result for arguments of these types.
    pub result: fn(&[SqlType]) -> SqlType,
    /// Whether the result can be null where no argument can.
    pub nullable: bool,
    /// Computes the result. Constants come as columns that are scalar.
    pub compute: fn(&[Column], usize) -> Column,
}

const NULL_IF_ANY: &str = "null if an argument is null";

/// All functions, by name. `coalesce`, `nullif`, `case`, casts and operators are syntax, not functions.
pub static FUNCTIONS: &[Function] = &[
    Function {
        name: "abs",
        signature: "abs(number) → the same type",
        about: "The number without its sign.",
        example: "abs(-12)",
        gives: "12",
        nulls: NULL_IF_ANY,
        parameters: &[Parameter::Number],
        optional: &[],
        repeats: false,
        result: |types| types[0],
        nullable: false,
        compute: number::abs,
    },
    Function {
        name: "concat",
        signature: "concat(any, …) → text",
        about: "All arguments as text, one after the other.",
        example: "concat('TN-', 7)",
        gives: "TN-7",
        nulls: "nulls are passed over; a || b is null if either is null",
        parameters: &[Parameter::Text],
        optional: &[],
        repeats: true,
        result: |_| SqlType::Text,
        nullable: false,
        compute: text::concat,
    },
    Function {
        name: "date_trunc",
        signature: "date_trunc(unit, timestamptz) → timestamptz",
        about: "The start of the unit in UTC: second, minute, hour, day, week, month, quarter, year.",
        example: "date_trunc('hour', timestamptz '2026-04-01T08:15:30Z')",
        gives: "2026-04-01T08:00:00Z",
        nulls: NULL_IF_ANY,
        parameters: &[Parameter::Word(crate::values::time::UNITS), Parameter::Time],
        optional: &[],
        repeats: false,
        result: |_| SqlType::Timestamptz,
        nullable: false,
        compute: time::date_trunc,
    },
    Function {
        name: "length",
        signature: "length(text) → integer",
        about: "The number of characters.",
        example: "length('閘門')",
        gives: "2",
        nulls: NULL_IF_ANY,
        parameters: &[Parameter::Text],
        optional: &[],
        repeats: false,
        result: |_| SqlType::Integer,
        nullable: false,
        compute: text::length,
    },
    Function {
        name: "lower",
        signature: "lower(text) → text",
        about: "The text in lower case, by Unicode's rules.",
        example: "lower('ÖST')",
        gives: "öst",
        nulls: NULL_IF_ANY,
        parameters: &[Parameter::Text],
        optional: &[],
        repeats: false,
        result: |_| SqlType::Text,
        nullable: false,
        compute: text::lower,
    },
    Function {
        name: "replace",
        signature: "replace(text, from, to) → text",
        about: "The text with every `from` replaced by `to`.",
        example: "replace('L-07', '-', '_')",
        gives: "L_07",
        nulls: NULL_IF_ANY,
        parameters: &[Parameter::Text, Parameter::Text, Parameter::Text],
        optional: &[],
        repeats: false,
        result: |_| SqlType::Text,
        nullable: false,
        compute: text::replace,
    },
    Function {
        name: "round",
        signature: "round(number [, digits]) → the same kind of number",
        about: "The nearest number with so many digits after the point, 0 by default; halves go away from zero.",
        example: "round(12.345, 2)",
        gives: "12.350",
        nulls: NULL_IF_ANY,
        parameters: &[Parameter::Number],
        optional: &[Parameter::Whole],
        repeats: false,
        result: number::round_type,
        nullable: false,
        compute: number::round,
    },
    Function {
        name: "sha256",
        signature: "sha256(text) → text",
        about: "The SHA-256 digest of the text's bytes, as 64 hexadecimal digits.",
        example: "sha256('Ada')",
        gives: "99a563ab2f6e21e96998f9fddd2a2bab82b70ac019579502b8d7fc0032ff62bb",
        nulls: NULL_IF_ANY,
        parameters: &[Parameter::Text],
        optional: &[],
        repeats: false,
        result: |_| SqlType::Text,
        nullable: false,
        compute: hash::sha256,
    },
    Function {
        name: "substring",
        signature: "substring(text from start [for count]) → text",
        about: "Characters from the place `start`, counted from 1. Also written substring(text, start, count).",
        example: "substring('TN-0042' from 4 for 2)",
        gives: "00",
        nulls: NULL_IF_ANY,
        parameters: &[Parameter::Text, Parameter::Whole],
        optional: &[Parameter::Whole],
        repeats: false,
        result: |_| SqlType::Text,
        nullable: false,
        compute: text::substring,
    },
    Function {
        name: "trim",
        signature: "trim(text) → text",
        about: "The text without white space at both ends.",
        example: "trim('  ore ')",
        gives: "ore",
        nulls: NULL_IF_ANY,
        parameters: &[Parameter::Text],
        optional: &[],
        repeats: false,
        result: |_| SqlType::Text,
        nullable: false,
        compute: text::trim,
    },
    Function {
        name: "upper",
        signature: "upper(text) → text",
        about: "The text in upper case, by Unicode's rules.",
        example: "upper('öst')",
        gives: "ÖST",
        nulls: NULL_IF_ANY,
        parameters: &[Parameter::Text],
        optional: &[],
        repeats: false,
        result: |_| SqlType::Text,
        nullable: false,
        compute: text::upper,
    },
];

/// Names that are syntax but are called like functions, for suggestions.
pub const CALL_SYNTAX: &[&str] = &["coalesce", "nullif", "cast", "try_cast", "now"];

/// The function of a name.
pub fn find(name: &str) -> Option<&'static Function> {
    FUNCTIONS.iter().find(|f| f.name.eq_ignore_ascii_case(name))
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::expr::tests::constant;

    #[test]
    fn the_table_is_sorted_and_complete() {
        assert!(FUNCTIONS.is_sorted_by_key(|f| f.name));
        for function in FUNCTIONS {
            assert!(function.signature.starts_with(function.name), "{}", function.name);
            assert!(function.example.contains(function.name));
        }
    }

    #[test]
    fn every_example_gives_what_it_says() {
        for function in FUNCTIONS {
            assert_eq!(constant(function.example), function.gives, "{}", function.example);
        }
    }
}
