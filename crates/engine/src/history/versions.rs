//! The distinct versions of one path through many snapshots.

use std::{
    borrow::Borrow,
    sync::{
        OnceLock,
        atomic::{AtomicUsize, Ordering},
    },
};

use skellin_store::{Body, Entry, Fingerprint, Moment, PageRef, RunId, Snapshot, Store};

use super::split_path;
use crate::error::{EngineError, Result};

/// So many snapshots of a far store are looked into at the same time,
const AT_ONCE: usize = 16;
/// each of them with so many that follow it: directories that are the same in both are looked into
/// once.
const RUNNING: usize = 16;

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

/// The distinct versions of a full path through snapshots, which come oldest first. A snapshot whose
/// tree cannot be read is handed to `unreadable`.
///
/// # Errors
/// [`EngineError::Cancelled`], if `is_cancelled` says so; what `unreadable` returns; or if the place
/// fails.
pub fn versions<S: Borrow<Snapshot> + Sync>(
    store: &Store,
    path: &[u8],
    snapshots: &[S],
    is_cancelled: &(dyn Fn() -> bool + Sync),
    mut unreadable: impl FnMut(EngineError) -> Result<()>,
) -> Result<Vec<Version>> {
    let mut versions: Vec<Version> = Vec::new();
    let mut previous_has_it = false;
    for (snapshot, found) in snapshots.iter().zip(look(store, path, snapshots, is_cancelled)) {
        let snapshot: &Snapshot = snapshot.borrow();
        let entry = match found.into_inner() {
            None => return Err(EngineError::Cancelled),
            Some(Ok(entry)) => entry,
            Some(Err(EngineError::Store(error))) if error.is_unreadable() => {
                unreadable(error.into())?;
                continue;
            }
            Some(Err(error)) => return Err(error),
        };
        let Some(entry) = entry else {
            previous_has_it = false;
            continue;
        };
        match versions.last_mut() {
            Some(last) if previous_has_it && same_version(&last.entry, &entry) => {
                last.last_seen = snapshot.started;
            }
            _ => versions.push(Version {
                snapshot: snapshot.run,
                time: snapshot.started,
                last_seen: snapshot.started,
                size: entry.size(),
                modified: entry.modified,
                entry,
            }),
        }
        previous_has_it = true;
    }
    Ok(versions)
}

/// Whether a path is the same version in two snapshots. A directory is another one only if something below
/// it differs, whatever its own times say.
#[must_use]
pub fn same_version(before: &Entry, now: &Entry) -> bool {
    let is_directory = matches!(now.body, Body::Directory { .. });
    before.body.same_content(&now.body) && (is_directory || before.modified == now.modified)
}

type Found = OnceLock<Result<Option<Entry>>>;

/// What a path is in each snapshot; nothing for those that were not looked into any more.
fn look<S: Borrow<Snapshot> + Sync>(
    store: &Store,
    path: &[u8],
    snapshots: &[S],
    is_cancelled: &(dyn Fn() -> bool + Sync),
) -> Vec<Found> {
    let found: Vec<Found> = snapshots.iter().map(|_| OnceLock::new()).collect();
    let (running, at_once) =
        if store.place().is_far() { (RUNNING, AT_ONCE) } else { (snapshots.len().max(1), 1) };
    let next = AtomicUsize::new(0);
    let work = || {
        loop {
            let from = next.fetch_add(running, Ordering::Relaxed);
            let Some(rest) = snapshots.get(from..).filter(|rest| !rest.is_empty()) else { return };
            let mut finder = Finder { store, path, seen: Vec::new() };
            for (snapshot, slot) in rest.iter().zip(&found[from..]).take(running) {
                if is_cancelled() {
                    return;
                }
                let _ = slot.set(finder.find(snapshot.borrow()));
            }
        }
    };
    std::thread::scope(|scope| {
        for _ in 1..at_once.min(snapshots.len().div_ceil(running)) {
            scope.spawn(work);
        }
        work();
    });
    found
}

/// Finds a path in one snapshot after the other.
struct Finder<'a> {
    store: &'a Store,
    path: &'a [u8],
    /// For each level the directory that was looked into last, and what was found there.
    seen: Vec<(Fingerprint, Option<Entry>)>,
}

impl Finder<'_> {
    fn find(&mut self, snapshot: &Snapshot) -> Result<Option<Entry>> {
        let Some((number, parts)) = split_path(snapshot, self.path) else { return Ok(None) };
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
