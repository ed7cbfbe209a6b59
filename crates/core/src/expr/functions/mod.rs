//! The functions of expressions: tables of names, signatures, help and implementations.
//!
//! Checks, suggestions and the reference all read [`GROUPS`]. A group is a folder with its table and what the table names.

mod bytes;
mod hash;
mod json;
mod list;
mod number;
mod pattern;
mod text;
mod time;

use std::sync::Arc;

use super::Expr;
use super::column::Column;
use crate::limit::Limit;
use crate::types::SqlType;
pub(super) use json::{AT, AT_PATH, AT_PATH_TEXT, AT_TEXT, TO_JSON_TEXT};
pub(crate) use json::{json_length, json_members, json_type};
pub(super) use list::{ITEM, LIST_OF, QUANTIFIED};
pub(super) use number::TO_CHAR as NUMBER_TO_CHAR;
pub(super) use number::{BIT_AND, BIT_NOT, BIT_OR, BIT_XOR, GREATEST, LEAST, SHIFT_LEFT, SHIFT_RIGHT};
pub(crate) use pattern::regex_fault;
pub(super) use pattern::{ILIKE, LIKE, MATCHES, MATCHES_ANY_CASE, SIMILAR};
pub(super) use text::{JOIN, OVERLAY};
pub(super) use time::{ADD_DAYS, ADD_INTERVAL, BETWEEN_DAYS, BETWEEN_MOMENTS, LOCAL_TIME, MOMENT_OF, SCALE_INTERVAL};
pub(super) use time::{CLOCK_OF, MOVE_CLOCK};
pub(super) use time::{FIELDS_OF_CALENDAR, FIELDS_OF_TIME};

/// What a parameter takes.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Parameter {
    /// Text; other types are cast to it.
    Text,
    /// A constant text.
    Constant,
    /// A text, or a number as double precision.
    TextOrNumber,
    /// A name or a place: a text or a whole number.
    KeyOrPlace,
    /// Any number.
    Number,
    /// Any number, as double precision.
    Double,
    /// A whole number.
    Whole,
    /// A moment, with or without a zone; a date is the moment at which it begins in UTC.
    Moment,
    /// A date, a timestamp with or without a zone, or an interval.
    Temporal,
    /// A length of time.
    Interval,
    /// Bytes.
    Bytes,
    /// A time of day.
    Clock,
    /// A list.
    List,
    /// A value of the type of the list's items; the list is the first argument.
    Item,
    /// A JSON value.
    Json,
    /// Any value, as JSON.
    AsJson,
    /// The name of a secret, as a constant text.
    Secret,
    /// A constant text, one of some words.
    Word(&'static [&'static str]),
}

/// What a function made of its constant arguments when the call was bound.
#[derive(Clone, Debug, Default)]
pub(crate) enum Prepared {
    /// Nothing.
    #[default]
    Nothing,
    /// A pattern of `like`.
    Like(Arc<pattern::LikePattern>),
    /// A regular expression.
    Pattern(Arc<pattern::Pattern>),
    /// A way into JSON.
    Path(Arc<json::Path>),
    /// A time zone.
    Zone(chrono_tz::Tz),
    /// How a number is written.
    Number(Arc<number::NumberLayout>),
    /// How a moment is written.
    Moment(Arc<time::Layout>),
    /// How values are compared with the items of a list, and whether all are to meet it.
    Quantified(super::CompareOp, bool),
    /// A secret.
    Secret(Arc<super::secrets::ExpressionSecret>),
}

/// The arguments of one call.
pub(crate) struct Arguments<'a> {
    /// Their values; constants come as columns that are scalar.
    pub(super) columns: &'a [Column],
    /// Rows of the chunk.
    pub(super) rows: usize,
    /// What was made of the constants among them.
    pub(super) prepared: &'a Prepared,
}

impl<'a> Arguments<'a> {
    /// All columns, for what asks for their nulls and errors together.
    fn all(&self) -> Vec<&'a Column> {
        self.columns.iter().collect()
    }

    /// The text of an argument in a row.
    fn text(&self, argument: usize, row: usize) -> &'a str {
        self.columns[argument].text_at(row)
    }

    /// From which place on, and up to which, `substring` takes a part; places are counted from 1.
    fn span(&self, row: usize) -> Result<(i64, i64), String> {
        let start = self.whole(1, row);
        match self.columns.get(2).map(|_| self.whole(2, row)) {
            Some(count) if count < 0 => Err("substring: a count cannot be negative".into()),
            Some(count) => Ok((start, start.saturating_add(count))),
            None => Ok((start, i64::MAX)),
        }
    }

    /// The whole number of an argument in a row.
    fn whole(&self, argument: usize, row: usize) -> i64 {
        self.columns[argument].whole_at(row)
    }
}

