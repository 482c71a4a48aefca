//! Finding paths in all snapshots of a series at once: each path comes once, with when it was there. A
//! directory is gone through in all its versions together, so that every page is read once.

use std::{
    borrow::Borrow,
    collections::{BTreeMap, HashMap, HashSet},
    sync::{Condvar, Mutex},
};

use skellin_plan::{PathKind, Query, Traits};
use skellin_store::{
    Body, Entry, Kind, Moment, PageRef, Snapshot, Store, StoreError, Stretches, Takes,
};

use super::same_version;
use crate::{
    error::{EngineError, Result},
    locked::locked,
    path::join,
};

/// So many directories of a far store are looked into at the same time.
const AT_ONCE: usize = 16;

/// What is asked for.
pub struct Asked<'a, S> {
    /// The snapshots of one plan on one machine, oldest first.
    pub snapshots: &'a [S],
    /// Which paths.
    pub query: &'a Query,
    /// Only what the last snapshot has no more. Of a directory that went as a whole only itself is told.
    pub only_gone: bool,
    /// Whether to stop.
    pub is_cancelled: &'a (dyn Fn() -> bool + Sync),
}

/// A path that was found.
#[derive(Clone, Debug, PartialEq)]
pub struct Hit {
    /// Its full path.
    pub path: Vec<u8>,
    /// Its versions, oldest first.
    pub spans: Vec<Span>,
    /// What it was last.
    pub entry: Entry,
    /// The first snapshot that has it no more, in milliseconds since 1970; nothing if the last has it.
    pub gone: Option<i64>,
}

/// One version of a path: the snapshots that have it, by their times in milliseconds since 1970.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Span {
    /// The first.
    pub first: i64,
    /// The last.
    pub last: i64,
    /// Its size in bytes.
    pub size: u64,
    /// When it was modified.
    pub modified: Moment,
}

/// Finds paths. Every one that was found is handed to `each` as soon as it is known, from several threads;
/// what cannot be read, to `lost`, with the path of the directory.
///
/// # Errors
/// [`EngineError::Cancelled`]; or if the place fails.
pub fn find<S: Borrow<Snapshot> + Sync>(
    store: &Store,
    asked: &Asked<'_, S>,
    each: &(dyn Fn(Hit) + Sync),
    lost: &(dyn Fn(&[u8], &StoreError) + Sync),
) -> Result<()> {
    let finder = Finder { store, asked, each, lost, open: Mutex::default(), more: Condvar::new() };
    finder.begin()?;
    let threads = match store.place().is_far() {
        true => AT_ONCE,
        false => std::thread::available_parallelism().map_or(1, usize::from),
    };
    std::thread::scope(|scope| {
        for _ in 1..threads {
            scope.spawn(|| finder.work());
        }
        finder.work();
    });
    let open = finder.open.into_inner().unwrap_or_else(std::sync::PoisonError::into_inner);
    open.failure.map_or(Ok(()), Err)
}

/// A directory in all its versions.
struct Directory {
    path: Vec<u8>,
    roots: Vec<(PageRef, Stretches)>,
    /// The last snapshot that has it, if it was told that it went.
    went_after: Option<u32>,
}

/// A path in some of the snapshots.
struct Seen {
    when: Stretches,
    entry: Entry,
}

#[derive(Default)]
struct Open {
    directories: Vec<Directory>,
    /// How many are being looked into.
    busy: usize,
    failure: Option<EngineError>,
}

struct Finder<'a, S> {
    store: &'a Store,
    asked: &'a Asked<'a, S>,
    each: &'a (dyn Fn(Hit) + Sync),
    lost: &'a (dyn Fn(&[u8], &StoreError) + Sync),
    open: Mutex<Open>,
    more: Condvar,
}

