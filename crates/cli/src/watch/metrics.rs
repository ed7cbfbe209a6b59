//! The figures of running pipelines as text of OpenMetrics.

use std::fmt;
use std::sync::Arc;

use prometheus_client::collector::Collector;
use prometheus_client::encoding::{DescriptorEncoder, MetricEncoder};
use prometheus_client::metrics::MetricType;
use prometheus_client::metrics::exemplar::Exemplar;
use prometheus_client::registry::{Registry, Unit};

use crate::crew::figures::LandingFigures;
use crate::crew::{Crew, Doing, MemberReport};

/// One metric: its name without the suffixes that its kind and unit add, its kind, and what it is.
pub(crate) struct Metric {
    /// As in the code.
    name: &'static str,
    kind: MetricKind,
    unit: Option<&'static str>,
    /// One line of help.
    pub about: &'static str,
    /// Its labels.
    pub labels: &'static str,
}

#[derive(Clone, Copy, PartialEq, Eq)]
enum MetricKind {
    Counter,
    Gauge,
    Histogram,
}

const fn counter(name: &'static str, unit: Option<&'static str>, about: &'static str) -> Metric {
    Metric { name, kind: MetricKind::Counter, unit, about, labels: "pipeline" }
}

const fn gauge(name: &'static str, unit: Option<&'static str>, about: &'static str) -> Metric {
    Metric { name, kind: MetricKind::Gauge, unit, about, labels: "pipeline" }
}

/// All metrics, in the order in which they are written. Counters begin at 0 with the process.
pub(crate) const METRICS: &[Metric] = &[
    gauge("sluice_up", None, "1 if the pipeline is running or waiting for its schedule; 0 if it failed or stopped"),
    counter("sluice_events_read", None, "events read"),
    counter("sluice_read", Some("bytes"), "bytes read"),
    counter("sluice_events_rejected", None, "events rejected, in settled batches"),
    counter("sluice_rows_landed", None, "rows landed, in all landings together"),
    counter("sluice_batches_settled", None, "settled batches"),
    counter("sluice_retries", None, "retries after a failure"),
    gauge("sluice_caught_up", None, "1 if everything at the source has been read"),
    gauge("sluice_away", None, "number of sources and stores that do not answer now"),
    Metric {
        name: "sluice_batch_duration",
        kind: MetricKind::Histogram,
        unit: Some("seconds"),
        about: "time from opening a batch to settling it",
        labels: "pipeline",
    },
    Metric {
        name: "sluice_landing_rows",
        kind: MetricKind::Counter,
        unit: None,
        about: "rows landed in one landing",
        labels: "pipeline, landing",
    },
    Metric {
        name: "sluice_landing_newest_event_timestamp",
        kind: MetricKind::Gauge,
        unit: Some("seconds"),
        about: "event time of the newest event that has landed, in seconds since 1970; absent if events have no time",
        labels: "pipeline, landing",
    },
    Metric {
        name: "sluice_landing_delay",
        kind: MetricKind::Histogram,
        unit: Some("seconds"),
        about: "age of the newest event of a batch when it had landed",
        labels: "pipeline, landing",
    },
    Metric {
        name: "sluice_busy",
        kind: MetricKind::Gauge,
        unit: Some("ratio"),
        about: "share of the last minute spent on the work that limits the pipeline; absent if nothing limits it",
        labels: "pipeline, lane, work, landing",
    },
];

impl Metric {
    /// The name under which it is scraped.
    pub(crate) fn full_name(&self) -> String {
        let unit = self.unit.map(|unit| format!("_{unit}")).unwrap_or_default();
        let total = if self.kind == MetricKind::Counter { "_total" } else { "" };
        format!("{}{unit}{total}", self.name)
    }

    /// The word for its kind.
    pub(crate) fn kind_word(&self) -> &'static str {
        match self.kind {
            MetricKind::Counter => "counter",
            MetricKind::Gauge => "gauge",
            MetricKind::Histogram => "histogram",
        }
    }

    fn metric_type(&self) -> MetricType {
        match self.kind {
            MetricKind::Counter => MetricType::Counter,
            MetricKind::Gauge => MetricType::Gauge,
            MetricKind::Histogram => MetricType::Histogram,
        }
    }
}

