//! Whether a plan is due: decided from what it says, what has been, and the time; nothing is looked
//! at here.

use jiff::{SignedDuration, Timestamp, civil, tz::TimeZone};

use crate::{local::moment, schedule::Schedule};

/// How runs are started beside the moments of the schedule.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Starting {
    /// Whether it also runs once after each start of the machine.
    pub on_boot: bool,
    /// Whether it also runs when a drive of its store appears.
    pub on_drive: bool,
    /// Whether a moment that was missed is made up.
    pub catch_up: bool,
    /// Up to so much later than the moment, fixed for each plan and machine.
    pub spread: SignedDuration,
    /// When it may start.
    pub window: Option<Window>,
    /// What happens after a run that came to nothing.
    pub retry: Option<Retry>,
    /// Whether snapshots that nothing retains expire after each good run.
    pub expire: bool,
    /// When a restore is tried.
    pub drill: Option<Schedule>,
}

impl Default for Starting {
    fn default() -> Self {
        Self {
            on_boot: false,
            on_drive: false,
            catch_up: true,
            spread: SignedDuration::ZERO,
            window: None,
            retry: None,
            expire: false,
            drill: None,
        }
    }
}

/// The hours in which a plan may start; they may go over midnight.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Window {
    /// From this time of day,
    pub from: civil::Time,
    /// up to this.
    pub to: civil::Time,
}

/// How often a run that came to nothing is tried again, and after what pause.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Retry {
    /// How often.
    pub times: u32,
    /// How long after its end.
    pub pause: SignedDuration,
}

/// A run there has been.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Attempt {
    /// When it started.
    pub started: Timestamp,
    /// When it ended; that of one that goes on is now.
    pub ended: Timestamp,
    /// Whether it made a snapshot.
    pub good: bool,
    /// Whether it came to nothing through no fault of its own: the machine went down, or whoever had
    /// started it.
    pub cut: bool,
}

/// What has been.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Past {
    /// Runs of the plan, by hand included, newest first.
    pub attempts: Vec<Attempt>,
    /// Since when the plan is there: before its first run nothing earlier was missed.
    pub since: Timestamp,
    /// When the machine started.
    pub booted: Option<Timestamp>,
    /// When a drive of its store last appeared.
    pub drive: Option<Timestamp>,
}

/// Why a plan starts.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Why {
    /// Its moment has come.
    Moment,
    /// Its moment was missed, and is made up.
    Missed,
    /// The last run came to nothing; this is so many times again.
    Again(u32),
    /// The machine has started.
    Boot,
    /// A drive of its store has appeared.
    Drive,
    /// Somebody asked for it.
    Asked,
}

/// When a plan starts next.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Due {
    /// From when on it may start; it is due once this has come.
    pub at: Timestamp,
    /// Why.
    pub why: Why,
}

/// So many runs in a row that were cut off are made up for; what cuts off more of them may be the run.
const CUTS: usize = 3;
/// A moment counts as missed if its run has not started so much later.
const LATE: SignedDuration = SignedDuration::from_mins(10);
/// Where nothing is made up, a moment is given up so much later.
const GIVEN_UP: SignedDuration = SignedDuration::from_hours(1);
/// No more moments than this are gone through to find the last that was missed.
const MOST: usize = 100_000;

impl Window {
    /// The first moment from one on at which a plan may start.
    #[must_use]
    pub fn opens(&self, from: Timestamp, zone: &TimeZone) -> Timestamp {
        let local = from.to_zoned(zone.clone());
        let time = local.time();
        let inside = match self.from <= self.to {
            true => self.from <= time && time < self.to,
            false => self.from <= time || time < self.to,
        };
        if inside {
            return from;
        }
        let today = moment(local.date().to_datetime(self.from), zone);
        let tomorrow = local.date().tomorrow().ok();
        let tomorrow = tomorrow.and_then(|day| moment(day.to_datetime(self.from), zone));
        [today, tomorrow].into_iter().flatten().find(|opens| *opens > from).unwrap_or(from)
    }
}

impl Starting {
    /// How much later than its moments a plan starts: always the same for one plan of one machine.
    #[must_use]
    pub fn offset(&self, plan: &str, machine: &str) -> SignedDuration {
        let seconds = u64::try_from(self.spread.as_secs()).unwrap_or(0);
        if seconds == 0 {
            return SignedDuration::ZERO;
        }
        // FNV-1a (Fowler, Noll and Vo): any hash would do, as long as it stays what it is.
        let hash = plan.bytes().chain([0]).chain(machine.bytes());
        let hash = hash.fold(0xcbf2_9ce4_8422_2325u64, |hash, byte| {
            (hash ^ u64::from(byte)).wrapping_mul(0x0100_0000_01b3)
        });
        let hash = (hash ^ (hash >> 32)) % (seconds + 1);
        SignedDuration::from_secs(i64::try_from(hash).unwrap_or(0))
    }

