//! The index and the bundles without what has gone.

use std::collections::HashSet;

use super::Marks;
use crate::{
    error::Result,
    format::ids::{Class, ContainerId},
    index::SegmentId,
    store::Store,
    writing::session::Session,
};

/// The index is written anew once one record in so many is of a container that is gone.
const GONE: usize = 5;

impl Store {
    /// Deletes second copies of containers that are gone, but for those that hold the last copy of what
    /// is needed: these are handed back.
    pub(super) fn drop_orphaned_spares(
        &self,
        marks: &Marks,
        now: i64,
    ) -> Result<HashSet<ContainerId>> {
        // In this order: whose run is not open any more has been put whole before that.
        let spares = self.place.listing("spares")?.into_iter();
        let mut orphaned: Vec<ContainerId> =
            spares.filter_map(|spare| ContainerId::parse(Class::Tree, spare.name.leaf())).collect();
        let open = self.open_runs()?;
        orphaned.retain(|id| !open.contains(&id.run));
        let there: HashSet<ContainerId> =
            self.list_containers()?.into_iter().map(|(id, _)| id).collect();
        orphaned.retain(|id| !there.contains(id));
        if orphaned.is_empty() {
            return Ok(HashSet::new());
        }
        let numbers = orphaned.iter().map(|id| self.containers.number(*id, None)).collect();
        let mut last = HashSet::new();
        self.index.contents_of(&numbers, &mut |number, record, _| {
            if marks.is_needed(&record.prefix) && !self.has_copy(&record.prefix) {
                last.insert(self.containers.get(number).id);
            }
        })?;
        // A run that sleeps may come back to put what the spare belongs to, unless that is condemned or the
        // run was called dead long ago.
        let long_dead = self.dead_by_age(now, false)?;
        orphaned.retain(|id| {
            let container = self.containers.get(self.containers.number(*id, None));
            !last.contains(id) && (container.is_condemned() || long_dead.contains(&id.run))
        });
        for id in &orphaned {
            if let Some(spare) = id.spare()? {
                self.place.delete(&spare)?;
            }
        }
        Ok(last)
    }

    /// Writes the index anew if much of it tells of containers that are gone, and lets bundles go that
    /// hold mostly snapshots that are. `spares`: gone, but for their second copies.
    pub(super) fn compact(&self, session: &Session, spares: &HashSet<ContainerId>) -> Result<()> {
        let mut there: HashSet<ContainerId> =
            self.refresh_index()?.into_iter().map(|(id, _)| id).collect();
        there.extend(spares);
        let (mut all, mut gone) = (0usize, 0usize);
        let mut inputs: Vec<SegmentId> = Vec::new();
        for loaded in self.index.loaded() {
            let Some(id) = loaded.id else { continue };
            inputs.push(id);
            if loaded.segment.containers.iter().all(|one| there.contains(&one.id)) {
                all += loaded.segment.len();
                continue;
            }
            let mut records = loaded.segment.records("the index");
            while let Some(record) = records.next()? {
                all += 1;
                let container = loaded.segment.containers.get(record.container as usize);
                gone += usize::from(container.is_none_or(|one| !there.contains(&one.id)));
            }
        }
        if gone * GONE > all {
            let next = || session.writing.next_segment();
            self.merge_all(&inputs, &there, &session.writing.machine, next)?;
        }
        self.drop_stale_bundles()
    }
}
