//! A lock that a panic elsewhere does not spoil.

use std::sync::{Mutex, MutexGuard, PoisonError};

/// Locks; what a thread that panicked left is as good as before.
pub(crate) fn locked<T>(mutex: &Mutex<T>) -> MutexGuard<'_, T> {
    mutex.lock().unwrap_or_else(PoisonError::into_inner)
}
