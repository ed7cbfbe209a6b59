//! Kept files: read, and compared with the present outcome.

use std::collections::BTreeMap;
use std::path::Path;

use serde_json::{Value, json};
use sluice_core::failure::{Failure, Outcome};
use sluice_core::plan::Plan;
use sluice_core::rehearse::compare::{self, EventResult, ExpectedDifference, Key};
use sluice_core::rehearse::kept::{self, KeptSample};
use sluice_core::units::{show_count, show_many};

use crate::args::{Arguments, OutputKind, RehearseArgs};
use crate::exit::Exit;
use crate::output::rows::cut;
use crate::output::table::screen_width;
use crate::output::{self, style};

/// Reads a kept file.
pub(super) fn read(file: &Path) -> Outcome<KeptSample> {
    let text = std::fs::read_to_string(file)
        .map_err(|e| Failure::io("read", file, &e).with_help("make it with `sluice rehearse PIPELINE --keep FILE`"))?;
    kept::read(&file.display().to_string(), &text)
}

/// Differences that are shown.
const SHOWN: usize = 6;

/// Compares, says what differs, and gives the exit.
pub(super) fn compare(
    arguments: &Arguments,
    args: &RehearseArgs,
    plan: &Plan,
    file: &Path,
    expected: &BTreeMap<Key, EventResult>,
    now: &BTreeMap<Key, EventResult>,
) -> Exit {
    let differences = compare::compare(expected, now);
    let exit = if differences.is_empty() { Exit::Fine } else { Exit::Findings };
    if arguments.output == OutputKind::Json {
        let list = documents(&differences);
        output::json("expect", json!({ "pipeline": plan.pipeline, "file": file, "differences": list }));
        return exit;
    }
    output::print(&as_text(args, plan, file, expected.len(), &differences));
    exit
}

fn as_text(args: &RehearseArgs, plan: &Plan, file: &Path, count: usize, differences: &[ExpectedDifference]) -> String {
    let file = file.display();
    let name = style::bold(&plan.pipeline);
    if differences.is_empty() {
        return format!("{} {name}: as {file} expects, {}\n", style::good("✓"), show_many(count as u64, "outcome"));
    }
    let mut out = format!(
        "{} {name}: {} from {file}\n",
        style::bad("✗"),
        style::bad(&show_many(differences.len() as u64, "difference")),
    );
    out.push_str(&listed(differences, "expected"));
    out.push_str(&format!(
        "\nwhere this is as it should be: {}\n",
        style::command(&format!("sluice rehearse {} --events {file} --keep {file} --yes", args.pipeline))
    ));
    out
}

/// Differences in sum, and the first of them in full. `before` is the word for the first outcome.
pub(crate) fn listed(differences: &[ExpectedDifference], before: &str) -> String {
    let width = screen_width().saturating_sub(14).max(30);
    let mut out = String::new();
    let mut summary: BTreeMap<(&str, &str), u64> = BTreeMap::new();
    for difference in differences {
        let what = difference.column.as_deref().unwrap_or("what lands at all");
        *summary.entry((&difference.key.station, what)).or_default() += 1;
    }
    for ((station, what), count) in &summary {
        out.push_str(&format!("  {station}: {what} in {}\n", show_many(*count, "event")));
    }
    let mut last: Option<&Key> = None;
    for difference in differences.iter().take(SHOWN) {
        if last != Some(&difference.key) {
            last = Some(&difference.key);
            let key = &difference.key;
            out.push_str(&format!(
                "\n{} {}\n",
                style::bold(&key.station),
                style::dim(&format!("{} byte {}", key.partition, key.position))
            ));
        }
        let column = difference.column.as_ref().map(|c| format!("  {c}\n")).unwrap_or_default();
        let nothing = || match difference.column {
            Some(_) => "no such column".to_string(),
            None => "nothing: the event did not come here".to_string(),
        };
        let expected = difference.expected.clone().unwrap_or_else(nothing);
        let now = difference.now.clone().unwrap_or_else(nothing);
        out.push_str(&format!(
            "{column}    {before:<8} {}\n    now      {}\n",
            style::good(&cut(&expected, width)),
            style::bad(&cut(&now, width))
        ));
    }
    if differences.len() > SHOWN {
        let more = differences.len() - SHOWN;
        out.push_str(&format!("\n… {} more; --output json gives all\n", show_count(more as u64)));
    }
    out
}

/// The same for JSON.
pub(crate) fn documents(differences: &[ExpectedDifference]) -> Vec<Value> {
    let one = |d: &ExpectedDifference| {
        json!({
            "partition": d.key.partition, "position": d.key.position, "station": d.key.station,
            "column": d.column, "expected": d.expected, "now": d.now,
        })
    };
    differences.iter().map(one).collect()
}
