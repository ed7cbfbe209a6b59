//! Messages that wait behind an open transaction: they are there, and readers of committed messages do not see them yet.

use std::time::{Duration, Instant};

use rdkafka::consumer::Consumer as _;
use rdkafka::message::Message as _;
use rdkafka::topic_partition_list::{Offset, TopicPartitionList};
use sluice_core::event::Position;
use sluice_core::failure::{Failure, Outcome};
use sluice_core::kinds::HeldBack;
use sluice_core::units::show_many;
use sluice_core::values::time::show_timestamp;

use super::gather::Seen;
use super::named;
use super::partitions::Partition;
use crate::broker::{Broker, Consumer, let_go};

/// How long is waited for the first messages of open transactions.
const PATIENCE: Duration = Duration::from_secs(2);

/// What waits in each partition; `ends` are the offsets after the last message that a reader of committed ones sees.
///
/// # Errors
/// Where no broker answers.
pub(super) fn look(broker: &Broker, partitions: &[Partition], ends: &[u64]) -> Outcome<Vec<Option<HeldBack>>> {
    let all = broker.observer("sluice.look")?;
    let high = broker.offsets(&all, &named(partitions), Offset::End)?;
    let behind = |(end, high): (&u64, Option<u64>)| {
        let events = high?.checked_sub(*end).filter(|n| *n > 0)?;
        Some(HeldBack { events, from: Position::at(*end), since: None })
    };
    let mut held: Vec<Option<HeldBack>> = ends.iter().zip(high).map(behind).collect();
    let noted = note_times(broker, &all, partitions, &mut held);
    let_go(all);
    noted?;
    Ok(held)
}

/// How many messages wait, without their times.
pub(super) fn count(broker: &Broker, partitions: &[Partition], ends: &[u64]) -> Outcome<u64> {
    let all = broker.observer("sluice.look")?;
    let high = broker.offsets(&all, &named(partitions), Offset::End);
    let_go(all);
    let high = high?;
    Ok(ends.iter().zip(high).map(|(end, high)| high.map_or(0, |high| high.saturating_sub(*end))).sum())
}

/// Reads the first message of each that waits.
fn note_times(broker: &Broker, all: &Consumer, partitions: &[Partition], held: &mut [Option<HeldBack>]) -> Outcome<()> {
    let failed = |e| Failure::unreachable(format!("{} cannot be read: {e}", broker.shown()));
    let mut list = TopicPartitionList::new();
    for (partition, held) in partitions.iter().zip(held.iter()) {
        if let Some(held) = held {
            let from = Offset::Offset(i64::try_from(held.from.major).unwrap_or(i64::MAX));
            list.add_partition_offset(&partition.topic, partition.number, from).map_err(failed)?;
        }
    }
    let mut left = list.count();
    if left == 0 {
        return Ok(());
    }
    all.assign(&list).map_err(failed)?;
    let started = Instant::now();
    while left > 0 && started.elapsed() < PATIENCE {
        let Some(Ok(message)) = all.poll(Duration::from_millis(50)) else { continue };
        let of = |p: &Partition| *p.topic == *message.topic() && p.number == message.partition();
        let Some(held) = partitions.iter().position(of).and_then(|place| held[place].as_mut()) else { continue };
        if held.since.is_none() {
            held.since = Seen::of(&message).time;
            left -= 1;
        }
    }
    Ok(())
}

/// What waits, in words.
pub(super) fn shown_held(partition: &str, held: &HeldBack) -> String {
    let since = held.since.map_or_else(String::new, |at| format!(", the first since {}", show_timestamp(at)));
    let waiting = show_many(held.events, "message");
    let verb = if held.events == 1 { "waits" } else { "wait" };
    format!(
        "{partition}: {waiting} from offset {} on {verb} behind an open transaction of another writer{since}",
        held.from.major
    )
}
