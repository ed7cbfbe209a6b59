//! A file of lines that is closed when it is large, and followed by a new one. The closed ones are numbered, the newest `.1`.

use std::fs::File;
use std::io::{self, Write as _};
use std::path::{Path, PathBuf};

use sluice_core::failure::{Failure, Outcome};
use sluice_core::private;

/// The present file of a row.
pub(crate) struct RotatingFile {
    path: PathBuf,
    /// None where it could not be opened: it is tried again with the next line.
    file: Option<File>,
    length: u64,
    /// A file is closed when it is larger than this, in bytes.
    limit: u64,
    /// So many closed files are kept.
    kept: u32,
}

impl RotatingFile {
    /// Goes on with the file, or makes it.
    ///
    /// # Errors
    /// Where it cannot be written.
    pub(crate) fn open(path: &Path, limit: u64, kept: u32) -> Outcome<Self> {
        let mut own = Self { path: path.into(), file: None, length: 0, limit, kept };
        own.reopen().map_err(|e| Failure::io("write the log", path, &e))?;
        Ok(own)
    }

    /// Writes whole lines.
    ///
    /// # Errors
    /// Where the file system refuses; the next lines are tried again.
    pub(crate) fn write(&mut self, lines: &[u8]) -> io::Result<()> {
        if self.file.is_none() {
            self.reopen()?;
        }
        if self.length > self.limit {
            self.rotate()?;
        }
        let Some(file) = &mut self.file else { return Ok(()) };
        file.write_all(lines)?;
        self.length += lines.len() as u64;
        Ok(())
    }

    fn reopen(&mut self) -> io::Result<()> {
        let file = private::options().create(true).append(true).open(&self.path)?;
        self.length = file.metadata()?.len();
        self.file = Some(file);
        Ok(())
    }

    fn rotate(&mut self) -> io::Result<()> {
        self.file = None;
        for number in (1..self.kept).rev() {
            // There are none in the beginning.
            let _ = std::fs::rename(self.numbered(number), self.numbered(number + 1));
        }
        // Where it cannot be moved, it grows on: lines are not lost.
        let _ = std::fs::rename(&self.path, self.numbered(1));
        self.reopen()
    }

    fn numbered(&self, number: u32) -> PathBuf {
        let mut name = self.path.clone().into_os_string();
        name.push(format!(".{number}"));
        name.into()
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn large_files_are_closed_and_the_oldest_goes() {
        let folder = tempfile::tempdir().unwrap();
        let path = folder.path().join("sluice.log");
        let mut file = RotatingFile::open(&path, 100, 3).unwrap();
        for number in 0..60 {
            file.write(format!("line {number:04}\n").as_bytes()).unwrap();
            // Another process goes on where the last one was.
            if number % 7 == 0 {
                file = RotatingFile::open(&path, 100, 3).unwrap();
            }
        }
        let read = |name: &str| std::fs::read_to_string(folder.path().join(name)).unwrap_or_default();
        let all = ["sluice.log.3", "sluice.log.2", "sluice.log.1", "sluice.log"].map(read);
        let lines: Vec<String> = all.concat().lines().map(str::to_string).collect();
        assert_eq!(lines.last().unwrap(), "line 0059");
        assert!(lines.windows(2).all(|pair| pair[0] < pair[1]), "{lines:?}");
        assert!(lines.len() >= 30 && lines.len() < 60, "{}", lines.len());
        assert!(all.iter().all(|text| text.len() <= 110));
        assert!(!folder.path().join("sluice.log.4").exists());
    }

    #[test]
    fn a_file_that_was_taken_away_is_missed_by_nobody() {
        let folder = tempfile::tempdir().unwrap();
        let path = folder.path().join("sluice.log");
        let mut file = RotatingFile::open(&path, 10, 2).unwrap();
        file.write(b"a line of some length\n").unwrap();
        std::fs::remove_file(&path).unwrap();
        file.write(b"next\n").unwrap();
        assert_eq!(std::fs::read_to_string(&path).unwrap(), "next\n");
    }
}
