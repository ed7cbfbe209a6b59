//! Receives the log on a thread of the network, answers the server while nobody reads, and tells it what has settled.
//!
//! What waits to be read is bounded; when the bound is reached the server is still told that we live, so that it keeps
//! the connection, and sends no more.

use std::sync::Arc;
use std::sync::atomic::{AtomicU64, Ordering};
use std::time::{Duration, Instant};

use bytes::Bytes;
use crossbeam_channel::{Receiver, Sender, unbounded};
use sluice_core::units::show_duration;
use tokio::sync::{Notify, Semaphore};
use tokio::task::JoinHandle;

use super::catalog::show_lsn;
use super::wire::{Protocol, ServerReply, Wire, WireError, WireMessage};
use crate::databases::{Server, spawn, wait};

/// How much of the log may wait to be read, in KiB.
const WAITING: u32 = 64 << 10;

/// How many bytes of messages are handed on at once.
const TOGETHER: usize = 256 << 10;

/// How long more messages are let come.
const GATHER: Duration = Duration::from_millis(1);

/// How often the server hears from us.
const ALIVE: Duration = Duration::from_secs(5);

/// How long the server may be silent, although it is asked to answer.
const SILENCE: Duration = Duration::from_secs(60);

/// What has been received.
#[derive(Debug)]
pub(super) enum Received {
    /// Messages of the plugin, with the bound that they take up.
    Messages(Vec<Bytes>, u32),
    /// The server has decoded its log to here.
    Alive(u64),
    /// The server does not answer any more.
    Away(String),
    /// The server refuses to go on.
    Refused(ServerReply),
}

/// What the task and those who use it share.
pub(super) struct StreamState {
    /// What has settled.
    settled: AtomicU64,
    /// Wakes the task to tell it.
    tell: Notify,
    room: Semaphore,
}

