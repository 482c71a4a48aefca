//! Getting back the room of what no listed snapshot needs, beside runs, restores and other reclaims,
//! by the protocol of FORMAT.md ("Runs and reclaim"): what is needed is stored anew first, then a
//! notice is put, every open run has answered or is told to check again, and only what has a copy
//! elsewhere is deleted.

mod choosing;
mod compacting;
mod condemning;
mod marking;
mod moving;
#[cfg(test)]
mod tests;

use std::{collections::HashSet, sync::Arc, time::Duration};

use crate::{
    containers::Standing,
    error::{Result, StoreError, Unfit},
    format::{
        compress::Compression,
        ids::{ContainerId, RunId},
    },
    index::Listing,
    store::Store,
    writing::session::{Session, SessionStart},
};
use choosing::{Choice, Limits, Weighed, choose, weigh};
pub use marking::Marks;
use moving::Moved;

/// Containers of a run that came to nothing are left alone for so long, in milliseconds: whoever takes
/// it up finds them.
const YOUNG: i64 = 7 * 24 * 3600 * 1000;

/// What was begun at the place and not written to for so many seconds is nobody's, whoever is about.
const LEFT: u64 = 7 * 24 * 3600;

/// How a reclaim is done.
#[derive(Clone, Copy, Debug)]
pub struct Reclaim<'a> {
    /// The machine's name.
    pub machine: &'a str,
    /// Whose work in this store is done one after the other, as in [`SessionStart`].
    pub origin: Option<&'a str>,
    /// Now, in milliseconds since 1970.
    pub now: i64,
    /// So many percent of the store may be waste.
    pub waste: u8,
    /// At most so many bytes are stored anew.
    pub most: u64,
    /// So long an open run is waited for before it is told to check again.
    pub patience: Duration,
}

/// How far a reclaim is.
#[derive(Clone, Copy, Debug)]
pub struct ReclaimProgress {
    /// What it does: `look`, `store`, `wait`, `delete`.
    pub stage: &'static str,
    /// Bytes, or objects, done with.
    pub done: u64,
    /// Of all.
    pub all: u64,
}

/// Who watches a reclaim.
pub trait ReclaimWatch: Sync {
    /// Whether it is to stop.
    fn is_cancelled(&self) -> bool;
    /// Told how far it is.
    fn progress(&self, progress: ReclaimProgress);
}

/// What a reclaim found and did.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct ReclaimReport {
    /// Snapshots that are listed.
    pub snapshots: u64,
    /// Containers, and their bytes, before.
    pub containers: u64,
    /// Bytes of all containers before.
    pub bytes: u64,
    /// Bytes that nobody needed.
    pub waste: u64,
    /// Containers that were deleted, or would be.
    pub deleted: u64,
    /// Their bytes.
    pub freed: u64,
    /// Containers of which what is needed was stored anew, or would be.
    pub moved: u64,
    /// Bytes of those containers that somebody needs: less cannot be stored anew.
    pub needed: u64,
    /// Bytes of blocks that were read for that; a far place is asked for neighbouring ones together.
    pub read: u64,
    /// Bytes of containers that were stored anew.
    pub stored: u64,
    /// Containers that stay for now, since an open run uses them or something needs them still.
    pub spared: u64,
    /// Open runs that were told to check again.
    pub revoked: u64,
    /// Containers that could not be read, with the reason.
    pub unreadable: Vec<(String, String)>,
    /// Whether more would have been stored anew but for the limit.
    pub is_limited: bool,
}

impl Store {
    /// What a reclaim would do, without anything being written at the place.
    ///
    /// # Errors
    /// As [`reclaim`](Self::reclaim).
    pub fn dry_run_reclaim(
        &self,
        reclaim: &Reclaim<'_>,
        watch: &dyn ReclaimWatch,
    ) -> Result<ReclaimReport> {
        let old = self.condemn_from_notices(&HashSet::new())?;
        let listed = self.load_index_now(Listing::After)?.containers;
        let (_, choice, report) = self.look(reclaim, (&listed, &old, None), watch)?;
        let all = || choice.dead.iter().chain(&choice.moved);
        let freed = all().map(|one| one.size).sum();
        let needed = choice.needed();
        let (deleted, moved) = (all().count() as u64, choice.moved.len() as u64);
        Ok(ReclaimReport { deleted, freed, moved, needed, read: needed, stored: needed, ..report })
    }

    /// Gets back the room of what no listed snapshot needs. May be stopped at any moment, and is then
    /// taken up by the next.
    ///
    /// # Errors
    /// [`StoreError::NoReclaim`] if the place does not let what is written be listed or deleted, or a
    /// tree cannot be read; else if the place fails. No snapshot is harmed by that.
    pub fn reclaim(
        self: &Arc<Self>,
        reclaim: &Reclaim<'_>,
        watch: &dyn ReclaimWatch,
    ) -> Result<ReclaimReport> {
        self.be_fit_for_reclaim()?;
        self.delete_expired()?;
        let session = Session::begin(
            self,
            &SessionStart {
                plan: "",
                machine: reclaim.machine,
                started: reclaim.now,
                order: None,
                origin: reclaim.origin,
                compression: Compression::Default,
            },
        )?;
        self.settle(session.comparison().dead(), &session.writing.machine, reclaim.now)?;
        let done = self.reclaim_within(&session, reclaim, watch);
        match &done {
            // Nothing of it is under way, and no snapshot will ever come of it.
            Ok(_) => self.place.delete(&session.record_name()?)?,
            Err(_) => session.abandon(),
        }
        done
    }

