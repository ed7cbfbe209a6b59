//! The slot and the publication: made, found again, verified before anything is read.

use std::time::{Duration, Instant};

use sha2::{Digest as _, Sha256};
use sluice_core::config::{OptionSpec, ValueKind};
use sluice_core::event::Position;
use sluice_core::fail_points::reach;
use sluice_core::failure::{Failure, FailureKind, Outcome};
use sluice_core::kinds::{PartitionPosition, PartitionState, Settings};

use super::PostgresFeed;
use super::catalog::{Catalog, Slot, SourceTable, parse_lsn, show_lsn};
use super::silent;
use super::wire::{self, Wire};
use crate::databases::postgres::{literal, quote};
use crate::databases::wait;
use crate::intakes::feed::live::FeedProgress;
use crate::intakes::feed::schema::Policy;
use crate::intakes::feed::state::{Load, State, TableState, WholeTableState};
use crate::intakes::feed::{PARTITION, TABLE_OPTIONS};

/// How long a session of ours that has lost its process may use the slot.
pub(super) const HELD: Duration = Duration::from_secs(10);

/// Keys of an arrival.
pub(super) const OPTIONS: &[OptionSpec] = &[
    TABLE_OPTIONS[0],
    TABLE_OPTIONS[1],
    TABLE_OPTIONS[2],
    TABLE_OPTIONS[3],
    TABLE_OPTIONS[4],
    OptionSpec::optional(
        "slot",
        ValueKind::Text,
        "the replication slot that keeps the log for us; one for all tables of the connection; without it run makes one",
    )
    .with(&["publication"]),
    OptionSpec::optional(
        "publication",
        ValueKind::Text,
        "the publication to read; without it, `run` creates one and adds the tables to it",
    )
    .with(&["slot"]),
    OptionSpec::with_default(
        "log_warning",
        ValueKind::Size,
        "4GiB",
        "status and check warn when the server keeps more of its log for us",
    )
    .with(&["log_limit"]),
    OptionSpec::optional(
        "log_limit",
        ValueKind::Size,
        "when the server keeps more of its log for us than this, run gives the slot up rather than fill the server's \
         disk; the tables must then be loaded again",
    )
    .with(&["log_warning"]),
];

/// The slot's name: as given, or one that no other project has.
pub(super) fn name(settings: &[Settings]) -> String {
    if let Some(given) = settings.iter().find_map(|s| s.options.text("slot")) {
        return given;
    }
    let first = &settings[0];
    let mut hash = Sha256::new();
    hash.update(first.root.to_string_lossy().as_bytes());
    hash.update(first.label.as_bytes());
    let digest: String = hash.finalize().iter().take(4).map(|b| format!("{b:02x}")).collect();
    let pipeline = first.label.split('.').next().unwrap_or_default().to_lowercase();
    let plain: String = pipeline.chars().map(|c| if c.is_ascii_alphanumeric() { c } else { '_' }).take(40).collect();
    format!("sluice_{plain}_{digest}")
}

/// Which server and log it is.
fn identify(feed: &PostgresFeed) -> Outcome<(String, u32)> {
    let rows = wait(async {
        let mut wire = Wire::connect(&feed.server).await.map_err(|e| wire::failed(&feed.server.shown(), e))?;
        wire::ask(&mut wire, "IDENTIFY_SYSTEM").await
    })?;
    let text = |i: usize| rows.first().and_then(|row| row.get(i).cloned().flatten()).unwrap_or_default();
    Ok((text(0), text(1).parse().unwrap_or(0)))
}

/// Makes publication and slot, or takes those that are there; the position from which on nothing is missed. Where it is to
/// begin `again`, every table takes the place of what has landed of it, and what the slot still keeps is not read.
pub(super) fn make(feed: &PostgresFeed, again: bool) -> Outcome<PartitionPosition> {
    let catalog = feed.catalog()?;
    let (system, timeline) = identify(feed)?;
    let slot = name(&feed.settings);
    // What is unread is newer than this.
    let time = Some(chrono::Utc::now().timestamp_micros());
    let mut state = State { system, timeline, slot: slot.clone(), time, ..State::default() };
    feed.refuse_unlogged(&catalog, &feed.publication(&state))?;
    publish(feed, &catalog, &state)?;
    let at = match at_rest(&catalog, &slot)? {
        Some(there) if there.plugin != "pgoutput" => {
            let message =
                format!("the slot {slot} at {} is read with {}, not with pgoutput", catalog.shown, there.plugin);
            return Err(Failure::new(FailureKind::Configuration, message).with_help("name another slot"));
        }
        Some(there) if there.active => {
            let message = format!("the slot {slot} at {} is in use by another reader", catalog.shown);
            return Err(Failure::new(FailureKind::Configuration, message).with_help("name another slot"));
        }
        // It was given, or made by a start that came no further: what it keeps is all that is needed.
        Some(there) if !there.lost && again => there.confirmed.max(catalog.log_end()?),
        Some(there) if !there.lost => there.confirmed,
        Some(_) => {
            catalog.run(&format!("select pg_drop_replication_slot({})", literal(&slot)))?;
            create(&catalog, &slot)?
        }
        None => create(&catalog, &slot)?,
    };
    reach("feed.slot_made");
    state.read = at;
    bind(feed, &catalog, &mut state)?;
    if again {
        state.replace_all();
    }
    // Rows that were there before stand directly before the first place at which a transaction can stand.
    let position = Position::at(at.saturating_sub(1));
    Ok(PartitionPosition { partition: PARTITION.into(), position, identity: state.note() })
}

