//! Containers whose bytes were found to be damaged, and how that is told to every run to come.

use std::{
    collections::BTreeMap,
    sync::{Mutex, MutexGuard, PoisonError},
};

use crate::format::ids::ContainerId;

/// A container that is damaged, and why it is taken to be.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Suspect {
    /// Its object at the place.
    pub object: String,
    /// What was found.
    pub why: String,
}

/// What was met, by container: why, and whether a record of it lies at the place.
#[derive(Default)]
pub(crate) struct Suspects(Mutex<BTreeMap<ContainerId, (String, bool)>>);

impl Suspects {
    pub fn lock(&self) -> MutexGuard<'_, BTreeMap<ContainerId, (String, bool)>> {
        self.0.lock().unwrap_or_else(PoisonError::into_inner)
    }
}
