//! Directories of the source: read in windows of names, met with the snapshot before, and put
//! together bottom-up.

use std::{
    ffi::{CStr, CString},
    os::{
        fd::{AsFd, BorrowedFd, OwnedFd},
        unix::ffi::OsStrExt,
    },
    sync::{Arc, Mutex, OnceLock},
};

use rustix::{
    fs::{AtFlags, CWD, Dir, Mode, OFlags, major, minor, openat, readlinkat, statat},
    io::Errno,
};
use skellin_plan::{Action, Verdict};
use skellin_store::{
    Below, Body, DeviceKind, Entries, Entry, Fingerprint, Moment, Owner, PageRef, Recipe, Spot,
    TreeBuilder,
};

use super::{
    file::{FileTask, From},
    pool::{Parent, Pool, Task, add, locked},
    report::Change,
};
use crate::{
    error::Result,
    event::Event,
    metadata::{Facts, Sort, Xattrs, xattrs_at, xattrs_of},
};

/// Names that are in work at a time in one directory.
const WINDOW: usize = 1024;

/// A directory of the source.
pub(super) struct Directory<'s> {
    /// Opened when its turn comes, so that only a path's own directories are open at a time.
    handle: OnceLock<OwnedFd>,
    /// Its name in its parent, or the path of a source.
    name: CString,
    /// Full path.
    path: Vec<u8>,
    source: usize,
    verdict: Verdict,
    parent: Parent<'s>,
    state: Mutex<Progress<'s>>,
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

/// The path of a name in a directory.
pub(crate) fn join(directory: &[u8], name: &[u8]) -> Vec<u8> {
    let separator: &[u8] = if directory.ends_with(b"/") { b"" } else { b"/" };
    [directory, separator, name].concat()
}

struct Progress<'s> {
    /// What it is itself, once it was opened.
    entry: Option<Entry>,
    /// The snapshot before has it like this.
    before: Option<Entry>,
    /// All names, one after the other, and where each begins.
    names: (Vec<u8>, Vec<u32>),
    next: usize,
    window: Vec<Option<Entry>>,
    /// Entries of the window that are still in work.
    pending: usize,
    builder: TreeBuilder,
    below: Below,
    /// Whether there is anything in it that goes along.
    holds_any: bool,
    base: Cursor<'s>,
    resume: Cursor<'s>,
}

/// Entries of an earlier tree, met in the order of their names.
pub(super) struct Cursor<'s> {
    entries: Option<Entries<'s>>,
    ahead: Option<Entry>,
}

impl<'s> Cursor<'s> {
    const NOTHING: Self = Self { entries: None, ahead: None };

    fn new(pool: &Pool<'s>, root: Option<PageRef>) -> Self {
        Self { entries: root.map(|root| pool.store.entries(root)), ahead: None }
    }

