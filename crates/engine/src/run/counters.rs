//! What all workers of a run add to: numbers, exceptions, and paths where they are to be listed.

use std::sync::{
    Mutex,
    atomic::{AtomicBool, AtomicU64, Ordering},
};

use skellin_plan::Verdict;
use skellin_store::ExceptionRecord;

use super::report::{Change, PathChange, TellPath};
use crate::{counts::FileCounts, event::Exception, locked::locked};

/// So many exceptions are kept with path and reason; all are counted.
const MOST_EXCEPTIONS: usize = 1000;
/// So many of them go into the snapshot.
const EXCEPTIONS_IN_SNAPSHOT: usize = 100;

/// A number that many threads add to.
#[derive(Debug, Default)]
pub(super) struct Counter(AtomicU64);

impl Counter {
    pub fn add(&self, amount: u64) {
        self.0.fetch_add(amount, Ordering::Relaxed);
    }

    pub fn get(&self) -> u64 {
        self.0.load(Ordering::Relaxed)
    }
}

/// What a survey of the sources has counted, for a run that no snapshot tells what is ahead.
#[derive(Default)]
pub(super) struct Survey {
    pub files: Counter,
    pub bytes: Counter,
    pub is_done: AtomicBool,
}

impl Survey {
    /// Files and bytes, once all is counted.
    pub fn totals(&self) -> Option<(u64, u64)> {
        let is_done = self.is_done.load(Ordering::SeqCst);
        is_done.then(|| (self.files.get(), self.bytes.get()))
    }
}

/// What all workers of a run add to.
#[derive(Default)]
pub(super) struct Counters<'s> {
    pub files: Counter,
    pub bytes: Counter,
    pub read: Counter,
    pub sockets: Counter,
    pub survey: Survey,
    new: Counter,
    changed: Counter,
    gone: Counter,
    same: Counter,
    skipped: Counter,
    /// How many paths each rule decided.
    decided: Vec<Counter>,
    exception_count: Counter,
    exceptions: Mutex<Vec<Exception>>,
    /// Told of every path.
    paths: Option<&'s TellPath<'s>>,
}

impl<'s> Counters<'s> {
    pub fn new(rules: usize, paths: Option<&'s TellPath<'s>>) -> Self {
        Self { decided: (0..rules).map(|_| Counter::default()).collect(), paths, ..Self::default() }
    }

    /// Counts what became of a path that is no directory.
    pub fn count(&self, change: Change, path: &[u8], size: u64, rule: Option<usize>) {
        if change == Change::Same {
            self.files.add(1);
            self.bytes.add(size);
        }
        self.count_read(change, path, size, rule);
    }

    /// As [`count`](Self::count), for a file whose bytes were counted when they were read.
    pub fn count_read(&self, change: Change, path: &[u8], size: u64, rule: Option<usize>) {
        let counter = match change {
            Change::New => &self.new,
            Change::Changed => &self.changed,
            Change::Gone => &self.gone,
            Change::Same => &self.same,
            Change::Skipped => &self.skipped,
        };
        counter.add(1);
        if let Some(told) = self.paths {
            told(PathChange { path: path.to_vec(), change, size, rule });
        }
    }

    /// Counts paths that are gone with a directory and have no names any more.
    pub fn count_gone(&self, more: u64) {
        self.gone.add(more);
    }

    /// Counts what decided on a path.
    pub fn decide(&self, verdict: Verdict) {
        if let Some(counter) = verdict.rule.and_then(|rule| self.decided.get(rule)) {
            counter.add(1);
        }
    }

    /// Keeps a path that cannot be handled.
    pub fn note(&self, exception: Exception) {
        self.exception_count.add(1);
        let mut exceptions = locked(&self.exceptions);
        if exceptions.len() < MOST_EXCEPTIONS {
            exceptions.push(exception);
        }
    }

    /// How many paths could not be handled.
    pub fn exception_count(&self) -> u64 {
        self.exception_count.get()
    }

    /// The exceptions that go into the snapshot.
    pub fn exception_records(&self) -> Vec<ExceptionRecord> {
        let records = locked(&self.exceptions);
        let first = records.iter().take(EXCEPTIONS_IN_SNAPSHOT);
        first
            .map(|exception| ExceptionRecord {
                path: exception.path.clone().into(),
                reason: exception.cause.words.clone(),
            })
            .collect()
    }

    /// The exceptions that were kept, by path.
    pub fn take_exceptions(&self) -> Vec<Exception> {
        let mut exceptions = std::mem::take(&mut *locked(&self.exceptions));
        exceptions.sort_by(|a, b| a.path.cmp(&b.path));
        exceptions
    }

    /// Numbers of paths.
    pub fn file_counts(&self) -> FileCounts {
        FileCounts {
            new: self.new.get(),
            changed: self.changed.get(),
            gone: self.gone.get(),
            same: self.same.get(),
            skipped: self.skipped.get(),
        }
    }

    /// How many paths each rule decided.
    pub fn decided(&self) -> Vec<u64> {
        self.decided.iter().map(Counter::get).collect()
    }
}
