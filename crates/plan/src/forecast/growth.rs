//! How a store fills.
//!
//! Each week to come is taken to be like one of those that have been: weeks are drawn from the past at
//! random and put one behind the other, many times over (block bootstrap: Künsch, "The Jackknife and
//! the Bootstrap for General Stationary Observations", 1989). They begin on the weekday on which the
//! future does. How little a short past tells is part of the result: each time the past itself is drawn
//! anew first. The draws are the same each time, so that nothing moves on the screen by itself.

use fastrand::Rng;

/// Days that are drawn together.
const BLOCK: usize = 7;
/// With fewer days than these nothing is foretold.
const LEAST: usize = 5;
/// So many courses are drawn.
const COURSES: usize = 300;
/// Older days tell little of those to come.
const REMEMBERED: usize = 180;

/// Of the courses so many lie below what is called low: fewer than one of ten, since a short past has not
/// seen all that can come. Measured by the tests, about eight of ten futures lie within then.
const LOW: f64 = 0.07;

/// A number to come: in eight of ten cases between two others.
#[derive(Clone, Copy, Debug, Default, PartialEq)]
pub struct Spread {
    /// Less in one of ten cases.
    pub low: f64,
    /// More in half of all cases.
    pub likely: f64,
    /// More in one of ten cases.
    pub high: f64,
}

/// In how many days room is used up; `None`: not within the days that were looked at.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct FullIn {
    /// Sooner in one of ten cases.
    pub soonest: Option<usize>,
    /// Sooner in half of all cases.
    pub likely: Option<usize>,
    /// Later in one of ten cases.
    pub latest: Option<usize>,
}

/// Courses that the use of a store may take.
#[derive(Clone, Debug, PartialEq)]
pub struct Growth {
    /// Bytes added by the end of each day to come.
    courses: Vec<Vec<f64>>,
}

impl Growth {
    /// Courses for so many days, from what each past day has added, in bytes, oldest first; less than
    /// nothing where room was freed. `None` if the past is too short to tell anything.
    #[must_use]
    pub fn expect(past: &[f64], days: usize) -> Option<Self> {
        let past = &past[past.len().saturating_sub(REMEMBERED)..];
        if past.len() < LEAST || days == 0 {
            return None;
        }
        // Where there are not three weeks yet, days are drawn one by one.
        let block = if past.len() < 3 * BLOCK { 1 } else { BLOCK };
        let past = &past[past.len() % block..];
        let mut random = Rng::with_seed(0x5ee1_1117);
        let mut drawn = Vec::new();
        let courses = (0..COURSES).map(|_| {
            draw(past, past.len(), block, &mut random, &mut drawn);
            let mut course = Vec::new();
            draw(&drawn, days, block, &mut random, &mut course);
            let mut sum = 0.0;
            course.iter_mut().for_each(|day| {
                sum += *day;
                *day = sum;
            });
            course
        });
        Some(Self { courses: courses.collect() })
    }

    /// How many days were looked at.
    #[must_use]
    pub fn days(&self) -> usize {
        self.courses.first().map_or(0, Vec::len)
    }

    /// Bytes added after so many days; the last day's beyond what was looked at.
    #[must_use]
    pub fn after(&self, days: usize) -> Spread {
        let Some(at) = days.min(self.days()).checked_sub(1) else { return Spread::default() };
        let mut sums: Vec<f64> = self.courses.iter().map(|course| course[at]).collect();
        sums.sort_by(f64::total_cmp);
        Spread {
            low: quantile(&sums, LOW),
            likely: quantile(&sums, 0.5),
            high: quantile(&sums, 1.0 - LOW),
        }
    }

