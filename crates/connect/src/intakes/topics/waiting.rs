//! Messages that wait behind an open transaction: they are there, and readers of committed messages do not see them yet.

use std::time::{Duration, Instant};

use rdkafka::consumer::Consumer as _;
use rdkafka::message::Message as _;
use rdkafka::topic_partition_list::{Offset, TopicPartitionList};
use sluice_core::event::Position;
use sluice_core::failure::{Failure, Outcome};
use sluice_core::kinds::WaitingMessages;
use sluice_core::units::show_many;
use sluice_core::values::time::show_timestamp;

use super::gather::Seen;
use super::named;
use super::partitions::Partition;
use crate::broker::{Broker, Consumer, let_go, open_writers};

/// How long is waited for the first messages of open transactions.
const PATIENCE: Duration = Duration::from_secs(2);

/// What waits in each partition; `ends` are the offsets after the last message that a reader of committed ones sees.
///
/// # Errors
/// Where no broker answers.
pub(super) fn look(broker: &Broker, partitions: &[Partition], ends: &[u64]) -> Outcome<Vec<Option<WaitingMessages>>> {
    let all = broker.observer("sluice.look")?;
    let high = broker.offsets(&all, &named(partitions), Offset::End)?;
    let behind = |(end, high): (&u64, Option<u64>)| {
        let events = high?.checked_sub(*end).filter(|n| *n > 0)?;
        Some(WaitingMessages { events, from: Position::at(*end), since: None, writers: Vec::new() })
    };
    let mut waiting: Vec<Option<WaitingMessages>> = ends.iter().zip(high).map(behind).collect();
    let noted = note_times(broker, &all, partitions, &mut waiting);
    note_writers(broker, &all, partitions, &mut waiting);
    let_go(all);
    noted?;
    Ok(waiting)
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
fn note_times(
    broker: &Broker,
    all: &Consumer,
    partitions: &[Partition],
    waiting: &mut [Option<WaitingMessages>],
) -> Outcome<()> {
    let failed = |e| Failure::unreachable(format!("{} cannot be read: {e}", broker.shown()));
    let mut list = TopicPartitionList::new();
    for (partition, waiting) in partitions.iter().zip(waiting.iter()) {
        if let Some(waiting) = waiting {
            let from = Offset::Offset(i64::try_from(waiting.from.major).unwrap_or(i64::MAX));
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
        let Some(waiting) = partitions.iter().position(of).and_then(|place| waiting[place].as_mut()) else { continue };
        if waiting.since.is_none() {
            waiting.since = Seen::of(&message).time;
            left -= 1;
        }
    }
    Ok(())
}

/// Asks whose transactions are open where something waits.
fn note_writers(broker: &Broker, all: &Consumer, partitions: &[Partition], waiting: &mut [Option<WaitingMessages>]) {
    let (waiting, asked): (Vec<&mut WaitingMessages>, Vec<(&str, i32)>) = waiting
        .iter_mut()
        .zip(partitions)
        .filter_map(|(waiting, partition)| Some((waiting.as_mut()?, (&*partition.topic, partition.number))))
        .unzip();
    for (waiting, writers) in waiting.into_iter().zip(open_writers(broker, all, &asked)) {
        waiting.writers = writers;
    }
}

/// What waits, in words.
pub(super) fn shown_waiting(partition: &str, waiting: &WaitingMessages) -> String {
    let since = waiting.since.map_or_else(String::new, |at| format!(", the first since {}", show_timestamp(at)));
    let messages = show_many(waiting.events, "message");
    let verb = if waiting.events == 1 { "waits" } else { "wait" };
    format!("{partition}: {messages} from offset {} on {verb} behind {}{since}", waiting.from.major, waiting.whose())
}
