//! Files of a server as they lie there.

use super::{FtpPlace, connection::Trouble};
use crate::{
    FarEntry, FarFacts, FarFiles, FarKind, FarPart, Operation, Place, PlaceError, PlaceErrorKind,
    far::below,
};

fn facts(kind: FarKind, size: u64, modified: i64) -> FarFacts {
    FarFacts { kind, size, modified, mode: None, owner: None, tag: None }
}

impl FarFiles for FtpPlace {
    fn describe(&self) -> String {
        self.target.describe()
    }

    fn give_up(&self) {
        Place::give_up(self);
    }

    fn facts(&self, path: &str) -> Result<FarFacts, PlaceError> {
        let full = below(&self.target.path, path);
        self.run(Operation::Read, path, |connection| {
            // Some servers tell a size of directories too.
            if connection.has_folder(&full)? {
                return Ok(facts(FarKind::Directory, 0, 0));
            }
            let size = connection.size(&full)?.ok_or(Trouble::NotThere)?;
            Ok(facts(FarKind::File, size, connection.modified(&full)?))
        })
    }

    fn names(&self, path: &str) -> Result<Vec<FarEntry>, PlaceError> {
        let full = below(&self.target.path, path);
        let listed = self.run(Operation::List, path, |connection| connection.list(&full))?;
        let entries = listed.into_iter().map(|told| {
            let kind = match () {
                () if told.is_link => FarKind::Link,
                () if told.is_folder => FarKind::Directory,
                () => FarKind::File,
            };
            // A directory's size means something else on each server.
            let size = if kind == FarKind::File { told.size } else { 0 };
            FarEntry { facts: facts(kind, size, told.modified), name: told.name }
        });
        Ok(entries.collect())
    }

    fn link(&self, path: &str) -> Result<String, PlaceError> {
        let why = "FTP does not show link targets";
        Err(PlaceError::because(Operation::Read, path, PlaceErrorKind::Failed, why))
    }

    fn part(&self, path: &str, offset: u64, length: u64) -> Result<FarPart, PlaceError> {
        let full = below(&self.target.path, path);
        let bytes = self.run(Operation::Read, path, |connection| {
            let size = connection.size(&full)?.ok_or(Trouble::NotThere)?;
            let length = length.min(size.saturating_sub(offset));
            self.retrieve(connection, &full, size, (offset, length))
        })?;
        // Listings and questions for single files may tell times of different sharpness.
        Ok(FarPart { bytes, before: None, after: None })
    }

    fn stride(&self) -> u64 {
        // A transfer that is broken off costs a connection.
        32 << 20
    }
}
