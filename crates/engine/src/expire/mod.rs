//! Which snapshots of a plan stay in a store and which go: appraised with all reasons, then carried
//! out.

mod freed;
mod series;

use std::collections::{BTreeMap, HashSet};

use jiff::{Timestamp, Zoned, tz::TimeZone};
use skellin_plan::{
    Plan, retained_by,
    retention::{Decision, Past, Reason, Room, Sentence, Unmet, decide},
};
use skellin_store::{RunId, Snapshot, Store};

pub use crate::words::because;
use crate::{error::Result, history::snapshots};
use freed::Freed;

/// With so many snapshots that would go by changed sentences alone, somebody is asked again.
const MANY: usize = 4;

/// A snapshot and what becomes of it.
#[derive(Clone, Debug)]
pub struct Fate {
    /// The snapshot.
    pub snapshot: Snapshot,
    /// Whether it is pinned.
    pub is_pinned: bool,
    /// What becomes of it; numbers of others are those of the fates.
    pub decision: Decision,
    /// Whether it would have stayed by the sentences its plan had when it was made.
    pub by_change: bool,
}

/// What becomes of the snapshots of a plan in a store.
#[derive(Clone, Debug, Default)]
pub struct Appraisal {
    /// The plan's sentences there.
    pub sentences: Vec<Sentence>,
    /// Its snapshots in the order of their runs.
    pub fates: Vec<Fate>,
    /// Goals that are not met even so, by their number among the sentences.
    pub not_met: Vec<usize>,
    /// The zone in which days begin.
    pub zone: Option<TimeZone>,
}

impl Appraisal {
    /// Those that go.
    pub fn going(&self) -> impl Iterator<Item = &Fate> {
        self.fates.iter().filter(|fate| !fate.decision.stays())
    }

    /// Those that would go because sentences have changed, if they are many at once.
    #[must_use]
    pub fn changed(&self) -> Vec<&Fate> {
        let changed: Vec<&Fate> = self.going().filter(|fate| fate.by_change).collect();
        if changed.len() < MANY { Vec::new() } else { changed }
    }

    /// Why a snapshot stays, or does not, each reason in words.
    #[must_use]
    pub fn because(&self, fate: &Fate) -> Vec<String> {
        let zone = self.zone.clone().unwrap_or_else(TimeZone::system);
        let time = |at: usize| {
            let moment = self.fates.get(at).map_or(0, |fate| fate.snapshot.started);
            let moment = Timestamp::from_millisecond(moment).unwrap_or(Timestamp::UNIX_EPOCH);
            moment.to_zoned(zone.clone()).strftime("%-d %b %Y %H:%M").to_string()
        };
        because(&fate.decision, &self.sentences, &time)
    }

    /// The goals that cannot be met, as they were written.
    #[must_use]
    pub fn unmet_goals(&self) -> Vec<String> {
        self.not_met.iter().map(|at| self.sentences[*at].to_string()).collect()
    }
}

fn zoned(now: i64, zone: &TimeZone) -> Zoned {
    Timestamp::from_millisecond(now).unwrap_or(Timestamp::UNIX_EPOCH).to_zoned(zone.clone())
}

/// What becomes of a plan's snapshots in a store at a moment, in milliseconds since 1970. Goals are asked
/// for the store's room.
///
/// # Errors
/// If the place fails. Snapshots that cannot be read are none of those that go.
pub fn appraise(store: &Store, store_name: &str, plan: &Plan, now: i64) -> Result<Appraisal> {
    let all = snapshots(store, None, |_, _| {})?;
    let sentences = plan.retained_at(store_name);
    let has_goals = sentences.iter().any(|sentence| matches!(sentence, Sentence::Goal(_)));
    let own = |all: &[Snapshot]| -> Vec<Snapshot> {
        all.iter().filter(|snapshot| snapshot.plan == plan.series()).cloned().collect()
    };
    let pins = store.pins()?;
    let mut freed = Freed::default();
    let mut room = Room::default();
    if has_goals {
        room = Room { used: store.usage()?.bytes, free: store.place().room() };
        // With room enough for all of them: those that stay for no other reason.
        let without = fates(own(&all), (plan, store_name), &pins, now, Room::default(), &mut |_| 0);
        let only_room = |fate: &&Fate| fate.decision == Decision::Stays(vec![Reason::RoomEnough]);
        let may_go = without.fates.iter().filter(only_room).map(|fate| fate.snapshot.run).collect();
        freed = Freed::of(store, &all, &may_go)?;
    }
    let own = own(&all);
    Ok(fates(own, (plan, store_name), &pins, now, room, &mut |snapshot| freed.going(snapshot)))
}

