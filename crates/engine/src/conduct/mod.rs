//! Work as a whole: with the plan's lock, the store, and an entry in the journal.

use std::sync::Arc;

use skellin_plan::{Effort, PlaceSpec, Plan};
use skellin_store::{DataShare, Store, VerifyReport, VerifyWatch};

use crate::{
    clock::{Cancel, Clock},
    config::Configuration,
    error::{EngineError, Result},
    event::{Event, EventSink},
    journal::{Beginning, Ending, Journal, Outcome, Work, past_runs},
    lock::PlanLock,
    places::{drive_states, mounted_drives},
    replicate::{self, ReplicateReport, ReplicateRequest},
    restore::{self, RestoreReport, RestoreRequest},
    run::{
        self, ByteCounts, Cost, FileCounts, Outlook, RunReport, RunRequest, RunStatus, Shrinkage,
    },
    thaw,
};

/// So many of the newest runs tell how long the next will take.
const RUNS_THAT_TELL: usize = 30;

/// A failure that can be put into the journal.
pub trait Failure: From<EngineError> {
    /// What failed.
    fn words(&self) -> String;
    /// What to do about it.
    fn hint(&self) -> Option<String>;
    /// Whether somebody stopped it.
    fn is_interruption(&self) -> bool;
}

impl Failure for EngineError {
    fn words(&self) -> String {
        self.to_string()
    }

    fn hint(&self) -> Option<String> {
        Self::hint(self)
    }

    fn is_interruption(&self) -> bool {
        self.is_cancelled()
    }
}

/// Everything work needs beside what is to be done.
pub struct Conductor<'a> {
    /// What is configured.
    pub configuration: &'a Configuration,
    /// Where it is written down; without a journal work is still done.
    pub journal: Option<&'a Journal>,
    /// The machine's own name, which plans may overrule.
    pub machine: &'a str,
    /// The time.
    pub clock: &'a dyn Clock,
    /// Raised to interrupt.
    pub cancel: &'a Cancel,
    /// Told what happens.
    pub events: &'a dyn EventSink,
}

/// What is wanted of a run.
#[derive(Clone, Copy, Default)]
pub struct RunOptions<'a> {
    /// Labels on top of the plan's.
    pub labels: &'a [String],
    /// Whether nothing is to be written.
    pub dry_run: bool,
    /// Whether every path is to be listed in the report.
    pub list_paths: bool,
    /// Asked whether to go on if much is suddenly gone or different; without it a run stops.
    pub agree: Option<&'a (dyn Fn(&Shrinkage) -> bool + Sync)>,
}

