//! Recognises arrivals and landings under which the ledger keeps positions and batches, whatever they are called now.
//!
//! The ledger knows an arrival by the name that it had first. A renamed event, or an arrival that stands in another
//! place of the file, is recognised by what it reads, and keeps that name in the ledger: so its positions, its lanes
//! and its batches stay its own. Where that is not certain nothing is read until somebody has chosen.

use super::Plan;
use crate::failure::{Failure, Outcome};

/// Whether a name is that of an arrival or of a landing.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum LedgerNameKind {
    /// An arrival.
    Arrival,
    /// A landing.
    Landing,
}

/// A name of the ledger with what stands behind it.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct LedgerName {
    /// Whose name it is.
    pub kind: LedgerNameKind,
    /// The name in the ledger.
    pub name: String,
    /// The place that it reads or writes: scheme and address. [`UNKNOWN`] for a name from before places were noted;
    /// empty for one that was given up.
    pub place: String,
    /// Which part of the place: the pattern of files, the topics.
    pub part: String,
}

/// The place of a name that was noted before places were.
pub const UNKNOWN: &str = "?";

/// What somebody decided about an arrival that was not recognised.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum ArrivalChoice {
    /// It goes on where the one of this name in the ledger was.
    TakeOver(String),
    /// It begins as its keys say.
    AsNew,
}

/// One arrival or landing of the plan, while it is being recognised.
struct Present {
    label: String,
    place: String,
    part: String,
    /// Whether its positions tell another source apart by themselves.
    guarded: bool,
    /// The name that it gets.
    name: Option<String>,
}

impl Plan {
    /// Gives arrivals and landings the names under which the ledger knows them.
    ///
    /// # Errors
    /// Where an arrival may be one that the ledger knows, or may not: nothing must be read until somebody has chosen.
    /// The others have their names then.
    pub fn recognise(&mut self, known: &[LedgerName]) -> Outcome<()> {
        let of = |kind| known.iter().filter(|k| k.kind == kind).collect::<Vec<_>>();
        let mut arrivals = self.present(LedgerNameKind::Arrival);
        let arrivals_known = of(LedgerNameKind::Arrival);
        by_label_and_place(&mut arrivals, &arrivals_known);
        by_place(&mut arrivals, &arrivals_known);
        by_label(&mut arrivals, &arrivals_known, true);
        let uncertain = self.uncertain(&arrivals, &arrivals_known);
        name_others(&mut arrivals, &arrivals_known);
        let mut landings = self.present(LedgerNameKind::Landing);
        let landings_known = of(LedgerNameKind::Landing);
        by_label_and_place(&mut landings, &landings_known);
        by_place(&mut landings, &landings_known);
        by_label(&mut landings, &landings_known, false);
        name_others(&mut landings, &landings_known);
        for (arrival, present) in self.arrivals.iter_mut().zip(arrivals) {
            arrival.label = present.name.unwrap_or(present.label);
        }
        for (landing, present) in self.landings.iter_mut().zip(landings) {
            landing.label = present.name.unwrap_or(present.label);
        }
        uncertain.map_or(Ok(()), Err)
    }

    /// A new pipeline that reads what another one of the ledger read which the project does not have any more may be that
    /// one under a new name. `others` are the names of such pipelines.
    ///
    /// # Errors
    /// Where it may be: nothing must be read until somebody has chosen.
    pub fn refuse_renamed(&self, others: &[(String, LedgerName)]) -> Outcome<()> {
        for own in self.known().iter().filter(|k| k.kind == LedgerNameKind::Arrival) {
            let same = |k: &LedgerName| k.kind == own.kind && k.place == own.place && k.part == own.part;
            let Some((other, known)) = others.iter().find(|(_, k)| same(k)) else { continue };
            let pipeline = &self.pipeline;
            let message = format!(
                "{} of {pipeline} reads {}; {} of {other} has read that, and the project no longer has a pipeline \
                 {other}: it may be the same pipeline under a new name",
                own.name,
                shown(&own.place, &own.part),
                known.name,
            );
            return Err(Failure::findings(message).with_help(format!(
                "nothing was read. To continue where {other} was, give the pipeline its old name: the name is part of what \
                 its landings hold\nto read from the beginning as a new pipeline: sluice positions {pipeline} --as-new {} \
                 --reason \"…\"",
                own.name,
            )));
        }
        Ok(())
    }

