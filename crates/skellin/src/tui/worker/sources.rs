//! Reading sources as they are now: listed, counted, mapped.

use std::{
    cmp::Reverse,
    collections::BinaryHeap,
    ffi::OsStr,
    os::unix::ffi::OsStrExt,
    path::{Path, PathBuf},
    sync::Arc,
};

use skellin_engine::{
    Cancel, Census, Change, EngineError, Looking, PreviewEntry, SourceHosts, list_first,
    list_preview,
};
use skellin_plan::Plan;
use skellin_store::{Kind, RunId, Snapshot};

use super::{Report, Shared, Tile, catalogue::Open};
use crate::tui::{
    arrange::{Arrangement, arrange},
    rows::{BATCH, Batch, FIRST, Row, RowFacts, Rows, join},
};

/// So many pieces of a directory stand on its map, the rest as one.
const MOST_TILES: usize = 60;

/// A plan's sources, beside the newest snapshot in its store.
pub(super) struct Of {
    pub plan: String,
    pub store: String,
    pub newest: Option<RunId>,
}

impl Of {
    fn open(&self, shared: &Shared) -> Result<Sources, EngineError> {
        sources(shared, &self.plan, Some((&self.store, self.newest)))
    }
}

/// Lists a directory of the sources, or the sources themselves, unless another tree is asked for
/// meanwhile.
pub(super) fn directory(
    shared: &Shared,
    ticket: u64,
    of: &Of,
    path: Option<Vec<u8>>,
    over: &Cancel,
) {
    if over.is_cancelled() {
        return;
    }
    let mut send = |batch, complete| {
        let path = path.clone();
        shared.tell(Report::Rows { ticket, path, batch, complete }) && !over.is_cancelled()
    };
    let first = |batch| {
        if let Some(path) = path.clone() {
            shared.tell(Report::FirstRows { ticket, path, batch });
        }
    };
    let listed =
        of.open(shared).and_then(|sources| list(&sources, path.as_deref(), &first, &mut send));
    if let Err(error) = listed {
        shared.tell(Report::NoRows { ticket, path, trouble: error.into() });
    }
}

/// Counts sources until that is done or not wanted any more.
pub(super) fn census(shared: &Shared, number: u64, of: &Of, census: &Census, cancel: &Cancel) {
    let counted =
        of.open(shared).and_then(|sources| count(shared, number, &sources, census, cancel));
    if !matches!(&counted, Err(error) if error.is_cancelled()) {
        shared.tell(Report::Counted { number, end: Some(counted.map_err(Into::into)) });
    }
}

/// The rows of a large directory.
pub(super) struct Unarranged {
    pub ticket: u64,
    pub path: Vec<u8>,
    pub rows: Rows,
    pub how: Arrangement,
    pub census: Arc<Census>,
}

/// Arranges rows, unless others have to be meanwhile.
pub(super) fn arranged(shared: &Shared, asked: Unarranged, over: [&Cancel; 2]) {
    if over.iter().any(|over| over.is_cancelled()) {
        return;
    }
    let Unarranged { ticket, path, rows, how, census } = asked;
    let view = arrange(&rows, &path, how, &census);
    let rows = rows.len();
    shared.tell(Report::Arranged { ticket, path, how, rows, view });
}

/// Maps where the space of a directory goes, unless another is asked for meanwhile.
pub(super) fn mapped(
    shared: &Shared,
    number: u64,
    plan: &str,
    path: &[u8],
    census: &Census,
    over: &Cancel,
) {
    if over.is_cancelled() {
        return;
    }
    let newer = || over.is_cancelled();
    let tiles = sources(shared, plan, None)
        .and_then(|sources| map(&sources, path, census, &newer))
        .map_err(Into::into);
    shared.tell(Report::Mapped { number, tiles });
}

/// What is needed to look at a plan's sources.
struct Sources {
    plan: Plan,
    before: Option<(Arc<Open>, Arc<Snapshot>)>,
    keep_out: Vec<PathBuf>,
    source_hosts: Arc<SourceHosts>,
}

impl Sources {
    fn looking(&self) -> Looking<'_> {
        Looking {
            plan: &self.plan,
            source_hosts: &self.source_hosts,
            before: self.before.as_ref().map(|(open, snapshot)| (&*open.store, &**snapshot)),
            keep_out: &self.keep_out,
            now: jiff::Timestamp::now().as_millisecond(),
        }
    }
}

