//! Records with damaged bytes: none is lost, none makes the decoder fail, and what it takes other parsers take too.

use serde_json::value::RawValue;

use super::csv::{Csv, Dialect};
use super::json::{JsonLines, escape_controls};
use super::{Decoded, Format};
use crate::columns::OutputColumn;
use crate::config::ExtraFields;
use crate::contract::{Contract, parse_fields};
use crate::event::{Chunk, Position};
use crate::mutate::attack;
use crate::problem::Problems;
use crate::profile::Profile;
use crate::reject::{Reason, Reject};
use crate::sql::tests::embed;
use crate::types::SqlType;
use crate::values::json::write_lines;

const FIELDS: &str = "t text, b boolean, i integer, l bigint, d double precision, n decimal(6,2), \
                      day date, at timestamptz, j json, kind text from 'cargo.kind', deep integer from 'cargo.size.w'";

fn contract(extra: ExtraFields) -> Contract {
    let mut problems = Problems::new();
    let fields = parse_fields(&embed(FIELDS), &mut problems);
    assert!(problems.is_empty(), "{:?}", problems.into_sorted());
    Contract { fields, extra, may_lack: false }
}

fn decode(format: &dyn Format, contract: &Contract, bytes: &[u8], head: Option<usize>) -> (Chunk, Decoded) {
    let skipped = head.unwrap_or(0);
    let cut = format.cut(&bytes[skipped..], u64::MAX);
    let is_blank = |rest: &[u8]| rest.trim_ascii().is_empty();
    let whole = skipped + cut.bytes;
    let tail = !is_blank(&bytes[whole..]);
    let bytes = if tail { bytes } else { &bytes[..whole] };
    let chunk = Chunk {
        partition: "a".into(),
        from: Position::at(0),
        to: Position::at(bytes.len() as u64),
        bytes: bytes.to_vec(),
        head: head.map(|n| bytes[..n].into()),
        records: cut.records + u64::from(tail),
        ..Chunk::default()
    };
    let decoded = format.decoder(contract).decode(&chunk);
    assert_eq!((decoded.rows.spans.len() + decoded.rejects.len()) as u64, chunk.records, "each record is one of both");
    assert_eq!(decoded.rows.batch.num_rows(), decoded.rows.spans.len());
    (chunk, decoded)
}

/// What a profile counts as events is what a run takes, under the contract that a draft would give but for the types.
fn assert_profiled(format: &dyn Format, chunk: &Chunk) {
    let mut profile = Profile::default();
    profile.add_chunk(chunk, format);
    let mut contract = profile.contract();
    contract.fields.retain(|field| !field.path.iter().any(String::is_empty));
    contract.fields.iter_mut().for_each(|field| {
        field.ty = SqlType::Text;
        field.format = None;
    });
    let decoded = format.decoder(&contract).decode(chunk);
    let (taken, records) = (decoded.rows.spans.len() as u64, chunk.records);
    // The contract is of one type, and a decoder reports the first fault of a record, a value's or the record's own.
    let is_of_value = |r: &&Reject| r.reason == Reason::TYPE || r.message.contains("surrogate");
    let perhaps = decoded.rejects.iter().filter(is_of_value).count() as u64;
    // A field that only such records have is in no contract.
    let doubled = profile.broken.iter().filter(|b| b.message.contains("occurs twice")).count() as u64;
    let shown: Vec<String> = decoded.rejects.iter().map(|r| r.message.clone()).collect();
    assert!(
        (taken.saturating_sub(doubled)..=taken + perhaps).contains(&profile.events)
            && profile.events + profile.broken_count == records,
        "{} events and {} others of {taken} and {perhaps}: {shown:?}\n{:?}\n{}",
        profile.events,
        profile.broken_count,
        profile.broken,
        chunk.bytes.escape_ascii()
    );
}

