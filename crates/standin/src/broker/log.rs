//! One partition: record batches as their writers sent them, with the offsets that they got.
//!
//! The layout of a batch is that of the Kafka protocol's record batch, version 2. Its checksum does not cover the
//! first offset, so that a batch is numbered without being rewritten.

use std::collections::{BTreeMap, HashMap, VecDeque};

use super::shapes;
use bytes::{Buf as _, Bytes, BytesMut};
use kafka_protocol::indexmap::IndexMap;
use kafka_protocol::records::{
    Compression, Record, RecordBatchDecoder, RecordBatchEncoder, RecordEncodeOptions, TimestampType,
};

/// Bytes before the records of a batch.
const HEADER: usize = 61;

/// Batches of one writer that are remembered, so that one sent twice is kept once.
const REMEMBERED: usize = 5;

/// What a batch says of itself.
pub(super) struct BatchHead {
    length: usize,
    last_delta: i32,
    max_time: i64,
    pub producer: i64,
    pub epoch: i16,
    sequence: i32,
    pub transactional: bool,
    compressed: bool,
}

impl BatchHead {
    /// Reads the header of the first batch; None where it is not one, or not whole.
    pub(super) fn read(bytes: &[u8]) -> Option<Self> {
        if bytes.len() < HEADER || bytes[16] != 2 {
            return None;
        }
        let length = usize::try_from((&bytes[8..12]).get_i32()).ok()? + 12;
        let attributes = (&bytes[21..23]).get_i16();
        let (last_delta, count) = ((&bytes[23..27]).get_i32(), (&bytes[57..61]).get_i32());
        let compressed = attributes & 0x07 != 0;
        // Records are numbered one by one, and there are as many as the batch says. Packed ones are never unpacked here.
        let counts = count > 0 && count - 1 == last_delta;
        let holds = |length| compressed || shapes::are_records(&bytes[HEADER..length], count);
        let is_whole = (HEADER..=bytes.len()).contains(&length) && counts && holds(length);
        is_whole.then(|| Self {
            length,
            last_delta,
            max_time: (&bytes[35..43]).get_i64(),
            producer: (&bytes[43..51]).get_i64(),
            epoch: (&bytes[51..53]).get_i16(),
            sequence: (&bytes[53..57]).get_i32(),
            transactional: attributes & 0x10 != 0,
            compressed,
        })
    }
}

struct Batch {
    first: i64,
    last: i64,
    max_time: i64,
    compressed: bool,
    bytes: Bytes,
}

impl Batch {
    fn records(&self) -> Vec<Record> {
        RecordBatchDecoder::decode(&mut self.bytes.clone()).map(|set| set.records).unwrap_or_default()
    }

    /// Holds only these of its records, each as a batch of its own, for their offsets do not follow each other any more.
    fn keep(&mut self, records: &[Record]) {
        let mut bytes = BytesMut::new();
        for record in records {
            let mut one = BytesMut::new();
            let options = RecordEncodeOptions { version: 2, compression: Compression::None };
            let _ = RecordBatchEncoder::encode(&mut one, [record], &options);
            one[0..8].copy_from_slice(&record.offset.to_be_bytes());
            bytes.extend_from_slice(&one);
        }
        self.bytes = bytes.freeze();
        self.compressed = false;
    }
}

/// What a writer sent last.
#[derive(Default)]
struct Writer {
    epoch: i16,
    next: i32,
    /// The first sequence number of each batch, and the offset that it got.
    sent: VecDeque<(i32, i64)>,
}

/// A transaction that was taken back.
pub(super) struct Aborted {
    pub producer: i64,
    pub first: i64,
    last: i64,
}

/// A partition.
#[derive(Default)]
pub(super) struct Log {
    /// The first offset that is there.
    pub start: i64,
    /// The offset of the next record.
    pub end: i64,
    batches: VecDeque<Batch>,
    /// Open transactions: the writer, and its first offset.
    open: BTreeMap<i64, i64>,
    aborted: Vec<Aborted>,
    writers: HashMap<i64, Writer>,
    /// The end that it reports, where that is an earlier one.
    pub reports: Option<i64>,
    /// How many more questions for its end are answered with the earlier one; they count from the first fetch that was out of
    /// range on.
    pub heals_after: Option<u64>,
    /// Whether a fetch was out of range.
    pub was_missed: bool,
    /// The end that those are told who ask for it, where that is an earlier one.
    pub understates: Option<i64>,
    /// Whether it changes its leader just now.
    pub moves: bool,
}

