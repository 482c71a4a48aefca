//! The distinct versions of one path through many snapshots.

use skellin_store::{Body, Entry, Fingerprint, Moment, PageRef, RunId, Snapshot, Store};

use super::split_path;
use crate::error::Result;

/// One version of a path.
#[derive(Clone, Debug, PartialEq)]
pub struct Version {
    /// The snapshot in which it appeared.
    pub snapshot: RunId,
    /// When that was taken, in milliseconds since 1970.
    pub time: i64,
    /// The last snapshot that has it, in milliseconds since 1970.
    pub last_seen: i64,
    /// Its size in bytes.
    pub size: u64,
    /// When it was modified.
    pub modified: Moment,
    /// What it was.
    pub entry: Entry,
}

/// Follows a path from snapshot to snapshot, oldest first. Directories that are the same in two
/// snapshots running are looked into once.
pub struct PathHistory<'s> {
    store: &'s Store,
    path: Vec<u8>,
    /// For each level the directory that was looked into last, and what was found there.
    seen: Vec<(Fingerprint, Option<Entry>)>,
    previous_has_it: bool,
    versions: Vec<Version>,
}

impl<'s> PathHistory<'s> {
    /// Of a full path.
    #[must_use]
    pub fn new(store: &'s Store, path: &[u8]) -> Self {
        let path = path.to_vec();
        Self { store, path, seen: Vec::new(), previous_has_it: false, versions: Vec::new() }
    }

    /// Looks into the next snapshot.
    ///
    /// # Errors
    /// If its tree cannot be read.
    pub fn take(&mut self, snapshot: &Snapshot) -> Result<()> {
        let Some(entry) = self.find(snapshot)? else {
            self.previous_has_it = false;
            return Ok(());
        };
        let same = |version: &Version| {
            version.entry.modified == entry.modified && version.entry.body.same_content(&entry.body)
        };
        match self.versions.last_mut() {
            Some(last) if self.previous_has_it && same(last) => last.last_seen = snapshot.started,
            _ => self.versions.push(Version {
                snapshot: snapshot.run,
                time: snapshot.started,
                last_seen: snapshot.started,
                size: entry.size(),
                modified: entry.modified,
                entry,
            }),
        }
        self.previous_has_it = true;
        Ok(())
    }

    /// What was found, oldest first.
    #[must_use]
    pub fn finish(self) -> Vec<Version> {
        self.versions
    }

    fn find(&mut self, snapshot: &Snapshot) -> Result<Option<Entry>> {
        let Some((number, parts)) = split_path(snapshot, &self.path) else { return Ok(None) };
        let name = snapshot.sources[number].name.to_vec();
        let mut found = self.look(0, snapshot.root_page(self.store), &name)?;
        for (level, part) in parts.iter().enumerate() {
            let Some(Entry { body: Body::Directory { root, .. }, .. }) = found else {
                return Ok(None);
            };
            found = self.look(level + 1, root, part)?;
        }
        Ok(found)
    }

    fn look(&mut self, level: usize, root: PageRef, name: &[u8]) -> Result<Option<Entry>> {
        if let Some((fingerprint, found)) = self.seen.get(level)
            && *fingerprint == root.fingerprint
            // Names of sources may change from one snapshot to the next.
            && found.as_ref().is_none_or(|entry| entry.name == name)
            && level > 0
        {
            return Ok(found.clone());
        }
        let found = self.store.entry(root, name)?;
        self.seen.truncate(level);
        if self.seen.len() == level {
            self.seen.push((root.fingerprint, found.clone()));
        }
        Ok(found)
    }
}
