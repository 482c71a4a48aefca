//! The workers of a run: identical, each carrying a directory or a file through all steps.
//!
//! Tasks lie on one stack. Files are taken before directories, and a directory is worked through
//! in windows of names, so that what is in memory depends on the depth of the tree and never on
//! its size.

use std::{
    collections::{HashMap, HashSet},
    os::unix::{ffi::OsStrExt, fs::MetadataExt},
    path::PathBuf,
    sync::{
        Arc, Condvar, Mutex, MutexGuard, PoisonError,
        atomic::{AtomicBool, AtomicU64, AtomicUsize, Ordering},
    },
    time::Duration,
};

use skellin_plan::Matcher;
use skellin_store::{
    Body, Comparison, ContentWriter, Entry, ExceptionRecord, Recipe, Session, Store,
};

use super::{
    RunRequest,
    directory::{self, Begun, Directory},
    file::{self, FileTask},
    report::{ByteCounts, Change, FileCounts, PathChange, RunReport, RunStatus},
};
use crate::{
    error::{EngineError, Result},
    event::{Event, EventSink, Exception},
    metadata::Owners,
};

/// So many exceptions are kept with path and reason; all are counted.
const MOST_EXCEPTIONS: usize = 1000;
/// So many of them go into the snapshot.
const EXCEPTIONS_IN_SNAPSHOT: usize = 100;
/// Files with several names whose content is remembered until the next name comes by.
const MOST_LINKED: usize = 100_000;

/// One source.
pub(super) struct Source {
    pub path: PathBuf,
    /// Its name in the root of the snapshot.
    pub name: Vec<u8>,
}

/// Numbers that all workers add to.
#[derive(Default)]
pub(super) struct Counts {
    pub files: AtomicU64,
    pub bytes: AtomicU64,
    pub read: AtomicU64,
    pub exceptions: AtomicU64,
    pub sockets: AtomicU64,
    pub new: AtomicU64,
    pub changed: AtomicU64,
    pub gone: AtomicU64,
    pub same: AtomicU64,
    pub skipped: AtomicU64,
}

pub(super) fn add(counter: &AtomicU64, amount: u64) {
    counter.fetch_add(amount, Ordering::Relaxed);
}

/// Something to do.
pub(super) enum Task<'s> {
    /// Go on with a directory.
    Directory(Arc<Directory<'s>>),
    /// Read a file.
    File(Box<FileTask<'s>>),
}

/// To whom a finished entry is handed.
#[derive(Clone)]
pub(super) enum Parent<'s> {
    /// A place in the open window of a directory.
    Directory(Arc<Directory<'s>>, usize),
    /// A source.
    Root(usize),
}

#[derive(Default)]
struct State<'s> {
    tasks: Vec<Task<'s>>,
    finished: bool,
    failure: Option<EngineError>,
}

/// Content of a file with several names, for the next of them.
pub(super) struct Linked {
    pub changed: skellin_store::Moment,
    pub size: u64,
    pub recipe: Recipe,
}

/// All that the workers of a run share.
pub(super) struct Pool<'s> {
    pub store: &'s Store,
    pub session: Option<&'s Arc<Session>>,
    pub comparison: &'s Comparison,
    pub sources: Vec<Source>,
    pub matchers: Vec<Matcher>,
    pub keep_out: HashSet<(u64, u64)>,
    keep_out_paths: Vec<PathBuf>,
    pub workers: usize,
    pub counts: Counts,
    pub owners: Owners,
    pub linked: Mutex<HashMap<(u64, u64), Linked>>,
    pub events: &'s dyn EventSink,
    cancel: &'s crate::clock::Cancel,
    list_paths: bool,
    stopped: AtomicBool,
    roots_left: AtomicUsize,
    roots: Mutex<Vec<(usize, Entry)>>,
    state: Mutex<State<'s>>,
    wake: Condvar,
    ended: Condvar,
    current: Mutex<Vec<u8>>,
    exceptions: Mutex<Vec<Exception>>,
    paths: Mutex<Vec<PathChange>>,
    pub survey_files: AtomicU64,
    pub survey_bytes: AtomicU64,
    pub survey_done: AtomicBool,
}

