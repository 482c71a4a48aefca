//! The sources as they are now, directory by directory, with the verdict of the rules on every
//! name, beside the newest snapshot.

use std::{ffi::CString, os::unix::ffi::OsStrExt, path::Path};

use rustix::fs::{CWD, Dir, Mode, OFlags, openat};
use skellin_plan::{Action, NameOnly, Plan, Traits, Verdict};
use skellin_store::{Body, Entry, Kind, PageRef, Snapshot, Store};

use crate::{
    error::{EngineError, Result},
    history,
    judge::Judge,
    metadata::{Facts, Owners, Sort, fd},
    path::join,
    run::Change,
};

/// A name in a source.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct LiveEntry {
    /// The name; a source has its full path.
    pub name: Vec<u8>,
    /// What it is.
    pub kind: Kind,
    /// Bytes of a file.
    pub size: u64,
    /// When it was modified, in seconds since 1970.
    pub modified: i64,
    /// What a run would make of it. What is in a directory is not looked at.
    pub change: Change,
    /// Number of the rule that decides.
    pub rule: Option<usize>,
}

/// Lists a directory of a plan's sources, or the sources themselves, until the visitor has had
/// enough and says `false`. `before` is the newest snapshot; without one everything is new. `now`
/// in milliseconds since 1970.
///
/// # Errors
/// If the directory cannot be read, or the rules cannot be made ready.
pub fn list_live(
    plan: &Plan,
    path: Option<&Path>,
    before: Option<(&Store, &Snapshot)>,
    now: i64,
    visit: &mut dyn FnMut(LiveEntry) -> bool,
) -> Result<()> {
    let owners = Owners::default();
    let Some(path) = path else {
        for source in &plan.sources {
            let bytes = source.as_os_str().as_bytes();
            let old = match before {
                Some((store, snapshot)) => history::locate(store, snapshot, bytes)?,
                None => None,
            };
            let old = old.map(|located| located.entry);
            let Ok(facts) = Facts::of_path(source, true) else {
                if let Some(old) = old
                    && !visit(gone(bytes.to_vec(), &old))
                {
                    return Ok(());
                }
                continue;
            };
            let judge = Judge::new(&plan.rules, source, now).map_err(EngineError::Rules)?;
            let name = CString::new(bytes).unwrap_or_default();
            let verdict = judge.source(&name, &facts, &owners);
            if !visit(met(bytes.to_vec(), &facts, verdict, old.as_ref())) {
                return Ok(());
            }
        }
        return Ok(());
    };
    let sources = plan.sources.iter().filter(|source| path.starts_with(source));
    let Some(source) = sources.max_by_key(|source| source.as_os_str().len()) else { return Ok(()) };
    let judge = Judge::new(&plan.rules, source, now).map_err(EngineError::Rules)?;
    let look = |here: &Path, directory: bool| -> Box<dyn Traits> {
        match Facts::of_path(here, here == source) {
            Ok(facts) => judge.look(here, facts),
            Err(_) => Box::new(NameOnly { directory }),
        }
    };
    let verdict = judge.matcher().explain(source, path, true, &look).verdict;
    let mut old = Before::of(before, path)?;
    let names = names(path)?;
    let flags = OFlags::RDONLY | OFlags::DIRECTORY | OFlags::CLOEXEC;
    let Some((handle, names)) = names
        .map(|names| openat(CWD, path, flags, Mode::empty()).map(|handle| (handle, names)))
        .transpose()
        .map_err(|error| EngineError::local("read", path, error))?
    else {
        // The directory is gone; what was in it is all there is to show.
        while let Some(entry) = old.next(None)? {
            if !visit(gone(entry.name.clone(), &entry)) {
                break;
            }
        }
        return Ok(());
    };
    for name in names {
        while let Some(entry) = old.next(Some(&name))? {
            if !visit(gone(entry.name.clone(), &entry)) {
                return Ok(());
            }
        }
        let was = old.take(&name)?;
        let Ok(c_name) = CString::new(name.clone()) else { continue };
        // What has vanished since the names were read is shown by the next look.
        let Ok(facts) = Facts::at(fd(&handle), &c_name) else { continue };
        let full = join(path.as_os_str().as_bytes(), &name);
        let verdict = judge.below(verdict, &full, &facts, (fd(&handle), &c_name), &owners);
        if !visit(met(name, &facts, verdict, was.as_ref())) {
            return Ok(());
        }
    }
    while let Some(entry) = old.next(None)? {
        if !visit(gone(entry.name.clone(), &entry)) {
            break;
        }
    }
    Ok(())
}

