//! What there is to do: directories in work, and files to read.

use std::{
    ffi::{CStr, CString},
    os::fd::OwnedFd,
    sync::{Arc, Mutex},
};

use skellin_place::FarPart;
use skellin_plan::Verdict;
use skellin_store::{Body, Entry};

use super::{held::Held, long::LongFile, report::Change};
use crate::{
    locked::locked,
    metadata::Facts,
    names::Names,
    sources::{FarFile, SourceDir, Trouble, open_file},
    walk::{Assembly, Beside},
};

/// Something to do.
pub(super) enum Task<'s> {
    /// Go on with a directory.
    Directory(Arc<Directory<'s>>),
    /// Read a file.
    File(Box<FileTask<'s>>),
    /// Read a part of a long file.
    Part(Arc<LongFile<FileTask<'s>>>),
}

impl Task<'_> {
    /// Whether it has to be fetched from another host before a worker goes on with it.
    pub fn is_to_be_fetched(&self) -> bool {
        match self {
            Self::Directory(directory) => directory.is_to_be_fetched(),
            Self::File(file) => file.from.is_far() && file.fetched.is_none(),
            Self::Part(_) => false,
        }
    }

    /// Whether it was.
    pub fn was_fetched(&self) -> bool {
        match self {
            Self::Directory(directory) => {
                matches!(directory.parent, Parent::Directory(..)) && directory.held.is_far()
            }
            Self::File(file) => file.fetched.is_some(),
            Self::Part(_) => false,
        }
    }
}

/// To whom a finished entry is handed.
#[derive(Clone)]
pub(super) enum Parent<'s> {
    /// A place in the open window of a directory.
    Directory(Arc<Directory<'s>>, usize),
    /// A source.
    Root(usize),
}

/// Keeps a directory open.
pub(super) struct Hold<'s>(Arc<Directory<'s>>);

impl<'s> Hold<'s> {
    pub fn new(directory: &Arc<Directory<'s>>) -> Self {
        directory.held.retain();
        Self(Arc::clone(directory))
    }

    pub fn directory(&self) -> &Directory<'s> {
        &self.0
    }
}

impl Drop for Hold<'_> {
    fn drop(&mut self) {
        self.0.held.release();
    }
}

/// A directory of the source.
pub(super) struct Directory<'s> {
    /// Opened when its turn comes, so that few are open at a time. A source is opened before
    /// anything else.
    pub held: Held,
    /// Keeps the one above it open until this one is.
    above: Mutex<Option<Hold<'s>>>,
    /// Its name in its parent.
    pub name: CString,
    /// Full path.
    pub path: Vec<u8>,
    pub source: usize,
    pub verdict: Verdict,
    pub parent: Parent<'s>,
    /// How many directories of the source lie above it, all of which may be open with it.
    depth: usize,
    pub state: Mutex<Progress<'s>>,
}

impl Directory<'_> {
    /// The open directory.
    pub fn source_dir(&self) -> Result<Arc<SourceDir>, Trouble> {
        if let Some(source_dir) = self.held.get() {
            return Ok(source_dir);
        }
        let opened = match &self.parent {
            Parent::Root(_) => return Err(Trouble::Here(rustix::io::Errno::NOENT)),
            Parent::Directory(parent, _) => parent.source_dir()?.open(&self.name)?,
        };
        let source_dir = self.held.put(opened);
        let above = locked(&self.above).take();
        drop(above);
        Ok(source_dir)
    }

    /// Whether it lies deeper than trees are gone into.
    pub fn is_too_deep(&self, deepest: usize) -> bool {
        self.depth > deepest
    }

    /// Whether opening it takes a way to another host.
    pub fn is_to_be_fetched(&self) -> bool {
        let Parent::Directory(parent, _) = &self.parent else { return false };
        self.held.get().is_none() && parent.held.is_far()
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
    pub assembly: Assembly,
    pub base: Beside<'s>,
    pub resume: Beside<'s>,
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
        assembly: Assembly::default(),
        base: Beside::NOTHING,
        resume: Beside::NOTHING,
    };
    let (depth, above) = match &parent {
        Parent::Root(_) => (0, None),
        Parent::Directory(above, _) => (above.depth + 1, Some(Hold::new(above))),
    };
    let (held, above, state) = (Held::new(), Mutex::new(above), Mutex::new(state));
    Arc::new(Directory { held, above, name, path, source, verdict, parent, depth, state })
}

/// Where a file is read from.
pub(super) enum From<'s> {
    /// A directory of the tree.
    Directory(Hold<'s>),
    /// The directory a source lies in which is a file.
    SourceDir(SourceDir),
    /// A source on another host which is a file.
    Far(FarFile),
    /// It was opened.
    Done,
}

impl From<'_> {
    /// Opens a file of this name there.
    pub fn open(&self, name: &CStr) -> Result<Opened, Trouble> {
        let of_the_tree;
        let source_dir = match self {
            Self::Directory(hold) => {
                of_the_tree = hold.directory().source_dir()?;
                &*of_the_tree
            }
            Self::SourceDir(source_dir) => source_dir,
            Self::Far(file) => return Ok(Opened::Far(file.clone())),
            Self::Done => return Err(Trouble::Here(rustix::io::Errno::BADF)),
        };
        match source_dir {
            SourceDir::Here(handle) => Ok(Opened::Here(open_file(handle, name)?)),
            SourceDir::Far(directory) => Ok(Opened::Far(directory.file(name)?)),
        }
    }

    /// Whether reading takes a way to another host.
    pub fn is_far(&self) -> bool {
        match self {
            Self::Directory(hold) => hold.directory().held.is_far(),
            Self::SourceDir(_) | Self::Done => false,
            Self::Far(_) => true,
        }
    }
}

/// An open file.
pub(super) enum Opened {
    Here(OwnedFd),
    Far(FarFile),
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
    /// What was told of a file of another host when its name was met.
    pub facts: Facts,
    /// The first part of such a file, once it was fetched.
    pub fetched: Option<Result<FarPart, Trouble>>,
}
