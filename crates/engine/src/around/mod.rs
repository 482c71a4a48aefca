//! Commands around a run.
//!
//! `leave` follows as soon as the sources are read, and whatever happens once `enter` was begun: a
//! file in the state directory says that it is owed, so that it is made up for after a crash.

mod far;
mod fault;
mod owed;
mod process;

use std::time::Duration;

use skellin_plan::{Around, Plan};

pub use fault::Fault;
pub use owed::{Owed, owed_leaves};
pub(crate) use process::end_marked;

use crate::{
    clock::Cancel,
    journal::{Outcome, StepRecord},
    places::SourceHosts,
};

/// How a command ended.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Ended {
    /// Why it came to nothing; none if it did what it should.
    pub fault: Option<Fault>,
    /// The status it ended with, if it was started at all.
    pub code: Option<i32>,
    /// The beginning and the end of what it said.
    pub output: String,
    /// A word about something else.
    pub note: Option<String>,
}

impl Ended {
    fn unable(fault: Fault) -> Self {
        Self { fault: Some(fault), ..Self::default() }
    }
}

/// Runs a command of a plan, here or on another host.
pub(crate) fn run(
    words: &[String],
    on: Option<&str>,
    source_hosts: &SourceHosts,
    variables: &[(&str, String)],
    timeout: Duration,
    cancel: Option<&Cancel>,
) -> Ended {
    match on {
        None => process::run(words, variables, timeout, cancel),
        Some(host) => far::run(host, words, source_hosts, variables, timeout, cancel),
    }
}

/// Which part of a pair.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum Part {
    /// Before the sources are read.
    Enter,
    /// After.
    Leave,
}

impl Part {
    /// As plans name it.
    pub fn word(self) -> &'static str {
        match self {
            Self::Enter => "enter",
            Self::Leave => "leave",
        }
    }
}

/// What commands are told of a run, as variables of their environment.
#[derive(Clone, Debug, Default)]
pub(crate) struct Told {
    /// `reading`, `read`, `failed`, `interrupted`.
    pub status: &'static str,
    /// Paths done with, and bytes read.
    pub files: u64,
    pub bytes: u64,
    pub exceptions: u64,
}

impl Told {
    pub fn variables(&self, plan: &str, store: &str, part: Part) -> Vec<(&'static str, String)> {
        vec![
            ("SKELLIN_PLAN", plan.to_owned()),
            ("SKELLIN_STORE", store.to_owned()),
            ("SKELLIN_STEP", part.word().to_owned()),
            ("SKELLIN_STATUS", self.status.to_owned()),
            ("SKELLIN_FILES", self.files.to_string()),
            ("SKELLIN_BYTES_READ", self.bytes.to_string()),
            ("SKELLIN_EXCEPTIONS", self.exceptions.to_string()),
        ]
    }
}

/// The commands around one run of a plan, as far as they have come.
pub(crate) struct Surroundings<'a> {
    plan: &'a Plan,
    source_hosts: &'a SourceHosts,
    state: &'a std::path::Path,
    /// How many pairs were begun.
    entered: usize,
    owed: Option<Owed>,
    /// Told of each step that has ended.
    pub steps: &'a (dyn Fn(StepRecord) + Sync),
    /// The time.
    pub clock: &'a dyn crate::clock::Clock,
}

/// A mark that no other command has; none without random numbers.
fn mark() -> Option<String> {
    let mut random = [0; 16];
    getrandom::fill(&mut random).ok()?;
    Some(skellin_store::hex(&random))
}

/// Why the run does not go on.
pub(crate) struct NotEntered {
    pub command: String,
    pub ended: Ended,
}

impl<'a> Surroundings<'a> {
    pub fn new(
        plan: &'a Plan,
        source_hosts: &'a SourceHosts,
        state: &'a std::path::Path,
        clock: &'a dyn crate::clock::Clock,
        steps: &'a (dyn Fn(StepRecord) + Sync),
    ) -> Self {
        Self { plan, source_hosts, state, entered: 0, owed: None, steps, clock }
    }

