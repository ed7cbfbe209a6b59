//! Files of the secrets and certificates of connections. If one changes, connections are reopened.

use std::path::PathBuf;
use std::time::SystemTime;

use super::member::Loaded;

/// What tells two states of a file apart: its time, its length, and which file it is.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
struct Stamp {
    changed: Option<SystemTime>,
    length: u64,
    file: u64,
}

/// The files of one pipeline, as they were read.
#[derive(Debug, Default)]
pub(super) struct WatchedFiles {
    files: Vec<WatchedFile>,
}

#[derive(Debug)]
struct WatchedFile {
    path: PathBuf,
    known: Option<Stamp>,
    /// What it was when it was looked at last, where that was new: it may still be being written.
    seen: Option<Stamp>,
}

fn stamp(path: &PathBuf) -> Option<Stamp> {
    use std::os::unix::fs::MetadataExt as _;
    let data = std::fs::metadata(path).ok()?;
    Some(Stamp { changed: data.modified().ok(), length: data.len(), file: data.ino() })
}

impl WatchedFiles {
    /// The files that the connections of a pipeline name.
    pub(super) fn of(loaded: &Loaded) -> Self {
        let plan = &loaded.pipeline.plan;
        let arrivals = plan.arrivals.iter().map(|arrival| &arrival.connection);
        let connections = arrivals.chain(plan.landings.iter().map(|landing| &landing.connection));
        let paths = connections.flat_map(|connection| connection.options.files_behind());
        let mut paths: Vec<PathBuf> = paths.map(|path| loaded.project.root.join(path)).collect();
        paths.sort();
        paths.dedup();
        Self::at(paths)
    }

    fn at(paths: Vec<PathBuf>) -> Self {
        let file = |path: PathBuf| WatchedFile { known: stamp(&path), seen: None, path };
        Self { files: paths.into_iter().map(file).collect() }
    }

    /// A file that has changed, and was the same in two looks. One that is gone is waited for.
    pub(super) fn changed(&mut self) -> Option<PathBuf> {
        let mut found = None;
        for file in &mut self.files {
            let now = stamp(&file.path).filter(|now| Some(*now) != file.known);
            if now.is_some() && now == file.seen {
                (file.known, file.seen) = (now, None);
                found = Some(file.path.clone());
            } else {
                file.seen = now;
            }
        }
        found
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_change_is_told_once_and_when_it_is_whole() {
        let folder = tempfile::tempdir().unwrap();
        let (key, other) = (folder.path().join("key"), folder.path().join("other"));
        std::fs::write(&key, "gate-7").unwrap();
        let mut files = WatchedFiles::at(vec![key.clone(), other.clone()]);
        assert_eq!(files.changed(), None);
        std::fs::write(&key, "gate").unwrap();
        assert_eq!(files.changed(), None);
        std::fs::write(&key, "gate-8 and more").unwrap();
        assert_eq!(files.changed(), None);
        assert_eq!(files.changed(), Some(key.clone()));
        assert_eq!(files.changed(), None);
        // Gone and back, as by renaming another one to its place.
        std::fs::remove_file(&key).unwrap();
        assert_eq!((files.changed(), files.changed()), (None, None));
        std::fs::write(&key, "gate-9").unwrap();
        std::fs::write(&other, "new").unwrap();
        assert_eq!(files.changed(), None);
        assert!(files.changed().is_some());
        assert_eq!(files.changed(), None);
    }
}
