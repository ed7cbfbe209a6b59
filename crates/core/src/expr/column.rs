//! Columns of values, constants included, with the errors of single rows beside them.

use std::collections::BTreeMap;
use std::sync::Arc;

use arrow_array::cast::AsArray as _;
use arrow_array::types::{ArrowPrimitiveType, Float64Type, Int32Type, Int64Type};
use arrow_array::{Array, ArrayRef, BooleanArray, Datum, PrimitiveArray, StringArray, UInt64Array};
use arrow_buffer::{BooleanBuffer, NullBuffer};
use arrow_schema::DataType;

use crate::types::SqlType;

/// Errors of single rows: row number to reason. Empty in all but rare batches.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct RowErrors(Option<BTreeMap<usize, String>>);

impl RowErrors {
    /// No errors.
    pub fn none() -> Self {
        Self(None)
    }

    /// Whether there is none.
    pub fn is_empty(&self) -> bool {
        self.0.is_none()
    }

    /// Adds the error of a row; the first of a row stays.
    pub fn add(&mut self, row: usize, reason: impl Into<String>) {
        self.0.get_or_insert_default().entry(row).or_insert_with(|| reason.into());
    }

    /// Whether a row has one.
    pub fn has(&self, row: usize) -> bool {
        self.0.as_ref().is_some_and(|errors| errors.contains_key(&row))
    }

    /// Adds all errors of others.
    pub fn merge(&mut self, others: RowErrors) {
        for (row, reason) in others.into_iter() {
            self.add(row, reason);
        }
    }

    /// Keeps the errors of rows that `keep` accepts.
    pub fn retain(&mut self, keep: impl Fn(usize) -> bool) {
        if let Some(errors) = &mut self.0 {
            errors.retain(|row, _| keep(*row));
            if errors.is_empty() {
                self.0 = None;
            }
        }
    }

    /// The errors by row.
    pub fn iter(&self) -> impl Iterator<Item = (usize, &str)> {
        self.0.iter().flat_map(|e| e.iter().map(|(row, reason)| (*row, reason.as_str())))
    }

    /// The errors by row, given away.
    #[expect(clippy::should_implement_trait, reason = "the iterator's type cannot be named")]
    pub fn into_iter(self) -> impl Iterator<Item = (usize, String)> {
        self.0.into_iter().flat_map(|errors| errors.into_iter())
    }
}

/// The values of an expression for all rows, or one value that stands for every row.
#[derive(Clone, Debug)]
pub struct Column {
    /// The values; of length 1 where `scalar`.
    pub array: ArrayRef,
    /// Whether the one value stands for every row.
    pub scalar: bool,
    /// Rows that could not be computed; row 0 stands for all where `scalar`.
    pub errors: RowErrors,
}

impl Datum for Column {
    fn get(&self) -> (&dyn Array, bool) {
        (self.array.as_ref(), self.scalar)
    }
}

impl Column {
    /// A value for each row.
    pub fn of(array: ArrayRef) -> Self {
        Self { array, scalar: false, errors: RowErrors::none() }
    }

    /// One value for all rows.
    pub fn constant(array: ArrayRef) -> Self {
        debug_assert_eq!(array.len(), 1);
        Self { array, scalar: true, errors: RowErrors::none() }
    }

    /// A computed column that is scalar if all of what it was computed from is.
    pub fn computed(array: ArrayRef, scalar: bool, errors: RowErrors) -> Self {
        Self { array, scalar, errors }
    }

    /// The place of a row's value in the array.
    pub fn index(&self, row: usize) -> usize {
        if self.scalar { 0 } else { row }
    }

    /// Whether the row's value is null.
    pub fn is_null(&self, row: usize) -> bool {
        self.array.is_null(self.index(row))
    }

    /// The same values with one for each of `rows` rows.
    pub fn expand(self, rows: usize) -> Self {
        if !self.scalar {
            return self;
        }
        let indices = UInt64Array::from(vec![0_u64; rows]);
        let array = arrow_select::take::take(&self.array, &indices, None).expect("row 0 of an array of one is there");
        let mut errors = RowErrors::none();
        if let Some((_, reason)) = self.errors.iter().next() {
            for row in 0..rows {
                errors.add(row, reason);
            }
        }
        Self { array, scalar: false, errors }
    }