    /// The entry of a name; what comes before it is handed to `passed`.
    fn meet(
        &mut self,
        pool: &Pool<'_>,
        name: &[u8],
        mut passed: impl FnMut(&Entry),
    ) -> Option<Entry> {
        loop {
            let entry = self.next(pool)?;
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

    fn next(&mut self, pool: &Pool<'_>) -> Option<Entry> {
        if let Some(entry) = self.ahead.take() {
            return Some(entry);
        }
        match self.entries.as_mut()?.next_entry() {
            Ok(entry) => entry,
            Err(error) => {
                // What cannot be compared is read again.
                self.entries = None;
                let note = format!("{error}; what it described is read again");
                pool.events.event(Event::Note(note));
                None
            }
        }
    }
}

fn open_directory(at: BorrowedFd<'_>, name: &CStr, follow: bool) -> Result<OwnedFd, Errno> {
    let flags = OFlags::RDONLY | OFlags::DIRECTORY | OFlags::CLOEXEC;
    openat(at, name, if follow { flags } else { flags | OFlags::NOFOLLOW }, Mode::empty())
}

/// How a source begins.
pub(super) enum Begun<'s> {
    /// With something to do.
    Task(Task<'s>),
    /// It is finished: unchanged, or skipped.
    Finished(Option<Box<Entry>>),
}

/// Begins a source. The error is a reason.
pub(super) fn begin_source<'s>(pool: &Pool<'s>, number: usize) -> Result<Begun<'s>, String> {
    let path = &pool.sources[number].path;
    let bytes = path.as_os_str().as_bytes();
    let name = CString::new(bytes).map_err(|_| "its path holds a NUL byte".to_owned())?;
    // A source that is a symbolic link means what it points to.
    let stat = statat(CWD, &*name, AtFlags::empty()).map_err(|error| cannot_read(error, false))?;
    let facts = Facts { stat };
    let is_directory = facts.sort() == Sort::Directory;
    let matcher = &pool.matchers[number];
    let verdict = matcher.source(bytes, is_directory);
    let enter = is_directory && matcher.may_take_below(verdict, bytes);
    if verdict.action == Action::Skip && !enter {
        pool.count(Change::Skipped, bytes, 0, verdict.rule);
        return Ok(Begun::Finished(None));
    }
    let base = root_entry(pool, number);
    if is_directory {
        // Opened at once: a source that cannot be read is told before anything else.
        let handle = open_directory(CWD, &name, true).map_err(|error| cannot_read(error, true))?;
        let directory =
            new_directory(name, bytes.to_vec(), number, verdict, Parent::Root(number), base);
        let _ = directory.handle.set(handle);
        return Ok(Begun::Task(Task::Directory(directory)));
    }
    if facts.sort() != Sort::File {
        return Err("a source must be a file or a directory".to_owned());
    }
    let above = path.canonicalize().ok().and_then(|real| {
        let above = CString::new(real.parent()?.as_os_str().as_bytes()).ok()?;
        let leaf = CString::new(real.file_name()?.as_bytes()).ok()?;
        Some((above, leaf))
    });
    let (above, leaf) = above.ok_or("its path cannot be resolved")?;
    let handle = open_directory(CWD, &above, true).map_err(|error| cannot_read(error, false))?;
    let change = if base.is_some() { Change::Changed } else { Change::New };
    let unchanged = base.and_then(|base| take_over(pool, &facts, base, true).ok().flatten());
    if let Some(unchanged) = unchanged {
        pool.count(Change::Same, bytes, unchanged.size(), verdict.rule);
        return Ok(Begun::Finished(Some(Box::new(unchanged))));
    }
    let from = From::Handle(handle);
    let entry = skeleton(pool, &facts, pool.sources[number].name.clone(), Vec::new());
    let parent = Parent::Root(number);
    let task = FileTask {
        parent,
        from,
        name: leaf,
        path: bytes.to_vec(),
        entry,
        change,
        rule: verdict.rule,
    };
    Ok(Begun::Task(Task::File(Box::new(task))))
}

/// The source as the base snapshot has it.
fn root_entry(pool: &Pool<'_>, number: usize) -> Option<Entry> {
    let base = pool.comparison.base()?;
    let path = pool.sources[number].path.as_os_str().as_bytes();
    let source = base.sources.iter().find(|source| source.path.as_slice() == path)?;
    pool.store.entry(base.root_page(pool.store), &source.name).ok().flatten()
}

fn directory_root(entry: &Entry) -> Option<PageRef> {
    match &entry.body {
        Body::Directory { root, .. } => Some(*root),
        _ => None,
    }
}

fn new_directory<'s>(
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
        names: (Vec::new(), Vec::new()),
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

