//! Patterns: `like`, `similar to` and regular expressions. Regular expressions are those of the crate `regex`, which takes
//! time in proportion to the text; what PostgreSQL spells in another way is translated.

mod like;
mod regex;
mod similar;
mod translate;

use super::{Arguments, Function, Parameter, Prepared};
use crate::expr::column::map_boolean;
use crate::limit::Limit;
use crate::types::SqlType;
pub(crate) use like::LikePattern;
pub(crate) use regex::{Pattern, reason as regex_fault};

const TWO: &[Parameter] = &[Parameter::Text, Parameter::Text];
const PATTERN: &[Parameter] = &[Parameter::Text, Parameter::Constant];

/// The operator `like`. A third argument is the character that takes the meaning of the next one away.
pub(in crate::expr) static LIKE: Function = Function {
    name: "like",
    signature: "text like pattern",
    example: "'TN-42' like 'TN-%'",
    gives: "true",
    parameters: TWO,
    optional: &[Parameter::Text],
    result: |_| SqlType::Boolean,
    prepare: Some(|arguments| like::prepare(arguments, false)),
    compute: |a| like::like(a, false),
    ..Function::PLAIN
};

/// The operator `ilike`.
pub(in crate::expr) static ILIKE: Function = Function {
    name: "ilike",
    signature: "text ilike pattern",
    example: "'TN-42' ilike 'tn-%'",
    prepare: Some(|arguments| like::prepare(arguments, true)),
    compute: |a| like::like(a, true),
    gives: "true",
    parameters: TWO,
    optional: &[Parameter::Text],
    result: |_| SqlType::Boolean,
    ..Function::PLAIN
};

/// The operator `similar to`.
pub(in crate::expr) static SIMILAR: Function = Function {
    name: "similar to",
    signature: "text similar to pattern",
    parameters: PATTERN,
    optional: &[Parameter::Constant],
    result: |_| SqlType::Boolean,
    prepare: Some(similar::prepare),
    compute: |a| map_boolean(&[&a.columns[0]], a.rows, |row| Ok(regex::of(a).matches(a.text(0, row)))),
    ..Function::PLAIN
};

/// The operator `~`.
pub(in crate::expr) static MATCHES: Function = Function {
    name: "~",
    signature: "text ~ pattern",
    parameters: PATTERN,
    result: |_| SqlType::Boolean,
    prepare: Some(|arguments| regex::prepare(arguments, 1, None, "")),
    compute: |a| map_boolean(&[&a.columns[0]], a.rows, |row| Ok(regex::of(a).matches(a.text(0, row)))),
    ..Function::PLAIN
};

/// The operator `~*`.
pub(in crate::expr) static MATCHES_ANY_CASE: Function = Function {
    name: "~*",
    signature: "text ~* pattern",
    parameters: PATTERN,
    result: |_| SqlType::Boolean,
    prepare: Some(|arguments| regex::prepare(arguments, 1, None, "i")),
    compute: |a| map_boolean(&[&a.columns[0]], a.rows, |row| Ok(regex::of(a).matches(a.text(0, row)))),
    ..Function::PLAIN
};

/// Functions of regular expressions.
pub(super) const FUNCTIONS: &[Function] = &[
    Function {
        name: "regexp_count",
        signature: "regexp_count(text, pattern [, start [, flags]]) → integer",
        about: "How often the pattern is found, from the character `start` on.",
        example: "regexp_count('a1b22c333', '[0-9]+')",
        gives: "3",
        parameters: PATTERN,
        optional: &[Parameter::Whole, Parameter::Constant],
        result: |_| SqlType::Integer,
        prepare: Some(|arguments| regex::prepare(arguments, 1, Some(3), "")),
        compute: regex::count,
        ..Function::PLAIN
    },
    Function {
        name: "regexp_instr",
        signature: "regexp_instr(text, pattern [, start [, n [, end [, flags [, group]]]]]) → integer",
        about: "The place of the n-th find, or the place after it where `end` is 1; 0 where there is none.",
        example: "regexp_instr('lock 07', '[0-9]+')",
        gives: "6",
        parameters: PATTERN,
        optional: &[Parameter::Whole, Parameter::Whole, Parameter::Whole, Parameter::Constant, Parameter::Whole],
        result: |_| SqlType::Integer,
        prepare: Some(|arguments| regex::prepare(arguments, 1, Some(5), "")),
        compute: regex::place,
        ..Function::PLAIN
    },
    Function {
        name: "regexp_like",
        signature: "regexp_like(text, pattern [, flags]) → boolean",
        about: "Whether the pattern is found in the text, as text ~ pattern. Flags: i ignores case, x ignores blanks in the \
                pattern, n lets ^ and $ match at line ends and . not match them, q takes the pattern as plain text.",
        example: "regexp_like('TN-0042', '^tn-[0-9]+$', 'i')",
        gives: "true",
        parameters: PATTERN,
        optional: &[Parameter::Constant],
        result: |_| SqlType::Boolean,
        prepare: Some(|arguments| regex::prepare(arguments, 1, Some(2), "")),
        compute: |a| map_boolean(&a.all(), a.rows, |row| Ok(regex::of(a).matches(a.text(0, row)))),
        ..Function::PLAIN
    },
    Function {
        name: "regexp_match",
        signature: "regexp_match(text, pattern [, flags]) → text[]",
        about: "The groups of the first find as a list, or the whole find where the pattern has no groups. Groups that took no part \
                are null.",
        example: "regexp_match('TN-0042/7', '([A-Z]+)-([0-9]+)')::text",
        gives: "[\"TN\",\"0042\"]",
        nulls: "null if an argument is null, or where nothing is found",
        parameters: PATTERN,
        optional: &[Parameter::Constant],
        result: |_| SqlType::Json,
        limit: |_| Some(Limit::List(SqlType::Text)),
        nullable: true,
        prepare: Some(regex::prepare_for_one),
        compute: regex::groups,
        ..Function::PLAIN
    },
    Function {
        name: "regexp_replace",
        signature: "regexp_replace(text, pattern, to [, flags]) → text",
        about: "The first find replaced, or each one with the flag g. In `to`, \\1 is the first group, \\& the whole find, and \\\\ a \
                backslash.",
        example: "regexp_replace('2026-07-01', '([0-9]+)-([0-9]+)-([0-9]+)', '\\3.\\2.\\1')",
        gives: "01.07.2026",
        parameters: &[Parameter::Text, Parameter::Constant, Parameter::Text],
        optional: &[Parameter::Constant],
        prepare: Some(|arguments| regex::prepare(arguments, 1, Some(3), "")),
        compute: regex::replace,
        ..Function::PLAIN
    },
    Function {
        name: "regexp_substr",
        signature: "regexp_substr(text, pattern [, start [, n [, flags [, group]]]]) → text",
        about: "The n-th find, or a group of it: a number, or the name of a group that is written (?P<name>…).",
        example: "regexp_substr('GET /locks/low 200', '(?P<method>[A-Z]+) (?P<path>[^ ]+)', 1, 1, '', 'path')",
        gives: "/locks/low",
        nulls: "null if an argument is null, or where nothing is found",
        parameters: PATTERN,
        optional: &[Parameter::Whole, Parameter::Whole, Parameter::Constant, Parameter::Constant],
        nullable: true,
        prepare: Some(regex::prepare_with_group),
        compute: regex::found,
        ..Function::PLAIN
    },
];
