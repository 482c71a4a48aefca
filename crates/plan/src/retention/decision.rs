//! What becomes of each snapshot by the sentences.

use std::collections::HashMap;

use jiff::{Timestamp, Zoned};

use super::sentence::{Goal, Period, Sentence, Time};

/// What is known of a snapshot.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Past {
    /// When its run began, in milliseconds since 1970.
    pub time: i64,
    /// Whether nothing is missing from it.
    pub is_whole: bool,
    /// Whether somebody has pinned it.
    pub is_pinned: bool,
    /// Its labels.
    pub labels: Vec<String>,
}

/// Why a snapshot stays.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Reason {
    /// It is pinned.
    Pinned,
    /// It is the newest: that of a plan never expires.
    Newest,
    /// No sentence says that anything expires.
    NoSentence,
    /// A sentence retains it, by its number.
    Sentence(usize),
    /// No sentence retains it, but the goals are met without its going.
    RoomEnough,
}

/// Why a sentence does not retain a snapshot.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Unmet {
    /// It is older than the sentence reaches.
    TooOld {
        /// The sentence, by its number.
        sentence: usize,
    },
    /// Another one stands for its period.
    Displaced {
        /// The sentence, by its number.
        sentence: usize,
        /// The snapshot that does, by its number.
        by: usize,
    },
    /// Enough newer ones are there.
    NotAmongNewest {
        /// The sentence, by its number.
        sentence: usize,
    },
    /// It has another label or none.
    NotLabelled {
        /// The sentence, by its number.
        sentence: usize,
    },
    /// A goal is not met while it stays.
    Room {
        /// The sentence, by its number.
        sentence: usize,
    },
}

/// What becomes of a snapshot.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Decision {
    /// It stays, for all of these reasons.
    Stays(Vec<Reason>),
    /// It goes: why no sentence retains it.
    Goes(Vec<Unmet>),
}

impl Decision {
    /// Whether it stays.
    #[must_use]
    pub fn stays(&self) -> bool {
        matches!(self, Self::Stays(_))
    }
}

/// The room at a store's place.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct Room {
    /// Bytes the store takes.
    pub used: u64,
    /// Bytes that are free at its place, and all there are, if the place tells.
    pub free: Option<(u64, u64)>,
}

impl Room {
    /// Whether a goal is met once so many bytes have come back. What a place does not tell is no
    /// reason for anything to go.
    fn meets(self, goal: Goal, back: u64) -> bool {
        match (goal, self.free) {
            (Goal::AtMost(most), _) => self.used.saturating_sub(back) <= most,
            (Goal::Free(percent), Some((free, all))) => {
                let wanted = u128::from(all) * u128::from(percent);
                u128::from(free.saturating_add(back)) * 100 >= wanted
            }
            (Goal::Free(_), None) => true,
        }
    }
}

/// Decides what becomes of the snapshots of a plan, which come in the order of their runs; and which
/// goals are not met even so, by the number of their sentence. `released` is asked of the oldest
/// ones that only a goal expires, one after the other: how many bytes come back by this one's going
/// too.
#[must_use]
pub fn decide(
    past: &[Past],
    sentences: &[Sentence],
    now: &Zoned,
    room: Room,
    released: &mut dyn FnMut(usize) -> u64,
) -> (Vec<Decision>, Vec<usize>) {
    let mut reasons: Vec<Vec<Reason>> = past
        .iter()
        .map(|snapshot| snapshot.is_pinned.then_some(Reason::Pinned).into_iter().collect())
        .collect();
    if let Some(newest) = reasons.last_mut() {
        newest.push(Reason::Newest);
    }
    if sentences.is_empty() {
        reasons.iter_mut().for_each(|of_one| of_one.push(Reason::NoSentence));
    }
    let mut unmet: Vec<Vec<Unmet>> = vec![Vec::new(); past.len()];
    let mut goals = Vec::new();
    for (number, sentence) in sentences.iter().enumerate() {
        if let Sentence::Goal(goal) = sentence {
            goals.push((number, *goal));
            continue;
        }
        for (at, said) in by_sentence(past, number, sentence, now).into_iter().enumerate() {
            match said {
                Ok(()) => reasons[at].push(Reason::Sentence(number)),
                Err(why) => unmet[at].push(why),
            }
        }
    }
    let mut back = 0u64;
    let missed = |back: u64| {
        goals.iter().filter(move |(_, goal)| !room.meets(*goal, back)).map(|(number, _)| *number)
    };
    for at in (0..past.len()).filter(|_| !goals.is_empty()) {
        if !reasons[at].is_empty() {
            continue;
        }
        match missed(back).next() {
            Some(sentence) => {
                unmet[at].push(Unmet::Room { sentence });
                back = back.saturating_add(released(at));
            }
            None => reasons[at].push(Reason::RoomEnough),
        }
    }
    let not_met = missed(back).collect();
    let decided = reasons.into_iter().zip(unmet).map(|(reasons, unmet)| match reasons.is_empty() {
        false => Decision::Stays(reasons),
        true => Decision::Goes(unmet),
    });
    (decided.collect(), not_met)
}