/// A slot, once the session of a process that was killed has let go of it.
fn at_rest(catalog: &Catalog, name: &str) -> Outcome<Option<Slot>> {
    let asked = Instant::now();
    loop {
        match catalog.slot(name)? {
            Some(slot) if slot.active && asked.elapsed() < HELD => std::thread::sleep(Duration::from_millis(100)),
            other => return Ok(other),
        }
    }
}

/// Makes a slot. The server waits for transactions that are open, so that none is seen by halves.
fn create(catalog: &Catalog, slot: &str) -> Outcome<u64> {
    let made =
        catalog.rows(&format!("select lsn from pg_create_logical_replication_slot({}, 'pgoutput')", literal(slot)));
    let made = made.map_err(|failure| failure.with_help(REMEDY))?;
    let lsn = made.first().and_then(|row| row.first().cloned().flatten()).and_then(|text| parse_lsn(&text));
    lsn.ok_or_else(|| Failure::internal("the server does not report where its new slot begins"))
}

pub(super) const REMEDY: &str = "`sluice check` lists the required server settings";

/// Makes the publication, or adds to ours what it lacks. Whether anything was added.
fn publish(feed: &PostgresFeed, catalog: &Catalog, state: &State) -> Outcome<bool> {
    let name = feed.publication(state);
    let is_given = feed.settings.iter().any(|s| s.options.is_set("publication"));
    let there = catalog.published(&name)?;
    let quoted = |full: &str| {
        let (schema, table) = super::catalog::split(full);
        format!("{}.{}", quote(&schema), quote(&table))
    };
    let has = |full: &str| there.as_ref().is_some_and(|t| t.iter().any(|name| name == full));
    let missing: Vec<&str> = feed.tables.iter().map(|t| &*t.name).filter(|t| !has(t)).collect();
    if there.is_some() && missing.is_empty() {
        return Ok(false);
    }
    let list = missing.iter().map(|t| quoted(t)).collect::<Vec<_>>().join(", ");
    let statement = match &there {
        None => {
            format!("create publication {} for table {list} with (publish_via_partition_root = true)", quote(&name))
        }
        Some(_) => format!("alter publication {} add table {list}", quote(&name)),
    };
    if is_given {
        let message = format!("the publication {name} at {} does not include {}", catalog.shown, missing.join(", "));
        return Err(Failure::new(FailureKind::Configuration, message).with_help(format!("{statement};")));
    }
    catalog
        .run(&statement)
        .map_err(|failure| failure.with_help(format!("run as a user with the right: {statement};")))?;
    Ok(true)
}

/// Verifies that the server, its log and the slot are those of a position.
pub(super) fn verify(feed: &PostgresFeed, catalog: &Catalog, state: &mut State) -> Outcome<()> {
    let at = state.read;
    let (system, timeline) = identify(feed)?;
    let shown = &catalog.shown;
    let again = format!(
        "to start again: `sluice positions {} --set earliest`. Mirrors are emptied, and every table is loaded again",
        feed.pipeline()
    );
    if system != state.system {
        let message = format!(
            "{shown} is another server than the one that was read: its system is {system}, not {}",
            state.system
        );
        return Err(Failure::findings(message).with_help(again));
    }
    if timeline != state.timeline {
        let parted = wait(async {
            let mut wire = Wire::connect(&feed.server).await.map_err(|e| wire::failed(shown, e))?;
            wire::ask(&mut wire, &format!("TIMELINE_HISTORY {timeline}")).await
        })?;
        let history = parted.first().and_then(|row| row.get(1).cloned().flatten()).unwrap_or_default();
        match left(&history, state.timeline) {
            Some(end) if at <= end => state.timeline = timeline,
            end => {
                let where_ = end.map_or("nowhere".to_string(), show_lsn);
                let message = format!(
                    "{shown} is on timeline {timeline} of its log, which branched off at {where_}; the pipeline has read up to {}",
                    show_lsn(at)
                );
                let help = format!("a standby took over that did not have all that had been read; {again}");
                return Err(Failure::findings(message).with_help(help));
            }
        }
    }
    let Some(slot) = catalog.slot(&state.slot)? else {
        let message = format!("{shown} no longer has the slot {}", state.slot);
        return Err(Failure::findings(message).with_help(format!("it kept the changes since the last run; {again}")));
    };
    if slot.lost {
        let message = format!("{shown} deleted unread log: the slot {} is lost", state.slot);
        let help = format!("max_slot_wal_keep_size at the server bounds what a slot keeps; {again}");
        return Err(Failure::findings(message).with_help(help));
    }
    if slot.confirmed > at {
        let message = format!(
            "the slot {} at {shown} is at {}, beyond the position {} of the pipeline: another reader has used it",
            state.slot,
            show_lsn(slot.confirmed),
            show_lsn(at)
        );
        return Err(Failure::findings(message).with_help(format!("the changes between are lost; {again}")));
    }
    Ok(())
}

