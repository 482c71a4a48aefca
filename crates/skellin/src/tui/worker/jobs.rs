//! Long work: runs and their dry runs, each on a thread of its own.

use std::sync::Arc;

use skellin_engine::{
    Cancel, Configuration, EngineError, Event, Journal, Orchestrator, Post, Refusal, RunOptions,
    RunReport, Stage, SystemClock, trial_store,
};

use super::{JobEnd, Report, Shared};

/// Runs a plan, or makes a dry run of it. `agreed`: it makes its snapshot also if much is suddenly
/// gone.
pub(super) fn run(
    shared: &Shared,
    job: u64,
    plan: &str,
    (dry_run, agreed): (bool, bool),
    cancel: &Cancel,
) {
    let work = Job::new(shared, job, cancel);
    let end = work.run(plan, dry_run, agreed).map(Box::new).map_err(Into::into);
    shared.tell(Report::Ended { job, end: JobEnd::Run(end) });
}

/// Makes a dry run of a draft.
pub(super) fn dry_run_draft(
    shared: &Shared,
    job: u64,
    draft: &skellin_engine::Draft,
    cancel: &Cancel,
) {
    let work = Job::new(shared, job, cancel);
    let end = work.dry_run_draft(draft).map(Box::new).map_err(Into::into);
    shared.tell(Report::Ended { job, end: JobEnd::Run(end) });
}

/// What one job works with.
pub(super) struct Job<'a> {
    pub shared: &'a Shared,
    configuration: Configuration,
    journal: Option<Arc<Journal>>,
    number: u64,
    cancel: &'a Cancel,
}

impl<'a> Job<'a> {
    pub fn new(shared: &'a Shared, number: u64, cancel: &'a Cancel) -> Self {
        let (configuration, journal) = (shared.configuration(), shared.journal().ok());
        Self { shared, configuration, journal, number, cancel }
    }

    fn conduct<T>(&self, work: impl FnOnce(&Orchestrator<'_>) -> T) -> T {
        self.conduct_as(&|event| event, work)
    }

    /// Carries something out; each event is told as `told` makes it.
    pub fn conduct_as<T>(
        &self,
        told: &(dyn Fn(Event) -> Event + Sync),
        work: impl FnOnce(&Orchestrator<'_>) -> T,
    ) -> T {
        let events = |event: Event| {
            // A closed application hears nothing more.
            self.shared.tell(Report::Event { job: self.number, event: told(event) });
        };
        work(&Orchestrator {
            configuration: &self.configuration,
            journal: self.journal.as_deref(),
            machine: &self.shared.machine,
            clock: &SystemClock,
            cancel: self.cancel,
            events: &events,
        })
    }

    fn run(&self, plan: &str, dry_run: bool, agreed: bool) -> Result<RunReport, EngineError> {
        let plan = self.configuration.plan_without_mistakes(plan)?;
        let agree = |_: &skellin_engine::Shrinkage| agreed;
        let options = RunOptions { dry_run, agree: Some(&agree), ..RunOptions::default() };
        let ran = self.conduct(|orchestrator| {
            let told = |stage: Stage<'_, EngineError>| {
                // The snapshot is made: what failed is its copy, and the next run makes up.
                if let Stage::Copied(to, Err(error)) = stage {
                    let note = format!("not copied to {to}: {error}");
                    orchestrator.events.event(Event::Note(note));
                }
            };
            orchestrator.run_whole(plan, options, &|store| self.shared.store(store), &told).run
        });
        self.carry();
        ran
    }

    /// Sends what is to be told, beside everything else.
    pub fn carry(&self) {
        let Some(journal) = self.journal.clone() else { return };
        let (configuration, machine) = (self.configuration.clone(), self.shared.machine.clone());
        std::thread::spawn(move || {
            let now = || jiff::Timestamp::now().as_millisecond();
            // How each message fared is noted in the journal.
            let _ = Post::carry(&configuration, &journal, &machine, &now);
        });
    }

    fn dry_run_draft(&self, draft: &skellin_engine::Draft) -> Result<RunReport, EngineError> {
        let checked = draft.check(&self.configuration);
        let plan = checked.plan.ok_or_else(|| {
            EngineError::from(Refusal::MistakesInDraft("the draft has mistakes".to_owned()))
        })?;
        let options = RunOptions { dry_run: true, ..RunOptions::default() };
        // Against a store that is not open yet everything counts as new, as it does against one
        // that does not exist yet.
        self.conduct(|orchestrator| {
            orchestrator.run(&plan, options, || match self.shared.store(&plan.store) {
                Ok(store) => Ok(store),
                Err(_) => trial_store(),
            })
        })
    }
}
