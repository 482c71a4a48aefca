//! A lane of the ribbon: the snapshots of a plan, what went wrong between them, what was missed,
//! and what is to come.

use std::{
    cell::RefCell,
    collections::{BTreeMap, HashMap},
    sync::Arc,
};

use jiff::Timestamp;
use skellin_engine::{Exception, JournalEntry, Outcome, Progress, RunReport, Work as Recorded};
use skellin_plan::{
    Plan, Schedule,
    retention::{Past, Sentence},
};
use skellin_store::RunId;

use super::{
    outlook::{Outlook, outlook},
    worker::{Facts, Trouble},
};
use crate::words;

/// A run that was expected counts as late after this time, in milliseconds.
const LATE: i64 = 3_600_000;
/// So many of the newest runs tell how long the next takes.
const RUNS_THAT_TELL: usize = 30;
/// So many missed or coming moments are looked for.
const MOST_MOMENTS: usize = 4000;

/// What is known of a plan's snapshots.
pub(super) enum Known {
    /// Being looked up.
    Loading,
    Here,
    Trouble(Trouble),
}

/// A snapshot on the ribbon.
#[derive(Clone, Copy, Debug)]
pub(super) struct Mark {
    pub id: RunId,
    /// In milliseconds since 1970.
    pub time: i64,
    /// What it says of itself, once it has been read.
    pub facts: Option<Facts>,
}

/// A run that came to nothing.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(super) struct Stumble {
    pub time: i64,
    pub outcome: Outcome,
    pub words: String,
    pub hint: Option<String>,
}

/// How work on a plan stands, as its Is shows it.
#[derive(Default)]
pub(super) enum Work {
    #[default]
    None,
    Going {
        job: u64,
        dry_run: bool,
        begun: i64,
        progress: Progress,
        exceptions: Vec<Exception>,
        notes: Vec<String>,
        cancel: skellin_engine::Cancel,
    },
    Ended {
        dry_run: bool,
        result: Result<Box<RunReport>, Trouble>,
        notes: Vec<String>,
    },
}

/// So many outlooks are remembered: what a screen shows of the plan as it is and as it is tried.
const OUTLOOKS: usize = 6;

/// What an outlook was asked for.
#[derive(PartialEq)]
struct Asked {
    sentences: Vec<Sentence>,
    /// In minutes since 1970: time goes on between two frames, and little follows from that.
    until: i64,
    /// How many snapshots were known, and how many of them had been read.
    marks: (usize, usize),
}

/// A plan on the ribbon.
pub(super) struct Lane {
    pub name: String,
    pub store: String,
    /// The machine, if it is not this one.
    pub machine: Option<String>,
    /// The plan, unless only its snapshots are there.
    pub plan: Option<Plan>,
    pub known: Known,
    pub marks: Vec<Mark>,
    /// Labels of its snapshots, and whether they are pinned.
    kept: HashMap<RunId, (Vec<String>, bool)>,
    /// Sentences that somebody is trying in place of those of the plan.
    pub tried: Option<Vec<Sentence>>,
    /// The last outlooks that were asked for: no frame waits for what one before has decided.
    outlooks: RefCell<Vec<(Asked, Arc<Outlook>)>>,
    /// How many of its snapshots other stores hold, and the time of the newest there.
    pub copies: BTreeMap<String, (usize, i64)>,
    pub stumbles: Vec<Stumble>,
    /// Moments at which a run was expected and none came.
    pub missed: Vec<i64>,
    /// How long a run takes, in milliseconds, by those that have been.
    takes: Option<i64>,
    pub work: Work,
    /// Damage that was met while looking at it.
    pub damage: Option<String>,
    /// Damage of its store, or met by a restore, that the journal knows and no good verification since.
    pub known_damage: Option<(i64, &'static str)>,
    /// How many of the missed lie before the last stop, and stay as they are.
    past: usize,
    /// Moments to stop at: snapshots and stumbles.
    stops: Vec<i64>,
}

impl Lane {
    pub fn new(name: String, store: String, machine: Option<String>, plan: Option<Plan>) -> Self {
        Self {
            name,
            store,
            machine,
            plan,
            known: Known::Loading,
            marks: Vec::new(),
            kept: HashMap::new(),
            tried: None,
            outlooks: RefCell::default(),
            copies: BTreeMap::new(),
            stumbles: Vec::new(),
            missed: Vec::new(),
            takes: None,
            work: Work::None,
            damage: None,
            known_damage: None,
            past: 0,
            stops: Vec::new(),
        }
    }

