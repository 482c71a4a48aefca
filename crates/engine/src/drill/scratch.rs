//! The directory a drill restores into: of our own, empty at the beginning and gone at the end.

use std::{
    fs::{self, DirBuilder, Permissions},
    io,
    os::unix::fs::{DirBuilderExt, PermissionsExt},
    path::{Path, PathBuf},
};

use crate::error::{EngineError, Result};

/// A scratch directory; it is removed when this is let go of.
pub(super) struct Scratch(PathBuf);

impl Scratch {
    /// Makes it. What a drill that was killed has left there is removed: whoever makes one holds the
    /// lock of its plan's drills.
    pub fn make(below: &Path, plan: &str) -> Result<Self> {
        let folder = below.join("drill");
        // Whoever can write to the store says what its plans are called.
        let path = folder.join(&blake3::hash(plan.as_bytes()).to_hex()[..16]);
        let failed = |error| EngineError::local("write to", &path, error);
        DirBuilder::new().recursive(true).mode(0o700).create(&folder).map_err(failed)?;
        remove(&path).map_err(failed)?;
        DirBuilder::new().mode(0o700).create(&path).map_err(failed)?;
        Ok(Self(path))
    }

    pub fn path(&self) -> &Path {
        &self.0
    }

    /// Removes it, and says if it could not.
    pub fn remove(&self) -> Result<()> {
        remove(&self.0).map_err(|error| EngineError::local("remove", &self.0, error))
    }
}

impl Drop for Scratch {
    fn drop(&mut self) {
        // The next drill tries again.
        let _ = remove(&self.0);
    }
}

/// Removes a directory with all below it, also where restored modes keep its owner out.
fn remove(path: &Path) -> io::Result<()> {
    match fs::remove_dir_all(path) {
        Err(error) if error.kind() == io::ErrorKind::NotFound => Ok(()),
        Err(error) if error.kind() == io::ErrorKind::PermissionDenied => {
            open_up(path)?;
            fs::remove_dir_all(path)
        }
        other => other,
    }
}

/// Lets the owner into every directory below a path.
fn open_up(path: &Path) -> io::Result<()> {
    let mut waiting = vec![path.to_path_buf()];
    while let Some(folder) = waiting.pop() {
        fs::set_permissions(&folder, Permissions::from_mode(0o700))?;
        for entry in fs::read_dir(&folder)? {
            let entry = entry?;
            if entry.file_type()?.is_dir() {
                waiting.push(entry.path());
            }
        }
    }
    Ok(())
}
