//! Time and cancellation, handed in from outside.

use std::{
    sync::{
        Arc,
        atomic::{AtomicBool, AtomicI64, AtomicUsize, Ordering},
    },
    time::{SystemTime, UNIX_EPOCH},
};

/// Tells what time it is.
pub trait Clock: Send + Sync {
    /// Milliseconds since 1970, as runs and snapshots are dated.
    fn now(&self) -> i64;
}

/// Clocks are put right by this much at most without anything to be thought of it, in milliseconds.
const AHEAD: i64 = 5 * 60 * 1000;

/// Whether what is dated so was dated by a clock that was ahead; both in milliseconds since 1970.
#[must_use]
pub fn is_ahead(time: i64, now: i64) -> bool {
    time > now.saturating_add(AHEAD)
}

/// The system's time.
#[derive(Clone, Copy, Debug, Default)]
pub struct SystemClock;

impl Clock for SystemClock {
    fn now(&self) -> i64 {
        let since = SystemTime::now().duration_since(UNIX_EPOCH).unwrap_or_default();
        i64::try_from(since.as_millis()).unwrap_or(i64::MAX)
    }
}

/// A time that is moved by hand, for tests and the demo.
#[derive(Debug, Default)]
pub struct MovedClock(AtomicI64);

impl MovedClock {
    /// A clock that stands at a moment, in milliseconds since 1970.
    #[must_use]
    pub fn at(milliseconds: i64) -> Self {
        Self(AtomicI64::new(milliseconds))
    }

    /// Moves it.
    pub fn set(&self, milliseconds: i64) {
        self.0.store(milliseconds, Ordering::SeqCst);
    }
}

impl Clock for MovedClock {
    fn now(&self) -> i64 {
        self.0.load(Ordering::SeqCst)
    }
}

/// Tells long work to stop. Clones share the flag.
#[derive(Clone, Debug, Default)]
pub struct Cancel {
    raised: Arc<AtomicBool>,
    /// How much has to be done before the process may end, however long that takes.
    held: Arc<AtomicUsize>,
}

/// As long as it is there, the process does not end.
#[derive(Debug)]
pub struct Held(Arc<AtomicUsize>);

impl Drop for Held {
    fn drop(&mut self) {
        self.0.fetch_sub(1, Ordering::SeqCst);
    }
}

impl Cancel {
    /// A flag that is not raised.
    #[must_use]
    pub fn new() -> Self {
        Self::default()
    }

    /// Raises it.
    pub fn cancel(&self) {
        self.raised.store(true, Ordering::SeqCst);
    }

    /// Keeps an interrupted process from ending before something is done that has to be.
    #[must_use]
    pub fn hold(&self) -> Held {
        self.held.fetch_add(1, Ordering::SeqCst);
        Held(Arc::clone(&self.held))
    }

    /// Whether something is being done that has to be.
    #[must_use]
    pub fn is_held(&self) -> bool {
        self.held.load(Ordering::SeqCst) > 0
    }

    /// Whether it is raised.
    #[must_use]
    pub fn is_cancelled(&self) -> bool {
        self.raised.load(Ordering::Relaxed)
    }
}
