//! When unread events will expire at their source, by how fast they come and how fast they are read.
//!
//! Let L be the age of the oldest unread event, R how long the source keeps events, a the pace at which they arrive
//! and r that at which they are read. While reading, the age of the next event to read changes by 1 − r/a seconds a
//! second: with r > a the backlog goes away after behind / (r − a); otherwise events begin to expire unread when the
//! age has come to R, after (R − L) / (1 − r/a).

/// What is known of one arrival.
#[derive(Clone, Copy, Debug, Default, PartialEq)]
pub struct Backlog {
    /// Unread events.
    pub behind: u64,
    /// The age of the oldest unread event, in seconds.
    pub age: f64,
    /// How long the source keeps an event, in seconds; None for ever.
    pub kept: Option<f64>,
    /// Events that arrive in a second.
    pub arriving: f64,
}

/// What will become of it.
#[derive(Clone, Copy, Debug, PartialEq)]
pub enum Forecast {
    /// Nothing is unread.
    CaughtUp,
    /// The source keeps events for ever, and reading does not catch up.
    Grows,
    /// The oldest have outlived their time: the source may delete them at any moment.
    Overdue,
    /// All will have been read after so many seconds.
    CatchesUp(f64),
    /// After so many seconds events begin to expire unread.
    Expires(f64),
}

impl Backlog {
    /// What will become of it when so many events a second are read; 0 for a pipeline at rest.
    pub fn forecast(&self, reading: f64) -> Forecast {
        if self.behind == 0 {
            return Forecast::CaughtUp;
        }
        if self.kept.is_some_and(|kept| self.age >= kept) {
            return Forecast::Overdue;
        }
        if reading > self.arriving {
            return Forecast::CatchesUp(self.behind as f64 / (reading - self.arriving));
        }
        match self.kept {
            None => Forecast::Grows,
            // Of a source where nothing arrives any more, nothing is read either here.
            Some(kept) if self.arriving <= 0.0 => Forecast::Expires(kept - self.age),
            Some(kept) if reading < self.arriving => {
                Forecast::Expires((kept - self.age) / (1.0 - reading / self.arriving))
            }
            Some(_) => Forecast::Grows,
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    fn backlog(behind: u64, age: f64, kept: Option<f64>, arriving: f64) -> Backlog {
        Backlog { behind, age, kept, arriving }
    }

    #[rstest]
    #[case(backlog(0, 0.0, Some(60.0), 5.0), 0.0, Forecast::CaughtUp)]
    #[case(backlog(10, 61.0, Some(60.0), 5.0), 9.0, Forecast::Overdue)]
    #[case(backlog(100, 10.0, Some(60.0), 5.0), 10.0, Forecast::CatchesUp(20.0))]
    #[case(backlog(100, 10.0, None, 5.0), 10.0, Forecast::CatchesUp(20.0))]
    #[case(backlog(100, 10.0, Some(60.0), 5.0), 0.0, Forecast::Expires(50.0))]
    #[case(backlog(100, 10.0, Some(60.0), 0.0), 0.0, Forecast::Expires(50.0))]
    #[case(backlog(100, 10.0, Some(60.0), 10.0), 5.0, Forecast::Expires(100.0))]
    #[case(backlog(100, 10.0, Some(60.0), 10.0), 10.0, Forecast::Grows)]
    #[case(backlog(100, 10.0, None, 10.0), 1.0, Forecast::Grows)]
    fn what_will_become_of_a_backlog(#[case] backlog: Backlog, #[case] reading: f64, #[case] expected: Forecast) {
        assert_eq!(backlog.forecast(reading), expected);
    }
}
