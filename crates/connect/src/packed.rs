//! Compressed files, recognised by their first bytes. Whoever reads them sees what was packed; positions count its
//! bytes.

mod zip;

use std::fs::File;
use std::io::{self, BufRead as _, BufReader, Read, Seek, SeekFrom};

/// How a file is packed.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Packing {
    /// Not at all.
    Plain,
    /// gzip, RFC 1952; several members may follow each other.
    Gzip,
    /// Zstandard, RFC 8878; several frames may follow each other.
    Zstd,
    /// bzip2; several streams may follow each other.
    Bzip2,
    /// xz; several streams may follow each other.
    Xz,
    /// Frames of LZ4; several may follow each other.
    Lz4,
    /// The frames of Snappy; several streams may follow each other.
    Snappy,
    /// An archive of ZIP: its files, one after the other.
    Zip,
}

/// How the names of packed files end.
const ENDINGS: &[&str] = &[".gz", ".gzip", ".zst", ".zstd", ".bz2", ".xz", ".lz4", ".sz", ".snappy", ".zip"];

/// The name that a packed file has without its packing, in small letters.
pub fn plain_name(name: &str) -> String {
    let name = name.to_lowercase();
    ENDINGS.iter().find_map(|ending| name.strip_suffix(ending)).unwrap_or(&name).to_string()
}

/// The longest beginning by which a packing is known.
const START: u64 = 10;

/// A reader of what is packed.
type Unpacking<'r> = Box<dyn Read + Send + 'r>;

impl Packing {
    /// The packing of what begins with these bytes.
    pub fn of(start: &[u8]) -> Self {
        match start {
            [0x1f, 0x8b, ..] => Self::Gzip,
            [0x28, 0xb5, 0x2f, 0xfd, ..] => Self::Zstd,
            // The digits of pi begin the first block, those of its square root the end of a file without any.
            [b'B', b'Z', b'h', b'1'..=b'9', 0x31, 0x41, 0x59, 0x26, 0x53, 0x59, ..]
            | [b'B', b'Z', b'h', b'1'..=b'9', 0x17, 0x72, 0x45, 0x38, 0x50, 0x90, ..] => Self::Bzip2,
            [0xfd, b'7', b'z', b'X', b'Z', 0, ..] => Self::Xz,
            [0x04, 0x22, 0x4d, 0x18, ..] => Self::Lz4,
            [0xff, 0x06, 0, 0, b's', b'N', b'a', b'P', b'p', b'Y', ..] => Self::Snappy,
            // A file, or the end of an archive without any.
            [b'P', b'K', 3, 4, ..] | [b'P', b'K', 5, 6, ..] => Self::Zip,
            _ => Self::Plain,
        }
    }

    /// Reads what is packed. With `has_headers` each file of an archive begins with a header row, of which one is read.
    fn open<'r, R: Read + Seek + Send + 'r>(self, packed: R, has_headers: bool) -> io::Result<Unpacking<'r>> {
        if self == Self::Zip {
            return Ok(Box::new(zip::Members::open(packed, has_headers)?));
        }
        let buffered = BufReader::new(packed);
        Ok(match self {
            Self::Plain | Self::Zip => Box::new(buffered),
            Self::Gzip => Box::new(flate2::bufread::MultiGzDecoder::new(buffered)),
            Self::Zstd => {
                let mut decoder = zstd::Decoder::with_buffer(buffered)?;
                decoder.window_log_max(WINDOW)?;
                Box::new(decoder)
            }
            Self::Bzip2 => Box::new(bzip2::bufread::MultiBzDecoder::new(buffered)),
            Self::Xz => {
                let stream = liblzma::stream::Stream::new_stream_decoder(MEMORY, liblzma::stream::CONCATENATED)?;
                Box::new(Bounded(liblzma::bufread::XzDecoder::new_stream(buffered, stream)))
            }
            Self::Lz4 => Box::new(Frames(lz4_flex::frame::FrameDecoder::new(buffered))),
            Self::Snappy => Box::new(snap::read::FrameDecoder::new(buffered)),
        })
    }

    /// What bytes in memory hold: its first `most` bytes, and whether that is all.
    ///
    /// # Errors
    /// Where they are damaged.
    pub fn unpack(self, bytes: Vec<u8>, most: usize) -> io::Result<(Vec<u8>, bool)> {
        if self == Self::Plain {
            return Ok((bytes, true));
        }
        let mut out = Vec::new();
        self.open(io::Cursor::new(bytes), false)?.take(most as u64 + 1).read_to_end(&mut out)?;
        let whole = out.len() <= most;
        out.truncate(most);
        Ok((out, whole))
    }

    /// Its name for people.
    pub fn name(self) -> &'static str {
        match self {
            Self::Plain => "plain",
            Self::Gzip => "gzip",
            Self::Zstd => "zstd",
            Self::Bzip2 => "bzip2",
            Self::Xz => "xz",
            Self::Lz4 => "lz4",
            Self::Snappy => "snappy",
            Self::Zip => "zip",
        }
    }
}