    /// As the ribbon names it.
    pub fn label(&self) -> String {
        match &self.machine {
            Some(machine) => format!("{} @{machine}", self.name),
            None => self.name.clone(),
        }
    }

    /// The time zone its schedule is in.
    pub fn zone(&self) -> jiff::tz::TimeZone {
        self.plan.as_ref().and_then(|plan| plan.zone.clone()).unwrap_or_else(words::zone)
    }

    fn schedule(&self) -> Option<&Schedule> {
        self.plan.as_ref()?.schedule.as_ref()
    }

    /// Takes the snapshots a listing has found; what was read of them before is kept.
    pub fn take_marks(&mut self, found: &[(RunId, i64)], now: i64) {
        let mut facts: HashMap<RunId, Facts> =
            self.marks.iter().filter_map(|mark| Some((mark.id, mark.facts?))).collect();
        self.marks = found
            .iter()
            .map(|(id, time)| Mark { id: *id, time: *time, facts: facts.remove(id) })
            .collect();
        self.known = Known::Here;
        self.settle(now);
    }

    pub fn take_facts(&mut self, found: &[(RunId, Facts)]) {
        let found: HashMap<_, _> = found.iter().copied().collect();
        for mark in self.marks.iter_mut().filter(|mark| mark.facts.is_none()) {
            mark.facts = found.get(&mark.id).copied();
        }
    }

    /// Takes labels and pins, of those snapshots that have any.
    pub fn take_kept(&mut self, found: &[(RunId, Vec<String>, bool)]) {
        for (run, labels, is_pinned) in found {
            self.kept.insert(*run, (labels.clone(), *is_pinned));
        }
        self.outlooks.borrow_mut().clear();
    }

    /// Takes that a snapshot was pinned, or is not any more.
    pub fn take_pin(&mut self, run: RunId, is_pinned: bool) {
        if self.marks.iter().any(|mark| mark.id == run) {
            self.kept.entry(run).or_default().1 = is_pinned;
            self.outlooks.borrow_mut().clear();
        }
    }

    /// Whether a snapshot is pinned.
    pub fn is_pinned(&self, run: RunId) -> bool {
        self.kept.get(&run).is_some_and(|(_, is_pinned)| *is_pinned)
    }

    /// Tries other sentences than those of the plan, or ends that.
    pub fn try_sentences(&mut self, tried: Option<Vec<Sentence>>) {
        self.tried = tried;
    }

    /// The sentences by which its snapshots stay in its store: those that are being tried, else the
    /// plan's.
    pub fn sentences(&self) -> &[Sentence] {
        let own = self.plan.as_ref().map_or(&[][..], |plan| plan.retained_at(&self.store));
        self.tried.as_deref().unwrap_or(own)
    }

    /// What will be there at a moment to come, by its sentences; nothing if there are none.
    pub fn outlook(&self, now: i64, at: i64) -> Option<Arc<Outlook>> {
        if self.plan.is_none() || self.sentences().is_empty() {
            return None;
        }
        Some(self.outlook_by(self.sentences(), now, at))
    }

    /// As [`outlook`](Self::outlook), by other sentences.
    pub fn outlook_by(&self, sentences: &[Sentence], now: i64, at: i64) -> Arc<Outlook> {
        let read = self.marks.iter().filter(|mark| mark.facts.is_some()).count();
        let asked = Asked {
            sentences: sentences.to_vec(),
            until: at.div_euclid(60_000),
            marks: (self.marks.len(), read),
        };
        let mut known = self.outlooks.borrow_mut();
        if let Some((_, found)) = known.iter().find(|(of, _)| *of == asked) {
            return Arc::clone(found);
        }
        let found = Arc::new(self.look_ahead(sentences, now, at));
        if known.len() >= OUTLOOKS {
            known.remove(0);
        }
        known.push((asked, Arc::clone(&found)));
        found
    }

    fn look_ahead(&self, sentences: &[Sentence], now: i64, at: i64) -> Outlook {
        let today = self.marks.iter().map(|mark| {
            let (labels, is_pinned) = self.kept.get(&mark.id).cloned().unwrap_or_default();
            let is_whole = mark.facts.is_none_or(|facts| facts.exceptions == 0);
            Past { time: mark.time, is_whole, is_pinned, labels }
        });
        let coming = self.coming(now, at + 1);
        let labels = self.plan.as_ref().map_or(&[][..], |plan| &plan.labels);
        outlook(today.collect(), &coming, labels, sentences, (at, &self.zone()))
    }

