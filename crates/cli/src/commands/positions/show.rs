//! Positions for people and for programs.

use std::time::Duration;

use serde_json::{Value, json};
use sluice_core::forecast::{Backlog, Forecast};
use sluice_core::kinds::{Misplaced, PartitionState, WaitingMessages};
use sluice_core::ledger::{Holder, PositionChange};
use sluice_core::units::{show_count, show_duration, show_many, show_size};
use sluice_core::values::time::show_timestamp;

use super::Standing;
use crate::output::table::{Align, Table, screen_width};
use crate::output::{self, style, times};
use crate::pipeline_state::PipelineState;

/// Less than this share of the retention left is soon.
const SOON: f64 = 0.25;

pub(super) fn as_text(pipeline: &str, state: &PipelineState, standings: &[Standing]) {
    let mut out = format!("{} · {}\n", style::bold(pipeline), state.shown());
    for standing in standings {
        out.push_str(&format!("\n{} at {} ({})\n", style::bold(&standing.label), standing.place, standing.kind));
        if standing.states.is_empty() {
            let text = standing.list_text().unwrap_or_else(|| "no partition is there yet".into());
            out.push_str(&format!("  {text}\n"));
            continue;
        }
        out.push_str(&table(standing));
        out.push_str(&summary(standing));
        let misplaced = standing.misplaced();
        for (partition, found) in misplaced.iter().take(5) {
            out.push_str(&format!("  {} {}\n", style::bad("!"), misplaced_text(partition, *found)));
        }
        for state in &standing.states {
            if let Some(waiting) = &state.waiting {
                out.push_str(&format!("  {} {}\n", style::warn("!"), waiting_text(&state.partition, waiting)));
            }
        }
        if let Some(backlog) = standing.backlog().filter(|_| misplaced.is_empty()) {
            out.push_str(&forecast(pipeline, &backlog, standing.pace, matches!(state, PipelineState::Runs(_))));
        }
    }
    output::print(&out);
}

fn table(standing: &Standing) -> String {
    let knows_time = standing.states.iter().any(|s| s.oldest_unread.is_some() || s.retention.is_some());
    let mut headings = vec![
        ("partition", Align::Left),
        ("earliest", Align::Right),
        ("ledger", Align::Right),
        ("latest", Align::Right),
        ("behind", Align::Right),
    ];
    if knows_time {
        headings.extend([("oldest unread", Align::Left), ("retention", Align::Right), ("expires", Align::Left)]);
    }
    let mut table = Table::new(&headings);
    for state in &standing.states {
        let position = standing.position(&state.partition).map_or("none".to_string(), |p| count(p.position.major));
        let behind = match (state.events, state.bytes) {
            (Some(events), _) => show_count(events),
            (None, Some(bytes)) => show_size(bytes),
            _ => "?".into(),
        };
        let mut row =
            vec![state.partition.to_string(), count(state.earliest.major), position, count(state.latest.major), behind];
        if knows_time {
            row.push(state.oldest_unread.map(times::ago).unwrap_or_default());
            row.push(state.retention.map_or("ever".into(), |r| long(micros(r))));
            row.push(expires(state));
        }
        table.row(row);
    }
    table.render(screen_width())
}

fn count(n: u64) -> String {
    show_count(n)
}

fn micros(n: i64) -> Duration {
    Duration::from_micros(u64::try_from(n).unwrap_or(0))
}

/// A long time in its two largest units.
pub(crate) fn long(duration: Duration) -> String {
    let seconds = duration.as_secs();
    let (days, hours, minutes) = (seconds / 86_400, seconds / 3_600 % 24, seconds / 60 % 60);
    match (days, hours, minutes) {
        (0, 0, 0) => format!("{seconds} s"),
        (0, 0, m) if m < 10 && !seconds.is_multiple_of(60) => format!("{m} min {} s", seconds % 60),
        (0, 0, m) => format!("{m} min"),
        (0, h, 0) => format!("{h} h"),
        (0, h, m) => format!("{h} h {m} min"),
        (d, 0, _) => show_many(d, "day"),
        (d, h, _) => format!("{} {h} h", show_many(d, "day")),
    }
}

/// When the oldest unread event of a partition expires.
fn expires(state: &PartitionState) -> String {
    let (Some(oldest), Some(retention)) = (state.oldest_unread, state.retention) else { return String::new() };
    let left = oldest + retention - times::now();
    let text = format!("in {}", long(micros(left)));
    match left {
        left if left <= 0 => style::bad("overdue"),
        left if (left as f64) < SOON * retention as f64 => style::warn(&text),
        _ => text,
    }
}

