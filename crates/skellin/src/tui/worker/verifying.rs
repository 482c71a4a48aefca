//! A verification of a store, and the repair of what it finds.

use skellin_engine::{Cancel, EngineError, Event, OtherStore, Progress};
use skellin_store::{
    DataShare, ReclaimProgress, ReclaimWatch, VerifyProgress, VerifyReport, VerifyWatch,
};

use super::{JobEnd, Report, Shared, catalogue, jobs::Job, locked};

/// What came of a verification.
#[derive(Debug)]
pub(crate) struct Verified {
    /// What it found.
    pub report: VerifyReport,
    /// With a repair: how many objects it has mended, and what is left.
    pub repaired: Option<(u64, VerifyReport)>,
}

struct Watch<'a> {
    shared: &'a Shared,
    job: u64,
    cancel: &'a Cancel,
}

impl Watch<'_> {
    fn tell(&self, progress: Progress) {
        self.shared.tell(Report::Event { job: self.job, event: Event::Progress(progress) });
    }
}

impl VerifyWatch for Watch<'_> {
    fn is_cancelled(&self) -> bool {
        self.cancel.is_cancelled()
    }

    fn progress(&self, progress: VerifyProgress) {
        self.tell(Progress {
            files: progress.containers_done as u64,
            total_files: Some(progress.containers as u64),
            bytes: progress.bytes,
            read: progress.bytes,
            ..Progress::default()
        });
    }
}

impl ReclaimWatch for Watch<'_> {
    fn is_cancelled(&self) -> bool {
        self.cancel.is_cancelled()
    }

    fn progress(&self, progress: ReclaimProgress) {
        self.tell(Progress {
            files: progress.done,
            total_files: Some(progress.all),
            ..Progress::default()
        });
    }
}

/// Reads all of a store; `repair`: and mends what is damaged.
pub(super) fn verify(shared: &Shared, number: u64, (name, repair): (&str, bool), cancel: &Cancel) {
    let job = Job::new(shared, number, cancel);
    let watch = Watch { shared, job: number, cancel };
    let end = job.conduct_as(&|event| event, |orchestrator| -> Result<Verified, EngineError> {
        let store = shared.store(name)?;
        if !repair {
            let (report, _) = orchestrator.verify(name, &store, DataShare::All, &watch)?;
            return Ok(Verified { report, repaired: None });
        }
        let others = || others(shared, name);
        let watches = (&watch as &dyn VerifyWatch, &watch as &dyn ReclaimWatch);
        let repaired = orchestrator.repair((name, &store), &others, DataShare::All, watches)?;
        let left = (repaired.repaired(), repaired.left().clone());
        Ok(Verified { report: repaired.before, repaired: Some(left) })
    });
    if repair {
        // What was moved is found by whoever opens it anew.
        locked(&shared.stores).remove(name);
        catalogue::open(shared, name, None);
    }
    job.carry();
    let end = end.map(Box::new).map_err(Into::into);
    shared.tell(Report::Ended { job: number, end: JobEnd::Verify(end) });
}

/// The other stores that are open.
fn others(shared: &Shared, own: &str) -> Vec<OtherStore> {
    let configuration = shared.configuration();
    let named = configuration.stores.fine.values();
    named
        .filter(|store| store.name != own && store.passphrase.is_some())
        // One that cannot be reached does not help.
        .filter_map(|store| {
            let name = store.name.clone();
            Some(OtherStore { store: shared.store(&name).ok()?, name })
        })
        .collect()
}
