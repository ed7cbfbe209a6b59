//! The status for people and for programs.

use std::collections::BTreeMap;
use std::time::Duration;

use serde_json::{Value, json};
use sluice_connect::ledgers::sqlite::notices::NoticeRecord;
use sluice_core::kinds::{RetainedLog, TableLoad};
use sluice_core::ledger::RunEnd;
use sluice_core::printable;
use sluice_core::units::{show_count, show_many, show_share, show_size};

use super::{LandedStatus, Status};
use crate::background::{Answer, Process};
use crate::commands::ledger::fields::drift_lines;
use crate::commands::positions::{Standing, forecast, long, misplaced_text, waiting_text};
use crate::crew::figures::Limit;
use crate::crew::{Doing, MemberReport};
use crate::output::spark::spark;
use crate::output::table::{Align, Table, screen_width};
use crate::output::{self, style, times};
use crate::pipeline_state::PipelineState;

/// Cells of a bar.
const BAR: usize = 20;

pub(super) fn as_text(found: &[Status]) -> String {
    let mut out = String::new();
    if found.is_empty() {
        out.push_str("no pipeline yet: sluice draft writes one from real events\n");
    }
    for (i, status) in found.iter().enumerate() {
        if i > 0 {
            out.push('\n');
        }
        out.push_str(&format!("{} · {}\n", style::bold(&status.name), status.state.shown()));
        if let Some(report) = &status.background {
            out.push_str(&background(&status.name, status.has_changed, report));
        }
        out.push_str(&open_notices(&status.notices));
        if let Some(away) = &status.away {
            out.push_str(&format!("  {} {away}\n", style::bad("!")));
        }
        let is_tried = matches!(status.background, Some(MemberReport { doing: Doing::Waits { .. }, .. }));
        if let Some(end) = status.end.as_ref().filter(|_| status.holder.is_none() && !is_tried) {
            out.push_str(&ended(end));
        }
        for standing in &status.standings {
            out.push_str(&arrival(status, standing));
        }
        out.push_str(&landings(&status.landed));
        out.push_str(&drift_lines(&status.name, &status.drifts));
        for batch in &status.unfinished {
            let waiting: Vec<&str> =
                batch.landings.iter().filter(|l| l.landed_at.is_none()).map(|l| l.landing.as_str()).collect();
            // While somebody works on it, that is not a problem.
            let mark = if status.holder.is_some() { style::dim("→") } else { style::warn("!") };
            out.push_str(&format!(
                "  {mark} batch {} of lane {} is sealed and waits for {}\n",
                batch.number,
                batch.lane,
                if waiting.is_empty() { "its end".to_string() } else { waiting.join(", ") },
            ));
        }
    }
    out
}

/// Notices that have begun and are not over.
pub(super) fn open_notices(notices: &[NoticeRecord]) -> String {
    let mut out = String::new();
    for notice in notices {
        let (name, text) = (&notice.rule, printable::line(&notice.message));
        out.push_str(&format!("  {} {name} ({}): {text}\n", style::bad("!"), times::ago(notice.began_at)));
    }
    out
}

/// A process that ran pipelines in the background, and is no more.
pub(super) fn gone(process: &Process) -> String {
    format!(
        "{} the background process {} ended without settling, for example by a kill; nothing is lost: {}\n\n",
        style::bad("!"),
        process.process,
        style::command("sluice start"),
    )
}

/// What the background process reports about a pipeline.
pub(super) fn background(name: &str, has_changed: bool, report: &MemberReport) -> String {
    let moved = &report.moved;
    let mut out = String::new();
    let mut line = |name: &str, text: String| out.push_str(&format!("  {name:<11}{text}\n"));
    if has_changed {
        let why = "its file or sluice.toml has changed since it was started:";
        line(&style::warn("!"), format!("{why} {}", style::command(&format!("sluice renew {name}"))));
    }
    if let Doing::Waits { reason, failures, .. } = &report.doing {
        line("failed", style::bad(&format!("{reason} ({})", show_many(u64::from(*failures), "time"))));
    }
    if let Some(schedule) = &report.schedule {
        line("schedule", schedule.clone());
    }
    line("since", format!("{} ({})", times::second(report.since), times::ago(report.since)));
    if moved.read > 0 {
        let rate = |rate: f64| show_count(crate::progress::per_second(1, 1.0 / rate.max(1e-9)));
        line(
            "rate",
            format!(
                "{} events/s now · {} over a minute · {} over an hour   {}",
                rate(moved.now),
                rate(moved.minute),
                rate(moved.hour),
                style::dim(spark(&moved.minutes).trim_start()),
            ),
        );
    }
    let mut did = format!("{} read, {} settled", show_many(moved.read, "event"), show_many(moved.batches, "batch"));
    if moved.rejected > 0 {
        did.push_str(&format!(", {}", style::warn(&show_many(moved.rejected, "reject"))));
    }
    if report.retries > 0 {
        did.push_str(&format!(", {}", show_many(report.retries, "retry")));
    }
    line("total", did);
    if !moved.reasons.is_empty() {
        line("rejects", rejects(&moved.reasons));
    }
    if let Some(limit) = &moved.limit {
        line("limited by", limited(limit));
    } else if moved.caught_up {
        line("limited by", style::dim("nothing: it has read everything"));
    }
    for away in &moved.away {
        line(&style::warn("!"), format!("{away}; waiting, nothing is lost"));
    }
    out
}

