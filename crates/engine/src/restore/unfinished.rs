//! What a restore that was killed has left: directories without their mode, owner and times, and
//! drafts. The next restore that comes by finishes the ones and removes the others.

use std::{
    collections::HashSet,
    ffi::{CStr, CString},
    fs::File,
    io::{Read, Write},
    os::fd::{AsFd, BorrowedFd, OwnedFd},
    sync::Mutex,
    time::{Duration, SystemTime},
};

use rustix::{
    fs::{
        AtFlags, Dir, FlockOperation, Mode, OFlags, Timespec, Timestamps, flock, fstat, futimens,
        openat, unlinkat,
    },
    io::Errno,
};

use super::own::{DirectoryId, id_of, is_ours, open_own};
use crate::locked::locked;

/// The list of unfinished directories in a workshop.
const LIST: &CStr = c"unfinished";
/// No list is longer, in bytes.
const LONGEST: u64 = 256 << 20;
/// What a dead restore has left unfinished and nobody has finished is forgotten after this time.
const FORGOTTEN: Duration = Duration::from_secs(7 * 24 * 3600);

/// The list a restore keeps of its unfinished directories. A line that cannot be written costs no
/// more than that a killed restore is not finished by the next.
#[derive(Default)]
pub(super) struct List(Mutex<Option<File>>);

impl List {
    /// Notes that a directory is to be finished; `workshop` is where the list lies.
    pub fn begin(&self, workshop: BorrowedFd<'_>, id: &DirectoryId) {
        let mut file = locked(&self.0);
        if file.is_none() {
            let flags = OFlags::WRONLY
                | OFlags::APPEND
                | OFlags::CREATE
                | OFlags::EXCL
                | OFlags::NOFOLLOW
                | OFlags::CLOEXEC;
            let made = openat(workshop, LIST, flags, Mode::RUSR | Mode::WUSR);
            *file = made.ok().map(File::from);
        }
        if let Some(file) = &mut *file {
            let _ = file.write_all(id.line('+').as_bytes());
        }
    }

    /// Notes that a directory is finished.
    pub fn end(&self, id: &DirectoryId) {
        if let Some(file) = &mut *locked(&self.0) {
            let _ = file.write_all(id.line('-').as_bytes());
        }
    }

    /// Takes the list away.
    pub fn remove(&self, workshop: BorrowedFd<'_>) {
        if locked(&self.0).take().is_some() {
            let _ = unlinkat(workshop, LIST, AtFlags::empty());
        }
    }
}

/// The workshop of a restore that is dead, held so that no other restore takes it up as well.
struct Dead {
    handle: OwnedFd,
    name: CString,
    left: HashSet<DirectoryId>,
    /// Whether there is a list, and it is one.
    has_list: bool,
    is_old: bool,
    /// The directory it lies in.
    home: OwnedFd,
}

/// What dead restores have left where this one came by.
#[derive(Default)]
pub(super) struct Leftovers(Mutex<Vec<Dead>>);

impl Leftovers {
    /// Looks into a directory for workshops of the dead, removes their drafts, and learns what they
    /// have not finished.
    pub fn look(&self, home: BorrowedFd<'_>) {
        // What cannot be listed holds nothing that could be removed.
        let Ok(entries) = Dir::read_from(home) else { return };
        let names = entries.flatten().map(|entry| entry.file_name().to_owned());
        let names: Vec<CString> = names.filter(|name| is_ours(name.to_bytes())).collect();
        for name in names {
            if let Ok(Some(dead)) = take_up(home, &name) {
                locked(&self.0).push(dead);
            }
        }
    }

    /// Whether a dead restore has begun a directory and not finished it.
    pub fn has(&self, id: &DirectoryId) -> bool {
        locked(&self.0).iter().any(|dead| dead.left.contains(id))
    }

    /// Notes that such a directory is finished now.
    pub fn finished(&self, id: &DirectoryId) {
        for dead in &mut *locked(&self.0) {
            dead.left.remove(id);
        }
    }

    /// Removes the workshops of which nothing is left to be finished.
    pub fn sweep(&self) {
        let all = std::mem::take(&mut *locked(&self.0));
        for dead in all {
            if dead.left.is_empty() || dead.is_old {
                // The directory it lies in has got its times already.
                let before = times_of(&dead.home);
                if dead.has_list {
                    let _ = unlinkat(&dead.handle, LIST, AtFlags::empty());
                }
                let _ = unlinkat(&dead.home, &dead.name, AtFlags::REMOVEDIR);
                if let Ok(before) = before {
                    let _ = futimens(&dead.home, &before);
                }
            }
        }
    }
}