/// The text of all figures.
///
/// # Errors
/// Where they cannot be formatted.
pub(crate) fn text(crew: &Arc<Crew>) -> Result<String, fmt::Error> {
    let mut registry = Registry::default();
    registry.register_collector(Box::new(Figures(crew.reports())));
    let mut out = String::new();
    prometheus_client::encoding::text::encode(&mut out, &registry)?;
    Ok(out)
}

#[derive(Debug)]
struct Figures(Vec<MemberReport>);

impl Collector for Figures {
    fn encode(&self, mut encoder: DescriptorEncoder<'_>) -> Result<(), fmt::Error> {
        for metric in METRICS {
            let unit = metric.unit.map(|unit| Unit::Other(unit.to_string()));
            let mut family =
                encoder.encode_descriptor(metric.name, metric.about, unit.as_ref(), metric.metric_type())?;
            for report in &self.0 {
                write(&mut family, metric, report)?;
            }
        }
        Ok(())
    }
}

fn write(family: &mut MetricEncoder<'_>, metric: &Metric, report: &MemberReport) -> Result<(), fmt::Error> {
    let (moved, labels) = (&report.moved, [("pipeline", report.pipeline.as_str())]);
    let counted = |family: &mut MetricEncoder<'_>, value: u64| {
        family.encode_family(&labels)?.encode_counter(&value, None::<&Exemplar<[(&str, &str); 0], u64>>)
    };
    let is = |family: &mut MetricEncoder<'_>, value: f64| family.encode_family(&labels)?.encode_gauge(&value);
    match metric.name {
        "sluice_up" => {
            let is_up = !report.doing.is_over() && !matches!(report.doing, Doing::Waits { .. });
            is(family, f64::from(u8::from(is_up)))
        }
        "sluice_events_read" => counted(family, moved.read),
        "sluice_read" => counted(family, moved.bytes),
        "sluice_events_rejected" => counted(family, moved.rejected),
        "sluice_rows_landed" => counted(family, moved.landed),
        "sluice_batches_settled" => counted(family, moved.batches),
        "sluice_retries" => counted(family, report.retries),
        "sluice_caught_up" => is(family, f64::from(u8::from(moved.caught_up))),
        "sluice_away" => is(family, moved.away.len() as f64),
        "sluice_batch_duration" => {
            let took = &moved.took;
            let buckets: Vec<(f64, u64)> = took.buckets().collect();
            family.encode_family(&labels)?.encode_histogram::<[(&str, &str); 0]>(
                took.seconds,
                took.count(),
                &buckets,
                None,
            )
        }
        "sluice_landing_rows" | "sluice_landing_newest_event_timestamp" | "sluice_landing_delay" => {
            moved.landings.iter().try_for_each(|(landing, figures)| {
                write_landing(family, metric.name, [("pipeline", &report.pipeline), ("landing", landing)], figures)
            })
        }
        "sluice_busy" => {
            let Some(limit) = &moved.limit else { return Ok(()) };
            let labels = [
                ("pipeline", report.pipeline.as_str()),
                ("lane", limit.lane.as_str()),
                ("work", limit.work.as_str()),
                ("landing", limit.landing.as_deref().unwrap_or_default()),
            ];
            family.encode_family(&labels)?.encode_gauge(&limit.share)
        }
        _ => Ok(()),
    }
}