    /// The names of arrivals and landings with what they read and write, for the ledger to keep.
    pub fn known(&self) -> Vec<LedgerName> {
        let known =
            |kind, name: &String, p: Present| LedgerName { kind, name: name.clone(), place: p.place, part: p.part };
        let arrivals = self.arrivals.iter().zip(self.present(LedgerNameKind::Arrival));
        let landings = self.landings.iter().zip(self.present(LedgerNameKind::Landing));
        arrivals
            .map(|(a, present)| known(LedgerNameKind::Arrival, &a.label, present))
            .chain(landings.map(|(l, present)| known(LedgerNameKind::Landing, &l.label, present)))
            .collect()
    }

    /// What the ledger is to keep after a choice about an arrival, by its name in the pipeline file.
    ///
    /// # Errors
    /// Where there is no such arrival, or no such name in the ledger.
    pub fn choose(&self, arrival: &str, choice: &ArrivalChoice, known: &[LedgerName]) -> Outcome<Vec<LedgerName>> {
        let present = self.present(LedgerNameKind::Arrival);
        let wrong = |message: String, help: String| {
            Failure::new(crate::failure::FailureKind::Configuration, message).with_help(help)
        };
        let Some(own) = present.iter().find(|p| p.label == arrival) else {
            let labels = present.iter().map(|p| p.label.as_str());
            let help = crate::names::remedy(arrival, "arrivals", labels).unwrap_or_default();
            return Err(wrong(format!("{} has no arrival `{arrival}`", self.pipeline), help));
        };
        let is_arrival = |k: &&LedgerName| k.kind == LedgerNameKind::Arrival;
        let kept = |name: &str| LedgerName {
            kind: LedgerNameKind::Arrival,
            name: name.into(),
            place: own.place.clone(),
            part: own.part.clone(),
        };
        match choice {
            ArrivalChoice::TakeOver(old) => match known.iter().filter(is_arrival).any(|k| k.name == *old) {
                true => Ok(vec![kept(old)]),
                false => {
                    let names = known.iter().filter(is_arrival).map(|k| k.name.as_str());
                    let help = crate::names::remedy(old, "arrivals of the ledger", names).unwrap_or_default();
                    Err(wrong(format!("the ledger knows no arrival `{old}` of {}", self.pipeline), help))
                }
            },
            ArrivalChoice::AsNew => {
                let names: Vec<&str> = known.iter().filter(is_arrival).map(|k| k.name.as_str()).collect();
                // What it might have been is given up, so that nobody asks again.
                let bound: Vec<&str> = self.arrivals.iter().map(|a| a.label.as_str()).collect();
                let left = known
                    .iter()
                    .filter(is_arrival)
                    .filter(|k| !bound.contains(&k.name.as_str()) || k.name == own.label);
                let mut out: Vec<LedgerName> = left.map(|k| LedgerName { place: String::new(), ..k.clone() }).collect();
                out.push(kept(&free_name(arrival, &names)));
                Ok(out)
            }
        }
    }

    /// What stands in the pipeline file, under the names that it has there.
    fn present(&self, kind: LedgerNameKind) -> Vec<Present> {
        let one = |label: String, (place, part): (String, String), guarded| Present {
            label,
            place,
            part,
            guarded,
            name: None,
        };
        match kind {
            LedgerNameKind::Arrival => {
                let label =
                    |place: &str| place.strip_prefix(&format!("{}.", self.pipeline)).unwrap_or(place).to_string();
                let arrivals = self.arrivals.iter();
                arrivals
                    .map(|a| one(label(&a.place), a.kind.place(&a.connection, &a.options), a.kind.knows_its_source()))
                    .collect()
            }
            LedgerNameKind::Landing => {
                let label = |l: &super::LandingPlan| format!("{}.{}", self.events[l.event].name, l.name);
                let landings = self.landings.iter();
                landings
                    .map(|l| one(label(l), (l.kind.place(&l.connection, &l.options), String::new()), false))
                    .collect()
            }
        }
    }

