//! Which snapshots of a row have something.

/// Numbers of snapshots, as stretches without gaps, in order.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Stretches(Vec<(u32, u32)>);

impl Stretches {
    /// From a snapshot to another, both included.
    #[must_use]
    pub fn of(first: u32, last: u32) -> Self {
        Self(vec![(first, last)])
    }

    /// Adds those of another.
    pub fn add(&mut self, other: &Self) {
        // Mostly they come in order.
        let comes_after = match (self.0.last_mut(), other.0.as_slice()) {
            (Some((_, last)), [(first, end)]) if *last + 1 == *first => {
                *last = *end;
                return;
            }
            (Some((_, last)), [(first, _), ..]) => *last < *first,
            _ => true,
        };
        self.0.extend_from_slice(&other.0);
        if comes_after {
            return;
        }
        self.0.sort_unstable();
        let mut joined: Vec<(u32, u32)> = Vec::with_capacity(self.0.len());
        for (first, last) in self.0.drain(..) {
            match joined.last_mut() {
                Some((_, end)) if first <= end.saturating_add(1) => *end = last.max(*end),
                _ => joined.push((first, last)),
            }
        }
        self.0 = joined;
    }

    /// The stretches: first and last of each.
    pub fn iter(&self) -> impl Iterator<Item = (u32, u32)> {
        self.0.iter().copied()
    }

    /// The last of all.
    #[must_use]
    pub fn last(&self) -> Option<u32> {
        self.0.last().map(|(_, last)| *last)
    }
}

#[cfg(test)]
mod tests {
    use std::collections::BTreeSet;

    use proptest::prelude::*;

    use super::*;

    proptest! {
        #[test]
        fn they_hold_what_was_added(parts in prop::collection::vec((0u32..40, 0u32..5), 1..20)) {
            let mut all = Stretches::default();
            let mut wanted = BTreeSet::new();
            for (first, length) in parts {
                all.add(&Stretches::of(first, first + length));
                wanted.extend(first..=first + length);
            }
            let found: Vec<u32> = all.iter().flat_map(|(first, last)| first..=last).collect();
            prop_assert_eq!(found, wanted.iter().copied().collect::<Vec<_>>());
            prop_assert_eq!(all.last(), wanted.last().copied());
        }
    }
}
