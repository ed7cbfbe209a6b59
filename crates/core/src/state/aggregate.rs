//! What is computed over the events of a group, and what is kept of them meanwhile.

use std::cmp::Ordering;

use sha2::{Digest as _, Sha256};

use super::cell::{Cell, Cells, push};
use super::partial::Partial;
use super::shares::Shares;
use crate::distinct::Distinct;
use crate::formats::ColumnBuilder;
use crate::types::{MAX_PRECISION, SqlType};
use crate::values::json::write_value;
use crate::values::number::fits_precision;

/// An aggregate function.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum AggregateKind {
    /// How many events there are, or how many have a value.
    Count,
    /// The sum of the values.
    Sum,
    /// Their mean.
    Avg,
    /// The smallest.
    Min,
    /// The largest.
    Max,
    /// The one with the earliest event time.
    First,
    /// The one with the latest event time.
    Last,
    /// The one that came first.
    AnyValue,
    /// The standard deviation of a sample.
    Stddev,
    /// How many distinct values there are.
    CountDistinct,
    /// The value below which a share of all values lies.
    Percentile,
    /// All values, as a list.
    List,
}

impl AggregateKind {
    /// Whether what it gives is one of the values that it takes, with whatever narrows them.
    pub fn gives_one_of_its_values(self) -> bool {
        matches!(self, Self::Min | Self::Max | Self::First | Self::Last | Self::AnyValue)
    }
}

/// One entry of the table of aggregate functions.
#[derive(Debug)]
pub struct Aggregate {
    /// Its name.
    pub name: &'static str,
    /// Which it is.
    pub kind: AggregateKind,
    /// How it is written.
    pub form: &'static str,
    /// What it gives, in one line.
    pub help: &'static str,
}

/// Every aggregate function.
pub const AGGREGATES: &[Aggregate] = &[
    Aggregate {
        name: "count",
        kind: AggregateKind::Count,
        form: "count(*), count(x), count(distinct x)",
        help: "how many events the group has, how many of them have a value of x, or how many distinct values there are: exact for \
               up to 2,048, then an estimate with a standard error of 1.6 %",
    },
    Aggregate {
        name: "sum",
        kind: AggregateKind::Sum,
        form: "sum(x)",
        help: "the sum; of whole numbers and decimals it is exact",
    },
    Aggregate { name: "avg", kind: AggregateKind::Avg, form: "avg(x)", help: "the mean, as double precision" },
    Aggregate { name: "min", kind: AggregateKind::Min, form: "min(x)", help: "the smallest value" },
    Aggregate { name: "max", kind: AggregateKind::Max, form: "max(x)", help: "the largest value" },
    Aggregate {
        name: "first",
        kind: AggregateKind::First,
        form: "first(x)",
        help: "the value of the event with the earliest event time that has one",
    },
    Aggregate {
        name: "last",
        kind: AggregateKind::Last,
        form: "last(x)",
        help: "the value of the event with the latest event time that has one",
    },
    Aggregate {
        name: "any_value",
        kind: AggregateKind::AnyValue,
        form: "any_value(x)",
        help: "the value of one of the events that have one",
    },
    Aggregate {
        name: "stddev",
        kind: AggregateKind::Stddev,
        form: "stddev(x)",
        help: "the standard deviation of a sample, as double precision; null for fewer than two values",
    },
    Aggregate {
        name: "percentile",
        kind: AggregateKind::Percentile,
        form: "percentile(x, 0.95)",
        help: "the value below which that share of the values lies, as double precision: between two values for up to 1,000 of \
               them, within 1 % of it for more",
    },
    Aggregate {
        name: "json_agg",
        kind: AggregateKind::List,
        form: "json_agg(x), json_agg(x, 20)",
        help: "the values as a JSON list, by event time, without nulls; a group with more than 1,000 is a reject. With a number, so \
               many of them: those of the earliest events",
    },
    Aggregate {
        name: "array_agg",
        kind: AggregateKind::List,
        form: "array_agg(x), array_agg(x, 20)",
        help: "the same as json_agg: a JSON list",
    },
];

