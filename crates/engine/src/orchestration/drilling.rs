//! Drills as a whole: with a lock, an entry in the journal, and what it remembers of them.

use skellin_plan::Standing;
use skellin_store::{Entry, Snapshot, Store};

use super::Orchestrator;
use crate::{
    counts::{ByteCounts, FileCounts},
    drill::{self, DrillReport, DrillRequest, Share},
    error::{EngineError, Result},
    journal::{DrillRecord, Ending, Outcome, Work},
    lock::PlanLock,
    orchestration::reading::Recorded,
    run,
    waits::{Awaited, watched},
};

/// What is wanted of a drill.
#[derive(Clone, Copy)]
pub struct DrillOptions<'a> {
    /// How much is restored.
    pub share: Share,
    /// Below this directory it is restored to; none for the cache.
    pub scratch: Option<&'a std::path::Path>,
    /// When the snapshot before was begun, in milliseconds since 1970.
    pub before: Option<i64>,
    /// Whether the store was opened with its place and a passphrase alone.
    pub as_lost: bool,
    /// Whether nobody is there: it was started by itself.
    pub unattended: bool,
}

impl Orchestrator<'_> {
    /// Drills a snapshot of a plan.
    ///
    /// # Errors
    /// [`EngineError::AlreadyDrilling`], or as [`drill::drill`].
    pub fn drill(
        &self,
        plan: &str,
        (store_name, store): (&str, &Store),
        snapshot: &Snapshot,
        options: DrillOptions<'_>,
    ) -> Result<DrillReport> {
        let folders = &self.configuration.folders;
        // A name of a plan has no dot.
        let lock = PlanLock::take(&folders.state, &format!("drill.{plan}"));
        let _lock = lock.map_err(|error| match error {
            EngineError::AlreadyRunning(_) => EngineError::AlreadyDrilling(plan.to_owned()),
            other => other,
        })?;
        let unattended = options.unattended;
        let entry = self.begin(Work::Drill, Some(plan), store_name, self.machine, unattended);
        let steps = self.steps(entry);
        let whole_until = self.journal.and_then(|journal| journal.whole_until(plan).ok().flatten());
        let tried = self.journal.and_then(|journal| journal.tried(plan).ok()).unwrap_or_default();
        let is_tried = |path: &[u8], file: &Entry| {
            let moment = file.changed.seconds.max(file.modified.seconds).saturating_mul(1000);
            whole_until.is_some_and(|until| moment < until) || tried.has(path, file)
        };
        let mut seed = [0; 32];
        // Without random numbers the same files are likelier each time, which is no worse than none.
        let _ = getrandom::fill(&mut seed);
        let file = self.configuration.plan_file(plan).ok().and_then(|file| file.plan.as_ref());
        let machine = file.and_then(|plan| plan.machine.clone());
        let own = machine.as_deref().unwrap_or(self.machine);
        let events = Recorded(&steps);
        let request = DrillRequest {
            snapshot,
            before: options.before,
            share: options.share,
            scratch: options.scratch.unwrap_or(&folders.cache),
            is_own: snapshot.machine == own,
            is_tried: &is_tried,
            seed,
            cancel: self.cancel,
            events: &events,
        };
        let place: &dyn Awaited = store.place();
        let result =
            watched(&[place], &events, self.cancel, &|| {}, || drill::drill(store, &request));
        run::record_damage(store, self.machine, self.events);
        self.finish(entry, &result, |report| {
            let outcome = match (report.interrupted, report.wrong_count) {
                (true, _) => Outcome::Interrupted,
                (false, 0) => Outcome::Done,
                (false, _) => Outcome::Damage,
            };
            Ending {
                snapshot: Some(snapshot.run),
                files: FileCounts { new: report.files, same: report.live, ..FileCounts::default() },
                bytes: ByteCounts { read: report.bytes, ..ByteCounts::default() },
                exception_count: report.wrong_count,
                exceptions: &report.wrong,
                hint: (report.wrong_count > 0)
                    .then(|| format!("skellin verify {store_name} shows what is damaged")),
                ..Ending::at(self.clock.now(), outcome)
            }
        });
        if let (Ok(report), Some(plan)) = (&result, file)
            && !report.interrupted
        {
            let standing = match report.wrong_count {
                0 => Standing::Matched,
                _ => Standing::Mismatched,
            };
            let words = format!("{} files did not match", report.wrong_count);
            let hint = format!("skellin verify {store_name} shows what is damaged");
            let mut plans = std::iter::once(plan);
            self.tell_of_proof(&mut plans, standing, (entry, Some(words), Some(hint)));
        }
        if let (Ok(report), Some(journal), Some(entry)) = (&result, self.journal, entry)
            && let Some((snapshot, made)) = report.snapshot
            && !report.interrupted
        {
            let record = DrillRecord {
                entry,
                started: journal.entry(entry)?.map_or(0, |entry| entry.started),
                store: store_name.to_owned(),
                snapshot,
                made,
                is_whole: report.is_whole,
                as_lost: options.as_lost,
                files: (report.files, report.of.0),
                bytes: (report.bytes, report.of.1),
                wrong: report.wrong_count,
                whole_seconds: report.whole_seconds,
            };
            if let Err(error) = journal.note_drill(plan, &record, &report.sample) {
                self.note(&error);
            }
        }
        result
    }
}
