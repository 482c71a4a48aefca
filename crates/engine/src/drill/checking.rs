//! Whether what was restored is what was backed up, and whether what still lies in its source unchanged
//! is the same.

use std::{
    ffi::{CStr, CString},
    fs::File,
    os::{fd::OwnedFd, unix::ffi::OsStrExt},
    path::Path,
    sync::{
        Mutex,
        atomic::{AtomicU64, Ordering},
    },
};

use crossbeam_channel::Sender;
use rustix::{
    fs::{AtFlags, CWD, FileType, Mode, Stat, chmodat, fstat},
    io::Errno,
};
use skellin_store::{Body, Entry, Recipe, Snapshot, Store};

use crate::{
    cause::{Cause, CauseKind},
    clock::Cancel,
    error::{EngineError, Result},
    event::{Event, EventSink, Exception},
    holds::{Untold, holds},
    locked::locked,
    restore::Destination,
    sources::open_file,
};

/// So many mismatches are kept with path and reason; all are counted.
const MOST: usize = 1000;
/// So many files wait for those who compare.
const WAITING: usize = 256;

/// A file to compare.
pub(super) type Checked = (Vec<u8>, Entry);

pub(super) struct Checking<'a> {
    pub store: &'a Store,
    pub snapshot: &'a Snapshot,
    pub scratch: &'a Destination,
    /// Whether the sources are of this machine.
    pub is_own: bool,
    pub cancel: &'a Cancel,
    pub events: &'a dyn EventSink,
    pub found: &'a Found,
}

/// What comparing has found.
#[derive(Default)]
pub(super) struct Found {
    pub compared: AtomicU64,
    pub bytes: AtomicU64,
    pub live: AtomicU64,
    /// Files that were not there to be compared.
    pub missing: AtomicU64,
    /// Paths of which restores have told that they could not be restored.
    pub told: AtomicU64,
    pub wrong_count: AtomicU64,
    pub wrong: Mutex<Vec<Exception>>,
}

impl Found {
    /// Tells of a file, and keeps it.
    pub fn note(&self, events: &dyn EventSink, path: &[u8], cause: Cause) {
        events.event(Event::Exception(Exception { path: path.to_vec(), cause: cause.clone() }));
        self.keep(path, cause);
    }

    /// Keeps a file that was told of.
    pub fn keep(&self, path: &[u8], cause: Cause) {
        self.wrong_count.fetch_add(1, Ordering::Relaxed);
        let exception = Exception { path: path.to_vec(), cause };
        let mut wrong = locked(&self.wrong);
        if wrong.len() < MOST {
            wrong.push(exception);
        }
    }
}

/// Whether a file has the size and time of an entry.
fn looks_like(facts: &Stat, entry: &Entry) -> bool {
    FileType::from_raw_mode(facts.st_mode) == FileType::RegularFile
        && u64::try_from(facts.st_size).is_ok_and(|size| size == entry.size())
        && (facts.st_mtime, facts.st_mtime_nsec)
            == (entry.modified.seconds, u64::from(entry.modified.nanos))
}

