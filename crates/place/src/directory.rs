//! A place in a directory of a mounted file system.

use std::{
    io,
    path::{Path, PathBuf},
    sync::Arc,
};

use crate::{
    Disk, Extent, Listed, ObjectName, Operation, Place, PlaceError, PlaceErrorKind, SystemDisk,
    disk::UNLOCKED, why_full,
};

/// Where objects grow until they are whole.
const NURSERY: &str = "unfinished";
/// How the name ends of what is held as long as somebody writes it.
const HELD: &str = "-held";
/// Random bytes in the name of what grows there.
const DRAFT: usize = 12;

fn is_hex(byte: u8) -> bool {
    matches!(byte, b'0'..=b'9' | b'a'..=b'f')
}

/// A directory. Each object is a file, written under another name in `unfinished/`, synced, then
/// moved to its own; the move never replaces anything.
#[derive(Debug)]
pub struct DirectoryPlace {
    root: PathBuf,
    disk: Arc<dyn Disk>,
}

impl DirectoryPlace {
    /// A place in an existing directory. Nothing is created here: an empty mount point under a
    /// drive that is away must never be filled.
    ///
    /// # Errors
    /// [`PlaceErrorKind::Missing`] if the directory is not there.
    pub fn open(root: impl Into<PathBuf>) -> Result<Self, PlaceError> {
        let root = root.into();
        Self::open_on(root.clone(), Arc::new(SystemDisk::new(root)))
    }

    /// As [`open`](Self::open), on a disk of the caller's.
    ///
    /// # Errors
    /// As [`open`](Self::open).
    pub fn open_on(root: PathBuf, disk: Arc<dyn Disk>) -> Result<Self, PlaceError> {
        if !disk.has_folder(&root) {
            let subject = root.display().to_string();
            return Err(PlaceError::new(Operation::Reach, subject, PlaceErrorKind::Missing));
        }
        Ok(Self { root, disk })
    }

    /// Makes the directory for a new store, with the folders its objects will lie in.
    ///
    /// # Errors
    /// If a directory cannot be made.
    pub fn prepare(root: impl Into<PathBuf>, folders: &[&str]) -> Result<Self, PlaceError> {
        let root = root.into();
        Self::prepare_on(root.clone(), folders, Arc::new(SystemDisk::new(root)))
    }

    /// As [`prepare`](Self::prepare), on a disk of the caller's.
    ///
    /// # Errors
    /// As [`prepare`](Self::prepare).
    pub fn prepare_on(
        root: PathBuf,
        folders: &[&str],
        disk: Arc<dyn Disk>,
    ) -> Result<Self, PlaceError> {
        let fail = |path: &Path| {
            let subject = path.display().to_string();
            move |error: io::Error| PlaceError::io(Operation::Reach, subject, error)
        };
        disk.make_folder(&root).map_err(fail(&root))?;
        for folder in folders.iter().chain(&[NURSERY]) {
            let path = root.join(folder);
            disk.make_folder(&path).map_err(fail(&path))?;
        }
        disk.sync_folder(&root).map_err(fail(&root))?;
        if let Some(parent) = root.parent().filter(|parent| disk.has_folder(parent)) {
            // A parent that cannot be opened for syncing (no read permission) is not ours to mend.
            let _ = disk.sync_folder(parent);
        }
        Ok(Self { root, disk })
    }

    /// The directory.
    #[must_use]
    pub fn root(&self) -> &Path {
        &self.root
    }

    fn path(&self, name: &ObjectName) -> PathBuf {
        self.root.join(name.as_str())
    }

    fn error(&self, operation: Operation, name: &str, source: io::Error) -> PlaceError {
        let lost = source.kind() == io::ErrorKind::NotFound && !self.disk.has_folder(&self.root);
        let subject = self.root.join(name).display().to_string();
        let mut error = PlaceError::io(operation, subject, source);
        if lost {
            error.kind = PlaceErrorKind::Missing;
        }
        if error.kind == PlaceErrorKind::Full {
            let facts = rustix::fs::statvfs(&self.root).ok();
            error.source = Some(io::Error::other(why_full(facts.as_ref())));
        }
        error
    }

