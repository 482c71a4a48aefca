//! How long something large takes that may go on only within a window.

use jiff::{SignedDuration, Timestamp, tz::TimeZone};

use crate::due::Window;

/// When it is done, and how many nights it takes.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Nights {
    /// Openings of the window in which something is done; 1 without a window.
    pub nights: usize,
    /// When it is done.
    pub done: Timestamp,
}

/// More nights than these are not counted.
const MOST: usize = 3660;

/// How something that takes so long and begins at a moment fits a window that it stops for and goes on
/// in. `None` if that takes longer than anybody waits.
#[must_use]
pub fn nights(
    takes: SignedDuration,
    window: Option<&Window>,
    from: Timestamp,
    zone: &TimeZone,
) -> Option<Nights> {
    let Some(window) = window else {
        return Some(Nights { nights: 1, done: from.checked_add(takes).ok()? });
    };
    let (mut left, mut at) = (takes, from);
    for nights in 1..=MOST {
        let opens = window.opens(at, zone);
        let closes = window.closes(opens, zone)?;
        let room = closes.duration_since(opens);
        if left <= room {
            return Some(Nights { nights, done: opens.checked_add(left).ok()? });
        }
        left -= room;
        at = closes;
    }
    None
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_is_long_goes_on_night_by_night() {
        let window =
            Window { from: jiff::civil::time(21, 0, 0, 0), to: jiff::civil::time(6, 0, 0, 0) };
        let from: Timestamp = "2026-11-09T12:00:00Z".parse().expect("a moment");
        let hours = SignedDuration::from_hours;
        let told = |takes, window| {
            nights(takes, window, from, &TimeZone::UTC)
                .map(|one| (one.nights, one.done.to_string()))
        };
        let done = |nights, at: &str| Some((nights, at.to_owned()));
        assert_eq!(told(hours(9), Some(&window)), done(1, "2026-11-10T06:00:00Z"));
        assert_eq!(told(hours(31), Some(&window)), done(4, "2026-11-13T01:00:00Z"));
        assert_eq!(told(hours(31), None), done(1, "2026-11-10T19:00:00Z"));
        assert_eq!(told(hours(9 * 4000), Some(&window)), None);
        // In the night on which clocks go back it is open for an hour more.
        let zone = TimeZone::get("Europe/Berlin").expect("a zone");
        let from: Timestamp = "2026-10-24T12:00:00Z".parse().expect("a moment");
        assert_eq!(nights(hours(10), Some(&window), from, &zone).map(|one| one.nights), Some(1));
    }
}
