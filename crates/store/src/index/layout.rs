//! How segments are laid out: the sizes of their tables, and what these list.

use crate::{
    containers::ContainerLength,
    format::{
        container::Salt,
        ids::{ContainerId, Prefix, RunId},
        keys::WRAPPED,
    },
};

pub(super) const MAGIC: &[u8; 8] = b"SKINDEX1";
pub(super) const HEAD: usize = 48;
pub(super) const INPUT: usize = 24;
pub(super) const CONTAINER: usize = 48;
pub(super) const BLOCK: usize = 8;
pub(super) const LENGTH: usize = 8;
pub(super) const KEY: usize = 20 + WRAPPED;
pub(super) const PART: usize = 64;
/// In the head: lengths of the containers follow the records.
pub(super) const HAS_LENGTHS: u32 = 1;
/// In the head: filter and records lie in parts, which are listed at the end.
pub(super) const HAS_PARTS: u32 = 2;
/// The name of a segment: the run that wrote it, and its number there.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub(crate) struct SegmentId {
    pub run: RunId,
    pub number: u32,
}

impl std::fmt::Display for SegmentId {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        write!(f, "index/{}-{:08x}", self.run, self.number)
    }
}

/// A container as a segment lists it.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(crate) struct SegmentContainer {
    pub id: ContainerId,
    pub salt: Salt,
    /// Offset and sealed length of each block.
    pub blocks: Vec<(u32, u32)>,
    /// Bytes of the whole object; 0 if the segment does not say.
    pub length: u64,
}

impl SegmentContainer {
    /// Bytes of the whole object, or of its blocks if the segment does not say.
    pub fn bytes(&self) -> u64 {
        match self.required() {
            ContainerLength::Exactly(length) | ContainerLength::AtLeast(length) => length,
        }
    }

    /// How long it must be at the place.
    pub fn required(&self) -> ContainerLength {
        match self.length {
            0 => ContainerLength::AtLeast(
                self.blocks
                    .last()
                    .map_or(0, |(offset, length)| u64::from(*offset) + u64::from(*length)),
            ),
            length => ContainerLength::Exactly(length),
        }
    }
}

/// A part of the records of a long segment: an object of its own.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(crate) struct PartRow {
    pub records: u64,
    /// The least prefix in it.
    pub first: Prefix,
    /// BLAKE3 of its filter and records.
    pub hash: [u8; 32],
}
