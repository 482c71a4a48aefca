//! What of a plan's snapshots will be there on a day to come.

use jiff::{Timestamp, tz::TimeZone};
use skellin_plan::retention::{Decision, Past, Room, Sentence, decide};

/// A snapshot of today, or one to come.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(super) struct Future {
    /// In milliseconds since 1970.
    pub time: i64,
    /// Whether its run has yet to be.
    pub is_coming: bool,
    /// What has become of it then; numbers of others are those of the outlook.
    pub decision: Decision,
}

impl Future {
    /// Whether it is there then.
    pub fn stays(&self) -> bool {
        self.decision.stays()
    }
}

/// All of them, and how many.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub(super) struct Outlook {
    pub snapshots: Vec<Future>,
}

impl Outlook {
    /// Of those of today, or to come: how many stay, and how many there are.
    pub fn count(&self, coming: bool) -> (usize, usize) {
        let of = self.snapshots.iter().filter(|one| one.is_coming == coming);
        (of.clone().filter(|one| one.stays()).count(), of.count())
    }

    /// The oldest that is there then.
    pub fn oldest(&self) -> Option<i64> {
        self.snapshots.iter().find(|one| one.stays()).map(|one| one.time)
    }
}

/// What is there at a moment: of snapshots of today, and of runs to come that will all be good. Goals for
/// the store's room are taken as met.
pub(super) fn outlook(
    today: Vec<Past>,
    coming: &[i64],
    labels: &[String],
    sentences: &[Sentence],
    (at, zone): (i64, &TimeZone),
) -> Outlook {
    let known = today.len();
    let mut past = today;
    past.extend(coming.iter().map(|time| Past {
        time: *time,
        is_whole: true,
        is_pinned: false,
        labels: labels.to_vec(),
    }));
    let moment = Timestamp::from_millisecond(at).unwrap_or(Timestamp::UNIX_EPOCH);
    let (decided, _) =
        decide(&past, sentences, &moment.to_zoned(zone.clone()), Room::default(), &mut |_| 0);
    let snapshots = past.iter().zip(decided).enumerate().map(|(at, (past, decision))| Future {
        time: past.time,
        is_coming: at >= known,
        decision,
    });
    Outlook { snapshots: snapshots.collect() }
}

#[cfg(test)]
mod tests {
    use super::*;

    const DAY: i64 = 86_400_000;
    const EVENING: i64 = 1_793_569_200_000;

    fn nights(range: std::ops::Range<i64>) -> Vec<i64> {
        range.map(|night| EVENING + night * DAY).collect()
    }

    #[test]
    fn what_is_there_on_a_day_to_come_follows_from_the_sentences() {
        let today: Vec<Past> = nights(0..10)
            .into_iter()
            .map(|time| Past { time, is_whole: true, is_pinned: time == EVENING, labels: vec![] })
            .collect();
        let sentences = [Sentence::parse("one a day for 3 days").expect("a sentence")];
        let coming = nights(10..15);
        let at = coming[4] + DAY / 24;
        let found = outlook(today.clone(), &coming, &[], &sentences, (at, &TimeZone::UTC));
        assert_eq!((found.count(false), found.count(true)), ((1, 10), (4, 5)));
        assert_eq!(found.oldest(), Some(EVENING), "the pinned one");
        let none = outlook(today, &coming, &[], &[], (at, &TimeZone::UTC));
        assert_eq!((none.count(false), none.count(true)), ((10, 10), (5, 5)));
    }
}
