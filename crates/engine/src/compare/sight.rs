//! What is seen of a path on one side of a comparison.

use skellin_store::{Below, Body, Entry, Kind, Moment, Owner};

use crate::metadata::{Facts, Owners, Sort};

/// In what a path differs.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Difference {
    /// It was not there before.
    New,
    /// It is not there any more.
    Gone,
    /// Its content, or what it is.
    Changed,
    /// Only its mode, owner, times or attributes.
    Metadata,
}

/// What a path is on one side.
#[derive(Clone, Debug, PartialEq)]
pub struct Sight {
    /// What it is.
    pub kind: Kind,
    /// Bytes of a file, or of all files below a directory of a snapshot.
    pub size: u64,
    /// When it was modified.
    pub modified: Moment,
    /// Permission bits.
    pub mode: u32,
    /// To whom it belongs.
    pub owner: Owner,
    /// What lies below a directory of a snapshot.
    pub below: Option<Below>,
    /// Extended attributes, where they were looked at.
    pub(super) xattrs: Option<Vec<(Vec<u8>, Vec<u8>)>>,
}

impl Sight {
    pub(super) fn of_entry(entry: &Entry) -> Self {
        let below = match &entry.body {
            Body::Directory { below, .. } => Some(*below),
            _ => None,
        };
        Self {
            kind: entry.kind(),
            size: entry.size(),
            modified: entry.modified,
            mode: entry.mode,
            owner: entry.owner.clone(),
            below,
            xattrs: Some(entry.xattrs.clone()),
        }
    }

    pub(super) fn of_facts(facts: &Facts, owners: &Owners) -> Self {
        let kind = match facts.sort() {
            Sort::Directory => Kind::Directory,
            Sort::Link => Kind::Link,
            Sort::Pipe => Kind::Pipe,
            Sort::Character | Sort::Block => Kind::Device,
            Sort::File | Sort::Socket | Sort::Unknown => Kind::File,
        };
        Self {
            kind,
            size: if kind == Kind::File { facts.size() } else { 0 },
            modified: facts.modified(),
            mode: facts.mode,
            owner: owners.of(facts),
            below: None,
            xattrs: None,
        }
    }

    /// Whether mode, owner, times and, where both are known, attributes are the same. Links have no mode of
    /// their own.
    pub(super) fn same_metadata(&self, other: &Self) -> bool {
        self.modified == other.modified && self.same_but_for_time(other)
    }

    fn same_but_for_time(&self, other: &Self) -> bool {
        let ids = |sight: &Self| (sight.owner.uid, sight.owner.gid);
        let same_xattrs = match (&self.xattrs, &other.xattrs) {
            (Some(a), Some(b)) => a == b,
            _ => true,
        };
        (self.mode == other.mode || self.kind == Kind::Link)
            && ids(self) == ids(other)
            && same_xattrs
    }

    /// Whether nothing but the time differs.
    pub(super) fn differs_in_time_alone(&self, other: &Self) -> bool {
        self.modified != other.modified && self.same_but_for_time(other)
    }
}
