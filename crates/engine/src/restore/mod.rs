//! Restores: bringing paths of a snapshot back, with everything that belongs to them.

mod ahead;
mod already;
mod batches;
mod descend;
mod drafts;
mod dress;
mod extras;
mod failure;
mod groups;
mod host;
mod links;
mod own;
mod removing;
mod room;
mod target;
mod unfinished;
mod walk;
mod whereabouts;
mod write;

use std::{
    collections::HashSet,
    path::PathBuf,
    sync::{
        Mutex, PoisonError,
        atomic::{AtomicBool, AtomicU64, Ordering},
    },
    time::{Duration, Instant},
};

pub use descend::LinkAbove;
use skellin_place::FarTarget;
use skellin_plan::Plan;
use skellin_store::{Snapshot, Store, StoreError};
pub use whereabouts::dated_name;

use crate::{
    cause::Cause,
    clock::Cancel,
    error::{EngineError, Result},
    event::{Event, EventSink, Exception, Meter, Progress, time_left},
    history::Located,
    locked::locked,
    waits::{Awaited, watched},
};
use batches::Batches;

const TICK: Duration = Duration::from_millis(100);
/// So many batches of paths wait for writers; the directories they belong into stay open meanwhile.
const BATCHES: usize = 4;
/// So many exceptions are kept with path and reason; all are counted.
const MOST_EXCEPTIONS: usize = 1000;

/// Where things are brought back.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Destination {
    /// Below this directory, each source under its name.
    Directory(PathBuf),
    /// Where they were.
    InPlace,
}

impl Destination {
    /// Where a path of a snapshot goes; `None` if it belongs to none of its sources.
    #[must_use]
    pub fn target(&self, snapshot: &Snapshot, path: &[u8]) -> Option<PathBuf> {
        use std::{ffi::OsStr, os::unix::ffi::OsStrExt};
        match self {
            Self::InPlace => Some(PathBuf::from(OsStr::from_bytes(path))),
            Self::Directory(below) => {
                let under = snapshot.sources.iter().filter_map(|source| {
                    let rest = path.strip_prefix(source.path.as_slice())?;
                    let fits =
                        rest.is_empty() || rest.starts_with(b"/") || source.path.ends_with(b"/");
                    fits.then_some((source, rest))
                });
                let (source, rest) = under.max_by_key(|(source, _)| source.path.len())?;
                let rest = rest.strip_prefix(b"/").unwrap_or(rest);
                let mut target = below.join(OsStr::from_bytes(&source.name));
                if !rest.is_empty() {
                    target.push(OsStr::from_bytes(rest));
                }
                Some(target)
            }
        }
    }
}

/// What happens to a path that is in the way.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub enum Existing {
    /// It stays, and what would replace it is not restored.
    #[default]
    Leave,
    /// It is replaced.
    Replace,
    /// It stays under another name: `NAME.kept-` and the moment of the restore.
    Rename,
}

/// What happens to what lies below a restored directory and is not in the snapshot.
#[derive(Clone, Copy, Debug, Default)]
pub enum Extra<'a> {
    /// It stays.
    #[default]
    Leave,
    /// It is removed, so that the directory is what it was.
    Remove {
        /// The plan of the snapshot, for a restore in place: what its rules exclude is in no snapshot, and
        /// stays.
        by: Option<&'a Plan>,
    },
}

/// What a restore needs to know.
pub struct RestoreRequest<'a> {
    /// The snapshot.
    pub snapshot: &'a Snapshot,
    /// What to restore.
    pub paths: &'a [Located],
    /// Where to.
    pub destination: &'a Destination,
    /// What to do with what is in the way.
    pub existing: Existing,
    /// What to do with what the snapshot does not have.
    pub extra: Extra<'a>,
    /// Whether the snapshot's time is put into the name of each selected path.
    pub dated: bool,
    /// Directories of our own, which are not restored in place and never removed.
    pub keep: &'a [PathBuf],
    /// The directory of another host to which it goes; the destination says how that is called.
    pub host: Option<&'a dyn FarTarget>,
    /// Whether nothing is to be written.
    pub dry_run: bool,
    /// Links above a place something is restored to, that somebody agreed to go through.
    pub through: &'a [LinkAbove],
    /// Whether files of other hosts keep the bits by which they run as their owner or group.
    pub keep_set_id: bool,
    /// A mark for what is renamed: digits and dashes.
    pub stamp: &'a str,
    /// Raised to interrupt.
    pub cancel: &'a Cancel,
    /// Told what happens.
    pub events: &'a dyn EventSink,
}

