//! How events are made of others: what is prepared of each row, and what stations that remember do with it.

use std::sync::Arc;
use std::time::Duration;

use super::resolve::Resolver;
use super::{Making, Transform};
use crate::columns::OutputColumn;
use crate::config::{EmbeddedText, EventConfig, MadeConfig, OF_CLOSING, OF_WINDOWS, Options, PipelineConfig};
use crate::expr::{
    BoundCall, Condition, Expr, Node, ScopeColumn, SelectItem, bind_columns, bind_condition, bind_grouped, bind_parts,
};
use crate::kinds::ChangeSupport;
use crate::problem::{Place, Problem};
use crate::state::{
    AggregateCall, FixedShape, OncePlan, SessionShape, StatePlan, WindowPlan, WindowShape, virtual_columns,
};
use crate::types::SqlType;

/// An event counts in so many overlapping windows at most.
const MOST_WINDOWS: i64 = 1_000;

/// The columns of an event as a scope.
pub(super) fn scope_of(columns: &[OutputColumn]) -> Vec<ScopeColumn> {
    columns
        .iter()
        .map(|c| ScopeColumn { name: c.name.clone(), ty: c.ty, nullable: c.nullable, limit: c.limit })
        .collect()
}

pub(super) fn micros(duration: Duration) -> i64 {
    i64::try_from(duration.as_micros()).unwrap_or(i64::MAX)
}

/// The events that arrive of which an event is made.
pub(super) fn roots_of<'c>(config: &'c PipelineConfig, made: &MadeConfig) -> Vec<&'c EventConfig> {
    roots_below(config, made.parents().map(|parent| parent.value.clone()).collect())
}

/// The events that arrive of which some events are made, by their names.
fn roots_below(config: &PipelineConfig, mut open: Vec<String>) -> Vec<&EventConfig> {
    let mut roots: Vec<&EventConfig> = Vec::new();
    let mut seen: Vec<String> = Vec::new();
    while let Some(name) = open.pop() {
        let Some(of) = config.events.iter().find(|e| e.name == name && !seen.contains(&name)) else { continue };
        seen.push(name);
        match &of.made {
            Some(made) => open.extend(made.parents().map(|parent| parent.value.clone())),
            None => roots.push(of),
        }
    }
    roots
}

