//! Repairs as a whole: a verification, what can be mended, and a verification of what came of it.

use std::{sync::Arc, time::Duration};

use skellin_store::{
    DataShare, MendStart, Reclaim, ReclaimWatch, Snapshot, Store, StoreError, VerifyReport,
    VerifyWatch,
};

use super::{Orchestrator, reading::Recorded};
use crate::{
    counts::FileCounts,
    error::{EngineError, Result},
    event::Event,
    journal::{Ending, Outcome, ProvenShare, Work},
    mending::{Mending, OtherStore},
    run,
    waits::{Awaited, watched},
};

/// So long an open run of another machine is waited for before it is told to check again.
const PATIENCE: Duration = Duration::from_secs(5 * 60);

/// What a repair found and did.
pub struct Repaired {
    /// What was found before.
    pub before: VerifyReport,
    /// What is left, where there was damage.
    pub after: Option<VerifyReport>,
    /// How much of the data is proven now.
    pub share: Option<ProvenShare>,
    /// Contents that were stored anew from files or other stores.
    pub stored: u64,
}

impl Repaired {
    /// Damaged objects that are not damaged any more.
    #[must_use]
    pub fn repaired(&self) -> u64 {
        let Some(after) = &self.after else { return 0 };
        let is_left = |object: &str| after.damage.iter().any(|left| left.object == object);
        self.before.damage.iter().filter(|damage| !is_left(&damage.object)).count() as u64
    }

    /// What is damaged now.
    #[must_use]
    pub fn left(&self) -> &VerifyReport {
        self.after.as_ref().unwrap_or(&self.before)
    }
}

impl Orchestrator<'_> {
    /// Verifies a store and mends what is damaged: by parity, from second copies, from the files of this
    /// machine, and from other stores, which are asked for only if they are needed. Then it verifies
    /// again.
    ///
    /// # Errors
    /// [`StoreError::RestoreOnly`]; as [`Orchestrator::verify`]; or if the store cannot be written to.
    pub fn repair(
        &self,
        (name, store): (&str, &Arc<Store>),
        others: &dyn Fn() -> Vec<OtherStore>,
        share: DataShare,
        (verifies, reclaims): (&dyn VerifyWatch, &dyn ReclaimWatch),
    ) -> Result<Repaired> {
        if store.is_restore_only() {
            return Err(StoreError::RestoreOnly.into());
        }
        let (before, proven) = self.verify(name, store, share, verifies)?;
        if before.damage.is_empty() {
            return Ok(Repaired { before, after: None, share: proven, stored: 0 });
        }
        let entry = self.begin(Work::Repair, None, name, self.machine, false);
        let steps = self.steps(entry);
        let events = Recorded(&steps);
        let result = self.wait_for_store(name, &steps).and_then(|queue| {
            let origin = queue.as_ref().map(|queue| queue.origin.as_str());
            let place: &dyn Awaited = store.place();
            watched(&[place], &events, self.cancel, &|| {}, || {
                self.mend(store, others, &before, (origin, reclaims))
            })
        });
        let result = result.and_then(|stored| {
            let (after, share) = self.verify(name, &store.reopened(), share, verifies)?;
            Ok((stored, after, share))
        });
        run::record_damage(store, self.machine, self.events);
        let result = result.map(|(stored, after, share)| Repaired {
            before,
            after: Some(after),
            share,
            stored,
        });
        self.finish(entry, &result, |repaired| {
            let left = repaired.left().damage.len();
            Ending {
                files: FileCounts {
                    new: repaired.stored,
                    changed: repaired.repaired(),
                    ..FileCounts::default()
                },
                words: (left > 0).then(|| format!("{left} objects are damaged still")),
                hint: (left > 0).then(|| format!("skellin verify {name} lists the files")),
                ..Ending::at(
                    self.clock.now(),
                    if left == 0 { Outcome::Done } else { Outcome::Damage },
                )
            }
        });
        result
    }

    fn mend(
        &self,
        store: &Arc<Store>,
        others: &dyn Fn() -> Vec<OtherStore>,
        before: &VerifyReport,
        (origin, reclaims): (Option<&str>, &dyn ReclaimWatch),
    ) -> Result<u64> {
        run::record_damage(store, self.machine, self.events);
        let now = self.clock.now();
        let mut stored = 0;
        if !before.lost.is_empty() {
            let own = |snapshot: &Snapshot| {
                let file = self.configuration.plan_file(&snapshot.plan).ok();
                let named = file.and_then(|file| file.plan.as_ref()?.machine.clone());
                snapshot.machine == named.as_deref().unwrap_or(self.machine)
            };
            let mending = Mending {
                store,
                start: MendStart { machine: self.machine, origin, now },
                others: &others(),
                own: &own,
                cancel: self.cancel,
                events: self.events,
            };
            stored = mending.bring_back(before)?;
        }
        store.mend_copies()?;
        let request = Reclaim {
            machine: self.machine,
            origin,
            now,
            // What is waste stays, and what is small: only what is damaged is stored anew.
            waste: 100,
            most: 0,
            patience: PATIENCE,
        };
        // What was read to find damage says nothing of what is in no readable segment.
        match Arc::new(store.reopened()).reclaim(&request, reclaims) {
            // What cannot be told from what is needed stays, and so does what is damaged in it.
            Err(error @ StoreError::NoReclaim(_)) => {
                self.events.event(Event::Note(format!("damaged containers stay: {error}")));
            }
            done => drop(done.map_err(EngineError::from)?),
        }
        Ok(stored)
    }
}
