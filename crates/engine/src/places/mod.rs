//! Places as stores are configured: opened, and prepared for a new store.

pub(crate) mod drives;
mod hosts;
mod keys;
pub(crate) mod mounts;
mod reach;
mod rotation;
pub(crate) mod targets;

use std::{path::PathBuf, sync::Arc};

use skellin_place::{
    DirectoryPlace, FtpPlace, Operation, Place, PlaceError, PlaceErrorKind, Retries, RetryingPlace,
    S3Place, SftpPlace, WebDavPlace,
};
use skellin_plan::{PlaceSpec, StoreConfig};
use skellin_store::FOLDERS;

pub use drives::{MountedDrive, mount_points, mounted_drives, prepare_drive};
pub use hosts::SourceHosts;
pub use mounts::missing_mount;
pub(crate) use reach::try_out;
pub use reach::{ReachStep, reach, reach_source};
pub use rotation::{DriveState, DriveStates, drive_states};

use crate::{error::Result, folders::Folders};

/// The directory of a store that lies on this machine now.
#[must_use]
pub fn local_directory(config: &StoreConfig, folders: &Folders) -> Option<PathBuf> {
    match &config.place {
        PlaceSpec::Directory(path) => Some(path.clone()),
        PlaceSpec::Drive(path) => drives::find(config, path, folders).ok().map(|drive| drive.root),
        _ => None,
    }
}

/// With retries, for what is reached over a line.
fn patient(config: &StoreConfig, place: impl Place + 'static) -> Arc<dyn Place> {
    Arc::new(RetryingPlace::new(Arc::new(place), retries(config)))
}

/// How long a line that is away is waited for.
pub(crate) fn retries(config: &StoreConfig) -> Retries {
    let patience = config.access.patience.map(std::time::Duration::from_secs);
    let usual = Retries::default();
    Retries { patience: patience.unwrap_or(usual.patience), ..usual }
}

/// Opens the place of a store.
///
/// # Errors
/// If it cannot be reached.
pub fn open_place(config: &StoreConfig, folders: &Folders) -> Result<Arc<dyn Place>> {
    Ok(match &config.place {
        PlaceSpec::Directory(path) => Arc::new(DirectoryPlace::open(path.clone())?),
        PlaceSpec::Drive(path) => {
            Arc::new(DirectoryPlace::open(drives::find(config, path, folders)?.root)?)
        }
        PlaceSpec::Sftp(host) => patient(config, SftpPlace::open(targets::sftp(host, config)?)?),
        PlaceSpec::S3(bucket) => patient(config, S3Place::new(targets::s3(bucket, config)?)?),
        PlaceSpec::WebDav { tls, host } => {
            patient(config, WebDavPlace::open(targets::webdav(*tls, host, config)?)?)
        }
        PlaceSpec::Ftp { tls, host } => {
            patient(config, FtpPlace::open(targets::ftp(*tls, host, config)?)?)
        }
    })
}

/// Opens a place that no configuration names.
///
/// # Errors
/// If it cannot be reached.
pub fn open_place_alone(spec: PlaceSpec) -> Result<Arc<dyn Place>> {
    open_place(&StoreConfig::at(spec), &Folders::default())
}

/// Makes a place ready for a new store that no configuration names yet.
///
/// # Errors
/// If it cannot be reached or written.
pub fn prepare_place_alone(spec: PlaceSpec) -> Result<Arc<dyn Place>> {
    prepare_place(&StoreConfig::at(spec))
}

/// Makes a place ready for a new store.
///
/// # Errors
/// If it cannot be reached or written. A drive has to be named: [`prepare_drive`].
pub fn prepare_place(config: &StoreConfig) -> Result<Arc<dyn Place>> {
    Ok(match &config.place {
        PlaceSpec::Directory(path) => Arc::new(DirectoryPlace::prepare(path.clone(), FOLDERS)?),
        PlaceSpec::Drive(_) => {
            let why = "the drive is not specified";
            let hint = format!(
                "skellin store create {} --on DIR (the mount point of the drive)",
                config.name
            );
            let place = config.place.to_string();
            return Err(PlaceError::because(Operation::Reach, place, PlaceErrorKind::Missing, why)
                .with_hint(hint)
                .into());
        }
        PlaceSpec::Sftp(host) => {
            patient(config, SftpPlace::prepare(targets::sftp(host, config)?, FOLDERS)?)
        }
        // A bucket has no folders; that it is there shows at once.
        PlaceSpec::S3(bucket) => {
            let place = S3Place::new(targets::s3(bucket, config)?)?;
            place.look()?;
            patient(config, place)
        }
        PlaceSpec::WebDav { tls, host } => {
            patient(config, WebDavPlace::prepare(targets::webdav(*tls, host, config)?, FOLDERS)?)
        }
        PlaceSpec::Ftp { tls, host } => {
            patient(config, FtpPlace::prepare(targets::ftp(*tls, host, config)?, FOLDERS)?)
        }
    })
}
