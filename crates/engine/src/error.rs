//! What stops work altogether, as against exceptions, which concern one path.

use std::path::PathBuf;

use skellin_place::PlaceError;
use skellin_store::StoreError;

use crate::refusal::Refusal;

/// A failure of the engine: what failed, on what, and what to do next.
#[derive(Debug, thiserror::Error)]
#[non_exhaustive]
pub enum EngineError {
    /// The store failed.
    #[error(transparent)]
    Store(#[from] StoreError),
    /// The place failed.
    #[error(transparent)]
    Place(#[from] PlaceError),
    /// A file or directory of this machine failed.
    #[error("could not {what} {}: {source}", path.display())]
    Local {
        /// What was attempted.
        what: &'static str,
        /// On what.
        path: PathBuf,
        /// Why it failed.
        source: std::io::Error,
    },
    /// The plan is being run by another process.
    #[error("plan `{0}` is already running")]
    AlreadyRunning(String),
    /// The plan is being drilled by another process.
    #[error("plan `{0}` is already being drilled")]
    AlreadyDrilling(String),
    /// Another process is the steward.
    #[error("a steward is already running")]
    StewardRuns,
    /// A command before the sources are read came to nothing.
    #[error("`{command}`, before reading the sources: {why}")]
    NotEntered {
        /// The command.
        command: String,
        /// Why.
        why: String,
    },
    /// None of the plan's sources can be read.
    #[error("cannot read any source of plan `{0}`")]
    NoSources(String),
    /// What is restored in place would go through a link that nobody agreed to.
    #[error("{} is now a link to {}, and the restore would write there", link.display(), target.display())]
    LinkAbove {
        /// The link.
        link: PathBuf,
        /// What it points to.
        target: PathBuf,
    },
    /// Configuration that others may write.
    #[error("{} is ignored: {why}", path.display())]
    Untrusted {
        /// The file or directory.
        path: PathBuf,
        /// What is wrong with it.
        why: String,
        /// The command that mends it.
        mend: String,
    },
    /// What was asked for cannot be done so.
    #[error(transparent)]
    Refused(#[from] Refusal),
    /// The rules cannot be made ready.
    #[error("{0}")]
    Rules(String),
    /// A secret could not be obtained.
    #[error("cannot read the secret for {subject}: {why}")]
    Secret {
        /// What it is for.
        subject: String,
        /// Why not.
        why: String,
        /// What to do.
        hint: String,
    },
    /// The configuration names no way to a store's passphrase, so that it has to be asked for.
    #[error("no passphrase configured for store `{0}`")]
    NoPassphrase(String),
    /// A passphrase that opens no slot of a store.
    #[error("wrong passphrase for store {0}")]
    WrongPassphrase(String),
    /// The journal cannot be read or written.
    #[error("the journal {} failed: {why}", path.display())]
    Journal {
        /// The file.
        path: PathBuf,
        /// Why.
        why: String,
    },
    /// A store would be created where a file system belongs and none is mounted.
    #[error("nothing is mounted at {}: a store at {} would be on the system disk", mount.display(), path.display())]
    Unmounted {
        /// The store's directory.
        path: PathBuf,
        /// Where a file system belongs.
        mount: PathBuf,
    },
    /// The work was cancelled.
    #[error("cancelled")]
    Cancelled,
}

/// Result of engine work.
pub type Result<T, E = EngineError> = std::result::Result<T, E>;

impl EngineError {
    /// That of opening a store, which the configuration, or whoever asked, calls so.
    #[must_use]
    pub fn of_opening(error: StoreError, store: &str) -> Self {
        match error {
            StoreError::WrongPassphrase { .. } => Self::WrongPassphrase(store.to_owned()),
            error => error.into(),
        }
    }

    pub(crate) fn local(
        what: &'static str,
        path: impl Into<PathBuf>,
        source: impl Into<std::io::Error>,
    ) -> Self {
        Self::Local { what, path: path.into(), source: source.into() }
    }

    /// Whether this machine has no room left for a file of its own.
    #[must_use]
    pub fn is_no_room(&self) -> bool {
        use std::io::ErrorKind::{QuotaExceeded, ReadOnlyFilesystem, StorageFull};
        matches!(self, Self::Local { source, .. } if matches!(source.kind(), QuotaExceeded | ReadOnlyFilesystem | StorageFull))
    }

    /// Whether the work was interrupted and nothing else went wrong.
    #[must_use]
    pub fn is_cancelled(&self) -> bool {
        match self {
            Self::Cancelled | Self::Store(StoreError::Cancelled) => true,
            Self::Place(error) | Self::Store(StoreError::Place(error)) => {
                error.kind == skellin_place::PlaceErrorKind::GivenUp
            }
            _ => false,
        }
    }
}
