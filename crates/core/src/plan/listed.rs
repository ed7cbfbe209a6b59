//! Lists: what may be made of events that are read whole, again and again.

use super::resolve::Resolver;
use crate::problem::{Place, Problem};

impl Resolver<'_> {
    /// Each reading of a list has all of its rows once more, so that only a reference can take them.
    pub(super) fn check_lists(&mut self) {
        let lists: Vec<usize> = self.plan.arrivals.iter().filter(|a| a.is_list()).map(|a| a.event).collect();
        for list in lists {
            let mut open = vec![list];
            while let Some(event) = open.pop() {
                for landing in self.plan.events[event].landings.clone() {
                    let label = self.plan.landings[landing].label.clone();
                    self.refuse_list(list, &format!("{label} would get its rows"), self.landing_place(event, &label));
                }
                for making in &self.plan.events[event].makes {
                    match &making.state {
                        None if making.unfold.is_none() => open.push(making.event),
                        _ if making.is_looked_up() => {}
                        _ => {
                            let name = self.plan.events[making.event].name.clone();
                            let place = self.made_place(&name);
                            self.refuse_list(list, &format!("`{name}` would get its rows"), place);
                            break;
                        }
                    }
                }
            }
        }
    }

    fn refuse_list(&mut self, list: usize, what: &str, place: Option<Place>) {
        let name = &self.plan.events[list].name;
        let message = format!("`{name}` is a list, which is read whole again and again: {what} each time");
        let place = place.unwrap_or_else(|| self.config.name_place.clone());
        self.problems.add(Problem::error("event.source", message, place).with_help(format!(
            "rows of a list can only be looked up: reference = {{ event = \"{name}\", on = \"…\" }}"
        )));
    }

    fn landing_place(&self, event: usize, label: &str) -> Option<Place> {
        let config = self.config.events.iter().find(|e| e.name == self.plan.events[event].name)?;
        let landing = config.landings.iter().find(|l| format!("{}.{}", config.name, l.name) == label)?;
        Some(landing.place.clone())
    }

    fn made_place(&self, name: &str) -> Option<Place> {
        let config = self.config.events.iter().find(|e| e.name == name)?;
        Some(config.made.as_ref()?.of.place.clone())
    }
}