/// One call in a select list.
#[derive(Clone, Debug)]
pub struct AggregateCall {
    /// The function.
    pub kind: AggregateKind,
    /// The argument's place among the prepared columns, with its type; None for `count(*)`.
    pub argument: Option<(usize, SqlType)>,
    /// The place of the condition after `filter`, where there is one.
    pub filter: Option<usize>,
    /// The constant after the argument, for functions that have one.
    pub share: f64,
    /// Of a list, how many values it has at most.
    pub most: Option<usize>,
    /// How it is written.
    pub text: String,
}

impl AggregateCall {
    /// The type of its result.
    pub fn result(&self) -> SqlType {
        Self::result_of(self.kind, self.argument.map(|a| a.1))
    }

    /// The type of the result of a function for an argument of a type.
    pub fn result_of(kind: AggregateKind, argument: Option<SqlType>) -> SqlType {
        match (kind, argument.unwrap_or(SqlType::Bigint)) {
            (AggregateKind::Count | AggregateKind::CountDistinct, _) => SqlType::Bigint,
            (AggregateKind::Avg | AggregateKind::Stddev | AggregateKind::Percentile, _) => SqlType::Double,
            (AggregateKind::List, _) => SqlType::Json,
            (AggregateKind::Sum, SqlType::Integer | SqlType::Bigint) => SqlType::Bigint,
            (AggregateKind::Sum, SqlType::Decimal { scale, .. }) => {
                SqlType::Decimal { precision: MAX_PRECISION, scale }
            }
            (_, ty) => ty,
        }
    }

    /// Whether it takes an argument of a type.
    pub fn takes(kind: AggregateKind, ty: SqlType) -> bool {
        match kind {
            _ if ty.is_within_expressions() => kind == AggregateKind::Count,
            AggregateKind::Sum | AggregateKind::Avg | AggregateKind::Stddev | AggregateKind::Percentile => {
                ty.is_numeric()
            }
            AggregateKind::Min | AggregateKind::Max => !matches!(ty, SqlType::Json),
            _ => true,
        }
    }

    /// What is kept of no events.
    pub(super) fn start(&self) -> Partial {
        match (self.kind, self.argument.map(|a| a.1)) {
            (AggregateKind::Count, _) => Partial::Count(0),
            (AggregateKind::Sum | AggregateKind::Avg, Some(SqlType::Double)) => {
                Partial::Double { total: 0.0, count: 0 }
            }
            (AggregateKind::Sum | AggregateKind::Avg, _) => Partial::Exact { total: Some(0), count: 0 },
            (AggregateKind::Min | AggregateKind::Max | AggregateKind::AnyValue, _) => Partial::One(Cell::Null),
            (AggregateKind::First | AggregateKind::Last, _) => Partial::Timed { time: 0, cell: Cell::Null },
            (AggregateKind::Stddev, _) => Partial::Spread { count: 0, mean: 0.0, squares: 0.0 },
            (AggregateKind::CountDistinct, _) => Partial::Distinct(Distinct::default()),
            (AggregateKind::Percentile, _) => Partial::Shares(Shares::default()),
            (AggregateKind::List, _) => Partial::List(Vec::new()),
        }
    }