/// Opens a directory and learns what it is and what is in it. The error is a reason.
fn open_and_list<'s>(
    pool: &Pool<'s>,
    directory: &Directory<'s>,
    state: &mut Progress<'s>,
) -> Result<(), String> {
    let handle = directory.handle().map_err(|error| cannot_read(error, true))?;
    let facts = Facts::of(handle).map_err(|error| cannot_read(error, true))?;
    let before = state.before.take();
    let known = before.as_ref().filter(|before| {
        before.changed == facts.changed() && before.inode == facts.stat.st_ino && !before.unsettled
    });
    let xattrs = match known {
        Some(before) => before.xattrs.clone(),
        None => xattrs_of(handle).unwrap_or_else(|reason| {
            pool.exception(&directory.path, &reason);
            Vec::new()
        }),
    };
    let name = directory.path.rsplit(|b| *b == b'/').next().unwrap_or_default().to_vec();
    let mut entry = skeleton(pool, &facts, name, xattrs);
    entry.links = None;
    state.entry = Some(entry);
    state.base = Cursor::new(pool, before.as_ref().and_then(directory_root));
    state.resume = Cursor::new(pool, pool.comparison.resume_point(&directory.path));
    state.names = read_names(pool, handle, &directory.path);
    Ok(())
}

/// An entry with everything but its body.
pub(super) fn skeleton(pool: &Pool<'_>, facts: &Facts, name: Vec<u8>, xattrs: Xattrs) -> Entry {
    let owner: Owner = pool.owners.of(facts);
    Entry {
        name,
        mode: facts.stat.st_mode & 0o7777,
        owner,
        modified: facts.modified(),
        changed: facts.changed(),
        inode: facts.stat.st_ino,
        links: (facts.stat.st_nlink > 1).then(|| facts.identity()),
        unsettled: is_unsettled(facts.changed()),
        xattrs,
        body: Body::Pipe,
    }
}

/// Whether an inode changed so shortly ago that another change might leave the same time behind.
/// The file system's clock is the machine's, whatever clock the run goes by.
pub(super) fn is_unsettled(changed: Moment) -> bool {
    let now =
        std::time::SystemTime::now().duration_since(std::time::UNIX_EPOCH).unwrap_or_default();
    let now = i64::try_from(now.as_secs()).unwrap_or(i64::MAX);
    changed.seconds >= now.saturating_sub(2)
}

/// Why a path cannot be read, in words.
pub(super) fn cannot_read(error: Errno, directory: bool) -> String {
    match error {
        Errno::NOENT | Errno::NOTDIR if !directory => "it is not there".to_owned(),
        Errno::NOENT | Errno::NOTDIR | Errno::LOOP => {
            "it vanished or was replaced while the run went by".to_owned()
        }
        Errno::ACCESS | Errno::PERM => "permission was refused".to_owned(),
        other => format!("it cannot be read: {other}"),
    }
}

/// Goes on with a directory: the next windows, until one has work for others, or the end.
pub(super) fn advance<'s>(pool: &Pool<'s>, directory: Arc<Directory<'s>>) -> Result<()> {
    let mut next = Some(directory);
    while let Some(directory) = next.take() {
        if pool.is_stopped() {
            return Ok(());
        }
        if let Some((parent, entry)) = windows(pool, &directory)? {
            next = settle(pool, parent, entry);
        }
    }
    Ok(())
}

/// An entry is finished, or turned out to be none.
pub(super) fn complete<'s>(
    pool: &Pool<'s>,
    parent: Parent<'s>,
    entry: Option<Entry>,
) -> Result<()> {
    match settle(pool, parent, entry) {
        Some(directory) => advance(pool, directory),
        None => Ok(()),
    }
}

/// Hands an entry to its parent; the parent, if that was the last its window waited for.
fn settle<'s>(
    pool: &Pool<'s>,
    parent: Parent<'s>,
    entry: Option<Entry>,
) -> Option<Arc<Directory<'s>>> {
    match parent {
        Parent::Root(number) => {
            pool.root_done(number, entry);
            None
        }
        Parent::Directory(directory, slot) => {
            let mut state = locked(&directory.state);
            if let Some(place) = state.window.get_mut(slot) {
                *place = entry;
            }
            state.pending -= 1;
            let last = state.pending == 0;
            drop(state);
            last.then_some(directory)
        }
    }
}

