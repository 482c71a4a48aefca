//! The few file operations a directory place stands on, as a trait, so that tests can put a disk
//! under it that forgets what was not synced.

use std::{
    fmt::Debug,
    fs::{self, File, OpenOptions},
    io::{self, Read, Seek, SeekFrom, Write},
    path::Path,
};

use crate::Extent;

/// A file being written.
pub trait DiskFile: Send {
    /// Appends bytes.
    ///
    /// # Errors
    /// As the disk says.
    fn append(&mut self, bytes: &[u8]) -> io::Result<()>;
    /// Returns once the content is on the medium.
    ///
    /// # Errors
    /// As the disk says.
    fn sync(&mut self) -> io::Result<()>;
}

/// A file system, reduced to what a directory place needs.
pub trait Disk: Send + Sync + Debug {
    /// Begins a file that must not exist yet.
    ///
    /// # Errors
    /// As the disk says.
    fn begin(&self, path: &Path) -> io::Result<Box<dyn DiskFile>>;
    /// Renames a file, never over another one.
    ///
    /// # Errors
    /// `AlreadyExists`, or as the disk says.
    fn rename_new(&self, from: &Path, to: &Path) -> io::Result<()>;
    /// Returns once the names in a directory are on the medium.
    ///
    /// # Errors
    /// As the disk says.
    fn sync_folder(&self, path: &Path) -> io::Result<()>;
    /// Makes a directory, which may exist.
    ///
    /// # Errors
    /// As the disk says.
    fn make_folder(&self, path: &Path) -> io::Result<()>;
    /// Whether a directory is there.
    fn has_folder(&self, path: &Path) -> bool;
    /// Reads a part of a file.
    ///
    /// # Errors
    /// As the disk says; `UnexpectedEof` if a range reaches past the end.
    fn read(&self, path: &Path, extent: Extent, into: &mut Vec<u8>) -> io::Result<()>;
    /// Hands over name, size and age in seconds of every plain file in a directory.
    ///
    /// # Errors
    /// As the disk says.
    fn list(&self, path: &Path, each: &mut dyn FnMut(&str, u64, u64)) -> io::Result<()>;
    /// Removes a file.
    ///
    /// # Errors
    /// As the disk says.
    fn remove(&self, path: &Path) -> io::Result<()>;
}

/// The operating system's own.
#[derive(Debug, Default)]
pub struct SystemDisk;

impl DiskFile for File {
    fn append(&mut self, bytes: &[u8]) -> io::Result<()> {
        self.write_all(bytes)
    }

    fn sync(&mut self) -> io::Result<()> {
        self.sync_data()
    }
}

impl Disk for SystemDisk {
    fn begin(&self, path: &Path) -> io::Result<Box<dyn DiskFile>> {
        Ok(Box::new(OpenOptions::new().write(true).create_new(true).open(path)?))
    }

    fn rename_new(&self, from: &Path, to: &Path) -> io::Result<()> {
        use rustix::{
            fs::{CWD, RenameFlags, renameat_with},
            io::Errno,
        };
        match renameat_with(CWD, from, CWD, to, RenameFlags::NOREPLACE) {
            // Some file systems do not know the flag; a hard link refuses to replace as well.
            Err(Errno::INVAL | Errno::NOSYS | Errno::OPNOTSUPP) => {
                match fs::hard_link(from, to) {
                    Ok(()) => fs::remove_file(from),
                    // Nor hard links (FAT): names are random, so a look before is all there is.
                    Err(error) if error.kind() == io::ErrorKind::AlreadyExists => Err(error),
                    Err(_) if fs::symlink_metadata(to).is_ok() => {
                        Err(io::ErrorKind::AlreadyExists.into())
                    }
                    Err(_) => fs::rename(from, to),
                }
            }
            other => Ok(other?),
        }
    }

    fn sync_folder(&self, path: &Path) -> io::Result<()> {
        File::open(path)?.sync_all()
    }

    fn make_folder(&self, path: &Path) -> io::Result<()> {
        fs::create_dir_all(path)
    }

    fn has_folder(&self, path: &Path) -> bool {
        path.is_dir()
    }

    fn read(&self, path: &Path, extent: Extent, into: &mut Vec<u8>) -> io::Result<()> {
        let mut file = File::open(path)?;
        into.clear();
        match extent {
            Extent::Whole => file.read_to_end(into).map(drop),
            Extent::Tail(length) => {
                let size = file.metadata()?.len();
                file.seek(SeekFrom::Start(size.saturating_sub(length)))?;
                file.take(length).read_to_end(into).map(drop)
            }
            Extent::Range { offset, length } => {
                // The length may come from a damaged record: never allocate past the file's end.
                if file.metadata()?.len() < offset.saturating_add(length) {
                    return Err(io::ErrorKind::UnexpectedEof.into());
                }
                file.seek(SeekFrom::Start(offset))?;
                into.reserve_exact(usize::try_from(length).map_err(io::Error::other)?);
                let read = file.take(length).read_to_end(into)?;
                if read as u64 == length {
                    Ok(())
                } else {
                    Err(io::ErrorKind::UnexpectedEof.into())
                }
            }
        }
    }

    fn list(&self, path: &Path, each: &mut dyn FnMut(&str, u64, u64)) -> io::Result<()> {
        for entry in fs::read_dir(path)? {
            let entry = entry?;
            let metadata = match entry.metadata() {
                Ok(metadata) => metadata,
                // Deleted since the directory was read.
                Err(error) if error.kind() == io::ErrorKind::NotFound => continue,
                Err(error) => return Err(error),
            };
            if let (true, Some(name)) = (metadata.is_file(), entry.file_name().to_str()) {
                let age = metadata.modified()?.elapsed().map_or(0, |age| age.as_secs());
                each(name, metadata.len(), age);
            }
        }
        Ok(())
    }

    fn remove(&self, path: &Path) -> io::Result<()> {
        fs::remove_file(path)
    }
}