    /// The text values.
    pub fn text(&self) -> &StringArray {
        self.array.as_string::<i32>()
    }

    /// The values of a primitive type.
    pub fn primitive<T: ArrowPrimitiveType>(&self) -> &PrimitiveArray<T> {
        self.array.as_primitive::<T>()
    }

    /// The text of a row that is not null.
    pub(super) fn text_at(&self, row: usize) -> &str {
        self.text().value(self.index(row))
    }

    /// The whole number of a row that is not null.
    pub(super) fn whole_at(&self, row: usize) -> i64 {
        let i = self.index(row);
        match self.array.data_type() {
            DataType::Int32 => self.primitive::<Int32Type>().value(i).into(),
            _ => self.primitive::<Int64Type>().value(i),
        }
    }

    /// The floating-point number of a row that is not null.
    pub(super) fn double_at(&self, row: usize) -> f64 {
        self.primitive::<Float64Type>().value(self.index(row))
    }

    /// The constant text that this is.
    pub fn constant_text(&self) -> Option<&str> {
        (self.scalar && !self.array.is_null(0)).then(|| self.text().value(0))
    }
}

/// Whether a result of these is scalar, and how many values it then has.
pub(super) fn shape(columns: &[&Column], rows: usize) -> (bool, usize) {
    let scalar = columns.iter().all(|c| c.scalar);
    (scalar, if scalar { 1 } else { rows })
}

/// Applies a function that can fail to two columns, value by value; null where either is null.
pub(super) fn zip_checked<A, B, O>(
    left: &Column,
    right: &Column,
    rows: usize,
    apply: impl Fn(A::Native, B::Native) -> Result<O::Native, &'static str>,
) -> (Vec<O::Native>, Option<NullBuffer>, RowErrors, bool)
where
    A: ArrowPrimitiveType,
    B: ArrowPrimitiveType,
    O: ArrowPrimitiveType,
{
    let (scalar, len) = shape(&[left, right], rows);
    let (a, b) = (left.primitive::<A>(), right.primitive::<B>());
    let mut errors = merged(&[left, right], rows);
    let mut values = Vec::with_capacity(len);
    for row in 0..len {
        let (i, j) = (left.index(row), right.index(row));
        if a.is_null(i) || b.is_null(j) {
            values.push(O::Native::default());
            continue;
        }
        match apply(a.value(i), b.value(j)) {
            Ok(value) => values.push(value),
            Err(reason) => {
                errors.add(row, reason);
                values.push(O::Native::default());
            }
        }
    }
    (values, nulls(&[left, right], len), errors, scalar)
}

/// The nulls of any of the columns, spread over `len` values.
pub(super) fn nulls(columns: &[&Column], len: usize) -> Option<NullBuffer> {
    let mut all: Option<NullBuffer> = None;
    for column in columns {
        let own = match column.scalar {
            true if column.array.is_null(0) => Some(NullBuffer::new_null(len)),
            true => None,
            false => column.array.logical_nulls(),
        };
        all = NullBuffer::union(all.as_ref(), own.as_ref());
    }
    all
}

/// The errors of all columns; that of a constant counts for every row where the result has rows.
pub(super) fn merged(columns: &[&Column], rows: usize) -> RowErrors {
    let (scalar, len) = shape(columns, rows);
    let mut errors = RowErrors::none();
    for column in columns.iter().filter(|c| !c.errors.is_empty()) {
        match column.scalar && !scalar {
            true => errors.merge((*column).clone().expand(len).errors),
            false => errors.merge(column.errors.clone()),
        }
    }
    errors
}

/// Bytes of text that one expression may give for the rows of a chunk: offsets have 32 bits, and memory is bounded.
const MAX_TEXT: usize = 1 << 30;

/// Builds a text column by writing each row's value; null where any argument is null.
pub(super) fn map_text(
    columns: &[&Column],
    rows: usize,
    mut write: impl FnMut(usize, &mut Vec<u8>) -> Result<(), String>,
) -> Column {
    map_text_or_null(columns, rows, |row, out| write(row, out).map(|()| true))
}

