//! When a plan runs: the phrases people write, the moments they mean, and the words to say so.

use jiff::{Span, Timestamp, civil, tz::TimeZone};

use crate::{cron::Cron, local::moment, problem::nearest};

/// When a plan runs.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Schedule {
    /// On some days, at a time of day.
    Days {
        /// Which days.
        days: Days,
        /// When on those.
        at: civil::Time,
    },
    /// By a cron line.
    Cron(Cron),
    /// So long after the last good run.
    Every {
        /// How many.
        count: i64,
        /// Of what.
        unit: Unit,
    },
}

/// On which days.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Days {
    /// On all.
    Daily,
    /// On these days of the week, Monday first.
    Week([bool; 7]),
    /// On this day of the month; in a shorter month on its last.
    Month(i8),
}

/// What intervals are counted in.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Unit {
    /// Minutes.
    Minutes,
    /// Hours.
    Hours,
    /// Days.
    Days,
    /// Weeks.
    Weeks,
}

const WEEK: [&str; 7] =
    ["mondays", "tuesdays", "wednesdays", "thursdays", "fridays", "saturdays", "sundays"];
/// Moments are looked for so many days ahead; a day of a month comes at least that often.
const HORIZON: i32 = 62;
/// A schedule that comes more often than this on a day is hardly meant.
const OFTEN: u32 = 288;
/// The most an interval counts.
const MOST: i64 = 10_000;

impl Schedule {
    /// A word about one that comes so often that it is hardly meant.
    #[must_use]
    pub fn warning(&self) -> Option<String> {
        match self {
            Self::Cron(cron) if cron.times_a_day() > OFTEN => Some(format!(
                "it runs {} times a day; check the first field of the cron line",
                cron.times_a_day()
            )),
            _ => None,
        }
    }

    /// Reads a phrase.
    ///
    /// # Errors
    /// What is not understood, and the nearest right phrase.
    pub fn parse(text: &str) -> Result<Self, (String, String)> {
        let lower = text.trim().to_ascii_lowercase();
        // What is read back in words can be written so.
        let said = lower.split_once(';').map_or(lower.as_str(), |(said, _)| said);
        let words: Vec<&str> = said.split_whitespace().collect();
        let refuse = |what: String, hint: &str| Err((what, hint.to_owned()));
        match words.as_slice() {
            [] => refuse("the schedule is empty".to_owned(), "write \"daily at 21:40\""),
            ["every", "day", "at", time] => {
                Ok(Self::Days { days: Days::Daily, at: parse_time(time)? })
            }
            ["monday", "to", "friday", "at", time] => {
                Ok(Self::Days { days: parse_days(&["weekdays"])?, at: parse_time(time)? })
            }
            ["every", days @ .., "at", time] if !days.is_empty() => {
                Ok(Self::Days { days: parse_days(days)?, at: parse_time(time)? })
            }
            [interval @ .., "after", "the", "last", "good", "run"] => {
                Self::parse_every(text, interval)
            }
            ["every", rest @ ..] => Self::parse_every(text, rest),
            ["monthly", "on", day, "at", time]
            | ["on", "day", day, "of", "every", "month", "at", time] => {
                let Some(day) = day.parse().ok().filter(|day| (1..=31).contains(day)) else {
                    return refuse(format!("`{day}` is not a day of the month"), "write 1 to 31");
                };
                Ok(Self::Days { days: Days::Month(day), at: parse_time(time)? })
            }
            [days @ .., "at", time] if !days.is_empty() => {
                Ok(Self::Days { days: parse_days(days)?, at: parse_time(time)? })
            }
            [first, ..]
                if words.len() == 5
                    && first.starts_with(|c: char| c.is_ascii_digit() || c == '*') =>
            {
                Cron::parse(&words).map(Self::Cron)
            }
            [first] | [first, ..] => {
                let known = WEEK
                    .iter()
                    .copied()
                    .chain(["daily", "weekdays", "weekends", "monthly", "every"]);
                match nearest(first, known) {
                    Some(near) if near == *first => {
                        refuse(format!("`{text}` has no time of day"), "write \"daily at 21:40\"")
                    }
                    Some(near) => refuse(
                        format!("`{first}` is not a schedule"),
                        &format!("did you mean `{near}`?"),
                    ),
                    None => refuse(
                        format!("`{text}` is not a schedule"),
                        "write \"daily at 21:40\", \"weekdays at 12:00\", \"monthly on 2 at 05:00\" or \"every 4 days\"",
                    ),
                }
            }
        }
    }

