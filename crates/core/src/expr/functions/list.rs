//! Functions of lists. They come as JSON, see [`crate::values::list`].

use std::cmp::Ordering;
use std::sync::Arc;

use arrow_array::cast::AsArray as _;
use arrow_array::types::{Date32Type, Decimal128Type, Int32Type, TimestampMicrosecondType};
use arrow_array::{Array as _, BooleanArray};

use super::{Arguments, Function, Parameter, Prepared};
use crate::expr::column::{Column, map_primitive, map_text_or_null, merged, shape};
use crate::limit::Limit;
use crate::types::SqlType;
use crate::values::list::{ListWriter, each};
use crate::values::{number, time};

/// Functions of lists.
pub(super) const FUNCTIONS: &[Function] = &[
    Function {
        name: "array_append",
        signature: "array_append(list, item) → list",
        about: "The list with one more item at its end.",
        example: "array_append('{ore,oats}'::text[], 'salt')::text",
        gives: "[\"ore\",\"oats\",\"salt\"]",
        nulls: "a null list is an empty one, a null item is added",
        parameters: &[Parameter::List, Parameter::Item],
        result: |_| SqlType::Json,
        limit: |arguments| arguments[0].limit,
        skips_nulls: true,
        compute: append,
        ..Function::PLAIN
    },
    Function {
        name: "array_length",
        signature: "array_length(list, 1) → integer",
        about: "The number of items; null where there is none.",
        example: "array_length('{ore,oats}'::text[], 1)",
        gives: "2",
        parameters: &[Parameter::List, Parameter::Whole],
        result: |_| SqlType::Integer,
        nullable: true,
        compute: array_length,
        ..Function::PLAIN
    },
    Function {
        name: "array_position",
        signature: "array_position(list, item) → integer",
        about: "The place of the first such item, counted from 1; null where there is none.",
        example: "array_position('{ore,oats}'::text[], 'oats')",
        gives: "2",
        nulls: "null if the list is null; a null item is looked for",
        parameters: &[Parameter::List, Parameter::Item],
        result: |_| SqlType::Integer,
        skips_nulls: true,
        nullable: true,
        compute: position,
        ..Function::PLAIN
    },
    Function {
        name: "array_to_string",
        signature: "array_to_string(list, separator [, word for null]) → text",
        about: "The items as text, with the separator between them.",
        example: "array_to_string('{ore,NULL,oats}'::text[], ', ')",
        gives: "ore, oats",
        nulls: "null if an argument is null; items that are null are passed over without a word for them",
        parameters: &[Parameter::List, Parameter::Text],
        optional: &[Parameter::Text],
        skips_nulls: true,
        nullable: true,
        compute: to_string,
        ..Function::PLAIN
    },
    Function {
        name: "cardinality",
        signature: "cardinality(list) → integer",
        about: "The number of items.",
        example: "cardinality('{ore,oats}'::text[])",
        gives: "2",
        parameters: &[Parameter::List],
        result: |_| SqlType::Integer,
        compute: |a| map_primitive::<Int32Type>(&a.all(), a.rows, SqlType::Integer, |row| Ok(Some(count(a, row)))),
        ..Function::PLAIN
    },
    Function {
        name: "string_to_array",
        signature: "string_to_array(text, separator [, word for null]) → text[]",
        about: "The parts of the text before, between and after separators; its characters where the separator is null.",
        example: "string_to_array('low/2026', '/')::text",
        gives: "[\"low\",\"2026\"]",
        nulls: "null if the text is null",
        parameters: &[Parameter::Text, Parameter::Text],
        optional: &[Parameter::Text],
        result: |_| SqlType::Json,
        limit: |_| Some(Limit::List(SqlType::Text)),
        skips_nulls: true,
        nullable: true,
        compute: from_string,
        ..Function::PLAIN
    },
];

/// `list[place]`, counted from 1, as text.
pub(in crate::expr) static ITEM: Function = Function {
    name: "[]",
    signature: "list[place]",
    parameters: &[Parameter::List, Parameter::Whole],
    nullable: true,
    compute: |a| {
        map_text_or_null(&a.all(), a.rows, |row, out| {
            let (wanted, mut place, mut is_there) = (a.whole(1, row), 0, false);
            each(a.text(0, row), |item| {
                place += 1;
                if place == wanted
                    && let Some(item) = item
                {
                    out.extend_from_slice(item.as_bytes());
                    is_there = true;
                }
            });
            Ok(is_there)
        })
    },
    ..Function::PLAIN
};

