//! A run's steps as the journal has them, and the commands around its reading.

use std::sync::{Mutex, PoisonError};

use crate::{
    around::{Surroundings, Told},
    clock::{Cancel, Clock},
    error::{EngineError, Result},
    event::{Event, EventSink},
    journal::{Journal, Outcome, StepRecord},
    run::{ReadSoFar, Surrounding},
};

/// Where the steps of an entry are written.
pub(super) struct Steps<'a> {
    pub journal: Option<&'a Journal>,
    pub entry: Option<i64>,
    pub clock: &'a dyn Clock,
    pub events: &'a dyn EventSink,
}

impl Steps<'_> {
    /// Adds a step; work is worth more than its record.
    pub fn add(&self, step: &StepRecord) {
        let (Some(journal), Some(entry)) = (self.journal, self.entry) else { return };
        if let Err(error) = journal.add_step(entry, step) {
            self.events.event(Event::Note(format!("{error}; a step is not recorded")));
        }
        let words = step.words.as_ref().map_or(String::new(), |words| format!(": {words}"));
        let line =
            format!("{entry} {} {}: {}{words}", step.kind, step.subject, step.outcome.word());
        journal.log(step.ended.unwrap_or(step.started), &line);
    }

    /// Does a step, and records how it ended.
    pub fn step<T, E>(
        &self,
        kind: &str,
        subject: &str,
        words: impl Fn(&E) -> (String, bool),
        work: impl FnOnce() -> Result<T, E>,
    ) -> Result<T, E> {
        let started = self.clock.now();
        let done = work();
        let (words, outcome) = match done.as_ref().map_err(words) {
            Ok(_) => (None, Outcome::Done),
            Err((words, true)) => (Some(words), Outcome::Interrupted),
            Err((words, false)) => (Some(words), Outcome::Failed),
        };
        self.add(&StepRecord {
            kind: kind.to_owned(),
            subject: subject.to_owned(),
            started,
            ended: Some(self.clock.now()),
            outcome,
            words,
            code: None,
            output: None,
        });
        done
    }
}

/// Hands events on, and records what is waited for as steps.
pub(super) struct Recorded<'a>(pub &'a Steps<'a>);

impl EventSink for Recorded<'_> {
    fn event(&self, event: Event) {
        let steps = self.0;
        if let (Event::Waiting(waited), Some(journal), Some(entry)) =
            (&event, steps.journal, steps.entry)
        {
            let (now, subject) = (steps.clock.now(), format!("for {}", waited.subject));
            journal.log(now, &format!("{entry} {waited}"));
            // Whoever looks at it reads the same in the log.
            let _ = match waited.is_over {
                true => journal.end_step(entry, ("wait", &subject), now),
                false => journal.add_step(
                    entry,
                    &StepRecord {
                        kind: "wait".to_owned(),
                        subject,
                        started: now - i64::try_from(waited.since.as_millis()).unwrap_or(0),
                        ended: None,
                        outcome: Outcome::Running,
                        words: waited.why.clone(),
                        code: None,
                        output: None,
                    },
                ),
            };
        }
        steps.events.event(event);
    }
}

/// What happens around the reading of one run.
pub(super) struct AroundReading<'a> {
    steps: &'a Steps<'a>,
    store: String,
    cancel: &'a Cancel,
    state: Mutex<State<'a>>,
}

struct State<'a> {
    surroundings: Surroundings<'a>,
    /// Since when the sources are being read.
    reading: Option<i64>,
    /// Since when what was read is being put away.
    read: Option<i64>,
    not_entered: Vec<String>,
    not_left: Vec<String>,
}

impl<'a> AroundReading<'a> {
    pub fn new(
        steps: &'a Steps<'a>,
        store: &str,
        cancel: &'a Cancel,
        surroundings: Surroundings<'a>,
    ) -> Self {
        let (not_entered, not_left) = (Vec::new(), Vec::new());
        let state = State { surroundings, reading: None, read: None, not_entered, not_left };
        Self { steps, store: store.to_owned(), cancel, state: Mutex::new(state) }
    }

    /// The run has ended: what it did after the reading is its last step. The commands that
    /// failed to enter, and those that failed to leave.
    pub fn finish(self, outcome: Outcome) -> (Vec<String>, Vec<String>) {
        let state = self.state.into_inner().unwrap_or_else(PoisonError::into_inner);
        if let Some(started) = state.read {
            self.steps.add(&StepRecord {
                kind: "store".to_owned(),
                subject: self.store,
                started,
                ended: Some(self.steps.clock.now()),
                outcome,
                words: None,
                code: None,
                output: None,
            });
        }
        (state.not_entered, state.not_left)
    }
}

impl Surrounding for AroundReading<'_> {
    fn begin(&self) -> Result<()> {
        let mut state = self.state.lock().unwrap_or_else(PoisonError::into_inner);
        let (note, entered) = state.surroundings.enter(self.cancel);
        if let Some(note) = note {
            self.steps.events.event(Event::Note(note));
        }
        state.reading = Some(self.steps.clock.now());
        match entered {
            _ if self.cancel.is_cancelled() => Err(EngineError::Cancelled),
            Ok(failed) => {
                // A run that starts again enters again.
                state.not_entered = failed;
                Ok(())
            }
            Err(not) => {
                let last = not.ended.output.lines().rev().find(|line| !line.trim().is_empty());
                let said = last.map_or(String::new(), |line| format!(" (output: {})", line.trim()));
                let why = not.ended.fault.map_or_else(String::new, |fault| fault.to_string());
                Err(EngineError::NotEntered { command: not.command, why: format!("{why}{said}") })
            }
        }
    }

    fn end(&self, so_far: &ReadSoFar) {
        // What was entered is left, whoever is in a hurry.
        let _held = self.cancel.hold();
        let mut state = self.state.lock().unwrap_or_else(PoisonError::into_inner);
        let now = self.steps.clock.now();
        let interrupted = self.cancel.is_cancelled();
        let (status, outcome) = match (so_far.whole, interrupted) {
            (true, _) => ("read", Outcome::Done),
            (false, true) => ("interrupted", Outcome::Interrupted),
            (false, false) => ("failed", Outcome::Failed),
        };
        if let Some(started) = state.reading.take() {
            self.steps.add(&StepRecord {
                kind: "read".to_owned(),
                subject: "the sources".to_owned(),
                started,
                ended: Some(now),
                outcome,
                words: None,
                code: None,
                output: None,
            });
        }
        let ReadSoFar { files, bytes, exceptions, .. } = *so_far;
        let failed = state.surroundings.leave(&Told { status, files, bytes, exceptions });
        state.not_left.extend(failed);
        if so_far.whole {
            state.read = Some(self.steps.clock.now());
        }
    }
}