/// All names in a directory, sorted; `None` if it is not there.
fn names(path: &Path) -> Result<Option<Vec<Vec<u8>>>> {
    let flags = OFlags::RDONLY | OFlags::DIRECTORY | OFlags::CLOEXEC;
    let failed = |error: rustix::io::Errno| EngineError::local("read", path, error);
    let handle = match openat(CWD, path, flags, Mode::empty()) {
        Ok(handle) => handle,
        Err(rustix::io::Errno::NOENT | rustix::io::Errno::NOTDIR) => return Ok(None),
        Err(error) => return Err(failed(error)),
    };
    let mut names = Vec::new();
    for entry in Dir::read_from(&handle).map_err(failed)? {
        let entry = entry.map_err(failed)?;
        let name = entry.file_name().to_bytes();
        if !matches!(name, b"." | b"..") {
            names.push(name.to_vec());
        }
    }
    names.sort_unstable();
    Ok(Some(names))
}

/// The same directory in the newest snapshot, as a stream.
struct Before<'s> {
    entries: Option<skellin_store::Entries<'s>>,
    waiting: Option<Entry>,
}

impl<'s> Before<'s> {
    fn of(before: Option<(&'s Store, &Snapshot)>, path: &Path) -> Result<Self> {
        let root: Option<(&'s Store, PageRef)> = match before {
            None => None,
            Some((store, snapshot)) => {
                let found = history::locate(store, snapshot, path.as_os_str().as_bytes())?;
                found.and_then(|located| match located.entry.body {
                    Body::Directory { root, .. } => Some((store, root)),
                    _ => None,
                })
            }
        };
        Ok(Self { entries: root.map(|(store, root)| store.entries(root)), waiting: None })
    }

    fn fill(&mut self) -> Result<()> {
        if let (None, Some(entries)) = (&self.waiting, &mut self.entries) {
            self.waiting = entries.next_entry()?;
        }
        Ok(())
    }

    /// The next entry before a name, or any at all.
    fn next(&mut self, name: Option<&[u8]>) -> Result<Option<Entry>> {
        self.fill()?;
        let comes = self
            .waiting
            .as_ref()
            .is_some_and(|entry| name.is_none_or(|name| entry.name.as_slice() < name));
        Ok(if comes { self.waiting.take() } else { None })
    }

    /// The entry of exactly this name.
    fn take(&mut self, name: &[u8]) -> Result<Option<Entry>> {
        self.fill()?;
        let fits = self.waiting.as_ref().is_some_and(|entry| entry.name == name);
        Ok(if fits { self.waiting.take() } else { None })
    }
}

fn met(name: Vec<u8>, facts: &Facts, verdict: Verdict, was: Option<&Entry>) -> LiveEntry {
    let kind = match facts.sort() {
        Sort::Directory => Kind::Directory,
        Sort::Link => Kind::Link,
        Sort::Pipe => Kind::Pipe,
        Sort::Character | Sort::Block => Kind::Device,
        Sort::File | Sort::Socket | Sort::Unknown => Kind::File,
    };
    let change = match (verdict.action, was) {
        (Action::Skip, _) => Change::Skipped,
        (Action::Take, None) => Change::New,
        (Action::Take, Some(was)) if was.kind() != kind => Change::Changed,
        (Action::Take, Some(_)) if kind == Kind::Directory => Change::Same,
        (Action::Take, Some(was)) => {
            let same = was.modified == facts.modified()
                && was.changed == facts.changed()
                && (kind != Kind::File || was.size() == facts.size());
            if same { Change::Same } else { Change::Changed }
        }
    };
    LiveEntry {
        name,
        kind,
        size: if kind == Kind::File { facts.size() } else { 0 },
        modified: facts.modified().seconds,
        change,
        rule: verdict.rule,
    }
}

fn gone(name: Vec<u8>, was: &Entry) -> LiveEntry {
    LiveEntry {
        name,
        kind: was.kind(),
        size: was.size(),
        modified: was.modified.seconds,
        change: Change::Gone,
        rule: None,
    }
}