    /// Adds the value of one event.
    pub(super) fn add(&self, partial: &mut Partial, argument: Option<&Cells<'_>>, row: usize, time: i64) {
        let Some(cells) = argument else {
            if let Partial::Count(count) = partial {
                *count += 1;
            }
            return;
        };
        if cells.is_null(row) {
            return;
        }
        match partial {
            Partial::Count(count) => *count += 1,
            Partial::Exact { total, count } => {
                *count += 1;
                *total = total.and_then(|t| t.checked_add(exact(cells, row)));
            }
            Partial::Double { total, count } => {
                *count += 1;
                *total += double(cells, row, self.scale());
            }
            Partial::One(cell) => {
                let is_better = match self.kind {
                    _ if *cell == Cell::Null => true,
                    AggregateKind::Min => cells.compare(row, cell) == Ordering::Less,
                    AggregateKind::Max => cells.compare(row, cell) == Ordering::Greater,
                    _ => false,
                };
                if is_better {
                    *cell = cells.cell(row);
                }
            }
            Partial::Timed { time: partial_time, cell } => {
                let is_better = match self.kind {
                    _ if *cell == Cell::Null => true,
                    AggregateKind::First => time < *partial_time,
                    _ => time >= *partial_time,
                };
                if is_better {
                    (*partial_time, *cell) = (time, cells.cell(row));
                }
            }
            Partial::Distinct(distinct) => {
                let mut key = Vec::new();
                cells.write_key(row, &mut key);
                distinct.add_hash(stable_hash(&key));
            }
            Partial::Shares(shares) => shares.add(double(cells, row, self.scale())),
            Partial::List(values) => match self.most {
                Some(limit) => {
                    values.push((time, cells.cell(row)));
                    keep_earliest(values, limit, 2 * limit);
                }
                // One too many says that there are too many.
                None if values.len() <= LONGEST_LIST => values.push((time, cells.cell(row))),
                None => {}
            },
            // Welford, "Note on a method for calculating corrected sums of squares and products", 1962.
            Partial::Spread { count, mean, squares } => {
                let value = double(cells, row, self.scale());
                *count += 1;
                let off = value - *mean;
                *mean += off / *count as f64;
                *squares += off * (value - *mean);
            }
        }
    }

    /// Adds what was kept of other events of the same group.
    pub(super) fn merge(&self, partial: &mut Partial, other: Partial) {
        match (partial, other) {
            (Partial::Count(count), Partial::Count(more)) => *count += more,
            (Partial::Exact { total, count }, Partial::Exact { total: more, count: others }) => {
                *count += others;
                *total = total.zip(more).and_then(|(t, m)| t.checked_add(m));
            }
            (Partial::Double { total, count }, Partial::Double { total: more, count: others }) => {
                *count += others;
                *total += more;
            }
            (Partial::One(cell), Partial::One(other)) => {
                let order = other.compare(cell);
                let is_better = match self.kind {
                    _ if other == Cell::Null => false,
                    _ if *cell == Cell::Null => true,
                    AggregateKind::Min => order == Ordering::Less,
                    AggregateKind::Max => order == Ordering::Greater,
                    _ => false,
                };
                if is_better {
                    *cell = other;
                }
            }
            (Partial::Timed { time, cell }, Partial::Timed { time: other_time, cell: other }) => {
                let is_better = match self.kind {
                    _ if other == Cell::Null => false,
                    _ if *cell == Cell::Null => true,
                    AggregateKind::First => other_time < *time,
                    _ => other_time >= *time,
                };
                if is_better {
                    (*time, *cell) = (other_time, other);
                }
            }
            (Partial::Distinct(distinct), Partial::Distinct(other)) => distinct.merge(other),
            (Partial::Shares(shares), Partial::Shares(other)) => shares.merge(other),
            (Partial::List(values), Partial::List(other)) => {
                values.extend(other);
                match self.most {
                    Some(limit) => keep_earliest(values, limit, limit),
                    None => values.truncate(LONGEST_LIST + 1),
                }
            }
            // Chan, Golub and LeVeque, "Updating formulae and a pairwise algorithm for computing sample variances", 1979.
            (Partial::Spread { count, mean, squares }, Partial::Spread { count: n, mean: m, squares: s }) if n > 0 => {
                let all = *count + n;
                let off = m - *mean;
                *squares += s + off * off * (*count as f64 * n as f64 / all as f64);
                *mean += off * n as f64 / all as f64;
                *count = all;
            }
            _ => {}
        }
    }