/// What is wrong with a position, and what happens then.
pub(crate) fn misplaced_text(partition: &str, found: Misplaced) -> String {
    match found {
        Misplaced::Beyond(by) => format!(
            "{partition}: the ledger is {} beyond its end: the source lost data or was recreated; the next run stops \
             there",
            show_count(by)
        ),
        Misplaced::Expired(by) => format!(
            "{partition}: {} before its first event: they expired unread; the next run stops at them",
            show_many(by, "position")
        ),
    }
}

/// What waits behind an open transaction.
pub(crate) fn waiting_text(partition: &str, waiting: &WaitingMessages) -> String {
    let since =
        waiting.since.map_or_else(String::new, |at| format!(", the first for {}", long(micros(times::now() - at))));
    format!(
        "{partition}: {} behind {}, from offset {} on{since}; they cannot be read yet",
        show_many(waiting.events, "message"),
        waiting.whose(),
        show_count(waiting.from.major),
    )
}

fn summary(standing: &Standing) -> String {
    if !standing.misplaced().is_empty() {
        return format!(
            "  {}\n",
            style::bad("the ledger and the source do not agree: the number of unread events is unknown")
        );
    }
    let (events, bytes) = standing.behind();
    let exact = events.is_none();
    let mut parts = Vec::new();
    if let Some(events) = events {
        parts.push(show_many(events, "event"));
    }
    if let Some(bytes) = bytes.filter(|b| *b > 0 || exact) {
        parts.push(format!("{}{}", if exact { "" } else { "about " }, show_size(bytes)));
    }
    if let Some(oldest) = standing.states.iter().filter_map(|s| s.oldest_unread).min() {
        parts.push(long(micros(times::now() - oldest)));
    }
    match standing.behind() {
        (Some(0), _) if standing.states.iter().any(|s| s.waiting.is_some()) => {
            "  everything readable has been read\n".into()
        }
        (Some(0), _) | (None, Some(0)) => "  caught up\n".into(),
        _ => format!("  behind by {}\n", parts.join(", ")),
    }
}

/// What will become of the backlog, in words.
pub(crate) fn forecast(pipeline: &str, backlog: &Backlog, pace: f64, runs: bool) -> String {
    let at_rest = backlog.forecast(0.0);
    let reading = backlog.forecast(pace);
    let paces = match pace > 0.0 {
        true => format!("reading {}/s, {}/s arriving", per_second(pace), per_second(backlog.arriving)),
        false => format!("{}/s arriving, never read yet", per_second(backlog.arriving)),
    };
    let mut out = String::new();
    let mut line = |mark: &str, text: String| out.push_str(&format!("  {mark} {text}\n"));
    match at_rest {
        Forecast::CaughtUp => return String::new(),
        Forecast::Overdue => {
            line(
                &style::bad("!"),
                "the oldest unread events have exceeded their retention: they can expire at any moment".into(),
            );
        }
        Forecast::Expires(seconds) if !runs => line(
            &style::warn("!"),
            format!("at rest, unread events begin to expire {} ({})", moment(seconds), within(seconds)),
        ),
        _ => {}
    }
    match reading {
        _ if pace <= 0.0 => {}
        Forecast::CatchesUp(seconds) => {
            let when = if runs { "caught up" } else { "a run is caught up" };
            line(&style::good("→"), format!("{when} {} at the pace of the last batches ({paces})", within(seconds)));
        }
        Forecast::Expires(seconds) => line(
            &style::bad("!"),
            format!(
                "reading does not keep up ({paces}): events expire unread from {} on ({})",
                moment(seconds),
                within(seconds)
            ),
        ),
        Forecast::Grows => line(&style::warn("!"), format!("reading does not keep up ({paces})")),
        Forecast::Overdue | Forecast::CaughtUp => {}
    }
    if !runs {
        line(" ", style::command(&format!("sluice run {pipeline} --until-caught-up")));
    }
    out
}

fn per_second(rate: f64) -> String {
    match rate {
        r if r >= 10.0 => show_count(crate::progress::per_second(1, 1.0 / r)),
        r => format!("{r:.1}"),
    }
}

fn within(seconds: f64) -> String {
    match seconds {
        s if s < 1.0 => format!("in {}", show_duration(Duration::from_secs_f64(s.max(0.0)))),
        s => format!("in {}", long(Duration::from_secs_f64(s.min(1e10)))),
    }
}