    /// Takes what the journal knows of this plan's runs, newest first.
    pub fn take_journal<'e>(&mut self, entries: impl Iterator<Item = &'e JournalEntry>, now: i64) {
        let entries: Vec<&JournalEntry> = entries.collect();
        let mut times: Vec<i64> = entries
            .iter()
            .filter(|entry| entry.snapshot.is_some())
            .filter_map(|entry| Some(entry.ended? - entry.started))
            .take(RUNS_THAT_TELL)
            .collect();
        times.sort_unstable();
        self.takes = times.get(times.len() / 2).copied();
        let failed = entries.into_iter().filter(|entry| {
            entry.snapshot.is_none()
                && matches!(
                    entry.outcome,
                    Outcome::Failed | Outcome::Interrupted | Outcome::Guarded
                )
        });
        self.stumbles = failed
            .map(|entry| Stumble {
                time: entry.started,
                outcome: entry.outcome,
                words: entry.words.clone().unwrap_or_else(|| "stopped".to_owned()),
                hint: entry.hint.clone(),
            })
            .collect();
        self.stumbles.reverse();
        self.settle(now);
    }

    /// Works out what follows from snapshots, stumbles and schedule.
    pub fn settle(&mut self, now: i64) {
        self.stops = self.marks.iter().map(|mark| mark.time).collect();
        self.stops.extend(self.stumbles.iter().map(|stumble| stumble.time));
        self.stops.sort_unstable();
        self.missed = self.find_missed(now, 0);
        self.past = self
            .missed
            .partition_point(|moment| self.stops.last().is_some_and(|last| moment <= last));
    }

    /// The time has gone on: only what follows the last stop can have changed.
    pub fn tick(&mut self, now: i64) {
        self.missed.truncate(self.past);
        let open = self.find_missed(now, self.stops.len().saturating_sub(1));
        self.missed.extend(open);
    }

    /// Moments of the schedule that went by without a run before the next one was due.
    /// `first`: the number of the stop to begin with.
    fn find_missed(&self, now: i64, first: usize) -> Vec<i64> {
        let Some(schedule) = self.schedule() else { return Vec::new() };
        let mut missed = Vec::new();
        let ends = self.stops.iter().skip(first + 1).copied().chain([now]);
        for (from, to) in self.stops.iter().skip(first).copied().zip(ends) {
            let (Some(from), Some(to)) = (timestamp(from), timestamp(to)) else { continue };
            let moments = schedule.moments(from, to, Some(from), &self.zone(), MOST_MOMENTS);
            // The last one before a run is what that run made up for, unless nothing has come yet.
            let open = to.as_millisecond() >= now;
            let caught_up = usize::from(
                !open || moments.last().is_some_and(|last| now - last.as_millisecond() < LATE),
            );
            let missing = moments.len().saturating_sub(caught_up);
            missed.extend(moments[..missing].iter().map(|moment| moment.as_millisecond()));
        }
        missed
    }

    /// Moments of the schedule up to a time.
    pub fn coming(&self, now: i64, until: i64) -> Vec<i64> {
        let (Some(schedule), Some(from), Some(to)) =
            (self.schedule(), timestamp(now), timestamp(until))
        else {
            return Vec::new();
        };
        let last = self.marks.last().and_then(|mark| timestamp(mark.time));
        let moments = schedule.moments(from, to, last, &self.zone(), MOST_MOMENTS);
        moments.into_iter().map(|moment| moment.as_millisecond()).collect()
    }

    /// Whether a run that starts then will be done before its window closes, as far as one can tell.
    pub fn fits(&self, moment: i64) -> bool {
        let window = self.plan.as_ref().and_then(|plan| plan.starting.window);
        let (Some(window), Some(takes), Some(at)) = (window, self.takes, timestamp(moment)) else {
            return true;
        };
        let takes = jiff::SignedDuration::from_millis(takes);
        window.fits(at, takes, &self.zone()).is_none_or(|fit| fit.over.is_none())
    }

    /// How long a run takes, in milliseconds, by those that have been.
    pub fn takes(&self) -> Option<i64> {
        self.takes
    }

    /// The stretches without a run in which one was expected: from the first missed moment to what
    /// came after it, or to now.
    pub fn gaps(&self, now: i64) -> Vec<(i64, i64)> {
        let mut gaps: Vec<(i64, i64)> = Vec::new();
        for missed in &self.missed {
            if gaps.last().is_some_and(|(_, to)| missed < to) {
                continue;
            }
            gaps.push((*missed, self.stop_after(*missed).unwrap_or(now)));
        }
        gaps
    }