    fn reclaim_within(
        &self,
        session: &Arc<Session>,
        reclaim: &Reclaim<'_>,
        watch: &dyn ReclaimWatch,
    ) -> Result<ReclaimReport> {
        let old = session.notices();
        let listed = self.list_containers()?;
        let own = Some(session.run());
        let (mut marks, choice, mut report) = self.look(reclaim, (&listed, &old, own), watch)?;
        let all: Vec<Weighed> = choice.dead.iter().chain(&choice.moved).copied().collect();
        // From here on this process uses none of them.
        for one in &all {
            let number = self.containers.number(one.id, None);
            self.containers.get(number).set_standing(Standing::Condemned);
        }
        let moved = self.store_anew(session, &choice, &marks, watch)?;
        (report.needed, report.read) = (choice.needed(), moved.read);
        report.stored = session.stored_bytes();
        report.moved = (choice.moved.len() - moved.unreadable.len()) as u64;
        let is_unreadable =
            |id: &ContainerId| moved.unreadable.iter().any(|(other, _)| other == id);
        let victims: Vec<Weighed> =
            all.iter().filter(|one| !is_unreadable(&one.id)).copied().collect();
        report.unreadable =
            moved.unreadable.iter().map(|(id, why)| (id.to_string(), why.clone())).collect();
        if !victims.is_empty() {
            self.condemn_and_delete(session, (&victims, &mut marks), reclaim, watch, &mut report)?;
        }
        let spares = self.drop_orphaned_spares(&marks, reclaim.now)?;
        drop(marks);
        self.remove_resolved_notices(&session.writing.machine, reclaim.now)?;
        self.compact(session, &spares)?;
        // Leftovers cost room, no more.
        let _ = self.place.sweep(LEFT);
        Ok(report)
    }

    fn store_anew(
        &self,
        session: &Arc<Session>,
        choice: &Choice,
        marks: &Marks,
        watch: &dyn ReclaimWatch,
    ) -> Result<Moved> {
        let all = choice.moved.iter().map(|one| one.size).sum();
        let mut done = 0;
        moving::move_out(session, &choice.moved, marks, watch, &mut |bytes| {
            done += bytes;
            watch.progress(ReclaimProgress { stage: "store", done, all });
        })
    }

    /// What is needed and what is not: marks, and what is given up.
    fn look(
        &self,
        reclaim: &Reclaim<'_>,
        (listed, old, own): (&[(ContainerId, u64)], &[skellin_place::ObjectName], Option<RunId>),
        watch: &dyn ReclaimWatch,
    ) -> Result<(Marks, Choice, ReclaimReport)> {
        watch.progress(ReclaimProgress { stage: "look", done: 0, all: listed.len() as u64 });
        let mut must = self.victims_of(old)?;
        // What was condemned once goes, also if it has come back.
        must.extend(
            listed
                .iter()
                .map(|(id, _)| *id)
                .filter(|id| self.containers.get(self.containers.number(*id, None)).is_condemned()),
        );
        let open = self.open_runs()?;
        // What is damaged goes once all that can be read of it lies elsewhere.
        must.extend(listed.iter().map(|(id, _)| *id).filter(|id| {
            let container = self.containers.get(self.containers.number(*id, None));
            container.standing() == Standing::Damaged && !open.contains(&id.run)
        }));
        let young = self.dead_by_age(reclaim.now, true)?;
        let mut marks = self.marks()?;
        let snapshots = self.mark_all(&mut marks, &|| watch.is_cancelled())?;
        let weighed = weigh(&marks, &self.containers, listed, &must)?;
        let spared = |one: &Weighed| {
            let run = one.id.run;
            let is_left = one.needed == 0.0 && !one.is_copy && young.contains(&run);
            Some(run) != own && open.contains(&run) || is_left
        };
        let limits = Limits {
            waste: reclaim.waste,
            moved: reclaim.most,
            full: u64::from(self.full_container()),
        };
        let choice = choose(&weighed, &must, &spared, limits);
        let report = ReclaimReport {
            snapshots,
            containers: listed.len() as u64,
            bytes: choice.bytes,
            waste: choice.waste,
            is_limited: choice.is_limited,
            ..ReclaimReport::default()
        };
        Ok((marks, choice, report))
    }

    /// Runs that were called dead a short time ago, or a long time.
    fn dead_by_age(&self, now: i64, young: bool) -> Result<HashSet<RunId>> {
        let is_young = |at: i64| now.saturating_sub(at) < YOUNG;
        let verdicts = self.verdicts()?.into_iter();
        let fitting = verdicts.filter(|(_, verdict)| young == verdict.at.is_some_and(is_young));
        Ok(fitting.flat_map(|(_, verdict)| verdict.dead).collect())
    }

    /// Whether the place is as a reclaim needs it: what is created is listed at once, what is deleted
    /// is not any more, and this account may delete.
    fn be_fit_for_reclaim(&self) -> Result<()> {
        let probe = skellin_place::ObjectName::new(format!(
            "acks/{}-{}",
            RunId::random()?,
            RunId::random()?
        ))?;
        let is_listed = || -> Result<bool> {
            Ok(self.place.listing("acks")?.iter().any(|one| one.name == probe))
        };
        self.place.create(&probe, b"a reclaim looks whether it can be listed and deleted")?;
        let was_listed = is_listed()?;
        if let Err(error) = self.place.delete(&probe) {
            return Err(StoreError::NoReclaim(Unfit::CannotDelete(error.reason())));
        }
        if !was_listed || is_listed()? {
            return Err(StoreError::NoReclaim(Unfit::ListsLate));
        }
        Ok(())
    }
}