impl Resolver<'_> {
    /// Notes how an event is made of others; gives its columns.
    pub(super) fn makings(
        &mut self,
        event: &EventConfig,
        made: &MadeConfig,
        parents: &[usize],
        index: usize,
    ) -> Vec<OutputColumn> {
        self.refuse_beside_unfold(made);
        if let (Some(join), [left, right]) = (&made.join, parents) {
            self.check_lane(event, made);
            parents.iter().for_each(|parent| self.refuse_present_values(made, *parent));
            return self.join(made, join, [*left, *right], index).unwrap_or_default();
        }
        if let (Some(reference), [left, right]) = (&made.reference, parents) {
            self.check_lane(event, made);
            parents.iter().for_each(|parent| self.refuse_present_values(made, *parent));
            return self.reference(made, reference, [*left, *right], index).unwrap_or_default();
        }
        let (making, columns) = self.making(event, made, parents[0], index);
        self.plan.events[parents[0]].makes.push(making);
        columns
    }

    /// How an event is made of another one, and which columns it has.
    fn making(
        &mut self,
        event: &EventConfig,
        made: &MadeConfig,
        parent: usize,
        index: usize,
    ) -> (Making, Vec<OutputColumn>) {
        if made.once.is_some() || made.window.is_some() {
            self.check_lane(event, made);
        }
        self.refuse_present_values(made, parent);
        if let Some(text) = &made.unfold {
            return self.unfolding(made, text, parent, index);
        }
        let plain = match (&made.once, &made.window) {
            (None, None) => {
                self.refuse_keys(made, OF_WINDOWS, "window");
                self.refuse_keys(made, OF_CLOSING, "window` or `join");
                self.refuse_keys(made, &["most"], "window`, `join` or `reference");
                self.refuse_keys(made, &["memory"], "window` or `reference");
                self.refuse_keys(made, &["idle", "ahead"], "window`, `join` or `once");
                None
            }
            (Some(_), Some(_)) => {
                let problem =
                    Problem::error("value.type", "`once` and `window` stand in one event", made.of.place.clone());
                self.problems.add(problem.with_help("give each an event of its own: the second is made of the first"));
                None
            }
            (Some(once), None) => {
                self.refuse_keys(made, OF_WINDOWS, "window");
                self.refuse_keys(made, OF_CLOSING, "window` or `join");
                self.refuse_keys(made, &["most"], "window`, `join` or `reference");
                self.refuse_keys(made, &["memory"], "window` or `reference");
                self.once(made, once, parent, index)
            }
            (None, Some(window)) => self.window(made, window, parent, index),
        };
        plain.unwrap_or_else(|| {
            let transform = self.transform(made.when.as_ref(), made.columns.as_ref(), parent, &[], None);
            let columns = transform.columns.clone();
            (Making { unfold: None, event: index, transform, state: None, side: 0 }, columns)
        })
    }

    /// Present values of a group come again and again: what is made of them would count it each time.
    fn refuse_present_values(&mut self, made: &MadeConfig, parent: usize) {
        let of =
            self.made_here(parent).and_then(|(event, making)| self.plan.events[event].makes[making].state.as_ref());
        if matches!(of, Some(StatePlan::Window(window)) if window.gives_changes) {
            let message = format!("`{}` gives each group again with every change", made.of.value);
            self.problems.add(
                Problem::error("event.source", message, made.of.place.clone())
                    .with_label("would count it each time")
                    .with_help("make it of an event that gives closed windows, or land it in a table as it is"),
            );
        }
    }

    pub(super) fn refuse_keys(&mut self, made: &MadeConfig, keys: &[&str], of: &str) {
        for key in keys.iter().filter(|key| made.options.is_set(key)) {
            let problem =
                Problem::error("value.type", format!("`{key}` belongs to `{of}`"), made.options.place_of(key));
            self.problems.add(problem.with_label("has no effect").with_help("take it out"));
        }
    }

    /// A station that remembers needs all of its events in one order.
    fn check_lane(&mut self, event: &EventConfig, made: &MadeConfig) {
        let other = made.reference.as_ref().map(|reference| &reference.event.value);
        let looked_up: Vec<&str> = other
            .map_or_else(Vec::new, |other| roots_below(self.config, [other.clone()].into()))
            .into_iter()
            .map(|root| root.name.as_str())
            .collect();
        let others = made.parents().map(|parent| &parent.value).filter(|parent| Some(*parent) != other).cloned();
        let own: Vec<&str> =
            roots_below(self.config, others.collect()).into_iter().map(|root| root.name.as_str()).collect();
        for root in roots_of(self.config, made) {
            // The latest row of a key is all that a reference needs to know of changes.
            let takes_changes = looked_up.contains(&root.name.as_str()) && !own.contains(&root.name.as_str());
            self.check_lane_of(event, made, root, takes_changes);
        }
    }

    fn check_lane_of(&mut self, event: &EventConfig, made: &MadeConfig, root: &EventConfig, takes_changes: bool) {
        let name = &event.name;
        let mut refuse = |message: String, place: Place, help: &str| {
            self.problems.add(Problem::error("value.type", message, place).with_help(help));
        };
        if root.arrivals.len() > 1 {
            let message = format!("`{name}` remembers events, and `{}` arrives from several places", root.name);
            refuse(message, made.of.place.clone(), "one place with a pattern can take several topics or folders");
        }
        for arrival in &root.arrivals {
            let is_feed = arrival.kind.as_ref().is_some_and(|kind| kind.is_feed());
            if is_feed && takes_changes {
                continue;
            }
            if is_feed {
                let message = format!("`{name}` remembers events, and `{}` arrives as changes of rows", root.name);
                refuse(
                    message,
                    made.of.place.clone(),
                    "rows of a change feed can be looked up by a `reference`; they cannot be gathered, joined or freed of repeated ones",
                );
            } else if arrival.options.integer("lanes") > 1 {
                let message =
                    format!("`{name}` remembers events: the lanes of `{}` would not know of each other", root.name);
                refuse(message, arrival.options.place_of("lanes"), "take `lanes` out");
            }
        }
    }

    /// The time column of the rows that a station takes: the event time, or else the broker's time. The watermark follows the
    /// event that arrives, which needs a time as well.
    ///
    /// # Errors
    /// The event that has no time.
    pub(super) fn clock(&mut self, parent: usize) -> Result<usize, String> {
        let mut root = parent;
        while let Some((above, _)) = self.made_of(root) {
            root = above;
        }
        for event in [root, parent] {
            let plan = &self.plan.events[event];
            let of_broker = || plan.columns.iter().position(|c| c.name == "origin.time");
            let clock = plan.time.or_else(of_broker).ok_or_else(|| plan.name.clone())?;
            self.plan.events[event].clock = Some(clock);
            self.read_context(event, std::iter::once(clock));
        }
        self.plan.events[parent].clock.ok_or_else(|| self.plan.events[parent].name.clone())
    }

    /// An event time that was taken over as it is from the event that another one is made of.
    pub(super) fn inherited_time(&mut self, event: &EventConfig, index: usize) -> Option<usize> {
        let (parent, making) = self.made_of(index).filter(|_| event.time.is_none())?;
        let making = &self.plan.events[parent].makes[making];
        if let Some(StatePlan::Reference(plan)) = &making.state {
            return plan.time_taken_over(self.plan.events[parent].time?, &making.transform);
        }
        if matches!(making.state, Some(StatePlan::Join(_))) {
            return None;
        }
        let time = self.plan.events[parent].time.filter(|_| !matches!(making.state, Some(StatePlan::Window(_))))?;
        let columns = making.transform.columns.len();
        (0..columns)
            .find(|i| match making.transform.expression(*i) {
                Some(expr) => expr.as_column() == Some(time),
                None => *i == time,
            })
            .filter(|i| !making.transform.columns[*i].name.starts_with('@'))
    }

    /// The event of which another one is made, and which of its makings that is.
    pub(super) fn made_here(&self, index: usize) -> Option<(usize, usize)> {
        let all = self.plan.events.iter().enumerate();
        let mut found = all.flat_map(|(parent, e)| e.makes.iter().enumerate().map(move |(i, m)| (parent, i, m.event)));
        found.find(|(_, _, made)| *made == index).map(|(parent, making, _)| (parent, making))
    }

    /// The event that another one is made of, whichever else is put together with it.
    fn made_of(&self, index: usize) -> Option<(usize, usize)> {
        let all = self.plan.events.iter().enumerate();
        let mut found = all.flat_map(|(parent, e)| e.makes.iter().enumerate().map(move |(i, m)| (parent, i, m)));
        let found = found.find(|(_, _, making)| making.event == index && making.side == 0);
        found.map(|(parent, making, _)| (parent, making))
    }

    /// Present values of groups come again and again: only a landing that replaces rows by their key can take them.
    pub(super) fn check_changes(&mut self, event: &EventConfig, parent: usize, making: usize) {
        let making = &self.plan.events[parent].makes[making];
        let Some(StatePlan::Window(window)) = making.state.as_ref().filter(|_| !event.landings.is_empty()) else {
            return;
        };
        if !window.gives_changes {
            return;
        }
        for landing in &event.landings {
            let takes = landing.kind.as_ref().map_or(ChangeSupport::NoDeletes, |kind| kind.takes(&landing.options));
            if takes != ChangeSupport::NoDeletes {
                let message = format!("`{}` would land each present value as a row of its own", landing.name);
                self.problems
                    .add(Problem::error("value.type", message, landing.place.clone()).with_help(
                        "land in a table with mode = \"upsert\" and a key, or take gives = \"changes\" out",
                    ));
            }
        }
    }

    /// `once`: the columns of the event, then the parts of the key, then the time.
    fn once(
        &mut self,
        made: &MadeConfig,
        once: &Options,
        parent: usize,
        index: usize,
    ) -> Option<(Making, Vec<OutputColumn>)> {
        let clock = self.clock(parent).ok();
        let input = self.plan.events[parent].columns.clone();
        let fields = self.plan.events[parent].fields().len();
        let scope = scope_of(&input);
        let when = made.when.as_ref().and_then(|text| bind_condition(text, &scope, self.problems));
        let mut items = match &made.columns {
            Some(text) => bind_columns(text, &scope, fields, self.problems),
            None => input[..fields].iter().enumerate().map(|(i, c)| SelectItem::of_column(i, c)).collect(),
        };
        let columns = items.len();
        let parts = bind_parts(once.sql("key")?, &scope, self.problems);
        let key: Vec<_> = (columns..).zip(&parts).map(|(place, part)| (place, column_of(part))).collect();
        items.extend(parts.into_iter().map(|part| SelectItem { name: format!("@key.{}", part.name), ..part }));
        let time = clock.map(|clock| {
            items.push(time_column(clock, &input));
            items.len() - 1
        });
        let transform = Transform::new(when, items, &input);
        self.read_context(parent, transform.event_columns().into_iter());
        let plan = OncePlan {
            key,
            time,
            columns,
            within: micros(once.duration("within")),
            idle: micros(made.options.duration("idle")),
            ahead: micros(made.options.duration("ahead")),
        };
        let columns = transform.columns[..columns].to_vec();
        Some((
            Making { unfold: None, event: index, transform, state: Some(StatePlan::Once(Arc::new(plan))), side: 0 },
            columns,
        ))
    }

    /// `window`: the parts of the group, the time, then arguments and conditions of the aggregate functions.
    fn window(
        &mut self,
        made: &MadeConfig,
        window: &Options,
        parent: usize,
        index: usize,
    ) -> Option<(Making, Vec<OutputColumn>)> {
        let shape = self.shape(window);
        let clock = match self.clock(parent) {
            Ok(clock) => clock,
            Err(name) => {
                let message = format!("a window needs the time of its events, and `{name}` has none");
                self.problems.add(
                    Problem::error("key.missing", message, made.of.place.clone())
                        .with_help(format!("name the field that holds it: [event.{name}] time = \"…\"")),
                );
                return None;
            }
        };
        let input = self.plan.events[parent].columns.clone();
        let scope = scope_of(&input);
        let when = made.when.as_ref().and_then(|text| bind_condition(text, &scope, self.problems));
        let mut items = match made.options.sql("group") {
            Some(text) => bind_columns(text, &scope, 0, self.problems),
            None => Vec::new(),
        };
        let groups: Vec<(usize, OutputColumn)> = items.iter().map(column_of).enumerate().collect();
        let Some(text) = &made.columns else {
            self.problems.add(
                Problem::error("key.missing", "a window needs the key `columns`", made.options.place_of("window"))
                    .with_help("what it gives: columns = \"window_start, count(*) as events\""),
            );
            return None;
        };
        let (select, calls) = bind_grouped(text, &scope_of(&virtual_columns(&groups, &[])), &scope, self.problems);
        items.push(time_column(clock, &input));
        let time = items.len() - 1;
        let calls = calls.into_iter().map(|call| prepared(call, text, &mut items)).collect::<Vec<_>>();
        let transform = self.prepare(when, items, &input, parent);
        let select = Transform::new(None, select, &virtual_columns(&groups, &calls));
        let columns = select.columns.clone();
        let plan = WindowPlan {
            shape,
            groups,
            time,
            calls,
            select,
            gives_changes: made.options.text("gives").as_deref() == Some("changes"),
            closes_when_caught_up: made.options.text("close").as_deref() == Some("caught_up"),
            late: micros(made.options.duration("late")),
            idle: micros(made.options.duration("idle")),
            ahead: micros(made.options.duration("ahead")),
            most: usize::try_from(made.options.integer("most")).unwrap_or(usize::MAX),
            in_memory: usize::MAX,
        };
        let plan = plan.within(made.options.size("memory"));
        Some((
            Making { unfold: None, event: index, transform, state: Some(StatePlan::Window(Arc::new(plan))), side: 0 },
            columns,
        ))
    }

    pub(super) fn prepare(
        &mut self,
        when: Option<Condition>,
        items: Vec<SelectItem>,
        input: &[OutputColumn],
        parent: usize,
    ) -> Transform {
        let transform = Transform::new(when, items, input);
        self.read_context(parent, transform.event_columns().into_iter());
        transform
    }

    fn shape(&mut self, window: &Options) -> WindowShape {
        let micros_of = |key: &str| micros(window.duration(key));
        let (length, gap, longest) = (micros_of("length"), micros_of("gap"), micros_of("longest"));
        let every = if window.is_set("every") { micros_of("every") } else { length };
        let mut refuse = |key: &str, message: &str, help: &str| {
            let problem = Problem::error("value.type", message, window.place_of(key));
            self.problems.add(problem.with_help(help));
        };
        let is_session = window.is_set("gap");
        match (window.is_set("length"), is_session) {
            (true, true) => refuse("gap", "a window has either a length or a gap", "take one of them out"),
            (false, false) => {
                let help = "write length = \"1m\", or gap = \"10m\" for sessions";
                refuse("length", "the window has no length", help);
            }
            _ => {}
        }
        let of_other = if is_session { &["every"][..] } else { &["longest"] };
        for key in of_other.iter().filter(|key| window.is_set(key)) {
            let other = if is_session { "length" } else { "gap" };
            refuse(key, &format!("`{key}` belongs to windows with a `{other}`"), "take it out");
        }
        if is_session {
            if gap < 1 {
                refuse("gap", "a session ends after a gap", "write gap = \"10m\"");
            } else if longest < gap {
                refuse("longest", "a session may not be shorter than its gap", "write a longer `longest`");
            }
            let gap = gap.max(1);
            return WindowShape::Session(SessionShape { gap, longest: longest.max(gap) });
        }
        if length < 1 && window.is_set("length") {
            refuse("length", "a window has a length", "write length = \"1m\"");
        } else if length >= 1 && (every < 1 || every > length) {
            let help = "shorter than `length`, windows overlap; without `every` they follow each other";
            refuse("every", "windows begin at least once in their length, or events between them would be lost", help);
        } else if length >= 1 && length / every > MOST_WINDOWS {
            let message = format!("each event would count in {} windows", length / every);
            refuse("every", &message, &format!("at most {MOST_WINDOWS}: let windows begin less often"));
        }
        let length = length.max(1);
        WindowShape::Fixed(FixedShape { length, every: every.clamp(1, length) })
    }
}

