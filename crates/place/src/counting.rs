//! A wrapper that counts what is asked of a place, for measurements.

use std::sync::{Arc, Mutex, PoisonError};

use crate::{Extent, Listed, ObjectName, Place, PlaceError};

/// A place as if it were far away, each request to it counted and named.
#[derive(Debug)]
pub struct CountingPlace {
    inner: Arc<dyn Place>,
    names: Mutex<Vec<String>>,
}

impl CountingPlace {
    /// Wraps a place.
    #[must_use]
    pub fn new(inner: Arc<dyn Place>) -> Self {
        Self { inner, names: Mutex::default() }
    }

    /// Requests since the last time this was asked, each in words.
    pub fn take(&self) -> Vec<String> {
        std::mem::take(&mut *self.names.lock().unwrap_or_else(PoisonError::into_inner))
    }

    fn note(&self, what: &str, name: &str) {
        let mut names = self.names.lock().unwrap_or_else(PoisonError::into_inner);
        names.push(format!("{what} {name}"));
    }
}

impl Place for CountingPlace {
    fn room(&self) -> Option<(u64, u64)> {
        self.inner.room()
    }

    fn describe(&self) -> String {
        self.inner.describe()
    }

    fn is_far(&self) -> bool {
        true
    }

    fn create(&self, name: &ObjectName, bytes: &[u8]) -> Result<(), PlaceError> {
        self.note("create", name.as_str());
        self.inner.create(name, bytes)
    }

    fn read(
        &self,
        name: &ObjectName,
        extent: Extent,
        into: &mut Vec<u8>,
    ) -> Result<(), PlaceError> {
        self.note("read", name.as_str());
        self.inner.read(name, extent, into)
    }

    fn list(&self, folder: &str, each: &mut dyn FnMut(Listed)) -> Result<(), PlaceError> {
        self.note("list", folder);
        self.inner.list(folder, each)
    }

    fn delete(&self, name: &ObjectName) -> Result<(), PlaceError> {
        self.note("delete", name.as_str());
        self.inner.delete(name)
    }

    fn sweep(&self, age_seconds: u64) -> Result<(), PlaceError> {
        self.note("sweep", "");
        self.inner.sweep(age_seconds)
    }
}
