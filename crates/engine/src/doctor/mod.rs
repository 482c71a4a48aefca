//! A look at the whole set-up: what is wrong, what is missing, and how to fix it.

mod coverage;
mod unattended;

use std::{os::unix::fs::MetadataExt, path::PathBuf};

use jiff::Timestamp;
use skellin_plan::{Plan, Problem, SecretSource, Severity, StoreConfig};
use skellin_store::Store;

pub use coverage::{Gap, gaps};

use crate::{
    clock::{Cancel, is_ahead},
    config::Configuration,
    error::{EngineError, Result},
    finding::{Finding, Weight},
    journal::{Journal, JournalEntry, Outcome, Work},
    places::{drive_states, local_directory, open_place},
    secrets::read_secret,
    size::size,
    timers::Starter,
};

/// With less room than this at its place a store will soon be full, in bytes.
const LITTLE_ROOM: u64 = 1 << 30;

/// So many verifications of a store are looked through for one that went to its end.
const LOOKED_BACK: usize = 50;

/// What the set-up is looked at by.
pub struct Examination<'a> {
    /// The configuration.
    pub configuration: &'a Configuration,
    /// The journal, if it can be opened.
    pub journal: Option<&'a Journal>,
    /// The time, in milliseconds since 1970.
    pub now: i64,
    /// At most so many paths are looked at in search of what no plan takes.
    pub most: u64,
    /// What starts runs by themselves, where that was looked for.
    pub starter: Option<&'a Starter>,
    /// Raised to stop.
    pub cancel: &'a Cancel,
}

