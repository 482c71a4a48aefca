//! Files of the made-up world, and the secret that guards nothing.

use std::{fs, io, os::unix::fs::PermissionsExt, path::Path};

use crate::cli::error::CliError;

/// The demo's secret; it guards nothing.
pub(super) const PASSPHRASE: &str = "gulls over the ridge";

/// Writes a file, its directory too.
pub(super) fn write(path: &Path, text: &str) -> Result<(), CliError> {
    let made =
        path.parent().map_or(Ok(()), fs::create_dir_all).and_then(|()| fs::write(path, text));
    made.map_err(|error| failed(path, &error))
}

/// A file that nobody else can read.
pub(super) fn private(path: &Path, text: &str) -> Result<(), CliError> {
    write(path, text)?;
    fs::set_permissions(path, fs::Permissions::from_mode(0o600))
        .map_err(|error| failed(path, &error))
}

/// A program.
pub(super) fn executable(path: &Path, text: &str) -> Result<(), CliError> {
    write(path, text)?;
    fs::set_permissions(path, fs::Permissions::from_mode(0o755))
        .map_err(|error| failed(path, &error))
}

/// Why the world cannot be made.
pub(super) fn failed(path: &Path, error: &io::Error) -> CliError {
    CliError::failed(
        format!("the demo could not write {}: {error}", path.display()),
        Some("choose another directory with --dir".to_owned()),
    )
}
