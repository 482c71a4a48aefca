//! A place in memory, for tests and simulations.

use std::{
    collections::BTreeMap,
    sync::{Arc, Mutex, MutexGuard, PoisonError},
};

use crate::{Extent, Listed, ObjectName, Operation, Place, PlaceError, PlaceErrorKind};

/// Objects in memory. Clones share them.
#[derive(Clone, Debug, Default)]
pub struct MemoryPlace {
    objects: Arc<Mutex<BTreeMap<ObjectName, Vec<u8>>>>,
}

impl MemoryPlace {
    /// An empty place.
    #[must_use]
    pub fn new() -> Self {
        Self::default()
    }

    /// An independent copy as it is now.
    #[must_use]
    pub fn fork(&self) -> Self {
        Self { objects: Arc::new(Mutex::new(self.objects().clone())) }
    }

    /// Puts bytes in whatever was there before, as damage or a rollback would.
    pub fn overwrite(&self, name: &ObjectName, bytes: Vec<u8>) {
        self.objects().insert(name.clone(), bytes);
    }

    /// All names.
    #[must_use]
    pub fn names(&self) -> Vec<ObjectName> {
        self.objects().keys().cloned().collect()
    }

    fn objects(&self) -> MutexGuard<'_, BTreeMap<ObjectName, Vec<u8>>> {
        self.objects.lock().unwrap_or_else(PoisonError::into_inner)
    }
}

impl Place for MemoryPlace {
    fn describe(&self) -> String {
        "memory".to_owned()
    }

    fn create(&self, name: &ObjectName, bytes: &[u8]) -> Result<(), PlaceError> {
        let mut objects = self.objects();
        if objects.contains_key(name) {
            return Err(PlaceError::new(Operation::Create, name.as_str(), PlaceErrorKind::Exists));
        }
        objects.insert(name.clone(), bytes.to_vec());
        Ok(())
    }

    fn read(
        &self,
        name: &ObjectName,
        extent: Extent,
        into: &mut Vec<u8>,
    ) -> Result<(), PlaceError> {
        let fail = |kind| PlaceError::new(Operation::Read, name.as_str(), kind);
        let objects = self.objects();
        let bytes = objects.get(name).ok_or_else(|| fail(PlaceErrorKind::NotFound))?;
        let part = match extent {
            Extent::Within(most) if bytes.len() as u64 > most => {
                return Err(fail(PlaceErrorKind::Long));
            }
            Extent::Within(_) => Some(&bytes[..]),
            Extent::Tail(length) => {
                let length = usize::try_from(length).unwrap_or(usize::MAX).min(bytes.len());
                bytes.get(bytes.len() - length..)
            }
            Extent::Range { offset, length } => usize::try_from(offset)
                .ok()
                .zip(usize::try_from(offset.saturating_add(length)).ok())
                .and_then(|(from, to)| bytes.get(from..to)),
        };
        into.clear();
        into.extend_from_slice(part.ok_or_else(|| fail(PlaceErrorKind::Short))?);
        Ok(())
    }

    fn list(&self, folder: &str, each: &mut dyn FnMut(Listed)) -> Result<(), PlaceError> {
        for (name, bytes) in self.objects().iter().filter(|(name, _)| name.folder() == folder) {
            each(Listed { name: name.clone(), size: bytes.len() as u64 });
        }
        Ok(())
    }

    fn delete(&self, name: &ObjectName) -> Result<(), PlaceError> {
        self.objects().remove(name);
        Ok(())
    }

    fn sweep(&self, _age_seconds: u64) -> Result<(), PlaceError> {
        Ok(())
    }
}
