//! Functions of text. Places and counts are characters, from 1.

mod case;
mod cut;
mod fill;
mod format;
mod parts;

use std::sync::Arc;

use arrow_array::types::Int32Type;

use super::{Arguments, Function, Parameter};
use crate::expr::column::{Column, map_boolean, map_primitive, map_text, text_array};
use crate::types::SqlType;

const TEXT_2: &[Parameter] = &[Parameter::Text, Parameter::Text];
const TEXT_3: &[Parameter] = &[Parameter::Text, Parameter::Text, Parameter::Text];
const TEXT_WHOLE: &[Parameter] = &[Parameter::Text, Parameter::Whole];

/// The operator `||`, evaluated like a function.
pub(in crate::expr) static JOIN: Function = Function {
    name: "||",
    signature: "text || text → text",
    about: "Two texts, one after the other.",
    example: "'a' || 'b'",
    gives: "ab",
    nulls: "null if either is null",
    parameters: TEXT_2,
    compute: join,
    ..Function::PLAIN
};

/// `overlay(text placing new from start [for count])`.
pub(in crate::expr) static OVERLAY: Function = Function {
    name: "overlay",
    signature: "overlay(text placing new from start [for count])",
    parameters: &[Parameter::Text, Parameter::Text, Parameter::Whole],
    optional: &[Parameter::Whole],
    compute: cut::overlay,
    ..Function::PLAIN
};

