//! The workers of a run: identical, each carrying a directory or a file through all steps.
//!
//! Tasks lie on one stack. Files are taken before directories, and a directory is worked through
//! in windows of names, so that what is in memory depends on the depth of the tree and never on
//! its size.

use std::{
    collections::{HashMap, HashSet},
    os::unix::fs::MetadataExt,
    path::PathBuf,
    sync::{
        Arc, Condvar, Mutex, PoisonError,
        atomic::{AtomicBool, AtomicU64, AtomicUsize, Ordering},
    },
    thread::ThreadId,
    time::{Duration, Instant},
};

use skellin_plan::Verdict;
use skellin_store::{Comparison, Entry, ExceptionRecord, Recipe, RunId, Session, Store};

use super::{
    RunRequest,
    estimate::Draw,
    report::{Change, PathChange, RunReport, RunStatus},
    task::Task,
};
use crate::{
    cause::Cause,
    counts::{ByteCounts, FileCounts},
    depth::deepest,
    error::{EngineError, Result},
    event::{Event, EventSink, Exception},
    ground::Trouble,
    judge::Judge,
    locked::locked,
    metadata::Owners,
    walk::Judging,
};

/// So many exceptions are kept with path and reason; all are counted.
const MOST_EXCEPTIONS: usize = 1000;
/// So many of them go into the snapshot.
const EXCEPTIONS_IN_SNAPSHOT: usize = 100;
/// Files with several names whose content is remembered until the next name comes by.
pub(super) const MOST_LINKED: usize = 100_000;

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

/// Threads that fetch from other hosts.
const FETCHERS: usize = 16;
/// Content of other hosts that was fetched and waits for a worker, in bytes at most.
const FETCHED_AHEAD: u64 = 64 << 20;
/// No more than this of one file is fetched ahead, in bytes.
const LARGEST_PART: u64 = 32 << 20;
/// Directories of other hosts that were listed and wait for a worker, at most.
const LISTED_AHEAD: u64 = 64;

/// What waits for a worker after it was fetched.
#[derive(Clone, Copy, Default)]
struct Ahead {
    bytes: u64,
    directories: u64,
}

impl Ahead {
    fn of(task: &Task<'_>) -> Self {
        match task {
            Task::Directory(_) => Self { bytes: 0, directories: 1 },
            Task::Part(_) => Self::default(),
            Task::File(file) => Self { bytes: file.facts.size().min(LARGEST_PART), directories: 0 },
        }
    }
}

#[derive(Default)]
struct State<'s> {
    tasks: Vec<Task<'s>>,
    /// What has to be fetched before a worker can go on with it.
    far: Vec<Task<'s>>,
    /// How many of them are being fetched.
    fetching: usize,
    ahead: Ahead,
    finished: bool,
    failure: Option<EngineError>,
}

impl<'s> State<'s> {
    fn take(&mut self) -> Option<Task<'s>> {
        let task = self.tasks.pop()?;
        if task.was_fetched() {
            let was = Ahead::of(&task);
            self.ahead.bytes = self.ahead.bytes.saturating_sub(was.bytes);
            self.ahead.directories = self.ahead.directories.saturating_sub(was.directories);
        }
        Some(task)
    }

    /// Whether something will come from another host.
    fn is_fetching(&self) -> bool {
        self.fetching > 0 || !self.far.is_empty()
    }
}

/// What came of waiting for a task.
pub(super) enum Waited<'s> {
    Task(Task<'s>),
    /// Nothing will come unless what is held back is handed over.
    Nothing,
    /// The work has ended.
    End,
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
    /// The rules, ready for each source; or why they are not.
    pub judges: Vec<Result<Judge, Cause>>,
    pub keep_out: HashSet<(u64, u64)>,
    pub keep_out_paths: Vec<PathBuf>,
    pub workers: usize,
    /// So deep a tree is gone into.
    pub deepest: usize,
    /// Threads that fetch from other hosts.
    pub fetchers: usize,
    pub counts: Counts,
    pub owners: Owners,
    pub linked: Mutex<HashMap<(u64, u64), Linked>>,
    pub events: &'s dyn EventSink,
    cancel: &'s crate::clock::Cancel,
    list_paths: bool,
    /// How many paths each rule decided.
    decided: Vec<AtomicU64>,
    /// Places drawn from what a run would read.
    pub draw: Draw,
    stopped: AtomicBool,
    pub roots_left: AtomicUsize,
    roots: Mutex<Vec<(usize, Entry)>>,
    state: Mutex<State<'s>>,
    wake: Condvar,
    wake_fetchers: Condvar,
    ended: Condvar,
    /// What each thread works on, and since when.
    doing: Mutex<HashMap<ThreadId, (Vec<u8>, Instant)>>,
    exceptions: Mutex<Vec<Exception>>,
    paths: Mutex<Vec<PathChange>>,
    pub survey_files: AtomicU64,
    pub survey_bytes: AtomicU64,
    pub survey_done: AtomicBool,
}

