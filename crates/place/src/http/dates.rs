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
        format!("this machine's clock is {how_much} {side} the server's")
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
