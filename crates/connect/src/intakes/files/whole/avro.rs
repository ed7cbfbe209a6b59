//! Rows of Avro object container files (Apache Avro 1.11, "Object Container Files"). Each block is taken by itself: one that is
//! damaged costs its own rows, and the file is read on from the next sync marker.

use std::fs::File;
use std::io::{self, BufReader, Read, Seek as _, SeekFrom};
use std::path::{Path, PathBuf};

use arrow_avro::compression::CompressionCodec;
use arrow_avro::reader::read_header_info;
use arrow_schema::SchemaRef;
use sluice_core::failure::{Failure, Outcome};
use sluice_core::formats::avro::Datums;
use sluice_core::guard::guarded;
use sluice_core::units::show_many;

use super::{Piece, ROWS, Rows, short_text, unreadable};

/// Bytes of a block, packed or not, and of the header at most.
const MOST: u64 = 256 << 20;

/// Rows of a block that have no bytes at most.
const MOST_EMPTY: u64 = 1 << 16;

/// Bytes of a damaged block that are kept.
const KEPT: usize = 64 << 10;

const SYNC: usize = 16;

/// What begins a file.
const MAGIC: [u8; 4] = *b"Obj\x01";

/// How blocks are packed.
#[derive(Clone, Copy)]
enum Codec {
    Plain,
    Deflate,
    Snappy,
    Zstd,
}

/// What begins a file.
struct Header {
    codec: Codec,
    datums: Datums,
    sync: [u8; SYNC],
}

/// A block that was decoded in part.
struct Block {
    data: Vec<u8>,
    at: usize,
    /// Rows that are left.
    rows: u64,
    /// The byte of the file where it begins.
    start: u64,
}

pub(super) struct AvroRows {
    path: PathBuf,
    file: BufReader<File>,
    length: u64,
    header: Header,
    block: Option<Block>,
    /// Rows to pass over.
    skip: u64,
}

impl AvroRows {
    pub(super) fn open(path: &Path, file: File, from: u64) -> Outcome<Self> {
        let io = |e: io::Error| Failure::io("read", path, &e);
        let length = file.metadata().map_err(io)?.len();
        let mut file = BufReader::with_capacity(256 << 10, file);
        let header = Header::read(&mut file).map_err(|fault| match fault {
            HeaderFault::Damaged(why) => unreadable(path, "Avro", &why),
            HeaderFault::Unknown(why) => Failure::unreachable(format!("{}: {why}", path.display()))
                .with_help("schemas of one record are read, without recursion, with decimals of up to 76 digits"),
        })?;
        let mut rows = Self { path: path.into(), file, length, header, block: None, skip: from };
        rows.prove_whole()?;
        Ok(rows)
    }

    /// Looks whether the last block is whole, without reading the blocks.
    fn prove_whole(&mut self) -> Outcome<()> {
        let io = |path: &Path, e: io::Error| Failure::io("read", path, &e);
        let start = self.file.stream_position().map_err(|e| io(&self.path, e))?;
        let mut at = start;
        while at < self.length {
            let Some((_, size)) = block_head(&mut self.file) else { break };
            let head_end = self.file.stream_position().map_err(|e| io(&self.path, e))?;
            let end = head_end.saturating_add(size).saturating_add(SYNC as u64);
            if end > self.length && size <= MOST {
                return Err(unreadable(
                    &self.path,
                    "Avro",
                    &format!("its last block begins at byte {at} and is cut off"),
                ));
            }
            self.file.seek(SeekFrom::Start(end - SYNC as u64)).map_err(|e| io(&self.path, e))?;
            let mut sync = [0; SYNC];
            // From a damaged place on nothing can be told without reading; that is done later.
            if self.file.read_exact(&mut sync).is_err() || sync != self.header.sync {
                break;
            }
            at = end;
        }
        self.file.seek(SeekFrom::Start(start)).map_err(|e| io(&self.path, e))?;
        Ok(())
    }

    /// Reads the next block; None at the end of the file.
    fn next_block(&mut self) -> io::Result<Option<Result<Block, Piece>>> {
        let start = self.file.stream_position()?;
        if start >= self.length {
            return Ok(None);
        }
        let Some((rows, size)) = block_head(&mut self.file).filter(|(_, size)| *size <= MOST) else {
            return self.resync(start).map(|piece| Some(Err(piece)));
        };
        let mut data = Vec::new();
        let mut sync = [0; SYNC];
        let read = (&mut self.file).take(size).read_to_end(&mut data)?;
        if (read as u64) < size || self.file.read_exact(&mut sync).is_err() || sync != self.header.sync {
            return self.resync(start).map(|piece| Some(Err(piece)));
        }
        let damaged = |data: &[u8], why: &str| {
            let message =
                format!("the block of {} at byte {start} of the file is damaged: {why}", show_many(rows, "row"));
            Piece::Broken(data[..data.len().min(KEPT)].to_vec(), rows, message)
        };
        Ok(Some(match self.header.codec.unpack(&data) {
            // A row without bytes has no fields, or only null ones.
            Ok(unpacked) if rows > (unpacked.len() as u64).max(MOST_EMPTY) => {
                Err(damaged(&unpacked, "it can't hold so many rows"))
            }
            Ok(unpacked) => Ok(Block { data: unpacked, at: 0, rows, start }),
            Err(error) => Err(damaged(&data, &error.to_string())),
        }))
    }

