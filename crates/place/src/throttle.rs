//! Using no more of a line than is allowed at the hour.

use std::{
    fmt,
    io::{self, Read},
    sync::{Arc, Condvar, Mutex, PoisonError},
    time::{Duration, Instant},
};

/// Sent or taken between two looks at the clock, in bytes.
pub(crate) const PIECE: usize = 32 << 10;
/// So much may go through at once after a pause.
const BURST: Duration = Duration::from_millis(50);

/// A limit that all connections of a place share.
pub struct Throttle {
    limit: Box<dyn Fn() -> Option<u64> + Send + Sync>,
    /// When what has been let through until now will have gone through.
    busy_until: Mutex<Instant>,
    /// How often somebody gave up what waits.
    given_up: Mutex<u64>,
    quit: Condvar,
}

impl fmt::Debug for Throttle {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "Throttle({:?})", (self.limit)())
    }
}

/// The limits of both ways; none for as much as goes through.
#[derive(Clone, Debug, Default)]
pub struct Throttles {
    /// To the place.
    pub up: Option<Arc<Throttle>>,
    /// From the place.
    pub down: Option<Arc<Throttle>>,
}

impl Throttle {
    /// `limit` is asked again and again: bytes a second, or none.
    pub fn new(limit: impl Fn() -> Option<u64> + Send + Sync + 'static) -> Arc<Self> {
        Arc::new(Self {
            limit: Box::new(limit),
            busy_until: Mutex::new(Instant::now()),
            given_up: Mutex::new(0),
            quit: Condvar::new(),
        })
    }

    /// Takes a turn for so many bytes; how long to wait before they may go.
    pub(crate) fn turn(&self, bytes: usize) -> Duration {
        let now = Instant::now();
        let Some(rate) = (self.limit)() else { return Duration::ZERO };
        let mut busy_until = self.busy_until.lock().unwrap_or_else(PoisonError::into_inner);
        let begin = (*busy_until).max(now.checked_sub(BURST).unwrap_or(now));
        *busy_until = begin + Duration::from_secs_f64(bytes as f64 / rate.max(1) as f64);
        busy_until.saturating_duration_since(now)
    }

    /// Waits until so many bytes may go.
    ///
    /// # Errors
    /// If nobody wants them to go any more.
    pub(crate) fn wait(&self, bytes: usize) -> io::Result<()> {
        let given_up = self.given_up.lock().unwrap_or_else(PoisonError::into_inner);
        let (pause, before) = (self.turn(bytes), *given_up);
        let waited = self.quit.wait_timeout_while(given_up, pause, |now| *now == before);
        let is_wanted = *waited.unwrap_or_else(PoisonError::into_inner).0 == before;
        match is_wanted {
            true => Ok(()),
            false => Err(io::Error::new(io::ErrorKind::ConnectionAborted, "nobody waits for it")),
        }
    }

    fn give_up(&self) {
        *self.given_up.lock().unwrap_or_else(PoisonError::into_inner) += 1;
        self.quit.notify_all();
    }
}

impl Throttles {
    /// Ends what waits for its turn.
    pub(crate) fn give_up(&self) {
        [&self.up, &self.down].into_iter().flatten().for_each(|throttle| throttle.give_up());
    }
}

/// Waits where there is a limit.
pub(crate) async fn wait_async(throttle: Option<&Arc<Throttle>>, bytes: usize) {
    if let Some(throttle) = throttle {
        let pause = throttle.turn(bytes);
        if !pause.is_zero() {
            tokio::time::sleep(pause).await;
        }
    }
}

/// Bytes that come no faster than allowed.
pub(crate) struct Throttled<'a, R> {
    pub inner: R,
    pub throttle: Option<&'a Arc<Throttle>>,
}

impl<R: Read> Read for Throttled<'_, R> {
    fn read(&mut self, into: &mut [u8]) -> io::Result<usize> {
        let Some(throttle) = self.throttle else { return self.inner.read(into) };
        let most = into.len().min(PIECE);
        let got = self.inner.read(&mut into[..most])?;
        throttle.wait(got)?;
        Ok(got)
    }
}

/// Slower than this nothing is waited for, in bytes a second.
const LEAST_RATE: f64 = 64.0;

/// Bytes that come at least at a rate at which they will ever have come: a server that gives one
/// now and then is given up on once this takes longer than `grace` more than it may.
pub(crate) struct Paced<R> {
    inner: R,
    begun: Instant,
    grace: Duration,
    got: u64,
}

impl<R> Paced<R> {
    pub fn new(inner: R, grace: Duration) -> Self {
        Self { inner, begun: Instant::now(), grace, got: 0 }
    }
}

impl<R: Read> Read for Paced<R> {
    fn read(&mut self, into: &mut [u8]) -> io::Result<usize> {
        let got = self.inner.read(into)?;
        self.got += got as u64;
        let allowed = self.grace + Duration::from_secs_f64(self.got as f64 / LEAST_RATE);
        match got > 0 && self.begun.elapsed() > allowed {
            true => Err(io::Error::new(io::ErrorKind::TimedOut, "the transfer is too slow")),
            false => Ok(got),
        }
    }
}

#[cfg(test)]
mod tests {
    use std::sync::atomic::{AtomicU64, Ordering};

    use proptest::prelude::*;

    use super::*;

    proptest! {
        #[test]
        fn turns_add_up_to_the_rate(pieces in proptest::collection::vec(1usize..100_000, 1..40), rate in 1_000u64..1_000_000) {
            let throttle = Throttle::new(move || Some(rate));
            let begun = Instant::now();
            let last = pieces.iter().fold(Duration::ZERO, |_, bytes| throttle.turn(*bytes));
            let all = pieces.iter().sum::<usize>() as f64 / rate as f64;
            let (least, most) = (all - BURST.as_secs_f64() - begun.elapsed().as_secs_f64(), all);
            let last = last.as_secs_f64();
            prop_assert!(last >= (least - 1e-3).max(0.0) && last <= most + 1e-3, "{last} of {least} to {most}");
        }
    }

    #[test]
    fn the_limit_of_the_moment_counts() {
        static RATE: AtomicU64 = AtomicU64::new(0);
        let rate = || Some(RATE.load(Ordering::SeqCst)).filter(|rate| *rate > 0);
        let throttle = Throttle::new(rate);
        assert_eq!(throttle.turn(1 << 30), Duration::ZERO);
        RATE.store(1000, Ordering::SeqCst);
        assert!(throttle.turn(10_000) > Duration::from_secs(9));
        RATE.store(0, Ordering::SeqCst);
        assert_eq!(throttle.turn(1 << 30), Duration::ZERO);
    }

    #[test]
    fn a_turn_that_nobody_wants_any_more_is_not_waited_for() {
        let throttle = Throttle::new(|| Some(1));
        let throttles = Throttles { up: Some(Arc::clone(&throttle)), down: None };
        std::thread::scope(|scope| {
            let waiting = scope.spawn(|| throttle.wait(100_000));
            while !waiting.is_finished() {
                throttles.give_up();
                std::thread::yield_now();
            }
            let error = waiting.join().expect("no panic").expect_err("a day would be too long");
            assert_eq!(error.kind(), io::ErrorKind::ConnectionAborted);
        });
        assert!(throttle.turn(1) > Duration::from_secs(1000), "what comes later waits as ever");
    }
}
