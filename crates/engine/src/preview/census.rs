//! How much each directory of the sources holds and what a run would make of it, counted while
//! others already look at it.

use std::{
    ffi::CString,
    os::unix::ffi::OsStrExt,
    path::Path,
    sync::{PoisonError, RwLock, RwLockReadGuard, RwLockWriteGuard},
    time::{Duration, Instant},
};

use skellin_plan::{Action, Verdict};
use skellin_store::{Kind, PageRef};

use super::{
    Looking,
    arena::{Arena, NodeId, Shares},
    comparison::{Before, Found, change, each, kind, root_of},
};
use crate::{
    cause::Cause,
    clock::Cancel,
    error::{EngineError, Result},
    event::Exception,
    history,
    metadata::{Facts, Owners, Sort},
    path::join,
    run::Change,
    sources::SourceDir,
    walk::Filtering,
};

/// How often those who look are told that there is more.
const TICK: Duration = Duration::from_millis(100);
/// After so many names of one directory what was counted is handed over.
const HAND_OVER: u64 = 4096;
/// So many paths that cannot be looked at are kept with their reasons.
const MOST_TROUBLES: usize = 1000;

/// A directory right below another, with its sums.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Part {
    /// Its name.
    pub name: Vec<u8>,
    /// What becomes of what is in it.
    pub shares: Shares,
}

/// The sums of a plan's sources, by directory. Looking never waits for the disk.
#[derive(Default)]
pub struct Census {
    inner: RwLock<Inner>,
}

#[derive(Default)]
struct Inner {
    arena: Arena,
    troubles: Vec<Exception>,
    is_complete: bool,
}

impl std::fmt::Debug for Census {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.debug_struct("Census").field("total", &self.total()).finish_non_exhaustive()
    }
}

impl Census {
    fn read(&self) -> RwLockReadGuard<'_, Inner> {
        self.inner.read().unwrap_or_else(PoisonError::into_inner)
    }

    fn write(&self) -> RwLockWriteGuard<'_, Inner> {
        self.inner.write().unwrap_or_else(PoisonError::into_inner)
    }

    /// A census whose outcome is known: what lies right in each directory, not below those in it.
    /// Directories that lie in none of the others are the sources.
    #[must_use]
    pub fn known(directories: &[(&[u8], Shares)]) -> Self {
        let mut sorted = directories.to_vec();
        sorted.sort_unstable_by_key(|(path, _)| *path);
        let parent = |path: &[u8]| {
            let slash = path.iter().rposition(|byte| *byte == b'/').unwrap_or(0);
            path[..slash].to_vec()
        };
        let is_source =
            |path: &[u8]| sorted.iter().all(|(other, _)| parent(path).as_slice() != *other);
        let sources = sorted.iter().map(|(path, _)| *path).filter(|path| is_source(path));
        let mut arena = Arena::with_sources(sources);
        for (path, shares) in &sorted {
            // Those above come first, so that it is there by now.
            let Some(node) = arena.find(path) else { continue };
            let below = sorted.iter().filter(|(other, _)| parent(other).as_slice() == *path);
            arena.add_below(node, below.map(|(other, _)| &other[path.len() + 1..]));
            arena.add(node, shares);
        }
        let inner = Inner { arena, troubles: Vec::new(), is_complete: true };
        Self { inner: RwLock::new(inner) }
    }

    /// The sums of a directory, by its full path; of what has been counted so far.
    #[must_use]
    pub fn shares(&self, path: &[u8]) -> Option<Shares> {
        let inner = self.read();
        inner.arena.find(path).map(|node| inner.arena.shares(node))
    }

    /// The directories right below one, by name.
    #[must_use]
    pub fn parts(&self, path: &[u8]) -> Vec<Part> {
        let inner = self.read();
        let Some(node) = inner.arena.find(path) else { return Vec::new() };
        let parts = inner.arena.below(node);
        parts.map(|(name, shares)| Part { name: name.to_vec(), shares }).collect()
    }

    /// The sums of all sources.
    #[must_use]
    pub fn total(&self) -> Shares {
        self.read().arena.total()
    }

    /// Whether all has been counted.
    #[must_use]
    pub fn is_complete(&self) -> bool {
        self.read().is_complete
    }

    /// The first paths that could not be looked at, with the reasons.
    #[must_use]
    pub fn troubles(&self) -> Vec<Exception> {
        self.read().troubles.clone()
    }

    /// Counts all sources. `tick` is called now and then while it goes on.
    ///
    /// # Errors
    /// If the rules cannot be made ready, if the newest snapshot cannot be read, or if it was
    /// cancelled.
    pub fn count(&self, looking: &Looking<'_>, cancel: &Cancel, tick: &dyn Fn()) -> Result<()> {
        let plan = looking.plan;
        let paths = plan.sources.iter().map(|source| source.as_os_str().as_bytes());
        self.write().arena = Arena::with_sources(paths);
        let (owners, keep_out) = (Owners::default(), looking.own());
        for (number, source) in plan.sources.iter().enumerate() {
            let filter = looking.filter(source)?;
            let filtering = Filtering { filter: &filter, owners: &owners, keep_out: &keep_out };
            let mut walk =
                Walk { census: self, looking, filtering, cancel, tick, told: Instant::now() };
            walk.source(number as NodeId, source)?;
        }
        self.write().is_complete = true;
        tick();
        Ok(())
    }
}

