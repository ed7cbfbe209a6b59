//! Which partitions an arrival reads.

use std::sync::Arc;

use glob::Pattern;

use crate::broker::Topic;

/// One partition of a topic.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(super) struct Partition {
    pub topic: Arc<str>,
    pub number: i32,
}

impl Partition {
    /// Its name in the ledger: `lock.passages/3`.
    pub(super) fn name(&self) -> Arc<str> {
        format!("{}/{}", self.topic, self.number).into()
    }

    /// As the broker's proofs take it.
    pub(super) fn named(&self) -> (&str, i32) {
        (&self.topic, self.number)
    }

    /// The partition of a name in the ledger.
    pub(super) fn parse(name: &str) -> Option<Self> {
        let (topic, number) = name.rsplit_once('/')?;
        Some(Self { topic: topic.into(), number: number.parse().ok()? })
    }

    /// Whether a name is of a partition of the same topic.
    pub(super) fn is_of(&self, name: &str) -> bool {
        name.rsplit_once('/').is_some_and(|(topic, _)| topic == &*self.topic)
    }

    /// Its lane: neighbours have different lanes, and topics do not all begin with the same.
    pub(super) fn lane(&self, lanes: u32) -> u32 {
        let first = self.topic.bytes().fold(0_u32, |sum, b| sum.wrapping_mul(31).wrapping_add(u32::from(b)));
        first.wrapping_add(u32::try_from(self.number).unwrap_or(0)) % lanes.max(1)
    }
}

/// The topics that are wanted: names and patterns.
#[derive(Clone, Debug)]
pub(super) struct Wanted {
    each: Vec<(String, Option<Pattern>)>,
}

impl Wanted {
    pub(super) fn new(texts: &[String]) -> Self {
        let one = |text: &String| {
            let pattern = Self::is_pattern(text).then(|| Pattern::new(text).ok()).flatten();
            (text.clone(), pattern)
        };
        Self { each: texts.iter().map(one).collect() }
    }

    /// Whether a text stands for several topics.
    pub(super) fn is_pattern(text: &str) -> bool {
        text.contains(['*', '?', '['])
    }

    /// Whether a topic is wanted.
    pub(super) fn takes(&self, topic: &str) -> bool {
        self.each.iter().any(|(name, pattern)| match pattern {
            Some(pattern) => pattern.matches(topic),
            None => name == topic,
        })
    }

    /// Whether a topic is named itself, not only found by a pattern.
    pub(super) fn names(&self, topic: &str) -> bool {
        self.each.iter().any(|(name, pattern)| pattern.is_none() && name == topic)
    }

    /// A name that no topic has.
    pub(super) fn missing(&self, there: &[Topic]) -> Option<&str> {
        let is_missing =
            |(name, pattern): &&(String, Option<Pattern>)| pattern.is_none() && there.iter().all(|t| t.name != *name);
        self.each.iter().find(is_missing).map(|(name, _)| name.as_str())
    }

    /// The partitions of all topics that are wanted.
    pub(super) fn partitions(&self, there: &[Topic]) -> Vec<Partition> {
        let of = |topic: &Topic| {
            let name: Arc<str> = topic.name.as_str().into();
            topic.partitions.iter().map(move |n| Partition { topic: Arc::clone(&name), number: *n }).collect::<Vec<_>>()
        };
        there.iter().filter(|t| self.takes(&t.name)).flat_map(of).collect()
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    fn topics() -> Vec<Topic> {
        let topic = |name: &str, partitions| Topic { name: name.into(), partitions: (0..partitions).collect() };
        vec![topic("gauge.levels", 1), topic("lock.passages", 3), topic("lock.tolls", 2)]
    }

    #[rstest]
    #[case(&["lock.passages"], 3, None)]
    #[case(&["lock.*"], 5, None)]
    #[case(&["lock.*", "lock.tolls"], 5, None)]
    #[case(&["gauge.levels", "weir.states"], 1, Some("weir.states"))]
    #[case(&["weir.*"], 0, None)]
    fn names_and_patterns(#[case] texts: &[&str], #[case] partitions: usize, #[case] missing: Option<&str>) {
        let wanted = Wanted::new(&texts.iter().map(ToString::to_string).collect::<Vec<_>>());
        assert_eq!(wanted.partitions(&topics()).len(), partitions);
        assert_eq!(wanted.missing(&topics()), missing);
    }

    #[test]
    fn a_partition_has_one_name_and_one_lane() {
        let partition = Partition { topic: "lock.a/b".into(), number: 12 };
        assert_eq!(Partition::parse(&partition.name()), Some(partition.clone()));
        assert!(partition.is_of("lock.a/b/3") && !partition.is_of("lock.a/3"));
        let lanes: std::collections::BTreeSet<u32> =
            (0..8).map(|number| Partition { topic: "t".into(), number }.lane(4)).collect();
        assert_eq!(lanes.len(), 4);
        assert_eq!(Partition::parse("no number"), None);
    }
}