    /// The snapshot nearest to a time.
    pub fn nearest(&self, time: i64) -> Option<i64> {
        self.marks.iter().map(|mark| mark.time).min_by_key(|at| (at - time).abs())
    }

    /// The first moment of the schedule after a time.
    pub fn next(&self, after: i64) -> Option<i64> {
        let last = self.marks.last().and_then(|mark| timestamp(mark.time));
        let next = self.schedule()?.next(timestamp(after)?, last, &self.zone());
        Some(next.as_millisecond())
    }

    /// Number of the newest snapshot at or before a time.
    pub fn at(&self, time: i64) -> Option<usize> {
        self.marks.partition_point(|mark| mark.time <= time).checked_sub(1)
    }

    /// The stop before a time.
    pub fn stop_before(&self, time: i64) -> Option<i64> {
        let before = self.stops.partition_point(|stop| *stop < time);
        before.checked_sub(1).map(|number| self.stops[number])
    }

    /// The stop after a time.
    pub fn stop_after(&self, time: i64) -> Option<i64> {
        self.stops.get(self.stops.partition_point(|stop| *stop <= time)).copied()
    }

    pub fn first_stop(&self) -> Option<i64> {
        self.stops.first().copied()
    }

    /// The stumble at exactly this time.
    pub fn stumble_at(&self, time: i64) -> Option<&Stumble> {
        self.stumbles.iter().find(|stumble| stumble.time == time)
    }

    /// Takes what the journal says of the store's soundness, newest entries first.
    pub fn take_soundness<'e>(&mut self, mut entries: impl Iterator<Item = &'e JournalEntry>) {
        self.known_damage = entries
            .find_map(|entry| match (entry.work, entry.outcome) {
                (Recorded::Verify, Outcome::Done) if entry.store == self.store => Some(None),
                (Recorded::Verify, Outcome::Damage) if entry.store == self.store => {
                    Some(Some((entry.started, "a verification")))
                }
                (Recorded::Restore, Outcome::Damage)
                    if entry.store == self.store && entry.plan.as_ref() == Some(&self.name) =>
                {
                    Some(Some((entry.started, "a restore")))
                }
                _ => None,
            })
            .flatten();
    }

    /// What is wrong with the plan, if anything is; the first thing that is, in words.
    pub fn ailment(&self, now: i64) -> Option<String> {
        match &self.known {
            Known::Loading => return None,
            Known::Trouble(trouble) => return Some(format!("✕ {}: {}", self.name, trouble.what)),
            Known::Here => {}
        }
        if let Some(damage) = &self.damage {
            return Some(format!("✕ {}: {damage}", self.name));
        }
        if let Some((found, by)) = self.known_damage {
            return Some(format!(
                "✕ {}: {by} found damage in {} {} ago",
                self.name,
                self.store,
                words::age(now - found)
            ));
        }
        let newest = self.marks.last();
        if let Some(stumble) = self.stumbles.last()
            && newest.is_none_or(|mark| mark.time < stumble.time)
        {
            let what = match stumble.outcome {
                Outcome::Interrupted => "was interrupted",
                Outcome::Guarded => "stopped: confirmation needed",
                _ => "failed",
            };
            let age = words::age(now - stumble.time);
            return Some(format!(
                "✕ {}: the last run {what} {age} ago: {}",
                self.name, stumble.words
            ));
        }
        let Some(newest) = newest else {
            return Some(format!("○ {} has no snapshot yet", self.name));
        };
        let late = self.missed.iter().find(|moment| **moment > newest.time);
        if let Some(late) = late {
            return Some(format!(
                "◇ {} is late: run of {} missed",
                self.name,
                words::moment(*late)
            ));
        }
        let exceptions = newest.facts.map_or(0, |facts| facts.exceptions);
        (exceptions > 0).then(|| {
            let count = words::counted(exceptions, "exception", "exceptions");
            format!("▲ {}: {count} in the newest snapshot", self.name)
        })
    }
}

fn timestamp(milliseconds: i64) -> Option<Timestamp> {
    Timestamp::from_millisecond(milliseconds).ok()
}

#[cfg(test)]
mod tests {
    use super::*;

    const HOUR: i64 = 3_600_000;

    fn lane(schedule: &str) -> Lane {
        let text =
            format!("sources = [\"/srv\"]\nstore = \"oak\"\n[schedule]\nrun = \"{schedule}\"\n");
        let nothing = |_: &str| None;
        let (plan, _) = skellin_plan::parse_plan("readings", "f", &text, &nothing, ["oak"]);
        Lane::new("readings".to_owned(), "oak".to_owned(), None, plan)
    }

