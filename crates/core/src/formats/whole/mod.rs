//! Formats of files that are read as a whole: which rows they hold is known from all of a file, not from the bytes at a place.
//! Their positions count rows, from 0, and each row is decoded as a JSON object of its fields.

mod document;

use std::sync::Arc;

use super::avro::{self, Avro};
use super::json::JsonLines;
use super::recognise::{Recognised, Start};
use super::{Cut, Decoder, Format, FormatKind, RowWriter, Tail};
use crate::config::Options;
use crate::contract::Contract;
use crate::event::Chunk;
use crate::profile::Profile;

pub use document::{Documents, Found};

/// What such a file is.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum WholeFile {
    /// Apache Parquet.
    Parquet,
    /// Arrow IPC, as a file or as a stream.
    Arrow,
    /// An Avro object container file.
    Avro,
    /// JSON that is not in lines: a list of objects, or objects one after the other.
    Document,
}

/// The kind of each.
pub const KINDS: [WholeKind; 3] =
    [WholeKind(WholeFile::Parquet), WholeKind(WholeFile::Arrow), WholeKind(WholeFile::Document)];

/// A format of whole files by name.
pub struct WholeKind(WholeFile);

impl WholeFile {
    fn kind(self) -> &'static dyn FormatKind {
        match self {
            Self::Parquet => &KINDS[0],
            Self::Arrow => &KINDS[1],
            Self::Avro => &avro::KIND,
            Self::Document => &KINDS[2],
        }
    }

    /// The format.
    pub fn format(self) -> Arc<dyn Format> {
        match self {
            Self::Avro => Arc::new(Avro::default()),
            other => Arc::new(Whole(other)),
        }
    }

    /// What bytes are that begin such a file, other than a document.
    pub fn of(start: &[u8]) -> Option<Self> {
        match start {
            [b'P', b'A', b'R', b'1', ..] => Some(Self::Parquet),
            [b'A', b'R', b'R', b'O', b'W', b'1', ..] | [0xff, 0xff, 0xff, 0xff, _, _, 0, 0, ..] => Some(Self::Arrow),
            [b'O', b'b', b'j', 1, ..] => Some(Self::Avro),
            _ => None,
        }
    }
}

impl FormatKind for WholeKind {
    fn names(&self) -> &'static [&'static str] {
        match self.0 {
            WholeFile::Parquet => &["parquet"],
            WholeFile::Arrow => &["arrow"],
            WholeFile::Avro => avro::KIND.names(),
            WholeFile::Document => &["json_document"],
        }
    }

    fn title(&self) -> &'static str {
        match self.0 {
            WholeFile::Parquet => "Parquet",
            WholeFile::Arrow => "Arrow IPC",
            WholeFile::Avro => avro::KIND.title(),
            WholeFile::Document => "a JSON document",
        }
    }

    fn open(&self, _: &Options) -> Arc<dyn Format> {
        self.0.format()
    }

    fn writer(&self, _: &Options) -> Option<Arc<dyn RowWriter>> {
        None
    }

    fn recognise(&self, start: &Start<'_>) -> Option<Recognised> {
        (WholeFile::of(start.text) == Some(self.0)).then(|| Recognised::Events(self.0.format()))
    }
}

/// A format of whole files. Its records are rows that an intake spells as JSON.
#[derive(Clone, Copy, Debug)]
struct Whole(WholeFile);

impl Format for Whole {
    fn kind(&self) -> &'static dyn FormatKind {
        self.0.kind()
    }

    fn whole(&self) -> Option<WholeFile> {
        Some(self.0)
    }

    fn cut(&self, bytes: &[u8], limit: u64) -> Cut {
        JsonLines.cut(bytes, limit)
    }

    fn of_messages(&self) -> Arc<dyn Format> {
        JsonLines.of_messages()
    }

    fn is_whole(&self, tail: &[u8], head: Option<&[u8]>) -> Tail {
        JsonLines.is_whole(tail, head)
    }

    fn decoder(&self, contract: &Contract) -> Box<dyn Decoder> {
        JsonLines.decoder(contract)
    }

    fn profile(&self, chunk: &Chunk, profile: &mut Profile) {
        JsonLines.profile(chunk, profile);
    }

    fn fitted(&self, _: &Profile) -> Arc<dyn Format> {
        Arc::new(*self)
    }
}
