//! Has the next run load rows again that differ.

use serde::de::{Deserializer as _, MapAccess, Visitor};
use serde_json::value::RawValue;
use sluice_core::audit::{Difference, DifferenceKind};
use sluice_core::fail_points::reach;
use sluice_core::failure::{Failure, Outcome};
use sluice_core::ledger::Ledger;
use sluice_core::names::shown;
use sluice_core::units::show_many;

use super::Compared;
use crate::args::{Arguments, AuditArgs, OutputKind};
use crate::confirm::confirm;
use crate::output::{self, style};
use crate::project::{LoadedPipeline, Project};

/// Why the ledger's note of a feed changes.
const REASON: &str = "rows of a mirror that differ from the source are loaded again";

/// A table that the next run loads again: its name, and how many rows of it, where not all.
pub(super) struct TableReload {
    pub table: String,
    pub rows: Option<usize>,
}

pub(super) fn reload(
    arguments: &Arguments,
    args: &AuditArgs,
    project: &Project,
    pipeline: &LoadedPipeline,
    ledger: &dyn Ledger,
    compared: &[Compared<'_>],
) -> Outcome<Vec<TableReload>> {
    let name = &pipeline.plan.pipeline;
    let differing = || compared.iter().filter(|c| !c.found.is_same());
    if differing().next().is_none() {
        output::note("no row differs for certain; nothing is loaded again\n");
        return Ok(Vec::new());
    }
    if differing().any(|c| c.found.unsure) {
        return Err(Failure::findings(
            "it is not certain that rows differ: changes have not landed yet, or came meanwhile",
        )
        .with_help(format!("nothing was changed. Let it catch up first: `sluice audit {name} --catch-up --reload`")));
    }
    // Locked until the change is written: nothing moves meanwhile.
    let _lock = ledger.lock(name)?;
    if !ledger.unfinished(name)?.is_empty() {
        return Err(Failure::findings(format!("{name} has sealed batches that are not finished"))
            .with_help(format!("finish them first: `sluice run {name} --until-caught-up`")));
    }
    let around = project.surroundings();
    let (mut changes, mut all) = (Vec::new(), Vec::new());
    for arrival in &pipeline.plan.arrivals {
        let own: Vec<&Compared<'_>> =
            differing().filter(|c| arrival.events().any(|event| event == c.mirror.arrival.event)).collect();
        let known = ledger.positions(name, &arrival.label)?.into_iter().next().filter(|_| !own.is_empty());
        let Some(mut known) = known else { continue };
        for one in own {
            let keys = keys(&one.found.differences, one.found.beyond);
            let found = one.mirror.arrival.view(&around)?.load_again(&known, &keys)?;
            let (position, table, is_all) = found.ok_or_else(|| Failure::internal("a change feed loads its tables"))?;
            known = position;
            all.push(TableReload { table, rows: (!is_all).then_some(keys.len()) });
        }
        changes.push((&arrival.label, known));
    }
    if arguments.output == OutputKind::Text {
        all.iter().for_each(|again| report(&again.table, again.rows));
    }
    if !confirm("load them again?", args.yes)? {
        output::note("nothing was changed\n");
        return Ok(Vec::new());
    }
    for (label, known) in changes {
        reach("positions.before");
        ledger.set_positions(name, label, &[known], REASON)?;
        reach("positions.after");
    }
    if arguments.output == OutputKind::Text {
        let run = style::command(&format!("sluice run {name} --until-caught-up"));
        output::note(&format!("the next run loads them: {run}\n"));
    }
    Ok(all)
}

fn report(table: &str, rows: Option<usize>) {
    let table = shown(table);
    output::print(&match rows {
        Some(rows) => format!("  {table}: {} will be loaded again\n", show_many(rows as u64, "row")),
        None => format!("  {table}: the mirror will be emptied, and all rows loaded again\n"),
    });
}

/// The keys of rows that are loaded again at the source, part by part; none where all of the table has to be: a row that only
/// the mirror has goes with that.
fn keys(differences: &[Difference], beyond: u64) -> Vec<Vec<String>> {
    if beyond > 0 || differences.iter().any(|d| d.kind == DifferenceKind::Extra) {
        return Vec::new();
    }
    let key = |d: &Difference| d.origin.as_deref().and_then(parts);
    differences.iter().map(key).collect::<Option<Vec<_>>>().unwrap_or_default()
}

/// The values of a JSON object in their order, as texts; None where one is null or has parts.
fn parts(object: &str) -> Option<Vec<String>> {
    struct Members;
    impl<'d> Visitor<'d> for Members {
        type Value = Vec<Box<RawValue>>;

        fn expecting(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
            f.write_str("an object")
        }

        fn visit_map<A: MapAccess<'d>>(self, mut map: A) -> Result<Self::Value, A::Error> {
            let mut values = Vec::new();
            while let Some((_, value)) = map.next_entry::<String, Box<RawValue>>()? {
                values.push(value);
            }
            Ok(values)
        }
    }
    let values = serde_json::Deserializer::from_str(object).deserialize_map(Members).ok()?;
    // Numbers keep their digits.
    let text = |value: Box<RawValue>| match value.get().as_bytes().first() {
        Some(b'"') => serde_json::from_str(value.get()).ok(),
        Some(b'n' | b'[' | b'{') | None => None,
        Some(_) => Some(value.get().to_string()),
    };
    values.into_iter().map(text).collect()
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case(r#"{"b":"x","a":7}"#, "x 7")]
    #[case(r#"{"a":true,"b":1.50}"#, "true 1.50")]
    #[case(r#"{"a":null}"#, "none")]
    #[case("[1]", "none")]
    fn keys_keep_their_order(#[case] object: &str, #[case] expected: &str) {
        assert_eq!(parts(object).map_or("none".to_string(), |parts| parts.join(" ")), expected);
    }

    #[rstest]
    #[case(&[DifferenceKind::Missing, DifferenceKind::Differs], 0, 2)]
    #[case(&[DifferenceKind::Missing, DifferenceKind::Extra], 0, 0)]
    #[case(&[DifferenceKind::Missing], 1, 0)]
    fn a_row_that_only_the_mirror_has_goes_with_the_whole_table(
        #[case] kinds: &[DifferenceKind],
        #[case] beyond: u64,
        #[case] expected: usize,
    ) {
        let one = |kind: &DifferenceKind| Difference {
            key: "[7]".into(),
            kind: *kind,
            source: None,
            mirror: None,
            origin: (*kind != DifferenceKind::Extra).then(|| r#"{"id":7}"#.into()),
        };
        let all: Vec<Difference> = kinds.iter().map(one).collect();
        assert_eq!(keys(&all, beyond).len(), expected);
    }
}