    fn write_and_move(&self, name: &ObjectName, bytes: &[u8]) -> io::Result<()> {
        let mut random = [0u8; DRAFT];
        getrandom::fill(&mut random).map_err(io::Error::other)?;
        let suffix: String = random.iter().map(|byte| format!("{byte:02x}")).collect();
        let plain = self.root.join(NURSERY).join(&suffix);
        let held = self.root.join(NURSERY).join(format!("{suffix}{HELD}"));
        let target = self.path(name);
        let (mut file, draft) = match self.disk.begin_held(&held)? {
            Some(file) => (file, held),
            None => (self.disk.begin(&plain)?, plain),
        };
        let written = (|| {
            file.append(bytes)?;
            file.sync()?;
            self.disk.rename_new(&draft, &target)
        })();
        if let Err(error) = written {
            // The first error counts; a draft that stays is swept later.
            let _ = self.disk.remove(&draft);
            return Err(error);
        }
        self.disk.sync_folder(target.parent().unwrap_or(&self.root))
    }
}

impl Place for DirectoryPlace {
    fn describe(&self) -> String {
        self.root.display().to_string()
    }

    fn begin_trial(&self) -> Result<bool, PlaceError> {
        let path = self.root.join(NURSERY);
        if self.disk.has_folder(&path) {
            return Ok(false);
        }
        let made = self.disk.make_folder(&path);
        made.map(|()| true).map_err(|error| self.error(Operation::Create, NURSERY, error))
    }

    fn end_trial(&self) -> Result<(), PlaceError> {
        let removed = std::fs::remove_dir(self.root.join(NURSERY));
        removed.map_err(|error| self.error(Operation::Delete, NURSERY, error))
    }

    fn room(&self) -> Option<(u64, u64)> {
        let facts = rustix::fs::statvfs(&self.root).ok()?;
        Some((facts.f_bavail * facts.f_frsize, facts.f_blocks * facts.f_frsize))
    }

    fn create(&self, name: &ObjectName, bytes: &[u8]) -> Result<(), PlaceError> {
        self.write_and_move(name, bytes)
            .map_err(|error| self.error(Operation::Create, name.as_str(), error))
    }

    fn read(
        &self,
        name: &ObjectName,
        extent: Extent,
        into: &mut Vec<u8>,
    ) -> Result<(), PlaceError> {
        self.disk
            .read(&self.path(name), extent, into)
            .map_err(|error| self.error(Operation::Read, name.as_str(), error))
    }

    fn list(&self, folder: &str, each: &mut dyn FnMut(Listed)) -> Result<(), PlaceError> {
        let result = self.disk.list(&self.root.join(folder), &mut |leaf, size, _age| {
            let text = if folder.is_empty() { leaf.to_owned() } else { format!("{folder}/{leaf}") };
            // What is not named like an object was not put there by a store.
            if let Ok(name) = ObjectName::new(text) {
                each(Listed { name, size });
            }
        });
        match result {
            Err(error)
                if error.kind() == io::ErrorKind::NotFound && self.disk.has_folder(&self.root) =>
            {
                Ok(())
            }
            other => other.map_err(|error| self.error(Operation::List, folder, error)),
        }
    }

    fn delete(&self, name: &ObjectName) -> Result<(), PlaceError> {
        let path = self.path(name);
        let result = match self.disk.remove(&path) {
            Err(error)
                if error.kind() == io::ErrorKind::NotFound && self.disk.has_folder(&self.root) =>
            {
                return Ok(());
            }
            Ok(()) => self.disk.sync_folder(path.parent().unwrap_or(&self.root)),
            failed => failed,
        };
        result.map_err(|error| self.error(Operation::Delete, name.as_str(), error))
    }

    fn sweep(&self, age_seconds: u64) -> Result<(), PlaceError> {
        let nursery = self.root.join(NURSERY);
        let mut stale = Vec::new();
        let listed = self.disk.list(&nursery, &mut |leaf, _size, age| {
            // Only what is named like a draft of ours is one.
            let name = leaf.strip_prefix(UNLOCKED).unwrap_or(leaf);
            let name = name.strip_suffix(HELD).unwrap_or(name);
            let is_held = leaf.len() == name.len() + HELD.len() && leaf.ends_with(HELD);
            if name.len() == 2 * DRAFT && name.bytes().all(is_hex) {
                stale.push((nursery.join(leaf), age >= age_seconds, is_held));
            }
        });
        match listed {
            Err(error) if error.kind() == io::ErrorKind::NotFound => return Ok(()),
            other => other.map_err(|error| self.error(Operation::List, NURSERY, error))?,
        }
        for (path, is_old, is_held) in stale {
            let is_left = is_old || is_held && self.disk.is_abandoned(&path);
            if !is_left {
                continue;
            }
            match self.disk.remove(&path) {
                Err(error) if error.kind() != io::ErrorKind::NotFound => {
                    return Err(self.error(Operation::Delete, NURSERY, error));
                }
                _ => {}
            }
        }
        Ok(())
    }
}