/// What a restore has done, or would do.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct RestoreReport {
    /// Paths that were brought back, directories included.
    pub restored: u64,
    /// Bytes of files that were brought back.
    pub bytes: u64,
    /// Paths that were left as they are.
    pub left: u64,
    /// Paths that are what the snapshot says already.
    pub same: u64,
    /// Paths that were removed, with all below them.
    pub removed: u64,
    /// The first of them, as the snapshot would name them; what lies below one is not told.
    pub extras: Vec<Vec<u8>>,
    /// Paths that were replaced.
    pub replaced: u64,
    /// Paths that were kept under another name.
    pub renamed: u64,
    /// The first paths that were in the way, as the snapshot names them.
    pub in_the_way: Vec<Vec<u8>>,
    /// Bytes that must be free and bytes that are, where not everything fits.
    pub short: Option<(u64, u64)>,
    /// How long it took in the end until everything was on the disk.
    pub synced: Duration,
    /// How many paths could not be handled.
    pub exception_count: u64,
    /// The first of them.
    pub exceptions: Vec<Exception>,
    /// How many of them are due to damage of the store.
    pub damaged: u64,
    /// Whether it was interrupted.
    pub interrupted: bool,
}

/// What all threads of a restore share.
struct Shared<'a> {
    store: &'a Store,
    request: &'a RestoreRequest<'a>,
    is_root: bool,
    /// So deep a tree is gone into: each directory on the way stays open.
    deepest: usize,
    restored: AtomicU64,
    /// Bytes handled so far, for the progress.
    bytes: AtomicU64,
    /// Bytes of paths that are in place.
    restored_bytes: AtomicU64,
    left: AtomicU64,
    same: AtomicU64,
    removed: AtomicU64,
    extras: Mutex<Vec<Vec<u8>>>,
    replaced: AtomicU64,
    renamed: AtomicU64,
    in_the_way: Mutex<Vec<Vec<u8>>>,
    exception_count: AtomicU64,
    exceptions: Mutex<Vec<Exception>>,
    damaged: AtomicU64,
    failure: Mutex<Option<EngineError>>,
    stopped: AtomicBool,
    current: Mutex<Vec<u8>>,
    links: Mutex<groups::Links>,
    /// Paths of other hosts whose set-id bits were not restored.
    set_id: AtomicU64,
    /// What restores that were killed have left.
    leftovers: unfinished::Leftovers,
    /// Paths that were replaced before the others, for want of room.
    done: Mutex<HashSet<Vec<u8>>>,
    /// Bytes needed and free, where not everything fits.
    short: Mutex<Option<(u64, u64)>>,
    /// Microseconds until everything was on the disk, in the end.
    synced: AtomicU64,
    /// Directories of our own, by device and inode.
    keep: HashSet<(u64, u64)>,
}

impl Shared<'_> {
    fn exception(&self, path: &[u8], cause: Cause) {
        self.exception_count.fetch_add(1, Ordering::Relaxed);
        let exception = Exception { path: path.to_vec(), cause };
        self.request.events.event(Event::Exception(exception.clone()));
        let mut exceptions = locked(&self.exceptions);
        if exceptions.len() < MOST_EXCEPTIONS {
            exceptions.push(exception);
        }
    }

    /// An exception that is due to the store: something of it cannot be read.
    fn unreadable(&self, path: &[u8], error: &StoreError) {
        self.damaged.fetch_add(1, Ordering::Relaxed);
        self.exception(path, Cause::store(error));
    }

    fn note_in_the_way(&self, path: &[u8]) {
        let mut noted = locked(&self.in_the_way);
        if noted.len() < MOST_EXCEPTIONS {
            noted.push(path.to_vec());
        }
    }

    fn fail(&self, error: EngineError) {
        locked(&self.failure).get_or_insert(error);
        self.stopped.store(true, Ordering::SeqCst);
    }

    fn is_stopped(&self) -> bool {
        self.stopped.load(Ordering::Relaxed) || self.request.cancel.is_cancelled()
    }

    fn count(&self, counter: &AtomicU64) {
        counter.fetch_add(1, Ordering::Relaxed);
    }

    fn progress(&self, total: (u64, u64), meter: &mut Meter) -> Progress {
        let load = |counter: &AtomicU64| counter.load(Ordering::Relaxed);
        let bytes = load(&self.bytes);
        let rate = meter.rate(Instant::now(), bytes as f64);
        Progress {
            files: load(&self.restored) + load(&self.left) + load(&self.same),
            total_files: Some(total.0),
            bytes,
            total_bytes: Some(total.1),
            read: bytes,
            rate,
            left: time_left(total.1.saturating_sub(bytes) as f64, rate),
            path: locked(&self.current).clone(),
            exceptions: load(&self.exception_count),
        }
    }
}

