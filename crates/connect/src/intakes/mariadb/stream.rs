//! Receives the row log on a thread of the network. What waits to be read is bounded.

use std::sync::Arc;
use std::time::Duration;

use crossbeam_channel::{Receiver, Sender, unbounded};
use futures_util::StreamExt as _;
use mysql_async::{BinlogStream, BinlogStreamRequest};
use sluice_core::failure::Outcome;
use tokio::sync::Semaphore;
use tokio::task::JoinHandle;

use super::catalog::{MariadbCatalog, failed};
use crate::databases::{spawn, wait};

/// How much of the log may wait to be read, in KiB.
const WAITING: u32 = 64 << 10;

/// After so long without a word the server is gone: it says something every second.
const SILENCE: Duration = Duration::from_secs(20);

/// The flag of events that may be left out.
const IGNORABLE: u16 = 0x80;

/// An event of the log.
#[derive(Debug)]
pub(super) struct LogEvent {
    /// The number of its kind.
    pub kind: u8,
    /// Whether a reader that does not know it may leave it out.
    pub is_ignorable: bool,
    /// When it was written, in seconds since 1970.
    pub time: u32,
    /// The number of the server that wrote it first.
    pub server: u32,
    /// Where it begins and ends in its file; 0 for what is in no file.
    pub start: u64,
    pub end: u64,
    pub body: Vec<u8>,
    taken: u32,
}

/// What has been received.
pub(super) enum FromStream {
    Event(LogEvent),
    /// The server does not answer any more, or refuses: its number for that.
    Away(Option<u16>, String),
}

/// A running stream. Dropping it ends it.
pub(super) struct LogStream {
    pub received: Receiver<FromStream>,
    room: Arc<Semaphore>,
    task: JoinHandle<()>,
}

impl LogStream {
    /// Begins to stream from a place in a file.
    pub(super) fn start(mut catalog: MariadbCatalog, number: u32, file: &str, from: u64) -> Outcome<Self> {
        // The server reports transactions as to another server of its kind, and sends a heartbeat every second.
        catalog.rows("set @mariadb_slave_capability = 4, @master_heartbeat_period = 1000000000")?;
        let MariadbCatalog { connection, shown, .. } = catalog;
        let request = BinlogStreamRequest::new(number).with_filename(file.as_bytes()).with_pos(from);
        let stream = wait(connection.get_binlog_stream(request)).map_err(|e| failed(&shown, &e))?;
        let (send, received) = unbounded();
        let room = Arc::new(Semaphore::new(usize::try_from(WAITING).unwrap_or(1)));
        let own = Arc::clone(&room);
        let task = spawn(async move { receive(stream, &send, &own).await });
        Ok(Self { received, room, task })
    }

    /// Makes room for what was read.
    pub(super) fn done(&self, event: &LogEvent) {
        self.room.add_permits(usize::try_from(event.taken).unwrap_or(0));
    }
}

impl Drop for LogStream {
    fn drop(&mut self) {
        self.task.abort();
    }
}

async fn receive(mut stream: BinlogStream, send: &Sender<FromStream>, room: &Semaphore) {
    loop {
        let away = |what: &str| FromStream::Away(None, what.to_string());
        let received = match tokio::time::timeout(SILENCE, stream.next()).await {
            Err(_) => away("nothing was heard for long"),
            Ok(None) => away("the server ended the stream"),
            Ok(Some(Err(mysql_async::Error::Server(said)))) => FromStream::Away(Some(said.code), said.message),
            Ok(Some(Err(error))) => away(&error.to_string()),
            Ok(Some(Ok(event))) => {
                let header = event.header();
                let (size, end) = (u64::from(header.event_size()), u64::from(header.log_pos()));
                let body = event.data().to_vec();
                let taken = u32::try_from(body.len() >> 10).unwrap_or(WAITING).saturating_add(1).min(WAITING);
                if let Ok(permit) = room.acquire_many(taken).await {
                    permit.forget();
                }
                let start = end.saturating_sub(size);
                let (kind, time, server) = (header.event_type_raw(), header.timestamp(), header.server_id());
                let is_ignorable = header.flags_raw() & IGNORABLE != 0;
                FromStream::Event(LogEvent { kind, is_ignorable, time, server, start, end, body, taken })
            }
        };
        let ends = matches!(received, FromStream::Away(..));
        if send.send(received).is_err() || ends {
            return;
        }
    }
}

#[cfg(test)]
impl LogEvent {
    pub(super) fn of(kind: u8, start: u64, end: u64, body: Vec<u8>) -> Self {
        Self { kind, is_ignorable: false, time: 5, server: 7, start, end, body, taken: 1 }
    }
}
