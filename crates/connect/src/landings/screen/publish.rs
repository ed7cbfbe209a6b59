//! Prints what was spooled.

use std::fs::File;
use std::io::{self, Write};
use std::path::Path;

use sluice_core::fail_points::reach;
use sluice_core::failure::{Failure, FailureKind, Outcome};
use sluice_core::kinds::StagedWork;

pub(super) fn print(path: &Path, work: &StagedWork, out: &mut (dyn Write + Send)) -> Outcome<()> {
    reach("publish.before");
    let mut file = match File::open(path) {
        Ok(file) => file,
        // It was printed before a crash; only the ledger does not know yet.
        Err(error) if error.kind() == io::ErrorKind::NotFound => return Ok(()),
        Err(error) => return Err(Failure::io("read", path, &error)),
    };
    if work.rows > 0 {
        io::copy(&mut file, out).and_then(|_| out.flush()).map_err(|e| {
            // The reader of a pipe has gone away: nobody looks any more.
            Failure::new(FailureKind::Interrupted, format!("standard output is closed: {e}"))
        })?;
    }
    reach("publish.recorded");
    std::fs::remove_file(path).map_err(|e| Failure::io("remove", path, &e))
}