/// `array[…]`: a list of items.
pub(in crate::expr) static LIST_OF: Function = Function {
    name: "array",
    signature: "array[item, …]",
    parameters: &[],
    result: |_| SqlType::Json,
    skips_nulls: true,
    compute: list_of,
    ..Function::PLAIN
};

/// `value = any(list)` and `value = all(list)`: the list, then the value.
pub(in crate::expr) static QUANTIFIED: Function = Function {
    name: "any",
    signature: "value = any(list)",
    parameters: &[Parameter::List, Parameter::Item],
    result: |_| SqlType::Boolean,
    skips_nulls: true,
    nullable: true,
    compute: quantified,
    ..Function::PLAIN
};

/// The columns without their nulls counting: these are looked at one by one.
fn of_each(a: &Arguments<'_>, column: usize) -> Column {
    Column { errors: a.columns[column].errors.clone(), ..a.columns[column].clone() }
}

fn count(a: &Arguments<'_>, row: usize) -> i32 {
    let mut count = 0_i32;
    each(a.text(0, row), |_| count = count.saturating_add(1));
    count
}

fn array_length(a: &Arguments<'_>) -> Column {
    map_primitive::<Int32Type>(&a.all(), a.rows, SqlType::Integer, |row| {
        Ok(Some(count(a, row)).filter(|count| *count > 0 && a.whole(1, row) == 1))
    })
}

/// Adds a value of a column as an item.
fn add(list: &mut ListWriter, column: &Column, row: usize, text: &mut String) -> Result<(), String> {
    text.clear();
    let ty = item_type(column);
    let item = (!column.is_null(row)).then(|| {
        crate::values::json::write_text(text, column.array.as_ref(), column.index(row));
        text.as_str()
    });
    list.add(item, ty).ok_or_else(|| "this value cannot be an item of a list".into())
}

/// The type of a column's values as items.
fn item_type(column: &Column) -> SqlType {
    use arrow_schema::DataType;
    match column.array.data_type() {
        DataType::Boolean => SqlType::Boolean,
        DataType::Int32 => SqlType::Integer,
        DataType::Int64 => SqlType::Bigint,
        DataType::Float64 => SqlType::Double,
        DataType::Decimal128(precision, scale) => {
            SqlType::Decimal { precision: *precision, scale: u8::try_from(*scale).unwrap_or(0) }
        }
        DataType::Date32 => SqlType::Date,
        DataType::Timestamp(..) => SqlType::Timestamptz,
        _ => SqlType::Text,
    }
}

/// A text for each row, whatever is null.
/// A list for each row, as it is written; None is null.
pub(super) fn written(
    a: &Arguments<'_>,
    write: impl Fn(usize, &mut String) -> Result<Option<String>, String>,
) -> Column {
    let all = a.all();
    let (scalar, len) = shape(&all, a.rows);
    let mut errors = merged(&all, a.rows);
    let mut buffer = String::new();
    let values = (0..len).map(|row| match write(row, &mut buffer) {
        Ok(value) => value,
        Err(reason) => {
            errors.add(row, reason);
            None
        }
    });
    let array: arrow_array::StringArray = values.collect();
    Column::computed(Arc::new(array), scalar, errors)
}

fn list_of(a: &Arguments<'_>) -> Column {
    written(a, |row, buffer| {
        let mut list = ListWriter::default();
        a.columns.iter().try_for_each(|column| add(&mut list, column, row, buffer))?;
        Ok(Some(list.finish()))
    })
}

fn append(a: &Arguments<'_>) -> Column {
    written(a, |row, buffer| {
        let (mut list, ty) = (ListWriter::default(), item_type(&a.columns[1]));
        let mut is_good = true;
        if !a.columns[0].is_null(row) {
            each(a.text(0, row), |item| is_good &= list.add(item, ty).is_some());
        }
        add(&mut list, &a.columns[1], row, buffer)?;
        if is_good { Ok(Some(list.finish())) } else { Err("this value cannot be an item of a list".into()) }
    })
}

