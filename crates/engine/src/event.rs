//! What long work tells while it goes on. The terminal application, the progress line and
//! `--progress json` are three readers of the same events.

use std::{fmt, time::Duration};

use crate::cause::Cause;

/// How far a run, a restore or a verification is.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct Progress {
    /// Paths done with.
    pub files: u64,
    /// All paths, as far as that is known.
    pub total_files: Option<u64>,
    /// Bytes done with: read, or found unchanged.
    pub bytes: u64,
    /// All bytes, as far as that is known.
    pub total_bytes: Option<u64>,
    /// Bytes read from the sources, or from the store.
    pub read: u64,
    /// Bytes handled in a second, lately.
    pub rate: f64,
    /// Time left, where it can be told.
    pub left: Option<Duration>,
    /// What is being read.
    pub path: Vec<u8>,
    /// Exceptions so far.
    pub exceptions: u64,
}

/// Something that happened.
#[derive(Clone, Debug, PartialEq)]
pub enum Event {
    /// Work began; the name is a plan's or a store's.
    Begun {
        /// `run`, `dry-run`, `restore`, `verify`.
        work: &'static str,
        /// Of what.
        name: String,
    },
    /// It goes on.
    Progress(Progress),
    /// A path could not be handled.
    Exception(Exception),
    /// A word about something that is no failure.
    Note(String),
    /// Something is waited for, or goes on again.
    Waiting(Waited),
    /// It ended, one way or the other.
    Ended,
}

/// Something that nothing goes on without.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Waited {
    /// What it is: a place, a host, a path.
    pub subject: String,
    /// Why, if it fails and is tried again; else it just does not answer.
    pub why: Option<String>,
    /// For so long nothing went on.
    pub since: Duration,
    /// Whether it goes on again.
    pub is_over: bool,
}

impl fmt::Display for Waited {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let (subject, seconds) = (&self.subject, self.since.as_secs());
        match (&self.why, self.is_over) {
            (_, true) => write!(f, "{subject} responds again"),
            (Some(why), false) => {
                write!(f, "waiting for {subject}, {seconds} s: {why}; retrying")
            }
            (None, false) => write!(f, "waiting for {subject}, {seconds} s: no answer yet"),
        }
    }
}

/// A path that could not be handled.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Exception {
    /// The full path.
    pub path: Vec<u8>,
    /// Why not.
    pub cause: Cause,
}

/// Takes events. It is called from many threads and must not block for long.
pub trait EventSink: Send + Sync {
    /// Takes one.
    fn event(&self, event: Event);
}

impl<F: Fn(Event) + Send + Sync> EventSink for F {
    fn event(&self, event: Event) {
        self(event);
    }
}

/// A rate over the last few seconds, and the time left that follows from it.
#[derive(Debug)]
pub(crate) struct Meter {
    samples: std::collections::VecDeque<(std::time::Instant, f64)>,
}

/// The rate is taken over this time.
const MEMORY: Duration = Duration::from_secs(8);

impl Meter {
    pub fn new() -> Self {
        Self { samples: std::collections::VecDeque::new() }
    }

    /// Notes an amount done so far; the amount a second.
    pub fn rate(&mut self, now: std::time::Instant, done: f64) -> f64 {
        self.samples.push_back((now, done));
        while self.samples.len() > 2
            && self.samples.front().is_some_and(|(at, _)| now.duration_since(*at) > MEMORY)
        {
            self.samples.pop_front();
        }
        let Some((first, start)) = self.samples.front() else { return 0.0 };
        let seconds = now.duration_since(*first).as_secs_f64();
        if seconds > 0.0 { (done - start) / seconds } else { 0.0 }
    }
}

/// Time for what is left at a rate; `None` if nothing moves.
pub(crate) fn time_left(left: f64, rate: f64) -> Option<Duration> {
    (rate > 0.0).then(|| Duration::try_from_secs_f64(left.max(0.0) / rate).ok()).flatten()
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::time::Instant;

    #[test]
    fn the_rate_forgets_what_is_long_ago() {
        let (start, mut meter) = (Instant::now(), Meter::new());
        meter.rate(start, 0.0);
        assert!((meter.rate(start + Duration::from_secs(2), 200.0) - 100.0).abs() < 1e-9);
        for second in 3..30 {
            meter.rate(start + Duration::from_secs(second), 200.0 + (second - 2) as f64 * 10.0);
        }
        assert!((meter.rate(start + Duration::from_secs(30), 480.0) - 10.0).abs() < 1e-6);
        assert_eq!(time_left(100.0, 10.0), Some(Duration::from_secs(10)));
        assert_eq!(time_left(100.0, 0.0), None);
    }
}
