//! Which plans and stores are due, from what the journal knows and the time.

use std::{
    fs,
    os::unix::fs::DirBuilderExt,
    path::{Path, PathBuf},
    time::UNIX_EPOCH,
};

use jiff::{SignedDuration, Timestamp, tz::TimeZone};
use skellin_plan::{
    Attempt, Due, Expected, Fit, Past, PlaceSpec, Plan, Schedule, Standing, Starting, Topic, Why,
};

use crate::{
    clock::is_ahead,
    config::{Configuration, PlanFile},
    error::{EngineError, Result},
    journal::{Journal, JournalEntry, Outcome, Work, past_runs},
    lock::PlanLock,
    orchestration::last_good,
    places::mounted_drives,
    tell::{About, Happening, listeners, note_standing},
};

/// So many of a plan's newest runs decide.
const RUNS: usize = 50;
/// So many of the newest runs tell how long the next will take.
const RUNS_THAT_TELL: usize = 30;

/// What lasts is told again after this.
const DAILY: SignedDuration = SignedDuration::from_hours(24);

/// A run's entry is made so much later than its lock is taken at most, in milliseconds.
const ENTERED_WITHIN: i64 = 5000;

/// What decides, beside the time: what is configured, and what has been.
#[derive(Clone, Copy)]
pub struct Watch<'a> {
    /// What is configured.
    pub configuration: &'a Configuration,
    /// What has been; without a journal nothing has.
    pub journal: Option<&'a Journal>,
    /// The machine's own name, which plans may overrule.
    pub machine: &'a str,
    /// When the machine started.
    pub booted: Option<Timestamp>,
}

/// When a plan starts next.
#[derive(Clone, Debug, PartialEq)]
pub struct DuePlan {
    /// The plan.
    pub plan: String,
    /// The store it writes to.
    pub store: String,
    /// When it starts next, and why; none if nothing starts it.
    pub next: Option<Due>,
    /// Whether that time has come.
    pub is_due: bool,
    /// Whether it is being run right now.
    pub is_running: bool,
    /// How long it will take, by the runs that have been; told where there is a window.
    pub takes: Option<Expected>,
    /// Whether it will be done before its window closes, if it has one.
    pub fit: Option<Fit>,
    /// Since when there should have been a good run.
    pub late: Option<Timestamp>,
}

/// When a store is verified, or its room reclaimed, next by its own clock; or a plan drilled.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct DueStore {
    /// The store.
    pub store: String,
    /// The plan, of a drill.
    pub plan: Option<String>,
    /// What is done.
    pub work: Work,
    /// When, and why.
    pub next: Due,
    /// Whether that time has come.
    pub is_due: bool,
}

/// Where the wish lies that a plan starts at once.
fn wish_path(state: &Path, plan: &str) -> PathBuf {
    state.join("wishes").join(plan)
}

/// Wishes that a plan is started by whoever starts what is due.
///
/// # Errors
/// If the state directory cannot be written.
pub fn wish(state: &Path, plan: &str) -> Result<()> {
    let path = wish_path(state, plan);
    let folder = path.parent().unwrap_or(&path);
    let made = fs::DirBuilder::new().recursive(true).mode(0o700).create(folder);
    made.and_then(|()| fs::write(&path, b""))
        .map_err(|error| EngineError::local("write to", folder, error))
}

/// Takes the wish back, or notes that it is granted.
pub fn unwish(state: &Path, plan: &str) {
    let _ = fs::remove_file(wish_path(state, plan));
}

