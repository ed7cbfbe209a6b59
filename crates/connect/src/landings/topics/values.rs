//! The values of messages, by their format.

use std::sync::Arc;

use arrow_array::{RecordBatch, RecordBatchOptions};
use arrow_avro::schema::FingerprintStrategy;
use arrow_avro::writer::format::{AvroBinaryFormat, AvroSoeFormat};
use arrow_avro::writer::{EncodedRows, WriterBuilder};
use arrow_schema::SchemaRef;
use sluice_core::failure::{Failure, FailureKind, Outcome};
use sluice_core::formats::RowWriter;
use sluice_core::formats::protobuf::{MessageWriter, Misfit, RefusedRow, WrittenMessages};

use crate::landings::files::typed::{avro_schema, file_rows};

/// How the values of messages are written.
#[derive(Clone, Debug)]
pub(super) enum ValueWriter {
    /// As text.
    Text(Arc<dyn RowWriter>),
    /// As Avro in a frame, by the schema of these columns: whether a column may be null is part of it, and not of some rows.
    Avro(Frame, SchemaRef),
    /// As Protobuf in a frame; or why no row can be written.
    Protobuf(Frame, Result<Arc<MessageWriter>, Vec<Misfit>>),
}

/// What stands before a value.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum Frame {
    /// Nothing.
    Bare,
    /// Two bytes that mark it, and the fingerprint of its schema (Avro 1.11, single-object encoding).
    SingleObject,
    /// A zero byte, and the number that a registry gave its schema; of Protobuf also the place of the type in it.
    Registry(u32),
}

/// The values of some rows.
pub(super) enum Values<'t> {
    /// Texts, each followed by a line end, and where each ends.
    Text(&'t str, Vec<usize>),
    /// Values of Avro.
    Avro(EncodedRows),
    /// Messages of Protobuf.
    Protobuf(WrittenMessages),
}

impl ValueWriter {
    /// Writes the values of rows. `text` is used again.
    pub(super) fn write<'t>(&self, rows: &RecordBatch, text: &'t mut String) -> Outcome<Values<'t>> {
        match self {
            Self::Text(writer) => {
                text.clear();
                let ends = writer.write_messages(text, rows, &crate::landings::columns_of(&rows.schema()));
                Ok(Values::Text(text, ends))
            }
            Self::Avro(frame, schema) => encode(rows, *frame, schema).map(Values::Avro).map_err(Failure::internal),
            Self::Protobuf(frame, writer) => {
                let written = writer.as_ref().map_err(|found| failure(found))?.write(rows, &before(*frame, writer));
                match written.refused.first() {
                    None => Ok(Values::Protobuf(written)),
                    // Such rows are taken out before.
                    Some(refused) => Err(Failure::internal(format!("{}: {}", refused.column, refused.message))),
                }
            }
        }
    }

    /// The number of the schema is known now.
    pub(super) fn set_number(&mut self, number: u32) {
        if let Self::Avro(frame, _) | Self::Protobuf(frame, _) = self {
            *frame = Frame::Registry(number);
        }
    }

    /// Rows that cannot be written.
    pub(super) fn refused(&self, rows: &RecordBatch) -> Vec<RefusedRow> {
        match self {
            Self::Protobuf(_, Ok(writer)) if writer.may_refuse() => writer.write(rows, &[]).refused,
            _ => Vec::new(),
        }
    }
}

fn failure(misfits: &[Misfit]) -> Failure {
    let (message, help) =
        misfits.first().map_or_else(Default::default, |first| (first.message.clone(), first.help.clone()));
    Failure::new(FailureKind::Configuration, message).with_help(help)
}

/// What stands before each message of Protobuf.
fn before(frame: Frame, writer: &Result<Arc<MessageWriter>, Vec<Misfit>>) -> Vec<u8> {
    match (frame, writer) {
        (Frame::Registry(number), Ok(writer)) => [&[0][..], &number.to_be_bytes(), &writer.place()].concat(),
        _ => Vec::new(),
    }
}