/// The commonest reasons.
fn rejects(reasons: &BTreeMap<String, u64>) -> String {
    const SHOWN: usize = 3;
    let mut sorted: Vec<(&String, &u64)> = reasons.iter().collect();
    sorted.sort_by(|a, b| b.1.cmp(a.1));
    let texts = sorted.iter().take(SHOWN).map(|(reason, count)| format!("{} {reason}", show_count(**count)));
    let mut text = texts.collect::<Vec<_>>().join(" · ");
    if sorted.len() > SHOWN {
        text.push_str(&format!(
            " · {} for other reasons",
            show_count(sorted[SHOWN..].iter().map(|(_, count)| **count).sum())
        ));
    }
    text
}

/// What limits a pipeline, in one sentence.
fn limited(limit: &Limit) -> String {
    let landing = limit.landing.as_deref().unwrap_or_default();
    let share = show_share(limit.share);
    let (what, doing) = match limit.work.as_str() {
        "reading" => ("its source".to_string(), "reading takes"),
        "limited" => ("`at_most`".to_string(), "waiting for it takes"),
        "decoding" => ("decoding and transforming".to_string(), "all workers are busy"),
        "remembering" => ("stations that remember".to_string(), "they take"),
        "staging" => (format!("the landing {landing}"), "writing its rows takes"),
        "publishing" => (format!("the landing {landing}"), "publishing takes"),
        _ => ("the ledger".to_string(), "writing to it takes"),
    };
    format!("{}: {doing} {share} of the time (lane {})", style::bold(&what), limit.lane)
}

/// Why the last run ended.
fn ended(end: &RunEnd) -> String {
    let mut out = format!("  {} the last run stopped {}: {}\n", style::bad("!"), times::ago(end.at), end.message);
    for line in end.help.iter().flat_map(|help| help.lines()) {
        out.push_str(&format!("    {}\n", style::dim(line)));
    }
    out
}

fn arrival(status: &Status, standing: &Standing) -> String {
    let mut out = format!("\n  {} from {} ({})\n", style::bold(&standing.label), standing.place, standing.kind);
    let mut line = |name: &str, text: String| out.push_str(&format!("    {name:<9}{text}\n"));
    line("behind", behind(standing));
    for (partition, found) in standing.misplaced().into_iter().take(5) {
        line("", style::bad(&misplaced_text(&partition, found)));
    }
    if let Some(backlog) = standing.backlog().filter(|_| standing.misplaced().is_empty()) {
        let runs = matches!(status.state, PipelineState::Runs(_));
        for text in forecast(&status.name, &backlog, standing.pace, runs).lines() {
            out.push_str(&format!("  {text}\n"));
        }
    }
    let mut line = |name: &str, text: String| out.push_str(&format!("    {name:<9}{text}\n"));
    let waiting = standing.states.iter().filter_map(|s| Some((&s.partition, s.waiting.as_ref()?)));
    for (partition, waiting) in waiting.take(5) {
        line("", style::warn(&waiting_text(partition, waiting)));
    }
    let batch = status.settled.iter().find(|(label, _)| *label == standing.label).map(|(_, batch)| batch);
    line(
        "read",
        match batch {
            None => "nothing has settled yet".into(),
            Some(batch) => {
                let ago = batch.settled_at.map_or(String::new(), |at| format!(", settled {}", times::ago(at)));
                let pace = show_count(crate::progress::per_second(1, 1.0 / standing.pace.max(1e-9)));
                format!("{pace} events/s by the last batches; batch {} of {}{ago}", batch.number, batch.lane)
            }
        },
    );
    if let Some((_, remembered)) = status.remembered.iter().find(|(label, _)| *label == standing.label) {
        out.push_str(&remembered.as_text());
    }
    let mut line = |name: &str, text: String| out.push_str(&format!("    {name:<9}{text}\n"));
    for log in standing.states.iter().filter_map(|s| s.retained) {
        line("source log", retained_text(log));
    }
    let loads: Vec<&TableLoad> = standing.states.iter().flat_map(|s| &s.loads).collect();
    if !loads.is_empty() {
        out.push_str(&loads_text(&loads));
    }
    out
}