impl Watch<'_> {
    /// When each plan without mistakes starts next, those first whose time came first. `now` in
    /// milliseconds since 1970.
    ///
    /// # Errors
    /// If the journal cannot be read.
    pub fn plans(&self, now: i64) -> Result<Vec<DuePlan>> {
        let plans = self.configuration.plans.iter();
        let found = plans.filter_map(|file| Some((file.plan.as_ref()?, since(&file.path))));
        let mut found =
            found.map(|(plan, since)| self.plan(plan, since, now)).collect::<Result<Vec<_>>>()?;
        found.sort_by_key(|plan| plan.next.map_or(Timestamp::MAX, |due| due.at));
        Ok(found)
    }

    fn plan(&self, plan: &Plan, since: Timestamp, now: i64) -> Result<DuePlan> {
        let mut runs = Vec::new();
        if let Some(journal) = self.journal {
            runs = journal.runs(&plan.name, RUNS)?;
            // What a clock that was wrong dated into the future must not keep everything waiting.
            runs.retain(|run| !is_ahead(run.started, now));
        }
        // One that was killed has no end either; it holds no lock.
        let goes_on = runs.first().is_some_and(|run| run.outcome == Outcome::Running);
        let state = &self.configuration.folders.state;
        let is_running = goes_on && PlanLock::take(state, &plan.name).is_err();
        let attempts = runs.iter().map(|run| Attempt {
            started: moment(run.started),
            ended: moment(run.ended.unwrap_or(run.started)),
            good: run.snapshot.is_some(),
            cut: run.is_cut(),
        });
        let mut attempts: Vec<Attempt> = attempts.collect();
        // Of a run without a record the lock tells when it was, by its time.
        let recorded = runs.first().map_or(i64::MIN, |run| run.started);
        if let Some(started) = PlanLock::last_taken(state, &plan.name)
            && started > recorded.saturating_add(ENTERED_WITHIN)
            && !is_ahead(started, now)
            && !is_running
        {
            let started = moment(started);
            attempts.insert(0, Attempt { started, ended: started, good: true, cut: false });
        }
        let drive = match (plan.starting.on_drive, self.journal) {
            (true, Some(journal)) => journal.sign(&drive_sign(&plan.store))?.map(moment),
            _ => None,
        };
        let past = Past { attempts, since, booted: self.booted, drive };
        let (zone, now) = (zone(plan), moment(now));
        let machine = plan.machine.as_deref().unwrap_or(self.machine);
        let offset = plan.starting.offset(&plan.name, machine);
        let mut next = plan.starting.next(plan.schedule.as_ref(), &past, offset, now, &zone);
        if wish_path(state, &plan.name).exists() {
            next = Some(Due { at: now, why: Why::Asked });
        }
        // Nobody asks how long it takes where it may take as long as it likes.
        let takes = plan.starting.window.and_then(|_| expected(state, plan));
        let fit = plan.starting.window.zip(takes.as_ref()).zip(next).and_then(
            |((window, takes), next)| {
                let takes = SignedDuration::try_from_secs_f64(takes.seconds).ok()?;
                window.fits(next.at.max(now), takes, &zone)
            },
        );
        let good = past.attempts.iter().find(|attempt| attempt.good).map(|good| good.started);
        let schedule = plan.schedule.as_ref();
        let late =
            schedule.and_then(|schedule| plan.starting.late(schedule, good, since, now, &zone));
        Ok(DuePlan {
            plan: plan.name.clone(),
            store: plan.store.clone(),
            next,
            is_due: !is_running && next.is_some_and(|due| due.at <= now),
            is_running,
            takes,
            fit,
            late,
        })
    }

    /// What is done next with each store that has a clock of its own, and when plans are drilled.
    ///
    /// # Errors
    /// If the journal cannot be read.
    pub fn stores(&self, now: i64) -> Result<Vec<DueStore>> {
        let since = since(&self.configuration.folders.config.join("stores.toml"));
        let mut found = Vec::new();
        for config in self.configuration.stores.fine.values() {
            let clocks = [(Work::Verify, &config.verify), (Work::Reclaim, &config.reclaim)];
            for (work, schedule) in clocks {
                let Some(schedule) = schedule else { continue };
                let done = match self.journal {
                    Some(journal) => {
                        let mut done = journal.works(work, &config.name, RUNS)?;
                        done.retain(|entry| !is_ahead(entry.started, now));
                        done
                    }
                    None => Vec::new(),
                };
                let next = next_of(schedule, &done, since, now, &TimeZone::system());
                found.extend(next.map(|next| DueStore {
                    store: config.name.clone(),
                    plan: None,
                    work,
                    next,
                    is_due: next.at <= moment(now),
                }));
            }
        }
        self.drills(now, &mut found)?;
        Ok(found)
    }

    /// When plans are drilled.
    fn drills(&self, now: i64, found: &mut Vec<DueStore>) -> Result<()> {
        for file in &self.configuration.plans {
            let Some(plan) = &file.plan else { continue };
            let Some(schedule) = &plan.starting.drill else { continue };
            let mut done = match self.journal {
                Some(journal) => journal.works_of_plan(Work::Drill, &plan.name, RUNS)?,
                None => Vec::new(),
            };
            done.retain(|entry| !is_ahead(entry.started, now));
            let next = next_of(schedule, &done, since(&file.path), now, &zone(plan));
            found.extend(next.map(|next| DueStore {
                store: plan.store.clone(),
                plan: Some(plan.name.clone()),
                work: Work::Drill,
                next,
                is_due: next.at <= moment(now),
            }));
        }
        Ok(())
    }

    /// Remembers which stores' drives are here, so that one that appears can be acted on.
    ///
    /// # Errors
    /// If the journal cannot be written.
    pub fn note_drives(&self, now: i64) -> Result<()> {
        let Some(journal) = self.journal else { return Ok(()) };
        let plans = self.configuration.plans.iter().filter_map(|file| file.plan.as_ref());
        for plan in plans.filter(|plan| plan.starting.on_drive) {
            let config = self.configuration.stores.fine.get(&plan.store);
            let Some(PlaceSpec::Drive(path)) = config.map(|config| &config.place) else { continue };
            let is_here = !mounted_drives(path, &self.configuration.folders).is_empty();
            let (sign, was_here) = (drive_sign(&plan.store), format!("here:{}", plan.store));
            match (is_here, journal.sign(&was_here)?.is_some()) {
                (true, false) => {
                    journal.set_sign(&sign, Some(now))?;
                    journal.set_sign(&was_here, Some(now))?;
                }
                (false, true) => journal.set_sign(&was_here, None)?,
                _ => {}
            }
        }
        Ok(())
    }

    /// Puts being sent that plans are late, where they are; how many messages that are. `plans` is
    /// what [`plans`](Self::plans) has found.
    ///
    /// # Errors
    /// If the journal cannot be read or written.
    pub fn tell_late(&self, plans: &[DuePlan], now: i64) -> Result<usize> {
        let Some(journal) = self.journal else { return Ok(0) };
        let mut told = 0;
        for file in self.configuration.plans.iter().filter(|file| file.plan.is_none()) {
            told += self.tell_mistakes(journal, file, now)?;
        }
        for due in plans.iter().filter(|due| !due.is_running) {
            let Some(late) = due.late else { continue };
            // What is wrong with other hosts makes nobody less late.
            let file = self.configuration.plan_file(&due.plan)?;
            let Some(plan) = &file.plan else { continue };
            let next = match due.next {
                Some(next) if next.at > moment(now) => format!(
                    "next run {}; to run it now: skellin run {}",
                    next.at.to_zoned(zone(plan)).strftime("%a %d %b at %H:%M"),
                    due.plan
                ),
                _ => format!("run it by hand to see why: skellin run {}", due.plan),
            };
            let happening = Happening {
                machine: plan.machine.as_deref().unwrap_or(self.machine),
                now,
                hint: Some(next),
                last_good: last_good(journal, &due.plan, None),
                late: Some(late.as_millisecond()),
                ..Happening::default()
            };
            let about = About::of(plan);
            told += note_standing(self.configuration, journal, &about, Standing::Late, &happening)?;
        }
        Ok(told)
    }

    /// A plan whose file has mistakes does not run, and somebody should know before it is late.
    fn tell_mistakes(&self, journal: &Journal, file: &PlanFile, now: i64) -> Result<usize> {
        let Some(first) = file.problems.first() else { return Ok(0) };
        // It is found at every look and happens once; what lasts is told daily.
        let now_told = moment(now);
        let channels = listeners(self.configuration, &file.tell, Topic::Failure);
        let is_known = journal.troubles(&file.name)?.iter().any(|trouble| {
            let since = now_told.duration_since(trouble.told);
            let is_recent = since >= SignedDuration::ZERO && since < DAILY;
            trouble.topic == Topic::Failure
                && is_recent
                && trouble.due(&channels, now_told).is_empty()
        });
        if is_known {
            return Ok(0);
        }
        let happening = Happening {
            machine: self.machine,
            now,
            words: Some(format!(
                "the plan file has mistakes and cannot run: line {}: {}",
                first.line, first.message
            )),
            hint: Some("skellin plan check lists each with its line".to_owned()),
            last_good: last_good(journal, &file.name, None),
            ..Happening::default()
        };
        let about = About { plan: &file.name, store: "", tell: &file.tell };
        note_standing(self.configuration, journal, &about, Standing::Failed, &happening)
    }
}