impl Values<'_> {
    /// How many there are.
    pub(super) fn len(&self) -> usize {
        match self {
            Self::Text(_, ends) => ends.len(),
            Self::Avro(rows) => rows.len(),
            Self::Protobuf(written) => written.ends.len(),
        }
    }

    /// Appends the value of a row.
    pub(super) fn append(&self, row: usize, out: &mut Vec<u8>) {
        match self {
            Self::Text(text, ends) => {
                let start = if row == 0 { 0 } else { ends[row - 1] + 1 };
                out.extend_from_slice(&text.as_bytes()[start..ends[row]]);
            }
            Self::Protobuf(written) => {
                let start = if row == 0 { 0 } else { written.ends[row - 1] };
                out.extend_from_slice(&written.bytes[start..written.ends[row]]);
            }
            Self::Avro(rows) => {
                if let Some([from, to]) = rows.offsets().get(row..row + 2) {
                    out.extend_from_slice(&rows.bytes()[*from..*to]);
                }
            }
        }
    }
}

fn encode(rows: &RecordBatch, frame: Frame, schema: &SchemaRef) -> Result<EncodedRows, String> {
    let typed = file_rows(rows)?;
    let options = RecordBatchOptions::new().with_row_count(Some(typed.num_rows()));
    let typed = RecordBatch::try_new_with_options(Arc::clone(schema), typed.columns().to_vec(), &options)
        .map_err(|e| e.to_string())?;
    let builder = WriterBuilder::new(avro_schema(&typed.schema())).with_row_capacity(typed.num_rows());
    let encoder = match frame {
        Frame::Bare => builder.build_encoder::<AvroBinaryFormat>(),
        Frame::SingleObject => {
            builder.with_fingerprint_strategy(FingerprintStrategy::Rabin).build_encoder::<AvroSoeFormat>()
        }
        Frame::Registry(number) => {
            builder.with_fingerprint_strategy(FingerprintStrategy::Id(number)).build_encoder::<AvroSoeFormat>()
        }
    };
    let mut encoder = encoder.map_err(|e| e.to_string())?;
    encoder.encode(&typed).map_err(|e| e.to_string())?;
    let encoded = encoder.flush();
    match encoded.len() == typed.num_rows() {
        true => Ok(encoded),
        false => Err("not every row became a message".into()),
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::landings::files::typed::file_schema;
    use arrow_array::{ArrayRef, Int32Array, StringArray};
    use arrow_schema::Schema;
    use rstest::rstest;
    use sluice_core::columns::OutputColumn;
    use sluice_core::limit::Limit;
    use sluice_core::types::SqlType;

    fn rows() -> RecordBatch {
        let column = |name: &str, ty, limit| OutputColumn { name: name.into(), ty, nullable: true, limit };
        let columns =
            [column("n", SqlType::Integer, None), column("raw", SqlType::Text, Some(Limit::Bytea))].map(|c| c.field());
        let arrays: Vec<ArrayRef> = vec![
            Arc::new(Int32Array::from(vec![Some(7), None])),
            Arc::new(StringArray::from(vec![Some("\\x00ff"), None])),
        ];
        RecordBatch::try_new(Arc::new(Schema::new(columns.to_vec())), arrays).unwrap()
    }

    /// A union says which of its types follows; numbers are zigzag, bytes have their length before them (Avro 1.11).
    #[rstest]
    #[case(Frame::Bare, &[])]
    #[case(Frame::Registry(258), &[0, 0, 0, 1, 2])]
    fn values_of_avro(#[case] frame: Frame, #[case] before: &[u8]) {
        let mut text = String::new();
        let values = ValueWriter::Avro(frame, file_schema(&rows().schema())).write(&rows(), &mut text).unwrap();
        assert_eq!(values.len(), 2);
        let value = |row| {
            let mut out = Vec::new();
            values.append(row, &mut out);
            out
        };
        assert_eq!(value(0), [before, &[2, 14, 2, 4, 0, 0xff]].concat());
        assert_eq!(value(1), [before, &[0, 0]].concat());
    }

    #[test]
    fn a_single_object_names_its_schema() {
        let mut text = String::new();
        let values =
            ValueWriter::Avro(Frame::SingleObject, file_schema(&rows().schema())).write(&rows(), &mut text).unwrap();
        let mut out = Vec::new();
        values.append(1, &mut out);
        assert_eq!((&out[..2], out.len()), (&[0xc3, 0x01][..], 12));
    }
}
