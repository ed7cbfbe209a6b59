//! What a file is, and its rows under our types.

use std::sync::Arc;

use arrow_array::types::Int32Type;
use arrow_array::{
    ArrayRef, BinaryArray, DictionaryArray, Float32Array, Int16Array, ListArray, RecordBatch, StringViewArray,
    StructArray, TimestampNanosecondArray, UInt64Array,
};
use arrow_schema::{DataType, Field};
use rstest::rstest;
use sluice_core::values::json::write_lines;

use super::*;

fn rows(stored: &mut dyn Stored) -> String {
    let mut out = String::new();
    let columns = stored.summary().columns.clone();
    while let Some(batch) = stored.next().unwrap() {
        write_lines(&mut out, &batch, &columns);
    }
    out
}

fn write_parquet(path: &Path, columns: Vec<(&str, ArrayRef)>) {
    let batch = RecordBatch::try_from_iter(columns).unwrap();
    let file = std::fs::File::create(path).unwrap();
    let mut writer = ::parquet::arrow::ArrowWriter::try_new(file, batch.schema(), None).unwrap();
    writer.write(&batch).unwrap();
    writer.close().unwrap();
}

#[test]
fn parquet_of_other_programs_is_shown_under_our_types() {
    let folder = tempfile::tempdir().unwrap();
    let path = folder.path().join("a.parquet");
    let dictionary: DictionaryArray<Int32Type> = vec![Some("salt"), None].into_iter().collect();
    let list = ListArray::from_iter_primitive::<Int32Type, _, _>(vec![Some(vec![Some(1), None]), None]);
    let inner: ArrayRef = Arc::new(StringViewArray::from(vec!["x\"y", "z"]));
    let object = StructArray::from(vec![(Arc::new(Field::new("k", DataType::Utf8View, true)), inner)]);
    write_parquet(
        &path,
        vec![
            ("small", Arc::new(Int16Array::from(vec![Some(7), None]))),
            ("large", Arc::new(UInt64Array::from(vec![u64::MAX, 0]))),
            ("single", Arc::new(Float32Array::from(vec![1.5, 2.0]))),
            ("at", Arc::new(TimestampNanosecondArray::from(vec![1_775_000_000_000_000_999, 0]))),
            ("kind", Arc::new(dictionary)),
            ("list", Arc::new(list)),
            ("object", Arc::new(object)),
            ("bytes", Arc::new(BinaryArray::from_vec(vec![b"\x00\xff", b""]))),
        ],
    );
    assert_eq!(look(&path).unwrap().recognised.describe(), "Parquet");
    let mut stored = open(vec![one_file(&path).unwrap()], &Form::Parquet, None).unwrap();
    let types: Vec<String> = stored.summary().columns.iter().map(|c| c.ty.to_string()).collect();
    let expected = ["integer", "decimal(20,0)", "double precision", "timestamptz", "text", "json", "json", "text"]
        .map(String::from);
    assert_eq!((types, stored.summary().rows), (expected.to_vec(), Some(2)));
    let first = r#"{"small":7,"large":18446744073709551615,"single":1.5,"at":"2026-03-31T23:33:20Z","kind":"salt","list":[1,null],"object":{"k":"x\"y"},"bytes":"\\x00ff"}"#;
    let second = r#"{"small":null,"large":0,"single":2,"at":"1970-01-01T00:00:00Z","kind":null,"list":null,"object":{"k":"z"},"bytes":"\\x"}"#;
    assert_eq!(rows(stored.as_mut()), format!("{first}\n{second}\n"));
}

#[test]
fn files_with_other_columns_are_shown_together() {
    let folder = tempfile::tempdir().unwrap();
    write_parquet(&folder.path().join("a.parquet"), vec![("n", Arc::new(Int16Array::from(vec![1])))]);
    let columns: Vec<(&str, ArrayRef)> =
        vec![("n", Arc::new(Float32Array::from(vec![2.5]))), ("more", Arc::new(Int16Array::from(vec![3])))];
    write_parquet(&folder.path().join("b.parquet"), columns);
    let files = files_below(folder.path(), "parquet").unwrap();
    let mut stored = open(files, &Form::Parquet, None).unwrap();
    assert_eq!(rows(stored.as_mut()), "{\"n\":1,\"more\":null}\n{\"n\":2.5,\"more\":3}\n");
    assert!(stored.summary().remarks[0].contains("1 of 2 files"));
}

#[rstest]
#[case("a.csv", "id;note\n1;x\n2;\n", "{\"id\":1,\"note\":\"x\"}\n{\"id\":2,\"note\":null}\n", 0)]
#[case("a.jsonl", "{\"id\":1,\"c\":{\"k\":2}}\nbroken\n", "{\"id\":1,\"c_k\":2}\n", 1)]
fn text_files_get_their_types_from_their_events(
    #[case] name: &str,
    #[case] text: &str,
    #[case] expected: &str,
    #[case] broken: u64,
) {
    let folder = tempfile::tempdir().unwrap();
    let path = folder.path().join(name);
    std::fs::write(&path, text).unwrap();
    let form = Form::recognised(&look(&path).unwrap().recognised).unwrap();
    let mut stored = open(vec![one_file(&path).unwrap()], &form, None).unwrap();
    assert_eq!(rows(stored.as_mut()), expected);
    assert_eq!(stored.broken(), broken);
}

#[test]
fn a_cut_parquet_file_is_said() {
    let folder = tempfile::tempdir().unwrap();
    let path = folder.path().join("a.parquet");
    std::fs::write(&path, "PAR1 and no end").unwrap();
    let failure = open(vec![one_file(&path).unwrap()], &Form::Parquet, None).err().unwrap();
    assert!(failure.message.contains("not a complete Parquet file") && failure.help.is_some(), "{failure}");
}
