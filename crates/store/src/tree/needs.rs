//! Which containers a part of a tree needs: all that the pages and chunks below a reference lie in.
//!
//! It is noted beside the reference, so that a run can tell that an unchanged file or directory is
//! still whole without looking at what it consists of.

use std::{collections::BTreeSet, sync::Arc};

use super::spot::Spot;
use crate::containers::ContainerIx;

/// More containers than these are not noted; what needs more is looked into instead.
pub(crate) const MOST: usize = 64;

/// Where something needed lies.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub(crate) enum Within {
    /// In a container.
    Container(ContainerIx),
    /// In a block that is still open, by the number its writer gave it.
    Block(u64),
}

/// The containers that a page and everything below it lie in, as far as that is noted.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Needs(Option<Arc<[Within]>>);

impl Needs {
    pub(crate) fn of(within: Vec<Within>) -> Self {
        Self((within.len() <= MOST).then(|| within.into()))
    }

    /// The containers, or nothing if they are not noted.
    pub(crate) fn within(&self) -> Option<&[Within]> {
        self.0.as_deref()
    }
}

/// Needs being put together.
#[derive(Debug)]
pub(crate) struct Gathered(Option<BTreeSet<Within>>);

impl Default for Gathered {
    fn default() -> Self {
        Self(Some(BTreeSet::new()))
    }
}

impl Gathered {
    fn insert(&mut self, within: Within) {
        if let Some(set) = &mut self.0 {
            set.insert(within);
            if set.len() > MOST {
                self.0 = None;
            }
        }
    }

    /// Adds the place of a chunk or page.
    pub fn add_spot(&mut self, spot: Spot) {
        match spot {
            Spot::At(at) => self.insert(Within::Container(at.container)),
            Spot::Open { token, .. } => self.insert(Within::Block(token)),
            Spot::Unknown => self.0 = None,
        }
    }

    /// Adds what a part needs.
    pub fn add(&mut self, needs: &Needs) {
        match needs.within() {
            Some(within) => within.iter().for_each(|within| self.insert(*within)),
            None => self.0 = None,
        }
    }

    pub fn needs(&self) -> Needs {
        Needs(self.0.as_ref().map(|set| set.iter().copied().collect()))
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_is_not_known_of_a_part_is_not_known_of_the_whole() {
        let part = |numbers: std::ops::Range<u32>| {
            let mut gathered = Gathered::default();
            numbers.for_each(|number| gathered.insert(Within::Container(number)));
            gathered.needs()
        };
        let mut whole = Gathered::default();
        whole.add(&part(0..3));
        whole.add(&part(2..5));
        whole.add_spot(Spot::Open { token: 7, chunk: 1 });
        assert_eq!(whole.needs().within().map(<[_]>::len), Some(6));
        whole.add(&part(0..MOST as u32 + 1));
        assert_eq!(whole.needs(), Needs::default(), "too many are not noted");
        let mut other = Gathered::default();
        other.add_spot(Spot::Unknown);
        other.add(&part(0..1));
        assert_eq!(other.needs(), Needs::default());
    }
}