    /// Reads on behind the next sync marker after a place that can't be read. What lies between counts as one row.
    fn resync(&mut self, start: u64) -> io::Result<Piece> {
        self.file.seek(SeekFrom::Start(start))?;
        let (mut kept, mut window, mut passed) = (Vec::new(), Vec::new(), 0_u64);
        let end = loop {
            let mut piece = Vec::new();
            let read = (&mut self.file).take(256 << 10).read_to_end(&mut piece)?;
            kept.extend_from_slice(&piece[..read.min(KEPT.saturating_sub(kept.len()))]);
            window.extend_from_slice(&piece);
            if let Some(found) = memchr::memmem::find(&window, &self.header.sync) {
                break start + passed + (found + SYNC) as u64;
            }
            if read == 0 {
                break self.length;
            }
            let done = window.len().saturating_sub(SYNC - 1);
            passed += done as u64;
            window.drain(..done);
        };
        self.file.seek(SeekFrom::Start(end))?;
        kept.truncate(usize::try_from(end - start).unwrap_or(usize::MAX));
        let message = format!(
            "bytes {start} to {end} of the file are no block; how many rows they held can't be told, and the file was read on \
             from the next sync marker"
        );
        Ok(Piece::Broken(kept, 1, message))
    }

    /// The next rows of a block. Where one is damaged, those before it come first.
    fn rows_of(&mut self, mut block: Block) -> Piece {
        let most = usize::try_from(block.rows).unwrap_or(ROWS).min(ROWS);
        let found = self.header.datums.decode(&block.data[block.at..], most);
        if let Some(batch) = found.batch {
            block.at += found.bytes;
            block.rows -= batch.num_rows() as u64;
            let is_over = block.rows == 0 && found.error.is_none();
            if !is_over || block.at < block.data.len() {
                self.block = Some(block);
            }
            return Piece::Rows(batch);
        }
        if let (Some(bytes), Some(error)) = (found.bad, &found.error) {
            let message = format!("a row in the block at byte {} of the file can't be read: {error}", block.start);
            let row = block.data[block.at..block.at + bytes].to_vec();
            block.at += bytes;
            block.rows -= 1;
            if block.rows > 0 || block.at < block.data.len() {
                self.block = Some(block);
            }
            return Piece::Broken(row, 1, message);
        }
        let why = match (&found.error, block.rows) {
            (Some(error), _) => format!("its row at byte {} can't be read: {error}", block.at),
            (None, 0) => format!("{} bytes follow its last row", block.data.len() - block.at),
            (None, _) => "it has fewer rows than it says".into(),
        };
        let rest = &block.data[block.at..];
        let message = match block.rows {
            0 => format!("the block at byte {} of the file is damaged: {why}", block.start),
            rows => format!(
                "the block at byte {} of the file is damaged: {why}; its last {} can't be told apart",
                block.start,
                show_many(rows, "row")
            ),
        };
        Piece::Broken(rest[..rest.len().min(KEPT)].to_vec(), block.rows, message)
    }
}

impl Rows for AvroRows {
    fn next(&mut self) -> Outcome<Piece> {
        loop {
            if let Some(block) = self.block.take() {
                let piece = self.rows_of(block);
                if let Some(piece) = self.after_skipped(piece) {
                    return Ok(piece);
                }
                continue;
            }
            match self.next_block().map_err(|e| Failure::io("read", &self.path, &e))? {
                None => return Ok(Piece::End),
                // Not decoded at all where all of it was read before.
                Some(Ok(block)) if block.rows > 0 && self.skip >= block.rows => self.skip -= block.rows,
                Some(Ok(block)) => self.block = Some(block),
                Some(Err(piece)) => {
                    if let Some(piece) = self.after_skipped(piece) {
                        return Ok(piece);
                    }
                }
            }
        }
    }

    fn schema(&self) -> Option<SchemaRef> {
        Some(self.header.datums.schema())
    }
}