/// Whether a failure says no more than that another came before it.
fn is_consequence(failure: &EngineError) -> bool {
    use skellin_store::StoreError::{Cancelled, Stopped};
    matches!(failure, EngineError::Store(Stopped(_) | Cancelled))
}

/// Which of two failures is told: the cause, not what followed from it, whichever worker comes first.
fn the_cause(told: Option<EngineError>, failure: EngineError) -> EngineError {
    match told {
        Some(told) if is_consequence(&failure) || !is_consequence(&told) => told,
        _ => failure,
    }
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
        let now = request.clock.now();
        let judge = |source: &Source| match request.grounds.of(&source.path) {
            Ok(origin) => Judge::new(&plan.rules, origin, &source.path, now).map(Ok),
            // What is wrong with one host is told of its source.
            Err(error) => Ok(Err(Cause::other(error.to_string()))),
        };
        let judges: Vec<_> = sources.iter().map(judge).collect::<Result<_, _>>()?;
        let has_far = judges.iter().flatten().any(|judge| judge.origin().is_far());
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
            judges,
            keep_out: request.keep_out.iter().filter_map(identity).collect(),
            keep_out_paths: request
                .keep_out
                .iter()
                .filter_map(|path| path.canonicalize().ok())
                .collect(),
            workers,
            deepest: deepest(workers),
            fetchers: if has_far { FETCHERS } else { 0 },
            counts: Counts::default(),
            owners: Owners::default(),
            linked: Mutex::default(),
            events: request.events,
            cancel: request.cancel,
            list_paths: request.list_paths,
            decided: plan.rules.rules().iter().map(|_| AtomicU64::new(0)).collect(),
            draw: Draw::new(),
            stopped: AtomicBool::new(false),
            roots_left: AtomicUsize::new(0),
            roots: Mutex::default(),
            state: Mutex::default(),
            wake: Condvar::new(),
            wake_fetchers: Condvar::new(),
            ended: Condvar::new(),
            doing: Mutex::default(),
            exceptions: Mutex::default(),
            paths: Mutex::default(),
            survey_files: AtomicU64::new(0),
            survey_bytes: AtomicU64::new(0),
            survey_done: AtomicBool::new(false),
        })
    }

    /// By what the names of a source are judged.
    pub fn judging<'a>(&'a self, judge: &'a Judge) -> Judging<'a> {
        Judging { judge, owners: &self.owners, keep_out: &self.keep_out }
    }

    pub fn guard(&self) -> Guard<'_, 's> {
        Guard(self)
    }

    /// A task, if there is one and the work goes on.
    pub fn take_task(&self) -> Option<Task<'s>> {
        if self.is_stopped() {
            return None;
        }
        let task = locked(&self.state).take();
        if task.as_ref().is_some_and(Task::was_fetched) {
            self.wake_fetchers.notify_all();
        }
        task
    }

    /// Waits for a task. `holds_back`: whether the worker has files that others may wait for; it is
    /// told when nothing will come without them.
    pub fn wait_for_task(&self, holds_back: bool) -> Waited<'s> {
        self.clear_current();
        let mut state = locked(&self.state);
        loop {
            if self.is_stopped() {
                return Waited::End;
            }
            match state.take() {
                Some(task) => {
                    self.wake_fetchers.notify_all();
                    return Waited::Task(task);
                }
                None if state.finished => return Waited::End,
                None if holds_back && !state.is_fetching() => return Waited::Nothing,
                None => state = self.wake.wait(state).unwrap_or_else(PoisonError::into_inner),
            }
        }
    }

    /// Waits for something to fetch; `None` at the end of the work.
    pub fn wait_for_far(&self) -> Option<Task<'s>> {
        let mut state = locked(&self.state);
        loop {
            if self.is_stopped() || state.finished {
                return None;
            }
            let ahead = state.ahead;
            if ahead.bytes < FETCHED_AHEAD
                && ahead.directories < LISTED_AHEAD
                && let Some(task) = state.far.pop()
            {
                let more = Ahead::of(&task);
                state.ahead.bytes += more.bytes;
                state.ahead.directories += more.directories;
                state.fetching += 1;
                return Some(task);
            }
            state = self.wake_fetchers.wait(state).unwrap_or_else(PoisonError::into_inner);
        }
    }

    /// Something was fetched.
    pub fn fetched(&self, task: Task<'s>) {
        let mut state = locked(&self.state);
        state.tasks.push(task);
        state.fetching -= 1;
        let is_last = !state.is_fetching();
        drop(state);
        if is_last { self.wake.notify_all() } else { self.wake.notify_one() }
    }

    /// Puts tasks on the stack.
    pub fn push(&self, tasks: impl IntoIterator<Item = Task<'s>>) {
        let mut state = locked(&self.state);
        let (before, far_before) = (state.tasks.len(), state.far.len());
        for task in tasks {
            if task.is_to_be_fetched() { state.far.push(task) } else { state.tasks.push(task) }
        }
        match state.tasks.len() - before {
            0 => {}
            1 => self.wake.notify_one(),
            _ => self.wake.notify_all(),
        }
        if state.far.len() > far_before {
            self.wake_fetchers.notify_all();
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
            self.wake_fetchers.notify_all();
            self.ended.notify_all();
        }
    }

    /// Ends the work early.
    pub fn stop(&self, failure: Option<EngineError>) {
        let mut state = locked(&self.state);
        if let Some(failure) = failure {
            let told = state.failure.take();
            state.failure = Some(the_cause(told, failure));
        }
        if !state.finished {
            self.stopped.store(true, Ordering::SeqCst);
        }
        drop(state);
        self.wake.notify_all();
        self.wake_fetchers.notify_all();
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

    /// Counts what decided on a path.
    pub fn decide(&self, verdict: Verdict) {
        if let Some(counter) = verdict.rule.and_then(|rule| self.decided.get(rule)) {
            add(counter, 1);
        }
    }

    /// Notes a path that cannot be looked at or read; if its host cannot be asked any more, the
    /// work ends, and the next run goes on with it.
    pub fn trouble(&self, path: &[u8], trouble: Trouble) {
        match trouble.of_the_way() {
            Ok(failure) => self.stop(Some(failure)),
            Err(trouble) => self.exception(path, trouble.cause(true)),
        }
    }

    /// Notes a path that cannot be handled.
    pub fn exception(&self, path: &[u8], cause: Cause) {
        add(&self.counts.exceptions, 1);
        let exception = Exception { path: path.to_vec(), cause };
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
            reason: exception.cause.words.clone(),
        });
        (self.counts.exceptions.load(Ordering::Relaxed), first.collect())
    }

    /// Counts what became of a path that is no directory.
    pub fn count(&self, change: Change, path: &[u8], size: u64, rule: Option<usize>) {
        if change == Change::Same {
            add(&self.counts.files, 1);
            add(&self.counts.bytes, size);
        }
        self.count_read(change, path, size, rule);
    }

    /// As [`count`](Self::count), for a file whose bytes were counted when they were read.
    pub fn count_read(&self, change: Change, path: &[u8], size: u64, rule: Option<usize>) {
        let counts = &self.counts;
        let counter = match change {
            Change::New => &counts.new,
            Change::Changed => &counts.changed,
            Change::Gone => &counts.gone,
            Change::Same => &counts.same,
            Change::Skipped => &counts.skipped,
        };
        add(counter, 1);
        if self.list_paths {
            locked(&self.paths).push(PathChange { path: path.to_vec(), change, size, rule });
        }
    }

    /// Notes what this thread is about to work on.
    pub fn set_current(&self, path: &[u8]) {
        let mut doing = locked(&self.doing);
        let (known, since) = doing
            .entry(std::thread::current().id())
            .or_insert_with(|| (Vec::new(), Instant::now()));
        known.clear();
        known.extend_from_slice(path);
        *since = Instant::now();
    }

    /// Notes that this thread works on nothing.
    pub fn clear_current(&self) {
        locked(&self.doing).remove(&std::thread::current().id());
    }

    /// What was begun last.
    pub fn current_path(&self) -> Vec<u8> {
        let doing = locked(&self.doing);
        let last = doing.values().max_by_key(|(_, since)| *since);
        last.map_or_else(Vec::new, |(path, _)| path.clone())
    }

    /// What a thread has been working on for longest, and since when.
    pub fn doing_longest(&self) -> Option<(Vec<u8>, Duration)> {
        let doing = locked(&self.doing);
        let (path, since) = doing.values().min_by_key(|(_, since)| *since)?;
        Some((path.clone(), since.elapsed()))
    }

    /// Whether totals have to be counted, since no snapshot tells them. Other hosts are not gone
    /// through twice.
    pub fn needs_survey(&self) -> bool {
        self.session.is_some() && self.comparison.base().is_none() && self.fetchers == 0
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
        snapshot: Option<RunId>,
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
            run: self.session.map(|session| session.run()),
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
            shrinkage: None,
            paths,
            decided: self.decided.iter().map(load).collect(),
            outlook: None,
            not_entered: Vec::new(),
            not_left: Vec::new(),
            damage: Vec::new(),
        }
    }
}

#[cfg(test)]
mod tests {
    use skellin_store::StoreError;

    use super::*;

    #[test]
    fn the_cause_is_told_whichever_worker_comes_first() {
        let cause = || EngineError::from(StoreError::Lost("its content".to_owned()));
        let followed = || EngineError::from(StoreError::Cancelled);
        for told in [
            the_cause(Some(cause()), followed()),
            the_cause(Some(followed()), cause()),
            the_cause(None, cause()),
        ] {
            assert_eq!(told.to_string(), cause().to_string());
        }
        let other = EngineError::from(StoreError::Lost("another".to_owned()));
        assert_eq!(the_cause(Some(cause()), other).to_string(), cause().to_string());
    }
}
