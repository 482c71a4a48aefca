//! Decisions against a naive evaluator, and what has to hold of them whatever the snapshots.

use std::collections::HashSet;

use jiff::{Timestamp, Zoned, tz::TimeZone};
use proptest::prelude::*;

use super::*;

const HOUR: i64 = 3_600_000;

fn zone() -> impl Strategy<Value = TimeZone> {
    // Clock changes of an hour and of half an hour, a date that never was, and none.
    prop::sample::select(vec!["Europe/Oslo", "Australia/Lord_Howe", "Pacific/Apia", "UTC"])
        .prop_map(|name| TimeZone::get(name).expect("a zone"))
}

/// Snapshots up to the given moment: some in the same hour, some years apart.
fn past() -> impl Strategy<Value = Vec<Past>> {
    let gap = prop_oneof![0..HOUR, HOUR..30 * HOUR, 30 * HOUR..24 * 40 * HOUR];
    let labels =
        prop::sample::subsequence(vec!["spring".to_owned(), "before-upgrade".to_owned()], 0..=2);
    let one = (gap, prop::bool::weighted(0.7), prop::bool::weighted(0.05), labels);
    // From the end of 2023, so that leap days and a week 53 are met.
    prop::collection::vec(one, 0..60).prop_map(|all| {
        let mut time = 1_700_000_000_000;
        all.into_iter()
            .map(|(gap, is_whole, is_pinned, labels)| {
                time += gap;
                Past { time, is_whole, is_pinned, labels }
            })
            .collect()
    })
}

fn time() -> impl Strategy<Value = Time> {
    let of = prop::sample::select(vec![
        Period::Hour,
        Period::Day,
        Period::Week,
        Period::Month,
        Period::Year,
    ]);
    (1i64..15, of).prop_map(|(count, of)| Time { count, of })
}

fn sentence() -> impl Strategy<Value = Sentence> {
    let period = prop::sample::select(vec![
        Period::Hour,
        Period::Day,
        Period::Week,
        Period::Month,
        Period::Year,
    ]);
    prop_oneof![
        time().prop_map(Sentence::Everything),
        (period, time()).prop_map(|(period, time)| Sentence::One(period, time)),
        (1u32..6).prop_map(Sentence::AtLeast),
        prop::option::of(time()).prop_map(|time| Sentence::Labelled("spring".to_owned(), time)),
        (1u8..100).prop_map(|percent| Sentence::Goal(Goal::Free(percent))),
        (1u64..100).prop_map(|bytes| Sentence::Goal(Goal::AtMost(bytes))),
    ]
}

fn sentences() -> impl Strategy<Value = Vec<Sentence>> {
    prop::collection::vec(sentence(), 0..5)
}

fn now(past: &[Past], later: i64, zone: &TimeZone) -> Zoned {
    let time = past.last().map_or(1_700_000_000_000, |last| last.time) + later;
    Timestamp::from_millisecond(time).expect("a moment").to_zoned(zone.clone())
}

/// Every snapshot frees one byte.
fn decide_each(past: &[Past], sentences: &[Sentence], now: &Zoned, room: Room) -> Vec<Decision> {
    decide(past, sentences, now, room, &mut |_| 1).0
}

fn stay(decisions: &[Decision]) -> Vec<bool> {
    decisions.iter().map(Decision::stays).collect()
}

/// The name a period has in a calendar.
fn name(period: Period, time: i64, zone: &TimeZone) -> String {
    let moment = Timestamp::from_millisecond(time).expect("a moment").to_zoned(zone.clone());
    let form = match period {
        // Hours of the clock, told apart by the offset when the clock is set back.
        Period::Hour => "%Y-%m-%d %H %z",
        Period::Day => "%Y-%m-%d",
        Period::Week => "%G-%V",
        Period::Month => "%Y-%m",
        Period::Year => "%Y",
    };
    moment.strftime(form).to_string()
}

