//! A run with all that follows it: copies in other stores, and what is told of it.

use std::sync::Arc;

use skellin_plan::{Plan, Standing};
use skellin_store::Store;

use super::{ExpireReport, Failure, Held, Orchestrator, RunOptions};
use crate::{
    event::Event,
    expire::Appraisal,
    journal::{Journal, JournalEntry},
    replicate::ReplicateReport,
    run::{RunReport, RunStatus},
    size::size,
    tell::{About, Happening, note_standing},
    words::remedy,
};

/// So many paths with exceptions are named in a message.
const NAMED: usize = 5;
/// So far back the newest good run of a plan is looked for.
const LOOKED_BACK: usize = 1000;

/// What came of a run and what follows it.
#[derive(Debug)]
pub struct RunAndCopies<E> {
    /// The run.
    pub run: Result<RunReport, E>,
    /// Copies, by the stores they went to.
    pub copies: Vec<(String, Result<ReplicateReport, E>)>,
    /// What expired afterwards, by the stores.
    pub expired: Vec<(String, Result<ExpireReport, E>)>,
}

/// What has just ended.
pub enum Stage<'a, E> {
    /// The run itself.
    Ran(&'a RunReport),
    /// A copy in another store.
    Copied(&'a str, &'a Result<ReplicateReport, E>),
    /// What had outlived its time.
    Expired(&'a str, &'a Result<ExpireReport, E>),
}

/// When the newest good run of a plan began, before an entry, in milliseconds since 1970.
pub(crate) fn last_good(journal: &Journal, plan: &str, before: Option<i64>) -> Option<i64> {
    let entries = journal.runs(plan, LOOKED_BACK).ok()?;
    let is_good = |entry: &&JournalEntry| entry.snapshot.is_some() && Some(entry.id) != before;
    entries.iter().find(is_good).map(|entry| entry.started)
}