/// Why a batch was not taken; the numbers are those of the protocol.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum Refused {
    Corrupt = 2,
    OutOfOrder = 45,
    OldEpoch = 47,
}

impl Log {
    /// Adds what a writer sent; gives the first offset.
    pub(super) fn append(&mut self, mut bytes: Bytes) -> Result<i64, Refused> {
        let mut first = None;
        while !bytes.is_empty() {
            let head = BatchHead::read(&bytes).ok_or(Refused::Corrupt)?;
            let one = bytes.split_to(head.length);
            let at = match self.known(&head)? {
                Some(offset) => offset,
                None => self.add(&head, &one),
            };
            first.get_or_insert(at);
        }
        first.ok_or(Refused::Corrupt)
    }

    /// The offset of a batch that was sent before.
    fn known(&mut self, head: &BatchHead) -> Result<Option<i64>, Refused> {
        if head.producer < 0 || head.sequence < 0 {
            return Ok(None);
        }
        let writer = self.writers.entry(head.producer).or_default();
        if head.epoch < writer.epoch {
            return Err(Refused::OldEpoch);
        }
        if head.epoch > writer.epoch {
            *writer = Writer { epoch: head.epoch, ..Writer::default() };
        }
        if let Some((_, offset)) = writer.sent.iter().find(|(sequence, _)| *sequence == head.sequence) {
            return Ok(Some(*offset));
        }
        // A writer that this partition has forgotten begins where it is.
        if head.sequence != writer.next && !writer.sent.is_empty() {
            return Err(Refused::OutOfOrder);
        }
        writer.next = head.sequence.wrapping_add(head.last_delta + 1) & i32::MAX;
        writer.sent.push_back((head.sequence, self.end));
        if writer.sent.len() > REMEMBERED {
            writer.sent.pop_front();
        }
        Ok(None)
    }

    fn add(&mut self, head: &BatchHead, bytes: &[u8]) -> i64 {
        let first = self.end;
        let mut numbered = BytesMut::from(bytes);
        numbered[0..8].copy_from_slice(&first.to_be_bytes());
        numbered[12..16].copy_from_slice(&0_i32.to_be_bytes());
        let last = first + i64::from(head.last_delta);
        self.batches.push_back(Batch {
            first,
            last,
            max_time: head.max_time,
            compressed: head.compressed,
            bytes: numbered.freeze(),
        });
        self.end = last + 1;
        if head.transactional {
            self.open.entry(head.producer).or_insert(first);
        }
        first
    }

    /// Ends the transaction of a writer, if it has one here.
    pub(super) fn end_transaction(&mut self, producer: i64, epoch: i16, committed: bool, now: i64) {
        let Some(first) = self.open.remove(&producer) else { return };
        let bytes = marker(producer, epoch, committed, now);
        let at = self.end;
        if let Some(head) = BatchHead::read(&bytes) {
            self.add(&head, &bytes);
            self.open.remove(&producer);
        }
        if !committed {
            self.aborted.push(Aborted { producer, first, last: at });
        }
    }

    /// The end as it is reported.
    pub(super) fn reported_end(&self) -> i64 {
        self.reports.map_or(self.end, |end| end.min(self.end))
    }

    /// That somebody asks for its end.
    pub(super) fn is_asked(&mut self) {
        match self.heals_after {
            Some(0) => (self.reports, self.heals_after) = (None, None),
            Some(left) if self.was_missed => self.heals_after = Some(left - 1),
            _ => {}
        }
    }

    /// The writers that are known, each with the first offset of its open transaction.
    pub(super) fn producers(&self) -> impl Iterator<Item = (i64, Option<i64>)> {
        self.writers.keys().map(|producer| (*producer, self.open.get(producer).copied()))
    }

    /// The offset before which every transaction has ended.
    pub(super) fn stable(&self) -> i64 {
        self.open.values().min().copied().unwrap_or(self.end).min(self.reported_end())
    }

    /// Batches from an offset to another one, at least one, and about as many bytes as wanted.
    pub(super) fn read(&self, from: i64, to: i64, bytes: usize) -> Vec<Bytes> {
        let at = self.batches.partition_point(|b| b.last < from);
        let mut found: Vec<Bytes> = Vec::new();
        let mut size = 0;
        for batch in self.batches.iter().skip(at).take_while(|b| b.first < to) {
            if size > 0 && size + batch.bytes.len() > bytes {
                break;
            }
            size += batch.bytes.len();
            found.push(batch.bytes.clone());
        }
        found
    }