/// A directory that has been met and is to be gone through.
struct Ahead {
    name: Vec<u8>,
    node: NodeId,
    verdict: Verdict,
    before: Option<PageRef>,
}

/// A directory on the way down. Only these are open, so that wide directories cost no handles.
struct Frame {
    source_dir: SourceDir,
    path: Vec<u8>,
    ahead: Vec<Ahead>,
}

struct Walk<'a> {
    census: &'a Census,
    looking: &'a Looking<'a>,
    filtering: Filtering<'a>,
    cancel: &'a Cancel,
    tick: &'a dyn Fn(),
    told: Instant,
}

impl Walk<'_> {
    fn source(&mut self, node: NodeId, source: &Path) -> Result<()> {
        let path = source.as_os_str().as_bytes();
        let was = match self.looking.before {
            Some((store, snapshot)) => history::locate(store, snapshot, path)?,
            None => None,
        };
        let was = was.map(|located| located.entry);
        let origin = self.filtering.filter.origin();
        let facts = match origin.facts(source, true) {
            Ok(facts) => facts,
            Err(trouble) => {
                self.trouble(node, path, trouble.cause(false));
                if let Some(was) = &was {
                    let counted = was.counted();
                    self.add(node, Change::Gone, counted.files, counted.bytes);
                }
                return Ok(());
            }
        };
        let verdict = self.filtering.filter.source(path, &facts, self.filtering.owners);
        let change = change(&facts, verdict, was.as_ref());
        if facts.sort() != Sort::Directory {
            self.add(node, change, 1, size(&facts));
            return Ok(());
        }
        let source_dir = match origin.open(source) {
            Ok(source_dir) => source_dir,
            Err(trouble) if trouble.is_not_there() => return Ok(()),
            Err(trouble) => {
                self.trouble(node, path, trouble.cause(true));
                return Ok(());
            }
        };
        let before = was.as_ref().and_then(root_of);
        let mut frames = vec![self.enter(source_dir, path.to_vec(), node, verdict, before)?];
        while let Some(frame) = frames.last_mut() {
            let Some(ahead) = frame.ahead.pop() else {
                frames.pop();
                continue;
            };
            let path = join(&frame.path, &ahead.name);
            let name = CString::new(ahead.name.as_slice()).unwrap_or_default();
            match frame.source_dir.open(&name) {
                Ok(source_dir) => {
                    let Ahead { node, verdict, before, .. } = ahead;
                    frames.push(self.enter(source_dir, path, node, verdict, before)?);
                }
                // Gone since its name was read.
                Err(trouble) if trouble.is_not_there() => {}
                Err(trouble) => match trouble.of_the_way() {
                    Ok(failure) => return Err(failure),
                    Err(trouble) if ahead.verdict.action == Action::Take => {
                        self.trouble(ahead.node, &path, trouble.cause(true));
                    }
                    Err(_) => {}
                },
            }
        }
        Ok(())
    }

    /// Goes through the names of one directory.
    fn enter(
        &mut self,
        source_dir: SourceDir,
        path: Vec<u8>,
        node: NodeId,
        verdict: Verdict,
        before: Option<PageRef>,
    ) -> Result<Frame> {
        let (names, failure) = source_dir.names(usize::MAX);
        if let Some(error) = failure {
            self.trouble(node, &path, Cause::of("cannot list it completely", error));
        }
        let old = Before::new(self.looking.before.map(|(store, _)| store), before);
        let (mut ahead, mut shares, mut waiting) = (Vec::new(), Shares::default(), 0);
        let mut troubles = Vec::new();
        let (filtering, census) = (self.filtering, self.census);
        let (cancel, tick, told) = (self.cancel, self.tick, &mut self.told);
        let mut visit = |found: Found<'_>| {
            match found.facts {
                Some(facts) if facts.sort() == Sort::Directory => {
                    let judged = found.is_entered;
                    // What is excluded is measured, but not on other file systems, which may be
                    // endless, and not where it is our own.
                    let measured = !filtering.filter.is_elsewhere(facts) && !found.is_own;
                    if judged || measured {
                        ahead.push(Ahead {
                            name: found.name.to_vec(),
                            node: 0,
                            verdict: found.verdict,
                            before: found.was.and_then(root_of).filter(|_| judged),
                        });
                    }
                    // What it was is gone, unless it is a directory that is gone through.
                    let replaced = found.was.filter(|was| !judged || root_of(was).is_none());
                    if let Some(was) = replaced {
                        let counted = was.counted();
                        shares.count(Change::Gone, counted.files, counted.bytes);
                    }
                }
                // Sockets are not stored.
                Some(facts) if facts.sort() == Sort::Socket && found.change != Change::Skipped => {}
                Some(facts) => {
                    shares.count(found.change, 1, size(facts));
                    let replaced = found
                        .was
                        .filter(|was| found.change == Change::Skipped || root_of(was).is_some());
                    if let Some(was) = replaced {
                        let counted = was.counted();
                        shares.count(Change::Gone, counted.files, counted.bytes);
                    }
                    if matches!(found.change, Change::New | Change::Changed)
                        && kind(facts) == Kind::File
                        && let Err(trouble) =
                            source_dir.can_read(&CString::new(found.name).unwrap_or_default())
                    {
                        shares.troubles += 1;
                        let cause = trouble.cause(true);
                        troubles.push(Exception { path: join(&path, found.name), cause });
                    }
                }
                None => {
                    let counted = found.was.map(skellin_store::Entry::counted).unwrap_or_default();
                    shares.count(Change::Gone, counted.files, counted.bytes);
                }
            }
            waiting += 1;
            if waiting >= HAND_OVER {
                waiting = 0;
                census.write().arena.add(node, &std::mem::take(&mut shares));
                if told.elapsed() >= TICK {
                    *told = Instant::now();
                    tick();
                }
            }
            !cancel.is_cancelled()
        };
        let whole = each(filtering, (&path, verdict), (&source_dir, &names), old, &mut visit)?;
        if !whole {
            return Err(EngineError::Cancelled);
        }
        {
            let mut inner = census.write();
            inner.arena.add(node, &shares);
            let names = ahead.iter().map(|ahead| ahead.name.as_slice());
            let first = inner.arena.add_below(node, names);
            for (number, ahead) in ahead.iter_mut().enumerate() {
                ahead.node = first + number as NodeId;
            }
            troubles.into_iter().for_each(|trouble| inner.note(trouble));
        }
        if self.told.elapsed() >= TICK {
            self.told = Instant::now();
            (self.tick)();
        }
        ahead.reverse();
        Ok(Frame { source_dir, path, ahead })
    }

    fn add(&self, node: NodeId, change: Change, files: u64, bytes: u64) {
        let mut shares = Shares::default();
        shares.count(change, files, bytes);
        self.census.write().arena.add(node, &shares);
    }

    fn trouble(&self, node: NodeId, path: &[u8], cause: Cause) {
        let mut inner = self.census.write();
        inner.arena.add(node, &Shares { troubles: 1, ..Shares::default() });
        inner.note(Exception { path: path.to_vec(), cause });
    }
}

impl Inner {
    fn note(&mut self, trouble: Exception) {
        if self.troubles.len() < MOST_TROUBLES {
            self.troubles.push(trouble);
        }
    }
}

fn size(facts: &Facts) -> u64 {
    if facts.sort() == Sort::File { facts.size() } else { 0 }
}