impl Orchestrator<'_> {
    /// Runs a plan, copies its snapshots to where the plan wants them, and puts being sent what is
    /// to be told of it. One copy that fails keeps no other from being made: the snapshot is there,
    /// and the next run makes up for it.
    pub fn run_whole<E: Failure>(
        &self,
        plan: &Plan,
        options: RunOptions<'_>,
        open: &dyn Fn(&str) -> Result<Arc<Store>, E>,
        told: &dyn Fn(Stage<'_, E>),
    ) -> RunAndCopies<E> {
        let mut opened = None;
        let (entry, run) = self.run_with_entry(plan, options, || {
            let store = open(&plan.store)?;
            Ok(Arc::clone(opened.insert(store)))
        });
        if let Ok(report) = &run {
            told(Stage::Ran(report));
        }
        let steps = self.steps(entry);
        let mut copies = Vec::new();
        let is_made = matches!(&run, Ok(report) if report.snapshot.is_some());
        if let Some(from) = opened.filter(|_| is_made) {
            for to in plan.replicas() {
                if self.cancel.is_cancelled() {
                    break;
                }
                let words = |error: &E| (error.words(), error.is_interruption());
                let done = steps.step("replicate", to, words, || {
                    self.replicate(&from, to, Some(plan.series()), || open(to))
                });
                told(Stage::Copied(to, &done));
                copies.push((to.to_owned(), done));
            }
        }
        let expired = match is_made && plan.starting.expire {
            true => self.expire_after(plan, &copies, open, told),
            false => Vec::new(),
        };
        let done = RunAndCopies { run, copies, expired };
        if let Some(entry) = entry {
            self.tell_of(plan, entry, &done);
        }
        done
    }

    /// Expires what has outlived its time where a run has just left a snapshot: in the plan's store, and
    /// in those to which it was copied.
    fn expire_after<E: Failure>(
        &self,
        plan: &Plan,
        copies: &[(String, Result<ReplicateReport, E>)],
        open: &dyn Fn(&str) -> Result<Arc<Store>, E>,
        told: &dyn Fn(Stage<'_, E>),
    ) -> Vec<(String, Result<ExpireReport, E>)> {
        let is_copied = |report: &ReplicateReport| !report.interrupted && report.damaged.is_empty();
        let made = copies.iter().filter(|(_, copy)| copy.as_ref().is_ok_and(is_copied));
        let stores = std::iter::once(&plan.store).chain(made.map(|(to, _)| to));
        let mut expired = Vec::new();
        for store in stores {
            if self.cancel.is_cancelled() {
                break;
            }
            let agree = |_: &Appraisal, held: Option<Held>| held.is_none();
            let done = self.expire(plan, store, true, &agree, || open(store));
            told(Stage::Expired(store, &done));
            expired.push((store.clone(), done));
        }
        expired
    }

    /// Decides what is to be told of a run; nothing of one that somebody stopped.
    fn tell_of<E: Failure>(&self, plan: &Plan, entry: i64, done: &RunAndCopies<E>) {
        let Some(journal) = self.journal else { return };
        let mut happening = Happening {
            machine: plan.machine.as_deref().unwrap_or(self.machine),
            now: self.clock.now(),
            work: Some(entry),
            last_good: last_good(journal, &plan.name, Some(entry)),
            ..Happening::default()
        };
        let mut standing = match &done.run {
            Err(error) if error.is_interruption() => return,
            Err(error) => {
                (happening.words, happening.hint) = (Some(error.words()), error.hint());
                Standing::Failed
            }
            Ok(report) => match of_report(report, &mut happening) {
                Some(standing) => standing,
                None => return,
            },
        };
        for (to, copy) in &done.copies {
            let why = match copy {
                Err(error) if error.is_interruption() => continue,
                Err(error) => {
                    happening.hint = happening.hint.or_else(|| error.hint());
                    error.words()
                }
                Ok(report) => match report.damaged.first() {
                    Some(damaged) => {
                        format!("{} damaged snapshots: {}", report.damaged.len(), damaged.reason)
                    }
                    None => continue,
                },
            };
            let words = format!("the snapshot was made, but not copied to {to}: {why}");
            happening.words = Some(match happening.words.take() {
                Some(before) => format!("{before}; {words}"),
                None => words,
            });
            standing = Standing::Failed;
        }
        for (store, expired) in &done.expired {
            let why = match expired {
                Err(error) if error.is_interruption() => continue,
                Err(error) => error.words(),
                Ok(ExpireReport { held: Some(held), .. }) => {
                    let hint = format!("skellin expire {} shows them, and asks", plan.name);
                    happening.hint = happening.hint.or(Some(hint));
                    held.words().to_owned()
                }
                Ok(_) => continue,
            };
            let words = format!("the snapshot was made, but nothing expired in {store}: {why}");
            happening.words = Some(match happening.words.take() {
                Some(before) => format!("{before}; {words}"),
                None => words,
            });
            if standing == Standing::Good {
                standing = Standing::Exceptions;
            }
        }
        if let Err(error) =
            note_standing(self.configuration, journal, &About::of(plan), standing, &happening)
        {
            self.events.event(Event::Note(format!("{error}; no notification for this run")));
        }
    }

    /// Decides what is to be told of a drill, or of a verification: of each plan that it concerns.
    pub(super) fn tell_of_proof(
        &self,
        plans: &mut dyn Iterator<Item = &Plan>,
        standing: Standing,
        (entry, words, hint): (Option<i64>, Option<String>, Option<String>),
    ) {
        let Some(journal) = self.journal else { return };
        for plan in plans {
            let happening = Happening {
                machine: plan.machine.as_deref().unwrap_or(self.machine),
                now: self.clock.now(),
                work: entry,
                words: words.clone(),
                hint: hint.clone(),
                last_good: last_good(journal, &plan.name, None),
                ..Happening::default()
            };
            let about = About::of(plan);
            if let Err(error) =
                note_standing(self.configuration, journal, &about, standing, &happening)
            {
                self.events.event(Event::Note(format!("{error}; no notification of it")));
            }
        }
    }
}

/// How things stand after a run that went to its end, and what is said of it.
fn of_report(report: &RunReport, happening: &mut Happening<'_>) -> Option<Standing> {
    let (files, bytes) = (&report.files, &report.bytes);
    happening.did = Some(format!(
        "{} new, {} changed, {} gone, {} same; {} read, {} stored",
        files.new,
        files.changed,
        files.gone,
        files.same,
        size(bytes.read),
        size(bytes.stored)
    ));
    if !report.not_left.is_empty() {
        happening.words = Some(format!(
            "the snapshot was made, but a `leave` command failed: {}",
            report.not_left.join("; ")
        ));
        happening.hint = Some(super::LEAVE_HINT.to_owned());
        return Some(Standing::Failed);
    }
    match report.status {
        RunStatus::Done => Some(Standing::Good),
        RunStatus::Exceptions if report.exception_count == 0 && !report.not_entered.is_empty() => {
            happening.words = Some(format!(
                "the snapshot was made, but an `enter` command failed: {}",
                report.not_entered.join("; ")
            ));
            Some(Standing::Exceptions)
        }
        RunStatus::Exceptions => {
            let named: Vec<String> = report
                .exceptions
                .iter()
                .take(NAMED)
                .map(|one| {
                    format!("{}: {}", String::from_utf8_lossy(&one.path).escape_debug(), one.cause)
                })
                .collect();
            happening.words = Some(format!(
                "{} paths could not be read, such as {}",
                report.exception_count,
                named.join("; ")
            ));
            happening.hint = report.exceptions.first().map(|one| remedy(one.cause.kind).to_owned());
            Some(Standing::Exceptions)
        }
        RunStatus::Guarded => {
            happening.words = report.shrinkage.as_ref().map(|noticed| noticed.words());
            happening.hint =
                Some("check whether this is right, then run it by hand with --agree".to_owned());
            Some(Standing::Failed)
        }
        RunStatus::Interrupted => None,
    }
}
