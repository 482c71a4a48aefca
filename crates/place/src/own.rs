//! Files that are met where others may write: opened without following a last link and without
//! blocking, checked to be plain files, and read up to a bound.

use std::{
    fs::File,
    io::{self, Read},
    os::fd::{AsFd, OwnedFd},
    path::Path,
};

use rustix::{
    fs::{CWD, FileType, Mode, OFlags, fstat, openat},
    io::Errno,
};

/// Opens a directory for looking into it; `follow`: whether a link may lead to it.
///
/// # Errors
/// As the operating system says.
pub fn open_folder(at: impl AsFd, path: &Path, follow: bool) -> io::Result<OwnedFd> {
    let flags = OFlags::RDONLY | OFlags::DIRECTORY | OFlags::CLOEXEC;
    let flags = if follow { flags } else { flags | OFlags::NOFOLLOW };
    Ok(openat(at, path, flags, Mode::empty())?)
}

/// Opens a plain file for reading; a link, pipe or device in its place is refused at once.
///
/// # Errors
/// As the operating system says; `InvalidInput` if it is no plain file.
pub fn open_plain_at(at: impl AsFd, name: &Path) -> io::Result<File> {
    let flags = OFlags::RDONLY | OFlags::NOFOLLOW | OFlags::NONBLOCK | OFlags::CLOEXEC;
    match openat(at, name, flags, Mode::empty()) {
        Ok(file) => plain(file),
        Err(Errno::LOOP) => Err(not_plain()),
        Err(error) => Err(error.into()),
    }
}

/// As [`open_plain_at`], by a path whose last part may be a link: the user's own word.
///
/// # Errors
/// As [`open_plain_at`].
pub fn open_plain(path: &Path) -> io::Result<File> {
    let flags = OFlags::RDONLY | OFlags::NONBLOCK | OFlags::CLOEXEC;
    plain(openat(CWD, path, flags, Mode::empty())?)
}

fn plain(file: OwnedFd) -> io::Result<File> {
    let facts = fstat(&file)?;
    match FileType::from_raw_mode(facts.st_mode) {
        FileType::RegularFile => Ok(File::from(file)),
        _ => Err(not_plain()),
    }
}

fn not_plain() -> io::Error {
    io::Error::new(io::ErrorKind::InvalidInput, "it is a link, pipe or device, not a regular file")
}

/// Reads a file to its end, up to a bound in bytes.
///
/// # Errors
/// `FileTooLarge` beyond it, or as the operating system says.
pub fn read_up_to(file: File, most: u64) -> io::Result<Vec<u8>> {
    // Room for what it holds now: growing would copy, and take twice as much.
    let size = file.metadata()?.len().min(most);
    let mut bytes = Vec::with_capacity(usize::try_from(size).unwrap_or_default() + 1);
    file.take(most.saturating_add(1)).read_to_end(&mut bytes)?;
    if bytes.len() as u64 > most {
        let why = format!("it is longer than {most} bytes");
        return Err(io::Error::new(io::ErrorKind::FileTooLarge, why));
    }
    Ok(bytes)
}

/// Who owns a file, and who may do what: only we or root may have written it, and only we may read
/// it. Else why not, and the command that mends it but for the file's name.
///
/// # Errors
/// As the operating system says.
pub fn is_private(file: &File) -> io::Result<Result<(), (String, String)>> {
    let facts = fstat(file)?;
    if let Err(wrong) = is_owned(&facts) {
        return Ok(Err(wrong));
    }
    let mode = facts.st_mode & 0o777;
    if mode & 0o077 != 0 {
        let why = format!("others can read it (mode {mode:o})");
        return Ok(Err((why, "chmod 600".to_owned())));
    }
    Ok(Ok(()))
}

/// Whether what is met belongs to us or to root; else why that matters, and what mends it.
///
/// # Errors
/// As said.
pub fn is_owned(facts: &rustix::fs::Stat) -> Result<(), (String, String)> {
    let own = rustix::process::geteuid().as_raw();
    if facts.st_uid != own && facts.st_uid != 0 {
        let why = format!("it belongs to another account (number {})", facts.st_uid);
        return Err((why, format!("chown {own}")));
    }
    Ok(())
}
