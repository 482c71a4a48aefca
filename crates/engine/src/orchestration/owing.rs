//! Making up for `leave` commands that a run which ended unexpectedly did not get to.

use super::{LEAVE_HINT, Orchestrator, reading::Steps};
use crate::{
    around::{self, Part, Told, owed_leaves},
    error::Result,
    event::Event,
    journal::{Ending, Outcome, Work},
    lock::PlanLock,
};

impl Orchestrator<'_> {
    /// Runs the `leave` commands that runs which ended unexpectedly did not get to: of one plan,
    /// whose lock is held, or of all that are not being run. How many commands that were.
    pub fn make_up_for_leaves(&self) -> usize {
        self.leave_what_is_owed(None, &self.steps(None))
    }

    /// As [`make_up_for_leaves`](Self::make_up_for_leaves); `of`: a plan whose lock is held.
    pub(super) fn leave_what_is_owed(&self, of: Option<&str>, steps: &Steps<'_>) -> usize {
        let state = &self.configuration.folders.state;
        let mut done = 0;
        for owed in owed_leaves(state) {
            let is_ours = of == Some(owed.plan.as_str());
            if of.is_some() && !is_ours {
                continue;
            }
            // One that is being run leaves by itself.
            let lock = if is_ours { None } else { PlanLock::take(state, &owed.plan).ok() };
            if !is_ours && lock.is_none() {
                continue;
            }
            let entry = match steps.entry {
                Some(entry) => Some(entry),
                None => self.begin(Work::Leave, Some(&owed.plan), &owed.store, self.machine, false),
            };
            let own = self.steps(entry);
            let mut failed = Vec::new();
            // It is not to go on beside what undoes it.
            let ended = owed.entering.as_deref().map_or(0, around::end_marked);
            if ended > 0 {
                let note = format!(
                    "{}: an `enter` command of an earlier run was still running and was stopped",
                    owed.plan
                );
                self.events.event(Event::Note(note));
            }
            for command in &owed.commands {
                let (started, on) = (self.clock.now(), command.on.as_deref());
                let told = Told { status: "interrupted", ..Told::default() };
                let variables = told.variables(&owed.plan, &owed.store, Part::Leave);
                let source_hosts = &self.configuration.source_hosts;
                let ended = around::run(
                    &command.leave,
                    on,
                    source_hosts,
                    &variables,
                    command.timeout(),
                    None,
                );
                let now = self.clock.now();
                own.add(&around::step_of(&command.leave, on, Part::Leave, started, now, &ended));
                done += 1;
                if let Some(why) = ended.fault {
                    failed.push(format!("`{}`: {why}", command.leave.join(" ")));
                }
            }
            let words = format!(
                "{}: an earlier run ended unexpectedly; running its `leave` commands now",
                owed.plan
            );
            self.events.event(Event::Note(words.clone()));
            if steps.entry.is_none() {
                let result: Result<()> = Ok(());
                self.finish(entry, &result, |()| Ending {
                    words: Some(if failed.is_empty() { words } else { failed.join("; ") }),
                    hint: (!failed.is_empty()).then(|| LEAVE_HINT.to_owned()),
                    ..Ending::at(
                        self.clock.now(),
                        if failed.is_empty() { Outcome::Done } else { Outcome::Failed },
                    )
                });
            }
            owed.settle();
        }
        done
    }
}