/// How fresh each landing is.
pub(super) fn landings(landed: &[LandedStatus]) -> String {
    let known: Vec<&LandedStatus> = landed.iter().filter(|landed| landed.landed_at.is_some()).collect();
    if known.is_empty() {
        return String::new();
    }
    let width = known.iter().map(|landed| landed.landing.chars().count()).max().unwrap_or(0);
    let mut out = format!("\n  {}\n", style::bold("landed"));
    for LandedStatus { landing, place, newest, landed_at } in known {
        let last = landed_at.map_or(String::new(), |at| format!("last rows {}", times::ago(at)));
        let newest = newest.map_or(String::new(), |at| format!("newest event {} old, ", age(times::now() - at)));
        out.push_str(&format!("    {landing:<width$}  {newest}{last} {}\n", style::dim(&format!("({place})"))));
    }
    out
}

/// How old something is, in microseconds; a clock elsewhere may be ahead.
fn age(micros: i64) -> String {
    match u64::try_from(micros) {
        Ok(micros) => long(Duration::from_micros(micros)),
        Err(_) => "0 s".into(),
    }
}

/// Events, bytes and seconds.
fn behind(standing: &Standing) -> String {
    if let Some(text) = standing.list_text() {
        return text;
    }
    let (events, bytes) = standing.behind();
    if !standing.misplaced().is_empty() {
        return style::bad("not known: the ledger and the source do not agree");
    }
    if (events, bytes) == (None, None) {
        return "not known".into();
    }
    if standing.positions.is_empty() && standing.states.iter().any(|s| s.retained.is_some()) {
        return "nothing has been read yet: the first run loads the tables".into();
    }
    let left = to_load(standing);
    if events.unwrap_or(0) == 0 && (bytes == Some(0) || bytes.is_none()) {
        let waiting_count: u64 = standing.states.iter().filter_map(|s| s.waiting.as_ref()).map(|w| w.events).sum();
        if waiting_count > 0 {
            let waiting = show_many(waiting_count, "message");
            return style::warn(&format!("nothing readable; {waiting} behind an open transaction"));
        }
        return left.map_or_else(|| style::good("nothing: caught up"), |left| format!("nothing of the log; {left}"));
    }
    let mut parts: Vec<String> = left.into_iter().collect();
    match (events, bytes, standing.log_bytes) {
        (Some(events), ..) => parts.push(show_many(events, "event")),
        (None, Some(bytes), Some(each)) if each > 0.0 => {
            let events = crate::progress::per_second(bytes, each);
            parts.push(format!("about {}", show_many(events, "event")));
        }
        _ => {}
    }
    if let Some(bytes) = bytes {
        parts.push(show_size(bytes));
    }
    if let Some(oldest) = standing.states.iter().filter_map(|s| s.oldest_unread).min() {
        parts.push(long(Duration::from_micros(u64::try_from(times::now() - oldest).unwrap_or(0))));
    }
    parts.join(" · ")
}

/// How much of the tables is left to load.
fn to_load(standing: &Standing) -> Option<String> {
    let mut waiting = standing.states.iter().flat_map(|s| &s.loads).filter(|l| !l.done).peekable();
    waiting.peek()?;
    let rows = waiting.map(|l| l.about.saturating_sub(l.rows)).sum();
    Some(format!("about {} to load", show_many(rows, "row")))
}

fn retained_text(log: RetainedLog) -> String {
    let text = format!("{} kept for this pipeline", show_size(log.bytes));
    match log.bytes > log.warning {
        true => style::warn(&format!("{text}, more than {}: its disk may fill", show_size(log.warning))),
        false => text,
    }
}

