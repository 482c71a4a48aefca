//! Reading trees: directories, versions of a path, the beginning of a file.

use skellin_engine::{
    Cancel, Change, EngineError, contrast,
    history::{self, Against},
    picture::{self, LARGEST_PICTURE},
};
use skellin_store::{Body, Entry, RunId, Snapshot};

use super::{Looked, Report, Shared, VersionRow, catalogue::Open};
use crate::tui::rows::{BATCH, Batch, FIRST, Row, RowFacts};

/// So much of a file is read to look into it, in bytes.
const HEAD: usize = 1 << 20;
/// Lines are cut at this length, in characters.
const LONGEST_LINE: usize = 2000;

/// A directory of a snapshot.
pub(super) struct Directory {
    pub ticket: u64,
    pub store: String,
    pub snapshot: RunId,
    pub before: Option<RunId>,
    pub path: Option<Vec<u8>>,
}

/// Lists a directory, unless another tree is asked for meanwhile.
pub(super) fn directory(shared: &Shared, asked: Directory, over: &Cancel) {
    if over.is_cancelled() {
        return;
    }
    let Directory { ticket, store, snapshot, before, path } = asked;
    let listing = Listing { shared, ticket, over, path: path.as_deref() };
    let listed = shared.open_store(&store).and_then(|open| listing.list(&open, snapshot, before));
    if let Err(error) = listed {
        shared.tell(Report::NoRows { ticket, path, trouble: error.into() });
    }
}

/// Follows a path through snapshots, oldest first, unless another is asked for meanwhile.
pub(super) fn study(
    shared: &Shared,
    store: &str,
    snapshots: &[RunId],
    path: Vec<u8>,
    over: &Cancel,
) {
    let found = shared.open_store(store).and_then(|open| versions(over, &open, snapshots, &path));
    if let Some(versions) = found.map_err(Into::into).transpose() {
        shared.tell(Report::Versions { path, versions });
    }
}

/// Reads the beginning of a file.
pub(super) fn beginning(shared: &Shared, store: &str, snapshot: RunId, path: Vec<u8>) {
    let looked = shared.open_store(store).and_then(|open| look(&open, snapshot, &path));
    let looked = looked.map_err(Into::into);
    shared.tell(Report::Looked { path, snapshot, looked });
}

struct Listing<'a> {
    shared: &'a Shared,
    ticket: u64,
    over: &'a Cancel,
    path: Option<&'a [u8]>,
}

impl Listing<'_> {
    fn list(&self, open: &Open, id: RunId, before: Option<RunId>) -> Result<(), EngineError> {
        let store = &*open.store;
        let snapshot = open.snapshot(id)?;
        // That the snapshot before cannot be read only costs the comparison.
        let before = before.and_then(|id| open.snapshot(id).ok());
        let directory = |snapshot: &Snapshot| match self.path {
            None => Ok(Some(snapshot.root_page(store))),
            Some(path) => {
                history::locate(store, snapshot, path).map(|found| match found?.entry.body {
                    Body::Directory { root, .. } => Some(root),
                    _ => None,
                })
            }
        };
        let now = directory(&snapshot)?;
        let against = match before.as_deref().map(directory) {
            None => Against::Nothing,
            Some(Ok(Some(root))) => Against::Directory(root),
            Some(Ok(None)) => Against::Missing,
            Some(Err(_)) => Against::Nothing,
        };
        let mut batch = Batch::default();
        let mut most = FIRST;
        let mut stopped = false;
        let mut visit = |entry: Entry, change: Change| {
            let name = match self.path {
                Some(_) => entry.name.clone(),
                None => {
                    let held = if change == Change::Gone { before.as_deref() } else { None };
                    source_path(held.unwrap_or(&snapshot), &entry.name)
                }
            };
            batch.push(row(name, &entry, change));
            if batch.len() >= most {
                most = BATCH;
                stopped = !self.send(std::mem::take(&mut batch), false);
            }
            !stopped
        };
        history::list(store, now, against, &mut visit)?;
        if !stopped {
            self.send(batch, true);
        }
        Ok(())
    }

    /// Whether more is wanted.
    fn send(&self, batch: Batch, complete: bool) -> bool {
        let path = self.path.map(<[u8]>::to_vec);
        self.shared.tell(Report::Rows { ticket: self.ticket, path, batch, complete })
            && !self.over.is_cancelled()
    }
}

