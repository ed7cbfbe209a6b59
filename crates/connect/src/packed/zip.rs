//! Archives of ZIP (APPNOTE 6.3): their files, one after the other, as one text.
//!
//! A file without a line end gets one, so that its last record stays apart from the next one. Where each file begins with the same
//! header row, only the first one is read. Folders and links are left out, and files that are hidden.

use std::io::{self, BufRead as _, BufReader, Read, Seek, SeekFrom, Take};

use flate2::bufread::DeflateDecoder;
use sluice_core::printable;
use zip::{CompressionMethod, ZipArchive};

/// Bytes of a header row at most.
const LONGEST_HEADER: u64 = 1 << 20;

/// One file of an archive.
#[derive(Debug)]
struct Member {
    name: String,
    /// Where its bytes begin.
    start: u64,
    packed: u64,
    size: u64,
    sum: u32,
    is_deflated: bool,
}

/// The bytes of a file of an archive.
enum Content<R: Read> {
    Stored(Take<R>),
    Deflated(Box<DeflateDecoder<BufReader<Take<R>>>>),
}

impl<R: Read> Content<R> {
    fn into_inner(self) -> R {
        match self {
            Self::Stored(take) => take.into_inner(),
            Self::Deflated(decoder) => decoder.into_inner().into_inner().into_inner(),
        }
    }
}

impl<R: Read> Read for Content<R> {
    fn read(&mut self, buffer: &mut [u8]) -> io::Result<usize> {
        match self {
            Self::Stored(take) => take.read(buffer),
            Self::Deflated(decoder) => decoder.read(buffer),
        }
    }
}

/// The file that is being read, with what was read of it.
struct Opened<R: Read> {
    content: BufReader<Content<R>>,
    sum: crc32fast::Hasher,
    read: u64,
    last: u8,
}

/// The files of an archive.
pub(super) struct Members<R: Read> {
    /// Those that are left, the next one last.
    left: Vec<Member>,
    open: Option<(Member, Opened<R>)>,
    /// The archive, between two of its files.
    archive: Option<R>,
    /// The header row that all files begin with, where their format has one.
    header: Option<Vec<u8>>,
    has_headers: bool,
}

impl<R: Read + Seek> Members<R> {
    /// Reads the list of files. With `has_headers` each begins with a header row.
    pub(super) fn open(archive: R, has_headers: bool) -> io::Result<Self> {
        let damaged =
            |e| io::Error::other(format!("the list of its files, which an archive ends with, cannot be read: {e}"));
        let mut list = ZipArchive::new(archive).map_err(damaged)?;
        let mut left = Vec::new();
        for index in (0..list.len()).rev() {
            let file = list.by_index_raw(index).map_err(io::Error::other)?;
            let name = file.name().map_err(io::Error::other)?.into_owned();
            if file.is_dir() || file.is_symlink() || is_hidden(&name) {
                continue;
            }
            let shown = printable::text(&name).to_string();
            if file.encrypted() {
                return Err(unsupported(format!("{shown} in it is encrypted; unpack it with its password")));
            }
            let is_deflated = match file.compression() {
                CompressionMethod::Stored => false,
                CompressionMethod::Deflated => true,
                other => {
                    let message = format!("{shown} in it is packed as {other}; pack it with deflate, as zip does");
                    return Err(unsupported(message));
                }
            };
            let start = file.data_start().ok_or_else(|| io::Error::other(format!("{shown} in it cannot be found")))?;
            let (packed, size, sum) = (file.compressed_size(), file.size(), file.crc32());
            left.push(Member { name: shown, start, packed, size, sum, is_deflated });
        }
        let (listed, start) = (list.len(), list.central_directory_start());
        let mut archive = list.into_inner();
        if count_entries(&mut archive, start)? != listed {
            return Err(unsupported("two files in it have the same name; unpack it".into()));
        }
        Ok(Self { left, open: None, archive: Some(archive), header: None, has_headers })
    }

    /// Opens the next file; false where there is none.
    fn next(&mut self) -> io::Result<bool> {
        let Some((member, mut archive)) = self.left.pop().zip(self.archive.take()) else { return Ok(false) };
        archive.seek(SeekFrom::Start(member.start))?;
        let bytes = archive.take(member.packed);
        let content = match member.is_deflated {
            true => Content::Deflated(Box::new(DeflateDecoder::new(BufReader::new(bytes)))),
            false => Content::Stored(bytes),
        };
        let content = BufReader::with_capacity(64 << 10, content);
        let mut opened = Opened { content, sum: crc32fast::Hasher::new(), read: 0, last: b'\n' };
        if self.has_headers {
            self.pass_header(&member, &mut opened)?;
        }
        self.open = Some((member, opened));
        Ok(true)
    }

