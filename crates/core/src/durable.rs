//! The storage calls of the commit path, in one place: nothing else syncs or renames a file that lands.
//!
//! A test can record the calls and replay a crash after each of them in which everything unsynced is lost.

use std::fs::{self, File, OpenOptions};
use std::io::{self, Write as _};
use std::path::{Path, PathBuf};
use std::sync::Arc;

use crate::failure::{Failure, Outcome};
use crate::private;

/// One storage call.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum DiskCall {
    /// A folder was made.
    MakeFolder(PathBuf),
    /// A file's bytes became durable.
    SyncFile(PathBuf),
    /// A file got another name.
    Rename(PathBuf, PathBuf),
    /// A folder's names became durable.
    SyncFolder(PathBuf),
    /// Bytes were added at the end of a file, not yet durable.
    Append(PathBuf),
    /// A file, or a folder with all in it, was removed.
    Remove(PathBuf),
}

/// Sees each call just after it was made.
pub trait Recorder: Send + Sync {
    /// Notes one call.
    fn record(&self, call: DiskCall);
}

/// Makes the calls, and notifies the recorder where there is one.
#[derive(Clone, Default)]
pub struct Disk {
    recorder: Option<Arc<dyn Recorder>>,
    /// Whether what is made is for its owner alone.
    private: bool,
}

impl Disk {
    /// Calls that are recorded.
    pub fn recorded(recorder: Arc<dyn Recorder>) -> Self {
        Self { recorder: Some(recorder), private: false }
    }

    /// Calls that make files and folders for their owner alone: for those that hold events and are not what lands.
    pub fn private() -> Self {
        Self { recorder: None, private: true }
    }

    /// Makes an empty file, or empties it.
    ///
    /// # Errors
    /// Where the file system refuses.
    pub fn create(&self, path: &Path) -> Outcome<File> {
        if self.private {
            return private::create(path);
        }
        File::create(path).map_err(|e| Failure::io("make", path, &e))
    }

    fn note(&self, call: impl FnOnce() -> DiskCall) {
        if let Some(recorder) = &self.recorder {
            recorder.record(call());
        }
    }

    /// Writes a whole file; on return its bytes are durable, its name is not.
    ///
    /// # Errors
    /// Where the file system refuses.
    pub fn write_file(&self, path: &Path, bytes: &[u8]) -> Outcome<()> {
        let mut file = self.create(path)?;
        file.write_all(bytes).map_err(|e| Failure::io("write", path, &e))?;
        self.sync_file(&file, path)
    }

    /// Makes a folder and those above it; on return their names are durable.
    ///
    /// # Errors
    /// Where the file system refuses.
    pub fn make_folders(&self, path: &Path) -> Outcome<()> {
        let missing: Vec<&Path> = path.ancestors().take_while(|p| !p.as_os_str().is_empty() && !p.is_dir()).collect();
        for folder in missing.iter().rev() {
            let made = if self.private { private::make_folder(folder) } else { fs::create_dir(folder) };
            match made {
                Ok(()) => self.note(|| DiskCall::MakeFolder(folder.to_path_buf())),
                // Another process was faster.
                Err(error) if error.kind() == io::ErrorKind::AlreadyExists && folder.is_dir() => {}
                Err(error) => return Err(Failure::io("make the folder", folder, &error)),
            }
        }
        // The topmost new name stands in the folder above it.
        for folder in missing.iter().rev() {
            if let Some(parent) = folder.parent().filter(|p| !p.as_os_str().is_empty()) {
                self.sync_folder(parent)?;
            }
        }
        Ok(())
    }

    /// Makes a file's bytes durable.
    ///
    /// # Errors
    /// Where the file system refuses.
    pub fn sync_file(&self, file: &File, path: &Path) -> Outcome<()> {
        file.sync_all().map_err(|e| Failure::io("sync", path, &e))?;
        self.note(|| DiskCall::SyncFile(path.to_path_buf()));
        Ok(())
    }

