//! A star in a select list: all columns, but for some, or with other values for some.

use sqlparser::ast::{self, WildcardAdditionalOptions};

use super::{Binder, SelectItem, Stars, own_name};
use crate::expr::{Expr, ScopeColumn};
use crate::problem::Problem;
use crate::types::SqlType;

impl Binder<'_, '_> {
    /// The columns of one event of a join: `EVENT.*`.
    pub(super) fn all_columns_of(
        &mut self,
        stars: Stars<'_>,
        name: &ast::ObjectName,
        options: WildcardAdditionalOptions,
    ) -> Vec<SelectItem> {
        let parts = name.0.iter().filter_map(|part| part.as_ident()).map(|ident| ident.value.as_str());
        let event = parts.collect::<Vec<_>>().join(".");
        if let Some((_, range)) = stars.events.iter().find(|(known, _)| known.eq_ignore_ascii_case(&event)) {
            let mut items = self.all_columns(range.clone(), options);
            items.iter_mut().for_each(|item| item.name = own_name(&item.name).to_string());
            return items;
        }
        let problem = Problem::error(
            "name.unknown",
            format!("no event `{event}` is joined here"),
            self.sql.piece_place(self.piece),
        )
        .with_label("binds to nothing")
        .with_nearest(&event, "events", stars.events.iter().map(|(event, _)| *event));
        self.problems.add(problem);
        Vec::new()
    }

    /// The columns of the scope at some places. `except` leaves columns out, `replace` computes them; nothing else is known.
    pub(super) fn all_columns(
        &mut self,
        star: std::ops::Range<usize>,
        options: WildcardAdditionalOptions,
    ) -> Vec<SelectItem> {
        let place = self.sql.piece_place(self.piece);
        let WildcardAdditionalOptions {
            wildcard_token: _,
            opt_ilike,
            opt_exclude,
            opt_except,
            opt_replace,
            opt_rename,
            opt_alias,
        } = options;
        let unknown = [
            ("ilike", opt_ilike.is_some()),
            ("exclude", opt_exclude.is_some()),
            ("rename", opt_rename.is_some()),
            ("as", opt_alias.is_some()),
        ];
        if let Some((word, _)) = unknown.into_iter().find(|(_, is_used)| *is_used) {
            self.problems.add(
                Problem::error("unsupported", format!("`{word}` is not known after a star"), place)
                    .with_label("would change nothing")
                    .with_help("* except (a, b) leaves columns out, * replace (expression as a) computes them"),
            );
            return Vec::new();
        }
        let item = |(i, c): (usize, &ScopeColumn)| SelectItem {
            name: c.name.clone(),
            expr: Expr::of_column(i, c.ty, c.nullable, c.limit),
            place: place.clone(),
            text: c.name.clone(),
        };
        let mut items: Vec<SelectItem> =
            self.scope.iter().enumerate().skip(star.start).take(star.len()).map(item).collect();
        for name in opt_except.into_iter().flat_map(|e| std::iter::once(e.first_element).chain(e.additional_elements)) {
            if let Some(at) = self.of_star(&items, &name) {
                items.remove(at);
            }
        }
        for element in opt_replace.into_iter().flat_map(|r| r.items) {
            let ast::ReplaceSelectElement { expr, column_name, as_keyword: _ } = *element;
            let (at, bound) = (self.of_star(&items, &column_name), self.bind(&expr));
            if let (Some(at), Some(bound)) = (at, bound) {
                items[at].expr = self.typed_as(bound, SqlType::Text);
                items[at].text = expr.to_string();
            }
        }
        items
    }

    /// The place of a column that a star stands for.
    fn of_star(&mut self, items: &[SelectItem], name: &ast::Ident) -> Option<usize> {
        let exact = items.iter().position(|i| i.name == name.value);
        let folded = || items.iter().position(|i| i.name.eq_ignore_ascii_case(&name.value));
        // Columns of a join are named with their event, but within `EVENT.*` their own name does.
        let own = || items.iter().position(|i| own_name(&i.name).eq_ignore_ascii_case(&name.value));
        let found = exact.or_else(folded).or_else(own);
        if found.is_none() {
            let place = self.place(name.span);
            let known: Vec<&str> = items.iter().map(|i| i.name.as_str()).collect();
            self.problems.add(
                Problem::error("name.unknown", format!("the star has no column `{}`", name.value), place)
                    .with_label("binds to nothing")
                    .with_nearest(&name.value, "columns", known.iter().copied()),
            );
        }
        found
    }
}