/// Works through windows until one is left with others; `Some` when the directory is finished.
fn windows<'s>(
    pool: &Pool<'s>,
    directory: &Arc<Directory<'s>>,
) -> Result<Option<(Parent<'s>, Option<Entry>)>> {
    let mut guard = locked(&directory.state);
    let state = &mut *guard;
    if state.entry.is_none()
        && let Err(reason) = open_and_list(pool, directory, state)
    {
        pool.exception(&directory.path, &reason);
        return Ok(Some((directory.parent.clone(), None)));
    }
    loop {
        if pool.is_stopped() {
            return Ok(None);
        }
        for entry in std::mem::take(&mut state.window).into_iter().flatten() {
            let counted = entry.counted();
            state.below.files += counted.files;
            state.below.bytes += counted.bytes;
            state.holds_any = true;
            if let Some(session) = pool.session {
                state.builder.push(&**session, &entry)?;
            }
        }
        let (names, starts) = &state.names;
        let count = starts.len().saturating_sub(1);
        let upto = (state.next + WINDOW).min(count);
        if state.next == upto {
            while let Some(entry) = state.base.next(pool) {
                gone(pool, directory, &entry);
            }
            return finish(pool, directory, state).map(Some);
        }
        let (mut files, mut directories) = (Vec::new(), Vec::new());
        // One more than there are, so that nobody thinks the window is done while it is filled.
        state.pending = 1;
        for number in state.next..upto {
            let name = &names[starts[number] as usize..starts[number + 1] as usize];
            let base = state.base.meet(pool, name, |entry| gone(pool, directory, entry));
            let resume = state.resume.meet(pool, name, |_| {});
            let slot = state.window.len();
            let parent = || Parent::Directory(Arc::clone(directory), slot);
            let mut met = Met { pool, directory, name, base, resume, parent: &parent };
            match met.look()? {
                Outcome::Entry(entry) => state.window.push(Some(*entry)),
                Outcome::Nothing => {}
                Outcome::File(task) => {
                    state.window.push(None);
                    state.pending += 1;
                    files.push(Task::File(task));
                }
                Outcome::Directory(below) => {
                    state.window.push(None);
                    state.pending += 1;
                    directories.push(Task::Directory(below));
                }
            }
        }
        state.next = upto;
        state.pending -= 1;
        if state.pending > 0 {
            // The stack is taken from its end: files first, which frees memory soonest.
            directories.reverse();
            files.reverse();
            drop(guard);
            pool.push(directories.into_iter().chain(files));
            return Ok(None);
        }
    }
}

fn gone(pool: &Pool<'_>, directory: &Directory<'_>, entry: &Entry) {
    let path = join(&directory.path, &entry.name);
    match entry.counted() {
        Below { files: 1, bytes } => pool.count(Change::Gone, &path, bytes, None),
        Below { files, bytes } => {
            add(&pool.counts.gone, files.saturating_sub(1));
            if files > 0 {
                pool.count(Change::Gone, &path, bytes, None);
            }
        }
    }
}

/// All names of a directory, sorted by their bytes.
fn read_names(pool: &Pool<'_>, handle: BorrowedFd<'_>, path: &[u8]) -> (Vec<u8>, Vec<u32>) {
    let (mut names, mut ranges) = (Vec::new(), Vec::<(u32, u32)>::new());
    let read = (|| {
        for entry in Dir::read_from(handle)? {
            let entry = entry?;
            let name = entry.file_name().to_bytes();
            if Entry::is_name(name) {
                let start = names.len() as u32;
                names.extend_from_slice(name);
                ranges.push((start, names.len() as u32));
            }
        }
        Ok::<(), Errno>(())
    })();
    if let Err(error) = read {
        pool.exception(path, &format!("it cannot be listed to its end: {error}"));
    }
    let part = |range: &(u32, u32)| &names[range.0 as usize..range.1 as usize];
    ranges.sort_unstable_by(|a, b| part(a).cmp(part(b)));
    ranges.dedup_by(|a, b| part(a) == part(b));
    let mut sorted = Vec::with_capacity(names.len());
    let mut starts = Vec::with_capacity(ranges.len() + 1);
    for range in &ranges {
        starts.push(sorted.len() as u32);
        sorted.extend_from_slice(part(range));
    }
    starts.push(sorted.len() as u32);
    (sorted, starts)
}

