//! Messages on their way to recipients: in order for each, tried again until they have arrived.

use std::collections::{BTreeMap, BTreeSet};
use std::path::{Path, PathBuf};
use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};
use std::time::{Duration, Instant};

use sha2::{Digest as _, Sha256};
use sluice_connect::ledgers::sqlite::SqliteLedger;
use sluice_connect::ledgers::sqlite::notices::WaitingMessage;
use sluice_connect::recipients;
use sluice_core::config::notice::Recipient;
use sluice_core::fail_points::reach;
use sluice_core::failure::Outcome;
use sluice_core::ledger::Ledger as _;
use sluice_core::notice::{Message, Phase};
use sluice_core::threads;

use super::rules::Rules;
use super::unwritten::UnwrittenNotices;
use crate::output::times;
use crate::secrets::ProjectSecrets;

/// The longest pause between two tries, in seconds.
const LONGEST: u64 = 300;

/// What has arrived and could not be noted yet, each message with its recipient: it is not sent again.
type Arrived = Arc<Mutex<BTreeSet<String>>>;

fn arrived_set(arrived: &Arrived) -> MutexGuard<'_, BTreeSet<String>> {
    arrived.lock().unwrap_or_else(PoisonError::into_inner)
}

/// Sends to all recipients, at most one message at a time to each.
pub(super) struct Senders {
    root: PathBuf,
    ledger: Arc<SqliteLedger>,
    unwritten: UnwrittenNotices,
    arrived: Arrived,
    busy: BTreeMap<String, Arc<AtomicBool>>,
}

impl Senders {
    pub(super) fn new(root: PathBuf, ledger: Arc<SqliteLedger>, unwritten: UnwrittenNotices) -> Self {
        Self { root, ledger, unwritten, arrived: Arrived::default(), busy: BTreeMap::new() }
    }

    /// Starts sending due messages to recipients that are idle.
    pub(super) fn send_due(&mut self, rules: &Rules, now: i64) -> Outcome<()> {
        for recipient in &rules.recipients {
            let busy = Arc::clone(self.busy.entry(recipient.name.clone()).or_default());
            if busy.load(Ordering::SeqCst) || self.due(recipient, now)?.is_none() {
                continue;
            }
            busy.store(true, Ordering::SeqCst);
            let (root, ledger, project) = (self.root.clone(), Arc::clone(&self.ledger), rules.project.clone());
            let (unwritten, arrived) = (self.unwritten.clone(), Arc::clone(&self.arrived));
            let recipient = recipient.clone();
            threads::spawn("recipient", move || {
                if let Err(failure) = send_all(&recipient, &project, &root, &ledger, (&unwritten, &arrived)) {
                    tracing::error!(recipient = %recipient.name, reason = %failure.message, "cannot send notices; retrying");
                }
                busy.store(false, Ordering::SeqCst);
            });
        }
        Ok(())
    }

    fn due(&self, recipient: &Recipient, now: i64) -> Outcome<Option<WaitingMessage>> {
        let written = self.ledger.next_message(&recipient.name)?.filter(|message| message.try_at <= now);
        Ok(written.or_else(|| self.unwritten.next(&recipient.name, now)))
    }

    /// Waits until each message has been tried once, or for so long.
    pub(super) fn wait(&mut self, rules: &Rules, until: Instant) -> Outcome<()> {
        while Instant::now() < until {
            self.send_due(rules, times::now())?;
            let is_busy = self.busy.values().any(|busy| busy.load(Ordering::SeqCst));
            let mut waits = false;
            for recipient in &rules.recipients {
                waits |= self.due(recipient, times::now())?.is_some_and(|message| message.tries == 0);
            }
            if !is_busy && !waits {
                return Ok(());
            }
            std::thread::sleep(Duration::from_millis(50));
        }
        Ok(())
    }
}

/// Sends due messages in order, until one does not arrive.
fn send_all(
    recipient: &Recipient,
    project: &str,
    root: &Path,
    ledger: &SqliteLedger,
    (unwritten, arrived): (&UnwrittenNotices, &Arrived),
) -> Outcome<()> {
    let secrets = ProjectSecrets { root: root.to_path_buf() };
    while let Some(waiting) = ledger.next_message(&recipient.name)?.filter(|waiting| waiting.try_at <= times::now()) {
        let message = message(&waiting, project, ledger.id());
        let (id, name) = (waiting.notice.id, &recipient.name);
        let key = message.id.clone() + name;
        let known = arrived_set(arrived).contains(&key);
        match if known { Ok(()) } else { recipients::send(recipient, &message, root, &secrets) } {
            Ok(()) => {
                reach("notice.sent");
                arrived_set(arrived).insert(key.clone());
                ledger.message_sent(id, waiting.phase, name, times::now())?;
                arrived_set(arrived).remove(&key);
            }
            Err(reason) => {
                let pause = pause(waiting.tries);
                tracing::warn!(recipient = %name, notice = %waiting.notice.rule, %reason, "a notice did not arrive; retry in {pause} s");
                return ledger.message_failed(id, waiting.phase, name, &reason, again(waiting.tries));
            }
        }
    }
    while let Some(waiting) = unwritten.next(&recipient.name, times::now()) {
        let message = message(&waiting, project, ledger.id());
        let sent = recipients::send(recipient, &message, root, &secrets);
        let went = match &sent {
            Ok(()) => Ok(times::now()),
            Err(_) => Err(again(waiting.tries)),
        };
        unwritten.tried(waiting.notice.id, waiting.phase, &recipient.name, went);
        if let Err(reason) = sent {
            tracing::warn!(recipient = %recipient.name, notice = %waiting.notice.rule, %reason, "a notice did not arrive");
            return Ok(());
        }
    }
    Ok(())
}

/// When a message is tried again after so many tries.
fn again(tries: u32) -> i64 {
    times::now().saturating_add(i64::try_from(pause(tries) * 1_000_000).unwrap_or(i64::MAX))
}

/// Seconds until the next try after so many.
fn pause(tries: u32) -> u64 {
    1_u64.checked_shl(tries).unwrap_or(LONGEST).min(LONGEST)
}

/// Tells subjects apart within an id, which is sent in headers: names of fields may hold anything.
fn short_digest(text: &str) -> u32 {
    let digest = <[u8; 32]>::from(Sha256::digest(text.as_bytes()));
    u32::from_be_bytes([digest[0], digest[1], digest[2], digest[3]])
}

/// A message as it is sent.
fn message(waiting: &WaitingMessage, project: &str, ledger: &str) -> Message {
    let notice = &waiting.notice;
    // The same from memory as from the ledger.
    let subject: String =
        if notice.subject.is_empty() { String::new() } else { format!("-{:08x}", short_digest(&notice.subject)) };
    let id =
        format!("{ledger}-{}-{}{subject}-{}-{}", notice.rule, notice.pipeline, notice.began_at, waiting.phase.word());
    let (text, help, at) = match waiting.phase {
        Phase::Begins => (notice.message.as_str(), notice.help.as_str(), notice.began_at),
        Phase::Over => (notice.over.as_deref().unwrap_or_default(), "", notice.over_at.unwrap_or(notice.began_at)),
    };
    let names = (id.as_str(), project, notice.rule.as_str(), notice.pipeline.as_str());
    Message::new(names, waiting.phase, (text, help), (at, notice.began_at))
}

#[cfg(test)]
mod tests {
    use super::pause;

    #[test]
    fn pauses_grow_up_to_five_minutes() {
        assert_eq!([0, 1, 2, 8, 9, 63, 64, u32::MAX].map(pause), [1, 2, 4, 256, 300, 300, 300, 300]);
    }
}
