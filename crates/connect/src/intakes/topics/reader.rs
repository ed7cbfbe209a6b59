//! Reads the partitions of one lane, taking turns.

use std::collections::BTreeSet;
use std::sync::{Arc, Condvar, Mutex, PoisonError};
use std::time::{Duration, Instant};

use rdkafka::consumer::Consumer as _;
use rdkafka::error::{KafkaError, RDKafkaErrorCode};
use rdkafka::message::Message as _;
use rdkafka::topic_partition_list::{Offset, TopicPartitionList};
use sluice_core::batch::Range;
use sluice_core::failure::{Failure, Outcome};
use sluice_core::kinds::{LaneReader, PartitionPosition, Read, ReadLimit, WaitingMessages};

use super::assigned::{Assigned, PartitionRead, ReadOptions};
use super::partitions::{Partition, Wanted};
use super::proof::{Prover, Witness, begins_as_before, recreated};
use super::quiet::{Quiet, QuietFound};
use super::{Bell, MessageOptions, identity, waiting};
use crate::broker::{Broker, Consumer, PATIENCE, is_passing, let_go, refuse};

/// How long a call waits for messages at most.
const WAIT: Duration = Duration::from_millis(50);

/// How long more may follow a first message.
const PORTION: Duration = Duration::from_millis(5);

/// How often new partitions are looked for.
const REFRESH: Duration = Duration::from_secs(3);

/// How often in a row a partition may be said not to hold its position although it does, before that is believed.
const STRAYS: u32 = 10;

/// Looks for partitions that come while reading.
struct Watch {
    wanted: Wanted,
    lane: (u32, u32),
    cluster: String,
    looked: Instant,
    /// Partitions that were not there when it looked last.
    missing: Vec<Arc<str>>,
}