/// Functions of text.
pub(super) const FUNCTIONS: &[Function] = &[
    Function {
        name: "ascii",
        signature: "ascii(text) → integer",
        about: "The number of the first character in Unicode; 0 of an empty text.",
        example: "ascii('A')",
        gives: "65",
        result: |_| SqlType::Integer,
        compute: ascii,
        ..Function::PLAIN
    },
    Function {
        name: "btrim",
        signature: "btrim(text [, characters]) → text",
        about: "The text without such characters at both ends, spaces by default.",
        example: "btrim('--TN-42--', '-')",
        gives: "TN-42",
        optional: &[Parameter::Text],
        compute: |a| cut::trim(a, true, true),
        ..Function::PLAIN
    },
    Function {
        name: "char_length",
        signature: "char_length(text) → integer",
        about: "The number of characters, as length.",
        example: "char_length('閘門')",
        gives: "2",
        result: |_| SqlType::Integer,
        compute: length,
        ..Function::PLAIN
    },
    Function {
        name: "chr",
        signature: "chr(number) → text",
        about: "The character of this number in Unicode.",
        example: "chr(64)",
        gives: "@",
        parameters: &[Parameter::Whole],
        compute: chr,
        ..Function::PLAIN
    },
    Function {
        name: "concat",
        signature: "concat(any, …) → text",
        about: "All arguments as text, one after the other.",
        example: "concat('TN-', 7)",
        gives: "TN-7",
        nulls: "nulls are passed over; a || b is null if either is null",
        repeats: true,
        skips_nulls: true,
        compute: concat,
        ..Function::PLAIN
    },
    Function {
        name: "concat_ws",
        signature: "concat_ws(separator, any, …) → text",
        about: "The arguments after the first as text, with the separator between them.",
        example: "concat_ws('/', 'low', null, 7)",
        gives: "low/7",
        nulls: "nulls are passed over; null if the separator is null",
        parameters: TEXT_2,
        repeats: true,
        skips_nulls: true,
        nullable: true,
        compute: parts::concat_ws,
        ..Function::PLAIN
    },
    Function {
        name: "format",
        signature: "format(pattern, any, …) → text",
        about: "The pattern with %s replaced by the arguments in turn, %I by a quoted name, %L by a quoted constant; %2$s \
                is the second one, %-10s and %10s fill with spaces, %% is a percent sign.",
        example: "format('%s at %s', 'TN-42', 'Low Lock')",
        gives: "TN-42 at Low Lock",
        nulls: "null if the pattern is null; a null argument is an empty text, or NULL for %L",
        optional: &[Parameter::Text],
        repeats: true,
        skips_nulls: true,
        nullable: true,
        compute: format::format,
        ..Function::PLAIN
    },
    Function {
        name: "initcap",
        signature: "initcap(text) → text",
        about: "Each word with a capital first letter and small letters after it.",
        example: "initcap('LOW lock-2b')",
        gives: "Low Lock-2b",
        compute: case::initcap,
        ..Function::PLAIN
    },
    Function {
        name: "left",
        signature: "left(text, count) → text",
        about: "The first characters; all but the last ones where the count is negative.",
        example: "left('TN-0042', 2)",
        gives: "TN",
        parameters: TEXT_WHOLE,
        compute: |a| cut::side(a, true),
        ..Function::PLAIN
    },
    Function {
        name: "length",
        signature: "length(text) → integer",
        about: "The number of characters.",
        example: "length('閘門')",
        gives: "2",
        result: |_| SqlType::Integer,
        compute: length,
        ..Function::PLAIN
    },
    Function {
        name: "lower",
        signature: "lower(text) → text",
        about: "The text in lower case, by Unicode's rules.",
        example: "lower('ÖST')",
        gives: "öst",
        compute: case::lower,
        ..Function::PLAIN
    },
    Function {
        name: "lpad",
        signature: "lpad(text, length [, fill]) → text",
        about: "The text filled at its start to so many characters, with spaces by default; a longer one is cut at its end.",
        example: "lpad('42', 5, '0')",
        gives: "00042",
        parameters: TEXT_WHOLE,
        optional: &[Parameter::Text],
        compute: |a| fill::pad(a, true),
        ..Function::PLAIN
    },
    Function {
        name: "ltrim",
        signature: "ltrim(text [, characters]) → text",
        about: "The text without such characters at its start, spaces by default.",
        example: "ltrim('00042', '0')",
        gives: "42",
        optional: &[Parameter::Text],
        compute: |a| cut::trim(a, true, false),
        ..Function::PLAIN
    },
    Function {
        name: "mask",
        signature: "mask(text, kept [, sign]) → text",
        about: "The text with every character but the last so many replaced by a sign, * by default.",
        example: "mask('TN-0042', 2)",
        gives: "*****42",
        parameters: TEXT_WHOLE,
        optional: &[Parameter::Text],
        compute: fill::mask,
        ..Function::PLAIN
    },
    Function {
        name: "octet_length",
        signature: "octet_length(text) → integer",
        about: "The number of bytes in UTF-8.",
        example: "octet_length('閘門')",
        gives: "6",
        result: |_| SqlType::Integer,
        compute: octet_length,
        ..Function::PLAIN
    },
    Function {
        name: "repeat",
        signature: "repeat(text, count) → text",
        about: "The text so many times, up to 16 MiB.",
        example: "repeat('ab', 3)",
        gives: "ababab",
        parameters: TEXT_WHOLE,
        compute: fill::repeat,
        ..Function::PLAIN
    },
    Function {
        name: "replace",
        signature: "replace(text, from, to) → text",
        about: "The text with every `from` replaced by `to`.",
        example: "replace('L-07', '-', '_')",
        gives: "L_07",
        parameters: TEXT_3,
        compute: parts::replace,
        ..Function::PLAIN
    },
    Function {
        name: "reverse",
        signature: "reverse(text) → text",
        about: "The characters from the last to the first.",
        example: "reverse('abc')",
        gives: "cba",
        compute: case::reverse,
        ..Function::PLAIN
    },
    Function {
        name: "right",
        signature: "right(text, count) → text",
        about: "The last characters; all but the first ones where the count is negative.",
        example: "right('TN-0042', 4)",
        gives: "0042",
        parameters: TEXT_WHOLE,
        compute: |a| cut::side(a, false),
        ..Function::PLAIN
    },
    Function {
        name: "rpad",
        signature: "rpad(text, length [, fill]) → text",
        about: "The text filled at its end to so many characters, with spaces by default; a longer one is cut.",
        example: "rpad('ore', 5, '.')",
        gives: "ore..",
        parameters: TEXT_WHOLE,
        optional: &[Parameter::Text],
        compute: |a| fill::pad(a, false),
        ..Function::PLAIN
    },
    Function {
        name: "rtrim",
        signature: "rtrim(text [, characters]) → text",
        about: "The text without such characters at its end, spaces by default.",
        example: "rtrim('12.500', '0')",
        gives: "12.5",
        optional: &[Parameter::Text],
        compute: |a| cut::trim(a, false, true),
        ..Function::PLAIN
    },
    Function {
        name: "split_part",
        signature: "split_part(text, separator, n) → text",
        about: "The part before, between or after separators, counted from 1, or from the end where n is negative; empty \
                where there is none.",
        example: "split_part('low/2026/07', '/', 2)",
        gives: "2026",
        parameters: &[Parameter::Text, Parameter::Text, Parameter::Whole],
        compute: parts::split_part,
        ..Function::PLAIN
    },
    Function {
        name: "starts_with",
        signature: "starts_with(text, beginning) → boolean",
        about: "Whether the text begins so.",
        example: "starts_with('TN-0042', 'TN-')",
        gives: "true",
        parameters: TEXT_2,
        result: |_| SqlType::Boolean,
        compute: |a| map_boolean(&a.all(), a.rows, |row| Ok(a.text(0, row).starts_with(a.text(1, row)))),
        ..Function::PLAIN
    },
    Function {
        name: "strpos",
        signature: "strpos(text, part) → integer",
        about: "The place of the part, 0 where it is not in the text. Also written position(part in text).",
        example: "strpos('low lock', 'lock')",
        gives: "5",
        parameters: TEXT_2,
        result: |_| SqlType::Integer,
        compute: parts::strpos,
        ..Function::PLAIN
    },
    Function {
        name: "substring",
        signature: "substring(text from start [for count]) → text",
        about: "Characters from the place `start` on. Also written substring(text, start, count).",
        example: "substring('TN-0042' from 4 for 2)",
        gives: "00",
        parameters: TEXT_WHOLE,
        optional: &[Parameter::Whole],
        compute: cut::substring,
        ..Function::PLAIN
    },
    Function {
        name: "translate",
        signature: "translate(text, from, to) → text",
        about: "Each character of `from` replaced by the one at the same place of `to`, or left out where `to` is shorter.",
        example: "translate('1.234,50', '.,', ' .')",
        gives: "1 234.50",
        parameters: TEXT_3,
        compute: parts::translate,
        ..Function::PLAIN
    },
    Function {
        name: "trim",
        signature: "trim([both | leading | trailing] [characters from] text) → text",
        about: "The text without white space at both ends; or without the characters that are given, at the ends that are \
                given.",
        example: "trim('  ore ')",
        gives: "ore",
        compute: cut::trim_blanks,
        ..Function::PLAIN
    },
    Function {
        name: "upper",
        signature: "upper(text) → text",
        about: "The text in upper case, by Unicode's rules.",
        example: "upper('öst')",
        gives: "ÖST",
        compute: case::upper,
        ..Function::PLAIN
    },
];

