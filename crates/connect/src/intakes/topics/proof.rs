//! Proof that what was read came from the topic that the positions are of.
//!
//! A topic can be deleted and recreated, or a broker come back with other data, between two answers to one reader, and
//! nothing in the answers tells: the same offsets then lead to other messages. So a message that was read before is a
//! witness: if it is still there when everything else has been read, then all of it came from the same topic.

use std::cmp::Ordering;
use std::sync::Arc;
use std::time::{Duration, Instant};

use rdkafka::consumer::Consumer as _;
use rdkafka::error::KafkaError;
use rdkafka::message::Message as _;
use rdkafka::topic_partition_list::{Offset, TopicPartitionList};
use sluice_core::failure::{Failure, Outcome};

use super::assigned::Assigned;
use super::gather::Seen;
use super::partitions::Partition;
use crate::broker::{Admin, Broker, Consumer, is_passing, let_go, refuse};

/// How often, and after how long each time, is looked again whether a partition has become shorter: a broker that was
/// killed reports an earlier end until it has read its log again.
const LOOKS: u32 = 10;
const PAUSE: Duration = Duration::from_millis(300);

/// How long is waited for the next witness.
const PATIENCE: Duration = Duration::from_millis(1_500);

/// A message that was read.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(super) struct Witness {
    /// Its offset.
    pub offset: u64,
    /// Its digest.
    pub digest: String,
}

/// One partition whose witness is looked for.
pub(super) struct Proof {
    pub partition: Partition,
    /// The offset after the last message of a batch that was ended.
    pub position: u64,
    pub witness: Witness,
}

/// What was found of a witness.
enum ProofFound {
    /// It is still there, or has expired as messages do.
    Holds,
    /// Another message stands there, with this digest.
    Another(String),
    /// Nothing stands there, but something behind it.
    Hole,
    /// The partition ends before it.
    Short,
}

/// Looks for witnesses, with a client of its own that reads nothing else.
pub(super) struct Prover {
    broker: Broker,
    consumer: Option<Arc<Consumer>>,
}

impl Prover {
    pub(super) fn new(broker: Broker) -> Self {
        Self { broker, consumer: None }
    }

    /// Looks for all witnesses; false where the broker does not answer now.
    ///
    /// # Errors
    /// Where a topic is not the one that was read.
    pub(super) fn prove(&mut self, proofs: &[Proof]) -> Outcome<bool> {
        if proofs.is_empty() {
            return Ok(true);
        }
        let consumer = self.consumer()?;
        let found = self.ask(&consumer, proofs);
        // Nothing is fetched between two proofs.
        let _ = consumer.unassign();
        let Some(found) = found?.into_iter().collect::<Option<Vec<_>>>() else { return Ok(false) };
        for (proof, found) in proofs.iter().zip(found) {
            match found {
                ProofFound::Holds => {}
                ProofFound::Another(_) => return Err(self.recreated(&consumer, proof, "another message is there now")),
                ProofFound::Short if self.reaches(proof)? => return Ok(false),
                ProofFound::Short => return Err(self.recreated(&consumer, proof, "the partition ends before it now")),
                // Compaction takes messages out of the middle of a partition, and nothing else does.
                ProofFound::Hole => {
                    if Admin::new(&self.broker)?.compacts(&proof.partition.topic) == Some(false) {
                        return Err(self.recreated(&consumer, proof, "no message is there now"));
                    }
                }
            }
        }
        Ok(true)
    }

    /// The client that looks, which is made when it is first needed.
    fn consumer(&mut self) -> Outcome<Arc<Consumer>> {
        Ok(match &self.consumer {
            Some(consumer) => Arc::clone(consumer),
            None => Arc::clone(self.consumer.insert(Arc::new(self.broker.sampler("sluice.look")?))),
        })
    }

