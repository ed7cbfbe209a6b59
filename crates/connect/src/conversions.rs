//! What the types of formats become where they are read, and what our types become in files: made by the code that does it.

use std::sync::Arc;

use arrow_schema::{DataType, Field, Fields, IntervalUnit, Schema, TimeUnit, UnionFields, UnionMode};
use parquet::arrow::ArrowSchemaConverter;
use parquet::basic::{LogicalType, Type as Physical};
use sluice_core::columns::OutputColumn;
use sluice_core::formats::avro::{self, Avro};
use sluice_core::formats::protobuf::{self, Protobuf};
use sluice_core::limit::{Limit, shown};
use sluice_core::profile::DeclaredField;
use sluice_core::types::SqlType;

use crate::landings::files::typed::file_schema;

/// A type of a format and one of ours.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct TypeInFormat {
    /// The format.
    pub format: &'static str,
    /// The type of the one side, and the type that it becomes on the other.
    pub from: String,
    /// The other.
    pub to: String,
    /// Whether it is ours that becomes one of the format.
    pub is_written: bool,
    /// What is to be known of the values.
    pub remark: &'static str,
}

/// All conversions: those of reading by format, then those of writing.
pub fn types_in_formats() -> Vec<TypeInFormat> {
    let mut all = read("avro", avro_fields());
    all.extend(read("protobuf", protobuf_fields()));
    all.extend(read("parquet, arrow", arrow_fields()));
    let into: Vec<Vec<TypeInFormat>> = OURS.iter().map(|(ty, limit)| written(*ty, *limit)).collect();
    for place in 0..into.first().map_or(0, Vec::len) {
        all.extend(into.iter().map(|formats| formats[place].clone()));
    }
    all
}

/// A field as a format declares it: how its type is written there, what it is, and what is to be known of it.
type Known = (&'static str, Option<DeclaredField>, &'static str);

fn read(format: &'static str, fields: Vec<Known>) -> Vec<TypeInFormat> {
    let one = |(spelled, field, remark): Known| {
        let to = field.map_or_else(
            || "refused".to_string(),
            |f| match f.format {
                Some(pattern) => format!("{} format '{pattern}'", shown(f.ty, f.limit)),
                None => shown(f.ty, f.limit),
            },
        );
        TypeInFormat { format, from: spelled.into(), to, is_written: false, remark }
    };
    fields.into_iter().map(one).collect()
}

const HEX: &str = "in hexadecimal digits after \\x";
const NESTED: &str = "fields within it can be named by a path";

