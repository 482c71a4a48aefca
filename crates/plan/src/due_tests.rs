//! A steward that looks every minute, beside what it ought to do.

use std::collections::BTreeSet;

use jiff::{SignedDuration, Timestamp, civil, tz::TimeZone};
use proptest::prelude::*;

use super::*;

const MINUTE: SignedDuration = SignedDuration::from_mins(1);

fn at(text: &str) -> Timestamp {
    text.parse().expect("a moment")
}

struct Simulation {
    schedule: Schedule,
    starting: Starting,
    from: Timestamp,
    to: Timestamp,
    /// When the machine is off.
    off: Vec<(Timestamp, Timestamp)>,
    /// Whether a run is good, by its number.
    good: fn(usize) -> bool,
}

impl Simulation {
    fn new(schedule: &str) -> Self {
        Self {
            schedule: Schedule::parse(schedule).expect("a schedule"),
            starting: Starting::default(),
            from: at("2026-03-01T00:00:00Z"),
            to: at("2026-04-20T00:00:00Z"),
            off: Vec::new(),
            good: |_| true,
        }
    }

    fn is_on(&self, moment: Timestamp) -> bool {
        !self.off.iter().any(|(from, to)| *from <= moment && moment < *to)
    }

    /// What is started, and why.
    fn play(&self, zone: &TimeZone) -> Vec<(Timestamp, Why)> {
        let offset = self.starting.offset("readings", "hut");
        let mut past = Past { attempts: Vec::new(), since: self.from, booted: None, drive: None };
        let (mut started, mut now, mut was_on) = (Vec::new(), self.from, false);
        while now < self.to {
            let is_on = self.is_on(now);
            if is_on && !was_on {
                past.booted = Some(now);
            }
            was_on = is_on;
            let due = self.starting.next(Some(&self.schedule), &past, offset, now, zone);
            if let Some(due) = due.filter(|due| is_on && due.at <= now) {
                let good = (self.good)(started.len());
                started.push((now, due.why));
                let ended = now + MINUTE;
                past.attempts.insert(0, Attempt { started: now, ended, good, cut: false });
            }
            now += MINUTE;
        }
        started
    }
}

#[test]
fn what_is_missed_is_made_up_once_and_within_the_window() {
    let zone = TimeZone::get("Europe/Oslo").expect("a zone");
    let mut simulation = Simulation::new("daily at 21:40");
    simulation.to = at("2026-03-08T00:00:00Z");
    // Off for two evenings and a half.
    simulation.off = vec![(at("2026-03-02T12:00:00Z"), at("2026-03-05T06:00:00Z"))];
    let shown = |simulation: &Simulation| {
        let started = simulation.play(&zone).into_iter();
        started.map(|(moment, why)| (moment.to_string(), why)).collect::<Vec<_>>()
    };
    let evening = |day: u8| (format!("2026-03-0{day}T20:40:00Z"), Why::Moment);
    let morning = ("2026-03-05T06:00:00Z".to_owned(), Why::Missed);
    let all = [evening(1), morning, evening(5), evening(6), evening(7)];
    assert_eq!(shown(&simulation), all);
    simulation.starting.window =
        Some(Window { from: civil::time(21, 0, 0, 0), to: civil::time(6, 0, 0, 0) });
    // What was missed waits for the window, and there is one with what comes then.
    let missed = ("2026-03-05T20:00:00Z".to_owned(), Why::Missed);
    assert_eq!(shown(&simulation), [evening(1), missed, evening(5), evening(6), evening(7)]);
    (simulation.starting.window, simulation.starting.catch_up) = (None, false);
    assert_eq!(shown(&simulation), [evening(1), evening(5), evening(6), evening(7)]);
}

#[test]
fn what_fails_is_tried_again_as_often_as_it_says() {
    let zone = TimeZone::UTC;
    let mut simulation = Simulation::new("daily at 21:40");
    simulation.to = at("2026-03-03T00:00:00Z");
    simulation.good = |_| false;
    simulation.starting.retry = Some(Retry { times: 2, pause: SignedDuration::from_mins(15) });
    let started: Vec<_> = simulation.play(&zone);
    let whys: Vec<Why> = started.iter().map(|(_, why)| *why).collect();
    let evening = [Why::Moment, Why::Again(1), Why::Again(2)];
    assert_eq!(whys, [evening, evening].concat());
    assert_eq!(started[1].0.duration_since(started[0].0), SignedDuration::from_mins(16));
    // Once it is good, that is that.
    simulation.good = |number| number != 0;
    assert_eq!(simulation.play(&zone).len(), 3);
    // Without a retry there is one try each evening.
    (simulation.good, simulation.starting.retry) = (|_| false, None);
    assert_eq!(simulation.play(&zone).len(), 2);
}

#[test]
fn intervals_count_from_the_last_success() {
    let now = at("2026-03-09T12:00:00Z");
    let attempt = |started: &str, good| {
        let started = at(started);
        Attempt { started, ended: started + MINUTE, good, cut: false }
    };
    let schedule = Schedule::parse("every 4 days").expect("a schedule");
    let next = |attempts: Vec<Attempt>| {
        let past = Past { attempts, since: at("2026-01-01T00:00:00Z"), booted: None, drive: None };
        let starting = Starting::default();
        let due = starting.next(Some(&schedule), &past, SignedDuration::ZERO, now, &TimeZone::UTC);
        due.expect("it has a schedule").at.to_string()
    };
    assert_eq!(next(vec![]), "2026-01-01T00:00:00Z");
    let good = attempt("2026-03-06T08:00:00Z", true);
    assert_eq!(next(vec![good]), "2026-03-10T08:00:00Z");
    // One that failed before its time was due moves nothing; one that failed then is tried after
    // another interval.
    assert_eq!(next(vec![attempt("2026-03-08T08:00:00Z", false), good]), "2026-03-10T08:00:00Z");
    let good = attempt("2026-03-01T08:00:00Z", true);
    assert_eq!(next(vec![attempt("2026-03-05T08:00:00Z", false), good]), "2026-03-09T08:00:00Z");
}

