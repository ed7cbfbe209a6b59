//! Two places side by side, their rows matched by key: what arrives beside what has landed.

use std::collections::{BTreeMap, HashMap};

use arrow_array::RecordBatch;
use serde_json::json;
use sluice_core::columns::OutputColumn;
use sluice_core::failure::{Failure, FailureKind, Outcome};
use sluice_core::names;
use sluice_core::run::Stop;
use sluice_core::units::{show_count, show_many};

use super::{Opened, events, open, wanted, window};
use crate::args::{Arguments, OutputKind, PeekArgs};
use crate::output::rows::{Cell, Rows, cut, value_text};
use crate::output::table::screen_width;
use crate::output::{self, style};
use crate::place;
use crate::progress::Counting;
use crate::project::Project;

type Row = Vec<Option<String>>;

/// Rows of one place by their key.
struct Side {
    label: String,
    columns: Vec<OutputColumn>,
    rows: BTreeMap<Vec<String>, Row>,
    /// Rows that have no key, or one that came before.
    without_key: u64,
    doubled: u64,
    /// Records that are not rows.
    broken: u64,
}

pub(super) fn beside(
    arguments: &Arguments,
    args: &PeekArgs,
    project: Option<&Project>,
    places: (&str, &str),
    stop: &Stop,
) -> Outcome<()> {
    if args.raw || args.when.is_some() || args.columns.is_some() {
        return Err(Failure::new(FailureKind::Configuration, "--raw, --when and --columns are for one place")
            .with_help("leave one of the places out"));
    }
    let first = place::find(project, places.0)?;
    let second = place::find(project, places.1)?;
    let declared = [&first, &second].into_iter().find_map(declared_key).unwrap_or_default();
    let mut left = read(open(project, first, args)?, args, stop)?;
    let mut right = read(open(project, second, args)?, args, stop)?;
    let keys = keys(args, declared, &left, &right)?;
    // The first place is a sample; of the second all rows with the sample's keys are looked for.
    let left = left.by_key(&keys, usize::try_from(wanted(args)).unwrap_or(usize::MAX), None)?;
    let right = right.by_key(&keys, usize::MAX, Some(&left))?;
    show(arguments, args, &keys, &left, &right);
    Ok(())
}

fn declared_key(place: &place::Place) -> Option<Vec<String>> {
    let (pipeline, event) = match place {
        place::Place::Arrival(pipeline, i) => (pipeline, pipeline.plan.arrivals[*i].event),
        place::Place::Landing(pipeline, i) => (pipeline, pipeline.plan.landings[*i].event),
        _ => return None,
    };
    Some(pipeline.plan.events[event].key.iter().map(|i| pipeline.plan.events[event].columns[*i].name.clone()).collect())
}

/// Rows that are still to be read.
struct Unread {
    label: String,
    columns: Vec<OutputColumn>,
    /// Records that are not rows.
    broken: u64,
    rows: Box<dyn FnMut() -> Outcome<Option<RecordBatch>>>,
}

fn read(opened: Opened, args: &PeekArgs, stop: &Stop) -> Outcome<Unread> {
    Ok(match opened {
        Opened::Events(mut source) => {
            let sample = source.sample(wanted(args), window(args), stop)?;
            let (columns, batches, broken) = events::rows(&source, &sample);
            let mut batches = batches.into_iter();
            Unread { label: source.label.clone(), columns, broken, rows: Box::new(move || Ok(batches.next())) }
        }
        Opened::Stored(label, mut stored) => {
            let columns = stored.summary().columns.clone();
            Unread { label, columns, broken: 0, rows: Box::new(move || stored.next()) }
        }
    })
}

impl Unread {
    fn find(&self, name: &str) -> Option<usize> {
        self.columns.iter().position(|c| c.name == name)
    }

    /// Reads rows, at most `limit`; only those with a key of `among`, where that is given.
    fn by_key(&mut self, keys: &[String], limit: usize, among: Option<&Side>) -> Outcome<Side> {
        let places: Vec<usize> = keys.iter().filter_map(|k| self.find(k)).collect();
        let mut side = Side {
            label: self.label.clone(),
            columns: self.columns.clone(),
            rows: BTreeMap::new(),
            without_key: 0,
            doubled: 0,
            broken: self.broken,
        };
        let counting = Counting::new("rows looked at");
        let mut read = 0;
        while side.rows.len() < limit
            && let Some(batch) = (self.rows)()?
        {
            read += batch.num_rows() as u64;
            counting.at(read);
            for row in 0..batch.num_rows() {
                let key: Option<Vec<String>> = places.iter().map(|c| value_text(&batch, *c, row)).collect();
                let Some(key) = key else {
                    side.without_key += 1;
                    continue;
                };
                if among.is_some_and(|a| !a.rows.contains_key(&key)) {
                    continue;
                }
                if side.rows.contains_key(&key) {
                    side.doubled += 1;
                    continue;
                }
                let values = (0..self.columns.len()).map(|c| value_text(&batch, c, row)).collect();
                side.rows.insert(key, values);
            }
        }
        counting.finish();
        Ok(side)
    }
}

