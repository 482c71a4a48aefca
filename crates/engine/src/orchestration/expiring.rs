//! Snapshots that nothing retains are marked expired: looked at first, agreed to, recorded.

use std::{collections::HashSet, sync::Arc};

use skellin_plan::{
    Plan,
    retention::{Decision, Reason, Room},
};
use skellin_store::{RunId, Snapshot, Store};

use super::{Failure, Orchestrator};
use crate::{
    counts::FileCounts,
    error::Result,
    expire::{Appraisal, Fate, appraise, fates},
    history::snapshots,
    journal::{Ending, Outcome, Work},
};

/// Why nothing expires unless somebody agrees.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Held {
    /// Much had vanished from the sources at the last run, and nobody has agreed to that.
    Shrunk,
    /// Many would go at once since the sentences have changed.
    Changed,
    /// More than half of the snapshots would go at once.
    MostAtOnce,
}

impl Held {
    /// In words.
    #[must_use]
    pub fn words(self) -> &'static str {
        match self {
            Self::Shrunk => {
                "much had vanished from the sources at the last run, and nobody has agreed to that"
            }
            Self::Changed => "`retain` has changed, and many snapshots would go at once",
            Self::MostAtOnce => "more than half of the snapshots would go at once",
        }
    }
}

/// What became of the snapshots of a plan in a store.
#[derive(Debug)]
pub struct ExpireReport {
    /// What was found.
    pub appraisal: Appraisal,
    /// Why nobody may go on without asking.
    pub held: Option<Held>,
    /// Whether what goes has gone; not if somebody did not agree.
    pub is_done: bool,
}

/// Asked whether the snapshots that go may go.
pub type MayExpire<'a> = dyn Fn(&Appraisal, Option<Held>) -> bool + 'a;

/// With fewer snapshots than these going at once, nobody wonders.
const FEW: usize = 4;

impl Orchestrator<'_> {
    /// What becomes of a plan's snapshots in a store, without anything being done; and why somebody
    /// has to agree. `unattended`: nobody wants it just now.
    ///
    /// # Errors
    /// If the store cannot be read.
    pub fn dry_run_expiry(
        &self,
        plan: &Plan,
        (store_name, store): (&str, &Store),
        unattended: bool,
    ) -> Result<ExpireReport> {
        let appraisal = appraise(store, store_name, plan, self.clock.now())?;
        let going = appraisal.going().count();
        let held = if going == 0 {
            None
        } else if self.is_guard_up(plan) {
            Some(Held::Shrunk)
        } else if !appraisal.changed().is_empty() {
            Some(Held::Changed)
        } else if unattended && going >= FEW && going * 2 > appraisal.fates.len() {
            Some(Held::MostAtOnce)
        } else {
            None
        };
        Ok(ExpireReport { appraisal, held, is_done: going == 0 })
    }

    /// Snapshots of a store that would expire at once in another, by what plans say of that: they are not
    /// copied there again and again. Goals for the room there exclude none that is newer than all there.
    ///
    /// # Errors
    /// If a store cannot be read.
    pub(super) fn unwanted_there(
        &self,
        from: &Store,
        (to_name, to): (&str, &Store),
    ) -> Result<HashSet<RunId>> {
        let plans = self.configuration.plans.iter().filter_map(|file| file.plan.as_ref());
        // Nothing expires in a store that no plan names.
        let is_there = |plan: &&Plan| {
            let mut stores = plan.replicas().chain([plan.store.as_str()]);
            stores.any(|store| store == to_name) && !plan.retained_at(to_name).is_empty()
        };
        let plans: Vec<&Plan> = plans.filter(is_there).collect();
        let mut unwanted = HashSet::new();
        if plans.is_empty() {
            return Ok(unwanted);
        }
        let (pins, there) = (from.pins()?, to.snapshots()?);
        for plan in plans {
            let own = snapshots(from, Some(plan.series()), |_, _| {})?;
            let newest = |snapshot: &Snapshot| {
                let lineage = to.lineage(&snapshot.plan, &snapshot.machine);
                there.iter().filter(|one| one.lineage == lineage).map(|one| one.started).max()
            };
            let (room, now) = (Room::default(), self.clock.now());
            let appraisal = fates(own, (plan, to_name), &pins, now, room, &mut |_| 0);
            let only_room = |fate: &Fate| {
                fate.decision == Decision::Stays(vec![Reason::RoomEnough])
                    && newest(&fate.snapshot).is_some_and(|newest| fate.snapshot.started < newest)
            };
            let left =
                appraisal.fates.iter().filter(|fate| !fate.decision.stays() || only_room(fate));
            unwanted.extend(left.map(|fate| fate.snapshot.run));
        }
        Ok(unwanted)
    }

    /// Whether the last run of a plan was stopped because much had vanished.
    fn is_guard_up(&self, plan: &Plan) -> bool {
        let last = self.journal.and_then(|journal| journal.runs(&plan.name, 1).ok());
        let last = last.and_then(|entries| entries.into_iter().next());
        last.is_some_and(|entry| entry.outcome == Outcome::Guarded)
    }

    /// Expires what no sentence of a plan retains in a store, if somebody agrees to it.
    ///
    /// # Errors
    /// If the store cannot be opened or written.
    pub fn expire<E: Failure>(
        &self,
        plan: &Plan,
        store_name: &str,
        unattended: bool,
        agree: &MayExpire<'_>,
        open: impl FnOnce() -> Result<Arc<Store>, E>,
    ) -> Result<ExpireReport, E> {
        let store = open()?;
        let mut report = self.dry_run_expiry(plan, (store_name, &store), unattended)?;
        if report.is_done || !agree(&report.appraisal, report.held) {
            return Ok(report);
        }
        let entry = self.begin(
            Work::Expire,
            Some(&plan.name),
            store_name,
            plan.machine.as_deref().unwrap_or(self.machine),
            unattended,
        );
        let steps = self.steps(entry);
        let expired = self.wait_for_store(store_name, &steps).and_then(|_queue| {
            let fates: Vec<&Fate> = report.appraisal.going().collect();
            let going: Vec<RunId> = fates.iter().map(|fate| fate.snapshot.run).collect();
            Ok(store.expire(&going, plan.machine.as_deref().unwrap_or(self.machine))?)
        });
        self.finish(entry, &expired, |expired| Ending {
            files: FileCounts { gone: *expired, ..FileCounts::default() },
            ..Ending::at(self.clock.now(), Outcome::Done)
        });
        expired?;
        report.is_done = true;
        Ok(report)
    }
}
