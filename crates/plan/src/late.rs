//! Whether a plan is late, and whether a run to come fits its window.

use jiff::{SignedDuration, Timestamp, tz::TimeZone};

use crate::{
    due::{Starting, Window},
    local::moment,
    schedule::Schedule,
};

/// What a schedule gives beside the pauses it names itself: a quarter of the time between two of its
/// moments, at least an hour, at most half a day.
const SHARE: i32 = 4;
const LEAST: SignedDuration = SignedDuration::from_hours(1);
const MOST: SignedDuration = SignedDuration::from_hours(12);

/// Whether a run that starts then will be done before its window closes.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Fit {
    /// When the window closes.
    pub closes: Timestamp,
    /// How much longer than that the run will take; none if it fits.
    pub over: Option<SignedDuration>,
}

impl Window {
    /// When the window that is open at a moment closes.
    #[must_use]
    pub fn closes(&self, inside: Timestamp, zone: &TimeZone) -> Option<Timestamp> {
        let local = inside.to_zoned(zone.clone());
        let today = moment(local.date().to_datetime(self.to), zone);
        let tomorrow = local.date().tomorrow().ok();
        let tomorrow = tomorrow.and_then(|day| moment(day.to_datetime(self.to), zone));
        [today, tomorrow].into_iter().flatten().find(|closes| *closes > inside)
    }

    /// Whether a run that starts at a moment and takes so long fits.
    #[must_use]
    pub fn fits(&self, at: Timestamp, takes: SignedDuration, zone: &TimeZone) -> Option<Fit> {
        let opens = self.opens(at, zone);
        let closes = self.closes(opens, zone)?;
        let over = (opens + takes).duration_since(closes);
        Some(Fit { closes, over: (over > SignedDuration::ZERO).then_some(over) })
    }
}

impl Starting {
    /// The moment by which there should have been a good run and was none, if that is past: the
    /// plan is late since then. `good` is when the newest good run started; `since` when the plan
    /// came to be.
    #[must_use]
    pub fn late(
        &self,
        schedule: &Schedule,
        good: Option<Timestamp>,
        since: Timestamp,
        now: Timestamp,
        zone: &TimeZone,
    ) -> Option<Timestamp> {
        let from = good.unwrap_or(since);
        // One for which a run had started before its own moment came has been served.
        let first = match (schedule, good) {
            (Schedule::Every { .. }, None) => since,
            _ => schedule.next(from, good, zone),
        };
        let second = match schedule {
            Schedule::Every { .. } => schedule.next(first, Some(first), zone),
            _ => schedule.next(first, None, zone),
        };
        let between = second.duration_since(first);
        let mut grace = (between / SHARE).clamp(LEAST, MOST) + self.spread;
        if let Some(retry) = self.retry {
            let times = i32::try_from(retry.times).unwrap_or(i32::MAX);
            grace = grace.saturating_add(retry.pause.checked_mul(times).unwrap_or(MOST));
        }
        let opens = self.window.map_or(first, |window| window.opens(first, zone));
        let late = opens.checked_add(grace).ok()?;
        (late < now).then_some(late)
    }
}

#[cfg(test)]
mod tests {
    use jiff::civil::time;

    use super::*;
    use crate::due::Retry;

    fn at(text: &str) -> Timestamp {
        text.parse().expect("a moment")
    }

    #[test]
    fn a_plan_is_late_when_its_moment_and_what_may_follow_it_have_passed() {
        let utc = TimeZone::UTC;
        let late = |schedule: &str, good: Option<&str>, now: &str, starting: &Starting| {
            let schedule = Schedule::parse(schedule).expect("a schedule");
            let since = at("2026-11-01T00:00:00Z");
            let late = starting.late(&schedule, good.map(at), since, at(now), &utc);
            late.map(|late| late.to_string())
        };
        let plain = Starting::default();
        let good = Some("2026-11-10T21:40:00Z");
        // The moment of the 11th, and six hours for it.
        assert_eq!(late("daily at 21:40", good, "2026-11-12T03:00:00Z", &plain), None);
        let since = Some("2026-11-12T03:40:00Z".to_owned());
        assert_eq!(late("daily at 21:40", good, "2026-11-12T04:00:00Z", &plain), since);
        assert_eq!(late("daily at 21:40", good, "2026-11-30T04:00:00Z", &plain), since);
        // Never run at all: since the first moment after the plan was written.
        let first = Some("2026-11-02T03:40:00Z".to_owned());
        assert_eq!(late("daily at 21:40", None, "2026-11-05T00:00:00Z", &plain), first);
        let first = Some("2026-11-01T01:00:00Z".to_owned());
        assert_eq!(late("every 2 hours", None, "2026-11-05T00:00:00Z", &plain), first);
        // A week gives half a day; an interval counts from the last good run.
        let week = "mondays at 08:00";
        assert_eq!(late(week, good, "2026-11-16T19:00:00Z", &plain), None);
        assert!(late(week, good, "2026-11-16T20:01:00Z", &plain).is_some());
        assert_eq!(late("every 4 days", good, "2026-11-15T09:00:00Z", &plain), None);
        assert!(late("every 4 days", good, "2026-11-15T09:41:00Z", &plain).is_some());
        // What a plan says itself of when it starts is given too.
        let starting = Starting {
            spread: SignedDuration::from_mins(30),
            window: Some(Window { from: time(1, 0, 0, 0), to: time(5, 0, 0, 0) }),
            retry: Some(Retry { times: 3, pause: SignedDuration::from_mins(30) }),
            ..Starting::default()
        };
        assert_eq!(late("daily at 21:40", good, "2026-11-12T08:59:00Z", &starting), None);
        let since = Some("2026-11-12T09:00:00Z".to_owned());
        assert_eq!(late("daily at 21:40", good, "2026-11-12T09:01:00Z", &starting), since);
    }

    #[test]
    fn runs_fit_their_window_or_it_is_said_by_how_much_not() {
        let oslo = TimeZone::get("Europe/Oslo").expect("a zone");
        let window = Window { from: time(21, 0, 0, 0), to: time(6, 0, 0, 0) };
        let fits = |start: &str, minutes| {
            let fit = window.fits(at(start), SignedDuration::from_mins(minutes), &oslo);
            fit.map(|fit| (fit.closes.to_string(), fit.over.map(|over| over.as_mins())))
        };
        let closes = |text: &str| text.to_owned();
        // From 21:40 local to 6:00 are 8 h 20 min; what would start at noon waits until 21:00.
        assert_eq!(fits("2026-11-12T20:40:00Z", 500), Some((closes("2026-11-13T05:00:00Z"), None)));
        assert_eq!(
            fits("2026-11-12T20:40:00Z", 530),
            Some((closes("2026-11-13T05:00:00Z"), Some(30)))
        );
        assert_eq!(fits("2026-11-12T11:00:00Z", 540), Some((closes("2026-11-13T05:00:00Z"), None)));
        // The night in which the clock goes forward is an hour shorter, the other an hour longer.
        assert_eq!(
            fits("2026-03-28T20:00:00Z", 540),
            Some((closes("2026-03-29T04:00:00Z"), Some(60)))
        );
        assert_eq!(fits("2026-10-24T19:00:00Z", 600), Some((closes("2026-10-25T05:00:00Z"), None)));
    }
}