    /// Enters, pair by pair. What was entered is left by [`leave`](Self::leave), also if this fails.
    /// What failed and is gone on without, in words. The note says what to know if what is owed could
    /// not be written down.
    pub fn enter(&mut self, cancel: &Cancel) -> (Option<String>, Result<Vec<String>, NotEntered>) {
        let (mut note, mut failed) = (None, Vec::new());
        for pair in &self.plan.around {
            if cancel.is_cancelled() {
                break;
            }
            self.entered += 1;
            // First the promise, then the deed: a crash in between leaves once too often, which
            // harms less than never.
            let mark = (!pair.enter.is_empty() && pair.on.is_none()).then(mark).flatten();
            match Owed::write(self.state, self.plan, self.entered, mark.as_deref()) {
                Ok(owed) => self.owed = owed.or(self.owed.take()),
                Err(why) => note = Some(why),
            }
            if pair.enter.is_empty() {
                continue;
            }
            let told = Told { status: "reading", ..Told::default() };
            let with = (&told, mark.as_deref());
            let ended = self.command(pair, &pair.enter, Part::Enter, with, Some(cancel));
            if mark.is_some() {
                // What it has left running on purpose is none of ours to end.
                match Owed::write(self.state, self.plan, self.entered, None) {
                    Ok(owed) => self.owed = owed.or(self.owed.take()),
                    Err(why) => note = Some(why),
                }
            }
            let Some(why) = &ended.fault else { continue };
            let command = pair.enter.join(" ");
            if !pair.go_on || cancel.is_cancelled() {
                return (note, Err(NotEntered { command, ended }));
            }
            failed.push(format!("`{command}`: {why}"));
        }
        (note, Ok(failed))
    }

    /// Leaves what was entered, the last first; once only. What failed, in words.
    pub fn leave(&mut self, told: &Told) -> Vec<String> {
        let mut failed = Vec::new();
        let pairs = self.plan.around.iter().take(std::mem::take(&mut self.entered)).rev();
        for pair in pairs.filter(|pair| !pair.leave.is_empty()) {
            let ended = self.command(pair, &pair.leave, Part::Leave, (told, None), None);
            if let Some(why) = ended.fault {
                failed.push(format!("`{}`: {why}", pair.leave.join(" ")));
            }
        }
        // What failed is said; doing it again and again would be worse.
        self.owed.take().into_iter().for_each(Owed::settle);
        failed
    }

    fn command(
        &self,
        pair: &Around,
        words: &[String],
        part: Part,
        (told, mark): (&Told, Option<&str>),
        cancel: Option<&Cancel>,
    ) -> Ended {
        let started = self.clock.now();
        let mut variables = told.variables(&self.plan.name, &self.plan.store, part);
        variables.extend(mark.map(|mark| (process::MARK, mark.to_owned())));
        let ended =
            run(words, pair.on.as_deref(), self.source_hosts, &variables, pair.timeout, cancel);
        (self.steps)(step_of(words, pair.on.as_deref(), part, started, self.clock.now(), &ended));
        ended
    }
}

impl Drop for Surroundings<'_> {
    /// Whatever ends the run, panics included.
    fn drop(&mut self) {
        if self.entered > 0 {
            self.leave(&Told { status: "failed", ..Told::default() });
        }
    }
}

/// A command as a step of the journal.
pub(crate) fn step_of(
    words: &[String],
    on: Option<&str>,
    part: Part,
    started: i64,
    ended: i64,
    result: &Ended,
) -> StepRecord {
    let command = words.join(" ");
    let subject = on.map_or(command.clone(), |host| format!("{command} (on {host})"));
    let outcome = match &result.fault {
        None => Outcome::Done,
        Some(Fault::Interrupted) => Outcome::Interrupted,
        Some(_) => Outcome::Failed,
    };
    let words = match (result.fault.as_ref().map(Fault::to_string), &result.note) {
        (Some(why), Some(note)) => Some(format!("{why}; {note}")),
        (why, note) => why.or_else(|| note.clone()),
    };
    StepRecord {
        kind: part.word().to_owned(),
        subject,
        started,
        ended: Some(ended),
        outcome,
        words,
        code: result.code,
        output: (!result.output.is_empty()).then(|| result.output.clone()),
    }
}
