//! What there is to do: directories in work, and files to read.

use std::{
    ffi::{CStr, CString},
    os::fd::{AsFd, BorrowedFd, OwnedFd},
    sync::{Arc, Mutex, OnceLock},
};

use rustix::{
    fs::{CWD, Mode, OFlags, openat},
    io::Errno,
};
use skellin_plan::Verdict;
use skellin_store::{Below, Body, Entries, Entry, PageRef, Store, TreeBuilder};

use super::report::Change;
use crate::{
    event::{Event, EventSink},
    names::Names,
};

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

/// A directory of the source.
pub(super) struct Directory<'s> {
    /// Opened when its turn comes, so that only a path's own directories are open at a time.
    pub handle: OnceLock<OwnedFd>,
    /// Its name in its parent, or the path of a source.
    pub name: CString,
    /// Full path.
    pub path: Vec<u8>,
    pub source: usize,
    pub verdict: Verdict,
    pub parent: Parent<'s>,
    pub state: Mutex<Progress<'s>>,
}

impl Directory<'_> {
    /// The open directory.
    pub fn handle(&self) -> Result<BorrowedFd<'_>, Errno> {
        if let Some(handle) = self.handle.get() {
            return Ok(handle.as_fd());
        }
        let opened = match &self.parent {
            Parent::Root(_) => open_directory(CWD, &self.name, true)?,
            Parent::Directory(parent, _) => open_directory(parent.handle()?, &self.name, false)?,
        };
        Ok(self.handle.get_or_init(|| opened).as_fd())
    }
}

/// How far a directory is.
pub(super) struct Progress<'s> {
    /// What it is itself, once it was opened.
    pub entry: Option<Entry>,
    /// The snapshot before has it like this.
    pub before: Option<Entry>,
    /// All names.
    pub names: Names,
    pub next: usize,
    pub window: Vec<Option<Entry>>,
    /// Entries of the window that are still in work.
    pub pending: usize,
    pub builder: TreeBuilder,
    pub below: Below,
    /// Whether there is anything in it that goes along.
    pub holds_any: bool,
    pub base: Cursor<'s>,
    pub resume: Cursor<'s>,
}

/// Entries of an earlier tree, met in the order of their names.
pub(super) struct Cursor<'s> {
    entries: Option<Entries<'s>>,
    ahead: Option<Entry>,
}

impl<'s> Cursor<'s> {
    /// No tree.
    const NOTHING: Self = Self { entries: None, ahead: None };

    /// From the first page of a tree.
    pub fn new(store: &'s Store, root: Option<PageRef>) -> Self {
        Self { entries: root.map(|root| store.entries(root)), ahead: None }
    }

    /// The entry of a name; what comes before it is handed to `passed`.
    pub fn meet(
        &mut self,
        events: &dyn EventSink,
        name: &[u8],
        mut passed: impl FnMut(&Entry),
    ) -> Option<Entry> {
        loop {
            let entry = self.next(events)?;
            match entry.name.as_slice().cmp(name) {
                std::cmp::Ordering::Less => passed(&entry),
                std::cmp::Ordering::Equal => return Some(entry),
                std::cmp::Ordering::Greater => {
                    self.ahead = Some(entry);
                    return None;
                }
            }
        }
    }

    /// The next entry, whatever its name.
    pub fn next(&mut self, events: &dyn EventSink) -> Option<Entry> {
        if let Some(entry) = self.ahead.take() {
            return Some(entry);
        }
        match self.entries.as_mut()?.next_entry() {
            Ok(entry) => entry,
            Err(error) => {
                // What cannot be compared is read again.
                self.entries = None;
                let note = format!("{error}; what it described is read again");
                events.event(Event::Note(note));
                None
            }
        }
    }
}

/// A directory whose turn has not come yet.
pub(super) fn new_directory<'s>(
    name: CString,
    path: Vec<u8>,
    source: usize,
    verdict: Verdict,
    parent: Parent<'s>,
    before: Option<Entry>,
) -> Arc<Directory<'s>> {
    let state = Progress {
        entry: None,
        before,
        names: Names::default(),
        next: 0,
        window: Vec::new(),
        pending: 0,
        builder: TreeBuilder::default(),
        below: Below::default(),
        holds_any: false,
        base: Cursor::NOTHING,
        resume: Cursor::NOTHING,
    };
    let handle = OnceLock::new();
    Arc::new(Directory { handle, name, path, source, verdict, parent, state: Mutex::new(state) })
}

/// Opens a directory.
pub(super) fn open_directory(
    at: BorrowedFd<'_>,
    name: &CStr,
    follow: bool,
) -> Result<OwnedFd, Errno> {
    let flags = OFlags::RDONLY | OFlags::DIRECTORY | OFlags::CLOEXEC;
    openat(at, name, if follow { flags } else { flags | OFlags::NOFOLLOW }, Mode::empty())
}

/// The directory a file is opened from.
pub(super) enum From<'s> {
    /// One of the tree.
    Directory(Arc<Directory<'s>>),
    /// That of a source which is a file.
    Handle(OwnedFd),
}

/// A file that has to be read.
pub(super) struct FileTask<'s> {
    pub parent: Parent<'s>,
    pub from: From<'s>,
    pub name: CString,
    pub path: Vec<u8>,
    pub entry: Entry,
    pub change: Change,
    /// What it held before, if only the shortness of time makes it be read again.
    pub doubted: Option<Box<Body>>,
    /// The rule that let it in.
    pub rule: Option<usize>,
}

/// Opens a file for reading.
pub(super) fn open_file(at: BorrowedFd<'_>, name: &CStr) -> Result<OwnedFd, Errno> {
    // Without blocking: it may have become a pipe since it was looked at.
    let flags = OFlags::RDONLY | OFlags::NOFOLLOW | OFlags::NONBLOCK | OFlags::CLOEXEC;
    // Reading should leave no trace, but only the owner may ask for that.
    match openat(at, name, flags | OFlags::NOATIME, Mode::empty()) {
        Err(Errno::PERM) => openat(at, name, flags, Mode::empty()),
        other => other,
    }
}
