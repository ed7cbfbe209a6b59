//! The greatest and the least of some values of one type, nulls passed over.

use crate::expr::column::{Column, merged, shape};
use crate::expr::condition::{choose, compare, is_null, logic, truths};
use crate::expr::functions::{Arguments, Function};
use crate::expr::{CompareOp, column};

const NULLS: &str = "nulls are passed over; null if all are null";

/// `greatest`; its arguments have one type.
pub(in crate::expr) static GREATEST: Function = Function {
    name: "greatest",
    nulls: NULLS,
    repeats: true,
    skips_nulls: true,
    result: |arguments| arguments[0].ty,
    compute: |a| extreme(a, CompareOp::Greater),
    ..Function::PLAIN
};

/// `least`; its arguments have one type.
pub(in crate::expr) static LEAST: Function = Function {
    name: "least",
    nulls: NULLS,
    repeats: true,
    skips_nulls: true,
    result: |arguments| arguments[0].ty,
    compute: |a| extreme(a, CompareOp::Less),
    ..Function::PLAIN
};

fn extreme(a: &Arguments<'_>, op: CompareOp) -> Column {
    let all: Vec<&Column> = a.columns.iter().collect();
    let (scalar, rows) = shape(&all, a.rows);
    let errors = merged(&all, a.rows);
    let mut found = a.columns[0].clone().expand(rows);
    for other in &a.columns[1..] {
        let other = other.clone().expand(rows);
        // The other one is taken where it is more, or where there is nothing to compare it with.
        let more = compare(op, &other, &found, rows);
        let mask = truths(&logic(false, more, is_null(&found), rows), rows);
        let known = column::Column { errors: column::RowErrors::none(), ..is_null(&other) };
        let mask = without_nulls(&mask, &truths(&known, rows));
        found = choose(&mask, other, found);
    }
    Column { errors, scalar, ..found }
}

fn without_nulls(mask: &arrow_array::BooleanArray, nulls: &arrow_array::BooleanArray) -> arrow_array::BooleanArray {
    arrow_array::BooleanArray::new(mask.values() & &!nulls.values(), None)
}
