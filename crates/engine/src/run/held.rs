//! Directories of the source stay open for as long as something in them is to be looked at, opened or
//! read, and no longer: content of small files waits for others to fill a block with, and a million
//! directories must not be open meanwhile.

use std::sync::{Arc, Mutex};

use crate::{ground::Ground, locked::locked};

/// An open directory, and how many still need it.
pub(super) struct Held(Mutex<State>);

struct State {
    ground: Option<Arc<Ground>>,
    users: usize,
}

impl Held {
    /// One that its own directory needs.
    pub fn new() -> Self {
        Self(Mutex::new(State { ground: None, users: 1 }))
    }

    /// What is open.
    pub fn get(&self) -> Option<Arc<Ground>> {
        locked(&self.0).ground.clone()
    }

    /// Whether it lies on another host, and is known.
    pub fn is_far(&self) -> bool {
        matches!(locked(&self.0).ground.as_deref(), Some(Ground::Far(_)))
    }

    /// Notes that it is open; whoever is first counts.
    pub fn put(&self, ground: Ground) -> Arc<Ground> {
        Arc::clone(locked(&self.0).ground.get_or_insert_with(|| Arc::new(ground)))
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
        let is_over = state.users == 0 && matches!(state.ground.as_deref(), Some(Ground::Here(_)));
        let closed = is_over.then(|| state.ground.take());
        drop(state);
        drop(closed);
    }
}
