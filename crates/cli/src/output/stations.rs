//! What stations did, in figures.

use sluice_core::batch::StationCount;
use sluice_core::units::show_count;

use super::style;
use super::table::{Align, Table, screen_width};

/// A figure of a station; what is nothing at every station is only shown where `always` says so.
struct Figure {
    name: &'static str,
    of: fn(&StationCount) -> i128,
    always: bool,
}

const FIGURES: &[Figure] = &[
    Figure { name: "in", of: |c| c.input.into(), always: true },
    Figure { name: "made", of: |c| c.made.into(), always: false },
    Figure { name: "out", of: |c| c.output.into(), always: true },
    Figure { name: "filtered", of: |c| c.filtered.into(), always: true },
    Figure { name: "merged", of: |c| c.merged.into(), always: false },
    Figure { name: "repeated", of: |c| c.repeated.into(), always: false },
    Figure { name: "unmatched", of: |c| c.unmatched.into(), always: false },
    Figure { name: "rejected", of: |c| c.rejected.into(), always: true },
    Figure { name: "held", of: |c| c.held.into(), always: false },
];

/// A table of stations.
pub(crate) fn table(counts: &[StationCount]) -> String {
    let shown: Vec<&Figure> = FIGURES.iter().filter(|f| f.always || counts.iter().any(|c| (f.of)(c) != 0)).collect();
    let mut headings = vec![("station", Align::Left)];
    headings.extend(shown.iter().map(|f| (f.name, Align::Right)));
    let mut table = Table::new(&headings);
    for count in counts {
        let cell = |figure: &&Figure| {
            let text = signed((figure.of)(count));
            if figure.name == "rejected" && count.rejected > 0 { style::warn(&text) } else { text }
        };
        table.row(std::iter::once(count.station.clone()).chain(shown.iter().map(cell)).collect());
    }
    table.render(screen_width())
}

fn signed(value: i128) -> String {
    let text = show_count(u64::try_from(value.unsigned_abs()).unwrap_or(u64::MAX));
    if value < 0 { format!("-{text}") } else { text }
}