/// What is written of the rows is JSON, one value a line.
fn assert_written(contract: &Contract, decoded: &Decoded) {
    let column = |name: &str, ty| OutputColumn { name: name.into(), ty, nullable: true, limit: None };
    let mut columns: Vec<OutputColumn> = contract.fields.iter().map(|f| column(&f.name, f.ty)).collect();
    columns.extend((contract.extra == ExtraFields::Keep).then(|| column("extra", SqlType::Json)));
    let mut out = String::new();
    write_lines(&mut out, &decoded.rows.batch, &columns);
    assert_eq!(out.lines().count(), decoded.rows.spans.len(), "{out}");
    for line in out.lines() {
        serde_json::from_str::<&RawValue>(line).unwrap_or_else(|e| panic!("not JSON: {e}: {line}"));
    }
}

#[test]
fn damaged_json_lines() {
    let good: Vec<Vec<u8>> = [
        r#"{"t":"a\"b\\\u00e9\ud83d\udea2\n","b":false,"s":-7,"i":7.0,"l":9223372036854775807,"r":1.5}"#,
        r#"{"d":1.5e3,"n":12.30,"day":"2026-04-01","at":"2026-04-01T08:15:00.25+02:00","j":{"a": [1, "x", null]}}"#,
        r#"{ "t" : "閘門 🚢" , "zz" : [1,{"a":"]"}], "cargo":{"kind":"ore","size":{"w":3}} }"#,
        "{\"i\":\"12\",\"n\":\"1.25\",\"b\":\"true\"}\n{\"t\":null}\n\n{\"cargo\":null}",
    ]
    .map(|text| text.as_bytes().to_vec())
    .into();
    for extra in [ExtraFields::Ignore, ExtraFields::Keep, ExtraFields::Reject] {
        let contract = contract(extra);
        attack(&good, |bytes| {
            let (chunk, decoded) = decode(&JsonLines, &contract, bytes, None);
            for span in &decoded.rows.spans {
                // Control characters inside strings are let through, and escaped where JSON is passed on.
                let record = escape_controls(span.of(&chunk.bytes));
                let parsed = serde_json::from_slice::<&RawValue>(&record);
                assert!(parsed.is_ok(), "taken, although {parsed:?}: {}", record.escape_ascii());
            }
            for reject in decoded.rejects.iter().filter(|r| r.reason == Reason::NOT_JSON) {
                let parsed = serde_json::from_slice::<serde_json::Map<String, serde_json::Value>>(&reject.bytes);
                assert!(parsed.is_err(), "`{}` is JSON: {}", reject.bytes.escape_ascii(), reject.message);
            }
            assert_written(&contract, &decoded);
            assert_profiled(&JsonLines, &chunk);
        });
    }
}

#[test]
fn damaged_csv() {
    let good: Vec<Vec<u8>> = [
        "t,b,i,n,day\nx,true,7,1.25,2026-04-01\n\"a, \"\"b\"\"\nc\",false,-8,,\n",
        "day,t,more\r\n2026-04-01,\"閘門\",z\r\n,,\r\n",
        "\u{feff}t , i\n \"x\" , 1 \n5\" pipe,3",
    ]
    .map(|text| text.as_bytes().to_vec())
    .into();
    let format = Csv::new(Dialect::default());
    for extra in [ExtraFields::Ignore, ExtraFields::Keep] {
        let contract = contract(extra);
        attack(&good, |bytes| {
            let head = format.cut(bytes, 1);
            if head.records == 1 {
                let (chunk, decoded) = decode(&format, &contract, bytes, Some(head.bytes));
                assert_written(&contract, &decoded);
                assert_profiled(&format, &chunk);
            }
        });
    }
}

#[test]
fn damaged_lines_of_text() {
    let good: Vec<Vec<u8>> = [
        "10.0.0.1 - ada \"GET /locks/low\"\nlow - 閘門\n\n",
        "t=low i=7 kind=\"a \\\"b\\\" \\n c\" debug\nlevel=info t=\n",
        "low   ore\r\nhigh  oats                       \r\n",
    ]
    .map(|text| text.as_bytes().to_vec())
    .into();
    let contract = contract(ExtraFields::Keep);
    let layouts = super::text::tests::layouts();
    attack(&good, |bytes| {
        for format in &layouts {
            let (chunk, decoded) = decode(format.as_ref(), &contract, bytes, None);
            assert_written(&contract, &decoded);
            assert_profiled(format.as_ref(), &chunk);
        }
    });
}
