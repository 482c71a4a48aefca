//! Cron lines of five fields: minute, hour, day of the month, month, day of the week (POSIX.1-2017,
//! crontab), with steps and names.

use std::ops::RangeInclusive;

use jiff::{civil, tz::TimeZone};

use crate::local::moment;

/// A cron line.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Cron {
    text: String,
    minutes: u64,
    hours: u64,
    days: u64,
    months: u64,
    /// Sunday is 0.
    weekdays: u64,
    /// Whether both day fields say something: then a day of either counts.
    either_day: bool,
}

const MONTHS: [&str; 12] =
    ["jan", "feb", "mar", "apr", "may", "jun", "jul", "aug", "sep", "oct", "nov", "dec"];
const WEEKDAYS: [&str; 7] = ["sun", "mon", "tue", "wed", "thu", "fri", "sat"];
/// The rarest line, on 29 February, comes at least so often, in days.
const HORIZON: i32 = 8 * 366 + 1;

/// A field: what it is called, what numbers it has, and their names from the first on.
struct Field {
    name: &'static str,
    range: RangeInclusive<u32>,
    names: &'static [&'static str],
}

const FIELDS: [Field; 5] = [
    Field { name: "minute", range: 0..=59, names: &[] },
    Field { name: "hour", range: 0..=23, names: &[] },
    Field { name: "day of the month", range: 1..=31, names: &[] },
    Field { name: "month", range: 1..=12, names: &MONTHS },
    // 7 is Sunday too.
    Field { name: "day of the week", range: 0..=7, names: &WEEKDAYS },
];

impl Field {
    fn number(&self, text: &str) -> Option<u32> {
        let lower = text.to_ascii_lowercase();
        let named = self.names.iter().position(|name| *name == lower);
        let first = *self.range.start();
        let number = match named {
            Some(at) => first + u32::try_from(at).ok()?,
            None if text.bytes().all(|byte| byte.is_ascii_digit()) => text.parse().ok()?,
            None => return None,
        };
        self.range.contains(&number).then_some(number)
    }

    fn parse(&self, text: &str) -> Result<u64, (String, String)> {
        let wrong = || {
            let (from, to) = (self.range.start(), self.range.end());
            let hint = format!("use {from} to {to}, lists 1,2, ranges 1-5, steps */15, or *");
            (format!("`{text}` is not a valid {} in a cron line", self.name), hint)
        };
        let mut bits = 0;
        for part in text.split(',') {
            let (range, step) = match part.split_once('/') {
                Some((range, step)) => {
                    let step = step.parse::<usize>().ok().filter(|step| (1..=59).contains(step));
                    (range, Some(step.ok_or_else(wrong)?))
                }
                None => (part, None),
            };
            let (from, to) = match range.split_once('-') {
                _ if range == "*" => (*self.range.start(), *self.range.end()),
                Some((from, to)) => {
                    (self.number(from).ok_or_else(wrong)?, self.number(to).ok_or_else(wrong)?)
                }
                // A step from a number on goes to the end.
                None if step.is_some() => {
                    (self.number(range).ok_or_else(wrong)?, *self.range.end())
                }
                None => {
                    let number = self.number(range).ok_or_else(wrong)?;
                    (number, number)
                }
            };
            if from > to {
                return Err(wrong());
            }
            (from..=to).step_by(step.unwrap_or(1)).for_each(|number| bits |= 1 << number);
        }
        Ok(bits)
    }
}

fn has(bits: u64, number: i8) -> bool {
    u32::try_from(number).is_ok_and(|number| bits & (1 << number) != 0)
}

impl Cron {
    /// Reads five fields.
    ///
    /// # Errors
    /// What is not understood, and what may stand there.
    pub fn parse(words: &[&str]) -> Result<Self, (String, String)> {
        let mut bits = [0; 5];
        for ((field, word), bits) in FIELDS.iter().zip(words).zip(&mut bits) {
            *bits = field.parse(word)?;
        }
        let [minutes, hours, days, months, mut weekdays] = bits;
        if weekdays & 1 << 7 != 0 {
            weekdays = weekdays & !(1 << 7) | 1;
        }
        let says = |number: usize| words.get(number).is_some_and(|word| !word.starts_with('*'));
        let either_day = says(2) && says(4);
        let cron =
            Self { text: words.join(" "), minutes, hours, days, months, weekdays, either_day };
        let first = civil::date(2000, 1, 1);
        let mut ahead = (0..HORIZON)
            .filter_map(|number| first.checked_add(jiff::Span::new().days(i64::from(number))).ok());
        match ahead.any(|day| cron.holds(day)) {
            true => Ok(cron),
            false => Err((
                format!("`{}` never occurs: there is no such day", cron.text),
                "check the day of the month and the month".to_owned(),
            )),
        }
    }

