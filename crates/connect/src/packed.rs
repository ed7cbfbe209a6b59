//! Compressed files, recognised by their first bytes. Whoever reads them sees what was packed; positions count its
//! bytes.

use std::fs::File;
use std::io::{self, BufReader, Read, Seek as _, SeekFrom};

/// How a file is packed.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Packing {
    /// Not at all.
    Plain,
    /// gzip, RFC 1952; several members may follow each other.
    Gzip,
    /// Zstandard, RFC 8878; several frames may follow each other.
    Zstd,
}

impl Packing {
    /// The packing of what begins with these bytes.
    pub fn of(start: &[u8]) -> Self {
        match start {
            [0x1f, 0x8b, ..] => Self::Gzip,
            [0x28, 0xb5, 0x2f, 0xfd, ..] => Self::Zstd,
            _ => Self::Plain,
        }
    }

    /// What bytes in memory hold: its first `most` bytes, and whether that is all.
    ///
    /// # Errors
    /// Where they are damaged.
    pub fn unpack(self, bytes: Vec<u8>, most: usize) -> io::Result<(Vec<u8>, bool)> {
        let mut out = Vec::new();
        let limit = most as u64 + 1;
        match self {
            Self::Plain => return Ok((bytes, true)),
            Self::Gzip => flate2::read::MultiGzDecoder::new(bytes.as_slice()).take(limit).read_to_end(&mut out)?,
            Self::Zstd => bounded(bytes.as_slice())?.take(limit).read_to_end(&mut out)?,
        };
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
        }
    }
}

/// The base-two logarithm of the window of a Zstandard frame at most: 128 MiB. A frame can ask for far more memory than it
/// has bytes.
const WINDOW: u32 = 27;

fn bounded<R: Read>(packed: R) -> io::Result<zstd::Decoder<'static, BufReader<R>>> {
    let mut decoder = zstd::Decoder::new(packed)?;
    decoder.window_log_max(WINDOW)?;
    Ok(decoder)
}

/// A file that is read as what it holds, unpacked.
pub enum Unpacked {
    /// A file as it is.
    Plain(File),
    /// A gzip file.
    Gzip(Box<flate2::read::MultiGzDecoder<BufReader<File>>>),
    /// A Zstandard file.
    Zstd(Box<zstd::Decoder<'static, BufReader<File>>>),
}

impl Unpacked {
    /// Looks at the beginning of a file and reads it from there.
    ///
    /// # Errors
    /// Where the file cannot be read.
    pub fn new(mut file: File) -> io::Result<Self> {
        let mut start = Vec::new();
        file.seek(SeekFrom::Start(0))?;
        (&mut file).take(4).read_to_end(&mut start)?;
        file.seek(SeekFrom::Start(0))?;
        Ok(match Packing::of(&start) {
            Packing::Plain => Self::Plain(file),
            Packing::Gzip => Self::Gzip(Box::new(flate2::read::MultiGzDecoder::new(BufReader::new(file)))),
            Packing::Zstd => Self::Zstd(Box::new(bounded(file)?)),
        })
    }

    /// How it is packed.
    pub fn packing(&self) -> Packing {
        match self {
            Self::Plain(_) => Packing::Plain,
            Self::Gzip(_) => Packing::Gzip,
            Self::Zstd(_) => Packing::Zstd,
        }
    }

    /// Goes on from `from` to `to`, a later byte of what is unpacked; false where it ends before.
    ///
    /// # Errors
    /// Where the file cannot be read.
    pub fn skip(&mut self, from: u64, to: u64) -> io::Result<bool> {
        if let Self::Plain(file) = self {
            return file.seek(SeekFrom::Start(to)).map(|_| true);
        }
        let wanted = to.saturating_sub(from);
        Ok(io::copy(&mut self.take(wanted), &mut io::sink())? == wanted)
    }
}

impl Read for Unpacked {
    fn read(&mut self, buffer: &mut [u8]) -> io::Result<usize> {
        match self {
            Self::Plain(file) => file.read(buffer),
            Self::Gzip(packed) => packed.read(buffer),
            Self::Zstd(packed) => packed.read(buffer),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;
    use std::io::Write as _;

    const TEXT: &[u8] = b"passage,lock\n1,upper\n";

    fn packed(packing: Packing) -> Vec<u8> {
        match packing {
            Packing::Plain => TEXT.to_vec(),
            Packing::Gzip => {
                let mut packed = flate2::write::GzEncoder::new(Vec::new(), flate2::Compression::fast());
                packed.write_all(TEXT).unwrap();
                packed.finish().unwrap()
            }
            Packing::Zstd => zstd::encode_all(TEXT, 1).unwrap(),
        }
    }

    #[rstest]
    fn what_was_packed_is_read_from_any_place(
        #[values(Packing::Plain, Packing::Gzip, Packing::Zstd)] packing: Packing,
        #[values(0, 5, 21)] from: usize,
    ) {
        let folder = tempfile::tempdir().unwrap();
        let path = folder.path().join("a");
        std::fs::write(&path, packed(packing)).unwrap();
        let mut file = Unpacked::new(File::open(&path).unwrap()).unwrap();
        assert_eq!(file.packing(), packing);
        assert!(file.skip(0, from as u64).unwrap());
        let mut rest = Vec::new();
        file.read_to_end(&mut rest).unwrap();
        assert_eq!(rest, &TEXT[from..]);
        assert_eq!(packing.unpack(packed(packing), 1 << 20).unwrap(), (TEXT.to_vec(), true));
    }

    #[rstest]
    fn several_packed_parts_follow_each_other(#[values(Packing::Gzip, Packing::Zstd)] packing: Packing) {
        let both = [packed(packing), packed(packing)].concat();
        assert_eq!(packing.unpack(both, 1 << 20).unwrap(), (TEXT.repeat(2), true));
    }

    #[rstest]
    fn damage_is_an_error(#[values(Packing::Gzip, Packing::Zstd)] packing: Packing) {
        let mut bytes = packed(packing);
        bytes.truncate(bytes.len() / 2);
        assert!(packing.unpack(bytes, 1 << 20).is_err());
    }
}
