//! Transactional writers: one id each; only the last to begin can write.

use std::collections::BTreeSet;

use super::state::{Committed, OffsetKey, State, now};

/// Errors by the protocol's numbers.
pub(super) const INVALID_EPOCH: i16 = 47;
const INVALID_STATE: i16 = 48;
const UNKNOWN_PRODUCER: i16 = 49;
const FENCED: i16 = 90;

/// The writer of one id.
#[derive(Default)]
pub(super) struct Transaction {
    pub producer: i64,
    pub epoch: i16,
    timeout: i64,
    /// When the open transaction began; None where none is open.
    since: Option<i64>,
    /// How the last one ended.
    committed: Option<bool>,
    partitions: BTreeSet<(String, i32)>,
    offsets: Vec<(OffsetKey, Committed)>,
}

impl Transaction {
    pub(super) fn is_open(&self) -> bool {
        self.since.is_some()
    }
}

impl State {
    /// Begins a writer: every older one of the same id is fenced, and what it had open is taken back.
    pub(super) fn begin_writer(&mut self, id: &str, timeout: i32, known: (i64, i16)) -> Result<(i64, i16), i16> {
        if let Some(writer) = self.transactions.get(id)
            && known.0 >= 0
            && (writer.producer, writer.epoch) != known
        {
            return Err(FENCED);
        }
        self.end(id, false);
        let fresh = self.transactions.get(id).is_none_or(|w| w.epoch >= i16::MAX - 1);
        let producer = if fresh { self.new_producer() } else { 0 };
        let writer = self.transactions.entry(id.into()).or_default();
        match fresh {
            true => (writer.producer, writer.epoch) = (producer, 0),
            false => writer.epoch += 1,
        }
        writer.timeout = i64::from(timeout);
        writer.committed = None;
        Ok((writer.producer, writer.epoch))
    }

    fn writer(&mut self, id: &str, producer: i64, epoch: i16) -> Result<&mut Transaction, i16> {
        let writer = self.transactions.get_mut(id).filter(|w| w.producer == producer).ok_or(UNKNOWN_PRODUCER)?;
        if epoch == writer.epoch { Ok(writer) } else { Err(FENCED) }
    }

    /// Takes partitions into a transaction.
    pub(super) fn add_partition(&mut self, id: &str, who: (i64, i16), topic: &str, partition: i32) -> Result<(), i16> {
        let writer = self.writer(id, who.0, who.1)?;
        writer.since.get_or_insert_with(now);
        writer.partitions.insert((topic.into(), partition));
        Ok(())
    }

    /// Takes a group's offsets into a transaction.
    pub(super) fn add_offsets(&mut self, id: &str, who: (i64, i16)) -> Result<(), i16> {
        self.writer(id, who.0, who.1)?.since.get_or_insert_with(now);
        Ok(())
    }

    /// Notes an offset that counts once the transaction is committed.
    pub(super) fn pend_offset(
        &mut self,
        id: &str,
        who: (i64, i16),
        key: OffsetKey,
        committed: Committed,
    ) -> Result<(), i16> {
        self.writer(id, who.0, who.1)?.offsets.push((key, committed));
        Ok(())
    }

    /// Whether an offset waits for the end of a transaction.
    pub(super) fn is_pending(&self, key: &OffsetKey) -> bool {
        self.transactions.values().any(|t| t.offsets.iter().any(|(k, _)| k == key))
    }

    /// Whether a transactional writer may write: it must be the last of its id.
    pub(super) fn may_write(&self, id: Option<&str>, producer: i64, epoch: i16) -> Result<(), i16> {
        match id.map(|id| self.transactions.get(id)) {
            None => Ok(()),
            Some(Some(w)) if (w.producer, w.epoch) == (producer, epoch) => Ok(()),
            Some(_) => Err(INVALID_EPOCH),
        }
    }