/// All arguments one after the other, nulls passed over.
fn concat(a: &Arguments<'_>) -> Column {
    // Which of them are null is looked at for each: no argument makes the whole null.
    let presence: Vec<Column> = a.columns.iter().map(|c| Column { errors: c.errors.clone(), ..filled(c) }).collect();
    let all: Vec<&Column> = presence.iter().collect();
    map_text(&all, a.rows, |row, out| {
        for column in a.columns.iter().filter(|c| !c.is_null(row)) {
            out.extend_from_slice(column.text_at(row).as_bytes());
        }
        Ok(())
    })
}

/// A text column in whose place nulls are empty texts.
fn filled(column: &Column) -> Column {
    let (offsets, bytes, _) = column.text().clone().into_parts();
    Column { array: Arc::new(arrow_array::StringArray::new(offsets, bytes, None)), ..column.clone() }
}

/// Two texts one after the other, null if either is.
fn join(a: &Arguments<'_>) -> Column {
    map_text(&a.all(), a.rows, |row, out| {
        out.extend_from_slice(a.text(0, row).as_bytes());
        out.extend_from_slice(a.text(1, row).as_bytes());
        Ok(())
    })
}

/// A number for each text.
fn counted(a: &Arguments<'_>, count: impl Fn(&str) -> usize) -> Column {
    map_primitive::<Int32Type>(&a.all(), a.rows, SqlType::Integer, |row| {
        Ok(Some(i32::try_from(count(a.text(0, row))).unwrap_or(i32::MAX)))
    })
}

fn length(a: &Arguments<'_>) -> Column {
    counted(a, |text| text.chars().count())
}

fn octet_length(a: &Arguments<'_>) -> Column {
    counted(a, str::len)
}

fn ascii(a: &Arguments<'_>) -> Column {
    map_primitive::<Int32Type>(&a.all(), a.rows, SqlType::Integer, |row| {
        let first = a.text(0, row).chars().next().map_or(0, u32::from);
        Ok(i32::try_from(first).ok())
    })
}

fn chr(a: &Arguments<'_>) -> Column {
    map_text(&a.all(), a.rows, |row, out| {
        let number = a.whole(0, row);
        let found = u32::try_from(number).ok().filter(|n| *n > 0).and_then(char::from_u32);
        let found = found.ok_or_else(|| format!("chr: no character has the number {number}"))?;
        out.extend_from_slice(found.encode_utf8(&mut [0; 4]).as_bytes());
        Ok(())
    })
}

/// The byte at which the character of a place begins, counted from 0; the end of the text where it is shorter.
fn byte_of(text: &str, place: usize) -> usize {
    if text.is_ascii() {
        return place.min(text.len());
    }
    text.char_indices().nth(place).map_or(text.len(), |(at, _)| at)
}