    /// Its minutes, hours, days of the month and months.
    pub(crate) fn numbers(&self) -> [Vec<u32>; 4] {
        [self.minutes, self.hours, self.days, self.months]
            .map(|bits| (0..64).filter(|number| bits & (1 << number) != 0).collect())
    }

    /// Its days of the week, Monday first.
    pub(crate) fn week(&self) -> [bool; 7] {
        std::array::from_fn(|day| self.weekdays & (1 << ((day + 1) % 7)) != 0)
    }

    /// Whether a day of either of the day fields counts.
    pub(crate) fn is_either(&self) -> bool {
        self.either_day
    }

    /// How often it comes on a day, at most.
    #[must_use]
    pub fn times_a_day(&self) -> u32 {
        self.minutes.count_ones() * self.hours.count_ones()
    }

    fn holds(&self, day: civil::Date) -> bool {
        let of_month = has(self.days, day.day());
        let of_week = has(self.weekdays, day.weekday().to_sunday_zero_offset());
        let fits = if self.either_day { of_month || of_week } else { of_month && of_week };
        fits && has(self.months, day.month())
    }

    fn times(&self) -> impl Iterator<Item = civil::Time> {
        let hours = (0..24i8).filter(|hour| has(self.hours, *hour));
        hours.flat_map(|hour| {
            let minutes = (0..60i8).filter(|minute| has(self.minutes, *minute));
            minutes.map(move |minute| civil::time(hour, minute, 0, 0))
        })
    }

    /// The first moment after another; none within eight years, which no line that was read has.
    pub(crate) fn next(&self, after: jiff::Timestamp, zone: &TimeZone) -> Option<jiff::Timestamp> {
        let mut day = after.to_zoned(zone.clone()).date();
        for _ in 0..HORIZON {
            if self.holds(day) {
                let moments = self.times().filter_map(|time| moment(day.to_datetime(time), zone));
                // Moments that a change of the clock leaves out come together after it.
                if let Some(found) = moments.filter(|moment| *moment > after).min() {
                    return Some(found);
                }
            }
            day = day.tomorrow().ok()?;
        }
        None
    }

    /// In words.
    #[must_use]
    pub fn words(&self) -> String {
        let list = |bits: u64, range: RangeInclusive<u32>, name: &dyn Fn(u32) -> String| {
            let named: Vec<String> =
                range.filter(|number| bits & (1 << number) != 0).map(name).collect();
            match named.split_last() {
                Some((last, first)) if !first.is_empty() => {
                    format!("{} and {last}", first.join(", "))
                }
                _ => named.concat(),
            }
        };
        let all = |bits: u64, count: u32| bits.count_ones() == count;
        let capital = |name: &str| format!("{}{}", name[..1].to_ascii_uppercase(), &name[1..]);
        let mut out = match self.times_a_day() {
            1440 => "every minute".to_owned(),
            1..=6 => {
                let times: Vec<String> =
                    self.times().map(|time| time.strftime("%H:%M").to_string()).collect();
                format!("at {}", times.join(", "))
            }
            many => {
                let minutes = list(self.minutes, 0..=59, &|minute| minute.to_string());
                let hours = match all(self.hours, 24) {
                    true => "every hour".to_owned(),
                    false => {
                        format!("the hours {}", list(self.hours, 0..=23, &|hour| hour.to_string()))
                    }
                };
                format!("{many} times a day: at minute {minutes} of {hours}")
            }
        };
        let of_month = list(self.days, 1..=31, &|day| day.to_string());
        let of_week = list(self.weekdays, 0..=6, &|day| capital(WEEKDAYS[day as usize]));
        let (any_day, any_weekday) = (all(self.days, 31), all(self.weekdays, 7));
        match (any_day, any_weekday) {
            _ if self.either_day => {
                out.push_str(&format!(", on day {of_month} of the month or on {of_week}"));
            }
            (true, true) => out.push_str(", every day"),
            (false, true) => out.push_str(&format!(", on day {of_month} of the month")),
            (true, false) => out.push_str(&format!(", on {of_week}")),
            (false, false) => {
                out.push_str(&format!(", on day {of_month} of the month if it is {of_week}"));
            }
        }
        if !all(self.months, 12) {
            let months = list(self.months, 1..=12, &|month| capital(MONTHS[month as usize - 1]));
            out.push_str(&format!(" in {months}"));
        }
        out
    }
}

#[cfg(test)]
mod tests {
    use jiff::{SignedDuration, Timestamp};
    use proptest::prelude::*;

    use super::*;

