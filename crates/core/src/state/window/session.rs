//! Sessions: the groups of one key that grow and merge with their events.

use super::WindowPlan;
use super::groups::Groups;
use super::shape::SessionShape;

/// The sessions of one key that a moment touches: the one it belongs to or follows, and the one that follows it.
struct Neighbours {
    before: Option<usize>,
    after: Option<usize>,
}

impl Groups {
    /// The session that an event of a time would enter.
    pub(super) fn session_of(&self, key: &[u8], time: i64, shape: SessionShape) -> Option<usize> {
        let Neighbours { before, after } = self.neighbours(key, time, shape);
        before.or(after)
    }

    fn neighbours(&self, key: &[u8], time: i64, shape: SessionShape) -> Neighbours {
        let mut found = Neighbours { before: None, after: None };
        for place in self.sessions_of(key) {
            let Some(group) = self.group(*place) else { continue };
            let fits = |start: i64, last: i64| last.saturating_sub(start) <= shape.longest;
            let is_after = group.start > time;
            let distance = if is_after { group.start.saturating_sub(time) } else { time.saturating_sub(group.last) };
            if distance >= shape.gap || !fits(group.start.min(time), group.last.max(time)) {
                continue;
            }
            let side = if is_after { &mut found.after } else { &mut found.before };
            // Of sessions that were parted since they would be too long, the one that began last.
            let start_of = |place: usize| self.group(place).map(|g| g.start);
            match *side {
                Some(known) if (start_of(known) < start_of(*place)) == is_after => {}
                _ => *side = Some(*place),
            }
        }
        found
    }

    /// The session that an event of a time enters: one that is there and grows, two that become one, or a new one.
    pub(super) fn enter_session(&mut self, plan: &WindowPlan, key: &[u8], time: i64, shape: SessionShape) -> usize {
        match self.neighbours(key, time, shape) {
            Neighbours { before: None, after: None } => self.open_session(plan, time, key),
            Neighbours { before: Some(place), after: None } | Neighbours { before: None, after: Some(place) } => {
                self.extend_session(place, time);
                place
            }
            Neighbours { before: Some(before), after: Some(after) } => {
                self.extend_session(before, time);
                let bounds = self.group(before).zip(self.group(after)).map(|(b, a)| (b.start.min(a.start), a.last));
                if bounds.is_some_and(|(start, last)| last.saturating_sub(start) <= shape.longest) {
                    self.merge_sessions(plan, before, after);
                }
                before
            }
        }
    }
}
