//! The room of what has gone, got back in a store.

use std::{sync::Arc, time::Duration};

use skellin_store::{Reclaim, ReclaimReport, ReclaimWatch, Store};

use super::{Failure, Orchestrator, reading::Recorded};
use crate::{
    counts::{ByteCounts, FileCounts},
    error::{EngineError, Result},
    journal::{Ending, Outcome, Work},
    waits::{Awaited, watched},
};

/// So long an open run of another machine is waited for before it is told to check again.
const PATIENCE: Duration = Duration::from_secs(5 * 60);

/// How much a reclaim does.
#[derive(Clone, Copy, Debug)]
pub struct ReclaimLimits {
    /// So many percent of the store may be waste.
    pub waste: u8,
    /// At most so many bytes are stored anew.
    pub most: u64,
}

impl Default for ReclaimLimits {
    fn default() -> Self {
        Self { waste: 10, most: u64::MAX }
    }
}

impl Orchestrator<'_> {
    fn reclaim_request(&self, limits: ReclaimLimits) -> Reclaim<'_> {
        Reclaim {
            machine: self.machine,
            origin: None,
            now: self.clock.now(),
            waste: limits.waste,
            most: limits.most,
            patience: PATIENCE,
        }
    }

    /// What a reclaim would do; nothing is written, neither lock nor entry.
    ///
    /// # Errors
    /// As [`Store::dry_run_reclaim`].
    pub fn dry_run_reclaim(
        &self,
        store: &Store,
        limits: ReclaimLimits,
        watch: &dyn ReclaimWatch,
    ) -> Result<ReclaimReport> {
        let place: &dyn Awaited = store.place();
        watched(&[place], self.events, self.cancel, &|| {}, || {
            Ok(store.dry_run_reclaim(&self.reclaim_request(limits), watch)?)
        })
    }

    /// Gets back the room of what no snapshot needs.
    ///
    /// # Errors
    /// As [`Store::reclaim`], or if the store cannot be opened.
    pub fn reclaim<E: Failure>(
        &self,
        store_name: &str,
        (limits, unattended): (ReclaimLimits, bool),
        watch: &dyn ReclaimWatch,
        open: impl FnOnce() -> Result<Arc<Store>, E>,
    ) -> Result<ReclaimReport, E> {
        let entry = self.begin(Work::Reclaim, None, store_name, self.machine, unattended);
        let steps = self.steps(entry);
        let events = Recorded(&steps);
        let told = |error: &E| (error.words(), error.is_interruption());
        let result = self.wait_for_store(store_name, &steps).map_err(E::from).and_then(|queue| {
            let store = steps.step("reach", store_name, told, open)?;
            let origin = queue.as_ref().map(|queue| queue.origin.as_str());
            let request = Reclaim { origin, ..self.reclaim_request(limits) };
            steps.step("reclaim", store_name, told, || {
                let place: &dyn Awaited = store.place();
                let work = || store.reclaim(&request, watch).map_err(EngineError::from);
                Ok(watched(&[place], &events, self.cancel, &|| {}, work)?)
            })
        });
        self.finish(entry, &result, |report| {
            let unread = report.unreadable.len();
            Ending {
                files: FileCounts {
                    gone: report.deleted,
                    same: report.spared,
                    ..FileCounts::default()
                },
                bytes: ByteCounts {
                    read: report.freed,
                    stored: report.stored,
                    ..ByteCounts::default()
                },
                words: (unread > 0).then(|| format!("{unread} containers could not be read")),
                hint: (unread > 0).then(|| format!("skellin verify {store_name} lists the files")),
                ..Ending::at(
                    self.clock.now(),
                    if unread > 0 { Outcome::Damage } else { Outcome::Done },
                )
            }
        });
        result
    }
}
