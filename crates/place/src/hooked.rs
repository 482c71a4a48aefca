//! A wrapper that tells somebody of each operation before it is done, who may wait, do something in
//! between, or refuse it; for tests.

use std::{fmt, sync::Arc};

use crate::{Extent, Listed, ObjectName, Operation, Place, PlaceError};

type Hook = dyn Fn(Operation, &str) -> Result<(), PlaceError> + Send + Sync;

/// A place of which each operation is told, with the object or folder.
pub struct HookedPlace {
    inner: Arc<dyn Place>,
    before: Box<Hook>,
    after: Box<Hook>,
}

impl fmt::Debug for HookedPlace {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.debug_tuple("HookedPlace").field(&self.inner).finish()
    }
}

impl HookedPlace {
    /// Each operation is told before it is done, and not done if that is refused.
    #[must_use]
    pub fn before(
        inner: Arc<dyn Place>,
        before: impl Fn(Operation, &str) -> Result<(), PlaceError> + Send + Sync + 'static,
    ) -> Self {
        Self { inner, before: Box::new(before), after: Box::new(|_, _| Ok(())) }
    }

    /// Each operation is told when it was done, and has failed if that says so.
    #[must_use]
    pub fn after(
        inner: Arc<dyn Place>,
        after: impl Fn(Operation, &str) -> Result<(), PlaceError> + Send + Sync + 'static,
    ) -> Self {
        Self { inner, before: Box::new(|_, _| Ok(())), after: Box::new(after) }
    }

    fn told<T>(
        &self,
        operation: Operation,
        name: &str,
        work: impl FnOnce(&dyn Place) -> Result<T, PlaceError>,
    ) -> Result<T, PlaceError> {
        (self.before)(operation, name)?;
        let done = work(&*self.inner)?;
        (self.after)(operation, name)?;
        Ok(done)
    }
}

impl Place for HookedPlace {
    fn room(&self) -> Option<(u64, u64)> {
        self.inner.room()
    }

    fn describe(&self) -> String {
        self.inner.describe()
    }

    fn is_far(&self) -> bool {
        self.inner.is_far()
    }

    fn create(&self, name: &ObjectName, bytes: &[u8]) -> Result<(), PlaceError> {
        self.told(Operation::Create, name.as_str(), |inner| inner.create(name, bytes))
    }

    fn read(
        &self,
        name: &ObjectName,
        extent: Extent,
        into: &mut Vec<u8>,
    ) -> Result<(), PlaceError> {
        self.told(Operation::Read, name.as_str(), |inner| inner.read(name, extent, into))
    }

    fn list(&self, folder: &str, each: &mut dyn FnMut(Listed)) -> Result<(), PlaceError> {
        self.told(Operation::List, folder, |inner| inner.list(folder, each))
    }

    fn delete(&self, name: &ObjectName) -> Result<(), PlaceError> {
        self.told(Operation::Delete, name.as_str(), |inner| inner.delete(name))
    }

    fn sweep(&self, age_seconds: u64) -> Result<(), PlaceError> {
        self.inner.sweep(age_seconds)
    }
}