impl StreamState {
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
    shared: Arc<StreamState>,
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
        shared: &Arc<StreamState>,
    ) -> Result<Self, WireError> {
        let wire = wait(async {
            let mut wire = Wire::connect(server).await?;
            let sql = start_sql(slot, publication, from, wire.protocol());
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

/// What begins the stream.
fn start_sql(slot: &str, publication: &str, from: u64, protocol: Protocol) -> String {
    let quoted = |name: &str| format!("\"{}\"", name.replace('"', "\"\""));
    let protocol = match protocol {
        Protocol::WholeTableState => "proto_version '1'",
        Protocol::Streamed => "proto_version '2', streaming 'on'",
    };
    format!(
        "START_REPLICATION SLOT {} LOGICAL {} ({protocol}, publication_names '{}')",
        quoted(slot),
        show_lsn(from),
        quoted(publication).replace('\'', "''"),
    )
}

impl Drop for Stream {
    fn drop(&mut self) {
        self.task.abort();
        // What nobody reads any more gives its room back to the next stream.
        while let Ok(received) = self.received.try_recv() {
            if let Received::Messages(_, taken) = received {
                self.done(taken);
            }
        }
    }
}

/// A server that shuts down waits until all of its log is confirmed, asking again at each answer. What has not settled is
/// not confirmed: it is let go instead.
#[derive(Default)]
struct ShutdownRequests {
    since: Option<Instant>,
    times: u32,
}

impl ShutdownRequests {
    /// Notes that the server asks; whether it does so all the time. Otherwise it asks twice a minute at most.
    fn too_often(&mut self) -> bool {
        const OFTEN: u32 = 20;
        if self.since.is_none_or(|since| since.elapsed() > Duration::from_secs(2)) {
            *self = Self { since: Some(Instant::now()), times: 0 };
        }
        self.times += 1;
        self.times > OFTEN
    }
}

/// A message and those that have been received behind it.
fn gather(wire: &mut Wire, first: Bytes) -> (Vec<Bytes>, usize) {
    let (mut bytes, mut messages) = (first.len(), vec![first]);
    while bytes < TOGETHER
        && let Some(message) = wire.next_data()
    {
        bytes += message.len();
        messages.push(message);
    }
    (messages, bytes)
}

/// Reports to the server what has settled, and asks for an answer if it was silent since the last time.
async fn heartbeat(wire: &mut Wire, settled: u64, silent: Instant) -> Result<(), WireError> {
    if silent.elapsed() > SILENCE {
        return Err(WireError::Away(format!("it was silent for {}", show_duration(silent.elapsed()))));
    }
    let step = wire.confirm(settled, silent.elapsed() > ALIVE);
    let late = |_| WireError::Away("it no longer accepts data".into());
    tokio::time::timeout(SILENCE, step).await.map_err(late)?
}

async fn receive(mut wire: Wire, send: &Sender<Received>, shared: &StreamState) {
    let mut tick = tokio::time::interval(ALIVE);
    let mut asked = ShutdownRequests::default();
    // When messages came last.
    let mut last: Option<Instant> = None;
    // Since when nothing at all has come.
    let mut silent = Instant::now();
    let failed = loop {
        let settled = || shared.settled.load(Ordering::SeqCst);
        let streamed = tokio::select! {
            streamed = wire.next() => streamed,
            _ = tick.tick() => match heartbeat(&mut wire, settled(), silent).await {
                Ok(()) => continue,
                Err(error) => break error,
            },
            () = shared.tell.notified() => match wire.confirm(settled(), true).await {
                Ok(()) => continue,
                Err(error) => break error,
            },
        };
        let received = match streamed {
            Ok(WireMessage::Alive { end, asks }) => {
                if asks && let Err(error) = wire.confirm(settled(), false).await {
                    break error;
                }
                if asks && asked.too_often() {
                    break WireError::Away("the server shuts down".into());
                }
                Received::Alive(end)
            }
            Ok(WireMessage::Data(message)) => {
                // The server sends each by itself, and waking somebody for each costs it more than sending. Where they come
                // one after the other, or the reader is busy anyway, more are let come.
                let flows = last.is_some_and(|last| last.elapsed() < 2 * GATHER);
                if flows || !send.is_empty() {
                    tokio::time::sleep(GATHER).await;
                }
                last = Some(Instant::now());
                let (messages, bytes) = gather(&mut wire, message);
                let taken = u32::try_from(bytes >> 10).unwrap_or(WAITING).saturating_add(1).min(WAITING);
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
                Received::Messages(messages, taken)
            }
            Err(error) => break error,
        };
        if send.send(received).is_err() {
            return;
        }
        silent = Instant::now();
    };
    let _ = send.send(match failed {
        WireError::Away(what) => Received::Away(what),
        WireError::Answer(said) => Received::Refused(said),
    });
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::intakes::postgres::pgoutput::{self, LogMessage};

    #[test]
    fn names_are_quoted_and_the_protocol_is_named() {
        let sql = start_sql("s", "it's \"p\"", 0x10_0000_0020, Protocol::WholeTableState);
        let expected =
            "START_REPLICATION SLOT \"s\" LOGICAL 10/20 (proto_version '1', publication_names '\"it''s \"\"p\"\"\"')";
        assert_eq!(sql, expected);
        assert!(start_sql("s", "p", 1, Protocol::Streamed).contains("(proto_version '2', streaming 'on', publication"));
    }

    /// A transaction that the second protocol sends in parts comes in one by the first.
    #[test]
    fn both_protocols_of_a_real_server_are_read() {
        let Some(url) = std::env::var("SLUICE_TEST_POSTGRES").ok() else {
            assert!(std::env::var_os("SLUICE_TEST_SERVICES").is_none());
            return eprintln!("skipped: SLUICE_TEST_POSTGRES is not set");
        };
        let (place, database) = url.split_once('@').unwrap().1.split_once('/').unwrap();
        let (host, port) = place.split_once(':').unwrap();
        let server = Server {
            name: "office".into(),
            host: host.into(),
            port: port.parse().unwrap(),
            database: database.into(),
            user: Some("sluice".into()),
            password: None,
            tls: false,
            authority: None,
            answer_within: Duration::from_secs(60),
        };
        let table = format!("protocols_{}", std::process::id());
        let seen = wait(async {
            let mut plain = Wire::connect(&server).await.unwrap();
            let mut run = async |sql: String| plain.ask(&sql).await.unwrap();
            run(format!("create table {table} (n integer)")).await;
            run(format!("create publication {table} for table {table}")).await;
            run(format!("select pg_create_logical_replication_slot('{table}', 'pgoutput')")).await;
            run(format!("insert into {table} select 1 from generate_series(1, 3000)")).await;
            let mut seen = Vec::new();
            for protocol in [Protocol::WholeTableState, Protocol::Streamed] {
                let mut wire = Wire::connect(&server).await.unwrap();
                assert_eq!(wire.protocol(), Protocol::Streamed);
                wire.ask("set logical_decoding_work_mem = '64kB'").await.unwrap();
                wire.start(&start_sql(&table, &table, 0, protocol)).await.unwrap();
                let (mut within, mut rows, mut starts) = (false, 0, 0);
                loop {
                    let WireMessage::Data(message) = wire.next().await.unwrap() else { continue };
                    match pgoutput::read(message, within).unwrap().1 {
                        LogMessage::StreamStart { .. } => (within, starts) = (true, starts + 1),
                        LogMessage::StreamStop => within = false,
                        LogMessage::Insert { .. } => rows += 1,
                        LogMessage::Commit { .. } | LogMessage::StreamCommit { .. } => break,
                        _ => {}
                    }
                }
                seen.push((rows, starts > 1));
                drop(wire);
                // The server notices in its own time that nobody reads the slot any more.
                let is_free = format!("select 1 from pg_replication_slots where slot_name = '{table}' and not active");
                while plain.ask(&is_free).await.unwrap().is_empty() {
                    tokio::time::sleep(Duration::from_millis(50)).await;
                }
            }
            let free = format!("select pg_drop_replication_slot('{table}')");
            while plain.ask(&free).await.is_err() {
                tokio::time::sleep(Duration::from_millis(50)).await;
            }
            plain.ask(&format!("drop publication {table}")).await.unwrap();
            plain.ask(&format!("drop table {table}")).await.unwrap();
            seen
        });
        assert_eq!(seen, [(3000, false), (3000, true)]);
    }
}
