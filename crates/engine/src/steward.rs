//! What the steward decides at each look: what to start, what waits, when to look again. What it
//! does in the world is handed in, so that a year of it passes in seconds.

use std::collections::{BTreeMap, BTreeSet};

use jiff::Timestamp;

use crate::{
    due::{DuePlan, DueStore, Watch, unwish},
    error::{EngineError, Result},
    journal::Work,
};

/// Something to be done.
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub enum Job {
    /// A run of a plan.
    Run(String),
    /// A verification of a store.
    Verify(String),
    /// The room of what has gone, got back in a store.
    Reclaim(String),
    /// A drill of a plan.
    Drill(String),
}

/// What the steward does in the world.
pub trait Hands {
    /// Begins a job.
    ///
    /// # Errors
    /// Why it could not even be begun.
    fn start(&mut self, job: &Job) -> std::io::Result<()>;

    /// The jobs that have ended since this was asked last.
    fn ended(&mut self) -> Vec<Job>;
}

/// What a look has found.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Look {
    /// What was started.
    pub started: Vec<Job>,
    /// What could not be started, and why.
    pub failed: Vec<(Job, String)>,
    /// What is due and waits for other work in its store.
    pub waiting: Vec<Job>,
    /// When something is due next, in milliseconds since 1970.
    pub next: Option<i64>,
    /// Why the journal could not be used, if it could not.
    pub unrecorded: Option<String>,
}

/// A job that has ended and is due at once again left no trace: it is tried again after so many
/// milliseconds.
const AGAIN: i64 = 10 * 60_000;

/// What the steward knows from one look to the next.
#[derive(Debug, Default)]
pub struct Steward {
    /// What goes on, and the store it writes to.
    going: BTreeMap<Job, String>,
    /// What ended, and what was the time it was due at when it was started.
    served: BTreeMap<Job, Timestamp>,
    /// What is not tried again before a moment.
    put_off: BTreeMap<Job, i64>,
}

impl Steward {
    /// What goes on.
    pub fn going(&self) -> impl Iterator<Item = &Job> {
        self.going.keys()
    }

    /// Takes a look, and starts what is due and can be started: one work for each store at a time.
    ///
    /// # Errors
    /// If the configuration has no such plan any more.
    pub fn look(&mut self, watch: &Watch<'_>, hands: &mut dyn Hands, now: i64) -> Result<Look> {
        for job in hands.ended() {
            self.going.remove(&job);
        }
        let mut look = Look::default();
        // Nothing that is only a record keeps a run from starting.
        let (plans, stores, watch) = match noted(watch, now) {
            Ok((plans, stores)) => (plans, stores, *watch),
            Err(error @ EngineError::Journal { .. }) => {
                look.unrecorded = Some(error.to_string());
                let watch = Watch { journal: None, ..*watch };
                let (plans, stores) = noted(&watch, now)?;
                (plans, stores, watch)
            }
            Err(error) => return Err(error),
        };
        let mut wishes = Vec::new();
        for plan in &plans {
            // One that somebody runs by hand is none of ours.
            let due = plan.next.filter(|_| !plan.is_running);
            let job = Job::Run(plan.plan.clone());
            wishes.extend(due.map(|due| (due.at, job, plan.store.clone())));
        }
        for store in stores {
            let job = match (store.work, &store.plan) {
                (_, Some(plan)) => Job::Drill(plan.clone()),
                (Work::Reclaim, None) => Job::Reclaim(store.store.clone()),
                _ => Job::Verify(store.store.clone()),
            };
            wishes.push((store.next.at, job, store.store));
        }
        wishes.sort();
        let mut busy: BTreeSet<String> = self.going.values().cloned().collect();
        let wanted: BTreeSet<&Job> = wishes.iter().map(|(_, job, _)| job).collect();
        self.served.retain(|job, _| wanted.contains(job));
        self.put_off.retain(|_, until| *until > now && *until <= now + AGAIN);
        let soonest = |at: i64, next: &mut Option<i64>| {
            *next = Some(next.map_or(at, |next| next.min(at)));
        };
        for (at, job, store) in &wishes {
            if self.going.contains_key(job) {
                continue;
            }
            if at.as_millisecond() > now {
                soonest(at.as_millisecond(), &mut look.next);
                continue;
            }
            // What is due again for the very moment it was started for came to no entry.
            if self.served.get(job) == Some(at) && !self.put_off.contains_key(job) {
                self.served.remove(job);
                self.put_off.insert(job.clone(), now + AGAIN);
            }
            if let Some(until) = self.put_off.get(job) {
                soonest(*until, &mut look.next);
                continue;
            }
            if !busy.insert(store.clone()) {
                look.waiting.push(job.clone());
                continue;
            }
            match hands.start(job) {
                Ok(()) => {
                    if let Job::Run(plan) = job {
                        unwish(&watch.configuration.folders.state, plan);
                    }
                    self.going.insert(job.clone(), store.clone());
                    self.served.insert(job.clone(), *at);
                    look.started.push(job.clone());
                }
                Err(error) => {
                    self.put_off.insert(job.clone(), now + AGAIN);
                    soonest(now + AGAIN, &mut look.next);
                    look.failed.push((job.clone(), error.to_string()));
                }
            }
        }
        // What was started a moment ago may be late all the same: it has not come to anything yet.
        match watch.tell_late(&plans, now) {
            Err(error @ EngineError::Journal { .. }) => look.unrecorded = Some(error.to_string()),
            told => drop(told?),
        }
        Ok(look)
    }
}

/// What is due, after the drives that are here are noted.
fn noted(watch: &Watch<'_>, now: i64) -> Result<(Vec<DuePlan>, Vec<DueStore>)> {
    watch.note_drives(now)?;
    Ok((watch.plans(now)?, watch.stores(now)?))
}
