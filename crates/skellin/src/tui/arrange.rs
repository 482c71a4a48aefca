//! The order of a directory's rows, and which of them are shown.

use std::{cmp::Reverse, collections::HashSet};

use skellin_engine::{Census, Change, Part, Shares};
use skellin_store::Kind;

use super::rows::{RowFacts, Rows, join};

/// By what rows are sorted.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub(crate) enum Order {
    #[default]
    Name,
    /// The largest first, with what is left out.
    Size,
    /// Those with the most new, changed and gone bytes first.
    Change,
}

/// Which rows are shown.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub(crate) enum Only {
    #[default]
    All,
    /// New, changed and gone.
    Moving,
    New,
    Changed,
    Gone,
    Skipped,
    /// What cannot be read.
    Troubles,
}

/// How rows are arranged.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub(crate) struct Arrangement {
    pub order: Order,
    pub only: Only,
}

impl Arrangement {
    /// Whether rows stand as they come.
    pub fn is_plain(self) -> bool {
        self == Self::default()
    }

    pub fn next_order(self) -> Self {
        let order = match self.order {
            Order::Name => Order::Size,
            Order::Size => Order::Change,
            Order::Change => Order::Name,
        };
        Self { order, ..self }
    }

    pub fn next_only(self) -> Self {
        let only = match self.only {
            Only::All => Only::Moving,
            Only::Moving => Only::Troubles,
            Only::Troubles => Only::New,
            Only::New => Only::Changed,
            Only::Changed => Only::Gone,
            Only::Gone => Only::Skipped,
            Only::Skipped => Only::All,
        };
        Self { only, ..self }
    }

    /// In words; `None` where there is nothing to say.
    pub fn words(self) -> Option<String> {
        let only = match self.only {
            Only::All => None,
            Only::Moving => Some("changes only"),
            Only::New => Some("new only"),
            Only::Changed => Some("changed only"),
            Only::Gone => Some("gone only"),
            Only::Skipped => Some("excluded only"),
            Only::Troubles => Some("unreadable only"),
        };
        let order = match self.order {
            Order::Name => None,
            Order::Size => Some("largest first"),
            Order::Change => Some("most changes first"),
        };
        let parts: Vec<&str> = only.into_iter().chain(order).collect();
        (!parts.is_empty()).then(|| parts.join(", "))
    }
}

/// What is known of the directories and the troubles below one path.
struct Below<'a> {
    census: &'a Census,
    /// The directory; empty for the sources.
    path: &'a [u8],
    parts: Vec<Part>,
    troubled: HashSet<Vec<u8>>,
    is_complete: bool,
}

impl Below<'_> {
    fn shares(&self, name: &[u8]) -> Option<Shares> {
        if self.path.is_empty() {
            return self.census.shares(name);
        }
        let found = self.parts.binary_search_by(|part| part.name.as_slice().cmp(name)).ok()?;
        Some(self.parts[found].shares)
    }

    fn is_troubled(&self, name: &[u8]) -> bool {
        match self.path.is_empty() {
            true => self.troubled.contains(name),
            false => self.troubled.contains(&join(self.path, name)),
        }
    }

    /// Whether a row is shown.
    fn keeps(&self, only: Only, name: &[u8], facts: &RowFacts) -> bool {
        let itself = match only {
            Only::All => true,
            Only::Moving => {
                matches!(facts.change, Change::New | Change::Changed | Change::Gone)
            }
            Only::New => facts.change == Change::New,
            Only::Changed => facts.change == Change::Changed,
            Only::Gone => facts.change == Change::Gone,
            Only::Skipped => facts.change == Change::Skipped,
            Only::Troubles => self.is_troubled(name),
        };
        if itself || facts.kind != Kind::Directory {
            return itself;
        }
        // As long as it is being counted, anything may be in it.
        let Some(shares) = self.shares(name).filter(|_| self.is_complete) else {
            return !self.is_complete;
        };
        match only {
            Only::All => true,
            Only::Moving => shares.moved().files > 0,
            Only::New => shares.new.files > 0,
            Only::Changed => shares.changed.files > 0,
            Only::Gone => shares.gone.files > 0,
            Only::Skipped => shares.skipped.files > 0,
            Only::Troubles => shares.troubles > 0,
        }
    }

    /// The larger comes first.
    fn weight(&self, order: Order, name: &[u8], facts: &RowFacts) -> (u64, u64) {
        let shares = (facts.kind == Kind::Directory).then(|| self.shares(name)).flatten();
        match (order, shares) {
            (Order::Name, _) => (0, 0),
            (Order::Size, Some(shares)) => (shares.taken().bytes + shares.skipped.bytes, 0),
            (Order::Size, None) => (facts.size, 0),
            (Order::Change, Some(shares)) => (shares.moved().bytes, shares.moved().files),
            (Order::Change, None) => match facts.change {
                Change::New | Change::Changed | Change::Gone => (facts.size, 1),
                Change::Same | Change::Skipped => (0, 0),
            },
        }
    }
}

