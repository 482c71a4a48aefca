//! How fast a line may be used, by the hour of the day.

use std::fmt;

use jiff::civil::Time;

use crate::units::parse_size;

/// A limit for a whole day: `4 MiB/s, 1 MiB/s 08:00-18:00`.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Limit {
    text: String,
    /// Bytes a second at all other times.
    base: Option<u64>,
    /// From, to (which may lie on the next day), and bytes a second.
    windows: Vec<(Time, Time, u64)>,
}

impl Limit {
    /// Reads a limit.
    ///
    /// # Errors
    /// What is wrong with it, in words.
    pub fn parse(text: &str) -> Result<Self, String> {
        let (mut base, mut windows) = (None, Vec::new());
        for part in text.split(',').map(str::trim) {
            let Some((size, rest)) = part.split_once("/s") else {
                return Err(format!(
                    "`{part}` is not a rate: write \"4 MiB/s, 1 MiB/s 08:00-18:00\""
                ));
            };
            let rate = parse_size(size)?;
            if rate == 0 {
                return Err(format!("`{part}` allows no traffic"));
            }
            match rest.trim() {
                "" if base.is_some() => {
                    return Err(format!("`{part}`: two rates without hours"));
                }
                "" => base = Some(rate),
                hours => {
                    let span = hours.split_once('-').and_then(|(from, to)| {
                        let time = |text: &str| Time::strptime("%H:%M", text.trim()).ok();
                        Some((time(from)?, time(to)?)).filter(|(from, to)| from != to)
                    });
                    let Some((from, to)) = span else {
                        return Err(format!(
                            "`{hours}` is not a range of hours: write 08:00-18:00"
                        ));
                    };
                    windows.push((from, to, rate));
                }
            }
        }
        Ok(Self { text: text.to_owned(), base, windows })
    }

    /// Bytes a second at a time of day; none for as many as go through. Where hours overlap the
    /// lowest rate counts.
    #[must_use]
    pub fn at(&self, time: Time) -> Option<u64> {
        let holds = |from: Time, to: Time| match from < to {
            true => (from..to).contains(&time),
            false => time >= from || time < to,
        };
        let now = self.windows.iter().filter(|(from, to, _)| holds(*from, *to));
        now.map(|(.., rate)| *rate).min().or(self.base)
    }
}

impl fmt::Display for Limit {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(&self.text)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    #[test]
    fn limits_go_by_the_hour() {
        let limit =
            Limit::parse("4 MiB/s, 1 MiB/s 08:00-18:00, 512 KiB/s 22:00-02:00").expect("a limit");
        let at = |text: &str| limit.at(text.parse().expect("a time"));
        for (time, rate) in [
            ("07:59", 4 << 20),
            ("08:00", 1 << 20),
            ("17:59", 1 << 20),
            ("18:00", 4 << 20),
            ("23:30", 512 << 10),
            ("01:59", 512 << 10),
            ("02:00", 4 << 20),
        ] {
            assert_eq!(at(time), Some(rate), "{time}");
        }
        assert_eq!(
            Limit::parse("1 MiB/s 08:00-18:00").expect("a limit").at(Time::midnight()),
            None
        );
        for (text, reason) in [
            ("4 MiB", "is not a rate"),
            ("", "is not a rate"),
            ("4/s", "has no unit"),
            ("0 B/s", "allows no traffic"),
            ("4 MiB/s, 2 MiB/s", "two rates"),
            ("4 MiB/s 8-18", "is not a range of hours"),
            ("4 MiB/s 08:00-08:00", "is not a range of hours"),
        ] {
            let refused = Limit::parse(text).expect_err(text);
            assert!(refused.contains(reason), "{text}: {refused}");
        }
    }

    proptest! {
        #[test]
        fn the_rate_is_that_of_the_minutes_counted_one_by_one(
            windows in proptest::collection::vec((0u32..1440, 0u32..1440, 1u64..9), 0..4),
            minute in 0u32..1440,
        ) {
            let clock = |minute: u32| format!("{:02}:{:02}", minute / 60, minute % 60);
            let windows: Vec<_> = windows.into_iter().filter(|(from, to, _)| from != to).collect();
            let mut text = "90 B/s".to_owned();
            for (from, to, rate) in &windows {
                text.push_str(&format!(", {rate} B/s {}-{}", clock(*from), clock(*to)));
            }
            let mut rates = vec![];
            for (from, to, rate) in &windows {
                let mut at = *from;
                while at != *to {
                    if at == minute {
                        rates.push(*rate);
                    }
                    at = (at + 1) % 1440;
                }
            }
            let limit = Limit::parse(&text).expect("a limit");
            let found = limit.at(clock(minute).parse().expect("a time"));
            prop_assert_eq!(found, Some(rates.into_iter().min().unwrap_or(90)));
        }
    }
}
