//! Small files written whole or not at all, secrets only for their owner.

use std::{
    fs::{self, OpenOptions},
    io::{self, Write},
    os::unix::fs::{DirBuilderExt, OpenOptionsExt, PermissionsExt},
    path::Path,
};

use crate::{
    error::{EngineError, Result},
    refusal::Refusal,
    secrets::Passphrase,
};

/// Replaces the text of a plan's file, whole or not at all, if it still is what it was.
///
/// # Errors
/// If it has changed since, or cannot be written.
pub fn replace_plan_text(path: &Path, expected: &str, text: &str) -> Result<()> {
    let read = fs::read_to_string(path).map_err(|error| EngineError::local("read", path, error))?;
    if read != expected {
        return Err(Refusal::ChangedMeanwhile(path.to_path_buf()).into());
    }
    let mode = fs::metadata(path).map_or(0o644, |metadata| metadata.permissions().mode() & 0o777);
    write_whole(path, text.as_bytes(), mode, true)
}

pub(crate) fn make_directory(path: &Path) -> Result<()> {
    let made = fs::DirBuilder::new().recursive(true).mode(0o755).create(path);
    made.map_err(|error| EngineError::local("create", path, error))
}

/// A key goes into a file only its owner can read; one that is there is never written over.
pub(crate) fn write_key(path: &Path, passphrase: &Passphrase) -> Result<()> {
    let failed = |error: io::Error| EngineError::local("write the key to", path, error);
    if let Some(folder) = path.parent() {
        make_directory(folder)?;
    }
    let mut file =
        OpenOptions::new().write(true).create_new(true).mode(0o600).open(path).map_err(failed)?;
    file.write_all(passphrase).and_then(|()| file.write_all(b"\n")).map_err(failed)?;
    file.sync_all().map_err(failed)
}

/// As [`write_key`], over a file that is there.
pub(crate) fn replace_private(path: &Path, secret: &[u8]) -> Result<()> {
    let line = zeroize::Zeroizing::new([secret, b"\n"].concat());
    write_whole(path, &line, 0o600, true)
}

/// Adds a table to a file and leaves all that stands in it as it is.
pub(crate) fn append(path: &Path, table: &str) -> Result<()> {
    let before = match fs::read_to_string(path) {
        Ok(text) => text,
        Err(error) if error.kind() == io::ErrorKind::NotFound => String::new(),
        Err(error) => return Err(EngineError::local("read", path, error)),
    };
    let gap = match before.as_str() {
        "" => "",
        text if text.ends_with('\n') => "\n",
        _ => "\n\n",
    };
    write_whole(path, format!("{before}{gap}{table}").as_bytes(), 0o644, true)
}

/// Writes a new file whole or not at all.
pub(crate) fn create_whole(path: &Path, bytes: &[u8], mode: u32) -> Result<()> {
    write_whole(path, bytes, mode, false)
}

pub(crate) fn write_whole(path: &Path, bytes: &[u8], mode: u32, replace: bool) -> Result<()> {
    let failed = |error: io::Error| EngineError::local("write", path, error);
    let name = path.file_name().unwrap_or_default().to_string_lossy();
    let beside = path.with_file_name(format!(".{name}.{}", std::process::id()));
    let written = || {
        let mut file =
            OpenOptions::new().write(true).create(true).truncate(true).mode(mode).open(&beside)?;
        file.write_all(bytes)?;
        file.sync_all()?;
        match replace {
            true => fs::rename(&beside, path)?,
            // A link fails where a rename would replace.
            false => {
                fs::hard_link(&beside, path)?;
                fs::remove_file(&beside)?;
            }
        }
        let folder = path.parent().unwrap_or(Path::new("/"));
        fs::File::open(folder)?.sync_all()
    };
    written().map_err(|error| {
        // What failed has left nothing behind, or what it left is only beside.
        let _ = fs::remove_file(&beside);
        failed(error)
    })
}