    fn mark(number: u8, time: i64) -> (RunId, i64) {
        (RunId([number; 16]), time)
    }

    #[test]
    fn what_was_missed_shows_and_what_was_made_up_for_does_not() {
        let day = 24 * HOUR;
        let mut lane = lane("daily at 21:40");
        let due = |number: i64| number * day + 21 * HOUR + 40 * 60_000;
        // A run on time, one night without, one made up at noon, then two on time.
        let marks =
            [mark(0, due(0)), mark(1, due(2) + 14 * HOUR), mark(2, due(3) + 5000), mark(3, due(4))];
        lane.take_marks(&marks, due(4) + HOUR);
        assert_eq!(lane.missed, [due(1)]);
        assert_eq!(lane.ailment(due(4) + HOUR), None);
        // Half an hour after its time a run is not late yet; two hours after, it is.
        lane.tick(due(5) + HOUR / 2);
        assert_eq!(lane.missed, [due(1)]);
        lane.tick(due(5) + 2 * HOUR);
        assert_eq!(lane.missed, [due(1), due(5)]);
        let now = due(5) + 2 * HOUR;
        assert_eq!(lane.gaps(now), [(due(1), due(2) + 14 * HOUR), (due(5), now)]);
        assert!(lane.ailment(due(5) + 2 * HOUR).is_some_and(|what| what.contains("is late")));
        assert_eq!(lane.coming(due(4), due(6)), [due(5), due(6)]);
        assert_eq!(
            (lane.at(due(0) - 1), lane.at(due(0)), lane.at(due(1))),
            (None, Some(0), Some(0))
        );
        assert_eq!((lane.stop_before(due(0)), lane.stop_after(due(4))), (None, None));
        assert_eq!(lane.stop_before(due(3) + 5000), Some(due(2) + 14 * HOUR));
    }

    #[test]
    fn what_was_decided_is_remembered_until_something_changes() {
        let mut lane = lane("daily at 21:40");
        let day = 24 * HOUR;
        let times: Vec<_> = (0..9).map(|night| mark(night, i64::from(night) * day)).collect();
        let now = 9 * day;
        lane.take_marks(&times, now);
        let said = |text: &str| [Sentence::parse(text).expect("a sentence")];
        let (few, many) = (said("one a day for 2 days"), said("one a day for 8 days"));
        let known = lane.outlook_by(&few, now, now);
        let other = lane.outlook_by(&many, now, now);
        assert!(known.count(false).0 < other.count(false).0);
        // The next frame asks the same, a few seconds later.
        assert!(Arc::ptr_eq(&known, &lane.outlook_by(&few, now + 5000, now + 5000)));
        assert!(Arc::ptr_eq(&other, &lane.outlook_by(&many, now, now)));
        assert!(!Arc::ptr_eq(&known, &lane.outlook_by(&few, now, now + day)));
        lane.take_pin(RunId([0; 16]), true);
        let pinned = lane.outlook_by(&few, now, now);
        assert_eq!(pinned.count(false).0, known.count(false).0 + 1);
        lane.take_marks(&times[..8], now);
        assert_eq!(lane.outlook_by(&few, now, now).snapshots.len(), 8);
    }

    #[test]
    fn a_failed_run_is_a_stop_and_an_ailment_until_a_good_one_comes() {
        let mut lane = lane("every 4 days");
        lane.take_marks(&[mark(0, 1000)], 2000);
        let entry = |started, outcome| JournalEntry {
            version: "0.1.0".to_owned(),
            unattended: false,
            id: 1,
            work: skellin_engine::Work::Run,
            plan: Some("readings".to_owned()),
            store: "oak".to_owned(),
            machine: "hut".to_owned(),
            started,
            ended: Some(started + 1),
            outcome,
            snapshot: None,
            files: skellin_engine::FileCounts::default(),
            bytes: skellin_engine::ByteCounts::default(),
            exception_count: 0,
            words: Some("the place does not exist".to_owned()),
            hint: None,
        };
        lane.take_journal([entry(1500, Outcome::Failed)].iter(), 2000);
        assert_eq!(lane.stop_after(1000), Some(1500));
        assert!(
            lane.ailment(2000)
                .is_some_and(|what| what.contains("failed") && what.contains("does not exist"))
        );
        lane.take_marks(&[mark(0, 1000), mark(1, 1800)], 2000);
        assert_eq!(lane.ailment(2000), None);
    }
}
