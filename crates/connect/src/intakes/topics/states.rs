//! Where partitions stand: what there is, what is unread, and since when it waits.

use std::collections::BTreeSet;
use std::time::{Duration, Instant};

use sluice_core::event::Position;
use sluice_core::failure::Outcome;
use sluice_core::kinds::{LaneReader as _, Mark, PartitionPosition, PartitionState, Read, ReadLimit};

use super::TopicsIntake;
use crate::broker::Admin;

/// How long is waited for the oldest unread events.
const PATIENCE: Duration = Duration::from_secs(5);

pub(super) fn look(intake: &TopicsIntake, positions: &[PartitionPosition]) -> Outcome<Vec<PartitionState>> {
    let admin = Admin::new(&intake.broker)?;
    let hour_ago = Mark::Time((chrono::Utc::now() - chrono::Duration::hours(1)).timestamp_micros());
    let mut states = Vec::new();
    let partitions = intake.partitions()?;
    let mut oldest = intake.reader("sluice.look", partitions.len())?;
    let mut unseen = 0;
    let configs = admin.configs(partitions.iter().map(|p| &*p.topic).collect::<BTreeSet<_>>());
    let bounds = intake.bounds(&partitions)?;
    let ends: Vec<u64> = bounds.iter().map(|(_, high)| *high).collect();
    let waiting = super::waiting::look(&intake.broker, &partitions, &ends)?;
    let before = intake.offsets(&partitions, &hour_ago)?;
    for (((partition, (low, high)), before), waiting) in partitions.into_iter().zip(bounds).zip(before).zip(waiting) {
        let name = partition.name();
        let read = positions.iter().find(|p| p.partition == name).map_or(low, |p| p.position.major);
        let retention = configs.get(&*partition.topic).and_then(|config| config.retention);
        if high > read.max(low) {
            oldest.add_at(&partition, read.max(low), None)?;
            unseen += 1;
        }
        states.push(PartitionState {
            partition: name,
            earliest: Position::at(low),
            latest: Position::at(high),
            events: Some(high.saturating_sub(read.max(low))),
            bytes: None,
            counts_bytes: false,
            oldest_unread: None,
            retention,
            arrived_last_hour: Some(high.saturating_sub(before)),
            loads: Vec::new(),
            retained: None,
            waiting,
        });
    }
    let started = Instant::now();
    while unseen > 0 && started.elapsed() < PATIENCE {
        // A batch that cannot be unpacked stops the run, which says so; the position behind it can still be set.
        let Ok(read) = oldest.read(ReadLimit { records: 1, bytes: 1, ends: false }) else { break };
        match read {
            Read::Chunk(chunk) => {
                let Some(state) = states.iter_mut().find(|s| s.partition == chunk.partition) else { continue };
                let time = chunk.messages.as_ref().and_then(|m| m.each.first()).and_then(|m| m.time);
                if state.oldest_unread.is_none() && time.is_some() {
                    state.oldest_unread = time;
                    unseen -= 1;
                    oldest.pause(&chunk.partition);
                }
            }
            // What is left in a partition without an event are marks of transactions alone.
            Read::CaughtUp => break,
            Read::Pending | Read::Away(_) | Read::Halt(_) | Read::Stuck(_) => {}
        }
    }
    for name in oldest.empty() {
        if let Some(state) = states.iter_mut().find(|s| s.partition == name && s.oldest_unread.is_none()) {
            state.events = Some(0);
        }
    }
    Ok(states)
}