/// The columns by which rows are matched: as asked, as the event declares, or the first column that both have.
fn keys(args: &PeekArgs, declared: Vec<String>, left: &Unread, right: &Unread) -> Outcome<Vec<String>> {
    let both = |name: &str| left.find(name).is_some() && right.find(name).is_some();
    if !args.key.is_empty() {
        for name in &args.key {
            for side in [left, right] {
                if side.find(name).is_none() {
                    let known = side.columns.iter().map(|c| c.name.as_str());
                    let failure =
                        Failure::new(FailureKind::Configuration, format!("{} has no column `{name}`", side.label));
                    return Err(match names::remedy(name, "columns", known) {
                        Some(help) => failure.with_help(help),
                        None => failure,
                    });
                }
            }
        }
        return Ok(args.key.clone());
    }
    if !declared.is_empty() && declared.iter().all(|name| both(name)) {
        return Ok(declared);
    }
    left.columns.iter().find(|c| both(&c.name)).map(|c| vec![c.name.clone()]).ok_or_else(|| {
        Failure::new(
            FailureKind::Configuration,
            format!("{} and {} have no column in common to match their rows by", left.label, right.label),
        )
        .with_help("peek at each place separately; the landing must keep a column under its name in the event")
    })
}

/// The columns of both, those of the left first; each with its places.
fn all_columns(left: &Side, right: &Side) -> Vec<(String, Option<usize>, Option<usize>)> {
    let find = |side: &Side, name: &str| side.columns.iter().position(|c| c.name == name);
    let mut all: Vec<_> =
        left.columns.iter().enumerate().map(|(i, c)| (c.name.clone(), Some(i), find(right, &c.name))).collect();
    let more = right.columns.iter().enumerate().filter(|(_, c)| find(left, &c.name).is_none());
    all.extend(more.map(|(i, c)| (c.name.clone(), None, Some(i))));
    all
}

fn show(arguments: &Arguments, args: &PeekArgs, keys: &[String], left: &Side, right: &Side) {
    let columns = all_columns(left, right);
    let matched: Vec<_> = left.rows.iter().filter_map(|(k, l)| right.rows.get(k).map(|r| (k, l, r))).collect();
    let only_left = left.rows.len() - matched.len();
    let mut differ: HashMap<&str, u64> = HashMap::new();
    for (_, l, r) in &matched {
        for (name, i, j) in &columns {
            if let (Some(i), Some(j)) = (i, j) {
                *differ.entry(name).or_default() += u64::from(l[*i] != r[*j]);
            }
        }
    }
    if arguments.output == OutputKind::Json {
        let rows: Vec<_> = matched
            .iter()
            .take(args.show)
            .map(|(key, l, r)| {
                let side = |side: &Side, row: &Row| -> serde_json::Map<String, serde_json::Value> {
                    side.columns.iter().zip(row).map(|(c, v)| (c.name.clone(), json!(v))).collect()
                };
                json!({ "key": key, "left": side(left, l), "right": side(right, r) })
            })
            .collect();
        let missing: Vec<_> = left.rows.keys().filter(|k| !right.rows.contains_key(*k)).take(args.show).collect();
        output::json(
            "peek",
            json!({
                "left": left.label, "right": right.label, "key": keys, "matched": matched.len(),
                "only_left": only_left, "first_only_left": missing, "differ": differ,
                "doubled": { "left": left.doubled, "right": right.doubled }, "rows": rows,
            }),
        );
        return;
    }
    let width = screen_width();
    let mut out = format!(
        "{} beside {}, matched by {}\n{} in both, {} only in the first",
        style::bold(&left.label),
        style::bold(&right.label),
        keys.join(", "),
        style::bold(&show_many(matched.len() as u64, "row")),
        show_count(only_left as u64),
    );
    let missing: Vec<String> =
        left.rows.keys().filter(|k| !right.rows.contains_key(*k)).take(3).map(|k| k.join(" ")).collect();
    if !missing.is_empty() {
        out.push_str(&format!(", such as {}", cut(&missing.join(", "), width / 2)));
    }
    out.push('\n');
    for (side, count) in [(left, left.doubled), (right, right.doubled)] {
        if side.broken > 0 {
            let text = format!("{}: {} that cannot be read are left out", side.label, show_many(side.broken, "record"));
            out.push_str(&format!(" {} {text}\n", style::warn("!")));
        }
        if count > 0 {
            let text = format!("{}: {} with a repeated key are left out", side.label, show_many(count, "row"));
            out.push_str(&format!(" {} {text}\n", style::warn("!")));
        }
        if side.without_key > 0 {
            let text = format!("{}: {} without a key are left out", side.label, show_many(side.without_key, "row"));
            out.push_str(&format!(" {} {text}\n", style::warn("!")));
        }
    }
    let mut changed: Vec<_> = differ.iter().filter(|(_, n)| **n > 0).collect();
    changed.sort();
    for (name, count) in changed {
        out.push_str(&format!(" {} {name} differs in {}\n", style::warn("≠"), show_count(*count)));
    }
    for (key, l, r) in matched.iter().take(args.show) {
        out.push_str(&format!("\n{}\n", style::bold(&key.join(" "))));
        let row = |(name, i, j): &(String, Option<usize>, Option<usize>)| {
            let cell = |row: &Row, place: &Option<usize>| match place {
                Some(i) => Cell { text: row[*i].clone(), marked: false },
                None => Cell { text: Some(String::new()), marked: false },
            };
            let (a, mut b) = (cell(l, i), cell(r, j));
            b.marked = i.is_some() && j.is_some() && a.text != b.text;
            vec![Cell { text: Some(name.clone()), marked: false }, a, b]
        };
        let heads = [("column", false), (left.label.as_str(), false), (right.label.as_str(), false)];
        let rows = Rows {
            columns: heads.map(|(n, r)| (n.to_string(), r)).to_vec(),
            rows: columns.iter().map(row).collect(),
            widest: 0,
        };
        out.push_str(&rows.render(width, 2));
    }
    output::print(&out);
}