    /// The result for what was kept; None where it does not fit its type.
    pub(super) fn finish(&self, partial: &Partial) -> Option<Cell> {
        Some(match partial {
            Partial::Count(count) => Cell::Whole(i64::try_from(*count).ok()?),
            Partial::Exact { count: 0, .. } | Partial::Double { count: 0, .. } => Cell::Null,
            Partial::Exact { total, count } => match (self.kind, self.result()) {
                (AggregateKind::Avg, _) => Cell::Double((*total)? as f64 / 10_f64.powi(self.scale()) / *count as f64),
                (_, SqlType::Decimal { precision, .. }) => {
                    Cell::Decimal((*total).filter(|t| fits_precision(*t, precision))?)
                }
                _ => Cell::Whole(i64::try_from((*total)?).ok()?),
            },
            Partial::Double { total, count } => match self.kind {
                AggregateKind::Avg => Cell::Double(*total / *count as f64),
                _ => Cell::Double(*total),
            },
            Partial::One(cell) | Partial::Timed { cell, .. } => cell.clone(),
            Partial::Distinct(distinct) => Cell::Whole(i64::try_from(distinct.count()).ok()?),
            Partial::Shares(shares) => shares.at(self.share).map_or(Cell::Null, Cell::Double),
            Partial::List(values) if self.most.is_none() && values.len() > LONGEST_LIST => return None,
            Partial::List(values) => self.list(values),
            Partial::Spread { count: 0 | 1, .. } => Cell::Null,
            Partial::Spread { count, squares, .. } => Cell::Double((*squares / (*count - 1) as f64).sqrt()),
        })
    }

    /// The values as a JSON list, in the order of their times.
    fn list(&self, values: &[(i64, Cell)]) -> Cell {
        if values.is_empty() {
            return Cell::Null;
        }
        let ty = self.argument.map_or(SqlType::Text, |a| a.1);
        let mut sorted: Vec<&(i64, Cell)> = values.iter().collect();
        sorted.sort_by_key(|(time, _)| *time);
        sorted.truncate(self.most.unwrap_or(usize::MAX));
        let mut builder = ColumnBuilder::new(ty);
        sorted.iter().for_each(|(_, cell)| push(&mut builder, cell));
        let column = builder.finish();
        let mut text = String::from("[");
        for row in 0..sorted.len() {
            text.push_str(if row > 0 { "," } else { "" });
            write_value(&mut text, &column, row, ty == SqlType::Json);
        }
        Cell::Text((text + "]").into())
    }

    /// The digits after the point of the argument.
    fn scale(&self) -> i32 {
        match self.argument {
            Some((_, SqlType::Decimal { scale, .. })) => scale.into(),
            _ => 0,
        }
    }
}

/// A longer list makes its group a reject.
pub(crate) const LONGEST_LIST: usize = 1_000;

/// Leaves the values of the earliest times, where there are more than `room`; of one time those that came first.
fn keep_earliest(values: &mut Vec<(i64, Cell)>, limit: usize, room: usize) {
    if values.len() > room {
        values.sort_by_key(|(time, _)| *time);
        values.truncate(limit);
    }
}

/// A hash that stays the same in every version of the program.
fn stable_hash(bytes: &[u8]) -> u64 {
    let digest = Sha256::digest(bytes);
    u64::from_le_bytes(std::array::from_fn(|i| digest[i]))
}

/// A whole number or the digits of a decimal.
fn exact(cells: &Cells<'_>, row: usize) -> i128 {
    match cells {
        Cells::Integer(a) => a.value(row).into(),
        Cells::Bigint(a) => a.value(row).into(),
        Cells::Decimal(a) => a.value(row),
        _ => 0,
    }
}

fn double(cells: &Cells<'_>, row: usize, scale: i32) -> f64 {
    match cells {
        Cells::Double(a) => a.value(row),
        other => exact(other, row) as f64 / 10_f64.powi(scale),
    }
}

#[cfg(test)]
mod tests {
    use std::sync::Arc;

    use arrow_array::{ArrayRef, Decimal128Array, Float64Array, Int64Array, StringArray};

    use super::*;
    use rstest::rstest;

    const DECIMAL: SqlType = SqlType::Decimal { precision: 38, scale: 2 };