    /// The first arrival about which it is not certain whether the ledger knows it.
    fn uncertain(&self, present: &[Present], known: &[&LedgerName]) -> Option<Failure> {
        for own in present.iter().filter(|p| p.name.is_none()) {
            let Some(old) = may_be(own, present, known) else { continue };
            let pipeline = &self.pipeline;
            let before = match old.place.as_str() {
                UNKNOWN => "something that was not noted then".to_string(),
                place => shown(place, &old.part),
            };
            let whose = if old.name == own.label { "an arrival of that name".into() } else { old.name.clone() };
            let message = format!(
                "{} reads {} now; the ledger has positions of {whose}, which read {before}, and it is not certain that \
                 this is the same arrival",
                own.label,
                shown(&own.place, &own.part),
            );
            return Some(Failure::findings(message).with_help(format!(
                "nothing was read. To continue at the positions of {old}: sluice positions {pipeline} --take-over \
                 {old}={new} --reason \"…\"\nto start as a new arrival: sluice positions {pipeline} --as-new {new} \
                 --reason \"…\"",
                old = old.name,
                new = own.label,
            )));
        }
        None
    }
}

fn shown(place: &str, part: &str) -> String {
    if part.is_empty() { format!("`{place}`") } else { format!("`{place}` ({part})") }
}

/// The name of the ledger that an arrival without one may be: of those that no other arrival has, the one with its
/// label, or else one with its place.
fn may_be<'k>(own: &Present, present: &[Present], known: &[&'k LedgerName]) -> Option<&'k LedgerName> {
    let is_left = |k: &&&LedgerName| !k.place.is_empty() && is_free(present, &k.name);
    let might = |k: &&&LedgerName| k.name == own.label || k.place == own.place || k.place == UNKNOWN;
    let candidates: Vec<&&LedgerName> = known.iter().filter(is_left).filter(might).collect();
    candidates.iter().find(|k| k.name == own.label).or(candidates.first()).map(|k| **k)
}

fn is_free(present: &[Present], name: &str) -> bool {
    !present.iter().any(|p| p.name.as_deref() == Some(name))
}

fn by_label_and_place(present: &mut [Present], known: &[&LedgerName]) {
    for own in present.iter_mut() {
        let same = |k: &&&LedgerName| k.name == own.label && k.place == own.place && k.part == own.part;
        own.name = known.iter().find(same).map(|k| k.name.clone());
    }
}

/// What reads or writes the same under another name, where no other could be meant.
fn by_place(present: &mut [Present], known: &[&LedgerName]) {
    for i in 0..present.len() {
        let own = &present[i];
        if own.name.is_some() {
            continue;
        }
        let same = |place: &str, part: &str| place == own.place && part == own.part;
        let mut candidates = known.iter().filter(|k| same(&k.place, &k.part) && is_free(present, &k.name));
        let rivals = present.iter().filter(|p| p.name.is_none() && same(&p.place, &p.part)).count();
        if let (Some(only), None, 1) = (candidates.next(), candidates.next(), rivals) {
            present[i].name = Some(only.name.clone());
        }
    }
}

/// What has its name still. Of an arrival only where its place is the same and no other of that place is left over:
/// then the pattern was edited, and partitions tell themselves which they are.
fn by_label(present: &mut [Present], known: &[&LedgerName], is_arrival: bool) {
    for i in 0..present.len() {
        let own = &present[i];
        if own.name.is_some() || !is_free(present, &own.label) {
            continue;
        }
        let Some(old) = known.iter().find(|k| k.name == own.label) else { continue };
        let others = || {
            let is_other = |k: &&&LedgerName| k.name != own.label && k.place == own.place && is_free(present, &k.name);
            known.iter().any(|k| is_other(&k))
        };
        let certain = old.place == UNKNOWN || ((old.place == own.place || own.guarded) && !others());
        if !is_arrival || certain {
            present[i].name = Some(own.label.clone());
        }
    }
}