    /// Passes over the header row of a file that is not the first one. That of the first one is kept, and still to be read.
    fn pass_header(&mut self, member: &Member, opened: &mut Opened<R>) -> io::Result<()> {
        let Some(first) = &self.header else { return Ok(()) };
        if first.iter().filter(|byte| **byte == b'"').count() % 2 == 1 {
            return Err(unsupported("the header row of its files has a line end within quotes; unpack it".into()));
        }
        let mut header = Vec::new();
        (&mut opened.content).take(LONGEST_HEADER).read_until(b'\n', &mut header)?;
        opened.note(&header);
        // Nothing of it is handed on.
        opened.last = b'\n';
        match header.is_empty() || trimmed(&header) == trimmed(first) {
            true => Ok(()),
            false => Err(unsupported(format!(
                "{} in it begins with another header row than the files before it; put files of one kind into an archive",
                member.name
            ))),
        }
    }

    /// Notes the header row of the first file, as it is read.
    fn note_header(&mut self, bytes: &[u8]) {
        if !self.has_headers || self.open.as_ref().is_none_or(|(_, opened)| opened.read > LONGEST_HEADER) {
            return;
        }
        let header = self.header.get_or_insert_default();
        if header.last() != Some(&b'\n') {
            let end = memchr::memchr(b'\n', bytes).map_or(bytes.len(), |at| at + 1);
            header.extend_from_slice(&bytes[..end]);
        }
    }

    /// The file has been read to its end: it must be what the list says.
    fn close(&mut self) -> io::Result<()> {
        let Some((member, opened)) = self.open.take() else { return Ok(()) };
        if opened.read != member.size || opened.sum.finalize() != member.sum {
            let message = format!("{} in it is damaged: it is not what the archive's list says", member.name);
            return Err(io::Error::new(io::ErrorKind::InvalidData, message));
        }
        self.archive = Some(opened.content.into_inner().into_inner());
        Ok(())
    }
}

impl<R: Read> Opened<R> {
    fn note(&mut self, bytes: &[u8]) {
        self.sum.update(bytes);
        self.read += bytes.len() as u64;
        self.last = bytes.last().copied().unwrap_or(self.last);
    }
}

/// An archive that is whole, and is not read.
fn unsupported(why: String) -> io::Error {
    io::Error::new(io::ErrorKind::Unsupported, why)
}

/// How many entries the list has that begins at a place: of those of one name the library knows only one.
fn count_entries<R: Read + Seek>(archive: &mut R, start: u64) -> io::Result<usize> {
    archive.seek(SeekFrom::Start(start))?;
    let mut list = BufReader::new(archive);
    let mut count = 0;
    let mut entry = [0; 46];
    while list.read_exact(&mut entry[..4]).is_ok() && entry.starts_with(b"PK\x01\x02") {
        list.read_exact(&mut entry[4..])?;
        // Its name, its extra fields and its remark follow.
        let length = [28, 30, 32].map(|at| i64::from(u16::from_le_bytes([entry[at], entry[at + 1]])));
        list.seek_relative(length.iter().sum())?;
        count += 1;
    }
    Ok(count)
}

/// Whether a file is one that is passed over in a folder too, or what one system adds for itself.
fn is_hidden(name: &str) -> bool {
    name.split('/').any(|part| part.starts_with('.') || part == "__MACOSX")
}

/// A header row without what stands around it.
fn trimmed(header: &[u8]) -> &[u8] {
    let header = header.strip_prefix(b"\xef\xbb\xbf").unwrap_or(header);
    header.trim_ascii_end()
}

impl<R: Read + Seek> Read for Members<R> {
    fn read(&mut self, buffer: &mut [u8]) -> io::Result<usize> {
        if buffer.is_empty() {
            return Ok(0);
        }
        loop {
            let Some((_, opened)) = &mut self.open else {
                if self.next()? {
                    continue;
                }
                return Ok(0);
            };
            let read = opened.content.read(buffer)?;
            opened.note(&buffer[..read]);
            if read > 0 {
                self.note_header(&buffer[..read]);
                return Ok(read);
            }
            let ends_a_line = opened.last == b'\n';
            self.close()?;
            if !ends_a_line && !self.left.is_empty() {
                buffer[0] = b'\n';
                self.note_header(b"\n");
                return Ok(1);
            }
        }
    }
}

#[cfg(test)]
pub(super) mod tests {
    use std::io::Cursor;
    use std::io::Write as _;

    use rstest::rstest;

    use super::*;