impl Examination<'_> {
    /// Looks at everything: the worst comes first.
    ///
    /// # Errors
    /// If it was cancelled.
    pub fn findings(&self) -> Result<Vec<Finding>> {
        let mut found = Vec::new();
        self.mistakes(&mut found);
        for store in self.configuration.stores.fine.values() {
            self.store(store, &mut found);
        }
        for plan in self.plans() {
            self.plan(plan, &mut found);
            self.telling(plan, &mut found);
        }
        self.starting(&mut found);
        self.owed(&mut found);
        self.windows(&mut found);
        found.extend(self.gaps()?.iter().map(describe));
        let stores = self.configuration.stores.fine.values();
        found.extend(stores.filter_map(|store| self.beside(store)));
        found.sort_by_key(|finding| finding.weight);
        Ok(found)
    }

    /// Directories of this machine that no plan takes.
    ///
    /// # Errors
    /// If it was cancelled.
    pub fn gaps(&self) -> Result<Vec<Gap>> {
        let sources: Vec<PathBuf> =
            self.plans().flat_map(|plan| plan.sources.iter().cloned()).collect();
        let mut own = self.configuration.keep_out();
        own.push(self.configuration.folders.state.clone());
        let look_in = &self.configuration.folders.look_in;
        gaps(&sources, look_in, &own, self.most, self.now.div_euclid(1000), self.cancel)
    }

    fn plans(&self) -> impl Iterator<Item = &Plan> {
        self.configuration.plans.iter().filter_map(|file| file.plan.as_ref())
    }

    fn mistakes(&self, found: &mut Vec<Finding>) {
        let folders = &self.configuration.folders;
        let stores = folders.config.join("stores.toml").display().to_string();
        let hosts = folders.config.join("hosts.toml").display().to_string();
        let channels = folders.config.join("channels.toml").display().to_string();
        let plans = self.configuration.plans.iter();
        let files = plans
            .map(|file| (file.path.display().to_string(), &file.problems))
            .chain([(stores, &self.configuration.stores.problems)])
            .chain([(hosts, &self.configuration.host_problems)])
            .chain([(channels, &self.configuration.channels.problems)]);
        for (subject, problems) in files {
            let mistakes = problems.iter().filter(|one| one.severity == Severity::Mistake);
            let mistakes: Vec<_> = mistakes.collect();
            match mistakes.as_slice() {
                [] => {}
                // Of the file as a whole: there is no line to be shown.
                [Problem { text, message, hint: Some(hint), .. }] if text.is_empty() => {
                    found.push(wrong(subject, message, hint));
                }
                many => {
                    let what = match many.len() {
                        1 => "1 mistake; it is not used".to_owned(),
                        count => format!("{count} mistakes; it is not used"),
                    };
                    found.push(wrong(subject, what, "skellin plan check lists each with its line"));
                }
            }
        }
        if self.configuration.plans.is_empty() {
            let what = "there is no plan: nothing on this machine is backed up";
            found.push(wrong(
                folders.config.display().to_string(),
                what,
                "skellin plan new PATH --store NAME drafts one",
            ));
        }
        for aside in self.journal.map(Journal::put_aside).unwrap_or_default() {
            found.push(Finding {
                weight: Weight::Doubtful,
                subject: aside.display().to_string(),
                what: "a damaged journal was moved here; what could be read was copied into the new one"
                    .to_owned(),
                hint: "check this disk; remove the file when it is no longer needed".to_owned(),
            });
        }
        if self.journal.is_none() {
            let subject = folders.state.display().to_string();
            let what = "cannot write the journal: runs are not recorded";
            found.push(wrong(subject, what, "let this account write there"));
        }
    }

    fn store(&self, store: &StoreConfig, found: &mut Vec<Finding>) {
        let subject = format!("store {}", store.name);
        let is_fed =
            |plan: &Plan| plan.store == store.name || plan.replicas().any(|to| to == store.name);
        if !self.plans().any(is_fed) {
            found.push(Finding {
                weight: Weight::Doubtful,
                subject: subject.clone(),
                what: "not used by any plan".to_owned(),
                hint: format!("use it in a plan: store = \"{}\"", store.name),
            });
        } else if !self.is_verified(&store.name) {
            found.push(Finding {
                weight: Weight::Doubtful,
                subject: subject.clone(),
                what: "never verified by this machine".to_owned(),
                hint: format!(
                    "skellin verify {}; or on a schedule: schedule = {{ verify = \"sundays at 03:00\" }} in stores.toml",
                    store.name
                ),
            });
        }
        // Commands and variables may not be there for whoever looks; a file must be.
        if let Some(source @ SecretSource::File(_)) = &store.passphrase
            && let Err(error) = read_secret(source, &subject)
        {
            let hint = error.hint().unwrap_or_default();
            found.push(wrong(subject.clone(), error.to_string(), hint));
        }
        let folders = &self.configuration.folders;
        if let Some(due) = drive_states(store, folders, self.journal, self.now).due() {
            let hint = "swap the drives, then run its plans";
            let weight = Weight::Doubtful;
            found.push(Finding {
                weight,
                subject: subject.clone(),
                what: due,
                hint: hint.to_owned(),
            });
        }
        if store.place.is_in_the_open() {
            found.push(Finding {
                weight: Weight::Doubtful,
                subject: subject.clone(),
                what: "the connection is not encrypted: the password can be read on the network"
                    .to_owned(),
                hint: "use webdavs:// or ftps:// if the server supports it".to_owned(),
            });
        }
        let header = open_place(store, &self.configuration.folders)
            .and_then(|place| Store::header_at(&*place).map_err(EngineError::from));
        if let Err(error) = header {
            let hint = error.hint().unwrap_or_default();
            return found.push(wrong(subject, error.to_string(), hint));
        }
        let Some(place) = local_directory(store, &self.configuration.folders) else { return };
        if let Ok(facts) = rustix::fs::statvfs(&place) {
            let free = facts.f_bavail * facts.f_frsize;
            if free < LITTLE_ROOM {
                let what = format!("only {} MiB free at {}", free >> 20, place.display());
                found.push(wrong(subject.clone(), what, "free space before the next run needs it"));
            }
        }
    }

    /// Whether the journal knows of a verification of a store that went to its end.
    fn is_verified(&self, store: &str) -> bool {
        // Without a journal nothing is known of it, and that is said.
        let Some(journal) = self.journal else { return true };
        let is_whole =
            |entry: &JournalEntry| matches!(entry.outcome, Outcome::Done | Outcome::Damage);
        journal
            .works(Work::Verify, store, LOOKED_BACK)
            .is_ok_and(|known| known.iter().any(is_whole))
    }

    /// What the last drill of a plan found.
    fn mismatch(&self, plan: &Plan) -> Option<Finding> {
        let drills = self.journal?.drills(&plan.name, 0, 1).ok()?;
        let last = drills.first().filter(|drill| drill.wrong > 0)?;
        let files = if last.wrong == 1 { "file that does" } else { "files that do" };
        Some(wrong(
            format!("plan {}", plan.name),
            format!("the last drill found {} {files} not match what was backed up", last.wrong),
            format!(
                "skellin journal --run {} lists them; skellin verify {} shows what is damaged",
                last.entry, last.store
            ),
        ))
    }

    /// A store on the disk it is to survive.
    fn beside(&self, store: &StoreConfig) -> Option<Finding> {
        let place = local_directory(store, &self.configuration.folders)?;
        let device = |path: &std::path::Path| std::fs::metadata(path).ok().map(|data| data.dev());
        let of_store = self.plans().filter(|plan| plan.store == store.name);
        let beside: Vec<String> = of_store
            .flat_map(|plan| &plan.sources)
            .filter(|source| device(source).is_some() && device(source) == device(&place))
            .map(|source| source.display().to_string())
            .collect();
        (!beside.is_empty()).then(|| Finding {
            weight: Weight::Doubtful,
            subject: format!("store {}", store.name),
            what: format!("on the same file system as {}", beside.join(", ")),
            hint: "one disk failure loses both: keep the store on another disk".to_owned(),
        })
    }

    fn plan(&self, plan: &Plan, found: &mut Vec<Finding>) {
        let subject = format!("plan {}", plan.name);
        for source in &plan.sources {
            let Err(error) = self.configuration.source_hosts.try_source(source) else { continue };
            let what = format!("cannot read source {}: {error}", source.display());
            let hint = error.hint().unwrap_or_else(|| {
                "check the mount, and the permissions of this account".to_owned()
            });
            found.push(wrong(subject.clone(), what, hint));
        }
        found.extend(self.mismatch(plan));
        let entries = self.journal.and_then(|journal| journal.entries(Some(&plan.name), 200).ok());
        let runs: Vec<JournalEntry> = entries
            .unwrap_or_default()
            .into_iter()
            .filter(|entry| entry.work == Work::Run)
            .collect();
        let (ahead, runs): (Vec<_>, Vec<_>) =
            runs.into_iter().partition(|run| is_ahead(run.started, self.now));
        if let Some(snapshot) = ahead.iter().find_map(|run| run.snapshot) {
            let zone = plan.zone.clone().unwrap_or_else(jiff::tz::TimeZone::system);
            let dated = Timestamp::from_millisecond(ahead[0].started).unwrap_or(Timestamp::MAX);
            found.push(Finding {
                weight: Weight::Doubtful,
                subject: subject.clone(),
                what: format!(
                    "{} runs are dated later than now, up to {}: the clock was ahead, or is behind now",
                    ahead.len(),
                    dated.to_zoned(zone).strftime("%a %d %b %Y at %H:%M")
                ),
                hint: format!(
                    "check the clock of this machine (timedatectl); these snapshots are complete but do not count as newest: restore from them by id, such as {}",
                    snapshot.short()
                ),
            });
        }
        let ended = runs.iter().find(|entry| entry.outcome != Outcome::Running);
        let good = runs.iter().find(|entry| entry.snapshot.is_some());
        if let Some(last) = ended.filter(|last| last.snapshot.is_none()) {
            let what = format!("last run failed: {}", last.words.clone().unwrap_or_default());
            let hint = last.hint.clone().unwrap_or_else(|| format!("skellin run {}", plan.name));
            found.push(wrong(subject.clone(), what, hint));
        }
        let Some(good) = good else {
            let what = "no successful run in the journal of this machine";
            return found.push(wrong(subject, what, format!("skellin run {}", plan.name)));
        };
        match &plan.schedule {
            None => found.push(Finding {
                weight: Weight::Doubtful,
                subject,
                what: "no schedule: it runs only by hand".to_owned(),
                hint: "add [schedule] with run = \"daily at 21:40\"".to_owned(),
            }),
            Some(schedule) => {
                let at = |time| Timestamp::from_millisecond(time).ok();
                let (Some(from), Some(to)) = (at(good.started), at(self.now)) else { return };
                let zone = plan.zone.clone().unwrap_or_else(jiff::tz::TimeZone::system);
                let due = schedule.moments(from, to, Some(from), &zone, 3);
                // One moment may be about to be made up; two were missed.
                if due.len() > 1 {
                    let what = format!(
                        "late: scheduled {}, last good run {}",
                        schedule.words(),
                        from.to_zoned(zone).strftime("on %a %d %b %Y at %H:%M")
                    );
                    let hint = "skellin due --run runs it now; skellin timers install starts it on schedule";
                    found.push(wrong(subject, what, hint));
                }
            }
        }
    }
}

fn describe(gap: &Gap) -> Finding {
    let more = if gap.is_more { "at least " } else { "" };
    let mut what = format!("not in any plan: {more}{} files, {}", gap.files, size(gap.bytes));
    if let Some((kind, files)) = gap.holds {
        what.push_str(&format!(", {files} of them irreplaceable, {kind} above all"));
    }
    Finding {
        weight: Weight::Doubtful,
        subject: gap.path.display().to_string(),
        what,
        hint: "add it to the sources of a plan, or make a new plan".to_owned(),
    }
}

fn wrong(subject: String, what: impl Into<String>, hint: impl Into<String>) -> Finding {
    Finding { weight: Weight::Wrong, subject, what: what.into(), hint: hint.into() }
}
