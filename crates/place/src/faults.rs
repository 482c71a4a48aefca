//! A wrapper that makes chosen operations go wrong.

use std::{
    sync::{
        Arc,
        atomic::{AtomicU64, Ordering},
    },
    thread,
    time::Duration,
};

use crate::{Extent, Listed, ObjectName, Operation, Place, PlaceError, PlaceErrorKind};

/// What happens to an operation.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Fault {
    /// It fails and has no effect.
    Fail,
    /// It fails although it had its effect (an answer that got lost).
    LostAnswer,
    /// A creation leaves half the object under its name and fails; a read or list fails midway.
    Tear,
    /// It succeeds, later.
    Delay(Duration),
    /// It fails, and so does everything after it.
    Down,
}

/// A place whose n-th operation (counted from 0) meets a fault.
#[derive(Debug)]
pub struct FaultyPlace {
    inner: Arc<dyn Place>,
    at: u64,
    fault: Fault,
    count: AtomicU64,
}

impl FaultyPlace {
    /// Wraps a place.
    #[must_use]
    pub fn new(inner: Arc<dyn Place>, at: u64, fault: Fault) -> Self {
        Self { inner, at, fault, count: AtomicU64::new(0) }
    }

    /// How many operations were asked for so far.
    #[must_use]
    pub fn operations(&self) -> u64 {
        self.count.load(Ordering::SeqCst)
    }

    fn due(&self) -> Option<Fault> {
        let number = self.count.fetch_add(1, Ordering::SeqCst);
        let hit = number == self.at || (self.fault == Fault::Down && number > self.at);
        if let (true, Fault::Delay(time)) = (hit, self.fault) {
            thread::sleep(time);
            return None;
        }
        hit.then_some(self.fault)
    }

    fn failure(operation: Operation, subject: &str) -> PlaceError {
        let source = std::io::Error::other("injected fault");
        PlaceError {
            operation,
            subject: subject.into(),
            kind: PlaceErrorKind::Failed,
            source: Some(source),
            hint: None,
        }
    }
}

impl Place for FaultyPlace {
    fn room(&self) -> Option<(u64, u64)> {
        self.inner.room()
    }

    fn describe(&self) -> String {
        self.inner.describe()
    }

    fn create(&self, name: &ObjectName, bytes: &[u8]) -> Result<(), PlaceError> {
        match self.due() {
            None => return self.inner.create(name, bytes),
            Some(Fault::LostAnswer) => self.inner.create(name, bytes)?,
            Some(Fault::Tear) => self.inner.create(name, &bytes[..bytes.len() / 2])?,
            Some(_) => {}
        }
        Err(Self::failure(Operation::Create, name.as_str()))
    }

    fn read(
        &self,
        name: &ObjectName,
        extent: Extent,
        into: &mut Vec<u8>,
    ) -> Result<(), PlaceError> {
        if self.due().is_none() {
            return self.inner.read(name, extent, into);
        }
        Err(Self::failure(Operation::Read, name.as_str()))
    }

    fn list(&self, folder: &str, each: &mut dyn FnMut(Listed)) -> Result<(), PlaceError> {
        match self.due() {
            None => return self.inner.list(folder, each),
            Some(Fault::Tear) => {
                let mut left = 1;
                self.inner.list(folder, &mut |listed| {
                    if left > 0 {
                        left -= 1;
                        each(listed);
                    }
                })?;
            }
            Some(_) => {}
        }
        Err(Self::failure(Operation::List, folder))
    }

    fn delete(&self, name: &ObjectName) -> Result<(), PlaceError> {
        match self.due() {
            None => return self.inner.delete(name),
            Some(Fault::LostAnswer) => self.inner.delete(name)?,
            Some(_) => {}
        }
        Err(Self::failure(Operation::Delete, name.as_str()))
    }

    fn sweep(&self, age_seconds: u64) -> Result<(), PlaceError> {
        self.inner.sweep(age_seconds)
    }
}
