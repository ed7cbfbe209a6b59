//! Reads the partitions of one lane, taking turns.

use std::sync::{Arc, Condvar, Mutex, PoisonError};
use std::time::{Duration, Instant};

use rdkafka::consumer::Consumer as _;
use rdkafka::error::{KafkaError, RDKafkaErrorCode};
use rdkafka::message::Message as _;
use rdkafka::topic_partition_list::{Offset, TopicPartitionList};
use sluice_core::batch::Range;
use sluice_core::failure::{Failure, Outcome};
use sluice_core::kinds::{LaneReader, PartitionPosition, Read, ReadLimit};

use super::assigned::{Assigned, Brought, Keep};
use super::partitions::{Partition, Wanted};
use super::{Bell, identity};
use crate::broker::{Broker, Consumer, PATIENCE, is_passing, refuse};

/// How long a call waits for messages at most.
const WAIT: Duration = Duration::from_millis(50);

/// How often new partitions are looked for.
const REFRESH: Duration = Duration::from_secs(3);

/// Looks for partitions that come while reading.
struct Watch {
    wanted: Wanted,
    lane: (u32, u32),
    cluster: String,
    looked: Instant,
}

pub(super) struct TopicsReader {
    broker: Broker,
    consumer: Arc<Consumer>,
    rejects_tombstones: bool,
    max_record: usize,
    parts: Vec<Assigned>,
    /// Whose turn it is.
    turn: usize,
    watch: Option<Watch>,
    bell: Bell,
    served: Instant,
    /// Set while the broker does not answer: what it said, and when it was last asked.
    away: Option<(String, Instant)>,
}

impl TopicsReader {
    pub(super) fn new(
        broker: Broker,
        consumer: Consumer,
        rejects_tombstones: bool,
        max_record: usize,
    ) -> Outcome<Self> {
        Ok(Self {
            broker,
            consumer: Arc::new(consumer),
            rejects_tombstones,
            max_record,
            parts: Vec::new(),
            turn: 0,
            watch: None,
            bell: Arc::new((Mutex::new(false), Condvar::new())),
            served: Instant::now(),
            away: None,
        })
    }

    /// Takes a partition on, from its position or from its beginning, which is at `low`.
    ///
    /// # Errors
    /// Where it is not the one that was read.
    pub(super) fn add(
        &mut self,
        partition: &Partition,
        known: Option<&PartitionPosition>,
        low: u64,
        cluster: &str,
    ) -> Outcome<()> {
        let position = known.map_or(low, |k| k.position.major);
        let (known_cluster, guard) = known.map_or((None, None), |k| identity::parts(&k.identity));
        if let Some(known_cluster) = known_cluster.filter(|c| !cluster.is_empty() && *c != cluster) {
            let name = partition.name();
            return Err(Failure::findings(format!(
                "{name} was read from the cluster {known_cluster}, and {} is the cluster {cluster}",
                self.broker.shown()
            ))
            .with_help(
                "name the right broker in sluice.toml; to read from the new one: sluice positions PIPELINE --set",
            ));
        }
        if position < low {
            return Err(expired(&partition.name(), position, low));
        }
        // The message before the position proves that the topic is the same, where it is still there.
        let guard = guard.filter(|_| position > low);
        let from = if guard.is_some() { position - 1 } else { position };
        let guard = guard.map(str::to_string);
        self.assign(
            partition,
            from,
            |part| {
                part.position = position;
                part.guard = guard;
            },
            cluster,
        )
    }

    /// Takes one range on, to be read and no more. The partition begins at `low`.
    ///
    /// # Errors
    /// Where its beginning is not there any more.
    pub(super) fn add_range(&mut self, partition: &Partition, range: &Range, low: u64) -> Outcome<()> {
        // One partition is assigned once: its further ranges wait for their turn.
        if let Some(part) = self.parts.iter_mut().find(|p| p.partition == *partition) {
            part.more.push_back(range.clone());
            return Ok(());
        }
        if range.from.major < low {
            return Err(expired(&partition.name(), range.from.major, low));
        }
        let (cluster, last) = identity::parts(&range.identity);
        let last = last.map(str::to_string);
        self.assign(
            partition,
            range.from.major,
            |part| {
                part.until = Some(range.to.major);
                part.last = last;
            },
            cluster.unwrap_or_default(),
        )
    }

