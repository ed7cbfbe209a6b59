//! Binds landings: their conditions, select lists, folders and keys, and what they read of a change feed.

use std::collections::BTreeSet;
use std::sync::Arc;

use super::resolve::{FEED, OF_CHANGES, Resolver};
use super::{EventPlan, FeedReads, LandingPlan, PathTemplate, Transform};
use crate::config::{EmbeddedText, EventConfig, LandingConfig, OptionValue, Options};
use crate::context::{CHANGE, plain};
use crate::expr::{ScopeColumn, SelectItem, bind_columns, bind_condition, bind_parts};
use crate::kinds::{ChangeSupport, Computed, MirrorKey};
use crate::problem::{Place, Problem};

impl Resolver<'_> {
    pub(super) fn landing(&mut self, event: &EventConfig, index: usize, landing: &LandingConfig) {
        let input = self.plan.events[index].columns.clone();
        let (when, columns) = (landing.options.sql("when"), landing.options.sql("columns"));
        let beside = landing.kind.as_ref().map_or(&[][..], |k| k.expressions());
        let takes = landing.kind.as_ref().map_or(ChangeSupport::Rows, |k| k.takes(&landing.options));
        let options = keyed(landing, takes, &event.key.value);
        let beside: Vec<_> =
            beside.iter().filter_map(|(key, many)| Some((*key, *many, landing.options.sql(key)?))).collect();
        let transform = self.transform(when, columns, index, &beside, Some((takes, &landing.place)));
        let has_path = landing.kind.as_ref().is_some_and(|k| k.options().iter().any(|o| o.key == "path"));
        let path = match landing.options_template(has_path) {
            Some(text) => PathTemplate::bind(text, &transform.columns, &input, self.problems),
            None => None,
        };
        let most = landing.options.knows("max_folders").then(|| landing.options.integer("max_folders"));
        let most = most.and_then(|most| usize::try_from(most).ok()).unwrap_or(usize::MAX);
        let path = path.map(|path| path.with_most(most));
        if let Some(path) = &path {
            self.read_context(index, path.event_columns());
        }
        let (Some(kind), Some(connection)) = (&landing.kind, &landing.connection) else { return };
        if !self.problems.has_errors() {
            // Columns that do not bind are no ground to judge keys by.
            let found = kind.check_keys(&options, &transform.columns);
            found.into_iter().for_each(|problem| self.problems.add(problem));
        }
        self.note_computed(index, when, columns, &transform);
        if kind.takes(&options) == ChangeSupport::Mirror {
            self.note_mirror(index, &format!("{}.{}", event.name, landing.name), &options, &transform);
        }
        self.plan.events[index].landings.push(self.plan.landings.len());
        self.plan.landings.push(LandingPlan {
            event: index,
            label: format!("{}.{}", event.name, landing.name),
            name: landing.name.clone(),
            kind: Arc::clone(kind),
            connection: connection.clone(),
            options,
            transform,
            path,
        });
    }

    /// Notes expressions over several columns, and conditions, for the feed that the event arrives from.
    pub(super) fn note_computed(
        &mut self,
        event: usize,
        when: Option<&EmbeddedText>,
        columns: Option<&EmbeddedText>,
        transform: &Transform,
    ) {
        let plan = &self.plan.events[event];
        let Some(contract) = plan.contract.as_ref().filter(|_| plan.context.is_of_changes()) else { return };
        let named = |place: usize| contract.fields.get(place).and_then(|f| f.path.first().cloned());
        let mut found = Vec::new();
        for (reads, text, is_condition) in transform.computed() {
            let Some(source) = (if is_condition { when } else { columns }) else { continue };
            let columns = reads.into_iter().filter_map(named);
            found.extend(columns.map(|column| Computed { column, text: text.clone(), place: source.whole() }));
        }
        if let Some(reads) = self.reads_of(event) {
            reads.computed.extend(found);
        }
    }

    /// Follows columns of an event that is made of another back to the event that arrives: which one it is, and which of
    /// its columns they are computed from.
    fn arrived(&self, event: usize, columns: BTreeSet<usize>) -> (usize, BTreeSet<usize>) {
        let made_of = |(parent, plan): (usize, &EventPlan)| {
            plan.makes.iter().find(|making| making.event == event).map(|making| (parent, making.transform.clone()))
        };
        let Some((parent, transform)) = self.plan.events.iter().enumerate().find_map(made_of) else {
            return (event, columns);
        };
        let mut read = BTreeSet::new();
        for place in columns {
            match transform.expression(place) {
                Some(expr) => expr.add_columns(&mut read),
                None => drop(read.insert(place)),
            }
        }
        self.arrived(parent, read)
    }

    /// What is read of an event that arrives from a change feed.
    fn reads_of(&mut self, event: usize) -> Option<&mut FeedReads> {
        self.plan.arrivals.iter_mut().find_map(|a| {
            let number = a.events().position(|e| e == event)?;
            a.reads.get_mut(number)
        })
    }

    /// Notes by which columns a mirror identifies rows, for the feed that the event arrives from.
    fn note_mirror(&mut self, event: usize, landing: &str, options: &Options, transform: &Transform) {
        let mut read = BTreeSet::new();
        for key in options.texts("key") {
            let Some(place) = transform.columns.iter().position(|c| c.name == key) else { continue };
            match transform.expression(place) {
                Some(expr) => expr.add_columns(&mut read),
                None => drop(read.insert(place)),
            }
        }
        self.note_key(event, landing, &options.place_of("key"), read);
    }

    /// Notes by which columns of an event rows are identified, for the feed that it arrives from.
    pub(super) fn note_key(&mut self, event: usize, of: &str, place: &Place, columns: BTreeSet<usize>) {
        let (event, read) = self.arrived(event, columns);
        let plan = &self.plan.events[event];
        let Some(contract) = plan.contract.as_ref().filter(|_| plan.context.is_of_changes()) else { return };
        let named = |place: usize| contract.fields.get(place).and_then(|f| f.path.first().cloned());
        let columns = read.into_iter().filter_map(named).collect();
        let key = MirrorKey { landing: of.into(), columns, place: place.clone() };
        if let Some(reads) = self.reads_of(event) {
            reads.mirror_keys.push(key);
        }
    }

    fn deletes(&mut self, place: &Place) {
        self.problems.add(
            Problem::error("value.type", "rows of a change feed can be deleted", place.clone())
                .with_label("would keep deleted rows")
                .with_help("mode = \"mirror\" deletes them too; mode = \"changes\" adds each change"),
        );
    }

    /// Binds a condition and a select list over an event's columns. `beside` are further select lists, each with the
    /// key that it stands under, and whether it may have more than one item.
    pub(super) fn transform(
        &mut self,
        when: Option<&EmbeddedText>,
        columns: Option<&EmbeddedText>,
        event: usize,
        beside: &[(&str, bool, &EmbeddedText)],
        landing: Option<(ChangeSupport, &Place)>,
    ) -> Transform {
        let input = self.plan.events[event].columns.clone();
        let fields = self.plan.events[event].fields().len();
        let scope: Vec<ScopeColumn> = input
            .iter()
            .map(|c| ScopeColumn { name: c.name.clone(), ty: c.ty, nullable: c.nullable, limit: c.limit })
            .collect();
        let when = when.and_then(|text| bind_condition(text, &scope, self.problems));
        let mut items = columns.map_or_else(Vec::new, |text| {
            // A star stands for the fields; columns of the origin have to be named.
            let items = bind_columns(text, &scope, fields, self.problems);
            if items.is_empty() && text.text.trim().is_empty() {
                self.problems.add(
                    Problem::error("key.missing", "`columns` names no column", text.whole())
                        .with_help("take the key out to land all fields as they are"),
                );
            }
            items
        });
        let is_feed = self.plan.events[event].context.is_of_changes();
        if columns.is_none() && (fields < input.len() || !beside.is_empty()) {
            items = input[..fields].iter().enumerate().map(|(i, c)| SelectItem::of_column(i, c)).collect();
            if is_feed && landing.is_some_and(|(takes, _)| takes == ChangeSupport::Rows) {
                // Rows of changes say what happened, and in which order.
                for i in (fields..input.len()).filter(|i| OF_CHANGES.contains(&input[*i].name.as_str())) {
                    let short = plain(&input[i].name);
                    let is_taken = input[..fields].iter().any(|f| f.name.eq_ignore_ascii_case(short));
                    let name = if is_taken { format!("origin_{short}") } else { short.to_string() };
                    items.push(SelectItem { name, ..SelectItem::of_column(i, &input[i]) });
                }
            }
        }
        if let Some(change) = input.iter().position(|c| is_feed && c.name == CHANGE) {
            let named = |name: &str| SelectItem { name: name.into(), ..SelectItem::of_column(change, &input[change]) };
            match landing {
                Some((ChangeSupport::Mirror | ChangeSupport::Changes, _)) => {
                    if beside.iter().all(|(key, ..)| *key != "change") {
                        items.push(named("@change"));
                    }
                    items.push(named(FEED));
                }
                Some((ChangeSupport::NoDeletes, place)) => self.deletes(place),
                _ => {}
            }
        }
        for (key, many, text) in beside {
            let parts = bind_parts(text, &scope, self.problems);
            if parts.len() > 1 && !many {
                self.problems.add(
                    Problem::error("value.type", format!("`{key}` is one expression"), parts[1].place.clone())
                        .with_help("join values with ||, as in lock_id || '/' || vessel_no"),
                );
            }
            for mut item in parts {
                item.name = if *many { format!("@{key}.{}", item.name) } else { format!("@{key}") };
                items.push(item);
            }
        }
        let transform = Transform::new(when, items, &input);
        self.read_context(event, transform.event_columns().into_iter());
        transform
    }
}

/// The keys of a landing. One that finds rows by their key does so by that of the event, unless it names its own.
fn keyed(landing: &LandingConfig, takes: ChangeSupport, key: &[String]) -> Options {
    let mut options = landing.options.clone();
    if matches!(takes, ChangeSupport::Mirror | ChangeSupport::NoDeletes) && !key.is_empty() && !options.is_set("key") {
        options.set("key", OptionValue::Texts(key.to_vec()), landing.place.clone());
    }
    options
}

impl LandingConfig {
    fn options_template(&self, has_path: bool) -> Option<&EmbeddedText> {
        if has_path { self.options.sql("path") } else { None }
    }
}
