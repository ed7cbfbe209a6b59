//! A recipient that is a file: one line of JSON a message.

use std::io::{Read as _, Seek as _, SeekFrom, Write as _};
use std::path::Path;

use sluice_core::notice::Message;
use sluice_core::private;

/// Appends the message. It has arrived once it is on the disk.
pub(super) fn append(path: &Path, message: &Message) -> Result<(), String> {
    let failed = |error: std::io::Error| format!("cannot write {}: {error}", path.display());
    if let Some(folder) = path.parent() {
        std::fs::create_dir_all(folder).map_err(failed)?;
    }
    let mut file = private::options().read(true).append(true).create(true).open(path).map_err(failed)?;
    if !file.metadata().map_err(failed)?.is_file() {
        return Err(format!("cannot write {}: it is not a file", path.display()));
    }
    let mut line = format!("{}\n", message.as_json());
    // A line that was cut off by a crash must not swallow this one.
    if file.seek(SeekFrom::End(0)).map_err(failed)? > 0 {
        let mut last = [0];
        file.seek(SeekFrom::End(-1)).and_then(|_| file.read_exact(&mut last)).map_err(failed)?;
        if last != [b'\n'] {
            line.insert(0, '\n');
        }
    }
    file.write_all(line.as_bytes()).and_then(|()| file.sync_data()).map_err(failed)
}
