//! How the elements of a list become events.

use super::made::{roots_of, scope_of};
use super::resolve::Resolver;
use super::{Making, Transform};
use crate::columns::OutputColumn;
use crate::config::{EmbeddedText, MadeConfig, OF_CLOSING, OF_WINDOWS};
use crate::expr::{Expr, Node, SelectItem, bind_columns, bind_condition, bind_select};
use crate::flow::Unfold;
use crate::problem::Problem;
use crate::types::SqlType;

impl Resolver<'_> {
    /// `unfold`: a row for each element of a list.
    pub(super) fn unfolding(
        &mut self,
        made: &MadeConfig,
        text: &EmbeddedText,
        parent: usize,
        index: usize,
    ) -> (Making, Vec<OutputColumn>) {
        self.refuse_keys(made, OF_WINDOWS, "window");
        self.refuse_keys(made, OF_CLOSING, "window` or `join");
        self.refuse_keys(made, &["most"], "window`, `join` or `reference");
        self.refuse_keys(made, &["memory"], "window` or `reference");
        self.refuse_keys(made, &["idle", "ahead"], "window`, `join` or `once");
        for root in roots_of(self.config, made) {
            if root.arrivals.iter().any(|arrival| arrival.kind.as_ref().is_some_and(|kind| kind.is_feed())) {
                let message = format!("`{}` arrives as changes of rows, whose lists cannot be unfolded", root.name);
                let help = "what a change takes away from a list would stay where it landed: land the list as json";
                self.problems.add(Problem::error("value.type", message, text.whole()).with_help(help));
            }
        }
        let input = self.plan.events[parent].columns.clone();
        let fields = self.plan.events[parent].fields().len();
        let (list, name) = self.list(text, &input);
        let unfold = Unfold::new(list, &name, &input);
        let scope = scope_of(unfold.columns());
        let when = made.when.as_ref().and_then(|text| bind_condition(text, &scope, self.problems));
        let items = match &made.columns {
            Some(text) => bind_columns(text, &scope, fields, self.problems),
            None => {
                let all = unfold.columns().iter().enumerate();
                let own = all.filter(|(place, _)| *place < fields || *place == input.len());
                own.map(|(place, column)| SelectItem::of_column(place, column)).collect()
            }
        };
        let transform = Transform::new(when, items, unfold.columns());
        let unfold = unfold.keeping(&transform);
        self.read_context(parent, unfold.reads().into_iter());
        let columns = transform.columns.clone();
        (Making { unfold: Some(unfold), event: index, transform, state: None, side: 0 }, columns)
    }

    /// A list is unfolded by itself: what else is made of its elements is made by events of their own.
    pub(super) fn refuse_beside_unfold(&mut self, made: &MadeConfig) {
        if made.unfold.is_none() {
            return;
        }
        for key in ["once", "window", "join", "reference"].iter().filter(|key| made.options.is_set(key)) {
            let message = format!("`unfold` and `{key}` stand in one event");
            let problem = Problem::error("value.type", message, made.options.place_of(key));
            self.problems.add(problem.with_help("give each an event of its own: the second is made of the first"));
        }
    }

    /// The list and its name.
    fn list(&mut self, text: &EmbeddedText, input: &[OutputColumn]) -> (Expr, String) {
        let nothing = || (Expr::new(Node::Now, SqlType::Json, true), "item".to_string());
        let before = self.problems.iter().count();
        let mut items = bind_select(text, &scope_of(input), self.problems);
        if self.problems.iter().count() > before {
            return nothing();
        }
        let (Some(item), true) = (items.pop(), items.is_empty()) else {
            let problem = Problem::error("value.type", "`unfold` takes one list", text.whole());
            self.problems.add(problem.with_help("unfold the second one in an event that is made of this one"));
            return nothing();
        };
        if item.expr.ty != SqlType::Json {
            let message = format!("`unfold` takes json, and this is {}", item.expr.ty);
            let problem = Problem::error("type.mismatch", message, item.place);
            self.problems.add(problem.with_help("declare the field as json, or cast it: cast(items as json) as item"));
            return nothing();
        }
        if let Some(taken) = Unfold::element(&item.name).iter().find(|c| input.iter().any(|i| i.name == c.name)) {
            let message = format!("there is a column `{}` already", taken.name);
            let problem = Problem::error("name.taken", message, item.place);
            self.problems.add(problem.with_help("name the element with `as`: items as item"));
            return nothing();
        }
        (item.expr, item.name)
    }
}