/// Whether a sentence other than a goal retains a snapshot, straight from its words.
fn naive(past: &[Past], at: usize, sentence: &Sentence, now: &Zoned) -> bool {
    let this = &past[at];
    let reached = |time: &Time| this.time >= time.before(now).timestamp().as_millisecond();
    match sentence {
        Sentence::Everything(time) => reached(time),
        Sentence::One(period, time) => {
            let zone = now.time_zone();
            let named = name(*period, this.time, zone);
            let beats = |(other, one): (usize, &Past)| {
                name(*period, one.time, zone) == named
                    && ((one.is_whole && !this.is_whole)
                        || (one.is_whole == this.is_whole && other > at))
            };
            reached(time) && !past.iter().enumerate().any(beats)
        }
        Sentence::AtLeast(count) => {
            let newer = past.len() - at - 1;
            let newer_whole = past[at + 1..].iter().filter(|one| one.is_whole).count();
            newer < *count as usize || (this.is_whole && newer_whole < *count as usize)
        }
        Sentence::Labelled(label, time) => {
            this.labels.contains(label) && time.as_ref().is_none_or(reached)
        }
        Sentence::Goal(_) => false,
    }
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 400, ..ProptestConfig::default() })]

    #[test]
    fn decisions_are_those_of_a_naive_evaluator(
        past in past(),
        sentences in sentences(),
        later in 0..24 * 60 * HOUR,
        zone in zone(),
        free in prop::option::of(0u64..100),
        used in 0u64..100,
    ) {
        let now = now(&past, later, &zone);
        let room = Room { used, free: free.map(|free| (free, 100)) };
        let decisions = decide_each(&past, &sentences, &now, room);
        let mut gone = 0;
        for (at, (snapshot, decision)) in past.iter().zip(&decisions).enumerate() {
            let retains = |sentence: &Sentence| naive(&past, at, sentence, &now);
            let mut wanted = snapshot.is_pinned
                || at + 1 == past.len()
                || sentences.is_empty()
                || sentences.iter().any(retains);
            let goals: Vec<_> = sentences.iter().filter_map(|sentence| match sentence {
                Sentence::Goal(goal) => Some(*goal),
                _ => None,
            }).collect();
            if !wanted && !goals.is_empty() {
                wanted = goals.iter().all(|goal| match goal {
                    Goal::AtMost(most) => used.saturating_sub(gone) <= *most,
                    Goal::Free(percent) => free.is_none_or(|free| free + gone >= u64::from(*percent)),
                });
            }
            prop_assert_eq!(decision.stays(), wanted, "{} of {:?}", at, decisions);
            gone += u64::from(!wanted);

            // Every sentence has its say, and no reason is made up.
            let said: HashSet<usize> = match decision {
                Decision::Stays(reasons) => {
                    prop_assert!(!reasons.is_empty());
                    prop_assert_eq!(reasons.contains(&Reason::Pinned), snapshot.is_pinned);
                    prop_assert_eq!(reasons.contains(&Reason::Newest), at + 1 == past.len());
                    prop_assert_eq!(reasons.contains(&Reason::NoSentence), sentences.is_empty());
                    let said: HashSet<usize> = reasons.iter().filter_map(|reason| match reason {
                        Reason::Sentence(number) => Some(*number),
                        _ => None,
                    }).collect();
                    let retaining = (0..sentences.len()).filter(|number| retains(&sentences[*number]));
                    prop_assert_eq!(&said, &retaining.collect());
                    said
                }
                Decision::Goes(unmet) => unmet.iter().map(|why| match why {
                    Unmet::TooOld { sentence }
                    | Unmet::Displaced { sentence, .. }
                    | Unmet::NotAmongNewest { sentence }
                    | Unmet::NotLabelled { sentence }
                    | Unmet::Room { sentence } => *sentence,
                }).collect(),
            };
            if !decision.stays() {
                let of_goals = said.iter().filter(|number| matches!(sentences[**number], Sentence::Goal(_)));
                prop_assert_eq!(of_goals.count(), usize::from(!goals.is_empty()));
                let others = |number: &usize| !matches!(sentences[*number], Sentence::Goal(_));
                prop_assert!((0..sentences.len()).filter(others).all(|number| said.contains(&number)));
            }
        }
    }

    #[test]
    fn what_has_gone_is_never_missed(
        past in past(),
        sentences in sentences(),
        zone in zone(),
        cut in 0usize..60,
        wait in 0..24 * 60 * HOUR,
    ) {
        // Without goals: what they let stay depends on the room, which anything may change.
        let sentences: Vec<Sentence> =
            sentences.into_iter().filter(|one| !matches!(one, Sentence::Goal(_))).collect();
        let cut = cut.min(past.len());
        let first = stay(&decide_each(&past[..cut], &sentences, &now(&past[..cut], 0, &zone), Room::default()));
        // Deciding again about what stayed changes nothing.
        let kept: Vec<Past> =
            past[..cut].iter().zip(&first).filter(|(_, stays)| **stays).map(|(one, _)| one.clone()).collect();
        let again = stay(&decide_each(&kept, &sentences, &now(&past[..cut], 0, &zone), Room::default()));
        prop_assert!(again.iter().all(|stays| *stays), "{first:?} then {again:?}");
        // With time and later runs none that has gone would have been wanted.
        let all = stay(&decide_each(&past, &sentences, &now(&past, wait, &zone), Room::default()));
        for (at, stays) in first.iter().enumerate() {
            prop_assert!(*stays || !all[at], "{at} was wanted again: {first:?}, then {all:?}");
        }
        // And it is the same whether one expired in between or never.
        let with_rest: Vec<Past> = kept.iter().chain(&past[cut..]).cloned().collect();
        let rest = stay(&decide_each(&with_rest, &sentences, &now(&past, wait, &zone), Room::default()));
        let never: Vec<bool> = first.iter().chain(std::iter::repeat_n(&true, past.len() - cut))
            .zip(&all).filter(|(stayed, _)| **stayed).map(|(_, stays)| *stays).collect();
        prop_assert_eq!(rest, never);
    }
}