fn to_string(a: &Arguments<'_>) -> Column {
    written(a, |row, _| {
        if a.columns[..2].iter().any(|column| column.is_null(row)) {
            return Ok(None);
        }
        let word = a.columns.get(2).filter(|column| !column.is_null(row)).map(|_| a.text(2, row));
        let (mut out, mut is_first) = (String::new(), true);
        each(a.text(0, row), |item| {
            let Some(item) = item.or(word) else { return };
            if !std::mem::take(&mut is_first) {
                out.push_str(a.text(1, row));
            }
            out.push_str(item);
        });
        Ok(Some(out))
    })
}

fn from_string(a: &Arguments<'_>) -> Column {
    written(a, |row, _| {
        if a.columns[0].is_null(row) {
            return Ok(None);
        }
        let (text, mut list) = (a.text(0, row), ListWriter::default());
        let word = a.columns.get(2).filter(|column| !column.is_null(row)).map(|_| a.text(2, row));
        let mut add = |part: &str| list.add(Some(part).filter(|part| Some(*part) != word), SqlType::Text);
        let added = match text {
            "" => Some(()),
            _ if a.columns[1].is_null(row) => text.chars().try_for_each(|c| add(c.encode_utf8(&mut [0; 4]))),
            _ => match a.text(1, row) {
                "" => add(text),
                separator => text.split(separator).try_for_each(&mut add),
            },
        };
        added.ok_or_else(|| String::from("these parts cannot be items of a list"))?;
        Ok(Some(list.finish()))
    })
}

fn position(a: &Arguments<'_>) -> Column {
    let all = [of_each(a, 0)];
    map_primitive::<Int32Type>(&[&all[0], &without_nulls(&a.columns[1])], a.rows, SqlType::Integer, |row| {
        let wanted = &a.columns[1];
        let (mut place, mut found) = (0_i32, None);
        each(a.text(0, row), |item| {
            place = place.saturating_add(1);
            let is_it = match item {
                None => wanted.is_null(row),
                Some(item) => !wanted.is_null(row) && compared(wanted, row, item) == Some(Ordering::Equal),
            };
            found = found.or(is_it.then_some(place));
        });
        Ok(found)
    })
}

/// The same column, in which nothing is null: what it has for null is not looked at.
fn without_nulls(column: &Column) -> Column {
    let len = column.array.len();
    let all = BooleanArray::from(vec![true; len]);
    Column::computed(Arc::new(all), column.scalar, column.errors.clone())
}

/// How a value compares with an item.
fn compared(column: &Column, row: usize, item: &str) -> Option<Ordering> {
    let (i, bytes) = (column.index(row), item.as_bytes());
    match item_type(column) {
        SqlType::Boolean => Some(column.array.as_boolean().value(i).cmp(&(item == "true"))),
        SqlType::Integer | SqlType::Bigint => Some(column.whole_at(row).cmp(&number::parse_whole(bytes)?)),
        SqlType::Double => {
            let (value, item) = (column.double_at(row), number::parse_double(bytes)?);
            // NaN is equal to itself and greater than the rest, as in PostgreSQL.
            value.partial_cmp(&item).or_else(|| Some(value.is_nan().cmp(&item.is_nan())))
        }
        SqlType::Decimal { scale, .. } => {
            Some(column.primitive::<Decimal128Type>().value(i).cmp(&number::parse_decimal(bytes, scale)?))
        }
        SqlType::Date => Some(column.primitive::<Date32Type>().value(i).cmp(&time::parse_date(bytes)?)),
        SqlType::Timestamptz => {
            Some(column.primitive::<TimestampMicrosecondType>().value(i).cmp(&time::parse_timestamp(bytes)?))
        }
        _ => Some(column.text_at(row).cmp(item)),
    }
}

fn quantified(a: &Arguments<'_>) -> Column {
    let Prepared::Quantified(op, is_all) = *a.prepared else { return a.columns[0].clone() };
    let all = a.all();
    let (scalar, len) = shape(&all, a.rows);
    let value = &a.columns[1];
    let of = |row: usize| {
        if a.columns[0].is_null(row) {
            return None;
        }
        let (mut is_decided, mut is_unknown) = (false, false);
        each(a.text(0, row), |item| match item.filter(|_| !value.is_null(row)) {
            None => is_unknown = true,
            Some(item) => is_decided |= op.holds(compared(value, row, item)) != is_all,
        });
        match (is_decided, is_unknown) {
            (true, _) => Some(!is_all),
            (false, true) => None,
            (false, false) => Some(is_all),
        }
    };
    let array: BooleanArray = (0..len).map(of).collect();
    Column::computed(Arc::new(array), scalar, merged(&all, a.rows))
}
