//! Who does what next: tasks on one stack, and what has to be fetched from other hosts before a worker
//! can go on with it.

use std::{
    sync::{
        Condvar, Mutex, PoisonError,
        atomic::{AtomicBool, AtomicUsize, Ordering},
    },
    time::Duration,
};

use super::task::Task;
use crate::{
    clock::Cancel,
    error::{EngineError, Result},
    locked::locked,
};

/// Threads that fetch from other hosts.
pub(super) const FETCHERS: usize = 16;
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

/// The tasks of a run, and whether it goes on.
pub(super) struct Scheduler<'s> {
    cancel: &'s Cancel,
    stopped: AtomicBool,
    /// Sources that are not finished.
    roots_left: AtomicUsize,
    state: Mutex<State<'s>>,
    wake: Condvar,
    wake_fetchers: Condvar,
    ended: Condvar,
}

/// Ends the work when a worker ends by a panic, so that nobody waits for it.
pub(super) struct Guard<'p, 's>(&'p Scheduler<'s>);

impl Drop for Guard<'_, '_> {
    fn drop(&mut self) {
        if std::thread::panicking() {
            self.0.stop(None);
        }
    }
}

impl<'s> Scheduler<'s> {
    pub fn new(cancel: &'s Cancel) -> Self {
        Self {
            cancel,
            stopped: AtomicBool::new(false),
            roots_left: AtomicUsize::new(0),
            state: Mutex::default(),
            wake: Condvar::new(),
            wake_fetchers: Condvar::new(),
            ended: Condvar::new(),
        }
    }

    pub fn guard(&self) -> Guard<'_, 's> {
        Guard(self)
    }

    /// So many sources have to be finished until the work is.
    pub fn expect_roots(&self, count: usize) {
        self.roots_left.store(count, Ordering::SeqCst);
    }

    /// A source is finished; with the last one the work is.
    pub fn root_done(&self) {
        if self.roots_left.fetch_sub(1, Ordering::SeqCst) == 1 {
            locked(&self.state).finished = true;
            self.wake_all();
        }
    }

    fn wake_all(&self) {
        self.wake.notify_all();
        self.wake_fetchers.notify_all();
        self.ended.notify_all();
    }

    /// A task, if there is one and the work goes on.
    pub fn take(&self) -> Option<Task<'s>> {
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
        self.wake_all();
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

    /// Why the work ended early, if it failed.
    pub fn take_failure(&self) -> Result<()> {
        let failure = locked(&self.state).failure.take();
        failure.map_or(Ok(()), Err)
    }
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
