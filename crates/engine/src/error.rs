//! What stops work altogether, as against exceptions, which concern one path.

use std::path::{Path, PathBuf};

use skellin_place::PlaceError;
use skellin_store::StoreError;

use crate::places::mounts::missing_mount;

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
    /// A name that nothing has.
    #[error("{what}")]
    Unknown {
        /// What is not there.
        what: String,
        /// What to do.
        hint: String,
    },
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

/// The account this program runs under.
fn own_account() -> String {
    let own = rustix::process::geteuid().as_raw();
    uzers::get_user_by_uid(own)
        .map_or(format!("user {own}"), |user| user.name().to_string_lossy().into_owned())
}

/// Whether an object is needed to open a store at all.
fn is_of_the_door(object: &str) -> bool {
    object.starts_with("skellin-store") || object.starts_with("keys")
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

    /// What to do about it, if anything can be said.
    #[must_use]
    pub fn hint(&self) -> Option<String> {
        use skellin_place::PlaceErrorKind as Kind;
        let place_hint = |error: &PlaceError| match error.kind {
            Kind::Cut | Kind::Slow | Kind::Narrow | Kind::Busy
                if error.operation == skellin_place::Operation::Create =>
            {
                Some(
                    "try again; what was stored so far is used by the next run. If only storing fails, the server may be full or refuse large files: check its log",
                )
            }
            Kind::Busy => Some("try again later, or check the log of the server"),
            Kind::Cut | Kind::Slow | Kind::Narrow => {
                Some("try again; what was stored so far is used by the next run")
            }
            // Where a drive is missing, no store is to be created.
            Kind::Missing if missing_mount(Path::new(&error.subject)).is_some() => {
                Some("mount the drive that belongs there")
            }
            Kind::Missing => Some(
                "check the path, and whether its drive is mounted; a new store: skellin store create",
            ),
            Kind::Full => Some("free space there; what was stored so far is used by the next run"),
            Kind::ReadOnly => Some("mount the medium writable"),
            _ => None,
        };
        let hint = match self {
            Self::Store(error @ StoreError::Place(_)) if error.is_damage() => {
                "skellin verify lists all damage and the files it affects".to_owned()
            }
            Self::Place(error) | Self::Store(StoreError::Place(error)) => match &error.hint {
                Some(hint) => hint.clone(),
                None if error.kind == Kind::Refused => {
                    format!("let {} read and write {}", own_account(), error.subject)
                }
                None => place_hint(error)?.to_owned(),
            },
            Self::Store(StoreError::NoStore(place)) if missing_mount(Path::new(place)).is_some() => {
                "mount the drive that belongs there".to_owned()
            }
            Self::Store(StoreError::NoStore(_)) => {
                "check the path, and whether its drive is mounted; a new store: skellin store create"
                    .to_owned()
            }
            Self::Unmounted { mount, .. } => format!(
                "mount the drive at {}; or choose a directory elsewhere for a store on this disk",
                mount.display()
            ),
            Self::WrongPassphrase(_) | Self::Store(StoreError::WrongPassphrase { .. }) => {
                "check which passphrase belongs to this store".to_owned()
            }
            Self::Store(StoreError::Damaged { object, .. }) if is_of_the_door(object) => {
                "the store cannot be opened without it, and both copies are damaged: put back an older copy of this object, or restore from another store of the plan".to_owned()
            }
            Self::Store(
                StoreError::Damaged { .. } | StoreError::Lost(_) | StoreError::Unsound(_),
            ) => {
                "skellin verify lists all damage and the files it affects".to_owned()
            }
            Self::Store(StoreError::KnownPassphrase) => "choose another one".to_owned(),
            Self::Store(StoreError::OwnPassphrase) => {
                "add another one, open the store with that, then revoke this one; or use change"
                    .to_owned()
            }
            Self::Store(StoreError::NoSlot(_)) => {
                "skellin passphrase list shows the ids".to_owned()
            }
            Self::Store(StoreError::Newer { .. }) => "install a newer version".to_owned(),
            Self::Store(StoreError::Occupied(_)) => {
                "choose an empty directory, or use the store that is there".to_owned()
            }
            Self::Journal { path, .. } => format!(
                "give this account access to {}, or move the file away; a new one is started",
                path.display()
            ),
            Self::AlreadyRunning(_) => "wait until it is done".to_owned(),
            Self::StewardRuns => "one is enough for all plans; stop it before starting another".to_owned(),
            Self::NotEntered { .. } => {
                "nothing was read; try the command by hand, or continue without it: if-enter-fails = \"go-on\"".to_owned()
            }
            Self::LinkAbove { link, target } => format!(
                "if that is right: --through {}={}; else restore elsewhere with --to DIR",
                link.display(),
                target.display()
            ),
            Self::Untrusted { mend, .. } => mend.clone(),
            Self::NoPassphrase(_) => "in stores.toml: passphrase = { file = \"…\" }".to_owned(),
            Self::NoSources(_) => "check mounts and permissions".to_owned(),
            Self::Unknown { hint, .. } | Self::Secret { hint, .. } => hint.clone(),
            _ => return None,
        };
        Some(hint)
    }
}