    /// When so many bytes more will have been added.
    #[must_use]
    pub fn full_in(&self, room: u64) -> FullIn {
        let room = room as f64;
        let full = |course: &Vec<f64>| course.iter().position(|sum| *sum >= room);
        let never = usize::MAX;
        let mut days: Vec<usize> =
            self.courses.iter().map(|course| full(course).map_or(never, |day| day + 1)).collect();
        days.sort_unstable();
        let known = |day: usize| (day != never).then_some(day);
        let day = |share| known(quantile(&days, share));
        FullIn { soonest: day(LOW), likely: day(0.5), latest: day(1.0 - LOW) }
    }
}

fn quantile<T: Copy>(sorted: &[T], share: f64) -> T {
    sorted[((sorted.len() - 1) as f64 * share).round() as usize]
}

/// So many days, in blocks from a past of whole blocks.
fn draw(past: &[f64], days: usize, block: usize, random: &mut Rng, into: &mut Vec<f64>) {
    into.clear();
    while into.len() < days {
        let from = random.usize(..past.len() / block) * block;
        into.extend(&past[from..from + block.min(days - into.len())]);
    }
}

#[cfg(test)]
mod tests {
    use fastrand::Rng;
    use proptest::prelude::*;

    use super::{FullIn, Growth, Spread};

    /// Days as stores have them: work on weekdays, little else, now and then a heap of pictures.
    fn days(random: &mut Rng, count: usize) -> Vec<f64> {
        let day = |at: usize| {
            let heap = if random.u8(..20) == 0 { 30.0 } else { 1.0 };
            let share = if at % 7 < 5 { 1.0 } else { 0.1 };
            1e6 * share * heap * (0.2 + random.f64() + random.f64())
        };
        (0..count).map(day).collect()
    }

    #[test]
    fn eight_of_ten_futures_lie_within() {
        for ahead in [7, 30] {
            let (mut within, mut all) = (0, 0);
            for seed in 0..200 {
                let mut random = Rng::with_seed(seed);
                let past = days(&mut random, 91);
                let sum: f64 = days(&mut random, ahead).iter().sum();
                let spread = Growth::expect(&past, ahead).expect("enough is known").after(ahead);
                all += 1;
                within += u32::from(spread.low <= sum && sum <= spread.high);
            }
            let share = f64::from(within) / f64::from(all);
            assert!((0.7..0.92).contains(&share), "{share} of {all}, {ahead} days ahead");
        }
    }

    #[test]
    fn room_is_full_when_the_courses_say_so() {
        let growth = Growth::expect(&[100.0; 30], 60).expect("enough is known");
        let same = Spread { low: 1000.0, likely: 1000.0, high: 1000.0 };
        assert_eq!((growth.after(0), growth.after(10)), (Spread::default(), same));
        let full = growth.full_in(1001);
        assert_eq!((full.soonest, full.likely, full.latest), (Some(11), Some(11), Some(11)));
        assert_eq!(growth.full_in(1_000_000), FullIn::default(), "not so soon");
        assert_eq!(Growth::expect(&[1.0; 4], 10), None, "too little is known");
        // What a reclaim frees each week counts as well.
        let weekly: Vec<f64> =
            (0..70).map(|day| if day % 7 == 6 { -600.0 } else { 100.0 }).collect();
        assert_eq!(Growth::expect(&weekly, 70).expect("known").after(70).likely.abs(), 0.0);
    }

    proptest! {
        #[test]
        fn what_is_told_is_in_order_and_the_same_each_time(
            past in proptest::collection::vec(-1e9..1e9f64, 5..200), days in 1..100usize, room in 0..u64::MAX,
        ) {
            let growth = Growth::expect(&past, days).expect("enough is known");
            prop_assert_eq!(growth.days(), days);
            for day in 0..=days + 1 {
                let Spread { low, likely, high } = growth.after(day);
                prop_assert!(low <= likely && likely <= high);
            }
            let number = |day: Option<usize>| day.unwrap_or(usize::MAX);
            let full = growth.full_in(room);
            prop_assert!(number(full.soonest) <= number(full.likely));
            prop_assert!(number(full.likely) <= number(full.latest));
            prop_assert_eq!(Growth::expect(&past, days), Some(growth));
        }
    }
}
