//! Figures over time, from the totals of the ledger, as small plots above each other.

use sluice_connect::ledgers::sqlite::history::PeriodTotals;
use sluice_core::units::{show_count, show_duration};

use super::svg::{Anchor, Face, Svg};
use super::{ALARM, FAINT, INK, WATER};
use crate::output::times;

const WIDTH: f64 = 760.0;
const LEFT: f64 = 130.0;
const RIGHT: f64 = 20.0;
const PLOT: f64 = 84.0;
const SPACE: f64 = 22.0;
const HEAD: f64 = 44.0;
const FOOT: f64 = 34.0;

/// One plot: its name, its colour, the value of a period, and the value in words.
struct Plot {
    name: &'static str,
    colour: &'static str,
    value: fn(&PeriodTotals) -> u64,
    shown: fn(u64) -> String,
}

const PLOTS: [Plot; 3] = [
    Plot { name: "events read", colour: WATER, value: |period| period.read, shown: show_count },
    Plot { name: "events rejected", colour: ALARM, value: |period| period.rejected, shown: show_count },
    Plot {
        name: "longest batch",
        colour: FAINT,
        value: |period| period.longest,
        shown: |micros| show_duration(std::time::Duration::from_micros(micros)),
    },
];

/// The last so many hours up to `now`, in microseconds since 1970. Hours without a batch stand empty.
pub(crate) fn draw(pipeline: &str, periods: &[PeriodTotals], hours: i64, now: i64) -> String {
    const HOUR: i64 = 3_600_000_000;
    let last = now.div_euclid(HOUR) * HOUR;
    let first = last - (hours - 1) * HOUR;
    let height = HEAD + PLOTS.len() as f64 * (PLOT + SPACE) + FOOT;
    let mut svg = Svg::new(WIDTH, height);
    svg.text((24.0, 26.0), pipeline, Face::new(14.0, INK).bold());
    let range = format!("{} to {} UTC, by hour", &times::second(first)[..16], &times::second(now)[..16]);
    svg.text((WIDTH - RIGHT, 26.0), &range, Face::new(11.0, FAINT).at(Anchor::End));
    let step = (WIDTH - LEFT - RIGHT) / hours as f64;
    for (place, plot) in PLOTS.iter().enumerate() {
        let top = HEAD + place as f64 * (PLOT + SPACE);
        let bottom = top + PLOT;
        let most = periods.iter().filter(|period| period.start >= first).map(plot.value).max().unwrap_or(0);
        svg.text((LEFT - 10.0, top + 10.0), &(plot.shown)(most), Face::new(10.5, FAINT).at(Anchor::End));
        svg.text((24.0, bottom), plot.name, Face::new(11.0, INK));
        svg.line((LEFT, top), (WIDTH - RIGHT, top), "#e3eaec");
        for period in periods.iter().filter(|period| period.start >= first && period.start <= last) {
            let value = (plot.value)(period);
            if value == 0 {
                continue;
            }
            let x = LEFT + (period.start - first).div_euclid(HOUR) as f64 * step;
            // What is small can still be seen.
            let tall = (value as f64 / most as f64 * PLOT).max(1.0);
            let title = format!("{} UTC: {}", &times::second(period.start)[..16], (plot.shown)(value));
            svg.with_title(&title, |svg| {
                svg.rect((x, bottom - tall, (step - 1.0).max(0.8), tall), 0.0, plot.colour, "none");
            });
        }
        svg.line((LEFT, bottom), (WIDTH - RIGHT, bottom), FAINT);
    }
    let under = height - FOOT + 12.0;
    svg.text((LEFT, under), &times::second(first)[5..16], Face::new(10.5, FAINT));
    svg.text((WIDTH - RIGHT, under), "now", Face::new(10.5, FAINT).at(Anchor::End));
    svg.end(&format!("figures of {pipeline} over time"))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn each_hour_has_its_bar() {
        let hour = 3_600_000_000;
        let period = |k: i64, read: u64| PeriodTotals { start: k * hour, batches: 1, read, ..PeriodTotals::default() };
        let now = 100 * hour + 5;
        let text = draw("tolls", &[period(10, 9), period(90, 500), period(100, 1_000)], 24, now);
        // Of three periods one is older than a day; none has rejects.
        assert_eq!(text.matches("<title>1970").count(), 2, "{text}");
        assert!(text.contains(">1,000</text>") && text.contains("longest batch"), "{text}");
        // Nothing at all can be drawn as well.
        assert!(draw("tolls", &[], 24, now).contains("events read"));
    }
}