    /// An archive of files, deflated and stored in turn.
    pub(in crate::packed) fn archive(files: &[(&str, &[u8])]) -> Vec<u8> {
        let mut out = Vec::new();
        let mut list = Vec::new();
        for (place, (name, bytes)) in files.iter().enumerate() {
            let start = out.len();
            let mut packed = flate2::write::DeflateEncoder::new(Vec::new(), flate2::Compression::fast());
            packed.write_all(bytes).unwrap();
            let (method, packed) = if place % 2 == 0 { (8, packed.finish().unwrap()) } else { (0, bytes.to_vec()) };
            let mut about = vec![20, 0, 0, 0, method, 0, 0, 0, 0, 0];
            about.extend(crc32fast::hash(bytes).to_le_bytes());
            about.extend(u32::try_from(packed.len()).unwrap().to_le_bytes());
            about.extend(u32::try_from(bytes.len()).unwrap().to_le_bytes());
            about.extend(u16::try_from(name.len()).unwrap().to_le_bytes());
            about.extend([0, 0]);
            out.extend(b"PK\x03\x04");
            out.extend(&about);
            out.extend(name.as_bytes());
            out.extend(&packed);
            list.extend(b"PK\x01\x02\x14\x00");
            list.extend(&about);
            list.extend([0; 10]);
            list.extend(u32::try_from(start).unwrap().to_le_bytes());
            list.extend(name.as_bytes());
        }
        let start = u32::try_from(out.len()).unwrap();
        let count = u16::try_from(files.len()).unwrap().to_le_bytes();
        out.extend(&list);
        out.extend(b"PK\x05\x06\0\0\0\0");
        out.extend(count);
        out.extend(count);
        out.extend(u32::try_from(list.len()).unwrap().to_le_bytes());
        out.extend(start.to_le_bytes());
        out.extend([0, 0]);
        out
    }

    /// What is read of an archive, some bytes at a time.
    fn read(files: &[(&str, &[u8])], has_headers: bool, at_a_time: usize) -> io::Result<String> {
        let mut members = Members::open(Cursor::new(archive(files)), has_headers)?;
        let (mut all, mut buffer) = (Vec::new(), vec![0; at_a_time]);
        loop {
            match members.read(&mut buffer)? {
                0 => return Ok(String::from_utf8(all).unwrap()),
                read => all.extend(&buffer[..read]),
            }
        }
    }

    #[rstest]
    fn files_follow_each_other(#[values(1, 2, 3, 4096)] at_a_time: usize) {
        let files: [(&str, &[u8]); 7] = [
            ("2026/", b""),
            ("2026/a.jsonl", b"1\n2"),
            ("2026/empty.jsonl", b""),
            ("2026/.hidden", b"x"),
            ("__MACOSX/2026/._a.jsonl", b"x"),
            ("2026/b.jsonl", b"3\n"),
            ("2026/c.jsonl", b"4"),
        ];
        assert_eq!(read(&files, false, at_a_time).unwrap(), "1\n2\n3\n4");
        assert_eq!(read(&[], false, at_a_time).unwrap(), "");
    }

    #[rstest]
    fn one_header_row_is_read(#[values(1, 2, 5, 4096)] at_a_time: usize) {
        let files: [(&str, &[u8]); 5] = [
            ("none.csv", b""),
            ("a.csv", b"\xef\xbb\xbfid,lock\r\n1,upper\r\n"),
            ("b.csv", b"id,lock\n2,lower"),
            ("only.csv", b"id,lock"),
            ("c.csv", b"id,lock\n3,upper\n"),
        ];
        let expected = "\u{feff}id,lock\r\n1,upper\r\n2,lower\n3,upper\n";
        assert_eq!(read(&files, true, at_a_time).unwrap(), expected);
        let error = read(&[files[1], ("d.csv", b"lock,id\n")], true, at_a_time).unwrap_err();
        assert!(error.to_string().contains("d.csv in it begins with another header row"), "{error}");
        let error = read(&[files[1], files[1]], true, at_a_time).unwrap_err();
        assert!(error.to_string().contains("the same name"), "{error}");
        let error = read(&[("a.csv", b"\"id\nnumber\",lock\n"), files[2]], true, at_a_time).unwrap_err();
        assert!(error.to_string().contains("within quotes"), "{error}");
    }

    #[test]
    fn what_is_damaged_or_cannot_be_read_is_said() {
        let whole = archive(&[("a.csv", b"id\n1\n"), ("b.csv", b"id\n2\n")]);
        let all = |bytes: Vec<u8>| {
            let mut out = String::new();
            Members::open(Cursor::new(bytes), false)
                .and_then(|mut members| members.read_to_string(&mut out))
                .map(|_| out)
        };
        assert_eq!(all(whole.clone()).unwrap(), "id\n1\nid\n2\n");
        // Of the second file, which is stored, one byte is another.
        let mut other = whole.clone();
        let place = whole.windows(5).position(|w| w == b"id\n2\n").unwrap();
        other[place] = b'x';
        assert!(all(other).unwrap_err().to_string().contains("b.csv in it is damaged"));
        let mut by_another = whole.clone();
        let list = whole.windows(4).position(|w| w == b"PK\x01\x02").unwrap();
        by_another[list + 10] = 12;
        assert!(all(by_another).unwrap_err().to_string().contains("pack it with deflate"));
        let mut encrypted = whole;
        encrypted[list + 8] = 1;
        assert!(all(encrypted).unwrap_err().to_string().contains("a.csv in it is encrypted"));
    }
}