    fn parse_every(text: &str, words: &[&str]) -> Result<Self, (String, String)> {
        let (count, unit) = match words {
            [unit] => (Ok(1), *unit),
            [count, unit] => (count.parse::<i64>(), *unit),
            _ => {
                let hint = "write \"every 4 days\" or \"every 90 minutes\"".to_owned();
                return Err((format!("`{text}` is not an interval"), hint));
            }
        };
        let unit = match unit.strip_suffix('s').unwrap_or(unit) {
            "minute" | "min" => Unit::Minutes,
            "hour" => Unit::Hours,
            "day" => Unit::Days,
            "week" => Unit::Weeks,
            _ => {
                let hint = "use minutes, hours, days or weeks".to_owned();
                return Err((format!("`{unit}` is not a unit of time"), hint));
            }
        };
        match count {
            Ok(count @ 1..=MOST) => Ok(Self::Every { count, unit }),
            _ => Err((
                format!("`{}` is not a valid number of {}", words[0], unit.name()),
                format!("use 1 to {MOST}"),
            )),
        }
    }

    /// In words, as it is read back.
    #[must_use]
    pub fn words(&self) -> String {
        match self {
            Self::Days { days, at } => {
                let at = at.strftime("%H:%M");
                match days {
                    Days::Daily => format!("every day at {at}"),
                    Days::Week([true, true, true, true, true, false, false]) => {
                        format!("Monday to Friday at {at}")
                    }
                    Days::Week(days) => {
                        let named = WEEK.iter().zip(days).filter(|(_, on)| **on);
                        let names: Vec<String> = named
                            .map(|(name, _)| {
                                let one = name.trim_end_matches('s');
                                format!("{}{}", one[..1].to_ascii_uppercase(), &one[1..])
                            })
                            .collect();
                        let named = match names.split_last() {
                            Some((last, first)) if !first.is_empty() => {
                                format!("{} and {last}", first.join(", "))
                            }
                            _ => names.concat(),
                        };
                        format!("every {named} at {at}")
                    }
                    Days::Month(day) if *day > 28 => format!(
                        "on day {day} of every month at {at}; in shorter months on the last day"
                    ),
                    Days::Month(day) => format!("on day {day} of every month at {at}"),
                }
            }
            Self::Cron(cron) => cron.words(),
            Self::Every { count: 1, unit } => {
                format!("1 {} after the last good run", unit.name().trim_end_matches('s'))
            }
            Self::Every { count, unit } => {
                format!("{count} {} after the last good run", unit.name())
            }
        }
    }

    /// The first moment after another. `last` is the start of the last good run, by which
    /// intervals are counted; without one an interval is over at once.
    ///
    /// A moment that the change to summer time leaves out comes right after it; one that comes
    /// twice counts the first time.
    #[must_use]
    pub fn next(&self, after: Timestamp, last: Option<Timestamp>, zone: &TimeZone) -> Timestamp {
        match self {
            Self::Every { count, unit } => {
                let Some(last) = last else { return after };
                let count = *count;
                let span = match unit {
                    Unit::Minutes => Span::new().minutes(count),
                    Unit::Hours => Span::new().hours(count),
                    Unit::Days => Span::new().days(count),
                    Unit::Weeks => Span::new().weeks(count),
                };
                let due = last.to_zoned(zone.clone()).checked_add(span);
                due.map_or(after, |due| due.timestamp()).max(after)
            }
            Self::Cron(cron) => cron.next(after, zone).unwrap_or(after),
            Self::Days { days, at } => {
                let mut day = after.to_zoned(zone.clone()).date();
                for _ in 0..HORIZON {
                    let moment =
                        days.holds(day).then(|| moment(day.to_datetime(*at), zone)).flatten();
                    if let Some(moment) = moment.filter(|moment| *moment > after) {
                        return moment;
                    }
                    let Ok(tomorrow) = day.tomorrow() else { break };
                    day = tomorrow;
                }
                after
            }
        }
    }

