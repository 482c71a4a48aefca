//! What servers say of the time.

use std::time::{Duration, SystemTime};

/// How far a server's clock is off.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) struct Skew {
    /// By so much.
    pub by: Duration,
    /// Whether this machine is behind the server.
    pub we_are_behind: bool,
}

impl Skew {
    /// Signed requests are refused from a quarter of an hour on.
    pub fn is_too_much(self) -> bool {
        self.by >= Duration::from_secs(15 * 60)
    }

    /// In words.
    pub fn words(self) -> String {
        let (seconds, side) =
            (self.by.as_secs(), if self.we_are_behind { "behind" } else { "ahead of" });
        let how_much = match seconds {
            0..120 => format!("{seconds} s"),
            120..7200 => format!("{} min", seconds / 60),
            7200..172_800 => format!("{} h", seconds / 3600),
            _ => format!("{} days", seconds / 86_400),
        };
        format!("the clock of this machine is {how_much} {side} the server's")
    }
}

/// By the `Date` of an answer (RFC 9110, section 6.6.1).
pub(crate) fn skew(date: &str) -> Option<Skew> {
    let (theirs, ours) = (httpdate::parse_http_date(date).ok()?, SystemTime::now());
    Some(match theirs.duration_since(ours) {
        Ok(by) => Skew { by, we_are_behind: true },
        Err(error) => Skew { by: error.duration(), we_are_behind: false },
    })
}

/// How many seconds ago a date was, by the server's own clock where it tells it.
pub(crate) fn ago(date: &str, now: Option<&str>) -> Option<u64> {
    let now =
        now.and_then(|now| httpdate::parse_http_date(now).ok()).unwrap_or_else(SystemTime::now);
    let date = httpdate::parse_http_date(date).ok()?;
    Some(now.duration_since(date).map_or(0, |age| age.as_secs()))
}

/// A date in seconds since 1970.
pub(crate) fn seconds_of(date: &str) -> Option<i64> {
    let date = httpdate::parse_http_date(date).ok()?;
    let since = date.duration_since(SystemTime::UNIX_EPOCH).ok()?;
    i64::try_from(since.as_secs()).ok()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn clocks_that_differ_are_told_with_their_side() {
        let at = |seconds: i64| {
            let now = SystemTime::now();
            let by = Duration::from_secs(seconds.unsigned_abs());
            let then = if seconds < 0 { now - by } else { now + by };
            skew(&httpdate::fmt_http_date(then)).expect("a date")
        };
        let (behind, ahead) = (at(3605), at(-7 * 86_400));
        assert!(behind.is_too_much() && ahead.is_too_much() && !at(600).is_too_much());
        assert_eq!(behind.words(), "the clock of this machine is 60 min behind the server's");
        assert_eq!(ahead.words(), "the clock of this machine is 7 days ahead of the server's");
        assert!(at(-30).words().contains("30 s ahead") || at(-30).words().contains("31 s ahead"));
        assert!(at(5 * 3600 + 60).words().contains("5 h behind"));
        assert_eq!(skew("yesterday"), None);
    }

    #[test]
    fn ages_go_by_the_servers_own_clock() {
        let (then, now) = ("Sun, 22 Nov 2026 21:40:00 GMT", "Mon, 23 Nov 2026 21:40:05 GMT");
        assert_eq!(ago(then, Some(now)), Some(86_405));
        assert_eq!(ago(now, Some(then)), Some(0));
        assert_eq!(ago("never", Some(now)), None);
        assert!(ago("Sun, 06 Nov 1994 08:49:37 GMT", None).is_some_and(|age| age > 900_000_000));
    }
}
