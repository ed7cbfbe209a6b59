//! Spools the messages of one batch.

use std::fs::File;
use std::io::{BufWriter, Write as _};
use std::path::PathBuf;

use sluice_core::durable::Disk;
use sluice_core::event::LandingRows;
use sluice_core::fail_points::reach;
use sluice_core::failure::{Failure, Outcome};
use sluice_core::kinds::{Stage, StagedWork};

use super::message::OutgoingMessage;
use super::rows::MessageShape;

pub(super) struct SpoolStage {
    path: PathBuf,
    file: BufWriter<File>,
    shape: MessageShape,
    /// What the topic said of itself, kept with the staged work.
    detail: serde_json::Value,
    disk: Disk,
    rows: u64,
    bytes: u64,
    text: String,
    message: OutgoingMessage,
}

impl SpoolStage {
    pub(super) fn create(
        path: PathBuf,
        shape: MessageShape,
        detail: serde_json::Value,
        disk: Disk,
    ) -> Outcome<Box<dyn Stage>> {
        if let Some(folder) = path.parent() {
            disk.make_folders(folder)?;
        }
        let file = disk.create(&path)?;
        let file = BufWriter::with_capacity(1 << 16, file);
        let (text, message) = (String::new(), OutgoingMessage::default());
        Ok(Box::new(Self { path, file, shape, detail, disk, rows: 0, bytes: 0, text, message }))
    }
}

impl Stage for SpoolStage {
    fn write(&mut self, rows: LandingRows) -> Outcome<()> {
        let rows = rows.batch;
        let (mut text, mut message) = (std::mem::take(&mut self.text), std::mem::take(&mut self.message));
        let (file, path, bytes) = (&mut self.file, &self.path, &mut self.bytes);
        self.shape.each(&rows, &mut text, &mut message, |_, message| {
            *bytes += message.value.len() as u64;
            message.write(file).map_err(|e| Failure::io("write", path, &e))
        })?;
        (self.text, self.message) = (text, message);
        self.rows += rows.num_rows() as u64;
        Ok(())
    }

    fn finish(mut self: Box<Self>) -> Outcome<StagedWork> {
        let path = self.path;
        self.file.flush().map_err(|e| Failure::io("write", &path, &e))?;
        let file = self.file.into_inner().map_err(|e| Failure::io("write", &path, &e.into_error()))?;
        reach("stage.closed");
        self.disk.sync_file(&file, &path)?;
        if let Some(folder) = path.parent() {
            self.disk.sync_folder(folder)?;
        }
        reach("stage.synced");
        Ok(StagedWork { rows: self.rows, merged: 0, bytes: self.bytes, detail: self.detail })
    }
}
