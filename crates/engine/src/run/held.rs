//! Directories of the source stay open for as long as something in them is to be looked at, opened or
//! read, and no longer: content of small files waits for others to fill a block with, and a million
//! directories must not be open meanwhile.

use std::sync::{Arc, Mutex};

use crate::{locked::locked, sources::SourceDir};

/// An open directory, and how many still need it.
pub(super) struct Held(Mutex<State>);

struct State {
    source_dir: Option<Arc<SourceDir>>,
    users: usize,
}

impl Held {
    /// One that its own directory needs.
    pub fn new() -> Self {
        Self(Mutex::new(State { source_dir: None, users: 1 }))
    }

    /// What is open.
    pub fn get(&self) -> Option<Arc<SourceDir>> {
        locked(&self.0).source_dir.clone()
    }

    /// Whether it lies on another host, and is known.
    pub fn is_far(&self) -> bool {
        matches!(locked(&self.0).source_dir.as_deref(), Some(SourceDir::Far(_)))
    }

    /// Notes that it is open; whoever is first counts.
    pub fn put(&self, source_dir: SourceDir) -> Arc<SourceDir> {
        Arc::clone(locked(&self.0).source_dir.get_or_insert_with(|| Arc::new(source_dir)))
    }

    /// One more needs it.
    pub fn retain(&self) {
        locked(&self.0).users += 1;
    }

    /// One of those who need it needs it no more.
    pub fn release(&self) {
        let mut state = locked(&self.0);
        state.users = state.users.saturating_sub(1);
        // What lies on another host holds nothing open.
        let is_over =
            state.users == 0 && matches!(state.source_dir.as_deref(), Some(SourceDir::Here(_)));
        let closed = is_over.then(|| state.source_dir.take());
        drop(state);
        drop(closed);
    }
}