    /// Transactions that were taken back and reach into a range.
    pub(super) fn aborted(&self, from: i64, to: i64) -> impl Iterator<Item = &Aborted> {
        self.aborted.iter().filter(move |a| a.last >= from && a.first < to)
    }

    /// The first record of a moment or later, with its time. Of a compressed batch, its first record.
    pub(super) fn at_time(&self, time: i64) -> Option<(i64, i64)> {
        let batch = self.batches.iter().find(|b| b.max_time >= time && b.last >= self.start)?;
        let first = batch.first.max(self.start);
        if batch.compressed {
            return Some((first, batch.max_time));
        }
        let records = RecordBatchDecoder::decode(&mut batch.bytes.clone()).ok()?.records;
        let record = records.iter().find(|r| r.timestamp >= time && r.offset >= first);
        Some(record.map_or((first, batch.max_time), |r| (r.offset, r.timestamp)))
    }

    /// Forgets batches whose last record is older than a moment.
    pub(super) fn expire(&mut self, before: i64) {
        while self.batches.front().is_some_and(|b| b.max_time < before && b.last < self.stable()) {
            if let Some(batch) = self.batches.pop_front() {
                self.start = self.start.max(batch.last + 1);
            }
        }
    }

    /// Keeps the last record of each key and those without a key, as far as transactions have ended. Gives how many went.
    pub(super) fn compact(&mut self) -> u64 {
        let stable = self.stable();
        let mut last: HashMap<Bytes, i64> = HashMap::new();
        let closed = |b: &&Batch| b.last < stable;
        for record in self.batches.iter().filter(closed).flat_map(Batch::records).filter(|r| !r.control) {
            if let Some(key) = record.key {
                last.insert(key, record.offset);
            }
        }
        let mut gone = 0;
        for batch in self.batches.iter_mut().filter(|b| b.last < stable) {
            let records = batch.records();
            let stays = |r: &Record| r.control || r.key.as_ref().is_none_or(|key| last[key] == r.offset);
            if records.iter().all(stays) {
                continue;
            }
            let kept: Vec<Record> = records.iter().filter(|r| stays(r)).cloned().collect();
            gone += (records.len() - kept.len()) as u64;
            batch.keep(&kept);
        }
        self.batches.retain(|batch| !batch.bytes.is_empty());
        gone
    }

    /// Forgets what comes before an offset.
    pub(super) fn delete_before(&mut self, offset: i64) {
        self.start = self.start.max(offset.min(self.end));
        while self.batches.front().is_some_and(|b| b.last < self.start) {
            self.batches.pop_front();
        }
    }
}

/// The record that ends a transaction: its key says how, its value names the coordinator's term.
fn marker(producer: i64, epoch: i16, committed: bool, now: i64) -> Bytes {
    let kind: [u8; 4] = [0, 0, 0, u8::from(committed)];
    let record = Record {
        transactional: true,
        control: true,
        delete_horizon: false,
        partition_leader_epoch: 0,
        producer_id: producer,
        producer_epoch: epoch,
        timestamp_type: TimestampType::Creation,
        offset: 0,
        sequence: -1,
        timestamp: now,
        key: Some(Bytes::copy_from_slice(&kind)),
        value: Some(Bytes::from_static(&[0; 6])),
        headers: IndexMap::new(),
    };
    let mut bytes = BytesMut::new();
    let options = RecordEncodeOptions { version: 2, compression: Compression::None };
    let _ = RecordBatchEncoder::encode(&mut bytes, [&record], &options);
    bytes.freeze()
}

/// So many records in one batch, with keys and headers.
#[cfg(test)]
pub(super) fn batch(count: u8) -> Bytes {
    let record = |i: u8| Record {
        transactional: false,
        control: false,
        delete_horizon: false,
        partition_leader_epoch: -1,
        producer_id: -1,
        producer_epoch: -1,
        timestamp_type: TimestampType::Creation,
        offset: i.into(),
        sequence: i32::from(i) - 1,
        timestamp: i.into(),
        key: (!i.is_multiple_of(3)).then(|| Bytes::from(vec![i % 5])),
        value: (!i.is_multiple_of(4)).then(|| Bytes::from(vec![i; 9])),
        headers: (0..i % 3).map(|h| (format!("h{h}").into(), Some(Bytes::from(vec![h])))).collect(),
    };
    let records: Vec<Record> = (0..count).map(record).collect();
    let mut bytes = BytesMut::new();
    let options = RecordEncodeOptions { version: 2, compression: Compression::None };
    let _ = RecordBatchEncoder::encode(&mut bytes, &records, &options);
    bytes.freeze()
}