impl<S: Borrow<Snapshot>> Finder<'_, S> {
    /// The sources, each by its path in all snapshots that have it.
    fn begin(&self) -> Result<()> {
        let mut sources: BTreeMap<Vec<u8>, Vec<Seen>> = BTreeMap::new();
        let snapshots = self.asked.snapshots.iter().map(Borrow::borrow);
        for (number, snapshot) in (0..).zip(snapshots) {
            let snapshot: &Snapshot = snapshot;
            if (self.asked.is_cancelled)() {
                return Err(EngineError::Cancelled);
            }
            for source in &snapshot.sources {
                let entry = self.store.entry(snapshot.root_page(self.store), &source.name);
                let entry = match entry {
                    Err(error) if error.is_unreadable() => {
                        (self.lost)(&source.path, &error);
                        continue;
                    }
                    entry => entry?,
                };
                let Some(entry) = entry else { continue };
                let seen = sources.entry(source.path.to_vec()).or_default();
                let when = Stretches::of(number, number);
                match seen.last_mut().filter(|last| last.entry == entry) {
                    Some(last) => last.when.add(&when),
                    None => seen.push(Seen { when, entry }),
                }
            }
        }
        for (path, seen) in sources {
            self.met(path, &seen, None);
        }
        Ok(())
    }

    fn work(&self) {
        loop {
            let mut open = locked(&self.open);
            let directory = loop {
                if open.failure.is_some() {
                    return;
                }
                if let Some(directory) = open.directories.pop() {
                    open.busy += 1;
                    break directory;
                }
                if open.busy == 0 {
                    self.more.notify_all();
                    return;
                }
                open = self.more.wait(open).unwrap_or_else(std::sync::PoisonError::into_inner);
            };
            drop(open);
            let looked = self.look(&directory);
            let mut open = locked(&self.open);
            open.busy -= 1;
            if let Err(error) = looked {
                open.failure.get_or_insert(error);
            }
            if open.failure.is_some() || open.busy == 0 {
                self.more.notify_all();
            }
        }
    }

    fn look(&self, directory: &Directory) -> Result<()> {
        if (self.asked.is_cancelled)() {
            return Err(EngineError::Cancelled);
        }
        // One path after the other, in the same room.
        let path = join(&directory.path, b"");
        let mut names = Names {
            query: self.asked.query,
            above: path.len(),
            path,
            wanted: HashMap::new(),
            unwanted: HashSet::new(),
        };
        let mut lost = |error: StoreError| (self.lost)(&directory.path, &error);
        self.store.entries_of_many(&directory.roots, &mut names, &mut lost)?;
        let mut wanted: Vec<(Vec<u8>, Vec<Seen>)> = names.wanted.into_iter().collect();
        wanted.sort_unstable_by(|(a, _), (b, _)| a.cmp(b));
        for (name, seen) in wanted {
            self.met(join(&directory.path, &name), &seen, directory.went_after);
        }
        Ok(())
    }

    /// A path with all that it has been: told if it is asked for, and looked into later if it is a directory.
    fn met(&self, path: Vec<u8>, seen: &[Seen], went_after: Option<u32>) {
        let last = seen.iter().filter_map(|one| one.when.last()).max().unwrap_or(0);
        let after = self.asked.snapshots.get(last as usize + 1);
        let goes_with_all = went_after == Some(last);
        let is_asked = !self.asked.only_gone || after.is_some() && !goes_with_all;
        let mut roots: Vec<(PageRef, Stretches)> = Vec::new();
        let fits = |one: &Seen| {
            let is_directory = one.entry.kind() == Kind::Directory;
            self.asked.query.fits(&path, is_directory) && self.asked.query.holds(&Facts(&one.entry))
        };
        let is_wanted = is_asked && seen.iter().any(fits);
        for one in seen {
            if let Body::Directory { root, .. } = one.entry.body {
                roots.push((root, one.when.clone()));
            }
        }
        let mut went = goes_with_all;
        if is_wanted {
            went |= after.is_some();
            let gone = after.map(|snapshot| snapshot.borrow().started);
            if let Some(hit) = self.hit(path.clone(), seen, gone) {
                (self.each)(hit);
            }
        }
        if !roots.is_empty() {
            let went_after = went.then_some(last);
            locked(&self.open).directories.push(Directory { path, roots, went_after });
            self.more.notify_one();
        }
    }

    fn hit(&self, path: Vec<u8>, seen: &[Seen], gone: Option<i64>) -> Option<Hit> {
        let mut stretches: Vec<(u32, u32, &Entry)> = Vec::new();
        for one in seen {
            stretches.extend(one.when.iter().map(|(first, last)| (first, last, &one.entry)));
        }
        stretches.sort_unstable_by_key(|(first, ..)| *first);
        let time = |number: u32| {
            let snapshot = self.asked.snapshots.get(number as usize);
            snapshot.map_or(0, |snapshot| snapshot.borrow().started)
        };
        let mut spans: Vec<Span> = Vec::new();
        let mut before: Option<(u32, &Entry)> = None;
        for (first, last, entry) in stretches {
            let goes_on =
                before.is_some_and(|(end, before)| end + 1 >= first && same_version(before, entry));
            match spans.last_mut().filter(|_| goes_on) {
                Some(span) => span.last = time(last),
                None => spans.push(Span {
                    first: time(first),
                    last: time(last),
                    size: entry.size(),
                    modified: entry.modified,
                }),
            }
            before = Some((last, entry));
        }
        let entry = before?.1.clone();
        Some(Hit { path, spans, entry, gone })
    }
}

