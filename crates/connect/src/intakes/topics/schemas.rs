//! Messages that carry the number of their schema, read together with the schemas, which a registry knows.

use std::sync::Arc;
use std::time::Duration;

use sluice_core::event::Chunk;
use sluice_core::failure::Outcome;
use sluice_core::kinds::{LaneReader, Read, ReadLimit};

use crate::broker::registry::Registry;

/// After how long a registry that did not answer, or did not know a schema, is asked again.
const AGAIN: Duration = Duration::from_secs(1);

/// Reads messages together with their schemas.
pub(super) struct WithSchemas {
    inner: Box<dyn LaneReader>,
    registry: Arc<Registry>,
    /// What was read while the registry did not answer.
    held: Option<Chunk>,
}

impl WithSchemas {
    /// A reader whose messages name their schemas.
    pub(super) fn new(inner: Box<dyn LaneReader>, registry: Arc<Registry>) -> Self {
        Self { inner, registry, held: None }
    }
}

impl LaneReader for WithSchemas {
    fn read(&mut self, limit: ReadLimit) -> Outcome<Read> {
        let mut chunk = match self.held.take() {
            Some(chunk) => chunk,
            None => match self.inner.read(limit)? {
                Read::Chunk(chunk) => chunk,
                other => return Ok(other),
            },
        };
        match self.registry.complete(&mut chunk) {
            Ok(true) => Ok(Read::Chunk(chunk)),
            Ok(false) => {
                self.held = Some(chunk);
                Ok(Read::Pending)
            }
            Err(failure) if failure.passing => {
                self.held = Some(chunk);
                self.registry.wait(AGAIN);
                Ok(Read::Away(failure.message))
            }
            Err(failure) => Ok(Read::Halt(failure)),
        }
    }

    fn confirm(&mut self) -> Outcome<bool> {
        self.inner.confirm()
    }

    fn ended(&mut self) {
        // What is held was not handed on: it is proven with the batch that takes it.
        if self.held.is_none() {
            self.inner.ended();
        }
    }

    fn unread(&mut self) -> Arc<[Arc<str>]> {
        let unread = self.inner.unread();
        match &self.held {
            Some(held) => unread.iter().cloned().chain([Arc::clone(&held.partition)]).collect(),
            None => unread,
        }
    }

    fn wait(&mut self, at_most: Duration) -> bool {
        self.inner.wait(at_most)
    }

    fn remarks(&self) -> Vec<String> {
        self.inner.remarks()
    }
}
