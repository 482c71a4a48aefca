//! Which plans are due, from what the journal knows and the time.

use std::{fs, path::Path, time::UNIX_EPOCH};

use jiff::{Timestamp, tz::TimeZone};
use skellin_plan::{Attempt, Due, Past, Plan};

use crate::{
    config::Configuration,
    error::Result,
    journal::{Journal, Outcome, Work},
    lock::PlanLock,
};

/// So many of a plan's newest runs decide.
const RUNS: usize = 50;

/// When a plan starts next.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct DuePlan {
    /// The plan.
    pub plan: String,
    /// When it starts next, and why; none if nothing starts it.
    pub next: Option<Due>,
    /// Whether that time has come.
    pub is_due: bool,
    /// Whether it is being run right now.
    pub is_running: bool,
}

/// When each plan without mistakes starts next, those first whose time came first. `now` in
/// milliseconds since 1970.
///
/// # Errors
/// If the journal cannot be read.
pub fn due(
    configuration: &Configuration,
    journal: Option<&Journal>,
    machine: &str,
    now: i64,
) -> Result<Vec<DuePlan>> {
    let now = moment(now);
    let booted = booted();
    let mut found = Vec::new();
    for file in &configuration.plans {
        let Some(plan) = &file.plan else { continue };
        let mut runs = Vec::new();
        if let Some(journal) = journal {
            let entries = journal.entries(Some(&plan.name), RUNS * 4)?;
            runs.extend(entries.into_iter().filter(|entry| entry.work == Work::Run).take(RUNS));
        }
        // One that was killed has no end either; it holds no lock.
        let goes_on = runs.first().is_some_and(|run| run.outcome == Outcome::Running);
        let state = &configuration.folders.state;
        let is_running = goes_on && PlanLock::take(state, &plan.name).is_err();
        let attempts = runs.iter().map(|run| Attempt {
            started: moment(run.started),
            ended: moment(run.ended.unwrap_or(run.started)),
            good: run.snapshot.is_some(),
        });
        let past =
            Past { attempts: attempts.collect(), since: since(&file.path), booted, drive: None };
        let next = next(plan, &past, machine, now);
        let is_due = !is_running && next.is_some_and(|due| due.at <= now);
        found.push(DuePlan { plan: plan.name.clone(), next, is_due, is_running });
    }
    found.sort_by_key(|plan| plan.next.map_or(Timestamp::MAX, |due| due.at));
    Ok(found)
}

fn next(plan: &Plan, past: &Past, machine: &str, now: Timestamp) -> Option<Due> {
    let machine = plan.machine.as_deref().unwrap_or(machine);
    let zone = plan.zone.clone().unwrap_or_else(TimeZone::system);
    let offset = plan.starting.offset(&plan.name, machine);
    plan.starting.next(plan.schedule.as_ref(), past, offset, now, &zone)
}

fn moment(milliseconds: i64) -> Timestamp {
    Timestamp::from_millisecond(milliseconds).unwrap_or(Timestamp::UNIX_EPOCH)
}

/// Since when a plan's file is there as it is.
fn since(file: &Path) -> Timestamp {
    let modified = fs::metadata(file).and_then(|facts| facts.modified()).ok();
    let since = modified.and_then(|time| time.duration_since(UNIX_EPOCH).ok());
    since.map_or(Timestamp::UNIX_EPOCH, |since| {
        moment(i64::try_from(since.as_millis()).unwrap_or(i64::MAX))
    })
}

/// When the machine started (proc_stat(5)).
fn booted() -> Option<Timestamp> {
    let text = fs::read_to_string("/proc/stat").ok()?;
    let seconds = text.lines().find_map(|line| line.strip_prefix("btime "))?;
    Timestamp::from_second(seconds.trim().parse().ok()?).ok()
}