pub(super) fn locked<T>(mutex: &Mutex<T>) -> MutexGuard<'_, T> {
    mutex.lock().unwrap_or_else(PoisonError::into_inner)
}

/// Ends the work when a worker ends, however it ends.
pub(super) struct Guard<'p, 's>(&'p Pool<'s>);

impl Drop for Guard<'_, '_> {
    fn drop(&mut self) {
        if std::thread::panicking() {
            self.0.stop(None);
        }
    }
}

impl<'s> Pool<'s> {
    pub fn new(
        store: &'s Store,
        session: Option<&'s Arc<Session>>,
        comparison: &'s Comparison,
        request: &RunRequest<'s>,
    ) -> Result<Self> {
        let plan = request.plan;
        let sources = super::name_sources(&plan.sources);
        let matcher = |source: &Source| plan.rules.matcher(source.path.as_os_str().as_bytes());
        let matchers =
            sources.iter().map(matcher).collect::<Result<_, _>>().map_err(EngineError::Rules)?;
        let identity = |path: &PathBuf| {
            let metadata = std::fs::metadata(path).ok()?;
            Some((metadata.dev(), metadata.ino()))
        };
        let workers = plan.readers.map_or_else(
            || std::thread::available_parallelism().map_or(2, |count| count.get().clamp(2, 16)),
            |readers| readers as usize,
        );
        Ok(Self {
            store,
            session,
            comparison,
            sources,
            matchers,
            keep_out: request.keep_out.iter().filter_map(identity).collect(),
            keep_out_paths: request
                .keep_out
                .iter()
                .filter_map(|path| path.canonicalize().ok())
                .collect(),
            workers,
            counts: Counts::default(),
            owners: Owners::default(),
            linked: Mutex::default(),
            events: request.events,
            cancel: request.cancel,
            list_paths: request.list_paths,
            stopped: AtomicBool::new(false),
            roots_left: AtomicUsize::new(0),
            roots: Mutex::default(),
            state: Mutex::default(),
            wake: Condvar::new(),
            ended: Condvar::new(),
            current: Mutex::default(),
            exceptions: Mutex::default(),
            paths: Mutex::default(),
            survey_files: AtomicU64::new(0),
            survey_bytes: AtomicU64::new(0),
            survey_done: AtomicBool::new(false),
        })
    }

    /// Puts the sources on the stack; how many there are.
    pub fn start(&self) -> Result<usize> {
        self.roots_left.store(self.sources.len(), Ordering::SeqCst);
        let mut begun = 0;
        for number in 0..self.sources.len() {
            let path = &self.sources[number].path;
            let real = path.canonicalize().unwrap_or_else(|_| path.clone());
            if let Some(ours) = self.keep_out_paths.iter().find(|ours| real.starts_with(ours)) {
                let text = format!(
                    "the source {} lies in {}, which is skellin's own; it is left out",
                    path.display(),
                    ours.display()
                );
                self.events.event(Event::Note(text));
                self.root_done(number, None);
                continue;
            }
            match directory::begin_source(self, number) {
                Ok(Begun::Task(task)) => {
                    begun += 1;
                    self.push([task]);
                }
                Ok(Begun::Finished(entry)) => {
                    begun += 1;
                    self.root_done(number, entry.map(|entry| *entry));
                }
                Err(reason) => {
                    self.exception(path.as_os_str().as_bytes(), &reason);
                    self.root_done(number, None);
                }
            }
        }
        Ok(begun)
    }

    pub fn guard(&self) -> Guard<'_, 's> {
        Guard(self)
    }

    /// Works until nothing is left.
    pub fn work(&self) {
        if let Err(error) = self.try_work() {
            self.stop(Some(error));
        }
    }

    fn try_work(&self) -> Result<()> {
        let mut writer = match self.session {
            Some(session) => Some(ContentWriter::new(session)?),
            None => None,
        };
        let mut buffer = Vec::new();
        while let Some(task) = self.next_task(&mut writer)? {
            match task {
                Task::Directory(directory) => directory::advance(self, directory)?,
                Task::File(task) => file::store(self, *task, &mut writer, &mut buffer)?,
            }
            self.hand_over(&mut writer)?;
        }
        match &mut writer {
            Some(writer) if !self.is_stopped() => Ok(writer.close()?),
            _ => Ok(()),
        }
    }

