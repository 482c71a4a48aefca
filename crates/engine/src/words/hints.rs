//! What to do about a failure.

use std::path::Path;

use skellin_place::PlaceError;
use skellin_store::{StoreError, Unfit};

use crate::{error::EngineError, places::mounts::missing_mount};

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

impl EngineError {
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
            EngineError::Store(error @ StoreError::Place(_)) if error.is_damage() => {
                "skellin verify lists all damage and the files it affects".to_owned()
            }
            EngineError::Place(error) | EngineError::Store(StoreError::Place(error)) => match &error.hint {
                Some(hint) => hint.clone(),
                None if error.kind == Kind::Refused => {
                    format!("let {} read and write {}", own_account(), error.subject)
                }
                None => place_hint(error)?.to_owned(),
            },
            EngineError::Store(StoreError::NoStore(place)) if missing_mount(Path::new(place)).is_some() => {
                "mount the drive that belongs there".to_owned()
            }
            EngineError::Store(StoreError::NoStore(_)) => {
                "check the path, and whether its drive is mounted; a new store: skellin store create"
                    .to_owned()
            }
            EngineError::Unmounted { mount, .. } => format!(
                "mount the drive at {}; or choose a directory elsewhere for a store on this disk",
                mount.display()
            ),
            EngineError::WrongPassphrase(_) | EngineError::Store(StoreError::WrongPassphrase { .. }) => {
                "check which passphrase belongs to this store".to_owned()
            }
            EngineError::Store(StoreError::Damaged { object, .. }) if is_of_the_door(object) => {
                "the store cannot be opened without it, and both copies are damaged: put back an older copy of this object, or restore from another store of the plan".to_owned()
            }
            EngineError::Store(
                StoreError::Damaged { .. } | StoreError::Lost(_) | StoreError::Unsound(_),
            ) => {
                "skellin verify lists all damage and the files it affects".to_owned()
            }
            EngineError::Store(StoreError::NoReclaim(unfit)) => match unfit {
                Unfit::CannotDelete(_) => {
                    "reclaim with an account that may delete, or keep this store append-only".to_owned()
                }
                Unfit::ListsLate => {
                    "try again; if it stays so, the server cannot be reclaimed safely".to_owned()
                }
                Unfit::Unreadable { .. } | Unfit::Index => {
                    "skellin verify lists the damage; a run stores again what the sources still have".to_owned()
                }
            },
            EngineError::Store(StoreError::Expired(_)) => {
                "skellin history lists the snapshots that are left".to_owned()
            }
            EngineError::Store(StoreError::RestoreOnly) => {
                "use another passphrase of the store for that".to_owned()
            }
            EngineError::Store(StoreError::KnownPassphrase) => "choose another one".to_owned(),
            EngineError::Store(StoreError::OwnPassphrase) => {
                "add another one, open the store with that, then revoke this one; or use change"
                    .to_owned()
            }
            EngineError::Store(StoreError::NoSlot(_)) => {
                "skellin passphrase list shows the ids".to_owned()
            }
            EngineError::Store(StoreError::Newer { .. }) => "install a newer version".to_owned(),
            EngineError::Store(StoreError::Occupied(_)) => {
                "choose an empty directory, or use the store that is there".to_owned()
            }
            EngineError::Journal { path, .. } => format!(
                "give this account access to {}, or move the file away; a new one is started",
                path.display()
            ),
            EngineError::AlreadyRunning(_) | EngineError::AlreadyDrilling(_) => "wait until it is done".to_owned(),
            EngineError::StewardRuns => "one is enough for all plans; stop it before starting another".to_owned(),
            EngineError::NotEntered { .. } => {
                "nothing was read; try the command by hand, or continue without it: if-enter-fails = \"go-on\"".to_owned()
            }
            EngineError::LinkAbove { link, target } => format!(
                "if that is right: --through {}={}; else restore elsewhere with --to DIR",
                link.display(),
                target.display()
            ),
            EngineError::Untrusted { mend, .. } => mend.clone(),
            EngineError::NoPassphrase(_) => "in stores.toml: passphrase = { file = \"…\" }".to_owned(),
            EngineError::NoSources(_) => "check mounts and permissions".to_owned(),
            EngineError::Refused(refusal) => refusal.hint(),
            EngineError::Secret { hint, .. } => hint.clone(),
            _ => return None,
        };
        Some(hint)
    }
}