/// The base-two logarithm of the window of a Zstandard frame at most: 128 MiB. A frame can ask for far more memory than it
/// has bytes.
const WINDOW: u32 = 27;

/// Bytes of memory that a stream of xz may ask for, as much as `xz -9` needs four times over.
const MEMORY: u64 = 256 << 20;

/// A stream of xz, whose message says what to do where it asks for too much.
struct Bounded<R>(R);

impl<R: Read> Read for Bounded<R> {
    fn read(&mut self, buffer: &mut [u8]) -> io::Result<usize> {
        self.0.read(buffer).map_err(|error| {
            let reason = error.get_ref().and_then(|e| e.downcast_ref::<liblzma::stream::Error>());
            match reason {
                Some(liblzma::stream::Error::MemLimit) => io::Error::other(
                    "its xz stream asks for more than 256 MiB of memory; pack it with a smaller dictionary, as xz -9 does",
                ),
                _ => error,
            }
        })
    }
}

/// Frames of LZ4, one after the other: their reader says at the end of each that it has ended.
struct Frames<R: Read>(lz4_flex::frame::FrameDecoder<BufReader<R>>);

impl<R: Read> Read for Frames<R> {
    fn read(&mut self, buffer: &mut [u8]) -> io::Result<usize> {
        loop {
            let read = self.0.read(buffer)?;
            if read > 0 || buffer.is_empty() || self.0.get_mut().fill_buf()?.is_empty() {
                return Ok(read);
            }
        }
    }
}

/// A file that is read as what it holds, unpacked.
pub struct Unpacked {
    packing: Packing,
    inner: Inner,
}

enum Inner {
    Plain(File),
    Packed(Unpacking<'static>),
}

impl Unpacked {
    /// Looks at the beginning of a file and reads it from there. With `has_headers` each file of an archive begins with a header
    /// row, of which one is read.
    ///
    /// # Errors
    /// Where the file cannot be read.
    pub fn new(mut file: File, has_headers: bool) -> io::Result<Self> {
        let mut start = Vec::new();
        file.seek(SeekFrom::Start(0))?;
        (&mut file).take(START).read_to_end(&mut start)?;
        file.seek(SeekFrom::Start(0))?;
        let packing = Packing::of(&start);
        let inner = match packing {
            Packing::Plain => Inner::Plain(file),
            packing => Inner::Packed(packing.open(file, has_headers)?),
        };
        Ok(Self { packing, inner })
    }

    /// How it is packed.
    pub fn packing(&self) -> Packing {
        self.packing
    }

    /// Goes on from `from` to `to`, a later byte of what is unpacked; false where it ends before.
    ///
    /// # Errors
    /// Where the file cannot be read.
    pub fn skip(&mut self, from: u64, to: u64) -> io::Result<bool> {
        match &mut self.inner {
            Inner::Plain(file) => file.seek(SeekFrom::Start(to)).map(|_| true),
            Inner::Packed(packed) => {
                let wanted = to.saturating_sub(from);
                Ok(io::copy(&mut packed.take(wanted), &mut io::sink())? == wanted)
            }
        }
    }
}

impl Read for Unpacked {
    fn read(&mut self, buffer: &mut [u8]) -> io::Result<usize> {
        match &mut self.inner {
            Inner::Plain(file) => file.read(buffer),
            Inner::Packed(packed) => packed.read(buffer),
        }
    }
}

/// Packs a text.
#[cfg(test)]
pub(crate) fn pack(packing: Packing, text: &[u8]) -> Vec<u8> {
    use std::io::Write;

    fn written<W: Write>(mut to: W, text: &[u8], end: impl FnOnce(W) -> io::Result<Vec<u8>>) -> Vec<u8> {
        to.write_all(text).unwrap();
        end(to).unwrap()
    }
    let out = Vec::new();
    match packing {
        Packing::Plain => text.to_vec(),
        Packing::Gzip => {
            let to = flate2::write::GzEncoder::new(out, flate2::Compression::fast());
            written(to, text, flate2::write::GzEncoder::finish)
        }
        Packing::Zstd => zstd::encode_all(text, 1).unwrap(),
        Packing::Bzip2 => {
            let to = bzip2::write::BzEncoder::new(out, bzip2::Compression::fast());
            written(to, text, bzip2::write::BzEncoder::finish)
        }
        Packing::Xz => written(liblzma::write::XzEncoder::new(out, 1), text, liblzma::write::XzEncoder::finish),
        Packing::Lz4 => {
            written(lz4_flex::frame::FrameEncoder::new(out), text, |to| to.finish().map_err(io::Error::other))
        }
        Packing::Snappy => written(snap::write::FrameEncoder::new(out), text, |to| {
            to.into_inner().map_err(|e| io::Error::other(e.to_string()))
        }),
        Packing::Zip => zip::tests::archive(&[("passages.csv", text)]),
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    const TEXT: &[u8] = b"passage,lock\n1,upper\n";

    fn packed(packing: Packing) -> Vec<u8> {
        pack(packing, TEXT)
    }

    #[rstest]
    #[case("A/Gauge.CSV.bz2", "a/gauge.csv")]
    #[case("gauge.csv.snappy", "gauge.csv")]
    #[case("gauge.gz.gz", "gauge.gz")]
    #[case("gauge.csv", "gauge.csv")]
    fn a_packed_file_has_the_name_of_what_it_holds(#[case] name: &str, #[case] expected: &str) {
        assert_eq!(plain_name(name), expected);
    }

    #[rstest]
    fn what_was_packed_is_read_from_any_place(
        #[values(
            Packing::Plain,
            Packing::Gzip,
            Packing::Zstd,
            Packing::Bzip2,
            Packing::Xz,
            Packing::Lz4,
            Packing::Snappy,
            Packing::Zip
        )]
        packing: Packing,
        #[values(0, 5, 21)] from: usize,
    ) {
        let folder = tempfile::tempdir().unwrap();
        let path = folder.path().join("a");
        std::fs::write(&path, packed(packing)).unwrap();
        let mut file = Unpacked::new(File::open(&path).unwrap(), false).unwrap();
        assert_eq!(file.packing(), packing);
        assert!(file.skip(0, from as u64).unwrap());
        let mut rest = Vec::new();
        file.read_to_end(&mut rest).unwrap();
        assert_eq!(rest, &TEXT[from..]);
        assert_eq!(packing.unpack(packed(packing), 1 << 20).unwrap(), (TEXT.to_vec(), true));
        assert_eq!(packing.unpack(packed(packing), 7).unwrap().1, packing == Packing::Plain);
    }