fn finish<'s>(
    pool: &Pool<'s>,
    directory: &Directory<'s>,
    state: &mut Progress<'s>,
) -> Result<(Parent<'s>, Option<Entry>)> {
    state.names = (Vec::new(), Vec::new());
    if directory.verdict.action == Action::Skip && !state.holds_any {
        // It was entered for what might be taken below it, and there was nothing.
        pool.count(Change::Skipped, &directory.path, 0, directory.verdict.rule);
        return Ok((directory.parent.clone(), None));
    }
    let root = match pool.session {
        Some(session) => {
            let root = std::mem::take(&mut state.builder).finish(&**session)?;
            session.checkpoint(&directory.path, &root)?;
            root
        }
        None => PageRef { fingerprint: Fingerprint([0; 32]), spot: Spot::Unknown },
    };
    let body = Body::Directory { root, below: state.below };
    let entry = state.entry.take().map(|entry| Entry { body, ..entry });
    Ok((directory.parent.clone(), entry))
}

/// What a name turned out to be.
enum Outcome<'s> {
    Entry(Box<Entry>),
    Nothing,
    File(Box<FileTask<'s>>),
    Directory(Arc<Directory<'s>>),
}

/// A name that is met.
struct Met<'a, 's> {
    pool: &'a Pool<'s>,
    directory: &'a Arc<Directory<'s>>,
    name: &'a [u8],
    base: Option<Entry>,
    resume: Option<Entry>,
    parent: &'a dyn Fn() -> Parent<'s>,
}

impl<'s> Met<'_, 's> {
    fn look(&mut self) -> Result<Outcome<'s>> {
        let (pool, directory) = (self.pool, self.directory);
        let path = join(&directory.path, self.name);
        let Ok(name) = CString::new(self.name) else { return Ok(Outcome::Nothing) };
        let facts = match directory.handle().and_then(|handle| Facts::at(handle, &name)) {
            Ok(facts) => facts,
            Err(error) => {
                pool.exception(&path, &cannot_read(error, true));
                return Ok(Outcome::Nothing);
            }
        };
        let is_directory = facts.sort() == Sort::Directory;
        let matcher = &pool.matchers[directory.source];
        let verdict = matcher.below(directory.verdict, &path, is_directory);
        let enter = is_directory
            && verdict.action == Action::Skip
            && matcher.may_take_below(verdict, &path);
        if verdict.action == Action::Skip && !enter {
            pool.count(Change::Skipped, &path, facts.size(), verdict.rule);
            if let Some(base) = self.base.take() {
                gone(pool, directory, &base);
            }
            return Ok(Outcome::Nothing);
        }
        match facts.sort() {
            Sort::Directory => Ok(self.directory(path, name, &facts, verdict)),
            Sort::File => self.file(path, name, &facts, verdict),
            Sort::Socket => {
                add(&pool.counts.sockets, 1);
                Ok(Outcome::Nothing)
            }
            Sort::Unknown => {
                pool.exception(&path, "it is of a kind that is not known");
                Ok(Outcome::Nothing)
            }
            sort => self.special(&path, &name, &facts, sort, verdict),
        }
    }

    fn directory(
        &mut self,
        path: Vec<u8>,
        name: CString,
        facts: &Facts,
        verdict: Verdict,
    ) -> Outcome<'s> {
        let pool = self.pool;
        if pool.keep_out.contains(&facts.identity()) {
            let text = String::from_utf8_lossy(&path);
            pool.events.event(Event::Note(format!("{text} is skellin's own and left out")));
            pool.count(Change::Skipped, &path, 0, None);
            return Outcome::Nothing;
        }
        let (source, parent) = (self.directory.source, (self.parent)());
        Outcome::Directory(new_directory(name, path, source, verdict, parent, self.base.take()))
    }

    fn file(
        &mut self,
        path: Vec<u8>,
        name: CString,
        facts: &Facts,
        verdict: Verdict,
    ) -> Result<Outcome<'s>> {
        let pool = self.pool;
        let change = if self.base.is_some() { Change::Changed } else { Change::New };
        if let Some(base) = self.base.take()
            && let Some(entry) = take_over(pool, facts, base, true)?
        {
            pool.count(Change::Same, &path, entry.size(), verdict.rule);
            return Ok(Outcome::Entry(Box::new(entry)));
        }
        if let Some(stored) = self.resume.take()
            && let Some(entry) = take_over(pool, facts, stored, false)?
        {
            pool.count(change, &path, entry.size(), verdict.rule);
            add(&pool.counts.files, 1);
            add(&pool.counts.bytes, entry.size());
            return Ok(Outcome::Entry(Box::new(entry)));
        }
        let mut entry = skeleton(pool, facts, self.name.to_vec(), Vec::new());
        if pool.session.is_none() {
            // A rehearsal knows all it wants to know.
            pool.count(change, &path, facts.size(), verdict.rule);
            add(&pool.counts.read, facts.size());
            add(&pool.counts.files, 1);
            add(&pool.counts.bytes, facts.size());
            entry.body = Body::File { size: facts.size(), recipe: Recipe::Inline(Vec::new()) };
            if let Err(reason) = super::file::can_read(self.directory.handle(), &name) {
                pool.exception(&path, &reason);
                return Ok(Outcome::Nothing);
            }
            return Ok(Outcome::Entry(Box::new(entry)));
        }
        let parent = (self.parent)();
        let from = From::Directory(Arc::clone(self.directory));
        let task = FileTask { parent, from, name, path, entry, change, rule: verdict.rule };
        Ok(Outcome::File(Box::new(task)))
    }

    fn special(
        &mut self,
        path: &[u8],
        name: &CStr,
        facts: &Facts,
        sort: Sort,
        verdict: Verdict,
    ) -> Result<Outcome<'s>> {
        let pool = self.pool;
        let Ok(at) = self.directory.handle() else { return Ok(Outcome::Nothing) };
        let numbers = || (major(facts.stat.st_rdev), minor(facts.stat.st_rdev));
        let device = |kind| {
            let (major, minor) = numbers();
            Body::Device { kind, major, minor }
        };
        let body = match sort {
            Sort::Link => match readlinkat(at, name, Vec::new()) {
                Ok(target) => Body::Link(target.into_bytes()),
                Err(error) => {
                    pool.exception(path, &cannot_read(error, true));
                    return Ok(Outcome::Nothing);
                }
            },
            Sort::Character => device(DeviceKind::Character),
            Sort::Block => device(DeviceKind::Block),
            _ => Body::Pipe,
        };
        let xattrs = xattrs_at(at, name).unwrap_or_else(|reason| {
            pool.exception(path, &reason);
            Vec::new()
        });
        let mut entry = skeleton(pool, facts, self.name.to_vec(), xattrs);
        entry.body = body;
        let change = match self.base.take() {
            None => Change::New,
            // The target of a link is read each time, and a device costs nothing to look at.
            Some(base) if (Entry { unsettled: entry.unsettled, ..base.clone() }) == entry => {
                Change::Same
            }
            Some(_) => Change::Changed,
        };
        pool.count(change, path, 0, verdict.rule);
        if change != Change::Same {
            add(&pool.counts.files, 1);
        }
        Ok(Outcome::Entry(Box::new(entry)))
    }
}

/// An unchanged file as an earlier tree has it, if its content can be taken over: same size,
/// times and inode, and a change time that proves something.
fn take_over(
    pool: &Pool<'_>,
    facts: &Facts,
    mut known: Entry,
    from_base: bool,
) -> Result<Option<Entry>> {
    let same = known.modified == facts.modified()
        && known.changed == facts.changed()
        && known.inode == facts.stat.st_ino
        && !known.unsettled;
    match &mut known.body {
        Body::File { size, recipe } if same && *size == facts.size() => {
            let whole = pool.comparison.take_over(recipe, from_base)?;
            Ok(whole.then_some(known))
        }
        _ => Ok(None),
    }
}