pub(super) struct TopicsReader {
    broker: Broker,
    consumer: Arc<Consumer>,
    /// For proofs about all topics, so that the client that reads keeps to its own.
    look: Arc<Consumer>,
    manner: MessageOptions,
    parts: Vec<Assigned>,
    /// Partitions of `parts` that are to be fetched from these offsets.
    starting: Vec<(Partition, u64)>,
    prover: Prover,
    quiet: Quiet,
    /// Why reading ends once what was read so far has settled.
    halt: Option<Failure>,
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
        look: Arc<Consumer>,
        manner: MessageOptions,
    ) -> Outcome<Self> {
        Ok(Self {
            prover: Prover::new(broker.clone()),
            broker,
            consumer: Arc::new(consumer),
            look,
            manner,
            parts: Vec::new(),
            starting: Vec::new(),
            quiet: Quiet::default(),
            halt: None,
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
        let began_at = known.and_then(|k| identity::beginning(&k.identity)).unwrap_or(low);
        let began_at = Some(began_at).filter(|_| guard.is_none());
        begins_as_before(&partition.name(), position, began_at, low)?;
        let from = if guard.is_some() { position - 1 } else { position };
        let guard = guard.map(str::to_string);
        self.assign(
            partition,
            from,
            |part| {
                part.position = position;
                part.proven_to = position;
                part.witness = guard.clone().map(|digest| Witness { offset: position - 1, digest });
                part.last_read.clone_from(&part.witness);
                part.guard = guard;
                part.began_at = began_at;
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
        // The queue stands on its own before anything is fetched: what came into the common one, an end or an error
        // above all, would not say of which partition it is.
        let queue = self.consumer.split_partition_queue(&partition.topic, partition.number);
        let mut queue = queue.ok_or_else(|| Failure::internal(format!("no queue for {}", partition.name())))?;
        let bell = Arc::clone(&self.bell);
        queue.set_nonempty_callback(move || ring(&bell));
        let mut part = Assigned::new(partition.clone(), queue, cluster.into(), from);
        set(&mut part);
        self.parts.push(part);
        self.starting.push((partition.clone(), from));
        Ok(())
    }

    /// Fetches from partitions that were taken on, all at once.
    fn start(&mut self) -> Outcome<()> {
        if self.starting.is_empty() {
            return Ok(());
        }
        let failed = |e: KafkaError| Failure::unreachable(format!("{} cannot be read: {e}", self.broker.shown()));
        let mut list = TopicPartitionList::with_capacity(self.starting.len());
        for (partition, from) in self.starting.drain(..) {
            let offset = Offset::Offset(i64::try_from(from).unwrap_or(i64::MAX));
            list.add_partition_offset(&partition.topic, partition.number, offset).map_err(failed)?;
        }
        self.consumer.incremental_assign(&list).map_err(failed)?;
        let now = Instant::now();
        self.parts.iter_mut().for_each(|part| part.heard = now);
        self.serve()
    }

    /// Reads no more of a partition.
    pub(super) fn pause(&mut self, name: &str) {
        if let Some(part) = self.parts.iter_mut().find(|p| *p.name == *name) {
            part.until = Some(part.position);
        }
    }

    /// The partitions that gave nothing although their end was reached.
    pub(super) fn empty(&self) -> impl Iterator<Item = Arc<str>> {
        self.parts.iter().filter(|p| p.at_end && p.until.is_none()).map(|p| Arc::clone(&p.name))
    }

    /// Looks for new partitions from now on.
    pub(super) fn watch(&mut self, wanted: Wanted, lane: (u32, u32), cluster: String) {
        self.watch = Some(Watch { wanted, lane, cluster, looked: Instant::now(), missing: Vec::new() });
    }

    fn look_for_more(&mut self) -> Outcome<()> {
        let Some(watch) = self.watch.as_mut().filter(|w| w.looked.elapsed() >= REFRESH) else { return Ok(()) };
        watch.looked = Instant::now();
        let (wanted, lane, cluster) = (watch.wanted.clone(), watch.lane, watch.cluster.clone());
        let there = match self.broker.topics_within(&self.look, Duration::from_secs(2)) {
            Ok(there) => there,
            Err(failure) => return self.gone(failure),
        };
        let there_now = wanted.partitions(&there);
        let known = self.parts.iter().filter(|p| !there_now.contains(&p.partition)).map(|p| Arc::clone(&p.name));
        let missing: Vec<Arc<str>> = known.collect();
        // A broker that has just started may not know all of its topics yet.
        if let Some(gone) = missing.iter().find(|name| watch.missing.contains(name)) {
            self.halt = Some(gone_from(gone, &self.broker));
            return Ok(());
        }
        watch.missing = missing;
        let is_new = |p: &Partition| p.lane(lane.1) == lane.0 && self.parts.iter().all(|known| known.partition != *p);
        let new: Vec<Partition> = there_now.into_iter().filter(is_new).collect();
        let named: Vec<(&str, i32)> = new.iter().map(|p| (&*p.topic, p.number)).collect();
        let bounds = self.broker.bounds(&self.look, &named)?;
        // The client that reads learns of them by itself as well, but half a minute later.
        for topic in new.iter().map(|p| &p.topic).collect::<BTreeSet<_>>() {
            let _ = self.consumer.fetch_metadata(Some(topic), Duration::from_secs(2));
        }
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

    /// Asks whether the broker answers again; then every partition is fetched again from its position.
    fn is_back(&mut self) -> Outcome<bool> {
        let Some((_, asked)) = &mut self.away else { return Ok(true) };
        if asked.elapsed() < Duration::from_millis(500) {
            return Ok(false);
        }
        *asked = Instant::now();
        if self.broker.topics_within(&self.look, Duration::from_millis(500)).is_err() {
            return Ok(false);
        }
        for part in &mut self.parts {
            // The end that was seen before may be another one now.
            if !seek(&self.consumer, part) {
                return Ok(false);
            }
        }
        // It may be another one, too.
        self.quiet.is_due();
        self.away = None;
        Ok(true)
    }

    /// Looks after partitions that have been silent for a while.
    fn look_after(&mut self) -> Outcome<()> {
        let Some(found) = self.quiet.look(&self.broker, &self.consumer, &mut self.parts, &mut self.prover)? else {
            return Ok(());
        };
        match found {
            QuietFound::Well => {}
            QuietFound::Halt(failure) => self.halt = Some(failure),
            QuietFound::Away(failure) => self.gone(failure)?,
        }
        // What stands where nothing new came may stand there in another topic.
        if self.halt.is_none() && self.watch.is_some() && self.quiet.proves() {
            let proofs: Vec<_> = self.parts.iter().filter(|p| !p.unproven).filter_map(Assigned::proof).collect();
            self.prover.prove(&proofs)?;
        }
        Ok(())
    }

    /// The broker says that it does not know a partition: it is gone, or its leader has not heard of it yet.
    fn look_for(&mut self, at: usize) -> Outcome<()> {
        let there = match self.broker.topics_within(&self.look, Duration::from_secs(2)) {
            Ok(there) => there,
            Err(failure) => return self.gone(failure),
        };
        let part = &mut self.parts[at];
        let Partition { topic, number } = &part.partition;
        if there.iter().any(|t| t.name == **topic && t.partitions.contains(number)) {
            seek(&self.consumer, part);
            return Ok(());
        }
        let failure = gone_from(&part.name, &self.broker);
        self.halt.get_or_insert(failure);
        Ok(())
    }

    /// A partition does not hold its position: it has expired, or it is another one. None where it may hold it after all: then it
    /// is fetched again, and the proof before the next seal tells whether it is the one that was read.
    fn out_of_range(&mut self, at: usize) -> Outcome<Option<Failure>> {
        let part = &mut self.parts[at];
        let bounds = match self.broker.bounds_there(&self.consumer, &[part.partition.named()], PATIENCE) {
            Ok(bounds) => bounds[0],
            Err(failure) => return self.gone(failure).map(|()| None),
        };
        let Some((low, high)) = bounds else { return Ok(Some(gone_from(&part.name, &self.broker))) };
        if part.position < low {
            return Ok(Some(expired(&part.name, part.position, low)));
        }
        part.strayed += 1;
        // Where no message was read there is nothing to prove it by: another topic that has grown so far meanwhile would pass.
        let is_there = part.is_provable() && (high >= part.position || self.prover.reaches_position(part)?);
        if !is_there || part.strayed > STRAYS {
            return Err(recreated(&part.name, part.proven_to, "the partition ends before it now", bounds));
        }
        if part.from() < low {
            // The message that would prove it has expired.
            part.guard = None;
        }
        seek(&self.consumer, part);
        Ok(None)
    }

    /// Waits until something has come, at most so long; whether it has.
    fn listen(&self, at_most: Duration) -> bool {
        let (rung, condition) = &*self.bell;
        let mut rung = rung.lock().unwrap_or_else(PoisonError::into_inner);
        if !*rung {
            rung = condition.wait_timeout(rung, at_most).unwrap_or_else(PoisonError::into_inner).0;
        }
        std::mem::take(&mut *rung)
    }

    /// One round over all partitions; None where none has anything.
    fn round(&mut self, limit: ReadLimit) -> Outcome<Option<Read>> {
        for _ in 0..self.parts.len() {
            let at = self.turn % self.parts.len();
            let keep = ReadOptions { broker: &self.broker, manner: self.manner };
            self.parts[at].next_range();
            match self.parts[at].read(limit, &keep)? {
                PartitionRead::Chunk(chunk) => {
                    // A partition keeps its turn as long as it fills whole chunks.
                    if chunk.bytes.len() as u64 * 2 < limit.bytes {
                        self.turn = at + 1;
                    }
                    return Ok(Some(Read::Chunk(*chunk)));
                }
                PartitionRead::Nothing => self.turn = at + 1,
                // What was read before it is good, and settles first.
                PartitionRead::OutOfRange => {
                    if let Some(failure) = self.out_of_range(at)? {
                        self.halt.get_or_insert(failure);
                    }
                    return Ok(None);
                }
                PartitionRead::Gone => {
                    self.look_for(at)?;
                    return Ok(None);
                }
                PartitionRead::Packed => {
                    let part = &mut self.parts[at];
                    part.begin_again();
                    seek(&self.consumer, part);
                    self.turn = at + 1;
                }
                PartitionRead::Away(code) => {
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
        let_go((std::mem::take(&mut self.parts), Arc::clone(&self.consumer)));
    }
}

impl LaneReader for TopicsReader {
    fn read(&mut self, limit: ReadLimit) -> Outcome<Read> {
        self.start()?;
        if self.served.elapsed() > Duration::from_millis(100) {
            self.serve()?;
            self.look_for_more()?;
            self.start()?;
            if self.away.is_none() {
                self.look_after()?;
            }
        }
        if let Some(failure) = self.halt.take() {
            return Ok(Read::Halt(failure));
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
        if let Some(failure) = self.halt.take() {
            return Ok(Read::Halt(failure));
        }
        if self.away.is_none() && self.parts.iter().all(|p| p.at_end && p.more.is_empty()) {
            return Ok(Read::CaughtUp);
        }
        if let Some(reason) = self.quiet.stalled(&self.parts) {
            return Ok(Read::Away(reason));
        }
        self.listen(WAIT);
        Ok(self.round(limit)?.unwrap_or(Read::Pending))
    }

    fn unread(&mut self) -> Arc<[Arc<str>]> {
        let left = self.parts.iter().filter(|p| !p.at_end || !p.more.is_empty());
        left.map(|p| p.partition.name()).collect()
    }

    fn wait(&mut self, at_most: Duration) -> bool {
        // What trickles in is taken in portions: each chunk has its price.
        if self.listen(at_most) {
            std::thread::sleep(PORTION.min(at_most));
        }
        true
    }

    fn remarks(&self) -> Vec<String> {
        let partitions: Vec<Partition> = self.parts.iter().map(|p| p.partition.clone()).collect();
        let ends = self.broker.offsets(&self.consumer, &super::named(&partitions), Offset::End);
        let waiting = ends.and_then(|ends| {
            let ends: Vec<u64> = ends.into_iter().map(|end| end.unwrap_or(u64::MAX)).collect();
            waiting::look(&self.broker, &partitions, &ends)
        });
        let Ok(waiting) = waiting else { return Vec::new() };
        let reported = |(partition, waiting): (&Partition, Option<WaitingMessages>)| {
            Some(waiting::shown_waiting(&partition.name(), &waiting?))
        };
        partitions.iter().zip(waiting).filter_map(reported).collect()
    }

    fn confirm(&mut self) -> Outcome<bool> {
        let open: Vec<usize> = (0..self.parts.len()).filter(|i| self.parts[*i].unproven).collect();
        // What is the first to be read of a partition proves nothing of the time before it.
        let first: Vec<&Assigned> = open.iter().map(|i| &self.parts[*i]).filter(|p| p.began_at > Some(0)).collect();
        if !self.prover.begin_as_before(&self.look, &first)? {
            return Ok(false);
        }
        let proofs: Vec<_> = open.iter().filter_map(|i| self.parts[*i].proof()).collect();
        if !self.prover.prove(&proofs)? {
            return Ok(false);
        }
        open.into_iter().for_each(|i| self.parts[i].proven());
        Ok(true)
    }

    fn ended(&mut self) {
        self.parts.iter_mut().for_each(|part| part.proven_to = part.position);
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

    fn remarks(&self) -> Vec<String> {
        self.0.remarks()
    }
}

/// Fetches a partition again from its position; false where the client refuses now.
pub(super) fn seek(consumer: &Consumer, part: &mut Assigned) -> bool {
    let Partition { topic, number } = &part.partition;
    let offset = Offset::Offset(i64::try_from(part.from()).unwrap_or(i64::MAX));
    let again = || {
        // The client has given up a partition whose offset was out of range, and cannot seek in it any more.
        let mut list = TopicPartitionList::new();
        list.add_partition_offset(topic, *number, offset)?;
        consumer.incremental_unassign(&list)?;
        consumer.incremental_assign(&list)
    };
    let done = consumer.seek(topic, *number, offset, PATIENCE).or_else(|_| again()).is_ok();
    if done {
        part.begin_again();
    }
    done
}

fn gone_from(name: &str, broker: &Broker) -> Failure {
    Failure::findings(format!("{name} no longer exists at {}", broker.shown())).with_help(
        "the events that were read have landed; unread events are lost if the topic was deleted. Remove the topic from \
         the pipeline file, or recreate it",
    )
}

fn ring(bell: &Bell) {
    let (rung, condition) = &**bell;
    *rung.lock().unwrap_or_else(PoisonError::into_inner) = true;
    condition.notify_one();
}

pub(super) fn expired(name: &str, position: u64, low: u64) -> Failure {
    Failure::findings(format!(
        "{name} now begins at offset {low}: {} from offset {position} on expired before they were read",
        sluice_core::units::show_many(low - position, "event")
    ))
    .with_help(
        "the broker has deleted them; to continue with the events that are left: sluice positions PIPELINE --set earliest \
         --reason \"…\"",
    )
}