/// The same, with false for what has no value.
pub(super) fn map_text_or_null(
    columns: &[&Column],
    rows: usize,
    mut write: impl FnMut(usize, &mut Vec<u8>) -> Result<bool, String>,
) -> Column {
    let (scalar, len) = shape(columns, rows);
    let nulls = nulls(columns, len);
    let mut errors = merged(columns, rows);
    let mut bytes = Vec::new();
    let mut offsets = Vec::with_capacity(len + 1);
    let mut absent = Vec::new();
    offsets.push(0_i32);
    for row in 0..len {
        if nulls.as_ref().is_none_or(|n| n.is_valid(row)) {
            let before = bytes.len();
            let written = match write(row, &mut bytes) {
                Ok(true) if bytes.len() > MAX_TEXT => Err("the texts of this chunk are too long together".into()),
                written => written,
            };
            if written != Ok(true) {
                bytes.truncate(before);
            }
            match written {
                Ok(true) => {}
                Ok(false) => absent.push(row),
                Err(reason) => errors.add(row, reason),
            }
        }
        offsets.push(i32::try_from(bytes.len()).unwrap_or(i32::MAX));
    }
    let array = text_array(offsets, bytes, without(nulls, &absent, len));
    Column::computed(array, scalar, errors)
}

/// Builds a column of a type with numbers inside; null where any argument is null, and for None.
pub(super) fn map_primitive<T: ArrowPrimitiveType>(
    columns: &[&Column],
    rows: usize,
    ty: SqlType,
    mut value: impl FnMut(usize) -> Result<Option<T::Native>, String>,
) -> Column {
    let (scalar, len) = shape(columns, rows);
    let nulls = nulls(columns, len);
    let mut errors = merged(columns, rows);
    let (mut values, mut absent) = (Vec::with_capacity(len), Vec::new());
    for row in 0..len {
        let found = match nulls.as_ref().is_none_or(|n| n.is_valid(row)) {
            true => value(row),
            false => Ok(Some(T::Native::default())),
        };
        values.push(match found {
            Ok(Some(value)) => value,
            Ok(None) => {
                absent.push(row);
                T::Native::default()
            }
            Err(reason) => {
                errors.add(row, reason);
                T::Native::default()
            }
        });
    }
    let array = PrimitiveArray::<T>::new(values.into(), without(nulls, &absent, len)).with_data_type(ty.arrow());
    Column::computed(Arc::new(array), scalar, errors)
}

/// Builds a column of truth values; null where any argument is null.
pub(super) fn map_boolean(
    columns: &[&Column],
    rows: usize,
    mut value: impl FnMut(usize) -> Result<bool, String>,
) -> Column {
    let (scalar, len) = shape(columns, rows);
    let nulls = nulls(columns, len);
    let mut errors = merged(columns, rows);
    let bits = BooleanBuffer::collect_bool(len, |row| {
        let is_valid = nulls.as_ref().is_none_or(|n| n.is_valid(row));
        is_valid
            && value(row).unwrap_or_else(|reason| {
                errors.add(row, reason);
                false
            })
    });
    Column::computed(Arc::new(BooleanArray::new(bits, nulls)), scalar, errors)
}

/// Nulls with further rows among them.
fn without(nulls: Option<NullBuffer>, absent: &[usize], len: usize) -> Option<NullBuffer> {
    if absent.is_empty() {
        return nulls;
    }
    let mut valid: Vec<bool> = match &nulls {
        Some(nulls) => nulls.iter().collect(),
        None => vec![true; len],
    };
    absent.iter().for_each(|row| valid[*row] = false);
    Some(valid.into())
}

/// A text array from its parts.
pub(super) fn text_array(offsets: Vec<i32>, bytes: Vec<u8>, nulls: Option<NullBuffer>) -> ArrayRef {
    let offsets = arrow_buffer::OffsetBuffer::new(offsets.into());
    Arc::new(StringArray::try_new(offsets, bytes.into(), nulls).expect("only whole texts were written"))
}