fn loads_text(loads: &[&TableLoad]) -> String {
    let mut table = Table::new(&[
        ("    table", Align::Left),
        ("rows", Align::Right),
        ("of about", Align::Right),
        ("", Align::Left),
        ("", Align::Right),
        ("rows/s", Align::Right),
        ("time left", Align::Right),
    ]);
    for load in loads {
        let share = share(load);
        let (rate, left) = match load.rate {
            Some(rate) if rate >= 1.0 => {
                let seconds = load.about.saturating_sub(load.rows) as f64 / rate;
                (show_count(crate::progress::per_second(1, 1.0 / rate)), long(Duration::from_secs_f64(seconds)))
            }
            _ => (String::new(), String::new()),
        };
        let state = if load.done { "loaded".to_string() } else { show_share(share) };
        table.row(vec![
            format!("    {}", load.table),
            show_count(load.rows),
            show_count(load.about.max(load.rows)),
            bar(share),
            state,
            rate,
            left,
        ]);
    }
    format!("\n{}", table.render(screen_width()))
}

fn share(load: &TableLoad) -> f64 {
    match load.done {
        true => 1.0,
        false => (load.rows as f64 / load.about.max(load.rows).max(1) as f64).min(0.99),
    }
}

#[expect(clippy::cast_possible_truncation, clippy::cast_sign_loss, reason = "a share from 0 to 1")]
fn bar(share: f64) -> String {
    let full = ((share.clamp(0.0, 1.0) * BAR as f64) as usize).min(BAR);
    format!("{}{}", "█".repeat(full), "░".repeat(BAR - full))
}

pub(super) fn as_json(found: &[Status], process: Option<&Answer>) {
    let arrival = |status: &Status, standing: &Standing| {
        let (events, bytes) = standing.behind();
        let batch = status.settled.iter().find(|(label, _)| *label == standing.label).map(|(_, batch)| batch);
        json!({
            "arrival": standing.label,
            "connection": standing.place,
            "kind": standing.kind,
            "behind_events": events,
            "behind_bytes": bytes,
            "misplaced": standing
                .misplaced()
                .iter()
                .map(|(partition, found)| json!({ "partition": partition, "found": found }))
                .collect::<Vec<_>>(),
            "behind_since": standing.states.iter().filter_map(|s| s.oldest_unread).min(),
            "events_per_second": standing.pace,
            "last_batch": batch.map(|b| json!({ "lane": b.lane, "number": b.number, "settled_at": b.settled_at })),
            "partitions": standing.states,
            "remembered": status.remembered.iter().find(|(label, _)| *label == standing.label).map(|(_, r)| r.as_json()),
        })
    };
    let one = |status: &Status| -> Value {
        json!({
            "pipeline": status.name,
            "state": status.state.word(),
            "holder": status.holder,
            "background": status.background,
            "files_have_changed": status.has_changed,
            "away": status.away,
            "last_end": status.end,
            "arrivals": status.standings.iter().map(|s| arrival(status, s)).collect::<Vec<_>>(),
            "fields": status.drifts.iter().map(|d| json!({ "event": d.event, "drift": d.drift, "message": d.told })).collect::<Vec<_>>(),
            "landings": status.landed.iter().map(|l| json!({ "landing": l.landing, "connection": l.place, "newest_event": l.newest, "landed_at": l.landed_at })).collect::<Vec<_>>(),
            "notices": status.notices,
            "unfinished": status.unfinished.iter().map(|b| json!({ "lane": b.lane, "number": b.number })).collect::<Vec<_>>(),
        })
    };
    output::json(
        "status",
        json!({ "background": process.map(|answer| &answer.process), "pipelines": found.iter().map(one).collect::<Vec<_>>() }),
    );
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case(0.0, "░░░░░░░░░░░░░░░░░░░░")]
    #[case(0.5, "██████████░░░░░░░░░░")]
    #[case(1.0, "████████████████████")]
    fn a_bar_is_as_long_as_the_share(#[case] share: f64, #[case] expected: &str) {
        assert_eq!(bar(share), expected);
    }

    #[rstest]
    #[case(50, 200, false, 0.25)]
    #[case(300, 200, false, 0.99)]
    #[case(0, 0, true, 1.0)]
    fn what_is_not_done_is_never_whole(
        #[case] rows: u64,
        #[case] about: u64,
        #[case] done: bool,
        #[case] expected: f64,
    ) {
        let load = TableLoad { table: "t".into(), rows, about, done, rate: None };
        assert!((share(&load) - expected).abs() < 1e-9);
    }
}
