//! How the rows of an event are looked up for another one.

use std::collections::BTreeSet;
use std::sync::Arc;

use super::joined::{BothEvents, Parts};
use super::made::{micros, scope_of, time_column};
use super::resolve::Resolver;
use super::{Making, Transform};
use crate::columns::OutputColumn;
use crate::config::{JoinConfig, MadeConfig, OF_CLOSING, OF_WINDOWS};
use crate::expr::{SelectItem, bind_condition, bind_joined};
use crate::problem::Problem;
use crate::state::{JoinPlan, JoinSide, LEFT, RIGHT, ReferencePlan, StatePlan};

/// The places of the parts of the key among prepared columns.
fn sides_key(side: &JoinSide) -> std::ops::Range<usize> {
    side.columns.len()..side.columns.len() + side.key.len()
}

impl Resolver<'_> {
    /// Notes how an event is made of another one and of rows that are looked up; gives its columns.
    pub(super) fn reference(
        &mut self,
        made: &MadeConfig,
        reference: &JoinConfig,
        parents: [usize; 2],
        index: usize,
    ) -> Option<Vec<OutputColumn>> {
        self.refuse_keys(made, OF_WINDOWS, "window");
        self.refuse_keys(made, OF_CLOSING, "window` or `join");
        let wait = reference.options.is_set("wait").then(|| micros(reference.options.duration("wait")));
        if wait.is_none() {
            self.refuse_keys(made, &["idle", "ahead"], "window`, `join` or `once`, or to a reference with `wait");
        }
        self.check_both(made, reference, "reference", parents)?;
        let both = BothEvents::of(&self.plan, parents);
        let parts = Parts::of(bind_condition(&reference.on, &both.scope([false, false]), self.problems)?, both.left());
        if parts.keys.is_empty() || !parts.rest.is_empty() {
            let message = "a reference needs equations between both events, and nothing else";
            self.problems.add(
                Problem::error("value.type", message, reference.on.whole())
                    .with_help(format!("write: {}.COLUMN = {}.COLUMN", both.names[LEFT], both.names[RIGHT])),
            );
            return None;
        }
        let Some(text) = &made.columns else {
            self.problems.add(
                Problem::error(
                    "key.missing",
                    "a reference needs the key `columns`",
                    made.options.place_of("reference"),
                )
                .with_help(format!(
                    "what it gives: columns = \"{}.*, {}.COLUMN\"",
                    both.names[LEFT], both.names[RIGHT]
                )),
            );
            return None;
        };
        let is_required = reference.options.text("missing").as_deref() == Some("reject");
        let select = bind_joined(text, &both.scope([false, !is_required]), &both.stars(), self.problems);
        let mut used = BTreeSet::new();
        select.iter().for_each(|item| item.expr.add_columns(&mut used));
        let used: Vec<usize> = used.into_iter().collect();
        let place = |column: usize| used.iter().position(|known| *known == column).unwrap_or(0);
        let sides = [LEFT, RIGHT].map(|side| both.side(side, &used, &parts));
        let pairs = JoinPlan::pair_columns(&sides, [!is_required, false]);
        let items: Vec<SelectItem> =
            select.into_iter().map(|item| SelectItem { expr: item.expr.with_places(&place), ..item }).collect();
        let select = Transform::new(None, items, &pairs);
        let columns = select.columns.clone();
        let mut rights = both.items(RIGHT, &used, &parts, reference);
        let own_scope = scope_of(&both.inputs[RIGHT]);
        let deleted = reference.options.sql("deleted");
        let deleted = deleted.and_then(|text| Some((text, bind_condition(text, &own_scope, self.problems)?)));
        let right = self.plan.arrivals_of(parents[RIGHT]);
        let is_list = right.iter().any(|arrival| self.plan.arrivals[*arrival].is_list());
        let is_feed = right.iter().any(|arrival| self.plan.arrivals[*arrival].kind.is_feed());
        let history = reference.options.is_set("history").then(|| reference.options.duration("history"));
        let history = history.map(micros);
        if history.is_some() && is_feed {
            let place = reference.options.place_of("history");
            self.problems.add(
                Problem::error("value.type", "a change feed reports the latest row alone, and no history", place)
                    .with_help("leave `history` out"),
            );
            return None;
        }
        if let (Some(_), Some(_)) = (history, wait) {
            let place = reference.options.place_of("wait");
            self.problems.add(
                Problem::error("value.type", "an event waits for the latest row, not for one of a history", place)
                    .with_help("leave `history` out, or `wait`"),
            );
            return None;
        }
        let clocks = match history {
            Some(_) => {
                let clocks = self.clocks("a history", &reference.options.place_of("history"), parents)?;
                [Some(clocks[LEFT]), Some(clocks[RIGHT])]
            }
            None if wait.is_some() => {
                let own = [parents[LEFT]; 2];
                let clocks = self.clocks("an event that waits", &reference.options.place_of("wait"), own)?;
                [Some(clocks[LEFT]), self.latest_by(parents[RIGHT], is_list || is_feed)]
            }
            None => [None, self.latest_by(parents[RIGHT], is_list || is_feed)],
        };
        let time = clocks[RIGHT].map(|time| {
            rights.push(time_column(time, &both.inputs[RIGHT]));
            rights.len() - 1
        });
        let deleted = deleted.map(|(text, condition)| {
            let (name, place, text) = ("@deleted".to_string(), text.whole(), text.text.clone());
            rights.push(SelectItem { name, expr: condition.expr, place, text });
            rights.len() - 1
        });
        let plan = ReferencePlan {
            sides,
            select,
            is_required,
            is_list,
            time,
            deleted,
            history,
            wait,
            idle: if wait.is_some() { micros(made.options.duration("idle")) } else { 0 },
            ahead: if wait.is_some() { micros(made.options.duration("ahead")) } else { i64::MAX },
            most: usize::try_from(made.options.integer("most")).unwrap_or(usize::MAX),
            in_memory: usize::MAX,
        };
        let plan = match is_list {
            false => plan.within(made.options.size("memory")),
            true => {
                if made.options.is_set("memory") {
                    let message = "the rows of a list are in memory as a whole: `memory` does not bound them";
                    let problem = Problem::error("value.type", message, made.options.place_of("memory"));
                    self.problems
                        .add(problem.with_label("has no effect").with_help("take it out; `most` bounds their number"));
                }
                plan
            }
        };
        let plan = Arc::new(plan);
        let mut lefts = both.items(LEFT, &used, &parts, reference);
        lefts.extend(clocks[LEFT].map(|time| time_column(time, &both.inputs[LEFT])));
        if is_feed {
            let mut key = BTreeSet::new();
            let range = sides_key(&plan.sides[RIGHT]);
            rights[range].iter().for_each(|item| item.expr.add_columns(&mut key));
            let name = self.config.events.iter().find(|e| e.made.as_ref().is_some_and(|m| std::ptr::eq(m, made)));
            let name = name.map_or_else(String::new, |event| event.name.clone());
            self.note_key(parents[RIGHT], &name, &reference.on.whole(), key);
        }
        for (side, items) in [(LEFT, lefts), (RIGHT, rights)] {
            let transform = self.prepare(None, items, &both.inputs[side], parents[side]);
            if side == RIGHT {
                self.note_computed(parents[RIGHT], None, made.columns.as_ref(), &transform);
            }
            let state = Some(StatePlan::Reference(Arc::clone(&plan)));
            self.plan.events[parents[side]].makes.push(Making { unfold: None, event: index, transform, state, side });
        }
        Some(columns)
    }

    /// The column with the time of a row, by which the later of two rows of a key is found. None where the order in which
    /// rows are read decides: that of the readings of a list, and that of the log of a change feed.
    fn latest_by(&self, event: usize, has_order: bool) -> Option<usize> {
        self.plan.events[event].time.filter(|_| !has_order)
    }
}
