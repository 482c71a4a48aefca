//! The few threads that bring full containers to the place.

use std::{
    sync::{
        Arc, Condvar, Mutex, MutexGuard, PoisonError,
        atomic::{AtomicU64, Ordering},
    },
    thread::JoinHandle,
    time::{Duration, Instant},
};

use crossbeam_channel::{Sender, TrySendError};
use skellin_place::Extent;

use crate::{
    error::{Result, StoreError},
    format::{
        container::{Directory, TRAILER},
        ids::{Class, ContainerId},
    },
    mistakes::is_in_turn,
    records::snapshot::unlike,
    store::Store,
};

/// So often it is looked whether somebody interrupts.
const LOOK: Duration = Duration::from_millis(100);
/// Containers on their way at the same time.
const UPLOADERS: usize = 2;
/// A segment is due after so many containers,
const SEGMENT_CONTAINERS: usize = 64;
/// or so many contents, which are kept in memory until then,
const SEGMENT_ROWS: usize = 200_000;
/// which take so many bytes each and what belongs to it;
const ROW: usize = 48;
/// or after so much time.
const SEGMENT_TIME: Duration = Duration::from_secs(300);
/// The trees so far are made findable after so many containers of data.
const CHECKPOINT_CONTAINERS: u64 = 16;

/// Containers that are at the place but in no segment yet.
pub(crate) type Finished = Vec<(ContainerId, Directory)>;

struct Job {
    id: ContainerId,
    bytes: Vec<u8>,
    directory: Directory,
}

#[derive(Default)]
struct State {
    /// Containers sent and not yet done with.
    open: usize,
    finished: Finished,
    failure: Option<StoreError>,
    said: Option<String>,
    buffers: Vec<Vec<u8>>,
}

struct Shared {
    store: Arc<Store>,
    state: Mutex<State>,
    changed: Condvar,
    stored: AtomicU64,
    data_since_checkpoint: AtomicU64,
    last_segment: Mutex<Instant>,
}

/// The uploaders of a run.
pub(crate) struct Uploads {
    shared: Arc<Shared>,
    sender: Mutex<Option<Sender<Job>>>,
    threads: Mutex<Vec<JoinHandle<()>>>,
}

impl Shared {
    fn state(&self) -> MutexGuard<'_, State> {
        self.state.lock().unwrap_or_else(PoisonError::into_inner)
    }

    fn upload(&self, Job { id, bytes, directory }: Job) {
        // After a failure nothing more is written: the run is lost, the store is not. Looked at in a
        // statement of its own: held during the upload, the lock would keep all others from theirs.
        let is_lost = self.state().said.is_some();
        let done = (!is_lost).then(|| self.store.put_container(id, &bytes));
        let mut state = self.state();
        match done {
            Some(Ok(())) => {
                self.stored.fetch_add(bytes.len() as u64, Ordering::Relaxed);
                if id.class == Class::Data {
                    self.data_since_checkpoint.fetch_add(1, Ordering::Relaxed);
                }
                if id.class == Class::Tree {
                    self.store.nearby.keep_tree(id, &bytes);
                }
                state.finished.push((id, directory));
            }
            Some(Err(error)) => {
                state.said.get_or_insert(error.to_string());
                state.failure.get_or_insert(error);
            }
            None => {}
        }
        state.buffers.push(bytes);
        state.open -= 1;
        self.changed.notify_all();
    }
}

impl Store {
    /// Puts a container, a tree's twice, and proves that it is there as it should be: a tree by
    /// reading it back, data by its end, which says how long it is.
    fn put_container(&self, id: ContainerId, bytes: &[u8]) -> Result<()> {
        let extent = match id.class {
            Class::Data => Extent::Tail(TRAILER as u64),
            Class::Tree => Extent::Within(bytes.len() as u64),
        };
        let copies = [id.spare()?, Some(id.object()?)].into_iter().flatten();
        for name in copies {
            match self.place.create(&name, bytes) {
                // Somebody who found it half written for a long time took its writer for dead.
                Err(error) if error.is_not_found() => self.place.create(&name, bytes)?,
                other => other?,
            }
            let mut back = Vec::new();
            self.place.read(&name, extent, &mut back)?;
            if back.is_empty()
                || !bytes.ends_with(&back)
                || (id.class == Class::Tree && back != bytes)
            {
                return Err(unlike(name.as_str()));
            }
        }
        Ok(())
    }
}

