//! Work as a whole: with the plan's lock, the store, an entry in the journal and its steps, and what
//! is told of it.

mod drilling;
mod expiring;
mod owing;
mod reading;
mod reclaiming;
mod repairing;
mod telling;

use std::{path::PathBuf, sync::Arc};

use skellin_plan::{Effort, PlaceSpec, Plan, Speed, Standing};
use skellin_store::{ContainerId, DataShare, Store, Suspect, VerifyReport, VerifyWatch};

use crate::{
    around::Surroundings,
    clock::{Cancel, Clock},
    config::Configuration,
    counts::{ByteCounts, FileCounts},
    error::{EngineError, Result},
    event::{Event, EventSink},
    journal::{Beginning, Ending, Journal, Outcome, ProvenShare, StepRecord, Work, past_runs},
    lock::{PlanLock, StoreLock},
    places::{drive_states, mounted_drives},
    replicate::{self, ReplicateReport, ReplicateRequest},
    restore::{self, RestoreReport, RestoreRequest},
    run::{self, Cost, Outlook, RunReport, RunRequest, RunStatus, Shrinkage},
    thaw,
    waits::{Awaited, watched},
};

pub use drilling::DrillOptions;
pub use expiring::{ExpireReport, Held, MayExpire};
use reading::{AroundReading, Recorded, Steps};
pub use reclaiming::ReclaimLimits;
pub use repairing::Repaired;
pub(crate) use telling::last_good;
pub use telling::{RunAndCopies, Stage};

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
pub struct Orchestrator<'a> {
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
    /// Told of every path and what becomes of it, in no particular order.
    pub paths: Option<&'a run::TellPath<'a>>,
    /// Whether everything else on the machine goes first, if the plan says nothing of it.
    pub gentle: bool,
    /// Whether nobody is there: it was started by itself.
    pub unattended: bool,
    /// Asked whether to go on if much is suddenly gone or different; without it a run stops.
    pub agree: Option<&'a (dyn Fn(&Shrinkage) -> bool + Sync)>,
}

/// What to do about a command that should have left and did not.
const LEAVE_HINT: &str = "something may still be stopped: check it, and run the command by hand";

/// Damage that was found, in words.
#[must_use]
pub fn damage_words(damage: &[Suspect]) -> String {
    let first = damage
        .first()
        .map_or(String::new(), |first| format!("{} is damaged: {}", first.object, first.why));
    match damage.len() {
        0 | 1 => first,
        more => format!("{first}; {} more", more - 1),
    }
}

fn outcome_of(status: RunStatus) -> Outcome {
    match status {
        RunStatus::Done => Outcome::Done,
        RunStatus::Exceptions => Outcome::Exceptions,
        RunStatus::Interrupted => Outcome::Interrupted,
        RunStatus::Guarded => Outcome::Guarded,
    }
}

/// How a run is remembered.
fn run_ending<'r>(plan: &Plan, report: &'r RunReport) -> Ending<'r> {
    let is_guarded = report.status == RunStatus::Guarded;
    let noticed = report.shrinkage.as_ref().filter(|_| is_guarded).map(Shrinkage::words);
    let not_left = (!report.not_left.is_empty())
        .then(|| format!("`leave` failed: {}", report.not_left.join("; ")));
    let not_entered = (!report.not_entered.is_empty())
        .then(|| format!("`enter` failed, continued without: {}", report.not_entered.join("; ")));
    let damage = (!report.damage.is_empty()).then(|| damage_words(&report.damage));
    let hint = match (is_guarded, &not_left, &damage) {
        (true, ..) => Some("check whether this is right, then run it again and agree".to_owned()),
        (false, Some(_), _) => Some(LEAVE_HINT.to_owned()),
        (false, None, Some(_)) => {
            Some(format!("skellin verify {} lists the files that older snapshots lost", plan.store))
        }
        (false, None, None) => None,
    };
    let rules = plan.rules.rules().iter().map(|rule| rule.text.clone());
    Ending {
        snapshot: report.snapshot,
        files: report.files,
        bytes: report.bytes,
        exception_count: report.exception_count,
        exceptions: &report.exceptions,
        words: not_left.or(noticed).or(damage).or(not_entered),
        hint,
        rules: rules.zip(report.decided.iter().copied()).collect(),
        ..Ending::at(report.ended, outcome_of(report.status))
    }
}

