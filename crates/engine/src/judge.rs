//! The rules applied to what is found on this machine.

use std::{
    collections::HashSet,
    ffi::{CStr, CString},
    os::{
        fd::{BorrowedFd, OwnedFd},
        unix::{ffi::OsStrExt, fs::MetadataExt},
    },
    path::Path,
};

use rustix::fs::{AtFlags, CWD, Dir, Mode, OFlags, openat, statat};
use skellin_plan::{Action, Matcher, PathKind, RuleSet, Traits, Verdict};

use crate::{
    metadata::{Facts, Owners, Sort, fd},
    path::join,
};

/// The rules, ready for one source.
pub(crate) struct Judge {
    matcher: Matcher,
    /// The file system the source lies on.
    device: u64,
}

/// What conditions ask of a path that was looked at.
struct Seen<'a> {
    facts: &'a Facts,
    /// The directory the name stands in.
    at: BorrowedFd<'a>,
    name: &'a CStr,
    device: u64,
    owners: &'a Owners,
}

impl Traits for Seen<'_> {
    fn kind(&self) -> PathKind {
        match self.facts.sort() {
            Sort::Directory => PathKind::Directory,
            Sort::Link => PathKind::Link,
            Sort::Character | Sort::Block => PathKind::Device,
            Sort::Pipe => PathKind::Pipe,
            Sort::Socket => PathKind::Socket,
            Sort::File | Sort::Unknown => PathKind::File,
        }
    }

    fn size(&self) -> u64 {
        self.facts.size()
    }

    fn modified(&self) -> i64 {
        self.facts.modified().seconds
    }

    fn is_owned_by(&self, user: &str) -> bool {
        match user.parse::<u32>() {
            Ok(number) => self.facts.stat.st_uid == number,
            Err(_) => self.owners.of(self.facts).user.as_deref() == Some(user),
        }
    }

    fn holds(&self, name: &str) -> bool {
        let inside = CString::new([self.name.to_bytes(), b"/", name.as_bytes()].concat());
        inside.is_ok_and(|inside| statat(self.at, &*inside, AtFlags::SYMLINK_NOFOLLOW).is_ok())
    }

    fn is_elsewhere(&self) -> bool {
        self.facts.identity().0 != self.device
    }
}

impl Judge {
    /// Of a source; `now` in milliseconds since 1970.
    ///
    /// # Errors
    /// If the rules cannot be made ready.
    pub fn new(rules: &RuleSet, source: &Path, now: i64) -> Result<Self, String> {
        let matcher = rules.matcher(source.as_os_str().as_bytes(), now.div_euclid(1000))?;
        let device = std::fs::metadata(source).map_or(0, |metadata| metadata.dev());
        Ok(Self { matcher, device })
    }

    pub fn matcher(&self) -> &Matcher {
        &self.matcher
    }

    /// The verdict on the source itself.
    pub fn source(&self, path: &CStr, facts: &Facts, owners: &Owners) -> Verdict {
        let seen = Seen { facts, at: CWD, name: path, device: self.device, owners };
        self.matcher.source(path.to_bytes(), &seen)
    }

    /// The verdict on a name in an open directory, given the one on the directory.
    pub fn below(
        &self,
        parent: Verdict,
        path: &[u8],
        facts: &Facts,
        (at, name): (BorrowedFd<'_>, &CStr),
        owners: &Owners,
    ) -> Verdict {
        let seen = Seen { facts, at, name, device: self.device, owners };
        self.matcher.below(parent, path, &seen)
    }

    /// What conditions ask of a full path, if it is there.
    pub fn look(&self, path: &Path, facts: Facts) -> Box<dyn Traits> {
        Box::new(Looked {
            path: CString::new(path.as_os_str().as_bytes()).unwrap_or_default(),
            facts,
            device: self.device,
            owners: Owners::default(),
        })
    }

    /// Walks a directory by the rules; `visit` is told of every path below, taken or not, and says
    /// whether to go on. Directories that nothing can be taken from, and those to be kept out by
    /// device and inode, are not entered.
    pub fn walk(
        &self,
        start: &Path,
        verdict: Verdict,
        owners: &Owners,
        keep_out: &HashSet<(u64, u64)>,
        visit: &mut dyn FnMut(&[u8], &Facts, Verdict) -> bool,
    ) {
        let Some(handle) = open(start) else { return };
        // Only the directories on the way down are open at a time.
        let mut frames = Vec::new();
        let mut next = Some((handle, start.as_os_str().as_bytes().to_vec(), verdict));
        loop {
            let Some((handle, path, verdict)) = next.take() else {
                let Some(Frame { handle, path, ahead }) = frames.last_mut() else { return };
                match ahead.pop() {
                    Some((name, verdict)) => {
                        let flags =
                            OFlags::RDONLY | OFlags::DIRECTORY | OFlags::NOFOLLOW | OFlags::CLOEXEC;
                        let opened = openat(&*handle, &*name, flags, Mode::empty()).ok();
                        let below = join(path, name.to_bytes());
                        next = opened.map(|handle| (handle, below, verdict));
                    }
                    None => drop(frames.pop()),
                }
                continue;
            };
            let mut ahead = Vec::new();
            let Ok(entries) = Dir::read_from(&handle) else { continue };
            for entry in entries.flatten() {
                let name = entry.file_name();
                if matches!(name.to_bytes(), b"." | b"..") {
                    continue;
                }
                let Ok(facts) = Facts::at(fd(&handle), name) else { continue };
                let below = join(&path, name.to_bytes());
                let verdict = self.below(verdict, &below, &facts, (fd(&handle), name), owners);
                if !visit(&below, &facts, verdict) {
                    return;
                }
                let enter = facts.sort() == Sort::Directory
                    && !keep_out.contains(&facts.identity())
                    && (verdict.action == Action::Take
                        || self.matcher.may_take_below(verdict, &below));
                if enter {
                    ahead.push((name.to_owned(), verdict));
                }
            }
            frames.push(Frame { handle, path, ahead });
        }
    }

    /// Whether a path lies on another file system than the source.
    pub fn is_elsewhere(&self, facts: &Facts) -> bool {
        facts.identity().0 != self.device
    }
}

/// A directory on the way down, and those below it that are to be entered.
struct Frame {
    handle: OwnedFd,
    path: Vec<u8>,
    ahead: Vec<(CString, Verdict)>,
}

fn open(path: &Path) -> Option<OwnedFd> {
    let flags = OFlags::RDONLY | OFlags::DIRECTORY | OFlags::CLOEXEC;
    openat(CWD, path, flags, Mode::empty()).ok()
}

/// As [`Seen`], of a full path, with all it needs.
struct Looked {
    path: CString,
    facts: Facts,
    device: u64,
    owners: Owners,
}

impl Looked {
    fn seen(&self) -> Seen<'_> {
        let (name, device) = (&*self.path, self.device);
        Seen { facts: &self.facts, at: CWD, name, device, owners: &self.owners }
    }
}

impl Traits for Looked {
    fn kind(&self) -> PathKind {
        self.seen().kind()
    }

    fn size(&self) -> u64 {
        self.seen().size()
    }

    fn modified(&self) -> i64 {
        self.seen().modified()
    }

    fn is_owned_by(&self, user: &str) -> bool {
        self.seen().is_owned_by(user)
    }

    fn holds(&self, name: &str) -> bool {
        self.seen().holds(name)
    }

    fn is_elsewhere(&self) -> bool {
        self.seen().is_elsewhere()
    }
}