impl Checking<'_> {
    /// Compares all files that are fed, on all processors.
    pub fn compare(&self, feed: impl FnOnce(&Sender<Checked>) -> Result<()>) -> Result<()> {
        let (sender, files) = crossbeam_channel::bounded::<Checked>(WAITING);
        let workers = std::thread::available_parallelism().map_or(2, usize::from).min(8);
        std::thread::scope(|scope| {
            let workers: Vec<_> = (0..workers)
                .map(|_| {
                    let files = files.clone();
                    scope.spawn(move || -> Result<()> {
                        for (path, entry) in files {
                            self.one(&path, &entry)?;
                        }
                        Ok(())
                    })
                })
                .collect();
            drop(files);
            let fed = feed(&sender);
            drop(sender);
            for worker in workers {
                worker.join().unwrap_or_else(|_| {
                    let what = "a thread of the drill panicked; this is a bug".to_owned();
                    Err(skellin_store::StoreError::Stopped(what).into())
                })?;
            }
            fed
        })
    }

    fn one(&self, path: &[u8], entry: &Entry) -> Result<()> {
        let Body::File { recipe, .. } = &entry.body else { return Ok(()) };
        let target = self.scratch.target(self.snapshot, path);
        let Some(target) = target.as_deref().and_then(name_of) else {
            self.found.missing.fetch_add(1, Ordering::Relaxed);
            return Ok(());
        };
        let wrong = |cause| self.found.note(self.events, path, cause);
        match open_restored(&target) {
            // The restore has told of it, or it is found to be untold of in the end.
            Err(Errno::NOENT) => {
                self.found.missing.fetch_add(1, Ordering::Relaxed);
                return Ok(());
            }
            Err(error) => {
                wrong(Cause::of("cannot read the restored file", error));
                return Ok(());
            }
            Ok(file) => match fstat(&file) {
                Ok(facts) if !looks_like(&facts, entry) => {
                    wrong(Cause::other("the restored file has another size or time"));
                }
                Ok(_) => match self.holds(recipe, file.into())? {
                    Some(Ok(true)) => {}
                    Some(Ok(false)) => wrong(Cause::other("the restored content differs")),
                    Some(Err(cause)) => wrong(cause),
                    None => return Err(EngineError::Cancelled),
                },
                Err(error) => wrong(Cause::of("cannot look at the restored file", error)),
            },
        }
        self.found.compared.fetch_add(1, Ordering::Relaxed);
        self.found.bytes.fetch_add(entry.size(), Ordering::Relaxed);
        self.live(path, entry, recipe)
    }

    /// Compares with the file in its source, if that looks as it did.
    fn live(&self, path: &[u8], entry: &Entry, recipe: &Recipe) -> Result<()> {
        let here = self.is_own && path.starts_with(b"/") && !entry.unsettled;
        let name = CString::new(path).ok().filter(|_| here);
        let Some(file) = name.and_then(|name| open_file(CWD, &name).ok()) else { return Ok(()) };
        let is_it = |facts: &Stat| looks_like(facts, entry);
        if !fstat(&file).is_ok_and(|facts| is_it(&facts)) {
            return Ok(());
        }
        let again = file.try_clone();
        let held = self.holds(recipe, file.into())?;
        // What was written meanwhile tells nothing.
        let is_still = again.is_ok_and(|file| fstat(&file).is_ok_and(|facts| is_it(&facts)));
        match held {
            Some(Ok(true)) => {
                self.found.live.fetch_add(1, Ordering::Relaxed);
            }
            Some(Ok(false)) if is_still => {
                let words = "the file in its source has other content, with the same size and time";
                self.found.note(self.events, path, Cause::new(CauseKind::Moving, words));
            }
            None => return Err(EngineError::Cancelled),
            // That a source cannot be read says nothing of the backup.
            Some(_) => {}
        }
        Ok(())
    }

    /// Whether a file holds what it should; none if it was interrupted.
    fn holds(&self, recipe: &Recipe, file: File) -> Result<Option<Result<bool, Cause>>> {
        match holds(self.store, recipe, file, self.cancel) {
            Ok(it) => Ok(Some(Ok(it))),
            Err(Untold::Here(error)) => {
                let words = format!("cannot read the restored file: {error}");
                Ok(Some(Err(Cause::new(CauseKind::Disk, words))))
            }
            Err(Untold::Store(error)) if error.is_unreadable() => {
                Ok(Some(Err(Cause::store(&error))))
            }
            Err(Untold::Store(error)) => Err(error.into()),
            Err(Untold::Cancelled) => Ok(None),
        }
    }
}

fn name_of(path: &Path) -> Option<CString> {
    CString::new(path.as_os_str().as_bytes()).ok()
}

/// Opens a restored file, also one whose mode keeps its owner out.
fn open_restored(name: &CStr) -> Result<OwnedFd, Errno> {
    match open_file(CWD, name) {
        Err(Errno::ACCESS) => {
            chmodat(CWD, name, Mode::RUSR, AtFlags::empty())?;
            open_file(CWD, name)
        }
        other => other,
    }
}
