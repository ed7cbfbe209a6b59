//! Sends a spooled batch in one transaction. May be called again after a crash at any point.

use std::fs::File;
use std::io::BufReader;
use std::path::Path;

use sluice_core::batch::{BatchIdentity, Ranges};
use sluice_core::fail_points::reach;
use sluice_core::failure::{Failure, Outcome};

use super::message::OutgoingMessage;
use super::producer::LaneProducer;

pub(super) fn publish(
    producer: &mut LaneProducer,
    batch: &BatchIdentity,
    ranges: &Ranges,
    spool: &Path,
) -> Outcome<()> {
    if producer.last().is_some_and(|last| last.ledger == batch.ledger && last.number >= batch.number) {
        // It was committed before a crash; only the ledger does not know yet.
        return Ok(());
    }
    reach("publish.before");
    let file = File::open(spool).map_err(|e| match e.kind() {
        std::io::ErrorKind::NotFound => {
            Failure::findings(format!("{batch}: its spooled messages in {} are missing", spool.display()))
                .with_help("they were removed from the hidden folder .sluice; put them back")
        }
        _ => Failure::io("read", spool, &e),
    })?;
    let mut from = BufReader::with_capacity(1 << 16, file);
    producer.start()?;
    let mut message = OutgoingMessage::default();
    let mut sent = 0_u64;
    while message.read(&mut from).map_err(|e| Failure::io("read", spool, &e))? {
        producer.send(&message)?;
        sent += 1;
        if sent.is_multiple_of(1_000) {
            producer.serve();
        }
        if sent == 1 {
            reach("publish.topic_begun");
        }
    }
    producer.flush()?;
    reach("publish.topic_sent");
    producer.note(batch, ranges)?;
    reach("publish.topic_noted");
    producer.commit(batch, ranges)?;
    reach("publish.topic_committed");
    Ok(())
}