/// The names of a directory that are asked for, or lead to what is, with what each was in which snapshots.
struct Names<'a> {
    query: &'a Query,
    /// The directory's path with room for a name, and how much of it is the directory.
    path: Vec<u8>,
    above: usize,
    wanted: HashMap<Vec<u8>, Vec<Seen>>,
    /// Names of files that were asked about already.
    unwanted: HashSet<Vec<u8>>,
}

impl Takes for Names<'_> {
    fn wants(&mut self, name: &[u8], is_directory: bool) -> bool {
        if is_directory || self.wanted.contains_key(name) {
            return true;
        }
        if self.unwanted.contains(name) {
            return false;
        }
        self.path.truncate(self.above);
        self.path.extend_from_slice(name);
        let fits = self.query.fits(&self.path, false);
        if !fits {
            self.unwanted.insert(name.to_vec());
        }
        fits
    }

    fn takes(&mut self, entry: Entry, when: &Stretches) {
        match self.wanted.get_mut(&entry.name) {
            // The same in another page, with other things beside it.
            Some(seen) => match seen.last_mut().filter(|last| last.entry == entry) {
                Some(last) => last.when.add(when),
                None => seen.push(Seen { when: when.clone(), entry }),
            },
            None => {
                let name = entry.name.clone();
                self.wanted.insert(name, vec![Seen { when: when.clone(), entry }]);
            }
        }
    }

    fn again(&mut self, name: &[u8], when: &Stretches) {
        if let Some(last) = self.wanted.get_mut(name).and_then(|seen| seen.last_mut()) {
            last.when.add(when);
        }
    }
}

/// An entry as conditions ask for it.
struct Facts<'a>(&'a Entry);

impl Traits for Facts<'_> {
    fn kind(&self) -> PathKind {
        match self.0.kind() {
            Kind::File => PathKind::File,
            Kind::Directory => PathKind::Directory,
            Kind::Link => PathKind::Link,
            Kind::Pipe => PathKind::Pipe,
            Kind::Device => PathKind::Device,
        }
    }

    fn size(&self) -> u64 {
        self.0.size()
    }

    fn modified(&self) -> i64 {
        self.0.modified.seconds
    }

    fn is_owned_by(&self, user: &str) -> bool {
        let owner = &self.0.owner;
        owner.user.as_deref() == Some(user) || user.parse() == Ok(owner.uid)
    }

    fn holds(&self, _: &str) -> bool {
        false
    }

    fn is_elsewhere(&self) -> bool {
        false
    }
}