impl Conductor<'_> {
    /// Runs a plan, or rehearses it. A rehearsal leaves no trace, neither lock nor entry.
    ///
    /// # Errors
    /// If the plan is being run already, if the store cannot be opened, or as [`run::run`].
    pub fn run<E: Failure>(
        &self,
        plan: &Plan,
        options: RunOptions<'_>,
        open: impl FnOnce() -> Result<Arc<Store>, E>,
    ) -> Result<RunReport, E> {
        let machine = plan.machine.as_deref().unwrap_or(self.machine);
        let _lock = match options.dry_run {
            true => None,
            false => Some(PlanLock::take(&self.configuration.folders.state, &plan.name)?),
        };
        let entry = match options.dry_run {
            true => None,
            false => self.begin(Work::Run, Some(&plan.name), &plan.store, machine),
        };
        let keep_out = self.configuration.keep_out();
        let result = open().and_then(|store| {
            let request = RunRequest {
                plan,
                grounds: &self.configuration.grounds,
                machine,
                labels: options.labels,
                dry_run: options.dry_run,
                list_paths: options.list_paths,
                keep_out: &keep_out,
                agree: options.agree.unwrap_or(&|_| false),
                clock: self.clock,
                cancel: self.cancel,
                events: self.events,
            };
            self.remind(plan);
            let config = self.configuration.stores.fine.get(&plan.store);
            if let Some(words) = config.and_then(thaw::warning) {
                self.events.event(Event::Note(format!("{}: {words}", plan.store)));
            }
            let mut report = run::run(&store, &request)?;
            if report.snapshot.is_some() {
                self.note_drive(plan, &store, report.started);
            }
            if let Some(outlook) = &mut report.outlook {
                self.foretell(plan, &store, report.files, report.bytes.read, outlook);
            }
            Ok(report)
        });
        self.finish(entry, &result, |report| Ending {
            snapshot: report.snapshot,
            files: report.files,
            bytes: report.bytes,
            exception_count: report.exception_count,
            exceptions: &report.exceptions,
            words: report
                .shrinkage
                .as_ref()
                .filter(|_| report.status == RunStatus::Guarded)
                .map(Shrinkage::words),
            rules: plan
                .rules
                .rules()
                .iter()
                .map(|rule| rule.text.clone())
                .zip(report.decided.iter().copied())
                .collect(),
            hint: (report.status == RunStatus::Guarded)
                .then(|| "look whether that is right, then run it again and agree".to_owned()),
            ..Ending::at(
                report.ended,
                match report.status {
                    RunStatus::Done => Outcome::Done,
                    RunStatus::Exceptions => Outcome::Exceptions,
                    RunStatus::Interrupted => Outcome::Interrupted,
                    RunStatus::Guarded => Outcome::Guarded,
                },
            )
        });
        result
    }

    /// Says if it is another drive's turn.
    fn remind(&self, plan: &Plan) {
        let Some(config) = self.configuration.stores.fine.get(&plan.store) else { return };
        let folders = &self.configuration.folders;
        let states = drive_states(config, folders, self.journal, self.clock.now());
        if let Some(due) = states.due() {
            self.events.event(Event::Note(format!("{}: {due}", plan.store)));
        }
    }

    /// Remembers the snapshot that was made on a drive.
    fn note_drive(&self, plan: &Plan, store: &Store, started: i64) {
        let Some(config) = self.configuration.stores.fine.get(&plan.store) else { return };
        let (PlaceSpec::Drive(path), Some(journal)) = (&config.place, self.journal) else { return };
        let id = store.header().store.to_string();
        let found = mounted_drives(path, &self.configuration.folders);
        let Some(name) =
            found.into_iter().find(|drive| drive.id == id).and_then(|drive| drive.name)
        else {
            return;
        };
        let noted = journal.note_drive(&plan.store, (&name, &id), self.clock.now(), Some(started));
        if let Err(error) = noted {
            self.note(&error);
        }
    }

    /// Adds to an outlook what the journal and the store's price tell.
    fn foretell(
        &self,
        plan: &Plan,
        store: &Store,
        files: FileCounts,
        read: u64,
        outlook: &mut Outlook,
    ) {
        let state = &self.configuration.folders.state;
        let past = past_runs(state, &plan.name, &plan.store, RUNS_THAT_TELL);
        let looked_at = files.new + files.changed + files.same + files.skipped;
        let ahead = Effort { files: looked_at, bytes: read };
        if let Some(time) = skellin_plan::expect(&past, ahead) {
            (outlook.time, outlook.runs) = (time, past.len() as u64);
        }
        let price = self.configuration.stores.fine.get(&plan.store);
        outlook.cost = price.and_then(|config| config.price.as_ref()).and_then(|price| {
            let now = store.usage().ok()?.bytes;
            let after = price.month(now + outlook.stored.stored);
            Some(Cost { currency: price.currency.clone(), now: price.month(now), after })
        });
    }

    /// Restores, or rehearses it; a rehearsal leaves no trace.
    ///
    /// # Errors
    /// As [`restore::restore`].
    pub fn restore(
        &self,
        store_name: &str,
        store: &Store,
        request: &RestoreRequest<'_>,
    ) -> Result<RestoreReport> {
        let plan = request.snapshot.plan.as_str();
        let entry = match request.dry_run {
            true => None,
            false => self.begin(Work::Restore, Some(plan), store_name, self.machine),
        };
        let result = restore::restore(store, request);
        self.finish(entry, &result, |report| Ending {
            snapshot: Some(request.snapshot.run.0),
            files: FileCounts {
                new: report.restored,
                same: report.left,
                changed: report.replaced + report.renamed,
                ..FileCounts::default()
            },
            bytes: ByteCounts { read: report.bytes, ..ByteCounts::default() },
            exception_count: report.exception_count,
            exceptions: &report.exceptions,
            ..Ending::at(
                self.clock.now(),
                match (report.interrupted, report.exception_count) {
                    (true, _) => Outcome::Interrupted,
                    (false, 0) => Outcome::Done,
                    (false, _) => Outcome::Exceptions,
                },
            )
        });
        result
    }

    /// Copies snapshots to a store.
    ///
    /// # Errors
    /// As [`replicate`](crate::replicate()), or if the other store cannot be opened.
    pub fn replicate<E: Failure>(
        &self,
        from: &Arc<Store>,
        to_name: &str,
        plan: Option<&str>,
        open: impl FnOnce() -> Result<Arc<Store>, E>,
    ) -> Result<ReplicateReport, E> {
        let entry = self.begin(Work::Replicate, plan, to_name, self.machine);
        let request =
            ReplicateRequest { plan, clock: self.clock, cancel: self.cancel, events: self.events };
        let result = open().and_then(|to| Ok(replicate::replicate(from, &to, &request)?));
        self.finish(entry, &result, |report| Ending {
            files: FileCounts { new: report.copied, same: report.present, ..FileCounts::default() },
            bytes: ByteCounts { read: report.read, new: report.new, stored: report.stored },
            words: report.damaged.first().map(|damaged| {
                format!("{} damaged snapshots: {}", report.damaged.len(), damaged.reason)
            }),
            hint: (!report.damaged.is_empty())
                .then(|| "verify the store they are in: it names the files".to_owned()),
            ..Ending::at(
                self.clock.now(),
                match (report.interrupted, report.damaged.is_empty()) {
                    (true, _) => Outcome::Interrupted,
                    (false, true) => Outcome::Done,
                    (false, false) => Outcome::Damage,
                },
            )
        });
        result
    }

    /// Verifies a store.
    ///
    /// # Errors
    /// As [`Store::verify`].
    pub fn verify(
        &self,
        store_name: &str,
        store: &Store,
        share: DataShare,
        watch: &dyn VerifyWatch,
    ) -> Result<VerifyReport> {
        let entry = self.begin(Work::Verify, None, store_name, self.machine);
        let result = store.verify(share, watch).map_err(EngineError::from);
        self.finish(entry, &result, |report| {
            let damaged = report.damage.len();
            let outcome = if damaged == 0 { Outcome::Done } else { Outcome::Damage };
            Ending {
                bytes: ByteCounts { read: report.bytes_read, ..ByteCounts::default() },
                words: (damaged > 0).then(|| format!("{damaged} damaged objects")),
                hint: (damaged > 0).then(|| format!("skellin verify {store_name} names the files")),
                ..Ending::at(self.clock.now(), outcome)
            }
        });
        result
    }

    fn begin(&self, work: Work, plan: Option<&str>, store: &str, machine: &str) -> Option<i64> {
        let started = self.clock.now();
        let beginning = Beginning { work, plan, store, machine, started };
        match self.journal?.begin(&beginning) {
            Ok(id) => Some(id),
            Err(error) => {
                self.note(&error);
                None
            }
        }
    }

    fn finish<'r, T, E: Failure>(
        &self,
        entry: Option<i64>,
        result: &'r Result<T, E>,
        ending: impl FnOnce(&'r T) -> Ending<'r>,
    ) {
        let (Some(id), Some(journal)) = (entry, self.journal) else { return };
        let ending = match result {
            Ok(done) => ending(done),
            Err(error) => {
                let interrupted = error.is_interruption();
                let outcome = if interrupted { Outcome::Interrupted } else { Outcome::Failed };
                let (words, hint) = (Some(error.words()), error.hint());
                Ending { words, hint, ..Ending::at(self.clock.now(), outcome) }
            }
        };
        if let Err(error) = journal.finish(id, &ending) {
            self.note(&error);
        }
    }

    /// Work is worth more than its record.
    fn note(&self, error: &EngineError) {
        self.events.event(Event::Note(format!("{error}; the work goes on without an entry")));
    }
}