fn sources(
    shared: &Shared,
    plan: &str,
    before: Option<(&str, Option<RunId>)>,
) -> Result<Sources, EngineError> {
    let configuration = shared.configuration();
    let plan = configuration.plan_without_mistakes(plan)?.clone();
    let before = match before {
        Some((store, Some(id))) => {
            let open = shared.open_store(store)?;
            // That the newest snapshot cannot be read only costs the comparison.
            open.snapshot(id).ok().map(|snapshot| (open, snapshot))
        }
        _ => None,
    };
    let (keep_out, source_hosts) =
        (configuration.keep_out(), Arc::clone(&configuration.source_hosts));
    Ok(Sources { plan, before, keep_out, source_hosts })
}

fn list(
    sources: &Sources,
    path: Option<&[u8]>,
    first: &dyn Fn(Batch),
    send: &mut dyn FnMut(Batch, bool) -> bool,
) -> Result<(), EngineError> {
    if let Some(path) = path {
        let mut batch = Batch::default();
        let mut visit = |entry| {
            batch.push(row(entry));
            true
        };
        if list_first(&sources.looking(), bytes_path(path), FIRST, &mut visit)? {
            first(batch);
        }
    }
    let (mut batch, mut most, mut stopped) = (Batch::default(), FIRST, false);
    let mut visit = |entry: PreviewEntry| {
        batch.push(row(entry));
        if batch.len() >= most {
            most = BATCH;
            stopped = !send(std::mem::take(&mut batch), false);
        }
        !stopped
    };
    list_preview(&sources.looking(), path.map(bytes_path), &mut visit)?;
    if !stopped {
        send(batch, true);
    }
    Ok(())
}

fn row(entry: PreviewEntry) -> Row {
    let facts = RowFacts {
        size: entry.size,
        files: 0,
        modified: entry.modified,
        kind: entry.kind,
        change: entry.change,
        rule: entry.rule.and_then(|rule| u16::try_from(rule).ok()),
    };
    Row { name: entry.name, facts, target: None }
}

fn bytes_path(path: &[u8]) -> &Path {
    Path::new(OsStr::from_bytes(path))
}

fn count(
    shared: &Shared,
    number: u64,
    sources: &Sources,
    census: &Census,
    cancel: &Cancel,
) -> Result<(), EngineError> {
    let tick = || {
        if !shared.tell(Report::Counted { number, end: None }) {
            cancel.cancel();
        }
    };
    census.count(&sources.looking(), cancel, &tick)
}

/// All bytes of a name, the name, whether it is a directory, and the bytes left out.
type Piece = (u64, Vec<u8>, bool, u64);

/// The largest pieces of a directory, and the rest as one.
fn map(
    sources: &Sources,
    path: &[u8],
    census: &Census,
    newer: &dyn Fn() -> bool,
) -> Result<Vec<Tile>, EngineError> {
    // The smallest lies on top, so that it can be put to the rest.
    let mut largest: BinaryHeap<Reverse<Piece>> = BinaryHeap::new();
    let (mut rest, mut others) = ((0, 0), 0);
    let mut visit = |entry: PreviewEntry| {
        let is_directory = entry.kind == Kind::Directory;
        let (taken, skipped) = match (is_directory, entry.change) {
            (_, Change::Gone) => return !newer(),
            (true, _) => census
                .shares(&join(path, &entry.name))
                .map_or((0, 0), |shares| (shares.taken().bytes, shares.skipped.bytes)),
            (false, Change::Skipped) => (0, entry.size),
            (false, _) => (entry.size, 0),
        };
        largest.push(Reverse((taken + skipped, entry.name, is_directory, skipped)));
        if largest.len() > MOST_TILES
            && let Some(Reverse((all, _, _, skipped))) = largest.pop()
        {
            rest.0 += all - skipped;
            rest.1 += skipped;
            others += 1;
        }
        !newer()
    };
    list_preview(&sources.looking(), Some(bytes_path(path)), &mut visit)?;
    let tile = |Reverse((all, name, is_directory, skipped)): Reverse<Piece>| Tile {
        label: Ok(name),
        is_directory,
        taken: all - skipped,
        skipped,
    };
    let mut tiles: Vec<Tile> = largest.into_sorted_vec().into_iter().map(tile).collect();
    if others > 0 {
        let (taken, skipped) = rest;
        tiles.push(Tile { label: Err(others), is_directory: false, taken, skipped });
    }
    Ok(tiles)
}
