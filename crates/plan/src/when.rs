//! Naming a snapshot: `PLAN@WHEN`, or an id.

use jiff::{SignedDuration, Span, Timestamp, civil, tz::TimeZone};

use crate::plan::is_plan_name;

/// A moment as people name it.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum When {
    /// The newest there is.
    Newest,
    /// The newest at or before a moment.
    At(Timestamp),
}

/// A snapshot as people name it.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum SnapshotSpec {
    /// The newest of a plan at or before a moment.
    Of {
        /// The plan.
        plan: String,
        /// The moment.
        when: When,
    },
    /// The one whose id begins like this.
    Id(String),
}

/// Why a text names no snapshot.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
pub enum SpecError {
    /// Neither form.
    #[error("`{0}` is not a snapshot: write PLAN@WHEN, as in `readings@newest`, or an id")]
    Form(String),
    /// The moment is not understood.
    #[error(
        "`{0}` is not a time; for example: newest, yesterday, 10 nov 21:40, 2026-11-10T21:40, 3 days ago"
    )]
    Moment(String),
}

/// Ids are given with at least so many digits.
const SHORTEST_ID: usize = 6;

impl SnapshotSpec {
    /// Reads the name of a snapshot. A day means its end, a minute its end: `PLAN@2026-11-10` is
    /// the last snapshot of that day, or the newest before.
    ///
    /// # Errors
    /// If it is not understood.
    pub fn parse(text: &str, now: Timestamp, zone: &TimeZone) -> Result<Self, SpecError> {
        if let Some((plan, when)) = text.split_once('@') {
            if !is_plan_name(plan) {
                return Err(SpecError::Form(text.to_owned()));
            }
            return Ok(Self::Of { plan: plan.to_owned(), when: When::parse(when, now, zone)? });
        }
        let id = text.to_ascii_lowercase();
        let is_id =
            (SHORTEST_ID..=32).contains(&id.len()) && id.bytes().all(|b| b.is_ascii_hexdigit());
        if is_id { Ok(Self::Id(id)) } else { Err(SpecError::Form(text.to_owned())) }
    }
}

impl When {
    /// Reads a moment.
    ///
    /// # Errors
    /// If it is not understood.
    pub fn parse(text: &str, now: Timestamp, zone: &TimeZone) -> Result<Self, SpecError> {
        let text = text.trim();
        if text == "newest" {
            return Ok(Self::Newest);
        }
        let moment = parse_absolute(text, zone)
            .or_else(|| parse_ago(text, now, zone))
            .or_else(|| parse_named(text, now, zone));
        moment.map(Self::At).ok_or_else(|| SpecError::Moment(text.to_owned()))
    }
}

fn parse_absolute(text: &str, zone: &TimeZone) -> Option<Timestamp> {
    if let Ok(exact) = text.parse::<Timestamp>() {
        return Some(exact);
    }
    let (civil, granularity) = if let Some((_, clock)) = text.split_once(['T', ' ']) {
        let has_seconds = clock.matches(':').count() == 2;
        let civil: civil::DateTime = text.parse().ok()?;
        (civil, if has_seconds { Span::new().seconds(1) } else { Span::new().minutes(1) })
    } else {
        let date: civil::Date = text.parse().ok()?;
        (date.to_datetime(civil::Time::midnight()), Span::new().days(1))
    };
    let end = civil.checked_add(granularity).ok()?.to_zoned(zone.clone()).ok()?.timestamp();
    end.checked_sub(SignedDuration::from_nanos(1)).ok()
}

/// The end of a day, or of a minute of it.
fn end_of(day: civil::Date, clock: Option<&str>, zone: &TimeZone) -> Option<Timestamp> {
    let (civil, granularity) = match clock {
        Some(clock) => {
            let (hour, minute) = clock.split_once(':')?;
            let time = civil::Time::new(hour.parse().ok()?, minute.parse().ok()?, 0, 0).ok()?;
            (day.to_datetime(time), Span::new().minutes(1))
        }
        None => (day.to_datetime(civil::Time::midnight()), Span::new().days(1)),
    };
    let end = civil.checked_add(granularity).ok()?.to_zoned(zone.clone()).ok()?.timestamp();
    end.checked_sub(SignedDuration::from_nanos(1)).ok()
}

