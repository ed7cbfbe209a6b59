//! Columns as files that say their types hold them: bytes, times of day and lists, which come as texts, with types of their own.

use std::collections::HashMap;
use std::sync::Arc;

use arrow_array::cast::AsArray as _;
use arrow_array::{
    Array as _, ArrayRef, BinaryArray, ListArray, RecordBatch, RecordBatchOptions, StringArray, Time64MicrosecondArray,
};
use arrow_avro::schema::{AVRO_NAME_METADATA_KEY, SCHEMA_METADATA_KEY};
use arrow_buffer::OffsetBuffer;
use arrow_schema::{DataType, Field, FieldRef, Schema, SchemaRef, TimeUnit};
use sluice_core::columns::{OutputColumn, kind_of};
use sluice_core::expr::{Column, cast_column};
use sluice_core::formats::avro;
use sluice_core::limit::Limit;
use sluice_core::types::SqlType;
use sluice_core::values::clock::parse_clock;
use sluice_core::values::{bytes, list};

/// The columns with the types that files have.
pub(crate) fn file_schema(schema: &SchemaRef) -> SchemaRef {
    if schema.fields().iter().all(|field| type_of(field).is_none()) {
        return Arc::clone(schema);
    }
    let typed = |field: &Arc<Field>| match type_of(field) {
        Some(ty) => Arc::new(field.as_ref().clone().with_data_type(ty)),
        None => Arc::clone(field),
    };
    Arc::new(Schema::new(schema.fields().iter().map(typed).collect::<Vec<_>>()))
}

/// Rows with the types that files have.
pub(crate) fn file_rows(rows: &RecordBatch) -> Result<RecordBatch, String> {
    let schema = rows.schema();
    let typed = file_schema(&schema);
    if Arc::ptr_eq(&schema, &typed) {
        return Ok(rows.clone());
    }
    let columns = schema.fields().iter().zip(rows.columns()).map(|(field, column)| array_of(field, column)).collect();
    let options = RecordBatchOptions::new().with_row_count(Some(rows.num_rows()));
    RecordBatch::try_new_with_options(typed, columns, &options).map_err(|e| e.to_string())
}

/// Columns as the writer of Avro takes them: with the schema by which it encodes, and the name of its records.
pub(crate) fn avro_schema(schema: &SchemaRef) -> Schema {
    let column = |field: &FieldRef| {
        let (name, ty, nullable) = (field.name().clone(), SqlType::of_arrow(field).0, field.is_nullable());
        OutputColumn { name, ty, nullable, limit: kind_of(field) }
    };
    let record = avro::record_of(&schema.fields().iter().map(column).collect::<Vec<_>>());
    let metadata = HashMap::from([
        (SCHEMA_METADATA_KEY.to_string(), record),
        (AVRO_NAME_METADATA_KEY.to_string(), avro::ROW.to_string()),
    ]);
    Schema::new_with_metadata(schema.fields().clone(), metadata)
}

fn type_of(field: &Field) -> Option<DataType> {
    match kind_of(field)? {
        Limit::Bytea => Some(DataType::Binary),
        Limit::Time => Some(DataType::Time64(TimeUnit::Microsecond)),
        Limit::List(item) => Some(DataType::List(Arc::new(Field::new("item", item.arrow(), true)))),
        _ => None,
    }
}

/// Lists with items of their type; they were checked where they were made.
fn lists(column: &ArrayRef, item: SqlType, field: &FieldRef) -> ArrayRef {
    let texts = column.as_string::<i32>();
    let mut items: Vec<Option<String>> = Vec::new();
    let mut lengths = Vec::with_capacity(texts.len());
    for text in texts {
        let before = items.len();
        list::each(text.unwrap_or("[]"), |item| items.push(item.map(str::to_string)));
        lengths.push(items.len() - before);
    }
    let rows = items.len();
    let items: ArrayRef = Arc::new(StringArray::from(items));
    let typed = cast_column(Column::of(items), SqlType::Text, item, rows).array;
    Arc::new(ListArray::new(Arc::clone(field), OffsetBuffer::from_lengths(lengths), typed, texts.nulls().cloned()))
}

fn array_of(field: &Field, column: &ArrayRef) -> ArrayRef {
    match type_of(field) {
        Some(DataType::Binary) => {
            let mut buffer = Vec::new();
            let values = column.as_string::<i32>().iter().map(|text| {
                buffer.clear();
                bytes::read(text?, &mut buffer).map(|()| buffer.clone())
            });
            Arc::new(values.collect::<BinaryArray>())
        }
        Some(DataType::List(of)) => match kind_of(field) {
            Some(Limit::List(item)) => lists(column, item, &of),
            _ => Arc::clone(column),
        },
        Some(_) => {
            let values = column.as_string::<i32>().iter().map(|text| text.and_then(parse_clock));
            Arc::new(values.collect::<Time64MicrosecondArray>())
        }
        None => Arc::clone(column),
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use arrow_schema::Schema;

    #[test]
    fn bytes_and_times_get_types_of_their_own() {
        let column = |name: &str, limit| OutputColumn { name: name.into(), ty: SqlType::Text, nullable: true, limit };
        let columns = [column("raw", Some(Limit::Bytea)), column("opens", Some(Limit::Time)), column("name", None)];
        let schema = Arc::new(Schema::new(columns.iter().map(OutputColumn::field).collect::<Vec<_>>()));
        let array = |values: [Option<&str>; 2]| Arc::new(StringArray::from(values.to_vec())) as ArrayRef;
        let arrays = vec![array([Some("\\x00ff"), None]), array([None, Some("08:05:00.5")]), array([Some("a"), None])];
        let rows = file_rows(&RecordBatch::try_new(schema, arrays).unwrap()).unwrap();
        assert_eq!(rows.column(0).as_binary::<i32>().value(0), [0, 0xff]);
        assert!(rows.column(0).is_null(1) && rows.column(1).is_null(0));
        let times = rows.column(1).as_primitive::<arrow_array::types::Time64MicrosecondType>();
        assert_eq!(times.value(1), 29_100_500_000);
        assert_eq!(rows.column(2).as_string::<i32>().value(0), "a");
    }

    #[test]
    fn lists_get_items_of_their_type() {
        let limit = Some(Limit::List(SqlType::Decimal { precision: 5, scale: 2 }));
        let column = OutputColumn { name: "tolls".into(), ty: SqlType::Json, nullable: true, limit };
        let schema = Arc::new(Schema::new(vec![column.field()]));
        let array: ArrayRef = Arc::new(StringArray::from(vec![Some("[1.50,null]"), None, Some("[]")]));
        let rows = file_rows(&RecordBatch::try_new(schema, vec![array]).unwrap()).unwrap();
        let found = rows.column(0).as_list::<i32>();
        assert_eq!((found.value_length(0), found.is_null(1), found.value_length(2)), (2, true, 0));
        let items = found.value(0);
        let items = items.as_primitive::<arrow_array::types::Decimal128Type>();
        assert_eq!((items.value_as_string(0), items.is_null(1)), ("1.50".into(), true));
    }
}