/// Makes something of the constants among bound arguments.
type Prepare = fn(&[Expr]) -> Result<Prepared, String>;

/// A function of a table.
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
    /// Whether a null among the arguments does not make the result null.
    pub skips_nulls: bool,
    /// The type of the result for these arguments.
    pub result: fn(&[Expr]) -> SqlType,
    /// What narrows the result for these arguments.
    pub limit: fn(&[Expr]) -> Option<Limit>,
    /// Whether the result can be null where no argument can.
    pub nullable: bool,
    /// What is made of the constant arguments, once. The text of an error says what is wrong with them.
    pub(crate) prepare: Option<Prepare>,
    /// Computes the result.
    pub(crate) compute: fn(&Arguments<'_>) -> Column,
}

const NULL_IF_ANY: &str = "null if an argument is null";

impl Function {
    /// What most functions have: one text goes in, a text comes out. A table names what differs.
    const PLAIN: Self = Self {
        name: "",
        signature: "",
        about: "",
        example: "",
        gives: "",
        nulls: NULL_IF_ANY,
        parameters: &[Parameter::Text],
        optional: &[],
        repeats: false,
        skips_nulls: false,
        result: |_| SqlType::Text,
        limit: |_| None,
        nullable: false,
        prepare: None,
        compute: |arguments| arguments.columns[0].clone(),
    };
}

/// All functions, by group. `coalesce`, `nullif`, `case`, casts and operators are syntax, not functions.
pub static GROUPS: &[(&str, &[Function])] = &[
    ("text", text::FUNCTIONS),
    ("patterns", pattern::FUNCTIONS),
    ("numbers", number::FUNCTIONS),
    ("dates and times", time::FUNCTIONS),
    ("JSON", json::FUNCTIONS),
    ("lists", list::FUNCTIONS),
    ("bytes", bytes::FUNCTIONS),
    ("digests", hash::FUNCTIONS),
];

/// What a function of texts does with bytes, where it takes them.
pub(super) fn of_bytes(name: &str) -> Option<&'static Function> {
    bytes::OF_BYTES.iter().find(|f| f.name == name)
}

/// All functions.
pub fn functions() -> impl Iterator<Item = &'static Function> {
    GROUPS.iter().flat_map(|(_, functions)| functions.iter())
}

/// Names that are syntax but are called like functions, for suggestions.
pub const CALL_SYNTAX: &[&str] = &[
    "coalesce",
    "nullif",
    "greatest",
    "least",
    "cast",
    "try_cast",
    "now",
    "current_date",
    "current_timestamp",
    "extract",
    "position",
    "overlay",
    "mod",
];

/// Other names of functions, as databases spell them.
const ALIASES: &[(&str, &str)] = &[
    ("character_length", "char_length"),
    ("ceiling", "ceil"),
    ("pow", "power"),
    ("jsonb_typeof", "json_typeof"),
    ("jsonb_array_length", "json_array_length"),
    ("jsonb_build_object", "json_build_object"),
    ("jsonb_build_array", "json_build_array"),
    ("jsonb_extract_path", "json_extract_path"),
    ("jsonb_extract_path_text", "json_extract_path_text"),
    ("jsonb_path_exists", "json_path_exists"),
    ("jsonb_path_query_first", "json_path_query_first"),
    ("jsonb_path_query_array", "json_path_query_array"),
    ("to_jsonb", "to_json"),
];

/// The function of a name.
pub fn find(name: &str) -> Option<&'static Function> {
    let name = ALIASES.iter().find(|(alias, _)| alias.eq_ignore_ascii_case(name)).map_or(name, |(_, name)| name);
    functions().find(|f| f.name.eq_ignore_ascii_case(name))
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::expr::tests::constant;

    #[test]
    fn the_tables_are_sorted_and_complete() {
        for (group, functions) in GROUPS {
            assert!(functions.is_sorted_by_key(|f| f.name), "{group}");
            for function in *functions {
                assert!(function.signature.starts_with(function.name), "{}", function.name);
                assert!(function.example.contains(function.name));
                assert!(!function.about.is_empty());
            }
        }
        let mut names: Vec<&str> = functions().map(|f| f.name).chain(CALL_SYNTAX.iter().copied()).collect();
        names.sort_unstable();
        assert!(names.windows(2).all(|pair| pair[0] != pair[1]), "{names:?}");
        assert!(ALIASES.iter().all(|(alias, name)| find(name).is_some() && !names.contains(alias)));
    }

    #[test]
    fn every_example_gives_what_it_says() {
        for function in functions() {
            assert_eq!(constant(function.example), function.gives, "{}", function.example);
        }
    }
}
