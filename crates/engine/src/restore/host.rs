//! Restoring to another host, as far as its protocol can say what a path is: content, mode, times to the
//! second, links, and owners where the account may set them. Files are written under another name and
//! moved into place.

use std::sync::{
    Mutex,
    atomic::{AtomicBool, AtomicU64, Ordering},
};

use crossbeam_channel::{Receiver, Sender};
use skellin_place::{FarDress, FarFacts, FarKind, FarTarget, PlaceError, PlaceErrorKind, Waiting};
use skellin_store::{Body, Entry, Item, Met, Recipe, StoreError, TreeWalk};

use super::{
    Existing, Shared, TICK, own::random_name, walk::is_of_another_host, whereabouts::named,
};
use crate::{
    cause::{Cause, CauseKind},
    error::Result,
    event::{Event, Meter},
    history::Located,
    locked::locked,
    size::size,
    waits::{Awaited, watched},
};

/// Files that are under way at a time: each step waits for the line.
const AT_ONCE: usize = 4;
/// Before files of so many bytes it is looked whether they fit.
const LOOKED_AT: u64 = 64 << 20;
/// Bytes that are written by one request.
const PIECE: usize = 4 << 20;

/// A path that is no directory.
struct Job {
    /// The directory it goes to, and its name there.
    directory: String,
    name: String,
    entry: Entry,
    path: Vec<u8>,
}

/// Why a path was not laid down.
enum Failure {
    Path(Cause),
    Host(PlaceError),
    Store(StoreError),
    Stopped,
}

impl From<PlaceError> for Failure {
    fn from(error: PlaceError) -> Self {
        Self::Host(error)
    }
}

impl From<StoreError> for Failure {
    fn from(error: StoreError) -> Self {
        Self::Store(error)
    }
}

struct Laying<'a> {
    shared: &'a Shared<'a>,
    host: &'a dyn FarTarget,
    /// Whether the account may set owners, as far as is known.
    sets_owners: AtomicBool,
    unowned: AtomicU64,
    with_xattrs: AtomicU64,
    /// Directories that get their own mode and time when all is in them.
    directories: Mutex<Vec<(String, Vec<u8>, FarDress)>>,
}

/// What is waited for at a host.
struct Line<'a>(&'a dyn FarTarget);

impl Awaited for Line<'_> {
    fn waiting(&self) -> Option<Waiting> {
        self.0.waiting()
    }

    fn give_up(&self) {
        self.0.give_up();
    }
}

/// Lays every selected path down on a host; in a dry run only looks what lies there.
pub(super) fn work(shared: &Shared<'_>, host: &dyn FarTarget, total: (u64, u64)) -> Result<()> {
    let request = shared.request;
    let laying = Laying {
        shared,
        host,
        sets_owners: AtomicBool::new(true),
        unowned: AtomicU64::new(0),
        with_xattrs: AtomicU64::new(0),
        directories: Mutex::default(),
    };
    let (place, line): (&dyn Awaited, _) = (shared.store.place(), Line(host));
    let awaited: [&dyn Awaited; 2] = [place, &line];
    let result = watched(&awaited, request.events, request.cancel, &|| {}, || laying.all(total));
    let told = |count: &AtomicU64, words: &str| {
        let count = count.load(Ordering::Relaxed);
        if count > 0 {
            request.events.event(Event::Note(format!("{count} paths {words}")));
        }
    };
    told(&laying.unowned, "were restored without their owner, which this account may not set");
    told(&laying.with_xattrs, "have extended attributes, which SFTP cannot transfer");
    result
}

