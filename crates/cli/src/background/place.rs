//! Where the background process of a project is found: its lock, its socket and its log.

use std::fs::{File, TryLockError};
use std::io::{self, Read as _, Seek as _, SeekFrom, Write as _};
use std::os::fd::AsRawFd as _;
use std::os::unix::net::{UnixListener, UnixStream};
use std::path::{Path, PathBuf};

use serde::{Deserialize, Serialize};
use sluice_core::failure::{Failure, FailureKind, Outcome};
use sluice_core::private;

use crate::output::times;

/// A background process.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub(crate) struct Process {
    /// Its number.
    pub process: u32,
    /// When it was started, in microseconds since 1970.
    pub since: i64,
    /// The version of the program.
    pub program: String,
}

/// The files of the background process of a project.
#[derive(Clone, Debug)]
pub(crate) struct Place {
    folder: PathBuf,
    log: PathBuf,
}

/// The lock of the background process. The end of the process frees it, however it ends.
pub(super) struct Lock {
    file: File,
}

/// What the lock says.
#[derive(Debug, PartialEq, Eq)]
pub(crate) enum Holding {
    /// No process.
    Nobody,
    /// A process that ended without settling, such as by a kill.
    Gone(Process),
    /// A process that lives.
    Lives(Option<Process>),
}

/// The longest path of a socket that every system takes.
const SHORT: usize = 100;

impl Place {
    pub(crate) fn of(root: &Path) -> Self {
        let own = root.join(".sluice");
        Self { folder: own.join("background"), log: own.join("log") }
    }

    /// The newest file of the log.
    pub(crate) fn log(&self) -> PathBuf {
        self.log.join("sluice.log")
    }

    /// Where the process writes what it says before its log is open.
    pub(crate) fn first_words(&self) -> PathBuf {
        self.folder.join("start.txt")
    }

    /// Makes the folders.
    pub(crate) fn make(&self) -> Outcome<()> {
        private::make_folders(&self.folder)?;
        private::make_folders(&self.log)
    }

    /// Takes the lock.
    ///
    /// # Errors
    /// Where another process has it.
    pub(super) fn lock(&self) -> Outcome<Lock> {
        let path = self.folder.join("lock");
        let io = |e: io::Error| Failure::io("lock", &path, &e);
        let mut file =
            private::options().create(true).truncate(false).read(true).write(true).open(&path).map_err(io)?;
        match file.try_lock() {
            Ok(()) => {}
            Err(TryLockError::WouldBlock) => {
                let who = read(&mut file).map_or(String::new(), |p| format!(": process {}", p.process));
                return Err(Failure::new(
                    FailureKind::InUse,
                    format!("the project has a background process already{who}"),
                ));
            }
            Err(TryLockError::Error(error)) => return Err(io(error)),
        }
        let own = Process {
            process: std::process::id(),
            since: times::now(),
            program: env!("CARGO_PKG_VERSION").to_string(),
        };
        let text = serde_json::to_string(&own).unwrap_or_default();
        file.set_len(0).and_then(|()| file.write_all(text.as_bytes())).map_err(io)?;
        Ok(Lock { file })
    }

    /// Who has the lock.
    pub(crate) fn holding(&self) -> Holding {
        let path = self.folder.join("lock");
        let Ok(mut file) = File::options().read(true).write(true).open(path) else { return Holding::Nobody };
        match file.try_lock_shared() {
            Ok(()) => read(&mut file).map_or(Holding::Nobody, Holding::Gone),
            Err(_) => Holding::Lives(read(&mut file)),
        }
    }

    /// The process that ended without settling, where nobody has taken its place.
    pub(crate) fn gone(&self) -> Option<Process> {
        match self.holding() {
            Holding::Gone(process) => Some(process),
            Holding::Nobody | Holding::Lives(_) => None,
        }
    }

    /// Listens for commands. The caller has the lock: a socket that is there is of a process that is not.
    pub(super) fn listen(&self) -> Outcome<UnixListener> {
        let path = self.socket();
        match std::fs::remove_file(&path) {
            Err(error) if error.kind() != io::ErrorKind::NotFound => return Err(Failure::io("remove", &path, &error)),
            _ => {}
        }
        self.with_short_path(|path| UnixListener::bind(path)).map_err(|e| Failure::io("listen at", &path, &e))
    }

    /// Connects to the process.
    pub(super) fn connect(&self) -> io::Result<UnixStream> {
        self.with_short_path(|path| UnixStream::connect(path))
    }

    /// Takes the socket away.
    pub(super) fn close(&self) {
        // It may have been taken away by hand.
        let _ = std::fs::remove_file(self.socket());
    }

    fn socket(&self) -> PathBuf {
        self.folder.join("socket")
    }

    /// Systems take paths of sockets up to about a hundred bytes; Linux has a shorter one for every open folder.
    fn with_short_path<T>(&self, work: impl FnOnce(&Path) -> io::Result<T>) -> io::Result<T> {
        let path = self.socket();
        if path.as_os_str().len() < SHORT {
            return work(&path);
        }
        let folder = File::open(&self.folder)?;
        work(Path::new(&format!("/proc/self/fd/{}/socket", folder.as_raw_fd())))
    }
}

/// Only a process that was killed leaves its number behind.
impl Drop for Lock {
    fn drop(&mut self) {
        // If that fails, the next command reports that the process ended, which is also true.
        let _ = self.file.set_len(0);
    }
}

fn read(file: &mut File) -> Option<Process> {
    let mut text = String::new();
    file.seek(SeekFrom::Start(0)).ok()?;
    file.read_to_string(&mut text).ok()?;
    serde_json::from_str(&text).ok()
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::io::{BufRead as _, BufReader};

    #[test]
    fn one_process_has_the_lock_and_is_known() {
        let root = tempfile::tempdir().unwrap();
        let place = Place::of(root.path());
        assert_eq!(place.holding(), Holding::Nobody);
        place.make().unwrap();
        let lock = place.lock().unwrap();
        let Holding::Lives(Some(own)) = place.holding() else { panic!("{:?}", place.holding()) };
        assert_eq!(own.process, std::process::id());
        assert_eq!(place.lock().map(|_| ()).unwrap_err().kind, FailureKind::InUse);
        let text = std::fs::read(place.folder.join("lock")).unwrap();
        drop(lock);
        assert_eq!(place.holding(), Holding::Nobody);
        // As a killed process leaves it.
        std::fs::write(place.folder.join("lock"), text).unwrap();
        assert_eq!(place.holding(), Holding::Gone(own));
        drop(place.lock().unwrap());
        assert_eq!(place.holding(), Holding::Nobody);
    }

    #[test]
    fn a_socket_is_reached_however_deep_its_project_lies() {
        let root = tempfile::tempdir().unwrap();
        let deep = root.path().join("a-folder-with-a-long-name/".repeat(10));
        let place = Place::of(&deep);
        place.make().unwrap();
        let listener = place.listen().unwrap();
        let mut stream = place.connect().unwrap();
        stream.write_all(b"hello\n").unwrap();
        let mut line = String::new();
        BufReader::new(listener.accept().unwrap().0).read_line(&mut line).unwrap();
        assert_eq!(line, "hello\n");
        // One that a killed process left behind is replaced.
        drop(listener);
        place.listen().unwrap();
        place.close();
        assert!(place.connect().is_err());
    }
}