    /// Makes the names in a folder durable.
    ///
    /// # Errors
    /// Where the file system refuses.
    pub fn sync_folder(&self, path: &Path) -> Outcome<()> {
        File::open(path).and_then(|f| f.sync_all()).map_err(|e| Failure::io("sync the folder", path, &e))?;
        self.note(|| DiskCall::SyncFolder(path.to_path_buf()));
        Ok(())
    }

    /// Gives a file another name on the same file system, at once. The new name becomes durable with
    /// [`Self::sync_folder`].
    ///
    /// # Errors
    /// Where the file system refuses.
    pub fn rename(&self, from: &Path, to: &Path) -> Outcome<()> {
        fs::rename(from, to).map_err(|e| Failure::io(&format!("rename {} to", from.display()), to, &e))?;
        self.note(|| DiskCall::Rename(from.to_path_buf(), to.to_path_buf()));
        Ok(())
    }

    /// Adds bytes at a place of a file, cutting off what stood from there on, and makes them durable.
    ///
    /// # Errors
    /// Where the file system refuses.
    pub fn append(&self, path: &Path, at: u64, bytes: &[u8]) -> Outcome<()> {
        let is_new = !path.exists();
        let mut options = if self.private { private::options() } else { OpenOptions::new() };
        let mut file = options.create(true).append(true).open(path).map_err(|e| Failure::io("open", path, &e))?;
        file.set_len(at).and_then(|()| file.write_all(bytes)).map_err(|e| Failure::io("write", path, &e))?;
        self.note(|| DiskCall::Append(path.to_path_buf()));
        self.sync_file(&file, path)?;
        match path.parent() {
            Some(parent) if is_new => self.sync_folder(parent),
            _ => Ok(()),
        }
    }

    /// Removes a file; one that is not there is as good as removed.
    ///
    /// # Errors
    /// Where it cannot be removed.
    pub fn remove_file(&self, path: &Path) -> Outcome<()> {
        match fs::remove_file(path) {
            Ok(()) => {
                self.note(|| DiskCall::Remove(path.to_path_buf()));
                Ok(())
            }
            Err(error) if error.kind() == std::io::ErrorKind::NotFound => Ok(()),
            Err(error) => Err(Failure::io("remove", path, &error)),
        }
    }

    /// Removes a folder with all in it, if it is there.
    ///
    /// # Errors
    /// Where the file system refuses.
    pub fn remove_tree(&self, path: &Path) -> Outcome<()> {
        match fs::remove_dir_all(path) {
            Ok(()) => {
                self.note(|| DiskCall::Remove(path.to_path_buf()));
                Ok(())
            }
            Err(error) if error.kind() == io::ErrorKind::NotFound => Ok(()),
            Err(error) => Err(Failure::io("remove", path, &error)),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::sync::Mutex;

    #[derive(Default)]
    struct Notes(Mutex<Vec<DiskCall>>);

    impl Recorder for Notes {
        fn record(&self, call: DiskCall) {
            self.0.lock().unwrap().push(call);
        }
    }

    #[test]
    fn new_folders_are_synced_into_their_parents() {
        let folder = tempfile::tempdir().unwrap();
        let notes = Arc::new(Notes::default());
        let disk = Disk::recorded(Arc::clone(&notes) as Arc<dyn Recorder>);
        let (a, b) = (folder.path().join("a"), folder.path().join("a/b"));
        disk.make_folders(&b).unwrap();
        let root = folder.path().to_path_buf();
        let expected = [
            DiskCall::MakeFolder(a.clone()),
            DiskCall::MakeFolder(b),
            DiskCall::SyncFolder(root),
            DiskCall::SyncFolder(a),
        ];
        assert_eq!(*notes.0.lock().unwrap(), expected);
    }

    #[test]
    fn appending_cuts_off_a_torn_end() {
        let folder = tempfile::tempdir().unwrap();
        let path = folder.path().join("log");
        let disk = Disk::default();
        disk.append(&path, 0, b"one\ntw").unwrap();
        disk.append(&path, 4, b"two\n").unwrap();
        assert_eq!(fs::read(&path).unwrap(), b"one\ntwo\n");
    }
}