impl AvroRows {
    /// A piece without the rows that are to be passed over; None where all of them are.
    fn after_skipped(&mut self, piece: Piece) -> Option<Piece> {
        match piece {
            piece if self.skip == 0 => Some(piece),
            Piece::Rows(batch) => {
                let rows = batch.num_rows();
                let skipped = usize::try_from(self.skip).unwrap_or(usize::MAX).min(rows);
                self.skip -= skipped as u64;
                (skipped < rows).then(|| Piece::Rows(batch.slice(skipped, rows - skipped)))
            }
            Piece::Broken(_, rows, _) if rows <= self.skip => {
                self.skip -= rows;
                None
            }
            piece => {
                self.skip = 0;
                Some(piece)
            }
        }
    }
}

/// The rows and the bytes of a block, as its head says; None where it makes no sense.
fn block_head(file: &mut impl Read) -> Option<(u64, u64)> {
    Some((long(file)?.try_into().ok()?, long(file)?.try_into().ok()?))
}

/// A number of variable length, zigzag.
fn long(file: &mut impl Read) -> Option<i64> {
    let mut value = 0_u64;
    for shift in (0..64).step_by(7) {
        let mut byte = [0];
        file.read_exact(&mut byte).ok()?;
        value |= u64::from(byte[0] & 0x7f) << shift;
        if byte[0] & 0x80 == 0 {
            let magnitude = i64::try_from(value >> 1).ok()?;
            return Some(if value & 1 == 0 { magnitude } else { !magnitude });
        }
    }
    None
}

/// Why a header cannot be read.
enum HeaderFault {
    /// It is not one, or not all of one.
    Damaged(String),
    /// The file has a schema or a codec that cannot be read.
    Unknown(String),
}

impl Header {
    fn read(file: &mut BufReader<File>) -> Result<Self, HeaderFault> {
        let mut magic = [0; MAGIC.len()];
        if file.read_exact(&mut magic).is_err() || magic != MAGIC {
            return Err(HeaderFault::Damaged("it does not begin with the letters Obj and a 1".into()));
        }
        let damaged =
            |why: &dyn std::fmt::Display| HeaderFault::Damaged(format!("its header is cut off or damaged: {why}"));
        file.rewind().map_err(|e| damaged(&e))?;
        let header = guarded(|| read_header_info(&mut file.take(MOST))).map_err(|why| damaged(&why))?;
        let header = header.map_err(|e| damaged(&e))?;
        let codec = match header.compression() {
            Ok(None) => Codec::Plain,
            Ok(Some(CompressionCodec::Deflate)) => Codec::Deflate,
            Ok(Some(CompressionCodec::Snappy)) => Codec::Snappy,
            Ok(Some(CompressionCodec::ZStandard)) => Codec::Zstd,
            Ok(Some(_)) | Err(_) => {
                let why =
                    "its blocks are not packed by null, deflate, snappy or zstandard; other codecs cannot be read";
                return Err(HeaderFault::Unknown(why.into()));
            }
        };
        let schema = header.writer_schema().map_err(|e| damaged(&e))?;
        let unknown = |why: String| HeaderFault::Unknown(format!("its schema cannot be read: {}", short_text(&why)));
        let datums = Datums::new(&schema.json_string).map_err(unknown)?;
        file.seek(SeekFrom::Start(header.header_len())).map_err(|e| damaged(&e))?;
        Ok(Self { codec, datums, sync: header.sync() })
    }
}

impl Codec {
    fn unpack(self, data: &[u8]) -> io::Result<Vec<u8>> {
        let mut out = Vec::new();
        let limit = MOST + 1;
        match self {
            Self::Plain => out.extend_from_slice(data),
            Self::Deflate => {
                flate2::read::DeflateDecoder::new(data).take(limit).read_to_end(&mut out)?;
            }
            Self::Zstd => {
                zstd::Decoder::new(data)?.take(limit).read_to_end(&mut out)?;
            }
            Self::Snappy => out = unpack_snappy(data)?,
        }
        match out.len() as u64 > MOST {
            true => Err(io::Error::other("it holds more than 256 MiB")),
            false => Ok(out),
        }
    }
}

/// Snappy, and behind it the CRC-32 of what was packed.
fn unpack_snappy(data: &[u8]) -> io::Result<Vec<u8>> {
    let (packed, sum) = data.split_last_chunk::<4>().ok_or_else(|| io::Error::other("it is too short"))?;
    if snap::raw::decompress_len(packed).map_err(io::Error::other)? as u64 > MOST {
        return Err(io::Error::other("it holds more than 256 MiB"));
    }
    let out = snap::raw::Decoder::new().decompress_vec(packed).map_err(io::Error::other)?;
    let mut crc = flate2::Crc::new();
    crc.update(&out);
    match crc.sum() == u32::from_be_bytes(*sum) {
        true => Ok(out),
        false => Err(io::Error::other("its checksum is another")),
    }
}
