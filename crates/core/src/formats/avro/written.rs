//! Schemas of rows that are written.

use serde_json::{Value, json};

use crate::columns::OutputColumn;
use crate::limit::Limit;
use crate::types::SqlType;

/// Whether a text can be a name in Avro: letters, digits and underscores, no digit first.
pub fn is_name(text: &str) -> bool {
    let is_letter = |c: char| c.is_ascii_alphabetic() || c == '_';
    text.starts_with(is_letter) && text.chars().all(|c| is_letter(c) || c.is_ascii_digit())
}

/// The name of the records that files hold.
pub const ROW: &str = "row";

/// The schema of rows with columns. One that may be null has null as its default, so that a reader of a later schema takes older files.
pub fn record_of(columns: &[OutputColumn]) -> String {
    let field = |column: &OutputColumn| {
        let ty = type_of(column.ty, column.limit);
        match column.nullable {
            true => json!({ "name": column.name, "type": ["null", ty], "default": null }),
            false => json!({ "name": column.name, "type": ty }),
        }
    };
    let fields: Vec<Value> = columns.iter().map(field).collect();
    json!({ "type": "record", "name": ROW, "fields": fields }).to_string()
}

fn type_of(ty: SqlType, limit: Option<Limit>) -> Value {
    match ty {
        _ if limit == Some(Limit::Bytea) => json!("bytes"),
        _ if let Some(Limit::List(item)) = limit => json!({ "type": "array", "items": ["null", type_of(item, None)] }),
        _ if limit == Some(Limit::Time) => json!({ "type": "long", "logicalType": "time-micros" }),
        SqlType::Boolean => json!("boolean"),
        SqlType::Integer => json!("int"),
        SqlType::Bigint => json!("long"),
        SqlType::Double => json!("double"),
        SqlType::Decimal { precision, scale } => {
            json!({ "type": "bytes", "logicalType": "decimal", "precision": precision, "scale": scale })
        }
        SqlType::Date => json!({ "type": "int", "logicalType": "date" }),
        SqlType::Timestamptz => json!({ "type": "long", "logicalType": "timestamp-micros" }),
        SqlType::Text | SqlType::Json | SqlType::Timestamp | SqlType::Interval | SqlType::Null => json!("string"),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_schema_says_types_and_what_may_be_null() {
        let column = |name: &str, ty, nullable| OutputColumn { name: name.into(), ty, nullable, limit: None };
        let text = record_of(&[column("id", SqlType::Bigint, false), column("at", SqlType::Timestamptz, true)]);
        let expected = json!({ "type": "record", "name": "row", "fields": [
            { "name": "id", "type": "long" },
            { "name": "at", "type": ["null", { "type": "long", "logicalType": "timestamp-micros" }], "default": null },
        ] });
        assert_eq!(serde_json::from_str::<Value>(&text).unwrap(), expected);
        for (name, expected) in
            [("gross_kg", true), ("_7", true), ("7", false), ("gross kg", false), ("Größe", false), ("", false)]
        {
            assert_eq!(is_name(name), expected, "{name}");
        }
    }

    /// What the writer makes of the schema is read as the same types.
    #[test]
    fn every_type_is_written_and_read() {
        use arrow_array::{ArrayRef, Decimal128Array, RecordBatch, new_null_array};
        use arrow_avro::schema::SCHEMA_METADATA_KEY;
        use arrow_avro::writer::AvroWriter;
        use arrow_schema::Schema;

        let types = [
            SqlType::Text,
            SqlType::Boolean,
            SqlType::Integer,
            SqlType::Bigint,
            SqlType::Double,
            SqlType::Decimal { precision: 18, scale: 2 },
            SqlType::Date,
            SqlType::Timestamptz,
            SqlType::Json,
        ];
        let columns: Vec<OutputColumn> = types
            .iter()
            .enumerate()
            .map(|(i, ty)| OutputColumn { name: format!("c{i}"), ty: *ty, nullable: true, limit: None })
            .collect();
        let fields: Vec<_> = columns.iter().map(|c| c.ty.field(&c.name, c.nullable)).collect();
        let metadata = std::collections::HashMap::from([(SCHEMA_METADATA_KEY.to_string(), record_of(&columns))]);
        let schema = Schema::new_with_metadata(fields, metadata);
        let decimals = Decimal128Array::from(vec![None, Some(-105)]).with_data_type(types[5].arrow());
        let mut arrays: Vec<ArrayRef> = types.iter().map(|ty| new_null_array(&ty.arrow(), 2)).collect();
        arrays[5] = std::sync::Arc::new(decimals);
        let rows = RecordBatch::try_new(std::sync::Arc::new(schema.clone()), arrays).unwrap();
        let mut writer = AvroWriter::new(Vec::new(), schema).unwrap();
        writer.write(&rows).unwrap();
        writer.finish().unwrap();
        let read = arrow_avro::reader::ReaderBuilder::new().build(std::io::Cursor::new(writer.into_inner())).unwrap();
        let batches: Vec<RecordBatch> = read.map(Result::unwrap).collect();
        let found: Vec<SqlType> = batches[0].schema().fields().iter().map(|field| SqlType::of_arrow(field).0).collect();
        let expected = types.map(|ty| if ty == SqlType::Json { SqlType::Text } else { ty });
        assert_eq!(found, expected);
        let nulls: Vec<usize> = batches[0].columns().iter().map(|column| column.null_count()).collect();
        assert_eq!(nulls, [2, 2, 2, 2, 2, 1, 2, 2, 2]);
    }
}
