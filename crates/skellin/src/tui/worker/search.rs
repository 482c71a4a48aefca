//! Finding paths in the snapshots of plans.

use std::{
    sync::{
        Arc, Mutex,
        atomic::{AtomicBool, AtomicUsize, Ordering},
    },
    time::{Duration, Instant},
};

use skellin_engine::{
    Cancel, EngineError,
    history::{self, Asked, Hit},
};
use skellin_plan::Query;
use skellin_store::{Kind, RunId, Snapshot, Store};

use super::{Report, Shared, Trouble, locked};

/// So many paths are found of one search.
const MOST: usize = 5000;
/// What was found is told so often at most.
const PAUSE: Duration = Duration::from_millis(60);

/// What is looked for.
pub(crate) struct Sought {
    /// Only the search of the highest number counts.
    pub number: u64,
    pub lanes: Vec<SoughtLane>,
    /// A word or a pattern; nothing means every path.
    pub text: String,
    /// Only what the last snapshot has no more.
    pub only_gone: bool,
    /// In seconds since 1970.
    pub now: i64,
}

/// A lane that is looked through.
#[derive(Clone, Debug)]
pub(crate) struct SoughtLane {
    pub label: String,
    pub store: String,
    /// Its snapshots, oldest first.
    pub snapshots: Vec<RunId>,
}

/// A path that was found.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(crate) struct FoundPath {
    /// The label of its lane.
    pub lane: String,
    pub path: Vec<u8>,
    /// The directories above it, from its source on.
    pub above: Vec<Vec<u8>>,
    pub kind: Kind,
    pub size: u64,
    pub versions: usize,
    /// The last snapshot that has it.
    pub last: RunId,
    /// The first that has it no more, in milliseconds since 1970.
    pub gone: Option<i64>,
}

/// How a search ended.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(crate) struct SearchEnd {
    pub snapshots: usize,
    /// Whether there is more than was told.
    pub has_more: bool,
    /// Directories that could not be read.
    pub lost: usize,
}

/// Looks for paths.
pub(super) fn search(shared: &Shared, sought: &Sought, over: &Cancel) {
    let number = sought.number;
    let pattern = Some(sought.text.trim()).filter(|text| !text.is_empty());
    let end = match Query::new(pattern, &[], sought.now) {
        Err(why) => Err(Trouble::of_words(why)),
        Ok(query) => through_all(shared, sought, &query, over).map_err(Trouble::from),
    };
    if !over.is_cancelled() {
        shared.tell(Report::Found { number, found: Vec::new(), end: Some(end) });
    }
}

fn through_all(
    shared: &Shared,
    sought: &Sought,
    query: &Query,
    over: &Cancel,
) -> Result<SearchEnd, EngineError> {
    let teller = Teller {
        shared,
        number: sought.number,
        ready: Mutex::new((Vec::new(), Instant::now())),
        count: AtomicUsize::new(0),
        is_full: AtomicBool::new(false),
    };
    let (mut count, lost) = (0, AtomicUsize::new(0));
    for lane in &sought.lanes {
        let open = shared.open_store(&lane.store)?;
        open.fetch(&lane.snapshots);
        let mut snapshots = Vec::with_capacity(lane.snapshots.len());
        for id in &lane.snapshots {
            match open.snapshot(*id) {
                Ok(snapshot) => snapshots.push(snapshot),
                // Verify names what is damaged.
                Err(EngineError::Store(error)) if error.is_damage() => {
                    lost.fetch_add(1, Ordering::Relaxed);
                }
                Err(error) => return Err(error),
            }
        }
        count += snapshots.len();
        let is_over = || over.is_cancelled() || teller.is_full.load(Ordering::Relaxed);
        let each = |hit: Hit| {
            if let Some(found) = found(&lane.label, &snapshots, hit) {
                teller.take(found);
            }
        };
        let unread = |_: &[u8], _: &skellin_store::StoreError| {
            lost.fetch_add(1, Ordering::Relaxed);
        };
        let store: &Store = &open.store;
        let only_gone = sought.only_gone;
        let asked =
            Asked { snapshots: snapshots.as_slice(), query, only_gone, is_cancelled: &is_over };
        match history::find(store, &asked, &each, &unread) {
            Err(EngineError::Cancelled) if teller.is_full.load(Ordering::Relaxed) => break,
            other => other?,
        }
    }
    teller.send(true);
    let has_more = teller.is_full.into_inner();
    Ok(SearchEnd { snapshots: count, has_more, lost: lost.into_inner() })
}

fn found(lane: &str, snapshots: &[Arc<Snapshot>], hit: Hit) -> Option<FoundPath> {
    let last = hit.spans.last()?.last;
    let snapshot = snapshots.iter().rfind(|snapshot| snapshot.started == last)?;
    let sources = snapshot.sources.iter();
    let source = sources
        .filter(|source| hit.path.starts_with(&source.path))
        .map(|source| source.path.len())
        .max()
        .unwrap_or(0);
    let slashes = (source..hit.path.len()).filter(|at| hit.path[*at] == b'/' && *at > 0);
    let above = slashes.map(|at| hit.path[..at].to_vec()).collect();
    Some(FoundPath {
        lane: lane.to_owned(),
        above,
        kind: hit.entry.kind(),
        size: hit.entry.size(),
        versions: hit.spans.len(),
        last: snapshot.run,
        gone: hit.gone,
        path: hit.path,
    })
}

/// Tells what was found, some of it together.
struct Teller<'a> {
    shared: &'a Shared,
    number: u64,
    ready: Mutex<(Vec<FoundPath>, Instant)>,
    count: AtomicUsize,
    is_full: AtomicBool,
}

impl Teller<'_> {
    fn take(&self, found: FoundPath) {
        if self.count.fetch_add(1, Ordering::Relaxed) >= MOST {
            self.is_full.store(true, Ordering::Relaxed);
            return;
        }
        locked(&self.ready).0.push(found);
        self.send(false);
    }

    fn send(&self, at_once: bool) {
        let mut ready = locked(&self.ready);
        if ready.0.is_empty() || !at_once && ready.1.elapsed() < PAUSE {
            return;
        }
        let found = std::mem::take(&mut ready.0);
        ready.1 = Instant::now();
        drop(ready);
        self.shared.tell(Report::Found { number: self.number, found, end: None });
    }
}
