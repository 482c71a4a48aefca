//! Files of a host as they lie there.

use russh_sftp::protocol::{FileAttributes, OpenFlags};

use super::{
    SftpPlace,
    files::{give_back, list, read_part},
};
use crate::{
    FarEntry, FarFacts, FarFiles, FarKind, FarPart, Operation, Place, PlaceError, PlaceErrorKind,
    far::below,
};

fn facts(attributes: &FileAttributes) -> FarFacts {
    // Without its kind (draft, section 5) a path is taken for a file, which shows when it is read.
    let kind = match attributes.permissions.map_or(0, |bits| bits & 0o17_0000) {
        0 | 0o10_0000 => FarKind::File,
        0o4_0000 => FarKind::Directory,
        0o12_0000 => FarKind::Link,
        0o1_0000 => FarKind::Pipe,
        0o14_0000 => FarKind::Socket,
        _ => FarKind::Other,
    };
    FarFacts {
        kind,
        size: attributes.size.unwrap_or(0),
        modified: attributes.mtime.map_or(0, i64::from),
        mode: attributes.permissions.map(|bits| bits & 0o7777),
        owner: attributes.uid.zip(attributes.gid),
        tag: None,
    }
}

impl SftpPlace {
    fn far_path(&self, path: &str) -> String {
        below(&self.target.path, path)
    }

    /// Names that are no text cannot be asked for.
    fn explain_name(&self, path: &str, error: PlaceError) -> PlaceError {
        if !(error.is_not_found() && path.contains(char::REPLACEMENT_CHARACTER)) {
            return error;
        }
        let why = "its name is not UTF-8, which SFTP cannot transfer";
        PlaceError::because(Operation::Read, error.subject, PlaceErrorKind::Failed, why)
            .with_hint("rename it there")
    }
}

impl FarFiles for SftpPlace {
    fn describe(&self) -> String {
        self.target.describe()
    }

    fn give_up(&self) {
        Place::give_up(self);
    }

    fn facts(&self, path: &str) -> Result<FarFacts, PlaceError> {
        let full = self.far_path(path);
        let found = self.run(Operation::Read, path, async |line| {
            let found = match path {
                "" => line.sftp.stat(full).await,
                _ => line.sftp.lstat(full).await,
            };
            Ok(found?.attrs)
        });
        found.map(|found| facts(&found)).map_err(|error| self.explain_name(path, error))
    }

    fn names(&self, path: &str) -> Result<Vec<FarEntry>, PlaceError> {
        let full = self.far_path(path);
        let listed = self.run(Operation::List, path, async |line| list(line, &full).await)?;
        let others = listed.into_iter().filter(|(name, _)| !matches!(name.as_str(), "." | ".."));
        Ok(others.map(|(name, found)| FarEntry { name, facts: facts(&found) }).collect())
    }

    fn link(&self, path: &str) -> Result<String, PlaceError> {
        let full = self.far_path(path);
        let told = self.run(Operation::Read, path, async |line| {
            Ok(line.sftp.readlink(full).await?.files.into_iter().next())
        })?;
        told.map(|file| file.filename).ok_or_else(|| {
            let why = "the server does not tell the link target";
            PlaceError::because(Operation::Read, path, PlaceErrorKind::Failed, why)
        })
    }

    fn part(&self, path: &str, offset: u64, length: u64) -> Result<FarPart, PlaceError> {
        let full = self.far_path(path);
        let read = self.run(Operation::Read, path, async |line| {
            let handle = line.sftp.open(full, OpenFlags::READ, FileAttributes::empty()).await?;
            let handle = handle.handle;
            let read = read_part(line, &handle, offset, length).await;
            give_back(line, handle);
            read
        });
        let (bytes, before, after) = read.map_err(|error| self.explain_name(path, error))?;
        let (before, after) = (Some(facts(&before)), Some(facts(&after)));
        Ok(FarPart { bytes, before, after })
    }
}
