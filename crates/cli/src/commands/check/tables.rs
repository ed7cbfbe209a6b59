//! Tables beside what lands in them: the difference, and the statements that fix it.

use serde_json::{Value, json};
use sluice_core::failure::{Failure, Outcome};
use sluice_core::plan::{LandingPlan, Plan};
use sluice_core::table::{TableReport, Verdict};
use sluice_core::units::show_many;

use crate::confirm::confirm;
use crate::output::table::{Align, Table, screen_width};
use crate::output::{self, style};
use crate::project::Project;

/// A landing whose table does not match the rows that will land.
pub(super) struct Differing<'p> {
    pub pipeline: &'p str,
    pub landing: &'p LandingPlan,
    pub report: TableReport,
}

/// The landings of a plan whose tables differ from what lands.
pub(super) fn look<'p>(project: &Project, plan: &'p Plan) -> Vec<Differing<'p>> {
    let around = project.surroundings();
    let differing = |landing: &'p LandingPlan| {
        let settings = around.settings(&landing.connection, &landing.options);
        // What cannot be reached is said as a problem.
        let report = landing.kind.table(&settings, landing.columns()).ok().flatten()?;
        let shows = report.has_errors() || report.lines.iter().any(|l| l.verdict != Verdict::Fits);
        shows.then_some(Differing { pipeline: &plan.pipeline, landing, report })
    };
    plan.landings.iter().filter_map(differing).collect()
}

/// The difference for people.
pub(super) fn show(differing: &Differing<'_>) -> String {
    let Differing { pipeline, landing, report } = differing;
    let state = if report.exists { "" } else { ", which is not there yet" };
    let mut out = format!(
        "\n{} → {} in {}{state}\n",
        style::bold(&format!("{pipeline}.{}", landing.label)),
        report.table,
        landing.connection.name
    );
    let mut table =
        Table::new(&[("column", Align::Left), ("lands", Align::Left), ("there", Align::Left), ("", Align::Left)]);
    for line in report.lines.iter().filter(|_| report.exists) {
        let says = match line.verdict {
            Verdict::Fits => style::good("✓"),
            Verdict::MayRefuse => format!("{} {}", style::warn("!"), line.says),
            _ => format!("{} {}", style::bad("✗"), line.says),
        };
        let shown = |text: &Option<String>| text.clone().unwrap_or_else(|| style::dim("–"));
        table.row(vec![line.column.clone(), shown(&line.lands), shown(&line.there), says]);
    }
    if report.exists && !report.lines.is_empty() {
        out.push_str(&table.render(screen_width()));
    }
    for wrong in &report.wrong {
        out.push_str(&format!(" {} {wrong}\n", style::bad("✗")));
    }
    if let Some(near) = &report.near {
        out.push_str(&format!(" {} did you mean {near}?\n", style::warn("!")));
    }
    for (statements, who) in
        [(&report.statements, "to fix it"), (&report.for_an_administrator, "to fix it, by somebody who may grant it")]
    {
        if !statements.is_empty() {
            out.push_str(&format!("{}\n", style::dim(&format!(" {who}:"))));
            for statement in statements {
                out.push_str(&format!("{};\n", indent(statement)));
            }
        }
    }
    out
}

fn indent(statement: &str) -> String {
    statement.lines().map(|line| format!("   {}", style::command(line))).collect::<Vec<_>>().join("\n")
}

/// The difference for programs.
pub(super) fn as_json(differing: &Differing<'_>) -> Value {
    let mut value = json!(differing.report);
    value["pipeline"] = json!(differing.pipeline);
    value["landing"] = json!(differing.landing.label);
    value["connection"] = json!(differing.landing.connection.name);
    value["fits"] = json!(!differing.report.has_errors());
    value
}

/// Runs the statements, after asking.
pub(super) fn apply(project: &Project, differing: &[Differing<'_>], yes: bool) -> Outcome<bool> {
    let statements: usize = differing.iter().map(|d| d.report.statements.len()).sum();
    if statements == 0 {
        output::note("there is no statement to run\n");
        return Ok(false);
    }
    for one in differing.iter().filter(|d| !d.report.statements.is_empty()) {
        output::note(&show(one));
    }
    if !confirm(&format!("\nrun {}?", show_many(statements as u64, "statement")), yes)? {
        output::note("nothing was changed\n");
        return Ok(false);
    }
    let around = project.surroundings();
    for one in differing {
        let settings = around.settings(&one.landing.connection, &one.landing.options);
        // Two landings may have the same table: what the first has fixed is not fixed again.
        let now = one.landing.kind.table(&settings, one.landing.columns())?;
        let Some(now) = now.filter(|report| !report.statements.is_empty()) else { continue };
        one.landing.kind.apply(&settings, &now.statements).map_err(|failure| Failure {
            message: format!("{}.{}: {}", one.pipeline, one.landing.label, failure.message),
            ..failure
        })?;
        output::note(&format!(
            "{} {}: {} run\n",
            style::good("✓"),
            now.table,
            show_many(now.statements.len() as u64, "statement")
        ));
    }
    Ok(true)
}
