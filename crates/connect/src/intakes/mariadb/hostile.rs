//! Events of a log with damaged bytes: none makes the reader fail.

use super::gtid;
use super::query::Query;
use super::rows::{self, RowsEvent, RowsKind};
use super::statement;
use super::table_map;
use super::words::Modes;
use crate::mutate::attack;

/// A table map with a column of each type, names and words, and rows for it.
fn map() -> Vec<u8> {
    let types: [u8; 22] = [1, 2, 9, 3, 8, 4, 5, 13, 10, 17, 18, 19, 246, 254, 254, 16, 15, 252, 254, 255, 7, 245];
    let meta: [&[u8]; 22] = [
        b"",
        b"",
        b"",
        b"",
        b"",
        b"\x04",
        b"\x08",
        b"",
        b"",
        b"\x06",
        b"\x06",
        b"\x03",
        b"\x09\x02",
        b"\xf7\x01",
        b"\xf8\x01",
        b"\x03\x01",
        b"\x40\x00",
        b"\x02",
        b"\xfe\x10",
        b"\x04",
        b"",
        b"\x04",
    ];
    let mut body = vec![7, 0, 0, 0, 0, 0, 1, 0];
    body.extend(b"\x06office\0\x06permit\0");
    body.push(22);
    body.extend(types);
    let meta = meta.concat();
    body.push(u8::try_from(meta.len()).unwrap());
    body.extend(meta);
    body.extend([0xff, 0xff, 0x3f]);
    body.extend([1, 2, 0, 0]);
    let names: Vec<u8> = (0..22).flat_map(|i: u8| [2, b'c', b'a' + i]).collect();
    body.extend([4, u8::try_from(names.len()).unwrap()]);
    body.extend(names);
    body.extend(b"\x06\x06\x02\x01x\x02yz\x05\x06\x02\x01x\x02yz\x02\x03\x21\x00\x3f\x0a\x01\x21");
    body
}

fn row_bytes() -> Vec<u8> {
    let mut body = vec![7, 0, 0, 0, 0, 0, 0, 0, 2, 0, 22, 0xff, 0xff, 0x3f, 0xff, 0xff, 0x3f];
    for _ in 0..2 {
        body.extend([0, 0, 0]);
        body.extend(b"\xff\x01\x00\x01\x02\x03\x01\x02\x03\x04\x01\x02\x03\x04\x05\x06\x07\x08");
        body.extend(1.5_f32.to_le_bytes());
        body.extend(2.5_f64.to_le_bytes());
        body.extend(
            b"\x7e\x81\xd5\x0f\x66\x01\x02\x03\x00\x00\x07\x99\xb3\x01\x02\x03\x00\x00\x07\x80\x10\x20\x00\x01",
        );
        body.extend(b"\x80\x00\x01\x0c\x01\x03\x00\x05\x03abc\x03\x00xyz\x02pq\x01\x00\x00\x00g\x01\x02\x03\x04\x01\x00\x00\x00j");
    }
    body
}

#[test]
fn damaged_table_maps_and_rows() {
    assert!(table_map::read(&map()).is_some());
    let maps = [map()];
    attack(&maps, |bytes| drop(table_map::read(bytes)));
    // Damaged maps for good rows, and damaged rows for a good map.
    let good = [row_bytes()];
    let read = |map: &table_map::TableMap, bytes: &[u8]| {
        for (kind, second) in [(RowsKind::Insert, true), (RowsKind::Update, true), (RowsKind::Delete, false)] {
            let Some(mut rows) = RowsEvent::read(kind, second, bytes) else { continue };
            let _ = rows.is_whole();
            for _ in 0..1_000 {
                if rows.next(map).is_none_or(|row| row.is_err()) {
                    break;
                }
            }
        }
    };
    let whole = table_map::read(&map()).unwrap();
    attack(&good, |bytes| read(&whole, bytes));
    attack(&maps, |bytes| {
        if let Some(map) = table_map::read(bytes) {
            read(&map, &good[0]);
        }
    });
    assert_eq!(rows::kind(30), Some((RowsKind::Insert, true)));
}

#[test]
fn damaged_statements() {
    let good: Vec<Vec<u8>> = [
        "truncate table office.permit",
        "/*!50000 drop table */ if exists `a``b`, \"c\"; -- x\n",
        "set statement max_statement_time=1 for create or replace table t (id int primary key, n enum('a','b''c'))",
        "alter table `office`.`permit` drop partition p0, rename to q, add column (x int default '\\'')",
        "rename table a to b, b to c; xa commit X'31',X'',1; rollback to savepoint `s`",
        "insert /*+ hint */ into t select 'x', _utf8mb4 'y', 0x41, 1e5 from dual where a <=> b # end",
    ]
    .map(|text| text.as_bytes().to_vec())
    .into();
    for modes in [Modes::default(), Modes { ansi_quotes: true, plain_backslash: true }] {
        attack(&good, |bytes| {
            let text = String::from_utf8_lossy(bytes);
            let _ = statement::read(&text, "office", modes);
            let _ = statement::savepoint(&text, modes);
        });
    }
    let mut query = vec![0; 8];
    query.extend([6, 0, 0, 14, 0, 0, 0, 0, 0, 0, 1, 4, 0, 0, 0, 0, 0, 0, 0]);
    query.extend(b"office\0truncate \"t\"");
    attack(&[query], |bytes| drop(Query::read(bytes)));
    attack(&[vec![1; 19], vec![0; 30]], |bytes| {
        let _ = gtid::read(bytes);
        drop(gtid::Gtids::parse(&String::from_utf8_lossy(bytes)).show());
    });
}
