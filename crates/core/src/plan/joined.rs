//! How an event is joined with another one.

use std::collections::BTreeSet;
use std::sync::Arc;

use super::made::{micros, scope_of, time_column};
use super::resolve::Resolver;
use super::{Making, Transform};
use crate::columns::OutputColumn;
use crate::config::{JoinConfig, MadeConfig, OF_WINDOWS};
use crate::expr::{CompareOp, Condition, Expr, Node, ScopeColumn, SelectItem, bind_condition, bind_joined};
use crate::problem::{Place, Problem};
use crate::state::{JoinPlan, JoinSide, LEFT, Nearness, RIGHT, StatePlan};
use crate::types::SqlType;
use crate::units::parse_duration;

/// Two events that are put together.
pub(super) struct BothEvents {
    pub inputs: [Vec<OutputColumn>; 2],
    pub names: [String; 2],
    fields: [usize; 2],
}

impl BothEvents {
    pub(super) fn of(plan: &super::Plan, parents: [usize; 2]) -> Self {
        Self {
            inputs: parents.map(|parent| plan.events[parent].columns.clone()),
            names: parents.map(|parent| plan.events[parent].name.clone()),
            fields: parents.map(|parent| plan.events[parent].fields().len()),
        }
    }

    /// How many columns the first event has.
    pub(super) fn left(&self) -> usize {
        self.inputs[LEFT].len()
    }

    /// The columns of both, each named with its event. Those of an event that may be absent can be null.
    pub(super) fn scope(&self, absent: [bool; 2]) -> Vec<ScopeColumn> {
        let of = |side: usize| {
            let columns = scope_of(&self.inputs[side]).into_iter();
            columns.map(move |c| ScopeColumn {
                name: format!("{}.{}", self.names[side], c.name),
                nullable: c.nullable || absent[side],
                ..c
            })
        };
        of(LEFT).chain(of(RIGHT)).collect()
    }

    /// The columns that a star after the name of an event stands for.
    pub(super) fn stars(&self) -> [(&str, std::ops::Range<usize>); 2] {
        let left = self.left();
        [
            (self.names[LEFT].as_str(), 0..self.fields[LEFT]),
            (self.names[RIGHT].as_str(), left..left + self.fields[RIGHT]),
        ]
    }

    /// The columns of a side among those that are used, by their places in its event.
    fn own<'u>(&self, side: usize, used: &'u [usize]) -> impl Iterator<Item = usize> + use<'u> {
        let left = self.left();
        let of_side = move |column: &&usize| (**column < left) == (side == LEFT);
        used.iter().filter(of_side).map(move |column| if side == LEFT { *column } else { column - left })
    }

    pub(super) fn side(&self, side: usize, used: &[usize], parts: &Parts) -> JoinSide {
        let key = |(number, (exprs, text)): (usize, &([Expr; 2], String))| {
            let (ty, nullable) = (exprs[side].ty, exprs[side].nullable);
            (OutputColumn { name: format!("@key.{number}"), ty, nullable, limit: None }, text.clone())
        };
        JoinSide {
            event: self.names[side].clone(),
            columns: self.own(side, used).map(|column| self.inputs[side][column].clone()).collect(),
            key: parts.keys.iter().enumerate().map(key).collect(),
        }
    }

    /// What is prepared of the rows of a side: the columns that are used, then the parts of the key.
    pub(super) fn items(&self, side: usize, used: &[usize], parts: &Parts, join: &JoinConfig) -> Vec<SelectItem> {
        let columns = self.own(side, used).map(|column| SelectItem::of_column(column, &self.inputs[side][column]));
        let first = if side == LEFT { 0 } else { self.left() };
        let key = |(number, (exprs, text)): (usize, &([Expr; 2], String))| SelectItem {
            name: format!("@key.{number}"),
            expr: exprs[side].with_places(&|column| column - first),
            place: join.on.whole(),
            text: text.clone(),
        };
        columns.chain(parts.keys.iter().enumerate().map(key)).collect()
    }
}

/// What the condition of a join says: equations between both sides, and the rest.
pub(super) struct Parts {
    /// The two sides of each equation, over the columns of both events, and how it is written.
    pub keys: Vec<([Expr; 2], String)>,
    pub rest: Vec<(String, Expr)>,
}

