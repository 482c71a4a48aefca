//! The names of a directory met with the same directory in the newest snapshot.

use std::{collections::HashSet, ffi::CString};

use skellin_plan::{Action, Verdict};
use skellin_store::{Body, Entry, Kind, PageRef, Snapshot, Store};

use crate::{
    error::Result,
    ground::Ground,
    history,
    judge::Judge,
    metadata::{Facts, Owners, Sort},
    names::Names,
    path::join,
    run::Change,
};

/// A name that is there, or was.
pub(super) struct Found<'a> {
    pub name: &'a [u8],
    /// What it is now; `None` if it is gone.
    pub facts: Option<&'a Facts>,
    pub verdict: Verdict,
    /// What it was in the newest snapshot.
    pub was: Option<&'a Entry>,
    /// What a run would make of it. What is in a directory is not looked at.
    pub change: Change,
}

/// What names are judged by.
pub(super) struct Meeting<'a> {
    pub judge: &'a Judge,
    pub owners: &'a Owners,
    /// Directories of our own, by device and inode.
    pub keep_out: &'a HashSet<(u64, u64)>,
}

impl Meeting<'_> {
    /// Goes through the names of an open directory and those that were in it; `visit` says whether
    /// to go on. Whether it got to the end.
    pub fn each(
        &self,
        (path, verdict): (&[u8], Verdict),
        (ground, names): (&Ground, &Names),
        mut old: Before<'_>,
        visit: &mut dyn FnMut(Found<'_>) -> bool,
    ) -> Result<bool> {
        for name in names.iter() {
            if !old.gone_before(Some(name), visit)? {
                return Ok(false);
            }
            let was = old.take(name)?;
            let Ok(c_name) = CString::new(name) else { continue };
            // What has vanished since the names were read is shown by the next look.
            let Ok(facts) = ground.look(&c_name) else { continue };
            let full = join(path, name);
            let verdict = match self.is_own(&facts) {
                true => Verdict { action: Action::Skip, rule: None },
                false => self.judge.below(verdict, &full, &facts, (ground, &c_name), self.owners),
            };
            let change = change(&facts, verdict, was.as_ref());
            let was = was.as_ref();
            if !visit(Found { name, facts: Some(&facts), verdict, was, change }) {
                return Ok(false);
            }
        }
        old.gone_before(None, visit)
    }

    /// Whether a directory is one of our own, which never goes along.
    pub fn is_own(&self, facts: &Facts) -> bool {
        facts.sort() == Sort::Directory && self.keep_out.contains(&facts.identity())
    }
}

/// What a run would make of a path.
pub(super) fn change(facts: &Facts, verdict: Verdict, was: Option<&Entry>) -> Change {
    let kind = kind(facts);
    match (verdict.action, was) {
        (Action::Skip, _) => Change::Skipped,
        (Action::Take, None) => Change::New,
        // A directory in place of a file, or the other way round, is something else altogether.
        (Action::Take, Some(was))
            if (was.kind() == Kind::Directory) != (kind == Kind::Directory) =>
        {
            Change::New
        }
        (Action::Take, Some(was)) if was.kind() != kind => Change::Changed,
        (Action::Take, Some(_)) if kind == Kind::Directory => Change::Same,
        (Action::Take, Some(was)) => {
            let same = was.modified == facts.modified()
                && was.changed == facts.changed()
                && (kind != Kind::File || was.size() == facts.size());
            if same { Change::Same } else { Change::Changed }
        }
    }
}

/// The kind a snapshot would have of it.
pub(super) fn kind(facts: &Facts) -> Kind {
    match facts.sort() {
        Sort::Directory => Kind::Directory,
        Sort::Link => Kind::Link,
        Sort::Pipe => Kind::Pipe,
        Sort::Character | Sort::Block => Kind::Device,
        Sort::File | Sort::Socket | Sort::Unknown => Kind::File,
    }
}

/// A directory in the newest snapshot, as a stream.
pub(super) struct Before<'s> {
    entries: Option<skellin_store::Entries<'s>>,
    waiting: Option<Entry>,
    /// Where to look single names up instead.
    lookup: Option<(&'s Store, PageRef)>,
}

impl<'s> Before<'s> {
    /// The directory with this root; without one there was none.
    pub fn new(store: Option<&'s Store>, root: Option<PageRef>) -> Self {
        let entries = store.zip(root).map(|(store, root)| store.entries(root));
        Self { entries, waiting: None, lookup: None }
    }

    /// The directory at a full path of a snapshot.
    pub fn at(before: Option<(&'s Store, &Snapshot)>, path: &[u8]) -> Result<Self> {
        let Some((store, snapshot)) = before else { return Ok(Self::new(None, None)) };
        let found = history::locate(store, snapshot, path)?;
        Ok(Self::new(Some(store), found.and_then(|located| root_of(&located.entry))))
    }

    /// As [`at`](Self::at), for a few names of many: nothing is told of those that are gone.
    pub fn by_name(before: Option<(&'s Store, &Snapshot)>, path: &[u8]) -> Result<Self> {
        let Some((store, snapshot)) = before else { return Ok(Self::new(None, None)) };
        let found = history::locate(store, snapshot, path)?;
        let root = found.and_then(|located| root_of(&located.entry));
        Ok(Self { lookup: root.map(|root| (store, root)), ..Self::new(None, None) })
    }

    fn fill(&mut self) -> Result<()> {
        if let (None, Some(entries)) = (&self.waiting, &mut self.entries) {
            self.waiting = entries.next_entry()?;
        }
        Ok(())
    }

    /// Visits what was there before a name, or all that is left; whether to go on.
    pub fn gone_before(
        &mut self,
        name: Option<&[u8]>,
        visit: &mut dyn FnMut(Found<'_>) -> bool,
    ) -> Result<bool> {
        loop {
            self.fill()?;
            let comes = |entry: &mut Entry| name.is_none_or(|name| entry.name.as_slice() < name);
            let Some(entry) = self.waiting.take_if(comes) else { return Ok(true) };
            let verdict = Verdict::TAKEN;
            let (name, was) = (entry.name.as_slice(), Some(&entry));
            if !visit(Found { name, facts: None, verdict, was, change: Change::Gone }) {
                return Ok(false);
            }
        }
    }

    /// The entry of exactly this name.
    fn take(&mut self, name: &[u8]) -> Result<Option<Entry>> {
        if let Some((store, root)) = self.lookup {
            return Ok(store.entry(root, name)?);
        }
        self.fill()?;
        Ok(self.waiting.take_if(|entry| entry.name == name))
    }
}

/// The root page of a directory.
pub(super) fn root_of(entry: &Entry) -> Option<PageRef> {
    match &entry.body {
        Body::Directory { root, .. } => Some(*root),
        _ => None,
    }
}