impl Uploads {
    pub fn start(store: Arc<Store>) -> Result<Self> {
        let shared = Arc::new(Shared {
            store,
            state: Mutex::default(),
            changed: Condvar::new(),
            stored: AtomicU64::new(0),
            data_since_checkpoint: AtomicU64::new(0),
            last_segment: Mutex::new(Instant::now()),
        });
        // No queue: what is finished is on its way, so that a kill costs no more than that.
        let (sender, jobs) = crossbeam_channel::bounded(0);
        let uploaders = if is_in_turn() { 0 } else { UPLOADERS };
        let threads = (0..uploaders)
            .map(|number| {
                let (shared, jobs) = (Arc::clone(&shared), jobs.clone());
                std::thread::Builder::new()
                    .name(format!("upload-{number}"))
                    .spawn(move || jobs.iter().for_each(|job| shared.upload(job)))
                    .map_err(|error| StoreError::local("starting an uploader", error))
            })
            .collect::<Result<_>>()?;
        Ok(Self { shared, sender: Mutex::new(Some(sender)), threads: Mutex::new(threads) })
    }

    /// Brings a container on its way: by an uploader that is free, else by the caller itself.
    pub fn send(&self, id: ContainerId, bytes: Vec<u8>, directory: Directory) -> Result<()> {
        self.check()?;
        let sender = self.sender.lock().unwrap_or_else(PoisonError::into_inner).clone();
        let sender = sender.ok_or(StoreError::Cancelled)?;
        self.shared.state().open += 1;
        match sender.try_send(Job { id, bytes, directory }) {
            Ok(()) => Ok(()),
            Err(TrySendError::Full(job) | TrySendError::Disconnected(job)) => {
                self.shared.upload(job);
                self.check()
            }
        }
    }

    /// Fails if an upload has failed.
    pub fn check(&self) -> Result<()> {
        let mut state = self.shared.state();
        if let Some(failure) = state.failure.take() {
            return Err(failure);
        }
        match &state.said {
            Some(said) => Err(StoreError::Stopped(said.clone())),
            None => Ok(()),
        }
    }

    /// A buffer to fill, perhaps one that was uploaded.
    pub fn buffer(&self) -> Vec<u8> {
        self.shared.state().buffers.pop().unwrap_or_default()
    }

    pub fn stored_bytes(&self) -> u64 {
        self.shared.stored.load(Ordering::Relaxed)
    }

    /// Whether enough data went by that the trees so far should be findable.
    pub fn is_checkpoint_due(&self) -> bool {
        let since = &self.shared.data_since_checkpoint;
        since.load(Ordering::Relaxed) >= CHECKPOINT_CONTAINERS && {
            since.store(0, Ordering::Relaxed);
            true
        }
    }

    /// What the next segment lists, if it is due.
    pub fn take_due(&self) -> Option<Finished> {
        let mut last = self.shared.last_segment.lock().unwrap_or_else(PoisonError::into_inner);
        let mut state = self.shared.state();
        let rows: usize = state.finished.iter().map(|(_, directory)| directory.rows.len()).sum();
        let due = state.finished.len() >= SEGMENT_CONTAINERS
            || rows >= self.most_rows()
            || (!state.finished.is_empty() && last.elapsed() >= SEGMENT_TIME);
        due.then(|| {
            *last = Instant::now();
            std::mem::take(&mut state.finished)
        })
    }

    /// So many rows make a segment due; fewer where the line carries little at once.
    fn most_rows(&self) -> usize {
        let store = &self.shared.store;
        let full = store.full_container();
        match full < store.header.layout.container {
            true => SEGMENT_ROWS.min(full as usize / ROW),
            false => SEGMENT_ROWS,
        }
    }

    /// Waits until everything is at the place, unless somebody interrupts; what no segment lists yet.
    pub fn drain(&self, is_cancelled: &dyn Fn() -> bool) -> Result<Finished> {
        let mut state = self.shared.state();
        while state.open > 0 && state.said.is_none() {
            if is_cancelled() {
                return Err(StoreError::Cancelled);
            }
            let waited = self.shared.changed.wait_timeout(state, LOOK);
            state = waited.unwrap_or_else(PoisonError::into_inner).0;
        }
        drop(state);
        self.check()?;
        Ok(std::mem::take(&mut self.shared.state().finished))
    }

    /// Gives up: nothing more is written but what is on its way, and nobody waits for that.
    pub fn abandon(&self) {
        self.shared.state().said.get_or_insert_with(|| "it was cancelled".to_owned());
        self.shared.changed.notify_all();
        self.sender.lock().unwrap_or_else(PoisonError::into_inner).take();
        self.threads.lock().unwrap_or_else(PoisonError::into_inner).clear();
    }
}

impl Drop for Uploads {
    fn drop(&mut self) {
        self.sender.lock().unwrap_or_else(PoisonError::into_inner).take();
        for thread in self.threads.lock().unwrap_or_else(PoisonError::into_inner).drain(..) {
            // A thread that panicked has left `open` above zero, which nobody waits for any more.
            let _ = thread.join();
        }
    }
}
