//! What each thread of a run works on, and since when.

use std::{
    collections::HashMap,
    sync::Mutex,
    thread::ThreadId,
    time::{Duration, Instant},
};

use crate::locked::locked;

/// What each thread works on.
#[derive(Default)]
pub(super) struct Activity(Mutex<HashMap<ThreadId, (Vec<u8>, Instant)>>);

impl Activity {
    /// Notes what this thread is about to work on.
    pub fn begin(&self, path: &[u8]) {
        let mut doing = locked(&self.0);
        let (known, since) = doing
            .entry(std::thread::current().id())
            .or_insert_with(|| (Vec::new(), Instant::now()));
        known.clear();
        known.extend_from_slice(path);
        *since = Instant::now();
    }

    /// Notes that this thread works on nothing.
    pub fn end(&self) {
        locked(&self.0).remove(&std::thread::current().id());
    }

    /// What was begun last.
    pub fn newest(&self) -> Vec<u8> {
        let doing = locked(&self.0);
        let last = doing.values().max_by_key(|(_, since)| *since);
        last.map_or_else(Vec::new, |(path, _)| path.clone())
    }

    /// What a thread has been working on for longest, and since when.
    pub fn longest(&self) -> Option<(Vec<u8>, Duration)> {
        let doing = locked(&self.0);
        let (path, since) = doing.values().min_by_key(|(_, since)| *since)?;
        Some((path.clone(), since.elapsed()))
    }
}
