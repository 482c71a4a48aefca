//! Why a path was not restored.

use rustix::io::Errno;
use skellin_store::StoreError;

use crate::cause::Cause;

/// Why a path was not written.
pub(super) enum Failure {
    /// It concerns this path.
    Path(Cause),
    /// The file system takes nothing more; what it lacks is to be seen.
    NoRoom,
    /// It concerns what the store has of this path.
    Unreadable(StoreError),
    /// It concerns everything.
    All(StoreError),
    /// The work was stopped.
    Stopped,
}

impl From<StoreError> for Failure {
    fn from(error: StoreError) -> Self {
        if error.is_unreadable() { Self::Unreadable(error) } else { Self::All(error) }
    }
}

/// What the system says of a path.
pub(super) fn failed(error: Errno) -> Failure {
    match error {
        Errno::PERM | Errno::ACCESS => Failure::Path(Cause::denied()),
        Errno::NOSPC | Errno::DQUOT => Failure::NoRoom,
        error => Failure::Path(Cause::of("cannot write it", error)),
    }
}