impl Laying<'_> {
    fn all(&self, total: (u64, u64)) -> Result<()> {
        let shared = self.shared;
        if let Some(free) = self.host.free().filter(|free| *free < total.1) {
            *locked(&shared.short) = Some((total.1, free));
            let note = format!(
                "this needs up to {} free on {}; {} are free",
                size(total.1),
                self.host.describe(),
                size(free)
            );
            shared.request.events.event(Event::Note(note));
        }
        let (sender, jobs) = crossbeam_channel::bounded(64);
        let done = AtomicBool::new(false);
        std::thread::scope(|scope| {
            let workers: Vec<_> = (0..AT_ONCE)
                .map(|_| {
                    let jobs = jobs.clone();
                    scope.spawn(move || self.take(&jobs))
                })
                .collect();
            drop(jobs);
            let ticker = scope.spawn(|| {
                let mut meter = Meter::new();
                while !done.load(Ordering::SeqCst) {
                    std::thread::park_timeout(TICK);
                    let progress = shared.progress(total, &mut meter);
                    shared.request.events.event(Event::Progress(progress));
                }
            });
            let walked = self.walk(&sender);
            drop(sender);
            let mut panicked = false;
            for worker in workers {
                panicked |= worker.join().is_err();
            }
            self.finish_directories();
            done.store(true, Ordering::SeqCst);
            ticker.thread().unpark();
            if panicked {
                let what = "a worker of the restore panicked; this is a bug".to_owned();
                return Err(StoreError::Stopped(what).into());
            }
            walked
        })
    }

    fn walk(&self, jobs: &Sender<Job>) -> Result<()> {
        for located in self.shared.request.paths {
            if let Err(failure) = self.one(located, jobs) {
                self.tell(&located.path, failure);
            }
        }
        Ok(())
    }

    fn one(&self, located: &Located, jobs: &Sender<Job>) -> Result<(), Failure> {
        let shared = self.shared;
        let source = &shared.request.snapshot.sources[located.source];
        let mut names = vec![source.name.to_vec()];
        names.extend(located.parts.iter().cloned());
        let last = names.pop().unwrap_or_default();
        let mut above = String::new();
        if !shared.request.dry_run {
            self.host.make_directory("")?;
        }
        for name in names {
            if !Entry::is_name(&name) {
                return Err(Cause::other("its name would lead outside").into());
            }
            above = under(&above, text(&name)?);
            if !shared.request.dry_run {
                self.host.make_directory(&above)?;
            }
        }
        let is_far = is_of_another_host(shared, located.source);
        let first = Entry { name: named(shared, last), ..located.entry.clone() };
        let mut walk: TreeWalk<'_, String> = TreeWalk::new(shared.store);
        let mut next = Some((above, first, located.path.clone()));
        loop {
            if shared.is_stopped() {
                return Ok(());
            }
            if let Some((directory, mut entry, path)) = next.take() {
                if is_far && entry.mode & 0o6000 != 0 && !shared.request.keep_set_id {
                    entry.mode &= !0o6000;
                    shared.count(&shared.set_id);
                }
                let name = match Entry::is_name(&entry.name) {
                    true => text(&entry.name).map(str::to_owned),
                    false => Err(Cause::other("its name would lead outside")),
                };
                match (name, &entry.body) {
                    (Err(cause), _) => shared.exception(&path, cause),
                    (Ok(name), Body::Directory { root, .. }) => {
                        let root = *root;
                        let full = under(&directory, &name);
                        match self.directory(&full, &entry, &path) {
                            Ok(()) => walk.enter(root, path, full),
                            Err(failure) => self.tell(&path, failure),
                        }
                    }
                    (Ok(name), _) => {
                        if jobs.send(Job { directory, name, entry, path }).is_err() {
                            return Ok(());
                        }
                    }
                }
            }
            match walk.advance()? {
                None => return Ok(()),
                Some(Met::Entry(entry)) => {
                    let path = walk.path_of(&entry.name);
                    let directory = walk.top().map_or(String::new(), |open| open.with.clone());
                    next = Some((directory, entry, path));
                }
                Some(Met::Left(_)) => {}
                Some(Met::Lost(node, error)) => shared.unreadable(&node.path, &error),
            }
        }
    }

    fn directory(&self, full: &str, entry: &Entry, path: &[u8]) -> Result<(), Failure> {
        let shared = self.shared;
        let there = self.there(full)?;
        if there.as_ref().is_some_and(|there| there.kind != FarKind::Directory) {
            let words = "something other than a directory is in the way";
            return Err(Failure::Path(Cause::new(CauseKind::InTheWay, words)));
        }
        let is_new = there.is_none();
        if is_new || shared.request.existing != Existing::Leave {
            shared.count(&shared.restored);
        }
        if shared.request.dry_run {
            return Ok(());
        }
        if is_new {
            self.host.make_directory(full)?;
        }
        if is_new || shared.request.existing != Existing::Leave {
            let dressed = (full.to_owned(), path.to_vec(), self.dress(entry));
            locked(&self.directories).push(dressed);
        }
        Ok(())
    }

    /// Those below come first: to change what is in one changes its time.
    fn finish_directories(&self) {
        let directories = std::mem::take(&mut *locked(&self.directories));
        for (full, path, dress) in directories.into_iter().rev() {
            if let Err(error) = self.set(&full, dress) {
                self.tell(&path, error.into());
            }
        }
    }

    fn there(&self, full: &str) -> Result<Option<FarFacts>, Failure> {
        match self.host.facts(full) {
            Ok(facts) => Ok(Some(facts)),
            Err(error) if error.is_not_found() => Ok(None),
            Err(error) => Err(error.into()),
        }
    }

    fn dress(&self, entry: &Entry) -> FarDress {
        let owner = (entry.owner.uid, entry.owner.gid);
        FarDress { mode: entry.mode & 0o7777, modified: entry.modified.seconds, owner: Some(owner) }
    }

    /// Sets what a path is to be; without its owner where the account may not set that.
    fn set(&self, full: &str, dress: FarDress) -> Result<(), PlaceError> {
        if self.sets_owners.load(Ordering::Relaxed) {
            match self.host.set(full, &dress) {
                Err(error)
                    if matches!(error.kind, PlaceErrorKind::Refused | PlaceErrorKind::Failed) =>
                {
                    self.sets_owners.store(false, Ordering::Relaxed);
                }
                other => return other,
            }
        }
        self.unowned.fetch_add(1, Ordering::Relaxed);
        self.host.set(full, &FarDress { owner: None, ..dress })
    }

    fn take(&self, jobs: &Receiver<Job>) {
        for job in jobs {
            if self.shared.is_stopped() {
                continue;
            }
            match self.place(&job) {
                Ok(true) => {
                    self.shared.count(&self.shared.restored);
                    let bytes = job.entry.size();
                    self.shared.restored_bytes.fetch_add(bytes, Ordering::Relaxed);
                }
                Ok(false) => {}
                Err(failure) => self.tell(&job.path, failure),
            }
        }
    }

    /// Puts a path in place; whether it was, or in a dry run would be.
    fn place(&self, job: &Job) -> Result<bool, Failure> {
        let shared = self.shared;
        let existing = shared.request.existing;
        let full = under(&job.directory, &job.name);
        let there = self.there(&full)?;
        if let Some(there) = &there {
            if existing != Existing::Leave && looks_right(there, &job.entry) {
                shared.count(&shared.same);
                shared.bytes.fetch_add(job.entry.size(), Ordering::Relaxed);
                return Ok(false);
            }
            shared.note_in_the_way(&job.path);
            if there.kind == FarKind::Directory && existing == Existing::Replace {
                let words = "a directory is in the way";
                return Err(Failure::Path(Cause::new(CauseKind::InTheWay, words)));
            }
            match existing {
                Existing::Leave => {
                    shared.count(&shared.left);
                    return Ok(false);
                }
                Existing::Replace | Existing::Rename => {}
            }
        }
        // There are no holes there: a size that no disk has would be sent in full.
        let has_room = job.entry.size() < LOOKED_AT
            || self.host.free().is_none_or(|free| job.entry.size() <= free);
        if !has_room {
            return Err(Failure::Path(Cause::new(CauseKind::NoRoom, "no space left for it")));
        }
        if matches!(job.entry.body, Body::Pipe | Body::Device { .. }) {
            return Err(Failure::Path(Cause::other("SFTP cannot create pipes and devices")));
        }
        let counter = match existing {
            Existing::Rename => &shared.renamed,
            _ => &shared.replaced,
        };
        if shared.request.dry_run {
            if there.is_some() {
                shared.count(counter);
            }
            return Ok(true);
        }
        locked(&shared.current).clone_from(&job.path);
        if !job.entry.xattrs.is_empty() {
            self.with_xattrs.fetch_add(1, Ordering::Relaxed);
        }
        let name = random_name().map_err(|error| Failure::Path(Cause::of("no name", error)))?;
        let draft = under(&job.directory, &name.to_string_lossy());
        let placed = self.lay(job, &draft, &full, there.is_some());
        if placed.is_err() {
            // The first failure counts; there may be nothing to remove.
            let _ = self.host.remove(&draft);
        }
        placed?;
        if there.is_some() {
            shared.count(counter);
        }
        Ok(true)
    }

    fn lay(&self, job: &Job, draft: &str, full: &str, is_there: bool) -> Result<(), Failure> {
        match &job.entry.body {
            Body::File { recipe, size } => {
                self.content(draft, recipe, *size)?;
                self.set(draft, self.dress(&job.entry))?;
            }
            Body::Link(target) => self.host.make_link(draft, text(target)?)?,
            _ => return Ok(()),
        }
        let existing = self.shared.request.existing;
        // Only now that what takes its place is there as a whole.
        if is_there && existing == Existing::Rename {
            let kept = format!("{full}.kept-{}", self.shared.request.stamp);
            self.host.place(full, &kept, false)?;
        }
        Ok(self.host.place(draft, full, is_there && existing == Existing::Replace)?)
    }

    /// Writes a file's content in large pieces.
    fn content(&self, draft: &str, recipe: &Recipe, size: u64) -> Result<(), Failure> {
        let shared = self.shared;
        let (mut piece, mut at) = (Vec::new(), 0u64);
        let mut send = |piece: &mut Vec<u8>| -> Result<(), Failure> {
            if shared.is_stopped() {
                return Err(Failure::Stopped);
            }
            self.host.write(draft, at, piece)?;
            at += piece.len() as u64;
            shared.bytes.fetch_add(piece.len() as u64, Ordering::Relaxed);
            piece.clear();
            Ok(())
        };
        let mut items = shared.store.items(recipe);
        while let Some(item) = items.next_item()? {
            let mut hole = match item {
                Item::Chunk(chunk) => {
                    shared.store.chunk(&chunk, |bytes| piece.extend_from_slice(bytes))?;
                    0
                }
                Item::Hole(length) => length,
            };
            while hole > 0 {
                let room = PIECE.saturating_sub(piece.len()).max(1) as u64;
                piece.resize(piece.len() + hole.min(room) as usize, 0);
                hole -= hole.min(room);
                if piece.len() >= PIECE {
                    send(&mut piece)?;
                }
            }
            if piece.len() >= PIECE {
                send(&mut piece)?;
            }
        }
        send(&mut piece)?;
        if at != size {
            let words = format!("its content has {at} bytes, not {size}");
            return Err(Failure::Path(Cause::other(words)));
        }
        Ok(())
    }

    fn tell(&self, path: &[u8], failure: Failure) {
        let shared = self.shared;
        match failure {
            Failure::Path(cause) => shared.exception(path, cause),
            Failure::Stopped => {}
            Failure::Store(error) if error.is_unreadable() => shared.unreadable(path, &error),
            Failure::Store(error) => shared.fail(error.into()),
            Failure::Host(error) if error.is_of_the_way() => shared.fail(error.into()),
            Failure::Host(error) => {
                let kind = match error.kind {
                    PlaceErrorKind::Refused => CauseKind::Denied,
                    PlaceErrorKind::Full => CauseKind::NoRoom,
                    PlaceErrorKind::Exists => CauseKind::InTheWay,
                    _ => CauseKind::Other,
                };
                shared.exception(path, Cause::new(kind, error.reason()));
            }
        }
    }
}

impl From<Cause> for Failure {
    fn from(cause: Cause) -> Self {
        Self::Path(cause)
    }
}

/// Whether what lies there is what the snapshot says, as far as the protocol tells without reading it.
fn looks_right(there: &FarFacts, entry: &Entry) -> bool {
    matches!(entry.body, Body::File { .. })
        && there.kind == FarKind::File
        && there.size == entry.size()
        && there.modified == entry.modified.seconds
        && there.mode.is_none_or(|mode| mode == entry.mode & 0o7777)
}

fn under(directory: &str, name: &str) -> String {
    if directory.is_empty() { name.to_owned() } else { format!("{directory}/{name}") }
}

/// A name as text.
fn text(name: &[u8]) -> Result<&str, Cause> {
    std::str::from_utf8(name)
        .map_err(|_| Cause::other("its name is not UTF-8, which SFTP cannot transfer"))
}