    /// The next task. A worker that finds none seals its open block first: somebody may wait for
    /// the files in it.
    fn next_task(
        &self,
        writer: &mut Option<ContentWriter<Box<FileTask<'s>>>>,
    ) -> Result<Option<Task<'s>>> {
        let mut state = locked(&self.state);
        loop {
            if self.is_stopped() {
                return Ok(None);
            }
            if let Some(task) = state.tasks.pop() {
                return Ok(Some(task));
            }
            match writer {
                Some(open) if open.is_waiting() => {
                    drop(state);
                    open.flush()?;
                    self.hand_over(writer)?;
                    state = locked(&self.state);
                }
                _ if state.finished => return Ok(None),
                _ => state = self.wake.wait(state).unwrap_or_else(PoisonError::into_inner),
            }
        }
    }

    /// Hands finished files to their directories.
    fn hand_over(&self, writer: &mut Option<ContentWriter<Box<FileTask<'s>>>>) -> Result<()> {
        let Some(writer) = writer else { return Ok(()) };
        for (task, content) in writer.take_done() {
            let FileTask { parent, mut entry, .. } = *task;
            if let Some(identity) = entry.links {
                let mut linked = locked(&self.linked);
                if linked.len() < MOST_LINKED {
                    let (changed, recipe) = (entry.changed, content.recipe.clone());
                    linked.insert(identity, Linked { changed, size: content.size, recipe });
                }
            }
            entry.body = Body::File { size: content.size, recipe: content.recipe };
            directory::complete(self, parent, Some(entry))?;
        }
        Ok(())
    }

    pub fn push(&self, tasks: impl IntoIterator<Item = Task<'s>>) {
        let mut state = locked(&self.state);
        let before = state.tasks.len();
        state.tasks.extend(tasks);
        match state.tasks.len() - before {
            0 => {}
            1 => self.wake.notify_one(),
            _ => self.wake.notify_all(),
        }
    }

    /// A source is finished; with the last one the work is.
    pub fn root_done(&self, number: usize, entry: Option<Entry>) {
        if let Some(mut entry) = entry {
            entry.name.clone_from(&self.sources[number].name);
            locked(&self.roots).push((number, entry));
        }
        if self.roots_left.fetch_sub(1, Ordering::SeqCst) == 1 {
            locked(&self.state).finished = true;
            self.wake.notify_all();
            self.ended.notify_all();
        }
    }

    /// Ends the work early.
    pub fn stop(&self, failure: Option<EngineError>) {
        let mut state = locked(&self.state);
        if let Some(failure) = failure {
            // What follows from the first failure says less than it.
            let follows = matches!(
                failure,
                EngineError::Store(
                    skellin_store::StoreError::Stopped(_) | skellin_store::StoreError::Cancelled
                )
            );
            if state.failure.is_none() || !follows {
                state.failure.get_or_insert(failure);
            }
        }
        if !state.finished {
            self.stopped.store(true, Ordering::SeqCst);
        }
        drop(state);
        self.wake.notify_all();
        self.ended.notify_all();
    }

    pub fn is_stopped(&self) -> bool {
        self.stopped.load(Ordering::Relaxed) || self.cancel.is_cancelled()
    }

    /// Waits a while; whether the work has ended.
    pub fn wait(&self, time: Duration) -> bool {
        let over = |state: &State<'_>| state.finished || self.stopped.load(Ordering::Relaxed);
        let state = locked(&self.state);
        if over(&state) {
            return true;
        }
        let (state, _) =
            self.ended.wait_timeout(state, time).unwrap_or_else(PoisonError::into_inner);
        over(&state)
    }

    pub fn take_failure(&self) -> Result<()> {
        match locked(&self.state).failure.take() {
            Some(failure) => Err(failure),
            None => Ok(()),
        }
    }

    pub fn take_roots(&self) -> Vec<(usize, Entry)> {
        std::mem::take(&mut *locked(&self.roots))
    }

    /// Notes a path that cannot be handled.
    pub fn exception(&self, path: &[u8], reason: &str) {
        add(&self.counts.exceptions, 1);
        let exception = Exception { path: path.to_vec(), reason: reason.to_owned() };
        self.events.event(Event::Exception(exception.clone()));
        let mut exceptions = locked(&self.exceptions);
        if exceptions.len() < MOST_EXCEPTIONS {
            exceptions.push(exception);
        }
    }

    pub fn exception_records(&self) -> (u64, Vec<ExceptionRecord>) {
        let records = locked(&self.exceptions);
        let first = records.iter().take(EXCEPTIONS_IN_SNAPSHOT).map(|exception| ExceptionRecord {
            path: exception.path.clone().into(),
            reason: exception.reason.clone(),
        });
        (self.counts.exceptions.load(Ordering::Relaxed), first.collect())
    }

    /// Counts what became of a path that is no directory.
    pub fn count(&self, change: Change, path: &[u8], size: u64, rule: Option<usize>) {
        let counts = &self.counts;
        let counter = match change {
            Change::New => &counts.new,
            Change::Changed => &counts.changed,
            Change::Gone => &counts.gone,
            Change::Same => &counts.same,
            Change::Skipped => &counts.skipped,
        };
        add(counter, 1);
        if change == Change::Same {
            add(&counts.files, 1);
            add(&counts.bytes, size);
        }
        if self.list_paths {
            locked(&self.paths).push(PathChange { path: path.to_vec(), change, size, rule });
        }
    }

    pub fn set_current(&self, path: &[u8]) {
        let mut current = locked(&self.current);
        current.clear();
        current.extend_from_slice(path);
    }

    pub fn current_path(&self) -> Vec<u8> {
        locked(&self.current).clone()
    }

    /// Whether totals have to be counted, since no snapshot tells them.
    pub fn needs_survey(&self) -> bool {
        self.session.is_some() && self.comparison.base().is_none()
    }

    pub fn total_files(&self) -> Option<u64> {
        match self.comparison.base() {
            Some(base) => Some(base.files),
            None => self.surveyed(&self.survey_files),
        }
    }

    pub fn total_bytes(&self) -> Option<u64> {
        match self.comparison.base() {
            Some(base) => Some(base.bytes),
            None => self.surveyed(&self.survey_bytes),
        }
    }

    fn surveyed(&self, counter: &AtomicU64) -> Option<u64> {
        self.survey_done.load(Ordering::SeqCst).then(|| counter.load(Ordering::SeqCst))
    }

    pub fn into_report(
        self,
        request: &RunRequest<'_>,
        started: i64,
        snapshot: Option<[u8; 16]>,
    ) -> RunReport {
        let load = |counter: &AtomicU64| counter.load(Ordering::Relaxed);
        let counts = &self.counts;
        let interrupted = snapshot.is_none() && (!request.dry_run || request.cancel.is_cancelled());
        let status = match (interrupted, load(&counts.exceptions)) {
            (true, _) => RunStatus::Interrupted,
            (false, 0) => RunStatus::Done,
            (false, _) => RunStatus::Exceptions,
        };
        let (new, stored) =
            self.session.map_or((0, 0), |session| (session.new_bytes(), session.stored_bytes()));
        let mut paths = std::mem::take(&mut *locked(&self.paths));
        paths.sort_by(|a, b| a.path.cmp(&b.path));
        let mut exceptions = std::mem::take(&mut *locked(&self.exceptions));
        exceptions.sort_by(|a, b| a.path.cmp(&b.path));
        RunReport {
            run: self.session.map(|session| session.run().0),
            snapshot,
            dry_run: request.dry_run,
            status,
            started,
            ended: request.clock.now(),
            files: FileCounts {
                new: load(&counts.new),
                changed: load(&counts.changed),
                gone: load(&counts.gone),
                same: load(&counts.same),
                skipped: load(&counts.skipped),
            },
            bytes: ByteCounts { read: load(&counts.read), new, stored },
            total_bytes: load(&counts.bytes),
            sockets: load(&counts.sockets),
            exception_count: load(&counts.exceptions),
            exceptions,
            paths,
        }
    }
}