    /// The moments in a span of time, oldest first, at most `most`. Intervals go on from `last`.
    #[must_use]
    pub fn moments(
        &self,
        from: Timestamp,
        to: Timestamp,
        last: Option<Timestamp>,
        zone: &TimeZone,
        most: usize,
    ) -> Vec<Timestamp> {
        let mut found = Vec::new();
        let (mut at, mut last) = (from, last);
        while found.len() < most {
            let next = self.next(at, last, zone);
            if next > to || found.last().is_some_and(|before| *before >= next) {
                break;
            }
            found.push(next);
            (at, last) = (next, Some(next));
        }
        found
    }
}

impl Days {
    fn holds(&self, day: civil::Date) -> bool {
        match self {
            Self::Daily => true,
            Self::Week(days) => {
                days[usize::try_from(day.weekday().to_monday_zero_offset()).unwrap_or(0)]
            }
            Self::Month(wanted) => day.day() == (*wanted).min(day.days_in_month()),
        }
    }
}

impl Unit {
    fn name(self) -> &'static str {
        match self {
            Self::Minutes => "minutes",
            Self::Hours => "hours",
            Self::Days => "days",
            Self::Weeks => "weeks",
        }
    }
}

pub(crate) fn parse_time(text: &str) -> Result<civil::Time, (String, String)> {
    let parts = text.split_once(':').and_then(|(hour, minute)| {
        let two = |part: &str| {
            let fine = (1..=2).contains(&part.len()) && part.bytes().all(|b| b.is_ascii_digit());
            fine.then(|| part.parse::<i8>().ok()).flatten()
        };
        civil::Time::new(two(hour)?, two(minute)?, 0, 0).ok()
    });
    parts.ok_or_else(|| (format!("`{text}` is not a time of day"), "write it as 21:40".to_owned()))
}

