//! Which index segments are at the place, by level.

use std::{
    collections::{BTreeMap, HashSet},
    sync::{Mutex, PoisonError},
};

use super::{layout::SegmentId, segment::Segment};

/// So many segments of one level are merged into one of the next.
pub(crate) const TIER: usize = 8;

/// The segments, with level and number of records.
#[derive(Default)]
pub(crate) struct Tiers(Mutex<BTreeMap<SegmentId, (u32, usize)>>);

impl Tiers {
    /// Takes over what a listing showed.
    pub fn set(&self, segments: &[(SegmentId, Segment)], merged: &HashSet<SegmentId>) {
        let mut tiers = self.0.lock().unwrap_or_else(PoisonError::into_inner);
        let current = segments.iter().filter(|(id, _)| !merged.contains(id));
        *tiers = current.map(|(id, segment)| (*id, (segment.level, segment.len()))).collect();
    }

    pub fn added(&self, id: SegmentId, level: u32, records: usize) {
        self.0.lock().unwrap_or_else(PoisonError::into_inner).insert(id, (level, records));
    }

    pub fn removed(&self, ids: &[SegmentId]) {
        let mut tiers = self.0.lock().unwrap_or_else(PoisonError::into_inner);
        tiers.retain(|id, _| !ids.contains(id));
    }

    /// Segments to merge: a level, and the smallest of it.
    pub fn mergeable(&self) -> Option<(u32, Vec<SegmentId>)> {
        let tiers = self.0.lock().unwrap_or_else(PoisonError::into_inner);
        let mut levels: BTreeMap<u32, Vec<(usize, SegmentId)>> = BTreeMap::new();
        for (id, (level, records)) in tiers.iter() {
            levels.entry(*level).or_default().push((*records, *id));
        }
        levels.into_iter().find_map(|(level, mut segments)| {
            segments.sort_unstable();
            segments.truncate(TIER);
            let ids = segments.into_iter().map(|(_, id)| id).collect::<Vec<_>>();
            (ids.len() == TIER).then_some((level, ids))
        })
    }
}