/// `today`, `yesterday 21:40`, `10 nov`, `10 nov 2025 21:40`. Without a year it is the last such
/// day that has begun.
fn parse_named(text: &str, now: Timestamp, zone: &TimeZone) -> Option<Timestamp> {
    const MONTHS: [&str; 12] =
        ["jan", "feb", "mar", "apr", "may", "jun", "jul", "aug", "sep", "oct", "nov", "dec"];
    let lower = text.to_lowercase();
    let mut words: Vec<&str> = lower.split_whitespace().collect();
    let clock = words.last().copied().filter(|word| word.contains(':'));
    if clock.is_some() {
        words.pop();
    }
    let today = now.to_zoned(zone.clone()).date();
    let day = match words.as_slice() {
        [] => today,
        ["today"] => today,
        ["yesterday"] => today.yesterday().ok()?,
        [first, rest @ ..] => {
            let (second, rest) = rest.split_first()?;
            let (number, name) = match first.parse::<i8>() {
                Ok(number) => (number, second),
                Err(_) => (second.parse::<i8>().ok()?, first),
            };
            let is_name = |month: &&str| name.len() >= 3 && name.starts_with(*month);
            let month = MONTHS.iter().position(is_name)?;
            let month = i8::try_from(month + 1).ok()?;
            match rest {
                [] => {
                    let this = civil::Date::new(today.year(), month, number).ok();
                    let last = || civil::Date::new(today.year() - 1, month, number).ok();
                    this.filter(|day| *day <= today).or_else(last)?
                }
                [year] => civil::Date::new(year.parse().ok()?, month, number).ok()?,
                _ => return None,
            }
        }
    };
    end_of(day, clock, zone)
}

/// `3 days ago` and the like.
fn parse_ago(text: &str, now: Timestamp, zone: &TimeZone) -> Option<Timestamp> {
    let mut words = text.strip_suffix("ago")?.split_whitespace();
    let (count, unit) = (words.next()?.parse::<i64>().ok()?, words.next()?);
    if words.next().is_some() || !(0..1_000_000).contains(&count) {
        return None;
    }
    let span = match unit.strip_suffix('s').unwrap_or(unit) {
        "second" => Span::new().seconds(count),
        "minute" | "min" => Span::new().minutes(count),
        "hour" => Span::new().hours(count),
        "day" => Span::new().days(count),
        "week" => Span::new().try_weeks(count).ok()?,
        "month" => Span::new().try_months(count).ok()?,
        "year" => Span::new().try_years(count).ok()?,
        _ => return None,
    };
    now.to_zoned(zone.clone()).checked_sub(span).ok().map(|zoned| zoned.timestamp())
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn moment(text: &str) -> String {
        let zone = TimeZone::fixed(jiff::tz::offset(1));
        let now = "2026-11-12T20:14:00Z".parse().expect("a moment");
        match When::parse(text, now, &zone) {
            Ok(When::At(moment)) => moment.to_string(),
            Ok(When::Newest) => "newest".to_owned(),
            Err(error) => error.to_string(),
        }
    }

    #[test]
    fn moments_are_understood_to_their_end() {
        assert_eq!(moment("newest"), "newest");
        assert_eq!(moment("2026-11-10"), "2026-11-10T22:59:59.999999999Z");
        assert_eq!(moment("2026-11-10T21:40"), "2026-11-10T20:40:59.999999999Z");
        assert_eq!(moment("2026-11-10 21:40:05"), "2026-11-10T20:40:05.999999999Z");
        assert_eq!(moment("2026-11-10T21:40:05Z"), "2026-11-10T21:40:05Z");
        assert_eq!(moment("3 days ago"), "2026-11-09T20:14:00Z");
        assert_eq!(moment("1 hour ago"), "2026-11-12T19:14:00Z");
        assert_eq!(moment("yesterday"), "2026-11-11T22:59:59.999999999Z");
        assert_eq!(moment("today 08:15"), "2026-11-12T07:15:59.999999999Z");
        assert_eq!(moment("10 nov 21:40"), "2026-11-10T20:40:59.999999999Z");
        assert_eq!(moment("December 24"), "2025-12-24T22:59:59.999999999Z");
        assert_eq!(moment("1 feb 2024"), "2024-02-01T22:59:59.999999999Z");
        for bad in ["31 feb", "10 no", "10 nov 25:00", "nov", "10 nov 2024 2025", "99999 nov"] {
            assert!(moment(bad).contains("is not a time"), "{bad}");
        }
        assert!(moment("2026-13-01").contains("is not a time"));
        assert!(moment("yesterday-ish").contains("is not a time"));
    }

    #[test]
    fn snapshots_are_named_by_plan_and_moment_or_by_id() {
        let parse = |text| SnapshotSpec::parse(text, Timestamp::UNIX_EPOCH, &TimeZone::UTC);
        assert_eq!(
            parse("readings@newest"),
            Ok(SnapshotSpec::Of { plan: "readings".to_owned(), when: When::Newest })
        );
        assert_eq!(parse("0A1b2c"), Ok(SnapshotSpec::Id("0a1b2c".to_owned())));
        for bad in ["readings", "Readings@newest", "@newest", "abc", ""] {
            assert_eq!(parse(bad), Err(SpecError::Form(bad.to_owned())));
        }
    }

    proptest! {
        #[test]
        fn no_text_makes_it_panic(text in "([0-9]{1,20}|days|ago|nov|[T:@ -]|\\PC){0,12}") {
            let _ = SnapshotSpec::parse(&text, Timestamp::now(), &TimeZone::UTC);
        }
    }
}