#[test]
fn what_was_cut_off_is_made_up_for_but_not_without_end() {
    let zone = TimeZone::UTC;
    let starting = Starting::default();
    let attempt = |started: &str, good, cut| {
        let started = at(started);
        Attempt { started, ended: started + MINUTE, good, cut }
    };
    let now = at("2026-11-12T09:00:00Z");
    let due = |schedule: &str, cuts: usize| {
        let mut attempts = vec![attempt("2026-11-11T21:40:00Z", false, true); cuts];
        attempts.push(attempt("2026-11-10T21:40:00Z", true, false));
        let since = at("2026-11-01T00:00:00Z");
        let past = Past { attempts, since, booted: None, drive: None };
        let schedule = Schedule::parse(schedule).expect("a schedule");
        let next = starting.next(Some(&schedule), &past, SignedDuration::ZERO, now, &zone);
        next.is_some_and(|next| next.at <= now)
    };
    for schedule in ["daily at 21:40", "every 1 day"] {
        assert!(due(schedule, 0), "{schedule}: nothing has come of the evening before");
        assert!(due(schedule, 1) && due(schedule, 3), "{schedule}");
        assert!(!due(schedule, 4), "{schedule}: it may be the run that does it");
    }
}

#[test]
fn machines_that_start_and_drives_that_appear_start_plans() {
    let starting = Starting { on_boot: true, on_drive: true, ..Starting::default() };
    let now = at("2026-03-01T12:00:00Z");
    let ended = now - MINUTE;
    let attempt = Attempt { started: ended - MINUTE, ended, good: true, cut: false };
    let mut past = Past {
        attempts: vec![attempt],
        since: at("2026-01-01T00:00:00Z"),
        booted: Some(attempt.started - MINUTE),
        drive: None,
    };
    let next = |past: &Past| starting.next(None, past, SignedDuration::ZERO, now, &TimeZone::UTC);
    assert_eq!(next(&past), None, "it has run since");
    past.drive = Some(now - MINUTE);
    assert_eq!(next(&past), Some(Due { at: now - MINUTE, why: Why::Drive }));
    past.booted = Some(ended);
    assert_eq!(next(&past).map(|due| due.why), Some(Why::Boot));
}

#[test]
fn a_spread_is_the_same_each_time_and_not_for_all() {
    let starting = Starting { spread: SignedDuration::from_mins(10), ..Starting::default() };
    let offsets: BTreeSet<_> =
        (0..100).map(|number| starting.offset(&format!("plan-{number}"), "hut")).collect();
    assert!(offsets.len() > 50, "{offsets:?}");
    assert!(offsets.iter().all(|offset| *offset <= starting.spread && !offset.is_negative()));
    assert_eq!(starting.offset("readings", "hut"), starting.offset("readings", "hut"));
    assert_ne!(starting.offset("readings", "hut"), starting.offset("readings", "mast"));
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(12))]
    #[test]
    fn no_moment_is_lost_and_none_run_twice(
        schedule in prop_oneof![
            Just("daily at 02:30"), Just("weekdays at 12:00"), Just("every 90 minutes"), Just("30 1,4 * * *"),
        ],
        off in proptest::collection::vec((0i64..60_000, 1i64..6000), 0..6),
        spread in prop_oneof![Just(0i64), Just(25)],
        zone in prop_oneof![Just("Europe/Oslo"), Just("UTC")],
    ) {
        let zone = TimeZone::get(zone).expect("a zone");
        let mut simulation = Simulation::new(schedule);
        simulation.starting.spread = SignedDuration::from_mins(spread);
        let after = |minutes| simulation.from + SignedDuration::from_mins(minutes);
        simulation.off = off.iter().map(|(from, length)| (after(*from), after(from + length))).collect();
        let started: Vec<Timestamp> = simulation.play(&zone).into_iter().map(|(moment, _)| moment).collect();
        let first_on = |mut moment: Timestamp| {
            while !simulation.is_on(moment) {
                moment += MINUTE;
            }
            moment
        };
        let offset = simulation.starting.offset("readings", "hut");
        // Seconds of the spread are rounded up to the minute at which the steward looks.
        let rounded = |moment: Timestamp| {
            let over = moment.as_second().rem_euclid(60);
            if over == 0 { moment } else { moment + SignedDuration::from_secs(60 - over) }
        };
        let mut expected = BTreeSet::new();
        if schedule.starts_with("every") {
            let mut moment = first_on(simulation.from);
            while moment < simulation.to {
                expected.insert(moment);
                moment = first_on(moment + SignedDuration::from_mins(90));
            }
        } else {
            let all = simulation.schedule.moments(simulation.from, simulation.to, None, &zone, 10_000);
            let served = |moment: Timestamp| first_on(rounded(moment + offset));
            for (number, moment) in all.iter().enumerate() {
                // What was missed goes with a later moment that has come meanwhile.
                let mut at = served(*moment);
                for later in &all[number + 1..] {
                    if *later > at {
                        break;
                    }
                    at = served(*later);
                }
                expected.insert(at);
            }
            expected.retain(|moment| *moment < simulation.to);
        }
        prop_assert_eq!(started.into_iter().collect::<BTreeSet<_>>(), expected);
    }
}
