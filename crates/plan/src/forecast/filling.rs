//! How a store has filled, told back from what it holds now.

use jiff::{Timestamp, ToSpan as _, civil::Date, tz::TimeZone};

/// Something that changed what a store holds.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct FillChange {
    /// In milliseconds since 1970.
    pub time: i64,
    /// Bytes added; less than nothing where room was freed.
    pub bytes: i64,
    /// Whether it was the first run of a plan, or the first copy: the like of it does not come again.
    pub is_first: bool,
}

/// What a store held, day by day.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct Filled {
    /// The end of each day, today's being now, in milliseconds since 1970, and the bytes it held then.
    pub held: Vec<(i64, f64)>,
    /// What each whole day has added without first runs, for [`Growth::expect`](super::Growth::expect).
    pub added: Vec<f64>,
}

/// More days than these are not told of.
const MOST: i64 = 3660;

/// Counts back from what a store holds now. Days are those of a zone.
#[must_use]
pub fn filled(changes: &[FillChange], held: u64, now: i64, zone: &TimeZone) -> Filled {
    let day = |time: i64| -> Option<Date> {
        Some(Timestamp::from_millisecond(time).ok()?.to_zoned(zone.clone()).date())
    };
    let oldest = changes.iter().map(|change| change.time).filter(|time| *time <= now).min();
    let (Some(today), Some(first)) = (day(now), oldest.and_then(day)) else {
        return Filled { held: vec![(now, held as f64)], added: Vec::new() };
    };
    let since = |date: Date| i64::from(first.until(date).map_or(0, |span| span.get_days()));
    let count = since(today).min(MOST);
    let first = today.checked_sub(count.days()).unwrap_or(first);
    let (mut all, mut usual) = (vec![0i64; count as usize + 1], vec![0i64; count as usize + 1]);
    for change in changes.iter().filter(|change| change.time <= now) {
        let at = day(change.time)
            .map(|date| first.until(date).map_or(-1, |span| i64::from(span.get_days())));
        let Some(at) = at.and_then(|at| usize::try_from(at).ok()) else { continue };
        all[at] = all[at].saturating_add(change.bytes);
        if !change.is_first {
            usual[at] = usual[at].saturating_add(change.bytes);
        }
    }
    let end = |at: usize| {
        let next = first.checked_add((at as i64 + 1).days()).ok();
        let start = next.and_then(|date| date.to_zoned(zone.clone()).ok());
        start.map_or(now, |start| start.timestamp().as_millisecond()).min(now)
    };
    let mut then = held as f64;
    let mut held = Vec::with_capacity(all.len());
    for (at, change) in all.iter().enumerate().rev() {
        held.push((end(at), then.max(0.0)));
        then -= *change as f64;
    }
    held.reverse();
    // Today has not ended, and on the first day of all there was only the beginning.
    let added = usual[1.min(count as usize)..count as usize].iter().map(|bytes| *bytes as f64);
    Filled { held, added: added.collect() }
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    const DAY: i64 = 86_400_000;

    #[test]
    fn days_are_counted_back_from_now() {
        let change =
            |day: i64, bytes, is_first| FillChange { time: day * DAY + DAY / 2, bytes, is_first };
        let changes = [
            change(0, 1000, true),
            change(2, 50, false),
            change(3, 70, false),
            change(3, 400, true),
            change(4, -100, false),
            change(5, 9, false),
        ];
        let now = 5 * DAY + DAY * 3 / 4;
        let told = filled(&changes, 1500, now, &TimeZone::UTC);
        let held: Vec<f64> = told.held.iter().map(|(_, bytes)| *bytes).collect();
        assert_eq!(held, [1071.0, 1071.0, 1121.0, 1591.0, 1491.0, 1500.0], "71 were there before");
        assert_eq!(told.held[1].0, 2 * DAY);
        assert_eq!(told.held[5].0, now);
        assert_eq!(told.added, [0.0, 50.0, 70.0, -100.0], "neither the first day nor today");
        assert_eq!(filled(&[], 7, now, &TimeZone::UTC).held, [(now, 7.0)]);
    }

    proptest! {
        #[test]
        fn it_ends_with_what_is_held_and_is_never_less_than_nothing(
            changes in proptest::collection::vec((-400i64..10, -1_000i64..5_000, any::<bool>()), 0..60),
            held in 0..1_000_000u64,
        ) {
            let now = 20_000 * DAY;
            let changes: Vec<FillChange> = changes.into_iter()
                .map(|(day, bytes, is_first)| FillChange { time: now + day * DAY, bytes, is_first }).collect();
            let zone = TimeZone::get("Europe/Berlin").expect("a zone");
            let told = filled(&changes, held, now, &zone);
            prop_assert_eq!(told.held.last().copied(), Some((now, held as f64)));
            prop_assert!(told.held.windows(2).all(|two| two[0].0 < two[1].0));
            prop_assert!(told.held.iter().all(|(_, bytes)| *bytes >= 0.0));
            prop_assert!(told.added.len() <= told.held.len());
        }
    }
}
