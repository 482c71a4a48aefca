//! Entries of directories, and what they refer to.

use std::sync::Arc;

use super::{needs::Needs, spot::Spot};
use crate::format::ids::Fingerprint;

/// A page, by its fingerprint.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct PageRef {
    /// Hash of the page's body.
    pub fingerprint: Fingerprint,
    /// Where it lies; a hint.
    pub spot: Spot,
}

/// A chunk of a file.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct ChunkRef {
    /// Hash of its content.
    pub fingerprint: Fingerprint,
    /// Length in bytes.
    pub length: u32,
    /// Where it lies; a hint.
    pub spot: Spot,
}

impl ChunkRef {
    /// Whether it lies right behind another in the same block.
    #[must_use]
    pub fn follows(&self, other: &Self) -> bool {
        let (Spot::At(before), Spot::At(here)) = (other.spot, self.spot) else { return false };
        (before.container, before.block) == (here.container, here.block)
            && before.chunk.checked_add(1) == Some(here.chunk)
    }
}

/// One piece of a file.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Item {
    /// Content.
    Chunk(ChunkRef),
    /// So many bytes of zeros that occupy no space.
    Hole(u64),
}

/// The pieces of a file, in order.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Recipe {
    /// Few: here.
    Inline(Vec<Item>),
    /// Many: in pages; the topmost, and what all of it needs.
    Paged(PageRef, Needs),
}

/// A moment in time.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct Moment {
    /// Seconds since 1970.
    pub seconds: i64,
    /// Nanoseconds within the second.
    pub nanos: u32,
}

/// To whom a path belongs.
#[derive(Clone, Debug, Default, PartialEq, Eq, Hash)]
pub struct Owner {
    /// Numeric user id.
    pub uid: u32,
    /// Numeric group id.
    pub gid: u32,
    /// The user's name, if the machine knew one.
    pub user: Option<Arc<str>>,
    /// The group's name, if the machine knew one.
    pub group: Option<Arc<str>>,
}

/// What a path is.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub enum Kind {
    /// A plain file.
    File,
    /// A directory.
    Directory,
    /// A symbolic link.
    Link,
    /// A named pipe.
    Pipe,
    /// A character or block device.
    Device,
}

/// Which sort of device.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum DeviceKind {
    /// Character device.
    Character,
    /// Block device.
    Block,
}

/// How much lies below a directory.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct Below {
    /// Files and everything else that is no directory.
    pub files: u64,
    /// Bytes of the plain files.
    pub bytes: u64,
}

/// What makes an entry of one kind differ from others.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Body {
    /// A plain file.
    File {
        /// Its size in bytes, holes included.
        size: u64,
        /// Its content.
        recipe: Recipe,
    },
    /// A directory.
    Directory {
        /// The first page of its tree.
        root: PageRef,
        /// What all of it needs.
        needs: Needs,
        /// Totals.
        below: Below,
    },
    /// A symbolic link and where it points.
    Link(Vec<u8>),
    /// A named pipe.
    Pipe,
    /// A device with its numbers.
    Device {
        /// Character or block.
        kind: DeviceKind,
        /// Major number.
        major: u32,
        /// Minor number.
        minor: u32,
    },
}

impl Body {
    /// Whether two bodies hold the same, wherever it lies.
    #[must_use]
    pub fn same_content(&self, other: &Self) -> bool {
        let print = |item: &Item| match item {
            Item::Chunk(chunk) => (Some(chunk.fingerprint), u64::from(chunk.length)),
            Item::Hole(length) => (None, *length),
        };
        match (self, other) {
            (Self::File { size, recipe }, Self::File { size: other_size, recipe: other }) => {
                size == other_size
                    && match (recipe, other) {
                        (Recipe::Inline(a), Recipe::Inline(b)) => {
                            a.iter().map(print).eq(b.iter().map(print))
                        }
                        (Recipe::Paged(a, _), Recipe::Paged(b, _)) => {
                            a.fingerprint == b.fingerprint
                        }
                        _ => false,
                    }
            }
            (Self::Directory { root, .. }, Self::Directory { root: other, .. }) => {
                root.fingerprint == other.fingerprint
            }
            (a, b) => a == b,
        }
    }
}

/// One path as a snapshot knows it.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Entry {
    /// The last part of the path: any bytes but `/` and NUL.
    pub name: Vec<u8>,
    /// Permission bits, with set-user-id and the like (07777).
    pub mode: u32,
    /// To whom it belongs.
    pub owner: Owner,
    /// When its content last changed.
    pub modified: Moment,
    /// When its inode last changed.
    pub changed: Moment,
    /// Number of the inode.
    pub inode: u64,
    /// Device and inode, if the file has more names than this one.
    pub links: Option<(u64, u64)>,
    /// Its inode had changed so shortly before it was read that equal times prove nothing.
    pub unsettled: bool,
    /// Extended attributes, sorted by name.
    pub xattrs: Vec<(Vec<u8>, Vec<u8>)>,
    /// The rest.
    pub body: Body,
}

impl Entry {
    /// What it is.
    #[must_use]
    pub fn kind(&self) -> Kind {
        match self.body {
            Body::File { .. } => Kind::File,
            Body::Directory { .. } => Kind::Directory,
            Body::Link(_) => Kind::Link,
            Body::Pipe => Kind::Pipe,
            Body::Device { .. } => Kind::Device,
        }
    }

    /// Bytes of a plain file, or of all files below a directory; 0 for the other kinds.
    #[must_use]
    pub fn size(&self) -> u64 {
        match &self.body {
            Body::File { size, .. } => *size,
            Body::Directory { below, .. } => below.bytes,
            _ => 0,
        }
    }

    /// What it adds to the totals of the directory it is in.
    #[must_use]
    pub fn counted(&self) -> Below {
        match &self.body {
            Body::Directory { below, .. } => *below,
            _ => Below { files: 1, bytes: self.size() },
        }
    }

    /// Whether a name can be that of an entry: not empty, not `.` or `..`, no `/`, no NUL.
    #[must_use]
    pub fn is_name(name: &[u8]) -> bool {
        !name.is_empty()
            && name != b"."
            && name != b".."
            && !name.iter().any(|b| matches!(b, 0 | b'/'))
    }
}
