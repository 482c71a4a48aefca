//! How long objects of each kind can be at most, in bytes: a place that shows more is not believed,
//! and nothing is made room for before it has come.

use crate::format::{header::Layout, ids::Class};

/// Headers and slots.
pub(crate) const SMALL: u64 = 64 << 10;
/// Records of runs and reclaims, which list containers.
pub(crate) const RECORD: u64 = 32 << 20;
/// Snapshots, with the plan's text and a list of containers.
pub(crate) const SNAPSHOT: u64 = 64 << 20;
/// Index segments.
pub(crate) const SEGMENT: u64 = 1 << 30;
/// Bundles of snapshots.
pub(crate) const BUNDLE: u64 = 128 << 20;
/// The directory of a container comes on top of its blocks.
const DIRECTORY: u64 = 256 << 20;

impl Layout {
    /// Containers.
    pub(crate) fn longest_container(&self) -> u64 {
        2 * u64::from(self.container) + DIRECTORY
    }

    /// Sealed blocks: the compressor never makes content much longer than it was.
    pub(crate) fn longest_block(&self, class: Class) -> u64 {
        let block = match class {
            Class::Data => self.data_block,
            Class::Tree => self.tree_block,
        };
        2 * (u64::from(block) + u64::from(self.chunk_max)) + (1 << 20)
    }
}