    /// When a plan starts next; none if nothing starts it.
    #[must_use]
    pub fn next(
        &self,
        schedule: Option<&Schedule>,
        past: &Past,
        offset: SignedDuration,
        now: Timestamp,
        zone: &TimeZone,
    ) -> Option<Due> {
        // What was cut off has served no moment.
        let cut = past.attempts.iter().take_while(|attempt| attempt.cut).count();
        let served = if cut <= CUTS { &past.attempts[cut..] } else { &past.attempts };
        let past = &Past { attempts: served.to_vec(), ..past.clone() };
        let newest = past.attempts.first().copied();
        let since_last = |moment: Timestamp| newest.is_none_or(|newest| newest.started < moment);
        let mut wishes = Vec::new();
        if let Some(schedule) = schedule {
            wishes.extend(self.by_the_clock(schedule, past, offset, now, zone));
        }
        if let (Some(retry), Some(newest)) = (self.retry, newest.filter(|newest| !newest.good)) {
            let failed = self.failed_in_a_row(schedule, past, zone);
            if failed <= retry.times {
                wishes.push(Due { at: newest.ended + retry.pause, why: Why::Again(failed) });
            }
        }
        let occasions =
            [(self.on_boot, past.booted, Why::Boot), (self.on_drive, past.drive, Why::Drive)];
        for (_, moment, why) in occasions.into_iter().filter(|(wanted, ..)| *wanted) {
            wishes.extend(moment.filter(|at| since_last(*at)).map(|at| Due { at, why }));
        }
        let first = wishes.into_iter().min_by_key(|due| due.at)?;
        let at = match &self.window {
            // What lies behind is asked for now.
            Some(window) => window.opens(first.at.max(now), zone),
            None => first.at,
        };
        Some(Due { at, ..first })
    }

    /// By its own moments: the last one that was missed, else the next.
    fn by_the_clock(
        &self,
        schedule: &Schedule,
        past: &Past,
        offset: SignedDuration,
        now: Timestamp,
        zone: &TimeZone,
    ) -> Option<Due> {
        let newest = past.attempts.first();
        if let Schedule::Every { .. } = schedule {
            // Counted from the last success; one that fails is not tried without end.
            let after = |last: Timestamp| schedule.next(last, Some(last), zone);
            let good = past.attempts.iter().find(|attempt| attempt.good);
            let by_good = good.map(|good| after(good.started));
            let at = match newest {
                Some(newest) if newest.good => after(newest.started),
                Some(newest) => by_good
                    .filter(|at| newest.started < *at)
                    .unwrap_or_else(|| after(newest.started)),
                None => past.since,
            };
            let is_missed = now.duration_since(at) > LATE && newest.is_some();
            let why = if is_missed { Why::Missed } else { Why::Moment };
            return Some(Due { at, why });
        }
        let from = newest.map_or(past.since, |newest| newest.started);
        let passed = schedule.moments(from, now, None, zone, MOST);
        if let Some(moment) = passed.last() {
            let at = *moment + offset;
            let late = now.duration_since(at);
            if self.catch_up || late <= GIVEN_UP {
                let why = if late > LATE { Why::Missed } else { Why::Moment };
                return Some(Due { at, why });
            }
        }
        Some(Due { at: schedule.next(now, None, zone) + offset, why: Why::Moment })
    }

    /// How many runs in a row came to nothing since the moment the first of them was for.
    fn failed_in_a_row(&self, schedule: Option<&Schedule>, past: &Past, zone: &TimeZone) -> u32 {
        let newest = past.attempts.first().map(|newest| newest.started);
        let moment = match (schedule, newest) {
            // The moment that the newest attempt was for is the last before it.
            (Some(schedule @ (Schedule::Days { .. } | Schedule::Cron(_))), Some(newest)) => {
                let before = past.attempts.iter().map(|attempt| attempt.started).min();
                let from = before.unwrap_or(newest) - SignedDuration::from_hours(24);
                schedule.moments(from, newest, None, zone, MOST).last().copied()
            }
            _ => None,
        };
        let failed = past.attempts.iter().take_while(|attempt| {
            !attempt.good && moment.is_none_or(|moment| attempt.started >= moment)
        });
        u32::try_from(failed.count()).unwrap_or(u32::MAX)
    }
}

#[cfg(test)]
#[path = "due_tests.rs"]
mod tests;