    fn column(ty: SqlType) -> ArrayRef {
        match ty {
            SqlType::Text => Arc::new(StringArray::from(vec![Some("b"), None, Some("a"), Some("c")])),
            SqlType::Double => Arc::new(Float64Array::from(vec![Some(1.5), None, Some(-0.5), Some(4.0)])),
            DECIMAL => Arc::new(
                Decimal128Array::from(vec![Some(150), None, Some(-50), Some(400)]).with_data_type(DECIMAL.arrow()),
            ),
            _ => Arc::new(Int64Array::from(vec![Some(3), None, Some(-1), Some(10)])),
        }
    }

    fn call(kind: AggregateKind, ty: Option<SqlType>) -> AggregateCall {
        AggregateCall {
            kind,
            argument: ty.map(|ty| (0, ty)),
            filter: None,
            share: 0.5,
            most: None,
            text: String::new(),
        }
    }

    /// Adds the rows, and after each one writes and reads what is kept.
    fn result(kind: AggregateKind, ty: Option<SqlType>, times: [i64; 4]) -> Option<Cell> {
        let call = call(kind, ty);
        let array = column(ty.unwrap_or(SqlType::Bigint));
        let cells = ty.map(|ty| Cells::of(&array, ty));
        let mut partial = call.start();
        for (row, time) in times.into_iter().enumerate() {
            call.add(&mut partial, cells.as_ref(), row, time);
            let mut bytes = Vec::new();
            partial.write(&mut bytes);
            let mut again = call.start();
            let mut rest = bytes.as_slice();
            again.read(&mut rest).unwrap();
            assert_eq!((&again, rest.len()), (&partial, 0));
            for end in 0..bytes.len() {
                assert_eq!(call.start().read(&mut &bytes[..end]), None);
            }
        }
        for split in 0..=times.len() {
            let mut parts = [call.start(), call.start()];
            for (row, time) in times.into_iter().enumerate() {
                call.add(&mut parts[usize::from(row >= split)], cells.as_ref(), row, time);
            }
            let [mut first, second] = parts;
            call.merge(&mut first, second);
            match (call.finish(&first), call.finish(&partial)) {
                (Some(Cell::Double(a)), Some(Cell::Double(b))) => assert!((a - b).abs() < 1e-9, "{split}: {a} and {b}"),
                (merged, whole) => assert_eq!(merged, whole, "{split}"),
            }
        }
        call.finish(&partial)
    }

    #[rstest]
    #[case(AggregateKind::Count, None, Cell::Whole(4))]
    #[case(AggregateKind::Count, Some(SqlType::Text), Cell::Whole(3))]
    #[case(AggregateKind::Sum, Some(SqlType::Bigint), Cell::Whole(12))]
    #[case(AggregateKind::Sum, Some(DECIMAL), Cell::Decimal(500))]
    #[case(AggregateKind::Sum, Some(SqlType::Double), Cell::Double(5.0))]
    #[case(AggregateKind::Avg, Some(SqlType::Bigint), Cell::Double(4.0))]
    #[case(AggregateKind::Avg, Some(DECIMAL), Cell::Double(5.0 / 3.0))]
    #[case(AggregateKind::Min, Some(SqlType::Text), Cell::Text("a".into()))]
    #[case(AggregateKind::Max, Some(SqlType::Double), Cell::Double(4.0))]
    #[case(AggregateKind::First, Some(SqlType::Text), Cell::Text("c".into()))]
    #[case(AggregateKind::Last, Some(SqlType::Text), Cell::Text("b".into()))]
    #[case(AggregateKind::AnyValue, Some(SqlType::Text), Cell::Text("b".into()))]
    #[case(AggregateKind::Stddev, Some(SqlType::Double), Cell::Double(2.254_624_876_411_430_6))]
    #[case(AggregateKind::CountDistinct, Some(SqlType::Text), Cell::Whole(3))]
    #[case(AggregateKind::Percentile, Some(SqlType::Bigint), Cell::Double(3.0))]
    #[case(AggregateKind::List, Some(SqlType::Text), Cell::Text(r#"["c","a","b"]"#.into()))]
    #[case(AggregateKind::List, Some(DECIMAL), Cell::Text("[4.00,-0.50,1.50]".into()))]
    fn what_a_group_gives(#[case] kind: AggregateKind, #[case] ty: Option<SqlType>, #[case] expected: Cell) {
        let found = result(kind, ty, [40, 30, 20, 10]).unwrap();
        match (&found, &expected) {
            (Cell::Double(a), Cell::Double(b)) => assert!((a - b).abs() < 1e-12, "{a} and {b}"),
            _ => assert_eq!(found, expected),
        }
    }