fn write_landing(
    family: &mut MetricEncoder<'_>,
    name: &str,
    labels: [(&str, &str); 2],
    figures: &LandingFigures,
) -> Result<(), fmt::Error> {
    let mut family = family.encode_family(&labels)?;
    match (name, figures.newest) {
        ("sluice_landing_rows", _) => family.encode_counter(&figures.rows, None::<&Exemplar<[(&str, &str); 0], u64>>),
        (_, None) => Ok(()),
        ("sluice_landing_newest_event_timestamp", Some(newest)) => family.encode_gauge(&(newest as f64 / 1e6)),
        (_, Some(_)) => {
            let delay = &figures.delay;
            let buckets: Vec<(f64, u64)> = delay.buckets().collect();
            family.encode_histogram::<[(&str, &str); 0]>(delay.seconds, delay.count(), &buckets, None)
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::crew::figures::{Limit, Moved, Took};

    fn report() -> MemberReport {
        let mut took = Took::default();
        [0.05, 0.7, 3.0, 9000.0].iter().for_each(|seconds| took.add(*seconds));
        let limit = Limit {
            lane: "passage.0.0".into(),
            work: "staging".into(),
            landing: Some("passage.archive".into()),
            share: 0.75,
        };
        let moved = Moved {
            read: 12,
            bytes: 340,
            landed: 20,
            batches: 4,
            rejected: 1,
            caught_up: true,
            took: took.clone(),
            landings: [(
                "passage.archive".to_string(),
                LandingFigures { rows: 20, newest: Some(1_775_031_300_500_000), delay: took },
            )]
            .into(),
            limit: Some(limit),
            ..Moved::default()
        };
        MemberReport {
            pipeline: "passages".into(),
            doing: Doing::Runs,
            since: 0,
            retries: 2,
            texts: String::new(),
            schedule: None,
            moved,
        }
    }

    /// Rules and the dashboard name no metric that nobody serves.
    #[test]
    fn what_is_watched_is_served() {
        let served: Vec<String> = METRICS.iter().map(Metric::full_name).collect();
        for text in
            [include_str!("../../../../packaging/alerts.yml"), include_str!("../../../../packaging/dashboard.json")]
        {
            let words = text.split(|c: char| !c.is_ascii_alphanumeric() && c != '_');
            let named: Vec<&str> = words.filter(|word| word.starts_with("sluice_")).collect();
            assert!(named.len() >= 5);
            for name in named {
                assert!(served.iter().any(|known| known == name.trim_end_matches("_bucket")), "{name}");
            }
        }
    }

    #[test]
    fn every_metric_has_its_line() {
        let mut registry = Registry::default();
        registry.register_collector(Box::new(Figures(vec![report()])));
        let mut text = String::new();
        prometheus_client::encoding::text::encode(&mut text, &registry).unwrap();
        for expected in [
            "sluice_up{pipeline=\"passages\"} 1",
            "sluice_events_read_total{pipeline=\"passages\"} 12",
            "sluice_read_bytes_total{pipeline=\"passages\"} 340",
            "sluice_rows_landed_total{pipeline=\"passages\"} 20",
            "sluice_retries_total{pipeline=\"passages\"} 2",
            "sluice_caught_up{pipeline=\"passages\"} 1",
            "sluice_away{pipeline=\"passages\"} 0",
            "sluice_batch_duration_seconds_count{pipeline=\"passages\"} 4",
            "sluice_batch_duration_seconds_bucket{le=\"1.0\",pipeline=\"passages\"} 2",
            "sluice_batch_duration_seconds_bucket{le=\"+Inf\",pipeline=\"passages\"} 4",
            "work=\"staging\",landing=\"passage.archive\"} 0.75",
            "sluice_landing_rows_total{pipeline=\"passages\",landing=\"passage.archive\"} 20",
            "sluice_landing_newest_event_timestamp_seconds{pipeline=\"passages\",landing=\"passage.archive\"} 1775031300.5",
            "sluice_landing_delay_seconds_count{pipeline=\"passages\",landing=\"passage.archive\"} 4",
            "# EOF",
        ] {
            assert!(text.contains(expected), "{expected}\n{text}");
        }
        for metric in METRICS {
            let name = metric.full_name();
            let line = text.lines().any(|line| line.starts_with(&name) || line.starts_with(&format!("{name}_count")));
            assert!(line, "{name}\n{text}");
            assert!(text.contains(&format!("# HELP {}", metric.name)), "{name}\n{text}");
        }
    }
}
