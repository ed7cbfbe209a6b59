//! A pipeline as a picture: its arrivals, the stations that transform events, and its landings.

use std::collections::BTreeMap;

use sluice_core::batch::StationCount;
use sluice_core::plan::{Making, Plan};
use sluice_core::state::StatePlan;
use sluice_core::units::show_count;

use super::svg::{Anchor, Face, Svg, cut};
use super::{ALARM, FAINT, INK, SHALLOW, WATER};

const WIDTH: f64 = 190.0;
const HEIGHT: f64 = 62.0;
/// Between columns, and between boxes of a column.
const GAP: f64 = 96.0;
const SPACE: f64 = 20.0;
const MARGIN: f64 = 24.0;
/// Room for the heading.
const HEAD: f64 = 46.0;
/// Characters that fit into a box.
const LONGEST: usize = 24;

/// What a picture says beside the plan.
#[derive(Clone, Debug, Default)]
pub(crate) struct Told {
    /// What stations did, of the batches that are drawn.
    pub counts: Vec<StationCount>,
    /// Which batches, in words.
    pub range: String,
    /// What goes on now, in words; empty where nothing is known.
    pub now: String,
}

#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord)]
enum Id {
    Arrival(usize),
    Event(usize),
    Landing(usize),
}

struct Box {
    id: Id,
    title: String,
    about: String,
    /// The station in the ledger.
    station: Option<String>,
    column: usize,
    y: f64,
}

struct Channel {
    from: Id,
    to: Id,
    events: Option<u64>,
}

struct Picture {
    boxes: Vec<Box>,
    channels: Vec<Channel>,
    columns: usize,
}

/// The picture of a pipeline as SVG.
pub(crate) fn draw(plan: &Plan, told: &Told) -> String {
    let counts: BTreeMap<&str, &StationCount> =
        told.counts.iter().map(|count| (count.station.as_str(), count)).collect();
    let mut picture = Picture::of(plan, &counts);
    picture.arrange();
    let bottom = picture.boxes.iter().map(|one| one.y + HEIGHT).fold(HEAD + HEIGHT, f64::max);
    let width = 2.0 * MARGIN + picture.columns as f64 * WIDTH + (picture.columns.saturating_sub(1)) as f64 * GAP;
    let mut svg = Svg::new(width, bottom + MARGIN);
    svg.text((MARGIN, 26.0), &plan.pipeline, Face::new(16.0, INK).bold());
    let about = [told.range.as_str(), told.now.as_str()].into_iter().filter(|text| !text.is_empty());
    let about = about.collect::<Vec<_>>().join(" · ");
    svg.text((width - MARGIN, 26.0), &about, Face::new(11.0, FAINT).at(Anchor::End));
    picture.channels.iter().for_each(|channel| picture.channel(&mut svg, channel));
    picture.channels.iter().for_each(|channel| picture.label(&mut svg, channel));
    for one in &picture.boxes {
        one.draw(&mut svg, one.station.as_deref().and_then(|station| counts.get(station)).copied());
    }
    svg.end(&format!("the pipeline {}", plan.pipeline))
}

impl Picture {
    fn of(plan: &Plan, counts: &BTreeMap<&str, &StationCount>) -> Self {
        let mut picture = Self { boxes: Vec::new(), channels: Vec::new(), columns: 0 };
        let depths = depths(plan);
        let last = depths.values().copied().max().unwrap_or(1) + 1;
        for (place, arrival) in plan.arrivals.iter().enumerate() {
            picture.add(
                Id::Arrival(place),
                arrival.connection.name.clone(),
                format!("{} · {}", arrival.kind.name(), arrival.label),
                None,
                0,
            );
            for event in arrival.events() {
                let input = counts.get(plan.events[event].name.as_str()).map(|count| count.input);
                picture.channels.push(Channel { from: Id::Arrival(place), to: Id::Event(event), events: input });
            }
        }
        for (place, event) in plan.events.iter().enumerate() {
            let about = match makings_of(plan, place).first() {
                Some(making) => what(making),
                None => "contract".into(),
            };
            let depth = depths.get(&place).copied().unwrap_or(1);
            picture.add(Id::Event(place), event.name.clone(), about, Some(event.name.clone()), depth);
            for making in &event.makes {
                let made = &plan.events[making.event].name;
                // Of a join, the station counts both sides together.
                let alone = makings_of(plan, making.event).len() == 1;
                let input = counts.get(made.as_str()).map(|count| count.input).filter(|_| alone);
                picture.channels.push(Channel { from: Id::Event(place), to: Id::Event(making.event), events: input });
            }
            for landing in &event.landings {
                let input = counts.get(plan.landings[*landing].label.as_str()).map(|count| count.input);
                picture.channels.push(Channel { from: Id::Event(place), to: Id::Landing(*landing), events: input });
            }
        }
        for (place, landing) in plan.landings.iter().enumerate() {
            let about = format!("{} · {}", landing.kind.name(), landing.connection.name);
            picture.add(Id::Landing(place), landing.label.clone(), about, Some(landing.label.clone()), last);
        }
        picture.columns = last + 1;
        picture
    }

    fn add(&mut self, id: Id, title: String, about: String, station: Option<String>, column: usize) {
        self.boxes.push(Box { id, title, about, station, column, y: 0.0 });
    }

