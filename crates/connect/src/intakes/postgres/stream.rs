//! Receives the log on a thread of the network, answers the server while nobody reads, and tells it what has settled.
//!
//! What waits to be read is bounded; when the bound is reached the server is still told that we live, so that it keeps
//! the connection, and sends no more.

use std::sync::Arc;
use std::sync::atomic::{AtomicU64, Ordering};
use std::time::Duration;

use bytes::Bytes;
use crossbeam_channel::{Receiver, Sender, unbounded};
use tokio::sync::{Notify, Semaphore};
use tokio::task::JoinHandle;

use super::catalog::show_lsn;
use super::wire::{Said, Streamed, Wire, WireError};
use crate::databases::{Server, spawn, wait};

/// How much of the log may wait to be read, in KiB.
const WAITING: u32 = 64 << 10;

/// How often the server hears from us.
const ALIVE: Duration = Duration::from_secs(5);

/// What has been received.
#[derive(Debug)]
pub(super) enum Received {
    /// A message of the plugin, with the bound that it takes up.
    Message(Bytes, u32),
    /// The server has decoded its log to here.
    Alive(u64),
    /// The server does not answer any more.
    Away(String),
    /// The server refuses to go on.
    Refused(Said),
}

/// What the task and those who use it share.
pub(super) struct Shared {
    /// What has settled.
    settled: AtomicU64,
    /// Wakes the task to tell it.
    tell: Notify,
    room: Semaphore,
}

impl Shared {
    pub(super) fn new(settled: u64) -> Arc<Self> {
        let room = Semaphore::new(usize::try_from(WAITING).unwrap_or(1));
        Arc::new(Self { settled: AtomicU64::new(settled), tell: Notify::new(), room })
    }

    /// Lets the server forget what came before. Never goes back.
    pub(super) fn settle(&self, lsn: u64) {
        self.settled.fetch_max(lsn, Ordering::SeqCst);
        self.tell.notify_one();
    }

    /// Asks the server where it is.
    pub(super) fn ask(&self) {
        self.tell.notify_one();
    }
}

/// A running stream. Dropping it ends it.
pub(super) struct Stream {
    pub received: Receiver<Received>,
    shared: Arc<Shared>,
    task: JoinHandle<()>,
}

impl Stream {
    /// Begins to stream from a place in the log.
    ///
    /// # Errors
    /// Where the server does not answer, or refuses.
    pub(super) fn start(
        server: &Server,
        slot: &str,
        publication: &str,
        from: u64,
        shared: &Arc<Shared>,
    ) -> Result<Self, WireError> {
        let quoted = |name: &str| format!("\"{}\"", name.replace('"', "\"\""));
        let sql = format!(
            "START_REPLICATION SLOT {} LOGICAL {} (proto_version '2', streaming 'on', publication_names '{}')",
            quoted(slot),
            show_lsn(from),
            quoted(publication).replace('\'', "''"),
        );
        let wire = wait(async {
            let mut wire = Wire::connect(server).await?;
            wire.start(&sql).await?;
            Ok::<_, WireError>(wire)
        })?;
        let (send, received) = unbounded();
        let own = Arc::clone(shared);
        let task = spawn(async move { receive(wire, &send, &own).await });
        Ok(Self { received, shared: Arc::clone(shared), task })
    }

    /// Makes room for what was read.
    pub(super) fn done(&self, taken: u32) {
        self.shared.room.add_permits(usize::try_from(taken).unwrap_or(0));
    }
}

impl Drop for Stream {
    fn drop(&mut self) {
        self.task.abort();
        // What nobody reads any more gives its room back to the next stream.
        while let Ok(received) = self.received.try_recv() {
            if let Received::Message(_, taken) = received {
                self.done(taken);
            }
        }
    }
}

async fn receive(mut wire: Wire, send: &Sender<Received>, shared: &Shared) {
    let mut tick = tokio::time::interval(ALIVE);
    let failed = loop {
        let settled = || shared.settled.load(Ordering::SeqCst);
        let streamed = tokio::select! {
            streamed = wire.next() => streamed,
            _ = tick.tick() => match wire.confirm(settled(), false).await {
                Ok(()) => continue,
                Err(error) => break error,
            },
            () = shared.tell.notified() => match wire.confirm(settled(), true).await {
                Ok(()) => continue,
                Err(error) => break error,
            },
        };
        let received = match streamed {
            Ok(Streamed::Alive { end, asks }) => {
                if asks && let Err(error) = wire.confirm(settled(), false).await {
                    break error;
                }
                Received::Alive(end)
            }
            Ok(Streamed::Data(message)) => {
                let taken = u32::try_from(message.len() >> 10).unwrap_or(WAITING).saturating_add(1).min(WAITING);
                loop {
                    tokio::select! {
                        permit = shared.room.acquire_many(taken) => {
                            if let Ok(permit) = permit {
                                permit.forget();
                            }
                            break;
                        }
                        _ = tick.tick() => if wire.confirm(settled(), false).await.is_err() {
                            break;
                        },
                    }
                }
                Received::Message(message, taken)
            }
            Err(error) => break error,
        };
        if send.send(received).is_err() {
            return;
        }
    };
    let _ = send.send(match failed {
        WireError::Away(what) => Received::Away(what),
        WireError::Refused(said) => Received::Refused(said),
    });
}
