//! The names of a directory met with the same directory in the newest snapshot.

use skellin_plan::{Action, Verdict};
use skellin_store::{Body, Entry, Kind, PageRef, Snapshot, Store};

use crate::{
    error::Result,
    history,
    metadata::{Facts, Sort},
    names::Names,
    run::Change,
    sources::SourceDir,
    walk::{Beside, Filtering, Looked, Sameness, Stamps},
};

/// A name that is there, or was.
pub(super) struct Found<'a> {
    pub name: &'a [u8],
    /// What it is now; `None` if it is gone.
    pub facts: Option<&'a Facts>,
    pub verdict: Verdict,
    /// Whether it is a directory of our own, and whether it is one that is gone into.
    pub is_own: bool,
    pub is_entered: bool,
    /// What it was in the newest snapshot.
    pub was: Option<&'a Entry>,
    /// What a run would make of it. What is in a directory is not looked at.
    pub change: Change,
}

impl<'a> Found<'a> {
    /// What is there no longer.
    pub fn gone(name: &'a [u8], was: &'a Entry) -> Self {
        let (verdict, change) = (Verdict::TAKEN, Change::Gone);
        let (facts, is_own, is_entered) = (None, false, false);
        Self { name, facts, verdict, is_own, is_entered, was: Some(was), change }
    }
}

/// Goes through the names of an open directory and those that were in it; `visit` says whether to go
/// on. Whether it got to the end.
pub(super) fn each(
    filtering: Filtering<'_>,
    (path, verdict): (&[u8], Verdict),
    (source_dir, names): (&SourceDir, &Names),
    mut old: Before<'_>,
    visit: &mut dyn FnMut(Found<'_>) -> bool,
) -> Result<bool> {
    for name in names.iter() {
        if !old.gone_before(Some(name), visit)? {
            return Ok(false);
        }
        let was = old.take(name)?;
        // What has vanished since the names were read is shown by the next look.
        let Ok(Some(looked)) = filtering.look((path, verdict), source_dir, name) else { continue };
        let Looked { facts, verdict, is_own, is_entered, .. } = looked;
        let change = change(&facts, verdict, was.as_ref());
        let (facts, was) = (Some(&facts), was.as_ref());
        if !visit(Found { name, facts, verdict, is_own, is_entered, was, change }) {
            return Ok(false);
        }
    }
    old.gone_before(None, visit)
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
        (Action::Take, Some(was)) => match Stamps::of_facts(facts).compare(was) {
            // What is read again only to be sure most likely holds what it held.
            Sameness::Same | Sameness::Doubted => Change::Same,
            Sameness::Different => Change::Changed,
        },
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

/// A directory in the newest snapshot.
pub(super) struct Before<'s> {
    entries: Beside<'s>,
    /// Where to look single names up instead.
    lookup: Option<(&'s Store, PageRef)>,
}

impl<'s> Before<'s> {
    /// The directory with this root; without one there was none.
    pub fn new(store: Option<&'s Store>, root: Option<PageRef>) -> Self {
        let entries = store.map_or(Beside::NOTHING, |store| Beside::new(store, root));
        Self { entries, lookup: None }
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

    /// Visits what was there before a name, or all that is left; whether to go on.
    pub fn gone_before(
        &mut self,
        name: Option<&[u8]>,
        visit: &mut dyn FnMut(Found<'_>) -> bool,
    ) -> Result<bool> {
        while let Some(entry) = self.entries.next_before(name)? {
            if !visit(Found::gone(&entry.name, &entry)) {
                return Ok(false);
            }
        }
        Ok(true)
    }

    /// The entry of exactly this name.
    fn take(&mut self, name: &[u8]) -> Result<Option<Entry>> {
        match self.lookup {
            Some((store, root)) => Ok(store.entry(root, name)?),
            None => self.entries.meet(name, |_| {}),
        }
    }
}

/// The root page of a directory.
pub(super) fn root_of(entry: &Entry) -> Option<PageRef> {
    match &entry.body {
        Body::Directory { root, .. } => Some(*root),
        _ => None,
    }
}