    /// Whether a partition that is said to end before a witness holds it after all. An earlier end is not what it seems where a
    /// broker was killed, or is deleting messages: it reports one for a moment; and there are brokers that count the last
    /// batch of messages as one. So the message itself is asked for, several times. A broker that answers none of them has
    /// disproved nothing: it is asked again later.
    ///
    /// # Errors
    /// Where another message stands there: the topic was recreated.
    pub(super) fn reaches(&mut self, proof: &Proof) -> Outcome<bool> {
        let consumer = self.consumer()?;
        let mut is_disproved = false;
        for look in 0..LOOKS {
            if look > 0 {
                std::thread::sleep(PAUSE);
            }
            let found = self.ask(&consumer, std::slice::from_ref(proof));
            let _ = consumer.unassign();
            match found?.into_iter().next().flatten() {
                Some(ProofFound::Holds) => return Ok(true),
                Some(ProofFound::Another(_)) => {
                    return Err(self.recreated(&consumer, proof, "another message is there now"));
                }
                Some(ProofFound::Hole | ProofFound::Short) => is_disproved = true,
                None => {}
            }
        }
        Ok(!is_disproved)
    }

    /// The same for the message before a partition's position. Where none was read, nothing proves that the partition reaches
    /// it.
    ///
    /// # Errors
    /// Where another message stands there: the topic was recreated.
    pub(super) fn reaches_position(&mut self, part: &Assigned) -> Outcome<bool> {
        let last = part.last_read.clone().filter(|last| last.offset + 1 == part.position);
        let Some(witness) = last else { return Ok(false) };
        self.reaches(&Proof { partition: part.partition.clone(), position: part.proven_to, witness })
    }

    /// The digest of the message before each position; None where none stands there, or the broker does not answer in time.
    ///
    /// # Errors
    /// Where the broker refuses.
    pub(super) fn digests_before(&mut self, positions: &[(Partition, u64)]) -> Outcome<Vec<Option<String>>> {
        if positions.is_empty() {
            return Ok(Vec::new());
        }
        let consumer = self.consumer()?;
        // No message has this digest.
        let proof = |(partition, position): &(Partition, u64)| Proof {
            partition: partition.clone(),
            position: *position,
            witness: Witness { offset: position - 1, digest: String::new() },
        };
        let found = self.ask(&consumer, &positions.iter().map(proof).collect::<Vec<_>>());
        let _ = consumer.unassign();
        let digest = |found| match found {
            Some(ProofFound::Another(digest)) => Some(digest),
            _ => None,
        };
        Ok(found?.into_iter().map(digest).collect())
    }

    /// Looks whether partitions of which no message proves anything begin where they began, or later; false where the broker
    /// does not answer now.
    ///
    /// # Errors
    /// Where one begins earlier: messages never come back, so it is another one.
    pub(super) fn begin_as_before(&self, consumer: &Consumer, parts: &[&Assigned]) -> Outcome<bool> {
        if parts.is_empty() {
            return Ok(true);
        }
        let named: Vec<_> = parts.iter().map(|part| part.partition.named()).collect();
        let bounds = match self.broker.bounds_there(consumer, &named, PATIENCE) {
            Ok(bounds) => bounds,
            Err(failure) if failure.passing => return Ok(false),
            Err(failure) => return Err(failure),
        };
        for (part, bounds) in parts.iter().zip(bounds) {
            let Some((low, _)) = bounds else { continue };
            begins_as_before(&part.name, part.proven_to, part.began_at, low)?;
        }
        Ok(true)
    }

