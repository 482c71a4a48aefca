//! Where chunks and pages lie.

use crate::containers::Location;

/// Where a chunk or page lies, as far as it is known.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub enum Spot {
    /// Only the index can tell.
    #[default]
    Unknown,
    /// Here.
    At(Location),
    /// In a block that is still open, by the number its writer gave it.
    Open {
        /// The writer's number of the block.
        token: u64,
        /// Number of the chunk in the block.
        chunk: u16,
    },
}