/// The rows to show, by their numbers.
pub(crate) fn arrange(rows: &Rows, path: &[u8], how: Arrangement, census: &Census) -> Vec<u32> {
    let troubled = match how.only {
        Only::Troubles => census.troubles().into_iter().map(|trouble| trouble.path).collect(),
        _ => HashSet::new(),
    };
    let is_complete = census.is_complete();
    let below = Below { census, path, parts: census.parts(path), troubled, is_complete };
    let numbered = (0u32..).zip(rows.each());
    let kept = numbered.filter(|(_, (name, facts))| below.keeps(how.only, name, facts));
    if how.order == Order::Name {
        return kept.map(|(number, _)| number).collect();
    }
    let mut weighed: Vec<_> = kept
        .map(|(number, (name, facts))| (Reverse(below.weight(how.order, name, facts)), number))
        .collect();
    weighed.sort_unstable();
    weighed.into_iter().map(|(_, number)| number).collect()
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;
    use crate::tui::rows::Row;

    const CHANGES: [Change; 5] =
        [Change::New, Change::Changed, Change::Gone, Change::Same, Change::Skipped];
    const ALL_ONLY: [Only; 7] = [
        Only::All,
        Only::Moving,
        Only::New,
        Only::Changed,
        Only::Gone,
        Only::Skipped,
        Only::Troubles,
    ];

    /// A name: its size, what becomes of it, and whether it is a directory with that much in it.
    type Made = (u64, usize, bool);

    fn rows(made: &[Made]) -> (Rows, Census) {
        let mut rows = Rows::default();
        let mut known = vec![(b"/srv".to_vec(), Shares::default())];
        let name = |number: usize| format!("{number:03}").into_bytes();
        for part in made.chunks(7).enumerate() {
            let batch = part.1.iter().enumerate().map(|(at, (size, change, is_directory))| {
                let kind = if *is_directory { Kind::Directory } else { Kind::File };
                // Of a directory only the census knows.
                let change = if *is_directory { Change::Same } else { CHANGES[*change] };
                let size = if *is_directory { 0 } else { *size };
                let facts = RowFacts { size, files: 0, modified: 0, kind, change, rule: None };
                Row { name: name(part.0 * 7 + at), facts, target: None }
            });
            rows.take(batch.collect());
        }
        for (number, (size, change, _)) in made.iter().enumerate().filter(|(_, made)| made.2) {
            let mut shares = Shares::default();
            shares.count(CHANGES[*change], 1, *size);
            known.push(([b"/srv/", &*name(number)].concat(), shares));
        }
        let known: Vec<(&[u8], Shares)> =
            known.iter().map(|(path, shares)| (path.as_slice(), *shares)).collect();
        (rows, Census::known(&known))
    }

    proptest! {
        #[test]
        fn what_is_shown_is_what_was_asked_for_in_the_order_asked_for(
            made in proptest::collection::vec((0..50u64, 0..5usize, any::<bool>()), 0..40),
        ) {
            let (rows, census) = rows(&made);
            for only in ALL_ONLY {
                let wanted: Vec<u32> = (0u32..)
                    .zip(&made)
                    .filter(|(_, (_, change, _))| match only {
                        Only::All => true,
                        Only::Moving => *change < 3,
                        Only::Troubles => false,
                        Only::New => *change == 0,
                        Only::Changed => *change == 1,
                        Only::Gone => *change == 2,
                        Only::Skipped => *change == 4,
                    })
                    .map(|(number, _)| number)
                    .collect();
                for order in [Order::Name, Order::Size, Order::Change] {
                    let shown = arrange(&rows, b"/srv", Arrangement { order, only }, &census);
                    let mut sorted = shown.clone();
                    sorted.sort_unstable();
                    prop_assert_eq!(&sorted, &wanted, "{:?} {:?}", order, only);
                    let weight = |number: &u32| {
                        let (size, change, is_directory) = made[*number as usize];
                        match order {
                            Order::Name => 0,
                            // What is gone takes no room any more.
                            Order::Size if is_directory && change == 2 => 0,
                            Order::Size => size,
                            Order::Change if change < 3 => size,
                            Order::Change => 0,
                        }
                    };
                    prop_assert!(shown.is_sorted_by(|a, b| weight(a) >= weight(b)));
                }
            }
        }
    }

    #[test]
    fn orders_and_filters_go_round() {
        let mut how = Arrangement::default();
        for _ in ALL_ONLY {
            how = how.next_only();
        }
        assert!(how.is_plain() && how.words().is_none());
        let how = how.next_order().next_only();
        assert_eq!(how.words().as_deref(), Some("changes only, largest first"));
        assert!(how.next_order().next_order().order == Order::Name);
    }
}