/// Types of Avro, by their names, as the type of one field.
const AVRO: &[(&str, &str, &str)] = &[
    ("boolean", "\"boolean\"", ""),
    ("int", "\"int\"", ""),
    ("long", "\"long\"", ""),
    ("float", "\"float\"", "the shortest digits that lead back to the same 32 bits"),
    ("double", "\"double\"", ""),
    ("string", "\"string\"", ""),
    ("bytes", "\"bytes\"", HEX),
    ("fixed", r#"{"type":"fixed","name":"f","size":4}"#, HEX),
    ("enum", r#"{"type":"enum","name":"e","symbols":["ORE","SALT"]}"#, "its word"),
    ("decimal", r#"{"type":"bytes","logicalType":"decimal","precision":12,"scale":2}"#, "exact; up to 38 digits"),
    ("date", r#"{"type":"int","logicalType":"date"}"#, ""),
    ("time-millis", r#"{"type":"int","logicalType":"time-millis"}"#, ""),
    ("time-micros", r#"{"type":"long","logicalType":"time-micros"}"#, ""),
    ("timestamp-millis", r#"{"type":"long","logicalType":"timestamp-millis"}"#, ""),
    ("timestamp-micros", r#"{"type":"long","logicalType":"timestamp-micros"}"#, ""),
    ("timestamp-nanos", r#"{"type":"long","logicalType":"timestamp-nanos"}"#, "rounded to the microsecond"),
    ("local-timestamp-micros", r#"{"type":"long","logicalType":"local-timestamp-micros"}"#, "taken to be in UTC"),
    ("uuid", r#"{"type":"string","logicalType":"uuid"}"#, ""),
    ("duration", r#"{"type":"fixed","name":"d","size":12,"logicalType":"duration"}"#, "such as 1 mon 2 days 00:00:03"),
    ("array of string", r#"{"type":"array","items":"string"}"#, ""),
    (
        "array of record",
        r#"{"type":"array","items":{"type":"record","name":"r1","fields":[{"name":"a","type":"int"}]}}"#,
        "",
    ),
    ("map", r#"{"type":"map","values":"long"}"#, ""),
    ("record", r#"{"type":"record","name":"r2","fields":[{"name":"a","type":"int"}]}"#, NESTED),
    ("union of null and long", r#"["null","long"]"#, "may be null"),
    ("union of long and string", r#"["long","string"]"#, "the value, whichever it is"),
];

fn avro_fields() -> Vec<Known> {
    AVRO.iter()
        .map(|(name, spelled, remark)| {
            let text = format!(r#"{{"type":"record","name":"sample","fields":[{{"name":"v","type":{spelled}}}]}}"#);
            let declared =
                Avro::of_schema("sample.avsc", &text).map_or_else(|_| Vec::new(), |format| format.declared());
            (*name, declared.into_iter().next(), *remark)
        })
        .collect()
}

/// Types of Protobuf, as the declaration of one field.
const PROTOBUF: &[(&str, &str, &str)] = &[
    ("double", "double v = 1;", ""),
    ("float", "float v = 1;", "the shortest digits that lead back to the same 32 bits"),
    ("int32, sint32, sfixed32", "sint32 v = 1;", ""),
    ("int64, sint64, sfixed64", "sint64 v = 1;", ""),
    ("uint32, fixed32", "uint32 v = 1;", ""),
    ("uint64, fixed64", "uint64 v = 1;", ""),
    ("bool", "bool v = 1;", ""),
    ("string", "string v = 1;", ""),
    ("bytes", "bytes v = 1;", HEX),
    ("enum", "E v = 1; enum E { NONE = 0; }", "its word; a number that has none as its digits"),
    ("message", "M v = 1; message M { int32 a = 1; }", NESTED),
    ("repeated string", "repeated string v = 1;", ""),
    ("repeated message", "repeated M v = 1; message M { int32 a = 1; }", ""),
    ("map", "map<string, int64> v = 1;", ""),
    ("Timestamp", "google.protobuf.Timestamp v = 1;", "rounded to the microsecond"),
    ("Duration", "google.protobuf.Duration v = 1;", "such as 00:01:30"),
    ("Struct, Value, ListValue", "google.protobuf.Struct v = 1;", ""),
    ("Int64Value and the like", "google.protobuf.Int64Value v = 1;", "the value in it; may be null"),
];

fn protobuf_fields() -> Vec<Known> {
    let imports =
        ["timestamp", "duration", "struct", "wrappers"].map(|file| format!("import \"google/protobuf/{file}.proto\";"));
    PROTOBUF
        .iter()
        .map(|(name, field, remark)| {
            let text = format!("syntax = \"proto3\"; {} message Sample {{ {field} }}", imports.join(" "));
            let files = [("sample.proto".to_string(), text.into_bytes())];
            let format = Protobuf::of_schema(&files, Some("Sample"));
            let declared = format.map_or_else(|_| Vec::new(), |format| format.declared());
            (*name, declared.into_iter().next(), *remark)
        })
        .collect()
}

fn arrow_fields() -> Vec<Known> {
    let item = |ty| Arc::new(Field::new("item", ty, true));
    let inner = Fields::from(vec![Field::new("a", DataType::Int32, true)]);
    let entries =
        Fields::from(vec![Field::new("key", DataType::Utf8, false), Field::new("value", DataType::Int64, true)]);
    let union =
        UnionFields::try_new([0, 1], [Field::new("a", DataType::Int32, true), Field::new("b", DataType::Utf8, true)]);
    let utc = Some(Arc::from("UTC"));
    let mut all = vec![
        ("Boolean", DataType::Boolean, ""),
        ("Int8, Int16, Int32, UInt8, UInt16", DataType::Int16, ""),
        ("Int64, UInt32", DataType::Int64, ""),
        ("UInt64", DataType::UInt64, ""),
        ("Float16, Float32", DataType::Float32, "the shortest digits that lead back to the same 32 bits"),
        ("Float64", DataType::Float64, ""),
        ("Decimal32, Decimal64, Decimal128", DataType::Decimal128(12, 2), "exact"),
        ("Decimal256", DataType::Decimal256(50, 2), "its digits"),
        ("Utf8, LargeUtf8, Utf8View", DataType::Utf8, ""),
        ("Binary, LargeBinary, FixedSizeBinary", DataType::Binary, HEX),
        ("Date32, Date64", DataType::Date32, ""),
        ("Time32, Time64", DataType::Time64(TimeUnit::Nanosecond), "rounded to the microsecond"),
        ("Timestamp with a zone", DataType::Timestamp(TimeUnit::Nanosecond, utc), "rounded to the microsecond"),
        ("Timestamp without a zone", DataType::Timestamp(TimeUnit::Microsecond, None), "taken to be in UTC"),
        ("Duration", DataType::Duration(TimeUnit::Second), "such as 1 day 00:01:30"),
        ("Interval", DataType::Interval(IntervalUnit::MonthDayNano), "such as 1 mon 2 days 00:00:03"),
        ("List of Utf8", DataType::List(item(DataType::Utf8)), ""),
        ("List of Struct", DataType::List(item(DataType::Struct(inner.clone()))), ""),
        ("Struct", DataType::Struct(inner), NESTED),
        ("Map", DataType::Map(Arc::new(Field::new("entries", DataType::Struct(entries), false)), false), ""),
        ("Dictionary of Utf8", DataType::Dictionary(Box::new(DataType::Int32), Box::new(DataType::Utf8)), "its word"),
    ];
    if let Ok(fields) = union {
        all.push(("Union", DataType::Union(fields, UnionMode::Dense), "the value, whichever it is"));
    }
    all.into_iter()
        .map(|(name, ty, remark)| {
            let declared = DeclaredField::all(&Schema::new(vec![Field::new("v", ty, true)]));
            (name, declared.into_iter().next(), remark)
        })
        .collect()
}

/// Our types, as columns have them.
const OURS: &[(SqlType, Option<Limit>)] = &[
    (SqlType::Text, None),
    (SqlType::Boolean, None),
    (SqlType::Integer, None),
    (SqlType::Bigint, None),
    (SqlType::Double, None),
    (SqlType::Decimal { precision: 12, scale: 2 }, None),
    (SqlType::Date, None),
    (SqlType::Timestamptz, None),
    (SqlType::Json, None),
    (SqlType::Text, Some(Limit::Uuid)),
    (SqlType::Text, Some(Limit::Bytea)),
    (SqlType::Text, Some(Limit::Time)),
    (SqlType::Json, Some(Limit::List(SqlType::Text))),
];

/// What one of our types becomes in each format.
fn written(ty: SqlType, limit: Option<Limit>) -> Vec<TypeInFormat> {
    let column = OutputColumn { name: "v".into(), ty, nullable: false, limit };
    let schema = file_schema(&Arc::new(Schema::new(vec![column.field()])));
    let one = |format, to: String| TypeInFormat { format, from: column.type_shown(), to, is_written: true, remark: "" };
    vec![
        one("parquet", parquet_type(&schema)),
        one("arrow", schema.field(0).data_type().to_string()),
        one("avro", avro_type(&column)),
        one("protobuf", protobuf_type(&column)),
        one("json", json_type(ty, limit).into()),
        one("csv", csv_type(ty, limit).into()),
    ]
}

fn parquet_type(schema: &Schema) -> String {
    let Ok(found) = ArrowSchemaConverter::new().convert(schema) else { return "refused".into() };
    let column = found.column(0);
    let ty = column.self_type().get_basic_info();
    let physical = match column.physical_type() {
        Physical::BYTE_ARRAY if column.max_rep_level() > 0 => "LIST of BYTE_ARRAY".into(),
        physical => physical.to_string(),
    };
    match ty.logical_type_ref() {
        Some(LogicalType::Decimal(decimal)) => format!("{physical}, DECIMAL({},{})", decimal.precision, decimal.scale),
        Some(LogicalType::Timestamp { .. }) => format!("{physical}, TIMESTAMP in UTC, microseconds"),
        Some(LogicalType::Time { .. }) => format!("{physical}, TIME, microseconds"),
        Some(LogicalType::String) => format!("{physical}, STRING"),
        Some(LogicalType::Date) => format!("{physical}, DATE"),
        _ => physical,
    }
}

fn avro_type(column: &OutputColumn) -> String {
    let record: serde_json::Value =
        serde_json::from_str(&avro::record_of(std::slice::from_ref(column))).unwrap_or_default();
    let ty = &record["fields"][0]["type"];
    ty.as_str().map_or_else(|| ty.to_string(), str::to_string)
}

fn protobuf_type(column: &OutputColumn) -> String {
    let many = if matches!(column.limit, Some(Limit::List(_))) { "repeated " } else { "" };
    format!("{many}{}", protobuf::field_type(column))
}

fn json_type(ty: SqlType, limit: Option<Limit>) -> &'static str {
    match (ty, limit) {
        (_, Some(Limit::Bytea)) => "a string: \\x and hexadecimal digits",
        (_, Some(Limit::List(_))) => "a list",
        (SqlType::Json, _) => "the value",
        (SqlType::Boolean, _) => "true or false",
        (SqlType::Double, _) => "a number; NaN and the infinities as strings",
        (ty, _) if ty.is_numeric() => "a number",
        _ => "a string",
    }
}

fn csv_type(ty: SqlType, limit: Option<Limit>) -> &'static str {
    match (ty, limit) {
        (_, Some(Limit::Bytea)) => "\\x and hexadecimal digits",
        (SqlType::Json, _) => "JSON",
        _ => "its text",
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn every_type_of_every_format_is_read_as_something() {
        let all = types_in_formats();
        assert!(all.iter().all(|one| !one.to.is_empty()), "{all:?}");
        let refused: Vec<&str> = all.iter().filter(|one| one.to == "refused").map(|one| one.from.as_str()).collect();
        assert!(refused.is_empty(), "{refused:?}");
        let find = |format: &str, from: &str| {
            let one = all.iter().find(|one| one.format == format && one.from == from && !one.is_written);
            one.map(|one| one.to.clone()).unwrap_or_default()
        };
        assert_eq!(find("avro", "bytes"), "bytea");
        assert_eq!(find("avro", "uuid"), "uuid");
        assert_eq!(find("avro", "array of string"), "text[]");
        assert_eq!(find("protobuf", "bytes"), "bytea");
        assert_eq!(find("protobuf", "uint64, fixed64"), "decimal(20,0)");
        assert_eq!(find("parquet, arrow", "Time32, Time64"), "time");
    }

    /// What a file says of its columns is what landed in them, as far as the format has the type.
    #[test]
    fn what_is_written_is_read_as_it_was() {
        for (ty, limit) in OURS {
            let column = OutputColumn { name: "v".into(), ty: *ty, nullable: true, limit: *limit };
            let schema = file_schema(&Arc::new(Schema::new(vec![column.field()])));
            let found = DeclaredField::all(&schema).into_iter().next().unwrap();
            // A UUID is a text to them.
            let expected = if *limit == Some(Limit::Uuid) { None } else { *limit };
            assert_eq!((found.ty, found.limit), (*ty, expected), "{column:?}");
        }
    }
}