impl Parts {
    pub(super) fn of(condition: Condition, left: usize) -> Self {
        let mut parts = Self { keys: Vec::new(), rest: Vec::new() };
        for (text, expr) in condition.parts {
            let is_of = |expr: &Expr, is_left: bool| {
                let mut read = BTreeSet::new();
                expr.add_columns(&mut read);
                !read.is_empty() && read.iter().all(|column| (*column < left) == is_left)
            };
            match &expr.node {
                Node::Compare(CompareOp::Equal, a, b) if is_of(a, true) && is_of(b, false) => {
                    parts.keys.push(([(**a).clone(), (**b).clone()], text));
                }
                Node::Compare(CompareOp::Equal, a, b) if is_of(a, false) && is_of(b, true) => {
                    parts.keys.push(([(**b).clone(), (**a).clone()], text));
                }
                _ => parts.rest.push((text, expr)),
            }
        }
        parts
    }

    /// The rest as one condition, with the columns at other places.
    fn condition(&self, place: &impl Fn(usize) -> usize) -> Option<Condition> {
        let parts: Vec<(String, Expr)> =
            self.rest.iter().map(|(text, expr)| (text.clone(), expr.with_places(place))).collect();
        let and = |a: Expr, b: Expr| {
            let nullable = a.nullable || b.nullable;
            Expr::new(Node::And(Box::new(a), Box::new(b)), SqlType::Boolean, nullable)
        };
        let expr = parts.iter().map(|(_, expr)| expr.clone()).reduce(and)?;
        Some(Condition { expr, parts })
    }
}