/// New ones get their own names, or others where the ledger has theirs already.
fn name_others(present: &mut [Present], known: &[&LedgerName]) {
    for i in 0..present.len() {
        if present[i].name.is_none() {
            let taken = present.iter().filter_map(|p| p.name.as_deref());
            let names: Vec<&str> = taken.chain(known.iter().map(|k| k.name.as_str())).collect();
            present[i].name = Some(free_name(&present[i].label, &names));
        }
    }
}

fn free_name(label: &str, taken: &[&str]) -> String {
    let numbered = (2..).map(|n| format!("{label}-{n}"));
    std::iter::once(label.to_string())
        .chain(numbered)
        .find(|name| !taken.contains(&name.as_str()))
        .unwrap_or_else(|| label.to_string())
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    fn known(text: &str) -> LedgerName {
        let mut words = text.split(' ');
        let mut next = || words.next().unwrap_or_default().to_string();
        LedgerName { kind: LedgerNameKind::Arrival, name: next(), place: next(), part: next() }
    }

    /// Names that arrivals get: `-` for one that is not certain.
    fn names(now: &[&str], before: &[&str]) -> Vec<String> {
        let known: Vec<LedgerName> = before.iter().map(|t| known(t)).collect();
        let known: Vec<&LedgerName> = known.iter().collect();
        let mut present: Vec<Present> = now
            .iter()
            .map(|t| {
                let k = self::known(t);
                Present {
                    guarded: k.place.starts_with("kafka:"),
                    label: k.name,
                    place: k.place,
                    part: k.part,
                    name: None,
                }
            })
            .collect();
        by_label_and_place(&mut present, &known);
        by_place(&mut present, &known);
        by_label(&mut present, &known, true);
        let unsure: Vec<bool> =
            present.iter().map(|p| p.name.is_none() && may_be(p, &present, &known).is_some()).collect();
        name_others(&mut present, &known);
        present.iter().zip(unsure).map(|(p, u)| if u { "-".into() } else { p.name.clone().unwrap() }).collect()
    }

    #[rstest]
    #[case::first_run(&["passage.0 file:d a*"], &[], &["passage.0"])]
    #[case::as_before(&["passage.0 file:d a*"], &["passage.0 file:d a*"], &["passage.0"])]
    #[case::renamed(&["lock.0 file:d a*"], &["passage.0 file:d a*"], &["passage.0"])]
    #[case::reordered(
        &["passage.0 file:d b*", "passage.1 file:d a*"],
        &["passage.0 file:d a*", "passage.1 file:d b*"],
        &["passage.1", "passage.0"]
    )]
    #[case::another_put_before(
        &["passage.0 file:d b*", "passage.1 file:d a*"],
        &["passage.0 file:d a*"],
        &["passage.0-2", "passage.0"]
    )]
    #[case::pattern_edited(&["passage.0 file:d **"], &["passage.0 file:d a*"], &["passage.0"])]
    #[case::another_place(&["passage.0 file:e a*"], &["passage.0 file:d a*"], &["-"])]
    #[case::another_address_of_a_broker(&["passage.0 kafka:e locks"], &["passage.0 kafka:d locks"], &["passage.0"])]
    #[case::renamed_and_edited(&["lock.0 file:d **"], &["passage.0 file:d a*"], &["-"])]
    #[case::one_of_two_edited(
        &["passage.0 file:d c*"],
        &["passage.0 file:d a*", "passage.1 file:d b*"],
        &["-"]
    )]
    #[case::second_reader(
        &["passage.0 file:d a*", "twin.0 file:d a*"],
        &["passage.0 file:d a*"],
        &["passage.0", "twin.0"]
    )]
    #[case::two_renamed_readers_of_one(
        &["x.0 file:d a*", "y.0 file:d a*"],
        &["passage.0 file:d a*", "twin.0 file:d a*"],
        &["-", "-"]
    )]
    #[case::noted_without_place(&["passage.0 file:d a*"], &["passage.0 ?"], &["passage.0"])]
    #[case::given_up(&["lock.0 file:d b*"], &["passage.0"], &["lock.0"])]
    fn arrivals_are_recognised_by_what_they_read(
        #[case] now: &[&str],
        #[case] before: &[&str],
        #[case] expected: &[&str],
    ) {
        assert_eq!(names(now, before), expected);
    }
}