fn source_path(snapshot: &Snapshot, name: &[u8]) -> Vec<u8> {
    let source = snapshot.sources.iter().find(|source| source.name.as_slice() == name);
    source.map_or(name, |source| source.path.as_slice()).to_vec()
}

fn row(name: Vec<u8>, entry: &Entry, change: Change) -> Row {
    let facts = RowFacts {
        size: entry.size(),
        files: entry.counted().files,
        modified: entry.modified.seconds,
        kind: entry.kind(),
        change,
        rule: None,
    };
    let target = match &entry.body {
        Body::Link(target) => Some(target.clone()),
        _ => None,
    };
    Row { name, facts, target }
}

/// `None` if something newer is asked by now.
fn versions(
    over: &Cancel,
    open: &Open,
    snapshots: &[RunId],
    path: &[u8],
) -> Result<Option<Vec<VersionRow>>, EngineError> {
    let is_over = || over.is_cancelled();
    open.fetch(snapshots);
    let mut read = Vec::with_capacity(snapshots.len());
    for id in snapshots {
        if is_over() {
            return Ok(None);
        }
        match open.snapshot(*id) {
            Ok(snapshot) => read.push(snapshot),
            // What is damaged has no versions to show; verify names it.
            Err(EngineError::Store(error)) if error.is_damage() => {}
            Err(error) => return Err(error),
        }
    }
    let found = match history::versions(&open.store, path, &read, &is_over, |_| Ok(())) {
        Err(EngineError::Cancelled) => return Ok(None),
        other => other?,
    };
    let rows = found.into_iter().map(|version| VersionRow {
        snapshot: version.snapshot,
        time: version.time,
        last_seen: version.last_seen,
        size: version.size,
        modified: version.modified.seconds,
        kind: version.entry.kind(),
    });
    Ok(Some(rows.collect()))
}

fn look(open: &Open, id: RunId, path: &[u8]) -> Result<Looked, EngineError> {
    let located = history::must_locate(&open.store, &*open.snapshot(id)?, path)?;
    let bytes = history::head(&open.store, &located, HEAD)?;
    let size = located.entry.size();
    if picture::begins_picture(&bytes) && size <= LARGEST_PICTURE as u64 {
        let whole = history::head(&open.store, &located, LARGEST_PICTURE)?;
        if let Some(picture) = picture::picture(&whole) {
            return Ok(Looked::Picture { size, picture });
        }
    }
    let more = size > bytes.len() as u64;
    let readable = match std::str::from_utf8(&bytes) {
        Ok(_) => bytes.len(),
        // The last character may have been cut in two.
        Err(error) if more && error.error_len().is_none() => error.valid_up_to(),
        Err(_) => 0,
    };
    match std::str::from_utf8(&bytes[..readable]) {
        Ok(text) if !text.contains('\0') && (readable > 0 || size == 0) => {
            let lines: Vec<&str> = text.lines().collect();
            let shown = |line: &str| {
                let cut: String = line.chars().take(LONGEST_LINE).collect();
                crate::words::path(cut.replace('\t', "    ").as_bytes())
            };
            let lines = match contrast::aligned(&lines) {
                Some(lines) => lines.iter().map(|line| shown(line)).collect(),
                None => lines.into_iter().map(shown).collect(),
            };
            Ok(Looked::Text { lines, more })
        }
        _ => Ok(Looked::Binary { size, start: bytes[..bytes.len().min(512)].to_vec() }),
    }
}