impl Resolver<'_> {
    /// Notes how an event is made of two others; gives its columns.
    pub(super) fn join(
        &mut self,
        made: &MadeConfig,
        join: &JoinConfig,
        parents: [usize; 2],
        index: usize,
    ) -> Option<Vec<OutputColumn>> {
        self.refuse_keys(made, OF_WINDOWS, "window");
        self.refuse_keys(made, &["memory"], "window` or `reference");
        self.check_both(made, join, "join", parents)?;
        let clocks = self.clocks("a join", &join.event.place, parents)?;
        let near = self.near(join);
        let unmatched = match join.options.text("unmatched").as_deref() {
            Some("left") => [true, false],
            Some("right") => [false, true],
            Some("both") => [true, true],
            _ => [false, false],
        };
        let both = BothEvents::of(&self.plan, parents);
        let left = both.left();
        let parts = Parts::of(bind_condition(&join.on, &both.scope([false, false]), self.problems)?, left);
        if parts.keys.is_empty() {
            let message = "a join needs an equation between both events";
            self.problems.add(
                Problem::error("value.type", message, join.on.whole())
                    .with_label("every row would meet every other one")
                    .with_help(format!("write: {}.COLUMN = {}.COLUMN", both.names[LEFT], both.names[RIGHT])),
            );
            return None;
        }
        let Some(text) = &made.columns else {
            self.problems.add(
                Problem::error("key.missing", "a join needs the key `columns`", made.options.place_of("join"))
                    .with_help(format!("what it gives: columns = \"{}.*\"", both.names[LEFT])),
            );
            return None;
        };
        // A row that met none has nothing of the other event.
        let absent = [unmatched[RIGHT], unmatched[LEFT]];
        let select = bind_joined(text, &both.scope(absent), &both.stars(), self.problems);
        let mut used = BTreeSet::new();
        select.iter().for_each(|item| item.expr.add_columns(&mut used));
        parts.rest.iter().for_each(|(_, expr)| expr.add_columns(&mut used));
        let used: Vec<usize> = used.into_iter().collect();
        let place = |column: usize| used.iter().position(|known| *known == column).unwrap_or(0);
        let sides = [LEFT, RIGHT].map(|side| both.side(side, &used, &parts));
        let pairs = JoinPlan::pair_columns(&sides, unmatched);
        let items: Vec<SelectItem> =
            select.into_iter().map(|item| SelectItem { expr: item.expr.with_places(&place), ..item }).collect();
        let select = Transform::new(None, items, &pairs);
        let columns = select.columns.clone();
        let condition = parts.condition(&place);
        let plan = Arc::new(JoinPlan {
            sides,
            near,
            condition,
            select,
            unmatched,
            closes_when_caught_up: made.options.text("close").as_deref() == Some("caught_up"),
            late: micros(made.options.duration("late")),
            idle: micros(made.options.duration("idle")),
            ahead: micros(made.options.duration("ahead")),
            most: usize::try_from(made.options.integer("most")).unwrap_or(usize::MAX),
        });
        for side in [LEFT, RIGHT] {
            let mut items = both.items(side, &used, &parts, join);
            items.push(time_column(clocks[side], &both.inputs[side]));
            let transform = self.prepare(None, items, &both.inputs[side], parents[side]);
            let state = Some(StatePlan::Join(Arc::clone(&plan)));
            self.plan.events[parents[side]].makes.push(Making { unfold: None, event: index, transform, state, side });
        }
        Some(columns)
    }

    /// What a join and a reference refuse.
    pub(super) fn check_both(
        &mut self,
        made: &MadeConfig,
        join: &JoinConfig,
        key: &str,
        parents: [usize; 2],
    ) -> Option<()> {
        let others = ["when", "once", "window", "join"].into_iter().filter(|other| *other != key);
        if let Some(other) = others.into_iter().find(|other| made.options.is_set(other)) {
            let message = format!("`{key}` and `{other}` stand in one event");
            let problem = Problem::error("value.type", message, made.options.place_of(key));
            self.problems.add(problem.with_help("give each an event of its own: one is made of the other"));
        }
        if parents[LEFT] == parents[RIGHT] {
            let message = if key == "join" { "an event is joined with itself" } else { "an event refers to itself" };
            let problem = Problem::error("value.type", message, join.event.place.clone());
            self.problems.add(problem.with_help("make an event of it under another name first: made = { of = \"…\" }"));
            return None;
        }
        Some(())
    }

    /// The time columns of both events.
    pub(super) fn clocks(&mut self, user: &str, place: &Place, parents: [usize; 2]) -> Option<[usize; 2]> {
        let mut found = [0; 2];
        for side in [LEFT, RIGHT] {
            match self.clock(parents[side]) {
                Ok(clock) => found[side] = clock,
                Err(name) => {
                    let message = format!("{user} needs the time of its events, and `{name}` has none");
                    self.problems.add(
                        Problem::error("key.missing", message, place.clone())
                            .with_help(format!("name the field that holds it: [event.{name}] time = \"…\"")),
                    );
                    return None;
                }
            }
        }
        Some(found)
    }

    /// How near the times of both events must be.
    fn near(&mut self, join: &JoinConfig) -> Nearness {
        let options = &join.options;
        let is_set = |key: &str| options.is_set(key);
        let ways = [is_set("within"), is_set("from") || is_set("to"), is_set("window")];
        let mut refuse = |key: &str, message: &str, help: &str| {
            self.problems.add(Problem::error("value.type", message, options.place_of(key)).with_help(help));
        };
        if ways.iter().filter(|way| **way).count() != 1 {
            let help = "write within = \"10m\", or from = \"-2m\" with to = \"10m\", or window = \"1m\"";
            let message = match ways.iter().any(|way| *way) {
                true => "a join says in one way alone how near the times are",
                false => "a join needs to know how near the times of both events are",
            };
            refuse("event", message, help);
        }
        if is_set("window") {
            let length = micros(options.duration("window"));
            if length < 1 {
                refuse("window", "a window has a length", "write window = \"1m\"");
            }
            return Nearness::Window(length.max(1));
        }
        if !ways[1] {
            let within = micros(options.duration("within"));
            return Nearness::Within { from: -within, to: within };
        }
        let mut bound = |key: &str| match options.text(key).map(|text| signed_duration(&text)) {
            Some(Ok(bound)) => bound,
            Some(Err(reason)) => {
                refuse(key, &reason, "write a duration, such as \"-2m\" or \"10m\"");
                0
            }
            None => {
                refuse("event", "`from` and `to` stand together", "write both: from = \"-2m\", to = \"10m\"");
                0
            }
        };
        let (from, to) = (bound("from"), bound("to"));
        if from > to {
            refuse("from", "`from` is later than `to`", "write the earlier bound into `from`");
        }
        Nearness::Within { from: from.min(to), to: to.max(from) }
    }
}

/// A duration that may have a minus before it, in microseconds.
fn signed_duration(text: &str) -> Result<i64, String> {
    let text = text.trim();
    match text.strip_prefix('-') {
        Some(positive) => parse_duration(positive.trim()).map(|duration| -micros(duration)),
        None => parse_duration(text).map(micros),
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case("10m", Ok(600_000_000))]
    #[case("-2m", Ok(-120_000_000))]
    #[case(" - 1s ", Ok(-1_000_000))]
    #[case("0s", Ok(0))]
    #[case("soon", Err(()))]
    #[case("--2m", Err(()))]
    fn durations_may_be_negative(#[case] text: &str, #[case] expected: Result<i64, ()>) {
        assert_eq!(signed_duration(text).map_err(drop), expected);
    }
}
