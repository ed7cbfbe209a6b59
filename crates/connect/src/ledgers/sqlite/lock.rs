//! Locks of pipelines: one locked file each beside the ledger. The system unlocks it when the process ends, however
//! it ends.

use std::fs::{File, TryLockError};
use std::io::{Read as _, Seek as _, SeekFrom, Write as _};
use std::path::{Path, PathBuf};

use sluice_core::failure::{Failure, FailureKind, Outcome};
use sluice_core::ledger::{Holder, PipelineLock};
use sluice_core::private;
use sluice_core::values::time;

struct LockedFile {
    _file: File,
}

impl PipelineLock for LockedFile {}

fn lock_path(ledger: &Path, pipeline: &str) -> PathBuf {
    ledger.with_extension("locks").join(pipeline)
}

pub(super) fn take(ledger: &Path, pipeline: &str) -> Outcome<Box<dyn PipelineLock>> {
    let path = lock_path(ledger, pipeline);
    let io = |e: std::io::Error| Failure::io("lock", &path, &e);
    if let Some(folder) = path.parent() {
        private::make_folders(folder)?;
    }
    let mut file = private::options().create(true).truncate(false).read(true).write(true).open(&path).map_err(io)?;
    match file.try_lock() {
        Ok(()) => {}
        Err(TryLockError::WouldBlock) => return Err(in_use(pipeline, read(&mut file))),
        Err(TryLockError::Error(error)) => return Err(io(error)),
    }
    let now = i64::try_from(
        std::time::SystemTime::now().duration_since(std::time::UNIX_EPOCH).unwrap_or_default().as_micros(),
    );
    let holder = Holder {
        pid: std::process::id(),
        host: host(),
        since: time::show_timestamp(now.unwrap_or(0) / 1_000_000 * 1_000_000),
    };
    let text = serde_json::to_string(&holder).unwrap_or_default();
    file.set_len(0).and_then(|()| file.write_all(text.as_bytes())).map_err(io)?;
    Ok(Box::new(LockedFile { _file: file }))
}

pub(super) fn holder(ledger: &Path, pipeline: &str) -> Outcome<Option<Holder>> {
    let path = lock_path(ledger, pipeline);
    let Ok(mut file) = File::options().read(true).write(true).open(&path) else { return Ok(None) };
    match file.try_lock_shared() {
        Ok(()) => Ok(None),
        Err(TryLockError::WouldBlock) => Ok(read(&mut file)),
        Err(TryLockError::Error(error)) => Err(Failure::io("look at", &path, &error)),
    }
}

fn read(file: &mut File) -> Option<Holder> {
    let mut text = String::new();
    file.seek(SeekFrom::Start(0)).ok()?;
    file.read_to_string(&mut text).ok()?;
    serde_json::from_str(&text).ok()
}

fn in_use(pipeline: &str, holder: Option<Holder>) -> Failure {
    let who = holder.map_or_else(
        || "another process".to_string(),
        |h| format!("process {} on {}, since {}", h.pid, h.host, h.since),
    );
    Failure::new(FailureKind::InUse, format!("{pipeline} is in use by {who}"))
        .with_help("a pipeline can only run once at a time; stop the other run first, or let it finish")
}

fn host() -> String {
    std::fs::read_to_string("/proc/sys/kernel/hostname").map_or_else(|_| "this machine".into(), |h| h.trim().into())
}
