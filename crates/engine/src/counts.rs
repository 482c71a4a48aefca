//! How much a run has looked at, read and stored.

/// Numbers of paths that are no directories.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct FileCounts {
    /// Not in the snapshot before.
    pub new: u64,
    /// In it, but different.
    pub changed: u64,
    /// In it, and no longer there.
    pub gone: u64,
    /// As they were.
    pub same: u64,
    /// Left out by a rule; a skipped directory counts once.
    pub skipped: u64,
}

/// Numbers of bytes.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct ByteCounts {
    /// Read from files; for a dry run, those a run would read.
    pub read: u64,
    /// Of content the store did not have.
    pub new: u64,
    /// Written to the place.
    pub stored: u64,
}
