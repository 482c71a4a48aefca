//! Sentences of `retain`: read, and said again.

use std::fmt;

use jiff::{Span, Timestamp, ToSpan, Zoned, civil};

use crate::units::parse_size;

/// A stretch of the calendar, of which one snapshot stays.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub enum Period {
    /// An hour.
    Hour,
    /// A day.
    Day,
    /// A week, from Monday to Sunday (ISO 8601).
    Week,
    /// A month.
    Month,
    /// A year.
    Year,
}

impl Period {
    const ALL: [(Self, &'static str); 5] = [
        (Self::Hour, "hour"),
        (Self::Day, "day"),
        (Self::Week, "week"),
        (Self::Month, "month"),
        (Self::Year, "year"),
    ];

    /// As sentences name it.
    #[must_use]
    pub fn word(self) -> &'static str {
        Self::ALL.iter().find(|(period, _)| *period == self).map_or("day", |(_, word)| word)
    }

    /// The period a moment falls into, in the moment's zone: its number, which only grows with time.
    /// Hours are counted in time that passes, so that the two of a clock change are two.
    #[must_use]
    pub fn number(self, moment: &Zoned) -> i64 {
        let date = moment.date();
        match self {
            // The offset, as it is at that moment, makes hours begin with those of the clock.
            Self::Hour => {
                let offset = i64::from(moment.offset().seconds());
                (moment.timestamp().as_second() + offset % 3600).div_euclid(3600)
            }
            Self::Day => days(date),
            Self::Week => (days(date) + 3).div_euclid(7),
            Self::Month => i64::from(date.year()) * 12 + i64::from(date.month()),
            Self::Year => i64::from(date.year()),
        }
    }
}

/// Days since 1 January 1970, a Thursday.
fn days(date: civil::Date) -> i64 {
    let epoch = civil::date(1970, 1, 1);
    epoch.until(date).map_or(0, |span| i64::from(span.get_days()))
}

/// A time on the calendar.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Time {
    /// How many.
    pub count: i64,
    /// Of what.
    pub of: Period,
}

/// No time is longer, in years.
const LONGEST: i64 = 1000;

impl Time {
    fn parse(text: &str) -> Option<Self> {
        let (count, unit) = text.trim().split_once(char::is_whitespace)?;
        let count: i64 = if count == "a" || count == "one" { 1 } else { count.parse().ok()? };
        let unit = unit.trim();
        let one = unit.strip_suffix('s').unwrap_or(unit);
        let (of, _) = Period::ALL.iter().find(|(_, word)| *word == one)?;
        let most = match of {
            Period::Hour => LONGEST * 366 * 24,
            Period::Day => LONGEST * 366,
            Period::Week => LONGEST * 53,
            Period::Month => LONGEST * 12,
            Period::Year => LONGEST,
        };
        (1..=most).contains(&count).then_some(Self { count, of: *of })
    }

    /// From when on this time before a moment reaches, by the calendar of its zone: the beginning of
    /// a day, but for hours. So it never reaches further back as time goes on (a month before the
    /// 30th and the 31st of March is the same day).
    #[must_use]
    pub fn before(self, moment: &Zoned) -> Zoned {
        let span: Span = match self.of {
            Period::Hour => self.count.hours(),
            Period::Day => self.count.days(),
            Period::Week => self.count.weeks(),
            Period::Month => self.count.months(),
            Period::Year => self.count.years(),
        };
        let earlier = match self.of {
            Period::Hour => moment.checked_sub(span),
            _ => moment
                .start_of_day()
                .and_then(|day| day.date().checked_sub(span)?.to_zoned(day.time_zone().clone())),
        };
        // Before all that a calendar knows there is no snapshot.
        earlier.unwrap_or_else(|_| Timestamp::MIN.to_zoned(moment.time_zone().clone()))
    }
}

impl fmt::Display for Time {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let plural = if self.count == 1 { "" } else { "s" };
        write!(f, "{} {}{plural}", self.count, self.of.word())
    }
}

/// What has to be so at the store's place; it may cost the oldest snapshots that no other sentence
/// retains.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Goal {
    /// At least so much of the place is free, in percent.
    Free(u8),
    /// The store takes at most so many bytes.
    AtMost(u64),
}