/// When work with a clock of its own is done next, after what was done.
fn next_of(
    schedule: &Schedule,
    done: &[JournalEntry],
    since: Timestamp,
    now: i64,
    zone: &TimeZone,
) -> Option<Due> {
    let attempts = done.iter().map(|entry| Attempt {
        started: moment(entry.started),
        ended: moment(entry.ended.unwrap_or(entry.started)),
        good: matches!(entry.outcome, Outcome::Done | Outcome::Damage),
        cut: entry.is_cut(),
    });
    let past = Past { attempts: attempts.collect(), since, booted: None, drive: None };
    Starting::default().next(Some(schedule), &past, SignedDuration::ZERO, moment(now), zone)
}

/// How long the next run of a plan takes, by those that have been.
fn expected(state: &Path, plan: &Plan) -> Option<Expected> {
    let past = past_runs(state, &plan.name, &plan.store, RUNS_THAT_TELL);
    skellin_plan::expect(&past, past.first()?.0)
}

fn zone(plan: &Plan) -> TimeZone {
    plan.zone.clone().unwrap_or_else(TimeZone::system)
}

fn drive_sign(store: &str) -> String {
    format!("drive:{store}")
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
#[must_use]
pub fn booted() -> Option<Timestamp> {
    let text = fs::read_to_string("/proc/stat").ok()?;
    let seconds = text.lines().find_map(|line| line.strip_prefix("btime "))?;
    Timestamp::from_second(seconds.trim().parse().ok()?).ok()
}