/// As [`appraise`], of snapshots that are known already; `released` is asked how many bytes come back
/// by one more going.
#[must_use]
pub fn fates(
    own: Vec<Snapshot>,
    (plan, store): (&Plan, &str),
    pins: &HashSet<RunId>,
    now: i64,
    mut room: Room,
    released: &mut dyn FnMut(&Snapshot) -> u64,
) -> Appraisal {
    let zone = plan.zone.clone().unwrap_or_else(TimeZone::system);
    let now = zoned(now, &zone);
    let sentences = plan.retained_at(store);
    let mut decisions: BTreeMap<usize, (Decision, bool)> = BTreeMap::new();
    let mut not_met = Vec::new();
    for numbers in series::series(&own) {
        let past: Vec<Past> = numbers.iter().map(|at| past(&own[*at], pins)).collect();
        let mut back = 0;
        let (decided, missed) = decide(&past, sentences, &now, room, &mut |at| {
            let freed = released(&own[numbers[at]]);
            back += freed;
            freed
        });
        room.used = room.used.saturating_sub(back);
        room.free = room.free.map(|(free, all)| (free.saturating_add(back), all));
        not_met.extend(missed);
        let earlier = stays_by_earlier(&own, &numbers, store, &past, &now);
        for (at, decision) in decided.into_iter().enumerate() {
            let by_change = !decision.stays() && earlier[at];
            decisions.insert(numbers[at], (renumbered(decision, &numbers), by_change));
        }
    }
    not_met.sort_unstable();
    not_met.dedup();
    let fates = own.into_iter().zip(decisions.into_values());
    let fates = fates.map(|(snapshot, (decision, by_change))| Fate {
        is_pinned: pins.contains(&snapshot.run),
        snapshot,
        decision,
        by_change,
    });
    Appraisal { sentences: sentences.to_vec(), fates: fates.collect(), not_met, zone: Some(zone) }
}

fn past(snapshot: &Snapshot, pins: &HashSet<RunId>) -> Past {
    Past {
        time: snapshot.started,
        is_whole: snapshot.exceptions == 0,
        is_pinned: pins.contains(&snapshot.run),
        labels: snapshot.labels.clone(),
    }
}

/// Which would stay by the sentences that stood in their plan when they were made.
fn stays_by_earlier(
    own: &[Snapshot],
    numbers: &[usize],
    store: &str,
    past: &[Past],
    now: &Zoned,
) -> Vec<bool> {
    let mut known: BTreeMap<&str, Vec<Decision>> = BTreeMap::new();
    let stays = |(at, number): (usize, &usize)| {
        let text = own[*number].plan_text.as_str();
        let decided = known.entry(text).or_insert_with(|| {
            let sentences = retained_by(text, store);
            decide(past, &sentences, now, Room::default(), &mut |_| 0).0
        });
        // A goal lets go what the room asks for: that is no change of what was said.
        decided[at].stays()
            && !matches!(&decided[at], Decision::Stays(reasons) if *reasons == [Reason::RoomEnough])
    };
    numbers.iter().enumerate().map(stays).collect()
}

/// A decision whose numbers of others are those of all snapshots.
fn renumbered(decision: Decision, numbers: &[usize]) -> Decision {
    let overall = |unmet| match unmet {
        Unmet::Displaced { sentence, by } => Unmet::Displaced { sentence, by: numbers[by] },
        other => other,
    };
    match decision {
        Decision::Goes(unmet) => Decision::Goes(unmet.into_iter().map(overall).collect()),
        stays @ Decision::Stays(_) => stays,
    }
}
