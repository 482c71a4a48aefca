//! A directory as it is now, met name by name; and whether a file in it holds what it held.

use std::{
    ffi::{CStr, CString},
    fs::File,
    os::{fd::AsFd, unix::ffi::OsStrExt},
    path::Path,
};

use rustix::io::Errno;
use skellin_plan::{Action, Verdict};
use skellin_store::{Body, Entry, Kind};

use super::{By, Comparing, Sight};
use crate::{
    cause::Cause,
    holds::{Untold, holds},
    metadata::{Facts, Owners, Sort, Xattrs},
    names::Names,
    path::join,
    sources::{Origin, SourceDir, Trouble, open_file},
    walk::Filtering,
};

/// An open directory, and the names in it that have not been met.
pub(super) struct LiveDir {
    directory: SourceDir,
    names: Names,
    next: usize,
    /// Its path on this machine, and the verdict on it.
    path: Vec<u8>,
    verdict: Verdict,
}

/// A name that is there.
pub(super) struct Met<'d> {
    within: &'d LiveDir,
    name: CString,
    facts: Facts,
    verdict: Verdict,
    pub is_included: bool,
    pub is_entered: bool,
    xattrs: Option<Xattrs>,
}

impl LiveDir {
    pub fn new(directory: SourceDir, path: Vec<u8>, verdict: Verdict) -> Self {
        let (names, _) = directory.names(usize::MAX);
        Self { directory, names, next: 0, path, verdict }
    }

    /// The name that comes next.
    pub fn peek(&self) -> Option<&[u8]> {
        (self.next < self.names.len()).then(|| self.names.get(self.next))
    }

    /// What a name is, if it is there and included, or something below it may be.
    pub fn meet(&mut self, name: &[u8], by: Option<&By<'_>>) -> Result<Option<Met<'_>>, Trouble> {
        if self.peek() != Some(name) {
            return Ok(None);
        }
        self.next += 1;
        let this: &Self = self;
        let Ok(c_name) = CString::new(name) else { return Ok(None) };
        let (facts, verdict, is_entered) = match by {
            None => {
                let facts = match this.directory.look(&c_name) {
                    Err(trouble) if trouble.is_not_there() => return Ok(None),
                    facts => facts?,
                };
                (facts, Verdict::TAKEN, facts.sort() == Sort::Directory)
            }
            Some(By { filter, owners, own }) => {
                let filtering = Filtering { filter, owners, keep_out: own };
                let looked = filtering.look((&this.path, this.verdict), &this.directory, name);
                let looked = match looked {
                    Err(trouble) if trouble.is_not_there() => return Ok(None),
                    looked => looked?,
                };
                let Some(looked) = looked else { return Ok(None) };
                (looked.facts, looked.verdict, looked.is_entered)
            }
        };
        // Sockets and the like are in no snapshot.
        if matches!(facts.sort(), Sort::Socket | Sort::Unknown) {
            return Ok(None);
        }
        let is_included = verdict.action == Action::Take;
        if !is_included && !is_entered {
            return Ok(None);
        }
        let xattrs = this.directory.xattrs_at(&c_name).ok();
        Ok(Some(Met {
            within: this,
            name: c_name,
            facts,
            verdict,
            is_included,
            is_entered,
            xattrs,
        }))
    }
}

impl<'d> Met<'d> {
    pub fn sight(&self, owners: &Owners) -> Sight {
        Sight { xattrs: self.xattrs.clone(), ..Sight::of_facts(&self.facts, owners) }
    }

    /// Opens it as a directory.
    pub fn open(&self) -> Result<LiveDir, Trouble> {
        let opened = self.within.directory.open(&self.name)?;
        let path = join(&self.within.path, self.name.to_bytes());
        Ok(LiveDir::new(opened, path, self.verdict))
    }

    pub fn content(&self) -> Content<'_> {
        Content { within: Where::In(&self.within.directory, &self.name), facts: Some(self.facts) }
    }
}

enum Where<'d> {
    In(&'d SourceDir, &'d CStr),
    At(&'d Origin, &'d Path),
}

/// What lies at a name that is no directory.
pub(super) struct Content<'d> {
    within: Where<'d>,
    facts: Option<Facts>,
}

impl<'d> Content<'d> {
    /// At a full path.
    pub fn at(origin: &'d Origin, path: &'d Path) -> Self {
        Self { facts: origin.facts(path, true).ok(), within: Where::At(origin, path) }
    }

    /// Whether it is what it was. A file of the same size and time is taken for the same unless all are read.
    pub fn is_same(
        &self,
        comparing: &Comparing<'_>,
        was: &Entry,
        before: &Sight,
        now: &Sight,
    ) -> Result<bool, Cause> {
        if before.kind != now.kind {
            return Ok(false);
        }
        match &was.body {
            Body::File { size, .. } => {
                if *size != now.size {
                    return Ok(false);
                }
                let looks_same = before.modified == now.modified;
                if looks_same && !comparing.read_all {
                    return Ok(true);
                }
                self.holds(comparing, was)
            }
            Body::Link(target) => match self.within {
                Where::In(directory, name) => {
                    Ok(directory.link(name).map_err(|trouble| trouble.cause(true))? == *target)
                }
                Where::At(..) => Ok(false),
            },
            Body::Device { major, minor, .. } => {
                Ok(self.facts.is_some_and(|facts| facts.numbers == (*major, *minor)))
            }
            Body::Pipe | Body::Directory { .. } => Ok(before.kind == Kind::Pipe),
        }
    }

    /// Whether a file holds, byte by byte, what the snapshot has of it.
    fn holds(&self, comparing: &Comparing<'_>, was: &Entry) -> Result<bool, Cause> {
        let Body::File { recipe, .. } = &was.body else { return Ok(false) };
        let file = match self.within {
            Where::In(SourceDir::Here(handle), name) => open_file(handle.as_fd(), name),
            Where::At(Origin::Here, path) => {
                let name = CString::new(path.as_os_str().as_bytes()).unwrap_or_default();
                open_file(rustix::fs::CWD, &name)
            }
            // What lies on another host is told by size and time alone.
            _ => return Ok(false),
        };
        let file = File::from(file.map_err(|error| Cause::of("cannot read it", error))?);
        match holds(comparing.store, recipe, file, comparing.cancel) {
            Ok(holds) => Ok(holds),
            Err(Untold::Cancelled) => Ok(true),
            Err(Untold::Store(error)) => Err(Cause::store(&error)),
            Err(Untold::Here(error)) => {
                let error = Errno::from_io_error(&error).unwrap_or(Errno::IO);
                Err(Cause::of("cannot read it", error))
            }
        }
    }
}