/// What a sentence says of each snapshot.
fn by_sentence(
    past: &[Past],
    sentence: usize,
    said: &Sentence,
    now: &Zoned,
) -> Vec<Result<(), Unmet>> {
    let since = |time: &Time| time.before(now).timestamp().as_millisecond();
    let within = |snapshot: &Past, since: i64| match snapshot.time >= since {
        true => Ok(()),
        false => Err(Unmet::TooOld { sentence }),
    };
    let all = past.iter().enumerate();
    match said {
        Sentence::Everything(time) => {
            let since = since(time);
            past.iter().map(|snapshot| within(snapshot, since)).collect()
        }
        Sentence::One(period, time) => {
            let (since, chosen) = (since(time), representatives(past, *period, now));
            all.map(|(at, snapshot)| match chosen[at] {
                by if by == at => within(snapshot, since),
                by => Err(Unmet::Displaced { sentence, by }),
            })
            .collect()
        }
        Sentence::AtLeast(count) => {
            let is_newest = newest(past, *count as usize);
            let one = |is_newest| match is_newest {
                true => Ok(()),
                false => Err(Unmet::NotAmongNewest { sentence }),
            };
            is_newest.into_iter().map(one).collect()
        }
        Sentence::Labelled(label, time) => {
            let since = time.as_ref().map_or(i64::MIN, since);
            let one = |snapshot: &Past| match snapshot.labels.contains(label) {
                true => within(snapshot, since),
                false => Err(Unmet::NotLabelled { sentence }),
            };
            past.iter().map(one).collect()
        }
        Sentence::Goal(_) => Vec::new(),
    }
}

/// Which snapshot stands for the period of each: the last whole one, or the last if none is whole.
fn representatives(past: &[Past], period: Period, now: &Zoned) -> Vec<usize> {
    let zone = now.time_zone();
    let number = |snapshot: &Past| {
        let moment = Timestamp::from_millisecond(snapshot.time).unwrap_or(Timestamp::UNIX_EPOCH);
        period.number(&moment.to_zoned(zone.clone()))
    };
    let numbers: Vec<i64> = past.iter().map(number).collect();
    let mut chosen: HashMap<i64, usize> = HashMap::new();
    for (at, snapshot) in past.iter().enumerate() {
        let one = chosen.entry(numbers[at]).or_insert(at);
        if snapshot.is_whole || !past[*one].is_whole {
            *one = at;
        }
    }
    numbers.iter().map(|number| chosen[number]).collect()
}

/// Which are among so many newest, or among so many newest whole ones: when every run for weeks has
/// exceptions, neither the last whole snapshots go nor the last ones.
fn newest(past: &[Past], count: usize) -> Vec<bool> {
    let mut is_newest = vec![false; past.len()];
    let whole = |at: &usize| past[*at].is_whole;
    for at in
        (0..past.len()).rev().take(count).chain((0..past.len()).rev().filter(whole).take(count))
    {
        is_newest[at] = true;
    }
    is_newest
}
