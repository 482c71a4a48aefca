//! What can go wrong with a store.

use skellin_place::{NameError, PlaceError};

/// A failure of a store operation: what failed, on what.
#[derive(Debug, thiserror::Error)]
#[non_exhaustive]
pub enum StoreError {
    /// The place under the store failed.
    #[error(transparent)]
    Place(#[from] PlaceError),
    /// There is no store at the place.
    #[error("no store at {0}")]
    NoStore(String),
    /// There is one already.
    #[error("there is already a store at {0}")]
    Occupied(String),
    /// The object was written by a newer version.
    #[error("{object} needs a newer Skellin: {need}")]
    Newer {
        /// The object.
        object: String,
        /// What this version does not know.
        need: String,
    },
    /// No slot opens with this passphrase.
    #[error("wrong passphrase")]
    WrongPassphrase {
        /// How many slots were tried.
        slots: usize,
    },
    /// The new passphrase opens the store already.
    #[error("this passphrase already opens the store")]
    KnownPassphrase,
    /// The passphrase to revoke is the one in use.
    #[error("this is the passphrase in use")]
    OwnPassphrase,
    /// The passphrase opens the store for restores alone.
    #[error("this passphrase only restores: nothing can be written to the store with it")]
    RestoreOnly,
    /// No slot has such an id, or several have.
    #[error("no passphrase, or more than one, has an id that begins with {0}")]
    NoSlot(String),
    /// An object does not hold what it must.
    #[error("{object} is damaged: {why}")]
    Damaged {
        /// The object.
        object: String,
        /// What is wrong with it.
        why: String,
    },
    /// A chunk is in no container that is there.
    #[error("content {0} is missing from the store")]
    Lost(String),
    /// The work was cancelled.
    #[error("cancelled")]
    Cancelled,
    /// An earlier failure of the same run makes going on pointless.
    #[error("the run stopped after an earlier failure: {0}")]
    Stopped(String),
    /// The run was declared dead by a reclaim and must be done again.
    #[error("the run was revoked by a reclaim of the store")]
    Revoked,
    /// The run relied on containers that turned out damaged, and must be done again without them.
    #[error("{0} is damaged, and the run relied on it")]
    Unsound(String),
    /// The place does not have what a reclaim relies on, or something keeps it from knowing what is
    /// needed.
    #[error("nothing was reclaimed: {0}")]
    NoReclaim(Unfit),
    /// The snapshot has expired.
    #[error("snapshot {0} has expired meanwhile")]
    Expired(crate::RunId),
    /// Something of the local machine failed: cache, memory map, random numbers.
    #[error("{what}: {source}")]
    Local {
        /// What was attempted.
        what: String,
        /// Why it failed.
        source: std::io::Error,
    },
}

/// Why a reclaim would not be safe.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
pub enum Unfit {
    /// The account may not delete.
    #[error("this account cannot delete ({0})")]
    CannotDelete(String),
    /// What was created or deleted shows in listings only later.
    #[error("the place lists what was written or deleted only later")]
    ListsLate,
    /// Something that cannot be read says what a snapshot needs.
    #[error("{why}, so that nobody can tell what snapshot {snapshot} needs")]
    Unreadable {
        /// What is wrong.
        why: String,
        /// The snapshot.
        snapshot: crate::RunId,
    },
    /// The index could not be read to its end.
    #[error("the index could not be read to its end")]
    Index,
}

/// Result of a store operation.
pub type Result<T, E = StoreError> = std::result::Result<T, E>;

impl StoreError {
    pub(crate) fn damaged(object: impl Into<String>, why: impl Into<String>) -> Self {
        Self::Damaged { object: object.into(), why: why.into() }
    }

    pub(crate) fn local(what: impl Into<String>, source: std::io::Error) -> Self {
        Self::Local { what: what.into(), source }
    }

    /// What is wrong, without the name of the object.
    #[must_use]
    pub fn in_short(&self) -> String {
        match self {
            Self::Damaged { why, .. } => why.clone(),
            Self::Place(error) => error.reason(),
            other => other.to_string(),
        }
    }

    /// Whether the line to the place breaks each time before something of this size is through.
    #[must_use]
    pub fn is_narrow(&self) -> bool {
        matches!(self, Self::Place(error) if error.kind == skellin_place::PlaceErrorKind::Narrow)
    }

    /// Whether it says that bytes at the place are not what was written.
    #[must_use]
    pub fn is_damage(&self) -> bool {
        use skellin_place::PlaceErrorKind::{NotFound, Short};
        match self {
            Self::Damaged { .. } | Self::Lost(_) => true,
            // A sector that cannot be read is lost like bytes that were changed.
            Self::Place(error) => matches!(error.kind, NotFound | Short) || error.is_lost_sector(),
            _ => false,
        }
    }

    /// Whether something is not there, of which a copy may be elsewhere.
    pub(crate) fn is_gone(&self) -> bool {
        match self {
            Self::Lost(_) => true,
            Self::Place(error) => error.is_not_found(),
            _ => false,
        }
    }

    /// Whether it concerns one object alone: it is damaged, or cannot be read by this account or
    /// from this medium, and others may.
    #[must_use]
    pub fn is_unreadable(&self) -> bool {
        self.is_damage() || matches!(self, Self::Place(error) if error.is_of_the_object())
    }
}

impl From<NameError> for StoreError {
    fn from(error: NameError) -> Self {
        Self::damaged("an object's name", error.to_string())
    }
}