    #[rstest]
    fn several_packed_parts_follow_each_other(
        #[values(Packing::Gzip, Packing::Zstd, Packing::Bzip2, Packing::Xz, Packing::Lz4, Packing::Snappy)]
        packing: Packing,
    ) {
        let both = [packed(packing), packed(packing)].concat();
        assert_eq!(packing.unpack(both, 1 << 20).unwrap(), (TEXT.repeat(2), true));
    }

    #[test]
    fn a_stream_that_asks_for_too_much_memory_is_refused_with_a_remedy() {
        use std::io::Write as _;
        let mut options = liblzma::stream::LzmaOptions::new_preset(0).unwrap();
        options.dict_size(1 << 30);
        let mut filters = liblzma::stream::Filters::new();
        filters.lzma2(&options);
        let stream = liblzma::stream::Stream::new_stream_encoder(&filters, liblzma::stream::Check::Crc64).unwrap();
        let mut writer = liblzma::write::XzEncoder::new_stream(Vec::new(), stream);
        writer.write_all(TEXT).unwrap();
        let error = Packing::Xz.unpack(writer.finish().unwrap(), 1 << 20).unwrap_err();
        assert!(
            error.to_string().contains("more than 256 MiB") && error.to_string().contains("pack it with"),
            "{error}"
        );
    }

    #[test]
    fn a_frame_of_nothing_ends_nothing() {
        let empty = lz4_flex::frame::FrameEncoder::new(Vec::new()).finish().unwrap();
        let all = [packed(Packing::Lz4), empty, packed(Packing::Lz4)].concat();
        assert_eq!(Packing::Lz4.unpack(all, 1 << 20).unwrap(), (TEXT.repeat(2), true));
    }

    #[rstest]
    fn damage_is_an_error(
        #[values(
            Packing::Gzip,
            Packing::Zstd,
            Packing::Bzip2,
            Packing::Xz,
            Packing::Lz4,
            Packing::Snappy,
            Packing::Zip
        )]
        packing: Packing,
    ) {
        let whole = packed(packing);
        assert!(packing.unpack(whole[..whole.len() / 2].to_vec(), 1 << 20).is_err(), "cut off");
        let last = whole.len() - 12;
        let mut other = whole;
        other[last] ^= 0x55;
        // The others have a checksum only where their writer adds one.
        if !matches!(packing, Packing::Zstd | Packing::Lz4) {
            assert!(packing.unpack(other, 1 << 20).is_err(), "another byte");
        }
    }

    #[rstest]
    fn whatever_follows_a_beginning_never_panics(
        #[values(
            Packing::Gzip,
            Packing::Zstd,
            Packing::Bzip2,
            Packing::Xz,
            Packing::Lz4,
            Packing::Snappy,
            Packing::Zip
        )]
        packing: Packing,
    ) {
        let whole = packed(packing);
        for place in 0..whole.len() {
            for value in [0, 1, 0x7f, 0x80, 0xff] {
                let mut damaged = whole.clone();
                damaged[place] = value;
                let _ = packing.unpack(damaged, 1 << 20);
            }
        }
    }
}