proptest! {
    #[test]
    fn a_time_never_reaches_further_back_as_time_goes_on(
        time in time(),
        zone in zone(),
        // From the end of 2023 over a leap day, by the minute.
        minute in 0i64..4 * 366 * 24 * 60,
        later in 0i64..3 * 24 * 60,
    ) {
        let at = |minute: i64| {
            let moment = Timestamp::from_second(1_700_000_000 + minute * 60).expect("a moment");
            moment.to_zoned(zone.clone())
        };
        prop_assert!(time.before(&at(minute)) <= time.before(&at(minute + later)));
    }
}

/// Midnights and noons of a clock that is set, leap days and week 53: one a day for every day.
#[test]
fn one_a_day_is_one_for_each_date_of_the_calendar() {
    let zone = TimeZone::get("Europe/Oslo").expect("a zone");
    let start: Zoned = "2026-10-01T00:10:00[Europe/Oslo]".parse().expect("a moment");
    let past: Vec<Past> = (0..24 * 100)
        .map(|hour| Past {
            time: start.timestamp().as_millisecond() + hour * HOUR,
            is_whole: true,
            is_pinned: false,
            labels: Vec::new(),
        })
        .collect();
    let sentences = [Sentence::parse("one a day for 14 days").expect("a sentence")];
    let now = now(&past, 0, &zone);
    let decisions = decide_each(&past, &sentences, &now, Room::default());
    let dates: Vec<String> = past
        .iter()
        .zip(&decisions)
        .filter(|(_, decision)| decision.stays())
        .map(|(one, _)| name(Period::Day, one.time, &zone))
        .collect();
    // Today and the fourteen days before.
    let mut wanted: Vec<String> = Vec::new();
    for back in (0..=14).rev() {
        let day = now.date().checked_sub(jiff::Span::new().days(back)).expect("a date");
        wanted.push(day.to_string());
    }
    assert_eq!(dates, wanted);
}

/// When every run for weeks has exceptions, the last whole snapshots outlive them.
#[test]
fn snapshots_with_exceptions_do_not_displace_whole_ones() {
    let day = |day: i64, is_whole: bool| Past {
        time: 1_700_000_000_000 + day * 24 * HOUR,
        is_whole,
        is_pinned: false,
        labels: Vec::new(),
    };
    let past: Vec<Past> = (0..30).map(|at| day(at, at < 5)).collect();
    let sentences = [Sentence::AtLeast(2)];
    let now = now(&past, HOUR, &TimeZone::UTC);
    let stays = stay(&decide_each(&past, &sentences, &now, Room::default()));
    let kept: Vec<usize> = (0..30).filter(|at| stays[*at]).collect();
    assert_eq!(kept, [3, 4, 28, 29]);
    let (_, not_met) = decide(
        &past,
        &[Sentence::Goal(Goal::AtMost(1))],
        &now,
        Room { used: 50, free: None },
        &mut |_| 1,
    );
    assert_eq!(not_met, [0], "a goal that nothing can meet is said");
}