/// Takes up a workshop whose restore is dead; none if that lives.
fn take_up(at: BorrowedFd<'_>, name: &CString) -> Result<Option<Dead>, Errno> {
    let handle = open_own(at, name)?;
    match flock(&handle, FlockOperation::NonBlockingLockExclusive) {
        Err(Errno::WOULDBLOCK) => return Ok(None),
        other => other?,
    }
    let flags = OFlags::RDONLY | OFlags::DIRECTORY | OFlags::CLOEXEC;
    let listing = openat(&handle, c".", flags, Mode::empty())?;
    let mut removed = Vec::new();
    for entry in Dir::new(listing)?.flatten() {
        let draft = entry.file_name();
        // Only what restores have made there: somebody else may have given a directory of ours this name.
        if is_ours(draft.to_bytes()) && unlinkat(&handle, draft, AtFlags::empty()).is_err() {
            let id = openat(&handle, draft, flags | OFlags::NOFOLLOW, Mode::empty()).ok();
            if unlinkat(&handle, draft, AtFlags::REMOVEDIR).is_ok() {
                removed.extend(id.and_then(id_of));
            }
        }
    }
    let list = read_list(&handle);
    let (has_list, mut left) = (list.is_some(), list.unwrap_or_default());
    // A directory that never got its name is nobody's to finish.
    left.retain(|id| !removed.contains(id));
    let facts = fstat(&handle)?;
    let changed = Duration::from_secs(u64::try_from(facts.st_mtime).unwrap_or(0));
    let age = SystemTime::now().duration_since(SystemTime::UNIX_EPOCH + changed);
    let is_old = age.is_ok_and(|age| age > FORGOTTEN);
    let home = rustix::io::fcntl_dupfd_cloexec(at, 0)?;
    Ok(Some(Dead { handle, name: name.clone(), left, has_list, is_old, home }))
}

/// The list in a workshop; none if there is none, or somebody else's file has its name.
fn read_list(workshop: &OwnedFd) -> Option<HashSet<DirectoryId>> {
    let flags = OFlags::RDONLY | OFlags::NOFOLLOW | OFlags::NONBLOCK | OFlags::CLOEXEC;
    let file = File::from(openat(workshop, LIST, flags, Mode::empty()).ok()?);
    let facts = file.metadata().ok()?;
    let is_own = std::os::unix::fs::MetadataExt::uid(&facts) == rustix::process::geteuid().as_raw();
    if !facts.is_file() || !is_own {
        return None;
    }
    let mut text = String::new();
    file.take(LONGEST).read_to_string(&mut text).ok()?;
    let mut left = HashSet::new();
    // The last line may be half of one; what has others is no list.
    let whole = text.rfind('\n').map_or("", |end| &text[..end]);
    for line in whole.lines() {
        match DirectoryId::parse(line)? {
            (true, id) => left.insert(id),
            (false, id) => left.remove(&id),
        };
    }
    Some(left)
}

/// The times of what is open.
pub(super) fn times_of(file: impl AsFd) -> Result<Timestamps, Errno> {
    let facts = fstat(file)?;
    let time = |seconds, nanos: u64| Timespec { tv_sec: seconds, tv_nsec: nanos as _ };
    Ok(Timestamps {
        last_access: time(facts.st_atime, facts.st_atime_nsec),
        last_modification: time(facts.st_mtime, facts.st_mtime_nsec),
    })
}

#[cfg(test)]
mod tests {
    use std::fs;

    use rustix::fs::{CWD, mkdirat};

    use super::*;
    use crate::restore::own::random_name;

    #[test]
    fn what_a_killed_restore_never_put_in_place_keeps_nothing_waiting() {
        let folder = tempfile::tempdir().expect("a directory");
        let open = |at: BorrowedFd<'_>, name: &CStr| {
            openat(at, name, OFlags::RDONLY | OFlags::DIRECTORY, Mode::empty()).expect("opens")
        };
        let home = openat(CWD, folder.path(), OFlags::RDONLY, Mode::empty()).expect("opens");
        // Killed between making a directory and giving it its name; another one is in place.
        let workshop = random_name().expect("a name");
        mkdirat(&home, &workshop, Mode::RWXU).expect("makes");
        let workshop = open(home.as_fd(), &workshop);
        let draft = random_name().expect("a name");
        mkdirat(&workshop, &draft, Mode::RWXU).expect("makes");
        mkdirat(&home, c"placed", Mode::RWXU).expect("makes");
        let placed = id_of(open(home.as_fd(), c"placed")).expect("an id");
        let list = List::default();
        list.begin(workshop.as_fd(), &id_of(open(workshop.as_fd(), &draft)).expect("an id"));
        list.begin(workshop.as_fd(), &placed);
        let leftovers = Leftovers::default();
        leftovers.look(home.as_fd());
        assert!(leftovers.has(&placed));
        leftovers.finished(&placed);
        leftovers.sweep();
        let names: Vec<_> = fs::read_dir(folder.path())
            .expect("lists")
            .map(|entry| entry.expect("an entry").file_name())
            .collect();
        assert_eq!(names, ["placed"]);
    }
}