    /// Puts the boxes of each column as near as can be to the height of those that they come from.
    fn arrange(&mut self) {
        for column in 0..self.columns {
            let mut order: Vec<(f64, usize)> = (0..self.boxes.len())
                .filter(|place| self.boxes[*place].column == column)
                .map(|place| (self.wanted(self.boxes[place].id).unwrap_or(HEAD), place))
                .collect();
            // Of the same height they keep the order of the file.
            order.sort_by(|a, b| a.0.total_cmp(&b.0));
            let mut free = HEAD;
            for (wanted, place) in order {
                self.boxes[place].y = wanted.max(free);
                free = self.boxes[place].y + HEIGHT + SPACE;
            }
        }
    }

    /// The middle of what a box comes from.
    fn wanted(&self, id: Id) -> Option<f64> {
        let from: Vec<f64> = self
            .channels
            .iter()
            .filter(|channel| channel.to == id)
            .filter_map(|channel| Some(self.find(channel.from)?.y))
            .collect();
        (!from.is_empty()).then(|| from.iter().sum::<f64>() / from.len() as f64)
    }

    fn find(&self, id: Id) -> Option<&Box> {
        self.boxes.iter().find(|one| one.id == id)
    }

    fn channel(&self, svg: &mut Svg, channel: &Channel) {
        let (Some(from), Some(to)) = (self.find(channel.from), self.find(channel.to)) else { return };
        let (start, end) = ((from.x() + WIDTH, from.y + HEIGHT / 2.0), (to.x(), to.y + HEIGHT / 2.0));
        svg.channel(start, end, channel.width(), WATER);
    }

    /// How many events came through a channel. Above all channels, since they cross.
    fn label(&self, svg: &mut Svg, channel: &Channel) {
        let (Some(to), Some(events)) = (self.find(channel.to), channel.events) else { return };
        let place = (to.x() - 8.0, to.y + HEIGHT / 2.0 - channel.width() / 2.0 - 4.0);
        svg.text(place, &show_count(events), Face::new(10.0, FAINT).at(Anchor::End).edged());
    }
}

impl Channel {
    /// As wide as the count has digits.
    fn width(&self) -> f64 {
        self.events.map_or(2.0, |events| 2.0 + 1.8 * (events as f64 + 1.0).log10())
    }
}

impl Box {
    fn x(&self) -> f64 {
        MARGIN + self.column as f64 * (WIDTH + GAP)
    }

    fn draw(&self, svg: &mut Svg, count: Option<&StationCount>) {
        let (x, y) = (self.x(), self.y);
        let (fill, stroke) = match self.id {
            Id::Arrival(_) => (WATER, WATER),
            Id::Event(_) => ("#ffffff", WATER),
            Id::Landing(_) => (SHALLOW, WATER),
        };
        let (ink, faint) = if matches!(self.id, Id::Arrival(_)) { ("#ffffff", SHALLOW) } else { (INK, FAINT) };
        let title = format!("{}: {}", self.title, self.about);
        svg.with_title(&title, |svg| {
            svg.rect((x, y, WIDTH, HEIGHT), 5.0, fill, stroke);
            svg.text((x + 11.0, y + 20.0), &cut(&self.title, LONGEST), Face::new(13.0, ink).bold());
            svg.text((x + 11.0, y + 36.0), &cut(&self.about, LONGEST + 3), Face::new(10.5, faint));
            let Some(count) = count else { return };
            let went = format!(
                "{} {}",
                show_count(count.output),
                if matches!(self.id, Id::Landing(_)) { "rows" } else { "out" }
            );
            svg.text((x + 11.0, y + 52.0), &went, Face::new(10.5, INK));
            if count.rejected > 0 {
                let text = format!("{} rejected", show_count(count.rejected));
                svg.text((x + WIDTH - 11.0, y + 52.0), &text, Face::new(10.5, ALARM).bold().at(Anchor::End));
                return;
            }
            // What happened to most of those that did not go on.
            let others = [
                (count.filtered, "filtered"),
                (count.merged, "merged"),
                (count.repeated, "repeated"),
                (count.unmatched, "unmatched"),
            ];
            if let Some((events, word)) = others.into_iter().max_by_key(|(events, _)| *events).filter(|(n, _)| *n > 0) {
                let text = format!("{} {word}", show_count(events));
                svg.text((x + WIDTH - 11.0, y + 52.0), &text, Face::new(10.5, FAINT).at(Anchor::End));
            }
        });
    }
}

fn makings_of(plan: &Plan, event: usize) -> Vec<&Making> {
    plan.events.iter().flat_map(|from| &from.makes).filter(|making| making.event == event).collect()
}

/// What makes an event, in a word.
fn what(making: &Making) -> String {
    let state = match &making.state {
        Some(StatePlan::Once(_)) => Some("once each"),
        Some(StatePlan::Window(_)) => Some("window"),
        Some(StatePlan::Join(_)) => Some("join"),
        Some(StatePlan::Reference(_)) => Some("reference"),
        None => None,
    };
    match (state, &making.unfold) {
        (Some(word), _) => word.into(),
        (None, Some(_)) => "unfolded list".into(),
        (None, None) => "made event".into(),
    }
}

/// The column of each event: one after the last of those that it is made of.
fn depths(plan: &Plan) -> BTreeMap<usize, usize> {
    let mut depths: BTreeMap<usize, usize> = (0..plan.events.len()).map(|event| (event, 1)).collect();
    // A plan has no circles: after so many rounds each has its column.
    for _ in 0..plan.events.len() {
        for (place, event) in plan.events.iter().enumerate() {
            let own = depths[&place];
            for making in &event.makes {
                let known = depths.entry(making.event).or_insert(1);
                *known = (*known).max(own + 1);
            }
        }
    }
    depths
}
