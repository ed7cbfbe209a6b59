//! Files that are one list: it has changed when one of them came, went or was written.

use std::os::unix::fs::MetadataExt as _;
use std::sync::Arc;
use std::time::{Duration, SystemTime};

use sluice_core::failure::{Failure, Outcome};
use sluice_core::formats::Format;
use sluice_core::kinds::LaneReader;

use super::sample;
use super::scan::Scan;
use crate::intakes::list::{ListSource, Version};

/// A file that was written within this time may still be written.
const QUIET: Duration = Duration::from_secs(1);

/// The files of an arrival as a list.
pub(super) struct FileList {
    pub scan: Scan,
    pub format: Arc<dyn Format>,
    pub max_record: u64,
    /// What they match, for saying that none is there.
    pub pattern: String,
}

impl ListSource for FileList {
    fn version(&self) -> Outcome<Version> {
        let files = self.scan.files()?;
        if files.is_empty() {
            return Ok(Version::Absent(format!("no file matches `{}`", self.pattern)));
        }
        let (mut version, mut bytes) = (String::new(), 0);
        for (name, path) in files {
            let data = match std::fs::metadata(&path) {
                Ok(data) => data,
                Err(error) if error.kind() == std::io::ErrorKind::NotFound => return Ok(Version::Unfinished),
                Err(error) => return Err(Failure::io("look at", &path, &error)),
            };
            let age = data.modified().ok().and_then(|written| SystemTime::now().duration_since(written).ok());
            if age.is_some_and(|age| age < QUIET) {
                return Ok(Version::Unfinished);
            }
            bytes += data.len();
            let (seconds, nanos) = (data.mtime(), data.mtime_nsec());
            version.push_str(&format!("{name}\0{}\0{}\0{seconds}.{nanos}\n", data.len(), data.ino()));
        }
        // Whoever wrote it has failed, or has not begun.
        if bytes == 0 {
            return Ok(Version::Absent(format!("no file that matches `{}` has a byte", self.pattern)));
        }
        Ok(Version::Known(version))
    }

    fn open(&self) -> Outcome<Box<dyn LaneReader>> {
        self.sample(u64::MAX)
    }

    fn sample(&self, events: u64) -> Outcome<Box<dyn LaneReader>> {
        sample::reader(&self.scan, events, || Ok(Arc::clone(&self.format)), self.max_record)
    }
}