    /// Takes a partition on from an offset, without a guard.
    ///
    /// # Errors
    /// Where the client refuses.
    pub(super) fn add_at(&mut self, partition: &Partition, offset: u64, until: Option<u64>) -> Outcome<()> {
        self.assign(partition, offset, |part| part.until = until, "")
    }

    fn assign(
        &mut self,
        partition: &Partition,
        from: u64,
        set: impl FnOnce(&mut Assigned),
        cluster: &str,
    ) -> Outcome<()> {
        let failed = |e: KafkaError| Failure::unreachable(format!("{} cannot be read: {e}", partition.name()));
        let offset = Offset::Offset(i64::try_from(from).unwrap_or(i64::MAX));
        let mut list = TopicPartitionList::new();
        list.add_partition_offset(&partition.topic, partition.number, offset).map_err(failed)?;
        self.consumer.incremental_assign(&list).map_err(failed)?;
        let queue = self.consumer.split_partition_queue(&partition.topic, partition.number);
        let mut queue = queue.ok_or_else(|| Failure::internal(format!("no queue for {}", partition.name())))?;
        let bell = Arc::clone(&self.bell);
        queue.set_nonempty_callback(move || ring(&bell));
        let mut part = Assigned::new(partition.clone(), queue, cluster.into(), from);
        set(&mut part);
        self.parts.push(part);
        // What was fetched before the queue stood on its own waits in the common one, and comes first.
        self.serve()
    }

    /// Reads no more of a partition.
    pub(super) fn pause(&mut self, name: &str) {
        if let Some(part) = self.parts.iter_mut().find(|p| *p.name == *name) {
            part.until = Some(part.position);
        }
    }

    /// The partitions of which nothing was read although their end was reached.
    pub(super) fn empty(&self) -> impl Iterator<Item = Arc<str>> {
        self.parts.iter().filter(|p| p.at_end && p.until.is_none()).map(|p| Arc::clone(&p.name))
    }

    /// Looks for new partitions from now on.
    pub(super) fn watch(&mut self, wanted: Wanted, lane: (u32, u32), cluster: String) {
        self.watch = Some(Watch { wanted, lane, cluster, looked: Instant::now() });
    }

    fn look_for_more(&mut self) -> Outcome<()> {
        let Some(watch) = self.watch.as_mut().filter(|w| w.looked.elapsed() >= REFRESH) else { return Ok(()) };
        watch.looked = Instant::now();
        let (wanted, lane, cluster) = (watch.wanted.clone(), watch.lane, watch.cluster.clone());
        let there = match self.broker.topics_within(&self.consumer, Duration::from_secs(2)) {
            Ok(there) => there,
            Err(failure) => return self.gone(failure),
        };
        let is_new = |p: &Partition| p.lane(lane.1) == lane.0 && self.parts.iter().all(|known| known.partition != *p);
        let new: Vec<Partition> = wanted.partitions(&there).into_iter().filter(is_new).collect();
        let named: Vec<(&str, i32)> = new.iter().map(|p| (&*p.topic, p.number)).collect();
        let bounds = self.broker.bounds(&self.consumer, &named)?;
        for (partition, (low, _)) in new.iter().zip(bounds) {
            self.add(partition, None, low, &cluster)?;
        }
        Ok(())
    }

    /// Serves what librdkafka has to say beside messages.
    fn serve(&mut self) -> Outcome<()> {
        self.served = Instant::now();
        for _ in 0..1_000 {
            match self.consumer.poll(Duration::ZERO) {
                None => return Ok(()),
                Some(Ok(message)) => {
                    let of = |p: &&mut Assigned| {
                        *p.partition.topic == *message.topic() && p.partition.number == message.partition()
                    };
                    if let Some(part) = self.parts.iter_mut().find(of) {
                        part.waiting.push_back(message.detach());
                    }
                }
                Some(Err(error)) => {
                    let Some(code) = error.rdkafka_error_code() else { continue };
                    if let Some(refusal) = refuse(&self.broker, code) {
                        return Err(refusal);
                    }
                    if code == RDKafkaErrorCode::AllBrokersDown {
                        let failure = Failure::away(self.broker.silence(&self.consumer));
                        return self.gone(failure);
                    }
                }
            }
        }
        Ok(())
    }

    /// Notes that the broker does not answer.
    fn gone(&mut self, failure: Failure) -> Outcome<()> {
        if !failure.passing {
            return Err(failure);
        }
        self.away.get_or_insert_with(|| (failure.message, Instant::now()));
        Ok(())
    }