/// A column of a select list.
fn column_of(item: &SelectItem) -> OutputColumn {
    OutputColumn { name: item.name.clone(), ty: item.expr.ty, nullable: item.expr.nullable, limit: item.expr.limit }
}

/// The event time as a moment: a day begins at midnight in UTC.
pub(super) fn time_column(clock: usize, input: &[OutputColumn]) -> SelectItem {
    let item = SelectItem { name: "@time".into(), ..SelectItem::of_column(clock, &input[clock]) };
    match input[clock].ty {
        SqlType::Date => {
            let nullable = item.expr.nullable;
            let cast = Node::Cast { inner: Box::new(item.expr), lenient: false };
            SelectItem { expr: Expr::new(cast, SqlType::Timestamptz, nullable), ..item }
        }
        _ => item,
    }
}

/// A call whose argument and condition are prepared columns.
fn prepared(call: BoundCall, text: &EmbeddedText, items: &mut Vec<SelectItem>) -> AggregateCall {
    let mut put = |name: &str, expr: Expr| {
        let name = format!("@{name}.{}", items.len());
        items.push(SelectItem { name, expr, place: text.whole(), text: call.text.clone() });
        items.len() - 1
    };
    let argument = call.argument.map(|expr| {
        let ty = if expr.ty == SqlType::Null { SqlType::Text } else { expr.ty };
        (put("argument", expr), ty)
    });
    let filter = call.filter.map(|expr| put("filter", expr));
    AggregateCall { kind: call.kind, argument, filter, share: call.share, most: call.most, text: call.text }
}