impl Orchestrator<'_> {
    /// Runs a plan, or makes a dry run of it, which leaves no trace, neither lock nor entry.
    ///
    /// # Errors
    /// If the plan is being run already, if the store cannot be opened, or as [`run::run`].
    pub fn run<E: Failure>(
        &self,
        plan: &Plan,
        options: RunOptions<'_>,
        open: impl FnOnce() -> Result<Arc<Store>, E>,
    ) -> Result<RunReport, E> {
        self.run_with_entry(plan, options, open).1
    }

    /// As [`run`](Self::run), with the number of its entry in the journal.
    fn run_with_entry<E: Failure>(
        &self,
        plan: &Plan,
        options: RunOptions<'_>,
        open: impl FnOnce() -> Result<Arc<Store>, E>,
    ) -> (Option<i64>, Result<RunReport, E>) {
        let machine = plan.machine.as_deref().unwrap_or(self.machine);
        if options.dry_run {
            let report = open().and_then(|store| {
                let keep_out = self.configuration.keep_out();
                let request = self.request(plan, machine, &options, &keep_out, (&(), self.events));
                let mut report = run::run(&store, &request)?;
                if let Some(outlook) = &mut report.outlook {
                    self.foretell(plan, &store, report.files, report.bytes.read, outlook);
                }
                Ok(report)
            });
            return (None, report);
        }
        let _lock = match PlanLock::take(&self.configuration.folders.state, &plan.name) {
            Ok(lock) => {
                lock.mark();
                Some(lock)
            }
            // A snapshot is worth more than the certainty that nobody makes another beside it.
            Err(error) if error.is_no_room() => {
                self.events
                    .event(Event::Note(format!("{error}; the run continues without a lock")));
                None
            }
            Err(error) => return (None, Err(error.into())),
        };
        let unattended = options.unattended;
        let entry = self.begin(Work::Run, Some(&plan.name), &plan.store, machine, unattended);
        let steps = self.steps(entry);
        self.leave_what_is_owed(Some(&plan.name), &steps);
        let result = self.run_inside(plan, machine, &options, &steps, open);
        self.finish(entry, &result, |report| run_ending(plan, report));
        (entry, result)
    }

    fn steps(&self, entry: Option<i64>) -> Steps<'_> {
        Steps { journal: self.journal, entry, clock: self.clock, events: self.events }
    }

    fn request<'r>(
        &'r self,
        plan: &'r Plan,
        machine: &'r str,
        options: &RunOptions<'r>,
        keep_out: &'r [PathBuf],
        (around, events): (&'r dyn run::Surrounding, &'r dyn EventSink),
    ) -> RunRequest<'r> {
        RunRequest {
            plan,
            configuration: &[],
            source_hosts: &self.configuration.source_hosts,
            machine,
            origin: None,
            labels: options.labels,
            dry_run: options.dry_run,
            paths: options.paths,
            keep_out,
            agree: options.agree.unwrap_or(&|_| false),
            around,
            gentle: plan.speed.map_or(options.gentle, |speed| speed == Speed::Quiet),
            clock: self.clock,
            cancel: self.cancel,
            events,
        }
    }

    /// The steps of a run, one after the other.
    fn run_inside<E: Failure>(
        &self,
        plan: &Plan,
        machine: &str,
        options: &RunOptions<'_>,
        steps: &Steps<'_>,
        open: impl FnOnce() -> Result<Arc<Store>, E>,
    ) -> Result<RunReport, E> {
        let state = &self.configuration.folders.state;
        let queue = self.wait_for_store(&plan.store, steps)?;
        let origin = queue.as_ref().map(|queue| queue.origin.as_str());
        let told = |error: &E| (error.words(), error.is_interruption());
        let store = steps.step("reach", &plan.store, told, open)?;
        self.remind(plan);
        let config = self.configuration.stores.fine.get(&plan.store);
        if let Some(words) = config.and_then(thaw::warning) {
            self.events.event(Event::Note(format!("{}: {words}", plan.store)));
        }
        let record = |step: StepRecord| steps.add(&step);
        let source_hosts = &self.configuration.source_hosts;
        let around = Surroundings::new(plan, source_hosts, state, self.clock, &record);
        let around = AroundReading::new(steps, &plan.store, self.cancel, around);
        let keep_out = self.configuration.keep_out();
        let events = Recorded(steps);
        let with: (&dyn run::Surrounding, &dyn EventSink) = (&around, &events);
        let kept = self.configuration.kept(&plan.name);
        let request = self.request(plan, machine, options, &keep_out, with);
        let ran = run::run(&store, &RunRequest { origin, configuration: &kept, ..request });
        let outcome = match &ran {
            Ok(report) => outcome_of(report.status),
            Err(error) if error.is_cancelled() => Outcome::Interrupted,
            Err(_) => Outcome::Failed,
        };
        let (not_entered, not_left) = around.finish(outcome);
        for what in &not_entered {
            self.events.event(Event::Note(format!("`enter` failed, continued without: {what}")));
        }
        for what in &not_left {
            self.events.event(Event::Note(format!("`leave` failed: {what}")));
        }
        let mut report = ran?;
        let is_whole = not_left.is_empty() && not_entered.is_empty();
        if !is_whole && report.status == RunStatus::Done {
            report.status = RunStatus::Exceptions;
        }
        (report.not_entered, report.not_left) = (not_entered, not_left);
        if report.snapshot.is_some() {
            self.note_drive(plan, &store, report.started);
        }
        Ok(report)
    }

    /// Waits until no other work of this machine writes to a store.
    fn wait_for_store(&self, store: &str, steps: &Steps<'_>) -> Result<Option<StoreLock>> {
        let (state, started) = (&self.configuration.folders.state, self.clock.now());
        let waits = || {
            let note = format!("store {store} is in use; waiting");
            self.events.event(Event::Note(note));
        };
        let (lock, waited) = StoreLock::wait(state, store, self.cancel, &waits)?;
        if waited {
            steps.add(&StepRecord {
                kind: "wait".to_owned(),
                subject: format!("for store {store}"),
                started,
                ended: Some(self.clock.now()),
                outcome: Outcome::Done,
                words: None,
                code: None,
                output: None,
            });
        }
        Ok(lock)
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
        outlook.free = store.place().room().map(|(free, _)| free);
        let price = self.configuration.stores.fine.get(&plan.store);
        outlook.cost = price.and_then(|config| config.prices.first()).and_then(|price| {
            let now = store.usage().ok()?.bytes;
            let after = price.month(now + outlook.stored.stored);
            Some(Cost { currency: price.currency.clone(), now: price.month(now), after })
        });
    }

    /// Restores, or makes a dry run of it, which leaves no trace.
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
            false => self.begin(Work::Restore, Some(plan), store_name, self.machine, false),
        };
        let steps = self.steps(entry);
        let events = Recorded(&steps);
        let request = &RestoreRequest { events: &events, ..*request };
        let result = restore::restore(store, request);
        if !request.dry_run {
            run::record_damage(store, self.machine, self.events);
        }
        self.finish(entry, &result, |report| Ending {
            snapshot: Some(request.snapshot.run),
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
                match (report.interrupted, report.damaged, report.exception_count) {
                    (true, ..) => Outcome::Interrupted,
                    (false, 0, 0) => Outcome::Done,
                    (false, 0, _) => Outcome::Exceptions,
                    (false, ..) => Outcome::Damage,
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
        let entry = self.begin(Work::Replicate, plan, to_name, self.machine, false);
        let steps = self.steps(entry);
        let events = Recorded(&steps);
        let told = |error: &E| (error.words(), error.is_interruption());
        let result = self.wait_for_store(to_name, &steps).map_err(E::from).and_then(|queue| {
            let to = steps.step("reach", to_name, told, open)?;
            let unwanted = self.unwanted_there(from, (to_name, &to))?;
            let request = ReplicateRequest {
                plan,
                unwanted: Some(&unwanted),
                origin: queue.as_ref().map(|queue| queue.origin.as_str()),
                clock: self.clock,
                cancel: self.cancel,
                events: &events,
            };
            steps.step("replicate", to_name, told, || {
                let awaited: [&dyn Awaited; 2] = [from.place(), to.place()];
                let work = || replicate::replicate(from, &to, &request);
                Ok(watched(&awaited, &events, self.cancel, &|| {}, work)?)
            })
        });
        self.finish(entry, &result, |report| Ending {
            files: FileCounts { new: report.copied, same: report.present, ..FileCounts::default() },
            bytes: ByteCounts { read: report.read, new: report.new, stored: report.stored },
            words: report.damaged.first().map(|damaged| {
                format!("{} damaged snapshots: {}", report.damaged.len(), damaged.reason)
            }),
            hint: (!report.damaged.is_empty())
                .then(|| "verify their store: it lists the files".to_owned()),
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
    ) -> Result<(VerifyReport, Option<ProvenShare>)> {
        let entry = self.begin(Work::Verify, None, store_name, self.machine, false);
        let place: &dyn Awaited = store.place();
        let steps = self.steps(entry);
        // Drives of a rotation are stores of their own.
        let id = store.header().store.to_string();
        let before = self.journal.and_then(|journal| journal.proven(&id).ok()).unwrap_or_default();
        let last = |container: &ContainerId| before.get(&container.to_string()).copied();
        let result = watched(&[place], &Recorded(&steps), self.cancel, &|| {}, || {
            store.verify_in_turn(share, &last, watch).map_err(EngineError::from)
        });
        run::record_damage(store, self.machine, self.events);
        self.finish(entry, &result, |report| {
            let damaged = report.damage.len();
            let outcome = if damaged == 0 { Outcome::Done } else { Outcome::Damage };
            Ending {
                bytes: ByteCounts { read: report.bytes_read, ..ByteCounts::default() },
                words: (damaged > 0).then(|| format!("{damaged} damaged objects")),
                hint: (damaged > 0).then(|| format!("skellin verify {store_name} lists the files")),
                ..Ending::at(self.clock.now(), outcome)
            }
        });
        let report = result?;
        let standing = match (report.damage.len(), share) {
            (0, DataShare::All) => Some(Standing::Undamaged),
            // What was not read may be damaged still.
            (0, _) => None,
            _ => Some(Standing::Damaged),
        };
        if let Some(standing) = standing {
            let plans = self.configuration.plans.iter().filter_map(|file| file.plan.as_ref());
            let mut plans = plans.filter(|plan| {
                plan.store == store_name || plan.replicas().any(|store| store == store_name)
            });
            let words = format!("{} damaged objects in {store_name}", report.damage.len());
            let hint = format!("skellin verify {store_name} --repair");
            self.tell_of_proof(&mut plans, standing, (entry, Some(words), Some(hint)));
        }
        let noted = self.journal.map(|journal| {
            journal.note_proven(&id, (&report.proven, &report.data), self.clock.now())
        });
        let share = match noted {
            Some(Ok(share)) => Some(share),
            Some(Err(error)) => {
                self.note(&error);
                None
            }
            None => None,
        };
        Ok((report, share))
    }

    fn begin(
        &self,
        work: Work,
        plan: Option<&str>,
        store: &str,
        machine: &str,
        unattended: bool,
    ) -> Option<i64> {
        let started = self.clock.now();
        let beginning = Beginning { work, plan, store, machine, unattended, started };
        let journal = self.journal?;
        if let Err(error) = journal.forget_old(started) {
            self.note(&error);
        }
        let begun = journal.begin(&beginning);
        self.say_mended(journal);
        match begun {
            Ok(id) => Some(id),
            Err(error) => {
                self.note(&error);
                None
            }
        }
    }

    /// Says it if the journal turned out to be damaged and was put aside.
    fn say_mended(&self, journal: &Journal) {
        if let Some(mended) = journal.take_mended() {
            self.events.event(Event::Note(mended.to_string()));
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
        self.say_mended(journal);
    }

    /// Work is worth more than its record.
    fn note(&self, error: &EngineError) {
        self.events.event(Event::Note(format!("{error}; the work is not recorded")));
    }
}