/// Brings paths back.
///
/// # Errors
/// If the store or the destination fails as a whole. What concerns single paths is in the report.
pub fn restore(store: &Store, request: &RestoreRequest<'_>) -> Result<RestoreReport> {
    let name = request.snapshot.plan.clone();
    request.events.event(Event::Begun { work: "restore", name });
    let shared = Shared {
        store,
        request,
        is_root: rustix::process::geteuid().is_root(),
        deepest: crate::depth::deepest(1),
        restored: AtomicU64::new(0),
        bytes: AtomicU64::new(0),
        restored_bytes: AtomicU64::new(0),
        left: AtomicU64::new(0),
        same: AtomicU64::new(0),
        removed: AtomicU64::new(0),
        extras: Mutex::default(),
        replaced: AtomicU64::new(0),
        renamed: AtomicU64::new(0),
        in_the_way: Mutex::default(),
        exception_count: AtomicU64::new(0),
        exceptions: Mutex::default(),
        damaged: AtomicU64::new(0),
        failure: Mutex::default(),
        stopped: AtomicBool::new(false),
        current: Mutex::default(),
        links: Mutex::default(),
        set_id: AtomicU64::new(0),
        leftovers: unfinished::Leftovers::default(),
        done: Mutex::default(),
        short: Mutex::default(),
        synced: AtomicU64::new(0),
        keep: own::identities(request.keep),
    };
    let totals = request.paths.iter().map(|located| located.entry.counted());
    let total = totals.fold((0u64, 0u64), |sum, below| {
        (sum.0.saturating_add(below.files), sum.1.saturating_add(below.bytes))
    });
    let walked = match request.host {
        Some(host) => host::work(&shared, host, total),
        None => work(&shared, total),
    };
    let set_id = shared.set_id.load(Ordering::Relaxed);
    if set_id > 0 {
        let note = format!(
            "{set_id} files of other hosts were restored without set-id bits; --set-id keeps them"
        );
        request.events.event(Event::Note(note));
    }
    request.events.event(Event::Ended);
    walked?;
    let failure = locked(&shared.failure).take();
    failure.map_or(Ok(()), Err)?;
    let mut exceptions = shared.exceptions.into_inner().unwrap_or_else(PoisonError::into_inner);
    exceptions.sort_by(|a, b| a.path.cmp(&b.path));
    let mut in_the_way = shared.in_the_way.into_inner().unwrap_or_else(PoisonError::into_inner);
    in_the_way.sort();
    let mut extras = shared.extras.into_inner().unwrap_or_else(PoisonError::into_inner);
    extras.sort();
    Ok(RestoreReport {
        restored: shared.restored.into_inner(),
        bytes: shared.restored_bytes.into_inner(),
        left: shared.left.into_inner(),
        same: shared.same.into_inner(),
        removed: shared.removed.into_inner(),
        extras,
        replaced: shared.replaced.into_inner(),
        renamed: shared.renamed.into_inner(),
        in_the_way,
        short: shared.short.into_inner().unwrap_or_else(PoisonError::into_inner),
        synced: Duration::from_micros(shared.synced.into_inner()),
        exception_count: shared.exception_count.into_inner(),
        exceptions,
        damaged: shared.damaged.into_inner(),
        interrupted: request.cancel.is_cancelled(),
    })
}

fn work(shared: &Shared<'_>, total: (u64, u64)) -> Result<()> {
    let request = shared.request;
    let workshops = drafts::Workshops::default();
    let place: &dyn Awaited = shared.store.place();
    // A process that has to end in the middle of it leaves no directory half dressed.
    let stuck = || workshops.finish_now();
    let result = watched(&[place], request.events, request.cancel, &stuck, || {
        all(shared, &workshops, total)
    });
    // Directories that hold a workshop get their times when it is gone.
    drop(workshops);
    let result = result.and_then(|()| extras::remove(shared));
    if !request.dry_run {
        shared.leftovers.sweep();
        if result.is_ok() {
            let begun = Instant::now();
            walk::sync_roots(shared);
            let took = u64::try_from(begun.elapsed().as_micros()).unwrap_or(u64::MAX);
            shared.synced.store(took, Ordering::Relaxed);
        }
    }
    result
}

fn all<'a>(
    shared: &'a Shared<'a>,
    workshops: &drafts::Workshops<'a>,
    total: (u64, u64),
) -> Result<()> {
    let workers = std::thread::available_parallelism().map_or(2, |count| count.get().clamp(2, 8));
    let (sender, jobs) = crossbeam_channel::bounded(BATCHES);
    let done = AtomicBool::new(false);
    std::thread::scope(|scope| {
        let workers: Vec<_> = (0..workers)
            .map(|_| {
                let jobs = jobs.clone();
                scope.spawn(move || links::work(shared, workshops, &jobs))
            })
            .collect();
        drop(jobs);
        let ticker = scope.spawn(|| {
            let mut meter = Meter::new();
            while !done.load(Ordering::SeqCst) {
                std::thread::park_timeout(TICK);
                shared.request.events.event(Event::Progress(shared.progress(total, &mut meter)));
            }
        });
        let mut batches = Batches::new(&sender);
        let walked = walk::all(shared, workshops, &mut batches);
        batches.flush();
        drop(sender);
        if walked.is_err() {
            shared.stopped.store(true, Ordering::SeqCst);
        }
        let mut panicked = false;
        for worker in workers {
            panicked |= worker.join().is_err();
        }
        let walked = walked.and_then(|()| links::finish(shared, workshops));
        done.store(true, Ordering::SeqCst);
        ticker.thread().unpark();
        if panicked {
            let what = "a worker of the restore panicked; this is a bug".to_owned();
            return Err(StoreError::Stopped(what).into());
        }
        walked
    })
}