fn parse_days(words: &[&str]) -> Result<Days, (String, String)> {
    match words {
        ["daily"] => return Ok(Days::Daily),
        ["weekdays"] => return Ok(Days::Week([true, true, true, true, true, false, false])),
        ["weekends"] => return Ok(Days::Week([false, false, false, false, false, true, true])),
        _ => {}
    }
    let mut days = [false; 7];
    for word in words.iter().map(|word| word.trim_matches(',')).filter(|word| *word != "and") {
        let is_it = |name: &str| name == word || name.strip_suffix('s') == Some(word);
        let Some(day) = WEEK.iter().position(|name| is_it(name)) else {
            let known = WEEK.iter().copied().chain(["daily", "weekdays", "weekends"]);
            let hint = match nearest(word, known) {
                Some(near) => format!("did you mean `{near}`?"),
                None => "write daily, weekdays, weekends, or days as in \"mondays\"".to_owned(),
            };
            return Err((format!("`{word}` is not a day"), hint));
        };
        days[day] = true;
    }
    if days == [false; 7] {
        return Err(("the day is missing".to_owned(), "write \"daily at 21:40\"".to_owned()));
    }
    Ok(Days::Week(days))
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn read(text: &str) -> String {
        match Schedule::parse(text) {
            Ok(schedule) => schedule.words(),
            Err((what, hint)) => format!("✗ {what} → {hint}"),
        }
    }

    proptest! {
        /// What is said can be written: it means the same.
        #[test]
        fn what_is_read_back_can_be_written_so(
            kind in 0..4, week in any::<[bool; 7]>(), day in 1_i8..=31, hour in 0_i8..24,
            minute in 0_i8..60, count in 1_i64..=MOST, unit in 0_usize..4,
        ) {
            let at = civil::Time::new(hour, minute, 0, 0).expect("a time");
            prop_assume!(kind != 1 || week.contains(&true));
            let units = [Unit::Minutes, Unit::Hours, Unit::Days, Unit::Weeks];
            let schedule = match kind {
                0 => Schedule::Days { days: Days::Daily, at },
                1 => Schedule::Days { days: Days::Week(week), at },
                2 => Schedule::Days { days: Days::Month(day), at },
                _ => Schedule::Every { count, unit: units[unit] },
            };
            prop_assert_eq!(Schedule::parse(&schedule.words()), Ok(schedule));
        }
    }

    #[test]
    fn phrases_are_read_back_in_words() {
        for (text, words) in [
            ("daily at 21:40", "every day at 21:40"),
            ("  Weekdays   at 7:05 ", "Monday to Friday at 07:05"),
            ("mondays and thursdays at 12:00", "every Monday and Thursday at 12:00"),
            ("sundays, mondays at 03:00", "every Monday and Sunday at 03:00"),
            ("fridays tuesdays and sundays at 3:00", "every Tuesday, Friday and Sunday at 03:00"),
            ("saturdays at 3:00", "every Saturday at 03:00"),
            ("monthly on 2 at 05:00", "on day 2 of every month at 05:00"),
            ("every 90 minutes", "90 minutes after the last good run"),
            ("every day", "1 day after the last good run"),
            ("", "✗ the schedule is empty → write \"daily at 21:40\""),
            ("dayly at 21:40", "✗ `dayly` is not a day → did you mean `daily`?"),
            ("daily", "✗ `daily` has no time of day → write \"daily at 21:40\""),
            ("daily at 25:00", "✗ `25:00` is not a time of day → write it as 21:40"),
            ("monthly on 32 at 05:00", "✗ `32` is not a day of the month → write 1 to 31"),
            ("every 0 days", "✗ `0` is not a valid number of days → use 1 to 10000"),
            (
                "every 3 fortnights",
                "✗ `fortnights` is not a unit of time → use minutes, hours, days or weeks",
            ),
            ("40 21 * * *", "at 21:40, every day"),
            (
                "40 21 * * mum",
                "✗ `mum` is not a valid day of the week in a cron line → use 0 to 7, lists 1,2, ranges 1-5, steps */15, or *",
            ),
        ] {
            assert_eq!(read(text), words, "{text}");
        }
    }

    fn next(text: &str, after: &str, last: Option<&str>, zone: &str) -> String {
        let zone = TimeZone::get(zone).expect("a zone");
        let moment = |text: &str| text.parse::<Timestamp>().expect("a moment");
        let schedule = Schedule::parse(text).expect("a schedule");
        schedule.next(moment(after), last.map(moment), &zone).to_string()
    }

    #[test]
    fn the_next_moment_is_right_over_both_clock_changes() {
        let oslo = "Europe/Oslo";
        for (text, after, last, wanted) in [
            ("daily at 21:40", "2026-11-12T20:40:00Z", None, "2026-11-13T20:40:00Z"),
            ("daily at 21:40", "2026-11-12T20:39:59Z", None, "2026-11-12T20:40:00Z"),
            // 02:30 does not exist on 29 March, and exists twice on 25 October.
            ("daily at 02:30", "2026-03-28T12:00:00Z", None, "2026-03-29T01:00:00Z"),
            ("daily at 02:30", "2026-10-24T12:00:00Z", None, "2026-10-25T00:30:00Z"),
            ("daily at 02:30", "2026-10-25T00:30:00Z", None, "2026-10-26T01:30:00Z"),
            ("weekdays at 12:00", "2026-11-13T11:00:00Z", None, "2026-11-16T11:00:00Z"),
            ("monthly on 31 at 05:00", "2026-02-01T00:00:00Z", None, "2026-02-28T04:00:00Z"),
            (
                "every 4 days",
                "2026-11-12T00:00:00Z",
                Some("2026-11-10T00:00:00Z"),
                "2026-11-14T00:00:00Z",
            ),
            (
                "every 4 days",
                "2026-11-20T00:00:00Z",
                Some("2026-11-10T00:00:00Z"),
                "2026-11-20T00:00:00Z",
            ),
            ("every 4 days", "2026-11-20T00:00:00Z", None, "2026-11-20T00:00:00Z"),
        ] {
            assert_eq!(next(text, after, last, oslo), wanted, "{text} after {after}");
        }
    }

    proptest! {
        #![proptest_config(ProptestConfig::with_cases(24))]
        #[test]
        fn moments_are_after_what_they_follow_and_in_order(
            start in 0i64..4_000_000_000, hour in 0i8..24, minute in 0i8..60, days in proptest::array::uniform7(any::<bool>()),
        ) {
            prop_assume!(days != [false; 7]);
            let zone = TimeZone::get("America/St_Johns").expect("a zone");
            let at = civil::time(hour, minute, 0, 0);
            let schedule = Schedule::Days { days: Days::Week(days), at };
            let from = Timestamp::from_second(start).expect("a moment");
            let to = from + jiff::SignedDuration::from_hours(24 * 30);
            let moments = schedule.moments(from, to, None, &zone, 100);
            // Naively: every day whose weekday is wanted, once.
            let mut day = from.to_zoned(zone.clone()).date();
            let mut expected = Vec::new();
            while day <= to.to_zoned(zone.clone()).date() {
                let number = usize::try_from(day.weekday().to_monday_zero_offset()).expect("a day");
                let moment = moment(day.to_datetime(at), &zone).expect("a moment");
                if days[number] && moment > from && moment <= to {
                    expected.push(moment);
                }
                day = day.tomorrow().expect("a day");
            }
            prop_assert_eq!(moments, expected);
        }

        /// Minute by minute over two years, the clock changes of the zones included: a moment is the
        /// first minute whose wall clock is not before the time that is wanted on a day that is.
        #[test]
        fn phrases_mean_what_looking_minute_by_minute_finds(
            hour in prop_oneof![3 => 0i8..4, 1 => 4i8..24],
            minute in 0i8..60,
            days in prop_oneof![
                Just("daily".to_owned()), Just("weekdays".to_owned()), Just("mondays and sundays".to_owned()),
                (1i8..=31).prop_map(|day| format!("monthly on {day}")),
            ],
            zone in prop_oneof![
                Just("Europe/Oslo"), Just("America/St_Johns"), Just("Australia/Lord_Howe"), Just("America/Asuncion"),
            ],
            year in 2024i16..2030,
        ) {
            let zone = TimeZone::get(zone).expect("a zone");
            let schedule = Schedule::parse(&format!("{days} at {hour:02}:{minute:02}")).expect("a phrase");
            let Schedule::Days { days, at } = &schedule else { panic!("days") };
            let start = civil::date(year, 1, 1).to_zoned(zone.clone()).expect("a moment").timestamp();
            let end = start + jiff::SignedDuration::from_hours(24 * 730);
            let mut expected = Vec::new();
            let mut wanted = None;
            let mut day = civil::date(year - 1, 12, 31);
            let mut now = start;
            while now <= end {
                let local = now.to_zoned(zone.clone()).datetime();
                while day < local.date() {
                    // What the last minutes of a day left out comes with the next.
                    day = day.tomorrow().expect("a day");
                    wanted = days.holds(day).then_some(day);
                }
                let comes = wanted.is_some_and(|day| local >= day.to_datetime(*at));
                if comes {
                    wanted = None;
                    if now > start {
                        expected.push(now);
                    }
                }
                now += jiff::SignedDuration::from_mins(1);
            }
            prop_assert_eq!(schedule.moments(start, end, None, &zone, 10_000), expected);
        }

        #[test]
        fn no_text_makes_it_panic(text in "(daily|every|monthly|on|at|[0-9:]{1,6}|mondays|and| |\\PC){0,8}") {
            let _ = Schedule::parse(&text);
        }
    }
}