/// The moment after so many seconds.
fn moment(seconds: f64) -> String {
    let at = chrono::Duration::try_milliseconds(milliseconds(seconds)).unwrap_or_default();
    let at = times::now().saturating_add(at.num_microseconds().unwrap_or(0));
    format!("{} UTC", &times::second(at))
}

#[expect(clippy::cast_possible_truncation, reason = "bounded before")]
fn milliseconds(seconds: f64) -> i64 {
    (seconds.clamp(0.0, 1e10) * 1e3) as i64
}

pub(super) fn as_json(pipeline: &str, state: &PipelineState, holder: Option<&Holder>, standings: &[Standing]) {
    let arrivals: Vec<Value> = standings.iter().map(arrival).collect();
    output::json(
        "positions",
        json!({ "pipeline": pipeline, "state": state.word(), "holder": holder, "arrivals": arrivals }),
    );
}

fn arrival(standing: &Standing) -> Value {
    let partition = |state: &PartitionState| {
        let position = standing.position(&state.partition);
        json!({
            "partition": state.partition,
            "earliest": state.earliest.major,
            "ledger": position.map(|p| p.position.major),
            "latest": state.latest.major,
            "behind": { "events": state.events, "bytes": state.bytes },
            "waiting": state.waiting.as_ref().map(|waiting| json!({
                "events": waiting.events,
                "from": waiting.from.major,
                "since": waiting.since.map(show_timestamp),
                "writers": waiting.writers,
            })),
            "misplaced": position.and_then(|p| state.misplaced(p)),
            "oldest_unread": state.oldest_unread.map(show_timestamp),
            "retention_seconds": state.retention.map(|r| r as f64 / 1e6),
            "expires": state.oldest_unread.zip(state.retention).map(|(at, retention)| show_timestamp(at + retention)),
        })
    };
    let (events, bytes) = standing.behind();
    let backlog = standing.backlog();
    let reported = |forecast: Forecast| match forecast {
        Forecast::CaughtUp => json!({ "becomes": "caught_up" }),
        Forecast::Grows => json!({ "becomes": "grows" }),
        Forecast::Overdue => json!({ "becomes": "overdue" }),
        Forecast::CatchesUp(seconds) => json!({ "becomes": "catches_up", "seconds": seconds }),
        Forecast::Expires(seconds) => json!({ "becomes": "expires", "seconds": seconds }),
    };
    json!({
        "arrival": standing.label,
        "connection": standing.place,
        "kind": standing.kind,
        "partitions": standing.states.iter().map(partition).collect::<Vec<_>>(),
        "behind": { "events": events, "bytes": bytes },
        "reading_per_second": standing.pace,
        "arriving_per_second": backlog.map(|b| b.arriving),
        "forecast": { "at_rest": backlog.map(|b| reported(b.forecast(0.0))), "running": backlog.map(|b| reported(b.forecast(standing.pace))) },
    })
}

/// The positions that somebody set.
pub(super) fn changes(arguments: &crate::args::Arguments, pipeline: &str, changes: &[PositionChange]) {
    if arguments.output == crate::args::OutputKind::Json {
        return output::json("position-changes", json!({ "pipeline": pipeline, "changes": changes }));
    }
    if changes.is_empty() {
        return output::print(&format!("{}: no position was ever set by hand\n", style::bold(pipeline)));
    }
    let mut table = Table::new(&[
        ("when", Align::Left),
        ("partition", Align::Left),
        ("from", Align::Right),
        ("to", Align::Right),
        ("why", Align::Left),
    ]);
    for change in changes {
        table.row(vec![
            times::second(change.at),
            change.partition.to_string(),
            change.from.map_or("none".into(), |p| show_count(p.major)),
            show_count(change.to.major),
            change.reason.clone(),
        ]);
    }
    output::print(&format!("{}\n{}", style::bold(pipeline), table.render(screen_width())));
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case(42, "42 s")]
    #[case(61, "1 min 1 s")]
    #[case(600, "10 min")]
    #[case(7_200, "2 h")]
    #[case(7_380, "2 h 3 min")]
    #[case(86_400, "1 day")]
    #[case(7 * 86_400 + 3_700, "7 days 1 h")]
    fn long_times(#[case] seconds: u64, #[case] expected: &str) {
        assert_eq!(long(Duration::from_secs(seconds)), expected);
    }
}