    /// Fetches from every witness's place; None for each that was not answered in time.
    fn ask(&self, consumer: &Consumer, proofs: &[Proof]) -> Outcome<Vec<Option<ProofFound>>> {
        let failed = |e: KafkaError| Failure::unreachable(format!("{} cannot be read: {e}", self.broker.shown()));
        let mut list = TopicPartitionList::with_capacity(proofs.len());
        for proof in proofs {
            let offset = Offset::Offset(i64::try_from(proof.witness.offset).unwrap_or(i64::MAX));
            list.add_partition_offset(&proof.partition.topic, proof.partition.number, offset).map_err(failed)?;
        }
        consumer.assign(&list).map_err(failed)?;
        let mut found: Vec<Option<ProofFound>> = proofs.iter().map(|_| None).collect();
        // Many partitions take their time: what counts is when the last answer came.
        let (mut answered, mut looked) = (Instant::now(), None::<Instant>);
        while found.iter().any(Option::is_none) {
            let left = PATIENCE.saturating_sub(answered.elapsed());
            if left.is_zero() {
                break;
            }
            match consumer.poll(left.min(Duration::from_millis(50))) {
                None => {}
                Some(Ok(message)) => {
                    let of =
                        |q: &Proof| *q.partition.topic == *message.topic() && q.partition.number == message.partition();
                    let Some(place) = proofs.iter().position(of) else { continue };
                    let (seen, witness) = (Seen::of(&message), &proofs[place].witness);
                    let what = match seen.offset.cmp(&witness.offset) {
                        // A fetch of the proof before may still bring something.
                        Ordering::Less => continue,
                        Ordering::Equal => match seen.digest() {
                            digest if digest == witness.digest => ProofFound::Holds,
                            digest => ProofFound::Another(digest),
                        },
                        Ordering::Greater => ProofFound::Hole,
                    };
                    if found[place].is_none() {
                        found[place] = Some(what);
                        answered = Instant::now();
                    }
                }
                // It does not say of which partition it is. Each partition that is read to its end has one.
                Some(Err(error)) => {
                    let code = error.rdkafka_error_code();
                    if let Some(refusal) = code.and_then(|code| refuse(&self.broker, code)) {
                        return Err(refusal);
                    }
                    if code.is_some_and(is_passing) {
                        break;
                    }
                    if looked.is_none_or(|at| at.elapsed() > Duration::from_millis(100)) {
                        looked = Some(Instant::now());
                        if !self.look_at_ends(consumer, proofs, &mut found)? {
                            break;
                        }
                    }
                }
            }
        }
        Ok(found)
    }

    /// Finds witnesses that have expired, that the partition does not reach, or whose topic has gone; false where the
    /// broker does not answer.
    fn look_at_ends(&self, consumer: &Consumer, proofs: &[Proof], found: &mut [Option<ProofFound>]) -> Outcome<bool> {
        let open: Vec<_> = proofs.iter().zip(found).filter(|(_, found)| found.is_none()).collect();
        let named: Vec<_> = open.iter().map(|(proof, _)| proof.partition.named()).collect();
        let bounds = match self.broker.bounds_there(consumer, &named, PATIENCE) {
            Ok(bounds) => bounds,
            Err(failure) if failure.passing => return Ok(false),
            Err(failure) => return Err(failure),
        };
        for ((proof, found), bounds) in open.into_iter().zip(bounds) {
            let at = proof.witness.offset;
            match bounds {
                // The topic has gone: what was read of it was read of it.
                None => *found = Some(ProofFound::Holds),
                Some((low, high)) if low > at && high > at => *found = Some(ProofFound::Holds),
                Some((_, high)) if high <= at => *found = Some(ProofFound::Short),
                Some(_) => {}
            }
        }
        Ok(true)
    }

    /// The topic is not the one that was read.
    fn recreated(&self, consumer: &Consumer, proof: &Proof, how: &str) -> Failure {
        let bounds = self.broker.bounds_there(consumer, &[proof.partition.named()], PATIENCE);
        let bounds = bounds.ok().and_then(|bounds| bounds[0]);
        recreated(&proof.partition.name(), proof.position, how, bounds)
    }
}

impl Drop for Prover {
    fn drop(&mut self) {
        let_go(self.consumer.take());
    }
}

/// Compares the first offset of a partition with the one that it had.
///
/// # Errors
/// Where it is a smaller one: messages never come back, so the partition is another one.
pub(super) fn begins_as_before(name: &str, position: u64, began_at: Option<u64>, low: u64) -> Outcome<()> {
    match began_at {
        Some(began) if low < began => {
            let how = format!("it began at offset {began} then, and begins at {low} now");
            Err(recreated(name, position, &how, None))
        }
        _ => Ok(()),
    }
}

/// That a partition is not the one that was read, with what is there.
pub(super) fn recreated(name: &str, position: u64, how: &str, bounds: Option<(u64, u64)>) -> Failure {
    let now = match bounds {
        Some((low, high)) if low == high => format!("; the partition is empty and its next offset is {high}"),
        Some((low, high)) => format!("; the partition now holds offsets {low} to {}", high - 1),
        None => String::new(),
    };
    Failure::findings(format!(
        "{name} was recreated or has lost data: it was read up to offset {position}, but {how}{now}"
    ))
    .with_help(
        "positions are never reset automatically; to read the new data from its beginning: sluice positions PIPELINE \
         --set earliest --reason \"…\"",
    )
}
