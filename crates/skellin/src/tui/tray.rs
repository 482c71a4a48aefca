//! What lies on the tray: paths of any snapshots, to be restored together.

use skellin_store::RunId;

/// A path of a snapshot that somebody wants back.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(super) struct Gathered {
    pub path: Vec<u8>,
    pub store: String,
    pub snapshot: RunId,
    /// When the snapshot was made, in milliseconds since 1970.
    pub time: i64,
    pub is_directory: bool,
    pub size: u64,
}