/// A sentence.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Sentence {
    /// `everything for 3 days`.
    Everything(Time),
    /// `one a day for 2 weeks`.
    One(Period, Time),
    /// `at least 4`.
    AtLeast(u32),
    /// `labelled before-upgrade forever`, or for a time.
    Labelled(String, Option<Time>),
    /// `until 10% is free`, `at most 2 TiB`.
    Goal(Goal),
}

/// What can be said, for who has said something else.
const EXAMPLES: &str = "write \"everything for 3 days\", \"one a day for 2 weeks\" (an hour, a day, a week, a month, a year), \"at least 4\", \"labelled NAME forever\", \"until 10% is free\" or \"at most 2 TiB\"";

impl Sentence {
    /// Reads a sentence.
    ///
    /// # Errors
    /// What is wrong with it, and what to do.
    pub fn parse(text: &str) -> Result<Self, (String, String)> {
        let wrong = |what: String| Err((what, EXAMPLES.to_owned()));
        let words: Vec<&str> = text.split_whitespace().collect();
        let text = words.join(" ");
        let time = |words: &[&str]| {
            let said = words.join(" ");
            Time::parse(&said).ok_or_else(|| {
                let what = format!("`{said}` is not a time");
                (what, "write a number and hours, days, weeks, months or years".to_owned())
            })
        };
        match words.as_slice() {
            ["everything", "for", rest @ ..] => Ok(Self::Everything(time(rest)?)),
            ["one", "a" | "an", period, "for", rest @ ..] => {
                let known = Period::ALL.iter().find(|(_, word)| word == period);
                match known {
                    Some((period, _)) => Ok(Self::One(*period, time(rest)?)),
                    None => wrong(format!("`{period}` is none of hour, day, week, month, year")),
                }
            }
            ["at", "least", count] => match count.parse() {
                Ok(count @ 1..) => Ok(Self::AtLeast(count)),
                _ => wrong(format!("`{count}` is not a number of snapshots")),
            },
            ["labelled", label, "forever"] => Ok(Self::Labelled((*label).to_owned(), None)),
            ["labelled", label, "for", rest @ ..] => {
                Ok(Self::Labelled((*label).to_owned(), Some(time(rest)?)))
            }
            ["until", share, "is", "free"] => {
                let percent = share.strip_suffix('%').and_then(|share| share.parse().ok());
                match percent {
                    Some(percent @ 1..=99) => Ok(Self::Goal(Goal::Free(percent))),
                    _ => wrong(format!("`{share}` is not a share between 1% and 99%")),
                }
            }
            ["at", "most", rest @ ..] => match parse_size(&rest.join(" ")) {
                Ok(bytes @ 1..) => Ok(Self::Goal(Goal::AtMost(bytes))),
                Ok(0) => wrong("`at most` nothing retains nothing".to_owned()),
                Err(why) => wrong(why),
            },
            _ => wrong(format!("`{text}` is no sentence about retention")),
        }
    }
}

impl fmt::Display for Sentence {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Everything(time) => write!(f, "everything for {time}"),
            Self::One(period @ Period::Hour, time) => {
                write!(f, "one an {} for {time}", period.word())
            }
            Self::One(period, time) => write!(f, "one a {} for {time}", period.word()),
            Self::AtLeast(count) => write!(f, "at least {count}"),
            Self::Labelled(label, None) => write!(f, "labelled {label} forever"),
            Self::Labelled(label, Some(time)) => write!(f, "labelled {label} for {time}"),
            Self::Goal(Goal::Free(percent)) => write!(f, "until {percent}% is free"),
            Self::Goal(Goal::AtMost(bytes)) => write!(f, "at most {}", size_words(*bytes)),
        }
    }
}