    /// Asks whether the broker answers again; then every partition is fetched anew from its position.
    fn is_back(&mut self) -> Outcome<bool> {
        let Some((_, asked)) = &mut self.away else { return Ok(true) };
        if asked.elapsed() < Duration::from_millis(500) {
            return Ok(false);
        }
        *asked = Instant::now();
        if self.broker.topics_within(&self.consumer, Duration::from_millis(500)).is_err() {
            return Ok(false);
        }
        for part in &mut self.parts {
            let from = if part.guard.is_some() { part.position - 1 } else { part.position };
            let offset = Offset::Offset(i64::try_from(from).unwrap_or(i64::MAX));
            if self.consumer.seek(&part.partition.topic, part.partition.number, offset, PATIENCE).is_err() {
                return Ok(false);
            }
            // The end that was seen before may be another one now.
            part.at_end = false;
            part.waiting.clear();
        }
        self.away = None;
        Ok(true)
    }

    fn wait(&self) {
        let (rung, condition) = &*self.bell;
        let mut rung = rung.lock().unwrap_or_else(PoisonError::into_inner);
        if !*rung {
            rung = condition.wait_timeout(rung, WAIT).unwrap_or_else(PoisonError::into_inner).0;
        }
        *rung = false;
    }

    /// One round over all partitions; None where none has anything.
    fn round(&mut self, limit: ReadLimit) -> Outcome<Option<Read>> {
        for _ in 0..self.parts.len() {
            let at = self.turn % self.parts.len();
            let keep =
                Keep { broker: &self.broker, rejects_tombstones: self.rejects_tombstones, max_record: self.max_record };
            self.parts[at].next_range();
            match self.parts[at].read(limit, &keep)? {
                Brought::Chunk(chunk) => {
                    // A partition keeps its turn as long as it fills whole chunks.
                    if chunk.bytes.len() as u64 * 2 < limit.bytes {
                        self.turn = at + 1;
                    }
                    return Ok(Some(Read::Chunk(chunk)));
                }
                Brought::Nothing => self.turn = at + 1,
                Brought::Away(code) => {
                    debug_assert!(is_passing(code));
                    let reason = format!("{} does not answer: {code}", self.broker.shown());
                    self.gone(Failure::away(reason))?;
                    self.turn = at + 1;
                }
            }
        }
        Ok(None)
    }
}

impl Drop for TopicsReader {
    fn drop(&mut self) {
        // Taking a client down waits for what it has asked its brokers: nobody has to wait for that here, since nothing
        // of it counts.
        let (parts, consumer) = (std::mem::take(&mut self.parts), Arc::clone(&self.consumer));
        std::thread::spawn(move || drop((parts, consumer)));
    }
}

impl LaneReader for TopicsReader {
    fn read(&mut self, limit: ReadLimit) -> Outcome<Read> {
        if self.served.elapsed() > Duration::from_millis(100) {
            self.serve()?;
            self.look_for_more()?;
        }
        if let Some((reason, _)) = &self.away {
            let reason = reason.clone();
            if !self.is_back()? {
                return Ok(Read::Away(reason));
            }
        }
        if let Some(read) = self.round(limit)? {
            return Ok(read);
        }
        if self.away.is_none() && self.parts.iter().all(|p| p.at_end && p.more.is_empty()) {
            return Ok(Read::CaughtUp);
        }
        self.wait();
        Ok(self.round(limit)?.unwrap_or(Read::Pending))
    }
}

/// A reader that waits for its ends: it has caught up when every partition has been read to its end.
pub(super) struct Ends(pub TopicsReader);

impl LaneReader for Ends {
    fn read(&mut self, limit: ReadLimit) -> Outcome<Read> {
        let started = Instant::now();
        loop {
            match self.0.read(limit)? {
                Read::Pending => {}
                Read::Away(reason) if started.elapsed() > PATIENCE => return Err(Failure::away(reason)),
                Read::Away(_) => std::thread::sleep(WAIT),
                read => return Ok(read),
            }
        }
    }
}

fn ring(bell: &Bell) {
    let (rung, condition) = &**bell;
    *rung.lock().unwrap_or_else(PoisonError::into_inner) = true;
    condition.notify_one();
}

fn expired(name: &str, position: u64, low: u64) -> Failure {
    Failure::findings(format!(
        "{name} begins at offset {low} now: {} from offset {position} on have expired unread",
        sluice_core::units::show_many(low - position, "event")
    ))
    .with_help(
        "they are lost at the broker; to go on with what is there: sluice positions PIPELINE --set earliest --reason \
         \"…\"",
    )
}