    /// Ends a transaction at its writer's word.
    pub(super) fn end_transaction(&mut self, id: &str, who: (i64, i16), committed: bool) -> Result<(), i16> {
        let writer = self.writer(id, who.0, who.1)?;
        // An answer may have been lost: the same end again is not a mistake.
        if writer.since.is_none() {
            return if writer.committed == Some(committed) { Ok(()) } else { Err(INVALID_STATE) };
        }
        self.end(id, committed);
        Ok(())
    }

    fn end(&mut self, id: &str, committed: bool) {
        let Some(writer) = self.transactions.get_mut(id) else { return };
        if writer.since.take().is_none() {
            return;
        }
        writer.committed = Some(committed);
        let (producer, epoch) = (writer.producer, writer.epoch);
        let (partitions, offsets) = (std::mem::take(&mut writer.partitions), std::mem::take(&mut writer.offsets));
        for (topic, partition) in partitions {
            if let Some(log) = self.log(&topic, partition) {
                log.end_transaction(producer, epoch, committed, now());
            }
        }
        if committed {
            self.committed.extend(offsets);
        }
    }

    /// Takes back what has been open for longer than its writer allowed.
    pub(super) fn end_overdue(&mut self, now: i64) {
        let is_overdue = |w: &Transaction| w.since.is_some_and(|since| now - since > w.timeout);
        let overdue: Vec<String> =
            self.transactions.iter().filter(|(_, w)| is_overdue(w)).map(|(id, _)| id.clone()).collect();
        for id in overdue {
            self.end(&id, false);
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::broker::state::TopicConfig;

    fn key() -> OffsetKey {
        ("group".into(), "tolls".into(), 0)
    }

    fn at(offset: i64) -> Committed {
        Committed { offset, metadata: format!("batch {offset}") }
    }

    fn state() -> State {
        let mut state = State::default();
        state.make_topic("tolls", TopicConfig::of(1));
        state
    }

    #[test]
    fn offsets_count_only_when_their_transaction_is_committed() {
        let mut state = state();
        let who = state.begin_writer("w", 1_000, (-1, -1)).unwrap();
        state.add_offsets("w", who).unwrap();
        state.pend_offset("w", who, key(), at(1)).unwrap();
        assert!(state.is_pending(&key()));
        state.end_transaction("w", who, false).unwrap();
        assert!(!state.is_pending(&key()) && !state.committed.contains_key(&key()));
        state.add_offsets("w", who).unwrap();
        state.pend_offset("w", who, key(), at(2)).unwrap();
        state.end_transaction("w", who, true).unwrap();
        assert_eq!(state.committed[&key()], at(2));
        assert_eq!(state.end_transaction("w", who, true), Ok(()), "the answer may have been lost");
        assert_eq!(state.end_transaction("w", who, false), Err(INVALID_STATE));
    }

    #[test]
    fn only_the_last_writer_of_an_id_can_write() {
        let mut state = state();
        let zombie = state.begin_writer("w", 1_000, (-1, -1)).unwrap();
        state.add_partition("w", zombie, "tolls", 0).unwrap();
        state.add_offsets("w", zombie).unwrap();
        state.pend_offset("w", zombie, key(), at(1)).unwrap();
        let next = state.begin_writer("w", 1_000, (-1, -1)).unwrap();
        assert_eq!((next.0, next.1), (zombie.0, zombie.1 + 1));
        assert!(!state.is_pending(&key()), "what it had open was taken back");
        assert_eq!(state.end_transaction("w", zombie, true), Err(FENCED));
        assert_eq!(state.may_write(Some("w"), zombie.0, zombie.1), Err(INVALID_EPOCH));
        assert_eq!(state.may_write(Some("w"), next.0, next.1), Ok(()));
        assert_eq!(state.begin_writer("w", 1_000, zombie), Err(FENCED));
    }

    #[test]
    fn a_transaction_that_nobody_ends_is_taken_back() {
        let mut state = state();
        let who = state.begin_writer("w", 1_000, (-1, -1)).unwrap();
        state.add_offsets("w", who).unwrap();
        state.end_overdue(now() + 500);
        state.pend_offset("w", who, key(), at(1)).unwrap();
        state.end_overdue(now() + 2_000);
        assert!(!state.is_pending(&key()));
    }
}