#[cfg(test)]
mod tests {
    use super::*;

    /// A batch as a writer sends it.
    fn sent(count: i32, producer: i64, epoch: i16, sequence: i32, transactional: bool, time: i64) -> Bytes {
        let record = |i: i32| Record {
            transactional,
            control: false,
            delete_horizon: false,
            partition_leader_epoch: -1,
            producer_id: producer,
            producer_epoch: epoch,
            timestamp_type: TimestampType::Creation,
            offset: i64::from(i),
            sequence: sequence + i,
            timestamp: time + i64::from(i),
            key: None,
            value: Some(Bytes::from(format!("{i}"))),
            headers: IndexMap::new(),
        };
        let records: Vec<Record> = (0..count).map(record).collect();
        let mut bytes = BytesMut::new();
        let options = RecordEncodeOptions { version: 2, compression: Compression::None };
        RecordBatchEncoder::encode(&mut bytes, &records, &options).unwrap();
        bytes.freeze()
    }

    #[test]
    fn batches_get_offsets_and_come_back_from_any_of_them() {
        let mut log = Log::default();
        assert_eq!(log.append(sent(3, -1, -1, -1, false, 100)), Ok(0));
        assert_eq!(log.append(sent(2, -1, -1, -1, false, 200)), Ok(3));
        assert_eq!((log.end, log.stable()), (5, 5));
        let read = log.read(4, log.end, 1 << 20);
        let records = RecordBatchDecoder::decode(&mut read[0].clone()).unwrap().records;
        assert_eq!(records.iter().map(|r| r.offset).collect::<Vec<_>>(), [3, 4]);
        assert_eq!((log.at_time(101), log.at_time(150), log.at_time(300)), (Some((1, 101)), Some((3, 200)), None));
    }

    #[test]
    fn what_is_sent_twice_is_kept_once() {
        let mut log = Log::default();
        assert_eq!(log.append(sent(3, 7, 0, 0, false, 1)), Ok(0));
        assert_eq!(log.append(sent(3, 7, 0, 0, false, 1)), Ok(0));
        assert_eq!(log.end, 3);
        assert_eq!(log.append(sent(1, 7, 0, 9, false, 1)), Err(Refused::OutOfOrder));
        assert_eq!(log.append(sent(1, 7, 1, 0, false, 1)), Ok(3));
        assert_eq!(log.append(sent(1, 7, 0, 3, false, 1)), Err(Refused::OldEpoch));
        assert_eq!(log.append(Bytes::from_static(b"no batch")), Err(Refused::Corrupt));
    }

    #[test]
    fn an_open_transaction_holds_readers_back_and_an_aborted_one_is_listed() {
        let mut log = Log::default();
        log.append(sent(2, 1, 0, 0, true, 1)).unwrap();
        log.append(sent(1, -1, -1, -1, false, 1)).unwrap();
        assert_eq!(log.stable(), 0);
        log.end_transaction(1, 0, false, 5);
        assert_eq!((log.stable(), log.end), (4, 4));
        assert_eq!(log.aborted(0, 4).map(|a| (a.producer, a.first)).collect::<Vec<_>>(), [(1, 0)]);
        log.append(sent(2, 1, 0, 2, true, 1)).unwrap();
        log.end_transaction(1, 0, true, 6);
        assert_eq!(log.aborted(4, 7).count(), 0);
        log.end_transaction(1, 0, true, 7);
        assert_eq!(log.end, 7, "nothing is open any more");
    }

    #[test]
    fn old_batches_are_forgotten() {
        let mut log = Log::default();
        log.append(sent(3, -1, -1, -1, false, 100)).unwrap();
        log.append(sent(3, -1, -1, -1, false, 200)).unwrap();
        log.expire(150);
        assert_eq!((log.start, log.end), (3, 6));
        log.delete_before(5);
        assert_eq!(log.start, 5);
        log.delete_before(99);
        assert_eq!((log.start, log.read(0, 99, 1).len()), (6, 0));
    }
}
