//! A wrapper that tries again what may succeed a little later.

use std::{
    sync::{
        Arc,
        atomic::{AtomicBool, Ordering},
    },
    thread,
    time::Duration,
};

use crate::{Extent, Listed, ObjectName, Place, PlaceError, PlaceErrorKind};

/// How often and after what pauses.
#[derive(Clone, Copy, Debug)]
pub struct Retries {
    /// How often it is tried again.
    pub most: u32,
    /// The first pause; each next one is twice as long, and each is shortened at random by up to a
    /// half, so that many that failed together do not come back together.
    pub pause: Duration,
}

impl Default for Retries {
    fn default() -> Self {
        Self { most: 5, pause: Duration::from_millis(500) }
    }
}

/// A place whose passing failures are tried again: connections that break off, answers that do not
/// come. Refusals are handed on as they are.
#[derive(Debug)]
pub struct RetryingPlace {
    inner: Arc<dyn Place>,
    retries: Retries,
    /// Whether it has answered yet. A host that never did is hardly there a moment later.
    answered: AtomicBool,
}

impl RetryingPlace {
    /// Wraps a place.
    #[must_use]
    pub fn new(inner: Arc<dyn Place>, retries: Retries) -> Self {
        Self { inner, retries, answered: AtomicBool::new(false) }
    }

    fn again<T>(
        &self,
        mut work: impl FnMut(u32) -> Result<T, PlaceError>,
    ) -> Result<T, PlaceError> {
        let mut tried = 0;
        loop {
            let done = work(tried);
            let is_away = done.as_ref().is_err_and(|error| {
                error.kind == PlaceErrorKind::Unreachable && !self.answered.load(Ordering::Relaxed)
            });
            match done {
                Err(error) if error.is_passing() && !is_away && tried < self.retries.most => {
                    thread::sleep(self.pause(tried));
                    tried += 1;
                }
                other => {
                    if !is_away {
                        self.answered.store(true, Ordering::Relaxed);
                    }
                    return other;
                }
            }
        }
    }

    fn pause(&self, tried: u32) -> Duration {
        let whole = self.retries.pause.saturating_mul(1 << tried.min(10));
        let mut byte = [0u8];
        // Without randomness the pause is whole.
        let _ = getrandom::fill(&mut byte);
        whole - whole.mul_f64(f64::from(byte[0]) / 512.0)
    }
}

impl Place for RetryingPlace {
    fn describe(&self) -> String {
        self.inner.describe()
    }

    fn is_far(&self) -> bool {
        self.inner.is_far()
    }

    fn create(&self, name: &ObjectName, bytes: &[u8]) -> Result<(), PlaceError> {
        self.again(|tried| match self.inner.create(name, bytes) {
            // The answer to an earlier try may have been lost, and the object is ours.
            Err(error) if error.kind == PlaceErrorKind::Exists && tried > 0 => {
                match self.inner.fetch(name)? == bytes {
                    true => Ok(()),
                    false => Err(error),
                }
            }
            other => other,
        })
    }

    fn read(
        &self,
        name: &ObjectName,
        extent: Extent,
        into: &mut Vec<u8>,
    ) -> Result<(), PlaceError> {
        self.again(|_| self.inner.read(name, extent, into))
    }

    fn list(&self, folder: &str, each: &mut dyn FnMut(Listed)) -> Result<(), PlaceError> {
        // Only a listing that came to its end is handed on, so that nothing is told twice.
        self.again(|_| self.inner.listing(folder))?.into_iter().for_each(each);
        Ok(())
    }

    fn delete(&self, name: &ObjectName) -> Result<(), PlaceError> {
        self.again(|_| self.inner.delete(name))
    }

    fn sweep(&self, age_seconds: u64) -> Result<(), PlaceError> {
        self.again(|_| self.inner.sweep(age_seconds))
    }
}