    /// However the events come and their parts are merged, a list with a limit has the values of the earliest ones.
    #[rstest]
    #[case(1)]
    #[case(3)]
    #[case(50)]
    fn a_list_with_a_limit_has_the_earliest_values(#[case] most: usize) {
        let values: ArrayRef = Arc::new(Int64Array::from_iter_values(0..200));
        let cells = Cells::of(&values, SqlType::Bigint);
        let list = AggregateCall { most: Some(most), ..call(AggregateKind::List, Some(SqlType::Bigint)) };
        let time = |row: usize| i64::try_from((row * 73) % 199).unwrap();
        let mut parts = [list.start(), list.start()];
        for row in 0..200 {
            list.add(&mut parts[usize::from(row > 90)], Some(&cells), row, time(row));
            assert!(parts.iter().all(|part| matches!(part, Partial::List(values) if values.len() <= 2 * most)));
        }
        let [mut all, more] = parts;
        list.merge(&mut all, more);
        let mut rows: Vec<usize> = (0..200).collect();
        rows.sort_by_key(|row| time(*row));
        let expected: Vec<String> = rows[..most].iter().map(usize::to_string).collect();
        assert_eq!(list.finish(&all), Some(Cell::Text(format!("[{}]", expected.join(",")).into())));
    }

    #[rstest]
    #[case(AggregateKind::Count, Cell::Whole(0))]
    #[case(AggregateKind::Sum, Cell::Null)]
    #[case(AggregateKind::Avg, Cell::Null)]
    #[case(AggregateKind::Max, Cell::Null)]
    #[case(AggregateKind::Last, Cell::Null)]
    #[case(AggregateKind::Stddev, Cell::Null)]
    #[case(AggregateKind::CountDistinct, Cell::Whole(0))]
    #[case(AggregateKind::Percentile, Cell::Null)]
    #[case(AggregateKind::List, Cell::Null)]
    fn a_group_without_values_gives(#[case] kind: AggregateKind, #[case] expected: Cell) {
        let call = call(kind, Some(SqlType::Bigint));
        assert_eq!(call.finish(&call.start()), Some(expected));
    }

    #[test]
    fn a_sum_that_does_not_fit_gives_nothing_rather_than_something_wrong() {
        let whole: ArrayRef = Arc::new(Int64Array::from(vec![i64::MAX, i64::MAX, -i64::MAX]));
        let sum = call(AggregateKind::Sum, Some(SqlType::Bigint));
        let mut partial = sum.start();
        let mut add = |row| {
            sum.add(&mut partial, Some(&Cells::of(&whole, SqlType::Bigint)), row, 0);
            sum.finish(&partial)
        };
        assert_eq!((add(0), add(1), add(2)), (Some(Cell::Whole(i64::MAX)), None, Some(Cell::Whole(i64::MAX))));
        let most = 10_i128.pow(38) - 1;
        let digits: ArrayRef = Arc::new(Decimal128Array::from(vec![most, most]).with_data_type(DECIMAL.arrow()));
        let sum = call(AggregateKind::Sum, Some(DECIMAL));
        let mut partial = sum.start();
        (0..2).for_each(|row| sum.add(&mut partial, Some(&Cells::of(&digits, DECIMAL)), row, 0));
        assert_eq!(sum.finish(&partial), None);
    }
}
