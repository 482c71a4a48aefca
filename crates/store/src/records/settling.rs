//! Runs that were interrupted and have a record still: settled by a verdict, never just forgotten, since
//! what they have put may arrive late.

use std::{collections::HashSet, thread, time::Duration};

use skellin_place::ObjectName;

use crate::{
    error::{Result, StoreError},
    format::{ids::RunId, signed::Machine},
    mistakes::{Mistake, is_in_turn, is_made},
    records::control::{Revoke, Verdict},
    store::Store,
    writing::session::Session,
};

/// So many runs are settled at a time: each takes some requests.
pub(crate) const MOST: usize = 64;
/// With more verdicts than this that tell of deaths alone, they are put together.
const MANY_VERDICTS: usize = 8;

/// So often, and after such pauses, whoever has made the same copy as this process is waited for to take
/// back theirs.
const LOOKS: u32 = 10;
const PAUSE: Duration = Duration::from_secs(1);

impl Session {
    /// Whether another process has made the same copy of a snapshot at the same time, for which this one
    /// was taken back. Called after the copy was made.
    ///
    /// Each of those who made it looks after theirs is listed, so that the last sees all: the one of
    /// the smallest run stays, and who has it and sees another wait takes it back at last, since
    /// that one was made by somebody who has looked already.
    ///
    /// # Errors
    /// If the place fails; the copy is there then.
    pub fn gives_way(&self) -> Result<bool> {
        let (store, own) = (&self.writing.store, self.run());
        for look in 0..LOOKS {
            let listed = store.present_snapshots("snapshots")?;
            let is_same = |other: &&crate::records::snapshot::ListedSnapshot| {
                (other.lineage, other.order) == (self.lineage, self.order) && other.run != own
            };
            let mut others: Vec<RunId> =
                listed.iter().filter(is_same).map(|other| other.run).collect();
            if !others.is_empty() {
                let expired = store.expired_runs()?;
                others.retain(|other| !expired.contains(other));
            }
            let Some(first) = others.into_iter().min() else { return Ok(false) };
            if first < own || look + 1 == LOOKS {
                store.retract(own, &self.snapshot_leaf, &self.writing.machine)?;
                return Ok(true);
            }
            if !is_in_turn() {
                thread::sleep(PAUSE);
            }
        }
        Ok(false)
    }
}

impl Store {
    /// Takes a snapshot back: it is marked expired, then deleted.
    fn retract(&self, run: RunId, leaf: &str, machine: &Machine) -> Result<()> {
        self.mark_expired(run, machine)?;
        for folder in ["snapshots", "spares"] {
            self.place.delete(&ObjectName::new(format!("{folder}/{leaf}"))?)?;
        }
        Ok(())
    }

    /// Settles runs: those without a snapshot are dead from then on, should it ever appear. One that
    /// lives all the same finds its revoke, or its record gone, and is done again.
    ///
    /// The revoke comes before the look for the snapshot, and goes after the record (FORMAT.md, "Runs
    /// and reclaim").
    pub(crate) fn settle(&self, runs: &[RunId], machine: &Machine, now: i64) -> Result<()> {
        let runs = &runs[..runs.len().min(MOST)];
        if runs.is_empty() {
            return Ok(());
        }
        let id = RunId::random()?;
        if is_made(Mistake::RecordWithoutVerdict) {
            return runs.iter().try_for_each(|run| {
                Ok(self.place.delete(&ObjectName::new(format!("runs/{run}"))?)?)
            });
        }
        if !is_made(Mistake::RevokeAfterLook) {
            self.revoke(runs, id, machine)?;
        }
        self.conclude(runs, id, machine, now)
    }

    /// Tells runs, should they live, that they have to be done again.
    pub(crate) fn revoke(&self, runs: &[RunId], id: RunId, machine: &Machine) -> Result<()> {
        for run in runs {
            match self.put_record(&format!("revokes/{run}"), &Revoke { notice: id }, machine) {
                Err(StoreError::Place(error))
                    if error.kind == skellin_place::PlaceErrorKind::Exists => {}
                other => other?,
            }
        }
        Ok(())
    }

    /// Looks which of the revoked runs have a snapshot, declares the others dead, and removes what
    /// speaks of them.
    pub(crate) fn conclude(
        &self,
        runs: &[RunId],
        id: RunId,
        machine: &Machine,
        now: i64,
    ) -> Result<()> {
        let there: HashSet<RunId> =
            self.present_snapshots("snapshots")?.into_iter().map(|listed| listed.run).collect();
        if is_made(Mistake::RevokeAfterLook) {
            self.revoke(runs, id, machine)?;
        }
        let dead: Vec<RunId> = runs.iter().filter(|run| !there.contains(run)).copied().collect();
        if !dead.is_empty() {
            self.put_verdict(id, &dead, machine, now)?;
            for spare in self.present_snapshots("spares")? {
                if dead.contains(&spare.run) {
                    self.place
                        .delete(&ObjectName::new(format!("spares/{}", spare.object.leaf()))?)?;
                }
            }
        }
        for run in runs {
            self.place.delete(&ObjectName::new(format!("runs/{run}"))?)?;
            // Somebody else may have looked before its snapshot came, and have a verdict on the way: the
            // run has to see that it was revoked, or it would end well and be called dead later.
            if !there.contains(run) {
                self.place.delete(&ObjectName::new(format!("revokes/{run}"))?)?;
            }
        }
        Ok(())
    }

    /// Puts a verdict that runs are dead; what earlier ones say goes into it if there are many.
    fn put_verdict(&self, id: RunId, dead: &[RunId], machine: &Machine, now: i64) -> Result<()> {
        let mut before = self.verdicts()?;
        before.retain(|(_, verdict)| verdict.deleted.is_empty());
        if before.len() < MANY_VERDICTS {
            before.clear();
        }
        let mut all: Vec<RunId> = dead.to_vec();
        all.extend(before.iter().flat_map(|(_, verdict)| &verdict.dead));
        all.sort_unstable();
        all.dedup();
        let verdict = Verdict { deleted: Vec::new(), dead: all, at: Some(now) };
        self.put_record(&format!("verdicts/{id}"), &verdict, machine)?;
        for (name, _) in before {
            self.place.delete(&name)?;
        }
        Ok(())
    }
}