    fn read(text: &str) -> Result<Cron, (String, String)> {
        Cron::parse(&text.split_whitespace().collect::<Vec<_>>())
    }

    #[test]
    fn lines_are_read_back_in_words() {
        for (text, words) in [
            ("40 21 * * *", "at 21:40, every day"),
            ("0 3 1,15 * *", "at 03:00, on day 1 and 15 of the month"),
            ("30 4 * * mon-fri", "at 04:30, on Mon, Tue, Wed, Thu and Fri"),
            ("30 4 1 * 5", "at 04:30, on day 1 of the month or on Fri"),
            ("0 6 * jan,jul 7", "at 06:00, on Sun in Jan and Jul"),
            ("*/30 * * * *", "48 times a day: at minute 0 and 30 of every hour, every day"),
            ("* * * * *", "every minute, every day"),
            ("5/20 8-9 * * *", "at 08:05, 08:25, 08:45, 09:05, 09:25, 09:45, every day"),
        ] {
            assert_eq!(read(text).expect(text).words(), words, "{text}");
        }
        for (text, reason) in [
            ("60 1 * * *", "not a valid minute"),
            ("1 24 * * *", "not a valid hour"),
            ("1 1 0 * *", "not a valid day of the month"),
            ("1 1 * 13 *", "not a valid month"),
            ("1 1 * * 8", "not a valid day of the week"),
            ("1 1 * * mum", "not a valid day of the week"),
            ("5-1 1 * * *", "not a valid minute"),
            ("*/0 1 * * *", "not a valid minute"),
            ("1, 1 * * *", "not a valid minute"),
            ("0 0 30 2 *", "never occurs"),
        ] {
            let (what, _) = read(text).expect_err(text);
            assert!(what.contains(reason), "{text}: {what}");
        }
    }

    /// Minute by minute: those whose local time fits and has not been before, and after a change of
    /// the clock the minute that stands for those it skipped.
    fn naively(cron: &Cron, from: Timestamp, to: Timestamp, zone: &TimeZone) -> Vec<Timestamp> {
        let fits = |local: civil::DateTime| {
            has(cron.minutes, local.minute())
                && has(cron.hours, local.hour())
                && cron.holds(local.date())
        };
        let minute = SignedDuration::from_mins(1);
        let (mut found, mut at) = (Vec::new(), from);
        let mut before = (from - minute).to_zoned(zone.clone()).datetime();
        let mut latest = before;
        while at <= to {
            let local = at.to_zoned(zone.clone()).datetime();
            let mut skipped = before.checked_add(minute).expect("a minute");
            let mut comes = fits(local) && local > latest;
            while skipped < local {
                comes |= fits(skipped) && skipped > latest;
                skipped = skipped.checked_add(minute).expect("a minute");
            }
            if comes && at > from {
                found.push(at);
            }
            latest = latest.max(local);
            (before, at) = (local, at + minute);
        }
        found
    }

    proptest! {
        #![proptest_config(ProptestConfig::with_cases(24))]
        #[test]
        fn moments_are_those_of_looking_minute_by_minute(
            minute in prop_oneof![Just("*/15".to_owned()), (0u32..60).prop_map(|n| n.to_string())],
            hour in prop_oneof![Just("*".to_owned()), Just("1-3".to_owned()), (0u32..24).prop_map(|n| n.to_string())],
            day in prop_oneof![Just("*".to_owned()), Just("25-31".to_owned()), (1u32..29).prop_map(|n| n.to_string())],
            weekday in prop_oneof![Just("*".to_owned()), Just("0".to_owned()), Just("1-5".to_owned())],
            spring in any::<bool>(),
            zone in prop_oneof![Just("Europe/Oslo"), Just("America/St_Johns"), Just("Australia/Lord_Howe"), Just("Asia/Tokyo")],
        ) {
            let zone = TimeZone::get(zone).expect("a zone");
            let cron = read(&format!("{minute} {hour} {day} * {weekday}")).expect("a line");
            // Around the changes of the clock, which are in these months everywhere.
            let (from, to) = match spring {
                true => ("2026-03-01T00:00:00Z", "2026-04-15T00:00:00Z"),
                false => ("2026-09-25T00:00:00Z", "2026-11-10T00:00:00Z"),
            };
            let (from, to): (Timestamp, Timestamp) = (from.parse().expect("a moment"), to.parse().expect("a moment"));
            let (mut found, mut at) = (Vec::new(), from);
            while let Some(next) = cron.next(at, &zone).filter(|next| *next <= to) {
                found.push(next);
                at = next;
            }
            prop_assert_eq!(found, naively(&cron, from, to, &zone));
        }
    }
}
