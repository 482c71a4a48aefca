//! The bytes of an index segment, in memory or in a file, and how stretches of them are read.

use crate::error::{Result, StoreError};

/// Bytes of a segment, wherever they are.
pub(crate) trait SegmentBytes: Send + Sync {
    /// How many there are.
    fn len(&self) -> u64;
    /// Reads some of them; `false` if they cannot be read any more.
    fn read(&self, at: u64, into: &mut [u8]) -> bool;
}

impl SegmentBytes for Vec<u8> {
    fn len(&self) -> u64 {
        self.as_slice().len() as u64
    }

    fn read(&self, at: u64, into: &mut [u8]) -> bool {
        let part =
            usize::try_from(at).ok().and_then(|at| self.get(at..at.checked_add(into.len())?));
        part.map(|part| into.copy_from_slice(part)).is_some()
    }
}

pub(super) fn misfit(object: &str) -> StoreError {
    StoreError::damaged(object, "its tables do not fit together")
}

/// Reads a stretch of what is there; lengths are compared with that before anything is made room for.
pub(super) fn stretch(
    source: &dyn SegmentBytes,
    at: u64,
    length: u64,
    object: &str,
) -> Result<Vec<u8>> {
    let end = at.checked_add(length).filter(|end| *end <= source.len());
    let mut bytes = vec![0; end.map_or(0, |_| length as usize)];
    (end.is_some() && source.read(at, &mut bytes)).then_some(bytes).ok_or_else(|| misfit(object))
}