/// Where a log left a timeline: lines of number, place and reason.
fn left(history: &str, timeline: u32) -> Option<u64> {
    let line = |line: &str| {
        let mut words = line.split_whitespace();
        (words.next()?.parse::<u32>().ok()? == timeline).then(|| parse_lsn(words.next()?)).flatten()
    };
    history.lines().find_map(line)
}

/// Brings the state up to the tables that are read: new ones begin to be loaded, and so do renamed ones, since they may
/// land elsewhere.
pub(super) fn bind(feed: &PostgresFeed, catalog: &Catalog, state: &mut State) -> Outcome<()> {
    let mut added = publish(feed, catalog, state)?;
    for (table, settings) in feed.tables.iter().zip(&feed.settings) {
        let known = state.tables.get(&*table.name).map(|t| t.id);
        let Some(found) = catalog.table(&table.name)? else { continue };
        if known.is_some_and(|id| id == found.oid || id == 0) {
            continue;
        }
        if known.is_some() && Policy::of(settings) != Policy::Follow {
            return Err(super::schema::recreated(feed, &table.name));
        }
        added = true;
        state.add(&table.name, first_state(&found, settings));
    }
    let new: Vec<u32> = state.tables.values().filter(|t| t.form.is_none()).map(|t| t.id).collect();
    let mut forms = silent::forms(catalog, &new)?;
    for known in state.tables.values_mut().filter(|t| t.form.is_none()) {
        known.form = forms.remove(&known.id);
    }
    state.retain(|name| feed.tables.iter().any(|t| *t.name == *name));
    if added { wait_for_open(catalog) } else { Ok(()) }
}

fn first_state(found: &SourceTable, settings: &Settings) -> TableState {
    let loads = settings.options.text("load").as_deref() != Some("never");
    let since = chrono::Utc::now().timestamp_micros();
    let whole = found.key.is_empty().then(WholeTableState::default);
    TableState {
        id: found.oid,
        columns: found.sent(),
        load: loads.then(|| Load { about: found.about, since, whole, ..Load::default() }),
        ..TableState::default()
    }
}

/// Waits for transactions that were open when a table was published: what they did before is not reported by the log.
fn wait_for_open(catalog: &Catalog) -> Outcome<()> {
    let number = |sql: &str| -> Outcome<u64> {
        let rows = catalog.rows(sql)?;
        Ok(rows.first().and_then(|row| row.first().cloned().flatten()).and_then(|t| t.parse().ok()).unwrap_or(0))
    };
    let until = number("select pg_snapshot_xmax(pg_current_snapshot())")?;
    let started = Instant::now();
    while number("select pg_snapshot_xmin(pg_current_snapshot())")? < until {
        if started.elapsed() > Duration::from_secs(600) {
            return Err(Failure::away(format!("{}: a transaction has been open for ten minutes", catalog.shown))
                .with_help(
                    "a table can be read once those that were open then have ended: select * from pg_stat_activity",
                ));
        }
        std::thread::sleep(Duration::from_millis(20));
    }
    Ok(())
}

impl PostgresFeed {
    /// Drops a slot, once nobody reads it any more.
    pub(super) fn give_up(&self, slot: &str) -> Outcome<()> {
        let catalog = self.catalog()?;
        let mut tries = 100;
        while catalog.slot(slot)?.is_some_and(|s| s.active) && tries > 0 {
            tries -= 1;
            std::thread::sleep(Duration::from_millis(50));
        }
        catalog.run(&format!("select pg_drop_replication_slot({})", literal(slot)))
    }
}

/// Where the feed stands.
pub(super) fn states(feed: &PostgresFeed, positions: &[PartitionPosition]) -> Outcome<Vec<PartitionState>> {
    let catalog = feed.catalog()?;
    let end = catalog.log_end()?;
    let known = positions.iter().find(|p| &*p.partition == PARTITION);
    let state = known.and_then(|k| State::read(&k.identity).ok());
    let slot = match &state {
        Some(state) => catalog.slot(&state.slot)?,
        None => None,
    };
    let first = &feed.settings[0];
    let stand = FeedProgress {
        work: &first.work,
        label: feed.label(),
        state: state.as_ref(),
        at: state.as_ref().map_or(end, |s| s.read),
        end,
        retained_from: slot.as_ref().map_or(end, |s| s.restart),
        warning: first.options.size("log_warning"),
    };
    Ok(vec![stand.partition()])
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case("1\t0/5000028\tno recovery target\n\n2\t0/7000000\tx\n", 1, Some(0x500_0028))]
    #[case("1\t0/5000028\tno\n2\t0/7000000\tx\n", 2, Some(0x700_0000))]
    #[case("1\t0/5000028\tno\n", 3, None)]
    #[case("", 1, None)]
    fn a_history_reports_where_a_timeline_was_left(#[case] history: &str, #[case] line: u32, #[case] end: Option<u64>) {
        assert_eq!(left(history, line), end);
    }
}