/// A size as sentences say it: exact, in the largest unit of which it is a whole number.
fn size_words(bytes: u64) -> String {
    let units = ["B", "KiB", "MiB", "GiB", "TiB"];
    let power = (bytes.trailing_zeros() / 10).min(4);
    format!("{} {}", bytes >> (10 * power), units[power as usize])
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn every_sentence_is_read_and_others_are_refused() {
        let time = |count, of| Time { count, of };
        for (text, sentence) in [
            ("everything for 3 days", Sentence::Everything(time(3, Period::Day))),
            ("one an hour for a day", Sentence::One(Period::Hour, time(1, Period::Day))),
            (" one  a week for 10 weeks ", Sentence::One(Period::Week, time(10, Period::Week))),
            ("one a month for 20 months", Sentence::One(Period::Month, time(20, Period::Month))),
            ("one a year for 1 year", Sentence::One(Period::Year, time(1, Period::Year))),
            ("at least 4", Sentence::AtLeast(4)),
            ("labelled before-upgrade forever", Sentence::Labelled("before-upgrade".into(), None)),
            (
                "labelled spring for 2 years",
                Sentence::Labelled("spring".into(), Some(time(2, Period::Year))),
            ),
            ("until 10% is free", Sentence::Goal(Goal::Free(10))),
            ("at most 2 TiB", Sentence::Goal(Goal::AtMost(2 << 40))),
        ] {
            assert_eq!(Sentence::parse(text), Ok(sentence.clone()), "{text}");
            assert_eq!(Sentence::parse(&sentence.to_string()), Ok(sentence), "{text}");
        }
        for text in [
            "",
            "everything",
            "everything for ever",
            "everything for 0 days",
            "everything for 99999 years",
            "one a fortnight for 2 years",
            "one a day",
            "at least 0",
            "at least many",
            "until 100% is free",
            "until 10 is free",
            "at most 2",
            "at most 0 B",
            "keep all",
        ] {
            let (what, hint) = Sentence::parse(text).expect_err(text);
            assert!(!what.is_empty() && hint.contains("write"), "{text}: {what}");
        }
    }

    #[test]
    fn periods_are_those_of_the_calendar() {
        let at = |text: &str| text.parse::<Zoned>().expect("a moment");
        let number = |period: Period, text: &str| period.number(&at(text));
        // The Monday after week 53 of 2026 begins week 1.
        let sunday = "2027-01-03T23:59:59[Europe/Oslo]";
        let monday = "2027-01-04T00:00:00[Europe/Oslo]";
        assert_eq!(
            number(Period::Week, "2026-12-28T00:00:00[Europe/Oslo]"),
            number(Period::Week, sunday)
        );
        assert_eq!(number(Period::Week, sunday) + 1, number(Period::Week, monday));
        assert_eq!(number(Period::Year, sunday), 2027);
        assert_eq!(
            number(Period::Month, "2026-12-31T12:00:00[UTC]") + 1,
            number(Period::Month, "2027-01-01T00:00:00[UTC]")
        );
        // Two hours that the clock calls the same are two, and a day of 25 hours is one.
        let (first, second) =
            ("2026-10-25T02:30:00+02:00[Europe/Oslo]", "2026-10-25T02:30:00+01:00[Europe/Oslo]");
        assert_eq!(number(Period::Hour, first) + 1, number(Period::Hour, second));
        assert_eq!(number(Period::Day, first), number(Period::Day, second));
        // Where clocks stand half an hour apart, hours are those of the clock.
        let (a, b) = ("2026-05-01T10:01:00[Asia/Kolkata]", "2026-05-01T10:59:00[Asia/Kolkata]");
        assert_eq!(number(Period::Hour, a), number(Period::Hour, b));
        // A month before the last of March is the last of February, leap days included.
        let month = Time { count: 1, of: Period::Month };
        let before = |text: &str| month.before(&at(text)).date().to_string();
        assert_eq!(before("2028-03-31T12:00:00[UTC]"), "2028-02-29");
        assert_eq!(before("2027-03-31T12:00:00[UTC]"), "2027-02-28");
        let (noon, morning) = (at("2027-03-30T12:00:00[UTC]"), at("2027-03-31T06:00:00[UTC]"));
        assert!(month.before(&noon) <= month.before(&morning), "nothing is wanted again");
        let year = Time { count: 1, of: Period::Year };
        assert_eq!(year.before(&at("2028-02-29T12:00:00[UTC]")).date().to_string(), "2027-02-28");
        let ages = Time { count: LONGEST, of: Period::Year };
        assert!(ages.before(&at("-009500-01-01T00:00:00[UTC]")).timestamp() == Timestamp::MIN);
    }
}
