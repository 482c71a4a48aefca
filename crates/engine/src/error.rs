//! What stops work altogether, as against exceptions, which concern one path.

use std::path::{Path, PathBuf};

use skellin_place::PlaceError;
use skellin_store::StoreError;

use crate::places::missing_mount;

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
    #[error("the plan `{0}` is being run already")]
    AlreadyRunning(String),
    /// Another process is the steward.
    #[error("a steward is running already")]
    StewardRuns,
    /// A command before the sources are read came to nothing.
    #[error("`{command}` before the sources are read: {why}")]
    NotEntered {
        /// The command.
        command: String,
        /// Why.
        why: String,
    },
    /// None of the plan's sources can be read.
    #[error("none of the sources of `{0}` can be read")]
    NoSources(String),
    /// What is restored in place would go through a link that nobody agreed to.
    #[error("{} is a link to {} now, and what is restored would go there", link.display(), target.display())]
    LinkAbove {
        /// The link.
        link: PathBuf,
        /// What it points to.
        target: PathBuf,
    },
    /// Configuration that others may write.
    #[error("{} is not obeyed: {why}", path.display())]
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
    #[error("the secret for {subject} could not be read: {why}")]
    Secret {
        /// What it is for.
        subject: String,
        /// Why not.
        why: String,
        /// What to do.
        hint: String,
    },
    /// The configuration names no way to a store's passphrase, so that it has to be asked for.
    #[error("no passphrase is named for the store `{0}`")]
    NoPassphrase(String),
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
        matches!(self, Self::Cancelled | Self::Store(StoreError::Cancelled))
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
                    "try again; what was stored so far is used by the next run. If it is storing alone that fails, the server may be full, or refuse what is this large: look at its log",
                )
            }
            Kind::Busy => Some("try again later, or look at the server's log"),
            Kind::Cut | Kind::Slow | Kind::Narrow => {
                Some("try again; what was stored so far is kept and used by the next run")
            }
            // Where a drive is missing, no store is to be created.
            Kind::Missing if missing_mount(Path::new(&error.subject)).is_some() => {
                Some("mount the drive that belongs there")
            }
            Kind::Missing => Some(
                "check the path, and whether its drive is mounted; a new store: skellin store create",
            ),
            Kind::Full => Some(
                "make room at the place; what was stored so far is kept and used by the next run",
            ),
            Kind::ReadOnly => Some("mount the medium writable"),
            _ => None,
        };
        let hint = match self {
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
            Self::Store(StoreError::WrongPassphrase { .. }) => {
                "check which passphrase belongs to this store".to_owned()
            }
            Self::Store(StoreError::Damaged { object, .. }) if is_of_the_door(object) => {
                "without it nothing opens the store, and both copies of it are damaged: put back an older copy of that object if the place keeps any, or restore from another store of the plan".to_owned()
            }
            Self::Store(
                StoreError::Damaged { .. } | StoreError::Lost(_) | StoreError::Unsound(_),
            ) => {
                "`skellin verify` names everything that is damaged and the files it touches".to_owned()
            }
            Self::Store(StoreError::Newer { .. }) => "install a newer version".to_owned(),
            Self::Store(StoreError::Occupied(_)) => {
                "choose an empty directory, or use the store that is there".to_owned()
            }
            Self::Journal { path, .. } => format!(
                "give this account access to {}, or put the file aside; a new one is begun",
                path.display()
            ),
            Self::AlreadyRunning(_) => "wait until it is done".to_owned(),
            Self::StewardRuns => "one is enough for all plans; stop it first if it is to be another".to_owned(),
            Self::NotEntered { .. } => {
                "nothing was read; try the command by hand, or let the run go on without it: if-enter-fails = \"go-on\"".to_owned()
            }
            Self::LinkAbove { link, target } => format!(
                "if that is where it belongs, say --through {}={}; else restore it elsewhere with --to DIR",
                link.display(),
                target.display()
            ),
            Self::Untrusted { mend, .. } => mend.clone(),
            Self::NoPassphrase(_) => "name a way to it in stores.toml: passphrase = { file = \"…\" }".to_owned(),
            Self::NoSources(_) => "are they mounted? may this account read them?".to_owned(),
            Self::Unknown { hint, .. } | Self::Secret { hint, .. } => hint.clone(),
            _ => return None,
        };
        Some(hint)
    }
}
